// SPDX-License-Identifier: MIT
// The sectors by which SYSLINUX finds its second stage, ldlinux.sys.
#pragma once

#include <cstdint>
#include <optional>
#include <span>

namespace herberge::loader::syslinux {

inline constexpr std::uint32_t patch_magic = 0x3EB202FE;  ///< also what ldlinux.sys sums up to
inline constexpr std::uint64_t most_sectors = 2048;       ///< ldlinux.sys is some 120 sectors

/// What the boot sector's code says: where the second stage begins and which build it expects.
struct BootSector {
    std::uint64_t first = 0;  ///< from the volume's start
    std::uint32_t instance = 0;
    std::uint64_t pointer_at = 0;  ///< byte of the sector that holds the lower half of `first`
    std::uint64_t upper_at = 0;    ///< … the upper half
};
[[nodiscard]] std::optional<BootSector> read_boot_sector(std::span<const std::uint8_t> sector);

/// Where in the second stage's first sector its SyslinuxPatch lies; none: it is not of this build.
[[nodiscard]] std::optional<std::size_t> find_patch(std::span<const std::uint8_t> first, std::uint32_t instance);
/// Where in it the list of the further sectors begins.
[[nodiscard]] std::optional<std::size_t> find_extents(std::span<const std::uint8_t> first);

}  // namespace herberge::loader::syslinux
