// SPDX-License-Identifier: MIT
#include "bytes/codecs.hpp"
#include "bytes/huffman.hpp"

namespace herberge::bytes {

namespace {

/// Words of 16 bits, highest bit first, of which one is always read ahead; bytes of long lengths lie between them
/// ([MS-XCA] 2.2.4). Behind the end there are zeros.
class XpressBits {
public:
    explicit XpressBits(std::span<const std::uint8_t> in) : in_(in) {
        refill();
        refill();
    }
    [[nodiscard]] std::uint32_t next16() const { return static_cast<std::uint32_t>(held_ >> (count_ - 16U)) & 0xFFFFU; }
    void drop(unsigned bits) {
        count_ -= bits;
        if (count_ < 16) refill();
    }
    std::uint32_t byte() {
        const std::size_t at = at_++;
        return at < in_.size() ? in_[at] : 0U;
    }
    /// More bits were used than there are.
    [[nodiscard]] bool overrun() const { return at_ * 8 - count_ > in_.size() * 8; }

private:
    void refill() {
        const std::uint32_t low = byte();
        held_ = held_ << 16U | byte() << 8U | low;
        count_ += 16;
    }

    std::span<const std::uint8_t> in_;
    std::size_t at_ = 0;
    std::uint64_t held_ = 0;
    unsigned count_ = 0;
};

}  // namespace

bool decode_xpress(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) {
    constexpr std::size_t symbols = 512;
    if (packed.size() < symbols / 2) return false;
    std::array<std::uint8_t, symbols> lengths{};
    for (std::size_t i = 0; i < symbols; ++i)
        lengths[i] = static_cast<std::uint8_t>(packed[i / 2] >> (i % 2 != 0 ? 4U : 0U) & 15U);
    HuffmanCode code;
    if (!code.build(lengths, 15)) return false;
    XpressBits bits(packed.subspan(symbols / 2));
    for (std::size_t made = 0; made < into.size();) {
        const auto word = code.at(bits.next16());
        bits.drop(word.length);
        if (word.length == 0 || bits.overrun()) return false;
        if (word.symbol < 256) {
            into[made++] = static_cast<std::uint8_t>(word.symbol);
            continue;
        }
        std::size_t length = word.symbol & 15U;
        if (length == 15) {
            const std::uint32_t more = bits.byte();
            length += more;
            if (more == 255) {
                const std::uint32_t low = bits.byte();
                length = bits.byte() << 8U | low;
            }
        }
        length += 3;
        const unsigned offset_bits = word.symbol >> 4U & 15U;
        const std::size_t distance = (std::size_t{1} << offset_bits) | bits.next16() >> (16U - offset_bits);
        bits.drop(offset_bits);
        if (distance > made || length > into.size() - made) return false;
        for (; length > 0; --length, ++made) into[made] = into[made - distance];
    }
    return true;
}

}  // namespace herberge::bytes
