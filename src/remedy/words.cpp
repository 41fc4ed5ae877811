// SPDX-License-Identifier: MIT
#include "remedy/words.hpp"

#include <algorithm>
#include <cmath>

namespace herberge::remedy {

namespace {

bool is_word(char c) {
    const auto byte = static_cast<unsigned char>(c);
    return byte >= 0x80 || (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
}
bool all_hex(std::string_view word) {
    return !word.empty() && word.find_first_not_of("0123456789abcdef") == std::string_view::npos;
}
bool all_digits(std::string_view word) { return word.find_first_not_of("0123456789") == std::string_view::npos; }

std::string canonical(std::string_view word) {
    const bool prefixed = word.starts_with("0x") && all_hex(word.substr(2));
    const bool plain = (word.size() == 8 || word.size() == 16) && all_hex(word);
    if (!prefixed && !plain) return std::string(word);
    std::string out = "#";
    bool leading = true;
    for (const char c : word.substr(prefixed ? 2 : 0)) {
        leading = leading && c == '0';
        if (!leading) out += c;
    }
    if (leading) out += '0';
    return out;
}

/// At most one letter replaced, left out or put in.
bool almost(std::string_view a, std::string_view b) {
    if (a.size() > b.size()) std::swap(a, b);
    if (b.size() - a.size() > 1) return false;
    std::size_t i = 0;
    while (i < a.size() && a[i] == b[i]) ++i;
    const std::size_t skip = a.size() == b.size() ? 1 : 0;
    return a.substr(std::min(i + skip, a.size())) == b.substr(std::min(i + 1, b.size()));
}

double alike(const std::string& line, const std::string& screen) {
    if (line == screen) return 1;
    if (line.size() < 5 || line.front() == '#' || screen.front() == '#' || all_digits(line)) return 0;
    return almost(line, screen) ? 0.8 : 0;
}

}  // namespace

std::string plain_line(std::string_view line) {
    std::string out;
    for (std::size_t i = 0; i < line.size(); ++i) {
        if (line[i] == '\x1B') {  // ECMA-48: ESC [ … up to a letter
            if (i + 1 < line.size() && line[i + 1] == '[')
                for (i += 2; i < line.size() && (line[i] < '@' || line[i] > '~');) ++i;
            continue;
        }
        const auto byte = static_cast<unsigned char>(line[i]);
        if (byte <= ' ' || byte == 0x7F) {
            if (!out.empty() && out.back() != ' ') out += ' ';
            continue;
        }
        out += line[i] >= 'A' && line[i] <= 'Z' ? static_cast<char>(line[i] + 32) : line[i];
    }
    while (!out.empty() && out.back() == ' ') out.pop_back();
    return out;
}

std::vector<std::string> words_of(std::string_view plain) {
    constexpr std::string_view differs = "…";
    std::vector<std::string> out;
    for (std::size_t i = 0; i < plain.size();) {
        if (plain.substr(i).starts_with(differs)) {
            i += differs.size();
            continue;
        }
        if (!is_word(plain[i])) {
            ++i;
            continue;
        }
        auto end = i;
        while (end < plain.size() && is_word(plain[end]) && !plain.substr(end).starts_with(differs)) ++end;
        out.push_back(canonical(plain.substr(i, end - i)));
        // A prompt is another word than what it begins with.
        if (end < plain.size() && plain[end] == '>') out.back() += plain[end++];
        i = end;
    }
    return out;
}

void WordWeights::count(const std::vector<std::string>& line) {
    ++total_;
    auto words = line;
    std::ranges::sort(words);
    words.erase(std::unique(words.begin(), words.end()), words.end());
    for (auto& word : words) ++lines_[std::move(word)];
}

double WordWeights::of(const std::string& word) const {
    const auto found = lines_.find(word);
    if (found == lines_.end()) {
        // A word that no screen has: names of files and systems, identifiers, numbers.
        const bool varies = word.front() == '#' || word.find_first_of("0123456789") != std::string::npos;
        return varies ? 0.1 : 0.8;
    }
    return 0.3 + std::log((total_ + 1.0) / found->second);
}

double fit_of(const std::vector<std::string>& line, const std::vector<std::string>& screen,
              const WordWeights& weights) {
    if (line.empty() || screen.empty()) return 0;
    // The heaviest common subsequence, row by row.
    std::vector<double> above(screen.size() + 1), row(screen.size() + 1);
    double of_line = 0, of_screen = 0;
    for (const auto& word : screen) of_screen += weights.of(word);
    for (const auto& word : line) {
        of_line += weights.of(word);
        for (std::size_t i = 0; i < screen.size(); ++i) {
            row[i + 1] = std::max(above[i + 1], row[i]);
            if (const double same = alike(word, screen[i]); same > 0)
                row[i + 1] = std::max(row[i + 1], above[i] + same * weights.of(screen[i]));
        }
        std::swap(above, row);
    }
    const double common = above.back();
    const double seen = common / of_screen;
    const double used = std::min(1.0, common / of_line);
    const double fit = std::max(seen * (0.65 + 0.35 * used), used * (0.65 + 0.35 * seen));
    // An error's number tells by itself, whatever language stands around it.
    const bool by_number = std::ranges::any_of(screen, [&](const std::string& word) {
        return word.front() == '#' && word.size() > 2 && std::ranges::find(line, word) != line.end();
    });
    return by_number ? std::max(fit, 0.8) : fit;
}

}  // namespace herberge::remedy
