// SPDX-License-Identifier: MIT
// Lines of configurations.
#pragma once

#include <algorithm>
#include <string_view>

namespace herberge::loader {

/// Without the blanks and control characters at both ends.
inline std::string_view trim(std::string_view text) {
    while (!text.empty() && static_cast<unsigned char>(text.front()) <= ' ') text.remove_prefix(1);
    while (!text.empty() && static_cast<unsigned char>(text.back()) <= ' ') text.remove_suffix(1);
    return text;
}

/// Visits lines of "key value" with their numbers from 1, as entry files by the Boot Loader Specification have them;
/// empty ones and remarks are left out.
template <class Visit>
void each_pair(std::string_view text, const Visit& visit) {
    int number = 0;
    while (!text.empty()) {
        const auto end = std::min(text.find('\n'), text.size());
        const auto line = trim(text.substr(0, end));
        text.remove_prefix(std::min(end + 1, text.size()));
        ++number;
        if (line.empty() || line.front() == '#') continue;
        const auto space = std::min(line.find_first_of(" \t"), line.size());
        visit(line.substr(0, space), trim(line.substr(space)), number);
    }
}

}  // namespace herberge::loader
