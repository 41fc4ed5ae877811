// SPDX-License-Identifier: MIT
// Every finding there is, met by a test or by a demo disk; and those that no other test is about.
#include <algorithm>
#include <filesystem>
#include <fstream>
#include <set>

#include <zlib.h>

#include "help_disc.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "support.hpp"
#include "told.hpp"
#include "weather_station.hpp"

using namespace herberge;
using forge::Bytes;
using support::Checked;

using support::edit;

namespace {

std::string path_of_ramdisk() { return std::string("/boot/initrd.img-") + demo::release; }
constexpr std::size_t volume = std::size_t{2048} * 512;
constexpr const char* system32 = "/Windows/System32/";

/// A disk, the stage that its first system stops at ("yes": it starts), and what is found.
struct Met {
    Code code;
    std::string stage;
    std::function<Bytes()> disk;
};

template <class Change>
std::function<Bytes()> desk(Change change) {
    return [change] {
        auto d = demo::front_desk();
        change(d);
        return d.build();
    };
}
/// The front desk's disk with bytes changed once it is written.
template <class Change>
std::function<Bytes()> written(Change change) {
    return [change] {
        auto d = demo::front_desk();
        d.ext.metadata_csum = false;
        Bytes out = d.build();
        change(out);
        return out;
    };
}
template <class Change>
std::function<Bytes()> office(Change change) {
    return [change] {
        auto p = demo::office_pc();
        change(p);
        return p.build();
    };
}

const std::vector<Met>& met() {
    static const std::vector<Met> all = {
        {Code::ExtErrorsRecorded, "yes", written([](Bytes& b) { b[volume + 1024 + 0x3A] |= 2U; })},
        {Code::ExtFull, "yes", written([](Bytes& b) { std::fill_n(b.begin() + volume + 1024 + 0x0C, 4, 0); })},
        {Code::ExtBackupSuperDiffers, "yes",
         written([](Bytes& b) { b[volume + std::size_t{8193} * 1024 + 0x68] ^= 0xFFU; })},
        {Code::RamdiskOnlyEarly, "ramdisk", desk([](auto& d) {
             forge::Tree early;
             early.file("/kernel/x86/microcode/GenuineIntel.bin", forge::noise(4000, 2));
             d.rebuild_ramdisk = false;
             d.root.file(path_of_ramdisk(), forge::make_cpio(early));
         })},
        {Code::EntryPassword, "yes", desk([](auto& d) {
             edit(d.root, "/boot/grub/grub.cfg", "menuentry ",
                  "set superusers=\"innkeeper\"\npassword innkeeper edelweiss\nmenuentry ");
         })},
        {Code::RootDeviceNameWrong, "root", desk([](auto& d) {
             edit(d.root, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid, "root=/dev/nvme0n1p1");
         })},
        {Code::FstabRootDiffers, "yes", desk([](auto& d) {
             edit(d.root, "/etc/fstab", std::string("UUID=") + demo::root_uuid + " /", "/dev/sda2 /");
         })},
        {Code::ExtGroupChecksum, "yes",
         [] {
             auto bytes = demo::front_desk().build();
             bytes[volume + 2048 + 0x1E] ^= 1U;
             return bytes;
         }},
        {Code::GrubConfigPartlyLost, "yes", desk([](auto& d) {
             auto& text = d.root.at("/boot/grub/grub.cfg").content;
             for (const char c : std::string_view("}\n")) text.push_back(static_cast<std::uint8_t>(c));
         })},
        {Code::RamdiskPartlyDamaged, "yes", desk([](auto& d) {
             d.rebuild_ramdisk = false;
             Bytes packed = forge::gzip(forge::make_cpio(d.ramdisk));
             forge::Tree more;
             more.file("/etc/bell", forge::noise(5000, 8));
             const Bytes second = forge::gzip(forge::make_cpio(more));
             packed.insert(packed.end(), second.begin(), second.begin() + 2000);
             d.root.file(path_of_ramdisk(), packed);
         })},
        {Code::StoreDamaged, "configuration", office([](auto& p) {
             p.with_store = false;
             p.boot.file("/Boot/BCD", forge::noise(8192, 4));
         })},
        {Code::StoreNoPath, "entry", office([](auto& p) {
             auto& elements = p.store.child("Objects\\{0a1b0f00-0000-4000-8000-00000000c001}\\Elements").children;
             std::erase_if(elements, [](const forge::HiveNode& n) { return n.name == "12000002"; });
         })},
        {Code::WindowsSafeMode, "yes", office([](auto& p) {
             p.store.child("Objects\\{0a1b0f00-0000-4000-8000-00000000c001}\\Elements\\25000080")
                 .bytes("Element", Bytes(8));
         })},
        {Code::WindowsDirectoryMissing, "entry", office([](auto& p) {
             p.store.child("Objects\\{0a1b0f00-0000-4000-8000-00000000c001}\\Elements\\22000002")
                 .text("Element", "\\Winnt");
         })},
        {Code::WindowsImportDamaged, "kernel",
         office([](auto& p) { p.windows.at(std::string(system32) + "BOOTVID.dll").content.back() ^= 1U; })},
        {Code::WindowsBootDriverDamaged, "kernel",
         office([](auto& p) { p.windows.at(std::string(system32) + "drivers/volmgr.sys").content.back() ^= 1U; })},
        {Code::WindowsDriverSkipped, "yes", office([](auto& p) {
             p.system_hive.child("ControlSet001\\Services\\almbell").number("Start", 0).number("ErrorControl", 0);
             p.windows.at(std::string(system32) + "drivers/almbell.sys").content.back() ^= 1U;
         })},
        {Code::NtfsHibernated, "yes",
         office([](auto& p) { p.windows.file("/hiberfil.sys", forge::to_bytes("HIBR" + std::string(8188, 'x'))); })},
    };
    return all;
}

TEST(RamdiskCut, BehindItsInitLacksTheShellBecauseOfThat) {
    auto d = demo::front_desk();
    d.ramdisk.file("/init", "#!/usr/bin/shell\n", 0755);
    d.ramdisk.file("/usr/bin/shell", forge::noise(50000, 3), 0755);
    d.rebuild_ramdisk = false;
    Bytes packed = forge::gzip(forge::make_cpio(d.ramdisk));
    packed.resize(packed.size() - 30000);
    d.root.file(path_of_ramdisk(), packed);
    const Checked checked(d.build());
    EXPECT_EQ(checked.stage(), "ramdisk");
    ASSERT_EQ(checked.system().at(Stage::Ramdisk).findings.at(0), Code::RamdiskDamaged);
    const auto& finding = *std::ranges::find(checked.verdict.findings, Code::RamdiskDamaged, &Finding::code);
    EXPECT_TRUE(finding.text.starts_with("the RAM disk is damaged: ")) << finding.text;
    EXPECT_TRUE(finding.text.ends_with("so the interpreter /usr/bin/shell of /init is not in the RAM disk"));
    EXPECT_EQ(finding.evidence.size(), 2U);
    EXPECT_NE(finding.symptom.find("Initramfs unpacking failed: "), std::string::npos) << finding.symptom;
    EXPECT_NE(finding.symptom.find("Failed to execute /init (error -2)"), std::string::npos);
}

class Findings : public testing::TestWithParam<std::size_t> {};
TEST_P(Findings, AreMade) {
    const auto& wanted = met()[GetParam()];
    SCOPED_TRACE(std::string(code_id(wanted.code)));
    const Checked checked(wanted.disk());
    const auto& found = checked.verdict.findings;
    const auto one = std::ranges::find(found, wanted.code, &Finding::code);
    std::string others;
    for (const auto& f : found) others += std::string(code_id(f.code)) + " ";
    ASSERT_NE(one, found.end()) << checked.stage() << ": " << others << checked.system().symptom;
    EXPECT_EQ(checked.stage(), wanted.stage);
    EXPECT_FALSE(one->text.empty());
    EXPECT_FALSE(one->evidence.empty());
    if (wanted.stage == "yes") EXPECT_NE(one->severity, Severity::Breaks);
    support::expect_as_kept(support::told_briefly(checked.machine));
}
INSTANTIATE_TEST_SUITE_P(All, Findings, testing::Range<std::size_t>(0, met().size()), [](const auto& which) {
    std::string name(code_id(met()[which.param].code));
    std::ranges::replace(name, '-', '_');
    return name;
});

TEST(Findings, OfTheGuestsLoader) {
    const auto replace = [](Bytes& in, std::string_view from, std::string_view to) {
        const auto at = std::search(in.begin(), in.end(), from.begin(), from.end());
        ASSERT_NE(at, in.end());
        std::ranges::copy(to, at);
    };
    const auto found = [](const std::function<void(Bytes&)>& change, Code code) {
        auto b = demo::back_office();
        auto second = b.second();
        change(second);
        Machine machine;
        machine.disks.push_back(inspect_disk(memory_source(b.first(), "d1", 1), 1, "first.img"));
        machine.disks.push_back(inspect_disk(memory_source(second, "d2", 2), 2, "second.img"));
        std::vector<Code> codes;
        for (const auto& finding : check(machine).findings) codes.push_back(finding.code);
        EXPECT_NE(std::ranges::find(codes, code), codes.end()) << testing::PrintToString(codes);
    };
    // Its long name, a piece of which begins so.
    using namespace std::string_view_literals;
    found([&](Bytes& b) { replace(b, "s\0y\0s\0l\0i\0"sv, "x\0y\0s\0l\0i\0"sv); }, Code::SyslinuxConfigMissing);
}

/// Where byte `at` of a file lies on the disk; of a directory, where its entries do.
std::uint64_t place_on_disk(const Bytes& image, int partition, const std::string& path, std::uint64_t at = 0) {
    const auto machine = support::machine_of(image);
    const auto held = machine.volume(1, partition);
    const auto& fs = *held->files(Observer::Linux);
    const auto found = resolve(fs, path);
    EXPECT_TRUE(found) << path;
    const auto base = held->source->locate(0, 1).front().offset;
    if (found->file.type == FileType::Directory) return base + fs.extents(found->file.id)->front().base_offset;
    return (*fs.open(found->file.id, path))->locate(at, 1).front().offset;
}

/// What is found when the medium does not give one sector of a disk, which is the last one; empty: what is wanted.
std::string without_sector(const Bytes& image, std::uint64_t at, Code wanted, const Bytes& first = {}) {
    Machine machine;
    if (!first.empty()) machine.disks.push_back(inspect_disk(memory_source(first, "d1", 1), 1, "first"));
    const int number = first.empty() ? 1 : 2;
    const auto source = memory_source(image, first.empty() ? "d1" : "d2", number);
    machine.disks.push_back(inspect_disk(with_unreadable(source, {{at / 512 * 512, 512}}), number, "x"));
    const auto verdict = check(machine);
    std::string out;
    for (const auto& finding : verdict.findings) {
        if (finding.code == wanted) return {};
        out += std::string(code_id(finding.code)) + " ";
    }
    return out + starts_id(verdict.systems.front().starts).data();
}

TEST(Findings, OfSectorsThatTheMediumDoesNotGive) {
    const auto pc = demo::office_pc().build();
    EXPECT_EQ(without_sector(pc, place_on_disk(pc, 1, "/Boot/BCD"), Code::StoreUnreadable), "");
    EXPECT_EQ(
        without_sector(pc, place_on_disk(pc, 2, std::string(system32) + "c_1252.nls"), Code::WindowsCodePageUnreadable),
        "");
    auto software = pc;
    software[place_on_disk(pc, 2, std::string(system32) + "config/SOFTWARE")] = 'X';
    EXPECT_TRUE(Checked(software).has(Code::WindowsSoftwareHive));
    const auto second = demo::back_office().second();
    EXPECT_EQ(without_sector(second, 2 * 512, Code::LegacyStageUnreadable), "");
    const auto first = demo::back_office().first();
    const auto guests = place_on_disk(second, 2, "/SYSLINUX/ldlinux.sys");
    EXPECT_EQ(without_sector(second, guests, Code::SyslinuxUnreadable, first), "");
    EXPECT_EQ(without_sector(second, place_on_disk(second, 1, "/boot"), Code::LegacyStageUnreadable, first), "");
    EXPECT_EQ(
        without_sector(second, place_on_disk(second, 1, "/boot/grub/menu.lst"), Code::ConfigurationUnreadable, first),
        "");
    auto apart = demo::back_office();
    apart.ledger.file("/kernels/vmlinuz",
                      Bytes(apart.ledger.at(std::string("/boot/vmlinuz-") + demo::release).content));
    apart.ledger.file("/ramdisks/initrd", Bytes(apart.ledger.at(path_of_ramdisk()).content));
    edit(apart.ledger, "/boot/grub/menu.lst", std::string("/boot/vmlinuz-") + demo::release, "/kernels/vmlinuz");
    edit(apart.ledger, "/boot/grub/menu.lst", path_of_ramdisk(), "/ramdisks/initrd");
    const auto moved = apart.second();
    EXPECT_EQ(without_sector(moved, place_on_disk(moved, 1, "/kernels"), Code::EntryKernelUnreadable, first), "");
    EXPECT_EQ(without_sector(moved, place_on_disk(moved, 1, "/ramdisks"), Code::RamdiskUnreadable, first), "");
    auto disc = demo::help_disc();
    disc.options.hybrid = false;
    const auto image = disc.build();
    EXPECT_EQ(without_sector(image.bytes, image.first_block.at(demo::help_image) * std::uint64_t{2048} + 3000,
                             Code::IsolinuxImageUnreadable),
              "");
    const Bytes ext = forge::make_ext(demo::front_desk().root, demo::front_desk().ext);
    const Volume lost(with_unreadable(memory_source(ext, "d1p1", 1), {{1024, 512}}), 1, 1);
    EXPECT_EQ(judge_root_mount(lost, "").findings.at(0).code, Code::RootUnreadable);
    const Volume groups(with_unreadable(memory_source(ext, "d1p1", 1), {{2048, 512}}), 1, 1);
    EXPECT_EQ(judge_root_mount(groups, "").findings.at(0).code, Code::ExtGroupUnreadable);
}

TEST(Findings, OfPointersThatLeadNowhere) {
    auto second = demo::back_office().second();
    forge::put32(second, 0x44, 0x00FFFFFF);
    EXPECT_TRUE(Checked(second).has(Code::LegacyPointer));
}

TEST(Findings, OfTablesAndBootSectors) {
    const auto has = [](const std::vector<Finding>& found, Code code) {
        return std::ranges::find(found, code, &Finding::code) != found.end();
    };
    auto gpt = demo::front_desk();
    gpt.disk.gpt = true;
    auto bytes = gpt.build();
    bytes[bytes.size() - std::size_t{33} * 512] ^= 1U;
    EXPECT_TRUE(has(read_partition_table(*memory_source(bytes, "d1", 1))->findings, Code::GptBackupBad));

    auto office_disk = demo::office_pc().build();
    const auto checked = [&](const Bytes& image) {
        const auto machine = support::machine_of(image);
        return check_boot_sector(machine.disks[0], *machine.volume(1, 1)).findings;
    };
    EXPECT_FALSE(has(checked(office_disk), Code::BootSectorBackupDiffers));
    office_disk[(std::size_t{2048} + 8191) * 512 + 0x100] ^= 1U;
    EXPECT_TRUE(has(checked(office_disk), Code::BootSectorBackupDiffers));
    auto kiosk = demo::kiosk().build();
    EXPECT_FALSE(has(checked(kiosk), Code::BootSectorSize));
    forge::put16(kiosk, volume + 19, 16385);
    EXPECT_TRUE(has(checked(kiosk), Code::BootSectorSize));
}

TEST(Findings, OfFirmwareThatDoesNotTakeATable) {
    const auto has = [](const Bytes& image, Code code) {
        const auto machine = support::machine_of(image);
        CheckOptions options;
        options.firmware = FirmwareKind::Uefi;
        const auto verdict = check(machine, options);
        return std::ranges::find(verdict.findings, code, &Finding::code) != verdict.findings.end();
    };
    const auto good = demo::kiosk().build();
    auto ignored = good;
    ignored[1024 + 48] |= 2U;
    forge::put32(ignored, 512 + 88, static_cast<std::uint32_t>(crc32(0, ignored.data() + 1024, 128 * 128)));
    forge::put32(ignored, 512 + 16, 0);
    forge::put32(ignored, 512 + 16, static_cast<std::uint32_t>(crc32(0, ignored.data() + 512, 92)));
    EXPECT_FALSE(has(good, Code::UefiPartitionIgnored));
    EXPECT_TRUE(has(ignored, Code::UefiPartitionIgnored));
    CheckOptions uefi;
    uefi.firmware = FirmwareKind::Uefi;
    const auto all = check(support::machine_of(ignored), uefi).findings;
    const auto told = std::ranges::find(all, Code::UefiPartitionIgnored, &Finding::code);
    ASSERT_NE(told, all.end());
    EXPECT_EQ(told->evidence.at(0).range, (DiskRange{1, 1024 + 48, 8})) << "the first entry's attributes";
    auto unprotected = good;
    unprotected[454] = 2;  // it must start at sector 1
    EXPECT_FALSE(has(good, Code::UefiNoProtectiveEntry));
    EXPECT_TRUE(has(unprotected, Code::UefiNoProtectiveEntry));
    auto dropping = demo::kiosk();
    dropping.esp.file("/loader/entries/old.conf", "title Old\nlinux /gone\n");
    EXPECT_TRUE(has(dropping.build(), Code::BootEntryDropped));
    auto broken = good;
    broken[512 + 60] ^= 1U;
    broken[broken.size() - 512 + 60] ^= 1U;
    EXPECT_TRUE(has(broken, Code::UefiGptRefused));
}

TEST(Findings, OfADiscThatWasNotCopiedToItsEnd) {
    auto bytes = demo::help_disc().build().bytes;
    bytes.resize(bytes.size() - std::size_t{64} * 2048);
    EXPECT_TRUE(Checked(bytes).has(Code::IsoCutShort));
}

TEST(Findings, OfARootThatCannotBeMounted) {
    const Volume blank(memory_source(Bytes(1U << 20U), "d1p2", 1), 1, 2);
    const auto claim = judge_root_mount(blank, "");
    EXPECT_EQ(claim.state, State::Breaks);
    EXPECT_EQ(claim.findings.at(0).code, Code::RootNoFileSystem);
    EXPECT_EQ(claim.findings.at(0).symptom, "");  // what mounts it has its own words
    EXPECT_EQ(claim.text, "d1p2 holds no file system that could be mounted");
}

TEST(Findings, OfFatVolumes) {
    forge::Tree tree;
    tree.file("/guest-kernel", forge::noise(50'000, 6));
    auto fat = forge::make_fat(tree).bytes;
    const auto remarks = [](Bytes bytes) {
        std::vector<Code> out;
        const auto fs = open_file_system(memory_source(std::move(bytes), "d1p1", 1), Reader::Kernel);
        if (fs)
            for (const auto& f : (*fs)->remarks()) out.push_back(f.code);
        return out;
    };
    EXPECT_EQ(remarks(fat), std::vector<Code>{});
    const std::size_t reserved = fat[14] | std::size_t{fat[15]} << 8U;
    const std::size_t length = (fat[22] | std::size_t{fat[23]} << 8U) * 512;
    Bytes differ = fat;
    differ[reserved * 512 + length + 40] ^= 0xFFU;
    EXPECT_EQ(remarks(differ), std::vector<Code>{Code::FatCopiesDiffer});
    fat.resize(fat.size() - 512);
    const auto small = open_file_system(memory_source(fat, "d1p1", 1), Reader::Kernel);
    ASSERT_TRUE(small);
    ASSERT_EQ((*small)->mount_obstacles("").size(), 1U);
    EXPECT_EQ((*small)->mount_obstacles("").front().code, Code::FatLargerThanPartition);
}

TEST(Codes, EachIsMetByATestOrADemoDisk) {
    std::string tests;
    for (const auto& file : std::filesystem::directory_iterator(SOURCE_DIR "/tests")) {
        if (!file.is_regular_file()) continue;
        std::ifstream in(file.path());
        tests.append(std::istreambuf_iterator<char>(in), {});
    }
    const support::Folder folder;
    std::set<Code> met_by_demo;
    const auto note = [&](Bytes first, Bytes second = {}, const Bytes& flash = {}, bool board = false) {
        Machine machine;
        machine.disks.push_back(inspect_disk(memory_source(std::move(first), "d1", 1), 1, "first.img"));
        if (!second.empty())
            machine.disks.push_back(inspect_disk(memory_source(std::move(second), "d2", 2), 2, "second.img"));
        CheckOptions options;
        options.rehearse = false;
        if (board) {
            options.firmware = FirmwareKind::Board;
            options.board = demo::station_board;
            if (!flash.empty()) options.flash = memory_source(flash, "flash");
        } else if (!flash.empty()) {
            options.variables = *read_uefi_variables(folder.write("flash", flash));
        }
        for (const auto& finding : check(machine, options).findings) {
            met_by_demo.insert(finding.code);
            support::expect_screen_of_table(finding);
        }
    };
    for (const auto& story : demo::front_desk_disks()) note(story.make());
    for (const auto& story : demo::office_pc_disks()) note(story.make());
    for (const auto& story : demo::help_discs()) note(story.make());
    for (const auto& story : demo::station_stories())
        note(story.card(), {}, story.flash ? story.flash() : Bytes{}, true);
    for (const auto& story : demo::kiosk_stories()) {
        const auto disk = story.disk();
        note(disk, {}, story.variables ? story.variables(disk) : Bytes{});
    }
    for (const auto& story : demo::back_office_machines())
        note(story.disks.at(0).second(), story.disks.size() > 1 ? story.disks.at(1).second() : Bytes{});
    EXPECT_GT(met_by_demo.size(), 20U);
#define HERBERGE_CODE(name, id, stage, severity, meaning, symptom)                                     \
    {                                                                                                  \
        const std::string wanted = "Code::" #name;                                                     \
        bool in_tests = false;                                                                         \
        for (auto at = tests.find(wanted); at != std::string::npos; at = tests.find(wanted, at + 1)) { \
            const char next = tests[at + wanted.size()];                                               \
            in_tests = in_tests || std::isalnum(static_cast<unsigned char>(next)) == 0;                \
        }                                                                                              \
        const bool is_met = in_tests || met_by_demo.contains(Code::name);                              \
        EXPECT_TRUE(is_met) << id;                                                                     \
    }
#include <herberge/codes.def>
#undef HERBERGE_CODE
}

}  // namespace
