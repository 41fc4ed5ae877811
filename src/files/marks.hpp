// SPDX-License-Identifier: MIT
// Volumes recognised by their superblock whose files are not read.
#pragma once

#include <cstdint>
#include <optional>
#include <vector>

#include <herberge/files.hpp>

namespace herberge {

constexpr std::uint32_t raid_magic = 0xA92B4EFCU;
/// Where a member of `size` bytes may keep the superblock of Linux RAID: version 1.1 at the start, 1.2 at 4 KiB; 1.0,
/// and last 0.90, near the end.
std::vector<std::uint64_t> raid_super_places(std::uint64_t size);

/// What lies around other things: members of arrays and groups, encrypted volumes.
std::optional<VolumeInfo> recognise_layer(const ByteSource& volume);
/// File systems and swap areas.
std::optional<VolumeInfo> recognise_by_mark(const ByteSource& volume);

}  // namespace herberge
