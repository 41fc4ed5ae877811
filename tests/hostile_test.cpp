// SPDX-License-Identifier: MIT
// Claims that cost nothing by themselves: long chains, crowded tables, directories that say they are huge.
#include <chrono>

#include "office_pc.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

/// A disk with an extended partition of `count` logical ones, 64 KiB each.
Bytes many_logical(int count) {
    constexpr std::uint32_t first = 2048;
    constexpr std::uint32_t step = 256;
    Bytes disk((first + step * static_cast<std::size_t>(count) + 2048) * 512);
    forge::put16(disk, 510, 0xAA55);
    disk[446 + 4] = 0x05;
    forge::put32(disk, 446 + 8, first);
    forge::put32(disk, 446 + 12, step * static_cast<std::uint32_t>(count));
    for (int i = 0; i < count; ++i) {
        const std::size_t table = (first + step * static_cast<std::size_t>(i)) * 512;
        forge::put16(disk, table + 510, 0xAA55);
        disk[table + 446 + 4] = 0x83;
        forge::put32(disk, table + 446 + 8, 128);
        forge::put32(disk, table + 446 + 12, 128);
        if (i + 1 == count) break;
        disk[table + 462 + 4] = 0x05;
        forge::put32(disk, table + 462 + 8, step * static_cast<std::uint32_t>(i + 1));
        forge::put32(disk, table + 462 + 12, step);
    }
    return disk;
}

TEST(Hostile, SixtyLogicalPartitionsHaveTheirNumbers) {
    const auto table = read_partition_table(*support::source_of(many_logical(60)));
    ASSERT_TRUE(table);
    EXPECT_EQ(table->partitions.size(), 61U);
    EXPECT_EQ(table->partitions.back().number, 64);
    EXPECT_EQ(table->partitions.back().first_lba, 2048U + 59 * 256 + 128);
    const auto machine = support::machine_of(many_logical(60));
    EXPECT_EQ(partition_names(machine.disks[0], table->partitions.back()).arc, "multi(0)disk(0)rdisk(0)partition(60)");
}

TEST(Hostile, AThousandLinksAreNotFollowed) {
    const auto table = read_partition_table(*support::source_of(many_logical(1000)));
    ASSERT_TRUE(table);
    EXPECT_LE(table->partitions.size(), 300U);
}

TEST(Hostile, GptEntriesWithImpossibleSizesAreNamedAndSkipped) {
    forge::DiskSpec spec;
    spec.gpt = true;
    spec.size = 8U << 20U;
    spec.partitions = {{2048, Bytes(1U << 20U), 0x83, false}};
    auto disk = forge::make_disk(spec);
    const std::size_t array = 1024;
    for (std::size_t i = 1; i < 128; ++i) {
        const std::size_t at = array + i * 128;
        std::copy_n(disk.begin() + array, 32, disk.begin() + static_cast<std::ptrdiff_t>(at));
        forge::put64(disk, at + 32, i % 2 == 0 ? ~std::uint64_t{0} : 5000);
        forge::put64(disk, at + 40, i % 3 == 0 ? 0 : ~std::uint64_t{0} >> 1U);
    }
    // Without a good backup everybody is left with these entries.
    disk[disk.size() - 33 * 512 + 3000] ^= 1U;
    const auto table = read_partition_table(*support::source_of(disk));
    ASSERT_TRUE(table);
    EXPECT_EQ(table->partitions.size(), 1U);
    EXPECT_TRUE(std::any_of(table->findings.begin(), table->findings.end(),
                            [](const Finding& f) { return f.code == Code::GptEntryPastEnd; }));
}

TEST(Hostile, TheBackupThatStayedBehindWhenTheDiskGrew) {
    forge::DiskSpec spec;
    spec.gpt = true;
    spec.size = 8U << 20U;
    spec.partitions = {{2048, Bytes(1U << 20U), 0x83, false}};
    auto disk = forge::make_disk(spec);
    disk.resize(disk.size() + (4U << 20U));
    const auto table = read_partition_table(*support::source_of(disk));
    ASSERT_TRUE(table);
    EXPECT_TRUE(std::any_of(table->findings.begin(), table->findings.end(),
                            [](const Finding& f) { return f.code == Code::GptBackupNotAtEnd; }));
}

TEST(Hostile, HybridTablesAreSaid) {
    forge::DiskSpec spec;
    spec.gpt = true;
    spec.size = 8U << 20U;
    spec.partitions = {{2048, Bytes(1U << 20U), 0x83, false}};
    auto disk = forge::make_disk(spec);
    disk[462 + 4] = 0x0C;
    forge::put32(disk, 462 + 8, 2048);
    forge::put32(disk, 462 + 12, 2048);
    const auto table = read_partition_table(*support::source_of(disk));
    ASSERT_TRUE(table);
    EXPECT_EQ(table->kind, TableKind::Gpt);
    EXPECT_TRUE(std::any_of(table->findings.begin(), table->findings.end(),
                            [](const Finding& f) { return f.code == Code::GptHybrid; }));
}

TEST(Hostile, ADirectoryThatClaimsTwoGibibytes) {
    forge::Tree tree;
    for (int i = 0; i < 60; ++i) tree.file("/Rooms/number " + std::to_string(i), "x");
    auto image = forge::make_ntfs(tree);
    // The index allocation of /Rooms (record 24): its sizes are claims, its runs are what there is.
    const std::size_t record = 4 * 4096 + 24 * 1024;
    for (std::size_t at = record + 56; at + 64 < record + 1000; at += 8)
        if (forge::get32(image, at) == 0xA0) {
            forge::put64(image, at + 40, std::uint64_t{2} << 30U);
            forge::put64(image, at + 48, std::uint64_t{2} << 30U);
            forge::put64(image, at + 56, std::uint64_t{2} << 30U);
            break;
        }
    const auto fs = open_file_system(support::source_of(image), Reader::Loader);
    ASSERT_TRUE(fs);
    const auto folder = resolve(**fs, "/Rooms");
    ASSERT_TRUE(folder);
    const auto names = (*fs)->list(folder->file.id);
    ASSERT_TRUE(names);
    EXPECT_EQ(names->size(), 60U);
}

TEST(Hostile, ConfigurationsThatIncludeThemselvesEnd) {
    auto b = demo::back_office();
    b.notice.file("/SYSLINUX/syslinux.cfg",
                  "INCLUDE syslinux.cfg\nDEFAULT guests\nLABEL guests\n  CONFIG syslinux.cfg\n");
    b.ledger.file("/boot/grub/menu.lst", "default 0\ntimeout 1\ntitle Again\nconfigfile /boot/grub/other.lst\n");
    b.ledger.file("/boot/grub/other.lst", "title And again\nconfigfile /boot/grub/menu.lst\n");
    Machine machine = support::machine_of(b.second());
    EXPECT_FALSE(read_menus(machine).empty());
    EXPECT_FALSE(check(machine).systems.empty());
}

TEST(Unreadable, SectorsOfTheChainAreToldOthersAreNot) {
    const auto image = demo::office_pc().build();
    const auto walk = [&](std::uint64_t offset, std::uint64_t length) {
        Machine machine;
        machine.disks.push_back(
            inspect_disk(with_unreadable(memory_source(image, "d1", 1), {{offset, length}}), 1, "office.img"));
        const auto verdict = check(machine);
        const auto& system = verdict.systems.front();
        return system.stops_at ? std::string(stage_id(*system.stops_at)) : std::string(starts_id(system.starts));
    };
    EXPECT_EQ(walk(image.size() - (1U << 20U), 512), "yes") << "nothing of the start lies there";
    EXPECT_EQ(walk(2048 * 512, 512), "boot-sector");
    // A file of the chain: the HAL, found where the reader says it lies.
    const auto machine = support::machine_of(image);
    const auto volume = machine.volume(1, 2);
    const auto hal = resolve(*volume->files(Observer::Loader), "/Windows/System32/hal.dll");
    ASSERT_TRUE(hal);
    const auto extents = volume->files(Observer::Loader)->extents(hal->file.id);
    ASSERT_TRUE(extents);
    EXPECT_EQ(walk(volume->source->locate(extents->front().base_offset, 512).front().offset, 512), "kernel");
}

}  // namespace
