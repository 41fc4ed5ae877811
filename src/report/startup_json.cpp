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

ordered_json signature_json(const FileSignature& signature) {
    using Kind = FileSignature::Kind;
    if (signature.kind == Kind::NotLooked) return nullptr;
    const std::string_view state = signature.kind == Kind::Inside      ? "inside"
                                   : signature.kind == Kind::Catalogue ? "catalogue"
                                   : signature.kind == Kind::Broken    ? "broken"
                                                                       : "none";
    return {{"state", state},
            {"signer", text_or_null(signature.by)},
            {"catalogue", text_or_null(signature.catalogue)},
            {"chain_problem", text_or_null(signature.chain_problem)},
            {"signed_at",
             signature.time && signature.time->intact ? ordered_json(signature.time->seconds) : ordered_json(nullptr)}};
}

ordered_json item_json(const StartupItem& item) {
    return {{"phase", startup_phase_name(item.phase)},
            {"name", clean(item.name)},
            {"command", text_or_null(item.command)},
            {"file", text_or_null(item.file)},
            {"present", item.present},
            {"source", clean(item.source)},
            {"signature", signature_json(item.signature)},
            {"starts", item.starts},
            {"note", text_or_null(item.note)},
            {"account", text_or_null(item.account)}};
}

ordered_json number_or_null(std::uint32_t number) { return number != 0 ? ordered_json(number) : ordered_json(nullptr); }

}  // namespace

std::string startup_json(const InstalledSystem& system, const WindowsStartup& start,
                         const std::vector<DriveLetter>& letters) {
    const auto& registry = start.registry;
    ordered_json out = {{"schema", "herberge/startup/1"},
                        {"system", clean(system.name)},
                        {"place", clean(system.volume->place)},
                        {"directory", clean(system.directory)},
                        {"mode", start_mode_id(start.mode)},
                        {"control_sets",
                         {{"used", clean(registry.control_set)},
                          {"last_known_good", number_or_null(registry.last_known_good)},
                          {"failed", number_or_null(registry.failed)},
                          {"present", start.control_sets}}},
                        {"last_start", nullptr},
                        {"items", ordered_json::array()},
                        {"drive_letters", ordered_json::array()},
                        {"findings", ordered_json::array()}};
    if (start.last_start)
        out["last_start"] = {{"succeeded", start.last_start->succeeded}, {"shut_down", start.last_start->shut_down}};
    for (const auto& item : start.items) out["items"].push_back(item_json(item));
    for (const auto& l : letters)
        out["drive_letters"].push_back(
            {{"letter", clean(l.letter)},
             {"place", l.volume != nullptr ? ordered_json(l.volume->place) : ordered_json(nullptr)},
             {"recorded", clean(l.text)}});
    for (const auto& finding : start.findings) out["findings"].push_back(report::to_json(finding));
    return finish(out);
}

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
