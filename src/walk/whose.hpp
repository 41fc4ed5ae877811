// SPDX-License-Identifier: MIT
// Whose entry it is: the system that an entry of a menu starts.
#pragma once

#include <vector>

#include <herberge/loader.hpp>
#include <herberge/system.hpp>

namespace herberge::walk {

/// The entry's file only comes in a Linux kernel's format.
bool is_other_program(const MenuEntry& entry);

/// What the entry's root= leads to. With its RAM disk: names that only that gives count, too.
RootReference named_root(const Machine& machine, const MenuEntry& entry, const Ramdisk* ramdisk = nullptr);

/// The system that `entry` starts: what its root= names, else where its kernel lies; for Windows the directory its
/// entry names. Null: none of `systems`.
const InstalledSystem* system_of(const Machine& machine, const MenuEntry& entry,
                                 const std::vector<InstalledSystem>& systems);

}  // namespace herberge::walk
