// SPDX-License-Identifier: MIT
// Systems that an entry names and no partition holds.
#pragma once

#include "walk/routes.hpp"

namespace herberge::walk {

struct LostSystem {
    std::vector<const Route*> routes;  ///< whose entries name it
    std::string wanted;                ///< "UUID=…" or a device name
    bool found = false;                ///< a file system that answers lies outside every partition
    std::string name;                  ///< of the system in it; empty: not identified
    std::optional<std::string> place;
    std::string text;
    std::vector<Evidence> evidence;
};

/// The entry's loader or kernel looks for a volume that is not there.
bool names_missing_volume(const Machine& machine, const MenuEntry& entry);

/// For each volume that `homeless` entries name (one element per volume): whether it still lies on a disk.
/// Looks at 1 MiB steps of space that no partition or file system covers; at most 8192 places.
std::vector<LostSystem> find_lost(const Machine& machine, const std::vector<const Route*>& homeless);

/// A volume that nothing shows any more may have been here: a partition in which nothing is recognised, or space of at
/// least 16 MiB that no partition covers.
[[nodiscard]] bool room_for_a_volume(const Machine& machine);
/// The partition in which the entry's loader looked for its files and in which nothing is recognised any more; none:
/// the entry leads to no such partition.
[[nodiscard]] std::optional<std::string> blank_partition_of(const Machine& machine, const MenuEntry& entry);

/// What the screen shows when the loader gives up on an entry.
std::string entry_screen(const MenuEntry& entry, const Menu& menu);

}  // namespace herberge::walk
