// SPDX-License-Identifier: MIT
#include <herberge/difference.hpp>

#include "report/outcome_json.hpp"
#include "vocabulary/json_text.hpp"

namespace herberge {

std::string comparison_json(const Comparison& comparison) {
    using nlohmann::ordered_json;
    using report::clean;
    using report::text_or_null;
    ordered_json out = {{"schema", "herberge/compare/1"}, {"alike", comparison.alike()}};
    out["systems"] = report::to_json(comparison.systems);
    out["differences"] = ordered_json::array();
    for (const auto& one : comparison.differences) {
        ordered_json told = {{"stage", stage_id(one.stage)},       {"kind", difference_id(one.kind)},
                             {"place", text_or_null(one.place)},   {"what", clean(one.what)},
                             {"before", text_or_null(one.before)}, {"after", text_or_null(one.after)}};
        told["details"] = ordered_json::array();
        for (const auto& line : one.details) told["details"].push_back(clean(line));
        told["explains"] = one.explains;
        told["decides"] = one.decides;
        out["differences"].push_back(std::move(told));
    }
    return out.dump(2) + "\n";
}

}  // namespace herberge
