// SPDX-License-Identifier: MIT
// The language of U-Boot's commands, as its own shell reads it (common/cli_hush.c): lists, && and ||, if, for, while,
// until, quotes, variables.
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace herberge::loader::uboot {

/// A word as the shell keeps it: its escapes are taken, and the name of a variable stands between two `marker`s.
struct Word {
    static constexpr char marker = '\x03';
    std::string text;
    int line = 1;
    bool quoted = false;  ///< some part of it was: empty, it still is a word, and a variable's value stays one
    [[nodiscard]] bool has_variables() const { return text.find(marker) != std::string::npos; }
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
/// Lines before the one with the mistake are kept: the shell has run them by then. Bounds: 20,000 statements, 32
/// levels, 1 MiB of text.
[[nodiscard]] Script parse_script(std::string_view text);
/// The words of one command, as the shell reads it once more with the values of its variables in place (make_string):
/// blanks, quotes, escapes and remarks count, separators and variables do not. None: a quote is not closed.
[[nodiscard]] std::optional<std::vector<Word>> parse_again(std::string_view text);

/// Where the "=" of a word "name=value" stands, of letters, digits and "_" behind a letter (is_assignment); 0: it is
/// none.
[[nodiscard]] std::size_t assignment_in(std::string_view word);

}  // namespace herberge::loader::uboot
