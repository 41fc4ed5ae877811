// SPDX-License-Identifier: MIT
#include "files/packed_pieces.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "bytes/codecs.hpp"
#include "files/piece_source.hpp"
#include "ondisk/describe.hpp"

namespace herberge {

namespace {

class PackedSource : public PieceSource {
public:
    PackedSource(Source packed, std::uint64_t size, const Packing& packing, std::string place)
        : PieceSource(size, packing.piece, std::move(place)), packed_(std::move(packed)), lzx_(packing.lzx) {}
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t /*offset*/, std::uint64_t length) const override {
        return length == 0 ? std::vector<DiskRange>{} : packed_->locate(0, packed_->size());
    }

private:
    /// The stream begins with the pieces' ends, counted from behind this table; the last one is the stream's end.
    [[nodiscard]] Result<std::vector<std::uint8_t>> unpack(std::uint64_t number, std::size_t plain) const override {
        const std::uint64_t pieces = (size() + piece() - 1) / piece();
        const std::uint64_t width = size() >= (std::uint64_t{1} << 32U) ? 8 : 4;
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
        if (*end < *begin || *end - *begin > plain + 4096)
            return fail(ErrorKind::Malformed, "a packed file whose pieces overlap", place());
        auto raw = packed_->bytes(table + *begin, *end - *begin);
        if (!raw || raw->size() == plain) return raw;
        std::vector<std::uint8_t> out(plain);
        if (!(lzx_ ? bytes::decode_lzx(*raw, out) : bytes::decode_xpress(*raw, out)))
            return fail(ErrorKind::Malformed, fmt::format("piece {} of a packed file does not unpack", number),
                        place());
        return out;
    }

    Source packed_;
    bool lzx_;
};

}  // namespace

Source packed_source(Source packed, std::uint64_t size, const Packing& packing, std::string place) {
    return std::make_shared<const PackedSource>(std::move(packed), size, packing, std::move(place));
}

}  // namespace herberge
