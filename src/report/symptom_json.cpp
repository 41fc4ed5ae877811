// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include <herberge/report.hpp>

#include "vocabulary/json_text.hpp"

namespace herberge {

namespace {

using nlohmann::ordered_json;
using report::clean;

ordered_json to_json(const SeenNumber& number) {
    ordered_json out = {{"written", clean(number.written)},
                        {"kind", number_kind_name(number.kind)},
                        {"value", number.value},
                        {"name", nullptr},
                        {"meaning", nullptr}};
    if (number.known != nullptr) {
        if (!number.known->name.empty()) out["name"] = number.known->name;
        out["meaning"] = number.known->meaning;
    }
    return out;
}

ordered_json to_json(const Cause& cause) {
    ordered_json out = {{"code", code_id(cause.code)},
                        {"meaning", finding_codes()[static_cast<std::size_t>(cause.code)].meaning},
                        {"fit", cause.fit},
                        {"screen", cause.screen},
                        {"line", clean(cause.line)},
                        {"told_apart_by", cause.apart},
                        {"on_this_image", nullptr}};
    if (cause.borne != Borne::Unasked)
        out["on_this_image"] = {{"answer", borne_id(cause.borne)}, {"text", clean(cause.borne_text)}};
    return out;
}

}  // namespace

std::string symptom_json(const SymptomReading& reading) {
    ordered_json out = {{"schema", "herberge/symptom/1"}, {"known", !reading.answers.empty()}};
    out["numbers"] = ordered_json::array();
    for (const auto& number : reading.numbers) out["numbers"].push_back(to_json(number));
    out["milestones"] = ordered_json::array();
    for (const auto& passed : reading.milestones)
        out["milestones"].push_back(
            {{"line", clean(passed.line)}, {"through", stage_id(passed.through)}, {"meaning", passed.meaning}});
    out["answers"] = ordered_json::array();
    for (const auto& answer : reading.answers) {
        ordered_json one = {{"stage", stage_id(answer.stage)}, {"fit", answer.fit}};
        one["why"] = answer.why.empty() ? ordered_json(nullptr) : ordered_json(answer.why);
        one["causes"] = ordered_json::array();
        for (const auto& cause : answer.causes) one["causes"].push_back(to_json(cause));
        out["answers"].push_back(std::move(one));
    }
    out["nearest"] = reading.nearest;
    return out.dump(2) + "\n";
}

}  // namespace herberge
