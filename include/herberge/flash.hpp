// SPDX-License-Identifier: MIT
// Raw flash that is divided by words, not by a table on it.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/error.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// A part of a flash, in bytes from its start.
struct FlashPart {
    std::string name;  ///< empty: none
    std::uint64_t at = 0, size = 0;
    int line = 0;  ///< in the order of the words, from 0: as Linux counts them
};

/// What the kernel's command line says behind `mtdparts=` (Linux drivers/mtd/parsers/cmdlinepart.c), for the first
/// flash that it names: "spi0.0:512k(u-boot),64k@0xF0000(env)ro,-(rootfs)"; the flash's own name may be left out.
/// Errors: Malformed, with the place in the text; OutOfRange (a part that begins behind the flash's end). A part that
/// only ends there is cut, as the kernel does. At most 128 parts.
[[nodiscard]] Result<std::vector<FlashPart>> parse_flash_layout(std::string_view text, std::uint64_t flash_size);

/// Gives a disk these parts in place of what was found on it; their volumes answer to Linux' names for them
/// ("mtdblock0"), counted from `first` on.
void divide_flash(Disk& disk, const std::vector<FlashPart>& parts, int first = 0);
/// It was divided so.
[[nodiscard]] bool is_divided_flash(const Disk& disk);

}  // namespace herberge
