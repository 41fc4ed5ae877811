// SPDX-License-Identifier: MIT
// Options of mounts: which of them reach the driver of a file system, and whether that knows them.
#pragma once

#include <optional>
#include <string>
#include <string_view>

#include <herberge/files.hpp>

namespace herberge {

/// The first of `options` ("defaults,noatime,comit=5") that no release of this file system's driver takes, as far as
/// Linux 6.12; mount(8) fails then. None: every one is taken, or the driver's options are not listed here.
[[nodiscard]] std::optional<std::string> refused_mount_option(Format format, std::string_view options);

}  // namespace herberge
