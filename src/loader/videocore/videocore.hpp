// SPDX-License-Identifier: MIT
// The Raspberry Pi's own firmware, from its card's first FAT volume to the kernel that it names.
#pragma once

#include <herberge/board.hpp>

#include "loader/family.hpp"

namespace herberge::loader::videocore {

/// The volume that the ROM or EEPROM takes: the first partition with FAT, or the one that its autoboot.txt names; null:
/// there is none.
[[nodiscard]] VolumeRef boot_volume(const Machine& machine);

/// What of the firmware's own files `volume` lacks for that board, in the order in which they run.
[[nodiscard]] std::vector<FileReference> firmware_files(const Volume& volume, const Board& board);

/// Its configuration and what it starts: a menu with one entry, or U-Boot in a kernel's place.
[[nodiscard]] LoaderRun run(const Machine& machine, const Volume& volume, const Board& board);

}  // namespace herberge::loader::videocore
