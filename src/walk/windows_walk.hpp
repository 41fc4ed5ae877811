// SPDX-License-Identifier: MIT
// From an entry that names a Windows system to what must be running.
#pragma once

#include "walk/ladder.hpp"

namespace herberge::walk {

/// Sets the rungs from `entry` on.
void walk_windows(const Machine& machine, const MenuEntry& entry, const Menu& menu, Ladder& ladder);

}  // namespace herberge::walk
