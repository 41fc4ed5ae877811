// SPDX-License-Identifier: MIT
// The error correction that GRUB's i386-pc core image carries (grub-core/lib/reed_solomon.c): GF(256) with the
// polynomial 0x11D, roots a^0 … a^(r-1), each column of 512-byte rows a code word.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>

namespace herberge::grub {

/// Repairs `data` in place with the redundancy that follows it; the number of bytes changed, or nothing when a
/// column has more errors than the redundancy can correct.
std::optional<std::size_t> repair(std::span<std::uint8_t> data, std::span<std::uint8_t> redundancy);

}  // namespace herberge::grub
