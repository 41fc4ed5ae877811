// SPDX-License-Identifier: MIT
// What start-up scripts do, as far as their text tells.
#pragma once

#include <cstdint>
#include <string_view>

namespace herberge {

/// What a start-up script does about all that /etc/fstab lists: "mount -a", with other options between or beside.
enum class MountsAll : std::uint8_t { No, GoesOnWithout, StopsWithout };

[[nodiscard]] MountsAll mounts_everything(std::string_view script);

}  // namespace herberge
