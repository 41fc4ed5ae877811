// SPDX-License-Identifier: MIT
#include <algorithm>

#include "bytes/codecs.hpp"

namespace herberge::bytes {

namespace {

/// The stream's two ends, and what goes wrong with them.
class Lzo1x {
public:
    Lzo1x(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) : in_(packed), out_(into) {}

    std::optional<std::size_t> run() {
        if (in_.empty()) return std::nullopt;
        // A first byte above 17 stands for literals; its small counts leave the state that follows so many.
        if (in_[0] > 17) {
            const std::size_t count = in_[at_++] - 17U;
            if (!literals(count)) return std::nullopt;
            state_ = std::min<std::size_t>(count, 4);
        }
        while (!ended_)
            if (!instruction()) return std::nullopt;
        if (at_ != in_.size()) return std::nullopt;
        return made_;
    }

private:
    bool next(std::size_t& value) {
        if (at_ >= in_.size()) return false;
        value = in_[at_++];
        return true;
    }
    /// Zero bytes count 255 each, and the first other one ends the number.
    bool longer(std::size_t& length, std::size_t base) {
        std::size_t value = 0;
        std::size_t zeros = 0;
        while (next(value) && value == 0) ++zeros;
        if (value == 0 || zeros > in_.size()) return false;
        length = base + zeros * 255 + value;
        return true;
    }
    bool literals(std::size_t count) {
        if (count > in_.size() - at_ || count > out_.size() - made_) return false;
        std::copy_n(in_.begin() + static_cast<std::ptrdiff_t>(at_), count,
                    out_.begin() + static_cast<std::ptrdiff_t>(made_));
        at_ += count;
        made_ += count;
        return true;
    }
    bool match(std::size_t distance, std::size_t length, std::size_t literals_behind) {
        if (distance > made_ || length > out_.size() - made_) return false;
        for (; length > 0; --length, ++made_) out_[made_] = out_[made_ - distance];
        state_ = literals_behind;
        return literals(literals_behind);
    }

    bool instruction() {
        std::size_t op = 0;
        if (!next(op)) return false;
        if (op < 16) return state_ == 0 ? long_literals(op) : short_match(op);
        if (op < 64) return long_match(op);
        std::size_t high = 0;
        if (!next(high)) return false;
        const std::size_t length = op < 128 ? 3 + (op >> 5U & 1U) : 5 + (op >> 5U & 3U);
        return match((high << 3U) + (op >> 2U & 7U) + 1, length, op & 3U);
    }
    bool long_literals(std::size_t op) {
        std::size_t length = op;
        if (op == 0 && !longer(length, 15)) return false;
        state_ = 4;
        return literals(length + 3);
    }
    /// Behind literals: two bytes from nearby, or three from farther away when those were many.
    bool short_match(std::size_t op) {
        std::size_t high = 0;
        if (!next(high)) return false;
        const std::size_t distance = (high << 2U) + (op >> 2U);
        return state_ == 4 ? match(distance + 2049, 3, op & 3U) : match(distance + 1, 2, op & 3U);
    }
    bool long_match(std::size_t op) {
        const bool far = op < 32;
        const std::size_t mask = far ? 7 : 31;
        std::size_t length = op & mask;
        if (length == 0 && !longer(length, mask)) return false;
        std::size_t low = 0;
        std::size_t high = 0;
        if (!next(low) || !next(high)) return false;
        std::size_t distance = (high << 6U) + (low >> 2U);
        if (far) {
            distance += 16384 + (op >> 3U & 1U) * 16384;
            if (distance == 16384) {
                ended_ = length == 1;
                return ended_;
            }
        } else {
            ++distance;
        }
        return match(distance, length + 2, low & 3U);
    }

    std::span<const std::uint8_t> in_;
    std::span<std::uint8_t> out_;
    std::size_t at_ = 0;
    std::size_t made_ = 0;
    std::size_t state_ = 0;  ///< literals that the last instruction copied: 0 to 3, or 4 for a long run
    bool ended_ = false;
};

}  // namespace

std::optional<std::size_t> decode_lzo1x(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) {
    return Lzo1x(packed, into).run();
}

}  // namespace herberge::bytes
