// SPDX-License-Identifier: MIT
#include <herberge/report.hpp>

#include "vocabulary/json_text.hpp"

namespace herberge {

std::string boards_json(const std::vector<const Board*>& boards) {
    using nlohmann::ordered_json;
    ordered_json out = {{"schema", "herberge/boards/1"}};
    out["boards"] = ordered_json::array();
    for (const auto* board : boards) {
        ordered_json one = {{"name", board->name},
                            {"title", board->title},
                            {"processor", processor_name(board->processor)},
                            {"starts", rom_words(board->rom)}};
        one["places"] = ordered_json::array();
        for (const auto at : board->places)
            if (at != no_place) one["places"].push_back(at);
        one["boot_area"] = board->area_at != no_place ? ordered_json(board->area_at) : ordered_json(nullptr);
        one["most_first"] = board->most_first;
        one["console"] = board->console;
        one["source"] = board->source;
        out["boards"].push_back(std::move(one));
    }
    return out.dump(2) + "\n";
}

}  // namespace herberge
