// SPDX-License-Identifier: MIT
// Canonical Huffman codes, as LZX and XPRESS use them: given by the lengths of their words.
#pragma once

#include <array>
#include <cstdint>
#include <span>
#include <vector>

namespace herberge::bytes {

class HuffmanCode {
public:
    struct Word {
        std::uint16_t symbol = 0;
        std::uint8_t length = 0;  ///< 0: no word begins so
    };

    /// Builds the code; shorter words come first, then lower symbols. `longest` is at most 16. False: the lengths leave
    /// some sequence of bits without a word, or give one to two; a code without any word is accepted.
    bool build(std::span<const std::uint8_t> lengths, unsigned longest) {
        longest_ = longest;
        table_.assign(std::size_t{1} << longest, {});
        std::size_t filled = 0;
        for (unsigned length = 1; length <= longest; ++length)
            for (std::size_t symbol = 0; symbol < lengths.size(); ++symbol) {
                if (lengths[symbol] != length) continue;
                const std::size_t share = std::size_t{1} << (longest - length);
                if (share > table_.size() - filled) return false;
                for (std::size_t i = 0; i < share; ++i)
                    table_[filled + i] = {static_cast<std::uint16_t>(symbol), static_cast<std::uint8_t>(length)};
                filled += share;
            }
        return filled == 0 || filled == table_.size();
    }
    /// The word that the next 16 bits begin with.
    [[nodiscard]] Word at(std::uint32_t next16) const { return table_[next16 >> (16U - longest_)]; }

private:
    unsigned longest_ = 1;
    std::vector<Word> table_ = std::vector<Word>(2);
};

}  // namespace herberge::bytes
