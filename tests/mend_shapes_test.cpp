// SPDX-License-Identifier: MIT
// Sound disks, harmed in one place each: which proposal mends it, and that the mended disk is the sound one again, byte
// by byte, where nothing was lost for good.
#include <fmt/format.h>

#include "../fuzz/sums.hpp"
#include "cellar.hpp"
#include "demo_disks.hpp"
#include "desks.hpp"
#include "forge/windows.hpp"
#include "office_pc.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;
using support::entries_kiosk;
using support::guests_desk;
using support::legacy_desk;
using support::logical_desk;
using support::today_kernel;
using support::today_ramdisk;
using support::whole_sector;

namespace {

constexpr std::size_t sector = 512;

struct Shape {
    const char* name;
    std::function<Bytes()> sound;
    std::function<void(Bytes&)> harm;
    std::string title;     ///< with which a proposal's begins
    std::string cures;     ///< what stopped the system before
    bool the_same = true;  ///< the mended disk is the sound one
    FirmwareKind firmware = FirmwareKind::Auto;
};
void PrintTo(const Shape& shape, std::ostream* out) { *out << shape.name; }

class HarmedDisks : public testing::TestWithParam<Shape> {};

/// Where two disks differ, for people.
std::string differences(const Bytes& one, const Bytes& other) {
    if (one.size() != other.size()) return "sizes";
    std::string out;
    for (std::size_t i = 0, count = 0; i < one.size() && count < 12; ++i)
        if (one[i] != other[i]) {
            out += fmt::format("{}: {:02x} {:02x}\n", i, one[i], other[i]);
            ++count;
        }
    return out;
}

TEST_P(HarmedDisks, AreMended) {
    const auto& shape = GetParam();
    const auto sound = shape.sound();
    CheckOptions options;
    options.firmware = shape.firmware;
    {
        const auto machine = support::machine_of(sound);
        ASSERT_TRUE(check(machine, options).all_start());
    }
    auto harmed = sound;
    shape.harm(harmed);
    const auto machine = support::machine_of(harmed);
    const auto verdict = check(machine, options);
    MendLimits limits;
    limits.most_proposals = 30;
    const auto found = mend(machine, verdict, options, limits);
    ASSERT_EQ(found.size(), 1U);
    std::string all = found[0].before.reason + "\n";
    const Proposal* chosen = nullptr;
    for (const auto& proposal : found[0].proposals) {
        all += proposal.title + "\n";
        if (chosen == nullptr && proposal.title.starts_with(shape.title)) chosen = &proposal;
    }
    ASSERT_NE(chosen, nullptr) << all;
    ASSERT_EQ(chosen->cures.size(), 1U);
    EXPECT_EQ(code_id(chosen->cures[0]), shape.cures);
    Workshop shop(machine);
    const auto patch = read_patch(patch_json(chosen->patch));
    ASSERT_TRUE(patch) << patch.error().text();
    const auto applied = shop.apply(*patch);
    ASSERT_TRUE(applied) << applied.error().text();
    EXPECT_TRUE(check(shop.machine(), options).all_start());
    const auto mended = shop.disk(1)->bytes(0, sound.size());
    ASSERT_TRUE(mended);
    if (shape.the_same) EXPECT_EQ(differences(*mended, sound), "");
}

// --- the first sector and what it loads ------------------------------------------------------------------------------

/// The front desk, whose GRUB keeps what its installer writes.
Bytes desk_with_grub_files() {
    auto desk = demo::front_desk();
    Bytes boot = desk.disk.boot_code;
    boot.resize(sector);
    desk.root.file("/boot/grub/i386-pc/boot.img", boot).file("/boot/grub/i386-pc/core.img", desk.disk.gap);
    return desk.build();
}
Bytes desk_that_names_its_partition() {
    auto desk = demo::front_desk();
    support::edit(desk.root, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid,
                  "root=PARTUUID=a1a10f01-01");
    return desk.build();
}
void zero(Bytes& disk, std::size_t at, std::size_t length) {
    std::fill_n(disk.begin() + static_cast<std::ptrdiff_t>(at), length, std::uint8_t{0});
}

INSTANTIATE_TEST_SUITE_P(
    Code, HarmedDisks,
    testing::Values(
        Shape{"NoFirstSector", desk_with_grub_files, [](Bytes& d) { zero(d, 0, 440); },
              "write GRUB's first sector to d1 from d1p1:/boot/grub/i386-pc/boot.img, for its core image at sector 1",
              "boot-code-empty"},
        Shape{"FirstSectorPointsElsewhere", desk_with_grub_files, [](Bytes& d) { forge::put32(d, 0x5C, 9); },
              "let d1's first sector look for GRUB's core image at sector 1, where it lies (it says 9)",
              "grub-core-pointer"},
        Shape{"NoCore", desk_with_grub_files, [](Bytes& d) { zero(d, sector, 2047 * sector); },
              "write GRUB's core image to sector 1 of d1 from d1p1:/boot/grub/i386-pc/core.img",
              "grub-core-first-sector", false},
        Shape{"Signature", desk_that_names_its_partition, [](Bytes& d) { d[440] ^= 0xFFU; },
              "give d1 the disk signature a1a10f01 that the entries name (it has a1a10ffe)", "root-not-found"}),
    support::by_name);

// --- GUID tables -----------------------------------------------------------------------------------------------------

Bytes kiosk() { return demo::kiosk().build(); }
/// Changes an entry of the table in both copies, with their sums.
std::function<void(Bytes&)> entry(std::size_t number, const std::function<void(std::span<std::uint8_t>)>& change) {
    return [number, change](Bytes& disk) {
        const std::size_t backup = disk.size() - 33 * sector;
        for (const std::size_t array : {2 * sector, backup}) change(std::span(disk).subspan(array + number * 128, 128));
        fuzz::mend(fuzz::Sums::Disk, disk);
    };
}
void add(std::span<std::uint8_t> entry, std::size_t at, std::int64_t sectors) {
    std::int64_t lba = 0;
    std::memcpy(&lba, entry.data() + at, 8);
    lba += sectors;
    std::memcpy(entry.data() + at, &lba, 8);
}

constexpr auto uefi = FirmwareKind::Uefi;

INSTANTIATE_TEST_SUITE_P(
    Gpt, HarmedDisks,
    testing::Values(
        Shape{"ProtectiveEntry", kiosk, [](Bytes& d) { zero(d, 446, 66); },
              "write the protective entry (type EE from sector 1 on) into d1's first sector",
              "firmware-nothing-to-start", false},
        Shape{"Ignored", kiosk, entry(0, [](auto e) { e[48] |= 2U; }),
              "clear the attribute of d1p1 by which firmware ignores it", "uefi-partition-ignored"},
        Shape{"BesideItsVolume", kiosk, entry(0, [](auto e) { add(e, 32, 8); }),
              "let d1p1 begin at sector 2048, where its fat12 “KIOSK” lies (the table says 2056)",
              "uefi-nothing-to-start", true, uefi},
        Shape{"TooShort", kiosk, entry(1, [](auto e) { add(e, 40, -64); }),
              "let d1p2 be 20480 sectors long, as its file system is (the table says 20416)",
              "ext-larger-than-partition"},
        Shape{"EntryGone", kiosk, entry(0, [](auto e) { std::ranges::fill(e, std::uint8_t{0}); }),
              "put the fat12 “KIOSK” at sector 2048 of d1 back into the GPT, as partition 1", "uefi-nothing-to-start",
              false, uefi},
        Shape{"BothCopiesGone", kiosk,
              [](Bytes& d) {
                  zero(d, sector, 33 * sector);
                  zero(d, d.size() - 33 * sector, 33 * sector);
              },
              "write the GPT of d1 anew from the volumes on it, numbered from 1: fat12 “KIOSK” at 2048, ext4 at 18432",
              "uefi-nothing-to-start", false, uefi}),
    support::by_name);

// --- boot sectors and superblocks ------------------------------------------------------------------------------------

Bytes desk() { return demo::front_desk().build(); }
Bytes office() { return demo::office_pc().build(); }

INSTANTIATE_TEST_SUITE_P(
    Volumes, HarmedDisks,
    testing::Values(Shape{"NtfsBootSector", office, [](Bytes& d) { zero(d, 2048 * sector, sector); },
                          "restore the boot sector of d1p1 from its own copy at byte 4193792 of the partition (NTFS)",
                          "boot-sector-not-startable"},
                    Shape{"HiddenSectors", office,
                          [](Bytes& d) {
                              forge::put32(d, 2048 * sector + 28, 63);
                              zero(d, 2048 * sector + 4193792, sector);
                          },
                          "let the boot sector of d1p1 say that 2048 sectors lie before it (it says 63)",
                          "boot-code-does-nothing", false},
                    Shape{"FatTable", kiosk, [](Bytes& d) { zero(d, (2048 + 4) * sector, sector); },
                          "write the first allocation table of d1p1 anew from the second", "uefi-nothing-to-start",
                          true, uefi},
                    Shape{"ExtSuperblock", desk, [](Bytes& d) { zero(d, 2048 * sector + 1024, 1024); },
                          "restore the superblock of d1p1 from its backup at byte 8389632 of the partition",
                          "grub-prefix-file-system", false}),
    support::by_name);

// --- tables of logical partitions ------------------------------------------------------------------------------------

INSTANTIATE_TEST_SUITE_P(
    Logical, HarmedDisks,
    testing::Values(Shape{"Type", [] { return logical_desk(false); }, [](Bytes& d) { d[446 + 4] = 0x83; },
                          "set the type of d1p1 to 05 (extended): its first sector is the table of logical partitions "
                          "(its type is 83)",
                          "partition-entry-misplaced"},
                    Shape{"Mark", [] { return logical_desk(false); }, [](Bytes& d) { d[4096 * sector + 510] = 0; },
                          "write the mark 55 AA at the end of the table of a logical partition (sector 4096 of d1)",
                          "partition-entry-misplaced"},
                    Shape{"Entry", [] { return logical_desk(false); },
                          [](Bytes& d) { zero(d, 4096 * sector + 446, 16); },
                          "put the ext4 “frontdesk” at sector 6144 of d1 back into its table of logical partitions",
                          "partition-entry-misplaced", false},
                    Shape{"Link", [] { return logical_desk(true); }, [](Bytes& d) { zero(d, 4096 * sector + 462, 16); },
                          "let the table of logical partitions at sector 4096 of d1 go on to the one at sector 36864, "
                          "which describes "
                          "the ext4 “frontdesk” behind it",
                          "grub-prefix-device", false}),
    support::by_name);

// --- other entries of the same system --------------------------------------------------------------------------------

/// Replaces a text of a disk by one of the same length, wherever it stands.
std::function<void(Bytes&)> text(const std::string& from, const std::string& to) {
    return [from, to](Bytes& disk) {
        ASSERT_EQ(from.size(), to.size());
        std::size_t count = 0;
        for (auto at = disk.begin(); (at = std::search(at, disk.end(), from.begin(), from.end())) != disk.end();
             ++count)
            at = std::copy(to.begin(), to.end(), at);
        ASSERT_GT(count, 0U) << from;
    };
}
/// The front desk with a further entry, for a kernel that is not there.
std::function<Bytes()> desk_with_entries(const std::string& before, const std::string& variables = {}) {
    return [before, variables] {
        auto parts = demo::front_desk();
        const std::string body =
            std::string("root=UUID=") + demo::root_uuid + " ro\n initrd /boot/initrd.img-" + demo::release + "\n}\n";
        parts.root.file("/boot/grub/grub.cfg",
                        before + "menuentry 'Almhof today' --id today {\n linux /boot/vmlinuz-" + demo::release + " " +
                            body + "menuentry 'Almhof later' --id later {\n linux /boot/vmlinuz-7 " + body);
        std::string block = "# GRUB Environment Block\n" + variables;
        block.resize(1024, '#');
        parts.root.file("/boot/grub/grubenv", block);
        return parts.build();
    };
}

INSTANTIATE_TEST_SUITE_P(
    Defaults, HarmedDisks,
    testing::Values(Shape{"Grub", desk_with_entries("set timeout=1\nset default=\"0\"\n"),
                          text("default=\"0\"", "default=\"1\""),
                          "in d1p1:/boot/grub/grub.cfg, let “Almhof today” start unattended", "entry-kernel-missing"},
                    Shape{"GrubSaved",
                          desk_with_entries("load_env\nset default=\"${saved_entry}\"\nset timeout=1\n",
                                            "saved_entry=today\nkept=1\n"),
                          text("saved_entry=today", "saved_entry=later"),
                          "in d1p1:/boot/grub/grubenv, let “Almhof today” start unattended", "entry-kernel-missing",
                          false}),
    support::by_name);

// --- other loaders ---------------------------------------------------------------------------------------------------

/// The front desk behind a GUID table, GRUB's core in a BIOS boot partition.
Bytes gpt_desk() {
    auto parts = demo::front_desk();
    support::edit(parts.root, "/boot/grub/grub.cfg", "hd0,msdos1", "hd0,gpt2");
    support::edit(parts.root, "/boot/grub/grub.cfg", "insmod part_msdos", "insmod part_gpt");
    parts.root.file("/boot/grub/i386-pc/part_gpt.mod", forge::make_grub_module({"part_gpt", {}, {"grub_malloc"}, {}}));
    const auto core = forge::make_grub_core({.prefix = "(,gpt2)/boot/grub",
                                             .modules = {"fshelp", "ext2", "part_gpt", "biosdisk"},
                                             .first_sector = 2048,
                                             .redundancy = false});
    parts.root.file("/boot/grub/i386-pc/boot.img", whole_sector(forge::make_grub_boot(2048)));
    parts.root.file("/boot/grub/i386-pc/core.img", core);
    parts.root.file(today_ramdisk, forge::gzip(forge::make_cpio(parts.ramdisk)));
    auto ext = parts.ext;
    auto room = core;
    room.resize(std::size_t{2048} * sector);
    forge::DiskSpec disk;
    disk.gpt = true;
    disk.boot_code = forge::make_grub_boot(2048);
    disk.partitions = {{2048, room, 0x83, false}, {4096, forge::make_ext(parts.root, ext), 0x83, false}};
    auto out = forge::make_disk(disk);
    // 21686148-6449-6e6f-744e-656564454649
    const std::string bios_boot = "Hah!IdontNeedEFI";
    entry(0, [&](auto e) { std::ranges::copy(bios_boot, e.begin()); })(out);
    return out;
}
/// NT's older loader, with a list of one system.
Bytes older_pc() {
    const auto parts = demo::office_pc();
    auto files = parts.windows;
    files.file("/ntldr", forge::make_boot_manager()).file("/NTDETECT.COM", forge::noise(5000, 4));
    files.file("/Windows/System32/config/SYSTEM", forge::make_hive(parts.system_hive));
    files.file("/Windows/System32/config/SOFTWARE", forge::make_hive(parts.software_hive));
    files.file("/boot.ini",
               "[boot loader]\r\ntimeout=5\r\ndefault=multi(0)disk(0)rdisk(0)partition(1)\\WINDOWS\r\n"
               "[operating systems]\r\nmulti(0)disk(0)rdisk(0)partition(1)\\WINDOWS=\"Ledger\" /fastdetect\r\n");
    files.remove("/Windows/System32/winload.exe");
    forge::DiskSpec disk;
    disk.size = 32U << 20U;
    disk.boot_code = forge::make_plain_boot();
    disk.partitions = {
        {2048, forge::make_ntfs(files, {12U << 20U, 2048, 0xA1B0F00DA1B0F005ULL, "Ledger", "NTLDR"}), 7, true}};
    return forge::make_disk(disk);
}

INSTANTIATE_TEST_SUITE_P(
    Loaders, HarmedDisks,
    testing::Values(
        Shape{
            "GptFirstSector", gpt_desk, [](Bytes& d) { zero(d, 0, 440); },
            "write GRUB's first sector to d1 from d1p2:/boot/grub/i386-pc/boot.img, for its core image at sector 2048",
            "boot-code-empty"},
        Shape{"GptCore", gpt_desk, [](Bytes& d) { zero(d, 2048 * sector, 2048 * sector); },
              "write GRUB's core image to sector 2048 of d1 from d1p2:/boot/grub/i386-pc/core.img",
              "grub-core-first-sector", false},
        Shape{"LegacyFirstSector", legacy_desk, [](Bytes& d) { zero(d, 0, 440); },
              "write GRUB Legacy's first sector to d1 from d1p1:/boot/grub/stage1, for the stage behind it",
              "boot-code-empty"},
        Shape{"LegacyDefault", legacy_desk, text("default 0", "default 1"),
              "in d1p1:/boot/grub/menu.lst, let “Ledger” start unattended", "entry-kernel-missing"},
        Shape{"PlainFirstSector", guests_desk, [](Bytes& d) { zero(d, 0, 440); },
              "write boot code to d1's first sector from d1p2:/usr/lib/syslinux/mbr/mbr.bin", "boot-code-empty"},
        Shape{"OwnFirstSector", guests_desk, [](Bytes& d) { zero(d, 0, 440); },
              "write code of our own to d1's first sector, which starts the active partition", "boot-code-empty",
              false},
        Shape{"SyslinuxDefault", guests_desk, text("DEFAULT guests", "DEFAULT strays"),
              "in d1p1:/SYSLINUX/syslinux.cfg, let “guests” start unattended", "entry-kernel-missing"},
        Shape{"SystemdDefault", entries_kiosk, text("default today.conf", "default later.conf"),
              "in d1p1:/loader/loader.conf, let “Almhof today” start unattended", "kernel-refused-by-loader"},
        Shape{"BootIni", older_pc, text("partition(1)\\WINDOWS", "partition(7)\\WINDOWS"),
              "write d1p1:/boot.ini anew, with an entry for each of ", "entry-device-missing", false}),
    support::by_name);

}  // namespace
