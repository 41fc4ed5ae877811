// SPDX-License-Identifier: MIT
// F2FS as the system's own tools write it; then damaged.
#include <fstream>

#include <fmt/format.h>

#include "shapes.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

constexpr std::size_t block = 4096;
constexpr std::size_t first_pack = 512 * block;

/// What takes every form of directory, link and list of blocks.
forge::Tree tree_for_f2fs() {
    auto tree = support::shapes();
    tree.file("/few/a", "1").file("/few/b", "2");
    tree.link("/far", std::string(200, 'x') + "/" + std::string(200, 'y'));
    tree.file("/inside", forge::noise(3400, 5));
    tree.file("/long", forge::noise(12U << 20U, 6));  // more than an inode and two nodes list
    return tree;
}

/// A file system with a tree in it; empty: that cannot be made here.
Bytes filled(const support::Folder& folder, const std::string& options, const forge::Tree& tree) {
    const auto image = folder.file("volume.img");
    const auto files = folder.file("files");
    std::filesystem::create_directories(files);
    support::write_tree(tree, files);
    if (!support::works(
            fmt::format("truncate -s 160M {0} && mkfs.f2fs -q -f -l inn {1} {0} && sload.f2fs -P -f {2} -t / "
                        "{0}",
                        image, options, files)))
        return {};
    return support::file_bytes(image);
}

/// One with a single short file, /etc/hostname; empty: that cannot be made here.
Bytes with_hostname(const std::string& options = {}) {
    const support::Folder folder;
    forge::Tree tree;
    tree.file("/etc/hostname", "inn\n");
    return filled(folder, options, tree);
}

Result<std::shared_ptr<const FileSystem>> opened(const Bytes& image, Reader reader = Reader::Kernel) {
    return open_file_system(memory_source(image, "d1p2", 1), reader);
}

/// A checkpoint's sum (fs/f2fs/checkpoint.c, f2fs_checkpoint_chksum).
void seal(Bytes& image, std::size_t at) {
    const auto offset = forge::get32(image, at + 164);
    forge::put32(image, at + offset, ~crc32(~0xF2F52010U, std::span(image).subspan(at, offset)));
}

struct Made {
    const char* name;
    const char* options;
    bool loaders;  ///< read it, too
};
class F2fsMade : public testing::TestWithParam<Made> {};
TEST_P(F2fsMade, EveryFileComesBack) {
    const support::Folder folder;
    const auto tree = tree_for_f2fs();
    const auto image = filled(folder, GetParam().options, tree);
    if (image.empty()) GTEST_SKIP() << "no F2FS can be made here";
    const auto info = recognise_volume(*memory_source(image, "d1p2", 1));
    EXPECT_EQ(info.format, Format::F2fs);
    EXPECT_EQ(info.label, "inn");
    EXPECT_EQ(info.size, 160U << 20U);
    const auto fs = opened(image);
    ASSERT_TRUE(fs) << fs.error().text();
    support::expect_all(**fs, tree);
    EXPECT_EQ((*fs)->unreplayed(), std::nullopt);
    const auto loader = opened(image, Reader::Loader);
    ASSERT_EQ(loader.has_value(), GetParam().loaders);
    if (loader) support::expect_all(**loader, tree);
}
INSTANTIATE_TEST_SUITE_P(All, F2fsMade,
                         testing::Values(Made{"Plain", "", true},
                                         Made{"LaterFields", "-O extra_attr,inode_checksum,inode_crtime", false},
                                         Made{"ProjectQuota", "-O extra_attr,project_quota", false},
                                         Made{"LargeMap", "-i", false}),
                         support::by_name);

TEST(F2fs, OneWholeCheckpointIsEnoughAndTheNewerOneCounts) {
    auto image = with_hostname();
    if (image.empty()) GTEST_SKIP() << "no F2FS can be made here";
    const std::size_t second_pack = first_pack + 512 * block;
    ASSERT_EQ(forge::get32(image, 1024 + 76), 512U);
    const bool first_newer = forge::get32(image, first_pack) > forge::get32(image, second_pack);
    const std::size_t newer = first_newer ? first_pack : second_pack;
    const std::size_t older = first_newer ? second_pack : first_pack;
    const auto has_name = [](const Bytes& bytes) {
        const auto fs = opened(bytes);
        return fs && resolve(**fs, "/etc/hostname");
    };
    EXPECT_TRUE(has_name(image));
    auto damaged = image;
    damaged[older + 8] ^= 1U;
    EXPECT_TRUE(has_name(damaged));
    damaged = image;
    // The end of the newer pack was not written: the older one counts.
    damaged[newer + (forge::get32(image, newer + 136) - 1) * block] ^= 1U;
    EXPECT_TRUE(opened(damaged));
    damaged[older + 8] ^= 1U;
    const auto neither = opened(damaged);
    ASSERT_FALSE(neither);
    EXPECT_EQ(neither.error().lack(), Lack::Damaged);
    EXPECT_EQ(neither.error().place, fmt::format("d1p2@{}+4096", first_pack));
    // Not unmounted: something may have been synced since.
    for (const std::size_t pack : {first_pack, second_pack}) {
        const std::size_t last = pack + (forge::get32(image, pack + 136) - 1) * block;
        image[pack + 132] &= 0xFEU;
        image[last + 132] &= 0xFEU;
        seal(image, pack);
        seal(image, last);
    }
    const auto in_use = opened(image);
    if (in_use) EXPECT_TRUE((*in_use)->unreplayed());
}

TEST(F2fs, DamageIsToldWithItsPlace) {
    const auto image = with_hostname("-O extra_attr,inode_checksum");
    if (image.empty()) GTEST_SKIP() << "no F2FS can be made here";
    const auto fs = opened(image);
    ASSERT_TRUE(fs);
    const auto file = resolve(**fs, "/etc/hostname");
    ASSERT_TRUE(file);
    const auto extents = (*fs)->extents(file->file.id);
    ASSERT_TRUE(extents);
    ASSERT_EQ(extents->size(), 1U);
    EXPECT_EQ(extents->front().length, 4U);
    // Its four bytes lie in its inode, which has a checksum.
    const std::size_t inode = extents->front().base_offset / block * block;
    auto damaged = image;
    damaged[extents->front().base_offset] ^= 1U;
    const auto refused = (*opened(damaged))->stat(file->file.id);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Checksum);
    EXPECT_EQ(refused.error().place, fmt::format("d1p2@{}+4096", inode));
    // Another node's block in its place.
    damaged = image;
    damaged[inode + block - 24] ^= 0xFFU;
    const auto other = (*opened(damaged))->stat(file->file.id);
    ASSERT_FALSE(other);
    EXPECT_EQ(other.error().kind, ErrorKind::Malformed);
    EXPECT_FALSE((*fs)->stat(0xFFFFFFFFU));
    EXPECT_FALSE((*fs)->list(file->file.id));
    EXPECT_FALSE((*fs)->link_target(file->file.id));
}

/// What an inode can hold of its file itself: Linux fs/f2fs/f2fs.h, MAX_INLINE_DATA.
TEST(F2fs, AFileMayFillItsInodeToTheLastByte) {
    const auto image = with_hostname();
    if (image.empty()) GTEST_SKIP() << "no F2FS can be made here";
    const auto fs = opened(image);
    ASSERT_TRUE(fs);
    const auto file = resolve(**fs, "/etc/hostname");
    ASSERT_TRUE(file);
    const auto inside = (*fs)->extents(file->file.id)->front().base_offset;
    const std::size_t inode = inside / block * block;
    constexpr unsigned has_attributes = 1;
    const std::uint64_t words = (image[inode + 3] & has_attributes) != 0 ? 923 - 50 : 923;
    const std::uint64_t room = (words - 1) * 4;
    for (const auto size : {room, room + 1}) {
        auto changed = image;
        forge::put64(changed, inode + 16, size);
        const auto extents = (*opened(changed))->extents(file->file.id);
        ASSERT_EQ(extents.has_value(), size == room) << size;
        if (extents) {
            ASSERT_EQ(extents->size(), 1U);
            EXPECT_EQ(extents->front().base_offset, inside);
            EXPECT_EQ(extents->front().length, room);
        } else {
            EXPECT_EQ(extents.error().kind, ErrorKind::Malformed);
            EXPECT_EQ(extents.error().what, "a file is longer than its inode");
        }
    }
}

TEST(F2fs, CutAnywhereNothingIsReadBeyond) {
    const auto image = with_hostname();
    if (image.empty()) GTEST_SKIP() << "no F2FS can be made here";
    for (const std::ptrdiff_t size : {1023, 1024, 4000, 4096, 8192, 2'097'151, 2'097'152, 2'101'248, 4'194'304}) {
        const auto fs = opened(Bytes(image.begin(), image.begin() + size));
        EXPECT_FALSE(fs) << size;
    }
}

TEST(F2fsRoot, StartsWhereTheRamDiskBringsItsDriver) {
    for (const bool driver : {true, false}) {
        const support::Folder folder;
        auto desk = demo::front_desk();
        const auto root = filled(folder, "-U f2f50000-0001-4a01-8a01-0000f2f50001", desk.root);
        if (root.empty()) GTEST_SKIP() << "no F2FS can be made here";
        desk.root = support::boot_files(desk.root);
        support::edit(desk.root, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid,
                      "root=UUID=f2f50000-0001-4a01-8a01-0000f2f50001");
        if (driver)
            desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/kernel/fs/f2fs/f2fs.ko",
                              forge::make_kernel_module("f2fs"));
        desk.swap_size = 0;
        desk.disk.size = 200U << 20U;
        desk.disk.partitions.push_back({2048 + (20U << 20U) / 512, root, 0x83, false});
        const support::Checked checked(support::first_entries_swapped(desk.build()));
        EXPECT_EQ(checked.system().place, "d1p2");
        EXPECT_EQ(checked.stage(), driver ? "yes" : "root") << checked.system().at(Stage::Root).text;
        if (driver)
            EXPECT_NE(checked.system().at(Stage::Root).text.find("d1p2 is a mountable f2fs file system"),
                      std::string::npos)
                << checked.system().at(Stage::Root).text;
        else EXPECT_TRUE(checked.has(Code::RamdiskNoFileSystemDriver));
    }
}

}  // namespace
