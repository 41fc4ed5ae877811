// SPDX-License-Identifier: MIT
// Firmware that reads a FAT in blocks of many sectors: what lies beside a lost sector is lost to it as well.
#pragma once

#include <optional>
#include <string>

#include <herberge/storage.hpp>

namespace herberge {

/// A lost sector that is none of the file's at `path`, its directories' and their clusters' entries in the table, but
/// lies in a block with one of them: EDK II reads the data in blocks of 64 KiB from the root directory on, and the
/// table in blocks of 32 KiB (8 KiB each on FAT12), and gives up what lies in one that the medium does not give whole
/// (FatPkg/EnhancedFatDxe/DiskCache.c; really started). Other firmware may have its own driver. None: no such sector,
/// no FAT, no such file.
[[nodiscard]] std::optional<Error> lost_beside(const Volume& volume, const std::string& path);

/// What is said of it: "; but firmware … does not get it: …".
[[nodiscard]] std::string lost_beside_text(const std::string& path);

}  // namespace herberge
