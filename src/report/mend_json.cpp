// SPDX-License-Identifier: MIT
#include <herberge/report.hpp>

#include "report/outcome_json.hpp"
#include "vocabulary/json_text.hpp"

namespace herberge {

using nlohmann::ordered_json;
using report::clean;

std::string mend_json(const std::vector<Mending>& mendings) {
    ordered_json out = {{"schema", "herberge/mend/1"}};
    out["systems"] = ordered_json::array();
    int number = 0;
    const auto texts = [](const std::vector<std::string>& list) {
        auto all = ordered_json::array();
        for (const auto& text : list) all.push_back(clean(text));
        return all;
    };
    for (const auto& one : mendings) {
        ordered_json system = {{"name", clean(one.name)},
                               {"place", one.place ? ordered_json(*one.place) : ordered_json(nullptr)},
                               {"before", report::to_json(one.before)}};
        system["proposals"] = ordered_json::array();
        for (const auto& proposal : one.proposals) {
            ordered_json entry = {{"number", ++number},
                                  {"title", clean(proposal.title)},
                                  {"steps", texts(proposal.steps)},
                                  {"risks", texts(proposal.risks)}};
            entry["cures"] = ordered_json::array();
            for (const Code code : proposal.cures) entry["cures"].push_back(code_id(code));
            entry["systems"] = report::to_json(proposal.systems);
            entry["variables"] = ordered_json::array();
            for (const auto& variable : proposal.variables)
                entry["variables"].push_back({{"name", clean(variable.name)},
                                              {"vendor", variable.guid},
                                              {"attributes", variable.attributes},
                                              {"data", hex(variable.data, "")}});
            entry["patch"] = ordered_json::parse(patch_json(proposal.patch));
            system["proposals"].push_back(std::move(entry));
        }
        system["further"] = texts(one.further);
        system["bring"] = report::text_or_null(one.bring);
        out["systems"].push_back(std::move(system));
    }
    return out.dump(2) + "\n";
}

}  // namespace herberge
