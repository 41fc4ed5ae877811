// SPDX-License-Identifier: MIT
// GRUB Legacy, the SYSLINUX family, and chains of loaders over two disks.
#include "office_pc.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

using support::edit;

namespace {

Machine two_disks(Bytes first, Bytes second) {
    Machine machine;
    machine.disks.push_back(inspect_disk(memory_source(std::move(first), "d1", 1), 1, "first.img"));
    machine.disks.push_back(inspect_disk(memory_source(std::move(second), "d2", 2), 2, "second.img"));
    return machine;
}

std::string stage_of(const Verdict& verdict, const std::string& place) {
    for (const auto& system : verdict.systems)
        if (system.place == place)
            return system.stops_at ? std::string(stage_id(*system.stops_at)) : std::string(starts_id(system.starts));
    return "no such system";
}

bool found(const Verdict& verdict, Code code) {
    return std::any_of(verdict.findings.begin(), verdict.findings.end(),
                       [&](const Finding& f) { return f.code == code; });
}

/// A change to the back office and where its systems then stop: office d1p1, ledger d2p1, guests d2p3.
struct Change {
    const char* name;
    std::function<void(demo::BackOffice&)> change;
    const char* office;
    const char* ledger;
    const char* guests;
    std::optional<Code> code;
};
const std::string kernel = std::string("/boot/vmlinuz-") + demo::release;
const std::string ramdisk = std::string("/boot/initrd.img-") + demo::release;
constexpr const char* menu = "/boot/grub/menu.lst";
constexpr const char* config = "/SYSLINUX/syslinux.cfg";

class Chains : public testing::TestWithParam<Change> {};
TEST_P(Chains, StopWhereTheyShould) {
    auto b = demo::back_office();
    GetParam().change(b);
    const Machine machine = two_disks(b.first(), b.second());
    const Verdict verdict = check(machine);
    EXPECT_EQ(stage_of(verdict, "d1p1"), GetParam().office);
    EXPECT_EQ(stage_of(verdict, "d2p1"), GetParam().ledger);
    EXPECT_EQ(stage_of(verdict, "d2p3"), GetParam().guests);
    EXPECT_EQ(stage_of(verdict, "d1p2"), "entry") << "no menu names the weather station";
    if (GetParam().code) EXPECT_TRUE(found(verdict, *GetParam().code)) << *GetParam().code;
}

INSTANTIATE_TEST_SUITE_P(
    Office, Chains,
    testing::Values(
        Change{"AsItIs", [](auto&) {}, "yes", "yes", "yes", Code::EntryStale},
        Change{"SecondDiskWiped", [](auto& b) { b.second_boot.assign(440, 0); }, "yes", "boot-code", "boot-code",
               Code::BootCodeEmpty},
        Change{"StageOneAndAHalfWiped", [](auto& b) { b.second_gap.assign(b.second_gap.size(), 0); }, "yes", "loader",
               "loader", Code::LegacyStageDamaged},
        Change{"StageTwoGone", [](auto& b) { b.ledger.remove("/boot/grub/stage2"); }, "yes", "loader", "loader",
               Code::LegacyStage2Missing},
        Change{"StageTwoIsSomethingElse", [](auto& b) { b.ledger.file("/boot/grub/stage2", forge::noise(9000, 4)); },
               "yes", "loader", "loader", Code::LegacyStageDamaged},
        Change{"LegacyLooksOnAnotherPartition", [](auto& b) { b.second_gap = forge::make_legacy_gap(3); }, "yes",
               "partition-table", "partition-table", Code::LegacyPartitionMissing},
        Change{"LegacyFindsAFat", [](auto& b) { b.second_gap = forge::make_legacy_gap(1); }, "yes", "loader", "loader",
               Code::LegacyFileSystem},
        Change{"NoMenu", [](auto& b) { b.ledger.remove(menu); }, "yes", "configuration", "configuration",
               Code::LegacyConfigMissing},
        Change{"MenuWithoutTitles", [](auto& b) { b.ledger.file(menu, "default 0\n"); }, "yes", "configuration",
               "configuration", Code::LegacyConfigEmpty},
        Change{"RootOffByOne", [](auto& b) { edit(b.ledger, menu, "root (hd1,0)", "root (hd1,4)"); }, "yes", "entry",
               "yes", Code::EntryDeviceMissing},
        Change{"DiskCountedFromOne", [](auto& b) { edit(b.ledger, menu, "root (hd1,0)", "root (hd2,0)"); }, "yes",
               "entry", "yes", Code::EntryDeviceMissing},
        Change{"SettingOfTheMenuInAnEntry",
               [](auto& b) { edit(b.ledger, menu, "root (hd1,0)", "timeout 5\nroot (hd1,0)"); }, "yes", "entry", "yes",
               Code::EntryLoadsNothing},
        Change{"LegacyWithoutRamdisk", [](auto& b) { b.ledger.remove(ramdisk); }, "yes", "ramdisk", "yes",
               Code::RamdiskMissing},
        Change{"LegacyKernelWithoutMark", [](auto& b) { b.ledger.at(kernel).content[0x1FE] = 0; }, "yes", "kernel",
               "yes", Code::KernelRefusedByLoader},
        Change{"LegacyRunsTheSetUpCode", [](auto& b) { b.ledger.at(kernel).content[0x200] = 0; }, "yes", "kernel",
               "yes", Code::KernelSetupDamaged},
        Change{
            "GrubSkipsTheSetUpCode", [](auto& b) { b.office.at(kernel).content[0x200] = 0; }, "yes", "yes", "yes", {}},
        Change{"GuestSectorWiped", [](auto& b) { b.with_guest_loader = false; }, "yes", "yes", "boot-sector",
               Code::BootSectorEmpty},
        Change{"ModuleGone", [](auto& b) { b.notice.remove("/SYSLINUX/ldlinux.c32"); }, "yes", "yes", "loader",
               Code::SyslinuxCoreModuleMissing},
        Change{"ModuleIsText", [](auto& b) { b.notice.file("/SYSLINUX/ldlinux.c32", "the guests' menu"); }, "yes",
               "yes", "loader", Code::SyslinuxCoreModuleDamaged},
        Change{"IncludesItself",
               [](auto& b) { edit(b.notice, config, "DEFAULT guests", "DEFAULT guests\nINCLUDE syslinux.cfg"); }, "yes",
               "yes", "configuration", Code::SyslinuxIncludeCircle},
        Change{"NoDefault", [](auto& b) { edit(b.notice, config, "DEFAULT guests", "# nothing"); }, "yes", "yes",
               "configuration", Code::SyslinuxNoDefault},
        Change{"DefaultNamesNothing", [](auto& b) { edit(b.notice, config, "DEFAULT guests", "DEFAULT gasts"); }, "yes",
               "yes", "configuration", Code::SyslinuxDefaultUnknown},
        Change{"DefaultNamesAFile",
               [](auto& b) { edit(b.notice, config, "DEFAULT guests", "DEFAULT /guest-kernel"); },
               "yes",
               "yes",
               "yes",
               {}},
        Change{"MenuModuleMissing", [](auto& b) { edit(b.notice, config, "DEFAULT guests", "UI vesamenu.c32"); }, "yes",
               "yes", "loader", Code::SyslinuxMenuModuleMissing},
        Change{"GuestKernelGone", [](auto& b) { b.notice.remove("/guest-kernel"); }, "yes", "yes", "entry",
               Code::EntryKernelMissing},
        Change{"GuestRamdiskGone", [](auto& b) { b.notice.remove("/guest-ramdisk.img"); }, "yes", "yes", "ramdisk",
               Code::RamdiskMissing},
        Change{"ConfigInAnotherPlace",
               [](auto& b) {
                   b.notice.file("/boot/syslinux/extlinux.conf", Bytes(b.notice.at(config).content));
                   edit(b.notice, config, "DEFAULT guests", "INCLUDE /boot/syslinux/extlinux.conf");
               },
               "yes",
               "yes",
               "yes",
               {}},
        Change{"NoChainModule",
               [](auto& b) { b.office.remove("/boot/grub/i386-pc/chain.mod"); },
               "yes",
               "entry",
               "entry",
               {}}),
    support::by_name);

TEST(Chain, ThatLoopsEndsWithAFinding) {
    const auto circle = demo::back_office_machines().at(2);
    const Machine machine = two_disks(circle.disks.at(0).second(), circle.disks.at(1).second());
    const Verdict verdict = check(machine);
    EXPECT_TRUE(found(verdict, Code::ChainLoop));
    for (const auto& system : verdict.systems) EXPECT_EQ(system.stops_at, Stage::Entry);
}

TEST(Chain, SecondStageThatFailsItsChecksum) {
    auto b = demo::back_office();
    auto second = b.second();
    const auto text = forge::to_bytes("SYSLINUX (a stand-in)");
    const auto at = std::search(second.begin(), second.end(), text.begin(), text.end());
    ASSERT_NE(at, second.end());
    *at = '?';
    const Machine machine = two_disks(b.first(), second);
    const Verdict verdict = check(machine);
    EXPECT_EQ(stage_of(verdict, "d2p3"), "loader");
    EXPECT_TRUE(found(verdict, Code::SyslinuxSecondStageDamaged));
}

TEST(Chain, LegacyByItselfIsProvenByRunningIt) {
    const Machine machine = support::machine_of(demo::back_office().second());
    const Verdict verdict = check(machine);
    const auto& loader = verdict.systems.front().at(Stage::Loader);
    EXPECT_EQ(loader.state, State::Holds);
    EXPECT_NE(loader.text.find("run in an emulated PC"), std::string::npos) << loader.text;
}

TEST(Legacy, AFileSystemThatOnlyStage15ReadsIsUnknown) {
    // Stage 1.5 for XFS, and an XFS in its partition: recognised, not looked into; no reason to call anything broken.
    auto disk = demo::back_office().second();
    const std::size_t volume = std::size_t{2048} * 512;
    disk[2 * 512 + 0x10] = 8;
    std::fill_n(disk.begin() + static_cast<std::ptrdiff_t>(volume), 4096, std::uint8_t{0});
    forge::put32(disk, volume, 0x42534658);  // "XFSB"
    disk[volume + 6] = 0x10;                 // blocks of 4096 bytes
    const Machine machine = support::machine_of(disk);
    ASSERT_EQ(machine.volume(1, 1)->info.format, Format::Xfs);
    const Verdict verdict = check(machine);
    for (const auto& system : verdict.systems) {
        EXPECT_EQ(system.starts, Starts::Unknown) << system.name;
        EXPECT_FALSE(system.stops_at) << system.name;
        EXPECT_EQ(system.at(Stage::Loader).state, State::Unknown);
        EXPECT_EQ(system.at(Stage::Loader).text, "stage 1.5 reads the xfs file system in d1p1, which is not read here");
    }
}

TEST(Chain, GraphNamesEveryStep) {
    auto b = demo::back_office();
    const Machine machine = two_disks(b.first(), b.second());
    const Verdict verdict = check(machine);
    const auto edge = [&](const std::string& from, const std::string& to) {
        return std::any_of(verdict.graph.begin(), verdict.graph.end(), [&](const StartEdge& e) {
            return e.from.find(from) != std::string::npos && e.to.find(to) != std::string::npos;
        });
    };
    EXPECT_TRUE(edge("firmware", "d1 first sector"));
    EXPECT_TRUE(edge("GRUB 2", "d2 first sector"));
    EXPECT_TRUE(edge("GRUB Legacy", "d2p2 boot sector"));
    EXPECT_TRUE(edge("SYSLINUX", "d2p3"));
    EXPECT_TRUE(edge("GRUB 2", "a system that is gone"));
    const auto dot = graph_dot(verdict);
    EXPECT_TRUE(dot.starts_with("digraph"));
    EXPECT_NE(dot.find("Ledger (second disk)"), std::string::npos);
    const auto svg = graph_svg(verdict);
    EXPECT_NE(svg.find("Almhof Guest Terminal"), std::string::npos);
    EXPECT_EQ(std::count(svg.begin(), svg.end(), '<'), std::count(svg.begin(), svg.end(), '>'));
}

TEST(Legacy, DefaultBeyondTheListUsesTheFallback) {
    auto b = demo::back_office();
    edit(b.ledger, menu, "default 0", "default 7");
    const Machine machine = support::machine_of(b.second());
    for (const auto& read : read_menus(machine))
        if (read.place == std::string("d1p1:") + menu) {
            EXPECT_FALSE(read.default_matches);
            EXPECT_EQ(read.default_entry, 1);
            EXPECT_EQ(read.default_setting, "7");
        }
}

TEST(Lost, ALogicalPartitionBehindABrokenChainIsFoundAgain) {
    auto b = demo::back_office();
    // The weather station moves into a chain of logical partitions whose only table has lost its signature.
    edit(b.office, "/boot/grub/grub.cfg", "0ff1ce00-dead-4a01-8a01-00000ff1ce99", demo::weather_uuid);
    auto disk = b.first();
    const std::size_t entry = 446 + 16;
    const std::uint32_t first = forge::get32(disk, entry + 8);
    std::copy_backward(disk.begin() + first * 512, disk.begin() + first * 512 + (8U << 20U),
                       disk.begin() + (first + 2048) * 512 + (8U << 20U));
    std::fill_n(disk.begin() + first * 512, 1U << 20U, std::uint8_t{0});
    disk[entry + 4] = 0x05;
    forge::put32(disk, entry + 12, 16384 + 2048);
    const Machine machine = two_disks(disk, b.second());
    const Verdict verdict = check(machine);
    EXPECT_TRUE(found(verdict, Code::MbrChainBroken));
    EXPECT_TRUE(found(verdict, Code::PartitionLost));
    EXPECT_EQ(stage_of(verdict, "d1p5"), "partition-table");
}

// --- LILO --------------------------------------------------------------------------------------------------------

/// The front desk under LILO: its list of sectors lies in sector 1.
struct LiloDesk {
    demo::FrontDesk desk = demo::front_desk();
    explicit LiloDesk(const std::string& entry) {
        desk.root.file("/etc/lilo.conf", "# the old way\nboot=/dev/sda\ndelay=20\ndefault=desk\n" + entry);
        desk.disk.boot_code = forge::make_lilo_boot(1);
    }
    /// The disk, with the list made for the file `listed` as it lies now.
    Bytes build(const std::string& listed) {
        desk.disk.gap = Bytes(512);
        auto image = desk.build();
        const auto machine = support::machine_of(image);
        const auto& volume = *machine.disks.front().volumes.front();
        const auto file = resolve(*volume.files(Observer::Loader), listed);
        if (!file) return image;
        std::vector<std::pair<std::uint32_t, std::uint16_t>> runs;
        std::uint32_t left = 8;  // the set-up part is all that the stand-in loads
        const auto extents = volume.files(Observer::Loader)->extents(file->file.id);
        for (const auto& extent : *extents)
            for (const auto& range : volume.source->locate(extent.base_offset, extent.length)) {
                const auto count = std::min<std::uint32_t>(left, static_cast<std::uint32_t>(range.length / 512));
                if (count > 0)
                    runs.emplace_back(static_cast<std::uint32_t>(range.offset / 512),
                                      static_cast<std::uint16_t>(count));
                left -= count;
            }
        const auto list = forge::make_sector_list(runs);
        std::copy(list.begin(), list.end(), image.begin() + 512);
        return image;
    }
};
/// A file's sectors on the disk, and how many bytes it has.
std::vector<forge::SectorRun> sectors_of(const Machine& machine, const std::string& path,
                                         std::uint64_t* size = nullptr) {
    std::vector<forge::SectorRun> out;
    const auto& volume = *machine.disks.front().volumes.front();
    const auto file = resolve(*volume.files(Observer::Loader), path);
    if (!file) return out;
    if (size != nullptr) *size = file->file.size;
    const auto extents = volume.files(Observer::Loader)->extents(file->file.id);
    if (!extents) return out;
    for (const auto& extent : *extents)
        for (const auto& range : volume.source->locate(extent.base_offset, extent.length))
            out.emplace_back(static_cast<std::uint32_t>(range.offset / 512),
                             static_cast<std::uint16_t>((range.length + 511) / 512));
    return out;
}

/// The desk with LILO's map beside its kernels: label, kernel and RAM disk of each image as they lie on the disk.
Bytes with_map(LiloDesk& lilo, const std::vector<std::array<std::string, 3>>& images, bool linear = true) {
    lilo.desk.root.file("/boot/map", Bytes(16384, 1));
    auto disk = lilo.build(kernel);
    const auto machine = support::machine_of(disk);
    const auto own = sectors_of(machine, "/boot/map");
    EXPECT_EQ(own.size(), 1U) << "the map lies in one piece";
    std::vector<forge::LiloImage> made;
    for (const auto& [label, file, ramdisk_file] : images) {
        forge::LiloImage image{label, sectors_of(machine, file), {}, 0};
        if (!ramdisk_file.empty()) {
            std::uint64_t size = 0;
            image.ramdisk = sectors_of(machine, ramdisk_file, &size);
            image.ramdisk_size = static_cast<std::uint32_t>(size);
        }
        made.push_back(std::move(image));
    }
    const auto map = forge::make_lilo_map(made, own.front().first, linear);
    EXPECT_LE(map.size(), 16384U);
    std::copy(map.begin(), map.end(), disk.begin() + static_cast<std::ptrdiff_t>(own.front().first) * 512);
    return disk;
}

std::string desk_entry() {
    return "image=" + kernel + "\n  label=desk\n  root=/dev/sda1\n  read-only\n  initrd=" + ramdisk + "\n";
}

TEST(Lilo, ListsThatLeadToTheKernelHold) {
    const support::Checked checked(LiloDesk(desk_entry()).build(kernel));
    EXPECT_EQ(checked.stage(), "yes") << checked.system().symptom;
    EXPECT_NE(checked.system().at(Stage::Loader).text.find("run in an emulated PC, it works"), std::string::npos)
        << checked.system().at(Stage::Loader).text;
    EXPECT_EQ(checked.verdict.menus.front().loader, "LILO");
    EXPECT_EQ(checked.verdict.menus.front().timeout, 2);
}

TEST(Lilo, ListsThatWereNotMadeAnewAreStale) {
    LiloDesk lilo(desk_entry());
    lilo.desk.root.file("/boot/vmlinuz-old", lilo.desk.root.at(kernel).content);
    const support::Checked checked(lilo.build("/boot/vmlinuz-old"));
    EXPECT_TRUE(checked.has(Code::LoaderListsStale));
    EXPECT_EQ(checked.system().at(Stage::Loader).state, State::Doubtful);
}

TEST(Lilo, ListsThatLeadNowhereBreak) {
    LiloDesk lilo(desk_entry());
    const support::Checked checked(lilo.build("/no such file"));
    EXPECT_EQ(checked.stage(), "loader");
    EXPECT_TRUE(checked.has(Code::LoaderDoesNotWork));
}

TEST(Lilo, AKernelThatIsGoneIsTold) {
    LiloDesk lilo(
        "image=/boot/vmlinuz-gone\n  label=desk\n  root=/dev/sda1\nother=/dev/sda2\n  label=next\nother=/dev/sdc1\n  "
        "label=nowhere\n");
    const support::Checked checked(lilo.build("/boot/vmlinuz-gone"));
    EXPECT_EQ(checked.stage(), "kernel");
    EXPECT_TRUE(checked.has(Code::LiloFileGone));
    const auto& entries = checked.verdict.menus.front().entries;
    ASSERT_EQ(entries.size(), 3U);
    EXPECT_EQ(entries[1].kind, EntryKind::Chainload);
    ASSERT_TRUE(entries[2].stop);
    EXPECT_EQ(entries[2].stop->code, Code::EntryDeviceMissing);
}

TEST(LiloMap, ListsThatFitTheFilesSayNothing) {
    for (const bool linear : {true, false}) {
        LiloDesk lilo(desk_entry());
        const support::Checked checked(with_map(lilo, {{"desk", kernel, ramdisk}}, linear));
        EXPECT_EQ(checked.stage(), "yes") << checked.system().symptom;
        EXPECT_FALSE(checked.has(Code::LiloListStale));
    }
}

TEST(LiloMap, StaleListsOfEveryEntryAreToldAndWhoseSectorsTheyAre) {
    LiloDesk lilo(desk_entry() +
                  "image=/boot/vmlinuz-old\n  label=old\n  root=/dev/sda1\nimage=/boot/vmlinuz-new\n  label=new\n  "
                  "root=/dev/sda1\n");
    const Bytes content = lilo.desk.root.at(kernel).content;
    lilo.desk.root.file("/boot/vmlinuz-old", content).file("/boot/vmlinuz-new", content);
    // The second entry still has the first one's kernel, and the third one was added later.
    const support::Checked checked(with_map(lilo, {{"desk", kernel, ramdisk}, {"old", kernel, ""}}));
    EXPECT_EQ(checked.stage(), "yes") << "the entry that starts by itself is as it should be";
    std::vector<std::string> told;
    for (const auto& finding : checked.verdict.findings)
        if (finding.code == Code::LiloListStale) told.push_back(finding.text);
    ASSERT_EQ(told.size(), 2U);
    EXPECT_NE(told[0].find("sectors that are not those of the kernel d1p1:/boot/vmlinuz-old; they are those of d1p1:" +
                           kernel),
              std::string::npos)
        << told[0];
    EXPECT_NE(told[1].find("does not list “new”"), std::string::npos) << told[1];
    const auto& entries = checked.verdict.menus.front().entries;
    EXPECT_TRUE(entries[0].messages.empty());
    EXPECT_EQ(entries[1].messages.size(), 1U);
}

/// Without “lba32” and “linear”, addresses are cylinder, head and sector, as the BIOS takes them.
std::uint32_t linear_at(const Bytes& disk, std::size_t at) {
    return disk[at] | std::uint32_t{disk[at + 1]} << 8U | std::uint32_t{disk[at + 3]} << 16U;
}
void in_cylinders(Bytes& disk, std::size_t at) {
    const std::uint32_t lba = linear_at(disk, at);
    const auto cylinder = lba / (255 * 63);
    disk[at] = static_cast<std::uint8_t>((lba % 63 + 1) | (cylinder >> 8U) << 6U);
    disk[at + 1] = static_cast<std::uint8_t>(cylinder);
    disk[at + 2] = 0x80;
    disk[at + 3] = static_cast<std::uint8_t>(lba / 63 % 255);
}

TEST(LiloMap, AddressesMayBeCylinderHeadAndSector) {
    LiloDesk lilo(desk_entry());
    auto disk = with_map(lilo, {{"desk", kernel, ramdisk}});
    const auto map = static_cast<std::size_t>(sectors_of(support::machine_of(disk), "/boot/map").front().first) * 512;
    std::vector<std::size_t> changed;
    for (const std::size_t start : {map + 512 + 36, map + 512 + 41}) {
        for (std::size_t at = std::size_t{linear_at(disk, start)} * 512; disk[at + 4] != 0; at += 5)
            changed.push_back(at);
        changed.push_back(start);
    }
    for (const auto at : changed) in_cylinders(disk, at);
    const support::Checked checked(disk);
    EXPECT_EQ(checked.stage(), "yes") << checked.system().symptom;
    EXPECT_FALSE(checked.has(Code::LiloListStale));
    ASSERT_GT(changed.size(), 4U);
    // One sector, one head or one cylinder away it is another file's, or nobody's.
    for (const std::size_t byte : {0U, 1U, 3U}) {
        auto wrong = disk;
        wrong[changed.front() + byte] ^= 1U;
        EXPECT_TRUE(support::Checked(wrong).has(Code::LiloListStale)) << byte;
    }
    // Sectors count from 1: a list that begins with 0 names none, and nothing is held against the file.
    auto none = disk;
    none[changed.front()] &= 0xC0U;
    EXPECT_FALSE(support::Checked(none).has(Code::LiloListStale));
}

TEST(LiloMap, AWildMapIsBounded) {
    LiloDesk lilo(desk_entry());
    const auto disk = with_map(lilo, {{"desk", kernel, ramdisk}});
    const auto machine = support::machine_of(disk);
    const auto at = static_cast<std::size_t>(sectors_of(machine, "/boot/map").front().first) * 512;
    // Descriptors and lists that lead to themselves, past the end, and nowhere.
    for (std::size_t i = 512 + 16; i < 512 + 52; ++i) {
        auto wrong = disk;
        wrong[at + i] = 0xFF;
        EXPECT_FALSE(support::Checked(wrong).verdict.systems.empty());
    }
    auto loop = disk;
    for (std::size_t i = 0; i < 101; ++i)
        std::copy_n(loop.begin() + static_cast<std::ptrdiff_t>(at + 3 * 512), 5,
                    loop.begin() + static_cast<std::ptrdiff_t>(at + 3 * 512 + i * 5));
    std::copy_n(loop.begin() + static_cast<std::ptrdiff_t>(at + 512 + 41), 5,
                loop.begin() + static_cast<std::ptrdiff_t>(at + 3 * 512 + 505));
    EXPECT_FALSE(support::Checked(loop).verdict.systems.empty());
}

TEST(LiloMap, TheFirstSectorsHeadIsNamed) {
    Bytes disk(1U << 20U);
    const Bytes head{0xFA, 0xEB, 0x21, 1, 0xB4, 1, 'L', 'I', 'L', 'O', 22, 8};
    std::copy(head.begin(), head.end(), disk.begin());
    forge::put32(disk, 32, 77);
    disk[510] = 0x55;
    disk[511] = 0xAA;
    const auto machine = support::machine_of(disk);
    const auto view = view_sector(machine.disks.front(), 0);
    ASSERT_TRUE(view);
    const auto field = [&](const std::string& name) {
        const auto found =
            std::find_if(view->fields.begin(), view->fields.end(), [&](const Field& f) { return f.name == name; });
        return found != view->fields.end() ? *found : Field{};
    };
    EXPECT_EQ(field("lilo.version").meaning, "22.8");
    EXPECT_EQ(field("lilo.index_lba").value, "77 (0x4d)");
}

// --- what starts when nobody chooses ---------------------------------------------------------------------------------

/// SYSLINUX on a FAT of its own, a root beside it, perhaps Windows behind them.
Bytes guests_with_default(const std::string& arguments, bool with_windows = false) {
    auto parts = demo::back_office();
    parts.notice.file(
        "/SYSLINUX/syslinux.cfg",
        std::string("DEFAULT strays\nPROMPT 0\n\nLABEL guests\n  LINUX /guest-kernel\n  APPEND root=UUID=") +
            demo::guests_uuid + " ro\n  INITRD /guest-ramdisk.img\nLABEL strays\n  LINUX /stray-kernel\n  APPEND " +
            arguments + "\n");
    auto volume = forge::make_fat(parts.notice, {});
    forge::install_syslinux(volume, "/SYSLINUX");
    forge::ExtOptions ext;
    ext.size = 12U << 20U;
    ext.uuid = forge::uuid_from(demo::guests_uuid);
    forge::DiskSpec disk;
    disk.size = 40U << 20U;
    disk.boot_code = forge::make_plain_boot();
    const std::uint64_t second = 2048 + volume.bytes.size() / 512, third = second + ext.size / 512;
    disk.partitions = {{2048, volume.bytes, 0x06, true}, {second, forge::make_ext(parts.guests, ext), 0x83, false}};
    const auto windows = demo::office_pc().windows;
    if (with_windows)
        disk.partitions.push_back(
            {third, forge::make_ntfs(windows, {12U << 20U, static_cast<std::uint32_t>(third), 7, "Office", ""}), 7,
             false});
    return forge::make_disk(disk);
}

TEST(Unattended, AnEntryWithoutKernelAndRootIsMeantForTheOnlySystem) {
    const support::Checked checked(guests_with_default("quiet"));
    ASSERT_EQ(checked.verdict.systems.size(), 1U);
    const auto& system = checked.system();
    EXPECT_EQ(checked.stage(), "entry");
    EXPECT_EQ(system.place, "d1p2");
    EXPECT_EQ(system.entry, "strays");
    EXPECT_TRUE(system.entry_is_default);
    EXPECT_EQ(system.at(Stage::Entry).findings, std::vector<Code>{Code::EntryKernelMissing});
    EXPECT_EQ(system.symptom, "Loading /stray-kernel failed: No such file or directory\nboot:");
    ASSERT_EQ(system.fallbacks.size(), 1U);
    EXPECT_EQ(system.fallbacks[0].entry, "guests");
    EXPECT_EQ(system.fallbacks[0].starts, Starts::Yes);
    EXPECT_EQ(system.named_by.size(), 2U);
    EXPECT_EQ(system.at(Stage::Configuration).state, State::Holds);
    EXPECT_EQ(system.at(Stage::Kernel).state, State::NotReached);
    EXPECT_FALSE(checked.verdict.all_start());
}

TEST(Unattended, WhereItNamesAnotherRootOrThereAreMoreSystemsItIsNobodys) {
    const support::Checked two(guests_with_default("quiet", true));
    const auto guests =
        std::ranges::find(two.verdict.systems, std::optional<std::string>("d1p2"), &SystemVerdict::place);
    ASSERT_NE(guests, two.verdict.systems.end());
    EXPECT_GE(two.verdict.systems.size(), 2U);
    EXPECT_EQ(guests->starts, Starts::Yes);
    EXPECT_FALSE(guests->entry_is_default);
    // But nobody is left in the belief that the machine starts by itself.
    const auto told = std::ranges::find(two.verdict.findings, Code::EntryUnattendedStops, &Finding::code);
    ASSERT_NE(told, two.verdict.findings.end());
    EXPECT_EQ(told->severity, Severity::Risk);
    EXPECT_EQ(told->text,
              "“strays” starts when nobody chooses, and leads nowhere: the kernel /stray-kernel cannot be opened: "
              "File not found");
    ASSERT_EQ(told->evidence.size(), 1U);
    EXPECT_EQ(told->evidence[0].place, "d1p1:/SYSLINUX/syslinux.cfg");
    EXPECT_EQ(told->evidence[0].line, 8);
    const support::Checked other(guests_with_default("root=UUID=deadbeef-0000-4000-8000-000000000001"));
    const auto again =
        std::ranges::find(other.verdict.systems, std::optional<std::string>("d1p2"), &SystemVerdict::place);
    ASSERT_NE(again, other.verdict.systems.end());
    EXPECT_EQ(again->named_by.size(), 1U);
}

}  // namespace
