// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/system.hpp>

namespace herberge {

/// The recovery environments that lie on a volume where Windows puts them: an imaging file below /Recovery. `directory`
/// is that file.
[[nodiscard]] std::vector<InstalledSystem> find_recovery(const Volume& volume);

}  // namespace herberge
