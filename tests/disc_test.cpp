// SPDX-License-Identifier: MIT
// Optical media: the file system, the boot catalogue, and what starts from them.
#include <fmt/format.h>
#include <algorithm>
#include <nlohmann/json.hpp>

#include "help_disc.hpp"
#include "ondisk/squashfs.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;
using support::Checked;

namespace {

constexpr std::size_t block = 2048;

std::shared_ptr<const FileSystem> opened(const Bytes& image) {
    auto fs = open_file_system(support::source_of(image, "d1"), Reader::Kernel);
    EXPECT_TRUE(fs) << (fs ? "" : fs.error().text());
    return fs ? *fs : nullptr;
}

std::string text_of(const FileSystem& fs, const std::string& path) {
    const auto text = read_text_file(fs, path);
    return text ? *text : "error: " + text.error().what;
}

forge::Tree small_tree() {
    forge::Tree tree;
    tree.file("/welcome.txt", "Guten Tag\n")
        .file("/hut/rules of the house.txt", "Boots off.\n")
        .file("/hut/oven/wood", forge::noise(300000, 5));
    tree.link("/rules", "hut/rules of the house.txt")
        .link("/hut/up", "../welcome.txt")
        .link("/hut/absolute", "/hut/oven/wood")
        .directory("/empty");
    // A name and a target so long that their records go on elsewhere.
    tree.file("/" + std::string(180, 'n'), "long name\n")
        .link("/" + std::string(120, 'l'), "hut/./oven/../rules of the house.txt");
    return tree;
}

// --- files -------------------------------------------------------------------------------------------------------

TEST(Iso9660, RockRidgeGivesNamesLinksAndModes) {
    auto tree = small_tree();
    tree.file("/tool", "#!/bin/sh\n", 0755);
    const auto fs = opened(forge::make_disc(tree).bytes);
    ASSERT_TRUE(fs);
    EXPECT_EQ(fs->info().name(), "iso9660");
    EXPECT_EQ(fs->info().label, "ALMHOF_HELP");
    EXPECT_EQ(fs->info().uuid, "2025-11-03-06-30-00-00");
    EXPECT_FALSE(fs->ignores_case());
    EXPECT_EQ(text_of(*fs, "/rules"), "Boots off.\n");
    EXPECT_EQ(text_of(*fs, "/hut/up"), "Guten Tag\n");
    EXPECT_EQ(text_of(*fs, "/" + std::string(180, 'n')), "long name\n");
    EXPECT_EQ(text_of(*fs, "/" + std::string(120, 'l')), "Boots off.\n");
    const auto tool = resolve(*fs, "/tool");
    ASSERT_TRUE(tool);
    EXPECT_TRUE(tool->file.executable());
    EXPECT_EQ(tool->file.modified, 1762151400);
    const auto wood = resolve(*fs, "/hut/absolute");
    ASSERT_TRUE(wood);
    EXPECT_EQ(wood->file.size, 300000U);
    const auto source = fs->open(wood->file.id, "wood");
    ASSERT_TRUE(source);
    EXPECT_EQ((*source)->bytes(0, 300000).value(), forge::noise(300000, 5));
    EXPECT_FALSE(resolve(*fs, "/Welcome.txt")) << "Rock Ridge names have a case";
    EXPECT_EQ(fs->list(resolve(*fs, "/empty")->file.id)->size(), 0U);
}

TEST(Iso9660, JolietAndPlainNamesIgnoreCase) {
    forge::DiscOptions options;
    options.rock_ridge = false;
    auto tree = small_tree();
    tree.remove("/" + std::string(180, 'n'));
    auto fs = opened(forge::make_disc(tree, options).bytes);
    ASSERT_TRUE(fs);
    EXPECT_EQ(text_of(*fs, "/hut/Rules of the House.txt"), "Boots off.\n");
    EXPECT_FALSE(resolve(*fs, "/rules")) << "links need Rock Ridge";
    options.joliet = false;
    fs = opened(forge::make_disc(tree, options).bytes);
    ASSERT_TRUE(fs);
    EXPECT_EQ(text_of(*fs, "/welcome.txt"), "Guten Tag\n");
    const auto names = fs->list(fs->root());
    ASSERT_TRUE(names);
    EXPECT_TRUE(std::ranges::any_of(*names, [](const DirEntry& e) { return e.name == "welcome.txt"; }))
        << "lower case, without the version";
}

TEST(Iso9660, FilesOfSeveralPiecesAreOneFile) {
    forge::DiscOptions options;
    options.most_piece = 100000;
    const auto fs = opened(forge::make_disc(small_tree(), options).bytes);
    ASSERT_TRUE(fs);
    const auto wood = resolve(*fs, "/hut/oven/wood");
    ASSERT_TRUE(wood);
    EXPECT_EQ(wood->file.size, 300000U);
    EXPECT_EQ(fs->extents(wood->file.id)->size(), 4U);
    EXPECT_EQ((*fs->open(wood->file.id, "wood"))->bytes(0, 300000).value(), forge::noise(300000, 5));
    EXPECT_EQ(fs->list(resolve(*fs, "/hut/oven")->file.id)->size(), 1U);
}

TEST(Iso9660, HostileDirectoriesEndInErrors) {
    const auto disc = forge::make_disc(small_tree());
    const std::size_t root = 156 + 16 * block;
    const auto damaged = [&](std::size_t at, std::uint32_t value) {
        auto bytes = disc.bytes;
        forge::put32(bytes, at, value);
        return opened(bytes);
    };
    // The root past the end; 2 GiB of directory; a root that is its own first sector, which holds no records.
    EXPECT_FALSE(damaged(root + 2, 0x7FFFFFFF)->list(damaged(root + 2, 0x7FFFFFFF)->root()));
    const auto large = damaged(root + 10, 0x80000000U);
    EXPECT_FALSE(resolve(*large, "/nothing"));
    const auto first = damaged(root + 2, 0);
    EXPECT_FALSE(first->list(first->root()));
    // Every byte of the root directory's first record, turned around: nothing may crash or hang.
    const std::size_t at = 21 * block;
    for (std::size_t i = 0; i < 400; ++i) {
        auto bytes = disc.bytes;
        bytes[at + i] ^= 0xFFU;
        const auto fs = opened(bytes);
        ASSERT_TRUE(fs);
        if (const auto names = fs->list(fs->root()))
            for (const auto& entry : *names) {
                (void)fs->stat(entry.id);
                (void)fs->extents(entry.id);
                if (entry.type == FileType::Directory) (void)fs->list(entry.id);
            }
    }
}

TEST(Iso9660, AContinuationThatNamesItselfEnds) {
    auto disc = forge::make_disc(small_tree());
    // Find a CE entry and let its area begin with itself.
    auto& bytes = disc.bytes;
    std::size_t found = 0;
    for (std::size_t i = 20 * block; i + 28 < bytes.size() && found == 0; ++i)
        if (bytes[i] == 'C' && bytes[i + 1] == 'E' && bytes[i + 2] == 28) found = i;
    ASSERT_NE(found, 0U);
    const std::size_t area = forge::get32(bytes, found + 4) * block;
    std::copy_n(bytes.begin() + static_cast<std::ptrdiff_t>(found), 28,
                bytes.begin() + static_cast<std::ptrdiff_t>(area));
    const auto fs = opened(bytes);
    ASSERT_TRUE(fs);
    (void)fs->list(fs->root());
}

// --- the boot catalogue ------------------------------------------------------------------------------------------

TEST(BootCatalogue, TellsImagesOfBothKinds) {
    const auto disc = demo::help_disc().build();
    const auto catalogue = read_boot_catalogue(*support::source_of(disc.bytes));
    ASSERT_TRUE(catalogue);
    EXPECT_FALSE(catalogue->refused);
    EXPECT_TRUE(catalogue->checksum_holds);
    ASSERT_EQ(catalogue->images.size(), 2U);
    EXPECT_EQ(catalogue->images[0].platform, 0);
    EXPECT_EQ(catalogue->images[0].sectors, 4U);
    EXPECT_EQ(catalogue->images[0].offset, disc.first_block.at(demo::help_image) * block);
    EXPECT_EQ(catalogue->images[1].platform, 0xEF);
    EXPECT_TRUE(catalogue->images[1].bootable);
}

/// UEFI firmware takes each entry that has the mark of one, up to the end of the catalogue's block.
TEST(BootCatalogue, ListsEntriesUpToTheEndOfItsBlock) {
    const auto bytes = demo::help_disc().build().bytes;
    const auto at = read_boot_catalogue(*support::source_of(bytes))->offset;
    for (const auto& [place, taken] : {std::pair{block - 64, true}, {block - 32, true}, {block - 16, false}}) {
        auto more = bytes;
        more[at + place] = 0x88;
        forge::put32(more, at + place + 8, 0x1234);
        const auto images = read_boot_catalogue(*support::source_of(more))->images;
        ASSERT_EQ(images.size(), taken ? 3U : 2U) << place;
        if (!taken) continue;
        EXPECT_EQ(images[2].entry_at, at + place);
        EXPECT_EQ(images[2].offset, std::uint64_t{0x1234} * block);
        EXPECT_EQ(images[2].number, 3);
        EXPECT_FALSE(images[2].listed);
        EXPECT_TRUE(images[2].bootable);
    }
}

struct Refusal {
    const char* name;
    std::size_t offset;
    std::uint8_t value;
    int code;
};
class Catalogue : public testing::TestWithParam<Refusal> {};
TEST_P(Catalogue, IsRefusedAsTheFirmwareDoes) {
    auto help = demo::help_disc();
    help.options.hybrid = false;
    auto bytes = help.build().bytes;
    const auto catalogue = read_boot_catalogue(*support::source_of(bytes));
    ASSERT_TRUE(catalogue);
    bytes[catalogue->offset + GetParam().offset] = GetParam().value;
    const auto machine = support::machine_of(bytes);
    CheckOptions options;
    options.firmware = FirmwareKind::Bios;
    const auto verdict = check(machine, options);
    EXPECT_EQ(verdict.systems.front().stops_at, Stage::Firmware);
    const auto& symptom = verdict.systems.front().symptom;
    EXPECT_NE(symptom.find(fmt::format("(code {:04x})", GetParam().code)), std::string::npos) << symptom;
}
INSTANTIATE_TEST_SUITE_P(Disc, Catalogue,
                         testing::Values(Refusal{"header", 0, 2, 8}, Refusal{"platform", 1, 0xEF, 9},
                                         Refusal{"key", 30, 0, 10}, Refusal{"entry", 32, 0, 11}),
                         support::by_name);

TEST(BootCatalogue, AWrongChecksumIsARiskOnly) {
    auto help = demo::help_disc();
    help.options.hybrid = false;
    auto bytes = help.build().bytes;
    bytes[read_boot_catalogue(*support::source_of(bytes))->offset + 6] = 1;
    const Checked checked(bytes);
    EXPECT_TRUE(checked.has(Code::DiscCatalogueChecksum));
    EXPECT_NE(checked.stage(), "firmware");
}

// --- what starts -------------------------------------------------------------------------------------------------

/// A change to the help disc, in a drive or as a stick, and the stage at which its system then stops ("unknown": not
/// told).
struct Change {
    const char* name;
    std::function<void(demo::HelpDisc&)> change;
    const char* stage;
    std::optional<Code> code;
};
class HelpDiscs : public testing::TestWithParam<Change> {};
TEST_P(HelpDiscs, StopWhereTheyShould) {
    for (const bool hybrid : {true, false}) {
        auto help = demo::help_disc();
        help.options.hybrid = hybrid;
        GetParam().change(help);
        const Checked checked(help.build().bytes);
        EXPECT_EQ(checked.stage(), GetParam().stage)
            << (hybrid ? "as a stick: " : "in a drive: ") << checked.system().symptom;
        if (GetParam().code) EXPECT_TRUE(checked.has(*GetParam().code)) << *GetParam().code;
        EXPECT_EQ(checked.system().kind, SystemKind::Medium);
        EXPECT_EQ(checked.system().name, "Almhof Help 4 (Murmeltier)");
    }
}
void edit_config(demo::HelpDisc& disc, const std::string& from, const std::string& to) {
    auto& bytes = disc.files.at(demo::help_config).content;
    std::string text(bytes.begin(), bytes.end());
    text.replace(text.find(from), from.size(), to);
    bytes = forge::to_bytes(text);
}
/// The RAM disk without some of its drivers; `told`: it says which drivers the kernel has built in, and that is none.
void repack_ramdisk(demo::HelpDisc& disc, const std::vector<std::string>& without, bool told) {
    auto files = demo::front_desk().ramdisk;
    const std::string modules = std::string("/lib/modules/") + demo::release;
    for (const std::string name : {"isofs", "vfat", "squashfs", "overlay", "loop"})
        if (std::ranges::find(without, name) == without.end())
            files.file(modules + "/kernel/fs/" + name + ".ko", forge::make_kernel_module(name));
    if (told) files.file(modules + "/modules.builtin", "kernel/fs/binfmt_elf.ko\n");
    disc.files.file("/live/initrd.img", forge::gzip(forge::make_cpio(files)));
}
INSTANTIATE_TEST_SUITE_P(
    Disc, HelpDiscs,
    testing::Values(
        Change{"whole", [](demo::HelpDisc&) {}, "yes", {}},
        Change{"no_table", [](demo::HelpDisc& d) { d.options.boot_information = false; }, "yes", {}},
        Change{"no_core_module", [](demo::HelpDisc& d) { d.files.remove("/boot/isolinux/ldlinux.c32"); }, "loader",
               Code::SyslinuxCoreModuleMissing},
        Change{"no_kernel", [](demo::HelpDisc& d) { d.files.remove(demo::help_kernel); }, "entry",
               Code::EntryKernelMissing},
        Change{"renamed_kernel", [](demo::HelpDisc& d) { edit_config(d, "/live/vmlinuz", "/live/Vmlinuz"); }, "entry",
               Code::EntryKernelMissing},
        Change{"no_ramdisk", [](demo::HelpDisc& d) { d.files.remove("/live/initrd.img"); }, "ramdisk",
               Code::RamdiskMissing},
        Change{"no_root", [](demo::HelpDisc& d) { d.files.remove(demo::help_root); }, "root", Code::MediumRootMissing},
        Change{"cut_root", [](demo::HelpDisc& d) { d.files.at(demo::help_root).content.resize(1000); }, "root",
               Code::MediumRootDamaged},
        Change{"root_unreadable",
               [](demo::HelpDisc& d) { forge::put64(d.files.at(demo::help_root).content, 64, 0xFFFFFF); }, "root",
               Code::MediumRootDamaged},
        Change{"no_init",
               [](demo::HelpDisc& d) {
                   auto root = demo::help_root_files();
                   d.files.file(demo::help_root, forge::make_squashfs(root.remove("/usr/bin/busybox")));
               },
               "init", Code::ProgramLinkDangling},
        Change{"no_start_script",
               [](demo::HelpDisc& d) {
                   auto root = demo::help_root_files();
                   d.files.file(demo::help_root, forge::make_squashfs(root.remove("/etc/init.d/rcS")));
               },
               "services", Code::ServicesProgramMissing},
        Change{"no_driver_for_it", [](demo::HelpDisc& d) { repack_ramdisk(d, {"squashfs"}, true); }, "root",
               Code::RamdiskNoFileSystemDriver},
        Change{"driver_not_told", [](demo::HelpDisc& d) { repack_ramdisk(d, {"overlay"}, false); }, "unknown", {}},
        Change{"image_inside",
               [](demo::HelpDisc& d) {
                   forge::ExtOptions ext;
                   ext.size = 4U << 20U;
                   forge::Tree outer;
                   outer.file("/LiveOS/rootfs.img", forge::make_ext(demo::help_root_files(), ext));
                   d.files.remove(demo::help_root).file("/LiveOS/squashfs.img", forge::make_squashfs(outer));
                   edit_config(d, "boot=live", "rd.live.image");
               },
               "yes",
               {}},
        Change{"two_layers",
               [](demo::HelpDisc& d) { d.files.file("/live/more.squashfs", d.files.at(demo::help_root).content); },
               "unknown",
               {}},
        Change{"other_entries",
               [](demo::HelpDisc& d) {
                   d.files.file(demo::help_config, "DEFAULT next\nPROMPT 1\nLABEL next\n  LOCALBOOT -1\n");
                   d.files.file("/sources/boot.wim", "MSWIM");
               },
               "unknown",
               {}},
        Change{"installer", [](demo::HelpDisc& d) { edit_config(d, " boot=live", ""); }, "unknown", {}}),
    support::by_name);

TEST(Disc, TheDriversThatItsRootLacksAreNamed) {
    for (const auto& [without, lacks] : std::initializer_list<std::pair<std::vector<std::string>, std::string>>{
             {{"squashfs"}, "squashfs, and the RAM disk does not bring it"},
             {{"squashfs", "overlay"}, "squashfs, overlay, and the RAM disk does not bring them"},
             {{"loop"}, "loop, and the RAM disk does not bring it"}}) {
        auto help = demo::help_disc();
        repack_ramdisk(help, without, true);
        const Checked checked(help.build().bytes);
        ASSERT_EQ(checked.stage(), "root") << lacks;
        const auto& rung = checked.system().at(Stage::Root);
        EXPECT_EQ(rung.text, "to mount the packed root the kernel needs " + lacks);
        EXPECT_EQ(rung.findings, std::vector<Code>{Code::RamdiskNoFileSystemDriver});
        ASSERT_EQ(rung.evidence.size(), 1U);
        EXPECT_EQ(rung.evidence[0].place, "RAM disk:/lib/modules");
        EXPECT_EQ(rung.evidence[0].expected, lacks.substr(0, lacks.find(", and")));
        EXPECT_EQ(checked.system().at(Stage::Ramdisk).state, State::Holds);
        EXPECT_EQ(checked.system().at(Stage::Init).state, State::NotReached);
        EXPECT_EQ(checked.system().symptom, "Unable to find a medium containing a live file system");
    }
}

/// A packed root is mounted through a loop device, which has whole sectors only (Linux, drivers/block/loop.c); the
/// driver wants all bytes that the superblock counts (fs/squashfs/super.c).
TEST(Disc, APackedRootIsWholeByItsSectors) {
    const auto root = forge::make_squashfs(demo::help_root_files());
    const auto used = *(*support::source_of(root)).load<ondisk::little_uint64_t>(40);
    const auto sectors = (used + 511) / 512 * 512;
    ASSERT_NE(used % 512, 0U) << "the edge is to lie within a sector";
    ASSERT_GE(root.size(), sectors);
    for (const auto& [size, whole] :
         {std::pair{sectors, true}, {sectors - 1, false}, {used, false}, {used - 1, false}}) {
        auto help = demo::help_disc();
        auto cut = root;
        cut.resize(size);
        help.files.file(demo::help_root, cut);
        const Checked checked(help.build().bytes);
        EXPECT_EQ(checked.stage(), whole ? "yes" : "root") << size << " of " << used;
        if (whole) continue;
        const auto& rung = checked.system().at(Stage::Root);
        EXPECT_EQ(rung.findings, std::vector<Code>{Code::MediumRootDamaged});
        EXPECT_EQ(rung.text, fmt::format("d1p1:/live/help.squashfs is cut short: its file system has {} bytes, and a "
                                         "loop device gives {} of them",
                                         used, size / 512 * 512));
    }
}

TEST(Disc, AScratchInTheLoaderIsSeenByItsChecksum) {
    const auto image = demo::help_discs().at(2).make();
    const Checked checked(image);
    EXPECT_EQ(checked.stage(), "loader");
    EXPECT_TRUE(checked.has(Code::IsolinuxImageDamaged));
    EXPECT_NE(checked.system().symptom.find("Image checksum error"), std::string::npos);
}

TEST(Disc, AHybridsFirstSectorMustLeadToTheImage) {
    auto image = demo::help_disc().build().bytes;
    image[0x1B0] ^= 4U;
    const Checked checked(image);
    EXPECT_EQ(checked.stage(), "boot-code");
    EXPECT_TRUE(checked.has(Code::IsolinuxPointer));
    EXPECT_EQ(checked.system().symptom, "isolinux.bin missing or corrupt.");
}

TEST(Disc, StartsByUefiFromItsBootCatalogue) {
    auto help = demo::help_disc();
    for (const bool without_manager : {false, true}) {
        if (without_manager) help.esp.remove("/EFI/BOOT/BOOTX64.EFI");
        auto machine = support::machine_of(help.build().bytes);
        into_optical_drive(machine.disks.front());
        CheckOptions options;
        options.firmware = FirmwareKind::Uefi;
        const auto verdict = check(machine, options);
        const auto& system = verdict.systems.front();
        if (without_manager) {
            EXPECT_EQ(system.stops_at, Stage::Firmware);
            continue;
        }
        EXPECT_EQ(system.at(Stage::Firmware).state, State::Holds);
        EXPECT_NE(system.at(Stage::Firmware).text.find("d1c2:/EFI/BOOT/BOOTX64.EFI"), std::string::npos)
            << system.at(Stage::Firmware).text;
        EXPECT_FALSE(system.stops_at) << system.symptom;
    }
}

/// The help disc in a drive with one byte changed, started by UEFI firmware: its catalogue's validation entry must be
/// whole, and neither platforms nor the sections' counts matter (EDK II; really started,
/// conformance/faults/discs.faults).
struct UefiByte {
    const char* name;
    bool in_catalogue;
    std::size_t offset;
    std::uint8_t value;
    const char* why;  ///< empty: it starts
};
class CatalogueForUefi : public testing::TestWithParam<UefiByte> {};
TEST_P(CatalogueForUefi, CountsWhereItIsWhole) {
    const auto& [name, in_catalogue, offset, value, why] = GetParam();
    auto bytes = demo::help_disc().build().bytes;
    const auto catalogue = read_boot_catalogue(*support::source_of(bytes));
    ASSERT_TRUE(catalogue);
    const std::size_t at = (in_catalogue ? catalogue->offset : 0) + offset;
    ASSERT_NE(bytes[at], value) << "the byte is to be another";
    bytes[at] = value;
    auto machine = support::machine_of(bytes);
    into_optical_drive(machine.disks.front());
    CheckOptions options;
    options.firmware = FirmwareKind::Uefi;
    const auto verdict = check(machine, options);
    const auto& system = verdict.systems.front();
    if (*why == 0) {
        EXPECT_EQ(system.starts, Starts::Yes) << system.symptom;
        EXPECT_NE(system.at(Stage::Firmware).text.find("d1c2:/EFI/BOOT/BOOTX64.EFI"), std::string::npos);
        return;
    }
    ASSERT_TRUE(system.stops_at);
    EXPECT_LE(*system.stops_at, Stage::PartitionTable);
    const auto& rung = system.at(*system.stops_at);
    EXPECT_NE(rung.text.find(why), std::string::npos) << rung.text;
    EXPECT_EQ(rung.findings, std::vector<Code>{*system.stops_at == Stage::PartitionTable ? Code::UefiCatalogueRefused
                                                                                         : Code::UefiNothingToStart});
    EXPECT_TRUE(
        std::ranges::any_of(rung.evidence, [](const Evidence& e) { return !e.expected.empty() && !e.found.empty(); }));
    EXPECT_EQ(system.at(Stage::Kernel).state, State::NotReached);
    EXPECT_NE(system.symptom.find("Not Found"), std::string::npos) << system.symptom;
}
constexpr std::size_t boot_record = 17 * block;
INSTANTIATE_TEST_SUITE_P(
    Disc, CatalogueForUefi,
    testing::Values(
        UefiByte{"Whole", true, 2047, 1, ""},
        UefiByte{
            "NoDescriptorsInFront", false, 16 * block + 1, 'X',
            "the list of volume descriptors ends before the boot record: the firmware takes nothing from d1's boot "
            "catalogue"},
        UefiByte{"RecordOfAnotherKind", false, boot_record, 1,
                 "sector 17 is not a boot record: the firmware takes nothing from d1's boot catalogue"},
        UefiByte{"RecordWithoutItsName", false, boot_record + 3, 'X', "sector 17 is not a boot record"},
        UefiByte{"NoRecord", false, boot_record + 9, 'X', "the disc has no boot record"},
        UefiByte{"NoHeader", true, 0, 2, "the boot catalogue does not begin with a validation entry"},
        UefiByte{"NoKey", true, 30, 0, "the boot catalogue's validation entry lacks its mark"},
        UefiByte{"AnotherSum", true, 6, 1, "the boot catalogue's validation entry fails its checksum"},
        UefiByte{"FirstIsNotForStarting", true, 32, 0, ""}, UefiByte{"SectionForAnotherPlatform", true, 65, 0, ""},
        UefiByte{"SectionWithoutEntries", true, 66, 0, ""},
        UefiByte{"ImageNotForStarting", true, 96, 0, "no FAT volume"}),
    support::by_name);

TEST(Disc, WithoutABootRecordABiosSaysSo) {
    auto image = demo::help_disc().build().bytes;
    struct Row {
        std::size_t at;
        std::uint8_t value;
        std::string screen, why;
    };
    for (const auto& [at, value, screen, why] : std::initializer_list<Row>{
             {17 * block + 7, 'X', "0005", "no medium is one that a BIOS would start: the disc has no boot record"},
             {17 * block, 1, "0004", "no medium is one that a BIOS would start: sector 17 is not a boot record"},
             {17 * block + 2, 'X', "0005",
              "no medium is one that a BIOS would start: the boot record lacks the mark of a volume descriptor"},
             {17 * block + 6, 2, "0005",
              "no medium is one that a BIOS would start: the boot record lacks the mark of a volume descriptor"}}) {
        auto bytes = image;
        bytes[at] = value;
        // As a stick it starts: nothing there asks for the boot record.
        EXPECT_EQ(Checked(bytes).stage(), "yes") << at;
        auto machine = support::machine_of(bytes);
        into_optical_drive(machine.disks.front());
        ASSERT_TRUE(machine.disks.front().optical) << at;
        CheckOptions options;
        options.firmware = FirmwareKind::Bios;
        const auto verdict = check(machine, options);
        const auto& system = verdict.systems.front();
        EXPECT_EQ(system.stops_at, Stage::Firmware) << at;
        EXPECT_EQ(system.at(Stage::Firmware).text, why);
        EXPECT_EQ(system.at(Stage::Firmware).findings, std::vector<Code>{Code::FirmwareNothingToStart});
        EXPECT_EQ(system.symptom, "Boot failed: Could not read from CDROM (code " + screen + ")\nNo bootable device.");
        EXPECT_EQ(system.name, "Almhof Help 4 (Murmeltier)");
    }
    // Both at once: the first byte is looked at first.
    image[17 * block] = 1;
    image[17 * block + 9] = 'X';
    const auto none = no_boot_catalogue(*support::source_of(image));
    EXPECT_EQ(none.refusal_code, 4);
    EXPECT_EQ(none.refused->place, "d1p1:/file byte 34823");
    // A medium that ends before it.
    EXPECT_EQ(no_boot_catalogue(*support::source_of(Bytes(17 * block))).refusal_code, 3);
    // What is no disc stays where it is.
    auto desk = support::machine_of(demo::front_desk().build());
    into_optical_drive(desk.disks.front());
    EXPECT_FALSE(desk.disks.front().optical);
    EXPECT_FALSE(desk.disks.front().catalogue);
}

/// How much of the boot image the catalogue has loaded, and to which segment.
TEST(Disc, TheBootImageIsLoadedAsTheCatalogueSays) {
    auto help = demo::help_disc();
    help.options.hybrid = false;
    const auto image = help.build().bytes;
    const auto at = read_boot_catalogue(*support::source_of(image))->offset + 32;
    struct Row {
        std::size_t offset;
        std::uint16_t value;
        std::string why, expected, found;
    };
    for (const auto& [offset, value, why, expected, found] : std::initializer_list<Row>{
             {6, 0, "the boot catalogue has the firmware load no sector of d1 boot image 1", "4 sectors, as usual",
              "0"},
             {6, 1, "", "", ""},
             {2, 0x07C0, "", "", ""},
             {2, 0x2000,
              "the boot catalogue has ISOLINUX put to segment 2000, and its code is made for 07c0: it jumps to where "
              "nothing lies",
              "0000 or 07c0", "2000"},
             {2, 0x07C1,
              "the boot catalogue has ISOLINUX put to segment 07c1, and its code is made for 07c0: it jumps to where "
              "nothing lies",
              "0000 or 07c0", "07c1"}}) {
        auto bytes = image;
        forge::put16(bytes, at + offset, value);
        const Checked checked(bytes);
        if (why.empty()) {
            EXPECT_EQ(checked.stage(), "yes") << offset << " " << value;
            continue;
        }
        ASSERT_EQ(checked.stage(), "boot-code") << why;
        const auto& rung = checked.system().at(Stage::BootCode);
        EXPECT_EQ(rung.text, why);
        EXPECT_EQ(rung.findings, std::vector<Code>{Code::DiscImageMisloaded});
        ASSERT_EQ(rung.evidence.size(), 1U);
        EXPECT_EQ(rung.evidence[0].range, (DiskRange{1, at + offset, 2}));
        EXPECT_EQ(rung.evidence[0].expected, expected);
        EXPECT_EQ(rung.evidence[0].found, found);
        EXPECT_EQ(checked.system().at(Stage::Firmware).state, State::Holds);
        EXPECT_EQ(checked.system().at(Stage::Loader).state, State::NotReached);
        EXPECT_EQ(checked.system().symptom, "(nothing: the screen stays as the firmware left it)");
    }
}

/// A stick whose first sector lost its mark is a disk that does not start, not a disc in a drive.
/// What the layout says of a catalogue that each kind of firmware refuses for a reason of its own.
TEST(Disc, TheLayoutSaysWhoTakesNothingFromTheCatalogue) {
    auto help = demo::help_disc();
    help.options.hybrid = false;
    auto image = help.build().bytes;
    const support::Folder folder;
    const auto layout = [&](const std::string& more) {
        return support::shell("NO_COLOR=1 COLUMNS=160 " TOOL_PATH " layout " + folder.write("disc.iso", image) + more);
    };
    const auto catalogue = [&] {
        return nlohmann::json::parse(layout(" --format json").out).at("disks").at(0).at("boot_catalogue");
    };
    EXPECT_EQ(catalogue().at("refused"), nullptr);
    EXPECT_EQ(catalogue().at("passed_over"), nullptr);
    EXPECT_EQ(layout("").out.find("takes nothing"), std::string::npos);
    const auto at = read_boot_catalogue(*support::source_of(image))->offset;
    image[at + 6] ^= 1U;
    EXPECT_EQ(catalogue().at("refused"), nullptr);
    EXPECT_EQ(catalogue().at("passed_over"), "the boot catalogue's validation entry fails its checksum");
    EXPECT_NE(layout("").out.find(fmt::format("  UEFI firmware takes nothing from it: d1 byte {}: the boot catalogue's "
                                              "validation entry fails its checksum",
                                              at)),
              std::string::npos);
    EXPECT_EQ(layout("").out.find("a BIOS takes nothing"), std::string::npos);
    image[at + 6] ^= 1U;
    image[at + 32] = 0;
    EXPECT_EQ(catalogue().at("refused"), "the boot catalogue's first entry is marked as not bootable");
    EXPECT_EQ(catalogue().at("passed_over"), nullptr);
    EXPECT_NE(
        layout("").out.find(fmt::format(
            "  a BIOS takes nothing from it: d1 byte {}: the boot catalogue's first entry is marked as not bootable",
            at + 32)),
        std::string::npos);
    EXPECT_EQ(layout("").out.find("UEFI firmware takes nothing"), std::string::npos);
}

TEST(Disc, AHybridWithoutItsMarkIsStillADisk) {
    auto image = demo::help_disc().build().bytes;
    image[511] = 0;
    const Checked checked(image);
    EXPECT_FALSE(checked.machine.disks.front().optical);
    EXPECT_EQ(checked.stage(), "firmware");
    EXPECT_EQ(checked.system().at(Stage::Firmware).findings, std::vector<Code>{Code::FirmwareNothingToStart});
    // Without code, or without a first entry, it was never made for a disk.
    auto bare = image;
    std::fill_n(bare.begin(), 440, std::uint8_t{0});
    EXPECT_TRUE(Checked(bare).machine.disks.front().optical);
    bare = image;
    std::fill_n(bare.begin() + 446, 64, std::uint8_t{0});
    EXPECT_TRUE(Checked(bare).machine.disks.front().optical);
    bare = image;
    bare[446] = 7;
    EXPECT_TRUE(Checked(bare).machine.disks.front().optical);
}

TEST(Disc, WhatAnEarlierImageLeftIsNoDisc) {
    // A stick that held a disc's image, with partitions made anew that go on behind its end.
    auto image = demo::help_disc().build().bytes;
    image[17 * block + 9] = 'X';
    image.resize(image.size() + (2U << 20U));
    const auto sectors = static_cast<std::uint32_t>(image.size() / 512 - 4096);
    forge::put32(image, 446 + 8, 4096);
    forge::put32(image, 446 + 12, sectors);
    image[446 + 4] = 0x83;
    const auto whole = [](const Bytes& bytes) { return support::machine_of(bytes).volume(1, 0) != nullptr; };
    EXPECT_FALSE(whole(image));
    // One that ends with it lies within.
    const auto end = forge::get32(image, 16 * block + 80) * 4;
    forge::put32(image, 446 + 12, end - 4096);
    EXPECT_TRUE(whole(image));
    forge::put32(image, 446 + 12, end - 4096 + 1);
    EXPECT_FALSE(whole(image));
}

TEST(Disc, MenusOfItsBootImagesCanBeReadWithoutAWalk) {
    const auto machine = support::machine_of(demo::help_disc().build().bytes);
    const auto menus = read_menus(machine);
    const auto found = std::ranges::find(menus, std::string("d1c2:/loader/loader.conf"), &Menu::place);
    ASSERT_NE(found, menus.end());
    ASSERT_EQ(found->entries.size(), 1U);
    EXPECT_EQ(found->entries.front().kernel.front().volume, machine.volume(1, -2))
        << "what it points to must outlive the reading";
}

TEST(Disc, AnEmulatedDiskTakesTheDiscsPlace) {
    forge::Tree tree;
    tree.file("/desk.img", demo::front_desk().build()).file("/.disk/info", "Almhof Desk on a disc\n");
    forge::DiscOptions options;
    options.boot_image = "/desk.img";
    for (const std::uint8_t emulation : {std::uint8_t{4}, std::uint8_t{2}, std::uint8_t{9}}) {
        options.emulation = emulation;
        const Checked checked(forge::make_disc(tree, options).bytes);
        const auto& system = checked.system();
        if (emulation == 4) {
            EXPECT_EQ(checked.stage(), "yes") << system.symptom;
            EXPECT_EQ(system.name, "Almhof Desk 4 (Enzian)");
            EXPECT_NE(system.at(Stage::Firmware).text.find("as a hard disk"), std::string::npos);
        } else if (emulation == 2) {
            // Cut to the size of a floppy disk, the loader is there and its files are not.
            EXPECT_EQ(system.at(Stage::Firmware).state, State::Holds);
            EXPECT_NE(checked.stage(), "yes");
        } else {
            EXPECT_NE(checked.stage(), "yes");
        }
    }
}

TEST(Disc, TheLayoutTellsTheCatalogueAndSectorsOfItAreNamed) {
    const auto machine = support::machine_of(demo::help_discs().at(1).make());
    const auto& disk = machine.disks.front();
    ASSERT_TRUE(disk.optical);
    EXPECT_EQ(disk_names(disk).grub, "cd");
    const auto catalogue = view_sector(disk, disk.catalogue->offset / 512);
    ASSERT_TRUE(catalogue);
    EXPECT_EQ(catalogue->kind, "boot catalogue (El Torito)");
    const auto image = view_sector(disk, disk.catalogue->images.front().offset / 512);
    ASSERT_TRUE(image);
    const auto sum = std::ranges::find(image->fields, std::string("boot information.checksum"), &Field::name);
    ASSERT_NE(sum, image->fields.end());
    EXPECT_EQ(sum->meaning, "it holds");
}

}  // namespace
