// SPDX-License-Identifier: MIT
// Inits that keep programs of a folder running (runit), and an init that is a script of its own.
#pragma once

#include <string>
#include <vector>

#include <herberge/startup.hpp>

namespace herberge {

/// runit(8): its three stages, and what runsvdir(8) keeps running. `level`: a folder below /etc/runit/runsvdir.
[[nodiscard]] Result<LinuxStart> start_supervised(const Volume& root, const InitChoice& init,
                                                  const CommandLine& arguments, const std::string& level);
/// The folders that can be chosen; none where there is only one.
[[nodiscard]] std::vector<std::string> supervised_levels(const FileSystem& fs);
/// Where the services lie. `level` empty: the usual one.
[[nodiscard]] std::string supervised_folder(const FileSystem& fs, const std::string& level);

/// The programs that a script runs by their full path, in its order.
[[nodiscard]] Result<LinuxStart> start_own_script(const Volume& root, const InitChoice& init);

}  // namespace herberge
