// SPDX-License-Identifier: MIT
// The first program of Allwinner's boards: a header, a sum over all words, code (U-Boot include/sunxi_image.h,
// tools/sunxi_egon.c; what the ROM does: doc/board/allwinner/sunxi.rst).
#pragma once

#include <optional>
#include <string>

#include <herberge/board.hpp>

#include "ondisk/uboot.hpp"

namespace herberge {

struct EgonProgram {
    std::uint64_t at = 0;  ///< bytes from the disk's start
    std::uint64_t length = 0;
    ondisk::EgonHeader header;
    std::uint32_t sum = 0;  ///< what its words add up to, with 5F0A6C39 in place of the checksum
    bool whole = false;     ///< its length is plausible, and all of it lies on the disk
    std::optional<std::uint32_t>
        branch_to;  ///< where its first instruction jumps to, from its start; none: it does not jump
    [[nodiscard]] bool sound() const { return whole && sum == header.checksum; }
};

/// The first place at which the ROM finds the mark; none: at none.
[[nodiscard]] std::optional<EgonProgram> find_egon(const ByteSource& disk, const Board& board);

}  // namespace herberge
