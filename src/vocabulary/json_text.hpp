// SPDX-License-Identifier: MIT
#pragma once

#include <algorithm>
#include <nlohmann/json.hpp>
#include <string>
#include <string_view>

#include <herberge/bytes.hpp>

namespace herberge::report {

/// Text from images may be any bytes; JSON wants UTF-8.
inline std::string clean(std::string_view text) {
    std::string out;
    while (!text.empty()) {
        const auto end = std::min(text.find('\n'), text.size());
        out += shown(text.substr(0, end));
        if (end < text.size()) out += '\n';
        text.remove_prefix(std::min(end + 1, text.size()));
    }
    return out;
}

inline nlohmann::ordered_json text_or_null(std::string_view text) {
    return text.empty() ? nlohmann::ordered_json(nullptr) : nlohmann::ordered_json(clean(text));
}

}  // namespace herberge::report
