// SPDX-License-Identifier: MIT
// XFS as the system's own tools and its kernel write it; then damaged.
#include <algorithm>
#include <fstream>

#include <fmt/format.h>

#include "shapes.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

struct Made {
    const char* name;
    const char* options;
};

/// Files that take every form of directory, link and list of extents.
forge::Tree tree_for_xfs() {
    auto tree = support::shapes();
    for (int i = 0; i < 30; ++i) tree.file("/thirty/guest " + std::to_string(i), std::to_string(i));
    tree.file("/few/a", "1").file("/few/b", "2");
    tree.link("/long link", std::string(900, 'x'));
    // Every other block is a hole: more extents than an inode holds.
    Bytes scattered(250 * 8192);
    for (std::size_t at = 0; at < scattered.size(); at += 8192)
        std::fill_n(scattered.begin() + static_cast<std::ptrdiff_t>(at), 4096,
                    static_cast<std::uint8_t>(at / 8192 + 1));
    tree.file("/scattered", scattered);
    return tree;
}

/// A file system that the kernel filled; empty: that cannot be done here.
std::string fill(const support::Folder& folder, const Made& made, const forge::Tree& tree) {
    return support::filled_by_kernel(
        folder, fmt::format("mkfs.xfs -q -f -L inn -m uuid=0f500000-0001-4a01-8a01-00000f500001 {}", made.options), "",
        "320M", tree);
}

class XfsMade : public testing::TestWithParam<Made> {};
TEST_P(XfsMade, EveryFileComesBack) {
    const support::Folder folder;
    const auto tree = tree_for_xfs();
    const auto path = fill(folder, GetParam(), tree);
    if (path.empty()) GTEST_SKIP() << "no XFS can be made and mounted here";
    const auto image = open_image(path, 1);
    ASSERT_TRUE(image);
    const auto info = recognise_volume(**image);
    EXPECT_EQ(info.format, Format::Xfs);
    EXPECT_EQ(info.uuid, "0f500000-0001-4a01-8a01-00000f500001");
    EXPECT_EQ(info.label, "inn");
    EXPECT_EQ(info.size, 320U << 20U);
    for (const Reader reader : {Reader::Kernel, Reader::Loader}) {
        const auto fs = open_file_system(*image, reader);
        ASSERT_TRUE(fs) << fs.error().text();
        support::expect_all(**fs, tree);
        const auto link = resolve(**fs, "/long link", {.most_links = 1, .follow_last = false});
        ASSERT_TRUE(link);
        EXPECT_EQ((*fs)->link_target(link->file.id).value_or("?"), std::string(900, 'x'));
        EXPECT_EQ((*fs)->list(resolve(**fs, "/thirty")->file.id)->size(), 32U);
        EXPECT_GT(resolve(**fs, "/small.txt")->file.modified, 1'700'000'000);
        EXPECT_GT((*fs)->extents(resolve(**fs, "/scattered")->file.id)->size(), 200U);
        EXPECT_TRUE((*fs)->mount_obstacles("").empty());
    }
}
INSTANTIATE_TEST_SUITE_P(Kinds, XfsMade,
                         testing::Values(Made{"Usual", ""}, Made{"SmallBlocks", "-b size=1024 -i size=512"},
                                         Made{"LargeDirectoryBlocks", "-n size=8192"},
                                         Made{"NoBigTimes", "-m bigtime=0"}),
                         support::by_name);

/// Version 4, which today's kernels do not mount any more: filled while it is made.
class XfsFour : public testing::TestWithParam<Made> {};
TEST_P(XfsFour, EveryFileComesBack) {
    if (support::shell("command -v mkfs.xfs").status != 0) GTEST_SKIP() << "no mkfs.xfs here";
    const support::Folder folder;
    const std::string image = folder.file("xfs.img");
    forge::Tree tree;
    std::string listed = "/dev/null\n0 0\nd--755 0 0\nlink l--777 0 0 many/room7\nmany d--755 0 0\n";
    for (int i = 0; i < 400; ++i) {
        const auto path = folder.write("room" + std::to_string(i), forge::to_bytes("key " + std::to_string(i)));
        listed += fmt::format("room{} ---640 7 8 {}\n", i, path);
    }
    listed += "$\n$\n";
    const auto proto = folder.write("proto", forge::to_bytes(listed));
    const auto made = support::shell(
        fmt::format("truncate -s 320M {} && mkfs.xfs -q -f -p {} {} {}", image, proto, GetParam().options, image));
    if (made.status != 0) GTEST_SKIP() << made.out;
    const auto source = open_image(image, 1);
    const auto fs = open_file_system(*source, Reader::Kernel);
    ASSERT_TRUE(fs) << fs.error().text();
    EXPECT_EQ((*fs)->info().features.at(0), "version 4");
    const auto many = resolve(**fs, "/many");
    ASSERT_TRUE(many) << many.error().text();
    EXPECT_EQ((*fs)->list(many->file.id)->size(), 402U);
    for (int i = 0; i < 400; ++i)
        EXPECT_EQ(read_text_file(**fs, "/many/room" + std::to_string(i)).value_or("?"), "key " + std::to_string(i));
    const auto linked = resolve(**fs, "/link");
    ASSERT_TRUE(linked);
    EXPECT_EQ(linked->path, "/many/room7");
    EXPECT_EQ(linked->file.permissions, 0640U);
    EXPECT_EQ(linked->file.uid, 7U);
    EXPECT_EQ(linked->file.gid, 8U);
}
INSTANTIATE_TEST_SUITE_P(Kinds, XfsFour,
                         testing::Values(Made{"Plain", "-m crc=0"}, Made{"WithTypes", "-m crc=0 -n ftype=1"}),
                         support::by_name);

forge::Tree small_tree() { return forge::Tree().file("/etc/hostname", "cellar\n"); }

/// One with changes laid over it.
struct Damaged : support::Folder, support::Changed {
    Damaged() : Changed(fill(*this, {"", ""}, small_tree())) {}
};

TEST(Xfs, ADamagedSuperblockIsRefusedByTheKernelOnly) {
    Damaged d;
    if (!d.made()) GTEST_SKIP() << "no XFS can be made and mounted here";
    ASSERT_TRUE(d.open());
    d.flip(108, 1);  // the label
    const auto refused = d.open();
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Checksum);
    EXPECT_EQ(refused.error().what, "the XFS superblock fails its checksum");
    EXPECT_TRUE(d.open(Reader::Loader));
    d.flip(108, 1);
    // The checksum covers the sector to its end, and no byte more.
    d.flip(511, 1);
    EXPECT_FALSE(d.open());
    d.flip(511, 1);
    d.flip(7, 1);  // the block size
    EXPECT_EQ(d.open(Reader::Loader).error().what, "the XFS superblock contradicts itself: its block size");
}

TEST(Xfs, FeaturesThatAreNotKnownAreUnsupported) {
    Damaged d;
    if (!d.made()) GTEST_SKIP() << "no XFS can be made and mounted here";
    d.flip(216, 0x40);  // bit 30 of the incompatible ones
    for (const Reader reader : {Reader::Kernel, Reader::Loader}) {
        const auto refused = d.open(reader);
        ASSERT_FALSE(refused);
        EXPECT_EQ(refused.error().lack(), Lack::Unsupported);
    }
}

TEST(Xfs, AFileSystemLargerThanItsVolumeIsNotMounted) {
    Damaged d;
    if (!d.made()) GTEST_SKIP() << "no XFS can be made and mounted here";
    const auto fs = open_file_system(slice(d.layer, 0, d.layer->size() - 4096, "d1p1"), Reader::Kernel);
    ASSERT_TRUE(fs);
    const auto obstacles = (*fs)->mount_obstacles("");
    ASSERT_EQ(obstacles.size(), 1U);
    EXPECT_EQ(obstacles[0].code, Code::XfsNotMountable);
    EXPECT_NE(obstacles[0].text.find("it is larger (320.0 MiB) than the volume"), std::string::npos)
        << obstacles[0].text;
    EXPECT_EQ(obstacles[0].evidence[0].range->offset, 8U);
}

TEST(Xfs, DamageInAnyGroupKeepsTheKernelFromMounting) {
    const Damaged d;
    if (!d.made()) GTEST_SKIP() << "no XFS can be made and mounted here";
    const std::uint64_t group = 80U << 20U;  // a quarter of 320 MiB
    const struct {
        std::uint64_t at;
        const char* text;
    } cases[] = {{512 + 300, "the numbers of group 0's free space fail their checksum"},
                 {1024 + 511, "the numbers of group 0's inodes fail their checksum"},
                 {3 * group + 512, "the numbers of group 3's free space are overwritten"},
                 {2 * group + 1024 + 40, "the numbers of group 2's inodes fail their checksum"},
                 {3 * 4096 + 148, "the inodes' tree's first nodes fail their checksum"}};
    EXPECT_TRUE((*d.open())->mount_obstacles("").empty());
    for (const auto& one : cases) {
        d.flip(one.at, 1);
        const auto fs = d.open();
        ASSERT_TRUE(fs) << one.text;
        const auto obstacles = (*fs)->mount_obstacles("");
        ASSERT_EQ(obstacles.size(), 1U) << one.text;
        EXPECT_EQ(obstacles[0].code, Code::XfsNotMountable);
        EXPECT_EQ(obstacles[0].text, fmt::format("the XFS driver refuses d1p1: {}", one.text));
        d.flip(one.at, 1);
    }
    // What a mount does not read does not keep it: the list of free blocks, another group's tree of inodes.
    for (const std::uint64_t at : {std::uint64_t{1536 + 64}, group + 3 * 4096 + 148}) {
        d.flip(at, 1);
        EXPECT_TRUE((*d.open())->mount_obstacles("").empty()) << at;
        d.flip(at, 1);
    }
}

TEST(Xfs, DamageInAnInodeIsAnErrorWithItsNumber) {
    Damaged d;
    if (!d.made()) GTEST_SKIP() << "no XFS can be made and mounted here";
    const auto fs = *d.open();
    const auto file = resolve(*fs, "/etc/hostname")->file.id;
    // The inode is found by its own number, which it carries at byte 152.
    const auto head = *d.layer->bytes(0, 4U << 20U);
    std::size_t at = 0;
    for (std::size_t i = 0; i + 512 <= head.size() && at == 0; i += 512) {
        std::uint64_t number = 0;
        for (std::size_t k = 0; k < 8; ++k) number = number << 8U | head[i + 152 + k];
        if (head[i] == 'I' && head[i + 1] == 'N' && number == file) at = i;
    }
    ASSERT_NE(at, 0U);
    d.flip(at + 60, 1);
    const auto damaged = *d.open();
    const auto read = resolve(*damaged, "/etc/hostname");
    ASSERT_FALSE(read);
    EXPECT_EQ(read.error().kind, ErrorKind::Checksum);
    EXPECT_EQ(read.error().place, fmt::format("d1p1, inode {}", file));
    d.set(at, 0);
    const auto gone = resolve(**d.open(Reader::Loader), "/etc/hostname");
    ASSERT_FALSE(gone);
    EXPECT_EQ(gone.error().what, "no inode where one should be");
}

TEST(Xfs, OneThatWasNotUnmountedIsTold) {
    const support::Folder folder;
    const auto image = folder.file("volume.img");
    const auto mount = folder.file("mount");
    const auto copy = folder.file("left.img");
    std::filesystem::create_directories(mount);
    {
        const support::Turn turn;
        const auto ran =
            support::shell(fmt::format("set -e; truncate -s 320M {0}; mkfs.xfs -q {0}; cp {0} {0}.fresh; mount -o loop "
                                       "{0} {1}; cd {1}; mkdir etc; "
                                       "echo cellar >etc/hostname; sync etc/hostname etc .; cp {0} {2}; "
                                       "for i in $(seq 3000); do echo $i >room$i; done; sync; cd /; umount {1}",
                                       image, mount, copy));
        if (ran.status != 0) {
            support::shell("umount " + mount);
            GTEST_SKIP() << "no XFS can be made and mounted here: " << ran.out;
        }
    }
    for (const auto& clean : {image + ".fresh", image}) {
        const auto fs = open_file_system(*open_image(clean, 1), Reader::Kernel);
        ASSERT_TRUE(fs) << fs.error().text();
        EXPECT_FALSE((*fs)->unreplayed()) << clean;
        EXPECT_TRUE((*fs)->remarks().empty());
    }
    const auto left = open_file_system(*open_image(copy, 1), Reader::Kernel);
    ASSERT_TRUE(left);
    EXPECT_EQ((*left)->unreplayed(), "its log is not replayed here");
    ASSERT_EQ((*left)->remarks().size(), 1U);
    EXPECT_EQ((*left)->remarks()[0].code, Code::XfsLogDirty);
    EXPECT_FALSE(resolve(**left, "/etc/hostname")) << "it stands in the log only";
    // A system in it that lacks its init is doubtful, not broken.
    auto desk = demo::front_desk();
    desk.root = support::boot_files(desk.root);
    support::edit(desk.root, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid, "root=/dev/sdb");
    desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/kernel/fs/xfs.ko",
                      forge::make_kernel_module("xfs"));
    desk.swap_size = 0;
    Machine machine;
    machine.disks.push_back(inspect_disk(memory_source(desk.build(), "d1", 1), 1, "desk.img"));
    machine.disks.push_back(inspect_disk(*open_image(copy, 2), 2, "left.img"));
    const auto verdict = check(machine);
    ASSERT_FALSE(verdict.systems.empty());
    const auto& init = verdict.systems[0].at(Stage::Init);
    EXPECT_EQ(init.state, State::Doubtful) << init.text;
    EXPECT_NE(init.text.find("d2 was not unmounted cleanly, and its log is not replayed here"), std::string::npos)
        << init.text;
}

TEST(Xfs, NoiseEndsInErrors) {
    Damaged d;
    if (!d.made()) GTEST_SKIP() << "no XFS can be made and mounted here";
    std::uint32_t seed = 7;
    const auto next = [&] { return seed = seed * 1664525U + 1013904223U; };
    const auto good = *d.layer->bytes(0, 2U << 20U);
    for (int round = 0; round < 300; ++round) {
        auto bytes = good;
        for (int i = 0; i < 40; ++i) bytes[next() % bytes.size()] = static_cast<std::uint8_t>(next() >> 24U);
        for (int i = 0; i < 4; ++i) bytes[next() % 512] = static_cast<std::uint8_t>(next() >> 24U);
        const auto fs = open_file_system(memory_source(bytes, "d1p1", 1), Reader::Loader);
        if (!fs) continue;
        if (const auto names = (*fs)->list((*fs)->root()); names)
            for (const auto& entry : *names)
                if (auto file = (*fs)->open(entry.id, "x"))
                    (void)(*file)->bytes(0, std::min<std::uint64_t>(4096, (*file)->size()));
    }
}

TEST(XfsRoot, StartsAndIsNotMountedWhenItsSuperblockIsDamaged) {
    for (const bool damaged : {false, true}) {
        auto desk = demo::front_desk();
        auto boot = support::boot_files(desk.root);
        support::edit(boot, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid,
                      "root=UUID=0f500000-0001-4a01-8a01-00000f500001");
        support::edit(desk.root, "/etc/fstab", std::string("UUID=") + demo::root_uuid + " / ext4",
                      "UUID=0f500000-0001-4a01-8a01-00000f500001 / xfs");
        desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/kernel/fs/xfs.ko",
                          forge::make_kernel_module("xfs"));
        const support::Folder folder;
        const auto path = fill(folder, {"", ""}, desk.root);
        if (path.empty()) GTEST_SKIP() << "no XFS can be made and mounted here";
        desk.root = boot;
        desk.swap_size = 0;
        Machine machine;
        machine.disks.push_back(inspect_disk(memory_source(desk.build(), "d1", 1), 1, "desk.img"));
        const auto image = open_image(path, 2);
        auto layer = overlay(*image);
        const std::array<std::uint8_t, 1> other = {'x'};
        if (damaged) ASSERT_TRUE(layer->write(108, other));
        machine.disks.push_back(inspect_disk(layer, 2, "root.img"));
        const auto verdict = check(machine);
        ASSERT_FALSE(verdict.systems.empty());
        const auto& system = verdict.systems.front();
        EXPECT_EQ(system.place, "d2");
        if (!damaged) {
            EXPECT_EQ(system.starts, Starts::Yes) << system.at(Stage::Root).text;
            continue;
        }
        EXPECT_EQ(system.stops_at, Stage::Root);
        EXPECT_EQ(system.at(Stage::Root).findings.front(), Code::RootNoFileSystem);
        EXPECT_NE(system.at(Stage::Root).text.find("the XFS superblock fails its checksum"), std::string::npos)
            << system.at(Stage::Root).text;
    }
}

}  // namespace
