// SPDX-License-Identifier: MIT
#include <malloc.h>
#include <new>
#include <random>

#include "bytes/text16.hpp"
#include "packers.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

Bytes counting(std::size_t size) {
    Bytes out(size);
    for (std::size_t i = 0; i < size; ++i) out[i] = static_cast<std::uint8_t>(i * 7 + i / 256);
    return out;
}

/// Letters of either case are one name: Latin, Greek, Cyrillic, each range at both its edges.
TEST(Names, EveryLetterHasItsOtherCase) {
    const std::pair<char16_t, char16_t> pairs[] = {
        {u'a', u'A'},   {u'z', u'Z'},   {0xE0, 0xC0},   {0xF6, 0xD6},   {0xF8, 0xD8},   {0xFE, 0xDE},
        {0xFF, 0x178},  {0x101, 0x100}, {0x137, 0x136}, {0x13A, 0x139}, {0x148, 0x147}, {0x14B, 0x14A},
        {0x177, 0x176}, {0x17A, 0x179}, {0x17E, 0x17D}, {0x3B1, 0x391}, {0x3C1, 0x3A1}, {0x3C3, 0x3A3},
        {0x3C9, 0x3A9}, {0x430, 0x410}, {0x44F, 0x42F}, {0x450, 0x400}, {0x45F, 0x40F}};
    for (const auto& [lower, upper] : pairs) {
        EXPECT_EQ(simple_upper(lower), upper) << std::hex << static_cast<int>(lower);
        EXPECT_EQ(simple_upper(upper), upper) << std::hex << static_cast<int>(upper);
        EXPECT_TRUE(same_name(utf8_from(std::u16string(1, lower) + u"x"), utf8_from(std::u16string(1, upper) + u"X")));
    }
    for (const char16_t none :
         {u'`', u'{', char16_t{0xDF}, char16_t{0xF7}, char16_t{0x131}, char16_t{0x138}, char16_t{0x149},
          char16_t{0x3B0}, char16_t{0x3C2}, char16_t{0x3CA}, char16_t{0x460}, char16_t{0x4E2D}})
        EXPECT_EQ(simple_upper(none), none) << std::hex << static_cast<int>(none);
}

TEST(Sources, SliceMapsBackToTheDiskAndStopsAtItsEnd) {
    const auto disk = memory_source(counting(1000), "d1", 1);
    const auto part = slice(disk, 100, 200, "d1p1");
    const auto inner = slice(part, 50, 1000, "d1p1:/x");
    EXPECT_EQ(inner->size(), 150U);
    EXPECT_EQ(inner->locate(10, 20), (std::vector<DiskRange>{{1, 160, 20}}));
    EXPECT_EQ(inner->bytes(0, 4), disk->bytes(150, 4));
    const auto beyond = inner->bytes(140, 11);
    ASSERT_FALSE(beyond);
    EXPECT_EQ(beyond.error().kind, ErrorKind::OutOfRange);
    EXPECT_EQ(beyond.error().place, "d1p1:/x");
}

TEST(Sources, AHostileLengthIsRefusedBeforeMemoryIsSpent) {
    const auto disk = memory_source(counting(1000), "d1", 1);
    EXPECT_EQ(disk->bytes(0, ~std::uint64_t{0}).error().kind, ErrorKind::TooLarge);
    EXPECT_EQ(disk->bytes(~std::uint64_t{0}, 2).error().kind, ErrorKind::OutOfRange);
    EXPECT_EQ(disk->bytes(0, 60U << 20U).error().kind, ErrorKind::OutOfRange);
}

TEST(Sources, ExtentsReadHolesAsZerosAndLocateOnlyWhatExists) {
    const auto disk = memory_source(counting(4096), "d1", 1);
    const auto file = extent_source(disk, {{0, 100, 1000}, {200, 50, 3000}, {250, 10, 500}}, 300, "f");
    const auto all = file->bytes(0, 300);
    ASSERT_TRUE(all);
    const auto base = counting(4096);
    for (std::size_t i = 0; i < 300; ++i) {
        const std::uint8_t expected = i < 100   ? base[1000 + i]
                                      : i < 200 ? 0
                                      : i < 250 ? base[3000 + i - 200]
                                      : i < 260 ? base[500 + i - 250]
                                                : 0;
        ASSERT_EQ((*all)[i], expected) << i;
    }
    EXPECT_EQ(file->locate(90, 120), (std::vector<DiskRange>{{1, 1090, 10}, {1, 3000, 10}}));
    EXPECT_TRUE(file->locate(110, 20).empty());
}

TEST(Sources, OverlayAgreesWithAPlainCopyUnderRandomWrites) {
    std::mt19937 random(4);
    auto model = counting(2000);
    const auto base = memory_source(model, "d1", 1);
    const auto layered = overlay(base);
    for (int i = 0; i < 400; ++i) {
        const std::size_t at = random() % 1990;
        Bytes piece(random() % (2000 - at));
        for (auto& b : piece) b = static_cast<std::uint8_t>(random());
        if (piece.size() > 60) piece.resize(60);
        ASSERT_TRUE(layered->write(at, piece));
        std::copy(piece.begin(), piece.end(), model.begin() + static_cast<std::ptrdiff_t>(at));
        if (i % 20 == 0) ASSERT_EQ(*layered->bytes(0, 2000), model);
    }
    EXPECT_EQ(*layered->bytes(0, 2000), model);
    EXPECT_EQ(*base->bytes(0, 2000), counting(2000));
    std::uint64_t last = 0;
    for (const auto& [offset, bytes] : layered->changes()) {
        EXPECT_GE(offset, last);
        last = offset + bytes.size();
    }
    EXPECT_FALSE(layered->write(1999, Bytes(2)));
}

TEST(Sources, UnreadableRangesFailOnlyWhereTheyAreTouched) {
    const auto source = with_unreadable(memory_source(counting(4096), "d1", 1), {{1024, 512}});
    EXPECT_TRUE(source->bytes(0, 1024));
    EXPECT_TRUE(source->bytes(1536, 100));
    const auto bad = source->bytes(1000, 100);
    ASSERT_FALSE(bad);
    EXPECT_EQ(bad.error().kind, ErrorKind::Unreadable);
    EXPECT_NE(bad.error().place.find("1024"), std::string::npos);
}

TEST(Sources, AHundredThousandAdjacentWritesAreOneChange) {
    // Each write costs its own length only: joining them all each time would copy 25 GiB.
    const auto layered = overlay(memory_source(Bytes(512U * 100'000U), "d1", 1));
    Bytes sector(512, 7);
    for (std::uint64_t i = 0; i < 100'000; ++i) ASSERT_TRUE(layered->write(i * 512, sector));
    const auto changes = layered->changes();
    ASSERT_EQ(changes.size(), 1U);
    EXPECT_EQ(changes[0].second.size(), 512U * 100'000U);
    EXPECT_TRUE(layered->write(100, Bytes{}));
}

TEST(Sources, ManyUnreadableRangesAreSearchedNotWalked) {
    std::vector<std::pair<std::uint64_t, std::uint64_t>> ranges;
    for (std::uint64_t i = 0; i < 200'000; ++i) ranges.emplace_back((199'999 - i) * 64 + 7, 3);
    ranges.emplace_back(12'800'100, ~std::uint64_t{0});  // past every end
    ranges.emplace_back(20, 0);                          // empty
    const auto source = with_unreadable(memory_source(Bytes(13'000'000), "d1", 1), ranges);
    for (std::uint64_t i = 0; i < 200'000; i += 7) {
        ASSERT_TRUE(source->bytes(i * 64 + 10, 61)) << i;
        ASSERT_FALSE(source->bytes(i * 64 + 9, 1)) << i;
    }
    EXPECT_TRUE(source->bytes(12'800'099, 1));
    EXPECT_FALSE(source->bytes(12'800'100, 1));
    EXPECT_FALSE(source->bytes(12'999'999, 1));
    EXPECT_TRUE(source->bytes(20, 1));
}

TEST(Sources, WhatWasAskedForOfTheUnreadableIsKept) {
    const auto source =
        with_unreadable(memory_source(counting(4096), "d1", 1), {{2000, 100}, {1024, 512}, {1500, 100}});
    EXPECT_TRUE(source->asked().empty());
    EXPECT_FALSE(source->bytes(1590, 50));
    EXPECT_FALSE(source->bytes(1000, 100));
    EXPECT_FALSE(source->bytes(1070, 40));
    EXPECT_TRUE(source->bytes(1600, 400));
    using Asked = std::vector<std::pair<std::uint64_t, std::uint64_t>>;
    EXPECT_EQ(source->asked(), (Asked{{1024, 86}, {1590, 10}}));
    EXPECT_FALSE(source->bytes(1024, 600));
    EXPECT_EQ(source->asked(), (Asked{{1024, 576}}));
}

TEST(Sources, ConcatenationPadsEachPart) {
    const auto whole = concatenate({memory_source(Bytes{1, 2, 3}, "a"), memory_source(Bytes{4, 5}, "b", 2)}, 4, "both");
    EXPECT_EQ(*whole->bytes(0, whole->size()), (Bytes{1, 2, 3, 0, 4, 5, 0, 0}));
    EXPECT_EQ(whole->locate(4, 2), (std::vector<DiskRange>{{2, 0, 2}}));
}

TEST(Images, AreReadOnceThroughTheCacheAndCounted) {
    const support::Folder folder;
    const auto content = counting(100000);
    const auto image = open_image(folder.write("disk.img", content), 1);
    ASSERT_TRUE(image);
    for (std::size_t at = 0; at + 16 < content.size(); at += 1000) {
        const auto piece = (*image)->bytes(at, 16);
        ASSERT_TRUE(piece);
        ASSERT_TRUE(std::equal(piece->begin(), piece->end(), content.begin() + static_cast<std::ptrdiff_t>(at)));
    }
    EXPECT_LE((*image)->counters().bytes, 100000U);
    const auto before = (*image)->counters().bytes.load();
    ASSERT_TRUE((*image)->bytes(0, 16));
    EXPECT_EQ((*image)->counters().bytes, before);
    EXPECT_EQ(*(*image)->bytes(0, 100000), content);
}

TEST(Images, WhatIsNoImageIsRefusedWithAReason) {
    const support::Folder folder;
    EXPECT_NE(open_image(folder.file("absent"), 1).error().text().find("No such file"), std::string::npos);
    EXPECT_NE(open_image(folder.file(""), 1).error().text().find("directory"), std::string::npos);
    EXPECT_NE(open_image(folder.write("empty", {}), 1).error().text().find("empty"), std::string::npos);
}

struct Codec {
    const char* name;
    Compression kind;
    Bytes (*pack)(const Bytes&);
    bool checks;  ///< the format notices a changed byte
};
class Codecs : public testing::TestWithParam<Codec> {};

Bytes plain_text() {
    Bytes out;
    for (unsigned i = 0; i < 60000; ++i) {
        const auto line = forge::to_bytes("the bell of hut " + std::to_string(i * i % 977) + " rings\n");
        out.insert(out.end(), line.begin(), line.end());
    }
    return out;
}

Result<Unpacked> run(Compression kind, const Bytes& packed, Bytes& out, std::uint64_t most = 1U << 30U) {
    return unpack(kind, *memory_source(packed, "packed"), 0, packed.size(), most,
                  [&](std::span<const std::uint8_t> piece) {
                      out.insert(out.end(), piece.begin(), piece.end());
                      return true;
                  });
}

TEST_P(Codecs, UnpackWholeAndTellWhatWasUsed) {
    const auto plain = plain_text();
    auto packed = GetParam().pack(plain);
    const bool frame = GetParam().kind == Compression::Lz4Frame;
    EXPECT_EQ(recognise_compression(packed), frame ? Compression::None : GetParam().kind);
    const bool linux_alone = GetParam().kind == Compression::Lz4Legacy || GetParam().kind == Compression::Xz;
    EXPECT_EQ(recognise_board_compression(packed), linux_alone ? Compression::None : GetParam().kind);
    const std::size_t length = packed.size();
    if (GetParam().kind != Compression::Lz4Legacy)
        packed.insert(packed.end(), 37, 0xAB);  // what follows belongs to somebody else
    Bytes out;
    const auto done = run(GetParam().kind, packed, out);
    ASSERT_TRUE(done) << done.error().text();
    EXPECT_EQ(out, plain);
    EXPECT_EQ(done->produced, plain.size());
    EXPECT_EQ(done->consumed, length);
}

TEST_P(Codecs, CutAndDamagedDataIsAnErrorWithAPlace) {
    const auto packed = GetParam().pack(plain_text());
    const Bytes cut(packed.begin(), packed.begin() + static_cast<std::ptrdiff_t>(packed.size() / 2));
    Bytes out;
    const auto short_one = run(GetParam().kind, cut, out);
    ASSERT_FALSE(short_one);
    EXPECT_EQ(short_one.error().kind, ErrorKind::OutOfRange);
    EXPECT_NE(short_one.error().place.find("byte"), std::string::npos);
    auto damaged = packed;
    for (std::size_t i = 0; i < 64; ++i)
        damaged[packed.size() / 2 + i] = static_cast<std::uint8_t>(damaged[packed.size() / 2 + i] ^ 0x5AU);
    out.clear();
    const auto bad = run(GetParam().kind, damaged, out);
    if (GetParam().checks) EXPECT_FALSE(bad);
    else if (bad) EXPECT_NE(out, plain_text());
}

TEST_P(Codecs, OutputIsBounded) {
    const auto packed = GetParam().pack(plain_text());
    Bytes out;
    const auto done = run(GetParam().kind, packed, out, 1000);
    ASSERT_FALSE(done);
    EXPECT_EQ(done.error().kind, ErrorKind::TooLarge);
}

/// Bytes that the C library has handed out (a sanitizer's own allocator looks for what is lost by itself).
std::size_t handed_out() {
    const auto now = mallinfo2();
    return now.uordblks + now.hblkhd;
}

TEST_P(Codecs, GivesItsDecoderBackWhenTheSinkThrows) {
    const auto packed = GetParam().pack(plain_text());
    const auto source = memory_source(packed, "x");
    const auto attempt = [&] {
        EXPECT_THROW(static_cast<void>(unpack(GetParam().kind, *source, 0, packed.size(), 1U << 30U,
                                              [](std::span<const std::uint8_t>) -> bool { throw std::bad_alloc(); })),
                     std::bad_alloc);
    };
    attempt();
    const auto before = handed_out();
    for (int i = 0; i < 20; ++i) attempt();
    EXPECT_LT(handed_out(), before + 20 * 1024) << "the smallest decoder has some 7 KiB";
}

INSTANTIATE_TEST_SUITE_P(All, Codecs,
                         testing::Values(Codec{"gzip", Compression::Gzip, forge::gzip, true},
                                         Codec{"xz", Compression::Xz, forge::xz, true},
                                         Codec{"zstd", Compression::Zstd, forge::zstd, true},
                                         Codec{"bzip2", Compression::Bzip2, forge::bzip2, true},
                                         Codec{"lz4", Compression::Lz4Legacy, forge::lz4_legacy, false},
                                         Codec{"lz4_frame", Compression::Lz4Frame, forge::lz4_frame, true},
                                         Codec{"lzo", Compression::Lzop, support::lzop, false}),
                         support::by_name);

/// What is damaged behind the data alone is a checksum's error: some loaders look no further.
TEST(Unpacking, AWrongSumBehindTheDataIsToldApart) {
    const std::pair<Compression, Bytes> rows[] = {{Compression::Gzip, forge::gzip(plain_text())},
                                                  {Compression::Lz4Frame, forge::lz4_frame(plain_text())}};
    for (auto [kind, packed] : rows) {
        packed[packed.size() - (kind == Compression::Gzip ? 8 : 4)] ^= 1;
        Bytes out;
        const auto done = run(kind, packed, out);
        ASSERT_FALSE(done) << compression_name(kind);
        EXPECT_EQ(done.error().kind, ErrorKind::Checksum) << done.error().text();
        if (kind == Compression::Gzip) EXPECT_EQ(out, plain_text());
        packed[packed.size() / 2] ^= 0x5A;
        packed[packed.size() / 2 + 1] ^= 0x5A;
        packed.resize(packed.size() - 9);
        EXPECT_NE(run(kind, packed, out).error().kind, ErrorKind::Checksum);
    }
}

/// `lz4 -l` packs 8 MiB at once: a block may be as long as that can become, and no longer.
TEST(Unpacking, ALegacyBlockHasItsLongestLength) {
    // LZ4_compressBound of lz4.h: size + size / 255 + 16.
    constexpr std::uint32_t most = (8U << 20U) + (8U << 20U) / 255 + 16;
    for (const std::uint32_t length : {most, most + 1}) {
        Bytes packed{0x02, 0x21, 0x4C, 0x18};
        forge::put32(packed, 4, length);
        packed.resize(packed.size() + 100);
        Bytes out;
        const auto done = run(Compression::Lz4Legacy, packed, out);
        ASSERT_FALSE(done);
        EXPECT_EQ(done.error().kind, length == most ? ErrorKind::OutOfRange : ErrorKind::Malformed)
            << done.error().text();
        EXPECT_EQ(done.error().text().find("impossible size") == std::string::npos, length == most);
    }
}

/// Which checksums stand before a block depends on the flags, and on whether it is packed at all.
TEST(Unpacking, LzopWithEachOfItsFlags) {
    Bytes plain = plain_text();
    const Bytes noise = forge::noise(300U << 10U, 5);  // its blocks are stored
    plain.insert(plain.end(), noise.begin(), noise.end());
    for (const std::uint32_t flags : {0x000U, 0x001U, 0x002U, 0x003U, 0x100U, 0x200U, 0x300U, 0x101U, 0x303U, 0x801U})
        for (const std::uint16_t version : std::initializer_list<std::uint16_t>{0x0930, 0x0940, 0x1030}) {
            const auto packed = support::lzop_with(plain, flags, version);
            Bytes seen;
            const auto done =
                unpack(Compression::Lzop, *memory_source(packed, "x"), 0, packed.size(), 1U << 30U, [&](auto piece) {
                    seen.insert(seen.end(), piece.begin(), piece.end());
                    return true;
                });
            ASSERT_TRUE(done) << std::hex << flags << " " << version << done.error().text();
            EXPECT_EQ(done->consumed, packed.size());
            EXPECT_TRUE(seen == plain) << std::hex << flags << " " << version;
        }
}

TEST(Unpacking, ABombIsStoppedByItsGrowth) {
    const Bytes zeros(90U << 20U);
    const auto packed = forge::xz(zeros);
    ASSERT_LT(packed.size(), 100000U);
    std::uint64_t seen = 0;
    const auto done = unpack(Compression::Xz, *memory_source(packed, "bomb"), 0, packed.size(), ~std::uint64_t{0},
                             [&](std::span<const std::uint8_t> piece) {
                                 seen += piece.size();
                                 return true;
                             });
    ASSERT_FALSE(done);
    EXPECT_EQ(done.error().kind, ErrorKind::TooLarge);
    EXPECT_LT(seen, std::uint64_t{80} << 20U);
}

TEST(Unpacking, ASinkMayStopEarly) {
    const auto packed = forge::gzip(plain_text());
    std::size_t calls = 0;
    const auto done = unpack(Compression::Gzip, *memory_source(packed, "x"), 0, packed.size(), 1U << 30U,
                             [&](std::span<const std::uint8_t>) { return ++calls < 2; });
    ASSERT_TRUE(done);
    EXPECT_EQ(calls, 2U);
}

TEST(Unpacking, RawLzmaNeedsItsExactSize) {
    const auto plain = plain_text();
    const auto packed = forge::raw_lzma(plain);
    EXPECT_EQ(*unpack_raw_lzma(packed, plain.size(), 1U << 16U), plain);
    EXPECT_FALSE(unpack_raw_lzma(Bytes(packed.begin(), packed.begin() + 1000), plain.size(), 1U << 16U));
    EXPECT_EQ(unpack_raw_lzma(packed, std::uint64_t{1} << 40U, 1U << 16U).error().kind, ErrorKind::TooLarge);
}

TEST(Checksums, MatchPublishedCheckValues) {
    const auto digits = forge::to_bytes("123456789");
    EXPECT_EQ(crc32c(0xFFFFFFFFU, digits) ^ 0xFFFFFFFFU, 0xE3069283U);
    EXPECT_EQ(crc32(0, digits), 0xCBF43926U);
    EXPECT_EQ(crc16(0, digits), 0xBB3DU);
}

/// RFC 3629, section 3, for any number, whether it is a character or not.
std::string encoded(std::uint32_t c, int length) {
    static constexpr std::uint32_t leads[] = {0, 0, 0xC0, 0xE0, 0xF0};
    std::string out;
    for (int i = length - 1; i >= 0; --i)
        out += static_cast<char>((i == length - 1 ? leads[length] : 0x80U) |
                                 (c >> (6U * static_cast<unsigned>(i)) & (i == length - 1 ? 0xFFU >> length : 0x3FU)));
    return out;
}
std::string as_bytes(const std::string& text) {
    std::string out;
    for (const char c : text) {
        static constexpr char digits[] = "0123456789abcdef";
        const auto byte = static_cast<std::uint8_t>(c);
        out += std::string("\\x") + digits[byte >> 4U] + digits[byte & 0xFU];
    }
    return out;
}

TEST(Text, WhatIsUnseenIsShownByItsBytesUpToEachEdge) {
    const struct {
        std::uint32_t from, to;
        int length;
    } unseen[] = {{0x80, 0x9F, 2},     {0xAD, 0xAD, 2},     {0x61C, 0x61C, 2},    {0x180E, 0x180E, 3},
                  {0x200B, 0x200F, 3}, {0x2028, 0x202E, 3}, {0x2060, 0x206F, 3},  {0xD800, 0xDFFF, 3},
                  {0xFEFF, 0xFEFF, 3}, {0xFFF9, 0xFFFB, 3}, {0xE0000, 0xE0FFF, 4}};
    for (const auto& [from, to, length] : unseen) {
        for (const auto c : {from, to}) EXPECT_EQ(printable(encoded(c, length)), as_bytes(encoded(c, length))) << c;
        // U+0080's neighbour below has one byte.
        for (const auto c : {from - 1, to + 1})
            if (c != 0x7F) EXPECT_EQ(printable(encoded(c, length)), encoded(c, length)) << c;
    }
    // The shortest form is the only one, and U+10FFFF the last character.
    const struct {
        std::uint32_t c;
        int length;
        bool is;
    } edges[] = {{0x7F, 2, false},  {0xA0, 2, true},    {0x7FF, 2, true},     {0x7FF, 3, false},   {0x800, 3, true},
                 {0xFFFF, 3, true}, {0xFFFF, 4, false}, {0x10000, 4, true},   {0x10FFFF, 4, true}, {0x110000, 4, false},
                 {0xD7FF, 3, true}, {0xE000, 3, true},  {0x140000, 4, false}, {0x40, 2, false}};
    for (const auto& [c, length, is] : edges)
        EXPECT_EQ(printable(encoded(c, length)), is ? encoded(c, length) : as_bytes(encoded(c, length))) << c;
    // One that is cut, at each place.
    for (int length = 2; length <= 4; ++length)
        for (int cut = 1; cut < length; ++cut) {
            const auto part = encoded(length == 2   ? 0xFC
                                      : length == 3 ? 0x2192
                                                    : 0x1F3D4,
                                      length)
                                  .substr(0, static_cast<std::size_t>(cut));
            EXPECT_EQ(printable(part), as_bytes(part));
            EXPECT_EQ(printable(part + "a"), as_bytes(part) + "a");
        }
}

TEST(Text, ControlBytesNeverReachATerminal) {
    EXPECT_EQ(printable("a\x1b[31mb\n\x7f"), "a\\x1b[31mb\\x0a\\x7f");
    EXPECT_EQ(printable("Hütte \xc3"), "Hütte \\xc3");
    EXPECT_EQ(printable("\xc2\x9b"
                        "31m \xed\xa0\x80 \xc0\xaf \xf4\x90\x80\x80"),
              "\\xc2\\x9b31m \\xed\\xa0\\x80 \\xc0\\xaf \\xf4\\x90\\x80\\x80");
    EXPECT_EQ(size_text(1023), "1023 B");
    EXPECT_EQ(size_text(std::uint64_t{44} << 20U), "44.0 MiB");
    EXPECT_EQ(messages_in(forge::to_bytes(std::string("ab\0GRUB \0Geom\x01", 14))),
              (std::vector<std::string>{"GRUB ", "Geom"}));
}

}  // namespace
