// SPDX-License-Identifier: MIT
// As whom and where a service runs: accounts and folders that its file names (systemd.exec(5)).
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>

#include <herberge/files.hpp>
#include <herberge/units.hpp>

namespace herberge::units {

/// Is this account, or group, known by name? None: others than files may know it (nsswitch.conf(5), sysusers.d(5)), or
/// the medium does not tell. `name` is none of digits alone, which need not be known.
[[nodiscard]] std::optional<bool> knows_account(const FileSystem& fs, std::string_view name, bool group);

/// What keeps each program of a service from running, whatever the program is.
struct Refusal {
    std::string text;                      ///< "its account inn is not in /etc/passwd"
    const UnitSetting* setting = nullptr;  ///< the line that asks for it
};
/// exec_child() of systemd's core/execute.c: User=, Group=, SupplementaryGroups=, WorkingDirectory=. `in_image`: a path
/// that lies on this root while the machine runs, and is not made anew by it.
[[nodiscard]] std::optional<Refusal> judge_credentials(const FileSystem& fs, const Unit& unit,
                                                       const std::function<bool(std::string_view)>& in_image);

}  // namespace herberge::units
