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

/// A dump of NAND flash in which bytes besides its content (the spare area) stand behind each page.
struct NandShape {
    std::uint32_t page = 0;   ///< bytes of content: a power of two from 512 to 16384
    std::uint32_t spare = 0;  ///< behind them: 8 to 2048
    std::uint32_t pages_per_block = 64;
};
/// "2048+64", or "2048+64x128" with the pages of a block. Errors: Malformed.
[[nodiscard]] Result<NandShape> parse_nand_shape(std::string_view text);

/// What such a dump holds.
struct NandDump {
    Source content;                         ///< without the spare areas; bad blocks read as erased
    std::vector<std::uint64_t> bad_blocks;  ///< where in the content each begins: the first page's spare area says so
    std::uint64_t block = 0;                ///< bytes of a block
    /// Each 256 bytes have a Hamming code, as Linux writes it (drivers/mtd/nand/ecc-sw-hamming.c): one wrong bit is put
    /// right, a page with more cannot be read. Codes of another kind are not known here: nothing is checked then.
    bool hamming = false;
};
/// Errors: Malformed (no whole number of blocks), Unreadable.
[[nodiscard]] Result<NandDump> open_nand(Source dump, const NandShape& shape);

}  // namespace herberge
