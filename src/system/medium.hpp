// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/system.hpp>

namespace herberge {

/// A medium to install or to run a system from, by its marks; none: not one.
[[nodiscard]] std::optional<InstalledSystem> identify_medium(const Volume& volume);

}  // namespace herberge
