// SPDX-License-Identifier: MIT
// Lists of words with commas between them, as mount options are.
#pragma once

#include <algorithm>
#include <string_view>

namespace herberge {

/// Whether one of the words fits; those behind it are not looked at then.
template <class Fits>
bool any_listed(std::string_view list, Fits fits) {
    while (!list.empty()) {
        const auto end = std::min(list.find(','), list.size());
        if (fits(list.substr(0, end))) return true;
        list.remove_prefix(std::min(end + 1, list.size()));
    }
    return false;
}

inline bool is_listed(std::string_view list, std::string_view word) {
    return any_listed(list, [&](std::string_view one) { return one == word; });
}

}  // namespace herberge
