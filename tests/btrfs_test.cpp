// SPDX-License-Identifier: MIT
// Btrfs as the system's own tools and its kernel write it; then damaged.
#include <algorithm>

#include <fmt/format.h>

#include "shapes.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

struct Made {
    const char* name;
    const char* options;  ///< of mkfs
    const char* mount;    ///< of mount
};

/// A file system that the kernel filled: `tree` in the directory or subvolume `where`. Empty: that cannot be done here.
std::string fill(const support::Folder& folder, const Made& made, const forge::Tree& tree,
                 const std::string& where = "", const std::string& then = "true") {
    if (support::shell("command -v btrfs").status != 0) return {};
    return support::filled_by_kernel(
        folder, fmt::format("mkfs.btrfs -q -f -L inn -U b7f50000-0001-4a01-8a01-00000b7f5001 {}", made.options),
        made.mount, "256M", tree, where, where.empty() ? "true" : "btrfs subvolume create ." + where, then);
}

class BtrfsMade : public testing::TestWithParam<Made> {};
TEST_P(BtrfsMade, EveryFileComesBack) {
    const support::Folder folder;
    auto tree = support::shapes();
    tree.link("/long link", std::string(900, 'x'));
    const auto path = fill(folder, GetParam(), tree);
    if (path.empty()) GTEST_SKIP() << "no Btrfs can be made and mounted here";
    const auto image = open_image(path, 1);
    ASSERT_TRUE(image);
    const auto info = recognise_volume(**image);
    EXPECT_EQ(info.format, Format::Btrfs);
    EXPECT_EQ(info.uuid, "b7f50000-0001-4a01-8a01-00000b7f5001");
    EXPECT_EQ(info.label, "inn");
    for (const Reader reader : {Reader::Kernel, Reader::Loader}) {
        const auto fs = open_file_system(*image, reader);
        ASSERT_TRUE(fs) << fs.error().text();
        support::expect_all(**fs, tree);
        const auto link = resolve(**fs, "/long link", {.most_links = 1, .follow_last = false});
        ASSERT_TRUE(link);
        EXPECT_EQ((*fs)->link_target(link->file.id).value_or("?"), std::string(900, 'x'));
        EXPECT_GT(resolve(**fs, "/small.txt")->file.modified, 1'700'000'000);
        EXPECT_TRUE((*fs)->mount_obstacles().empty());
        EXPECT_EQ((*fs)->usual_root(), (*fs)->root());
        // Bytes of the disk that a file lies in are those that it has.
        const auto noise = resolve(**fs, "/noise");
        const auto source = (*fs)->open(noise->file.id, "noise");
        const auto where = (*source)->locate(4096, 512);
        ASSERT_FALSE(where.empty());
        if (std::string_view(GetParam().mount).empty())
            EXPECT_EQ(*(*image)->bytes(where[0].offset, 512), *(*source)->bytes(4096, 512));
    }
}
INSTANTIATE_TEST_SUITE_P(Kinds, BtrfsMade,
                         testing::Values(Made{"Usual", "", ""}, Made{"Zlib", "", ",compress-force=zlib"},
                                         Made{"Lzo", "", ",compress-force=lzo"},
                                         Made{"Zstd", "", ",compress-force=zstd"}, Made{"SmallNodes", "-n 4096", ""},
                                         Made{"Mixed", "-M", ""}, Made{"Single", "-m single", ""},
                                         Made{"NoHoles", "-O ^no-holes", ""}),
                         support::by_name);

TEST(Btrfs, SubvolumesAreDirectoriesAndMayBeTheRoot) {
    const support::Folder folder;
    forge::Tree tree;
    tree.file("/etc/hostname", "cellar\n");
    const auto path =
        fill(folder, {"", "", ""}, tree, "/@rootfs",
             "btrfs subvolume create @home && mkdir -p @rootfs/.snapshots/1 && btrfs subvolume snapshot "
             "@rootfs @rootfs/.snapshots/1/snapshot && echo old > @rootfs/.snapshots/1/snapshot/etc/hostname "
             "&& btrfs subvolume set-default @rootfs");
    if (path.empty()) GTEST_SKIP() << "no Btrfs can be made and mounted here";
    const auto image = open_image(path, 1);
    const auto fs = open_file_system(*image, Reader::Kernel);
    ASSERT_TRUE(fs);
    const auto volumes = (*fs)->subvolumes();
    std::vector<std::string> paths;
    for (const auto& one : volumes) paths.push_back(one.path);
    std::ranges::sort(paths);
    EXPECT_EQ(paths, (std::vector<std::string>{"/@home", "/@rootfs", "/@rootfs/.snapshots/1/snapshot"}));
    EXPECT_EQ(read_text_file(**fs, "/@rootfs/etc/hostname").value_or("?"), "cellar\n");
    EXPECT_EQ(read_text_file(**fs, "/@rootfs/.snapshots/1/snapshot/etc/hostname").value_or("?"), "old\n");
    EXPECT_FALSE(resolve(**fs, "/etc/hostname"));
    const auto usual = rooted_at(*fs, (*fs)->usual_root());
    EXPECT_EQ(read_text_file(*usual, "/etc/hostname").value_or("?"), "cellar\n");
    // As the kernel mounts it by the command line.
    const auto volume = std::make_shared<const Volume>(slice(*image, 0, (*image)->size(), "d1p1"), 1, 1);
    const auto text = [&](const char* arguments) {
        const auto mounted = mounted_root(volume, CommandLine(arguments));
        return mounted ? read_text_file(*(*mounted)->files(Observer::Linux), "/etc/hostname").value_or("no file")
                       : mounted.error().text();
    };
    EXPECT_EQ(text("root=/dev/sda1"), "cellar\n");
    EXPECT_EQ(text("rootflags=compress=zstd,subvol=@rootfs"), "cellar\n");
    EXPECT_EQ(text("rootflags=subvol=/@rootfs/.snapshots/1/snapshot"), "old\n");
    EXPECT_EQ(text("rootflags=subvol=/"), "no file");
    EXPECT_EQ(text("rootflags=subvolid=5"), "no file");
    EXPECT_EQ(text("rootflags=subvolid=256"), "cellar\n");
    EXPECT_EQ(text("rootflags=subvol=@rotfs"),
              "d1p1: d1p1 has no such subvolume: subvol=@rotfs; expected subvol=@rotfs, found @rootfs, @home, "
              "@rootfs/.snapshots/1/snapshot");
}

/// One with changes laid over it.
struct Damaged : support::Folder, support::Changed {
    explicit Damaged(const char* options = "")
        : Changed(fill(*this, {"", options, ""}, forge::Tree().file("/etc/hostname", "cellar\n"))) {}
};

TEST(Btrfs, ADamagedSuperblockIsRefused) {
    const Damaged d;
    if (!d.made()) GTEST_SKIP() << "no Btrfs can be made and mounted here";
    d.flip(65536 + 299, 1);  // the label
    const auto refused = d.open();
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Checksum);
    EXPECT_EQ(refused.error().what, "the Btrfs superblock fails its checksum");
    EXPECT_TRUE(d.open(Reader::Loader)) << "loaders do not compute it";
    d.flip(65536 + 299, 1);
    // The last byte that the checksum covers, and the first one behind it.
    d.flip(65536 + 4095, 1);
    EXPECT_FALSE(d.open());
    d.flip(65536 + 4095, 1);
    d.flip(65536 + 4096, 1);
    EXPECT_TRUE(d.open());
    d.flip(65536 + 188 + 5, 1);  // a feature of the future
    EXPECT_EQ(d.open(Reader::Loader).error().lack(), Lack::Unsupported);
    d.flip(65536 + 188 + 5, 1);
    d.flip(65536 + 136, 3);  // how many devices
    EXPECT_EQ(d.open(Reader::Loader).error().what, "a Btrfs of several devices, which is not read here");
}

TEST(Btrfs, TheOtherCopyOfANodeIsTriedByTheKernelOnly) {
    for (const bool both : {false, true}) {
        const Damaged d(both ? "-m single" : "-m dup");
        if (!d.made()) GTEST_SKIP() << "no Btrfs can be made and mounted here";
        // Where the tree of the top lies, as the system's own tool tells it: "leaf 5406720 items …", "physical
        // 13795328".
        const auto image = d.file("volume.img");
        const auto tree = support::shell("btrfs inspect-internal dump-tree -t 5 " + image).out;
        const auto leaf = tree.find("\nleaf ");
        ASSERT_NE(leaf, std::string::npos) << tree;
        const auto mapped =
            support::shell(fmt::format("btrfs-map-logical -l {} {}", std::stoull(tree.substr(leaf + 6)), image)).out;
        const auto physical = mapped.find("physical ");
        ASSERT_NE(physical, std::string::npos) << mapped;
        const std::uint64_t at = std::stoull(mapped.substr(physical + 9));
        ASSERT_NE(at, 0U);
        d.flip(at + 5000, 1);
        const auto kernel = d.open();
        if (both) {
            ASSERT_FALSE(kernel);
            EXPECT_EQ(kernel.error().what, "a node of a Btrfs tree fails its checksum");
            EXPECT_EQ(kernel.error().place, fmt::format("d1p1@{}+16384", at));
        } else {
            ASSERT_TRUE(kernel) << kernel.error().text();
            EXPECT_EQ(read_text_file(**kernel, "/etc/hostname").value_or("?"), "cellar\n");
        }
    }
}

TEST(Btrfs, OneLargerThanItsVolumeIsNotMounted) {
    const Damaged d;
    if (!d.made()) GTEST_SKIP() << "no Btrfs can be made and mounted here";
    const auto fs = open_file_system(slice(d.layer, 0, d.layer->size() - 4096, "d1p1"), Reader::Kernel);
    ASSERT_TRUE(fs);
    const auto obstacles = (*fs)->mount_obstacles();
    ASSERT_EQ(obstacles.size(), 1U);
    EXPECT_EQ(obstacles[0].code, Code::BtrfsNotMountable);
    EXPECT_EQ(obstacles[0].evidence[0].range->offset, 65536U + 209);
}

TEST(Btrfs, NoiseEndsInErrors) {
    const Damaged d("-m single");
    if (!d.made()) GTEST_SKIP() << "no Btrfs can be made and mounted here";
    std::uint32_t seed = 11;
    const auto next = [&] { return seed = seed * 1664525U + 1013904223U; };
    const auto base = slice(d.layer, 0, d.layer->size(), "d1p1");
    for (int round = 0; round < 200; ++round) {
        const auto layer = overlay(base);
        for (int i = 0; i < 200; ++i) {
            const std::array<std::uint8_t, 1> byte = {static_cast<std::uint8_t>(next() >> 24U)};
            // The superblock's numbers, and the stretch in which this small one keeps its trees.
            const std::uint64_t at = i < 2 ? 65536 + 48 + next() % 800 : (1U << 20U) + next() % (40U << 20U);
            ASSERT_TRUE(layer->write(at, byte));
        }
        const auto fs = open_file_system(layer, Reader::Loader);
        if (!fs) continue;
        (void)(*fs)->subvolumes();
        if (const auto names = (*fs)->list((*fs)->root()); names)
            for (const auto& entry : *names)
                if (auto file = (*fs)->open(entry.id, "x"))
                    (void)(*file)->bytes(0, std::min<std::uint64_t>(4096, (*file)->size()));
    }
}

TEST(BtrfsRoot, IsTheSubvolumeThatTheCommandLineNames) {
    const struct {
        const char* flags;
        const char* stage;
        const char* home = "@rootfs";  ///< the subvolume that /etc/fstab mounts on /srv
    } cases[] = {{" rootflags=subvol=@rootfs", "yes"},
                 {" rootflags=subvol=@rootfs", "services", "@home"},
                 {" rootflags=subvol=@rotfs", "root"},
                 {"", "init"}};
    for (const auto& one : cases) {
        auto desk = demo::front_desk();
        auto boot = support::boot_files(desk.root);
        support::edit(boot, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid,
                      std::string("root=UUID=b7f50000-0001-4a01-8a01-00000b7f5001") + one.flags);
        support::edit(desk.root, "/etc/fstab", std::string("UUID=") + demo::root_uuid + " / ext4",
                      std::string("UUID=b7f50000-0001-4a01-8a01-00000b7f5001 /srv btrfs subvol=") + one.home +
                          " 0 0\nUUID=b7f50000-0001-4a01-8a01-00000b7f5001 / btrfs");
        desk.root.directory("/srv");
        desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/kernel/fs/btrfs.ko",
                          forge::make_kernel_module("btrfs"));
        const support::Folder folder;
        const auto path = fill(folder, {"", "", ",compress-force=zstd"}, desk.root, "/@rootfs");
        if (path.empty()) GTEST_SKIP() << "no Btrfs can be made and mounted here";
        desk.root = boot;
        desk.swap_size = 0;
        Machine machine;
        machine.disks.push_back(inspect_disk(memory_source(desk.build(), "d1", 1), 1, "desk.img"));
        machine.disks.push_back(inspect_disk(*open_image(path, 2), 2, "root.img"));
        const auto verdict = check(machine);
        ASSERT_EQ(verdict.systems.size(), 1U) << one.flags;
        const auto& system = verdict.systems.front();
        EXPECT_EQ(system.place, "d2");
        EXPECT_EQ(system.name, "Almhof Desk 4 (Enzian)");
        EXPECT_TRUE(
            std::ranges::none_of(verdict.findings, [](const Finding& f) { return f.code == Code::FstabRootDiffers; }));
        EXPECT_EQ(system.stops_at ? std::string(stage_id(*system.stops_at)) : std::string(starts_id(system.starts)),
                  one.stage)
            << one.flags << ": " << system.at(Stage::Root).text;
        if (std::string(one.stage) == "root") {
            EXPECT_EQ(system.at(Stage::Root).findings.front(), Code::RootSubvolumeMissing);
            EXPECT_NE(system.symptom.find("No such file or directory"), std::string::npos);
        }
    }
}

}  // namespace
