// SPDX-License-Identifier: MIT
// What U-Boot's scripts decide by: test, itest, cmp (cmd/test.c, cmd/itest.c, cmd/mem.c of 2023.01).
#include <algorithm>
#include <array>

#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

namespace {

/// simple_strtol of base 0: hexadecimal behind 0x, octal behind 0, digits as far as they go.
long long number_of_any_base(std::string_view text) {
    const bool negative = text.starts_with('-');
    if (negative) text.remove_prefix(1);
    unsigned base = 10;
    const auto digit = [](char c) {
        return c >= '0' && c <= '9'   ? static_cast<unsigned>(c - '0')
               : c >= 'a' && c <= 'f' ? static_cast<unsigned>(c - 'a' + 10)
               : c >= 'A' && c <= 'F' ? static_cast<unsigned>(c - 'A' + 10)
                                      : 16U;
    };
    if (text.size() > 2 && text[0] == '0' && (text[1] == 'x' || text[1] == 'X') && digit(text[2]) < 16) {
        base = 16;
        text.remove_prefix(2);
    } else if (text.starts_with('0')) {
        base = 8;
    }
    std::uint64_t value = 0;
    for (const char c : text) {
        if (digit(c) >= base) break;
        value = value * base + digit(c);
    }
    return static_cast<long long>(negative ? 0 - value : value);
}

enum class Test : std::uint8_t {
    Equal,
    NotEqual,
    Before,
    Behind,
    Eq,
    Ne,
    Lt,
    Le,
    Gt,
    Ge,
    Fits,
    Not,
    Or,
    And,
    Empty,
    NotEmpty,
    Exists
};
/// The table of operators in its order: at which word one is looked for, and how many words it takes.
struct Operator {
    std::size_t at;
    std::string_view text;
    Test test;
    std::size_t words;
};
constexpr Operator operators[] = {
    {1, "=", Test::Equal, 3},   {1, "!=", Test::NotEqual, 3}, {1, "<", Test::Before, 3}, {1, ">", Test::Behind, 3},
    {1, "-eq", Test::Eq, 3},    {1, "-ne", Test::Ne, 3},      {1, "-lt", Test::Lt, 3},   {1, "-le", Test::Le, 3},
    {1, "-gt", Test::Gt, 3},    {1, "-ge", Test::Ge, 3},      {1, "=~", Test::Fits, 3},  {0, "!", Test::Not, 1},
    {0, "-o", Test::Or, 1},     {0, "-a", Test::And, 1},      {0, "-z", Test::Empty, 2}, {0, "-n", Test::NotEmpty, 2},
    {0, "-e", Test::Exists, 4},
};

bool holds(Test test, const std::string& a, const std::string& b) {
    const auto x = number_of_any_base(a), y = number_of_any_base(b);
    switch (test) {
        case Test::Equal: return a == b;
        case Test::NotEqual: return a != b;
        case Test::Before: return a < b;
        case Test::Behind: return a > b;
        case Test::Eq: return x == y;
        case Test::Ne: return x != y;
        case Test::Lt: return x < y;
        case Test::Le: return x <= y;
        case Test::Gt: return x > y;
        case Test::Ge: return x >= y;
        default: return false;
    }
}

enum class Relation : std::uint8_t { Equal, NotEqual, Less, More, AtLeast, AtMost };
constexpr std::pair<std::string_view, Relation> relations[] = {
    {"-lt", Relation::Less},    {"<", Relation::Less},      {"-gt", Relation::More},     {">", Relation::More},
    {"-eq", Relation::Equal},   {"==", Relation::Equal},    {"-ne", Relation::NotEqual}, {"!=", Relation::NotEqual},
    {"<>", Relation::NotEqual}, {"-ge", Relation::AtLeast}, {">=", Relation::AtLeast},   {"-le", Relation::AtMost},
    {"<=", Relation::AtMost},
};
template <class T>
bool stands(Relation relation, const T& a, const T& b) {
    switch (relation) {
        case Relation::Equal: return a == b;
        case Relation::NotEqual: return a != b;
        case Relation::Less: return a < b;
        case Relation::More: return a > b;
        case Relation::AtLeast: return a >= b;
        case Relation::AtMost: return a <= b;
    }
    return false;
}

}  // namespace

/// Operators from the left; what is none makes the whole hold.
int Console::do_test(const Words& words) {
    if (words.size() < 3) return 1;
    bool holds_now = false, before = false, negated = false;
    enum class Join : std::uint8_t { None, And, Or } join = Join::None;
    for (std::size_t i = 1; i < words.size();) {
        const std::size_t left = words.size() - i;
        const auto* one = std::ranges::find_if(
            operators, [&](const Operator& o) { return left > o.at && words[i + o.at] == o.text; });
        // Patterns came into this command later than 2023.01.
        if (one != std::end(operators) && one->test == Test::Fits) {
            if (!build_.emulated) return unfollowed("test with patterns");
            one = std::end(operators);
        }
        if (one == std::end(operators) || left < one->words) return 0;
        i += one->words;
        if (one->test == Test::Or || one->test == Test::And) {
            join = one->test == Test::Or ? Join::Or : Join::And;
            negated = false;
            continue;
        }
        if (one->test == Test::Not) {
            negated = !negated;
            continue;
        }
        const std::size_t first = i - one->words;
        if (one->test == Test::Empty || one->test == Test::NotEmpty)
            holds_now = words[first + 1].empty() == (one->test == Test::Empty);
        else if (one->test == Test::Exists) holds_now = exists(words, first + 1);
        else holds_now = holds(one->test, words[first], words[first + 2]);
        holds_now = holds_now != negated;
        negated = false;
        if (join == Join::Or) holds_now = before || holds_now;
        if (join == Join::And) holds_now = before && holds_now;
        join = Join::None;
        before = holds_now;
    }
    return holds_now ? 0 : 1;
}

/// Signed numbers of the command's width, or texts; "*address" is what lies in memory.
int Console::do_itest(const Words& words) {
    if (words.size() != 4) return 1;
    const auto* relation = std::ranges::find(relations, words[2], &std::pair<std::string_view, Relation>::first);
    if (relation == std::end(relations) || words[0].ends_with(".q")) return 1;
    if (words[0].ends_with(".s")) {
        std::array<std::string, 2> texts;
        for (const std::size_t side : {0U, 1U}) {
            const auto& word = words[1 + 2 * side];
            const auto text = word.starts_with('*') ? text_at(word.substr(1)) : std::optional(word);
            if (!text) return unfollowed("itest on memory");
            texts[side] = *text;
        }
        return stands(relation->second, texts[0], texts[1]) ? 0 : 1;
    }
    const unsigned width = width_of(words[0]);
    const auto a = operand(words[1], width), b = operand(words[3], width);
    if (!a || !b) return unfollowed("itest on memory");
    const std::uint64_t mask = (std::uint64_t{1} << (8 * width)) - 1;
    return stands(relation->second, *a & mask, *b & mask) ? 0 : 1;
}

/// cmp address address count: whether both are the same.
int Console::do_compare(const Words& words) {
    if (words.size() != 4) return 1;
    const auto a = number_of(words[1]), b = number_of(words[2]), count = number_of(words[3]);
    constexpr std::uint64_t most = std::uint64_t{64} << 20U;
    if (!a || !b || !count) return 1;
    if (*a == *b || *count == 0) return 0;
    const unsigned width = width_of(words[0]);
    if (*count > most / width) return unfollowed("cmp");
    const auto first = peek(*a, *count * width), second = peek(*b, *count * width);
    if (first.size() < *count * width || second.size() < *count * width) return unfollowed("cmp");
    return first == second ? 0 : 1;
}

}  // namespace herberge::loader::uboot
