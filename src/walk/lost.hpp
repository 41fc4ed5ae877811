// SPDX-License-Identifier: MIT
// Systems that an entry names and no partition holds.
#pragma once

#include "walk/routes.hpp"

namespace herberge::walk {

struct LostSystem {
    const Route* route = nullptr;
    std::string wanted;  ///< "UUID=…" or a device name
    bool found = false;  ///< a file system that answers lies outside every partition
    std::string name;    ///< of the system in it; empty: not identified
    std::optional<std::string> place;
    std::string text;
    std::vector<Evidence> evidence;
};

/// The entry's loader or kernel looks for a volume that is not there.
bool names_missing_volume(const Machine& machine, const MenuEntry& entry);

/// For each volume that `homeless` entries name (one element per volume): whether it still lies on a disk.
/// Looks at 1 MiB steps of space that no partition or file system covers; at most 8192 places.
std::vector<LostSystem> find_lost(const Machine& machine, const std::vector<const Route*>& homeless);

/// What the screen shows when the loader gives up on an entry.
std::string entry_screen(const MenuEntry& entry, const Menu& menu);

}  // namespace herberge::walk
