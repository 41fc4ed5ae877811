// SPDX-License-Identifier: MIT
// Which features of a file system a GRUB driver lets pass: read from its own code, because distributions carry later
// ones under an older version's number.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/files.hpp>

namespace herberge::grub {

/// The bits of incompatible features that the driver ("ext2", "xfs") lets pass; none: its code does not tell, or it
/// looks at none. `code` is the module's file, of x86.
[[nodiscard]] std::optional<std::uint32_t> accepted_features(std::string_view driver,
                                                             std::span<const std::uint8_t> code);
/// Names of the features for which this driver says "unknown filesystem"; empty: it reads the file system. `accepted`
/// none: only what no GRUB takes.
[[nodiscard]] std::vector<std::string> refused_features(const VolumeInfo& info, std::optional<std::uint32_t> accepted);

}  // namespace herberge::grub
