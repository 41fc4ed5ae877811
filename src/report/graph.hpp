// SPDX-License-Identifier: MIT
#pragma once

#include <string>
#include <string_view>

#include <herberge/chain.hpp>

namespace herberge::report {

/// Colours of a drawing, as CSS has them.
struct Palette {
    std::string_view paper = "#ffffff";
    std::string_view box = "#f5f7f8";
    std::string_view ink = "#1c2530";
    std::string_view plain = "#3b4a5a";
    std::string_view good = "#1a7f4b";
    std::string_view bad = "#b3261e";
};

/// Who starts whom, as an SVG element.
[[nodiscard]] std::string draw_graph(const Verdict& verdict, const Palette& palette);

}  // namespace herberge::report
