// SPDX-License-Identifier: MIT
// FAT12, FAT16, FAT32 with long names.
#pragma once

#include <optional>

#include <herberge/files.hpp>

namespace herberge {

/// Seconds since 1970 of a date and a time as FAT and exFAT have them, taken as UTC; 0 for no date.
std::int64_t fat_time(std::uint16_t date, std::uint16_t time);

/// Judges by the BIOS parameter block; a FAT needs no 55AA and no jump.
std::optional<VolumeInfo> recognise_fat(const ByteSource& volume);

/// File numbers are the byte position of the directory entry in the volume; the root directory is 0.
Result<std::shared_ptr<const FileSystem>> open_fat(const Source& volume, Reader reader);

}  // namespace herberge
