// SPDX-License-Identifier: MIT
// A group of LVM 2 on one physical volume.
#include <algorithm>

#include <zlib.h>

#include "forge.hpp"

namespace forge {

namespace {

constexpr std::size_t mib = std::size_t{1} << 20U;
constexpr std::size_t extent = 64 * 1024;
constexpr std::size_t area_at = 4096;
constexpr std::size_t area_size = 64 * 1024;

std::uint32_t checksum(const std::uint8_t* bytes, std::size_t count) {
    constexpr std::uint32_t start = 0xF597A6CFU;
    return ~static_cast<std::uint32_t>(::crc32_z(~start, bytes, count));
}

/// "almhof-AAAA-…" from six letters: ids are told apart by them.
std::string id_of(std::string letters) {
    letters.resize(6, 'x');
    std::ranges::replace_if(
        letters, [](char c) { return !((c >= 'a' && c <= 'z') || (c >= '0' && c <= '9')); }, 'z');
    return letters + "-Herb-erge-Alm0-hof1-Keys-Rooms1";
}

void put(Bytes& out, std::size_t at, const std::string& text) {
    std::copy(text.begin(), text.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
}

}  // namespace

Bytes make_lvm(const std::string& group, const std::vector<LvmVolume>& volumes, const LvmMarks& marks) {
    const auto quoted = [](const std::string& word) { return word.empty() ? word : "\"" + word + "\""; };
    std::string text =
        group + " {\nid = \"" + id_of(group) + "\"\nseqno = 2\nformat = \"lvm2\"\nstatus = [\"RESIZEABLE\", " +
        "\"READ\", \"WRITE\"" + (marks.group_status.empty() ? "" : ", ") + quoted(marks.group_status) + "]\nflags = [" +
        quoted(marks.group_flag) + "]\n" +
        (marks.system_id.empty() ? "" : "system_id = " + quoted(marks.system_id) + "\n") +
        "extent_size = " + std::to_string(extent / 512) + "\nphysical_volumes {\npv0 {\nid = \"" + id_of("pv" + group) +
        "\"\ndevice = \"/dev/sda2\"\nstatus = [\"ALLOCATABLE\"]\nflags = []\npe_start = 2048\npe_count = ";
    std::size_t count = 0;
    std::string logical;
    Bytes content;
    for (const auto& volume : volumes) {
        const std::size_t extents = (volume.content.size() + extent - 1) / extent;
        logical += volume.name + " {\nid = \"" + id_of(volume.name) +
                   "\"\nstatus = [\"READ\", \"WRITE\", \"VISIBLE\"]\nflags = [" + quoted(marks.volume_flag) +
                   "]\nsegment_count = 1\nsegment1 "
                   "{\nstart_extent = 0\nextent_count = " +
                   std::to_string(extents) + "\ntype = \"striped\"\nstripe_count = 1\nstripes = [\n\"pv0\", " +
                   std::to_string(count) + "\n]\n}\n}\n";
        content.insert(content.end(), volume.content.begin(), volume.content.end());
        count += extents;
        content.resize(count * extent);
    }
    text += std::to_string(count) + "\n}\n}\nlogical_volumes {\n" + logical +
            "}\n}\ncontents = \"Text Format Volume Group\"\nversion = 1\n";
    Bytes out(mib + content.size());
    put(out, 512, "LABELONE");
    put64(out, 520, 1);
    put32(out, 532, 32);
    put(out, 536, "LVM2 001");
    auto member = id_of("pv" + group);
    std::erase(member, '-');
    put(out, 544, member);
    put64(out, 576, out.size());
    put64(out, 584, mib);
    put64(out, 616, area_at);
    put64(out, 624, area_size);
    put32(out, 528, checksum(out.data() + 532, 492));
    put(out, area_at + 4, " LVM2 x[5A%r0N*>");
    put32(out, area_at + 20, 1);
    put64(out, area_at + 24, area_at);
    put64(out, area_at + 32, area_size);
    put64(out, area_at + 40, 512);
    put64(out, area_at + 48, text.size());
    put(out, area_at + 512, text);
    put32(out, area_at + 56, checksum(out.data() + area_at + 512, text.size()));
    put32(out, area_at, checksum(out.data() + area_at + 4, 508));
    std::copy(content.begin(), content.end(), out.begin() + static_cast<std::ptrdiff_t>(mib));
    return out;
}

}  // namespace forge
