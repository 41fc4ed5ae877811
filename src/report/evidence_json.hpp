// SPDX-License-Identifier: MIT
// Findings and their evidence, as every document has them; and how it ends.
#pragma once

#include <vector>

#include <herberge/finding.hpp>

#include "vocabulary/json_text.hpp"

namespace herberge::report {

inline nlohmann::ordered_json to_json(const Evidence& e) {
    nlohmann::ordered_json out;
    if (e.range) {
        out["disk"] = e.range->disk;
        out["offset"] = e.range->offset;
        out["length"] = e.range->length;
    }
    if (!e.place.empty()) {
        out["place"] = clean(e.place);
        out["line"] = e.line ? nlohmann::ordered_json(*e.line) : nlohmann::ordered_json(nullptr);
    }
    if (!e.expected.empty()) out["expected"] = clean(e.expected);
    if (!e.found.empty()) out["found"] = clean(e.found);
    return out;
}

inline nlohmann::ordered_json to_json(const std::vector<Evidence>& list) {
    auto out = nlohmann::ordered_json::array();
    for (const auto& e : list) out.push_back(to_json(e));
    return out;
}

inline nlohmann::ordered_json to_json(const Finding& f) {
    nlohmann::ordered_json out = {{"code", code_id(f.code)},
                                  {"stage", stage_id(f.stage)},
                                  {"severity", severity_id(f.severity)},
                                  {"text", clean(f.text)},
                                  {"evidence", to_json(f.evidence)}};
    if (!f.symptom.empty()) out["symptom"] = clean(f.symptom);
    return out;
}

/// A whole document as it is written.
inline std::string finish(const nlohmann::ordered_json& document) {
    return document.dump(2, ' ', false, nlohmann::ordered_json::error_handler_t::replace) + "\n";
}

}  // namespace herberge::report
