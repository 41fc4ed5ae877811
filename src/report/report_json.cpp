// SPDX-License-Identifier: MIT
#include <herberge/boot_report.hpp>
#include <herberge/report.hpp>

#include "vocabulary/json_text.hpp"

namespace herberge {

std::string report_json(const BootReport& report) {
    using herberge::report::clean;
    using nlohmann::ordered_json;
    const auto& from = report.origin;
    ordered_json out = {{"schema", "herberge/report/1"},
                        {"made_by", clean(from.made_by)},
                        {"made_at", from.made_at},
                        {"seconds", from.seconds}};
    out["options"] = ordered_json::array();
    for (const auto& option : from.options) out["options"].push_back(clean(option));
    out["images"] = ordered_json::array();
    for (const auto& image : from.images)
        out["images"].push_back(
            {{"path", clean(image.path)},
             {"size", image.size},
             {"modified", image.modified != 0 ? ordered_json(image.modified) : ordered_json(nullptr)},
             {"sha256", herberge::report::text_or_null(image.sha256)}});
    // Each part is a document with a contract of its own, as the command of that name gives it.
    out["check"] = ordered_json::parse(check_json(report.machine, report.verdict));
    out["layout"] = ordered_json::parse(layout_json(report.machine));
    out["systems"] = ordered_json::parse(systems_json(report.verdict));
    out["entries"] = ordered_json::parse(entries_json(report.verdict.menus, report.boot_options));
    out["mend"] = report.mendings ? ordered_json::parse(mend_json(*report.mendings)) : ordered_json(nullptr);
    return out.dump(2) + "\n";
}

}  // namespace herberge
