// SPDX-License-Identifier: MIT
// U-Boot, once it runs: its environment, and what its boot command starts.
#pragma once

#include <herberge/board.hpp>

#include "loader/family.hpp"

namespace herberge::loader::uboot {

struct Start {
    const Board* board = nullptr;
    Source flash;    ///< a dump beside the disks, where its environment may lie; null: none
    Source program;  ///< U-Boot itself, where it lies on a disk; null: it does not
    std::string program_place;
    Source first;  ///< the program that loads it, where that lies on a disk, too; null: there is none
};

/// Runs its boot command as at the end of the countdown. The run stops in the table, at the configuration, or has a
/// menu.
[[nodiscard]] LoaderRun run(const Machine& machine, const Start& start);

}  // namespace herberge::loader::uboot
