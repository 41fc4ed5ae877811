// SPDX-License-Identifier: MIT
#pragma once

#include <string>
#include <string_view>

#include <herberge/bytes.hpp>

namespace herberge::report {

/// Text from an image, printable, for HTML and XML: between tags, and in quoted attributes.
inline std::string escaped(std::string_view text) {
    std::string out;
    for (const char c : shown(text)) {
        if (c == '&') out += "&amp;";
        else if (c == '<') out += "&lt;";
        else if (c == '>') out += "&gt;";
        else if (c == '"') out += "&quot;";
        else out += c;
    }
    return out;
}

}  // namespace herberge::report
