// SPDX-License-Identifier: MIT
// Dumps of NAND flash with the spare area of each page (Linux drivers/mtd/nand/raw/nand_base.c, nand_bbt.c; the codes:
// drivers/mtd/nand/ecc-sw-hamming.c, places: drivers/mtd/nand/core.c, nand_ooblayout_sp and _lp_hamming).
#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <bit>
#include <charconv>
#include <set>

#include <herberge/budget.hpp>
#include <herberge/flash.hpp>

#include "bytes/uniform.hpp"

namespace herberge {

namespace {

constexpr std::size_t step = 256;  ///< bytes that a code covers
constexpr std::size_t code_size = 3;

/// Where the codes of a page stand in its spare area; empty: no usual place for this size.
std::vector<std::size_t> code_places(const NandShape& shape) {
    const std::size_t count = shape.page / step * code_size;
    std::vector<std::size_t> out;
    if (shape.page == 512 && shape.spare == 16) return {0, 1, 2, 3, 6, 7};
    const std::size_t first = shape.spare == 64 ? 40 : shape.spare == 128 ? 80 : 0;
    if (first == 0 || first + count > shape.spare) return {};
    for (std::size_t i = 0; i < count; ++i) out.push_back(first + i);
    return out;
}

using Parity = std::array<std::uint8_t, code_size>;

/// Parity over halves of the 256 bytes by their number, and over halves of each byte by its bits; stored inverted.
Parity code_of(std::span<const std::uint8_t> bytes) {
    unsigned lines = 0;    // line parity: which byte numbers have an odd number of ones
    std::uint8_t all = 0;  // column parity
    for (unsigned i = 0; i < step; ++i) {
        all ^= bytes[i];
        if (std::popcount(bytes[i]) % 2 != 0) lines ^= i | (~i & 0xFFU) << 8U;
    }
    const auto odd = [&](std::uint8_t mask) {
        return static_cast<unsigned>(std::popcount(static_cast<unsigned>(all & mask))) & 1U;
    };
    // Pairs "half with the bit set, half without", from the lowest bit up.
    const auto pairs = [&](unsigned from) {
        unsigned out = 0;
        for (unsigned bit = 0; bit < 4; ++bit) {
            out |= (lines >> (from + bit) & 1U) << (2 * bit + 1);
            out |= (lines >> (8 + from + bit) & 1U) << (2 * bit);
        }
        return static_cast<std::uint8_t>(~out);
    };
    const unsigned columns =
        odd(0xF0) << 7U | odd(0x0F) << 6U | odd(0xCC) << 5U | odd(0x33) << 4U | odd(0xAA) << 3U | odd(0x55) << 2U;
    return {pairs(4), pairs(0), static_cast<std::uint8_t>(~columns)};
}

enum class Judged : std::uint8_t { Sound, Corrected, Lost };

/// Puts one wrong bit of the bytes or of the code right.
Judged correct(std::span<std::uint8_t> bytes, const Parity& stored) {
    const auto own = code_of(bytes);
    const std::array<unsigned, 3> differs = {static_cast<unsigned>(stored[0] ^ own[0]),
                                             static_cast<unsigned>(stored[1] ^ own[1]),
                                             static_cast<unsigned>(stored[2] ^ own[2])};
    const int bits = std::popcount(differs[0]) + std::popcount(differs[1]) + std::popcount(differs[2]);
    if (bits == 0) return Judged::Sound;
    // One wrong bit turns exactly one of each pair.
    const auto one_of_each = [](unsigned value, unsigned mask) { return ((value ^ value >> 1U) & mask) == mask; };
    if (one_of_each(differs[0], 0x55) && one_of_each(differs[1], 0x55) && one_of_each(differs[2] & 0xFCU, 0x54)) {
        const auto upper_of = [](unsigned value) {
            return (value >> 1U & 1U) | (value >> 3U & 1U) << 1U | (value >> 5U & 1U) << 2U | (value >> 7U & 1U) << 3U;
        };
        const std::size_t byte = upper_of(differs[0]) << 4U | upper_of(differs[1]);
        const unsigned bit = upper_of(differs[2]) >> 1U;
        bytes[byte] = static_cast<std::uint8_t>(bytes[byte] ^ 1U << bit);
        return Judged::Corrected;
    }
    return bits == 1 ? Judged::Corrected : Judged::Lost;
}

bool is_erased(std::span<const std::uint8_t> bytes) { return holds_only(bytes, 0xFF); }

/// The content, page by page.
class NandSource : public ByteSource {
public:
    NandSource(Source dump, const NandShape& shape, std::set<std::uint64_t> bad, bool hamming)
        : dump_(std::move(dump)),
          shape_(shape),
          bad_(std::move(bad)),
          places_(hamming ? code_places(shape) : std::vector<std::size_t>{}) {}

    [[nodiscard]] std::uint64_t size() const noexcept override { return dump_->size() / whole() * shape_.page; }
    [[nodiscard]] std::string place() const override { return dump_->place(); }

    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (offset > size() || into.size() > size() - offset)
            return fail(ErrorKind::OutOfRange, "read past the end", place());
        std::vector<std::uint8_t> page;
        while (!into.empty()) {
            const std::uint64_t number = offset / shape_.page;
            const std::size_t within = offset % shape_.page;
            const std::size_t count = std::min<std::size_t>(into.size(), shape_.page - within);
            if (auto done = load(number, page); !done) return done;
            std::copy_n(page.begin() + static_cast<std::ptrdiff_t>(within), count, into.begin());
            into = into.subspan(count);
            offset += count;
        }
        return {};
    }

    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        constexpr std::size_t most = 4096;
        std::vector<DiskRange> out;
        while (length != 0 && out.size() < most) {
            const std::uint64_t within = offset % shape_.page;
            const std::uint64_t count = std::min<std::uint64_t>(length, shape_.page - within);
            for (auto& range : dump_->locate(offset / shape_.page * whole() + within, count)) out.push_back(range);
            offset += count;
            length -= count;
        }
        return out;
    }

private:
    [[nodiscard]] std::uint64_t whole() const noexcept { return std::uint64_t{shape_.page} + shape_.spare; }

    [[nodiscard]] Result<void> load(std::uint64_t number, std::vector<std::uint8_t>& page) const {
        page.assign(static_cast<std::size_t>(whole()), 0xFF);
        if (bad_.contains(number / shape_.pages_per_block)) return {};
        if (auto done = dump_->read(number * whole(), page); !done) return done;
        if (places_.empty() || is_erased(page)) return {};
        const auto spare = std::span(page).subspan(shape_.page);
        for (std::size_t i = 0; i < shape_.page / step; ++i) {
            const Parity stored = {spare[places_[3 * i]], spare[places_[3 * i + 1]], spare[places_[3 * i + 2]]};
            if (correct(std::span(page).subspan(i * step, step), stored) == Judged::Lost)
                return fail(ErrorKind::Unreadable, "a page fails its Hamming code in more than one bit",
                            fmt::format("{}, byte {}", place(), number * shape_.page));
        }
        return {};
    }

    Source dump_;
    NandShape shape_;
    std::set<std::uint64_t> bad_;  ///< numbers of blocks
    std::vector<std::size_t> places_;
};

/// The first pages that were written carry codes where Linux puts them.
Result<bool> has_codes(const ByteSource& dump, const NandShape& shape) {
    const auto places = code_places(shape);
    if (places.empty()) return false;
    constexpr int enough = 32;
    constexpr std::uint64_t most_pages = 4096;
    const std::uint64_t whole = std::uint64_t{shape.page} + shape.spare;
    int good = 0, wrong = 0;
    for (std::uint64_t number = 0; number < std::min(most_pages, dump.size() / whole) && good + wrong < enough;
         ++number) {
        auto page = dump.bytes(number * whole, whole);
        if (!page && page.error().unreadable()) continue;
        if (!page) return tl::unexpected(page.error());
        if (is_erased(*page)) continue;
        const auto spare = std::span(*page).subspan(shape.page);
        bool all = true;
        bool blank = true;  // bytes that are all the same have the code that erased flash shows
        for (std::size_t i = 0; i < shape.page / step && all; ++i) {
            const Parity own = code_of(std::span(*page).subspan(i * step, step));
            all = own == Parity{spare[places[3 * i]], spare[places[3 * i + 1]], spare[places[3 * i + 2]]};
            blank = blank && is_erased(own);
        }
        if (all && blank) continue;
        ++(all ? good : wrong);
    }
    // A worn page may differ here and there.
    return good > 0 && good >= 3 * wrong;
}

}  // namespace

Result<NandShape> parse_nand_shape(std::string_view text) {
    NandShape out;
    const auto number = [&](std::uint32_t& into) {
        const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), into);
        if (problem != std::errc{}) return false;
        text.remove_prefix(static_cast<std::size_t>(end - text.data()));
        return true;
    };
    const auto takes = [&](char mark) {
        if (!text.starts_with(mark)) return false;
        text.remove_prefix(1);
        return true;
    };
    const bool read = number(out.page) && takes('+') && number(out.spare) &&
                      (text.empty() || (takes('x') && number(out.pages_per_block))) && text.empty();
    constexpr std::uint32_t largest_page = 16384, largest_spare = 2048, most_pages = 1024;
    if (!read || !std::has_single_bit(out.page) || out.page < 512 || out.page > largest_page || out.spare < 8 ||
        out.spare > largest_spare || !std::has_single_bit(out.pages_per_block) || out.pages_per_block > most_pages)
        return fail(ErrorKind::Malformed,
                    "a dump of NAND flash is described as PAGE+SPARE or PAGE+SPARExPAGES, such as 2048+64x64");
    return out;
}

Result<NandDump> open_nand(Source dump, const NandShape& shape) {
    const std::uint64_t whole = std::uint64_t{shape.page} + shape.spare;
    const std::uint64_t block = whole * shape.pages_per_block;
    if (dump->size() == 0 || dump->size() % block != 0)
        return fail(ErrorKind::Malformed, "it is no whole number of such blocks", dump->place(),
                    fmt::format("a multiple of {} bytes", block), fmt::format("{} bytes", dump->size()));
    NandDump out;
    out.block = std::uint64_t{shape.page} * shape.pages_per_block;
    // The mark stands in the spare area of a block's first page: byte 5 of small pages, byte 0 of others.
    const std::uint64_t mark_at = shape.page + (shape.page == 512 ? 5U : 0U);
    std::set<std::uint64_t> bad;
    for (std::uint64_t number = 0; number < dump->size() / block; ++number) {
        if (!charge(Cost::Steps, 1)) return fail(ErrorKind::TooLarge, "more blocks than are looked at", dump->place());
        const auto mark = dump->bytes(number * block + mark_at, 1);
        if (!mark && !mark.error().unreadable()) return tl::unexpected(mark.error());
        if (!mark || mark->front() == 0xFF) continue;
        bad.insert(number);
        out.bad_blocks.push_back(number * out.block);
    }
    const auto codes = has_codes(*dump, shape);
    if (!codes) return tl::unexpected(codes.error());
    out.hamming = *codes;
    out.content = std::make_shared<const NandSource>(std::move(dump), shape, std::move(bad), out.hamming);
    return out;
}

}  // namespace herberge
