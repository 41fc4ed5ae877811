// SPDX-License-Identifier: MIT
// Numbers, texts and memory in one expression (cmd/setexpr.c of 2023.01).
#include <fmt/format.h>
#include <algorithm>
#include <charconv>

#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

namespace {

/// As many hexadecimal digits as there are; none is 0 (hextoul).
std::uint64_t leading_number(std::string_view text) {
    if (text.starts_with("0x") || text.starts_with("0X")) text.remove_prefix(2);
    std::uint64_t out = 0;
    std::from_chars(text.data(), text.data() + text.size(), out, 16);
    return out;
}

}  // namespace

/// None: it is in memory, and what lies there is not known.
std::optional<std::uint64_t> Console::operand(std::string_view word, unsigned width) const {
    if (!word.starts_with('*')) return leading_number(word);
    const auto bytes = peek(leading_number(word.substr(1)), width);
    if (bytes.size() < width) return std::nullopt;
    std::uint64_t out = 0;
    for (unsigned i = 0; i < width; ++i) out |= std::uint64_t{bytes[i]} << (8U * i);
    return out;
}

/// sub and gsub with a pattern that stands for itself; others are not followed.
int Console::substitute(const Words& words) {
    constexpr std::string_view special = "^$.|?*+()[]\\";
    constexpr std::size_t most = 4096;
    const auto& pattern = words[3];
    const auto& fresh = words[4];
    if (pattern.empty() || pattern.find_first_of(special) != std::string::npos || fresh.find('\\') != std::string::npos)
        return unfollowed("setexpr with patterns");
    if (words.size() == 5 && !variables_.contains(words[1]) && !local_.contains(words[1])) {
        say(fmt::format("## Error: variable \"{}\" not defined", words[1]));
        return 1;
    }
    std::string text = words.size() > 5 ? words[5] : value(words[1]);
    if (text.find(pattern) == std::string::npos) return 1;
    std::size_t from = 0;
    for (bool all = words[2] == "gsub", first = true; first || all; first = false) {
        const auto found = text.find(pattern, from);
        if (found == std::string::npos || text.size() > most) break;
        text.replace(found, pattern.size(), fresh);
        from = found + fresh.size();
    }
    set(words[1], text);
    return 0;
}

int Console::do_setexpr(const Words& words) {
    // setexpr[.b, .w, .l, .q, .s] name [*]value [op [*]value]
    if (words.size() < 3) return 1;
    if (words[2] == "gsub" || words[2] == "sub") return words.size() == 5 || words.size() == 6 ? substitute(words) : 1;
    if (words.size() != 3 && words.size() != 5) return words[2] == "fmt" ? unfollowed("setexpr fmt") : 1;
    if (words[0].ends_with(".s")) {
        if (words.size() == 5 && words[3] != "+") return 1;
        std::string text;
        for (std::size_t i = 2; i < words.size(); i += 2) {
            // Texts come out of memory alone.
            if (!words[i].starts_with('*')) return 1;
            constexpr std::uint64_t most = 1024;
            const auto bytes = peek(leading_number(std::string_view(words[i]).substr(1)), most);
            const auto end = std::ranges::find(bytes, std::uint8_t{0});
            if (end == bytes.end()) return unfollowed("setexpr on memory");
            text.append(bytes.begin(), end);
        }
        set(words[1], text);
        return 0;
    }
    const unsigned width = width_of(words[0]);
    const auto a = operand(words[2], width);
    const auto b = words.size() == 5 ? operand(words[4], width) : std::optional<std::uint64_t>(0);
    if (!a || !b) return unfollowed("setexpr on memory");
    std::uint64_t out = *a;
    if (words.size() == 5) {
        if (words[3].size() != 1) return 1;
        const char op = words[3][0];
        if ((op == '/' || op == '%') && *b == 0) return 1;
        switch (op) {
            case '+': out = *a + *b; break;
            case '-': out = *a - *b; break;
            case '*': out = *a * *b; break;
            case '/': out = *a / *b; break;
            case '%': out = *a % *b; break;
            case '&': out = *a & *b; break;
            case '|': out = *a | *b; break;
            case '^': out = *a ^ *b; break;
            default: return 1;
        }
    }
    set(words[1], fmt::format("{:x}", out));
    return 0;
}

}  // namespace herberge::loader::uboot
