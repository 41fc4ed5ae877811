// SPDX-License-Identifier: MIT
#pragma once

#include <algorithm>
#include <string>
#include <string_view>
#include <vector>

namespace herberge {

/// A text's lines without their line feeds; one that ends the text begins no further line.
[[nodiscard]] inline std::vector<std::string> lines_of(std::string_view text) {
    std::vector<std::string> out;
    while (!text.empty()) {
        const auto end = std::min(text.find('\n'), text.size());
        out.emplace_back(text.substr(0, end));
        text.remove_prefix(std::min(end + 1, text.size()));
    }
    return out;
}

}  // namespace herberge
