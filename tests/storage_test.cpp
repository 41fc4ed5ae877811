// SPDX-License-Identifier: MIT
// What each program makes of the same disk: tables, layers, file systems.
#include <array>
#include <functional>
#include <thread>

#include <gtest/gtest.h>
#include <zlib.h>

#include <herberge/herberge.hpp>

#include "storage/disk_letters.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

Disk gpt_disk(const std::function<void(Bytes&)>& change) {
    auto d = demo::front_desk();
    d.disk.gpt = true;
    auto bytes = d.build();
    change(bytes);
    return inspect_disk(memory_source(std::move(bytes), "d1", 1), 1, "d1");
}

/// Why GRUB, Linux, and Linux told "gpt" see no partitions; empty: they do.
std::array<std::string, 3> refusals(const Disk& disk) {
    return {disk.refuses_table(Observer::Grub).value_or(""), disk.refuses_table(Observer::Linux).value_or(""),
            disk.refuses_table(Observer::Linux, true).value_or("")};
}

constexpr const char* unsound = "the primary GPT is not sound, and the command line does not say gpt";
constexpr const char* odd = "a status byte in the table is neither 00 nor 80";

/// Behind sdz comes sdaa.
TEST(Names, DisksBehindTheTwentySixth) {
    const std::pair<int, const char*> rows[] = {{1, "a"},    {26, "z"},    {27, "aa"},     {52, "az"},     {53, "ba"},
                                                {702, "zz"}, {703, "aaa"}, {18278, "zzz"}, {18279, "aaaa"}};
    for (const auto& [number, letters] : rows) {
        EXPECT_EQ(disk_letters(number), letters);
        EXPECT_EQ(disk_of_letters(letters), number);
    }
    for (const char* none : {"", "A", "a1", "aaaaa", "{", "`"}) EXPECT_FALSE(disk_of_letters(none)) << none;
    EXPECT_EQ(disk_letters(0), "");
    std::vector<Bytes> disks(26, Bytes(1U << 20U));
    forge::DiskSpec last;
    forge::ExtOptions ext;
    ext.size = 2U << 20U;
    last.size = 8U << 20U;
    last.partitions.push_back({2048, forge::make_ext({}, ext), 0x83, false});
    disks.push_back(forge::make_disk(last));
    const auto machine = support::machine_of_disks(std::move(disks));
    EXPECT_EQ(partition_names(machine.disks.back(), *machine.disks.back().table.find(1)).linux_name, "sdaa1");
    EXPECT_EQ(disk_names(machine.disks.back()).linux_name, "sdaa");
    for (const char* name : {"/dev/sdaa1", "/dev/vdaa1", "/dev/xvdaa1"}) {
        const auto root = resolve_device(machine, name);
        ASSERT_NE(root.volume, nullptr) << name;
        EXPECT_EQ(root.volume->place, "d27p1");
        EXPECT_TRUE(root.depends_on_hardware);
    }
    EXPECT_EQ(resolve_device(machine, "/dev/sda1").volume, nullptr);
    EXPECT_EQ(resolve_device(machine, "/dev/sdab1").volume, nullptr);
}

}  // namespace

TEST(Observers, EachAcceptsATableByItsOwnRules) {
    using Told = std::array<std::string, 3>;
    EXPECT_EQ(refusals(gpt_disk([](Bytes&) {})), (Told{"", "", ""}));
    // The primary header's checksum: GRUB does not look, Linux does, and is helped by the backup when told.
    EXPECT_EQ(refusals(gpt_disk([](Bytes& b) { b[512 + 16] ^= 1U; })), (Told{"", unsound, ""}));
    // The mark itself.
    EXPECT_EQ(refusals(gpt_disk([](Bytes& b) { b[512] ^= 1U; })),
              (Told{"sector 1 carries no mark of a GPT", unsound, ""}));
    // Both copies: nothing is left for anybody but GRUB, which checks nothing.
    EXPECT_EQ(refusals(gpt_disk([](Bytes& b) {
                  b[512 + 16] ^= 1U;
                  b[b.size() - 512 + 16] ^= 1U;
              })),
              (Told{"", unsound, unsound}));
    // A protective entry that does not start at sector 1.
    EXPECT_EQ(refusals(gpt_disk([](Bytes& b) { b[454] = 2; })),
              (Told{"", "no protective entry starts at sector 1", ""}));
    // One without a size: nobody asks for it (really started with OVMF and Linux 6.1).
    const auto sizeless = gpt_disk([](Bytes& b) { std::fill_n(b.begin() + 446 + 12, 4, std::uint8_t{0}); });
    EXPECT_EQ(refusals(sizeless), (Told{"", "", ""}));
    EXPECT_EQ(sizeless.table.kind, TableKind::Gpt);
    EXPECT_TRUE(sizeless.table.protective);
    EXPECT_EQ(std::ranges::count(sizeless.table.findings, Code::GptProtectiveMissing, &Finding::code), 0);
    auto bytes = demo::front_desk().build();
    bytes[446 + 3 * 16] = 0x01;
    const auto mbr = inspect_disk(memory_source(bytes, "d1", 1), 1, "d1");
    EXPECT_EQ(refusals(mbr), (Told{odd, odd, odd}));
    // Firmware and simple loaders have no such rule.
    EXPECT_FALSE(mbr.refuses_table(Observer::Loader));
    EXPECT_FALSE(mbr.refuses_table(Observer::Uefi));
}

TEST(Observers, StrictnessDiffersByReader) {
    // A damaged group descriptor checksum: loaders read on, the kernel's own driver tells of it.
    auto d = demo::front_desk();
    auto bytes = d.build();
    const std::size_t super = std::size_t{2048} * 512 + 1024;
    bytes[super + 0x3FC] ^= 1U;  // the superblock's checksum
    const auto machine = support::machine_of(bytes);
    const auto volume = machine.volume(1, 1);
    ASSERT_NE(volume, nullptr);
    for (const auto observer : {Observer::Analyst, Observer::Loader, Observer::Grub, Observer::WindowsLoader}) {
        EXPECT_NE(volume->files(observer), nullptr) << observer_name(observer);
        EXPECT_FALSE(volume->problem(observer)) << observer_name(observer);
    }
    const auto* kernel = volume->files(Observer::Linux);
    ASSERT_NE(kernel, nullptr);
    ASSERT_EQ(kernel->mount_obstacles("").size(), 1U);
    EXPECT_EQ(kernel->mount_obstacles("")[0].code, Code::ExtSuperChecksum);
}

TEST(Observers, NothingThereAndNotReadableAreTwoThings) {
    const auto empty = std::make_shared<const Volume>(memory_source(Bytes(100000), "d1p1"), 1, 1);
    EXPECT_FALSE(empty->info.known());
    EXPECT_FALSE(empty->mark_unreadable());
    EXPECT_EQ(empty->problem(Observer::Linux)->kind, ErrorKind::NotFound);
    const auto damaged = with_unreadable(memory_source(Bytes(100000), "d1", 1), {{1024, 512}});
    const auto lost = std::make_shared<const Volume>(slice(damaged, 0, 100000, "d1p1"), 1, 1);
    EXPECT_TRUE(lost->mark_unreadable());
    EXPECT_EQ(lost->problem(Observer::Linux)->kind, ErrorKind::Unreadable);
    EXPECT_EQ(lost->problem(Observer::Linux)->byte, 1024U);
    EXPECT_EQ(lost->files(Observer::Analyst), nullptr);
}

TEST(Observers, AVolumeMayBeAskedFromSeveralThreads) {
    const auto machine = support::machine_of(demo::front_desk().build());
    const auto volume = machine.volume(1, 1);
    std::array<const FileSystem*, 8> seen{};
    std::vector<std::thread> threads;
    for (std::size_t i = 0; i < seen.size(); ++i)
        threads.emplace_back([&, i] {
            seen[i] = volume->files(i % 2 == 0 ? Observer::Linux : Observer::Grub);
            if (seen[i] == nullptr || !resolve(*seen[i], "/etc/fstab")) seen[i] = nullptr;
        });
    for (auto& thread : threads) thread.join();
    for (std::size_t i = 0; i < seen.size(); ++i) {
        EXPECT_NE(seen[i], nullptr);
        EXPECT_EQ(seen[i], seen[i % 2]);
    }
}

TEST(Formats, MountTakesNamesFromAListAndNothingFromItsGaps) {
    EXPECT_TRUE(file_system_fits(Format::Ext2, "xfs,ext4"));
    EXPECT_TRUE(file_system_fits(Format::Ext3, "ext2"));
    EXPECT_FALSE(file_system_fits(Format::Ext4, "ext3"));
    EXPECT_TRUE(file_system_fits(Format::Fat32, "msdos"));
    EXPECT_TRUE(file_system_fits(Format::Xfs, "auto"));
    for (const char* type : {"", ",", "xfs,", ",xfs", "xfs,,btrfs"})
        EXPECT_FALSE(file_system_fits(Format::Ext4, type)) << type;
}

TEST(Gpt, NamesAreUtf16) {
    const auto disk = gpt_disk([](Bytes& bytes) {
        // "Gästehaus " and a mountain, U+1F3D4 as a pair of surrogates; behind the zero lies what a longer name left.
        const std::u16string name(u"G\u00E4stehaus \U0001F3D4\0old", 17);
        for (std::size_t i = 0; i < name.size(); ++i) forge::put16(bytes, 2 * 512 + 56 + 2 * i, name[i]);
        forge::put32(bytes, 512 + 88, static_cast<std::uint32_t>(crc32(0, bytes.data() + 1024, 128 * 128)));
        forge::put32(bytes, 512 + 16, 0);
        forge::put32(bytes, 512 + 16, static_cast<std::uint32_t>(crc32(0, bytes.data() + 512, 92)));
    });
    EXPECT_FALSE(disk.refuses_table(Observer::Linux)) << *disk.refuses_table(Observer::Linux);
    ASSERT_FALSE(disk.volumes.empty());
    EXPECT_EQ(disk.volumes[0]->partlabel, "Gästehaus \xF0\x9F\x8F\x94");
}

TEST(Components, WhoListsAVolumeLinksNeitherTheReportsNorTheCiphers) {
    const auto libraries = [](const std::string& program) {
        return support::shell("ldd '" EXAMPLES_DIR "/" + program + "'").out;
    };
    const std::string small = libraries("list_volume");
    EXPECT_NE(small.find("libc.so"), std::string::npos) << small;
    for (const char* other : {"libpugixml", "libcrypto"}) {
        EXPECT_EQ(small.find(other), std::string::npos) << small;
        EXPECT_NE(libraries("check_disk").find(other), std::string::npos) << "the whole library does";
    }
}
