// SPDX-License-Identifier: MIT
#include "support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

struct Raw {
    std::uint8_t status, type;
    std::uint32_t first, count;
};

Bytes disk_with(const std::vector<Raw>& entries, std::uint64_t sectors = 10000) {
    Bytes out(sectors * 512);
    for (std::size_t i = 0; i < entries.size(); ++i) {
        const std::size_t at = 446 + 16 * i;
        out[at] = entries[i].status;
        out[at + 1] = 0xFE;
        out[at + 2] = 0xFF;
        out[at + 3] = 0xFF;
        out[at + 4] = entries[i].type;
        forge::put32(out, at + 8, entries[i].first);
        forge::put32(out, at + 12, entries[i].count);
    }
    forge::put32(out, 440, 0xDEC0DE01);
    forge::put16(out, 510, 0xAA55);
    return out;
}

PartitionTable read(Bytes bytes) { return *read_partition_table(*memory_source(std::move(bytes), "d1", 1)); }

std::vector<Code> codes(const PartitionTable& table) {
    std::vector<Code> out;
    for (const auto& f : table.findings) out.push_back(f.code);
    return out;
}

TEST(Mbr, NamesItsPartitionsAsTheKernelDoes) {
    const auto table = read(disk_with({{0x80, 0x83, 2048, 4000}, {0, 0, 0, 0}, {0, 0x82, 7000, 1000}}));
    ASSERT_EQ(table.partitions.size(), 2U);
    EXPECT_EQ(table.partitions[0].number, 1);
    EXPECT_EQ(table.partitions[1].number, 3);
    EXPECT_EQ(table.partitions[1].partuuid, "dec0de01-03");
    EXPECT_EQ(table.first_active()->number, 1);
    EXPECT_EQ(table.partitions[1].type_name(), "Linux swap");
    EXPECT_TRUE(table.findings.empty());
}

struct Case {
    const char* name;
    std::vector<Raw> entries;
    std::vector<Code> codes;
};
class MbrFindings : public testing::TestWithParam<Case> {};
TEST_P(MbrFindings, AreTold) { EXPECT_EQ(codes(read(disk_with(GetParam().entries))), GetParam().codes); }

INSTANTIATE_TEST_SUITE_P(
    All, MbrFindings,
    testing::Values(Case{"Overlap", {{0, 0x83, 2048, 4000}, {0, 0x83, 6000, 1000}}, {Code::PartitionsOverlap}},
                    Case{"PastTheEnd", {{0, 0x83, 2048, 9000}}, {Code::MbrEntryPastEnd}},
                    Case{"StartsPastTheEnd", {{0, 0x83, 20000, 10}}, {Code::MbrEntryPastEnd}},
                    Case{"Largest", {{0, 0x83, 0xFFFFFFFF, 0xFFFFFFFF}}, {Code::MbrEntryPastEnd}},
                    Case{"TwoActive", {{0x80, 0x83, 2048, 100}, {0x80, 0x83, 4096, 100}}, {Code::MbrSeveralActive}},
                    Case{"Status", {{0x12, 0x83, 2048, 100}}, {Code::MbrStatusByte}},
                    Case{"OnTheTable", {{0, 0x83, 0, 100}}, {Code::MbrEntryAtZero}},
                    Case{"Protective", {{0, 0xEE, 1, 9999}}, {Code::GptHeaderMissing}},
                    Case{"Hidden", {{0, 0x17, 2048, 100}}, {}}),
    support::by_name);

/// The evidence is the field that is wrong, in its own entry.
TEST(Mbr, FindingsPointToTheField) {
    const struct {
        std::vector<Raw> entries;
        std::uint64_t offset, length;
        const char *text, *expected, *found;
    } rows[] = {{{{0, 0x83, 2048, 9000}},
                 454,
                 8,
                 "partition 1 ends past the end of the disk",
                 "an end at or below sector 10000",
                 "sector 11048"},
                {{{0, 0x83, 2048, 7952}, {0, 0x83, 10000, 1}},
                 470,
                 8,
                 "partition 2 starts past the end of the disk",
                 "a start below sector 10000",
                 "sector 10000"},
                {{{0, 0x83, 2048, 100}, {0, 0x83, 4096, 100}, {0x12, 0x83, 6144, 100}},
                 478,
                 1,
                 "entry 3 has the status byte 12",
                 "00 or 80",
                 "12"},
                {{{0, 0x83, 2048, 100}, {0, 0x83, 4096, 100}, {0, 0x83, 6144, 100}, {0, 0x83, 0, 100}},
                 502,
                 4,
                 "partition 4 starts at sector 0, on top of the table itself",
                 "a start of 1 or more",
                 "0"},
                {{{0, 0x83, 2048, 4000}, {0, 0x83, 6047, 10}},
                 470,
                 8,
                 "partitions 1 and 2 overlap",
                 "no sector of 2048..6047",
                 "6047..6056"},
                {{{0, 0x83, 6000, 100}, {0, 0x83, 2048, 3953}},
                 470,
                 8,
                 "partitions 1 and 2 overlap",
                 "no sector of 6000..6099",
                 "2048..6000"}};
    for (const auto& row : rows) {
        const auto bytes = disk_with(row.entries);
        ASSERT_EQ(bytes.size(), 10000U * 512);
        const auto table = read(bytes);
        ASSERT_EQ(table.findings.size(), 1U) << row.text;
        const auto& finding = table.findings[0];
        EXPECT_EQ(finding.text, row.text);
        ASSERT_EQ(finding.evidence.size(), 1U);
        ASSERT_TRUE(finding.evidence[0].range);
        EXPECT_EQ(finding.evidence[0].range->offset, row.offset) << row.text;
        EXPECT_EQ(finding.evidence[0].range->length, row.length) << row.text;
        EXPECT_EQ(finding.evidence[0].expected, row.expected);
        EXPECT_EQ(finding.evidence[0].found, row.found);
    }
    // Next to each other, on either side, they do not overlap.
    EXPECT_TRUE(read(disk_with({{0, 0x83, 2048, 4000}, {0, 0x83, 6048, 10}})).findings.empty());
    EXPECT_TRUE(read(disk_with({{0, 0x83, 6000, 100}, {0, 0x83, 2048, 3952}})).findings.empty());
    // To the last sector is within the disk.
    EXPECT_TRUE(read(disk_with({{0, 0x83, 2048, 7952}})).findings.empty());
    EXPECT_FALSE(read(disk_with({{0, 0x83, 2048, 7953}})).findings.empty());
}

TEST(Mbr, ChsAgreesInEachUsualGeometry) {
    // Heads and sectors of a track that BIOSes count by; ECMA-107's order: (cylinder * heads + head) * sectors + sector
    // - 1.
    for (const auto& [heads, sectors, usual] :
         std::initializer_list<std::tuple<std::uint32_t, std::uint32_t, bool>>{{255, 63, true},
                                                                               {240, 63, true},
                                                                               {128, 63, true},
                                                                               {64, 63, true},
                                                                               {32, 63, true},
                                                                               {16, 63, true},
                                                                               {64, 32, true},
                                                                               {254, 63, false},
                                                                               {65, 63, false},
                                                                               {17, 63, false},
                                                                               {64, 31, false}}) {
        const std::uint32_t cylinder = 2, head = 5, sector = 7;
        const std::uint32_t first = (cylinder * heads + head) * sectors + sector - 1;
        auto bytes = disk_with({{0, 0x83, first, 10}});
        bytes.resize(std::size_t{40000} * 512);
        bytes[447] = head;
        bytes[448] = sector;
        bytes[449] = cylinder;
        const auto table = read(bytes);
        EXPECT_EQ(codes(table), usual ? std::vector<Code>{} : std::vector{Code::MbrChsDiffers})
            << heads << "/" << sectors;
        if (usual) continue;
        EXPECT_EQ(table.findings[0].text,
                  "the CHS start of partition 1 does not match its LBA start in any usual geometry");
        ASSERT_EQ(table.findings[0].evidence.size(), 1U);
        EXPECT_EQ(table.findings[0].evidence[0].range, (DiskRange{1, 447, 3}));
        EXPECT_EQ(table.findings[0].evidence[0].expected, "LBA " + std::to_string(first));
        EXPECT_EQ(table.findings[0].evidence[0].found, "C/H/S 2/5/7");
    }
    // Cylinder 1022 is the last that is believed: 1023 stands for what is beyond, and sector 0 for nothing.
    for (const auto& [sector, cylinder, told] :
         {std::tuple{0xC1, 0xFE, true}, {0xC1, 0xFF, false}, {0xC0, 0xFE, false}}) {
        auto bytes = disk_with({{0, 0x83, 2048, 10}});
        bytes[447] = 0;
        bytes[448] = static_cast<std::uint8_t>(sector);
        bytes[449] = static_cast<std::uint8_t>(cylinder);
        EXPECT_EQ(codes(read(bytes)).empty(), !told) << sector << " " << cylinder;
    }
}

TEST(Mbr, ChsThatNamesAnotherSectorIsANote) {
    auto bytes = disk_with({{0, 0x83, 2048, 100}});
    bytes[447] = 5;
    bytes[448] = 1;
    bytes[449] = 0;
    EXPECT_EQ(codes(read(bytes)), std::vector{Code::MbrChsDiffers});
    // 0/32/33 with 255 heads and 63 sectors is sector 2048.
    bytes[447] = 32;
    bytes[448] = 33;
    EXPECT_TRUE(read(bytes).findings.empty());
}

/// An extended partition at 4000 with three logical ones, tables at 4000, 5000 and 6000.
Bytes chained() {
    auto out = disk_with({{0x80, 0x83, 2048, 1000}, {0, 0x05, 4000, 4000}});
    const auto table = [&](std::size_t at, std::uint32_t first, std::uint32_t count, std::uint32_t next) {
        const std::size_t entry = at * 512 + 446;
        out[entry + 4] = 0x83;
        forge::put32(out, entry + 8, first);
        forge::put32(out, entry + 12, count);
        if (next != 0) {
            out[entry + 20] = 0x05;
            forge::put32(out, entry + 24, next);
            forge::put32(out, entry + 28, 1000);
        }
        forge::put16(out, at * 512 + 510, 0xAA55);
    };
    table(4000, 63, 900, 1000);
    table(5000, 63, 800, 2000);
    table(6000, 63, 700, 0);
    return out;
}

std::vector<int> numbers(const PartitionTable& table) {
    std::vector<int> out;
    for (const auto& p : table.partitions) out.push_back(p.number);
    return out;
}

TEST(Logical, AreNumberedFromFive) {
    const auto table = read(chained());
    EXPECT_EQ(numbers(table), (std::vector<int>{1, 2, 5, 6, 7}));
    EXPECT_EQ(table.find(6)->first_lba, 5063U);
    EXPECT_EQ(table.find(7)->partuuid, "dec0de01-07");
    EXPECT_TRUE(table.findings.empty());
}

TEST(Logical, ABreakHidesOnlyWhatComesAfterIt) {
    auto lost = chained();
    lost[std::size_t{5000} * 512 + 510] = 0;
    EXPECT_EQ(numbers(read(lost)), (std::vector<int>{1, 2, 5}));
    EXPECT_EQ(codes(read(lost)), std::vector{Code::MbrChainBroken});
    auto cycle = chained();
    forge::put32(cycle, std::size_t{5000} * 512 + 446 + 24, 0);
    EXPECT_EQ(numbers(read(cycle)), (std::vector<int>{1, 2, 5, 6}));
    EXPECT_EQ(codes(read(cycle)), std::vector{Code::MbrChainCycle});
    auto far = chained();
    forge::put32(far, std::size_t{4000} * 512 + 446 + 24, 0xFFFFFF00U);
    EXPECT_EQ(numbers(read(far)), (std::vector<int>{1, 2, 5}));
    auto plain = chained();
    plain[462 + 4] = 0x83;  // no longer an extended type
    EXPECT_EQ(numbers(read(plain)), (std::vector<int>{1, 2}));
}

TEST(Mbr, WithoutSignatureThereIsNoTable) {
    auto bytes = disk_with({{0x80, 0x83, 2048, 100}});
    bytes[510] = 0;
    const auto table = read(bytes);
    EXPECT_EQ(table.kind, TableKind::None);
    EXPECT_TRUE(table.partitions.empty());
    EXPECT_EQ(codes(table), std::vector{Code::MbrNoSignature});
    ASSERT_TRUE(table.findings[0].evidence[0].range);
    EXPECT_EQ(*table.findings[0].evidence[0].range, (DiskRange{1, 510, 2}));
}

TEST(Mbr, AStatusByteOfAnyEntryHidesAllPartitionsFromLoaders) {
    EXPECT_TRUE(read(disk_with({{0, 0x83, 2048, 100}, {0x01, 0, 0, 0}})).odd_status);
    EXPECT_FALSE(read(disk_with({{0x80, 0x83, 2048, 100}})).odd_status);
}

TEST(Mbr, ATinyImageIsAFindingNotAnError) {
    const auto table = read_partition_table(*memory_source(Bytes(511), "d1", 1));
    ASSERT_TRUE(table);
    EXPECT_EQ(codes(*table), std::vector{Code::DiskTooSmall});
}

TEST(Stretches, CoverTheWholeDiskInOrder) {
    const auto table = read(disk_with({{0, 0x83, 5000, 1000}, {0, 0x83, 2048, 1000}}));
    const auto all = stretches(table, 10000 * 512);
    std::vector<int> order;
    std::uint64_t at = 0;
    for (const auto& s : all) {
        EXPECT_EQ(s.first_lba, at);
        at += s.sectors;
        order.push_back(s.partition);
    }
    EXPECT_EQ(order, (std::vector<int>{0, 2, 0, 1, 0}));
    EXPECT_EQ(at, 10000U);
}

TEST(Sector, EveryByteOfTheTableIsNamedOnce) {
    const auto machine = support::machine_of(demo::front_desk().build());
    const auto view = view_sector(machine.disks[0], 0);
    ASSERT_TRUE(view);
    std::vector<int> covered(512);
    for (const auto& field : view->fields) {
        EXPECT_EQ(field.raw.size(), field.size);
        for (std::uint64_t i = 0; i < field.size; ++i) {
            ++covered[field.offset + i];
            EXPECT_EQ(field.raw[i], view->bytes[field.offset + i]) << field.name;
        }
    }
    for (std::size_t i = 440; i < 512; ++i) EXPECT_EQ(covered[i], 1) << i;
    EXPECT_NE(view->kind.find("GRUB 2"), std::string::npos);
    EXPECT_NE(view->next.find("sector 1"), std::string::npos);
}

TEST(Sector, CoreAndSuperblockAreRecognised) {
    const auto machine = support::machine_of(demo::front_desk().build());
    EXPECT_NE(view_sector(machine.disks[0], 1)->next.find("loads"), std::string::npos);
    EXPECT_NE(view_sector(machine.disks[0], 2)->kind.find("core image"), std::string::npos);
    const auto super = view_sector(machine.disks[0], 2050);
    EXPECT_NE(super->kind.find("superblock of d1p1"), std::string::npos);
    const auto magic =
        std::find_if(super->fields.begin(), super->fields.end(), [](const Field& f) { return f.name == "magic"; });
    ASSERT_NE(magic, super->fields.end());
    EXPECT_EQ(magic->offset, 0x38U);
    EXPECT_EQ(magic->raw, (Bytes{0x53, 0xEF}));
    EXPECT_FALSE(view_sector(machine.disks[0], 1U << 30U));
}

}  // namespace
