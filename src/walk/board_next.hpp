// SPDX-License-Identifier: MIT
// What a board's first program loads.
#pragma once

#include "firmware/rom.hpp"
#include "loader/uboot/uboot.hpp"
#include "walk/ladder.hpp"

namespace herberge::walk {

/// Looks where the first program does, and gives `start` what it finds. False: it finds none, and the ladder says so.
bool find_next(const Machine& machine, const Board& board, const RomProgram& first, Ladder& ladder,
               loader::uboot::Start& start);

}  // namespace herberge::walk
