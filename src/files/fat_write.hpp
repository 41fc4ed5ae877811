// SPDX-License-Identifier: MIT
// What the FAT reader and its writer share: the geometry; and what has to change for a new file.
#pragma once

#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include <herberge/files.hpp>

namespace herberge::fat {

/// The geometry a BIOS parameter block describes (specification: "FAT Type Determination").
struct Geometry {
    std::uint32_t sector = 0;   ///< bytes
    std::uint32_t cluster = 0;  ///< bytes
    std::uint64_t fat_offset = 0;
    std::uint64_t fat_bytes = 0;
    unsigned fats = 0;
    std::uint64_t root_offset = 0;  ///< FAT12 and FAT16
    std::uint64_t root_bytes = 0;
    std::uint64_t data_offset = 0;
    std::uint32_t clusters = 0;
    std::uint32_t root_cluster = 0;  ///< FAT32
    unsigned bits = 0;
    std::uint64_t bytes = 0;
    std::uint8_t media = 0;
};

/// None: no FAT.
std::optional<Geometry> geometry(const ByteSource& volume);

/// Of a short name; the pieces of the long name before it carry it.
std::uint8_t name_checksum(std::span<const std::uint8_t> name);

/// What has to change for a directory to have a file (or, with the attribute 10h, an empty directory) of this name and
/// content, in clusters that are free. `directory`: its own pieces; `parent`: its first cluster, 0: the root;
/// `known`: the entry of this name that is there, whose clusters become free.
/// Errors: TooLarge (no room on the volume or in the directory), Malformed (no name), Unsupported.
Result<std::vector<VolumeEdit>> with_entry(const ByteSource& volume, const Geometry& g,
                                           const std::vector<Extent>& directory, std::uint32_t parent,
                                           std::optional<FileId> known, std::string_view name, std::uint8_t attributes,
                                           std::span<const std::uint8_t> content);

}  // namespace herberge::fat
