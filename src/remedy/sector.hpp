// SPDX-License-Identifier: MIT
#pragma once

#include <cstdint>

namespace herberge::remedy {

/// What tables, boot code and lists of sectors count in, in bytes.
inline constexpr std::uint64_t sector = 512;

}  // namespace herberge::remedy
