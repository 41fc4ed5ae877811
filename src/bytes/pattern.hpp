// SPDX-License-Identifier: MIT
// Extended regular expressions of POSIX (IEEE 1003.1, chapter 9), for what has them in its settings and commands.
#pragma once

#include <bitset>
#include <cstdint>
#include <optional>
#include <string_view>
#include <utility>
#include <vector>

namespace herberge {

/// A pattern of up to 512 bytes: characters, dots, sets with ranges and classes, groups, alternatives, anchors,
/// repetitions.
class Pattern {
public:
    /// None: it is none of those, or no pattern at all.
    static std::optional<Pattern> parse(std::string_view text);

    enum class Outcome : std::uint8_t {
        Fits,
        FitsNot,
        Untold,  ///< it takes more than 200,000 steps, or the text is longer than 2 KiB
    };
    struct Match {
        Outcome outcome = Outcome::FitsNot;
        /// What the whole and each group stand for: first byte and length; of a group that takes no part, {0, 0}.
        std::vector<std::pair<std::size_t, std::size_t>> groups;
    };
    /// The first place of `text` that it fits.
    [[nodiscard]] Match match(std::string_view text) const;

private:
    struct Item;
    using Sequence = std::vector<Item>;
    struct Item {
        enum class Kind : std::uint8_t { Set, Begin, End, Group } kind = Kind::Set;
        std::bitset<256> set;
        std::vector<Sequence> alternatives;  ///< of a group
        std::size_t group = 0;               ///< its number
        unsigned least = 1, most = 1;
    };
    class Parser;
    class Matcher;
    Item whole_;  ///< group 0
    std::size_t groups_ = 1;
};

}  // namespace herberge
