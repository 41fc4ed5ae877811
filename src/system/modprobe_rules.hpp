// SPDX-License-Identifier: MIT
// What modprobe(8) is told not to load.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include <herberge/artifact.hpp>
#include <herberge/files.hpp>

namespace herberge {

/// A rule of modprobe.d(5) against a module.
struct ModprobeRule {
    std::string module;  ///< '-' is '_'
    /// "install … /bin/false": another command runs in place of each attempt. Otherwise "blacklist": it bars what asks
    /// for the module by an alias, as a device does or the mount of a file system (really started).
    bool replaced = false;
    std::string path;  ///< of the file
    int line = 0;
};

/// Of files by their path, in any order. Of files of the same name the one in /etc counts, then /run's, then
/// /usr/local/lib's, /usr/lib's and /lib's (libkmod/libkmod-config.c, conf_files_insert_sorted; really asked); names
/// that begin with a dot, or end neither in .conf nor in .alias, do not.
[[nodiscard]] std::vector<ModprobeRule> modprobe_rules(
    const std::vector<std::pair<std::string, std::string_view>>& files);
/// Those of a root; files that cannot be read give none.
[[nodiscard]] std::vector<ModprobeRule> modprobe_rules(const FileSystem& root);
/// Those of a RAM disk.
[[nodiscard]] std::vector<ModprobeRule> modprobe_rules(const Ramdisk& ramdisk);

}  // namespace herberge
