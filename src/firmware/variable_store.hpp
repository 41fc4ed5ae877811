// SPDX-License-Identifier: MIT
#pragma once

#include <cstdint>
#include <optional>
#include <span>

namespace herberge::uefi {

/// Before each variable of a store.
inline constexpr std::uint16_t variable_mark = 0x55AA;

/// Where a variable store begins that is formatted.
struct StorePlace {
    std::size_t at = 0;
    std::size_t size = 0;
    bool authenticated = false;
};
/// None: nowhere.
[[nodiscard]] std::optional<StorePlace> find_store(std::span<const std::uint8_t> flash);
/// The firmware has begun to write the store anew, and will go on with that.
[[nodiscard]] bool write_pending(std::span<const std::uint8_t> flash, const StorePlace& store);

}  // namespace herberge::uefi
