// SPDX-License-Identifier: MIT
#include <herberge/report.hpp>

#include "report/outcome_json.hpp"

namespace herberge {

std::string suppose_json(const std::vector<std::string>& supposed, const Machine& machine, const Verdict& verdict,
                         const std::vector<SystemTurn>& turns) {
    nlohmann::ordered_json out = {{"schema", "herberge/suppose/1"}};
    out["supposed"] = nlohmann::ordered_json::array();
    for (const auto& line : supposed) out["supposed"].push_back(report::clean(line));
    out["differences"] = report::to_json(turns);
    out["check"] = nlohmann::ordered_json::parse(check_json(machine, verdict));
    return out.dump(2) + "\n";
}

}  // namespace herberge
