// SPDX-License-Identifier: MIT
#include "loader/lilo/map.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "ondisk/lilo.hpp"

namespace herberge::loader::lilo {

namespace {

constexpr std::size_t sector = 512;
constexpr std::size_t most_map = 1U << 20U;
constexpr std::size_t most_descriptors = 19;  // what two sectors hold beside their checksum
constexpr std::size_t slots =
    sector / sizeof(ondisk::LiloAddress);  // the last one leads to the next sector of the list
constexpr std::size_t most_list_sectors = 4096;

constexpr std::uint8_t lba32 = 0x20;
constexpr std::uint8_t linear = 0x40;         // by itself
constexpr std::uint8_t without_count = 0x40;  // together with lba32: the count is the number's highest byte
constexpr unsigned heads = 255;
constexpr unsigned track_sectors = 63;

struct Run {
    std::uint64_t lba = 0;
    std::uint64_t count = 0;
};

Run decode(const ondisk::LiloAddress& a) {
    const std::uint64_t number = a.sector | std::uint64_t{a.track} << 8U | std::uint64_t{a.head} << 16U;
    if ((a.device & lba32) != 0) {
        if ((a.device & without_count) != 0) return {number | std::uint64_t{a.count} << 24U, 1};
        return {number, a.count};
    }
    if ((a.device & linear) != 0) return {number, a.count};
    const unsigned cylinder = a.track | (a.sector & 0xC0U) << 2U;
    const unsigned within = a.sector & 0x3FU;
    if (within == 0) return {};
    return {(std::uint64_t{cylinder} * heads + a.head) * track_sectors + within - 1, a.count};
}

bool is_end(const ondisk::LiloAddress& a) { return a.sector == 0 && a.track == 0 && a.head == 0 && a.count == 0; }

/// The sectors that a list names, from the map sector at `first` on.
std::vector<DiskRange> list_at(const Disk& disk, const ondisk::LiloAddress& first) {
    std::vector<DiskRange> out;
    ondisk::LiloAddress at = first;
    const std::uint64_t total = disk.source->size() / sector;
    for (std::size_t n = 0; n < most_list_sectors && !is_end(at); ++n) {
        const auto where = decode(at);
        if (where.lba >= total) return out;
        const auto bytes = disk.source->bytes(where.lba * sector, sector);
        if (!bytes) return out;
        for (std::size_t i = 0; i + 1 < slots; ++i) {
            const auto entry = ondisk::from_bytes<ondisk::LiloAddress>(*bytes, i * sizeof(ondisk::LiloAddress));
            if (is_end(entry)) return out;
            const auto run = decode(entry);
            if (run.count == 0 || run.lba >= total || run.count > total - run.lba) return out;
            if (!out.empty() && out.back().offset + out.back().length == run.lba * sector)
                out.back().length += run.count * sector;
            else out.push_back({disk.number, run.lba * sector, run.count * sector});
        }
        at = ondisk::from_bytes<ondisk::LiloAddress>(*bytes, (slots - 1) * sizeof(ondisk::LiloAddress));
    }
    return out;
}

/// A descriptor's name, when it could be one: printable, then zeros only.
std::string name_at(std::span<const std::uint8_t> bytes, std::size_t at) {
    std::string out;
    for (std::size_t i = 0; i < 16; ++i) {
        const auto b = bytes[at + i];
        if (b == 0) break;
        if (b < 0x21 || b > 0x7E) return {};
        out += static_cast<char>(b);
    }
    return out.size() < 16 ? out : std::string();
}

}  // namespace

std::vector<MapImage> read_map(const Machine& machine, const Volume& volume, const std::string& path,
                               const std::vector<std::string>& labels) {
    const auto file = refer(volume, path, path, 0);
    const auto source = open_file(file);
    const Disk* disk = machine.disk(volume.disk);
    if (!source || disk == nullptr) return {};
    const auto bytes = source->bytes(0, std::min<std::uint64_t>(source->size(), most_map));
    if (!bytes) return {};
    std::vector<MapImage> out;
    for (std::size_t at = 0; at + 2 * sector <= bytes->size() && out.empty(); at += sector) {
        if (std::ranges::find(labels, name_at(*bytes, at)) == labels.end()) continue;
        for (std::size_t i = 0; i < most_descriptors; ++i) {
            const std::size_t here = at + i * sizeof(ondisk::LiloDescriptor);
            MapImage image;
            image.label = name_at(*bytes, here);
            if (image.label.empty()) break;
            const auto d = ondisk::from_bytes<ondisk::LiloDescriptor>(*bytes, here);
            image.place = fmt::format("{}:{}", volume.place, path);
            image.kernel = list_at(*disk, d.start);
            if (d.ramdisk_size != 0) image.ramdisk = list_at(*disk, d.ramdisk);
            out.push_back(std::move(image));
        }
    }
    return out;
}

ListMatch compare_lists(const std::vector<DiskRange>& listed, const std::vector<DiskRange>& file) {
    if (listed.empty() || file.empty()) return ListMatch::Unknown;
    std::uint64_t inside = 0;
    std::uint64_t all = 0;
    for (const auto& run : listed) {
        all += run.length;
        for (const auto& part : file) {
            const auto begin = std::max(run.offset, part.offset);
            // A file's last sector may be used in part only.
            const auto end =
                std::min(run.offset + run.length, part.offset + (part.length + sector - 1) / sector * sector);
            if (run.disk == part.disk && end > begin) inside += end - begin;
        }
    }
    return inside == 0 ? ListMatch::Other : inside >= all ? ListMatch::Same : ListMatch::Partly;
}

}  // namespace herberge::loader::lilo
