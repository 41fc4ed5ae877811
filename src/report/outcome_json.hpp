// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/compare.hpp>

#include "vocabulary/json_text.hpp"

namespace herberge::report {

inline nlohmann::ordered_json to_json(const Outcome& outcome) {
    return {{"starts", starts_id(outcome.starts)},
            {"stops_at",
             outcome.stops_at ? nlohmann::ordered_json(stage_id(*outcome.stops_at)) : nlohmann::ordered_json(nullptr)},
            {"entry", text_or_null(outcome.entry)},
            {"symptom", text_or_null(outcome.symptom)},
            {"reason", text_or_null(outcome.reason)}};
}

inline nlohmann::ordered_json to_json(const std::vector<SystemTurn>& turns) {
    const auto or_null = [](const std::optional<Outcome>& outcome) {
        return outcome ? to_json(*outcome) : nlohmann::ordered_json(nullptr);
    };
    auto out = nlohmann::ordered_json::array();
    for (const auto& one : turns)
        out.push_back({{"name", clean(one.name)},
                       {"place", one.place ? nlohmann::ordered_json(*one.place) : nlohmann::ordered_json(nullptr)},
                       {"turn", turn_id(one.turn)},
                       {"before", or_null(one.before)},
                       {"after", or_null(one.after)}});
    return out;
}

}  // namespace herberge::report
