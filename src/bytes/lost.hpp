// SPDX-License-Identifier: MIT
// Whether the medium gives all of a file that a machine reads from its begin to its end.
#pragma once

#include <cstdint>
#include <limits>
#include <optional>

#include <herberge/bytes.hpp>

namespace herberge {

/// Why the medium does not give all `length` bytes of `source` from `offset` on (as many as there are); none: it gives
/// them, or what keeps them from being read is something else.
[[nodiscard]] std::optional<Error> lost_within(const ByteSource& source, std::uint64_t offset = 0,
                                               std::uint64_t length = std::numeric_limits<std::uint64_t>::max());

/// `base` as a program has it that goes on where a reading fails: zeros stand for the sectors (512 bytes of the base,
/// counted from its begin) that the medium does not give. Other errors stay.
[[nodiscard]] Source zeros_for_losses(Source base);

}  // namespace herberge
