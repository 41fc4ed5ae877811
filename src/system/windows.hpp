// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/hive.hpp>
#include <herberge/system.hpp>

namespace herberge {

/// Every Windows installation on a volume.
std::vector<InstalledSystem> find_windows(const Volume& volume);

/// A hive of an installation with its logs; `name` is SYSTEM, SOFTWARE …
Result<std::shared_ptr<const Hive>> open_windows_hive(const Volume& volume, const std::string& directory,
                                                      const std::string& name);

/// The letter that an installation has for its own volume, by its SOFTWARE hive; C where that does not tell.
char windows_letter(const Volume& volume, const std::string& directory);

}  // namespace herberge
