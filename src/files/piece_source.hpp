// SPDX-License-Identifier: MIT
// Contents that are packed in pieces of one size.
#pragma once

#include <algorithm>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include <herberge/bytes.hpp>

namespace herberge {

/// A source of which whole pieces are unpacked. Keeps the one that was read last.
class PieceSource : public ByteSource {
public:
    /// `piece`: bytes that each but the last one has.
    PieceSource(std::uint64_t size, std::uint64_t piece, std::string place)
        : size_(size), piece_(piece), place_(std::move(place)) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
    [[nodiscard]] std::string place() const override { return place_; }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (offset > size_ || into.size() > size_ - offset)
            return fail(ErrorKind::OutOfRange, "a read past the end", place_);
        const std::scoped_lock lock(mutex_);
        for (std::size_t done = 0; done < into.size();) {
            const std::uint64_t number = (offset + done) / piece_;
            if (!held_ || *held_ != number) {
                const auto wanted = static_cast<std::size_t>(std::min(piece_, size_ - number * piece_));
                held_.reset();
                auto made = unpack(number, wanted);
                if (!made) return tl::unexpected(made.error());
                bytes_ = std::move(*made);
                bytes_.resize(wanted);
                held_ = number;
            }
            const auto within = static_cast<std::size_t>((offset + done) % piece_);
            const std::size_t length = std::min(into.size() - done, bytes_.size() - within);
            std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(within), length,
                        into.begin() + static_cast<std::ptrdiff_t>(done));
            done += length;
        }
        return {};
    }

protected:
    [[nodiscard]] std::uint64_t piece() const { return piece_; }

private:
    /// The piece `number`, which has `wanted` bytes; what is missing at its end reads as zeros.
    [[nodiscard]] virtual Result<std::vector<std::uint8_t>> unpack(std::uint64_t number, std::size_t wanted) const = 0;

    std::uint64_t size_;
    std::uint64_t piece_;
    std::string place_;
    mutable std::mutex mutex_;
    mutable std::optional<std::uint64_t> held_;
    mutable std::vector<std::uint8_t> bytes_;
};

}  // namespace herberge
