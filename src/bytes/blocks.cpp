// SPDX-License-Identifier: MIT
#include "bytes/blocks.hpp"

#include <lz4.h>
#include <lzma.h>
#include <zlib.h>
#include <zstd.h>

#include "bytes/codecs.hpp"

namespace herberge::bytes {

namespace {

constexpr std::uint64_t window_limit = std::uint64_t{64} << 20U;

/// The number of bytes made; none: damaged.
using Made = std::optional<std::size_t>;

Made zlib(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) {
    uLongf size = into.size();
    if (uncompress(into.data(), &size, packed.data(), packed.size()) != Z_OK) return std::nullopt;
    return size;
}

/// Without zlib's head and sum.
Made deflate(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) {
    z_stream z{};
    if (inflateInit2(&z, -MAX_WBITS) != Z_OK) return std::nullopt;
    z.next_in = const_cast<Bytef*>(packed.data());  // zlib does not write there
    z.avail_in = static_cast<uInt>(packed.size());
    z.next_out = into.data();
    z.avail_out = static_cast<uInt>(into.size());
    const int code = inflate(&z, Z_FINISH);
    const std::size_t made = into.size() - z.avail_out;
    inflateEnd(&z);
    return code == Z_STREAM_END ? std::optional(made) : std::nullopt;
}

Made xz(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) {
    std::uint64_t limit = window_limit;
    std::size_t in = 0;
    std::size_t out = 0;
    if (lzma_stream_buffer_decode(&limit, 0, nullptr, packed.data(), &in, packed.size(), into.data(), &out,
                                  into.size()) != LZMA_OK)
        return std::nullopt;
    return out;
}

Made lzma(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) {
    lzma_stream z = LZMA_STREAM_INIT;
    if (lzma_alone_decoder(&z, window_limit) != LZMA_OK) return std::nullopt;
    z.next_in = packed.data();
    z.avail_in = packed.size();
    z.next_out = into.data();
    z.avail_out = into.size();
    lzma_ret code = LZMA_OK;
    while (code == LZMA_OK && z.avail_out > 0) code = lzma_code(&z, LZMA_FINISH);
    const std::size_t made = into.size() - z.avail_out;
    lzma_end(&z);
    if (code != LZMA_STREAM_END && code != LZMA_OK) return std::nullopt;
    return made;
}

Made lz4(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) {
    const int made =
        LZ4_decompress_safe(reinterpret_cast<const char*>(packed.data()), reinterpret_cast<char*>(into.data()),
                            static_cast<int>(packed.size()), static_cast<int>(into.size()));
    if (made < 0) return std::nullopt;
    return static_cast<std::size_t>(made);
}

Made zstd(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into) {
    // One frame; what is there to fill a sector does not count.
    const std::size_t frame = ZSTD_findFrameCompressedSize(packed.data(), packed.size());
    if (ZSTD_isError(frame) != 0U) return std::nullopt;
    const std::size_t made = ZSTD_decompress(into.data(), into.size(), packed.data(), frame);
    if (ZSTD_isError(made) != 0U) return std::nullopt;
    return made;
}

}  // namespace

Result<std::vector<std::uint8_t>> unpack_block(BlockCodec codec, std::span<const std::uint8_t> packed,
                                               std::size_t most) {
    std::vector<std::uint8_t> out(most);
    Made made;
    switch (codec) {
        case BlockCodec::Zlib: made = zlib(packed, out); break;
        case BlockCodec::Lzma: made = lzma(packed, out); break;
        case BlockCodec::Lzo: made = decode_lzo1x(packed, out); break;
        case BlockCodec::Xz: made = xz(packed, out); break;
        case BlockCodec::Lz4: made = lz4(packed, out); break;
        case BlockCodec::Zstd: made = zstd(packed, out); break;
        case BlockCodec::Deflate: made = deflate(packed, out); break;
    }
    if (!made) return fail(ErrorKind::Malformed, "a packed block does not unpack");
    out.resize(*made);
    return out;
}

}  // namespace herberge::bytes
