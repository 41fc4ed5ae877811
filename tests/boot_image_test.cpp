// SPDX-License-Identifier: MIT
// U-Boot's containers at the edges of what they say of themselves, made by hand from their description.
#include <zlib.h>
#include <optional>

#include "artifact/boot_image.hpp"
#include "board_support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

/// A legacy image by its description (U-Boot include/image.h), sums and all.
Bytes legacy(const Bytes& content, std::uint8_t type, std::uint32_t said) {
    Bytes out(64);
    const auto put = [&](std::size_t at, std::uint32_t value) {
        for (std::size_t i = 0; i < 4; ++i) out[at + i] = static_cast<std::uint8_t>(value >> (24 - 8 * i));
    };
    put(0, 0x27051956);
    put(12, said);
    put(24, static_cast<std::uint32_t>(::crc32(0, content.data(), static_cast<unsigned>(content.size()))));
    out[28] = 5;
    out[30] = type;
    put(4, static_cast<std::uint32_t>(::crc32(0, out.data(), 64)));
    out.insert(out.end(), content.begin(), content.end());
    return out;
}

/// A table of sizes, and as many zeros behind it.
Bytes table(const std::vector<std::uint32_t>& sizes, std::size_t behind) {
    Bytes out;
    for (const std::uint32_t size : sizes)
        for (int shift = 24; shift >= 0; shift -= 8) out.push_back(static_cast<std::uint8_t>(size >> shift));
    out.resize(out.size() + behind);
    return out;
}

using Parts = std::vector<std::pair<std::uint64_t, std::uint64_t>>;

TEST(LegacyImages, PartsLieBehindTheirTableFilledUpToFour) {
    const struct {
        std::vector<std::uint32_t> sizes;
        std::size_t behind;
        Parts parts;
    } rows[] = {
        {{0}, 0, {}},
        {{1, 0}, 4, {{72, 1}}},
        {{4, 4, 0}, 8, {{76, 4}, {80, 4}}},
        {{5, 3, 0}, 12, {{76, 5}, {84, 3}}},
        {{5, 4, 0}, 11, {{76, 5}}},  // the second one would end a byte behind the content
        {{9, 0}, 8, {}},             // and so would this one
        {{0xFFFFFFFF, 0}, 8, {}},    // a size that no sum is made of
        {{8, 1, 0}, 8, {{76, 8}}},   // nothing is left
        {{4, 4}, 0, {}},             // no zero ends the table: it ends with the content
    };
    for (const auto& row : rows) {
        const auto content = table(row.sizes, row.behind);
        const auto image = inspect_legacy_image(
            *memory_source(legacy(content, 4, static_cast<std::uint32_t>(content.size())), "several"));
        ASSERT_TRUE(image && image->header_sound && image->whole && image->data_sound);
        EXPECT_EQ(image->parts, row.parts) << row.sizes[0];
        // A kernel has no parts, whatever it begins with.
        const auto kernel = inspect_legacy_image(
            *memory_source(legacy(content, 2, static_cast<std::uint32_t>(content.size())), "kernel"));
        EXPECT_TRUE(kernel->parts.empty());
    }
    for (const std::size_t count : {63U, 64U, 65U}) {
        std::vector<std::uint32_t> sizes(count, 4);
        sizes.push_back(0);
        const auto content = table(sizes, count * 4);
        const auto image = inspect_legacy_image(
            *memory_source(legacy(content, 6, static_cast<std::uint32_t>(content.size())), "many"));
        EXPECT_EQ(image->parts.size(), std::min<std::size_t>(count, 64));
    }
}

TEST(LegacyImages, AreWholeToTheirLastByteWhereverTheyBegin) {
    const auto content = forge::noise(1000, 3);
    const auto image = legacy(content, 2, 1000);
    for (const std::size_t at : {0U, 1U, 512U}) {
        Bytes disk(at, 0xEE);
        disk.insert(disk.end(), image.begin(), image.end());
        const auto source = memory_source(disk, "disk");
        ASSERT_TRUE(inspect_legacy_image(*source, at)) << at;
        EXPECT_TRUE(inspect_legacy_image(*source, at)->data_sound);
        EXPECT_EQ(inspect_legacy_image(*source, at + 1).has_value(), false);
        disk.pop_back();
        const auto cut = inspect_legacy_image(*memory_source(disk, "cut"), at);
        EXPECT_TRUE(cut->header_sound);
        EXPECT_FALSE(cut->whole || cut->data_sound);
    }
    for (const std::uint32_t said : {1001U, 0xFFFFFFFFU})
        EXPECT_FALSE(inspect_legacy_image(*memory_source(legacy(content, 2, said), "more"))->whole) << said;
    const auto less = inspect_legacy_image(*memory_source(legacy(content, 2, 999), "less"));
    EXPECT_TRUE(less->whole);
    EXPECT_FALSE(less->data_sound) << "the sum is of what the header says";
}

TEST(LegacyImages, NumbersOfWhatPacksThem) {
    const std::optional<Compression> kinds[] = {Compression::None, Compression::Gzip, Compression::Bzip2,
                                                Compression::Lzma, Compression::Lzop, Compression::Lz4Frame,
                                                Compression::Zstd, std::nullopt,      std::nullopt};
    for (std::uint8_t i = 0; i < std::size(kinds); ++i) EXPECT_EQ(legacy_compression(i), kinds[i]) << int{i};
    EXPECT_EQ(legacy_compression(255), std::nullopt);
    const std::pair<const char*, Compression> names[] = {
        {"none", Compression::None}, {"gzip", Compression::Gzip},   {"bzip2", Compression::Bzip2},
        {"lzma", Compression::Lzma}, {"lzo", Compression::Lzop},    {"lz4", Compression::Lz4Frame},
        {"zstd", Compression::Zstd}, {"brotli", Compression::None}, {"", Compression::None}};
    for (const auto& [name, kind] : names) EXPECT_EQ(fit_compression(name), kind) << name;
}

/// A tree of one image, "k", with these properties besides; its data behind the tree, at byte `at` of the file.
Bytes outside(const std::vector<std::pair<std::string, std::uint32_t>>& numbers, std::size_t size) {
    forge::TreeNode image{"k", {}, {}};
    image.text("type", "kernel");
    for (const auto& [name, value] : numbers) image.number(name, value);
    forge::TreeNode images{"images", {}, {image}};
    auto out = forge::make_device_tree({"", {}, {images}});
    out.resize(size);
    return out;
}

TEST(ImageTrees, DataBehindThemEndWithTheFile) {
    const auto there = [](const std::vector<std::pair<std::string, std::uint32_t>>& numbers, std::size_t size,
                          std::size_t at = 0) {
        Bytes file(at, 0xEE);
        const auto made = outside(numbers, size);
        file.insert(file.end(), made.begin(), made.end());
        const auto fit = Fit::open(memory_source(file, "image.itb"), at);
        return fit ? fit->image("k") : std::nullopt;
    };
    using Numbers = std::vector<std::pair<std::string, std::uint32_t>>;
    const struct {
        Numbers numbers;
        bool inside;
    } rows[] = {
        {{{"data-position", 3900}, {"data-size", 100}}, true},
        {{{"data-position", 3901}, {"data-size", 100}}, false},
        {{{"data-position", 4000}, {"data-size", 0}}, true},
        {{{"data-position", 4001}, {"data-size", 0}}, false},
        {{{"data-position", 3900}, {"data-size", 101}}, false},
        {{{"data-position", 1}, {"data-size", 0xFFFFFFFF}}, false},
        {{{"data-size", 100}}, false},  // nothing says where
    };
    for (const auto& row : rows)
        for (const std::size_t at : {0U, 512U}) {
            const auto image = there(row.numbers, 4000, at);
            ASSERT_TRUE(image);
            EXPECT_EQ(image->data_there, row.inside) << row.numbers[0].second << " " << at;
        }
    // An offset counts from the end of the tree, filled up to four bytes.
    const auto behind = there({{"data-offset", 8}, {"data-size", 100}}, 4000);
    const auto none = there({{"data-offset", 0}, {"data-size", 100}}, 4000);
    ASSERT_TRUE(behind && none);
    EXPECT_EQ(behind->offset, none->offset + 8);
    EXPECT_EQ(none->offset % 4, 0U);
    EXPECT_TRUE(behind->data_there);
    // A place of its own wins over an offset.
    EXPECT_EQ(there({{"data-offset", 8}, {"data-position", 1234}, {"data-size", 1}}, 4000)->offset, 1234U);
}

TEST(ImageTrees, HashesByEachNameAndWhatIsNotComputed) {
    // Of "abc": RFC 1321, RFC 3174, FIPS 180-4; the CRC-32 of zlib.
    const std::pair<const char*, const char*> rows[] = {
        {"md5", "900150983cd24fb0d6963f7d28e17f72"},
        {"sha1", "a9993e364706816aba3e25717850c26c9cd0d89d"},
        {"sha256", "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad"},
        {"sha384", "cb00753f45a35e8bb5a03d699ac65007272c32ab0eded1631a8b605a43ff5bed8086072ba1e7cc2358baeca134c825a7"},
        {"sha512",
         "ddaf35a193617abacc417349ae20413112e6fa4e89a97ea20a9eeee64b55d39a2192992a274fc1a836ba3c23a3feebbd454d4423643ce"
         "8"
         "0e2a9ac94fa54ca49f"},
        {"crc32", "352441c2"}};
    forge::TreeNode image{"k", {{"data", forge::to_bytes("abc")}}, {}};
    int number = 0;
    const auto add = [&](const std::string& algorithm, const std::string& digits) {
        forge::TreeNode hash{"hash-" + std::to_string(++number), {}, {}};
        Bytes value;
        for (std::size_t i = 0; i + 1 < digits.size(); i += 2)
            value.push_back(static_cast<std::uint8_t>(std::stoi(digits.substr(i, 2), nullptr, 16)));
        hash.properties.emplace_back("value", value);
        hash.text("algo", algorithm);
        image.children.push_back(hash);
    };
    for (const auto& [name, digits] : rows) add(name, digits);
    add("sha3-256", "00");
    add("sha1", "a9993e364706816aba3e25717850c26c9cd0d89e");
    image.children.push_back({"hash-ignored", {{"uboot-ignore", {}}}, {}});
    image.children.push_back(forge::TreeNode{"signature-1", {}, {}}.text("key-name-hint", "inn"));
    const auto fit =
        Fit::open(memory_source(forge::make_device_tree({"", {}, {forge::TreeNode{"images", {}, {image}}}}), "abc"));
    ASSERT_TRUE(fit);
    const auto read = fit->image("k");
    ASSERT_TRUE(read);
    EXPECT_EQ(read->length, 3U);
    EXPECT_EQ(read->signed_by, std::vector<std::string>{"inn"});
    ASSERT_EQ(read->hashes.size(), std::size(rows) + 2);
    for (std::size_t i = 0; i < std::size(rows); ++i) {
        EXPECT_TRUE(read->hashes[i].known && read->hashes[i].matches) << rows[i].first;
        EXPECT_EQ(read->hashes[i].computed, rows[i].second);
        EXPECT_EQ(read->hashes[i].algorithm, rows[i].first);
    }
    EXPECT_FALSE(read->hashes[6].known || read->hashes[6].matches);
    EXPECT_TRUE(read->hashes[7].known);
    EXPECT_FALSE(read->hashes[7].matches);
    EXPECT_EQ(fit->lacks(), "description");
}

}  // namespace
