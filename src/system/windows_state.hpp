// SPDX-License-Identifier: MIT
// What a Windows keeps of its last starts, and has put off until the next one.
#pragma once

#include <map>
#include <optional>
#include <vector>

#include <herberge/hive.hpp>
#include <herberge/startup.hpp>

#include "system/windows_commands.hpp"

namespace herberge {

/// From `directory`/bootstat.dat: its first bytes are a version, the product's kind, and then whether the last start
/// went well and was ended regularly. None: no such file, or values that are neither yes nor no.
[[nodiscard]] std::optional<LastStart> read_boot_status(const FileSystem& fs, const std::string& directory);

/// PendingFileRenameOperations of a control set, and the second value of that name, in order.
[[nodiscard]] std::vector<WindowsRename> pending_renames(const Hive& system, const std::string& control_set);

/// What these leave at the paths that they touch (in lower case): the path whose content it is; empty: nothing is
/// there.
[[nodiscard]] std::map<std::string, std::string> after_renames(const std::vector<WindowsRename>& renames,
                                                               const WindowsCommands& commands, const FileSystem& fs);

/// The numbers of the control sets that the hive has.
[[nodiscard]] std::vector<std::uint32_t> control_sets_of(const Hive& system);

}  // namespace herberge
