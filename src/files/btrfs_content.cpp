// SPDX-License-Identifier: MIT
#include "files/btrfs_content.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <mutex>

#include "bytes/blocks.hpp"

namespace herberge::btrfs {

namespace {

/// LZO as Btrfs frames it (kernel fs/btrfs/lzo.c): the whole length, then pieces with a length each, none of which
/// lies across a sector's end.
Result<std::vector<std::uint8_t>> unpack_lzo(std::span<const std::uint8_t> packed, std::size_t most, std::size_t sector,
                                             const std::string& place) {
    const auto bad = [&] { return fail(ErrorKind::Malformed, "packed content is damaged (LZO)", place); };
    if (packed.size() < 4) return bad();
    const std::size_t total = ondisk::from_bytes<ondisk::little_uint32_t>(packed);
    if (total > packed.size()) return bad();
    std::vector<std::uint8_t> out;
    std::size_t at = 4;
    while (at + 4 <= total && out.size() < most) {
        const std::size_t left = sector - at % sector;
        if (left < 4) {
            at += left;
            continue;
        }
        const std::size_t length = ondisk::from_bytes<ondisk::little_uint32_t>(packed, at);
        at += 4;
        if (length == 0 || length > packed.size() - at) return bad();
        const auto piece = bytes::unpack_block(bytes::BlockCodec::Lzo, packed.subspan(at, length), sector);
        if (!piece) return tl::unexpected(piece.error());
        out.insert(out.end(), piece->begin(), piece->end());
        at += length;
    }
    return out;
}

class Content final : public ByteSource {
public:
    Content(std::shared_ptr<const Trees> trees, std::vector<Piece> pieces, std::uint64_t size, std::size_t sector,
            std::string place)
        : trees_(std::move(trees)),
          pieces_(std::move(pieces)),
          size_(size),
          sector_(sector),
          place_(std::move(place)) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
    [[nodiscard]] std::string place() const override { return place_; }

    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (offset > size_ || into.size() > size_ - offset)
            return fail(ErrorKind::OutOfRange, "a read past the end",
                        fmt::format("{}@{}+{}", place_, offset, into.size()));
        std::ranges::fill(into, std::uint8_t{0});
        auto piece = std::ranges::upper_bound(pieces_, offset, {}, &Piece::offset);
        if (piece != pieces_.begin()) --piece;
        for (; piece != pieces_.end() && piece->offset < offset + into.size(); ++piece) {
            const std::uint64_t from = std::max(offset, piece->offset);
            const std::uint64_t end = std::min(offset + into.size(), piece->offset + piece->length);
            if (from >= end) continue;
            const auto part = into.subspan(from - offset, end - from);
            if (auto done = copy(*piece, from - piece->offset, part); !done) return done;
        }
        return {};
    }

    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        std::vector<DiskRange> out;
        const std::uint64_t end = std::min(size_, offset + length);
        for (const auto& piece : pieces_) {
            if (!piece.here.empty() || piece.told.type != 1 || piece.told.position == 0) continue;
            std::uint64_t from = std::max(offset, piece.offset);
            const std::uint64_t to = std::min(end, piece.offset + piece.length);
            if (from >= to) continue;
            // What is packed lies there as a whole.
            std::uint64_t logical = piece.told.position;
            std::uint64_t left = piece.told.packed;
            if (piece.told.compression == 0) {
                logical += piece.told.offset + (from - piece.offset);
                left = to - from;
            }
            while (left != 0) {
                const auto spot = trees_->locate(logical);
                if (!spot) break;
                const std::uint64_t some = std::min(spot->room, left);
                const auto& first = spot->copies.front();
                for (const auto& range : (*first.device)->locate(first.at, some)) out.push_back(range);
                logical += some;
                left -= some;
            }
        }
        return out;
    }

private:
    Result<void> copy(const Piece& piece, std::uint64_t within, std::span<std::uint8_t> into) const {
        const auto& told = piece.told;
        if (told.type == 2 || (told.type == 1 && told.position == 0)) return {};  // a hole
        if (told.compression == 0 && told.type == 1) return trees_->read(told.position + told.offset + within, into);
        if (told.compression == 0) {
            if (within > piece.here.size()) return {};
            std::copy_n(piece.here.begin() + static_cast<std::ptrdiff_t>(within),
                        std::min<std::size_t>(into.size(), piece.here.size() - within), into.begin());
            return {};
        }
        const std::scoped_lock hold(lock_);
        if (held_ != &piece) {
            held_ = nullptr;
            auto made = unpack(piece);
            if (!made) return tl::unexpected(made.error());
            bytes_ = std::move(*made);
            held_ = &piece;
        }
        const std::uint64_t from = (told.type == 1 ? std::uint64_t{told.offset} : 0) + within;
        if (from < bytes_.size())
            std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(from),
                        std::min<std::size_t>(into.size(), bytes_.size() - from), into.begin());
        return {};
    }

    Result<std::vector<std::uint8_t>> unpack(const Piece& piece) const {
        constexpr std::uint64_t most = std::uint64_t{1} << 20U;  // the driver packs 128 KiB at most
        const auto& told = piece.told;
        if (told.unpacked > most || told.packed > most)
            return fail(ErrorKind::TooLarge, "packed content of an impossible size", place_);
        std::vector<std::uint8_t> packed = piece.here;
        if (told.type == 1) {
            packed.resize(told.packed);
            if (auto done = trees_->read(told.position, packed); !done) return tl::unexpected(done.error());
        }
        const auto size = static_cast<std::size_t>(std::uint64_t{told.unpacked});
        Result<std::vector<std::uint8_t>> out =
            fail(ErrorKind::Unsupported, "content packed in a way that is not known", place_);
        switch (told.compression) {
            case 1: out = bytes::unpack_block(bytes::BlockCodec::Zlib, packed, size); break;
            case 2: out = unpack_lzo(packed, size, sector_, place_); break;
            case 3: out = bytes::unpack_block(bytes::BlockCodec::Zstd, packed, size); break;
            default: break;
        }
        if (!out && out.error().place.empty()) {
            auto error = out.error();
            error.place = place_;
            return tl::unexpected(std::move(error));
        }
        return out;
    }

    std::shared_ptr<const Trees> trees_;
    std::vector<Piece> pieces_;
    std::uint64_t size_;
    std::size_t sector_;
    std::string place_;
    mutable std::mutex lock_;
    mutable const Piece* held_ = nullptr;  ///< whose content `bytes_` has
    mutable std::vector<std::uint8_t> bytes_;
};

}  // namespace

Source content_of(std::shared_ptr<const Trees> trees, std::vector<Piece> pieces, std::uint64_t size, std::size_t sector,
                  std::string place) {
    return std::make_shared<const Content>(std::move(trees), std::move(pieces), size, sector, std::move(place));
}

}  // namespace herberge::btrfs
