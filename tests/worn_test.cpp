// SPDX-License-Identifier: MIT
// Media that do not give all of their sectors: how each loader, firmware and kernel really goes on, and what is said of
// it. What is expected here was seen on machines (conformance/faults/worn.faults).
#include "bytes/lost.hpp"
#include "desks.hpp"
#include "firmware/fat_blocks.hpp"
#include "loader/family.hpp"
#include "office_pc.hpp"
#include "system/lost_root.hpp"

using namespace herberge;
using support::Bytes;

namespace {

constexpr std::uint64_t sector = 512;
const std::string kernel = support::today_kernel;
const std::string ramdisk = support::today_ramdisk;

/// Byte of the disk where byte `at` of a file lies.
std::uint64_t place_on(const Bytes& image, int partition, const std::string& path, std::uint64_t at = 0) {
    const auto machine = support::machine_of(image);
    const auto volume = machine.volume(1, partition);
    const auto found = resolve(*volume->files(Observer::Loader), path);
    EXPECT_TRUE(found) << path;
    if (!found) return 0;
    const auto file = volume->files(Observer::Loader)->open(found->file.id, path);
    return (*file)->locate(at, 1).front().offset / sector * sector;
}
std::uint64_t size_of(const Bytes& image, int partition, const std::string& path) {
    const auto machine = support::machine_of(image);
    return resolve(*machine.volume(1, partition)->files(Observer::Loader), path)->file.size;
}

/// A machine whose disk refuses the sectors that begin at these bytes.
struct Worn {
    Machine machine;
    Verdict verdict;
    std::shared_ptr<const DamagedSource> disk;

    Worn(const Bytes& image, const std::vector<std::uint64_t>& lost, FirmwareKind firmware = FirmwareKind::Auto) {
        std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges;
        for (const auto at : lost) ranges.emplace_back(at, sector);
        disk = with_unreadable(memory_source(image, "d1", 1), ranges);
        machine.disks.push_back(inspect_disk(disk, 1, "worn.img"));
        assemble_layers(machine);
        CheckOptions options;
        options.firmware = firmware;
        verdict = check(machine, options);
        for (const auto& finding : verdict.findings) support::expect_screen_of_table(finding);
    }
    [[nodiscard]] const SystemVerdict& system() const { return verdict.systems.front(); }
    [[nodiscard]] const StageState& at(Stage stage) const { return system().at(stage); }
    /// The stage that it stops at, with the code that says why; else how it starts.
    [[nodiscard]] std::string end() const {
        if (!system().stops_at) return std::string(starts_id(system().starts));
        const auto& codes = at(*system().stops_at).findings;
        return std::string(stage_id(*system().stops_at)) + " " +
               std::string(codes.empty() ? "" : code_id(codes.back()));
    }
    /// Whether the evidence of a stage has the sector at this byte.
    [[nodiscard]] bool shows(Stage stage, std::uint64_t byte) const {
        return std::ranges::any_of(at(stage).evidence, [&](const Evidence& e) {
            return (e.range && e.range->offset <= byte &&
                    byte < e.range->offset + std::max<std::uint64_t>(e.range->length, 1)) ||
                   e.place.find("@" + std::to_string(byte)) != std::string::npos;
        });
    }
};

bool has(const std::string& text, const std::string& part) { return text.find(part) != std::string::npos; }

// --- bytes -----------------------------------------------------------------------------------------------------------

TEST(LostBytes, AreFoundWhereverTheyLie) {
    Bytes bytes(600'000);
    const auto lost = with_unreadable(memory_source(bytes, "d1", 1), {{599'999, 1}});
    ASSERT_TRUE(lost_within(*lost));
    EXPECT_EQ(lost_within(*lost)->byte, 599'999U);
    EXPECT_FALSE(lost_within(*lost, 0, 599'999)) << "the byte before is the last one that is asked for";
    EXPECT_TRUE(lost_within(*lost, 599'999, 1));
    EXPECT_FALSE(lost_within(*lost, 600'000)) << "nothing lies behind the end";
    EXPECT_FALSE(lost_within(*memory_source({}, "d1", 1)));
}

TEST(LostBytes, AreZerosToWhoGoesOn) {
    Bytes bytes(4096, 7);
    const auto base = with_unreadable(memory_source(bytes, "d1", 1), {{1024, 1}});
    const auto source = zeros_for_losses(base);
    const auto got = source->bytes(100, 3000);
    ASSERT_TRUE(got);
    for (std::size_t i = 0; i < got->size(); ++i)
        ASSERT_EQ((*got)[i], i + 100 >= 1024 && i + 100 < 1536 ? 0 : 7) << i + 100;
    EXPECT_FALSE(source->bytes(4000, 200)) << "what is not there is no zero";
    EXPECT_EQ(source->locate(5, 1).front().offset, 5U);
}

TEST(LostBytes, ThatWereWrittenAnewAreThereAgain) {
    const auto base = with_unreadable(memory_source(Bytes(2048, 7), "d1", 1), {{512, 512}});
    const auto written = overlay(base);
    EXPECT_FALSE(written->bytes(0, 1024));
    ASSERT_TRUE(written->write(512, Bytes(512, 9)));
    const auto all = written->bytes(0, 2048);
    ASSERT_TRUE(all) << "nothing is asked of the base where something lies over it";
    EXPECT_EQ((*all)[511], 7);
    EXPECT_EQ((*all)[512], 9);
    EXPECT_EQ((*all)[1023], 9);
    EXPECT_EQ((*all)[1024], 7);
    ASSERT_TRUE(written->bytes(600, 10));
    EXPECT_FALSE(written->bytes(2000, 100));
}

// --- GRUB 2 ----------------------------------------------------------------------------------------------------------

TEST(WornGrub, ItsListOfCommandsGivesWhatStandsBeforeTheLoss) {
    const auto image = demo::front_desk().build();
    const std::string list = "/boot/grub/i386-pc/command.lst";
    const Worn worn(image, {place_on(image, 1, list)});
    EXPECT_EQ(worn.end(), "loader grub-module-missing");
    EXPECT_EQ(
        worn.at(Stage::Loader).text,
        "no loaded module has the command `linux', and (hd0,msdos1)/boot/grub/i386-pc/command.lst, which may tell "
        "one that does, cannot be read");
    EXPECT_TRUE(has(worn.system().symptom, "error: can't find command `linux'.")) << worn.system().symptom;
    EXPECT_EQ(worn.at(Stage::BootCode).state, State::Holds);
    EXPECT_EQ(worn.at(Stage::Kernel).state, State::NotReached);

    // Behind two sectors of commands that nobody uses, the needed ones are still known.
    auto desk = demo::front_desk();
    auto& content = desk.root.at(list).content;
    const auto needed = content;
    for (int i = 0; content.size() < needed.size() + 1024; ++i) {
        const auto line = forge::to_bytes("rest" + std::to_string(i) + ": rest\n");
        content.insert(content.end(), line.begin(), line.end());
    }
    const auto longer = desk.build();
    const auto last = place_on(longer, 1, list, content.size() - 1);
    ASSERT_NE(last, place_on(longer, 1, list, needed.size()));
    EXPECT_EQ(Worn(longer, {last}).end(), "yes");
}

TEST(WornGrub, AKernelIsReadToItsEnd) {
    auto desk = demo::front_desk();
    auto& content = desk.root.at(kernel).content;
    content.resize((content.size() + 2 * sector) / sector * sector);  // a signature's place behind it
    const auto image = desk.build();
    ASSERT_EQ(Worn(image, {}).end(), "yes");
    const auto last = place_on(image, 1, kernel, content.size() - 1);
    const Worn worn(image, {last});
    EXPECT_EQ(worn.end(), "kernel kernel-unreadable");
    EXPECT_TRUE(worn.shows(Stage::Kernel, last));
    EXPECT_EQ(
        worn.system().symptom, "error: failure reading sector 0x" + [&] {
            char text[32];
            std::snprintf(text, sizeof text, "%llx", static_cast<unsigned long long>(last / sector));
            return std::string(text);
        }());
    EXPECT_EQ(worn.at(Stage::Entry).state, State::Holds);
    EXPECT_EQ(worn.at(Stage::Ramdisk).state, State::NotReached);
}

TEST(WornGrub, DoesNotReadTheSetUpCodeBehindItsHeader) {
    const auto image = demo::front_desk().build();
    const auto machine = support::machine_of(image);
    const auto file = resolve(*machine.volume(1, 1)->files(Observer::Loader), kernel);
    const auto source = machine.volume(1, 1)->files(Observer::Loader)->open(file->file.id, kernel);
    const auto setup = (*source)->bytes(0x1F1, 1)->front();
    ASSERT_GE(setup, 2) << "there is a sector of set-up behind the header";
    const auto inside = place_on(image, 1, kernel, 2 * sector);
    const Worn worn(image, {inside});
    EXPECT_EQ(worn.system().starts, Starts::Yes) << worn.end();
    EXPECT_EQ(worn.at(Stage::Kernel).state, State::Doubtful);
    EXPECT_TRUE(has(worn.at(Stage::Kernel).text, "a part of its set-up code cannot be read, which GRUB 2 does not run"))
        << worn.at(Stage::Kernel).text;
    EXPECT_TRUE(worn.shows(Stage::Kernel, inside));
    // The header itself, and the first sector behind the set-up, it reads.
    EXPECT_EQ(Worn(image, {place_on(image, 1, kernel, sector)}).end(), "kernel kernel-unreadable");
    EXPECT_EQ(Worn(image, {place_on(image, 1, kernel, (setup + 1U) * sector)}).end(), "kernel kernel-unreadable");
}

TEST(WornGrub, FindsNoVolumeWhoseMarkIsLost) {
    auto desk = demo::front_desk();
    const auto image = desk.build();
    const Worn worn(image, {place_on(image, 1, "/etc/fstab")});
    EXPECT_EQ(worn.end(), "yes") << "BusyBox reads an empty list of mounts";
    EXPECT_EQ(worn.at(Stage::Services).state, State::Doubtful);
    EXPECT_TRUE(has(worn.at(Stage::Services).text, "/etc/fstab cannot be read: nothing that it lists is mounted"))
        << worn.at(Stage::Services).text;
}

// --- the SYSLINUX family
// ----------------------------------------------------------------------------------------------

TEST(WornSyslinux, TellsTheSectorAndStartsTheKernelWithoutIt) {
    const auto image = support::guests_desk();
    ASSERT_EQ(Worn(image, {}).end(), "yes");
    const auto middle = place_on(image, 1, "/guest-kernel", size_of(image, 1, "/guest-kernel") / 2);
    const Worn worn(image, {middle});
    EXPECT_EQ(worn.end(), "kernel kernel-unreadable");
    EXPECT_EQ(worn.system().symptom,
              "Loading /guest-kernel... CHS: Error … reading sector …\nEDD: Error … reading sector " +
                  std::to_string(middle / sector) + "\n(and the kernel is started without it)");
    const auto first = place_on(image, 1, "/guest-kernel");
    const Worn head(image, {first});
    EXPECT_EQ(head.end(), "kernel kernel-unreadable");
    EXPECT_TRUE(has(head.system().symptom, "EDD: Error … reading sector " + std::to_string(first / sector) +
                                               "\nok\nBooting kernel failed: Invalid argument"))
        << head.system().symptom;
}

TEST(WornSyslinux, DoesNotMissWhatLiesBehindTheKernel) {
    auto desk = support::guests_desk();
    const auto size = size_of(desk, 1, "/guest-kernel");
    const auto last = place_on(desk, 1, "/guest-kernel", size - 1);
    EXPECT_EQ(Worn(desk, {last}).end(), "kernel kernel-unreadable") << "this one is used to its end";
}

TEST(WornSyslinux, ItsOwnPartsAreToldApart) {
    const auto image = support::guests_desk();
    const auto second = place_on(image, 1, "/SYSLINUX/ldlinux.sys", 2 * sector);
    const Worn stage(image, {second});
    EXPECT_EQ(stage.end(), "loader syslinux-unreadable");
    EXPECT_TRUE(stage.system().symptom.ends_with("EDDBoot error")) << stage.system().symptom;
    EXPECT_TRUE(stage.shows(Stage::Loader, second));
    // A module that is loaded with a hole in it may work, or not.
    const auto library = place_on(image, 1, "/SYSLINUX/ldlinux.c32", size_of(image, 1, "/SYSLINUX/ldlinux.c32") - 1);
    const Worn module(image, {library});
    if (library != place_on(image, 1, "/SYSLINUX/ldlinux.c32")) {
        EXPECT_EQ(module.end(), "unknown");
        EXPECT_EQ(module.at(Stage::Loader).state, State::Unknown);
        EXPECT_TRUE(
            has(module.at(Stage::Loader).text, "a part of it cannot be read, and the loader goes on without that"));
    } else {
        EXPECT_EQ(module.end(), "loader syslinux-core-module-damaged");
    }
}

TEST(WornSyslinux, ARamDiskWithAHoleIsUnknownOrDamaged) {
    const auto image = support::guests_desk();
    const auto size = size_of(image, 1, "/guest-ramdisk.img");
    const auto last = place_on(image, 1, "/guest-ramdisk.img", size - 1);
    const Worn worn(image, {last});
    EXPECT_NE(worn.system().starts, Starts::Yes) << worn.end();
    const std::string text = worn.at(Stage::Ramdisk).text;
    EXPECT_TRUE(has(text, "cannot be read, and the loader goes on without it") ||
                has(text, "; but d1 does not give all that was asked for: what is missed may lie there"))
        << text;
    EXPECT_TRUE(worn.shows(Stage::Ramdisk, last));
}

// --- GRUB Legacy
// -------------------------------------------------------------------------------------------------------

TEST(WornLegacy, EndsWithTheErrorOfItsReading) {
    const auto image = support::legacy_desk();
    ASSERT_EQ(Worn(image, {}).end(), "yes");
    const auto head = place_on(image, 1, kernel);
    const Worn first(image, {head});
    EXPECT_EQ(first.end(), "kernel kernel-unreadable");
    EXPECT_TRUE(has(first.system().symptom, "Error 25: Disk read error")) << first.system().symptom;
    const Worn disk(image, {place_on(image, 1, ramdisk)});
    EXPECT_EQ(disk.end(), "ramdisk ramdisk-unreadable");
    EXPECT_TRUE(has(disk.system().symptom, "Error 25: Disk read error")) << disk.system().symptom;
    EXPECT_TRUE(has(disk.at(Stage::Ramdisk).text, "and the loader then does not start the kernel"));
}

TEST(WornLegacy, TakesALossForAMistakeOfTheFileSystemWhereListsOfBlocksFollow) {
    auto parts = demo::back_office();
    auto& content = parts.ledger.at(kernel).content;
    content.resize(std::max<std::size_t>(content.size(), 700'000));
    parts.ledger.file("/boot/grub/menu.lst", "default 0\ntimeout 5\n\ntitle Ledger\nroot (hd0,0)\nkernel " + kernel +
                                                 " root=UUID=" + demo::ledger_uuid + " ro\ninitrd " + ramdisk + "\n");
    auto image = parts.second();
    std::fill_n(image.begin() + 446 + 16, 32, std::uint8_t{0});
    const auto error = [&](std::uint64_t at) {
        const Worn worn(image, {place_on(image, 1, kernel, at)});
        EXPECT_EQ(worn.end(), "kernel kernel-unreadable");
        const auto begin = worn.system().symptom.find("Error ");
        return worn.system().symptom.substr(begin, worn.system().symptom.find(':', begin) - begin);
    };
    EXPECT_EQ(error(8191), "Error 25") << "what is looked at first has no list";
    EXPECT_EQ(error(8192), "Error 16");
    EXPECT_EQ(error(524'287), "Error 16");
    EXPECT_EQ(error(524'288), "Error 25") << "no further list is read behind it";
    EXPECT_EQ(error(699'999), "Error 25");
}

TEST(WornLegacy, ChainsToNothingThatCannotBeRead) {
    auto image = support::legacy_desk_with(
        "default 0\ntimeout 5\n\ntitle Next\nrootnoverify (hd0,0)\nchainloader +1\n\ntitle Ledger\n" +
        support::ledger_commands);
    const auto first = support::machine_of(image).volume(1, 1)->source->locate(0, 1).front().offset;
    const auto entry = [](const Worn& worn) {
        const auto menu = std::ranges::find_if(worn.verdict.menus, [](const Menu& m) { return !m.entries.empty(); });
        EXPECT_NE(menu, worn.verdict.menus.end());
        return menu->entries.at(0);
    };
    const auto lost = entry(Worn(image, {first}));
    ASSERT_TRUE(lost.stop);
    EXPECT_EQ(lost.stop->code, Code::ChainUnreadable);
    EXPECT_EQ(lost.stop->text, "the sector to chain to cannot be read");
    const auto unmarked = entry(Worn(image, {}));
    ASSERT_TRUE(unmarked.stop);
    EXPECT_EQ(unmarked.stop->code, Code::ChainNoSignature);
    image[first + 510] = 0x55;
    image[first + 511] = 0xAA;
    const auto sound = entry(Worn(image, {}));
    EXPECT_FALSE(sound.stop &&
                 (sound.stop->code == Code::ChainNoSignature || sound.stop->code == Code::ChainUnreadable));
}

TEST(WornLegacy, AFurtherStageIsNamed) {
    const auto image = support::legacy_desk();
    const Worn worn(image, {3 * sector});
    EXPECT_EQ(worn.end(), "loader legacy-stage-unreadable");
    EXPECT_EQ(worn.system().symptom, "GRUB Loading stage1.5Read Error");
}

// --- UEFI
// --------------------------------------------------------------------------------------------------------------

TEST(WornUefi, AProgramIsReadToItsEndBeforeItIsStarted) {
    auto parts = demo::kiosk();
    auto& program = parts.esp.at("/EFI/BOOT/BOOTX64.EFI").content;
    program.resize(program.size() + 40'000);
    const auto image = parts.build();
    ASSERT_EQ(Worn(image, {}, FirmwareKind::Uefi).end(), "yes");
    const auto last = place_on(image, 1, "/EFI/BOOT/BOOTX64.EFI", program.size() - 1);
    const Worn worn(image, {last}, FirmwareKind::Uefi);
    EXPECT_EQ(worn.end(), "boot-code efi-image-refused");
    EXPECT_TRUE(has(worn.system().symptom, "BdsDxe: failed to load") && has(worn.system().symptom, ": Not Found"));
    EXPECT_TRUE(has(worn.at(Stage::BootCode).text, "it cannot be read")) << worn.at(Stage::BootCode).text;
    EXPECT_TRUE(worn.shows(Stage::BootCode, last));
}

/// The generator's ESP is a FAT12, of which EDK II reads blocks of 8 KiB.
TEST(WornUefi, WhatLiesBesideALostSectorDependsOnTheFirmware) {
    auto parts = demo::kiosk();
    parts.esp.file("/zimmer.txt", Bytes(64 * 1024, 'z'));
    const auto image = parts.build();
    const auto machine = support::machine_of(image);
    const auto volume = machine.volume(1, 1);
    const auto* fs = volume->files(Observer::Uefi);
    const auto program = place_on(image, 1, "/EFI/BOOT/BOOTX64.EFI");
    const auto begin = volume->source->locate(0, 1).front().offset;
    const auto boot = volume->source->bytes(0, 64);
    const auto word = [&](std::size_t at) { return std::uint64_t{(*boot)[at]} | std::uint64_t{(*boot)[at + 1]} << 8U; };
    const std::uint64_t table = word(14) * 512, data = table + (*boot)[16] * word(22) * 512;
    ASSERT_NE(fs, nullptr);
    const std::uint64_t block = 8192;
    const auto its_block = begin + data + (program - begin - data) / block * block;
    int beside = 0, elsewhere = 0;
    for (std::uint64_t at = its_block - block; at < its_block + 3 * block; at += sector) {
        // Sectors of files that the start reads itself are another matter.
        if (image[at] != 'z' && image[at] != 0) continue;
        const Worn worn(image, {at}, FirmwareKind::Uefi);
        const bool asked = !worn.disk->asked().empty();
        if (worn.system().stops_at) continue;
        if (worn.at(Stage::BootCode).state == State::Unknown) {
            ++beside;
            EXPECT_TRUE(asked);
            EXPECT_EQ(worn.system().starts, Starts::Unknown);
            EXPECT_TRUE(has(worn.at(Stage::BootCode).text,
                            "; but a sector beside /EFI/BOOT/BOOTX64.EFI cannot be read, and firmware "
                            "that reads a FAT in blocks of 64 KiB, as EDK II does, does not get it then"))
                << worn.at(Stage::BootCode).text;
            EXPECT_TRUE(worn.shows(Stage::BootCode, at));
        } else {
            ++elsewhere;
        }
    }
    EXPECT_GT(beside + elsewhere, 0);

    // The table's own blocks: the first one is read to learn whether the volume is clean.
    const Worn mark(image, {begin + table + sector}, FirmwareKind::Uefi);
    EXPECT_NE(mark.end(), "yes");
    // Its copy is not read at all.
    EXPECT_EQ(Worn(image, {begin + table + word(22) * 512}, FirmwareKind::Uefi).end(), "yes");
}

TEST(WornUefi, BlocksOfEachKindOfFat) {
    for (const auto& [size, block, table_block] :
         {std::tuple{std::uint64_t{4} << 20U, 8192U, 8192U}, std::tuple{std::uint64_t{40} << 20U, 65536U, 32768U}}) {
        forge::Tree tree;
        tree.file("/a.txt", Bytes(3 * block, 'a')).file("/deep/b.txt", Bytes(100, 'b'));
        forge::FatOptions options;
        options.size = size;
        const auto bytes = forge::make_fat(tree, options).bytes;
        const auto word = [&](std::size_t at) { return std::uint64_t{bytes[at]} | std::uint64_t{bytes[at + 1]} << 8U; };
        const std::uint64_t table = word(14) * 512, table_size = word(22) * 512, root = table + bytes[16] * table_size;
        const auto beside = [&](std::uint64_t lost, const std::string& path) {
            Machine machine;
            machine.disks.push_back(inspect_disk(with_unreadable(memory_source(bytes, "d1", 1), {{lost, 1}}), 1, "x"));
            return lost_beside(*machine.volume(1, 0), path).has_value();
        };
        const Bytes mark(100, 'b');
        const auto found = std::search(bytes.begin(), bytes.end(), mark.begin(), mark.end());
        const auto b = static_cast<std::uint64_t>(found - bytes.begin());
        const auto its_block = root + (b - root) / block * block;
        EXPECT_FALSE(beside(its_block + block, "/deep/b.txt")) << size;
        EXPECT_TRUE(beside(its_block + block - 1, "/deep/b.txt")) << size;
        EXPECT_TRUE(beside(its_block, "/deep/b.txt")) << size;
        EXPECT_FALSE(beside(its_block + block, "/not-there")) << size;
        EXPECT_TRUE(beside(table + 3, "/deep/b.txt")) << "the table's begin";
        EXPECT_TRUE(beside(table + std::min<std::uint64_t>(table_block, table_size) - 1, "/deep/b.txt")) << size;
        EXPECT_FALSE(beside(table + std::min<std::uint64_t>(table_block, table_size), "/deep/b.txt")) << size;
    }
    EXPECT_EQ(lost_beside_text("/x"),
              "; but a sector beside /x cannot be read, and firmware that reads a FAT in blocks of 64 KiB, as EDK II "
              "does, does not get it then");
}

TEST(WornUefi, ALostPrimaryTableIsWrittenAnewByTheFirmware) {
    const auto image = demo::kiosk().build();
    for (const std::uint64_t lost : {sector, 2 * sector, 20 * sector}) {
        const Worn worn(image, {lost}, FirmwareKind::Uefi);
        EXPECT_EQ(worn.end(), "yes") << lost;
    }
    const Worn header(image, {sector}, FirmwareKind::Uefi);
    const auto& findings = header.machine.disks[0].table.findings;
    const auto told = std::ranges::find(findings, Code::GptHeaderMissing, &Finding::code);
    ASSERT_NE(told, findings.end());
    EXPECT_EQ(told->text, "the primary GPT header cannot be read; the backup is there");
    EXPECT_EQ(told->evidence.front().found, "unreadable");
    const Worn copy(image, {image.size() - sector}, FirmwareKind::Uefi);
    EXPECT_EQ(copy.end(), "yes");
    const auto& of_copy = copy.machine.disks[0].table.findings;
    const auto backup = std::ranges::find(of_copy, Code::GptBackupMissing, &Finding::code);
    ASSERT_NE(backup, of_copy.end());
    EXPECT_EQ(backup->text, "the backup GPT header cannot be read");
    const Worn both(image, {sector, image.size() - sector}, FirmwareKind::Uefi);
    EXPECT_EQ(both.system().starts, Starts::No);
}

TEST(WornUefi, TheBootManagerReadsItsRamDisksFirst) {
    const auto image = support::entries_kiosk();
    ASSERT_EQ(Worn(image, {}, FirmwareKind::Uefi).end(), "yes");
    const auto lost = place_on(image, 1, "/initrd", size_of(image, 1, "/initrd") - 1);
    const Worn worn(image, {lost}, FirmwareKind::Uefi);
    EXPECT_EQ(worn.end(), "ramdisk ramdisk-unreadable");
    EXPECT_EQ(worn.system().symptom, "Error preparing initrd: Device Error");
    EXPECT_TRUE(worn.shows(Stage::Ramdisk, lost));
    const auto middle = place_on(image, 1, "/linux", size_of(image, 1, "/linux") / 2);
    const Worn kernel_lost(image, {middle}, FirmwareKind::Uefi);
    EXPECT_EQ(kernel_lost.end(), "kernel kernel-unreadable");
    EXPECT_TRUE(has(kernel_lost.system().symptom, "Error loading \\linux: Not Found")) << kernel_lost.system().symptom;
}

// --- the system itself
// ---------------------------------------------------------------------------------------------------

TEST(WornSystem, ADirectoryGivesLoadersWhatStandsBeforeTheLoss) {
    auto desk = demo::front_desk();
    for (int i = 0; i < 40; ++i) desk.root.file("/boot/grub/zz-a-longer-name-for-room-" + std::to_string(i), "key");
    const auto image = desk.build();
    const auto machine = support::machine_of(image);
    const auto volume = machine.volume(1, 1);
    const auto* fs = volume->files(Observer::Loader);
    const auto folder = resolve(*fs, "/boot/grub");
    const auto extents = fs->extents(folder->file.id);
    ASSERT_TRUE(extents);
    const auto block = volume->info.block_size;
    ASSERT_GT(block, sector);
    const auto begin = volume->source->locate(extents->front().base_offset, 1).front().offset;
    // The name that stands last in the block's first sector, and the first one of the second sector.
    const auto names = fs->list(folder->file.id);
    ASSERT_TRUE(names);
    const auto place_of_name = [&](const std::string& name) {
        const auto text = forge::to_bytes(name);
        return static_cast<std::uint64_t>(std::search(image.begin() + static_cast<std::ptrdiff_t>(begin),
                                                      image.begin() + static_cast<std::ptrdiff_t>(begin + block),
                                                      text.begin(), text.end()) -
                                          image.begin());
    };
    std::string before, behind;
    for (const auto& name : *names) {
        if (!name.name.starts_with("zz-")) continue;
        const auto at = place_of_name(name.name);
        if (at + name.name.size() < begin + sector) before = name.name;
        else if (at > begin + sector + 8 && at < begin + block && behind.empty()) behind = name.name;
    }
    ASSERT_FALSE(before.empty());
    ASSERT_FALSE(behind.empty());
    Machine worn;
    worn.disks.push_back(
        inspect_disk(with_unreadable(memory_source(image, "d1", 1), {{begin + sector, sector}}), 1, "x"));
    const auto& of_worn = *worn.volume(1, 1);
    EXPECT_TRUE(resolve(*of_worn.files(Observer::Loader), "/boot/grub/" + before));
    const auto lost = resolve(*of_worn.files(Observer::Loader), "/boot/grub/" + behind);
    ASSERT_FALSE(lost);
    EXPECT_TRUE(lost.error().unreadable());
    // The kernel takes blocks whole.
    const auto kernels = resolve(*of_worn.files(Observer::Linux), "/boot/grub/" + before);
    ASSERT_FALSE(kernels);
    EXPECT_TRUE(kernels.error().unreadable());
}

TEST(WornSystem, AProgramThatLacksAPageMayDie) {
    auto desk = demo::front_desk();
    desk.root.at("/usr/bin/busybox").content.resize(3000);
    const auto image = desk.build();
    const auto size = size_of(image, 1, "/usr/bin/busybox");
    const auto lost = place_on(image, 1, "/usr/bin/busybox", size - 1);
    const Worn worn(image, {lost});
    EXPECT_EQ(worn.end(), "unknown");
    EXPECT_EQ(worn.at(Stage::Init).state, State::Unknown);
    EXPECT_TRUE(
        has(worn.at(Stage::Init).text, "; but a part of /usr/bin/busybox cannot be read, without which it may die"))
        << worn.at(Stage::Init).text;
    EXPECT_TRUE(worn.shows(Stage::Init, lost));
}

TEST(WornWindows, AFileThatTheStartNeedsIsReadToItsEnd) {
    const auto image = demo::office_pc().build();
    ASSERT_EQ(Worn(image, {}).end(), "yes");
    const std::string system32 = "/Windows/System32/";
    const struct {
        const char* file;
        Stage stage;
        State state;
    } rows[] = {{"smss.exe", Stage::Init, State::Unknown},
                {"csrss.exe", Stage::Init, State::Unknown},
                {"wininit.exe", Stage::Services, State::Unknown},
                {"services.exe", Stage::Services, State::Unknown},
                {"lsass.exe", Stage::Services, State::Unknown},
                {"winlogon.exe", Stage::Services, State::Unknown},
                {"config/SOFTWARE", Stage::Services, State::Unknown},
                {"drivers/Ntfs.sys", Stage::Root, State::Breaks},
                {"drivers/disk.sys", Stage::Kernel, State::Breaks},
                {"config/SYSTEM", Stage::Kernel, State::Breaks},
                {"ntoskrnl.exe", Stage::Kernel, State::Breaks},
                {"winload.exe", Stage::Kernel, State::Breaks}};
    for (const auto& row : rows) {
        const auto last = place_on(image, 2, system32 + row.file, size_of(image, 2, system32 + row.file) - 1);
        const Worn worn(image, {last});
        const auto& rung = worn.at(row.stage);
        EXPECT_EQ(rung.state, row.state) << row.file << ": " << rung.text;
        EXPECT_EQ(worn.system().starts, row.state == State::Breaks ? Starts::No : Starts::Unknown) << row.file;
        EXPECT_TRUE(has(rung.text, "cannot be read") || has(rung.text, "does not give"))
            << row.file << ": " << rung.text;
        if (row.state == State::Unknown) EXPECT_TRUE(worn.shows(row.stage, last)) << row.file;
    }
    // What the start does not need may be lost.
    EXPECT_EQ(Worn(image, {place_on(image, 2, "/Windows/explorer.exe")}).end(), "yes");
}

TEST(WornSystem, AnInittabThatGivesNothingIsEmpty) {
    const auto image = demo::front_desk().build();
    const auto lost = place_on(image, 1, "/etc/inittab");
    const Worn worn(image, {lost});
    EXPECT_EQ(worn.end(), "services services-inittab-missing");
    EXPECT_EQ(worn.at(Stage::Services).text, "/etc/inittab cannot be read: init finds nothing in it to start");
    EXPECT_EQ(worn.system().symptom, "(nothing more is shown)");
    EXPECT_TRUE(worn.shows(Stage::Services, lost));
}

TEST(WornSystem, AStartUpScriptThatCannotBeLookedUp) {
    auto desk = demo::front_desk();
    const auto image = desk.build();
    const auto machine = support::machine_of(image);
    const auto volume = machine.volume(1, 1);
    const auto script = resolve(*volume->files(Observer::Linux), "/etc/init.d/rcS");
    ASSERT_TRUE(script);
    const auto first = place_on(image, 1, "/etc/init.d/rcS");
    const Worn worn(image, {first});
    EXPECT_EQ(worn.end(), "services services-program-missing");
    EXPECT_EQ(worn.system().symptom, "can't run '/etc/init.d/rcS': Input/output error");
}

TEST(WornSystem, LoadersAskForTheFirstSectorOfASuperblock) {
    const auto image = demo::front_desk().build();
    const auto machine = support::machine_of(image);
    const auto begin = machine.volume(1, 1)->source->locate(0, 1).front().offset;
    const Worn second(image, {begin + 1024 + sector});
    EXPECT_EQ(second.end(), "root root-not-found");
    EXPECT_EQ(second.at(Stage::Loader).state, State::Holds) << second.at(Stage::Loader).text;
    EXPECT_TRUE(second.shows(Stage::Root, begin + 1024 + sector));
    Machine worn;
    worn.disks.push_back(
        inspect_disk(with_unreadable(memory_source(image, "d1", 1), {{begin + 1024 + sector, sector}}), 1, "x"));
    EXPECT_EQ(worn.volume(1, 1)->info.uuid, demo::root_uuid);
    ASSERT_TRUE(worn.volume(1, 1)->problem(Observer::Linux));
    EXPECT_TRUE(worn.volume(1, 1)->problem(Observer::Linux)->unreadable());
    EXPECT_EQ(Worn(image, {begin + 1024}).end(), "loader grub-files-unreadable");

    const auto legacy = support::legacy_desk();
    const auto of_legacy = support::machine_of(legacy).volume(1, 1)->source->locate(0, 1).front().offset;
    const Worn whole(legacy, {of_legacy + 1024 + sector});
    EXPECT_EQ(whole.end(), "loader legacy-file-system");
    EXPECT_TRUE(whole.system().symptom.ends_with("Error 17")) << whole.system().symptom;
    EXPECT_TRUE(whole.shows(Stage::Loader, of_legacy + 1024 + sector));
}

TEST(WornSystem, WhatLooksForTheRootReadsMoreThanItsMark) {
    // SYSLINUX leaves the sectors behind the first one alone, and the kernel reads them with the table.
    const auto image = support::guests_desk();
    const auto begin = place_on(image, 2, "/etc/fstab");
    const auto machine = support::machine_of(image);
    const auto root = machine.volume(1, 2)->source->locate(0, 1).front().offset;
    ASSERT_GT(begin, root);
    const auto end = [&](std::uint64_t at) { return Worn(image, {at}).end(); };
    EXPECT_EQ(end(7 * sector), "root root-not-found");
    EXPECT_EQ(end(8 * sector), "yes");
    EXPECT_EQ(end(root), "root root-not-found");
    EXPECT_EQ(end(root + 7 * sector), "root root-not-found");
    const Worn table(image, {sector});
    EXPECT_EQ(table.at(Stage::Root).text,
              "the kernel does not see d1p2: it reads the table in pages of 4 KiB, and a part of one cannot be read");
    EXPECT_TRUE(table.shows(Stage::Root, sector));
    EXPECT_EQ(table.at(Stage::Ramdisk).state, State::Holds);
    EXPECT_EQ(table.at(Stage::Init).state, State::NotReached);
    const Worn mark(image, {root});
    EXPECT_TRUE(
        has(mark.at(Stage::Root).text, "a sector at the begin of d1p2 cannot be read, and what looks for root=UUID="))
        << mark.at(Stage::Root).text;

    // GRUB reads the one sector of a link, the kernel the page around it.
    const auto logical = support::logical_desk(true);
    ASSERT_EQ(Worn(logical, {}).end(), "yes");
    EXPECT_EQ(Worn(logical, {36867 * sector}).end(), "root root-not-found");
    EXPECT_EQ(Worn(logical, {4097 * sector}).end(), "root root-not-found");
    EXPECT_EQ(Worn(logical, {36872 * sector}).end(), "yes");

    // By itself: the edges, and who looks.
    RootReference reference;
    reference.kind = RootReference::Kind::Uuid;
    reference.written = "UUID=x";
    const auto loss = [&](std::uint64_t at, bool by_program) -> std::string {
        Machine worn;
        worn.disks.push_back(inspect_disk(with_unreadable(memory_source(image, "d1", 1), {{root + at, 1}}), 1, "x"));
        reference.volume = worn.volume(1, 2);
        const auto found = root_loss(worn, reference, by_program);
        return !found ? "none" : found->certain ? "certain" : "perhaps";
    };
    EXPECT_EQ(loss(4095, true), "certain");
    EXPECT_EQ(loss(4096, true), "perhaps");
    EXPECT_EQ(loss(0x10FFF, true), "perhaps");
    EXPECT_EQ(loss(0x11000, true), "none");
    EXPECT_EQ(loss(4095, false), "none") << "the kernel itself reads the superblock only";
    reference.kind = RootReference::Kind::PartUuid;
    EXPECT_EQ(loss(0, true), "none");
}

TEST(WornSystem, ARootWhoseMarkIsLostIsNotThere) {
    auto parts = demo::kiosk();
    const auto image = parts.build();
    const auto machine = support::machine_of(image);
    const auto begin = machine.volume(1, 2)->source->locate(0, 1).front().offset;
    const Worn worn(image, {begin + 1024}, FirmwareKind::Uefi);
    ASSERT_EQ(worn.system().stops_at, Stage::Root) << worn.end();
    EXPECT_TRUE(has(worn.at(Stage::Root).text, "it may lie in d1p2 (unreadable), which cannot be read"))
        << worn.at(Stage::Root).text;
}

}  // namespace
