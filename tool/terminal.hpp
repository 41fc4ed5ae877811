// SPDX-License-Identifier: MIT
// What the tool prints with: colours when a person looks, plain text otherwise; wrapping; tables.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include <herberge/lines.hpp>

namespace tool {

enum class Ink { Plain, Bold, Dim, Good, Bad, Warn, Blue };

/// A terminal or a pipe; decides colour (NO_COLOR, TERM=dumb, not a terminal: none) and width.
class Terminal {
public:
    Terminal();
    [[nodiscard]] std::string ink(Ink ink, std::string_view text) const;
    [[nodiscard]] std::size_t width() const { return width_; }
    [[nodiscard]] bool colour() const { return colour_; }

private:
    bool colour_ = false;
    std::size_t width_ = 100;
};

/// Writes a text to the standard output.
void print(const std::string& text);

/// Columns a text takes: code points, none for combining marks (enough for what is printed here).
std::size_t columns(std::string_view text);
std::string pad(std::string text, std::size_t width);
/// Words of `text` in lines of at most `width` columns; words that are too long stay whole.
std::vector<std::string> wrap(std::string_view text, std::size_t width);
using herberge::lines_of;

}  // namespace tool
