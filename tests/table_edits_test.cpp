// SPDX-License-Identifier: MIT
// Changes to partition tables, read back by the system's own partitioner.
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "remedy/tables.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

constexpr std::uint64_t mib = 2048;  // sectors

bool partitioner() { return support::shell("command -v sfdisk").status == 0; }

/// What sfdisk reads from an image; null: it finds no table.
nlohmann::json told(const Bytes& image) {
    const support::Folder folder;
    const auto file = folder.write("disk.img", image);
    const auto said = support::shell("sfdisk --json " + file + " 2>/dev/null");
    return said.status == 0 ? nlohmann::json::parse(said.out).at("partitiontable") : nlohmann::json();
}
/// Its complaints; a sound table has none.
std::string complaints(const Bytes& image) {
    const support::Folder folder;
    const auto file = folder.write("disk.img", image);
    const auto said = support::shell("sfdisk --verify " + file + " 2>&1");
    return said.status == 0 && said.out.find("No errors detected") != std::string::npos ? "" : said.out;
}
Bytes partitioned(std::size_t size, const std::string& script) {
    const support::Folder folder;
    const auto file = folder.write("disk.img", Bytes(size));
    support::shell("printf '" + script + "' | sfdisk -q " + file);
    return support::file_bytes(file);
}
Bytes of(const Workshop& shop) {
    const auto disk = shop.disk(1);
    return *disk->bytes(0, disk->size(), disk->size());
}

Bytes first_entry(const Bytes& image) { return {image.begin() + 446, image.begin() + 462}; }

TEST(CreateGpt, TheSystemsPartitionerReadsIt) {
    if (!partitioner()) GTEST_SKIP() << "fdisk is not installed";
    const auto machine = support::machine_of(Bytes(8U << 20U));
    Workshop shop(machine);
    VolumeInfo fat, ntfs, ext;
    fat.format = Format::Fat32;
    ntfs.format = Format::Ntfs;
    ext.format = Format::Ext4;
    const std::uint64_t last_usable = 16384 - 34;
    const std::vector<remedy::NewPartition> partitions = {{remedy::gpt_type(fat), 34, mib - 34},
                                                          {remedy::gpt_type(ntfs), mib, mib},
                                                          {remedy::gpt_type(ext), 2 * mib, last_usable - 2 * mib + 1}};
    ASSERT_TRUE(remedy::create_gpt(shop, machine.disks[0], partitions, 2));
    const auto image = of(shop);
    EXPECT_EQ(complaints(image), "");
    const auto table = told(image);
    ASSERT_FALSE(table.is_null());
    EXPECT_EQ(table.at("label"), "gpt");
    EXPECT_EQ(table.at("firstlba"), 34);
    EXPECT_EQ(table.at("lastlba"), last_usable);
    ASSERT_EQ(table.at("partitions").size(), 3U);
    const std::string types[] = {"C12A7328-F81F-11D2-BA4B-00A0C93EC93B", "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7",
                                 "0FC63DAF-8483-4772-8E79-3D69D8477DE4"};
    std::set<std::string> identifiers{table.at("id")};
    for (std::size_t i = 0; i < 3; ++i) {
        const auto& one = table.at("partitions").at(i);
        EXPECT_TRUE(one.at("node").get<std::string>().ends_with(fmt::format("{}", i + 3))) << one;
        EXPECT_EQ(one.at("type"), types[i]);
        EXPECT_EQ(one.at("start"), partitions[i].lba);
        EXPECT_EQ(one.at("size"), partitions[i].sectors);
        // Of a random UUID's form (RFC 4122, 4.4).
        const auto id = one.at("uuid").get<std::string>();
        EXPECT_EQ(id.at(14), '4') << id;
        EXPECT_NE(std::string("89AB").find(id.at(19)), std::string::npos) << id;
        identifiers.insert(id);
    }
    EXPECT_EQ(identifiers.size(), 4U) << "each has its own";
    // Sector 0: one entry over the whole disk.
    EXPECT_EQ(first_entry(image), (Bytes{0, 0x00, 0x02, 0x00, 0xEE, 0x05, 0x04, 0x01, 1, 0, 0, 0, 0xFF, 0x3F, 0, 0}));
    // The same once more is the same.
    Workshop again(machine);
    ASSERT_TRUE(remedy::create_gpt(again, machine.disks[0], partitions, 2));
    EXPECT_EQ(of(again), image);
}

TEST(CreateGpt, NotWhereTheTableItselfLies) {
    const auto machine = support::machine_of(Bytes(8U << 20U));
    const auto type = remedy::gpt_type(VolumeInfo{});
    const std::uint64_t last_usable = 16384 - 34;
    const struct {
        std::uint64_t lba, sectors;
        bool good;
    } rows[] = {{34, 1, true},
                {33, 1, false},
                {34, 0, false},
                {last_usable, 1, true},
                {last_usable, 2, false},
                {last_usable + 1, 1, false},
                {34, last_usable - 33, true}};
    for (const auto& row : rows) {
        Workshop shop(machine);
        const remedy::NewPartition one{type, row.lba, row.sectors};
        const auto done = remedy::create_gpt(shop, machine.disks[0], std::span(&one, 1), 0);
        EXPECT_EQ(done.has_value(), row.good) << row.lba << " " << row.sectors;
        if (!done) {
            EXPECT_EQ(done.error().kind, ErrorKind::OutOfRange);
            EXPECT_EQ(done.error().what, "a volume lies where the GPT itself would");
            EXPECT_FALSE(shop.changed());
        }
    }
}

TEST(PutGptEntry, OnlyIntoSlotsThatThereAre) {
    Bytes entries(3 * 128, 0xAA);
    const auto type = remedy::gpt_type(VolumeInfo{});
    const auto before = entries;
    remedy::put_gpt_entry(entries, 128, 3, type, 40, 8);
    remedy::put_gpt_entry(entries, 127, 0, type, 40, 8);
    EXPECT_EQ(entries, before);
    remedy::put_gpt_entry(entries, 128, 2, type, 40, 8);
    EXPECT_TRUE(std::equal(type.begin(), type.end(), entries.begin() + 256));
    EXPECT_EQ(forge::get32(entries, 256 + 32), 40U);
    EXPECT_EQ(forge::get32(entries, 256 + 40), 47U);
    EXPECT_TRUE(std::equal(before.begin(), before.begin() + 256, entries.begin()));
    // Entries may be larger than what they hold.
    Bytes large(512);
    remedy::put_gpt_entry(large, 256, 1, type, 40, 8);
    EXPECT_TRUE(std::equal(type.begin(), type.end(), large.begin() + 256));
}

class MadeGpt : public testing::Test {
protected:
    void SetUp() override {
        if (!partitioner()) GTEST_SKIP() << "fdisk is not installed";
        image_ = partitioned(8U << 20U, "label: gpt\\nstart=2048, size=4096\\nstart=6144, size=4096, name=barn\\n");
        ASSERT_EQ(complaints(image_), "");
    }
    Bytes image_;
};

TEST_F(MadeGpt, EachCopyIsMadeFromTheOther) {
    for (const bool primary : {true, false}) {
        auto broken = image_;
        const std::size_t from = primary ? 512 : broken.size() - 33 * 512, to = primary ? 34 * 512 : broken.size();
        std::fill(broken.begin() + static_cast<std::ptrdiff_t>(from), broken.begin() + static_cast<std::ptrdiff_t>(to),
                  std::uint8_t{0});
        const auto machine = support::machine_of(broken);
        Workshop shop(machine);
        ASSERT_TRUE(remedy::restore_gpt(shop, machine.disks[0], primary));
        EXPECT_EQ(of(shop), image_) << "byte by byte as the partitioner had made it";
        // From nothing nothing is made.
        std::ranges::fill(broken, std::uint8_t{0});
        const auto none = support::machine_of(broken);
        Workshop idle(none);
        const auto failed = remedy::restore_gpt(idle, none.disks[0], primary);
        ASSERT_FALSE(failed);
        EXPECT_EQ(failed.error().what, "there is no GPT header");
        EXPECT_FALSE(idle.changed());
    }
}

TEST_F(MadeGpt, EntriesChangeInBothCopies) {
    const auto rename = [](std::span<std::uint8_t> entries, std::size_t size) {
        EXPECT_EQ(size, 128U);
        EXPECT_EQ(entries.size(), 128U * 128U);
        entries[56] = 'x';
    };
    const auto machine = support::machine_of(image_);
    Workshop shop(machine);
    ASSERT_TRUE(remedy::rewrite_gpt(shop, machine.disks[0], rename));
    const auto image = of(shop);
    EXPECT_EQ(complaints(image), "");
    EXPECT_EQ(told(image).at("partitions").at(0).at("name"), "x");
    EXPECT_EQ(told(image).at("partitions").at(1).at("name"), "barn");
    EXPECT_TRUE(std::equal(image.begin() + 1024, image.begin() + 1024 + 16384, image.end() - 33 * 512))
        << "the backup's entries are the same";
    // Where the backup is not there, the primary is changed alone.
    auto alone = image_;
    std::fill(alone.end() - 512, alone.end(), std::uint8_t{0});
    const auto single = support::machine_of(alone);
    Workshop second(single);
    ASSERT_TRUE(remedy::rewrite_gpt(second, single.disks[0], rename));
    EXPECT_EQ(of(second)[1024 + 56], 'x');
    EXPECT_EQ(of(second)[alone.size() - 33 * 512 + 56], 0);
    // And not at all where the primary is not sound.
    auto torn = image_;
    torn[1024] ^= 1U;
    const auto half = support::machine_of(torn);
    Workshop third(half);
    const auto refused = remedy::rewrite_gpt(third, half.disks[0], rename);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Unsupported);
    EXPECT_FALSE(third.changed());
}

/// Cylinders, heads and sectors of an entry, for 255 heads and 63 sectors.
TEST(WriteEntry, AddressesByCylindersAreThoseOfThePartitioner) {
    if (!partitioner()) GTEST_SKIP() << "fdisk is not installed";
    for (const auto& [first, sectors] : std::initializer_list<std::pair<std::uint32_t, std::uint32_t>>{
             {2048, 2048}, {63, 16002}, {16065, 16065}, {2048, 12000}}) {
        const auto made =
            partitioned(20U << 20U, fmt::format("label: dos\\nlabel-id: 0x1\\nstart={}, size={}, type=83, "
                                                "bootable\\n",
                                                first, sectors));
        auto empty = made;
        std::fill_n(empty.begin() + 446, 16, std::uint8_t{0});
        const auto machine = support::machine_of(empty);
        Workshop shop(machine);
        ASSERT_TRUE(remedy::write_entry(shop, 1, 446, {0x80, 0x83, first, sectors}));
        EXPECT_EQ(first_entry(of(shop)), first_entry(made)) << first << " " << sectors;
    }
}

/// The last cylinder that fits, and beyond; an entry of no sectors; a place that is counted from elsewhere.
TEST(WriteEntry, EndsWhereAddressesByCylindersEnd) {
    const auto machine = support::machine_of(Bytes(1U << 20U));
    constexpr std::uint32_t cylinder = 255 * 63;
    const auto entry = [&](std::uint32_t first, std::uint32_t sectors, std::uint64_t base) {
        Workshop shop(machine);
        EXPECT_TRUE(remedy::write_entry(shop, 1, 446, {0, 0x83, first, sectors}, base));
        return first_entry(of(shop));
    };
    const auto head = [](const Bytes& e) { return Bytes(e.begin() + 1, e.begin() + 4); };
    const auto tail = [](const Bytes& e) { return Bytes(e.begin() + 5, e.begin() + 8); };
    EXPECT_EQ(head(entry(1023 * cylinder, 1, 0)), (Bytes{0x00, 0xC1, 0xFF}));
    EXPECT_EQ(tail(entry(1023 * cylinder, cylinder, 0)), (Bytes{0xFE, 0xFF, 0xFF}));
    EXPECT_EQ(head(entry(1024 * cylinder, 1, 0)), (Bytes{0xFE, 0xFF, 0xFF}));
    EXPECT_EQ(head(entry(2000 * cylinder + 5, 1, 0)), (Bytes{0xFE, 0xFF, 0xFF}));
    EXPECT_EQ(tail(entry(300 * cylinder + 62, 0, 0)), (Bytes{0x00, 0x7F, 0x2C})) << "cylinder 300, sector 63";
    EXPECT_EQ(head(entry(62, 1, 300 * cylinder)), (Bytes{0x00, 0x7F, 0x2C}));
    EXPECT_EQ(head(entry(63, 1, 300 * cylinder)), (Bytes{0x01, 0x41, 0x2C}));
}

}  // namespace
