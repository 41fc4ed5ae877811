// SPDX-License-Identifier: MIT
// GRUB's script language: from lines to a tree (grub-core/script/yylex.l, parser.y, lexer.c).
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace herberge::grub {

/// A piece of a word: literal text or a variable, quoted or not.
struct Part {
    enum class Kind : std::uint8_t { Text, Variable } kind = Kind::Text;
    std::string text;     ///< the text, or the variable's name
    bool quoted = false;  ///< quoted pieces are neither split nor dropped when empty
};

struct Word {
    std::vector<Part> parts;
    /// The word when it is one bare piece of text: how keywords are told from quoted ones.
    [[nodiscard]] std::string_view bare() const;
};

struct Command;
using Block = std::vector<Command>;
using SharedBlock = std::shared_ptr<const Block>;

struct Command {
    enum class Kind : std::uint8_t { Simple, If, For, While, Until, Function } kind = Kind::Simple;
    int line = 0;
    std::vector<Word> words;              ///< Simple: all words; For: the list
    std::string name;                     ///< For: the variable; Function: its name
    SharedBlock block;                    ///< Simple: the block in braces, if any; For, While, Function: the body
    std::vector<SharedBlock> conditions;  ///< If: of each branch; While, Until: the one
    std::vector<SharedBlock> branches;    ///< If: bodies, one more than conditions when there is an else
};

/// Lines of a file, handed out one by one; lines that begin with '#' are left out, as GRUB's reader does.
class Lines {
public:
    explicit Lines(std::string_view text) : text_(text) {}
    std::optional<std::string> next();
    /// The line last handed out, from 1.
    [[nodiscard]] int number() const { return number_; }

private:
    std::string_view text_;
    int number_ = 0;
};

/// What one call of the parser gave: GRUB parses and runs a file line by line, taking more lines while a
/// construct is open. A syntax error drops the lines taken so far, and reading goes on behind them.
struct Parsed {
    Block commands;
    bool failed = false;
    int line = 0;                       ///< where the error was noticed
    std::vector<std::string> messages;  ///< what GRUB prints then
};

/// Parses `line` and as many of `more` as it needs.
Parsed parse(const std::string& line, Lines& more);

/// The pieces of one word as it stands in a file, for the simple parser that runs embedded configurations.
std::vector<Word> split_words(const std::string& line);

}  // namespace herberge::grub
