// SPDX-License-Identifier: MIT
// Files that Windows keeps packed as a whole behind a reparse point.
#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <mutex>

#include "bytes/codecs.hpp"
#include "files/ntfs_fs.hpp"

namespace herberge::ntfs {

namespace {

class PackedSource : public ByteSource {
public:
    PackedSource(Source packed, std::uint64_t size, const Packing& packing, std::string place)
        : packed_(std::move(packed)), size_(size), packing_(packing), piece_(packing.piece), place_(std::move(place)) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return size_; }
    [[nodiscard]] std::string place() const override { return place_; }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t /*offset*/, std::uint64_t length) const override {
        return length == 0 ? std::vector<DiskRange>{} : packed_->locate(0, packed_->size());
    }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (offset > size_ || into.size() > size_ - offset)
            return fail(ErrorKind::OutOfRange, "a read past the end", place_);
        const std::scoped_lock lock(mutex_);
        for (std::size_t done = 0; done < into.size();) {
            const std::uint64_t number = (offset + done) / piece_;
            if (!held_ || *held_ != number)
                if (auto loaded = load(number); !loaded) return loaded;
            const auto within = static_cast<std::size_t>((offset + done) % piece_);
            const std::size_t length = std::min(into.size() - done, bytes_.size() - within);
            std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(within), length,
                        into.begin() + static_cast<std::ptrdiff_t>(done));
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
        if (*end < *begin || *end - *begin > plain + 4096)
            return fail(ErrorKind::Malformed, "a packed file whose pieces overlap", place_);
        auto raw = packed_->bytes(table + *begin, *end - *begin);
        if (!raw) return tl::unexpected(raw.error());
        held_.reset();
        if (raw->size() == plain) {
            bytes_ = std::move(*raw);
        } else {
            bytes_.assign(static_cast<std::size_t>(plain), 0);
            if (!(packing_.lzx ? bytes::decode_lzx(*raw, bytes_) : bytes::decode_xpress(*raw, bytes_)))
                return fail(ErrorKind::Malformed, fmt::format("piece {} of a packed file does not unpack", number),
                            place_);
        }
        held_ = number;
        return {};
    }

    Source packed_;
    std::uint64_t size_;
    Packing packing_;
    std::uint32_t piece_;
    std::string place_;
    mutable std::mutex mutex_;
    mutable std::optional<std::uint64_t> held_;
    mutable std::vector<std::uint8_t> bytes_;
};

}  // namespace

/// FILE_PROVIDER_COMPRESSION_… of the reparse data.
const std::array<Packing, 4> packings = {{{4096, false}, {32768, true}, {8192, false}, {16384, false}}};

Source packed_source(Source packed, std::uint64_t size, const Packing& packing, std::string place) {
    return std::make_shared<const PackedSource>(std::move(packed), size, packing, std::move(place));
}

}  // namespace herberge::ntfs
