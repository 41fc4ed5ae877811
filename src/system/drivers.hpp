// SPDX-License-Identifier: MIT
// Where a kernel's driver comes from.
#pragma once

#include <string_view>

#include <herberge/system.hpp>

namespace herberge::drivers {

/// Three-valued: present, absent, or not told.
enum class Told : std::uint8_t { Yes, No, Unknown };

/// Whether the kernel has `module` built in (`option` of its configuration; empty: not known).
[[nodiscard]] Told builtin(const RootDemand& demand, std::string_view module, std::string_view option);
/// A module of the RAM disk that this kernel would load.
[[nodiscard]] bool brings(const Ramdisk* ramdisk, const RootDemand& demand, std::string_view module);

}  // namespace herberge::drivers
