// SPDX-License-Identifier: MIT
// Sources that layers put together.
#pragma once

#include <herberge/bytes.hpp>

namespace herberge {

/// A source whose bytes lie in pieces of other ones.
class ChunkedSource : public ByteSource {
public:
    [[nodiscard]] std::uint64_t size() const noexcept final { return size_; }
    [[nodiscard]] std::string place() const final { return place_; }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const final;
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const final;

protected:
    explicit ChunkedSource(std::string place) : place_(std::move(place)) {}
    void set_size(std::uint64_t size) { size_ = size; }

    /// Where a byte lies, and how many bytes follow there in one piece.
    struct Piece {
        const ByteSource* part = nullptr;  ///< null: missing
        std::uint64_t at = 0;
        std::uint64_t room = 0;
    };

private:
    [[nodiscard]] virtual Piece piece(std::uint64_t offset) const = 0;
    /// Fills the beginning of `into`, whose part is missing or does not give it, and says how much of it. Errors: it
    /// cannot be had from elsewhere.
    virtual Result<std::size_t> made_up(std::uint64_t offset, std::span<std::uint8_t> into) const;

    std::uint64_t size_ = 0;
    std::string place_;
};

/// `size` bytes in chunks of `chunk` bytes that go round over `parts`: the first chunk of each, the second of each, and
/// so on. `parts` is not empty, `chunk` is not 0.
[[nodiscard]] Source striped_source(std::vector<Source> parts, std::uint64_t chunk, std::uint64_t size,
                                    std::string place);

/// `source` under another name.
[[nodiscard]] Source renamed(Source source, std::string place);

/// `size` bytes that are not there: each reading of them ends with `why`.
[[nodiscard]] Source absent_source(std::uint64_t size, Error why, std::string place);

/// `size` zeros that lie on no disk.
[[nodiscard]] Source zero_source(std::uint64_t size, std::string place);

}  // namespace herberge
