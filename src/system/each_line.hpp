// SPDX-License-Identifier: MIT
// Walking over the lines of a configuration.
#pragma once

#include <algorithm>
#include <string_view>

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

}  // namespace herberge
