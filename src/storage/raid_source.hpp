// SPDX-License-Identifier: MIT
// The bytes of a RAID from those of its members.
#pragma once

#include <optional>

#include <herberge/bytes.hpp>

namespace herberge {

inline constexpr std::size_t most_raid_members = 384;

/// How the data goes round.
struct RaidShape {
    static constexpr int linear = -1;
    int level = 1;             ///< linear, 0, 1, 4, 5, 6, 10
    std::uint32_t layout = 2;  ///< of levels 5, 6 and 10, as the kernel numbers them
    std::uint64_t chunk = 0;   ///< bytes; not of levels linear and 1
    std::uint64_t size = 0;    ///< bytes used of each member
};

/// `members` in the order of their roles; null: missing. What a missing one had is computed from the others. Errors:
/// NotFound (too few members), Unsupported (a layout that is not known), Malformed (a shape that cannot be).
[[nodiscard]] Result<Source> raid_source(const RaidShape& shape, std::vector<Source> members, std::string place);

}  // namespace herberge
