// SPDX-License-Identifier: MIT
// Who may come in once a Linux is up: nothing of it stops the start, but the person at the screen stands before a
// closed door.
#pragma once

#include <span>
#include <string>
#include <vector>

#include <herberge/system.hpp>

namespace herberge {

/// What is wrong with the programs that ask for a login (`terminals`), with accounts, shells and PAM.
[[nodiscard]] std::vector<Finding> judge_logins(const Volume& root, const InitChoice& init,
                                                std::span<const std::string> terminals);
/// Emergency mode asks for root's password: why nobody is let in there. None: root has one, or that cannot be told.
[[nodiscard]] std::optional<Finding> no_way_into_emergency(const Volume& root);
/// SELinux: a policy that is to be enforced and is not there, and a mark that asks for labels anew.
[[nodiscard]] std::vector<Finding> judge_selinux(const Volume& root, const CommandLine& arguments);

}  // namespace herberge
