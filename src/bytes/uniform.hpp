// SPDX-License-Identifier: MIT
#pragma once

#include <cstdint>
#include <cstring>
#include <span>

namespace herberge {

/// Every byte is this one; so it is of none at all. Compared as memory and not byte by byte: erased flash and empty
/// areas are looked through by the mebibyte.
inline bool holds_only(std::span<const std::uint8_t> bytes, std::uint8_t value) {
    return bytes.empty() ||
           (bytes.front() == value && std::memcmp(bytes.data(), bytes.data() + 1, bytes.size() - 1) == 0);
}

}  // namespace herberge
