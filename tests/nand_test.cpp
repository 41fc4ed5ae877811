// SPDX-License-Identifier: MIT
// Dumps of NAND flash with spare areas: shape, bad blocks, Hamming codes.
#include <fmt/format.h>

#include <herberge/flash.hpp>

#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Folder;

namespace {

constexpr std::size_t page = 2048, spare = 64, pages = 64, blocks = 3;

/// Each page holds its own number; no codes.
Bytes plain_dump() {
    Bytes out;
    for (std::size_t i = 0; i < blocks * pages; ++i) {
        out.insert(out.end(), page, static_cast<std::uint8_t>(i));
        out.insert(out.end(), spare, 0xFF);
    }
    return out;
}

TEST(NandShape, IsReadFromWords) {
    const auto good = parse_nand_shape("2048+64");
    ASSERT_TRUE(good);
    EXPECT_EQ(good->page, 2048U);
    EXPECT_EQ(good->spare, 64U);
    EXPECT_EQ(good->pages_per_block, 64U);
    EXPECT_EQ(parse_nand_shape("512+16x32")->pages_per_block, 32U);
    EXPECT_TRUE(parse_nand_shape("16384+2048x1024"));
    for (const char* wrong : {"", "2048", "2048+", "+64", "2000+64", "256+8", "32768+64", "2048+7", "2048+2049",
                              "2048+64x", "2048+64x0", "2048+64x48", "2048+64x2048", "2048+64 ", "2048-64"})
        EXPECT_EQ(parse_nand_shape(wrong).error().kind, ErrorKind::Malformed) << wrong;
}

TEST(NandDumps, LoseTheirSpareAreas) {
    const auto opened = open_nand(memory_source(plain_dump(), "d1", 1), {page, spare, pages});
    ASSERT_TRUE(opened);
    EXPECT_EQ(opened->content->size(), blocks * pages * page);
    EXPECT_EQ(opened->block, pages * page);
    EXPECT_TRUE(opened->bad_blocks.empty());
    EXPECT_FALSE(opened->hamming);
    // Over the edge of a page.
    EXPECT_EQ(*opened->content->bytes(page - 1, 3), (Bytes{0, 1, 1}));
    EXPECT_EQ(opened->content->bytes(blocks * pages * page - 1, 1)->front(), blocks * pages - 1);
    EXPECT_EQ(opened->content->bytes(blocks * pages * page, 1).error().kind, ErrorKind::OutOfRange);
    const auto ranges = opened->content->locate(page - 1, 3);
    ASSERT_EQ(ranges.size(), 2U);
    EXPECT_EQ(ranges[0].offset, page - 1);
    EXPECT_EQ(ranges[1].offset, page + spare);
    auto cut = plain_dump();
    cut.pop_back();
    EXPECT_EQ(open_nand(memory_source(cut, "d1"), {page, spare, pages}).error().kind, ErrorKind::Malformed);
    EXPECT_EQ(open_nand(memory_source({}, "d1"), {page, spare, pages}).error().kind, ErrorKind::Malformed);
}

TEST(NandDumps, BadBlocksReadAsErased) {
    auto dump = plain_dump();
    dump[(page + spare) * pages + page] = 0;
    // Only the first page's mark counts.
    dump[(page + spare) * (2 * pages + 1) + page] = 0;
    const auto opened = open_nand(memory_source(dump, "d1"), {page, spare, pages});
    ASSERT_TRUE(opened);
    EXPECT_EQ(opened->bad_blocks, (std::vector<std::uint64_t>{pages * page}));
    EXPECT_EQ(*opened->content->bytes(pages * page - 1, 2), (Bytes{pages - 1, 0xFF}));
    EXPECT_EQ(*opened->content->bytes(2 * pages * page - 1, 2), (Bytes{0xFF, 2 * pages}));
    // Small pages have it elsewhere.
    Bytes small((512 + 16) * 32, 0xFF);
    small[512] = 0;
    EXPECT_TRUE(open_nand(memory_source(small, "d1"), {512, 16, 32})->bad_blocks.empty());
    small[512 + 5] = 0;
    EXPECT_EQ(open_nand(memory_source(small, "d1"), {512, 16, 32})->bad_blocks.size(), 1U);
}

/// One page of zeros with a 1 in its first byte: by the definition every pair of halves of the byte numbers is odd in
/// its lower half, and bit 0 lies in the lower half of each pair of columns.
Bytes coded_dump() {
    Bytes out((page + spare) * pages, 0xFF);
    std::fill_n(out.begin(), page, std::uint8_t{0});
    out[0] = 1;
    const Bytes code = {0xAA, 0xAA, 0xAB};
    std::ranges::copy(code, out.begin() + page + 40);
    return out;
}

TEST(NandCodes, PutOneBitRight) {
    const auto read = [](Bytes dump) {
        const auto opened = open_nand(memory_source(std::move(dump), "d1"), {page, spare, pages});
        return opened ? opened->content->bytes(0, page) : tl::unexpected(opened.error());
    };
    const auto whole = read(coded_dump());
    ASSERT_TRUE(whole);
    EXPECT_EQ(whole->front(), 1);
    // Another written page, so that the codes are known to be there.
    auto two = coded_dump();
    std::copy_n(two.begin(), page + spare, two.begin() + page + spare);
    std::copy_n(two.begin(), page + spare, two.begin() + 2 * (page + spare));
    std::copy_n(two.begin(), page + spare, two.begin() + 3 * (page + spare));
    ASSERT_TRUE(open_nand(memory_source(two, "d1"), {page, spare, pages})->hamming);
    for (const std::size_t at :
         {std::size_t{0}, std::size_t{1}, std::size_t{77}, std::size_t{255}, std::size_t{256}, std::size_t{2047}})
        for (unsigned bit = 0; bit < 8; ++bit) {
            auto worn = two;
            worn[at] = static_cast<std::uint8_t>(worn[at] ^ 1U << bit);
            EXPECT_EQ(read(worn), whole) << at << " " << bit;
        }
    // A bit of the code itself.
    for (std::size_t at = 40; at < 64; ++at) {
        auto worn = two;
        worn[page + at] ^= 0x10;
        EXPECT_EQ(read(worn), whole) << at;
    }
    // Two bits that one code covers are lost; two under two codes are not.
    auto lost = two;
    lost[10] ^= 1;
    lost[11] ^= 2;
    const auto refused = read(lost);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Unreadable);
    EXPECT_EQ(refused.error().what, "a page fails its Hamming code in more than one bit");
    auto apart = two;
    apart[10] ^= 1;
    apart[300] ^= 2;
    EXPECT_EQ(read(apart), whole);
    // Codes of another kind are none of ours.
    auto other = two;
    for (std::size_t i = 0; i < 4; ++i) other[i * (page + spare) + page + 41] ^= 0x5A;
    EXPECT_FALSE(open_nand(memory_source(other, "d1"), {page, spare, pages})->hamming);
    EXPECT_TRUE(read(other));
}

support::Ran run(const std::string& arguments) { return support::shell(std::string(TOOL_PATH) + " " + arguments); }

TEST(NandTool, TakesTheSpareAreaOff) {
    const Folder folder;
    auto dump = plain_dump();
    dump[(page + spare) * pages + page] = 0;
    folder.write("nand.bin", dump);
    const auto file = folder.file("nand.bin");
    const auto layout = run("layout " + file + " --nand d1=2048+64 --flash-layout 'd1=128k(a),-(b)'");
    EXPECT_EQ(layout.status, 0);
    EXPECT_NE(layout.out.find("NAND flash, blocks of 128.0 KiB, 1 bad: at byte 131072"), std::string::npos)
        << layout.out;
    EXPECT_NE(layout.out.find("384.0 KiB"), std::string::npos) << layout.out;
    const auto copied = run("copy " + file + " --nand d1=2048+64 --from d1@2047+2 --to -");
    EXPECT_EQ(copied.out.substr(0, 2), std::string("\0\1", 2));
    const auto json = run("layout " + file + " --nand d1=2048+64 --format json");
    EXPECT_NE(json.out.find("\"erase_block\": 131072"), std::string::npos) << json.out;
    const auto wrong = run("layout " + file + " --nand d1=4096+64 2>&1");
    EXPECT_EQ(wrong.status, 2);
    EXPECT_NE(wrong.out.find("it is no whole number of such blocks"), std::string::npos) << wrong.out;
    EXPECT_EQ(run("layout " + file + " --nand d2=2048+64 2>&1").status, 2);
    EXPECT_EQ(run("layout " + file + " --nand d1=99 2>&1").status, 2);
}

}  // namespace
