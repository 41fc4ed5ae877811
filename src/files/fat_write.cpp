// SPDX-License-Identifier: MIT
#include "files/fat_write.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <cstring>

#include "bytes/text16.hpp"
#include "ondisk/fat.hpp"

namespace herberge::fat {

namespace {

constexpr std::size_t entry_size = 32;
constexpr std::uint64_t most_table = std::uint64_t{64} << 20U;
constexpr std::uint64_t most_directory = std::uint64_t{65536} * entry_size;
constexpr std::uint16_t first_day = 0x21;  // 1980-01-01: the earliest that a FAT can say

/// The allocation table in memory.
class Table {
public:
    Table(const Geometry& g, std::vector<std::uint8_t> bytes, std::uint64_t volume_size)
        : g_(g), before_(bytes), bytes_(std::move(bytes)), volume_size_(volume_size) {}

    [[nodiscard]] std::uint32_t get(std::uint32_t cluster) const {
        const std::size_t at = place(cluster);
        if (outside(at)) return end();
        if (g_.bits == 32)
            return (bytes_[at] | std::uint32_t{bytes_[at + 1]} << 8U | std::uint32_t{bytes_[at + 2]} << 16U |
                    std::uint32_t{bytes_[at + 3]} << 24U) &
                   0x0FFFFFFFU;
        const std::uint32_t pair = bytes_[at] | std::uint32_t{bytes_[at + 1]} << 8U;
        if (g_.bits == 16) return pair;
        return (cluster & 1U) != 0 ? pair >> 4U : pair & 0xFFFU;
    }
    void set(std::uint32_t cluster, std::uint32_t value) {
        const std::size_t at = place(cluster);
        if (outside(at)) return;
        if (g_.bits == 32) {
            for (unsigned i = 0; i < 3; ++i) bytes_[at + i] = static_cast<std::uint8_t>(value >> (8 * i));
            // The highest four bits are reserved and stay.
            bytes_[at + 3] = static_cast<std::uint8_t>((bytes_[at + 3] & 0xF0U) | (value >> 24U & 0x0FU));
            return;
        }
        if (g_.bits == 12) {
            const std::uint32_t pair = bytes_[at] | std::uint32_t{bytes_[at + 1]} << 8U;
            value = (cluster & 1U) != 0 ? (pair & 0x00FU) | value << 4U : (pair & 0xF000U) | (value & 0xFFFU);
        }
        bytes_[at] = static_cast<std::uint8_t>(value);
        bytes_[at + 1] = static_cast<std::uint8_t>(value >> 8U);
    }
    [[nodiscard]] std::uint32_t end() const { return g_.bits == 32 ? 0x0FFFFFFFU : g_.bits == 16 ? 0xFFFFU : 0xFFFU; }

    /// Frees a chain as far as it can be followed; how many clusters.
    std::uint32_t release(std::uint32_t cluster) {
        std::uint32_t out = 0;
        while (cluster >= 2 && cluster < g_.clusters + 2 && get(cluster) != 0) {
            const std::uint32_t next = get(cluster);
            set(cluster, 0);
            ++out;
            cluster = next;
        }
        return out;
    }
    /// A chain of `count` free clusters that lie on the volume; empty: there are not so many.
    std::vector<std::uint32_t> take(std::uint64_t count) {
        std::vector<std::uint32_t> out;
        for (std::uint32_t cluster = 2; cluster < g_.clusters + 2 && out.size() < count; ++cluster) {
            if (g_.data_offset + (std::uint64_t{cluster} - 1) * g_.cluster > volume_size_) break;  // it was cut short
            if (get(cluster) == 0) out.push_back(cluster);
        }
        if (out.size() < count) return {};
        for (std::size_t i = 0; i < out.size(); ++i) set(out[i], i + 1 < out.size() ? out[i + 1] : end());
        return out;
    }
    /// What changed, in every copy of the table.
    void add_edits(std::vector<VolumeEdit>& out) const {
        constexpr std::size_t step = 512;
        for (std::size_t at = 0; at < bytes_.size(); at += step) {
            const std::size_t length = std::min(step, bytes_.size() - at);
            const auto from = bytes_.begin() + static_cast<std::ptrdiff_t>(at);
            if (std::equal(from, from + static_cast<std::ptrdiff_t>(length),
                           before_.begin() + static_cast<std::ptrdiff_t>(at)))
                continue;
            for (unsigned copy = 0; copy < g_.fats; ++copy)
                if (const std::uint64_t where = g_.fat_offset + copy * g_.fat_bytes + at;
                    where + length <= volume_size_)
                    out.push_back({where, {from, from + static_cast<std::ptrdiff_t>(length)}});
        }
    }

private:
    [[nodiscard]] std::size_t place(std::uint32_t cluster) const {
        return g_.bits == 12 ? cluster + cluster / 2 : std::size_t{cluster} * (g_.bits / 8);
    }
    /// A boot sector may claim more clusters than its table has room for.
    [[nodiscard]] bool outside(std::size_t at) const { return at + 4 > bytes_.size() + (g_.bits == 32 ? 0 : 2); }
    const Geometry& g_;
    std::vector<std::uint8_t> before_, bytes_;
    std::uint64_t volume_size_;
};

bool short_character(char c) {
    return (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
           std::string_view("$%'-_@~`!(){}^#&").find(c) != std::string_view::npos;
}
char upper(char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c; }

struct Names {
    std::array<std::uint8_t, 11> shorter{};
    bool exact = true;  ///< the short name says it all
};
/// The short name for a long one; those in `taken` are in use.
std::optional<Names> short_name(std::string_view name, const std::vector<std::array<std::uint8_t, 11>>& taken) {
    Names out;
    const auto dot = name.rfind('.');
    const std::string_view base = name.substr(0, dot == 0 ? name.size() : dot);
    const std::string_view extension = dot == name.npos || dot == 0 ? std::string_view{} : name.substr(dot + 1);
    const auto fill = [&](std::string_view part, std::size_t at, std::size_t most) {
        std::size_t used = 0;
        for (const char c : part) {
            if (!short_character(upper(c)) || used == most || c != upper(c)) out.exact = false;
            if (short_character(upper(c)) && used < most)
                out.shorter[at + used++] = static_cast<std::uint8_t>(upper(c));
        }
        return used;
    };
    out.shorter.fill(' ');
    const std::size_t length = fill(base, 0, 8);
    fill(extension, 8, 3);
    if (length == 0) return std::nullopt;
    if (out.exact && std::ranges::find(taken, out.shorter) == taken.end()) return out;
    out.exact = false;
    for (int number = 1; number < 10000; ++number) {
        auto numbered = out.shorter;
        const auto tail = fmt::format("~{}", number);
        const std::size_t at = std::min<std::size_t>(length, 8 - tail.size());
        std::ranges::copy(tail, numbered.begin() + static_cast<std::ptrdiff_t>(at));
        for (std::size_t i = at + tail.size(); i < 8; ++i) numbered[i] = ' ';
        if (std::ranges::find(taken, numbered) != taken.end()) continue;
        out.shorter = numbered;
        return out;
    }
    return std::nullopt;
}

/// The entries of a long name, as they are stored: the last piece first.
std::vector<ondisk::FatLongEntry> long_name(std::u16string name, std::uint8_t checksum) {
    constexpr std::size_t per_entry = 13;
    std::vector<ondisk::FatLongEntry> out;
    const std::size_t pieces = (name.size() + per_entry - 1) / per_entry;
    if (name.size() % per_entry != 0) name += u'\0';
    while (name.size() < pieces * per_entry) name += u'\uFFFF';
    for (std::size_t piece = pieces; piece-- > 0;) {
        ondisk::FatLongEntry entry{};
        entry.order = static_cast<std::uint8_t>((piece + 1) | (piece + 1 == pieces ? 0x40U : 0U));
        entry.attributes = 0x0F;
        entry.checksum = checksum;
        const auto put = [&](std::uint8_t* into, std::size_t from, std::size_t count) {
            for (std::size_t i = 0; i < count; ++i) {
                const char16_t unit = name[piece * per_entry + from + i];
                into[2 * i] = static_cast<std::uint8_t>(unit);
                into[2 * i + 1] = static_cast<std::uint8_t>(unit >> 8U);
            }
        };
        put(entry.name1.data(), 0, 5);
        put(entry.name2.data(), 5, 6);
        put(entry.name3.data(), 11, 2);
        out.push_back(entry);
    }
    return out;
}

template <class T>
std::vector<std::uint8_t> bytes_of(const T& value) {
    const auto* begin = reinterpret_cast<const std::uint8_t*>(&value);
    return {begin, begin + sizeof(value)};
}

void set_cluster(ondisk::FatEntry& entry, const Geometry& g, std::uint32_t cluster) {
    entry.cluster_low = static_cast<std::uint16_t>(cluster);
    if (g.bits == 32) entry.cluster_high = static_cast<std::uint16_t>(cluster >> 16U);
}

/// Where a run of `count` free entries lies in a directory, as bytes of the volume; and the short names in use. With
/// fewer places, these are the last of the directory, which has to grow.
struct Slots {
    std::vector<std::uint64_t> places;
    std::vector<std::array<std::uint8_t, 11>> taken;
};
Result<Slots> free_slots(const ByteSource& volume, const std::vector<Extent>& directory, std::size_t count) {
    Slots out;
    bool ended = false;
    for (const auto& piece : directory) {
        const auto bytes = volume.bytes(piece.base_offset, piece.length, most_directory);
        if (!bytes) return tl::unexpected(bytes.error());
        for (std::size_t at = 0; at + entry_size <= bytes->size(); at += entry_size) {
            const auto entry = ondisk::from_bytes<ondisk::FatEntry>(*bytes, at);
            ended = ended || entry.name[0] == 0;
            const bool unused = ended || entry.name[0] == 0xE5;
            if (!unused && (entry.attributes & 0x3FU) != 0x0F) out.taken.push_back(entry.name);
            if (out.places.size() == count) continue;
            if (unused) out.places.push_back(piece.base_offset + at);
            else out.places.clear();
        }
    }
    return out;
}

/// A cluster by which a directory grows, and what stands in it.
struct Growth {
    std::uint64_t at = 0;  ///< byte of the volume
    std::vector<std::uint8_t> bytes;

    /// An entry at `where`: in here, or as a change of its own.
    void put(std::uint64_t where, std::vector<std::uint8_t> entry, std::vector<VolumeEdit>& out) {
        if (!bytes.empty() && where >= at && where < at + bytes.size())
            std::ranges::copy(entry, bytes.begin() + static_cast<std::ptrdiff_t>(where - at));
        else out.push_back({where, std::move(entry)});
    }
};
/// Puts a cluster behind the last one of a directory. Errors: TooLarge (the root of a FAT12 or FAT16, no free cluster).
Result<Growth> grow(Table& table, const Geometry& g, std::uint32_t first, std::size_t count, Slots& slots) {
    if (first == 0 && g.bits == 32) first = g.root_cluster;
    std::uint32_t last = first;
    for (std::uint32_t steps = 0; last >= 2 && last < g.clusters + 2 && steps < g.clusters; ++steps) {
        const auto next = table.get(last);
        if (next < 2 || next >= g.clusters + 2) break;
        last = next;
    }
    const auto added = first < 2 || last < 2 ? std::vector<std::uint32_t>{} : table.take(1);
    if (added.empty() || g.cluster / entry_size < count)
        return fail(ErrorKind::TooLarge, "the directory has no room for another name");
    table.set(last, added.front());
    Growth out{g.data_offset + std::uint64_t{added.front() - 2} * g.cluster, std::vector<std::uint8_t>(g.cluster)};
    for (std::uint64_t at = 0; slots.places.size() < count; at += entry_size) slots.places.push_back(out.at + at);
    return out;
}

}  // namespace

Result<std::vector<VolumeEdit>> with_entry(const ByteSource& volume, const Geometry& g,
                                           const std::vector<Extent>& directory, std::uint32_t parent,
                                           std::optional<FileId> known, std::string_view name, std::uint8_t attributes,
                                           std::span<const std::uint8_t> content) {
    const bool folder = (attributes & 0x10U) != 0;
    if (name.empty() || name.size() > 200 || name == "." || name == ".." ||
        name.find_first_of("\"*/:<>?\\|") != name.npos)
        return fail(ErrorKind::Malformed, "not a name for a FAT", volume.place(), {}, printable(name));
    if (content.size() > 0xFFFFFFFFU) return fail(ErrorKind::TooLarge, "too large for a FAT", volume.place());
    auto raw = volume.bytes(g.fat_offset, g.fat_bytes, most_table);
    if (!raw) return tl::unexpected(raw.error());
    Table table(g, std::move(*raw), volume.size());
    std::vector<VolumeEdit> out;
    ondisk::FatEntry entry{};
    std::int64_t freed = 0;
    Growth growth;
    if (known) {
        const auto there = volume.load<ondisk::FatEntry>(*known);
        if (!there) return tl::unexpected(there.error());
        entry = *there;
        if ((entry.attributes & 0x10U) != 0) return fail(ErrorKind::WrongType, "a directory is there", volume.place());
        const std::uint32_t first =
            entry.cluster_low | (g.bits == 32 ? std::uint32_t{entry.cluster_high} << 16U : std::uint32_t{0});
        freed = table.release(first);
    }
    std::vector<std::uint8_t> bytes(content.begin(), content.end());
    if (folder) bytes.assign(g.cluster, 0);
    const auto clusters = table.take((bytes.size() + g.cluster - 1) / g.cluster);
    if (clusters.empty() && !bytes.empty())
        return fail(ErrorKind::TooLarge, "the volume has no room for the file", volume.place());
    const std::uint32_t first = clusters.empty() ? 0 : clusters.front();
    set_cluster(entry, g, first);
    entry.size = folder ? 0 : static_cast<std::uint32_t>(content.size());
    if (known) {
        out.push_back({*known, bytes_of(entry)});
    } else {
        const std::u16string units = utf16_from(name);
        // As many as its longest form needs; the short one alone where it says it all.
        const std::size_t wanted = (units.size() + 12) / 13 + 1;
        auto slots = free_slots(volume, directory, wanted);
        if (!slots) return tl::unexpected(slots.error());
        if (slots->places.size() < wanted) {
            auto grown = grow(table, g, parent, wanted, *slots);
            if (!grown) {
                grown.error().place = volume.place();
                return tl::unexpected(grown.error());
            }
            growth = std::move(*grown);
            --freed;
        }
        const auto names = short_name(name, slots->taken);
        if (!names) return fail(ErrorKind::TooLarge, "no short name is left for it", volume.place());
        std::ranges::copy(names->shorter, entry.name.begin());
        entry.attributes = attributes;
        entry.created_date = entry.modified_date = entry.accessed_date = first_day;
        std::size_t slot = 0;
        if (!names->exact)
            for (const auto& piece : long_name(units, name_checksum(entry.name)))
                growth.put(slots->places[slot++], bytes_of(piece), out);
        growth.put(slots->places[slot], bytes_of(entry), out);
        if (folder) {
            ondisk::FatEntry self = entry;
            std::fill(self.name.begin(), self.name.end(), std::uint8_t{' '});
            self.name[0] = '.';
            std::memcpy(bytes.data(), &self, sizeof(self));
            self.name[1] = '.';
            set_cluster(self, g, parent);
            std::memcpy(bytes.data() + entry_size, &self, sizeof(self));
        }
    }
    bytes.resize(clusters.size() * g.cluster);
    for (std::size_t i = 0; i < clusters.size(); ++i) {
        const auto from = bytes.begin() + static_cast<std::ptrdiff_t>(i * g.cluster);
        out.push_back({g.data_offset + std::uint64_t{clusters[i] - 2} * g.cluster,
                       {from, from + static_cast<std::ptrdiff_t>(g.cluster)}});
    }
    if (!growth.bytes.empty()) out.push_back({growth.at, std::move(growth.bytes)});
    table.add_edits(out);
    if (g.bits == 32)
        if (const auto boot = volume.load<ondisk::FatBoot32>(0); boot && boot->fat32.info_sector != 0) {
            const std::uint64_t at = std::uint64_t{boot->fat32.info_sector} * g.sector;
            auto info = volume.load<ondisk::FatInfo>(at);
            if (info && info->signature == 0x61417272U && info->free_clusters <= g.clusters) {
                info->free_clusters = static_cast<std::uint32_t>(static_cast<std::int64_t>(info->free_clusters) +
                                                                 freed - static_cast<std::int64_t>(clusters.size()));
                out.push_back({at, bytes_of(*info)});
            }
        }
    return out;
}

}  // namespace herberge::fat
