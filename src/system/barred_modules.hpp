// SPDX-License-Identifier: MIT
// Modules that somebody keeps from being loaded.
#pragma once

#include <map>
#include <string>
#include <string_view>

#include <herberge/artifact.hpp>
#include <herberge/system.hpp>

namespace herberge {

/// Those that the RAM disk's files for modprobe (modprobe.d(5)) or the command line keep back, each with who says so:
/// module_blacklist= bars the kernel's own loading, "install … /bin/false" every attempt; "blacklist",
/// modprobe.blacklist= and dracut's rd.driver.blacklist= bar drivers of disks, which are loaded because a device is
/// there, unless a list of what to load names them. '-' in names is '_'. `ramdisk` may be null.
[[nodiscard]] std::map<std::string, std::string> barred_modules(const Ramdisk* ramdisk, const CommandLine& arguments);

}  // namespace herberge
