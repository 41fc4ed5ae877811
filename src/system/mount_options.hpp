// SPDX-License-Identifier: MIT
// What a mount is asked for, and what it meets: a volume that holds something else, options that its driver does not
// know.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include <herberge/system.hpp>

namespace herberge {

/// The first of `options` ("defaults,noatime,comit=5") that no release of this file system's driver takes, as far as
/// Linux 6.12; mount(8) fails then. None: every one is taken, or the driver's options are not listed here.
[[nodiscard]] std::optional<std::string> refused_mount_option(Format format, std::string_view options);

/// The same of a file system in memory (tmpfs(5)), whose sizes and rights are looked at as well.
[[nodiscard]] std::optional<std::string> refused_memory_option(std::string_view options);

/// Why no driver mounts this volume as `type` ("auto": as what it is; mount(8)): it holds no file system, or another
/// one. None: one that it fits, or NTFS, which has drivers of several names.
[[nodiscard]] std::optional<std::string> other_than_asked(const Volume& volume, std::string_view type);

/// The drivers of this kernel ("6.1.0-50-amd64") are among those whose options are listed here.
[[nodiscard]] bool mount_options_known(std::string_view release);

}  // namespace herberge
