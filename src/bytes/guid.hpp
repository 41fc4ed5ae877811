// SPDX-License-Identifier: MIT
#pragma once

#include <array>
#include <charconv>
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace herberge {

/// A GUID as it is stored (its first three groups turned round), from its text, with or without braces; none: it is
/// none.
inline std::optional<std::array<std::uint8_t, 16>> guid_bytes(std::string_view text) {
    std::string digits;
    for (const char c : text)
        if (c != '-' && c != '{' && c != '}') digits += c;
    if (digits.size() != 32) return std::nullopt;
    constexpr std::array<std::size_t, 16> order = {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};
    std::array<std::uint8_t, 16> out{};
    for (std::size_t i = 0; i < order.size(); ++i) {
        const char* at = digits.data() + 2 * i;
        const auto [end, error] = std::from_chars(at, at + 2, out.at(order.at(i)), 16);
        if (error != std::errc{} || end != at + 2) return std::nullopt;
    }
    return out;
}

}  // namespace herberge
