// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/system.hpp>

namespace herberge {

/// What a live medium's RAM disk says when it has no root to go on with.
inline constexpr const char* no_medium = "Unable to find a medium containing a live file system";

/// A medium to install or to run a system from, by its marks; none: not one.
[[nodiscard]] std::optional<InstalledSystem> identify_medium(const Volume& volume);

}  // namespace herberge
