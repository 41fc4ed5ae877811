// SPDX-License-Identifier: MIT
// Numbers, texts and memory in one expression (cmd/setexpr.c of 2023.01).
#include <fmt/format.h>
#include <algorithm>
#include <charconv>

#include "bytes/pattern.hpp"
#include "loader/uboot/console.hpp"

namespace herberge::loader::uboot {

std::uint64_t leading_number(std::string_view text) {
    if (text.starts_with("0x") || text.starts_with("0X")) text.remove_prefix(2);
    std::uint64_t out = 0;
    std::from_chars(text.data(), text.data() + text.size(), out, 16);
    return out;
}

/// None: it is in memory, and what lies there is not known.
std::optional<std::uint64_t> Console::operand(std::string_view word, unsigned width) const {
    if (!word.starts_with('*')) return leading_number(word);
    const auto bytes = peek(leading_number(word.substr(1)), width);
    if (bytes.size() < width) return std::nullopt;
    std::uint64_t out = 0;
    for (unsigned i = 0; i < width; ++i) out |= std::uint64_t{bytes[i]} << (8U * i);
    return out;
}

namespace {
/// Its sets know no ranges: a "-" in one stands for itself.
std::string without_ranges(std::string_view pattern) {
    std::string out;
    while (!pattern.empty()) {
        const auto begin = std::min(pattern.find('['), pattern.size());
        const auto end = begin < pattern.size() ? pattern.find(']', begin + 2) : std::string_view::npos;
        if (end == std::string_view::npos) return out += pattern;
        auto set = std::string(pattern.substr(begin, end - begin));
        if (std::erase(set, '-') != 0) set += '-';
        out.append(pattern.substr(0, begin)).append(set).append("]");
        pattern.remove_prefix(end + 1);
    }
    return out;
}
}  // namespace

/// sub and gsub (regex_sub_var, lib/slre.c). Patterns with alternatives, groups, escapes, or repetitions that take as
/// little as they can are not followed.
int Console::substitute(const Words& words) {
    constexpr std::string_view special = "|()\\{";
    constexpr std::size_t most = 4096;
    const auto& pattern = words[3];
    const auto& fresh = words[4];
    const bool lazy = pattern.find("*?") != std::string::npos || pattern.find("+?") != std::string::npos ||
                      pattern.find("[:") != std::string::npos;
    if (pattern.empty() || pattern.find_first_of(special) != std::string::npos || lazy ||
        fresh.find('\\') != std::string::npos)
        return unfollowed("setexpr with patterns");
    const auto parsed = Pattern::parse(without_ranges(pattern));
    if (!parsed) return unfollowed("setexpr with patterns");
    if (words.size() == 5 && !variables_.contains(words[1])) {
        say(fmt::format("## Error: variable \"{}\" not defined", words[1]));
        return 1;
    }
    std::string text = words.size() > 5 ? words[5] : value(words[1]);
    std::size_t from = 0;
    bool any = false;
    for (const bool all = words[2] == "gsub"; !any || all;) {
        const auto found = parsed->match(std::string_view(text).substr(from));
        if (found.outcome == Pattern::Outcome::Untold || text.size() > most) return unfollowed("setexpr with patterns");
        if (found.outcome == Pattern::Outcome::FitsNot) break;
        const auto [at, length] = found.groups.front();
        // One that fits nothing at all never comes on.
        if (all && length == 0) return unfollowed("setexpr with patterns");
        any = true;
        text.replace(from + at, length, fresh);
        from += at + fresh.size();
        if (from >= text.size()) break;
    }
    if (!any) return 1;
    set(words[1], text);
    return 0;
}

std::optional<std::string> Console::text_at(std::string_view address) const {
    constexpr std::uint64_t most = 1024;
    const auto bytes = peek(leading_number(address), most);
    const auto end = std::ranges::find(bytes, std::uint8_t{0});
    if (end == bytes.end()) return std::nullopt;
    return std::string(bytes.begin(), end);
}

/// setexpr.s: texts come out of memory alone.
int Console::combine_texts(const Words& words) {
    if (words.size() == 5 && words[3] != "+") return 1;
    std::string out;
    for (std::size_t i = 2; i < words.size(); i += 2) {
        if (!words[i].starts_with('*')) return 1;
        const auto text = text_at(std::string_view(words[i]).substr(1));
        if (!text) return unfollowed("setexpr on memory");
        out += *text;
    }
    set(words[1], out);
    return 0;
}

/// Nothing guards the processor from a division by zero. None: what comes of it is not known.
std::optional<std::uint64_t> Console::divide(std::uint64_t a, std::uint64_t b, bool rest) {
    if (b != 0) return rest ? a % b : a / b;
    // Arm Architecture Reference Manual, UDIV; RISC-V, "M" extension, table 7.1.
    if (board_.processor == Processor::Arm64) return rest ? a : 0;
    if (board_.processor == Processor::Riscv64) return rest ? a : ~std::uint64_t{0};
    return std::nullopt;
}

int Console::do_setexpr(const Words& words) {
    // setexpr[.b, .w, .l, .q, .s] name [*]value [op [*]value]
    if (words.size() < 3) return 1;
    if (words[2] == "gsub" || words[2] == "sub") return words.size() == 5 || words.size() == 6 ? substitute(words) : 1;
    if (words.size() != 3 && words.size() != 5) return words[2] == "fmt" ? unfollowed("setexpr fmt") : 1;
    if (words[0].ends_with(".s")) return combine_texts(words);
    const unsigned width = width_of(words[0]);
    const auto a = operand(words[2], width);
    const auto b = words.size() == 5 ? operand(words[4], width) : std::optional<std::uint64_t>(0);
    if (!a || !b) return unfollowed("setexpr on memory");
    std::uint64_t out = *a;
    if (words.size() == 5) {
        if (words[3].size() != 1) return 1;
        const char op = words[3][0];
        std::optional<std::uint64_t> quotient;
        if (op == '/' || op == '%') {
            quotient = divide(*a, *b, op == '%');
            if (!quotient) return unfollowed("setexpr with a division by zero");
        }
        switch (op) {
            case '+': out = *a + *b; break;
            case '-': out = *a - *b; break;
            case '*': out = *a * *b; break;
            case '/':
            case '%': out = *quotient; break;
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
