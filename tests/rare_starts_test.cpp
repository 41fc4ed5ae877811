// SPDX-License-Identifier: MIT
// Starts that few machines take: NT's older loader, a disc's and an EFI GRUB, first sectors that cannot be read; each
// with the stage, the words, the bytes that it names, and what the screen shows.
#include <algorithm>

#include "help_disc.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Checked;
using support::edit;

namespace {

constexpr std::uint64_t sector = 512;

const Finding* finding(const Verdict& verdict, Code code) {
    const auto found = std::ranges::find(verdict.findings, code, &Finding::code);
    return found != verdict.findings.end() ? &*found : nullptr;
}
const SystemVerdict* system_at(const Verdict& verdict, const std::string& place) {
    const auto found = std::ranges::find(verdict.systems, std::optional<std::string>(place), &SystemVerdict::place);
    return found != verdict.systems.end() ? &*found : nullptr;
}
void expect_stop(const Verdict& verdict, const std::string& place, Stage stage, Code code, const std::string& words,
                 const std::string& screen) {
    const auto* system = system_at(verdict, place);
    ASSERT_NE(system, nullptr) << place;
    ASSERT_EQ(system->stops_at, stage) << place;
    const auto& rung = system->at(stage);
    ASSERT_FALSE(rung.findings.empty()) << rung.text;
    EXPECT_NE(std::ranges::find(rung.findings, code), rung.findings.end()) << rung.findings.front();
    EXPECT_NE(rung.text.find(words), std::string::npos) << rung.text;
    EXPECT_FALSE(rung.evidence.empty());
    EXPECT_NE(system->symptom.find(screen), std::string::npos) << system->symptom;
    for (const auto& other : system->stages)
        if (other.stage < stage) EXPECT_NE(other.state, State::Breaks) << stage_id(other.stage);
        else if (other.stage > stage) EXPECT_EQ(other.state, State::NotReached) << stage_id(other.stage);
}

// --- NT's older loader -----------------------------------------------------------------------------------------------

constexpr std::uint32_t first_lba = 2048;
constexpr std::uint64_t volume_size = 12U << 20U;

/// A machine of NT's fifth generation: everything on one volume; a second volume with a system of its own, if wanted.
struct OlderPc {
    demo::OfficePc parts = demo::office_pc();
    forge::Tree files = parts.windows;
    bool second = false;
    std::string ini =
        "[boot loader]\r\ntimeout=5\r\ndefault=multi(0)disk(0)rdisk(0)partition(1)\\WINDOWS\r\n"
        "[operating systems]\r\nmulti(0)disk(0)rdisk(0)partition(1)\\WINDOWS=\"Ledger\" /fastdetect\r\n";

    OlderPc() {
        files.file("/ntldr", forge::make_boot_manager()).file("/NTDETECT.COM", forge::noise(5000, 4));
        files.file("/Windows/System32/config/SYSTEM", forge::make_hive(parts.system_hive));
        files.file("/Windows/System32/config/SOFTWARE", forge::make_hive(parts.software_hive));
    }
    [[nodiscard]] Bytes build() const {
        auto tree = files;
        if (!ini.empty()) tree.file("/boot.ini", ini);
        forge::DiskSpec disk;
        disk.size = 32U << 20U;
        disk.boot_code = forge::make_plain_boot();
        disk.partitions = {{first_lba,
                            forge::make_ntfs(tree, {volume_size, first_lba, 0xA1B0F00DA1B0F005ULL, "Ledger", "NTLDR"}),
                            7, true}};
        if (second) {
            const auto lba = static_cast<std::uint32_t>(first_lba + volume_size / sector);
            disk.partitions.push_back(
                {lba, forge::make_ntfs(files, {volume_size, lba, 0xA1B0F00DA1B0F006ULL, "Annexe", ""}), 7, false});
        }
        return forge::make_disk(disk);
    }
};

/// Where the record of a file in the first volume lies; the generator puts the table of records at cluster 4.
std::uint64_t record_of(const Bytes& image, int partition, const std::string& path) {
    const auto machine = support::machine_of(image);
    const auto volume = machine.volume(1, partition);
    const auto file = resolve(*volume->files(Observer::Loader), path);
    EXPECT_TRUE(file) << path;
    const std::uint64_t at =
        volume->source->locate(0, 1).front().offset + 4 * 4096 + (file->file.id & 0xFFFFFFFFU) * 1024;
    EXPECT_EQ(image[at], 'F') << path;
    return at;
}
struct Unread {
    Machine machine;
    Verdict verdict;
    Unread(const Bytes& image, const std::vector<std::pair<std::uint64_t, std::uint64_t>>& lost) {
        machine.disks.push_back(inspect_disk(with_unreadable(memory_source(image, "d1", 1), lost), 1, "test.img"));
        assemble_layers(machine);
        verdict = check(machine);
    }
};

TEST(OlderNt, IsFollowedFromItsListToItsServices) {
    const Checked checked(OlderPc().build());
    EXPECT_EQ(checked.stage(), "yes");
    ASSERT_EQ(checked.verdict.menus.size(), 1U);
    EXPECT_EQ(checked.verdict.menus[0].loader, "NTLDR");
    EXPECT_EQ(checked.verdict.menus[0].entries.at(0).title, "Ledger");
}

TEST(OlderNt, WithoutTheHardwareDetection) {
    OlderPc pc;
    pc.files.remove("/NTDETECT.COM");
    expect_stop(Checked(pc.build()).verdict, "d1p1", Stage::Loader, Code::WindowsDetectMissing,
                "NTDETECT.COM is not in the root of d1p1", "NTDETECT failed");
}

TEST(OlderNt, WithoutItsListTakesTheFirstPartition) {
    OlderPc pc;
    pc.ini.clear();
    const Checked checked(pc.build());
    EXPECT_EQ(checked.stage(), "yes");
    const auto* found = finding(checked.verdict, Code::BootIniMissing);
    ASSERT_NE(found, nullptr);
    EXPECT_EQ(found->severity, Severity::Risk);
    EXPECT_EQ(found->text,
              "d1p1:/boot.ini is not there or names no system: NTLDR starts \\WINDOWS on the first partition");
    ASSERT_EQ(found->evidence.size(), 1U);
    EXPECT_EQ(found->evidence[0].found, "absent");
    EXPECT_EQ(found->symptom, "Invalid BOOT.INI file\nBooting from C:\\WINDOWS\\");
}

TEST(OlderNt, WithoutItsListNothingStartsTheOtherSystem) {
    OlderPc pc;
    pc.ini.clear();
    pc.second = true;
    const Checked checked(pc.build());
    EXPECT_EQ(system_at(checked.verdict, "d1p1")->starts, Starts::Yes);
    expect_stop(checked.verdict, "d1p2", Stage::Configuration, Code::ConfigurationLost,
                "starts only what is usual, and that is another system", "Invalid BOOT.INI file");
}

TEST(OlderNt, WithADirectoryThatCannotBeRead) {
    const auto image = OlderPc().build();
    const Unread unread(image, {{record_of(image, 1, "/Windows"), 1024}});
    ASSERT_EQ(unread.verdict.systems.size(), 1U);
    expect_stop(unread.verdict, *unread.verdict.systems[0].place, Stage::Entry, Code::WindowsDirectoryUnreadable,
                "which cannot be read", "ntoskrnl.exe");
}

// --- the boot manager ------------------------------------------------------------------------------------------------

TEST(BootManager, StoredCompressedCannotBeRead) {
    auto image = demo::office_pc().build();
    // $STANDARD_INFORMATION is a record's first attribute: the file's flags stand 32 bytes into its value.
    const auto record = record_of(image, 1, "/bootmgr");
    const std::size_t attribute = record + image[record + 0x14];
    ASSERT_EQ(image[attribute], 0x10);
    const std::size_t value = attribute + image[attribute + 0x14];
    image[value + 33] |= 0x08;
    const Checked checked(image);
    expect_stop(checked.verdict, "d1p2", Stage::Loader, Code::WindowsLoaderCompressed,
                "d1p1:/bootmgr is stored compressed", "BOOTMGR is compressed");
}

TEST(BootManager, AFirstSectorThatLeadsNowhere) {
    auto image = demo::office_pc().build();
    image[first_lba * sector + 11] = 0;  // bytes per sector
    image[first_lba * sector + 12] = 0;
    const Checked checked(image);
    expect_stop(checked.verdict, "d1p2", Stage::BootSector, Code::BootSectorGeometry,
                "the boot sector of d1p1 does not lead to the volume's files", "");
}

TEST(BootManager, AFirstSectorThatCannotBeRead) {
    const auto image = demo::office_pc().build();
    const Unread unread(image, {{first_lba * sector, sector}});
    expect_stop(unread.verdict, "d1p2", Stage::BootSector, Code::BootCodeUnreadable,
                "the boot sector of d1p1, which the first sector's code asks for, cannot be read", "");
}

TEST(BootManager, ADamagedToolLeavesTheSystemsAlone) {
    auto pc = demo::office_pc();
    const std::string objects = "Objects\\", tool = "{b2721d73-1db4-4c62-bf78-c548a880142d}";
    const std::string manager = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
    const auto& device = forge::partition_device(first_lba * sector, pc.disk_signature);
    pc.store.child(objects + tool + "\\Description").number("Type", 0x10200005);
    pc.store.child(objects + tool + "\\Elements\\11000001").bytes("Element", device);
    pc.store.child(objects + tool + "\\Elements\\12000002").text("Element", "\\boot\\memtest.exe");
    pc.store.child(objects + tool + "\\Elements\\12000004").text("Element", "Cellar memory test");
    pc.store.child(objects + manager + "\\Elements\\24000010").texts("Element", {tool});
    pc.boot.file("/Boot/memtest.exe", forge::noise(3000, 9));
    const Checked checked(pc.build());
    EXPECT_EQ(checked.stage(), "yes");
    const auto& entries = checked.verdict.menus.at(0).entries;
    const auto entry = std::ranges::find(entries, std::string("Cellar memory test"), &MenuEntry::title);
    ASSERT_NE(entry, entries.end());
    ASSERT_TRUE(entry->stop);
    EXPECT_EQ(entry->stop->code, Code::WindowsToolDamaged);
    EXPECT_NE(entry->stop->text.find("/memtest.exe, which cannot be loaded"), std::string::npos) << entry->stop->text;
    ASSERT_FALSE(entry->messages.empty());
    EXPECT_NE(entry->messages.back().text.find("0xc000007b"), std::string::npos) << entry->messages.back().text;
}

// --- GRUB ------------------------------------------------------------------------------------------------------------

TEST(RareGrub, ACoreWithoutRedundancyThatCannotBeUnpacked) {
    auto desk = demo::front_desk();
    desk.disk.gap = forge::make_grub_core({.redundancy = false});
    auto image = desk.build();
    EXPECT_EQ(Checked(image).stage(), "yes");
    // Behind its first sector and its decompressor: the packed kernel.
    const auto core = static_cast<std::ptrdiff_t>(2 * sector);
    std::fill(image.begin() + core + 3000, image.begin() + core + 9000, std::uint8_t{0xFF});
    const Checked checked(image);
    expect_stop(checked.verdict, "d1p1", Stage::Loader, Code::GrubCoreDamaged, "GRUB's core image cannot be unpacked",
                "GRUB loading");
}

TEST(RareGrub, OnADiscWithoutItsTable) {
    auto disc = demo::help_disc();
    Bytes boot(8192);
    const std::string said = "no boot info\0cdrom read fails\0";
    std::copy(said.begin(), said.end(), boot.begin() + 200);
    const std::string second = "cdrom read fails";
    std::copy(second.begin(), second.end(), boot.begin() + 240);
    disc.files.file("/boot/grub/eltorito.img", boot);
    disc.options.boot_image = "/boot/grub/eltorito.img";
    disc.options.boot_information = false;
    disc.options.hybrid = false;
    const Checked checked(disc.build().bytes);
    ASSERT_NE(finding(checked.verdict, Code::GrubDiscNoTable), nullptr);
    expect_stop(checked.verdict, *checked.system().place, Stage::Loader, Code::GrubDiscNoTable,
                "GRUB's boot image carries no boot information table", "no boot info");
}

TEST(RareGrub, AnEfiImageWithoutModules) {
    auto parts = demo::kiosk();
    parts.esp.remove("/EFI/BOOT/BOOTX64.EFI");
    parts.esp.file("/EFI/BOOT/BOOTX64.EFI",
                   forge::make_efi_application({{"mods", forge::to_bytes("no list of modules here, GRUB")}}));
    const Checked checked(parts.build());
    const auto* found = finding(checked.verdict, Code::GrubEfiImage);
    ASSERT_NE(found, nullptr);
    EXPECT_NE(found->text.find("/EFI/BOOT/BOOTX64.EFI carries no modules that could be read"), std::string::npos)
        << found->text;
    EXPECT_EQ(checked.system().stops_at, Stage::Loader);
}

// --- the SYSLINUX family ---------------------------------------------------------------------------------------------

TEST(RareSyslinux, AMenuWithNothingOnIt) {
    auto disc = demo::help_disc();
    disc.files.file(demo::help_config, "UI menu.c32\n");
    disc.files.file("/boot/isolinux/menu.c32", forge::make_syslinux_module());
    const Checked checked(disc.build().bytes);
    const auto* found = finding(checked.verdict, Code::SyslinuxConfigEmpty);
    ASSERT_NE(found, nullptr);
    EXPECT_EQ(found->text, "the configuration defines no label");
    ASSERT_EQ(found->evidence.size(), 1U);
    EXPECT_EQ(found->evidence[0].expected, "a LABEL");
    EXPECT_EQ(checked.system().stops_at, Stage::Configuration);
}

TEST(RareSyslinux, AKernelWithHolesOnAnExt) {
    auto desk = demo::front_desk();
    const std::string kernel = std::string("/boot/vmlinuz-") + demo::release;
    desk.root.at(kernel).holes = {{65536, 8192}};
    desk.root.file("/boot/extlinux/extlinux.conf", "DEFAULT desk\nLABEL desk\n LINUX " + kernel + "\n");
    const auto machine = support::machine_of(desk.build());
    std::vector<std::string> stops;
    for (const auto& menu : read_configurations(machine, *machine.volume(1, 1)))
        for (const auto& entry : menu.entries)
            if (entry.stop && entry.stop->code == Code::KernelHasHoles) stops.push_back(entry.stop->text);
    EXPECT_EQ(stops,
              std::vector<std::string>{"d1p1:" + kernel + " is stored with holes, which this loader cannot read"});
}

TEST(RareSyslinux, ARamDiskOfNoBytesIsRefusedOnAnExt) {
    auto desk = demo::front_desk();
    const std::string kernel = std::string("/boot/vmlinuz-") + demo::release;
    desk.root.file("/boot/nothing.img", Bytes{});
    desk.root.file("/boot/little.img", Bytes(1));
    desk.root.file("/boot/extlinux/extlinux.conf", "DEFAULT desk\nLABEL desk\n LINUX " + kernel +
                                                       "\n INITRD /boot/nothing.img\nLABEL second\n LINUX " + kernel +
                                                       "\n INITRD /boot/little.img\n");
    const auto machine = support::machine_of(desk.build());
    const auto menus = read_configurations(machine, *machine.volume(1, 1));
    const auto menu = std::ranges::find_if(menus, [](const auto& m) { return m.place.ends_with("extlinux.conf"); });
    ASSERT_NE(menu, menus.end());
    const auto& first = menu->entries.at(0);
    ASSERT_TRUE(first.stop);
    EXPECT_EQ(first.stop->code, Code::RamdiskMissing);
    EXPECT_EQ(first.stop->text,
              "the RAM disk /boot/nothing.img cannot be loaded (Bad file number), and the loader then does not start "
              "the kernel");
    ASSERT_EQ(first.messages.size(), 1U);
    EXPECT_EQ(first.messages[0].text,
              "Loading " + kernel + "... ok\nLoading /boot/nothing.img...failed: Bad file number");
    EXPECT_FALSE(menu->entries.at(1).stop);
}

// --- tables, file systems and services -------------------------------------------------------------------------------

TEST(RareTables, UefiRefusesEntriesThatOverlap) {
    auto parts = demo::kiosk();
    forge::DiskSpec disk;
    disk.size = 24U << 20U;
    disk.partitions = {{2048, forge::make_fat(parts.esp).bytes, 0xEF, false}};
    auto image = forge::make_disk(disk);
    CheckOptions options;
    options.firmware = FirmwareKind::Uefi;
    const auto seen = [&](const Bytes& bytes) {
        const auto machine = support::machine_of(bytes);
        const auto verdict = check(machine, options);
        return finding(verdict, Code::UefiMbrRefused) != nullptr ? *finding(verdict, Code::UefiMbrRefused) : Finding{};
    };
    const auto second = [&](std::uint32_t from) {
        auto bytes = image;
        bytes[446 + 16 + 4] = 0x83;
        forge::put32(bytes, 446 + 16 + 8, from);
        forge::put32(bytes, 446 + 16 + 12, 2048);
        return bytes;
    };
    const std::uint32_t end = 2048 + forge::get32(image, 446 + 12);
    EXPECT_EQ(seen(second(end)).text, "");
    const auto refused = seen(second(end - 1));
    EXPECT_EQ(refused.text,
              "entries of d1's table overlap or leave the disk: the firmware refuses it as a whole; d1p1 would have "
              "/EFI/BOOT/BOOTX64.EFI");
    EXPECT_EQ(refused.severity, Severity::Breaks);
    ASSERT_EQ(refused.evidence.size(), 1U);
    EXPECT_EQ(refused.evidence[0].range->offset, 446U);
}

TEST(RareRoots, AnExtWithAFeatureOfTheFuture) {
    auto desk = demo::front_desk();
    forge::ExtOptions options = desk.ext;
    options.size = 8U << 20U;
    options.uuid = forge::uuid_from("0e470000-0001-4a01-8a01-0000000e4701");
    options.extra_incompat = 0x80000000U;
    const auto root = forge::make_ext(desk.root, options);
    desk.root = support::boot_files(desk.root);
    edit(desk.root, "/boot/grub/grub.cfg", demo::root_uuid, "0e470000-0001-4a01-8a01-0000000e4701");
    desk.swap_size = 0;
    desk.disk.size = 32U << 20U;
    desk.disk.partitions.push_back({2048 + (20U << 20U) / sector, root, 0x83, false});
    const Checked checked(support::first_entries_swapped(desk.build()));
    const auto& system = checked.system();
    EXPECT_EQ(system.starts, Starts::Unknown);
    EXPECT_EQ(system.stops_at, std::nullopt);
    // GRUB asks every file system for the UUID that it searches, and may know the feature, too.
    EXPECT_EQ(system.at(Stage::Entry).state, State::Unknown);
    EXPECT_NE(system.at(Stage::Entry).text.find("d1p2 is ext4, whose files GRUB reads and this program does not yet"),
              std::string::npos)
        << system.at(Stage::Entry).text;
}

TEST(RareServices, ADeviceManagerThatCannotRun) {
    auto desk = demo::front_desk();
    desk.root.file("/usr/lib/systemd/systemd", forge::make_program(), 0755)
        .remove("/usr/sbin/init")
        .link("/usr/sbin/init", "../lib/systemd/systemd")
        .file("/usr/lib/systemd/system/multi-user.target", "[Unit]\n")
        .link("/usr/lib/systemd/system/default.target", "multi-user.target")
        .file("/usr/lib/systemd/system/systemd-udevd.service", "[Service]\n")
        .file("/usr/lib/systemd/systemd-udevd", forge::make_program(), 0644);
    const Checked checked(desk.build());
    EXPECT_EQ(checked.stage(), "yes");
    const auto* found = finding(checked.verdict, Code::ServicesNoDeviceManager);
    ASSERT_NE(found, nullptr);
    EXPECT_EQ(found->severity, Severity::Risk);
    EXPECT_NE(found->text.find(
                  "/lib/systemd/systemd-udevd cannot run (/usr/lib/systemd/systemd-udevd has no execute permission)"),
              std::string::npos)
        << found->text;
}

TEST(RareRemarks, AFat32WhoseInfoSectorLostItsMark) {
    const support::Folder folder;
    const auto path = folder.write("fat32", Bytes(40U << 20U));
    ASSERT_EQ(std::system(("/sbin/mkfs.fat -F 32 -s 1 " + path + " >/dev/null").c_str()), 0);
    Bytes bytes = support::file_bytes(path);
    const auto remarks = [](const Bytes& volume) {
        const auto machine = support::machine_of(volume);
        const auto* fs = machine.disks.at(0).volumes.at(0)->files(Observer::Linux);
        EXPECT_NE(fs, nullptr);
        return fs != nullptr ? fs->remarks() : std::vector<Finding>{};
    };
    EXPECT_TRUE(remarks(bytes).empty());
    const std::size_t info = std::size_t{bytes[48]} * sector;
    bytes[info] ^= 0xFFU;
    const auto found = remarks(bytes);
    ASSERT_EQ(found.size(), 1U);
    EXPECT_EQ(found[0].code, Code::FatInfoSector);
    EXPECT_EQ(found[0].severity, Severity::Note);
    EXPECT_EQ(found[0].text, "the FSInfo sector of d1 carries no mark; it holds hints only");
    EXPECT_EQ(found[0].evidence.at(0).range->offset, info);
}

}  // namespace
