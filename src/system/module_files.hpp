// SPDX-License-Identifier: MIT
#pragma once

#include <string>
#include <vector>

#include <herberge/system.hpp>

namespace herberge {

/// What is wrong with a kernel's modules on its root: none at all beside others, files that modules.dep lists and that
/// are not there, names in lists of what to load (modules-load.d(5), /etc/modules) that this kernel has no module for.
[[nodiscard]] std::vector<Finding> judge_module_files(const Volume& root, const std::string& release);

}  // namespace herberge
