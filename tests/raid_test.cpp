// SPDX-License-Identifier: MIT
// Linux software RAID: tables of where each chunk lies, drawn by hand after the driver's documentation; members with
// superblocks written by hand; degraded, stale and damaged ones.
#include <algorithm>

#include <fmt/format.h>

#include "storage/raid_source.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

constexpr std::size_t chunk = 4096;

/// What chunk `number` of an array holds: bytes that tell it and their own place apart.
Bytes content(std::size_t number) {
    Bytes out(chunk);
    for (std::size_t i = 0; i < chunk; ++i) out[i] = static_cast<std::uint8_t>(number * 37 + i * 11 + i / 256);
    return out;
}

/// Multiplication in the field of RAID 6, bit by bit.
std::uint8_t product(std::uint8_t a, std::uint8_t b) {
    unsigned out = 0;
    unsigned shifted = a;
    for (unsigned i = 0; i < 8; ++i) {
        if ((b >> i & 1U) != 0) out ^= shifted;
        shifted <<= 1U;
        if ((shifted & 0x100U) != 0) shifted ^= 0x11DU;
    }
    return static_cast<std::uint8_t>(out);
}

/// A layout: the chunks of each row, member by member; -1: P, -2: Q.
struct Layout {
    const char* name;
    RaidShape shape;
    std::vector<std::vector<int>> rows;
    std::size_t may_lack;  ///< members
};
constexpr int P = -1, Q = -2;

std::vector<Bytes> members_of(const Layout& layout) {
    const std::size_t count = layout.rows.front().size();
    std::vector<Bytes> out(count);
    for (const auto& row : layout.rows) {
        Bytes p(chunk), q(chunk);
        const auto q_at = static_cast<std::size_t>(std::ranges::find(row, Q) - row.begin());
        // Q counts the data from the member behind it on; in the rotating layouts all members from the first one on.
        const bool rotating = layout.shape.layout >= 8 && layout.shape.level == 6;
        std::uint8_t factor = 1;
        for (std::size_t k = 0; k < count; ++k) {
            const std::size_t m = q_at == count || rotating ? k : (q_at + 1 + k) % count;
            if (row[m] < 0) {
                if (rotating) factor = product(factor, 2);
                continue;
            }
            const auto data = content(static_cast<std::size_t>(row[m]));
            for (std::size_t i = 0; i < chunk; ++i) {
                p[i] ^= data[i];
                q[i] ^= product(factor, data[i]);
            }
            factor = product(factor, 2);
        }
        for (std::size_t m = 0; m < count; ++m) {
            const auto piece = row[m] == P ? p : row[m] == Q ? q : content(static_cast<std::size_t>(row[m]));
            out[m].insert(out[m].end(), piece.begin(), piece.end());
        }
    }
    return out;
}

std::size_t chunks_of(const Layout& layout) {
    int last = 0;
    for (const auto& row : layout.rows) last = std::max(last, *std::ranges::max_element(row));
    return static_cast<std::size_t>(last) + 1;
}

class Layouts : public testing::TestWithParam<Layout> {};
TEST_P(Layouts, GiveEveryByteWithAnyMembersMissingThatMayBe) {
    const auto& layout = GetParam();
    const auto bytes = members_of(layout);
    const std::size_t count = bytes.size();
    Bytes whole;
    for (std::size_t i = 0; i < chunks_of(layout); ++i) {
        const auto piece = content(i);
        whole.insert(whole.end(), piece.begin(), piece.end());
    }
    for (unsigned lacking = 0; lacking < 1U << count; ++lacking) {
        const auto missing = static_cast<std::size_t>(std::popcount(lacking));
        if (missing > layout.may_lack) continue;
        std::vector<Source> members;
        for (std::size_t m = 0; m < count; ++m)
            members.push_back((lacking >> m & 1U) != 0
                                  ? nullptr
                                  : memory_source(bytes[m], fmt::format("d{}", m + 1), static_cast<int>(m) + 1));
        auto shape = layout.shape;
        shape.chunk = chunk;
        shape.size = bytes.front().size();
        const auto source = raid_source(shape, members, "md/inn");
        if (!source) {
            // Copies lie side by side: some pairs may not be missing together.
            EXPECT_TRUE(shape.level == 10 && missing > 1) << layout.name << lacking << source.error().text();
            continue;
        }
        ASSERT_EQ((*source)->size(), whole.size()) << layout.name;
        const auto read = (*source)->bytes(0, whole.size());
        ASSERT_TRUE(read) << layout.name << ": " << read.error().text();
        EXPECT_TRUE(*read == whole) << layout.name << ", missing " << lacking;
        const auto part = (*source)->bytes(chunk - 100, 2 * chunk);
        ASSERT_TRUE(part);
        EXPECT_TRUE(std::equal(part->begin(), part->end(), whole.begin() + chunk - 100)) << layout.name;
        EXPECT_FALSE((*source)->bytes(whole.size(), 1));
    }
    // One more than may be missing.
    std::vector<Source> few(count);
    for (std::size_t m = layout.may_lack + 1; m < count; ++m) few[m] = memory_source(bytes[m], "d1", 1);
    auto shape = layout.shape;
    shape.chunk = chunk;
    shape.size = bytes.front().size();
    const auto refused = raid_source(shape, few, "md/inn");
    if (layout.shape.level != 10) {
        ASSERT_FALSE(refused) << layout.name;
        EXPECT_EQ(refused.error().kind, ErrorKind::NotFound) << layout.name;
    }
}
/// Members that are there and lack sectors, each another one: the driver takes what is lost from the others.
TEST_P(Layouts, GiveWhatAMemberHasLost) {
    const auto& layout = GetParam();
    const auto bytes = members_of(layout);
    const std::size_t count = bytes.size();
    auto shape = layout.shape;
    shape.chunk = chunk;
    shape.size = bytes.front().size();
    Bytes whole;
    for (std::size_t i = 0; i < chunks_of(layout); ++i) {
        const auto piece = content(i);
        whole.insert(whole.end(), piece.begin(), piece.end());
    }
    // `which`: the members that lose `length` bytes at `at`.
    const auto read = [&](unsigned which, std::uint64_t at, std::uint64_t length) {
        std::vector<Source> members;
        for (std::size_t m = 0; m < count; ++m) {
            Source member = memory_source(bytes[m], fmt::format("d{}", m + 1), static_cast<int>(m) + 1);
            if ((which >> m & 1U) != 0) member = with_unreadable(member, {{at, length}});
            members.push_back(std::move(member));
        }
        const auto source = raid_source(shape, members, "md/inn");
        EXPECT_TRUE(source);
        return (*source)->bytes(0, whole.size());
    };
    for (std::size_t m = 0; m < count; ++m) {
        const auto all = read(1U << m, 0, shape.size);
        if (layout.may_lack == 0) {
            EXPECT_FALSE(all) << layout.name;
            continue;
        }
        ASSERT_TRUE(all) << layout.name << " member " << m << ": " << all.error().text();
        EXPECT_TRUE(*all == whole) << layout.name << " member " << m;
    }
    const auto everywhere = read((1U << count) - 1, 600, 1);
    // Far copies and those of offset layouts lie elsewhere on their member.
    const bool elsewhere = layout.shape.level == 10 && (layout.shape.layout >> 8U & 0xFFU) > 1;
    ASSERT_EQ(everywhere.has_value(), elsewhere) << layout.name;
    if (!elsewhere) EXPECT_TRUE(everywhere.error().unreadable()) << layout.name;
    if (layout.may_lack == 0) return;
    if (elsewhere) return;
    // Each member lacks another page: of every stripe one part at most.
    std::vector<Source> members;
    for (std::size_t m = 0; m < count; ++m)
        members.push_back(with_unreadable(memory_source(bytes[m], fmt::format("d{}", m + 1), static_cast<int>(m) + 1),
                                          {{(m * chunk) % shape.size + 100, 1}}));
    if (shape.size / chunk < count) return;
    const auto source = raid_source(shape, members, "md/inn");
    const auto all = (*source)->bytes(0, whole.size());
    ASSERT_TRUE(all) << layout.name << ": " << all.error().text();
    EXPECT_TRUE(*all == whole) << layout.name;
    if (layout.may_lack < 2 || layout.shape.level != 6) return;
    for (std::size_t m = 0; m + 1 < count; ++m) {
        const auto two = read(3U << m, 0, shape.size);
        ASSERT_TRUE(two) << layout.name << ": " << two.error().text();
        EXPECT_TRUE(*two == whole) << layout.name << " members " << m << " and the next one";
    }
}
INSTANTIATE_TEST_SUITE_P(
    Raid, Layouts,
    testing::Values(
        Layout{"Striped", {.level = 0}, {{0, 1, 2}, {3, 4, 5}}, 0},
        Layout{"LastMemberChecks", {.level = 4, .layout = 0}, {{0, 1, 2, P}, {3, 4, 5, P}}, 1},
        Layout{"FiveLeftSymmetric",
               {.level = 5, .layout = 2},
               {{0, 1, 2, P}, {4, 5, P, 3}, {8, P, 6, 7}, {P, 9, 10, 11}, {12, 13, 14, P}},
               1},
        Layout{"FiveLeftAsymmetric",
               {.level = 5, .layout = 0},
               {{0, 1, 2, P}, {3, 4, P, 5}, {6, P, 7, 8}, {P, 9, 10, 11}},
               1},
        Layout{"FiveRightAsymmetric",
               {.level = 5, .layout = 1},
               {{P, 0, 1, 2}, {3, P, 4, 5}, {6, 7, P, 8}, {9, 10, 11, P}},
               1},
        Layout{"FiveRightSymmetric",
               {.level = 5, .layout = 3},
               {{P, 0, 1, 2}, {5, P, 3, 4}, {7, 8, P, 6}, {9, 10, 11, P}},
               1},
        Layout{"SixLeftSymmetric",
               {.level = 6, .layout = 2},
               {{Q, 0, 1, 2, P}, {3, 4, 5, P, Q}, {7, 8, P, Q, 6}, {11, P, Q, 9, 10}, {P, Q, 12, 13, 14}},
               2},
        Layout{"SixLeftAsymmetric",
               {.level = 6, .layout = 0},
               {{Q, 0, 1, 2, P}, {3, 4, 5, P, Q}, {6, 7, P, Q, 8}, {9, P, Q, 10, 11}, {P, Q, 12, 13, 14}},
               2},
        Layout{"SixRightSymmetric",
               {.level = 6, .layout = 3},
               {{P, Q, 0, 1, 2}, {5, P, Q, 3, 4}, {7, 8, P, Q, 6}, {9, 10, 11, P, Q}, {Q, 12, 13, 14, P}},
               2},
        Layout{"SixRightAsymmetric",
               {.level = 6, .layout = 1},
               {{P, Q, 0, 1, 2}, {3, P, Q, 4, 5}, {6, 7, P, Q, 8}, {9, 10, 11, P, Q}, {Q, 12, 13, 14, P}},
               2},
        Layout{"SixRotatingZero",
               {.level = 6, .layout = 8},
               {{P, Q, 0, 1, 2}, {3, P, Q, 4, 5}, {6, 7, P, Q, 8}, {9, 10, 11, P, Q}, {Q, 12, 13, 14, P}},
               2},
        Layout{"SixRotatingNew",
               {.level = 6, .layout = 9},
               {{Q, 0, 1, 2, P}, {3, 4, 5, P, Q}, {6, 7, P, Q, 8}, {9, P, Q, 10, 11}, {P, Q, 12, 13, 14}},
               2},
        Layout{"SixRotatingContinue",
               {.level = 6, .layout = 10},
               {{0, 1, 2, Q, P}, {4, 5, Q, P, 3}, {8, Q, P, 6, 7}, {Q, P, 9, 10, 11}, {P, 12, 13, 14, Q}},
               2},
        Layout{"TenNear", {.level = 10, .layout = 0x102}, {{0, 0, 1, 1}, {2, 2, 3, 3}}, 2},
        Layout{"TenNearOnThree", {.level = 10, .layout = 0x102}, {{0, 0, 1}, {1, 2, 2}, {3, 3, 4}, {4, 5, 5}}, 1},
        Layout{"TenFar", {.level = 10, .layout = 0x201}, {{0, 1, 2}, {3, 4, 5}, {2, 0, 1}, {5, 3, 4}}, 1},
        Layout{"TenOffset", {.level = 10, .layout = 0x10201}, {{0, 1, 2}, {2, 0, 1}, {3, 4, 5}, {5, 3, 4}}, 1}),
    support::by_name);

TEST(Raid, ShapesThatAreNotKnownAreRefused) {
    const auto member = [] { return memory_source(Bytes(8 * chunk), "d1", 1); };
    const auto refusal = [&](RaidShape shape, std::size_t count) {
        std::vector<Source> members;
        for (std::size_t i = 0; i < count; ++i) members.push_back(member());
        const auto made = raid_source(shape, std::move(members), "md/inn");
        return made ? std::string("made") : made.error().what;
    };
    EXPECT_EQ(refusal({.level = 5, .layout = 4, .chunk = chunk, .size = 8 * chunk}, 3),
              "a RAID 5 of layout 4, which is not read here");
    EXPECT_EQ(refusal({.level = 5, .layout = 3, .chunk = chunk, .size = 8 * chunk}, 3), "made");
    EXPECT_EQ(refusal({.level = 5, .layout = 2, .chunk = 0, .size = 8 * chunk}, 3),
              "an array with an impossible chunk size");
    EXPECT_EQ(refusal({.level = 6, .layout = 2, .chunk = chunk, .size = 8 * chunk}, 2), "an array of too few members");
    EXPECT_EQ(refusal({.level = 10, .layout = 0x303, .chunk = chunk, .size = 8 * chunk}, 4),
              "a RAID 10 of layout 303, which is not read here");
    EXPECT_EQ(refusal({.level = 3, .layout = 0, .chunk = chunk, .size = 8 * chunk}, 3),
              "a RAID of level 3, which is not read here");
    EXPECT_EQ(refusal({.level = 1}, 0), "an array with an impossible number of members");
}

// --- members with superblocks ---------------------------------------------------------------------------------------

struct Super {
    int version = 2;  ///< 1.0, 1.1, 1.2
    int level = 1;
    std::uint32_t layout = 0;
    std::uint32_t count = 2;
    std::uint32_t role = 0;
    std::uint64_t events = 40;
    bool clean = true;
    std::uint32_t features = 0;
    std::uint64_t more = 0;  ///< bytes of each member that the array says to use, and that are not there
    std::string name = "frontdesk:root";
    std::string uuid = "almhof-array-one";
};

constexpr std::size_t data_at = 64 * 1024;

/// A member of an array whose share is `data`.
Bytes member(const Super& super, const Bytes& data) {
    Bytes out(data_at + data.size() + 128 * 1024);
    const bool at_end = super.version == 0;
    const std::size_t start = at_end ? 0 : data_at;
    std::ranges::copy(data, out.begin() + static_cast<std::ptrdiff_t>(start));
    const std::size_t at = at_end ? (out.size() / 512 - 16) / 8 * 8 * 512 : super.version == 1 ? 0 : 4096;
    forge::put32(out, at, 0xA92B4EFC);
    forge::put32(out, at + 4, 1);
    forge::put32(out, at + 8, super.features);
    std::ranges::copy(super.uuid, out.begin() + static_cast<std::ptrdiff_t>(at + 16));
    std::ranges::copy(super.name, out.begin() + static_cast<std::ptrdiff_t>(at + 32));
    forge::put32(out, at + 72, static_cast<std::uint32_t>(super.level));
    forge::put32(out, at + 76, super.layout);
    forge::put64(out, at + 80, (data.size() + super.more) / 512);
    forge::put32(out, at + 88, chunk / 512);
    forge::put32(out, at + 92, super.count);
    forge::put64(out, at + 128, start / 512);
    forge::put64(out, at + 136, data.size() / 512);
    forge::put64(out, at + 144, at / 512);
    forge::put32(out, at + 160, super.role);
    forge::put64(out, at + 200, super.events);
    forge::put64(out, at + 208, super.clean ? ~std::uint64_t{0} : 0);
    forge::put32(out, at + 220, 8);
    for (std::uint32_t i = 0; i < 8; ++i) {
        const std::uint32_t role = i < super.count ? i : 0xFFFF;
        out[at + 256 + i * 2] = static_cast<std::uint8_t>(role);
        out[at + 257 + i * 2] = static_cast<std::uint8_t>(role >> 8U);
    }
    std::uint64_t sum = 0;
    for (std::size_t i = 0; i < 256 + 16; i += 4)
        sum += std::uint64_t{out[at + i]} | std::uint64_t{out[at + i + 1]} << 8U |
               std::uint64_t{out[at + i + 2]} << 16U | std::uint64_t{out[at + i + 3]} << 24U;
    forge::put32(out, at + 216, static_cast<std::uint32_t>((sum & 0xFFFFFFFFU) + (sum >> 32U)));
    return out;
}

Bytes small_ext() {
    forge::Tree tree;
    tree.file("/etc/hostname", "cellar\n");
    return forge::make_ext(tree, {.size = 1U << 20U, .journal = false, .label = "cellar"});
}

TEST(Md, MirrorsOfEveryVersionAreOneVolume) {
    for (const int version : {0, 1, 2}) {
        const auto ext = small_ext();
        const auto machine = support::machine_of_disks(
            {member({.version = version}, ext), member({.version = version, .role = 1}, ext)});
        ASSERT_EQ(machine.layered.size(), 1U) << version;
        const auto array = machine.at("md/root");
        ASSERT_NE(array, nullptr) << version;
        EXPECT_EQ(array->kind, NodeKind::Array);
        EXPECT_EQ(array->info.label, "cellar");
        EXPECT_EQ(array->made_of.size(), 2U);
        EXPECT_EQ(array->names.linux_names.front(), "md/root");
        EXPECT_EQ(array->names.linux_names.back(), "disk/by-id/md-uuid-616c6d68:6f662d61:72726179:2d6f6e65");
        EXPECT_EQ(array->names.grub.back(), "mduuid/616c6d686f662d61727261792d6f6e65");
        EXPECT_EQ(resolve_device(machine, "LABEL=cellar").volume, array);
        EXPECT_EQ(resolve_device(machine, "/dev/md/root").volume, array);
        EXPECT_EQ(machine.hiding_places(), "");
        EXPECT_TRUE(machine.layer_findings.empty());
        const auto text = read_text_file(*array->files(Observer::Linux), "/etc/hostname");
        EXPECT_EQ(text.value_or("?"), "cellar\n");
        const auto where = array->source->locate(0, 1);
        ASSERT_EQ(where.size(), 1U);
        EXPECT_EQ(where[0], (DiskRange{1, version == 0 ? 0 : data_at, 1}));
    }
}

TEST(Md, OneMemberOfAMirrorIsEnoughAndToldAsOne) {
    const auto machine = support::machine_of_disks({member({.role = 1}, small_ext())});
    const auto array = machine.at("md/root");
    ASSERT_NE(array, nullptr);
    EXPECT_FALSE(array->not_assembled);
    EXPECT_EQ(array->info.label, "cellar");
    ASSERT_EQ(machine.layer_findings.size(), 1U);
    EXPECT_EQ(machine.layer_findings[0].code, Code::LayerMemberMissing);
    EXPECT_EQ(machine.layer_findings[0].text, "the array md/root runs with 1 of its 2 members");
}

TEST(Md, AMemberThatIsBehindIsLeftOut) {
    auto old = small_ext();
    std::fill(old.begin(), old.end(), std::uint8_t{0});
    // One event behind is forgiven, two are not.
    const auto stale = support::machine_of_disks({member({.events = 38}, old), member({.role = 1}, small_ext())});
    EXPECT_EQ(stale.at("md/root")->info.label, "cellar");
    EXPECT_EQ(stale.at("md/root")->made_of.size(), 1U);
    ASSERT_EQ(stale.layer_findings.size(), 2U);
    EXPECT_EQ(stale.layer_findings[0].text, "d1 is out of date and left out of the array md/root");
    const auto near =
        support::machine_of_disks({member({.events = 39}, small_ext()), member({.role = 1}, small_ext())});
    EXPECT_EQ(near.at("md/root")->made_of.size(), 2U);
}

TEST(Md, WhatTheKernelDoesNotStartIsNotThere) {
    const auto share = Bytes(64 * chunk, 7);
    const auto dirty =
        support::machine_of_disks({member({.level = 5, .layout = 2, .count = 3, .clean = false}, share),
                                   member({.level = 5, .layout = 2, .count = 3, .role = 1, .clean = false}, share)});
    ASSERT_NE(dirty.at("md/root"), nullptr);
    ASSERT_TRUE(dirty.at("md/root")->not_assembled);
    EXPECT_EQ(dirty.at("md/root")->not_assembled->what, "cannot start dirty degraded array");
    // Clean and degraded, or dirty and whole, it starts.
    const auto clean = support::machine_of_disks({member({.level = 5, .layout = 2, .count = 3}, share),
                                                  member({.level = 5, .layout = 2, .count = 3, .role = 1}, share)});
    EXPECT_FALSE(clean.at("md/root")->not_assembled);
    EXPECT_EQ(clean.at("md/root")->source->size(), 2 * share.size());
    const auto few = support::machine_of_disks({member({.level = 5, .layout = 2, .count = 3}, share)});
    EXPECT_EQ(few.at("md/root")->not_assembled->what, "1 of its 3 members are there, which is too few");
    const auto moving =
        support::machine_of_disks({member({.features = 4}, share), member({.role = 1, .features = 4}, share)});
    EXPECT_EQ(moving.at("md/root")->not_assembled->kind, ErrorKind::Unsupported);
}

TEST(Md, WhatLinuxMayNotTakeALoaderReads) {
    const auto share = small_ext();
    const auto held = [&share](std::uint32_t features) {
        return support::machine_of_disks({member({.features = features}, share)}).layered.at(0)->names.held_back;
    };
    EXPECT_EQ(held(0x1000), "");
    EXPECT_EQ(held(0x2000), "its members name features that not every kernel knows (bits 2000)");
    EXPECT_EQ(held(0x40001000), "its members name features that not every kernel knows (bits 40000000)");
    // A mirror that says to be larger than its members is started, and has no bytes there.
    const auto behind = 128U * 1024;
    const auto fits = support::machine_of_disks({member({.more = behind}, share)}).layered.at(0);
    EXPECT_TRUE(fits->source->bytes(share.size() + behind - 1, 1));
    const auto larger = support::machine_of_disks({member({.more = behind + 512}, share)}).layered.at(0);
    ASSERT_FALSE(larger->not_assembled);
    EXPECT_EQ(larger->source->size(), share.size() + behind + 512);
    EXPECT_TRUE(larger->source->bytes(share.size() + behind - 1, 1));
    const auto lost = larger->source->bytes(share.size() + behind, 1);
    ASSERT_FALSE(lost);
    EXPECT_EQ(lost.error().what, "d1 is smaller than its superblock says");
    // Of other levels the kernel takes no member that is too small.
    const auto striped = support::machine_of_disks(
        {member({.level = 5, .layout = 2, .count = 3, .more = behind + 512}, share),
         member({.level = 5, .layout = 2, .count = 3, .role = 1, .more = behind + 512}, share)});
    EXPECT_EQ(striped.layered.at(0)->not_assembled->what, "d1 is smaller than its superblock says");
}

TEST(Md, DamagedSuperblocksAndCopiesAreTold) {
    auto bad = member({}, small_ext());
    bad[4096 + 72] ^= 4;
    const auto machine = support::machine_of_disks({bad, member({.role = 1}, small_ext())});
    ASSERT_EQ(machine.layer_findings.size(), 2U);
    EXPECT_EQ(machine.layer_findings[0].code, Code::LayerMetadataDamaged);
    EXPECT_EQ(machine.layer_findings[0].text, "on d1: the superblock of an array's member fails its checksum");
    EXPECT_EQ(machine.layer_findings[0].evidence[0].place, "d1@4096+256");
    // The last byte that the checksum covers: of the roles.
    auto edge = member({}, small_ext());
    edge[4096 + 256 + 15] ^= 1;
    const auto held = [&edge] { return support::machine_of_disks({edge}).layered.at(0)->names.held_back; };
    EXPECT_EQ(held(), "Linux does not take its members: the superblock of an array's member fails its checksum");
    edge[4096 + 256 + 15] ^= 1;
    edge[4096 + 256 + 16] ^= 1;
    EXPECT_EQ(held(), "");
    const auto twice =
        support::machine_of_disks({member({}, small_ext()), member({}, small_ext()), member({.role = 1}, small_ext())});
    ASSERT_EQ(twice.layer_findings.size(), 1U);
    EXPECT_EQ(twice.layer_findings[0].code, Code::LayerDuplicate);
}

TEST(Md, TwoArraysOfOneNameAreToldApart) {
    const auto machine = support::machine_of_disks(
        {member({.count = 1}, small_ext()), member({.count = 1, .uuid = "other-array-two!"}, small_ext())});
    ASSERT_EQ(machine.layered.size(), 2U);
    EXPECT_NE(machine.layered[0]->place, machine.layered[1]->place);
    EXPECT_TRUE(machine.layered[0]->place.starts_with("md/root-")) << machine.layered[0]->place;
}

TEST(Md, PartitionsOnAnArrayAreVolumes) {
    forge::DiskSpec disk;
    disk.size = 4U << 20U;
    disk.partitions = {{2048, small_ext(), 0x83, true}};
    const auto machine = support::machine_of_disks({member({.count = 1}, forge::make_disk(disk))});
    const auto part = machine.at("md/rootp1");
    ASSERT_NE(part, nullptr);
    EXPECT_EQ(part->kind, NodeKind::Partition);
    EXPECT_EQ(part->info.label, "cellar");
    EXPECT_EQ(part->names.linux_names.front(), "md/rootp1");
    EXPECT_EQ(part->names.grub.front(), "md/root,msdos1");
}

TEST(Md, AGroupOfVolumesOnAnArrayIsFoundInTheNextRound) {
    const auto machine =
        support::machine_of_disks({member({.count = 1}, forge::make_lvm("inn", {{"root", small_ext()}}))});
    ASSERT_NE(machine.at("lvm/inn/root"), nullptr);
    EXPECT_EQ(machine.at("lvm/inn/root")->info.label, "cellar");
    EXPECT_EQ(machine.at("lvm/inn/root")->made_of.front()->place, "md/root");
    EXPECT_EQ(machine.hiding_places(), "");
}

// --- a whole machine whose root is an array -------------------------------------------------------------------------

/// The front desk: /boot on a partition, its root in a mirror that has lost its other member.
struct MirrorDesk {
    demo::FrontDesk desk = demo::front_desk();
    std::string root = "/dev/md/root";
    bool tools = true;
    bool with_ramdisk = true;
    std::vector<std::string> drivers = {"md-mod", "raid1"};

    [[nodiscard]] Bytes build() {
        auto boot = support::boot_files(desk.root);
        support::edit(boot, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid, "root=" + root);
        if (!with_ramdisk) support::edit(boot, "/boot/grub/grub.cfg", "initrd /boot", "true /boot");
        support::edit(desk.root, "/etc/fstab", std::string("UUID=") + demo::root_uuid, "/dev/md/root");
        if (tools) desk.ramdisk.file("/sbin/mdadm", forge::make_program(), 0755);
        for (const auto& name : drivers)
            desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/kernel/drivers/md/" + name + ".ko",
                              forge::make_kernel_module(name));
        forge::ExtOptions ext;
        ext.size = 8U << 20U;
        ext.uuid = forge::uuid_from("a44a1000-0001-4a01-8a01-00000a44a101");
        const auto share = member({.role = 1}, forge::make_ext(desk.root, ext));
        desk.root = boot;
        desk.swap_size = 0;
        desk.disk.size = 28U << 20U;
        desk.disk.partitions.push_back({2048 + (12U << 20U) / 512, share, 0xFD, false});
        return support::first_entries_swapped(desk.build());
    }
    [[nodiscard]] support::Checked walked() {
        support::Checked out(build());
        return out;
    }
};

TEST(MdRoot, StartsDegradedWhereTheRamDiskBringsWhatStartsIt) {
    for (const char* root : {"/dev/md/root", "UUID=a44a1000-0001-4a01-8a01-00000a44a101",
                             "/dev/disk/by-id/md-uuid-616c6d68:6f662d61:72726179:2d6f6e65"}) {
        MirrorDesk desk;
        desk.root = root;
        const auto checked = desk.walked();
        ASSERT_EQ(checked.verdict.systems.size(), 1U) << root;
        EXPECT_EQ(checked.system().place, "md/root");
        EXPECT_EQ(checked.stage(), "yes") << root << ": " << checked.system().at(Stage::Root).text;
        EXPECT_NE(checked.system().at(Stage::Root).text.find("mdadm opens the array md/root"), std::string::npos);
        EXPECT_TRUE(checked.has(Code::LayerMemberMissing));
    }
}

TEST(MdRoot, WithoutTheDriverOfItsLevelNothingStartsIt) {
    for (const auto& [drivers, missing] :
         {std::pair<std::vector<std::string>, const char*>{{"md-mod", "raid456"}, "raid1"}, {{"raid1"}, "md_mod"}}) {
        MirrorDesk desk;
        desk.drivers = drivers;
        const auto checked = desk.walked();
        EXPECT_EQ(checked.stage(), "root");
        const auto& rung = checked.system().at(Stage::Root);
        EXPECT_EQ(rung.findings.front(), Code::RamdiskNoLayerDriver);
        EXPECT_EQ(rung.text, std::string("the driver ") + missing +
                                 " for the array md/root is neither in the RAM disk nor built into the kernel");
        EXPECT_NE(checked.system().symptom.find("ALERT! /dev/md/root does not exist."), std::string::npos);
    }
}

TEST(MdRoot, WithoutTheProgramNothingStartsIt) {
    MirrorDesk desk;
    desk.tools = false;
    const auto checked = desk.walked();
    EXPECT_EQ(checked.stage(), "root");
    EXPECT_TRUE(checked.has(Code::RamdiskNoLayerProgram));
    EXPECT_EQ(checked.system().at(Stage::Root).text,
              "nothing in the RAM disk opens the array md/root: mdadm is not there");
}

/// An init that nobody's maker wrote: where its programs lie is its own affair.
TEST(MdRoot, ARamDiskOfOnesOwnMayPutTheProgramAnywhere) {
    const auto own = [](const char* path, std::uint32_t mode, bool script) {
        MirrorDesk desk;
        desk.tools = false;
        desk.desk.ramdisk.remove("/conf/initramfs.conf");
        if (path != nullptr) desk.desk.ramdisk.file(path, forge::make_program(), mode);
        if (!script) desk.desk.ramdisk.file("/init", forge::make_program(), 0755);
        return desk.walked();
    };
    for (const char* path : {"/bin/mdadm", "/opt/inn/mdadm", "/sbin/mdadm"}) {
        const auto there = own(path, 0755, true);
        EXPECT_EQ(there.stage(), "yes") << path << ": " << there.system().at(Stage::Root).text;
    }
    const auto not_executable = own("/opt/inn/mdadm", 0644, true);
    EXPECT_EQ(not_executable.stage(), "root");
    EXPECT_TRUE(not_executable.has(Code::RamdiskNoLayerProgram));
    const auto another = own("/bin/mdadm2", 0755, true);
    EXPECT_EQ(another.stage(), "root");
    const auto program = own(nullptr, 0, false);
    EXPECT_EQ(program.stage(), "unknown");
    EXPECT_FALSE(program.has(Code::RamdiskNoLayerProgram));
    EXPECT_TRUE(program.system()
                    .at(Stage::Root)
                    .text.ends_with("; whether the array md/root is opened is not told: mdadm is not there, and its "
                                    "init, which is a program and no "
                                    "script, may do it"))
        << program.system().at(Stage::Root).text;
}

TEST(MdRoot, SumsCountForLinuxAlone) {
    const auto changed = [](std::size_t byte, std::uint8_t mask) {
        MirrorDesk desk;
        auto disk = desk.build();
        const std::size_t at = 2048 * 512 + (12U << 20U) + 4096;  // the second partition's superblock
        EXPECT_EQ(disk.at(at), 0xFC);
        disk[at + byte] ^= mask;
        return support::Checked(disk);
    };
    const auto sum = changed(216, 1);
    EXPECT_EQ(sum.stage(), "root");
    EXPECT_EQ(sum.system().at(Stage::Root).findings.front(), Code::RootNotOpened);
    EXPECT_NE(sum.system()
                  .at(Stage::Root)
                  .text.find("the RAM disk does not open md/root: Linux does not take its members: "
                             "the superblock of an array's member fails its checksum"),
              std::string::npos)
        << sum.system().at(Stage::Root).text;
}

TEST(MdRoot, WithoutARamDiskItIsNotKnownWhetherTheKernelStartsIt) {
    MirrorDesk desk;
    desk.with_ramdisk = false;
    const auto checked = desk.walked();
    EXPECT_EQ(checked.stage(), "unknown");
    EXPECT_EQ(checked.system().at(Stage::Ramdisk).state, State::Unknown);
    EXPECT_NE(checked.system().at(Stage::Ramdisk).text.find("whether the kernel starts the array md/root by itself"),
              std::string::npos)
        << checked.system().at(Stage::Ramdisk).text;
}

}  // namespace
