// SPDX-License-Identifier: MIT
// Unpacking, mostly through the codecs' own libraries: this file feeds them and bounds them.
#include <bzlib.h>
#include <fmt/format.h>
#include <lz4.h>
#include <lz4frame.h>
#include <lzma.h>
#include <zlib.h>
#include <zstd.h>
#include <algorithm>
#include <array>
#include <boost/endian/conversion.hpp>

#include <herberge/budget.hpp>
#include <herberge/bytes.hpp>

#include "bytes/codecs.hpp"
#include "bytes/held.hpp"

namespace herberge {

std::string_view compression_name(Compression kind) {
    switch (kind) {
        case Compression::None: return "none";
        case Compression::Gzip: return "gzip";
        case Compression::Xz: return "xz";
        case Compression::Lzma: return "lzma";
        case Compression::Zstd: return "zstd";
        case Compression::Lz4Legacy:
        case Compression::Lz4Frame: return "lz4";
        case Compression::Bzip2: return "bzip2";
        case Compression::Lzop: return "lzo";
    }
    return "none";
}

Compression recognise_compression(std::span<const std::uint8_t> start) {
    struct Mark {
        std::array<std::uint8_t, 4> bytes;
        std::size_t length;
        Compression kind;
    };
    // Linux lib/decompress.c, table compressed_formats.
    static constexpr std::array<Mark, 8> marks = {{
        {{0x1F, 0x8B}, 2, Compression::Gzip},
        {{0x1F, 0x9E}, 2, Compression::Gzip},
        {{0x42, 0x5A, 0x68}, 3, Compression::Bzip2},
        {{0x5D, 0x00, 0x00}, 3, Compression::Lzma},
        {{0xFD, 0x37, 0x7A, 0x58}, 4, Compression::Xz},
        {{0x89, 0x4C, 0x5A, 0x4F}, 4, Compression::Lzop},
        {{0x02, 0x21, 0x4C, 0x18}, 4, Compression::Lz4Legacy},
        {{0x28, 0xB5, 0x2F, 0xFD}, 4, Compression::Zstd},
    }};
    for (const auto& mark : marks)
        if (start.size() >= mark.length &&
            std::equal(mark.bytes.begin(), mark.bytes.begin() + static_cast<std::ptrdiff_t>(mark.length),
                       start.begin()))
            return mark.kind;
    return Compression::None;
}

Compression recognise_board_compression(std::span<const std::uint8_t> start) {
    static constexpr std::array<std::uint8_t, 4> frame = {0x04, 0x22, 0x4D, 0x18};
    if (start.size() >= frame.size() && std::ranges::equal(start.first(frame.size()), frame))
        return Compression::Lz4Frame;
    const auto kind = recognise_compression(start);
    return kind == Compression::Lz4Legacy || kind == Compression::Xz ? Compression::None : kind;
}

namespace {

constexpr std::size_t chunk = std::size_t{64} << 10;
constexpr std::size_t out_chunk = std::size_t{256} << 10;
constexpr std::uint64_t window_limit = std::uint64_t{128} << 20;

/// The compressed side: hands out the next bytes and remembers how many were used.
class Feed {
public:
    Feed(const ByteSource& source, std::uint64_t offset, std::uint64_t length)
        : source_(source),
          offset_(offset),
          left_(offset <= source.size() ? std::min(length, source.size() - offset) : 0) {}

    /// Fetches the next chunk into the buffer; false when nothing is left.
    Result<bool> more() {
        if (left_ == 0) return false;
        const auto part = static_cast<std::size_t>(std::min<std::uint64_t>(left_, chunk));
        buffer_.resize(part);
        if (auto done = source_.read(offset_, buffer_); !done) return tl::unexpected(done.error());
        offset_ += part;
        left_ -= part;
        given_ += part;
        return true;
    }
    /// Exactly `count` bytes from the current place (for block formats).
    Result<std::vector<std::uint8_t>> exactly(std::size_t count) {
        if (count > left_) return fail(ErrorKind::OutOfRange, "the compressed data is cut off", where());
        auto out = source_.bytes(offset_, count);
        if (out) {
            offset_ += count;
            left_ -= count;
            given_ += count;
        }
        return out;
    }
    [[nodiscard]] std::span<std::uint8_t> buffer() { return buffer_; }
    [[nodiscard]] std::uint64_t given() const { return given_; }
    [[nodiscard]] std::uint64_t left() const { return left_; }
    [[nodiscard]] std::string where() const { return fmt::format("{}, byte {}", source_.place(), offset_); }

private:
    const ByteSource& source_;
    std::uint64_t offset_;
    std::uint64_t left_;
    std::uint64_t given_ = 0;
    std::vector<std::uint8_t> buffer_;
};

/// The unpacked side: counts, bounds, and passes on.
class Drain {
public:
    Drain(std::uint64_t most, const ByteSink& sink) : most_(most), sink_(sink) {}
    Result<bool> give(std::span<const std::uint8_t> bytes, const Feed& feed) {
        produced_ += bytes.size();
        if (auto paid = charge(Cost::Unpacked, bytes.size(), feed.where()); !paid) return tl::unexpected(paid.error());
        // Real kernels and RAM disks shrink tenfold at best; data that grows two hundredfold is a bomb.
        if (produced_ > implausible_from && produced_ / implausible_ratio > feed.given())
            return fail(ErrorKind::TooLarge, "the compressed data grows beyond all plausibility", feed.where(),
                        fmt::format("at most {} times its packed size", implausible_ratio));
        if (produced_ > most_)
            return fail(ErrorKind::TooLarge, "the compressed data unpacks to more than is allowed", feed.where(),
                        fmt::format("at most {} bytes", most_));
        if (bytes.empty()) return true;
        return sink_(bytes);
    }
    [[nodiscard]] std::uint64_t produced() const { return produced_; }

private:
    static constexpr std::uint64_t implausible_from = std::uint64_t{64} << 20U;
    static constexpr std::uint64_t implausible_ratio = 200;

    std::uint64_t most_;
    const ByteSink& sink_;
    std::uint64_t produced_ = 0;
};

tl::unexpected<Error> damaged(const Feed& feed, Compression kind, std::string_view why) {
    return fail(ErrorKind::Malformed, fmt::format("the {} data is damaged ({})", compression_name(kind), why),
                feed.where());
}

tl::unexpected<Error> cut(const Feed& feed, Compression kind) {
    return fail(ErrorKind::OutOfRange, fmt::format("the {} data is cut off", compression_name(kind)), feed.where());
}

/// What one call of a codec did.
struct Step {
    std::size_t used = 0;
    std::size_t made = 0;
    bool ended = false;
    const char* problem = nullptr;
    bool only_sum = false;  ///< everything was unpacked, and the sum behind it is another
};

/// The loop shared by the codecs that work on any piece of input.
template <class Codec>
Result<Unpacked> stream(Codec codec, Compression kind, Feed& feed, Drain& drain) {
    std::vector<std::uint8_t> out(out_chunk);
    std::span<std::uint8_t> in;
    for (;;) {
        if (in.empty()) {
            auto more = feed.more();
            if (!more) return tl::unexpected(more.error());
            if (!*more) return cut(feed, kind);
            in = feed.buffer();
        }
        const Step step = codec(in, out);
        in = in.subspan(step.used);
        // What was unpacked before the damage is there, as it is for the kernel (lib/decompress_*.c).
        auto wanted = drain.give({out.data(), step.made}, feed);
        if (!wanted) return tl::unexpected(wanted.error());
        if (step.problem != nullptr) {
            auto error = damaged(feed, kind, step.problem);
            if (step.only_sum) error.value().kind = ErrorKind::Checksum;
            return error;
        }
        if (step.ended || !*wanted) return Unpacked{feed.given() - in.size(), drain.produced()};
        if (step.used == 0 && step.made == 0 && !in.empty()) return damaged(feed, kind, "no progress");
    }
}

Result<Unpacked> gunzip(Feed& feed, Drain& drain) {
    z_stream z{};
    if (inflateInit2(&z, 15 + 16) != Z_OK) return damaged(feed, Compression::Gzip, "no decoder");
    const Held<z_stream, inflateEnd> held(&z);
    return stream(
        [&z](std::span<std::uint8_t> in, std::span<std::uint8_t> out) {
            z.next_in = in.data();
            z.avail_in = static_cast<uInt>(in.size());
            z.next_out = out.data();
            z.avail_out = static_cast<uInt>(out.size());
            const int code = inflate(&z, Z_NO_FLUSH);
            Step step{in.size() - z.avail_in, out.size() - z.avail_out, code == Z_STREAM_END, nullptr};
            if (code != Z_OK && code != Z_STREAM_END && code != Z_BUF_ERROR)
                step.problem = z.msg != nullptr ? z.msg : "invalid";
            const std::string_view told = step.problem != nullptr ? step.problem : "";
            step.only_sum = told == "incorrect data check" || told == "incorrect length check";
            return step;
        },
        Compression::Gzip, feed, drain);
}

Result<Unpacked> unlzma(Compression kind, Feed& feed, Drain& drain) {
    lzma_stream z = LZMA_STREAM_INIT;
    const Held<lzma_stream, lzma_end> held(&z);
    const lzma_ret ready = kind == Compression::Xz ? lzma_stream_decoder(&z, window_limit + (1U << 20U), 0)
                                                   : lzma_alone_decoder(&z, window_limit + (1U << 20U));
    if (ready != LZMA_OK) return damaged(feed, kind, "no decoder");
    return stream(
        [&z](std::span<std::uint8_t> in, std::span<std::uint8_t> out) {
            z.next_in = in.data();
            z.avail_in = in.size();
            z.next_out = out.data();
            z.avail_out = out.size();
            const lzma_ret code = lzma_code(&z, LZMA_RUN);
            Step step{in.size() - z.avail_in, out.size() - z.avail_out, code == LZMA_STREAM_END, nullptr};
            if (code == LZMA_MEMLIMIT_ERROR) step.problem = "it asks for a window over 128 MiB";
            else if (code == LZMA_FORMAT_ERROR) step.problem = "not this format";
            else if (code != LZMA_OK && code != LZMA_STREAM_END && code != LZMA_BUF_ERROR)
                step.problem = "its check does not match";
            return step;
        },
        kind, feed, drain);
}

Result<Unpacked> unzstd(Feed& feed, Drain& drain) {
    const Held<ZSTD_DCtx, ZSTD_freeDCtx> context(ZSTD_createDCtx());
    if (!context) return damaged(feed, Compression::Zstd, "no decoder");
    ZSTD_DCtx_setParameter(context.get(), ZSTD_d_windowLogMax, 27);
    return stream(
        [&context](std::span<std::uint8_t> in, std::span<std::uint8_t> out) {
            ZSTD_inBuffer from{in.data(), in.size(), 0};
            ZSTD_outBuffer to{out.data(), out.size(), 0};
            const std::size_t code = ZSTD_decompressStream(context.get(), &to, &from);
            Step step{from.pos, to.pos, code == 0, nullptr};
            if (ZSTD_isError(code) != 0U) step.problem = ZSTD_getErrorName(code);
            return step;
        },
        Compression::Zstd, feed, drain);
}

Result<Unpacked> unbzip2(Feed& feed, Drain& drain) {
    bz_stream z{};
    if (BZ2_bzDecompressInit(&z, 0, 0) != BZ_OK) return damaged(feed, Compression::Bzip2, "no decoder");
    const Held<bz_stream, BZ2_bzDecompressEnd> held(&z);
    return stream(
        [&z](std::span<std::uint8_t> in, std::span<std::uint8_t> out) {
            z.next_in = reinterpret_cast<char*>(in.data());
            z.avail_in = static_cast<unsigned>(in.size());
            z.next_out = reinterpret_cast<char*>(out.data());
            z.avail_out = static_cast<unsigned>(out.size());
            const int code = BZ2_bzDecompress(&z);
            Step step{in.size() - z.avail_in, out.size() - z.avail_out, code == BZ_STREAM_END, nullptr};
            if (code != BZ_OK && code != BZ_STREAM_END) step.problem = "a block's check does not match";
            return step;
        },
        Compression::Bzip2, feed, drain);
}

/// The legacy frame of `lz4 -l`: blocks of at most 8 MiB unpacked, no checksum, ended by the end of the data.
/// Linux lib/decompress_unlz4.c is the reference for what ends it (a zero size, a size that cannot be).
Result<Unpacked> unlz4(Feed& feed, Drain& drain) {
    constexpr std::uint32_t block_most = 8U << 20U;
    if (auto magic = feed.exactly(4); !magic) return tl::unexpected(magic.error());
    std::vector<std::uint8_t> out(block_most);
    while (feed.left() >= 4) {
        auto head = feed.exactly(4);
        if (!head) return tl::unexpected(head.error());
        const std::uint32_t size = boost::endian::load_little_u32(head->data());
        if (size == 0x184C2102U) continue;  // another frame follows
        if (size == 0) return Unpacked{feed.given() - 4, drain.produced()};
        // Kernel images append the unpacked size as four bytes behind the last block.
        if (feed.left() == 0) return Unpacked{feed.given(), drain.produced()};
        if (size > static_cast<std::uint32_t>(LZ4_compressBound(block_most)))
            return damaged(feed, Compression::Lz4Legacy, "a block of impossible size");
        auto packed = feed.exactly(size);
        if (!packed) return cut(feed, Compression::Lz4Legacy);
        const int made =
            LZ4_decompress_safe(reinterpret_cast<const char*>(packed->data()), reinterpret_cast<char*>(out.data()),
                                static_cast<int>(size), static_cast<int>(block_most));
        if (made < 0) return damaged(feed, Compression::Lz4Legacy, "a block cannot be unpacked");
        auto wanted = drain.give({out.data(), static_cast<std::size_t>(made)}, feed);
        if (!wanted) return tl::unexpected(wanted.error());
        if (!*wanted) break;
    }
    return Unpacked{feed.given(), drain.produced()};
}

Result<Unpacked> unlz4_frame(Feed& feed, Drain& drain) {
    LZ4F_dctx* made = nullptr;
    if (LZ4F_isError(LZ4F_createDecompressionContext(&made, LZ4F_VERSION)) != 0U)
        return damaged(feed, Compression::Lz4Frame, "no decoder");
    const Held<LZ4F_dctx, LZ4F_freeDecompressionContext> context(made);
    return stream(
        [&context](std::span<std::uint8_t> in, std::span<std::uint8_t> out) {
            std::size_t used = in.size();
            std::size_t given = out.size();
            const std::size_t code = LZ4F_decompress(context.get(), out.data(), &given, in.data(), &used, nullptr);
            // It does not say how far it came with an error.
            if (LZ4F_isError(code) == 0U) return Step{used, given, code == 0, nullptr};
            Step step;
            step.problem = LZ4F_getErrorName(code);
            step.only_sum = LZ4F_getErrorName(code) == std::string_view("ERROR_contentChecksum_invalid");
            return step;
        },
        Compression::Lz4Frame, feed, drain);
}

/// lzop files; header layout as read by Linux lib/decompress_unlzo.c.
Result<Unpacked> unlzop(Feed& feed, Drain& drain) {
    constexpr std::uint32_t block_most = 64U << 20U;
    auto damage = [&](std::string_view why) { return damaged(feed, Compression::Lzop, why); };
    auto head = feed.exactly(9 + 2 + 2);
    if (!head) return tl::unexpected(head.error());
    const unsigned version = static_cast<unsigned>((*head)[9]) << 8U | (*head)[10];
    // lzop version >= 0x0940 carries "version needed" and a level byte.
    const std::size_t fixed = (version >= 0x0940 ? 2U : 0U) + 1U + (version >= 0x0940 ? 1U : 0U);
    auto method = feed.exactly(fixed);
    auto flag_bytes = feed.exactly(4);
    if (!method || !flag_bytes) return cut(feed, Compression::Lzop);
    const std::uint32_t flags = boost::endian::load_big_u32(flag_bytes->data());
    if ((flags & 0x800U) != 0U && !feed.exactly(4)) return cut(feed, Compression::Lzop);
    auto times = feed.exactly(4 + 4 + (version >= 0x0940 ? 4U : 0U));
    auto name_length = feed.exactly(1);
    if (!times || !name_length) return cut(feed, Compression::Lzop);
    if (auto rest = feed.exactly(std::size_t{(*name_length)[0]} + 4U); !rest) return cut(feed, Compression::Lzop);
    for (;;) {
        auto sizes = feed.exactly(4);
        if (!sizes) return cut(feed, Compression::Lzop);
        const std::uint32_t unpacked = boost::endian::load_big_u32(sizes->data());
        if (unpacked == 0) return Unpacked{feed.given(), drain.produced()};
        auto more = feed.exactly(4);
        if (!more) return cut(feed, Compression::Lzop);
        const std::uint32_t packed = boost::endian::load_big_u32(more->data());
        if (unpacked > block_most || packed > unpacked || packed == 0) return damage("a block of impossible size");
        std::size_t checks = ((flags & 0x01U) != 0U ? 4U : 0U) + ((flags & 0x100U) != 0U ? 4U : 0U);
        if (packed < unpacked) checks += ((flags & 0x02U) != 0U ? 4U : 0U) + ((flags & 0x200U) != 0U ? 4U : 0U);
        if (checks != 0 && !feed.exactly(checks)) return cut(feed, Compression::Lzop);
        auto block = feed.exactly(packed);
        if (!block) return cut(feed, Compression::Lzop);
        std::vector<std::uint8_t> out;
        if (packed == unpacked) {
            out = std::move(*block);
        } else {
            out.resize(unpacked);
            if (bytes::decode_lzo1x(*block, out) != std::size_t{unpacked}) return damage("a block cannot be unpacked");
        }
        auto wanted = drain.give(out, feed);
        if (!wanted) return tl::unexpected(wanted.error());
        if (!*wanted) return Unpacked{feed.given(), drain.produced()};
    }
}

}  // namespace

Result<Unpacked> unpack(Compression kind, const ByteSource& source, std::uint64_t offset, std::uint64_t length,
                        std::uint64_t most, const ByteSink& sink) {
    Feed feed(source, offset, length);
    Drain drain(most, sink);
    switch (kind) {
        case Compression::Gzip: return gunzip(feed, drain);
        case Compression::Xz:
        case Compression::Lzma: return unlzma(kind, feed, drain);
        case Compression::Zstd: return unzstd(feed, drain);
        case Compression::Lz4Legacy: return unlz4(feed, drain);
        case Compression::Lz4Frame: return unlz4_frame(feed, drain);
        case Compression::Bzip2: return unbzip2(feed, drain);
        case Compression::Lzop: return unlzop(feed, drain);
        case Compression::None: break;
    }
    for (;;) {
        auto more = feed.more();
        if (!more) return tl::unexpected(more.error());
        if (!*more) return Unpacked{feed.given(), drain.produced()};
        auto wanted = drain.give(feed.buffer(), feed);
        if (!wanted) return tl::unexpected(wanted.error());
        if (!*wanted) return Unpacked{feed.given(), drain.produced()};
    }
}

Result<std::vector<std::uint8_t>> unpack_raw_lzma(std::span<const std::uint8_t> packed, std::uint64_t size,
                                                  std::uint32_t dictionary) {
    constexpr std::uint64_t most = std::uint64_t{16} << 20U;
    if (size > most || dictionary > most)
        return fail(ErrorKind::TooLarge, "the LZMA data claims to unpack to more than is allowed", {},
                    fmt::format("at most {} bytes", most), fmt::format("{} bytes", size));
    lzma_options_lzma options{};
    options.dict_size = dictionary;
    options.lc = 3;
    options.lp = 0;
    options.pb = 2;
    const std::array<lzma_filter, 2> filters = {{{LZMA_FILTER_LZMA1, &options}, {LZMA_VLI_UNKNOWN, nullptr}}};
    lzma_stream z = LZMA_STREAM_INIT;
    const Held<lzma_stream, lzma_end> held(&z);
    if (lzma_raw_decoder(&z, filters.data()) != LZMA_OK)
        return fail(ErrorKind::Malformed, "no decoder for this LZMA data");
    std::vector<std::uint8_t> out(static_cast<std::size_t>(size));
    z.next_in = packed.data();
    z.avail_in = packed.size();
    z.next_out = out.data();
    z.avail_out = out.size();
    lzma_ret code = LZMA_OK;
    while (code == LZMA_OK && z.avail_out > 0) code = lzma_code(&z, LZMA_FINISH);
    const std::size_t missing = z.avail_out;
    const std::size_t used = packed.size() - z.avail_in;
    if (missing != 0)
        return fail(ErrorKind::Malformed, fmt::format("the LZMA data is damaged near its byte {}", used), {},
                    fmt::format("{} bytes", size), fmt::format("{} bytes", size - missing));
    return out;
}

}  // namespace herberge
