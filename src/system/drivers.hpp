// SPDX-License-Identifier: MIT
// Where a kernel's driver comes from.
#pragma once

#include <string_view>

#include <herberge/artifact.hpp>
#include <herberge/loader.hpp>
#include <herberge/system.hpp>

namespace herberge::drivers {

/// Three-valued: present, absent, or not told.
enum class Told : std::uint8_t { Yes, No, Unknown };

/// Whether the kernel has `module` built in (`option` of its configuration; empty: not known).
[[nodiscard]] Told builtin(const RootDemand& demand, std::string_view module, std::string_view option);
/// A driver of disks or of what they are attached to: it is loaded because the device is there.
[[nodiscard]] bool is_disk_driver(std::string_view module);
/// A module's name as the kernel has it: '-' is '_'.
[[nodiscard]] std::string module_name(std::string_view written);
/// A command that loads nothing, whether or not it calls that a success.
[[nodiscard]] bool loads_nothing(std::string_view command);
/// A module of the RAM disk that this kernel would load.
[[nodiscard]] bool brings(const Ramdisk* ramdisk, const RootDemand& demand, std::string_view module);

/// What that kernel must bring for the root: its release, its configuration and list of built-in modules, wherever the
/// system keeps them. `root` and `ramdisk` may be null.
[[nodiscard]] RootDemand demand_of(const VolumeRef& root, const FileReference& kernel, const KernelImage& image,
                                   const Ramdisk* ramdisk);

}  // namespace herberge::drivers
