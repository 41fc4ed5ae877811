// SPDX-License-Identifier: MIT
// Changes on overlays: workshops, patches, files rewritten in place (looked at by the systems' own checkers), and what
// is supposed.
#include <algorithm>
#include <nlohmann/json.hpp>

#include "demo_disks.hpp"
#include "office_pc.hpp"
#include "remedy/edits.hpp"
#include "remedy/hive_edits.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Folder;
using support::machine_of;

namespace {

const Bytes& healthy() {
    static const Bytes disk = demo::front_desk().build();
    return disk;
}
std::vector<std::uint8_t> text(std::string_view of) { return {of.begin(), of.end()}; }
std::string file_text(const Machine& machine, const std::string& place, const std::string& path) {
    const auto volume = machine.at(place);
    return volume != nullptr ? read_text_file(*volume->files(Observer::Linux), path).value_or("?") : "no volume";
}
Bytes bytes_of(const Source& disk) { return disk->bytes(0, disk->size(), disk->size()).value(); }
/// Exit status of a checker of the operating system over one partition's bytes.
support::Ran checked(const Folder& folder, const Machine& machine, const std::string& place,
                     const std::string& command) {
    const auto volume = machine.at(place)->source;
    const auto path = folder.write("volume.img", volume->bytes(0, volume->size(), volume->size()).value());
    return support::shell(command + " " + path);
}

}  // namespace

TEST(Workshop, NothingReachesTheDiskAndResultsStayAsTheyWere) {
    const Machine machine = machine_of(healthy());
    Workshop shop(machine);
    EXPECT_FALSE(shop.changed());
    const Bytes mark = {1, 2, 3};
    ASSERT_TRUE(shop.write(1, 440, mark));
    const Source before = shop.disk(1);
    ASSERT_TRUE(shop.write(1, 440, Bytes{9, 9, 9}));
    EXPECT_EQ(before->bytes(440, 3).value(), mark);
    EXPECT_EQ(shop.disk(1)->bytes(440, 3).value(), (Bytes{9, 9, 9}));
    EXPECT_EQ(machine.disks[0].source->bytes(0, 512).value(), (Bytes{healthy().begin(), healthy().begin() + 512}));
    Workshop other = shop.copy();
    ASSERT_TRUE(other.write(1, 440, mark));
    EXPECT_EQ(shop.disk(1)->bytes(440, 3).value(), (Bytes{9, 9, 9}));
    EXPECT_EQ(shop.write(2, 0, mark).error().kind, ErrorKind::NotFound);
    EXPECT_EQ(shop.write(1, healthy().size() - 2, mark).error().kind, ErrorKind::OutOfRange);
    EXPECT_EQ(shop.disk(7), nullptr);
}

TEST(Workshop, APatchHasOnlyWhatChanges) {
    const Machine machine = machine_of(healthy());
    Workshop shop(machine);
    Bytes sector(healthy().begin(), healthy().begin() + 512);
    sector[10] ^= 1U;
    sector[20] ^= 2U;   // 9 equal bytes between: one change
    sector[200] ^= 3U;  // another one
    ASSERT_TRUE(shop.write(1, 0, sector));
    const Patch patch = shop.patch("two places", {"one", "two"});
    ASSERT_EQ(patch.changes.size(), 2U);
    EXPECT_EQ(patch.changes[0].offset, 10U);
    EXPECT_EQ(patch.changes[0].after.size(), 11U);
    EXPECT_EQ(patch.changes[1].offset, 200U);
    EXPECT_EQ(patch.changes[1].before, Bytes{healthy()[200]});
    EXPECT_EQ(patch.size(), 12U);
    ASSERT_EQ(patch.disks.size(), 1U);
    EXPECT_EQ(patch.disks[0].size, healthy().size());
    // What was written and is as before is no change.
    ASSERT_TRUE(shop.write(1, 0, Bytes{healthy().begin(), healthy().begin() + 512}));
    EXPECT_TRUE(shop.patch({}, {}).empty());
}

TEST(Patches, ComeBackFromTheirDocument) {
    const Machine machine = machine_of(healthy());
    Workshop shop(machine);
    ASSERT_TRUE(shop.write(1, 510, Bytes{0, 0}));
    const Patch patch = shop.patch("unmarked \x01 \u202E", {"a step"});
    const auto back = read_patch(patch_json(patch));
    ASSERT_TRUE(back) << back.error().text();
    EXPECT_EQ(back->steps, patch.steps);
    ASSERT_EQ(back->changes.size(), 1U);
    EXPECT_EQ(back->changes[0].before, (Bytes{0x55, 0xAA}));
    Workshop again(machine);
    ASSERT_TRUE(again.apply(*back));
    EXPECT_EQ(bytes_of(again.disk(1)), bytes_of(shop.disk(1)));
    ASSERT_TRUE(again.apply(back->undone()));
    EXPECT_FALSE(again.changed());
    EXPECT_EQ(back->undone().title.substr(0, 6), "Undo: ");
}

TEST(Patches, ForAnotherDiskAreRefusedAndChangeNothing) {
    const Machine machine = machine_of(healthy());
    Patch patch;
    patch.disks = {{1, healthy().size()}};
    patch.changes = {{1, 0, {healthy()[0]}, {1}}, {1, 510, {0x55, 0xAB}, {0, 0}}};
    Workshop shop(machine);
    const auto refused = shop.apply(patch);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Malformed);
    EXPECT_EQ(refused.error().place, "d1@510+2");
    EXPECT_EQ(refused.error().expected, "55 ab");
    EXPECT_EQ(refused.error().found, "55 aa");
    EXPECT_FALSE(shop.changed());
    patch.changes.pop_back();
    patch.disks[0].size += 512;
    EXPECT_EQ(shop.apply(patch).error().place, "d1");
    patch.disks[0].number = 2;
    EXPECT_EQ(shop.apply(patch).error().kind, ErrorKind::NotFound);
}

TEST(Patches, DamagedDocumentsAreToldWithTheirPlace) {
    const std::string head = R"({"schema":"herberge/patch/1","disks":[{"disk":1,"size":1024}],"changes":[)";
    const struct {
        std::string document;
        ErrorKind kind;
        std::string place;
    } cases[] = {
        {"", ErrorKind::Malformed, "the patch"},
        {head, ErrorKind::Malformed, "the patch"},
        {"[1]", ErrorKind::Malformed, "the patch"},
        {R"({"disks":[]})", ErrorKind::Malformed, "schema"},
        {R"({"schema":"herberge/patch/2"})", ErrorKind::Unsupported, "schema"},
        {R"({"schema":"herberge/patch/1","disks":[{"disk":0,"size":1}]})", ErrorKind::Malformed, "disks[0]"},
        {R"({"schema":"herberge/patch/1","disks":[{"disk":1}]})", ErrorKind::Malformed, "disks[0]"},
        {R"({"schema":"herberge/patch/1","disks":[]})", ErrorKind::Malformed, "changes"},
        {head + "7]}", ErrorKind::Malformed, "changes[0]"},
        {head + R"({"disk":1,"offset":0,"before":"00","after":"0"}]})", ErrorKind::Malformed, "changes[0]"},
        {head + R"({"disk":1,"offset":0,"before":"0g","after":"00"}]})", ErrorKind::Malformed, "changes[0]"},
        {head + R"({"disk":1,"offset":0,"before":"","after":""}]})", ErrorKind::Malformed, "changes[0]"},
        {head + R"({"disk":1,"offset":0,"before":"0000","after":"00"}]})", ErrorKind::Malformed, "changes[0]"},
        {head + R"({"disk":1,"offset":1024,"before":"00","after":"01"}]})", ErrorKind::Malformed, "changes[0]"},
        {head + R"({"disk":1,"offset":-1,"before":"00","after":"01"}]})", ErrorKind::Malformed, "changes[0]"},
        {head + R"({"disk":2,"offset":0,"before":"00","after":"01"}]})", ErrorKind::Malformed, "changes[0]"},
        {head +
             R"({"disk":1,"offset":4,"before":"0000","after":"0101"},{"disk":1,"offset":5,"before":"00","after":"01"}]})",
         ErrorKind::Malformed, "changes[1]"},
    };
    for (const auto& one : cases) {
        const auto patch = read_patch(one.document);
        ASSERT_FALSE(patch) << one.document;
        EXPECT_EQ(patch.error().kind, one.kind) << one.document;
        EXPECT_EQ(patch.error().place, one.place) << one.document;
    }
    // The last byte of the disk may change; a deep document ends the reader, not the program.
    EXPECT_TRUE(read_patch(head + R"({"disk":1,"offset":1023,"before":"00","after":"01"}]})"));
    EXPECT_FALSE(read_patch(std::string(1U << 20U, '[')));
}

TEST(Edits, AFileOfAnExtIsRewrittenInItsBlocks) {
    const Folder folder;
    for (const bool checksums : {true, false}) {
        const auto made = support::shell("cd " + folder.file("") +
                                         " && rm -rf tree v.img && mkdir tree && printf 'one\\n' > tree/note && "
                                         "truncate -s 16M v.img && mkfs.ext4 -q -b 4096 -O " +
                                         (checksums ? "metadata_csum" : "^metadata_csum") + " -d tree v.img");
        ASSERT_EQ(made.status, 0) << made.out;
        Machine machine;
        const auto image = open_image(folder.file("v.img"), 1);
        machine.disks.push_back(inspect_disk(*image, 1, "v.img"));
        assemble_layers(machine);
        Workshop shop(machine);
        const std::string longer(4096, 'x');
        for (const std::string& content : {std::string("two\n"), longer, std::string("a"), std::string("three\n")}) {
            const auto done = remedy::set_content(shop, "d1", "/note", text(content));
            ASSERT_TRUE(done) << done.error().text();
            EXPECT_EQ(file_text(shop.machine(), "d1", "/note"), content);
            ASSERT_TRUE(remedy::set_permissions(shop, "d1", "/note", 0751));
            const auto fine = checked(folder, shop.machine(), "d1", "e2fsck -fn");
            EXPECT_EQ(fine.status, 0) << fine.out;
        }
        EXPECT_EQ(remedy::set_content(shop, "d1", "/note", text(longer + "x")).error().kind, ErrorKind::TooLarge);
        EXPECT_EQ(remedy::set_content(shop, "d1", "/note", {}).error().kind, ErrorKind::TooLarge);
        EXPECT_EQ(remedy::set_content(shop, "d1", "/none", text("x")).error().kind, ErrorKind::NotFound);
        EXPECT_EQ(remedy::set_content(shop, "d2", "/note", text("x")).error().kind, ErrorKind::NotFound);
    }
}

TEST(Edits, ANameOfAnExtGoesAndTheCheckerFindsTheFileWithoutOne) {
    const Folder folder;
    const auto made = support::shell(
        "cd " + folder.file("") +
        " && mkdir tree && for i in $(seq 400); do printf $i > tree/a-rather-long-name-$i; done && "
        "truncate -s 16M v.img && mkfs.ext4 -q -b 1024 -O metadata_csum -d tree v.img && e2fsck -fyD v.img");
    Machine machine;
    machine.disks.push_back(inspect_disk(*open_image(folder.file("v.img"), 1), 1, "v.img"));
    assemble_layers(machine);
    Workshop shop(machine);
    for (const int which : {1, 17, 200, 400}) {
        const std::string name = "/a-rather-long-name-" + std::to_string(which);
        ASSERT_TRUE(remedy::hide_file(shop, "d1", name));
        const Machine now = shop.machine();
        EXPECT_FALSE(resolve(*now.at("d1")->files(Observer::Linux), name));
        EXPECT_FALSE(resolve(*now.at("d1")->files(Observer::Loader), name));
        EXPECT_EQ(remedy::hide_file(shop, "d1", name).error().kind, ErrorKind::NotFound);
    }
    // Files without a name, and nothing else: no checksum, no directory is complained about.
    const auto found = checked(folder, shop.machine(), "d1", "e2fsck -fn").out;
    EXPECT_NE(found.find("Unattached inode"), std::string::npos) << found;
    EXPECT_EQ(found.find("checksum"), std::string::npos) << found;
    EXPECT_EQ(found.find("HTREE"), std::string::npos) << found;
}

TEST(Edits, AFileOfAFatIsRewrittenAndItsNameGoes) {
    const Folder folder;
    for (const char* bits : {"16 -s 2", "32 -s 1"}) {
        const std::size_t cluster = bits[0] == '1' ? 1024 : 512;
        const auto made = support::shell(
            "cd " + folder.file("") + " && rm -f v.img && truncate -s 40M v.img && mkfs.fat -F " + std::string(bits) +
            " v.img && printf one > note && mcopy -i v.img note '::a longer name.cfg'");
        if (made.status != 0) GTEST_SKIP() << made.out;
        Machine machine;
        machine.disks.push_back(inspect_disk(*open_image(folder.file("v.img"), 1), 1, "v.img"));
        assemble_layers(machine);
        Workshop shop(machine);
        for (const std::string& content : {std::string("other"), std::string(cluster, 'y'), std::string("z")}) {
            ASSERT_TRUE(remedy::set_content(shop, "d1", "/a longer name.cfg", text(content)));
            EXPECT_EQ(file_text(shop.machine(), "d1", "/a longer name.cfg"), content);
            const auto fine = checked(folder, shop.machine(), "d1", "fsck.fat -n");
            EXPECT_EQ(fine.status, 0) << fine.out;
        }
        EXPECT_EQ(
            remedy::set_content(shop, "d1", "/a longer name.cfg", text(std::string(cluster + 1, 'y'))).error().kind,
            ErrorKind::TooLarge);
        ASSERT_TRUE(remedy::hide_file(shop, "d1", "/a longer name.cfg"));
        EXPECT_FALSE(resolve(*shop.machine().at("d1")->files(Observer::Linux), "/a longer name.cfg"));
        const auto lost = checked(folder, shop.machine(), "d1", "fsck.fat -n").out;
        EXPECT_EQ(lost.find("long file name"), std::string::npos) << lost;
    }
}

TEST(Edits, FilesAreAddedToAFatAsItsCheckerAndReaderWantThem) {
    const Folder folder;
    for (const char* options : {"-F 12 -s 32", "-F 16 -s 2", "-F 32 -s 1"}) {
        const auto made =
            support::shell("cd " + folder.file("") + " && rm -f v.img && truncate -s 40M v.img && mkfs.fat " +
                           std::string(options) + " v.img && mmd -i v.img ::EFI");
        if (made.status != 0) GTEST_SKIP() << made.out;
        Machine machine;
        machine.disks.push_back(inspect_disk(*open_image(folder.file("v.img"), 1), 1, "v.img"));
        assemble_layers(machine);
        Workshop shop(machine);
        std::string large;
        for (int i = 0; i < 60000; ++i) large += "line " + std::to_string(i) + "\n";
        const std::pair<const char*, std::string> files[] = {
            {"/EFI/BOOT/BOOTX64.EFI", large},       {"/loader/entries/A longer name of an entry.conf", "title x\n"},
            {"/EFI/BOOT/grubx64.efi", "g"},         {"/loader/entries/a longer name two.conf", ""},
            {"/EFI/BOOT/BOOTX64.EFI", "short now"}, {"/.hidden", "h"}};
        for (const auto& [path, content] : files) {
            const auto done = remedy::put_file(shop, "d1", path, text(content));
            ASSERT_TRUE(done) << path << done.error().text();
            EXPECT_EQ(file_text(shop.machine(), "d1", path), content) << path;
            const auto fine = checked(folder, shop.machine(), "d1", "fsck.fat -n");
            EXPECT_EQ(fine.status, 0) << options << path << fine.out;
        }
        const auto image = folder.file("volume.img");
        EXPECT_EQ(support::shell("mtype -i " + image + " ::/EFI/BOOT/BOOTX64.EFI").out, "short now");
        EXPECT_EQ(support::shell("mtype -i " + image + " '::/loader/entries/A longer name of an entry.conf'").out,
                  "title x\n");
        // A folder that is full grows, whether or not some entries at its end are free.
        for (int i = 0; i < 45; ++i) {
            const auto path = "/EFI/BOOT/another longer name " + std::to_string(i);
            ASSERT_TRUE(remedy::put_file(shop, "d1", path, text(path))) << path;
        }
        const auto grown = checked(folder, shop.machine(), "d1", "fsck.fat -n");
        EXPECT_EQ(grown.status, 0) << options << grown.out;
        EXPECT_EQ(support::shell("mtype -i " + image + " '::/EFI/BOOT/another longer name 44'").out,
                  "/EFI/BOOT/another longer name 44");
        EXPECT_EQ(remedy::put_file(shop, "d1", "/a:b", text("x")).error().kind, ErrorKind::Malformed);
        EXPECT_EQ(remedy::put_file(shop, "d1", "/large", text(std::string(41U << 20U, 'x'))).error().kind,
                  ErrorKind::TooLarge);
        EXPECT_EQ(remedy::put_file(shop, "d1", "/EFI", text("x")).error().kind, ErrorKind::WrongType);
    }
}

TEST(Edits, FilesAreAddedToAnExtAsItsCheckerAndTheKernelWantThem) {
    const Folder folder;
    for (const char* options :
         {"-b 1024 -O metadata_csum,64bit", "-b 4096 -O metadata_csum,^64bit", "-b 4096 -O ^metadata_csum,uninit_bg",
          "-b 2048 -O ^metadata_csum,^uninit_bg", "-b 1024 -I 128 -O metadata_csum,metadata_csum_seed"}) {
        const auto made =
            support::shell("cd " + folder.file("") +
                           " && rm -rf tree v.img && mkdir -p tree/boot/grub && "
                           "printf old > tree/boot/grub/old.cfg && truncate -s 48M v.img && mkfs.ext4 -q -d tree " +
                           std::string(options) + " v.img");
        ASSERT_EQ(made.status, 0) << made.out;
        Machine machine;
        machine.disks.push_back(inspect_disk(*open_image(folder.file("v.img"), 1), 1, "v.img"));
        assemble_layers(machine);
        Workshop shop(machine);
        std::string large;
        for (int i = 0; i < 200000; ++i) large += "line " + std::to_string(i) + "\n";
        const std::pair<const char*, std::string> files[] = {{"/boot/grub/grub.cfg", "menuentry x {\n}\n"},
                                                             {"/boot/grub/large.mod", large},
                                                             {"/boot/grub/old.cfg", large},
                                                             {"/boot/grub/grub.cfg", std::string(9000, 'g')},
                                                             {"/boot/grub/empty", ""},
                                                             {"/a", "b"}};
        for (const auto& [path, content] : files) {
            const auto done = remedy::put_file(shop, "d1", path, text(content));
            ASSERT_TRUE(done) << options << path << done.error().text();
            const Machine now = shop.machine();
            const auto* fs = now.at("d1")->files(Observer::Linux);
            ASSERT_NE(fs, nullptr);
            EXPECT_EQ(read_text_file(*fs, path, 16U << 20U).value_or("?"), content) << path;
            const auto fine = checked(folder, now, "d1", "e2fsck -fn");
            EXPECT_EQ(fine.status, 0) << options << path << fine.out;
        }
        // The system's own reader finds the same.
        EXPECT_NE(support::shell("debugfs -R 'cat /boot/grub/grub.cfg' " + folder.file("volume.img")).out.find("ggggg"),
                  std::string::npos);
        EXPECT_EQ(remedy::put_file(shop, "d1", "/too-large", text(std::string(49U << 20U, 'x'))).error().kind,
                  ErrorKind::TooLarge);
        EXPECT_EQ(remedy::put_file(shop, "d1", "/boot", text("x")).error().kind, ErrorKind::WrongType);
        // Folders on the way are made.
        ASSERT_TRUE(remedy::put_file(shop, "d1", "/none/of/these", text("x"))) << options;
        ASSERT_TRUE(remedy::put_folder(shop, "d1", "/none/empty")) << options;
        EXPECT_EQ(remedy::put_folder(shop, "d1", "/none/of").error().kind, ErrorKind::WrongType);
        EXPECT_EQ(remedy::put_folder(shop, "d1", "/nothing/here").error().kind, ErrorKind::NotFound);
        EXPECT_EQ(remedy::put_folder(shop, "d1", "/none/..").error().kind, ErrorKind::Malformed);
        EXPECT_EQ(file_text(shop.machine(), "d1", "/none/of/these"), "x");
        const auto fine = checked(folder, shop.machine(), "d1", "e2fsck -fn");
        EXPECT_EQ(fine.status, 0) << options << fine.out;
        const auto listed = support::shell("debugfs -R 'stat /none' " + folder.file("volume.img")).out;
        EXPECT_NE(listed.find("Type: directory    Mode:  0755"), std::string::npos) << listed;
        EXPECT_NE(listed.find("Links: 4"), std::string::npos) << listed;
    }
}

TEST(Edits, AFileOfManyPiecesIsStoredAnew) {
    const Folder folder;
    const auto made =
        support::shell("cd " + folder.file("") +
                       " && mkdir tree && for i in $(seq 0 2 400); do printf piece$i | dd "
                       "of=tree/holes bs=4096 seek=$i conv=notrunc status=none; done && truncate -s 48M v.img && "
                       "mkfs.ext4 -q -b 4096 -d tree v.img");
    ASSERT_EQ(made.status, 0) << made.out;
    Machine machine;
    machine.disks.push_back(inspect_disk(*open_image(folder.file("v.img"), 1), 1, "v.img"));
    assemble_layers(machine);
    const auto* fs = machine.at("d1")->files(Observer::Linux);
    const auto file = resolve(*fs, "/holes")->file;
    EXPECT_GT(fs->extents(file.id)->size(), 100U);
    const auto content = (*fs->open(file.id, "/holes"))->bytes(0, file.size).value();
    Workshop shop(machine);
    ASSERT_TRUE(remedy::put_file(shop, "d1", "/holes", content));
    const Machine now = shop.machine();
    const auto* after = now.at("d1")->files(Observer::Linux);
    const auto again = resolve(*after, "/holes")->file;
    EXPECT_LE(after->extents(again.id)->size(), 4U);
    EXPECT_EQ((*after->open(again.id, "/holes"))->bytes(0, again.size).value(), content);
    const auto fine = checked(folder, now, "d1", "e2fsck -fn");
    EXPECT_EQ(fine.status, 0) << fine.out;
}

TEST(Edits, SmallFilesAreAddedToAnExt2) {
    const Folder folder;
    ASSERT_EQ(support::shell("cd " + folder.file("") +
                             " && mkdir -p tree/grub && printf x > tree/grub/old && truncate -s 16M "
                             "v.img && mkfs.ext2 -q -b 1024 -d tree v.img")
                  .status,
              0);
    Machine machine;
    machine.disks.push_back(inspect_disk(*open_image(folder.file("v.img"), 1), 1, "v.img"));
    assemble_layers(machine);
    Workshop shop(machine);
    for (const auto& [path, size] :
         {std::pair{"/grub/grub.cfg", 12 * 1024}, std::pair{"/grub/old", 3000}, std::pair{"/grub/old", 0}}) {
        const auto done = remedy::put_file(shop, "d1", path, text(std::string(static_cast<std::size_t>(size), 'q')));
        ASSERT_TRUE(done) << done.error().text();
        EXPECT_EQ(file_text(shop.machine(), "d1", path), std::string(static_cast<std::size_t>(size), 'q'));
        const auto fine = checked(folder, shop.machine(), "d1", "e2fsck -fn");
        EXPECT_EQ(fine.status, 0) << path << size << fine.out;
    }
    EXPECT_EQ(remedy::put_file(shop, "d1", "/grub/more", text(std::string(12 * 1024 + 1, 'q'))).error().kind,
              ErrorKind::TooLarge);
    ASSERT_TRUE(remedy::put_folder(shop, "d1", "/proc"));
    const auto fine = checked(folder, shop.machine(), "d1", "e2fsck -fn");
    EXPECT_EQ(fine.status, 0) << fine.out;
}

TEST(Suppose, KeysMoveInAMenu) {
    Menu menu;
    for (int i = 0; i < 3; ++i) {
        MenuEntry entry;
        entry.path = {i};
        entry.kind = i == 1 ? EntryKind::Submenu : EntryKind::Linux;
        if (i == 1)
            for (int child = 0; child < 2; ++child) {
                entry.children.emplace_back();
                entry.children.back().path = {1, child};
                entry.children.back().kind = EntryKind::Linux;
            }
        menu.entries.push_back(entry);
    }
    menu.default_entry = 1;
    using Keys = std::vector<std::string>;
    EXPECT_EQ(choice_by_keys(menu, {"up", "enter"}).value(), "0");
    EXPECT_EQ(choice_by_keys(menu, {"up", "up", "up", "enter"}).value(), "0");
    EXPECT_EQ(choice_by_keys(menu, {"end", "down", "enter"}).value(), "2");
    EXPECT_EQ(choice_by_keys(menu, {"enter", "down", "enter"}).value(), "1>1");
    EXPECT_EQ(choice_by_keys(menu, {"enter", "down", "esc", "home", "enter"}).value(), "0");
    EXPECT_EQ(choice_by_keys(menu, {"down"}).error().kind, ErrorKind::Malformed);
    EXPECT_EQ(choice_by_keys(menu, Keys{}).error().kind, ErrorKind::Malformed);
    menu.style = MenuStyle::Hidden;
    menu.timeout = 3;
    EXPECT_EQ(choice_by_keys(menu, {"esc", "up", "enter"}).value(), "0");
    EXPECT_EQ(choice_by_keys(menu, {"up", "enter"}).error().kind, ErrorKind::Malformed);
    menu.timeout = 0;
    EXPECT_EQ(choice_by_keys(menu, {"esc", "enter"}).error().kind, ErrorKind::Unsupported);
    EXPECT_EQ(choice_by_keys({}, {"enter"}).error().kind, ErrorKind::NotFound);
}

TEST(Edits, PermissionsOfAnExt) {
    const Machine machine = machine_of(healthy());
    Workshop shop(machine);
    ASSERT_TRUE(remedy::set_permissions(shop, "d1p1", "/etc/init.d/rcS", 0640));
    const Machine now = shop.machine();
    EXPECT_EQ(resolve(*now.at("d1p1")->files(Observer::Linux), "/etc/init.d/rcS")->file.permissions, 0640U);
    EXPECT_EQ(check(now).systems.at(0).stops_at, Stage::Services);
}

TEST(Edits, IdentifiersAsTheSystemsOwnToolsSeeThem) {
    const Folder folder;
    const std::string uuid = "0b0b0b0b-1111-4222-8333-444455556666";
    for (const char* features : {"metadata_csum", "metadata_csum,metadata_csum_seed", "^metadata_csum,^uninit_bg"}) {
        ASSERT_EQ(
            support::shell("cd " + folder.file("") + " && rm -f v.img && truncate -s 16M v.img && mkfs.ext4 -q -O " +
                           std::string(features) + " v.img")
                .status,
            0);
        Machine machine;
        machine.disks.push_back(inspect_disk(*open_image(folder.file("v.img"), 1), 1, "v.img"));
        Workshop shop(machine);
        ASSERT_TRUE(remedy::set_identifier(shop, *machine.at("d1"), uuid));
        EXPECT_EQ(shop.machine().at("d1")->info.uuid, uuid);
        const auto fine = checked(folder, shop.machine(), "d1", "e2fsck -fn");
        EXPECT_EQ(fine.status, 0) << features << fine.out;
        EXPECT_NE(checked(folder, shop.machine(), "d1", "dumpe2fs -h").out.find(uuid), std::string::npos);
        EXPECT_EQ(remedy::set_identifier(shop, *machine.at("d1"), "0b0b").error().kind, ErrorKind::Malformed);
        EXPECT_EQ(remedy::set_identifier(shop, *machine.at("d1"), "zzzzzzzz-1111-4222-8333-444455556666").error().kind,
                  ErrorKind::Malformed);
    }
    const Machine desk = machine_of(healthy());
    Workshop shop(desk);
    ASSERT_TRUE(remedy::set_identifier(shop, *desk.at("d1p2"), uuid));
    EXPECT_EQ(shop.machine().at("d1p2")->info.uuid, uuid);
}

TEST(Edits, ValuesOfAHiveInTheirCells) {
    const Machine machine = machine_of(demo::office_pc_disks().front().make());
    const FilePlace hive{"d1p2", "/Windows/System32/config/SYSTEM"};
    const std::string key = "ControlSet001\\Services\\storahci";
    Workshop shop(machine);
    ASSERT_TRUE(remedy::set_number(shop, hive, key, "Start", 4));
    EXPECT_EQ((*remedy::open_clean(shop.machine(), hive))->number_at(key, "Start"), 4U);
    // The machine as it would be: its controller's driver is off.
    const auto verdict = check(shop.machine());
    EXPECT_EQ(verdict.systems.at(0).stops_at, Stage::Root);
    EXPECT_NE(verdict.systems[0].at(Stage::Root).text.find("storahci has Start 4"), std::string::npos);
    ASSERT_TRUE(remedy::set_text(shop, hive, key, "Group", "short"));
    EXPECT_EQ((*remedy::open_clean(shop.machine(), hive))->text_at(key, "Group"), "short");
    EXPECT_EQ(remedy::set_text(shop, hive, key, "Group", std::string(200, 'x')).error().kind, ErrorKind::TooLarge);
    EXPECT_EQ(remedy::set_value(shop, hive, key, "Start", Bytes(5)).error().kind, ErrorKind::TooLarge);
    EXPECT_EQ(remedy::set_number(shop, hive, key, "Stopp", 0).error().kind, ErrorKind::NotFound);
    EXPECT_EQ(remedy::set_number(shop, hive, "ControlSet009\\Services", "Start", 0).error().kind, ErrorKind::NotFound);
    EXPECT_EQ(remedy::rename_value(shop, hive, key, "Start", "Begin").has_value(), true);
    EXPECT_EQ((*remedy::open_clean(shop.machine(), hive))->number_at(key, "Start"), std::nullopt);
    EXPECT_EQ((*remedy::open_clean(shop.machine(), hive))->number_at(key, "Begin"), 4U);
    EXPECT_EQ(remedy::rename_value(shop, hive, key, "Begin", "Bgn").error().kind, ErrorKind::Malformed);
}

// --- suppose ---------------------------------------------------------------------------------------------------------

namespace {

Supposition supposed(std::initializer_list<const char*> lines) {
    Supposition out;
    for (const char* line : lines) {
        const auto done = add_supposition(out, line, [](const std::string& path) -> Result<std::vector<std::uint8_t>> {
            if (path == "menu") return text("set timeout=1\nmenuentry other {\nlinux /gone\n}\n");
            return fail(ErrorKind::Io, "no such file", path);
        });
        EXPECT_TRUE(done) << line << ": " << done.error().text();
    }
    return out;
}
Verdict verdict_of(const Machine& machine, const Supposition& what) {
    const auto out = suppose(machine, what);
    EXPECT_TRUE(out) << out.error().text();
    CheckOptions options;
    options.at_menu = what.at_menu;
    return out ? check(out->machine, options) : Verdict{};
}

}  // namespace

TEST(Suppose, AnEntryByHandIsWalkedLikeAnyOther) {
    const Machine machine = machine_of(healthy());
    const std::string kernel = std::string("kernel d1p1:/boot/vmlinuz-") + demo::release;
    const std::string ramdisk = std::string("ramdisk d1p1:/boot/initrd.img-") + demo::release;
    const auto starts = verdict_of(machine, supposed({kernel.c_str(), ramdisk.c_str(), "arguments root=/dev/sda1 ro"}));
    ASSERT_EQ(starts.systems.size(), 1U);
    EXPECT_EQ(starts.systems[0].starts, Starts::Yes);
    EXPECT_EQ(starts.systems[0].entry, "by hand");
    EXPECT_TRUE(starts.systems[0].entry_is_default);
    const auto without = verdict_of(machine, supposed({kernel.c_str(), "arguments root=LABEL=frontdesk"}));
    EXPECT_EQ(without.systems.at(0).stops_at, Stage::Ramdisk);
    EXPECT_NE(std::ranges::find(without.systems[0].at(Stage::Ramdisk).findings, Code::RamdiskNotNamed),
              without.systems[0].at(Stage::Ramdisk).findings.end());
    const auto gone = verdict_of(machine, supposed({"kernel d1p1:/boot/none", "arguments root=/dev/sda1"}));
    EXPECT_EQ(gone.systems.at(0).stops_at, Stage::Entry);
    EXPECT_NE(gone.systems[0].at(Stage::Entry).text.find("d1p1:/boot/none cannot be loaded"), std::string::npos);
    const auto nowhere = verdict_of(machine, supposed({"kernel d3p1:/boot/none", "arguments root=/dev/sda1"}));
    EXPECT_NE(nowhere.systems.at(0).at(Stage::Entry).text.find("there is no volume d3p1"), std::string::npos);
}

TEST(Suppose, AnotherEntryOfTheMenu) {
    const auto office = demo::back_office();
    Machine machine;
    machine.disks.push_back(inspect_disk(memory_source(office.first(), "d1", 1), 1, "a.img"));
    machine.disks.push_back(inspect_disk(memory_source(office.second(), "d2", 2), 2, "b.img"));
    assemble_layers(machine);
    const auto usual = check(machine);
    const auto& menu = usual.menus.at(0);
    ASSERT_GE(menu.entries.size(), 2U);
    for (const auto& entry : menu.entries) {
        CheckOptions options;
        options.at_menu = AtMenu{entry.title, {}};
        const auto by_title = check(machine, options);
        EXPECT_TRUE(by_title.at_menu_taken) << entry.title;
        options.at_menu->choice = entry.path_text();
        const auto by_path = check(machine, options);
        EXPECT_TRUE(by_path.at_menu_taken);
        EXPECT_EQ(check_json(machine, by_path), check_json(machine, by_title));
    }
    CheckOptions options;
    options.at_menu = AtMenu{"no such entry", {}};
    const auto none = check(machine, options);
    EXPECT_FALSE(none.at_menu_taken);
    EXPECT_EQ(check_json(machine, none), check_json(machine, usual));
}

TEST(Suppose, DisksInAnotherOrderOrGone) {
    const auto office = demo::back_office();
    Machine machine;
    machine.disks.push_back(inspect_disk(memory_source(office.first(), "d1", 1), 1, "a.img"));
    machine.disks.push_back(inspect_disk(memory_source(office.second(), "d2", 2), 2, "b.img"));
    assemble_layers(machine);
    const auto turned = suppose(machine, supposed({"order d2,d1"}));
    ASSERT_TRUE(turned);
    EXPECT_EQ(turned->machine.disks.at(0).number, 2);
    EXPECT_TRUE(turned->patch.empty());
    const auto verdict = check(turned->machine);
    EXPECT_TRUE(verdict.systems.at(0).route.at(0).starts_with("d2")) << verdict.systems.at(0).route.at(0);
    const auto without = suppose(machine, supposed({"without d2"}));
    ASSERT_TRUE(without);
    EXPECT_EQ(without->machine.disks.size(), 1U);
    const auto turns = compare_verdicts(check(machine), check(without->machine));
    EXPECT_TRUE(
        std::ranges::any_of(turns, [](const SystemTurn& t) { return t.turn == Turn::Gone || t.turn == Turn::Worse; }));
    EXPECT_EQ(suppose(machine, supposed({"without d1,d2"})).error().kind, ErrorKind::Malformed);
    EXPECT_EQ(suppose(machine, supposed({"without d3"})).error().place, "d3");
    EXPECT_EQ(suppose(machine, supposed({"order d4"})).error().place, "d4");
}

TEST(Suppose, FilesFlagsIdentifiersAndPatches) {
    const Machine machine = machine_of(healthy());
    const auto removed = verdict_of(machine, supposed({"remove d1p1:/boot/grub/grub.cfg"}));
    EXPECT_EQ(removed.systems.at(0).stops_at, Stage::Configuration);
    EXPECT_NE(std::ranges::find(removed.systems[0].at(Stage::Configuration).findings, Code::GrubConfigMissing),
              removed.systems[0].at(Stage::Configuration).findings.end());
    const auto other = verdict_of(machine, supposed({"content d1p1:/boot/grub/grub.cfg=menu"}));
    EXPECT_EQ(other.systems.at(0).stops_at, Stage::Entry);
    const auto renamed = suppose(machine, supposed({"identifier d1p1=0b0b0b0b-1111-4222-8333-444455556666"}));
    ASSERT_TRUE(renamed);
    EXPECT_FALSE(renamed->patch.empty());
    EXPECT_EQ(check(renamed->machine).systems.at(0).stops_at, Stage::Root);
    // The same by the patch that it gives.
    Supposition patched;
    patched.patches.push_back(renamed->patch);
    const auto again = suppose(machine, patched);
    ASSERT_TRUE(again);
    EXPECT_EQ(check_json(again->machine, check(again->machine)), check_json(renamed->machine, check(renamed->machine)));
    const auto active = suppose(machine, supposed({"active d1p2"}));
    ASSERT_TRUE(active);
    EXPECT_EQ(active->machine.disks[0].table.first_active()->number, 2);
    EXPECT_EQ(suppose(machine, supposed({"active d1p9"})).error().place, "d1p9");
    EXPECT_EQ(suppose(machine, supposed({"remove d1p1:/none"})).error().kind, ErrorKind::NotFound);
    EXPECT_EQ(suppose(machine, supposed({"remove nonsense"})).error().kind, ErrorKind::Malformed);
    EXPECT_EQ(machine.disks[0].source->bytes(0, healthy().size(), healthy().size()).value(), healthy());
}

TEST(Suppose, LinesThatSayNothingOrNonsense) {
    const auto none = [](const std::string& path) -> Result<std::vector<std::uint8_t>> {
        return fail(ErrorKind::Io, "no such file", path);
    };
    Supposition what;
    EXPECT_TRUE(add_supposition(what, "", none));
    EXPECT_TRUE(add_supposition(what, "  # a remark", none));
    EXPECT_TRUE(what.empty());
    for (const char* line : {"order", "order d0", "order 1", "order d1,,d2", "active", "identifier d1p1",
                             "content d1p1:/x", "dance now", "choose"})
        EXPECT_EQ(add_supposition(what, line, none).error().kind, ErrorKind::Malformed) << line;
    EXPECT_EQ(add_supposition(what, "patch none", none).error().kind, ErrorKind::Io);
    EXPECT_TRUE(what.empty());
    ASSERT_TRUE(add_supposition(what, "\tchoose  1>0 \r", none));
    EXPECT_EQ(what.at_menu->choice, "1>0");
    EXPECT_EQ(what.lines(), std::vector<std::string>{"choose 1>0"});
}

TEST(SupposeTool, SaysWhatDiffersThenTheVerdict) {
    const Folder folder;
    const auto image = folder.write("desk.img", healthy());
    const auto tool = [&](const std::string& arguments) {
        return support::shell(std::string("NO_COLOR=1 ") + TOOL_PATH + " suppose " + image + " " + arguments);
    };
    const auto worse = tool("--remove d1p1:/boot/grub/grub.cfg");
    EXPECT_EQ(worse.status, 1);
    EXPECT_TRUE(worse.out.starts_with("Supposed\n  remove d1p1:/boot/grub/grub.cfg\n\nWhat that changes\n  WORSE"))
        << worse.out;
    EXPECT_NE(worse.out.find("stops at configuration, before: starts"), std::string::npos);
    const auto same = tool("--active d1p1");
    EXPECT_EQ(same.status, 0);
    EXPECT_NE(same.out.find("  as before"), std::string::npos) << same.out;
    const auto changes = folder.write("changes.txt", text("# what if\nremove d1p1:/boot/grub/grub.cfg\n"));
    // The second entry of the menu lies in a submenu; the menu is hidden, a key shows it.
    EXPECT_EQ(tool("--keys esc,down,enter,enter").status, 0);
    EXPECT_NE(tool("--keys down,enter").out.find("the menu is hidden: the first key must show it; expected esc"),
              std::string::npos);
    EXPECT_EQ(tool("--keys esc,f8").status, 2);
    EXPECT_EQ(tool("--keys esc,down").status, 2);
    EXPECT_EQ(tool("--keys esc,enter --choose 0").status, 2);
    const auto json = nlohmann::json::parse(tool("--changes " + changes + " --format json").out);
    EXPECT_EQ(json.at("schema"), "herberge/suppose/1");
    EXPECT_EQ(json.at("supposed").at(0), "remove d1p1:/boot/grub/grub.cfg");
    EXPECT_EQ(json.at("differences").at(0).at("turn"), "worse");
    EXPECT_EQ(json.at("differences").at(0).at("before").at("starts"), "yes");
    EXPECT_EQ(json.at("check").at("schema"), "herberge/check/1");
    EXPECT_EQ(json.at("check").at("systems").at(0).at("stops_at"), "configuration");
    EXPECT_EQ(tool("").status, 2);
    EXPECT_NE(tool("--choose nobody").out.find("no menu on the way has an entry “nobody”"), std::string::npos);
    EXPECT_EQ(tool("--choose nobody").status, 2);
    const auto bad = folder.write("bad.txt", text("\ndance now\n"));
    EXPECT_NE(tool("--changes " + bad).out.find("bad.txt:2: "), std::string::npos);
    EXPECT_EQ(support::shell("cmp " + image + " " + folder.write("again.img", healthy())).status, 0);
}
