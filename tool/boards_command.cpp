// SPDX-License-Identifier: MIT
// Boards that are known, or that a medium fits.
#include <fmt/format.h>
#include <cstdio>

#include "commands.hpp"
#include "inputs.hpp"
#include "views.hpp"

namespace tool {

using namespace herberge;

int run_boards(const Options& options) {
    std::vector<const Board*> shown;
    if (options.images.empty()) {
        for (const auto& board : boards()) shown.push_back(&board);
    } else {
        Inputs opened;
        if (!opened.open(options)) return opened.status;
        shown = fitting_boards(opened.machine);
        if (options.stats) opened.stats();
    }
    const Terminal terminal;
    const auto page = options.format == "json" ? boards_json(shown) : boards_text(shown, terminal);
    std::fwrite(page.data(), 1, page.size(), stdout);
    return shown.empty() ? Exit::some_fail : Exit::all_start;
}

std::string boards_text(const std::vector<const Board*>& all, const Terminal& terminal) {
    if (all.empty())
        return "no board that is known would start something from here (those with U-Boot in their own flash are not "
               "told by a disk)\n";
    std::string out;
    for (const auto* board : all) {
        out += fmt::format("{}  {}\n", terminal.ink(Ink::Bold, fmt::format("board:{}", board->name)), board->title);
        out += fmt::format("    starts   {}\n", rom_words(board->rom));
        if (board->most_first != 0) {
            std::string places;
            for (const auto at : board->places)
                if (at != herberge::no_place) places += fmt::format("{}{}", places.empty() ? "" : ", then ", at);
            out += fmt::format("    {}at most {} in its first program\n",
                               places.empty() ? "room     " : fmt::format("at       byte {}; ", places),
                               size_text(board->most_first));
            if (board->area_at != herberge::no_place)
                out += fmt::format("             in a boot area of an eMMC (--boot-area): byte {}\n", board->area_at);
        }
        out += fmt::format("    console  {}\n", board->console);
        out += terminal.ink(Ink::Dim, fmt::format("    source   {}", board->source)) + "\n";
    }
    return out;
}

}  // namespace tool
