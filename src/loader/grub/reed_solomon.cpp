// SPDX-License-Identifier: MIT
#include "loader/grub/reed_solomon.hpp"
#include "bytes/uniform.hpp"

#include <algorithm>
#include <array>
#include <vector>

namespace herberge::grub {

namespace {

constexpr std::size_t row = 512;
constexpr std::size_t most_block = 200 * row;

/// Arithmetic in GF(256).
struct Field {
    std::array<std::uint8_t, 510> power{};
    std::array<std::uint8_t, 256> log{};
    constexpr Field() {
        unsigned x = 1;
        for (unsigned i = 0; i < 255; ++i) {
            power[i] = power[i + 255] = static_cast<std::uint8_t>(x);
            log[x] = static_cast<std::uint8_t>(i);
            x <<= 1U;
            if ((x & 0x100U) != 0) x ^= 0x11DU;
        }
    }
    [[nodiscard]] constexpr std::uint8_t times(std::uint8_t a, std::uint8_t b) const {
        return a == 0 || b == 0 ? std::uint8_t{0} : power[std::size_t{log[a]} + log[b]];
    }
    [[nodiscard]] constexpr std::uint8_t over(std::uint8_t a, std::uint8_t b) const {
        return a == 0 ? std::uint8_t{0} : power[std::size_t{log[a]} + 255U - log[b]];
    }
};
constexpr Field gf;

using CodeWord = std::vector<std::uint8_t>;

std::uint8_t evaluate(const CodeWord& polynomial_low_first, std::uint8_t x) {
    std::uint8_t sum = 0;
    for (std::size_t i = polynomial_low_first.size(); i-- > 0;)
        sum = static_cast<std::uint8_t>(gf.times(sum, x) ^ polynomial_low_first[i]);
    return sum;
}

/// Corrects one code word (first byte: highest power). Berlekamp-Massey, then Chien search and Forney's formula.
std::optional<std::size_t> correct(CodeWord& word, std::size_t redundancy) {
    CodeWord syndromes(redundancy);
    bool clean = true;
    for (std::size_t j = 0; j < redundancy; ++j) {
        std::uint8_t sum = 0;
        for (const auto byte : word) sum = static_cast<std::uint8_t>(gf.times(sum, gf.power[j % 255]) ^ byte);
        syndromes[j] = sum;
        clean = clean && sum == 0;
    }
    if (clean) return 0;
    CodeWord locator{1};
    CodeWord previous{1};
    std::size_t errors = 0;
    std::size_t shift = 1;
    std::uint8_t last = 1;
    for (std::size_t n = 0; n < redundancy; ++n) {
        std::uint8_t gap = syndromes[n];
        for (std::size_t i = 1; i <= errors && i < locator.size(); ++i)
            gap = static_cast<std::uint8_t>(gap ^ gf.times(locator[i], syndromes[n - i]));
        if (gap == 0) {
            ++shift;
            continue;
        }
        const CodeWord before = locator;
        const std::uint8_t factor = gf.over(gap, last);
        if (locator.size() < previous.size() + shift) locator.resize(previous.size() + shift);
        for (std::size_t i = 0; i < previous.size(); ++i)
            locator[i + shift] = static_cast<std::uint8_t>(locator[i + shift] ^ gf.times(factor, previous[i]));
        if (2 * errors <= n) {
            errors = n + 1 - errors;
            previous = before;
            last = gap;
            shift = 1;
        } else {
            ++shift;
        }
    }
    if (errors * 2 > redundancy) return std::nullopt;
    locator.resize(std::max(locator.size(), errors + 1));
    // The evaluator: syndromes times locator, cut to `redundancy` terms.
    CodeWord evaluator(redundancy);
    for (std::size_t i = 0; i < redundancy; ++i)
        for (std::size_t j = 0; j <= i && j < locator.size(); ++j)
            evaluator[i] = static_cast<std::uint8_t>(evaluator[i] ^ gf.times(locator[j], syndromes[i - j]));
    std::size_t found = 0;
    for (std::size_t at = 0; at < word.size(); ++at) {
        const std::size_t power = word.size() - 1 - at;
        const std::uint8_t inverse = gf.power[(255 - power % 255) % 255];
        if (evaluate(locator, inverse) != 0) continue;
        // Formal derivative: the odd terms.
        std::uint8_t slope = 0;
        for (std::size_t i = 1; i < locator.size(); i += 2) {
            const std::uint8_t x = gf.power[(std::size_t{gf.log[inverse]} * (i - 1)) % 255];
            slope = static_cast<std::uint8_t>(slope ^ gf.times(locator[i], x));
        }
        if (slope == 0) return std::nullopt;
        const std::uint8_t value = gf.over(evaluate(evaluator, inverse), slope);
        // First root a^0: the magnitude carries one factor of the position.
        word[at] = static_cast<std::uint8_t>(word[at] ^ gf.times(value, gf.power[power % 255]));
        ++found;
    }
    if (found != errors) return std::nullopt;
    return found;
}

struct Shape {
    std::size_t data = 0;
    std::size_t redundancy = 0;
};

/// GRUB splits what does not fit into 200 rows in proportion.
Shape next_block(std::size_t data, std::size_t redundancy) {
    const std::size_t total = data + redundancy;
    if (total <= most_block) return {data, redundancy};
    return {data * (most_block / row) / total * row, redundancy * (most_block / row) / total * row};
}

std::size_t rows(std::size_t size, std::size_t column) { return (size + row - 1 - column) / row; }

}  // namespace

std::optional<std::size_t> repair(std::span<std::uint8_t> data, std::span<std::uint8_t> redundancy) {
    if (redundancy.empty() || holds_only(redundancy, 0)) return 0;
    std::size_t changed = 0;
    while (!data.empty()) {
        const Shape shape = next_block(data.size(), redundancy.size());
        if (shape.data == 0) return std::nullopt;
        for (std::size_t column = 0; column < row; ++column) {
            const std::size_t ds = rows(shape.data, column);
            const std::size_t rs = rows(shape.redundancy, column);
            CodeWord word;
            word.reserve(ds + rs);
            for (std::size_t j = 0; j < ds; ++j) word.push_back(data[row * j + column]);
            for (std::size_t j = 0; j < rs; ++j) word.push_back(redundancy[row * j + column]);
            const auto done = correct(word, rs);
            if (!done) return std::nullopt;
            changed += *done;
            if (*done == 0) continue;
            for (std::size_t j = 0; j < ds; ++j) data[row * j + column] = word[j];
        }
        data = data.subspan(shape.data);
        redundancy = redundancy.subspan(shape.redundancy);
    }
    return changed;
}

}  // namespace herberge::grub
