// SPDX-License-Identifier: MIT
// Logical volumes: groups as the system's own tools make them, and descriptions written by hand after the format's
// description, whole and damaged.
#include <algorithm>

#include <fmt/format.h>

#include <herberge/mend.hpp>

#include "cellar.hpp"
#include "shapes.hpp"
#include "storage/lvm_metadata.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

constexpr std::uint64_t mib = 1U << 20U;
constexpr std::uint64_t extent = 64 * 1024;

void put(Bytes& bytes, std::uint64_t at, std::uint64_t value, int size) {
    for (int i = 0; i < size; ++i) bytes[at + static_cast<std::size_t>(i)] = static_cast<std::uint8_t>(value >> 8 * i);
}
void put(Bytes& bytes, std::uint64_t at, std::string_view text) {
    std::ranges::copy(text, bytes.begin() + static_cast<std::ptrdiff_t>(at));
}

/// The checksum bit by bit.
std::uint32_t lvm_crc(std::span<const std::uint8_t> bytes) {
    std::uint32_t crc = 0xF597A6CFU;
    for (const auto byte : bytes) {
        crc ^= byte;
        for (int i = 0; i < 8; ++i) crc = (crc >> 1U) ^ ((crc & 1U) != 0 ? 0xEDB88320U : 0U);
    }
    return crc;
}

/// A physical volume of 4 MiB: label in sector 1, a metadata area of `area` bytes at 4 KiB, data from 1 MiB on. The
/// text lies at `text_at` of the area, and goes on behind the area's first sector where it meets the end.
struct Member {
    std::string id;  ///< 32 characters
    std::string text;
    std::uint64_t area = 64 * 1024;
    std::uint64_t text_at = 512;
    int label_sector = 1;

    [[nodiscard]] Bytes bytes() const {
        Bytes out(4 * mib);
        const auto label = static_cast<std::uint64_t>(label_sector) * 512;
        put(out, label, "LABELONE");
        put(out, label + 8, static_cast<std::uint64_t>(label_sector), 8);
        put(out, label + 20, 32, 4);
        put(out, label + 24, "LVM2 001");
        put(out, label + 32, id);
        put(out, label + 64, out.size(), 8);
        put(out, label + 72, mib, 8);        // data
        put(out, label + 72 + 32, 4096, 8);  // metadata, behind a line of zeros
        put(out, label + 72 + 40, area, 8);
        put(out, label + 16, lvm_crc(std::span(out).subspan(label + 20, 492)), 4);
        put(out, 4096 + 4, " LVM2 x[5A%r0N*>");
        put(out, 4096 + 20, 1, 4);
        put(out, 4096 + 24, 4096, 8);
        put(out, 4096 + 32, area, 8);
        put(out, 4096 + 40, text_at, 8);
        put(out, 4096 + 48, text.size(), 8);
        put(out, 4096 + 56, lvm_crc(forge::to_bytes(text)), 4);
        put(out, 4096, lvm_crc(std::span(out).subspan(4096 + 4, 508)), 4);
        for (std::uint64_t i = 0; i < text.size(); ++i) {
            const std::uint64_t at = text_at + i < area ? text_at + i : 512 + (text_at + i - area);
            out[4096 + at] = static_cast<std::uint8_t>(text[i]);
        }
        return out;
    }
};

constexpr const char* id_a = "aaaaaaAAAAaaaaAAAAaaaaAAAAaaaaaa";
constexpr const char* id_b = "bbbbbbBBBBbbbbBBBBbbbbBBBBbbbbbb";

std::string group_text(const std::string& volumes, int sequence = 3, const std::string& name = "inn",
                       const std::string& flags = "[]") {
    return fmt::format(R"({} {{
id = "gggggg-GGGG-gggg-GGGG-gggg-GGGG-{:06}"
seqno = {}
format = "lvm2" # informational
status = ["RESIZEABLE", "READ", "WRITE"]
extent_size = 128
physical_volumes {{
pv0 {{ id = "aaaaaa-AAAA-aaaa-AAAA-aaaa-AAAA-aaaaaa" device = "/dev/sda2" flags = {} pe_start = 2048 pe_count = 48 }}
pv1 {{ id = "bbbbbb-BBBB-bbbb-BBBB-bbbb-BBBB-bbbbbb" device = "/dev/sdb1" flags = [] pe_start = 2048 pe_count = 48 }}
}}
logical_volumes {{
{}
}}
}}
contents = "Text Format Volume Group"
version = 1
)",
                       name, name.size(), sequence, flags, volumes);
}

std::string segment(int number, int start, int count, const std::string& rest) {
    return fmt::format("segment{} {{ start_extent = {} extent_count = {} {} }}\n", number, start, count, rest);
}
std::string volume(const std::string& name, const std::string& segments, bool visible = true) {
    return fmt::format("{} {{ id = \"l-{}\" status = [\"READ\", \"WRITE\"{}] segment_count = 1\n{} }}\n", name, name,
                       visible ? ", \"VISIBLE\"" : "", segments);
}
std::string linear(const std::string& on, int from) {
    return fmt::format("type = \"striped\" stripe_count = 1 stripes = [\"{}\", {}]", on, from);
}

Machine inn(const std::string& volumes) {
    const auto text = group_text(volumes);
    return support::machine_of_disks({Member{id_a, text}.bytes(), Member{id_b, text}.bytes()});
}

DiskRange range_of(const VolumeRef& volume, std::uint64_t at, std::uint64_t length) {
    const auto all = volume->source->locate(at, length);
    return all.size() == 1 ? all.front() : DiskRange{};
}

TEST(Lvm, LinearVolumeInSeveralSegmentsIsItsExtentsInTheirOrder) {
    const auto machine = inn(volume("root", segment(2, 2, 1, linear("pv1", 7)) + segment(1, 0, 2, linear("pv0", 5))));
    ASSERT_EQ(machine.layered.size(), 1U);
    const auto root = machine.at("lvm/inn/root");
    ASSERT_NE(root, nullptr);
    EXPECT_EQ(root->kind, NodeKind::LogicalVolume);
    EXPECT_EQ(root->disk, 0);
    EXPECT_EQ(root->source->size(), 3 * extent);
    EXPECT_EQ(range_of(root, 0, 10), (DiskRange{1, mib + 5 * extent, 10}));
    EXPECT_EQ(range_of(root, 2 * extent, extent), (DiskRange{2, mib + 7 * extent, extent}));
    ASSERT_EQ(root->made_of.size(), 2U);
    EXPECT_EQ(root->made_of[0]->place, "d1");
    EXPECT_EQ(root->made_of[1]->place, "d2");
    EXPECT_EQ(root->names.linux_names, (std::vector<std::string>{"mapper/inn-root", "inn/root"}));
    EXPECT_EQ(root->names.grub.front(), "lvm/inn-root");
    EXPECT_EQ(machine.by_linux_name("mapper/inn-root"), root);
    EXPECT_EQ(resolve_device(machine, "/dev/inn/root").volume, root);
    EXPECT_TRUE(machine.layer_findings.empty());
    // A volume that was made of them shows what lies in the members.
    EXPECT_EQ(machine.hiding_places(), "");
}

TEST(Lvm, StripesGoRoundInChunks) {
    const auto machine = inn(volume(
        "home",
        segment(1, 0, 4, "type = \"striped\" stripe_count = 2 stripe_size = 8 stripes = [\"pv0\", 1, \"pv1\", 2]")));
    const auto home = machine.at("lvm/inn/home");
    ASSERT_NE(home, nullptr);
    EXPECT_EQ(home->source->size(), 4 * extent);
    EXPECT_EQ(range_of(home, 0, 4096), (DiskRange{1, mib + extent, 4096}));
    EXPECT_EQ(range_of(home, 4096, 4096), (DiskRange{2, mib + 2 * extent, 4096}));
    EXPECT_EQ(range_of(home, 3 * 4096 + 100, 8), (DiskRange{2, mib + 2 * extent + 4096 + 100, 8}));
    EXPECT_EQ(home->source->locate(4000, 200).size(), 2U);
    EXPECT_FALSE(home->source->bytes(4 * extent - 1, 2));
    EXPECT_TRUE(home->source->bytes(4 * extent - 1, 1));
}

TEST(Lvm, MirrorsAreReadFromTheFirstCopyThatIsThere) {
    const auto text = group_text(
        volume("root", segment(1, 0, 2, "type = \"raid1\" device_count = 2 raids = [\"m0\", \"i0\", \"m1\", \"i1\"]")) +
        volume("i0", segment(1, 0, 2, linear("pv0", 1)), false) +
        volume("m0", segment(1, 0, 1, linear("pv0", 0)), false) +
        volume("i1", segment(1, 0, 2, linear("pv1", 9)), false) +
        volume("m1", segment(1, 0, 1, linear("pv1", 8)), false) +
        volume("old", segment(1, 0, 1, "type = \"mirror\" mirror_count = 2 mirrors = [\"pv0\", 20, \"pv1\", 21]")) +
        volume("plain", segment(1, 0, 1, linear("pv0", 3))));
    const auto both = support::machine_of_disks({Member{id_a, text}.bytes(), Member{id_b, text}.bytes()});
    ASSERT_EQ(both.layered.size(), 3U);
    EXPECT_EQ(range_of(both.at("lvm/inn/root"), 0, 1), (DiskRange{1, mib + extent, 1}));
    EXPECT_EQ(range_of(both.at("lvm/inn/old"), 0, 1), (DiskRange{1, mib + 20 * extent, 1}));
    const auto second = support::machine_of_disks({Member{id_b, text}.bytes()});
    EXPECT_EQ(range_of(second.at("lvm/inn/root"), 0, 1), (DiskRange{1, mib + 9 * extent, 1}));
    EXPECT_EQ(range_of(second.at("lvm/inn/old"), 0, 1), (DiskRange{1, mib + 21 * extent, 1}));
    EXPECT_EQ(second.at("lvm/inn/root")->made_of.size(), 1U);
    // What has no other copy is named, and not there.
    const auto plain = second.at("lvm/inn/plain");
    ASSERT_TRUE(plain->not_assembled);
    EXPECT_EQ(plain->not_assembled->kind, ErrorKind::NotFound);
    EXPECT_EQ(plain->not_assembled->what, "the physical volume aaaaaa-AAAA-aaaa-AAAA-aaaa-AAAA-aaaaaa is not there");
    EXPECT_EQ(plain->files(Observer::Linux), nullptr);
    EXPECT_EQ(plain->problem(Observer::Linux)->what, plain->not_assembled->what);
    EXPECT_FALSE(plain->unread());
    ASSERT_EQ(second.layer_findings.size(), 1U);
    EXPECT_EQ(second.layer_findings[0].code, Code::LayerMemberMissing);
    EXPECT_EQ(
        second.layer_findings[0].text,
        "the volume group inn lacks 1 of its 2 physical volumes: aaaaaa-AAAA-aaaa-AAAA-aaaa-AAAA-aaaaaa (/dev/sda2)");
}

TEST(Lvm, VolumesWithParityAreComputedWhereAnImageIsGone) {
    const auto image = [](int number, const char* pv, int from) {
        return volume(fmt::format("i{}", number), segment(1, 0, 2, linear(pv, from)), false) +
               volume(fmt::format("m{}", number), segment(1, 0, 1, linear(pv, from + 2)), false);
    };
    const auto text = group_text(
        volume("root", segment(1, 0, 4,
                               "type = \"raid5\" device_count = 3 stripe_size = 128 raids = [\"m0\", \"i0\", "
                               "\"m1\", \"i1\", \"m2\", \"i2\"]")) +
        image(0, "pv0", 0) + image(1, "pv0", 10) + image(2, "pv1", 20));
    auto first = Member{id_a, text}.bytes();
    auto second = Member{id_b, text}.bytes();
    // Left symmetric: D0 D1 P, then D3 P D2.
    const auto fill = [](Bytes& disk, std::uint64_t at, unsigned value) {
        std::fill_n(disk.begin() + static_cast<std::ptrdiff_t>(mib + at), extent, static_cast<std::uint8_t>(value));
    };
    fill(first, 0, 0x10);                      // D0
    fill(first, 10 * extent, 0x21);            // D1
    fill(second, 20 * extent, 0x10U ^ 0x21U);  // P
    fill(first, extent, 0x43);                 // D3
    fill(first, 11 * extent, 0x32U ^ 0x43U);   // P
    fill(second, 21 * extent, 0x32);           // D2
    const auto both = support::machine_of_disks({first, second});
    const auto root = both.at("lvm/inn/root");
    ASSERT_FALSE(root->not_assembled) << root->not_assembled->text();
    EXPECT_EQ(root->source->size(), 4 * extent);
    EXPECT_EQ(range_of(root, 0, 8), (DiskRange{1, mib, 8}));
    EXPECT_EQ(range_of(root, extent, 8), (DiskRange{1, mib + 10 * extent, 8}));
    EXPECT_EQ(range_of(root, 2 * extent, 8), (DiskRange{2, mib + 21 * extent, 8}));
    EXPECT_EQ(range_of(root, 3 * extent, 8), (DiskRange{1, mib + extent, 8}));
    const auto one = support::machine_of_disks({first});
    const auto computed = one.at("lvm/inn/root");
    ASSERT_FALSE(computed->not_assembled);
    EXPECT_EQ(*computed->source->bytes(2 * extent, 2), (Bytes{0x32, 0x32}));
    EXPECT_TRUE(computed->source->locate(2 * extent, 8).empty()) << "no disk has these bytes";
    const auto other = support::machine_of_disks({second});
    ASSERT_TRUE(other.at("lvm/inn/root")->not_assembled);
    EXPECT_EQ(other.at("lvm/inn/root")->not_assembled->lack(), Lack::Absent);
}

TEST(Lvm, WhatIsNotReadIsNamedAndUnknown) {
    const auto machine =
        inn(volume("pool", segment(1, 0, 4, "type = \"thin-pool\" pool = \"pool_tdata\"")) +
            volume("thin", segment(1, 0, 9, "type = \"thin\" thin_pool = \"pool\" device_id = 1")) +
            volume("root", segment(1, 0, 2, linear("pv0", 0))) + volume("kept", segment(1, 0, 1, linear("pv0", 4))) +
            volume("snapshot0", segment(1, 0, 2, "type = \"snapshot\" origin = \"root\" cow_store = \"kept\""), false));
    ASSERT_EQ(machine.layered.size(), 3U);
    EXPECT_EQ(machine.at("lvm/inn/pool"), nullptr);
    EXPECT_EQ(machine.at("lvm/inn/thin")->not_assembled->kind, ErrorKind::Unsupported);
    EXPECT_TRUE(machine.at("lvm/inn/thin")->unread());
    EXPECT_EQ(machine.at("lvm/inn/kept")->not_assembled->what, "a snapshot of root, which is not read here");
    EXPECT_FALSE(machine.at("lvm/inn/root")->not_assembled);
    EXPECT_EQ(machine.hiding_places(),
              "lvm/inn/thin (a thin volume, which is not read here), lvm/inn/kept (a snapshot of root, which is not "
              "read here)");
}

TEST(Lvm, NewestDescriptionCountsWherePartsOfItGoRoundTheEndOfTheArea) {
    const auto old_text = group_text(volume("root", segment(1, 0, 1, linear("pv0", 1))), 3);
    const auto new_text = group_text(volume("root", segment(1, 0, 1, linear("pv0", 2))), 4);
    Member round{id_b, new_text};
    round.text_at = round.area - 300;
    round.label_sector = 3;
    const auto machine = support::machine_of_disks({Member{id_a, old_text}.bytes(), round.bytes()});
    EXPECT_EQ(range_of(machine.at("lvm/inn/root"), 0, 1), (DiskRange{1, mib + 2 * extent, 1}));
    EXPECT_TRUE(machine.layer_findings.empty());
    // One byte of the newer one damaged: the older one counts, and it is told.
    auto damaged = round.bytes();
    damaged[4096 + round.area - 1] ^= 1;
    const auto after = support::machine_of_disks({Member{id_a, old_text}.bytes(), damaged});
    EXPECT_EQ(range_of(after.at("lvm/inn/root"), 0, 1), (DiskRange{1, mib + extent, 1}));
    ASSERT_EQ(after.layer_findings.size(), 1U);
    EXPECT_EQ(after.layer_findings[0].code, Code::LayerMetadataDamaged);
    EXPECT_EQ(after.layer_findings[0].text, "on the physical volume d2: the group's description fails its checksum");
    EXPECT_EQ(after.layer_findings[0].evidence[0].place,
              fmt::format("d2@{}+{}", 4096 + round.text_at, new_text.size()));
}

TEST(Lvm, EachDamagedPartIsToldByItsPlace) {
    const auto text = group_text(volume("root", segment(1, 0, 1, linear("pv0", 1))));
    const struct {
        std::uint64_t at;
        const char *told, *held;
    } cases[] = {
        {512 + 70, "the label fails its checksum", "Linux does not take the label of d1, which fails its checksum"},
        {4096 + 33, "the head of a metadata area fails its checksum",
         "Linux does not take its group: the head of a metadata area fails its checksum"},
        {4096 + 512, "the group's description fails its checksum",
         "Linux does not take its group: the group's description fails its checksum"}};
    for (const auto& one : cases) {
        auto bytes = Member{id_a, text}.bytes();
        bytes[one.at] ^= 0x10;
        const auto machine = support::machine_of_disks({bytes});
        // The group's other member is missing besides.
        ASSERT_EQ(machine.layer_findings.size(), 2U) << one.told;
        EXPECT_EQ(machine.layer_findings[0].code, Code::LayerMetadataDamaged);
        EXPECT_EQ(machine.layer_findings[0].text, fmt::format("on the physical volume d1: {}", one.told));
        // A loader looks at no sums: the volume is there, and Linux does not open it.
        ASSERT_EQ(machine.layered.size(), 1U) << one.told;
        EXPECT_EQ(machine.layered[0]->names.held_back, one.held);
        EXPECT_EQ(range_of(machine.layered[0], 0, 1), (DiskRange{1, mib + extent, 1}));
        EXPECT_EQ(machine.hiding_places(), "");
    }
    // The last byte that the label's checksum covers, and the first one that it does not.
    auto edge = Member{id_a, text}.bytes();
    edge[1023] ^= 1;
    EXPECT_NE(support::machine_of_disks({edge}).layered.at(0)->names.held_back, "");
    edge[1023] ^= 1;
    edge[1024] ^= 1;
    EXPECT_EQ(support::machine_of_disks({edge}).layered.at(0)->names.held_back, "");
}

/// What loaders look at, too, and whose absence leaves nothing to read.
TEST(Lvm, MarkAndVersionOfAnAreaCountForEverybody) {
    const auto text = group_text(volume("root", segment(1, 0, 1, linear("pv0", 1))));
    const struct {
        std::uint64_t at;
        std::uint8_t value;
        const char *told, *place, *expected, *found;
    } cases[] = {{4096 + 5, 'l', "a metadata area has no mark", "d1@4100+16",
                  "20 4c 56 4d 32 20 78 5b 35 41 25 72 30 4e 2a 3e", "20 6c 56 4d 32 20 78 5b 35 41 25 72 30 4e 2a 3e"},
                 {4096 + 20, 2, "a metadata area is of a version that nobody reads", "d1@4116+4", "1", "2"}};
    for (const auto& one : cases) {
        auto bytes = Member{id_a, text}.bytes();
        bytes[one.at] = one.value;
        put(bytes, 4096, lvm_crc(std::span(bytes).subspan(4096 + 4, 508)), 4);
        const auto machine = support::machine_of_disks({bytes});
        EXPECT_TRUE(machine.layered.empty()) << one.told;
        ASSERT_EQ(machine.layer_findings.size(), 1U) << one.told;
        const auto& finding = machine.layer_findings[0];
        EXPECT_EQ(finding.code, Code::LayerMetadataDamaged);
        EXPECT_EQ(finding.text, fmt::format("on the physical volume d1: {}", one.told));
        EXPECT_EQ(finding.evidence[0].place, one.place);
        EXPECT_EQ(finding.evidence[0].expected, one.expected);
        EXPECT_EQ(finding.evidence[0].found, fmt::format("{} ({})", one.told, one.found));
        EXPECT_EQ(machine.hiding_places(), "d1 (lvm physical volume)");
    }
}

/// The text is sound, and LVM does not take what it says; a loader reads the bytes all the same.
TEST(Lvm, VolumesThatOnlyALoaderTakes) {
    const auto held = [](const std::string& volumes) {
        const auto machine = inn(volumes);
        const auto root = machine.at("lvm/inn/root");
        return root == nullptr ? "absent" : root->not_assembled ? root->not_assembled->what : root->names.held_back;
    };
    EXPECT_EQ(held(volume("root", segment(1, 0, 48, linear("pv0", 0)))), "");
    EXPECT_EQ(held(volume("root", segment(1, 0, 49, linear("pv0", 0)))),
              "Linux does not take its group: root lies on extents 0 to 48 of pv0, which has 48");
    EXPECT_EQ(held(volume("root", segment(1, 0, 2, linear("pv0", 46)))), "");
    EXPECT_EQ(held(volume("root", segment(1, 0, 2, linear("pv0", 47)))),
              "Linux does not take its group: root lies on extents 47 to 48 of pv0, which has 48");
    // Another volume of the group keeps this one closed.
    EXPECT_EQ(
        held(volume("root", segment(1, 0, 2, linear("pv0", 0))) + volume("srv", segment(1, 0, 1, linear("pv1", 48)))),
        "Linux does not take its group: srv lies on extents 48 to 48 of pv1, which has 48");
    EXPECT_EQ(held(volume("root", segment(1, 0, 2, linear("pv0", 0)), false)),
              "Linux does not take it: it is not marked as visible");
    // A part of another one is none by itself.
    EXPECT_EQ(held(volume("root", segment(1, 0, 2, linear("pv0", 0)), false) +
                   volume("srv", segment(1, 0, 2, linear("root", 0)))),
              "absent");
}

TEST(Lvm, ADeviceThatEndsWithinAVolumeIsTooSmallForLinux) {
    const auto text = group_text(volume("root", segment(1, 0, 3, linear("pv0", 40))));
    auto bytes = Member{id_a, text}.bytes();
    bytes.resize(mib + 43 * extent);
    EXPECT_EQ(support::machine_of_disks({bytes}).at("lvm/inn/root")->names.held_back, "");
    bytes.resize(bytes.size() - 512);
    const auto cut = support::machine_of_disks({bytes}).at("lvm/inn/root");
    EXPECT_EQ(cut->names.held_back, "Linux does not take it: it goes on past the end of d1");
    EXPECT_EQ(cut->source->size(), 3 * extent);
    EXPECT_TRUE(cut->source->bytes(3 * extent - 513, 1));
    const auto behind = cut->source->bytes(3 * extent - 512, 1);
    ASSERT_FALSE(behind);
    EXPECT_EQ(behind.error().kind, ErrorKind::OutOfRange);
    EXPECT_EQ(behind.error().what, "it goes on past the end of d1");
    bytes.resize(mib + 40 * extent);
    EXPECT_EQ(support::machine_of_disks({bytes}).at("lvm/inn/root")->not_assembled->what,
              "it goes on past the end of d1");
}

TEST(Lvm, CopiesAndNamesakesAreTold) {
    const auto text = group_text(volume("root", segment(1, 0, 1, linear("pv0", 1))));
    const auto twice =
        support::machine_of_disks({Member{id_a, text}.bytes(), Member{id_a, text}.bytes(), Member{id_b, text}.bytes()});
    ASSERT_EQ(twice.layer_findings.size(), 1U);
    EXPECT_EQ(twice.layer_findings[0].code, Code::LayerDuplicate);
    EXPECT_EQ(twice.layer_findings[0].evidence[1].place, "d2");
    EXPECT_EQ(range_of(twice.at("lvm/inn/root"), 0, 1).disk, 1);
    // Two groups of one name, by different ids.
    auto other = group_text(volume("root", segment(1, 0, 1, linear("pv0", 2))));
    const auto at = other.find("gggggg");
    other.replace(at, 6, "hhhhhh");
    auto other_text = other;
    for (std::size_t i = 0; (i = other_text.find("aaaaaa-", i)) != std::string::npos;)
        other_text.replace(i, 6, "cccccc");
    const auto both = support::machine_of_disks(
        {Member{id_a, text}.bytes(), Member{"ccccccAAAAaaaaAAAAaaaaAAAAaaaaaa", other_text}.bytes()});
    EXPECT_NE(both.at("lvm/inn-gggggg/root"), nullptr);
    EXPECT_NE(both.at("lvm/inn-hhhhhh/root"), nullptr);
}

TEST(Lvm, HostileDescriptionsEndInAnError) {
    const struct {
        std::string volumes;
        ErrorKind kind;
        const char* what;
    } cases[] = {
        {volume("root", segment(1, 0, 1, linear("root", 0))), ErrorKind::Malformed,
         "its logical volumes are parts of each other"},
        {volume("root", segment(1, 1, 1, linear("pv0", 0))), ErrorKind::Malformed,
         "its segments do not follow each other"},
        {volume("root", segment(1, 0, -4, linear("pv0", 0))), ErrorKind::Malformed,
         "its segments do not follow each other"},
        {volume("root", segment(1, 0, 1, linear("pv0", -1))), ErrorKind::Malformed, "an extent below 0"},
        {volume("root", segment(1, 0, 48, linear("pv0", 0))), ErrorKind::Malformed, nullptr},  // fits: 3 MiB
        {volume("root", segment(1, 0, 1, linear("pv9", 0))), ErrorKind::Malformed, "its part pv9 is described nowhere"},
        {volume("root", segment(1, 0, 3, "type = \"striped\" stripe_size = 8 stripes = [\"pv0\", 0, \"pv1\", 0]")),
         ErrorKind::Malformed, "a segment's stripes do not fit its extents"},
        {volume("root", segment(1, 0, 2, "type = \"striped\" stripes = [\"pv0\", 0, \"pv1\", 0]")),
         ErrorKind::Malformed, "a segment's stripes have no size"},
        {volume("root", ""), ErrorKind::Malformed, "it has no segments"},
        {volume("root", segment(1, 0, 1, "type = \"raid7\" raids = [\"pv0\"]")), ErrorKind::Unsupported,
         "a volume of type raid7, which is not read here"},
        {volume("root", segment(1, 0, 1, "type = \"raid6\" raids = [\"pv0\"]")), ErrorKind::Malformed,
         "a segment's images do not fit its extents"},
        {volume("root", segment(1, 0, 1, "type = \"raid1\" raids = []")), ErrorKind::Malformed,
         "a mirror without copies"},
    };
    for (const auto& one : cases) {
        const auto machine = inn(one.volumes);
        const auto root = machine.at("lvm/inn/root");
        ASSERT_NE(root, nullptr) << one.volumes;
        ASSERT_EQ(root->not_assembled.has_value(), one.what != nullptr) << one.volumes;
        if (one.what == nullptr) continue;
        EXPECT_EQ(root->not_assembled->kind, one.kind) << one.volumes;
        EXPECT_EQ(root->not_assembled->what, one.what);
    }
}

TEST(LvmText, IsReadAsItIsWritten) {
    const auto read =
        lvm::parse("a { n = -12 # a remark\n s = \"x\\\"y\\\\\" l = [ \"p\", 3,\"q\" ] empty=[] b { } }\nlast=0", "d1");
    ASSERT_TRUE(read) << read.error().text();
    const auto* a = read->find("a");
    ASSERT_NE(a, nullptr);
    EXPECT_EQ(a->number("n"), -12);
    EXPECT_EQ(a->text("s"), "x\"y\\");
    EXPECT_TRUE(a->has_word("l", "q"));
    EXPECT_FALSE(a->has_word("l", "r"));
    EXPECT_EQ(a->find("l")->items().size(), 3U);
    EXPECT_TRUE(a->find("b")->section());
    EXPECT_EQ(read->number("last", 7), 0);
    EXPECT_EQ(read->number("gone", 7), 7);
}

TEST(LvmText, EveryFaultHasItsPlace) {
    const struct {
        const char* text;
        const char* what;
    } cases[] = {{"a {", "a section does not end"},         {"a = \"x", "a string does not end"},
                 {"a = [ 1, 2", "a list does not end"},     {"a = ", "a value is missing"},
                 {"a b = 1", "neither = nor { behind “a”"}, {"= 1", "neither a name nor the end of a section"}};
    for (const auto& one : cases) {
        const auto read = lvm::parse(one.text, "d1@4096");
        ASSERT_FALSE(read) << one.text;
        EXPECT_EQ(read.error().what, one.what) << one.text;
        EXPECT_TRUE(read.error().place.starts_with("d1@4096, byte ")) << read.error().place;
    }
    std::string deep;
    for (int i = 0; i < 40; ++i) deep += "a {";
    EXPECT_EQ(lvm::parse(deep, "d1").error().kind, ErrorKind::TooLarge);
    std::string lists = "a = ";
    for (int i = 0; i < 40; ++i) lists += "[";
    EXPECT_EQ(lvm::parse(lists, "d1").error().kind, ErrorKind::TooLarge);
    std::string many;
    for (int i = 0; i < 200'001; ++i) many += "a=1 ";
    EXPECT_EQ(lvm::parse(many, "d1").error().kind, ErrorKind::TooLarge);
    EXPECT_TRUE(lvm::parse(std::string_view(many).substr(4), "d1"));
}

TEST(LvmTool, VolumesAreListedAndTheirFilesRead) {
    auto bytes = Member{id_a, group_text(volume("root", segment(1, 0, 40, linear("pv0", 2))))}.bytes();
    forge::Tree tree;
    tree.file("/etc/hostname", "cellar\n");
    auto root = forge::make_ext(tree, {.size = 40 * extent, .journal = false, .label = "inn-root"});
    std::ranges::copy(root, bytes.begin() + static_cast<std::ptrdiff_t>(mib + 2 * extent));
    const support::Folder folder;
    const auto image = folder.write("cellar.img", bytes);
    const auto layout = support::shell(TOOL_PATH " layout " + image);
    EXPECT_NE(layout.out.find("lvm/inn/root  2.5 MiB  logical volume  d1       ext4   inn-root"), std::string::npos)
        << layout.out;
    EXPECT_NE(layout.out.find("mapper/inn-root"), std::string::npos) << layout.out;
    EXPECT_NE(layout.out.find("the volume group inn lacks 1 of its 2 physical volumes"), std::string::npos)
        << layout.out;
    const auto json = support::shell(TOOL_PATH " layout --format json " + image);
    EXPECT_NE(json.out.find("\"made_of\": [\n        \"d1\"\n      ]"), std::string::npos) << json.out;
    const auto file =
        support::shell(TOOL_PATH " copy " + image + " --from lvm/inn/root:/etc/hostname --to " + folder.file("out"));
    EXPECT_EQ(file.status, 0) << file.out;
    EXPECT_EQ(support::shell("cat " + folder.file("out")).out, "cellar\n");
    const auto gone = support::shell(TOOL_PATH " files " + image + " --in lvm/inn/home:/");
    EXPECT_EQ(gone.status, 3);
    EXPECT_NE(gone.out.find("there is no volume lvm/inn/home"), std::string::npos) << gone.out;
}

// --- a whole machine whose root is a logical volume ------------------------------------------------------------------

/// The front desk: /boot on a partition, its root in a group of volumes.
struct Cellar {
    demo::FrontDesk desk = demo::front_desk();
    std::string root = "/dev/mapper/inn-root";
    std::string more;  ///< on the command line
    bool tools = true;
    bool driver = true;
    std::string volume_name = "root";
    forge::LvmMarks marks = {};

    [[nodiscard]] Bytes build() {
        auto boot = support::boot_files(desk.root);
        support::edit(boot, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid, "root=" + root + more);
        if (tools) desk.ramdisk.file("/sbin/lvm", forge::make_program(), 0755);
        if (driver)
            desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/kernel/drivers/md/dm-mod.ko",
                              forge::make_kernel_module("dm_mod"));
        forge::ExtOptions ext;
        ext.size = 8U << 20U;
        ext.uuid = forge::uuid_from("ce11a700-0001-4a01-8a01-00000ce11a01");
        support::edit(desk.root, "/etc/fstab", std::string("UUID=") + demo::root_uuid, "/dev/mapper/inn-root");
        const auto group = forge::make_lvm("inn", {{volume_name, forge::make_ext(desk.root, ext)}}, marks);
        desk.root = boot;
        desk.swap_size = 0;
        desk.disk.size = 28U << 20U;
        desk.disk.partitions.push_back({2048 + (12U << 20U) / 512, group, 0x8E, false});
        return support::first_entries_swapped(desk.build());
    }
};

support::Checked walked(Cellar cellar) {
    support::Checked out(cellar.build());
    return out;
}

TEST(LvmRoot, StartsWhereTheRamDiskBringsWhatOpensIt) {
    for (const char* root : {"/dev/mapper/inn-root", "/dev/inn/root", "UUID=ce11a700-0001-4a01-8a01-00000ce11a01"}) {
        Cellar cellar;
        cellar.root = root;
        const auto checked = walked(cellar);
        ASSERT_EQ(checked.verdict.systems.size(), 1U) << root;
        EXPECT_EQ(checked.system().place, "lvm/inn/root") << root;
        EXPECT_EQ(checked.stage(), "yes") << root << ": " << checked.system().at(Stage::Root).text;
        EXPECT_NE(checked.system().at(Stage::Root).text.find("lvm opens the logical volume lvm/inn/root"),
                  std::string::npos)
            << checked.system().at(Stage::Root).text;
        EXPECT_TRUE(checked.system().at(Stage::Root).evidence.size() >= 2);
    }
}

/// A group may belong to a host, be exported, or have volumes that are skipped (lvmsystemid(7), vgexport(8),
/// lvchange(8)).
TEST(LvmRoot, WhatIsKeptFromThisHostIsNotOpened) {
    struct Row {
        forge::LvmMarks marks;
        std::string settings, local, machine_id;
        std::string why;  ///< empty: it is opened
        std::string screen;
    };
    const std::string none =
        "its group belongs to the host \"cellar-2\", and LVM in the RAM disk knows no name of this one";
    const std::string none_screen = "Cannot access VG inn with system ID cellar-2 with unknown local system ID.";
    const Row rows[] = {
        {{}, "", "", "", "", ""},
        {{.group_status = "EXPORTED"}, "", "", "", "its group is exported", "Volume group \"inn\" is exported"},
        {{.volume_flag = "ACTIVATION_SKIP"}, "", "", "", "it is marked to be skipped when volumes are opened", ""},
        {{.system_id = "cellar-2"}, "", "", "", none, none_screen},
        {{.system_id = "cellar-2"}, "global {\n\tsystem_id_source = \"none\"\n}\n", "", "", none, none_screen},
        {{.system_id = "cellar-2"},
         "# here\nglobal { system_id_source = \"lvmlocal\" }\n",
         "local {\n system_id = \"cellar-2\"\n}\n",
         "",
         "",
         ""},
        {{.system_id = "cellar-2"},
         "global/system_id_source=\"lvmlocal\"\n",
         "local/system_id=\"cellar-2\"\n",
         "",
         "",
         ""},
        {{.system_id = "cellar-2"},
         "global { system_id_source = \"lvmlocal\" }\n",
         "local { system_id = \"cellar-1\" extra_system_ids = [ \"attic\", \"cellar-2\" ] }\n",
         "",
         "",
         ""},
        {{.system_id = "cellar-2"},
         "global { system_id_source = \"lvmlocal\" }\n",
         "local { system_id = \"cellar-1\" }\n",
         "",
         "its group belongs to the host \"cellar-2\", and LVM in the RAM disk calls this one \"cellar-1\"",
         "Cannot access VG inn with system ID cellar-2 with local system ID cellar-1."},
        {{.system_id = "0e110e110e11"}, "global { system_id_source = \"machineid\" }\n", "", "0e110e110e11\n", "", ""},
        {{.system_id = "0e110e110e11"},
         "global { system_id_source = \"machineid\" }\n",
         "",
         "0e110e110e12\n",
         "its group belongs to the host \"0e110e110e11\", and LVM in the RAM disk calls this one \"0e110e110e12\"",
         ""},
        // What the host is called when it starts is not told by the RAM disk.
        {{.system_id = "cellar-2"}, "global { system_id_source = \"uname\" }\n", "", "", "", ""},
    };
    for (const auto& row : rows) {
        Cellar cellar;
        cellar.marks = row.marks;
        if (!row.settings.empty()) cellar.desk.ramdisk.file("/etc/lvm/lvm.conf", row.settings);
        if (!row.local.empty()) cellar.desk.ramdisk.file("/etc/lvm/lvmlocal.conf", row.local);
        if (!row.machine_id.empty()) cellar.desk.ramdisk.file("/etc/machine-id", row.machine_id);
        const auto checked = walked(cellar);
        const auto& rung = checked.system().at(Stage::Root);
        if (row.why.empty()) {
            EXPECT_EQ(checked.stage(), "yes") << row.settings << row.local << rung.text;
            continue;
        }
        EXPECT_EQ(checked.stage(), "root") << row.settings << row.local;
        ASSERT_EQ(rung.findings.size(), 1U) << rung.text;
        EXPECT_EQ(rung.findings.front(), Code::RootNotOpened);
        EXPECT_EQ(rung.text, "the RAM disk does not open lvm/inn/root: " + row.why);
        EXPECT_EQ(rung.evidence.back().place, "lvm/inn/root");
        if (!row.screen.empty())
            EXPECT_NE(checked.system().symptom.find(row.screen), std::string::npos) << checked.system().symptom;
        EXPECT_EQ(checked.system().at(Stage::Init).state, State::NotReached);
    }
}

/// What LVM's settings in the RAM disk leave out (lvm.conf(5), lvmdevices(8)): for certain, by some names, or not at
/// all.
TEST(LvmRoot, WhatTheSettingsLeaveOutIsNotOpened) {
    struct Row {
        std::string settings;
        std::string why;  ///< empty: it is opened; with "?" before it: it is not told
        std::string place = "RAM disk:/etc/lvm/lvm.conf";
        std::string local, devices;
        forge::LvmMarks marks = {};
    };
    const std::string all = "its settings leave out d1p2, whatever it is called (filter)";
    const std::string some = "?its settings take d1p2 by some names only (filter)";
    const std::string list = "the list of devices there has others, and not d1p2";
    const std::string local = "RAM disk:/etc/lvm/lvmlocal.conf", devices = "RAM disk:/etc/lvm/devices/system.devices";
    const Row rows[] = {
        {"devices {\n}\nactivation {\n}\n", ""},
        {"devices { filter = [ \"r|.*|\" ] }", all},
        {"devices/filter = \"r/dev/\"", all},
        {"devices { filter = [ \"r(p?[0-9]$)\" ] }", all},
        {"devices { filter = [ \"a|.*|\", \"r|.*|\" ] }", ""},
        {"devices { filter = [ \"r|/dev/sr0|\", \"r|^/dev/cdrom$|\" ] }", ""},
        {"devices { filter = [ \"a|/dev/vda|\", \"r|.*|\" ] }", some},
        {"devices { filter = [ \"a|/dev/disk/by-id/almhof|\", \"r|.*|\" ] }", some},
        {"devices { filter = [ \"r|/dev/sd.*|\" ] }", some},
        {"devices { filter = [ \"r|/dev/sdb|\" ] }", ""},
        {"devices { filter = [ \"x|.*|\" ] }", some},
        {"devices { filter = [ \"r|(|\" ] }", some},
        {"devices { global_filter = [ \"r|.*|\" ] }",
         "its settings leave out d1p2, whatever it is called (global_filter)"},
        {"devices { filter = [ \"r|.*|\" ] }", "", "", "devices { filter = [ \"a|.*|\" ] }"},
        {"", all, local, "devices { filter = [ \"r|.*|\" ] }"},
        {"activation { volume_list = [ \"hut\", \"inn/swap\" ] }",
         "its settings name what may be opened (volume_list), and not this"},
        {"activation { volume_list = [ \"hut\", \"inn/root\" ] }", ""},
        {"activation { volume_list = \"inn\" }", ""},
        {"activation { volume_list = [ \"@night\" ] }", ""},
        {"activation { auto_activation_volume_list = [ ] }",
         "its settings name what may be opened (auto_activation_volume_list), and not this"},
        {"",
         "its group is marked not to be opened by itself",
         "lvm/inn/root",
         "",
         "",
         {.group_flag = "NOAUTOACTIVATE"}},
        {"", "it is marked not to be opened by itself", "lvm/inn/root", "", "", {.volume_flag = "NOAUTOACTIVATE"}},
        {"devices { use_devicesfile = 1 }", list, devices, "", "PVID=pvhutxHerb IDTYPE=devname\n"},
        {"devices { use_devicesfile = 0 }", "", "", "", "PVID=pvhutxHerb\n"},
        {"", "?" + list + "; whether it counts was decided when LVM was built", devices, "", "PVID=pvhutxHerb\n"},
        {"devices { use_devicesfile = 1 }", "", "", "", "VERSION=1.1.2\n# PVID=pvhutxHerb\n"},
    };
    for (const auto& row : rows) {
        Cellar cellar;
        cellar.marks = row.marks;
        if (!row.settings.empty()) cellar.desk.ramdisk.file("/etc/lvm/lvm.conf", row.settings);
        if (!row.local.empty()) cellar.desk.ramdisk.file("/etc/lvm/lvmlocal.conf", row.local);
        if (!row.devices.empty()) cellar.desk.ramdisk.file("/etc/lvm/devices/system.devices", row.devices);
        const auto checked = walked(cellar);
        const auto& rung = checked.system().at(Stage::Root);
        const auto words = row.settings + row.local + row.devices;
        if (row.why.empty()) {
            EXPECT_EQ(checked.stage(), "yes") << words << rung.text;
            continue;
        }
        const bool untold = row.why[0] == '?';
        EXPECT_EQ(checked.stage(), untold ? "unknown" : "root") << words << rung.text;
        if (untold)
            EXPECT_NE(rung.text.find("whether the RAM disk opens lvm/inn/root is not told: " + row.why.substr(1)),
                      std::string::npos)
                << rung.text;
        else EXPECT_EQ(rung.text, "the RAM disk does not open lvm/inn/root: " + row.why) << words;
        EXPECT_EQ(checked.has(Code::RootNotOpened), !untold);
        if (!untold) EXPECT_EQ(rung.evidence.back().place, row.place) << words;
    }
}

/// What no change of the disk mends is told by what stands in the way.
TEST(LvmRoot, WhatWouldHaveToBeBrought) {
    const auto bring = [](void (*change)(Cellar&)) {
        Cellar cellar;
        change(cellar);
        const Machine machine = support::machine_of(cellar.build());
        const CheckOptions options;
        const auto found = mend(machine, check(machine, options), options);
        return found.size() == 1 && found[0].proposals.empty() ? found[0].bring : "a proposal";
    };
    EXPECT_EQ(
        bring([](Cellar& c) { c.desk.ramdisk.file("/etc/lvm/lvm.conf", "devices { filter = \"r/dev/\" }"); }),
        "a RAM disk whose settings open it, made anew by a running system, or the volume's marks changed by its own "
        "tools there");
    EXPECT_EQ(bring([](Cellar& c) { c.tools = false; }),
              "a RAM disk with the program that opens what the root lies in");
}

/// The member's own line in the list of devices, as LVM writes it.
TEST(LvmRoot, AListOfDevicesThatHasItOpensIt) {
    Cellar cellar;
    const auto machine = support::machine_of(Cellar().build());
    const auto id = lvm::read_physical(machine.volume(1, 2)).id;
    ASSERT_EQ(id.size(), 32U);
    cellar.desk.ramdisk.file("/etc/lvm/lvm.conf", "devices { use_devicesfile = 1 }");
    cellar.desk.ramdisk.file(
        "/etc/lvm/devices/system.devices",
        "# written by lvmdevices\nIDTYPE=sys_wwid IDNAME=naa.5 DEVNAME=/dev/sda PVID=" + id + " PART=2\n");
    EXPECT_EQ(walked(cellar).stage(), "yes");
}

/// Who waits for its name: dracut opens it, others do not; a RAM disk of unknown making is not told.
TEST(LvmRoot, AVolumeThatIsNotOpenedByItselfIsOpenedByWhoAsks) {
    const auto of = [](const std::string& more, bool dracut, const std::string& flag) {
        Cellar cellar;
        cellar.marks.volume_flag = flag;
        cellar.more = more;
        cellar.desk.ramdisk.remove("/scripts/local").remove("/conf/initramfs.conf");
        if (dracut) cellar.desk.ramdisk.file("/usr/lib/dracut/build-parameter.txt", "");
        return walked(cellar).stage();
    };
    EXPECT_EQ(of("", true, "NOAUTOACTIVATE"), "yes");
    EXPECT_EQ(of("", false, "NOAUTOACTIVATE"), "unknown");
    EXPECT_EQ(of(" rd.lvm.lv=inn/root", true, "ACTIVATION_SKIP"), "unknown");
    EXPECT_EQ(of(" rd.lvm.vg=inn", true, "ACTIVATION_SKIP"), "root");
}

/// A rule of udev's calls LVM; without one, and without a script, nobody does.
TEST(LvmRoot, SomethingMustCallTheProgram) {
    for (const auto& [file, stage] : {std::pair{"/usr/lib/udev/rules.d/69-lvm.rules", "yes"},
                                      {"/lib/udev/rules.d/69-lvm-metad.rules", "yes"},
                                      {"/scripts/local-top/lvm2", "yes"},
                                      {"/usr/lib/udev/rules.d/56-lvm.rules", "root"},
                                      {"/scripts/local-top/mdadm", "root"}}) {
        Cellar cellar;
        cellar.desk.ramdisk.file("/usr/lib/udev/rules.d/60-block.rules", "");
        cellar.desk.ramdisk.file(file, "");
        const auto checked = walked(cellar);
        EXPECT_EQ(checked.stage(), stage) << file;
        if (std::string(stage) == "yes") continue;
        EXPECT_EQ(checked.system().at(Stage::Root).text,
                  "the RAM disk does not open lvm/inn/root: no rule of udev's and no script there calls lvm");
        EXPECT_EQ(checked.system().at(Stage::Root).evidence.back().place,
                  "RAM disk:/usr/lib/udev/rules.d/69-lvm.rules");
    }
}

TEST(LvmRoot, WithoutTheProgramNothingOpensIt) {
    Cellar cellar;
    cellar.tools = false;
    const auto checked = walked(cellar);
    EXPECT_EQ(checked.stage(), "root");
    EXPECT_TRUE(checked.has(Code::RamdiskNoLayerProgram));
    EXPECT_EQ(checked.system().at(Stage::Root).text,
              "nothing in the RAM disk opens the logical volume lvm/inn/root: lvm is not there");
    EXPECT_NE(checked.system().symptom.find("ALERT! /dev/mapper/inn-root does not exist."), std::string::npos);
    EXPECT_EQ(checked.system().at(Stage::Init).state, State::NotReached);
}

TEST(LvmRoot, WithoutTheDriverNothingOpensIt) {
    Cellar cellar;
    cellar.desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/modules.builtin",
                             "kernel/fs/ext4/ext4.ko\nkernel/drivers/ata/ahci.ko\nkernel/drivers/scsi/sd_mod.ko\n");
    EXPECT_EQ(walked(cellar).stage(), "yes") << "it comes as a module";
    cellar = Cellar();
    cellar.desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/modules.builtin",
                             "kernel/fs/ext4/ext4.ko\nkernel/drivers/ata/ahci.ko\nkernel/drivers/scsi/sd_mod.ko\n");
    cellar.driver = false;
    const auto without = walked(cellar);
    EXPECT_EQ(without.stage(), "root");
    EXPECT_TRUE(without.has(Code::RamdiskNoLayerDriver));
    EXPECT_EQ(without.system().at(Stage::Root).text,
              "the driver dm_mod for the logical volume lvm/inn/root is neither in the RAM disk nor built into the "
              "kernel");
}

TEST(LvmRoot, ANameThatNoVolumeHasIsNotFound) {
    for (const char* root : {"/dev/mapper/inn-rooot", "/dev/inn/rooot", "/dev/mapper/hut-root"}) {
        Cellar cellar;
        cellar.root = root;
        const auto checked = walked(cellar);
        EXPECT_EQ(checked.stage(), "root") << root;
        EXPECT_TRUE(checked.has(Code::RootNotFound)) << root;
        const auto& evidence = checked.system().at(Stage::Root).evidence;
        ASSERT_FALSE(evidence.empty());
        EXPECT_NE(evidence[0].found.find("lvm/inn/root is /dev/mapper/inn-root"), std::string::npos)
            << evidence[0].found;
    }
}

TEST(LvmRoot, AGroupThatLacksAMemberIsNotPutTogether) {
    Cellar cellar;
    auto image = cellar.build();
    // The description names another physical volume: the one it lies on is a stranger to it.
    const std::string id = "pvinnx-Herb";
    const auto at = std::search(image.begin(), image.end(), id.begin(), id.end());
    ASSERT_NE(at, image.end());
    *at = 'q';
    const auto start = static_cast<std::size_t>(2048 + (12U << 20U) / 512) * 512 + 4096;
    std::size_t length = 0;
    for (int i = 0; i < 8; ++i) length |= std::size_t{image[start + 48 + static_cast<std::size_t>(i)]} << 8 * i;
    put(image, start + 56, lvm_crc(std::span(image).subspan(start + 512, length)), 4);
    put(image, start, lvm_crc(std::span(image).subspan(start + 4, 508)), 4);
    support::Checked checked(image);
    // Nothing can be identified inside; the entry names it all the same.
    ASSERT_FALSE(checked.verdict.systems.empty());
    EXPECT_EQ(checked.stage(), "root") << checked.system().at(Stage::Root).text;
    EXPECT_TRUE(checked.has(Code::RootVolumeIncomplete));
    EXPECT_NE(checked.system().symptom.find("Refusing activation of partial LV inn/root."), std::string::npos);
}

TEST(LvmRoot, DracutOpensOnlyWhatItIsTold) {
    const struct {
        const char* more;
        const char* stage;
    } cases[] = {{"", "yes"},
                 {" rd.lvm.lv=inn/root", "yes"},
                 {" rd.lvm.lv=inn/swap rd.lvm.lv=inn/root", "yes"},
                 {" rd.lvm.vg=inn", "yes"},
                 {" rd.lvm.lv=inn/swap", "root"},
                 {" rd.lvm.vg=hut", "root"},
                 {" rd.lvm=0", "root"}};
    for (const auto& one : cases) {
        Cellar cellar;
        cellar.more = one.more;
        cellar.desk.ramdisk.remove("/scripts/local").file("/usr/lib/dracut/build-parameter.txt", "");
        cellar.desk.ramdisk.file("/lib/dracut-lib.sh", "#!/bin/sh\n");
        cellar.desk.ramdisk.file("/usr/lib/dracut-lib.sh", "#!/bin/sh\n");
        const auto checked = walked(cellar);
        EXPECT_EQ(checked.stage(), one.stage) << one.more << checked.system().at(Stage::Root).text;
        EXPECT_EQ(checked.has(Code::RootNotOpened), std::string(one.stage) == "root") << one.more;
    }
}

TEST(LvmDemo, TheCellarsDisksStopWhereTheirStoriesSay) {
    for (const auto& story : demo::cellar_disks()) {
        support::Checked checked(story.make());
        EXPECT_EQ(checked.stage(), story.stops_at.empty() ? "yes" : story.stops_at)
            << story.name << ": " << checked.system().symptom;
        EXPECT_EQ(checked.system().name, "Almhof Cellar 3 (Silberdistel)") << story.name;
        EXPECT_EQ(checked.system().place, story.name == "cellar-renamed.img" ? "lvm/inn2/root" : "lvm/inn/root");
    }
    support::Checked renamed(demo::cellar_disks().back().make());
    EXPECT_NE(renamed.system().at(Stage::Root).evidence.front().found.find("lvm/inn2/root is /dev/mapper/inn2-root"),
              std::string::npos);
}

TEST(LvmGrub, ReadsItsFilesFromALogicalVolume) {
    // Everything, /boot included, lies in the group; GRUB's core brings the modules for it.
    for (const bool modules : {true, false}) {
        auto desk = demo::front_desk();
        support::edit(desk.root, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid,
                      "root=/dev/mapper/inn-root");
        desk.ramdisk.file("/sbin/lvm", forge::make_program(), 0755);
        desk.ramdisk.file(std::string("/lib/modules/") + demo::release + "/kernel/drivers/md/dm-mod.ko",
                          forge::make_kernel_module("dm_mod"));
        auto& packed = desk.root;
        packed.file(std::string("/boot/initrd.img-") + demo::release, forge::gzip(forge::make_cpio(desk.ramdisk)));
        forge::ExtOptions ext;
        ext.size = 12U << 20U;
        ext.uuid = forge::uuid_from(demo::root_uuid);
        forge::DiskSpec disk;
        disk.size = 20U << 20U;
        disk.boot_code = forge::make_grub_boot();
        forge::CoreOptions core;
        core.prefix = "(lvm/inn-root)/boot/grub";
        if (modules) core.modules = {"fshelp", "ext2", "part_msdos", "biosdisk", "diskfilter", "lvm"};
        disk.gap = forge::make_grub_core(core);
        disk.partitions = {{2048, forge::make_lvm("inn", {{"root", forge::make_ext(packed, ext)}}), 0x8E, true}};
        support::Checked checked(forge::make_disk(disk));
        EXPECT_EQ(checked.stage(), modules ? "yes" : "loader") << checked.system().symptom;
        if (!modules) EXPECT_TRUE(checked.has(Code::GrubPrefixDisk) || checked.has(Code::GrubPrefixDevice));
        if (!modules) continue;
        // A partition that ends within the volume: GRUB reads on behind it, and device mapper does not.
        auto shrunk = forge::make_disk(disk);
        const std::uint32_t sectors = 12U << 11U;
        for (unsigned i = 0; i < 4; ++i) shrunk[446 + 12 + i] = static_cast<std::uint8_t>(sectors >> 8 * i);
        support::Checked ends(shrunk);
        EXPECT_EQ(ends.stage(), "root");
        EXPECT_EQ(ends.system().at(Stage::Kernel).state, State::Holds);
        EXPECT_NE(ends.system().at(Stage::Root).text.find("Linux does not take it: it goes on past the end of d1p1"),
                  std::string::npos)
            << ends.system().at(Stage::Root).text;
        // GRUB looks at no sums, and LVM in the RAM disk does.
        for (const auto& [mark, byte, why] :
             {std::tuple{"LABELONE", 16, "Linux does not take the label of d1p1, which fails its checksum"},
              std::tuple{" LVM2 x[5A%r0N*>", -4,
                         "Linux does not take its group: the head of a metadata area fails its checksum"}}) {
            auto bytes = forge::make_disk(disk);
            const std::string_view wanted(mark);
            const auto at = std::search(bytes.begin(), bytes.end(), wanted.begin(), wanted.end());
            ASSERT_NE(at, bytes.end());
            at[byte] ^= 0xFF;
            support::Checked refused(bytes);
            EXPECT_EQ(refused.stage(), "root");
            EXPECT_EQ(refused.system().at(Stage::Loader).state, State::Holds);
            EXPECT_EQ(refused.system().at(Stage::Ramdisk).state, State::Holds);
            EXPECT_NE(refused.system().at(Stage::Root).text.find(why), std::string::npos)
                << refused.system().at(Stage::Root).text;
        }
    }
}

TEST(Lvm, GroupsOfTheSystemsOwnToolsAreReadAsTheyListThem) {
    if (support::shell("command -v vgcreate && command -v losetup").status != 0) GTEST_SKIP() << "no LVM tools here";
    const support::Folder folder;
    std::vector<std::string> files{folder.file("a.img"), folder.file("b.img")};
    support::shell(fmt::format("truncate -s 64M {} {}", files[0], files[1]));
    const support::Loops loops(files);
    if (loops.devices.size() != 2) GTEST_SKIP() << "no loop devices here";
    const std::string two = loops.devices[0] + " " + loops.devices[1];
    const std::string how = fmt::format(" --driverloaded n --devices {},{} ", loops.devices[0], loops.devices[1]);
    const std::string quiet = " 2>/dev/null";
    ASSERT_EQ(support::shell("pvcreate" + how + two + quiet).status, 0);
    ASSERT_EQ(support::shell("vgcreate -s 1M" + how + "high-inn " + two + quiet).status, 0);
    ASSERT_EQ(support::shell("lvcreate" + how + "-an -Zn -Wn -n root -L 50M high-inn" + quiet).status, 0);
    ASSERT_EQ(support::shell("lvcreate" + how + "-an -Zn -Wn -i 2 -I 16k -n home -L 8M high-inn" + quiet).status, 0);
    ASSERT_EQ(support::shell("lvextend" + how + "-An -i 1 high-inn/home -L +3M" + quiet).status, 0);
    const auto listed = support::shell(
        "lvs" + how +
        "--segments --noheadings --units b --nosuffix --separator '|' -o lv_name,seg_start,seg_size,seg_pe_ranges" +
        quiet);
    ASSERT_EQ(listed.status, 0);
    Machine machine;
    for (int i = 0; i < 2; ++i) {
        auto image = open_image(files[static_cast<std::size_t>(i)], i + 1);
        ASSERT_TRUE(image);
        machine.disks.push_back(inspect_disk(*image, i + 1, files[static_cast<std::size_t>(i)]));
    }
    assemble_layers(machine);
    ASSERT_EQ(machine.layered.size(), 2U);
    EXPECT_EQ(machine.at("lvm/high-inn/root")->source->size(), 50 * mib);
    EXPECT_EQ(machine.at("lvm/high-inn/home")->source->size(), 11 * mib);
    EXPECT_EQ(machine.at("lvm/high-inn/home")->names.linux_names.front(), "mapper/high--inn-home");
    // Each segment begins at the extent that the tools name: "home|0|8388608|/dev/loop0:5-8 /dev/loop1:0-3".
    std::istringstream lines(listed.out);
    int checked = 0;
    for (std::string line; std::getline(lines, line);) {
        if (std::ranges::count(line, '|') != 3) continue;  // a warning
        std::istringstream fields(line);
        std::string name, start, size, ranges;
        std::getline(fields, name, '|');
        std::getline(fields, start, '|');
        std::getline(fields, size, '|');
        std::getline(fields, ranges);
        name.erase(0, name.find_first_not_of(' '));
        const auto device = ranges.substr(0, ranges.find(':'));
        const int disk = device == loops.devices[0] ? 1 : 2;
        const auto first = std::stoull(ranges.substr(ranges.find(':') + 1));
        EXPECT_EQ(range_of(machine.at("lvm/high-inn/" + name), std::stoull(start), 512),
                  (DiskRange{disk, mib + first * mib, 512}))
            << line;
        ++checked;
    }
    EXPECT_GE(checked, 3);
}

}  // namespace
