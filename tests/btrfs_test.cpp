// SPDX-License-Identifier: MIT
// Btrfs as the system's own tools and its kernel write it; then damaged.
#include <algorithm>

#include <fmt/format.h>
#include <fmt/ranges.h>

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
        EXPECT_TRUE((*fs)->mount_obstacles("").empty());
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
                                         Made{"NoHoles", "-O ^no-holes", ""}, Made{"XxHash", "--csum xxhash", ""},
                                         Made{"Sha256", "--csum sha256", ""}, Made{"Blake2b", "--csum blake2", ""}),
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
    d.set(65536 + 196, 4);  // checksums of the future; loaders do not compute any, and are held to the same
    EXPECT_EQ(d.open(Reader::Loader).error().what, "Btrfs with checksums that are not read here");
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
    const auto obstacles = (*fs)->mount_obstacles("");
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

/// A file system of several devices that the kernel filled, as images of the folder. None: that cannot be done here.
std::vector<std::string> fill_several(const support::Folder& folder, int count, const std::string& options,
                                      const forge::Tree& tree) {
    std::vector<std::string> images;
    for (int i = 0; i < count; ++i) images.push_back(folder.file(fmt::format("device{}.img", i + 1)));
    const support::Turn turn;
    if (!support::works(fmt::format("truncate -s 256M {}", fmt::join(images, " ")))) return {};
    const support::Loops loops(images);
    if (static_cast<int>(loops.devices.size()) != count) return {};
    const auto mount = folder.file("mount");
    std::filesystem::create_directories(mount);
    if (!support::works(fmt::format("mkfs.btrfs -q -f -L inn -U b7f50000-0001-4a01-8a01-00000b7f5001 {} {}", options,
                                    fmt::join(loops.devices, " "))) ||
        !support::works(
            fmt::format("mount -o device={} {} {}", fmt::join(loops.devices, ",device="), loops.devices[0], mount)))
        return {};
    support::write_tree(tree, mount);
    EXPECT_EQ(support::shell("umount " + mount).status, 0);
    support::shell("btrfs device scan --forget");
    return images;
}

/// The devices on a machine, in this order, as whole disks.
Machine machine_of_devices(const std::vector<std::string>& images) {
    Machine machine;
    for (const auto& image : images) {
        const int number = static_cast<int>(machine.disks.size()) + 1;
        machine.disks.push_back(inspect_disk(*open_image(image, number), number, image));
    }
    assemble_layers(machine);
    return machine;
}

struct Several {
    const char* name;
    int devices;
    const char* options;
    bool one_may_miss;  ///< all that is read is elsewhere, too
};
class BtrfsOfSeveral : public testing::TestWithParam<Several> {};
TEST_P(BtrfsOfSeveral, IsReadFromEachOfThem) {
    const support::Folder folder;
    const auto tree = support::shapes();
    auto images = fill_several(folder, GetParam().devices, GetParam().options, tree);
    if (images.empty()) GTEST_SKIP() << "no Btrfs of several devices can be made and mounted here";
    const auto all = machine_of_devices(images);
    for (const auto& disk : all.disks) {
        const auto& volume = *disk.volumes.at(0);
        SCOPED_TRACE(volume.place);
        EXPECT_EQ(volume.other_devices.size(), images.size() - 1);
        EXPECT_EQ(volume.listed_at, disk.number == 1 ? "" : "d1");
        for (const auto observer : {Observer::Linux, Observer::Grub}) {
            const auto* fs = volume.files(observer);
            ASSERT_NE(fs, nullptr) << volume.problem(observer)->text();
            support::expect_all(*fs, tree);
            EXPECT_TRUE(fs->mount_obstacles("").empty());
        }
    }
    // Whose bytes are they? Those of the disk that is named.
    const auto* fs = all.disks[0].volumes[0]->files(Observer::Linux);
    const auto noise = (*fs).open(resolve(*fs, "/noise")->file.id, "noise");
    ASSERT_TRUE(noise);
    for (const std::uint64_t at : {0U, 65536U, 131072U})
        for (const auto& range : (*noise)->locate(at, 512)) {
            ASSERT_EQ(range.length, 512U);
            EXPECT_EQ(*all.disk(range.disk)->source->bytes(range.offset, 512), *(*noise)->bytes(at, 512));
        }
    // One is out.
    images.erase(images.begin() + 1);
    const auto fewer = machine_of_devices(images);
    const auto& left = *fewer.disks[0].volumes[0];
    const auto* files = left.files(Observer::Linux);
    if (!GetParam().one_may_miss) {
        if (files == nullptr) {
            EXPECT_EQ(left.problem(Observer::Linux)->what,
                      "a part of the Btrfs lies on its device 2, which is not there");
            EXPECT_EQ(judge_root_mount(left, "degraded").findings.at(0).code, Code::BtrfsDeviceMissing);
        }
        return;
    }
    ASSERT_NE(files, nullptr) << left.problem(Observer::Linux)->text();
    support::expect_all(*files, tree);
    EXPECT_TRUE(files->mount_obstacles("compress=zstd,degraded").empty());
    const auto claim = judge_root_mount(left, "ro");
    EXPECT_EQ(claim.state, State::Breaks);
    ASSERT_EQ(claim.findings.size(), 1U);
    EXPECT_EQ(claim.findings[0].code, Code::BtrfsDeviceMissing);
    EXPECT_EQ(claim.findings[0].evidence[0].range->offset, 65536U + 136);
    EXPECT_NE(claim.text.find(fmt::format("of its {} devices ", GetParam().devices)), std::string::npos) << claim.text;
    EXPECT_NE(claim.text.find("missing: 2 ("), std::string::npos) << claim.text;
    EXPECT_NE(claim.findings[0].symptom.find("BTRFS error (device …): devid 2 uuid "), std::string::npos);
}
INSTANTIATE_TEST_SUITE_P(Profiles, BtrfsOfSeveral,
                         testing::Values(Several{"Single", 2, "-d single -m raid1", false},
                                         Several{"Striped", 3, "-d raid0 -m raid1", false},
                                         Several{"AllStriped", 2, "-d raid0 -m raid0", false},
                                         Several{"Mirrored", 2, "-d raid1 -m raid1", true},
                                         Several{"ThreeCopies", 3, "-d raid1c3 -m raid1c3", true},
                                         Several{"FourCopies", 4, "-d raid1c4 -m raid1c4", true},
                                         Several{"MirroredStripes", 4, "-d raid10 -m raid10", true},
                                         Several{"OneParity", 4, "-d raid5 -m raid1", false},
                                         Several{"TwoParities", 4, "-d raid6 -m raid1c3", false},
                                         Several{"ParityForAll", 3, "-d raid5 -m raid5", false}),
                         support::by_name);

TEST(BtrfsOfSeveral, ADeviceOfAnotherFileSystemIsPassedOver) {
    const support::Folder folder;
    forge::Tree tree;
    tree.file("/etc/hostname", "cellar\n");
    const auto images = fill_several(folder, 2, "-d raid1 -m raid1", tree);
    if (images.empty()) GTEST_SKIP() << "no Btrfs of several devices can be made and mounted here";
    const auto first = slice(*open_image(images[0], 1), 0, 256U << 20U, "d1p1");
    const auto second = overlay(*open_image(images[1], 2));
    const std::array<std::uint8_t, 1> other = {0xEE};
    ASSERT_TRUE(second->write(65536 + 32, other));  // its UUID
    const std::vector<Source> others{second};
    const auto fs = open_file_system(first, Reader::Loader, others);
    ASSERT_TRUE(fs);
    EXPECT_EQ((*fs)->mount_obstacles("").size(), 1U);
    // What is not told of: the same.
    EXPECT_EQ((*open_file_system(first, Reader::Kernel))->mount_obstacles("").size(), 1U);
}

TEST(BtrfsRoot, OfTwoDevicesNeedsBothAndSomebodyWhoTellsTheKernel) {
    const struct {
        const char* name;
        const char* program;  ///< in the RAM disk
        const char* flags;
        bool second;
        const char* stage;
    } cases[] = {{"told", "/usr/bin/btrfs", "", true, "yes"},
                 {"rule", "/usr/lib/udev/rules.d/64-btrfs.rules", "", true, "yes"},
                 {"nobody tells", "/usr/bin/bell", "", true, "root"},
                 {"named", "/usr/bin/bell", " rootflags=device=/dev/sdc", true, "yes"},
                 {"one is out", "/usr/bin/btrfs", "", false, "root"},
                 {"one is out, and may be", "/usr/bin/btrfs", " rootflags=degraded", false, "yes"}};
    const support::Folder folder;
    auto root = demo::front_desk().root;
    const std::string uuid = "UUID=b7f50000-0001-4a01-8a01-00000b7f5001";
    support::edit(root, "/etc/fstab", std::string("UUID=") + demo::root_uuid + " / ext4", uuid + " / btrfs");
    const auto images = fill_several(folder, 2, "-d raid1 -m raid1", root);
    if (images.empty()) GTEST_SKIP() << "no Btrfs of several devices can be made and mounted here";
    for (const auto& one : cases) {
        SCOPED_TRACE(one.name);
        auto desk = demo::front_desk();
        desk.root = support::boot_files(desk.root);
        support::edit(desk.root, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid,
                      "root=" + uuid + one.flags);
        desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/kernel/fs/btrfs.ko",
                          forge::make_kernel_module("btrfs"));
        desk.ramdisk.file(one.program, "what it does is not looked at\n", 0755);
        desk.swap_size = 0;
        Machine machine;
        machine.disks.push_back(inspect_disk(memory_source(desk.build(), "d1", 1), 1, "desk.img"));
        for (int i = 0; i < (one.second ? 2 : 1); ++i)
            machine.disks.push_back(inspect_disk(*open_image(images[static_cast<std::size_t>(i)], i + 2), i + 2, "x"));
        assemble_layers(machine);
        const auto verdict = check(machine);
        ASSERT_EQ(verdict.systems.size(), 1U);  // once, whatever it lies on
        const auto& system = verdict.systems.front();
        EXPECT_EQ(system.place, "d2");
        EXPECT_EQ(system.stops_at ? std::string(stage_id(*system.stops_at)) : std::string(starts_id(system.starts)),
                  one.stage)
            << system.at(Stage::Root).text << system.at(Stage::Services).text;
        for (const auto& finding : verdict.findings) support::expect_screen_of_table(finding);
        if (std::string_view(one.stage) != "root") continue;
        EXPECT_EQ(system.at(Stage::Root).findings.front(),
                  one.second ? Code::RamdiskNoLayerProgram : Code::BtrfsDeviceMissing);
        EXPECT_NE(system.symptom.find("BTRFS error (device …): open_ctree failed"), std::string::npos)
            << system.symptom;
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
