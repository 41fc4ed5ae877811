// SPDX-License-Identifier: MIT
// What is made anew: files of an NTFS, links, hives, boot stores, first sectors, settings of the firmware.
#include <algorithm>
#include <nlohmann/json.hpp>

#include "artifact/hive_writer.hpp"
#include "demo_disks.hpp"
#include "forge/windows.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "remedy/edits.hpp"
#include "remedy/remedy.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Folder;
using support::machine_of;

namespace {

Bytes text(const std::string& content) { return {content.begin(), content.end()}; }

Machine machine_in(const Folder& folder, const std::string& file) {
    Machine machine;
    machine.disks.push_back(inspect_disk(*open_image(folder.file(file), 1), 1, file));
    assemble_layers(machine);
    return machine;
}
/// Writes a disk of a workshop, as it is now, into a file, and runs a command on it.
support::Ran checked(const Folder& folder, const Workshop& shop, const std::string& command) {
    const auto disk = shop.disk(1);
    folder.write("now.img", disk->bytes(0, disk->size(), disk->size()).value());
    return support::shell("cd " + folder.file("") + " && " + command);
}
std::string content_of(const Machine& machine, const std::string& path) {
    const auto file = open_file(machine, {"d1", path});
    if (!file) return file.error().text();
    const auto bytes = file->bytes->bytes(0, file->bytes->size(), 64U << 20U);
    return bytes ? std::string(bytes->begin(), bytes->end()) : bytes.error().text();
}
std::vector<Mending> mended(const Machine& machine, const CheckOptions& options = {}) {
    return mend(machine, check(machine, options), options);
}
/// The system starts once this proposal is applied.
bool starts(const Machine& machine, const Proposal& proposal, CheckOptions options = {}) {
    Workshop shop(machine);
    if (!shop.apply(proposal.patch)) return false;
    for (const auto& one : proposal.variables) {
        std::erase_if(options.variables.all,
                      [&](const UefiVariable& v) { return v.name == one.name && v.guid == one.guid; });
        if (!one.data.empty()) options.variables.all.push_back(one);
    }
    const auto verdict = check(shop.machine(), options);
    return !verdict.systems.empty() && verdict.all_start();
}
std::vector<std::string> titles(const std::vector<Mending>& all) {
    std::vector<std::string> out;
    for (const auto& one : all)
        for (const auto& proposal : one.proposals) out.push_back(proposal.title);
    return out;
}

// --- files of an NTFS ------------------------------------------------------------------------------------------------

/// A volume as the system's own maker and driver leave it; empty: they are not there.
bool made_ntfs(const Folder& folder, const std::string& options, const std::string& fill) {
    const auto made =
        support::shell("cd " + folder.file("") + " && rm -f v.img && truncate -s 24M v.img && mkntfs -qFf " + options +
                       " v.img && mkdir -p m && ntfs-3g v.img m && (cd m && " + fill + ") ; s=$?; umount m; exit $s");
    return made.status == 0;
}

TEST(NtfsFiles, AreAddedAsTheSystemsOwnDriverAndCheckersWantThem) {
    const Folder folder;
    for (const char* options : {"-c 4096", "-c 512", "-c 65536"}) {
        if (!made_ntfs(
                folder, options,
                "mkdir Boot EFI && printf old > Boot/old.txt && for i in $(seq 60); do printf $i > file$i; done"))
            GTEST_SKIP() << "mkntfs or ntfs-3g is missing, or may not mount here";
        const Machine machine = machine_in(folder, "v.img");
        Workshop shop(machine);
        std::string large;
        for (int i = 0; i < 100000; ++i) large += "line " + std::to_string(i) + "\n";
        const std::pair<const char*, std::string> files[] = {{"/Boot/BCD", std::string(8192, 'b')},
                                                             {"/boot.ini", "[boot loader]\r\n"},
                                                             {"/Boot/A longer name.txt", large},
                                                             {"/Boot/old.txt", large},
                                                             {"/New folder/Fonts/wgl4.ttf", "font"},
                                                             {"/Boot/BCD", "short now"},
                                                             {"/Boot/Ünïcode", "ü"},
                                                             {"/file07x", ""}};
        for (const auto& [path, content] : files) {
            const auto done = remedy::put_file(shop, "d1", path, text(content));
            ASSERT_TRUE(done) << options << path << done.error().text();
            EXPECT_EQ(content_of(shop.machine(), path), content) << options << path;
            const auto clusters = checked(folder, shop, "ntfsresize -i -f -P now.img");
            EXPECT_EQ(clusters.status, 0) << options << path << clusters.out;
        }
        // The system's own driver finds all of it, and what was there before; it can write further.
        const auto read = checked(folder, shop,
                                  "ntfs-3g now.img m && (cat 'm/New folder/Fonts/wgl4.ttf'; cat m/Boot/BCD; cat "
                                  "m/boot.ini; cat m/Boot/Ünïcode; wc -c < "
                                  "'m/Boot/A longer name.txt'; "
                                  "cmp 'm/Boot/A longer name.txt' m/Boot/old.txt && ls m | wc -l; cat m/file60; printf "
                                  "more > m/Boot/more && rm m/boot.ini; ls m/Boot); umount m");
        EXPECT_EQ(read.out, "fontshort now[boot loader]\r\nü" + std::to_string(large.size()) +
                                "\n65\n60A longer name.txt\nBCD\nmore\nold.txt\nÜnïcode\n")
            << options;
        EXPECT_EQ(support::shell("cd " + folder.file("") + " && ntfsresize -i -f -P now.img").status, 0);
        EXPECT_EQ(remedy::put_file(shop, "d1", "/a:b", text("x")).error().kind, ErrorKind::Malformed);
        EXPECT_EQ(remedy::put_file(shop, "d1", "/Boot", text("x")).error().kind, ErrorKind::WrongType);
        EXPECT_EQ(remedy::put_file(shop, "d1", "/too-large", text(std::string(25U << 20U, 'x'))).error().kind,
                  ErrorKind::TooLarge);
    }
}

TEST(NtfsFiles, ManyFitUntilTheDirectoryOrTheTableOfFilesIsFull) {
    const Folder folder;
    if (!made_ntfs(folder, "-c 4096",
                   "mkdir many && for i in $(seq 300); do printf $i > many/file$i; done && for i in $(seq 80 2 200); "
                   "do rm many/file$i; done"))
        GTEST_SKIP() << "mkntfs or ntfs-3g is missing, or may not mount here";
    const Machine machine = machine_in(folder, "v.img");
    Workshop shop(machine);
    int added = 0;
    ErrorKind end{};
    for (int i = 0; i < 200; ++i) {
        const auto done = remedy::put_file(shop, "d1", "/many/new" + std::to_string(i), text("n" + std::to_string(i)));
        if (!done) {
            end = done.error().kind;
            break;
        }
        ++added;
    }
    EXPECT_GE(added, 8);
    EXPECT_EQ(end, ErrorKind::TooLarge);
    const auto read = checked(folder, shop,
                              "ntfs-3g now.img m && (ls m/many | wc -l; cat m/many/new7 m/many/file299); umount m; "
                              "ntfsresize -i -f -P now.img > /dev/null && printf ' fine'");
    EXPECT_EQ(read.out, std::to_string(300 - 61 + added) + "\nn7299 fine");
}

TEST(NtfsFiles, NotWhereWindowsSleepsOrWantsToCheck) {
    const Folder folder;
    if (!made_ntfs(folder, "-c 4096", "printf 'hibr' > hiberfil.sys"))
        GTEST_SKIP() << "mkntfs or ntfs-3g is missing, or may not mount here";
    Workshop shop(machine_in(folder, "v.img"));
    EXPECT_EQ(remedy::put_file(shop, "d1", "/x", text("x")).error().kind, ErrorKind::Unsupported);
}

// --- links and names of an ext ---------------------------------------------------------------------------------------

TEST(ExtNames, LinksAndOtherNamesAsTheChecker) {
    const Folder folder;
    for (const char* options :
         {"-b 1024 -O metadata_csum", "-b 4096 -O ^metadata_csum", "-b 1024 -I 128 -O ^metadata_csum,^extent,^64bit"}) {
        ASSERT_EQ(support::shell("cd " + folder.file("") +
                                 " && rm -rf tree v.img && mkdir -p tree/usr/sbin tree/boot/grub/i386-pc.old && printf "
                                 "m > tree/boot/grub/i386-pc.old/normal.mod && printf i > tree/usr/sbin/init && "
                                 "truncate -s 16M v.img && mkfs.ext4 -q -d tree " +
                                 std::string(options) + " v.img")
                      .status,
                  0);
        Workshop shop(machine_in(folder, "v.img"));
        ASSERT_TRUE(remedy::put_link(shop, "d1", "/sbin", "usr/sbin"));
        ASSERT_TRUE(remedy::put_link(shop, "d1", "/boot/long", std::string(59, 'l')));
        ASSERT_TRUE(remedy::rename_file(shop, "d1", "/boot/grub/i386-pc.old", "i386-pc"));
        const Machine now = shop.machine();
        EXPECT_EQ(content_of(now, "/sbin/init"), "i");
        EXPECT_EQ(content_of(now, "/boot/grub/i386-pc/normal.mod"), "m");
        const auto* fs = now.at("d1")->files(Observer::Linux);
        EXPECT_FALSE(resolve(*fs, "/boot/grub/i386-pc.old"));
        EXPECT_EQ(fs->link_target(resolve(*fs, "/boot/long", {.follow_last = false})->file.id), std::string(59, 'l'));
        const auto fine = checked(folder, shop, "e2fsck -fn now.img");
        EXPECT_EQ(fine.status, 0) << options << fine.out;
        EXPECT_NE(checked(folder, shop, "debugfs -R 'stat /sbin' now.img").out.find("Fast link dest: \"usr/sbin\""),
                  std::string::npos);
        EXPECT_EQ(remedy::put_link(shop, "d1", "/sbin", "x").error().kind, ErrorKind::WrongType);
        EXPECT_EQ(remedy::put_link(shop, "d1", "/l", std::string(60, 'l')).error().kind, ErrorKind::TooLarge);
        EXPECT_EQ(remedy::put_link(shop, "d1", "/l", "").error().kind, ErrorKind::TooLarge);
        EXPECT_EQ(remedy::rename_file(shop, "d1", "/boot", "usr").error().kind, ErrorKind::WrongType);
        EXPECT_EQ(remedy::rename_file(shop, "d1", "/none", "x").error().kind, ErrorKind::NotFound);
    }
}

// --- hives -----------------------------------------------------------------------------------------------------------

TEST(HiveWriter, WhatIsWrittenIsRead) {
    HiveTree root{"Root", {}, {}};
    root.at("Software\\Inn").set_text("Name", "Almhof Süd");
    root.at("software\\inn").set_number("rooms", 12);
    root.at("Software\\Inn").set_bytes("Long", Bytes(16344, 7));
    root.at("Software\\Inn").set_bytes("Short", {1, 2, 3});
    root.at("Software\\Inn").set_texts("Order", {"one", "two"});
    root.at("Software\\Inn").set_text("NAME", "Almhof");
    for (int i = 0; i < 300; ++i)
        root.at("Many\\Key" + std::to_string(i)).set_number("n", static_cast<std::uint32_t>(i));
    const auto file = write_hive(root);
    ASSERT_TRUE(file) << file.error().text();
    EXPECT_EQ(file->size() % 4096, 0U);
    const auto hive = open_hive(memory_source(*file, "hive", 0));
    ASSERT_TRUE(hive) << hive.error().text();
    EXPECT_EQ((*hive)->state(), HiveState::Clean);
    EXPECT_TRUE((*hive)->findings().empty());
    EXPECT_EQ((*hive)->text_at("Software\\Inn", "name"), "Almhof");
    EXPECT_EQ((*hive)->number_at("SOFTWARE\\INN", "Rooms"), 12U);
    EXPECT_EQ((*hive)->number_at("Many\\Key299", "n"), 299U);
    EXPECT_EQ((*hive)->number_at("Many\\Key0", "n"), 0U);
    const auto key = (*hive)->at("Software\\Inn").value();
    EXPECT_EQ((*hive)->value(key, "Long")->data, Bytes(16344, 7));
    EXPECT_EQ((*hive)->value(key, "Short")->data, (Bytes{1, 2, 3}));
    EXPECT_EQ((*hive)->value(key, "Order")->texts(), (std::vector<std::string>{"one", "two"}));
    // Read whole and written again, it is the same file.
    EXPECT_EQ(write_hive(read_hive_tree(**hive).value()).value().size(), file->size());
    // The base block by hand: mark, equal sequences, format 1.5, the checksum over its first 508 bytes.
    EXPECT_EQ(std::string(file->begin(), file->begin() + 4), "regf");
    EXPECT_EQ(forge::get32(*file, 4), forge::get32(*file, 8));
    EXPECT_EQ(forge::get32(*file, 24), 5U);
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < 508; i += 4) sum ^= forge::get32(*file, i);
    EXPECT_EQ(forge::get32(*file, 508), sum);
    // A key tells the longest below it in bytes of UTF-16, and of its values: behind its mark, 52 bytes on.
    const auto longest = [&](const std::string& name) {
        for (std::size_t i = 4096; i + 80 + name.size() < file->size(); ++i)
            if ((*file)[i] == 'n' && (*file)[i + 1] == 'k' && (*file)[i + 72] == name.size() && (*file)[i + 73] == 0 &&
                std::equal(name.begin(), name.end(), file->begin() + static_cast<std::ptrdiff_t>(i + 76)))
                return std::vector<std::uint32_t>{forge::get32(*file, i + 52), forge::get32(*file, i + 56),
                                                  forge::get32(*file, i + 60), forge::get32(*file, i + 64)};
        return std::vector<std::uint32_t>{};
    };
    EXPECT_EQ(longest("Root"), (std::vector<std::uint32_t>{16, 0, 0, 0})) << "Software";
    EXPECT_EQ(longest("Inn"), (std::vector<std::uint32_t>{0, 0, 10, 16344})) << "rooms, and what Long holds";
    EXPECT_EQ(longest("Many"), (std::vector<std::uint32_t>{12, 0, 0, 0}));
    EXPECT_EQ(longest("Key7"), (std::vector<std::uint32_t>{0, 0, 2, 4}));
    // Every cell of the bin fits the next, to its end.
    std::size_t at = 4096 + 32;
    while (at < file->size()) {
        const auto size = static_cast<std::int32_t>(forge::get32(*file, at));
        ASSERT_NE(size, 0);
        at += static_cast<std::size_t>(std::abs(size));
    }
    EXPECT_EQ(at, file->size());
}

TEST(HiveWriter, Bounds) {
    HiveTree root{"R", {}, {}};
    root.set_bytes("x", Bytes(16345));
    EXPECT_EQ(write_hive(root).error().kind, ErrorKind::TooLarge);
    HiveTree named{std::string(256, 'k'), {}, {}};
    EXPECT_EQ(write_hive(named).error().kind, ErrorKind::TooLarge);
    HiveTree odd{"R", {}, {}};
    odd.at("Žofie");
    EXPECT_EQ(write_hive(odd).error().kind, ErrorKind::Malformed);
    HiveTree deep{"R", {}, {}};
    std::string path = "k";
    for (int i = 0; i < 65; ++i) path += "\\k";
    deep.at(path);
    EXPECT_EQ(write_hive(deep).error().kind, ErrorKind::TooLarge);
}

// --- what they mend --------------------------------------------------------------------------------------------------

Bytes office(const std::string& name) {
    for (const auto& story : demo::office_pc_disks())
        if (story.name == name) return story.make();
    return {};
}

TEST(Rebuilt, TheBootStoreOfAWindows) {
    const Machine machine = machine_of(office("office-pc-no-store.img"));
    const auto found = mended(machine);
    ASSERT_EQ(found.size(), 1U);
    ASSERT_FALSE(found[0].proposals.empty()) << found[0].bring;
    const auto& first = found[0].proposals.front();
    EXPECT_EQ(
        first.title,
        "write the boot store d1p1:/Boot/BCD anew, with one entry for Almhof Window Workplace (build 7601) on d1p2");
    EXPECT_TRUE(starts(machine, first));
    Workshop shop(machine);
    ASSERT_TRUE(shop.apply(first.patch));
    const auto menus = read_menus(shop.machine());
    ASSERT_EQ(menus.size(), 1U);
    ASSERT_EQ(menus[0].entries.size(), 1U);
    EXPECT_EQ(menus[0].entries[0].title, "Almhof Window Workplace (build 7601)");
    EXPECT_TRUE(menus[0].entries[0].kernel.at(0).found());
}

TEST(Rebuilt, ARegistryFromTheCopyThatWindowsPutAside) {
    auto pc = demo::office_pc();
    const Machine whole = machine_of(pc.build());
    const std::string path = "/Windows/System32/config/SYSTEM";
    const auto file = open_file(whole, {"d1p2", path});
    const auto hive = file->bytes->bytes(0, file->bytes->size()).value();
    Workshop shop(whole);
    ASSERT_TRUE(remedy::put_file(shop, "d1p2", "/Windows/System32/config/RegBack/SYSTEM", hive));
    ASSERT_TRUE(remedy::put_file(shop, "d1p2", path, Bytes(hive.size(), 0x55)));
    const Machine machine = shop.machine();
    ASSERT_FALSE(check(machine).all_start());
    const auto found = mended(machine);
    ASSERT_FALSE(found.at(0).proposals.empty()) << found[0].before.reason << found[0].bring;
    EXPECT_EQ(found[0].proposals[0].title,
              "copy d1p2:/Windows/System32/config/RegBack/SYSTEM to d1p2:/Windows/System32/config/SYSTEM");
    EXPECT_TRUE(starts(machine, found[0].proposals[0]));
}

TEST(Rebuilt, AnEntryInAStoreThatKeepsItsOthers) {
    // The store is whole and names nothing: neither a default nor an order.
    auto pc = office("office-pc.img");
    const Machine whole = machine_of(pc);
    const auto store = open_file(whole, {"d1p1", "/Boot/BCD"});
    ASSERT_TRUE(store);
    auto tree = read_hive_tree(**open_hive(store->bytes)).value();
    auto& manager = tree.at("Objects\\{9dea862c-5cdd-4e70-acc1-f32b344d4795}\\Elements");
    std::erase_if(manager.keys, [](const HiveTree& one) { return one.name == "23000003" || one.name == "24000001"; });
    tree.at("Objects\\{0a1b0f70-0000-4000-8000-000000000077}\\Elements\\12000004").set_text("Element", "kept");
    Workshop shop(whole);
    ASSERT_TRUE(remedy::put_file(shop, "d1p1", "/Boot/BCD", write_hive(tree).value()));
    const Machine machine = shop.machine();
    ASSERT_FALSE(check(machine).all_start());
    const auto found = mended(machine);
    ASSERT_FALSE(found.at(0).proposals.empty()) << found[0].bring;
    EXPECT_EQ(found[0].proposals[0].title,
              "in the boot store d1p1:/Boot/BCD, start Almhof Window Workplace (build 7601) on d1p2 (its other entries "
              "are kept)");
    EXPECT_TRUE(starts(machine, found[0].proposals[0]));
    Workshop after(machine);
    ASSERT_TRUE(after.apply(found[0].proposals[0].patch));
    const auto hive = open_hive(open_file(after.machine(), {"d1p1", "/Boot/BCD"})->bytes).value();
    EXPECT_EQ(hive->text_at("Objects\\{0a1b0f70-0000-4000-8000-000000000077}\\Elements\\12000004", "Element"), "kept");
    const auto objects = hive->subkeys(hive->at("Objects").value()).value();
    EXPECT_EQ(objects.size(), tree.at("Objects").keys.size()) << "the loader that was there is used, no other is added";
}

TEST(Rebuilt, TheFirstSectorByCodeOfOurOwn) {
    auto disk = office("office-pc.img");
    std::fill_n(disk.begin(), 440, std::uint8_t{0});
    const Machine machine = machine_of(disk);
    const auto found = mended(machine);
    ASSERT_FALSE(found.at(0).proposals.empty()) << found[0].bring;
    const auto& first = found[0].proposals.front();
    EXPECT_EQ(first.title, "write code of our own to d1's first sector, which starts the active partition");
    EXPECT_TRUE(starts(machine, first));
    // Table, signature and mark stay.
    for (const auto& change : first.patch.changes) EXPECT_LE(change.offset + change.after.size(), 440U);
    Workshop shop(machine);
    ASSERT_TRUE(shop.apply(first.patch));
    // It says what is wrong where it cannot go on: no active partition, an empty boot sector.
    const std::uint8_t inactive = 0;
    auto without = shop.copy();
    ASSERT_TRUE(without.write(1, 446, {&inactive, 1}));
    EXPECT_EQ(rehearse(without.machine(), 1, {}).screen.at(0), "No partition of this disk is the active one.");
    auto blank = shop.copy();
    ASSERT_TRUE(blank.write(1, 2048 * 512, Bytes(512)));
    EXPECT_EQ(rehearse(blank.machine(), 1, {}).screen.at(0), "The active partition's first sector starts nothing.");
}

/// Neither copy of a GPT is left: the volumes tell where its partitions were.
TEST(Rebuilt, AGptOfWhichNoCopyIsLeft) {
    const Folder folder;
    for (const bool protective : {true, false}) {
        auto disk = demo::kiosk().build();
        const auto before = inspect_disk(memory_source(disk, "d1", 1), 1, "kiosk.img").table;
        std::fill_n(disk.begin() + 512, 33 * 512, std::uint8_t{0});
        std::fill_n(disk.end() - 33 * 512, 33 * 512, std::uint8_t{0});
        if (!protective) std::fill_n(disk.begin() + 446, 66, std::uint8_t{0});
        const Machine machine = machine_of(disk);
        CheckOptions options;
        options.firmware = FirmwareKind::Uefi;
        const auto found = mended(machine, options);
        ASSERT_EQ(found.size(), 1U);
        if (!protective) {  // nothing says that there ever was one
            EXPECT_TRUE(found[0].proposals.empty() || !found[0].proposals[0].title.starts_with("write the GPT"));
            continue;
        }
        ASSERT_FALSE(found[0].proposals.empty()) << found[0].bring;
        const auto& first = found[0].proposals.front();
        EXPECT_TRUE(first.title.starts_with("write the GPT of d1 anew from the volumes on it, numbered from 1: fat"))
            << first.title;
        EXPECT_TRUE(starts(machine, first, options));
        Workshop shop(machine);
        ASSERT_TRUE(shop.apply(first.patch));
        const Machine after = shop.machine();
        const auto& table = after.disks[0].table;
        EXPECT_TRUE(table.primary_sound && table.backup_sound);
        EXPECT_TRUE(table.findings.empty());
        ASSERT_EQ(table.partitions.size(), before.partitions.size());
        for (std::size_t i = 0; i < table.partitions.size(); ++i) {
            EXPECT_EQ(table.partitions[i].number, before.partitions[i].number);
            EXPECT_EQ(table.partitions[i].first_lba, before.partitions[i].first_lba);
            EXPECT_EQ(table.partitions[i].sectors, before.partitions[i].sectors);
            EXPECT_EQ(table.partitions[i].type_guid, before.partitions[i].type_guid);
        }
        const auto verified = checked(folder, shop, "/sbin/sfdisk --verify now.img");
        if (verified.status == 127) GTEST_SKIP() << "sfdisk is not here";
        EXPECT_EQ(verified.status, 0) << verified.out;
        EXPECT_NE(verified.out.find("No errors detected"), std::string::npos) << verified.out;
    }
}

TEST(Rebuilt, TheSectorsOfASyslinuxThatLiesElsewhereNow) {
    auto disk = demo::back_office().second();
    const Machine whole = machine_of(disk);
    const FilePlace place{"d1p2", "/SYSLINUX/ldlinux.sys"};
    const auto file = open_file(whole, place);
    ASSERT_TRUE(file) << file.error().text();
    const auto content = file->bytes->bytes(0, file->bytes->size()).value();
    // A copy in other sectors, in pieces; what the boot sector names is used by something else.
    Workshop shop(whole);
    for (const std::size_t size : {std::size_t{100}, std::size_t{0}})
        for (int i = 0; i < 12; i += size == 0 ? 2 : 1)
            ASSERT_TRUE(remedy::put_file(shop, "d1p2", "/f" + std::to_string(i), Bytes(size)));
    ASSERT_TRUE(remedy::put_file(shop, "d1p2", "/boot/syslinux/ldlinux.sys", content));
    ASSERT_TRUE(shop.write(*file->bytes, 0, Bytes(content.size(), 0x55)));
    const Machine machine = shop.machine();
    const auto copy = open_file(machine, {"d1p2", "/boot/syslinux/ldlinux.sys"});
    ASSERT_GT(copy->volume->files(Observer::Linux)->extents(copy->found.file.id)->size(), 1U);
    ASSERT_NE(copy->bytes->locate(0, 1).front().offset, file->bytes->locate(0, 1).front().offset);
    // The volume's boot sector alone is asked: nothing else on the disk starts it here.
    const auto before =
        run_loader(machine, {machine.disk(1), machine.at("d1p2"), machine.disk(1)->table.find(2)->first_lba, 1});
    ASSERT_TRUE(before && before->stop);
    EXPECT_EQ(before->stopped_by()->code, Code::SyslinuxSecondStageGone);
    std::vector<remedy::Idea> ideas;
    const auto verdict = check(machine);
    const auto& system = verdict.systems.front();
    remedy::propose_syslinux({machine, verdict, {}, system, system.at(Stage::Loader)}, ideas);
    ASSERT_EQ(ideas.size(), 1U);
    EXPECT_EQ(ideas[0].what,
              "let d1p2's boot sector and d1p2:/boot/syslinux/ldlinux.sys name the sectors in which that file lies");
    ASSERT_TRUE(ideas[0].make(shop));
    const Machine now = shop.machine();
    const auto after = run_loader(now, {now.disk(1), now.at("d1p2"), now.disk(1)->table.find(2)->first_lba, 1});
    EXPECT_TRUE(after && !after->stop) << (after->stop ? after->stop->text : "");
    // Where everything is as it should be, nothing is offered.
    ideas.clear();
    remedy::propose_syslinux({now, verdict, {}, system, system.at(Stage::Loader)}, ideas);
    EXPECT_TRUE(ideas.empty());
}

TEST(Rebuilt, LinksAndFoldersOfALinux) {
    const struct {
        const char* path;
        const char* title;
        bool rename;
    } cases[] = {{"/sbin", "make the link d1p1:/sbin to usr/sbin", false},
                 {"/boot/grub/i386-pc", "give the folder d1p1:/boot/grub/i386-pc.old its name i386-pc back", true}};
    for (const auto& one : cases) {
        const Machine whole = machine_of(demo::front_desk().build());
        Workshop shop(whole);
        if (one.rename) ASSERT_TRUE(remedy::rename_file(shop, "d1p1", one.path, "i386-pc.old"));
        else ASSERT_TRUE(remedy::hide_file(shop, "d1p1", one.path));
        const Machine machine = shop.machine();
        ASSERT_FALSE(check(machine).all_start()) << one.path;
        const auto found = mended(machine);
        ASSERT_FALSE(found.at(0).proposals.empty()) << one.path << found[0].before.reason;
        EXPECT_EQ(found[0].proposals[0].title, one.title);
        EXPECT_TRUE(starts(machine, found[0].proposals[0]));
    }
}

TEST(Rebuilt, TheEntryThatStartsBecomesTheOneThatDoes) {
    // The first entry's RAM disk is cut; the second entry has one of its own.
    auto desk = demo::front_desk();
    (void)desk.build();
    desk.rebuild_ramdisk = false;
    const std::string ramdisk = std::string("/boot/initrd.img-") + demo::release;
    desk.root.file("/boot/initrd.old", desk.root.at(ramdisk).content);
    support::edit(desk.root, "/boot/grub/grub.cfg", " single ro quiet\n\tinitrd " + ramdisk,
                  " single ro quiet\n\tinitrd /boot/initrd.old");
    desk.root.at(ramdisk).content.resize(9000);
    const Machine machine = machine_of(desk.build());
    const auto verdict = check(machine);
    ASSERT_EQ(verdict.systems.at(0).stops_at, Stage::Ramdisk);
    ASSERT_EQ(verdict.systems[0].fallbacks.size(), 1U);
    const auto found = mended(machine);
    const auto all = titles(found);
    const auto at =
        std::ranges::find(all, "in d1p1:/boot/grub/grub.cfg, let “Almhof front desk, single user” start unattended");
    ASSERT_NE(at, all.end()) << (all.empty() ? found[0].bring : all.front());
    EXPECT_TRUE(starts(machine, found[0].proposals[static_cast<std::size_t>(at - all.begin())]));
}

TEST(Rebuilt, AFileThatWasPutAside) {
    auto desk = demo::front_desk();
    desk.root.file("/etc/init.d/rcS.bak", desk.root.at("/etc/init.d/rcS").content, 0100755);
    const Machine whole = machine_of(desk.build());
    Workshop shop(whole);
    ASSERT_TRUE(remedy::hide_file(shop, "d1p1", "/etc/init.d/rcS"));
    const Machine machine = shop.machine();
    const auto found = mended(machine);
    ASSERT_FALSE(found.at(0).proposals.empty()) << found[0].before.reason;
    EXPECT_EQ(found[0].proposals[0].title, "copy d1p1:/etc/init.d/rcS.bak to d1p1:/etc/init.d/rcS");
    EXPECT_TRUE(starts(machine, found[0].proposals[0]));
}

CheckOptions kiosk_options(const demo::KioskStory& story) {
    CheckOptions out;
    out.firmware = FirmwareKind::Uefi;
    out.variables = *parse_uefi_flash(story.variables(story.disk()));
    out.variables.source = "kiosk.fd";
    return out;
}
demo::KioskStory kiosk(const std::string& name) {
    for (const auto& story : demo::kiosk_stories())
        if (story.name == name) return story;
    return {};
}

TEST(Rebuilt, BootOptionsOfTheFirmware) {
    const auto story = kiosk("kiosk-gone");
    const Machine machine = machine_of(story.disk());
    const auto options = kiosk_options(story);
    const auto found = mended(machine, options);
    ASSERT_FALSE(found.at(0).proposals.empty()) << found[0].bring;
    const auto added =
        std::ranges::find_if(found[0].proposals, [](const Proposal& one) { return !one.variables.empty(); });
    ASSERT_NE(added, found[0].proposals.end());
    EXPECT_TRUE(added->title.starts_with("in the firmware's variables, add Boot0000 “systemd-boot” for HD(1,GPT,"))
        << added->title;
    EXPECT_TRUE(added->title.ends_with("\\EFI\\almhof\\checkin.efi and put it first in BootOrder"));
    EXPECT_TRUE(added->patch.empty());
    EXPECT_TRUE(starts(machine, *added, options));
    ASSERT_EQ(added->variables.size(), 2U);
    // The new option by hand (UEFI 2.10, 3.1.3): active, its path's length, a title.
    const auto& option = std::ranges::find(added->variables, std::string("Boot0000"), &UefiVariable::name)->data;
    EXPECT_EQ(forge::get32(option, 0), 1U);
    EXPECT_EQ(option[6], 's');
    EXPECT_EQ(unsigned{option[4]} + 256U * option[5] + 6U + 2 * (std::string("systemd-boot").size() + 1),
              option.size());
    const auto document = nlohmann::json::parse(mend_json(found));
    EXPECT_EQ(support::schema_problem(document.dump()), "");
    // The flash image with these variables, read again: the machine starts by it.
    const auto flash = story.variables(story.disk());
    const auto changed = with_variables(flash, added->variables);
    ASSERT_TRUE(changed) << changed.error().text();
    EXPECT_EQ(changed->size(), flash.size());
    auto again = options;
    again.variables = *parse_uefi_flash(*changed);
    again.variables.source = "changed.fd";
    EXPECT_TRUE(check(machine, again).all_start());
    EXPECT_EQ(again.variables.all.size(), options.variables.all.size() + 1);
    EXPECT_EQ(again.variables.find("Boot0000")->data, option);
    // What is deleted is gone; a store that is full says so; what is none is none.
    const auto less =
        with_variables(*changed, std::vector<UefiVariable>{{"Boot0000", std::string(UefiVariables::global), 7, {}}});
    EXPECT_EQ(parse_uefi_flash(*less)->find("Boot0000"), nullptr);
    EXPECT_EQ(
        with_variables(flash, std::vector<UefiVariable>{{"X", std::string(UefiVariables::global), 7, Bytes(70000)}})
            .error()
            .kind,
        ErrorKind::TooLarge);
    EXPECT_EQ(with_variables(Bytes(4096), {}).error().kind, ErrorKind::Malformed);
    EXPECT_EQ(with_variables(flash, std::vector<UefiVariable>{{"X", "inn", 7, {1}}}).error().kind,
              ErrorKind::Malformed);
    // One that sleeps is woken.
    auto asleep = options;
    auto& entry = *std::ranges::find(asleep.variables.all, std::string("Boot0004"), &UefiVariable::name);
    const auto sound = kiosk("kiosk");
    entry = *kiosk_options(sound).variables.find("Boot0004");
    entry.data[0] = 0;
    const auto woken = titles(mended(machine, asleep));
    EXPECT_NE(
        std::ranges::find(
            woken, "in the firmware's variables, make active and put Boot0004 “Almhof Check-in” first in BootOrder"),
        woken.end());
}

TEST(Rebuilt, SecureBootIsSwitchedOffLastOfAll) {
    const auto story = kiosk("kiosk-unsigned");
    const Machine machine = machine_of(story.disk());
    const auto options = kiosk_options(story);
    const auto found = mended(machine, options);
    ASSERT_FALSE(found.at(0).proposals.empty()) << found[0].bring;
    const auto& last = found[0].proposals.back();
    EXPECT_EQ(last.title, "switch Secure Boot off in the firmware's settings");
    EXPECT_TRUE(last.patch.empty());
    EXPECT_FALSE(last.risks.empty());
}

TEST(Rebuilt, ProposalsWithoutARiskComeFirst) {
    const auto office_and_archive = demo::back_office_machines().front();
    std::vector<Bytes> images;
    for (const auto& [name, make] : office_and_archive.disks) images.push_back(make());
    const Machine machine = support::machine_of_disks(std::move(images));
    const auto found = mended(machine);
    ASSERT_EQ(found.size(), 1U);
    ASSERT_EQ(found[0].proposals.size(), 2U);
    EXPECT_TRUE(found[0].proposals[0].risks.empty());
    EXPECT_FALSE(found[0].proposals[1].risks.empty());
}

}  // namespace
