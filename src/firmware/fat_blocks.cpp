// SPDX-License-Identifier: MIT
#include "firmware/fat_blocks.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "bytes/lost.hpp"
#include "files/fat_write.hpp"

namespace herberge {

namespace {

/// Where the driver's blocks lie that hold a part of the volume, and whether the medium gives them.
class Blocks {
public:
    Blocks(const ByteSource& volume, const fat::Geometry& geometry) : volume_(volume), g_(geometry) {
        const std::uint64_t end = std::min(g_.bytes, volume_.size());
        const bool small = g_.bits == 12;
        // The data's blocks are counted from behind the tables, where the root directory of FAT12 and FAT16 lies.
        data_ = {g_.fat_offset + g_.fats * g_.fat_bytes, end, std::uint64_t{small ? 8U : 64U} << 10U};
        table_ = {g_.fat_offset, g_.fat_offset + g_.fat_bytes, std::uint64_t{small ? 8U : 32U} << 10U};
    }

    /// The first lost byte in the blocks that hold these bytes of a file or a directory, or their clusters' entries.
    [[nodiscard]] std::optional<Error> lost_around(const Extent& extent) const {
        if (auto lost = in(data_, extent.base_offset, extent.length)) return lost;
        if (extent.base_offset < g_.data_offset) return std::nullopt;
        const auto entry = [&](std::uint64_t byte) {
            return g_.fat_offset + ((byte - g_.data_offset) / g_.cluster + 2) * g_.bits / 8;
        };
        const std::uint64_t first = entry(extent.base_offset);
        return in(table_, first, entry(extent.base_offset + extent.length - 1) + 2 - first);
    }

    /// The mark of a clean volume is the table's second entry.
    [[nodiscard]] std::optional<Error> lost_at_the_begin() const { return in(table_, g_.fat_offset, 4); }

private:
    struct Area {
        std::uint64_t begin = 0, end = 0, block = 1;
    };

    [[nodiscard]] std::optional<Error> in(const Area& area, std::uint64_t at, std::uint64_t length) const {
        if (at < area.begin || length == 0) return std::nullopt;
        const std::uint64_t from = area.begin + (at - area.begin) / area.block * area.block;
        const std::uint64_t last = area.begin + (at + length - 1 - area.begin) / area.block * area.block;
        // Those between are the file's own from end to end.
        for (const std::uint64_t block : {from, last})
            if (auto lost = lost_within(volume_, block, std::min(block + area.block, area.end) - block)) return lost;
        return std::nullopt;
    }

    const ByteSource& volume_;
    const fat::Geometry& g_;
    Area data_, table_;
};

}  // namespace

std::optional<Error> lost_beside(const Volume& volume, const std::string& path) {
    const FileSystem* fs = volume.files(Observer::Uefi);
    const auto geometry = fs != nullptr ? fat::geometry(*volume.source) : std::nullopt;
    if (!geometry || !fs->info().is(Family::Fat)) return std::nullopt;
    const Blocks blocks(*volume.source, *geometry);
    if (auto lost = blocks.lost_at_the_begin()) return lost;
    // The root, each directory on the way, the file.
    for (std::size_t end = 0; end != std::string::npos;) {
        end = path.find('/', end + 1);
        const auto found = resolve(*fs, end == std::string::npos ? path : path.substr(0, end));
        const auto extents = found ? fs->extents(found->file.id) : tl::unexpected(found.error());
        if (!extents) return std::nullopt;
        for (const auto& extent : *extents)
            if (auto lost = blocks.lost_around(extent)) return lost;
    }
    const auto root = fs->extents(fs->root());
    if (!root) return std::nullopt;
    for (const auto& extent : *root)
        if (auto lost = blocks.lost_around(extent)) return lost;
    return std::nullopt;
}

std::string lost_beside_text(const std::string& path) {
    return fmt::format(
        "; but a sector beside {} cannot be read, and firmware that reads a FAT in blocks of 64 KiB, as "
        "EDK II does, does not get it then",
        path);
}

}  // namespace herberge
