// SPDX-License-Identifier: MIT
#include "packers.hpp"

#include <lzo/lzo1x.h>
#include <wimlib.h>
#include <zlib.h>
#include <algorithm>
#include <stdexcept>

namespace support {

using forge::Bytes;

namespace {

wimlib_compression_type type_of(std::uint32_t algorithm) {
    return algorithm == 1 ? WIMLIB_COMPRESSION_TYPE_LZX : WIMLIB_COMPRESSION_TYPE_XPRESS;
}

void start_lzo() {
    if (lzo_init() != LZO_E_OK) throw std::runtime_error("lzo");
}

}  // namespace

Bytes lzo1x(const Bytes& plain, bool thorough) {
    start_lzo();
    Bytes out(plain.size() + plain.size() / 16 + 64 + 3);
    Bytes work(std::max<std::size_t>(LZO1X_1_MEM_COMPRESS, LZO1X_999_MEM_COMPRESS));
    lzo_uint size = out.size();
    if (thorough) lzo1x_999_compress(plain.data(), plain.size(), out.data(), &size, work.data());
    else lzo1x_1_compress(plain.data(), plain.size(), out.data(), &size, work.data());
    out.resize(size);
    return out;
}

Bytes lzop(const Bytes& plain) { return lzop_with(plain, 0x01, 0x0940); }

Bytes lzop_with(const Bytes& plain, std::uint32_t flags, std::uint16_t version) {
    Bytes out = {0x89, 0x4C, 0x5A, 0x4F, 0x00, 0x0D, 0x0A, 0x1A, 0x0A};
    const auto put = [&](std::size_t value, unsigned bytes = 4) {
        for (unsigned i = bytes; i-- > 0;) out.push_back(static_cast<std::uint8_t>(value >> (8 * i)));
    };
    put(version, 2);
    put(0x2080, 2);  // of the library
    if (version >= 0x0940) put(0x0940, 2);
    put(1, 1);  // lzo1x-1
    if (version >= 0x0940) put(5, 1);
    put(flags);
    if ((flags & 0x800U) != 0) put(1);  // a filter
    put(0100644);
    put(0);
    if (version >= 0x0940) put(0);
    put(0, 1);
    put(0);  // header checksum, not read by the kernel
    constexpr std::size_t block = 256U << 10U;
    for (std::size_t at = 0; at < plain.size(); at += block) {
        const Bytes part(plain.begin() + static_cast<std::ptrdiff_t>(at),
                         plain.begin() + static_cast<std::ptrdiff_t>(std::min(at + block, plain.size())));
        Bytes packed = lzo1x(part);
        if (packed.size() >= part.size()) packed = part;
        put(part.size());
        put(packed.size());
        const auto sums = [&](const Bytes& of, std::uint32_t adler, std::uint32_t crc) {
            const auto size = static_cast<uInt>(of.size());
            if ((flags & adler) != 0) put(adler32(adler32(0, nullptr, 0), of.data(), size));
            if ((flags & crc) != 0) put(crc32(0, of.data(), size));
        };
        sums(part, 0x01, 0x100);
        if (packed.size() < part.size()) sums(packed, 0x02, 0x200);
        out.insert(out.end(), packed.begin(), packed.end());
    }
    put(0);
    return out;
}

Bytes pack_piece_at(const Bytes& plain, std::uint32_t algorithm, unsigned level) {
    wimlib_compressor* compressor = nullptr;
    if (wimlib_create_compressor(type_of(algorithm), plain.size(), level, &compressor) != 0)
        throw std::runtime_error("no compressor");
    Bytes out(plain.size());
    out.resize(wimlib_compress(plain.data(), plain.size(), out.data(), plain.size() - 1, compressor));
    wimlib_free_compressor(compressor);
    return out;
}

Bytes pack_piece(const Bytes& plain, std::uint32_t algorithm) { return pack_piece_at(plain, algorithm, 0); }

std::optional<Bytes> lzo1x_unpacked(const Bytes& packed, std::size_t room) {
    start_lzo();
    Bytes out(room);
    lzo_uint size = room;
    if (lzo1x_decompress_safe(packed.data(), packed.size(), out.data(), &size, nullptr) != LZO_E_OK)
        return std::nullopt;
    out.resize(size);
    return out;
}

std::optional<Bytes> piece_unpacked(const Bytes& packed, std::size_t size, std::uint32_t algorithm) {
    wimlib_decompressor* decompressor = nullptr;
    if (wimlib_create_decompressor(type_of(algorithm), algorithm == 1 ? 32768 : 65536, &decompressor) != 0)
        throw std::runtime_error("no decompressor");
    Bytes out(size);
    const int code = wimlib_decompress(packed.data(), packed.size(), out.data(), size, decompressor);
    wimlib_free_decompressor(decompressor);
    if (code != 0) return std::nullopt;
    return out;
}

}  // namespace support
