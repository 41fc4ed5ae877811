// SPDX-License-Identifier: MIT
#include "ondisk/describe.hpp"

#include <algorithm>

namespace herberge::ondisk::detail {

std::string describe_bytes(std::span<const std::uint8_t> bytes) {
    const auto last = std::find_if(bytes.rbegin(), bytes.rend(), [](std::uint8_t b) { return b != 0; });
    const auto used = static_cast<std::size_t>(bytes.rend() - last);
    if (used == 0) return fmt::format("all zero ({} bytes)", bytes.size());
    const auto text = bytes.first(used);
    if (std::all_of(text.begin(), text.end(), [](std::uint8_t b) { return b >= 0x20 && b < 0x7F; }))
        return '"' + std::string(text.begin(), text.end()) + '"';
    constexpr std::size_t shown = 16;
    return hex(bytes.first(std::min(bytes.size(), shown))) +
           (bytes.size() > shown ? fmt::format(" … ({} bytes)", bytes.size()) : "");
}

}  // namespace herberge::ondisk::detail
