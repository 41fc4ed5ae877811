// SPDX-License-Identifier: MIT
// What is recognised and not read, and what the medium does not give: neither sound nor absent nor damaged.
#include <algorithm>
#include <nlohmann/json.hpp>

#include "kiosk.hpp"
#include "office_pc.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

// Written by hand from the formats' specifications; the generator of the demo disks knows none of them.

void put_text(Bytes& out, std::size_t at, std::string_view text) {
    std::copy(text.begin(), text.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
}

/// An LVM physical volume: the label in sector 1, its data from 1 MiB on.
Bytes lvm_member(const Bytes& inside) {
    Bytes out((1U << 20U) + std::max<std::size_t>(inside.size(), 1U << 20U));
    put_text(out, 512, "LABELONE");
    forge::put64(out, 520, 1);
    forge::put32(out, 532, 32);
    put_text(out, 536, "LVM2 001");
    put_text(out, 544, "AlmhofRidgeHutGuestBookRoomKeys1");
    forge::put64(out, 576, out.size());
    std::copy(inside.begin(), inside.end(), out.begin() + (1 << 20));
    return out;
}

/// A member of an MD array, metadata 1.0 (8 KiB before the end), 1.1 (start) or 1.2 (4 KiB).
Bytes raid_member(Bytes content, int minor) {
    content.resize((content.size() + 4095) / 4096 * 4096 + 65536);
    const std::size_t at = minor == 0 ? (content.size() / 512 - 16) / 8 * 8 * 512 : minor == 1 ? 0 : 4096;
    std::fill_n(content.begin() + static_cast<std::ptrdiff_t>(at), 256, std::uint8_t{0});
    forge::put32(content, at, 0xA92B4EFC);
    forge::put32(content, at + 4, 1);
    put_text(content, at + 16, "almhof-array-one");
    put_text(content, at + 32, "frontdesk:0");
    forge::put32(content, at + 72, 1);
    forge::put32(content, at + 92, 2);
    forge::put64(content, at + 144, at / 512);
    return content;
}

Bytes luks_volume() {
    return forge::make_luks(Bytes(4096), "nobody tells", {2, "1a0c5000-0001-4a01-8a01-00001a0c5001"});
}

/// XFS with a feature of the future: recognised, and not read.
Bytes xfs_volume() {
    Bytes out(2U << 20U);
    put_text(out, 0, "XFSB");
    out[6] = 0x10;  // blocks of 4096 bytes, big-endian
    out[14] = 2;    // 512 of them
    out[86] = 2;    // in one group
    out[91] = 1;
    out[101] = 5;   // version
    out[102] = 2;   // sectors of 512 bytes
    out[104] = 2;   // inodes, too
    out[107] = 8;   // eight in a block
    out[120] = 12;  // and the logarithms of all that
    out[121] = out[122] = out[124] = 9;
    out[123] = 3;
    out[216] = 0x40;
    const auto uuid = forge::uuid_from("0f500000-0001-4a01-8a01-00000f500001");
    std::copy(uuid.begin(), uuid.end(), out.begin() + 32);
    return out;
}

Bytes btrfs_volume() {
    Bytes out(2U << 20U);
    const auto uuid = forge::uuid_from("b7f50000-0001-4a01-8a01-00000b7f5001");
    std::copy(uuid.begin(), uuid.end(), out.begin() + 65536 + 32);
    put_text(out, 65536 + 64, "_BHRfS_M");
    forge::put64(out, 65536 + 112, out.size());
    forge::put32(out, 65536 + 144, 4096);
    forge::put64(out, 65536 + 188, std::uint64_t{1} << 40U);  // a feature of the future: it is not read
    return out;
}

constexpr std::size_t second_lba = 2048 + (12U << 20U) / 512;

/// The front desk with another volume behind its own.
struct Two {
    demo::FrontDesk desk = demo::front_desk();
    Bytes second;
    std::uint8_t type = 0x83;
    Two() { desk.swap_size = 0; }
    /// Only /boot stays on the first volume; the menu's root= is this.
    Two& root_elsewhere(const std::string& root) {
        auto boot = support::boot_files(desk.root);
        desk.root = boot;
        replace("/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid, "root=" + root);
        for (const char* name : {"xfs", "btrfs"})
            desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/kernel/fs/" + name + ".ko",
                              forge::make_kernel_module(name));
        return *this;
    }
    void replace(const std::string& path, const std::string& from, const std::string& to) {
        auto& bytes = desk.root.at(path).content;
        std::string text(bytes.begin(), bytes.end());
        for (std::size_t at = 0; (at = text.find(from, at)) != std::string::npos; at += to.size())
            text.replace(at, from.size(), to);
        bytes = forge::to_bytes(text);
    }
    [[nodiscard]] Bytes build() {
        desk.disk.size = 24U << 20U;
        if (!second.empty()) desk.disk.partitions.push_back({second_lba, second, type, false});
        return second.empty() ? desk.build() : support::first_entries_swapped(desk.build());
    }
};

std::string text_at(const SystemVerdict& system, Stage stage) { return system.at(stage).text; }

// --- the root ------------------------------------------------------------------------------------------------------

struct Hidden {
    const char* name;
    Bytes (*second)();
    const char* root;
    const char* says;
    const char* place;  ///< of the system; empty: none
};
class HiddenRoots : public testing::TestWithParam<Hidden> {};
TEST_P(HiddenRoots, AreUnknownNotBroken) {
    Two two;
    two.second = GetParam().second();
    two.root_elsewhere(GetParam().root);
    const support::Checked checked(two.build());
    ASSERT_EQ(checked.verdict.systems.size(), 1U);
    const auto& system = checked.system();
    EXPECT_EQ(system.starts, Starts::Unknown);
    EXPECT_FALSE(system.stops_at);
    EXPECT_TRUE(system.symptom.empty());
    EXPECT_EQ(system.kind, SystemKind::Unknown);
    EXPECT_EQ(system.name, "the system that “Almhof front desk” starts");
    EXPECT_EQ(system.place.value_or(""), GetParam().place);
    for (const Stage stage :
         {Stage::Firmware, Stage::Loader, Stage::Configuration, Stage::Entry, Stage::Kernel, Stage::Ramdisk})
        EXPECT_EQ(system.at(stage).state, State::Holds) << stage_id(stage) << ": " << text_at(system, stage);
    EXPECT_EQ(system.at(Stage::Root).state, State::Unknown);
    EXPECT_NE(text_at(system, Stage::Root).find(GetParam().says), std::string::npos) << text_at(system, Stage::Root);
    for (const Stage stage : {Stage::Init, Stage::Services}) EXPECT_EQ(system.at(stage).state, State::NotReached);
    for (const auto& finding : checked.verdict.findings)
        EXPECT_NE(finding.severity, Severity::Breaks) << finding.code << ": " << finding.text;
    EXPECT_FALSE(checked.verdict.some_fail());
    EXPECT_FALSE(checked.verdict.all_start());
}
Bytes lvm_with_ext() {
    forge::ExtOptions options;
    options.size = 2U << 20U;
    options.journal = false;
    return lvm_member(forge::make_ext(forge::Tree().file("/etc/os-release", "NAME=Inside\n"), options));
}
INSTANTIATE_TEST_SUITE_P(
    All, HiddenRoots,
    testing::Values(
        Hidden{"Xfs", xfs_volume, "UUID=0f500000-0001-4a01-8a01-00000f500001", "d1p2 holds xfs (UUID 0f500000", "d1p2"},
        Hidden{"XfsByDevice", xfs_volume, "/dev/sda2", "d1p2 holds xfs", "d1p2"},
        Hidden{"Btrfs", btrfs_volume, "UUID=b7f50000-0001-4a01-8a01-00000b7f5001", "d1p2 holds btrfs", "d1p2"},
        Hidden{"LvmByName", lvm_with_ext, "/dev/mapper/inn-root", "it may lie in d1p2 (lvm physical volume)", ""},
        Hidden{"LvmByUuid", lvm_with_ext, "UUID=a1b0f000-0009-4a01-8a01-00000a1b0f09",
               "it may lie in d1p2 (lvm physical volume)", ""},
        Hidden{"LvmByLabel", lvm_with_ext, "LABEL=inn", "it may lie in d1p2 (lvm physical volume)", ""},
        Hidden{"LvmItself", lvm_with_ext, "/dev/sda2", "d1p2 is a lvm physical volume", "d1p2"},
        Hidden{"RaidByUuid", [] { return raid_member(Bytes(1U << 20U), 2); },
               "UUID=a1b0f000-0009-4a01-8a01-00000a1b0f09", "it may lie in d1p2 (md raid member)", ""},
        Hidden{"RaidByPartition", [] { return raid_member(Bytes(1U << 20U), 1); },
               "PARTUUID=a1b0f000-0009-4a01-8a01-00000a1b0f09", "it may lie in d1p2 (md raid member)", ""},
        Hidden{"RaidByName", [] { return raid_member(Bytes(1U << 20U), 2); }, "/dev/md0",
               "it may lie in d1p2 (md raid member)", ""},
        Hidden{"LuksByName", luks_volume, "/dev/mapper/inn", "the machine asks for its passphrase", ""},
        Hidden{"LuksByInnerUuid", luks_volume, "UUID=a1b0f000-0009-4a01-8a01-00000a1b0f09",
               "it may lie in d1p2 (luks2)", ""},
        Hidden{"LuksItself", luks_volume, "/dev/sda2", "the machine will ask for its passphrase", "d1p2"}),
    support::by_name);

TEST(Named, AWipedRootIsListedWithTheStageWhereItsWayEnds) {
    Two two;
    two.second = Bytes(1U << 20U);
    two.root_elsewhere("UUID=a1b0f000-0009-4a01-8a01-00000a1b0f09");
    const support::Checked checked(two.build());
    EXPECT_EQ(checked.verdict.systems.size(), 1U);
    EXPECT_EQ(checked.system().name, "the system that “Almhof front desk” starts");
    EXPECT_EQ(checked.system().kind, SystemKind::Unknown);
    EXPECT_EQ(checked.system().place.value_or("none"), "none");
    EXPECT_EQ(checked.system().entry, "Almhof front desk");
    EXPECT_EQ(checked.stage(), "root");
    EXPECT_TRUE(checked.has(Code::RootNotFound));
}

TEST(Named, APartitionWhereNothingIsLeftIsListedBesideASystemThatStarts) {
    // The front desk starts; a second entry looks for its kernel on d1p2, where nothing is recognised any more.
    Two two;
    two.second = Bytes(1U << 20U);
    two.replace("/boot/grub/grub.cfg", "menuentry ",
                "menuentry 'Annexe' {\n set root='hd0,msdos2'\n linux /boot/vmlinuz root=/dev/sda2\n}\nmenuentry ");
    two.replace("/boot/grub/grub.cfg", "default=\"0\"", "default=\"1\"");
    const support::Checked checked(two.build());
    ASSERT_EQ(checked.verdict.systems.size(), 2U);
    EXPECT_EQ(checked.stage(), "yes");
    const auto& annexe = checked.verdict.systems[1];
    EXPECT_EQ(annexe.name, "the system that “Annexe” starts");
    EXPECT_EQ(annexe.kind, SystemKind::Unknown);
    EXPECT_EQ(annexe.place, "d1p2");
    EXPECT_EQ(annexe.starts, Starts::No);
    EXPECT_EQ(annexe.stops_at, Stage::Entry);
    EXPECT_FALSE(annexe.entry_is_default);
    EXPECT_TRUE(annexe.symptom.starts_with("error: unknown filesystem.")) << annexe.symptom;
}

TEST(Named, AnEntryOfASystemRemovedLongAgoIsANoteOnly) {
    // No partition and no free space could have held it.
    Two two;
    two.replace("/boot/grub/grub.cfg", "menuentry ",
                "menuentry 'Annexe' {\n set root='hd0,msdos7'\n linux /boot/vmlinuz root=UUID=0a1b0f99\n}\nmenuentry ");
    two.replace("/boot/grub/grub.cfg", "default=\"0\"", "default=\"1\"");
    const support::Checked checked(two.build());
    ASSERT_EQ(checked.verdict.systems.size(), 1U);
    EXPECT_EQ(checked.stage(), "yes");
    EXPECT_TRUE(checked.has(Code::EntryStale));
}

TEST(HiddenRoots, AnotherDisksSystemIsNotCreditedWithTheEntry) {
    Two two;
    two.second = lvm_with_ext();
    two.root_elsewhere("/dev/mapper/inn-root");
    Machine machine = support::machine_of(two.build());
    machine.disks.push_back(inspect_disk(memory_source(demo::front_desk().build(), "d2", 2), 2, "second.img"));
    const auto verdict = check(machine);
    ASSERT_EQ(verdict.systems.size(), 2U);
    EXPECT_EQ(verdict.systems[0].place, "d2p1");
    EXPECT_TRUE(verdict.systems[0].entry.empty())
        << "its own menu is not reached, and the first disk's entry is not its";
    EXPECT_EQ(verdict.systems[0].stops_at, Stage::Entry);
    EXPECT_EQ(verdict.systems[1].kind, SystemKind::Unknown);
    EXPECT_EQ(verdict.systems[1].starts, Starts::Unknown);
    EXPECT_EQ(verdict.systems[1].entry, "Almhof front desk");
}

TEST(HiddenRoots, ARootBesideAnUnknownEntryIsUnknownToo) {
    // The same for a disk whose own entry lies in a configuration that cannot be read.
    Two two;
    two.second = btrfs_volume();
    two.desk.disk.gap = forge::make_grub_core({"(,msdos2)/boot/grub", {"btrfs", "part_msdos"}, "", 1, true});
    const support::Checked checked(two.build());
    ASSERT_EQ(checked.verdict.systems.size(), 1U);
    EXPECT_EQ(checked.stage(), "unknown");
    EXPECT_EQ(checked.system().at(Stage::Loader).state, State::Unknown);
    EXPECT_EQ(checked.system().place, "d1p1");
}

// --- fstab ---------------------------------------------------------------------------------------------------------

struct Line {
    const char* name;
    const char* line;
    Bytes (*second)();
    const char* stage;  ///< the verdict
    const char* says;
};
class FstabLines : public testing::TestWithParam<Line> {};
TEST_P(FstabLines, CountAsTheyCanBeFollowed) {
    Two two;
    two.second = GetParam().second();
    std::string text = std::string("UUID=") + demo::root_uuid + " / ext4 defaults 0 1\n" + GetParam().line + "\n";
    two.desk.root.file("/etc/fstab", text).directory("/home");
    const support::Checked checked(two.build());
    EXPECT_EQ(checked.stage(), GetParam().stage) << text_at(checked.system(), Stage::Services);
    EXPECT_NE(text_at(checked.system(), Stage::Services).find(GetParam().says), std::string::npos)
        << text_at(checked.system(), Stage::Services);
}
INSTANTIATE_TEST_SUITE_P(
    All, FstabLines,
    testing::Values(
        Line{"InLvm", "UUID=a1b0f000-0009-4a01-8a01-00000a1b0f09 /home ext4 defaults 0 2", lvm_with_ext, "unknown",
             "it may lie in d1p2"},
        Line{"InLvmByName", "/dev/mapper/inn-home /home auto defaults 0 2", lvm_with_ext, "unknown",
             "it may lie in d1p2"},
        Line{"InLvmButOptional", "/dev/mapper/inn-home /home ext4 nofail 0 2", lvm_with_ext, "yes", ""},
        Line{"OnXfs", "UUID=0f500000-0001-4a01-8a01-00000f500001 /home xfs defaults 0 2", xfs_volume, "unknown",
             "d1p2 for /home holds xfs"},
        Line{"GoneExt", "UUID=a1b0f000-0009-4a01-8a01-00000a1b0f09 /home ext4 defaults 0 2", xfs_volume, "services",
             "nothing here answers"},
        Line{"GoneFat", "UUID=A1B0-F00D /home vfat umask=0077 0 1", xfs_volume, "services", "nothing here answers"},
        Line{"GoneFatButOptional", "UUID=A1B0-F00D /home vfat umask=0077,nofail 0 1", xfs_volume, "yes", ""},
        Line{"GoneXfs", "UUID=0f500000-0009-4a01-8a01-00000f500009 /home xfs defaults 0 2", xfs_volume, "services",
             "nothing here answers"},
        Line{"GonePartition", "PARTUUID=a1a10f01-07 /home reiserfs defaults 0 2", xfs_volume, "services",
             "nothing here answers"},
        // A type whose identifiers are not read may well be there.
        Line{"OtherType", "UUID=a1b0f000-0009-4a01-8a01-00000a1b0f09 /home reiserfs defaults 0 2", xfs_volume, "yes",
             ""}),
    support::by_name);

TEST(FstabLines, MatterOnlyWhereSomethingMountsThem) {
    Two two;
    two.desk.root.file("/etc/fstab", "UUID=A1B0-F00D /home vfat umask=0077 0 1\n");
    EXPECT_EQ(support::Checked(two.build()).stage(), "services");
    Two quiet;
    quiet.desk.root.file("/etc/fstab", "UUID=A1B0-F00D /home vfat umask=0077 0 1\n");
    quiet.replace("/etc/init.d/rcS", "mount -a || exit 1", "# mount -a");
    EXPECT_EQ(support::Checked(quiet.build()).stage(), "yes");
}

// --- GRUB's own files ------------------------------------------------------------------------------------------------

struct Prefix {
    const char* name;
    Bytes (*second)();
    const char* prefix;
    std::vector<std::string> modules;
    const char* stage;
    State loader;
    const char* says;
    const char* embedded = "";
};
class Prefixes : public testing::TestWithParam<Prefix> {};
TEST_P(Prefixes, AreFollowedAsFarAsTheyAreRead) {
    Two two;
    two.second = GetParam().second();
    two.desk.disk.gap = forge::make_grub_core({GetParam().prefix, GetParam().modules, GetParam().embedded, 1, true});
    const support::Checked checked(two.build());
    EXPECT_EQ(checked.stage(), GetParam().stage);
    const auto& rung = checked.system().at(checked.system().stops_at.value_or(Stage::Loader));
    if (!checked.system().stops_at) EXPECT_EQ(rung.state, GetParam().loader);
    EXPECT_NE(rung.text.find(GetParam().says), std::string::npos) << rung.text;
    EXPECT_EQ(rung.text.find("begins at sector"), std::string::npos) << "what lies inside a member is in its place";
}
INSTANTIATE_TEST_SUITE_P(
    All, Prefixes,
    testing::Values(
        Prefix{"Btrfs",
               btrfs_volume,
               "(,msdos2)/boot/grub",
               {"btrfs", "part_msdos"},
               "unknown",
               State::Unknown,
               "d1p2 is btrfs, whose files GRUB reads"},
        Prefix{
            "Xfs", xfs_volume, "(,msdos2)/boot/grub", {"xfs", "part_msdos"}, "unknown", State::Unknown, "d1p2 is xfs"},
        Prefix{"XfsWithoutItsModule",
               xfs_volume,
               "(,msdos2)/boot/grub",
               {"ext2", "part_msdos"},
               "loader",
               State::Breaks,
               "cannot read the file system in d1p2"},
        Prefix{"Lvm",
               lvm_with_ext,
               "(lvmid/Almhof-Ridge/Root01)/boot/grub",
               {"lvm", "ext2", "part_msdos"},
               "unknown",
               State::Unknown,
               "made from d1p2 (lvm physical volume)"},
        Prefix{"LvmWithoutItsModule",
               lvm_with_ext,
               "(lvmid/Almhof-Ridge/Root01)/boot/grub",
               {"ext2", "part_msdos"},
               "loader",
               State::Breaks,
               "which this machine does not have"},
        Prefix{"LvmWithoutAMember",
               xfs_volume,
               "(lvmid/Almhof-Ridge/Root01)/boot/grub",
               {"lvm", "ext2"},
               "loader",
               State::Breaks,
               "which this machine does not have"},
        Prefix{"Raid",
               [] { return raid_member(Bytes(1U << 20U), 2); },
               "(mduuid/616c6d686f66)/boot/grub",
               {"mdraid1x", "ext2", "part_msdos"},
               "unknown",
               State::Unknown,
               "made from d1p2 (md raid member)"},
        Prefix{"Luks",
               luks_volume,
               "(cryptouuid/1a0c5000)/boot/grub",
               {"luks2", "cryptodisk", "gcry_rijndael", "gcry_sha256", "ext2", "part_msdos"},
               "unknown",
               State::Unknown,
               "made from d1p2 (luks2)",
               "cryptomount -u 1a0c5000-0001-4a01-8a01-00001a0c5001\n"},
        Prefix{"LuksThatNobodyOpens",
               luks_volume,
               "(cryptouuid/1a0c5000)/boot/grub",
               {"luks2", "cryptodisk", "gcry_rijndael", "gcry_sha256", "ext2", "part_msdos"},
               "loader",
               State::Breaks,
               "which this machine does not have"},
        // The member's own partition: no file system for GRUB, and none that was misplaced.
        Prefix{"InsideAMember",
               lvm_with_ext,
               "(,msdos2)/boot/grub",
               {"ext2", "part_msdos"},
               "loader",
               State::Breaks,
               "cannot read the file system in d1p2"}),
    support::by_name);

TEST(Misplaced, NothingInsideAMemberIs) {
    Two two;
    two.second = lvm_with_ext();
    const auto machine = support::machine_of(two.build());
    EXPECT_FALSE(find_misplaced_volume(machine.disks[0]));
    // The same file system in a partition that holds nothing else is one.
    Two plain;
    plain.second = lvm_with_ext();
    std::fill_n(plain.second.begin(), 4096, std::uint8_t{0});
    auto disk = plain.build();
    const auto lost = find_misplaced_volume(support::machine_of(disk).disks[0]);
    EXPECT_FALSE(lost) << "it lies further behind than is looked";
}

TEST(Scripts, GoOnInWhatIsNotRead) {
    Two two;
    two.second = xfs_volume();
    const std::string config =
        "search --no-floppy --fs-uuid --set=other 0f500000-0001-4a01-8a01-00000f500001\nset timeout=1\n"
        "menuentry 'From XFS' {\n linux ($other)/boot/vmlinuz root=UUID=0f500000-0001-4a01-8a01-00000f500001\n initrd "
        "($other)/boot/initrd\n}\n";
    for (const char* name : {"xfs", "lvm"})
        two.desk.root.file(std::string("/boot/grub/i386-pc/") + name + ".mod",
                           forge::make_grub_module({name, {}, {}, {}}));
    two.desk.root.file("/boot/grub/i386-pc/fs.lst", "ext2\nxfs\n")
        .file("/boot/grub/grub.cfg", config)
        .remove("/etc/os-release")
        .remove("/etc/passwd")
        .remove("/etc/fstab")
        .remove("/etc/inittab");
    const support::Checked checked(two.build());
    ASSERT_EQ(checked.verdict.systems.size(), 1U);
    EXPECT_EQ(checked.stage(), "unknown");
    EXPECT_EQ(checked.system().place, "d1p2");
    EXPECT_EQ(checked.system().at(Stage::Entry).state, State::Unknown);
    EXPECT_NE(text_at(checked.system(), Stage::Entry).find("d1p2 is xfs"), std::string::npos);
    // A configuration that goes on in one.
    two.desk.root.file("/boot/grub/grub.cfg",
                       "search --fs-uuid --set=dev 0f500000-0001-4a01-8a01-00000f500001\nset "
                       "prefix=($dev)/grub2\nconfigfile $prefix/grub.cfg\n");
    two.desk.disk.partitions.clear();
    const support::Checked stub(two.build());
    EXPECT_EQ(stub.stage(), "unknown");
    EXPECT_EQ(stub.system().at(Stage::Configuration).state, State::Unknown);
    // A search that only a logical volume could answer.
    two.second = lvm_with_ext();
    two.desk.root.file("/boot/grub/grub.cfg",
                       "insmod lvm\nsearch --fs-uuid --set=dev a1b0f000-0009-4a01-8a01-00000a1b0f09\nset "
                       "timeout=0\nmenuentry A {\n linux ($dev)/vmlinuz "
                       "root=/dev/mapper/inn-root\n}\n");
    two.desk.disk.partitions.clear();
    const support::Checked searched(two.build());
    EXPECT_EQ(searched.stage(), "unknown");
    EXPECT_NE(text_at(searched.system(), Stage::Entry).find("may lie in d1p2 (lvm physical volume)"), std::string::npos)
        << text_at(searched.system(), Stage::Entry);
}

// --- mirrors ---------------------------------------------------------------------------------------------------------

TEST(Mirrors, AreFileSystemsToFirmwareAndLoadersOnly) {
    const auto fat = forge::make_fat(forge::Tree().file("/EFI/BOOT/BOOTX64.EFI", "x")).bytes;
    forge::DiskSpec spec;
    spec.size = 24U << 20U;
    spec.partitions.push_back({2048, raid_member(fat, 0), 0xEF, false});
    const auto machine = support::machine_of(forge::make_disk(spec));
    const auto& volume = *machine.disks[0].volumes.at(0);
    EXPECT_EQ(volume.info.name(), "md raid member");
    EXPECT_EQ(volume.info.content(), Content::Member);
    EXPECT_TRUE(volume.as(Observer::Loader).is(Family::Fat));
    EXPECT_EQ(volume.files(Observer::Linux), nullptr);
    ASSERT_NE(volume.files(Observer::Loader), nullptr);
    EXPECT_TRUE(resolve(*volume.files(Observer::Loader), "/EFI/BOOT/BOOTX64.EFI"));
    const auto seen = uefi_volumes(machine);
    ASSERT_EQ(seen.volumes.size(), 1U);
    EXPECT_EQ(seen.volumes[0]->place, "d1p1");
    // Metadata at the start leaves nothing that looks like a file system.
    spec.partitions[0].content = raid_member(fat, 1);
    EXPECT_TRUE(uefi_volumes(support::machine_of(forge::make_disk(spec))).volumes.empty());
}

TEST(Mirrors, ASuperblockElsewhereIsNone) {
    auto member = raid_member(Bytes(1U << 20U), 2);
    forge::put64(member, 4096 + 144, 9);  // it says that it lies in another sector
    EXPECT_FALSE(recognise_volume(*support::source_of(member)).known());
}

// --- what the medium does not give ----------------------------------------------------------------------------------

struct Damaged {
    Machine machine;
    Verdict verdict;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> asked;
    std::string json;
    Damaged(const Bytes& image, std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges) {
        const auto source = with_unreadable(memory_source(image, "d1", 1), std::move(ranges));
        machine.disks.push_back(inspect_disk(source, 1, "x"));
        verdict = check(machine);
        asked = source->asked();
        json = check_json(machine, verdict);
    }
    [[nodiscard]] const SystemVerdict& system() const { return verdict.systems.front(); }
    [[nodiscard]] std::string stage() const {
        return system().stops_at ? std::string(stage_id(*system().stops_at)) : std::string(starts_id(system().starts));
    }
    [[nodiscard]] bool has(Code code) const {
        return std::ranges::any_of(verdict.findings, [&](const Finding& f) { return f.code == code; });
    }
};

/// Where a file of the first volume lies: byte `at` of it.
std::uint64_t place_of(const Bytes& image, const std::string& path, std::uint64_t at = 0) {
    const auto machine = support::machine_of(image);
    const auto& volume = *machine.disks[0].volumes[0];
    const auto found = resolve(*volume.files(Observer::Loader), path);
    EXPECT_TRUE(found) << path;
    const auto file = volume.files(Observer::Loader)->open(found->file.id, path);
    return (*file)->locate(at, 1).front().offset;
}

struct Lost {
    const char* name;
    const char* path;
    std::uint64_t at;
    const char* stage;
    std::optional<Code> code;
    const char* says;
    const char* never;
};
class Unreadables : public testing::TestWithParam<Lost> {};
TEST_P(Unreadables, AreToldAsUnreadable) {
    const auto image = demo::front_desk().build();
    const auto at = place_of(image, GetParam().path, GetParam().at) / 512 * 512;
    const Damaged damaged(image, {{at, 512}});
    EXPECT_EQ(damaged.stage(), GetParam().stage);
    if (GetParam().code) EXPECT_TRUE(damaged.has(*GetParam().code)) << *GetParam().code;
    std::string all = damaged.system().symptom;
    for (const auto& rung : damaged.system().stages) all += rung.text + "\n";
    EXPECT_NE(all.find(GetParam().says), std::string::npos) << all;
    EXPECT_EQ(all.find(GetParam().never), std::string::npos) << all;
    ASSERT_EQ(damaged.asked.size(), 1U);
    EXPECT_GE(damaged.asked[0].first, at);
    EXPECT_LE(damaged.asked[0].first + damaged.asked[0].second, at + 512);
    const auto document = nlohmann::json::parse(damaged.json);
    EXPECT_EQ(document.at("disks").at(0).at("unreadable_asked").at(0).at("offset"), damaged.asked[0].first);
    EXPECT_EQ(document.at("disks").at(0).at("unreadable_asked").at(0).at("length"), damaged.asked[0].second);
}
INSTANTIATE_TEST_SUITE_P(
    All, Unreadables,
    testing::Values(Lost{"Fstab", "/etc/fstab", 0, "yes", {}, "/etc/fstab cannot be read", "is there: "},
                    Lost{"Inittab", "/etc/inittab", 0, "services", Code::ServicesInittabMissing,
                         "/etc/inittab cannot be read", "missing"},
                    Lost{"StartupScript", "/etc/init.d/rcS", 0, "services", {}, "cannot be read", "does not exist"},
                    Lost{"KernelMiddle", "/boot/vmlinuz-6.1.0-almhof", 50000, "kernel", Code::KernelUnreadable,
                         "failure reading sector 0x", "CRC-32"},
                    Lost{"KernelHead", "/boot/vmlinuz-6.1.0-almhof", 0, "kernel", Code::KernelUnreadable,
                         "failure reading sector 0x", "CRC-32"},
                    Lost{"Ramdisk", "/boot/initrd.img-6.1.0-almhof", 3000, "ramdisk", Code::RamdiskUnreadable,
                         "cannot be read", "damaged"},
                    Lost{"Module", "/boot/grub/i386-pc/normal.mod", 0, "loader", Code::GrubFilesUnreadable,
                         "failure reading sector 0x", "premature end"},
                    Lost{"Configuration", "/boot/grub/grub.cfg", 0, "configuration", Code::GrubConfigUnreadable,
                         "failure reading sector 0x", "not found"},
                    Lost{"Init", "/usr/bin/busybox", 0, "init", Code::ProgramUnreadable, "cannot be read",
                         "no execute permission"}),
    support::by_name);

TEST(UnreadablePlaces, SuperblocksAreNotUnknownFileSystems) {
    const auto image = demo::front_desk().build();
    const Damaged damaged(image, {{2048 * 512 + 1024, 1024}});
    EXPECT_EQ(damaged.stage(), "loader");
    EXPECT_TRUE(damaged.has(Code::GrubFilesUnreadable));
    EXPECT_NE(damaged.system().symptom.find("error: failure reading sector 0x802 from `hd0'."), std::string::npos)
        << damaged.system().symptom;
    EXPECT_EQ(damaged.system().symptom.find("unknown filesystem"), std::string::npos);
    EXPECT_TRUE(damaged.machine.disks[0].volumes[0]->mark_unreadable());
}

TEST(UnreadablePlaces, ThatNobodyNeedsAreNotAskedFor) {
    const auto image = demo::front_desk().build();
    const Damaged damaged(image, {{image.size() - 512, 512}});
    EXPECT_EQ(damaged.stage(), "yes");
    EXPECT_TRUE(damaged.asked.empty());
    EXPECT_TRUE(nlohmann::json::parse(damaged.json).at("disks").at(0).at("unreadable_asked").empty());
    EXPECT_FALSE(nlohmann::json::parse(check_json(damaged.machine, {})).at("disks").empty());
}

TEST(UnreadablePlaces, WhatTheWindowsLoadersLookForIsNotMissing) {
    const struct {
        int partition;
        const char* path;
        const char* stage;
        Code code;
    } cases[] = {{1, "/bootmgr", "loader", Code::WindowsLoaderUnreadable},
                 {2, "/Windows", "entry", Code::EntryKernelUnreadable}};
    for (const auto& one : cases) {
        const auto image = demo::office_pc().build();
        const auto machine = support::machine_of(image);
        const auto volume = machine.volume(1, one.partition);
        const auto file = resolve(*volume->files(Observer::Loader), one.path);
        ASSERT_TRUE(file) << one.path;
        const std::uint64_t at =
            volume->source->locate(0, 1).front().offset + 4 * 4096 + (file->file.id & 0xFFFFFFFFU) * 1024;
        ASSERT_EQ(image[at], 'F') << one.path;
        const Damaged damaged(image, {{at, 1024}});
        EXPECT_EQ(damaged.stage(), one.stage) << one.path;
        EXPECT_TRUE(damaged.has(one.code)) << one.code;
    }
}

TEST(UnreadablePlaces, AnMftRecordIsNotAMissingFile) {
    const auto image = demo::office_pc().build();
    const auto machine = support::machine_of(image);
    const auto volume = machine.volume(1, 2);
    const auto hal = resolve(*volume->files(Observer::Loader), "/Windows/System32/hal.dll");
    ASSERT_TRUE(hal);
    // The generator puts the table of records at cluster 4.
    const std::uint64_t at =
        volume->source->locate(0, 1).front().offset + 4 * 4096 + (hal->file.id & 0xFFFFFFFFU) * 1024;
    ASSERT_EQ(image[at], 'F');
    const Damaged damaged(image, {{at, 1024}});
    EXPECT_EQ(damaged.stage(), "kernel");
    const auto& text = damaged.system().at(Stage::Kernel).text;
    EXPECT_NE(text.find("cannot be read"), std::string::npos) << text;
    EXPECT_EQ(text.find("not there"), std::string::npos) << text;
    EXPECT_NE(damaged.system().symptom.find("0xc0000185"), std::string::npos) << damaged.system().symptom;
}

}  // namespace
