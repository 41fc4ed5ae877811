// SPDX-License-Identifier: MIT
// The project's own decoders of single blocks, against the packaged ones.
#include "bytes/codecs.hpp"

#include "packers.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

void append(Bytes& out, const Bytes& more) { out.insert(out.end(), more.begin(), more.end()); }

/// Contents that lead through every kind of instruction: runs, text, program code with calls, noise, and mixtures.
std::vector<Bytes> contents(std::size_t size) {
    std::vector<Bytes> out;
    out.emplace_back(size, std::uint8_t{0});
    Bytes text;
    for (int i = 0; text.size() < size; ++i)
        append(text, forge::to_bytes("room " + std::to_string(i * 7919 % 1000) + " faces the lake\n"));
    text.resize(size);
    out.push_back(text);
    out.push_back(forge::noise(size, 11));
    Bytes calls;
    for (std::uint32_t i = 0; calls.size() < size; ++i) {
        const std::uint32_t to = i % 5 == 0 ? 0xFFFFFF00U + i : i % 3 == 0 ? 12'000'000U - i : i * 977U;
        append(calls, Bytes{0x55, 0xE8, static_cast<std::uint8_t>(to), static_cast<std::uint8_t>(to >> 8U),
                            static_cast<std::uint8_t>(to >> 16U), static_cast<std::uint8_t>(to >> 24U), 0xC3});
    }
    calls.resize(size);
    out.push_back(calls);
    // Short and long distances, matches next to each other, one to three literals between them.
    Bytes mixed;
    for (std::uint32_t seed = 1; mixed.size() < size; seed = seed * 1664525U + 1013904223U) {
        const std::size_t length = 2 + seed / 65536U % 40;
        if (mixed.size() > 100 && seed % 4 != 0) {
            const std::size_t from = seed / 7U % (mixed.size() - length);
            const Bytes again(mixed.begin() + static_cast<std::ptrdiff_t>(from),
                              mixed.begin() + static_cast<std::ptrdiff_t>(from + length));
            append(mixed, again);
        } else {
            append(mixed, forge::noise(length % 5 + 1, seed));
        }
    }
    mixed.resize(size);
    out.push_back(mixed);
    return out;
}

std::optional<Bytes> own_lzo(const Bytes& packed, std::size_t room) {
    Bytes out(room);
    const auto made = bytes::decode_lzo1x(packed, out);
    if (!made) return std::nullopt;
    out.resize(*made);
    return out;
}

std::optional<Bytes> own_piece(const Bytes& packed, std::size_t size, std::uint32_t algorithm) {
    Bytes out(size);
    if (!(algorithm == 1 ? bytes::decode_lzx(packed, out) : bytes::decode_xpress(packed, out))) return std::nullopt;
    return out;
}

/// `packed` with one bit changed, in some hundred ways.
void each_damage(const Bytes& packed, const std::function<void(const Bytes&)>& visit) {
    for (std::size_t i = 0; i < 400; ++i) {
        Bytes wrong = packed;
        wrong[i * 2654435761U % packed.size()] ^= static_cast<std::uint8_t>(1U << (i % 8));
        visit(wrong);
    }
}

/// `packed` with its end cut off, down to nothing. Packers may leave a word or two behind the last bit that is used.
void each_cut(const Bytes& packed, const std::function<void(const Bytes&)>& visit) {
    for (std::size_t keep = 0; keep + 6 < packed.size(); keep += 1 + packed.size() / 60)
        visit(Bytes(packed.begin(), packed.begin() + static_cast<std::ptrdiff_t>(keep)));
}

}  // namespace

TEST(Lzo1x, UnpacksWhatThePackersMake) {
    for (const std::size_t size : {1U, 3U, 17U, 237U, 4096U, 70'000U, 262'144U})
        for (const auto& content : contents(size))
            for (const bool thorough : {false, true}) {
                const auto packed = support::lzo1x(content, thorough);
                const auto back = own_lzo(packed, size);
                ASSERT_TRUE(back) << size;
                EXPECT_TRUE(*back == content) << size;
                EXPECT_FALSE(own_lzo(packed, size - 1)) << "one byte too little room";
            }
}

TEST(Lzo1x, TakesAndRefusesTheSameDamagedBlocks) {
    std::size_t taken = 0;
    std::size_t refused = 0;
    for (const auto& content : contents(5000))
        for (const bool thorough : {false, true}) {
            const auto packed = support::lzo1x(content, thorough);
            each_cut(packed, [&](const Bytes& cut) { EXPECT_FALSE(own_lzo(cut, 8000)) << cut.size(); });
            each_damage(packed, [&](const Bytes& wrong) {
                const auto theirs = support::lzo1x_unpacked(wrong, 8000);
                const auto ours = own_lzo(wrong, 8000);
                // The end's marker has a length that Linux' decoder checks and the library's does not.
                if (theirs && !ours && wrong[wrong.size() - 3] != 0x11) return;
                ASSERT_EQ(ours.has_value(), theirs.has_value());
                if (ours) {
                    EXPECT_TRUE(*ours == *theirs);
                }
                ++(ours ? taken : refused);
            });
        }
    EXPECT_GT(taken, 100U);
    EXPECT_GT(refused, 100U);
}

TEST(PackedPieces, UnpackToWhatWasPacked) {
    std::size_t packed_pieces = 0;
    for (const std::uint32_t algorithm : {0U, 1U})
        for (const std::size_t size : {300U, 4096U, 8192U, 16384U, 32768U})
            for (const auto& content : contents(size))
                for (const unsigned level : {20U, 50U, 100U}) {
                    const auto packed = support::pack_piece_at(content, algorithm, level);
                    if (packed.empty()) continue;  // it does not shrink
                    ++packed_pieces;
                    const auto back = own_piece(packed, size, algorithm);
                    ASSERT_TRUE(back) << algorithm << " " << size;
                    EXPECT_TRUE(*back == content) << algorithm << " " << size;
                }
    EXPECT_GT(packed_pieces, 80U);
}

TEST(PackedPieces, DamageIsRefusedOrGivesTheSameBytes) {
    std::size_t taken = 0;
    std::size_t refused = 0;
    for (const std::uint32_t algorithm : {0U, 1U})
        for (const auto& content : contents(16384)) {
            const auto packed = support::pack_piece(content, algorithm);
            if (packed.empty()) continue;
            each_cut(packed, [&](const Bytes& cut) {
                EXPECT_FALSE(own_piece(cut, content.size(), algorithm)) << cut.size() << " of " << packed.size();
            });
            each_damage(packed, [&](const Bytes& wrong) {
                const auto theirs = support::piece_unpacked(wrong, content.size(), algorithm);
                // Theirs reads zeros behind the end, ours refuses that.
                Bytes longer = wrong;
                longer.resize(wrong.size() + content.size());
                const auto ours = own_piece(longer, content.size(), algorithm);
                ASSERT_EQ(ours.has_value(), theirs.has_value())
                    << algorithm << " " << wrong.size() << " of " << packed.size();
                if (ours) {
                    EXPECT_TRUE(*ours == *theirs) << algorithm;
                }
                ++(ours ? taken : refused);
            });
        }
    EXPECT_GT(taken, 100U);
    EXPECT_GT(refused, 100U);
}

TEST(PackedPieces, LzxPiecesLongerThanTheWindowAreRefused) {
    Bytes out(32769);
    EXPECT_FALSE(bytes::decode_lzx(Bytes(100), out));
}
