// SPDX-License-Identifier: MIT
// Text that is put together line by line.
#pragma once

#include <string>
#include <string_view>

#include <herberge/bytes.hpp>

#include "terminal.hpp"

namespace tool {

struct Page {
    const Terminal& terminal;
    std::string out;

    void line(std::string_view text = {}) {
        out += text;
        out += '\n';
    }
    /// Wrapped, every line `indent` columns in; `mark` stands before the first.
    void indented(std::size_t indent, std::string_view mark, std::string_view text, Ink ink = Ink::Plain) {
        const std::size_t room = terminal.width() > indent + 20 ? terminal.width() - indent : 40;
        bool first = true;
        for (const auto& part : wrap(herberge::shown(text), room)) {
            const std::string_view here = first ? mark : std::string_view{};
            line(std::string(indent - columns(here), ' ') + std::string(here) + terminal.ink(ink, part));
            first = false;
        }
    }
    void indented(std::size_t indent, std::string_view text, Ink ink = Ink::Plain) { indented(indent, {}, text, ink); }
};

}  // namespace tool
