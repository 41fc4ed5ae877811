// SPDX-License-Identifier: MIT
#include <random>

#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using forge::ExtOptions;
using forge::Node;
using forge::Tree;

namespace {

/// Files of every size and kind that a reader can get wrong.
Tree sample_tree(std::uint32_t block_size) {
    Tree tree;
    tree.file("/empty", Bytes{});
    tree.file("/short", "guest book\n", 0600);
    tree.file("/inline-tail", forge::noise(90, 1));
    tree.file("/one-block", forge::noise(block_size, 2));
    tree.file("/more", forge::noise(block_size * 5 + 17, 3));
    tree.file("/large", forge::noise(std::min<std::size_t>(block_size * 300, 2U << 20U), 4), 0755);
    Bytes holey = forge::noise(block_size * 40, 5);
    std::fill(holey.begin() + block_size * 3, holey.begin() + block_size * 20, std::uint8_t{0});
    tree.file("/holes", holey);
    tree.at("/holes").holes = {{block_size * 3, block_size * 17}};
    tree.link("/fast", "short");
    tree.link("/slow", "/a/" + std::string(70, 'd') + "/../../more");
    tree.directory("/a/" + std::string(70, 'd'));
    for (int i = 0; i < 200; ++i)
        tree.file("/many/room-" + std::to_string(i) + std::string(static_cast<std::size_t>(i % 40), 'x'),
                  std::to_string(i));
    tree.link("/many/up", "../more")
        .link("/loop-a", "loop-b")
        .link("/loop-b", "loop-a")
        .link("/self", "self")
        .link("/dangling", "nowhere/at/all");
    return tree;
}

std::shared_ptr<const FileSystem> open(const Bytes& image, Reader reader = Reader::Kernel) {
    auto fs = open_file_system(memory_source(image, "d1p1", 1), reader);
    EXPECT_TRUE(fs) << (fs ? "" : fs.error().text());
    return fs ? *fs : nullptr;
}

struct Shape {
    const char* name;
    ExtOptions options;
};

ExtOptions shaped(std::uint32_t block, bool extents, bool csum, bool bit64 = true, std::uint32_t inode = 256) {
    ExtOptions o;
    o.size = std::max<std::uint64_t>(16U << 20U, std::uint64_t{block} * 1500);
    o.block_size = block;
    o.extents = extents;
    o.metadata_csum = csum;
    o.bit64 = bit64;
    o.inode_size = inode;
    o.label = "weather";
    o.uuid = forge::uuid_from("0badcafe-0001-4a01-8a01-0000000feed1");
    return o;
}
ExtOptions with(ExtOptions o, const std::function<void(ExtOptions&)>& change) {
    change(o);
    return o;
}

class ExtShapes : public testing::TestWithParam<Shape> {};

TEST_P(ExtShapes, EveryFileReadsBackAsItWasWritten) {
    const auto tree = sample_tree(GetParam().options.block_size);
    const auto image = forge::make_ext(tree, GetParam().options);
    for (const auto reader : {Reader::Kernel, Reader::Loader}) {
        const auto fs = open(image, reader);
        ASSERT_TRUE(fs);
        EXPECT_EQ(fs->info().label, "weather");
        EXPECT_EQ(fs->info().uuid, "0badcafe-0001-4a01-8a01-0000000feed1");
        EXPECT_EQ(fs->info().block_size, GetParam().options.block_size);
        for (const auto& [path, node] : tree.nodes()) {
            const auto found = resolve(*fs, path, {.most_links = 40, .follow_last = false});
            ASSERT_TRUE(found) << path << ": " << found.error().text();
            EXPECT_EQ(found->file.permissions, node.mode) << path;
            if (node.kind == Node::Kind::Link) {
                EXPECT_EQ(fs->link_target(found->file.id).value_or("?"), node.target) << path;
                continue;
            }
            if (node.kind != Node::Kind::File) continue;
            const auto file = fs->open(found->file.id, path);
            ASSERT_TRUE(file) << path << ": " << file.error().text();
            ASSERT_EQ((*file)->size(), node.content.size()) << path;
            EXPECT_EQ(*(*file)->bytes(0, node.content.size()), node.content) << path;
        }
        const auto many = resolve(*fs, "/many");
        EXPECT_EQ(fs->list(many->file.id)->size(), 203U);  // with "." and ".." and the link
        EXPECT_TRUE(fs->mount_obstacles("").empty()) << fs->mount_obstacles("").front().text;
        EXPECT_TRUE(fs->remarks().empty()) << fs->remarks().front().text;
    }
}

TEST_P(ExtShapes, ExtentsLieWhereTheContentIs) {
    const auto tree = sample_tree(GetParam().options.block_size);
    const auto image = forge::make_ext(tree, GetParam().options);
    const auto fs = open(image);
    ASSERT_TRUE(fs);
    const auto& content = tree.nodes().at("/holes").content;
    const auto extents = fs->extents(resolve(*fs, "/holes")->file.id);
    ASSERT_TRUE(extents);
    std::uint64_t covered = 0;
    for (const auto& e : *extents) {
        covered += e.length;
        ASSERT_TRUE(std::equal(image.begin() + static_cast<std::ptrdiff_t>(e.base_offset),
                               image.begin() + static_cast<std::ptrdiff_t>(e.base_offset + e.length),
                               content.begin() + static_cast<std::ptrdiff_t>(e.offset)));
    }
    EXPECT_EQ(covered, std::uint64_t{23} * GetParam().options.block_size);
}

INSTANTIATE_TEST_SUITE_P(
    All, ExtShapes,
    testing::Values(Shape{"Ext4", shaped(1024, true, true)}, Shape{"Ext4Blocks2k", shaped(2048, true, true)},
                    Shape{"Ext4Blocks4k", shaped(4096, true, true)}, Shape{"Ext4Blocks64k", shaped(65536, true, true)},
                    Shape{"Ext3Indirect", shaped(1024, false, false, false)},
                    Shape{"Ext2Old", shaped(4096, false, false, false, 128)},
                    Shape{"SmallInodesWithChecksums", shaped(1024, true, true, false, 128)},
                    Shape{"NoChecksums", shaped(1024, true, false)},
                    Shape{"MetaBg", with(shaped(1024, true, true), [](auto& o) { o.meta_bg = true; })},
                    Shape{"AllSupers", with(shaped(1024, true, true), [](auto& o) { o.sparse_super = false; })},
                    Shape{"Inline", with(shaped(1024, true, true), [](auto& o) { o.inline_data = true; })},
                    Shape{"Scattered", with(shaped(1024, true, true), [](auto& o) { o.scatter = 2; })},
                    Shape{"ScatteredIndirect", with(shaped(1024, false, false), [](auto& o) { o.scatter = 3; })},
                    Shape{"NoJournal", with(shaped(1024, true, true), [](auto& o) { o.journal = false; })}),
    support::by_name);

TEST(Resolve, FollowsLinksAndTellsWhatIsMissing) {
    const auto image = forge::make_ext(sample_tree(1024), shaped(1024, true, true));
    const auto fs = open(image);
    ASSERT_TRUE(fs);
    EXPECT_EQ(resolve(*fs, "/fast")->path, "/short");
    EXPECT_EQ(resolve(*fs, "/slow")->path, "/more");
    EXPECT_EQ(resolve(*fs, "//many/./../many/up")->path, "/more");
    EXPECT_EQ(resolve(*fs, "/../../short")->path, "/short");
    EXPECT_EQ(resolve(*fs, "/")->file.id, fs->root());
    for (const char* loop : {"/loop-a", "/self"})
        EXPECT_EQ(resolve(*fs, loop).error().kind, ErrorKind::LinkLoop) << loop;
    EXPECT_EQ(resolve(*fs, "/short/x").error().kind, ErrorKind::WrongType);
    const auto dangling = resolve(*fs, "/dangling");
    ASSERT_FALSE(dangling);
    EXPECT_EQ(dangling.error().kind, ErrorKind::NotFound);
    EXPECT_NE(dangling.error().what.find("/nowhere does not exist"), std::string::npos);
    EXPECT_NE(dangling.error().what.find("/dangling -> nowhere/at/all"), std::string::npos);
    EXPECT_FALSE(near_misses(*fs, "/shrot").empty());
    EXPECT_EQ(near_misses(*fs, "/shrot").front(), "/short");
}

/// What somebody may have meant: another case, a letter or two, a name that goes on or stops early.
TEST(Ext, NamesThatAreNearAreFoundAndOthersAreNot) {
    forge::Tree tree;
    tree.file("/hut/vmlinuz-6.1.0-18-almhof", "").file("/hut/inn", "").file("/hut/cellar", "");
    forge::ExtOptions options;
    options.size = 4U << 20U;
    const auto fs = open(forge::make_ext(tree, options));
    const std::pair<const char*, std::vector<std::string>> rows[] = {
        {"/hut/vmlinuz", {"/hut/vmlinuz-6.1.0-18-almhof"}},
        {"/hut/vmli", {"/hut/vmlinuz-6.1.0-18-almhof"}},
        {"/hut/vml", {}},
        {"/hut/vmlinuz-6.1.0-18-almhof.old", {"/hut/vmlinuz-6.1.0-18-almhof"}},
        {"/hut/inns", {"/hut/inn"}},
        {"/hut/ims", {"/hut/inn"}},
        {"/hut/roof", {}},
        {"/hut/cellars", {"/hut/cellar"}},
        {"/hut/cellaxy", {"/hut/cellar"}},
        {"/hut/cellxyz", {}},
        {"/hut/inn", {}},
        {"/gone/inn", {}},
        {"/hut/inn/x", {}},
        {"/hut/", {}},
    };
    for (const auto& [asked, found] : rows) EXPECT_EQ(near_misses(*fs, asked), found) << asked;
}

std::size_t inode_offset(const Bytes& image, const std::shared_ptr<const FileSystem>& fs, const std::string& path) {
    const auto id = resolve(*fs, path, {.most_links = 1, .follow_last = false})->file.id;
    const std::uint32_t per_group = forge::get32(image, 1024 + 40);
    const std::size_t group = (id - 1) / per_group;
    const std::uint32_t table = forge::get32(image, 2048 + group * 64 + 8);
    return std::size_t{table} * 1024 + (id - 1) % per_group * 256;
}

TEST(Damage, ChecksumsStopTheKernelAndNotTheLoader) {
    auto image = forge::make_ext(sample_tree(1024), shaped(1024, true, true));
    const std::size_t at = inode_offset(image, open(image), "/short");
    image[at + 8] ^= 1U;  // access time
    EXPECT_TRUE(resolve(*open(image, Reader::Loader), "/short"));
    const auto refused = resolve(*open(image), "/short");
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Checksum);
    EXPECT_TRUE(resolve(*open(image), "/more"));
}

TEST(Damage, ADirectoryBlockWithABadChecksumHidesItsNames) {
    auto image = forge::make_ext(sample_tree(1024), shaped(1024, true, true));
    const auto fs = open(image);
    const auto extents = fs->extents(resolve(*fs, "/many")->file.id);
    image[extents->front().base_offset + 1000] ^= 0xFFU;
    const auto missing = resolve(*open(image), "/many/room-0");
    ASSERT_FALSE(missing);
    EXPECT_EQ(missing.error().kind, ErrorKind::Checksum);
    EXPECT_TRUE(resolve(*open(image, Reader::Loader), "/many/room-0"));
    EXPECT_TRUE(resolve(*open(image), "/many/up"));  // its last block is sound
}

TEST(Damage, UnknownFeaturesAreNamed) {
    const auto image =
        forge::make_ext({}, with(shaped(1024, true, true), [](auto& o) { o.extra_incompat = 0x400000; }));
    const auto fs = open_file_system(memory_source(image, "d1p1"), Reader::Kernel);
    ASSERT_FALSE(fs);
    EXPECT_EQ(fs.error().kind, ErrorKind::Unsupported);
    EXPECT_NE(fs.error().text().find("0x400000"), std::string::npos);
    EXPECT_EQ(recognise_volume(*memory_source(image, "d1p1")).format, Format::Ext4);
}

TEST(Damage, ADirtyJournalIsToldAndStopsNothing) {
    const auto fs = open(forge::make_ext({}, with(shaped(1024, true, true), [](auto& o) { o.dirty_journal = true; })));
    EXPECT_TRUE(fs->mount_obstacles("").empty());
    ASSERT_EQ(fs->remarks().size(), 1U);
    EXPECT_EQ(fs->remarks()[0].code, Code::ExtJournalDirty);
}

struct Obstacle {
    const char* name;
    std::function<void(Bytes&)> damage;
    std::optional<Code> code;
};
class Obstacles : public testing::TestWithParam<Obstacle> {};
TEST_P(Obstacles, KeepTheKernelFromMounting) {
    auto image = forge::make_ext(sample_tree(1024), shaped(1024, true, true));
    GetParam().damage(image);
    const auto fs = open(image);
    ASSERT_TRUE(fs);
    const auto found = fs->mount_obstacles("");
    EXPECT_TRUE(std::any_of(found.begin(), found.end(), [](const Finding& f) { return f.code == GetParam().code; }));
}
INSTANTIATE_TEST_SUITE_P(
    All, Obstacles,
    testing::Values(Obstacle{"Truncated", [](Bytes& b) { b.resize(b.size() - 65536); }, Code::ExtLargerThanPartition},
                    Obstacle{"SuperChecksum", [](Bytes& b) { b[1024 + 44] ^= 1U; }, Code::ExtSuperChecksum},
                    Obstacle{"GroupOutside", [](Bytes& b) { forge::put32(b, 2048 + 64 + 8, 0x7FFFFFFF); },
                             Code::ExtGroupInvalid},
                    Obstacle{"RootInode",
                             [](Bytes& b) {
                                 std::fill_n(b.begin() + static_cast<std::ptrdiff_t>(
                                                             std::size_t{forge::get32(b, 2048 + 8)} * 1024 + 256),
                                             256, std::uint8_t{0});
                             },
                             Code::ExtRootInode},
                    Obstacle{"JournalGone",
                             [](Bytes& b) {
                                 const auto fs = open(b);
                                 const auto at = (*fs->extents(8))[0].base_offset;
                                 std::fill_n(b.begin() + static_cast<std::ptrdiff_t>(at), 1024, std::uint8_t{0});
                             },
                             Code::ExtJournalBad}),
    support::by_name);

TEST(Damage, HostileInodesAreBounded) {
    const auto options = with(shaped(1024, true, false), [](auto& o) { o.journal = false; });
    const auto clean = forge::make_ext(sample_tree(1024), options);
    const auto fs = open(clean);
    const std::size_t large = inode_offset(clean, fs, "/large");
    const std::size_t many = inode_offset(clean, fs, "/many");

    auto huge = clean;  // a size of 2^48 bytes
    forge::put32(huge, large + 108, 0x10000);
    auto opened = open(huge)->open(resolve(*open(huge), "/large")->file.id, "/large");
    ASSERT_TRUE(opened);
    EXPECT_FALSE((*opened)->text());
    EXPECT_EQ((*opened)->bytes(0, 512)->size(), 512U);

    auto deep = clean;  // an extent tree that points to itself
    forge::put16(deep, large + 40 + 6, 5);
    forge::put16(deep, large + 40 + 2, 4);
    for (std::size_t i = 0; i < 4; ++i) forge::put32(deep, large + 40 + 12 + i * 12 + 4, 2);
    EXPECT_FALSE(open(deep)->open(resolve(*open(deep), "/large")->file.id, "/large"));

    auto outside = clean;
    forge::put32(outside, large + 40 + 12 + 8, 0xFFFFFFF0U);
    const auto refused = open(outside)->open(resolve(*open(outside), "/large")->file.id, "/large");
    ASSERT_FALSE(refused);
    EXPECT_NE(refused.error().text().find("outside"), std::string::npos);

    auto wide = clean;  // a directory that claims 2 GiB
    forge::put32(wide, many + 4, 0x80000000U);
    EXPECT_FALSE(open(wide)->list(resolve(*open(wide), "/many")->file.id));

    auto circle = clean;  // "/many/.." style loops: the directory contains itself
    const auto extents = fs->extents(resolve(*fs, "/many")->file.id);
    forge::put32(circle, extents->front().base_offset + 24, static_cast<std::uint32_t>(resolve(*fs, "/many")->file.id));
    std::string path;
    for (int i = 0; i < 6000; ++i) path += "/many";
    EXPECT_FALSE(resolve(*open(circle), path));
}

TEST(Damage, RandomBytesNeverCrashTheReader) {
    const auto options = with(shaped(1024, true, false), [](auto& o) { o.size = 4U << 20U; });
    Tree tree;
    for (int i = 0; i < 30; ++i)
        tree.file("/etc/f" + std::to_string(i), forge::noise(3000, static_cast<std::uint32_t>(i)));
    tree.link("/l", "etc/f1");
    const auto clean = forge::make_ext(tree, options);
    std::mt19937 random(99);
    for (int round = 0; round < 300; ++round) {
        auto image = clean;
        for (int i = 0; i < 24; ++i) {
            // Most of the metadata lies in the first blocks.
            const std::size_t at = 1024 + random() % (round % 3 == 0 ? 300U : 120000U);
            image[at] = static_cast<std::uint8_t>(random());
        }
        for (const auto reader : {Reader::Kernel, Reader::Loader}) {
            const auto fs = open_file_system(memory_source(image, "d1p1"), reader);
            if (!fs) continue;
            (void)(*fs)->mount_obstacles("");
            (void)(*fs)->remarks();
            const auto etc = resolve(**fs, "/etc");
            if (!etc) continue;
            const auto names = (*fs)->list(etc->file.id);
            if (!names) continue;
            for (const auto& entry : *names) {
                const auto file = (*fs)->open(entry.id, entry.name);
                if (file) (void)(*file)->text(1U << 20U);
            }
        }
    }
}

TEST(Recognition, SwapAndBackupsAreKnown) {
    const auto swap =
        recognise_volume(*memory_source(forge::make_swap(1U << 20U, forge::uuid_from(demo::swap_uuid)), "d1p2"));
    EXPECT_EQ(swap.format, Format::Swap);
    EXPECT_EQ(swap.uuid, demo::swap_uuid);
    EXPECT_EQ(recognise_volume(*memory_source(Bytes(100), "d1")).format, Format::None);
    EXPECT_EQ(open_file_system(memory_source(Bytes(5000), "d1"), Reader::Loader).error().kind, ErrorKind::NotFound);
}

/// A directory that grew from one block into an indexed one: where the leaf's tail lay, the index's checksum has its
/// unused field, and the old bytes stay in it (the kernel writes only the checksum). Written by the systems' own tools.
TEST(ExtIndex, AnOldTailInBlockZeroIsNoTail) {
    const std::string with_path = "PATH=$PATH:/usr/sbin:/sbin; ";
    if (std::system((with_path + "command -v mke2fs >/dev/null && command -v e2fsck >/dev/null").c_str()) != 0)
        FAIL() << "e2fsprogs is not installed";
    const support::Folder folder;
    std::filesystem::create_directories(folder.file("tree/boot"));
    for (int i = 0; i < 200; ++i)
        std::ofstream(folder.file("tree/boot/a room of the inn, number " + std::to_string(i))) << i;
    const auto image = folder.file("index.img");
    ASSERT_EQ(std::system((with_path + "mke2fs -q -t ext4 -b 1024 -O metadata_csum,^has_journal -d " +
                           folder.file("tree") + " " + image +
                           " 8M && "
                           "{ e2fsck -fyD " +
                           image + " >/dev/null 2>&1; [ $? -le 1 ]; }")
                              .c_str()),
              0);
    forge::Bytes bytes = support::file_bytes(image);
    const auto fs = open_file_system(support::source_of(bytes), Reader::Kernel);
    ASSERT_TRUE(fs) << fs.error().text();
    const auto directory = resolve(**fs, "/boot");
    ASSERT_TRUE(directory);
    const auto extents = (*fs)->extents(directory->file.id);
    ASSERT_TRUE(extents);
    const std::size_t block = extents->front().base_offset;
    const auto missing = [](const forge::Bytes& volume) {
        const auto opened = open_file_system(support::source_of(volume), Reader::Kernel);
        const auto found = resolve(**opened, "/boot/no such room");
        return found ? ErrorKind::Io : found.error().kind;
    };
    EXPECT_EQ(missing(bytes), ErrorKind::NotFound);
    // The old tail: record length 12, type DE; a CRC is linear, so that the new one follows from the change alone.
    const std::size_t unused = block + 1024 - 8;
    ASSERT_EQ(forge::get32(bytes, unused), 0U) << "the index fills its block";
    const std::array<std::uint8_t, 8> change = {0x0C, 0x00, 0x00, 0xDE, 0, 0, 0, 0};
    std::copy_n(change.begin(), 4, bytes.begin() + static_cast<std::ptrdiff_t>(unused));
    forge::put32(bytes, unused + 4, forge::get32(bytes, unused + 4) ^ crc32c(0, change));
    EXPECT_EQ(missing(bytes), ErrorKind::NotFound) << "not there, and not a failed checksum";
    EXPECT_TRUE(
        resolve(**open_file_system(support::source_of(bytes), Reader::Kernel), "/boot/a room of the inn, number 7"));
    // The index's own checksum decides.
    bytes[unused + 4] ^= 1U;
    EXPECT_EQ(missing(bytes), ErrorKind::Checksum);
}

/// A root without room: the system starts, and what it writes fails.
TEST(Ext, TellsThatNoRoomIsLeft) {
    struct Row {
        std::uint32_t kept, free, inodes, state;
        std::string text;
        std::uint64_t byte = 0;  ///< of the evidence
    };
    const Row rows[] = {
        {0, 0, 9, 1, "d1p1:/file is full: no block is free", 1024 + 12},
        {5, 0, 0, 1, "d1p1:/file is full: no block is free", 1024 + 12},
        {0, 1, 0, 1, "d1p1:/file is full: no inode is free, so no file can be made", 1024 + 16},
        {5, 5, 9, 1, "d1p1:/file is full for all but root: 5 blocks are free, and 5 are kept for root", 1024 + 12},
        {5, 6, 1, 1, "", 0},
        {0, 1, 1, 1, "", 0},
        // Its counts are those of the last time that it was unmounted.
        {0, 0, 9, 0, "", 0},
    };
    ExtOptions options;
    options.metadata_csum = false;
    const Bytes sound = make_ext(sample_tree(1024), options);
    for (const auto& row : rows) {
        Bytes image = sound;
        forge::put32(image, 1024 + 8, row.kept);
        forge::put32(image, 1024 + 12, row.free);
        forge::put32(image, 1024 + 16, row.inodes);
        forge::put32(image, 1024 + 58, (forge::get32(image, 1024 + 58) & ~1U) | row.state);
        const auto fs = open_file_system(support::source_of(image), Reader::Kernel);
        ASSERT_TRUE(fs);
        std::vector<Finding> full;
        const auto remarks = (*fs)->remarks();
        std::ranges::copy_if(remarks, std::back_inserter(full),
                             [](const Finding& f) { return f.code == Code::ExtFull; });
        ASSERT_EQ(full.size(), row.text.empty() ? 0U : 1U) << row.kept << ' ' << row.free << ' ' << row.inodes;
        if (full.empty()) continue;
        EXPECT_EQ(full[0].text, row.text);
        EXPECT_EQ(full[0].severity, Severity::Note);
        EXPECT_EQ(full[0].evidence.at(0).range->offset, row.byte);
    }
}

}  // namespace
