// SPDX-License-Identifier: MIT
#include <algorithm>
#include <boost/endian/conversion.hpp>

#include "bytes/codecs.hpp"
#include "bytes/huffman.hpp"

namespace herberge::bytes {

namespace {

constexpr std::size_t window = 32768;
constexpr std::size_t slots = 30;  ///< of distances, for this window
constexpr std::size_t main_symbols = 256 + 8 * slots;
constexpr std::size_t length_symbols = 249;

/// Words of 16 bits, highest bit first. Behind the end there are zeros.
class LzxBits {
public:
    explicit LzxBits(std::span<const std::uint8_t> in) : in_(in) {}
    [[nodiscard]] std::uint32_t next16() const {
        const std::size_t at = bit_ / 16 * 2;
        const std::uint32_t two = word(at) << 16U | word(at + 2);
        return two >> (16U - bit_ % 16) & 0xFFFFU;
    }
    void drop(unsigned bits) { bit_ += bits; }
    /// More bits were used than there are.
    [[nodiscard]] bool overrun() const { return bit_ > in_.size() * 8; }
    /// At most 16 bits.
    std::uint32_t take(unsigned bits) {
        const std::uint32_t out = bits == 0 ? 0 : next16() >> (16U - bits);
        bit_ += bits;
        return out;
    }
    /// To the next word; from a word's beginning, over a whole one.
    void align() { bit_ = (bit_ / 16 + 1) * 16; }
    /// Whole bytes; only where aligned.
    std::span<const std::uint8_t> raw(std::size_t count) {
        const std::size_t at = bit_ / 8;
        if (at > in_.size() || count > in_.size() - at) return {};
        bit_ += count * 8;
        return in_.subspan(at, count);
    }

private:
    [[nodiscard]] std::uint32_t word(std::size_t at) const {
        return (at < in_.size() ? in_[at] : 0U) | (at + 1 < in_.size() ? in_[at + 1] : 0U) << 8U;
    }
    std::span<const std::uint8_t> in_;
    std::size_t bit_ = 0;
};

constexpr unsigned distance_bits(std::size_t slot) { return slot < 4 ? 0U : static_cast<unsigned>(slot / 2 - 1); }

constexpr std::array<std::uint32_t, slots> make_bases() {
    std::array<std::uint32_t, slots> out{};
    for (std::size_t i = 1; i < slots; ++i) out[i] = out[i - 1] + (1U << distance_bits(i - 1));
    return out;
}
constexpr auto bases = make_bases();

class Lzx {
public:
    Lzx(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) : bits_(packed), out_(into) {}

    bool run() {
        while (made_ < out_.size())
            if (!block()) return false;
        translate_calls();
        return true;
    }

private:
    bool block() {
        const std::uint32_t kind = bits_.take(3);
        std::size_t size = window;
        if (bits_.take(1) == 0) size = bits_.take(16);
        if (size == 0 || size > out_.size() - made_) return false;
        switch (kind) {
            case 1: return tables() && codes(size, false);
            case 2: {
                std::array<std::uint8_t, 8> lengths{};
                for (auto& length : lengths) length = static_cast<std::uint8_t>(bits_.take(3));
                return aligned_.build(lengths, 7) && tables() && codes(size, true);
            }
            case 3: return stored(size);
            default: return false;
        }
    }

    bool tables() {
        const std::span<std::uint8_t> all = main_lengths_;
        return lengths(all.first(256)) && lengths(all.subspan(256)) && main_.build(main_lengths_, 16) &&
               lengths(length_lengths_) && long_.build(length_lengths_, 16);
    }

    /// Each length is told by its difference to what it was in the block before; runs are shortened.
    bool lengths(std::span<std::uint8_t> of) {
        std::array<std::uint8_t, 20> pre{};
        for (auto& length : pre) length = static_cast<std::uint8_t>(bits_.take(4));
        HuffmanCode code;
        if (!code.build(pre, 15)) return false;
        for (std::size_t i = 0; i < of.size();) {
            std::uint32_t symbol = 0;
            if (!decode(code, symbol)) return false;
            std::size_t run = 1;
            std::uint8_t value = 0;
            if (symbol == 17) run = 4 + bits_.take(4);
            else if (symbol == 18) run = 20 + bits_.take(5);
            else {
                if (symbol == 19) {
                    run = 4 + bits_.take(1);
                    if (!decode(code, symbol) || symbol > 16) return false;
                }
                value = static_cast<std::uint8_t>((of[i] + 17U - symbol) % 17U);
            }
            // A run may claim more than there is to fill.
            for (run = std::min(run, of.size() - i); run > 0; --run) of[i++] = value;
        }
        return true;
    }

    bool decode(const HuffmanCode& code, std::uint32_t& symbol) {
        const auto word = code.at(bits_.next16());
        bits_.drop(word.length);
        if (word.length == 0 || bits_.overrun()) return false;
        symbol = word.symbol;
        return true;
    }

    bool codes(std::size_t size, bool with_aligned) {
        for (const std::size_t end = made_ + size; made_ < end;) {
            std::uint32_t symbol = 0;
            if (!decode(main_, symbol)) return false;
            if (symbol < 256) {
                out_[made_++] = static_cast<std::uint8_t>(symbol);
                continue;
            }
            std::size_t length = symbol % 8;
            if (length == 7) {
                std::uint32_t more = 0;
                if (!decode(long_, more)) return false;
                length += more;
            }
            length += 2;
            std::uint32_t distance = 0;
            if (!take_distance((symbol - 256) / 8, with_aligned, distance)) return false;
            if (distance == 0 || distance > made_ || length > end - made_) return false;
            for (; length > 0; --length, ++made_) out_[made_] = out_[made_ - distance];
        }
        return true;
    }

    /// The first three slots repeat one of the last distances, which comes to the front.
    bool take_distance(std::size_t slot, bool with_aligned, std::uint32_t& distance) {
        if (slot < 3) {
            std::swap(recent_[0], recent_[slot]);
        } else {
            const unsigned extra = distance_bits(slot);
            std::uint32_t within = 0;
            if (with_aligned && extra >= 3) {
                within = bits_.take(extra - 3) << 3U;
                std::uint32_t low = 0;
                if (!decode(aligned_, low)) return false;
                within |= low;
            } else {
                within = bits_.take(extra);
            }
            recent_ = {bases[slot] + within - 2, recent_[0], recent_[1]};
        }
        distance = recent_[0];
        return true;
    }

    bool stored(std::size_t size) {
        bits_.align();
        const auto head = bits_.raw(12);
        if (head.size() != 12) return false;
        for (std::size_t i = 0; i < 3; ++i) {
            recent_[i] = boost::endian::load_little_u32(&head[i * 4]);
            if (recent_[i] == 0) return false;
        }
        const auto bytes = bits_.raw(size);
        if (bytes.size() != size) return false;
        std::ranges::copy(bytes, out_.begin() + static_cast<std::ptrdiff_t>(made_));
        made_ += size;
        if (size % 2 != 0) (void)bits_.raw(1);
        return true;
    }

    /// Targets of x86 calls were made absolute before packing, as if all files were so long.
    void translate_calls() {
        constexpr std::int64_t file_size = 12'000'000;
        if (out_.size() <= 10) return;
        for (std::size_t at = 0; at < out_.size() - 10; ++at) {
            if (out_[at] != 0xE8) continue;
            const std::int64_t absolute = boost::endian::load_little_s32(&out_[at + 1]);
            const auto here = static_cast<std::int64_t>(at);
            if (absolute >= -here && absolute < file_size)
                boost::endian::store_little_s32(
                    &out_[at + 1], static_cast<std::int32_t>(absolute >= 0 ? absolute - here : absolute + file_size));
            at += 4;
        }
    }

    LzxBits bits_;
    std::span<std::uint8_t> out_;
    std::size_t made_ = 0;
    std::array<std::uint32_t, 3> recent_{1, 1, 1};
    std::array<std::uint8_t, main_symbols> main_lengths_{};
    std::array<std::uint8_t, length_symbols> length_lengths_{};
    HuffmanCode main_, long_, aligned_;
};

}  // namespace

bool decode_lzx(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) {
    return into.size() <= window && Lzx(packed, into).run();
}

}  // namespace herberge::bytes
