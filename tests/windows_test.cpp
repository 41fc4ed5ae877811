// SPDX-License-Identifier: MIT
// NTFS, registry hives, PE images, the boot store, and the walk of the office PC.
#include <openssl/evp.h>

#include <nlohmann/json.hpp>

#include "office_pc.hpp"
#include "packers.hpp"
#include "support.hpp"
#include "told.hpp"

using namespace herberge;
using support::Bytes;
using support::Checked;

namespace {

const std::string s32 = "/Windows/System32/";

// --- NTFS ----------------------------------------------------------------------------------------------------------

forge::Tree library() {
    forge::Tree tree;
    tree.file("/small.txt", "a few words\n");
    tree.file("/large.bin", forge::noise(300000, 8));
    tree.file("/empty", "");
    for (int i = 0; i < 70; ++i)
        tree.file("/Rooms/guest room number " + std::to_string(i) + ".txt", "room " + std::to_string(i) + "\n");
    return tree;
}

std::shared_ptr<const FileSystem> opened(const Bytes& image, Reader reader = Reader::Loader) {
    auto fs = open_file_system(support::source_of(image, "d1p1"), reader);
    EXPECT_TRUE(fs) << (fs ? "" : fs.error().text());
    return fs ? *fs : nullptr;
}

TEST(Ntfs, EveryFileComesBackAndNamesIgnoreCase) {
    const auto tree = library();
    const auto fs = opened(forge::make_ntfs(tree, {8U << 20U, 2048, 1, "Library", "", false}));
    ASSERT_NE(fs, nullptr);
    EXPECT_EQ(fs->info().label, "Library");
    for (const auto& [path, node] : tree.nodes()) {
        if (node.kind != forge::Node::Kind::File) continue;
        std::string shout = path;
        std::transform(shout.begin(), shout.end(), shout.begin(),
                       [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
        const auto found = resolve(*fs, shout);
        ASSERT_TRUE(found) << path;
        const auto file = fs->open(found->file.id, path);
        ASSERT_TRUE(file) << path;
        const auto bytes = (*file)->bytes(0, (*file)->size());
        ASSERT_TRUE(bytes);
        EXPECT_EQ(*bytes, node.content) << path;
    }
    const auto rooms = resolve(*fs, "/rooms");
    ASSERT_TRUE(rooms);
    const auto list = fs->list(rooms->file.id);
    ASSERT_TRUE(list);
    EXPECT_EQ(list->size(), 70U);
    EXPECT_FALSE(resolve(*fs, "/Rooms/guest room number 70.txt"));
}

constexpr std::size_t mft = std::size_t{4} * 4096;

struct PackingCase {
    const char* name;
    std::uint32_t algorithm;
};
class PackedFiles : public testing::TestWithParam<PackingCase> {};
TEST_P(PackedFiles, ComeBackAndDamageIsAnError) {
    // Text that packs well, with a stretch that does not, and an odd end.
    std::string text;
    for (int i = 0; text.size() < 150'000; ++i)
        text += "the lamp of room " + std::to_string(i * 7919 % 1000) + " is lit\n";
    forge::Tree tree;
    Bytes content(text.begin(), text.end());
    const Bytes raw = forge::noise(70'001, 3);
    content.insert(content.end(), raw.begin(), raw.end());
    tree.file("/large.bin", content);
    tree.file("/one-piece.txt", text.substr(0, 2000));
    tree.file("/plain.txt", text.substr(0, 2000));
    forge::NtfsOptions options;
    options.size = 8U << 20U;
    options.packed = {{"/large.bin", GetParam().algorithm}, {"/one-piece.txt", GetParam().algorithm}};
    options.pack_piece = support::pack_piece;
    const auto image = forge::make_ntfs(tree, options);
    const auto fs = opened(image);
    ASSERT_NE(fs, nullptr);
    for (const auto& [path, node] : tree.nodes()) {
        if (path.find('.') == std::string::npos) continue;
        const auto found = resolve(*fs, path);
        ASSERT_TRUE(found) << path;
        const auto source = fs->open(found->file.id, path);
        ASSERT_TRUE(source) << source.error().text();
        const auto bytes = (*source)->bytes(0, (*source)->size());
        ASSERT_TRUE(bytes) << path << bytes.error().text();
        EXPECT_TRUE(*bytes == node.content) << path;
        // Any part of it, across pieces.
        if (path == "/large.bin") {
            const auto part = (*source)->bytes(32'760, 20);
            ASSERT_TRUE(part);
            EXPECT_TRUE(std::equal(part->begin(), part->end(), content.begin() + 32'760));
        }
    }
    // Damage in the packed stream: an error that names the file, or other bytes; never more than there are.
    const auto found = resolve(*fs, "/large.bin");
    const auto source = fs->open(found->file.id, "/large.bin");
    const auto where = (*source)->locate(0, 1);
    ASSERT_FALSE(where.empty());
    for (std::uint64_t at = where.front().offset; at < where.front().offset + 1200; at += 11) {
        auto wrong = image;
        wrong[at] ^= 0xA5U;
        const auto other = opened(wrong);
        const auto again = other->open(found->file.id, "/large.bin");
        ASSERT_TRUE(again);
        const auto bytes = (*again)->bytes(0, (*again)->size());
        if (!bytes) {
            EXPECT_EQ(bytes.error().place, "/large.bin");
        }
    }
}
INSTANTIATE_TEST_SUITE_P(Ntfs, PackedFiles,
                         testing::Values(PackingCase{"Xpress4K", 0}, PackingCase{"Lzx", 1}, PackingCase{"Xpress8K", 2},
                                         PackingCase{"Xpress16K", 3}),
                         support::by_name);

TEST(Ntfs, TheMirrorHelpsTheSystemNotTheLoader) {
    auto image = forge::make_ntfs(library());
    image[mft] = 'B';
    EXPECT_FALSE(open_file_system(support::source_of(image), Reader::Loader));
    const auto fs = open_file_system(support::source_of(image), Reader::Kernel);
    // The mirror leads to the same table, whose first record stays bad; everything else is there.
    ASSERT_TRUE(fs);
    EXPECT_TRUE(resolve(**fs, "/small.txt"));
    ASSERT_FALSE((*fs)->remarks().empty());
    EXPECT_EQ((*fs)->remarks().front().code, Code::NtfsMirrorDiffers);
}

TEST(Ntfs, HostileRecordsEndWithAnError) {
    const auto good = forge::make_ntfs(library());
    const auto tree = library();
    // Every record of the table in turn: run lists and lengths replaced by nonsense.
    for (std::size_t record = 24; record < 30; ++record)
        for (const std::uint8_t value : {std::uint8_t{0}, std::uint8_t{0xFF}, std::uint8_t{0x7F}})
            for (std::size_t at = 56; at < 400; at += 20) {
                auto image = good;
                for (std::size_t i = 0; i < 4; ++i) image[mft + record * 1024 + at + i] = value;
                const auto fs = open_file_system(support::source_of(std::move(image)), Reader::Loader);
                if (!fs) continue;
                for (const auto& [path, node] : tree.nodes()) {
                    const auto found = resolve(**fs, path);
                    if (!found || found->file.type != FileType::Regular) continue;
                    if (const auto file = (*fs)->open(found->file.id, path))
                        (void)(*file)->bytes(0, std::min<std::uint64_t>((*file)->size(), 4096));
                    break;
                }
            }
}

TEST(Ntfs, TornRecordIsNoticed) {
    auto image = forge::make_ntfs(library());
    image[mft + 24 * 1024 + 510] ^= 1U;
    const auto fs = opened(image);
    ASSERT_NE(fs, nullptr);
    const auto record = fs->stat(24);
    ASSERT_FALSE(record);
    EXPECT_NE(record.error().what.find("do not belong together"), std::string::npos);
}

TEST(Ntfs, ADirtyVolumeIsSaid) {
    const auto fs = opened(forge::make_ntfs(library(), {8U << 20U, 2048, 1, "", "", true}));
    const auto remarks = fs->remarks();
    EXPECT_TRUE(
        std::any_of(remarks.begin(), remarks.end(), [](const Finding& f) { return f.code == Code::NtfsDirty; }));
}

// --- hives -----------------------------------------------------------------------------------------------------------

forge::HiveNode inn() {
    forge::HiveNode root{"ROOT", {}, {}};
    auto& desk = root.child("Inn\\FrontDesk");
    desk.text("Name", "Almhof").number("Rooms", 17).texts("Guests", {"Enzian", "Arnika"});
    desk.bytes("Photo", forge::noise(50000, 4));
    for (int i = 0; i < 40; ++i)
        root.child("Inn\\Rooms\\Room" + std::to_string(i)).number("Beds", static_cast<std::uint32_t>(i % 4));
    return root;
}

class Lists : public testing::TestWithParam<forge::ListKind> {};
TEST_P(Lists, KeysAndValuesComeBack) {
    const auto hive = open_hive(support::source_of(forge::make_hive(inn(), {GetParam(), 1, 1})));
    ASSERT_TRUE(hive) << hive.error().text();
    EXPECT_EQ((*hive)->state(), HiveState::Clean);
    EXPECT_EQ((*hive)->text_at("inn\\frontdesk", "name"), "Almhof");
    EXPECT_EQ((*hive)->number_at("Inn\\FrontDesk", "Rooms"), 17U);
    EXPECT_EQ((*hive)->number_at("Inn\\Rooms\\Room37", "Beds"), 1U);
    const auto desk = (*hive)->at("Inn\\FrontDesk");
    ASSERT_TRUE(desk);
    EXPECT_EQ((*hive)->value(*desk, "Guests")->texts(), (std::vector<std::string>{"Enzian", "Arnika"}));
    EXPECT_EQ((*hive)->value(*desk, "Photo")->data, forge::noise(50000, 4));
    EXPECT_FALSE((*hive)->at("Inn\\Rooms\\Room40"));
    EXPECT_EQ((*hive)->subkeys(*(*hive)->at("Inn\\Rooms"))->size(), 40U);
}
INSTANTIATE_TEST_SUITE_P(Hive, Lists,
                         testing::Values(forge::ListKind::Hash, forge::ListKind::Fast, forge::ListKind::Plain,
                                         forge::ListKind::Indexed));

TEST(Hive, ADirtyOneIsMadeWholeByItsLog) {
    const auto before = forge::make_hive(inn(), {forge::ListKind::Hash, 8, 7});
    auto changed = inn();
    changed.child("Inn\\FrontDesk").number("Rooms", 18);
    const auto after = forge::make_hive(changed, {forge::ListKind::Hash, 8, 8});
    ASSERT_EQ(before.size(), after.size());
    std::vector<std::pair<std::uint32_t, Bytes>> pages;
    for (std::size_t at = 4096; at < before.size(); at += 512)
        if (!std::equal(before.begin() + static_cast<std::ptrdiff_t>(at),
                        before.begin() + static_cast<std::ptrdiff_t>(at + 512),
                        after.begin() + static_cast<std::ptrdiff_t>(at)))
            pages.emplace_back(static_cast<std::uint32_t>(at - 4096),
                               Bytes(after.begin() + static_cast<std::ptrdiff_t>(at),
                                     after.begin() + static_cast<std::ptrdiff_t>(at + 512)));
    ASSERT_FALSE(pages.empty());
    const auto log = forge::make_hive_log(before, 7, pages);
    const auto without = open_hive(support::source_of(before));
    ASSERT_TRUE(without);
    EXPECT_EQ((*without)->state(), HiveState::Unrecovered);
    EXPECT_EQ((*without)->findings().at(0).code, Code::HiveDirty);
    EXPECT_EQ((*without)->number_at("Inn\\FrontDesk", "Rooms"), 17U);
    const auto with = open_hive(support::source_of(before), {support::source_of(log)});
    ASSERT_TRUE(with);
    EXPECT_EQ((*with)->state(), HiveState::Recovered);
    EXPECT_EQ((*with)->findings().at(0).code, Code::HiveRecovered);
    EXPECT_EQ((*with)->number_at("Inn\\FrontDesk", "Rooms"), 18U);
    auto torn = log;
    torn[700] ^= 1U;
    const auto refused = open_hive(support::source_of(before), {support::source_of(torn)});
    ASSERT_TRUE(refused);
    EXPECT_EQ((*refused)->state(), HiveState::Unrecovered) << "a log entry with a wrong hash counts for nothing";
    // One of the two logs is as good as both: what is no log, or one whose head is not whole, is passed over.
    auto headless = log;
    headless[508] ^= 1U;
    auto marked = log;
    marked[0] = 'R';
    for (const auto& other : {headless, marked, Bytes(log.begin(), log.begin() + 511), Bytes{}})
        for (const bool before_it : {true, false}) {
            const std::vector<Source> logs{support::source_of(before_it ? other : log),
                                           support::source_of(before_it ? log : other)};
            const auto mended = open_hive(support::source_of(before), logs);
            ASSERT_TRUE(mended);
            EXPECT_EQ((*mended)->state(), HiveState::Recovered) << before_it << other.size();
            EXPECT_EQ((*mended)->number_at("Inn\\FrontDesk", "Rooms"), 18U);
        }
}

/// The logs of Windows before 8.1: a bit for each 512 bytes of the bins behind "DIRT", then the pieces that it names.
TEST(Hive, ADirtyOneIsMadeWholeByAnOlderLog) {
    const auto before = forge::make_hive(inn(), {forge::ListKind::Hash, 8, 7});
    auto changed = inn();
    changed.child("Inn\\FrontDesk").number("Rooms", 18);
    const auto after = forge::make_hive(changed, {forge::ListKind::Hash, 8, 8});
    const std::size_t pieces = forge::get32(before, 40) / 512;
    std::size_t count = 0;  // of those that the last log has
    struct Log {
        std::uint32_t type = 1, sequence = 8;
        std::string mark = "DIRT";
        std::size_t cut = 0;
        bool sum = true;
    };
    const auto with = [&](const Log& told) {
        Bytes log(before.begin(), before.begin() + 512);
        forge::put32(log, 4, told.sequence);
        forge::put32(log, 28, told.type);
        std::uint32_t sum = 0;
        for (std::size_t i = 0; i < 508; i += 4) sum ^= forge::get32(log, i);
        forge::put32(log, 508, told.sum ? sum : sum + 1);
        log.insert(log.end(), told.mark.begin(), told.mark.end());
        Bytes bits((pieces + 7) / 8), dirty;
        count = 0;
        for (std::size_t i = 0; i < pieces; ++i) {
            const auto from = after.begin() + static_cast<std::ptrdiff_t>(4096 + i * 512);
            if (std::equal(from, from + 512, before.begin() + static_cast<std::ptrdiff_t>(4096 + i * 512)) &&
                i + 1 != pieces)
                continue;
            bits[i / 8] = static_cast<std::uint8_t>(bits[i / 8] | 1U << i % 8);
            dirty.insert(dirty.end(), from, from + 512);
            ++count;
        }
        EXPECT_GE(count, 2U) << "the one that changed, and the last";
        log.insert(log.end(), bits.begin(), bits.end());
        log.resize((log.size() + 511) / 512 * 512);
        log.insert(log.end(), dirty.begin(), dirty.end());
        log.resize(log.size() - told.cut);
        return *open_hive(support::source_of(before), {support::source_of(log)});
    };
    const auto whole = with({});
    EXPECT_EQ(whole->state(), HiveState::Recovered);
    EXPECT_EQ(whole->number_at("Inn\\FrontDesk", "Rooms"), 18U);
    EXPECT_EQ(whole->findings().at(0).text,
              "d1p1:/file was not written to its end; its log makes it whole (" + std::to_string(count) + " pages)");
    EXPECT_EQ(with({.type = 2})->state(), HiveState::Recovered);
    // Of another moment, without its mark or its sum, or cut within the last piece.
    for (const auto& none : {Log{.sequence = 9}, Log{.mark = "DIRX"}, Log{.cut = 1}, Log{.sum = false}}) {
        const auto hive = with(none);
        EXPECT_EQ(hive->state(), HiveState::Unrecovered) << none.mark << none.sequence << none.cut;
        EXPECT_EQ(hive->number_at("Inn\\FrontDesk", "Rooms"), 17U);
    }
}

TEST(Hive, CutDamagedAndSelfPointingOnesAreBounded) {
    const auto good = forge::make_hive(inn());
    EXPECT_FALSE(open_hive(support::source_of({})));
    EXPECT_FALSE(open_hive(support::source_of(Bytes(good.begin(), good.begin() + 8192))));
    auto no_bin = good;
    no_bin[4096] = 'x';
    EXPECT_FALSE(open_hive(support::source_of(no_bin)));
    // Every number of the bins in turn points somewhere else; nothing may hang or crash.
    for (std::size_t at = 4096 + 36; at < good.size() && at < 4096 + 3000; at += 4) {
        auto image = good;
        forge::put32(image, at, static_cast<std::uint32_t>(at % 3 == 0 ? 32 : at - 4096));
        const auto hive = open_hive(support::source_of(std::move(image)));
        if (!hive) continue;
        if (const auto keys = (*hive)->subkeys((*hive)->root()))
            for (const auto key : *keys) {
                (void)(*hive)->values(key);
                (void)(*hive)->subkeys(key);
            }
    }
}

// --- images ----------------------------------------------------------------------------------------------------------

TEST(Pe, HeadersImportsAndChecksum) {
    const auto image = forge::make_pe({0x8664, 1, {"HAL.dll", "BOOTVID.dll"}, {{".room", forge::noise(900, 3)}}, true});
    const auto source = support::source_of(image);
    const auto pe = inspect_pe(*source);
    ASSERT_TRUE(pe) << pe.error().text();
    EXPECT_EQ(pe->imports, (std::vector<std::string>{"HAL.dll", "BOOTVID.dll"}));
    EXPECT_TRUE(pe->complete);
    EXPECT_EQ(*pe_checksum(*source), pe->stored_checksum);
    const auto cut = inspect_pe(*support::source_of(Bytes(image.begin(), image.end() - 100)));
    ASSERT_TRUE(cut);
    EXPECT_FALSE(cut->complete);
    EXPECT_FALSE(inspect_pe(*support::source_of(forge::noise(4000, 2))));
    // 65,535 sections claimed by a header.
    auto many = image;
    forge::put16(many, 0x86, 0xFFFF);
    const auto hostile = inspect_pe(*support::source_of(many));
    if (hostile) EXPECT_FALSE(hostile->complete);
}

// --- the office PC ---------------------------------------------------------------------------------------------------

class OfficeStories : public testing::TestWithParam<std::size_t> {};
TEST_P(OfficeStories, StopWhereTheyShould) {
    const auto story = demo::office_pc_disks().at(GetParam());
    const Checked checked(story.make());
    ASSERT_EQ(checked.verdict.systems.size(), story.name.find("repair") == std::string::npos ? 1U : 2U);
    EXPECT_EQ(checked.stage(), story.stops_at.empty() ? "yes" : story.stops_at) << story.name;
    EXPECT_EQ(checked.system().kind, SystemKind::Windows);
    if (checked.system().stops_at) EXPECT_FALSE(checked.system().symptom.empty());
}
INSTANTIATE_TEST_SUITE_P(Windows, OfficeStories, testing::Range<std::size_t>(0, demo::office_pc_disks().size()));

struct Change {
    const char* name;
    std::function<void(demo::OfficePc&)> change;
    const char* stage;
    std::optional<Code> code;
};
class OfficeChanges : public testing::TestWithParam<Change> {};
TEST_P(OfficeChanges, LeadToThisStage) {
    auto pc = demo::office_pc();
    GetParam().change(pc);
    const Checked checked(pc.build());
    EXPECT_EQ(checked.stage(), GetParam().stage)
        << (checked.system().stops_at ? checked.system().at(*checked.system().stops_at).text : "");
    if (GetParam().code) EXPECT_TRUE(checked.has(*GetParam().code));
    support::expect_as_kept(support::told_briefly(checked.machine));
}
TEST(Windows, AWipedSystemVolumeIsListedAtItsPlace) {
    auto bytes = demo::office_pc().build();
    const auto before = support::machine_of(bytes);
    const auto volume = before.volume(1, 2);
    ASSERT_NE(volume, nullptr);
    const auto where = volume->source->locate(0, 512);
    // The boot sector and its copy in the volume's last sector.
    for (const std::uint64_t at : {where[0].offset, where[0].offset + volume->source->size() - 512})
        std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(at), 512, std::uint8_t{0});
    const Checked checked(bytes);
    ASSERT_EQ(checked.verdict.systems.size(), 1U);
    EXPECT_EQ(checked.system().kind, SystemKind::Unknown);
    EXPECT_EQ(checked.system().place, "d1p2");
    EXPECT_EQ(checked.stage(), "entry");
    EXPECT_TRUE(checked.has(Code::StoreDeviceUnreadable));
    EXPECT_NE(checked.system().symptom.find("0xc000000e"), std::string::npos) << checked.system().symptom;
}

forge::HiveNode& services(demo::OfficePc& p) { return p.system_hive.child("ControlSet001\\Services"); }
INSTANTIATE_TEST_SUITE_P(
    Windows, OfficeChanges,
    testing::Values(Change{"BootManagersImageChanged", [](auto& p) { p.boot.at("/bootmgr").content.back() ^= 1U; },
                           "loader", Code::WindowsLoaderDamaged},
                    Change{"BootManagerCut", [](auto& p) { p.boot.at("/bootmgr").content.resize(4096); }, "loader",
                           Code::WindowsLoaderDamaged},
                    Change{"StoreWithoutEntries",
                           [](auto& p) { p.store = forge::make_store({}, 1U << 20U, 0x0A1B0F70); }, "configuration",
                           Code::StoreNoEntry},
                    Change{"StoreInheritsInACircle",
                           [](auto& p) {
                               const std::string common = "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}";
                               p.store.child("Objects\\" + common + "\\Elements\\14000006").texts("Element", {common});
                           },
                           "yes",
                           {}},
                    Change{"WrongLoaderPath",
                           [](auto& p) {
                               p.store.child("Objects\\{0a1b0f00-0000-4000-8000-00000000c001}\\Elements\\12000002")
                                   .text("Element", "\\Windows\\system32\\winlaod.exe");
                           },
                           "entry", Code::EntryKernelMissing},
                    Change{"EfiLoaderOnABios",
                           [](auto& p) {
                               p.windows.file(s32 + "winload.efi", forge::make_pe({0x14C, 16, {}, {}, true}));
                               p.store.child("Objects\\{0a1b0f00-0000-4000-8000-00000000c001}\\Elements\\12000002")
                                   .text("Element", "\\Windows\\system32\\winload.efi");
                           },
                           "kernel", Code::WindowsOsLoader},
                    Change{"KernelChecksum", [](auto& p) { p.windows.at(s32 + "ntoskrnl.exe").content.back() ^= 1U; },
                           "kernel", Code::WindowsKernelDamaged},
                    Change{"ImportMissing", [](auto& p) { p.windows.remove(s32 + "BOOTVID.dll"); }, "kernel",
                           Code::WindowsImportMissing},
                    Change{"CodePageMissing", [](auto& p) { p.windows.remove(s32 + "c_1252.nls"); }, "kernel",
                           Code::WindowsCodePageMissing},
                    Change{"BootDriverMissing", [](auto& p) { p.windows.remove(s32 + "drivers/volmgr.sys"); }, "kernel",
                           Code::WindowsBootDriverMissing},
                    Change{"HarmlessDriverMissing", [](auto& p) { p.windows.remove(s32 + "drivers/almbell.sys"); },
                           "yes", Code::WindowsServiceMissing},
                    Change{"NoSuchControlSet", [](auto& p) { p.system_hive.child("Select").number("Default", 7); },
                           "kernel", Code::WindowsSystemHive},
                    Change{"PathInItsOtherForms",
                           [](auto& p) {
                               services(p).child("disk").text("ImagePath", "\\SystemRoot\\System32\\drivers\\disk.sys",
                                                              2);
                           },
                           "yes",
                           {}},
                    Change{"StartOverridden",
                           [](auto& p) {
                               services(p)
                                   .child("disk")
                                   .number("Start", 3)
                                   .children.push_back({"StartOverride", {{"0", 4, {0, 0, 0, 0}}}, {}});
                           },
                           "yes",
                           {}},
                    Change{"VolumeManagerOff", [](auto& p) { services(p).child("volmgr").number("Start", 3); }, "root",
                           Code::WindowsStorageDriver},
                    Change{"NoFileSystemDriver", [](auto& p) { p.windows.remove(s32 + "drivers/Ntfs.sys"); }, "root",
                           Code::WindowsFileSystemDriver}),
    support::by_name);

TEST(Windows, StartUpListAndDriveLetters) {
    const auto machine = support::machine_of(demo::office_pc().build());
    const auto systems = find_systems(machine);
    ASSERT_EQ(systems.size(), 1U);
    const auto start = windows_startup(systems.front());
    ASSERT_TRUE(start);
    const auto* items = &start->items;
    const auto at = [&](const std::string& name) {
        return std::find_if(items->begin(), items->end(), [&](const StartupItem& i) { return i.name == name; }) -
               items->begin();
    };
    EXPECT_LT(at("partmgr"), at("volmgr")) << "groups come in their order";
    EXPECT_LT(at("storahci"), at("disk"));
    EXPECT_LT(at("hal.dll"), at("partmgr")) << "the kernel and its HAL come before every driver";
    EXPECT_LT(at("almbell"), at("smss.exe"));
    EXPECT_LT(at("smss.exe"), at("winlogon.exe"));
    EXPECT_EQ(items->at(static_cast<std::size_t>(at("GuestBook"))).file, "/Program Files/Almhof/guestbook.exe");
    EXPECT_TRUE(items->at(static_cast<std::size_t>(at("Bell"))).present);
    const auto letters = windows_drive_letters(machine, systems.front());
    ASSERT_TRUE(letters);
    ASSERT_EQ(letters->size(), 1U);
    ASSERT_NE(letters->front().volume, nullptr);
    EXPECT_EQ(letters->front().volume->place, "d1p2");
}

TEST(Windows, StartUpListMarksAMissingHal) {
    auto pc = demo::office_pc();
    pc.windows.remove(s32 + "hal.dll");
    const auto machine = support::machine_of(pc.build());
    const auto start = windows_startup(find_systems(machine).front());
    ASSERT_TRUE(start);
    std::vector<std::string> absent;
    for (const auto& item : start->items)
        if (!item.present) absent.push_back(item.name);
    EXPECT_EQ(absent, std::vector<std::string>{"hal.dll"});
}

// --- against disks made by others, where they are at hand -----------------------------------------------------------

std::string sha256(const std::vector<std::uint8_t>& bytes) {
    std::array<std::uint8_t, 32> out{};
    unsigned length = 0;
    EVP_Digest(bytes.data(), bytes.size(), out.data(), &length, EVP_sha256(), nullptr);
    return hex(out, "");
}

class Expectations : public testing::TestWithParam<const char*> {};
TEST_P(Expectations, HoldValueByValue) {
    const char* corpus = std::getenv("HERBERGE_CORPUS");
    if (corpus == nullptr) GTEST_SKIP() << "HERBERGE_CORPUS is not set";
    const std::string folder = std::string(corpus) + "/windows/";
    std::ifstream file(folder + "expectations.json");
    if (!file) GTEST_SKIP() << "no expectations there";
    const auto all = nlohmann::json::parse(file);
    const std::string base = GetParam();
    const support::Folder work;
    const std::string image = work.file("disk.img");
    ASSERT_EQ(
        std::system(
            ("zstd -dqf --long=27 --sparse '" + folder + "bases/" + base + ".img.zst' -o '" + image + "'").c_str()),
        0);
    auto disk = open_image(image, 1);
    ASSERT_TRUE(disk);
    Machine machine;
    machine.disks.push_back(inspect_disk(*disk, 1, image));
    const auto& wanted = all.at(base);
    const auto& parts = wanted.at("table").at("partitions");
    ASSERT_EQ(machine.disks[0].table.partitions.size(), parts.size());
    for (std::size_t i = 0; i < parts.size(); ++i) {
        EXPECT_EQ(machine.disks[0].table.partitions[i].first_lba, parts[i].at("start").get<std::uint64_t>());
        EXPECT_EQ(machine.disks[0].table.partitions[i].sectors, parts[i].at("size").get<std::uint64_t>());
    }
    std::size_t files = 0;
    for (const auto& volume : wanted.at("volumes")) {
        const auto v = machine.volume(1, volume.at("partition").get<int>());
        ASSERT_NE(v, nullptr);
        if (!volume.contains("files")) continue;
        for (const auto& [path, f] : volume.at("files").items()) {
            if (!f.contains("sha256")) continue;
            const auto found = resolve(*v->files(Observer::Loader), "/" + path);
            ASSERT_TRUE(found) << path;
            const auto source = v->files(Observer::Loader)->open(found->file.id, path);
            ASSERT_TRUE(source) << path;
            const auto bytes = (*source)->bytes(0, (*source)->size());
            ASSERT_TRUE(bytes) << path;
            EXPECT_EQ(sha256(*bytes), f.at("sha256").get<std::string>()) << path;
            if (f.contains("pe")) {
                const auto pe = inspect_pe(**source);
                ASSERT_TRUE(pe) << path;
                EXPECT_EQ(pe->sections.size(), f.at("pe").at("sections").get<std::size_t>()) << path;
                EXPECT_EQ(pe->subsystem, f.at("pe").at("subsystem").get<int>()) << path;
                EXPECT_EQ(pe->stored_checksum, f.at("pe").at("checksum").get<std::uint32_t>()) << path;
                EXPECT_EQ(*pe_checksum(**source) == pe->stored_checksum, f.at("pe").at("checksum_ok").get<bool>())
                    << path;
            }
            ++files;
        }
    }
    EXPECT_GT(files, 10U);
    const auto systems = find_systems(machine);
    const auto windows = std::find_if(systems.begin(), systems.end(),
                                      [](const InstalledSystem& s) { return s.kind == SystemKind::Windows; });
    ASSERT_NE(windows, systems.end());
    const auto registry = read_windows_registry(*windows->volume, windows->directory);
    ASSERT_TRUE(registry);
    const auto& r = wanted.at("registry");
    EXPECT_EQ(registry->current, r.at("select").at("Current").get<std::uint32_t>());
    EXPECT_EQ(registry->last_known_good, r.at("select").at("LastKnownGood").get<std::uint32_t>());
    for (const auto& s : r.at("services")) {
        const auto found =
            std::find_if(registry->services.begin(), registry->services.end(),
                         [&](const WindowsService& w) { return w.name == s.at("name").get<std::string>(); });
        ASSERT_NE(found, registry->services.end()) << s.at("name");
        EXPECT_EQ(found->start, s.at("start").get<std::uint32_t>()) << found->name;
        EXPECT_EQ(found->error_control, s.at("error_control").get<std::uint32_t>()) << found->name;
        EXPECT_EQ(found->group, s.at("group").is_null() ? "" : s.at("group").get<std::string>());
        if (s.contains("file") && s.at("file").is_string()) {
            std::string a = found->file;
            std::string b = "/" + s.at("file").get<std::string>();
            for (auto* text : {&a, &b})
                std::transform(text->begin(), text->end(), text->begin(),
                               [](unsigned char c) { return static_cast<char>(std::tolower(c)); });
            EXPECT_EQ(a, b);
            EXPECT_EQ(resolve(*windows->volume->files(Observer::Loader), found->file).has_value(),
                      s.at("file_present").get<bool>())
                << found->file;
        }
    }
    const auto letters = windows_drive_letters(machine, *windows);
    ASSERT_TRUE(letters);
    for (const auto& expected : r.at("drive_letters").items()) {
        const std::string& letter = expected.key();
        const auto& where = expected.value();
        const auto found = std::find_if(letters->begin(), letters->end(),
                                        [&](const DriveLetter& l) { return l.letter == letter + ":"; });
        ASSERT_NE(found, letters->end()) << letter;
        const std::string text = where.get<std::string>();
        if (text.starts_with("partition ") && text.find("no such") == std::string::npos) {
            ASSERT_NE(found->volume, nullptr) << letter << " " << text;
            EXPECT_EQ(found->volume->partition, std::stoi(text.substr(10)));
        } else {
            EXPECT_EQ(found->volume, nullptr) << letter;
        }
    }
}
INSTANTIATE_TEST_SUITE_P(Windows, Expectations,
                         testing::Values("win-bios-mbr", "win-uefi-gpt", "win-nt5", "win-linux-dual"));

}  // namespace
