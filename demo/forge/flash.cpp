// SPDX-License-Identifier: MIT
// A flash divided by UBI (Linux drivers/mtd/ubi/ubi-media.h), as its maker leaves it.
#include <algorithm>

#include <zlib.h>

#include "board.hpp"

namespace forge {

namespace {

constexpr std::size_t block = 65536;
constexpr std::size_t content_at = 128;  // two headers of 64 bytes
constexpr std::size_t record = 172;
constexpr std::uint32_t table = 0x7FFFEFFF;

void put_big(Bytes& out, std::size_t at, std::uint64_t value, std::size_t size = 4) {
    for (std::size_t i = 0; i < size; ++i) out[at + i] = static_cast<std::uint8_t>(value >> (8 * (size - 1 - i)));
}
/// A CRC-32 that is not turned at its end.
std::uint32_t sum(const Bytes& out, std::size_t at, std::size_t size) {
    return ~static_cast<std::uint32_t>(::crc32_z(0, out.data() + at, size));
}

/// One erase block with a logical one in it.
Bytes one_block(std::uint32_t volume, std::uint32_t number, const Bytes& content) {
    Bytes out(block, 0xFF);
    std::fill_n(out.begin(), content_at, std::uint8_t{0});
    const Bytes erase = to_bytes("UBI#\x01"), head = to_bytes("UBI!\x01\x01");
    std::ranges::copy(erase, out.begin());
    put_big(out, 8, 1, 8);
    put_big(out, 16, 64);
    put_big(out, 20, content_at);
    put_big(out, 60, sum(out, 0, 60));
    std::ranges::copy(head, out.begin() + 64);
    put_big(out, 64 + 8, volume);
    put_big(out, 64 + 12, number);
    put_big(out, 64 + 60, sum(out, 64, 60));
    std::ranges::copy(content, out.begin() + content_at);
    return out;
}

}  // namespace

Bytes make_ubi(const std::vector<std::pair<std::string, Bytes>>& volumes, std::size_t blocks) {
    constexpr std::size_t logical = block - content_at;
    constexpr std::size_t most = 128;
    Bytes rows(most * record, 0);
    std::vector<Bytes> all;
    for (std::size_t i = 0; i < most; ++i) {
        const std::size_t at = i * record;
        if (i < volumes.size()) {
            const auto& [name, content] = volumes[i];
            put_big(rows, at, (content.size() + logical - 1) / logical);
            put_big(rows, at + 4, 1);
            rows[at + 12] = 1;
            put_big(rows, at + 14, name.size(), 2);
            std::ranges::copy(name, rows.begin() + static_cast<std::ptrdiff_t>(at + 16));
        }
        put_big(rows, at + record - 4, sum(rows, at, record - 4));
    }
    for (std::uint32_t copy = 0; copy < 2; ++copy) all.push_back(one_block(table, copy, rows));
    for (std::size_t i = 0; i < volumes.size(); ++i)
        for (std::size_t at = 0; at < volumes[i].second.size(); at += logical) {
            const auto from = volumes[i].second.begin() + static_cast<std::ptrdiff_t>(at);
            const auto size = static_cast<std::ptrdiff_t>(std::min(logical, volumes[i].second.size() - at));
            all.push_back(one_block(static_cast<std::uint32_t>(i), static_cast<std::uint32_t>(at / logical),
                                    Bytes(from, from + size)));
        }
    Bytes out;
    for (const auto& one : all) out.insert(out.end(), one.begin(), one.end());
    // Erased blocks carry the first header alone; here they are as the chip came.
    out.resize(std::max(out.size(), blocks * block), 0xFF);
    return out;
}

}  // namespace forge
