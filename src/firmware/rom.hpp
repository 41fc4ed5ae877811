// SPDX-License-Identifier: MIT
// What the ROM of a board finds on the machine's first disk, and whether it starts it.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include <herberge/artifact.hpp>
#include <herberge/board.hpp>
#include <herberge/finding.hpp>

namespace herberge {

/// A first program, as the ROM judges it.
struct RomProgram {
    std::string where;               ///< "byte 8192", "d1p1:/MLO"
    Source source;                   ///< from its head on, as far as it goes
    std::uint64_t at = 0;            ///< its head, from the disk's start; of a file: where its first byte lies
    std::uint64_t length = 0;        ///< what the ROM loads of it, its head included
    VolumeRef volume;                ///< where it is a file; null: it is none
    Source area;                     ///< the eMMC's boot area partition that it lies in; null: it lies in none
    bool whole = false;              ///< nothing is looked for behind it: it holds the loader itself
    std::optional<Finding> refused;  ///< the ROM does not start it, or starts into nothing
    State state = State::Holds;
    std::string text;  ///< what of it holds
    std::vector<Evidence> evidence;
};

struct RomSearch {
    /// The one that the ROM starts; where it starts none, the first that it refuses.
    std::optional<RomProgram> program;
    std::vector<Evidence> looked;  ///< where nothing was found
    std::vector<Finding> passed;   ///< what it refused before it came to `program`
};

/// A machine without a first disk that can be read gives nothing.
[[nodiscard]] RomSearch search_rom(const Machine& machine, const Board& board);

/// What the families share.
namespace rom {

inline constexpr std::uint64_t sector = 512;  ///< bytes; what the ROMs count in

/// A first program of `size` bytes, with the place that says so.
[[nodiscard]] Finding too_large(const Board& board, std::uint64_t size, Evidence evidence);
[[nodiscard]] Finding damaged(std::string text, std::vector<Evidence> evidence);
/// Code begins at `at` of `source`: nothing but 00 or FF there is none. Without a finding: it may be.
[[nodiscard]] std::optional<Finding> no_code(const ByteSource& source, std::uint64_t at);
/// A program of `length` bytes behind the end of what it lies on.
[[nodiscard]] std::optional<Finding> cut(const ByteSource& source, std::uint64_t length);
/// Keeps the first program that is started, or that is refused where none is.
void take(RomSearch& out, RomProgram program);
/// Whether a program carries these words.
[[nodiscard]] bool says(const ByteSource& source, std::uint64_t length, std::string_view words);

using Search = RomSearch (*)(const Machine& machine, const Board& board);
RomSearch egon(const Machine& machine, const Board& board);
RomSearch rockchip(const Machine& machine, const Board& board);
RomSearch imx(const Machine& machine, const Board& board);
RomSearch ti(const Machine& machine, const Board& board);
RomSearch stm32(const Machine& machine, const Board& board);
RomSearch zynq(const Machine& machine, const Board& board);
RomSearch amlogic(const Machine& machine, const Board& board);
RomSearch by_type(const Machine& machine, const Board& board);

}  // namespace rom

}  // namespace herberge
