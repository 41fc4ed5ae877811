// SPDX-License-Identifier: MIT
// Files that Windows keeps packed as a whole behind a reparse point: the XPRESS kinds.
#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <mutex>

#include "volume/ntfs_fs.hpp"

namespace herberge::ntfs {

namespace {

constexpr std::size_t symbols = 512;
constexpr unsigned longest = 15;

/// Bits come from 16-bit words, highest first; two words are held ahead, and lengths are read as bytes behind them.
class Bits {
public:
    explicit Bits(std::span<const std::uint8_t> bytes) : bytes_(bytes) {
        value_ = word() << 16U;
        value_ |= word();
    }
    [[nodiscard]] unsigned peek(unsigned count) const { return count == 0 ? 0 : value_ >> (32 - count); }
    void skip(unsigned count) {
        value_ = count == 0 ? value_ : value_ << count;
        spare_ -= static_cast<int>(count);
        if (spare_ < 0) {
            value_ |= word() << static_cast<unsigned>(-spare_);
            spare_ += 16;
        }
    }
    unsigned byte() { return at_ < bytes_.size() ? bytes_[at_++] : 0; }
    std::uint32_t word() {
        const std::uint32_t low = byte();
        return low | std::uint32_t{byte()} << 8U;
    }

private:
    std::span<const std::uint8_t> bytes_;
    std::size_t at_ = 0;
    std::uint32_t value_ = 0;
    int spare_ = 16;
};

class PackedSource : public ByteSource {
public:
    PackedSource(Source packed, std::uint64_t size, std::uint32_t piece, std::string place)
        : packed_(std::move(packed)), size_(size), piece_(piece), place_(std::move(place)) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
    [[nodiscard]] std::string place() const override { return place_; }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t /*offset*/, std::uint64_t length) const override {
        return length == 0 ? std::vector<DiskRange>{} : packed_->locate(0, packed_->size());
    }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (offset > size_ || into.size() > size_ - offset) return fail(ErrorKind::OutOfRange, "a read past the end", place_);
        const std::scoped_lock lock(mutex_);
        for (std::size_t done = 0; done < into.size();) {
            const std::uint64_t number = (offset + done) / piece_;
            if (!held_ || *held_ != number)
                if (auto loaded = load(number); !loaded) return loaded;
            const auto within = static_cast<std::size_t>((offset + done) % piece_);
            const std::size_t length = std::min(into.size() - done, bytes_.size() - within);
            std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(within), length, into.begin() + static_cast<std::ptrdiff_t>(done));
            done += length;
        }
        return {};
    }

private:
    /// The stream begins with the pieces' ends, counted from behind this table; the last one is the stream's end.
    Result<void> load(std::uint64_t number) const {
        const std::uint64_t pieces = (size_ + piece_ - 1) / piece_;
        const std::uint64_t width = size_ >= (std::uint64_t{1} << 32U) ? 8 : 4;
        const std::uint64_t table = (pieces - 1) * width;
        auto bound = [&](std::uint64_t index) -> Result<std::uint64_t> {
            if (index == 0) return std::uint64_t{0};
            if (index >= pieces) return packed_->size() >= table ? packed_->size() - table : 0;
            if (width == 4) {
                const auto value = packed_->load<ondisk::little_uint32_t>((index - 1) * width);
                if (!value) return tl::unexpected(value.error());
                return std::uint64_t{*value};
            }
            const auto value = packed_->load<ondisk::little_uint64_t>((index - 1) * width);
            if (!value) return tl::unexpected(value.error());
            return std::uint64_t{*value};
        };
        const auto begin = bound(number);
        const auto end = bound(number + 1);
        if (!begin || !end) return tl::unexpected(begin ? end.error() : begin.error());
        const std::uint64_t plain = std::min<std::uint64_t>(piece_, size_ - number * piece_);
        if (*end < *begin || *end - *begin > plain + 4096) return fail(ErrorKind::Malformed, "a packed file whose pieces overlap", place_);
        auto raw = packed_->bytes(table + *begin, *end - *begin);
        if (!raw) return tl::unexpected(raw.error());
        held_.reset();
        if (raw->size() == plain) {
            bytes_ = std::move(*raw);
        } else {
            auto unpacked = unpack_xpress(*raw, static_cast<std::size_t>(plain));
            if (!unpacked) {
                unpacked.error().place = place_;
                return tl::unexpected(unpacked.error());
            }
            bytes_ = std::move(*unpacked);
        }
        held_ = number;
        return {};
    }

    Source packed_;
    std::uint64_t size_;
    std::uint32_t piece_;
    std::string place_;
    mutable std::mutex mutex_;
    mutable std::optional<std::uint64_t> held_;
    mutable std::vector<std::uint8_t> bytes_;
};

}  // namespace

Result<std::vector<std::uint8_t>> unpack_xpress(std::span<const std::uint8_t> packed, std::size_t size) {
    if (packed.size() < symbols / 2) return fail(ErrorKind::OutOfRange, "a packed piece is too short for its code table");
    std::array<unsigned, symbols> lengths{};
    for (std::size_t i = 0; i < symbols; ++i) lengths.at(i) = i % 2 == 0 ? packed[i / 2] & 15U : packed[i / 2] >> 4U;
    // A table over all 15-bit prefixes.
    std::vector<std::uint16_t> table(std::size_t{1} << longest, 0xFFFF);
    std::size_t next = 0;
    for (unsigned length = 1; length <= longest; ++length)
        for (std::size_t symbol = 0; symbol < symbols; ++symbol) {
            if (lengths.at(symbol) != length) continue;
            const std::size_t count = std::size_t{1} << (longest - length);
            if (next + count > table.size()) return fail(ErrorKind::Malformed, "a packed piece with an impossible code table");
            std::fill_n(table.begin() + static_cast<std::ptrdiff_t>(next), count, static_cast<std::uint16_t>(symbol));
            next += count;
        }
    Bits bits(packed.subspan(symbols / 2));
    std::vector<std::uint8_t> out;
    out.reserve(size);
    while (out.size() < size) {
        const unsigned symbol = table[bits.peek(longest)];
        if (symbol == 0xFFFF) return fail(ErrorKind::Malformed, "a packed piece with an unknown code");
        bits.skip(lengths.at(symbol));
        if (symbol < 256) {
            out.push_back(static_cast<std::uint8_t>(symbol));
            continue;
        }
        std::size_t length = symbol & 15U;
        const unsigned distance_bits = (symbol - 256) >> 4U;
        if (length == 15) {
            length = bits.byte();
            if (length == 255) length = bits.word();
            else length += 15;
        }
        length += 3;
        const std::size_t distance = (std::size_t{1} << distance_bits) + bits.peek(distance_bits);
        bits.skip(distance_bits);
        if (distance > out.size() || length > size - out.size()) return fail(ErrorKind::Malformed, "a copy from outside the packed piece");
        for (std::size_t i = 0; i < length; ++i) out.push_back(out[out.size() - distance]);
    }
    return out;
}

Source packed_source(Source packed, std::uint64_t size, std::uint32_t piece, std::string place) {
    return std::make_shared<const PackedSource>(std::move(packed), size, piece, std::move(place));
}

}  // namespace herberge::ntfs
