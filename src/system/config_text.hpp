// SPDX-License-Identifier: MIT
// Walking over the lines of a configuration, and the words of a line.
#pragma once

#include <algorithm>
#include <string>
#include <string_view>
#include <vector>

namespace herberge {

/// Calls `visit` with each line's number, from 1, and the line without its end.
template <class Visit>
void each_line(std::string_view text, const Visit& visit) {
    for (int number = 1; !text.empty(); ++number) {
        const auto line = text.substr(0, text.find('\n'));
        text.remove_prefix(std::min(line.size() + 1, text.size()));
        visit(number, line);
    }
}

/// What blanks separate.
inline std::vector<std::string> blank_words(std::string_view line) {
    constexpr std::string_view blanks = " \t\r";
    std::vector<std::string> out;
    for (auto from = line.find_first_not_of(blanks); from != std::string_view::npos;
         from = line.find_first_not_of(blanks)) {
        line.remove_prefix(from);
        const auto end = std::min(line.find_first_of(blanks), line.size());
        out.emplace_back(line.substr(0, end));
        line.remove_prefix(end);
    }
    return out;
}

}  // namespace herberge
