// SPDX-License-Identifier: MIT
#include <herberge/report.hpp>

#include "report/evidence_json.hpp"

namespace herberge {

using nlohmann::ordered_json;
using report::clean;
using report::finish;
using report::text_or_null;

namespace {

std::string_view state_id(UnitOutcome::Kind state) {
    switch (state) {
        case UnitOutcome::Kind::Starts: return "starts";
        case UnitOutcome::Kind::Skipped: return "skipped";
        case UnitOutcome::Kind::Fails: return "fails";
        case UnitOutcome::Kind::Dragged: return "dragged";
        case UnitOutcome::Kind::Untold: return "untold";
    }
    return "";
}

}  // namespace

std::string linux_startup_json(const InstalledSystem& system, const LinuxStart& start) {
    ordered_json out = {{"schema", "herberge/startup-linux/1"},
                        {"system", clean(system.name)},
                        {"place", system.volume->place},
                        {"init", clean(start.init)},
                        {"flavour", clean(start.flavour)},
                        {"level", text_or_null(start.level)},
                        {"asked_by", text_or_null(start.asked_by)},
                        {"steps", ordered_json::array()},
                        {"left_out", start.silent},
                        {"not_followed", ordered_json::array()},
                        {"findings", ordered_json::array()}};
    for (const auto& step : start.steps)
        out["steps"].push_back({{"group", clean(step.group)},
                                {"name", clean(step.name)},
                                {"command", text_or_null(step.command)},
                                {"file", text_or_null(step.file)},
                                {"because", text_or_null(step.because)},
                                {"state", state_id(step.state)},
                                {"text", text_or_null(step.text)},
                                {"evidence", report::to_json(step.evidence)}});
    for (const auto& one : start.not_followed) out["not_followed"].push_back(clean(one));
    for (const auto& finding : start.findings) out["findings"].push_back(report::to_json(finding));
    return finish(out);
}

std::string run_levels_json(const InstalledSystem& system, const LevelTable& table) {
    ordered_json out = {{"schema", "herberge/run-levels/1"},
                        {"system", clean(system.name)},
                        {"place", system.volume->place},
                        {"levels", ordered_json::array()},
                        {"programs", ordered_json::array()}};
    for (const auto& level : table.levels) out["levels"].push_back(clean(level));
    for (const auto& row : table.rows) {
        auto on = ordered_json::array();
        for (std::size_t i = 0; i < table.levels.size(); ++i)
            if (row.on[i]) on.push_back(clean(table.levels[i]));
        out["programs"].push_back({{"name", clean(row.name)}, {"on", std::move(on)}});
    }
    return finish(out);
}

}  // namespace herberge
