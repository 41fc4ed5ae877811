// SPDX-License-Identifier: MIT
// The language of U-Boot's commands, as its own shell reads it (common/cli_hush.c): lists, && and ||, if, for, while,
// until, quotes, variables.
#pragma once

#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace herberge::loader::uboot {

/// A piece of a word: literal text, or the name of a variable.
struct Part {
    std::string text;
    bool variable = false;
    bool quoted = false;  ///< its value stays one word
};
struct Word {
    std::vector<Part> parts;
    int line = 1;
    bool quoted = false;  ///< some part of it was: an empty value still is a word
    /// The word's text, where nothing in it is quoted or a variable; else empty.
    [[nodiscard]] std::string_view plain() const {
        return parts.size() == 1 && !parts[0].variable && !quoted ? std::string_view(parts[0].text)
                                                                  : std::string_view{};
    }
};

struct Statement;
using Block = std::vector<Statement>;

struct Statement {
    enum class Kind { Simple, If, For, While, Until };
    enum class Link { Always, And, Or };  ///< when it runs, by what the one before it came to
    Kind kind = Kind::Simple;
    Link link = Link::Always;
    int line = 1;
    std::vector<Word> words;                        ///< Simple: command and arguments; For: the values
    std::string variable;                           ///< For
    std::vector<std::pair<Block, Block>> branches;  ///< If: condition and what follows; While, Until: the one pair
    Block otherwise;                                ///< If
};

/// What could be read of a text, and whether it ended in a mistake.
struct Script {
    Block block;
    std::string error;  ///< empty: none
    int error_line = 0;
};
/// Bounds: 20,000 statements, 32 levels, 1 MiB of text.
[[nodiscard]] Script parse_script(std::string_view text);

}  // namespace herberge::loader::uboot
