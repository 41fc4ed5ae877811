// SPDX-License-Identifier: MIT
// Boards: what their ROM starts, and from where.
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <string_view>
#include <vector>

#include <herberge/artifact.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// What runs when a board is switched on.
enum class BoardRom : std::uint8_t {
    Uboot,  ///< U-Boot itself lies in ROM or flash: it looks at partitions at once
    Egon,   ///< Allwinner: a program with the mark eGON.BT0
};

/// One row of the table of boards. Offsets and sizes are in bytes.
struct Board {
    std::string_view name;   ///< behind "board:" on the command line
    std::string_view title;  ///< for people
    Processor processor;
    BoardRom rom;
    std::array<std::uint64_t, 2> places;  ///< where the ROM looks for its first program; 0: not used
    std::uint64_t most_first;             ///< on-chip RAM for the first program; 0: none is loaded
    std::string_view medium;              ///< U-Boot's name for what the disks are: "virtio", "mmc"
    std::string_view compatible;     ///< of U-Boot's own device tree, best first, blanks between; empty: as it says
    std::uint64_t ram_at, ram_size;  ///< where memory begins, and the least that there is
    std::string_view console;        ///< the kernel's name for the usual serial line
    std::string_view source;         ///< where this is written
};
[[nodiscard]] std::span<const Board> boards();
/// Null: no such board.
[[nodiscard]] const Board* find_board(std::string_view name);
/// What the ROM of `board` looks for, for people.
[[nodiscard]] std::string_view rom_words(BoardRom rom);
/// The boards whose ROM would start something from the machine's first disk, by what lies there; those with U-Boot in
/// ROM are not among them.
[[nodiscard]] std::vector<const Board*> fitting_boards(const Machine& machine);

}  // namespace herberge
