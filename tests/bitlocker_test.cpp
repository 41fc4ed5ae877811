// SPDX-License-Identifier: MIT
// BitLocker volumes put together by hand, byte by byte.
#include <algorithm>

#include <herberge/unlock.hpp>

#include "support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

void put(Bytes& out, std::size_t at, std::uint64_t value, std::size_t size) {
    for (std::size_t i = 0; i < size; ++i) out[at + i] = static_cast<std::uint8_t>(value >> (8 * i));
}
void put(Bytes& out, std::size_t at, std::string_view text) {
    std::ranges::copy(text, out.begin() + static_cast<std::ptrdiff_t>(at));
}

constexpr std::size_t copies[] = {0x40000, 0x60000, 0x80000};

/// A volume of 1 MiB with three copies of metadata, protected by a TPM and a recovery password.
Bytes volume() {
    Bytes out(1U << 20U, 0x5A);
    std::fill_n(out.begin(), 512, std::uint8_t{0});
    put(out, 0, 0x9058EB, 3);
    put(out, 3, "-FVE-FS-");
    put(out, 11, 512, 2);
    out[13] = 8;
    out[21] = 0xF8;
    put(out, 40, 2047, 8);
    // {4967d63b-2e29-4ad8-8399-f6a339e3d001}
    const std::uint8_t mark[] = {0x3B, 0xD6, 0x67, 0x49, 0x29, 0x2E, 0xD8, 0x4A,
                                 0x83, 0x99, 0xF6, 0xA3, 0x39, 0xE3, 0xD0, 0x01};
    std::ranges::copy(mark, out.begin() + 160);
    for (std::size_t i = 0; i < 3; ++i) put(out, 176 + 8 * i, copies[i], 8);
    put(out, 510, 0xAA55, 2);
    for (const auto at : copies) {
        std::fill_n(out.begin() + static_cast<std::ptrdiff_t>(at), 512, std::uint8_t{0});
        put(out, at, "-FVE-FS-");
        put(out, at + 8, 4, 2);
        put(out, at + 10, 2, 2);
        put(out, at + 16, 1U << 20U, 8);
        for (std::size_t i = 0; i < 3; ++i) put(out, at + 32 + 8 * i, copies[i], 8);
        const std::size_t head = at + 64;
        put(out, head, 48 + 20 + 2 * 44, 4);
        put(out, head + 4, 1, 4);
        put(out, head + 8, 48, 4);
        put(out, head + 12, 48 + 20 + 2 * 44, 4);
        out[head + 16] = 0x1A;
        put(out, head + 36, 0x8004, 2);
        // A description, which is no protector.
        put(out, head + 48, 20, 2);
        put(out, head + 50, 7, 2);
        put(out, head + 52, 2, 2);
        put(out, head + 54, 1, 2);
        for (std::size_t i = 0; i < 2; ++i) {
            const std::size_t entry = head + 68 + 44 * i;
            put(out, entry, 44, 2);
            put(out, entry + 2, 2, 2);
            put(out, entry + 4, 8, 2);
            put(out, entry + 6, 1, 2);
            out[entry + 8] = static_cast<std::uint8_t>(0xC0 + i);
            put(out, entry + 34, i == 0 ? 0x0100 : 0x0800, 2);
        }
    }
    return out;
}

TEST(Bitlocker, ProtectorsAreListed) {
    const auto told = describe_bitlocker(*support::source_of(volume(), "d1p3"));
    ASSERT_TRUE(told) << told.error().text();
    EXPECT_EQ(told->id, "0000001a-0000-0000-0000-000000000000");
    EXPECT_EQ(told->cipher, "AES-XTS, 128 bits");
    EXPECT_EQ(told->encrypted_bytes, 1U << 20U);
    EXPECT_TRUE(told->damaged_copies.empty());
    ASSERT_EQ(told->protectors.size(), 2U);
    EXPECT_EQ(told->protectors[0].kind, "this machine's TPM");
    EXPECT_TRUE(told->protectors[0].opens_by_itself);
    EXPECT_EQ(told->protectors[0].id, "000000c0-0000-0000-0000-000000000000");
    EXPECT_EQ(told->protectors[1].kind, "a recovery password");
    EXPECT_FALSE(told->protectors[1].opens_by_itself);
}

TEST(Bitlocker, AnyCopyServes) {
    auto bytes = volume();
    bytes[copies[0]] ^= 1U;
    put(bytes, copies[1] + 64, 47, 4);  // shorter than its head
    const auto two = describe_bitlocker(*support::source_of(bytes, "d1p3"));
    ASSERT_TRUE(two);
    EXPECT_EQ(two->protectors.size(), 2U);
    ASSERT_EQ(two->damaged_copies.size(), 2U);
    EXPECT_EQ(two->damaged_copies[0].text(), "d1p3@262144+64: no metadata of BitLocker stands here");
    EXPECT_EQ(two->damaged_copies[1].what, "the metadata of BitLocker contradicts itself");
    put(bytes, copies[2] + 64 + 68, 7, 2);  // an entry shorter than its head
    const auto none = describe_bitlocker(*support::source_of(bytes, "d1p3"));
    ASSERT_FALSE(none);
    EXPECT_EQ(none.error().lack(), Lack::Damaged);
}

TEST(Bitlocker, WhatIsNotReadIsSaid) {
    auto bytes = volume();
    for (const auto at : copies) put(bytes, at + 10, 1, 2);
    EXPECT_EQ(describe_bitlocker(*support::source_of(bytes, "d1p3")).error().lack(), Lack::Unsupported);
    bytes[160] ^= 1U;
    EXPECT_EQ(describe_bitlocker(*support::source_of(bytes, "d1p3")).error().what,
              "a BitLocker volume of a kind that is not read here");
    // The last bytes that metadata may have, and one more.
    auto large = volume();
    put(large, copies[0] + 64, 65536, 4);
    EXPECT_TRUE(describe_bitlocker(*support::source_of(large, "d1p3"))->damaged_copies.empty());
    put(large, copies[0] + 64, 65537, 4);
    EXPECT_EQ(describe_bitlocker(*support::source_of(large, "d1p3"))->damaged_copies.size(), 1U);
}

/// One copy with other bytes in it, counted from its head; the other copies are gone.
BitlockerDescription with_head(const std::vector<std::tuple<std::size_t, std::uint64_t, std::size_t>>& changes) {
    auto bytes = volume();
    for (const auto& [at, value, size] : changes) put(bytes, copies[0] + 64 + at, value, size);
    for (const auto at : {copies[1], copies[2]}) bytes[at] = 0;
    const auto told = describe_bitlocker(*support::source_of(bytes, "d1p3"));
    EXPECT_TRUE(told) << told.error().text();
    return told.value_or(BitlockerDescription{});
}

TEST(Bitlocker, EveryKindHasItsName) {
    const std::pair<unsigned, const char*> ciphers[] = {{0x8000, "AES-CBC with diffuser, 128 bits"},
                                                        {0x8001, "AES-CBC with diffuser, 256 bits"},
                                                        {0x8002, "AES-CBC, 128 bits"},
                                                        {0x8003, "AES-CBC, 256 bits"},
                                                        {0x8004, "AES-XTS, 128 bits"},
                                                        {0x8005, "AES-XTS, 256 bits"},
                                                        {0x8006, "cipher 8006"}};
    for (const auto& [number, name] : ciphers) EXPECT_EQ(with_head({{36, number, 2}}).cipher, name);
    const struct {
        unsigned number;
        const char* name;
        bool alone;
    } protectors[] = {{0x0000, "a key that lies open beside it (protection is suspended)", true},
                      {0x0100, "this machine's TPM", true},
                      {0x0200, "a start-up key on another medium", false},
                      {0x0300, "TPM and start-up key", false},
                      {0x0500, "TPM and PIN", false},
                      {0x0800, "a recovery password", false},
                      {0x2000, "a password", false},
                      {0x2100, "protector 2100", false}};
    for (const auto& row : protectors) {
        const auto told = with_head({{68 + 34, row.number, 2}});
        ASSERT_EQ(told.protectors.size(), 2U);
        EXPECT_EQ(told.protectors[0].kind, row.name);
        EXPECT_EQ(told.protectors[0].opens_by_itself, row.alone) << row.name;
    }
}

TEST(Bitlocker, OnlyWholeProtectorsCount) {
    // Another type, another value, and one that is too short for what it should hold by a byte.
    EXPECT_EQ(with_head({{68 + 2, 3, 2}}).protectors.size(), 1U);
    EXPECT_EQ(with_head({{68 + 4, 7, 2}}).protectors.size(), 1U);
    // The last entry is 36 bytes or 35: the metadata ends with it.
    const std::size_t last = 68 + 44;
    EXPECT_EQ(with_head({{last, 36, 2}, {0, last + 36, 4}}).protectors.size(), 2U);
    EXPECT_EQ(with_head({{last, 35, 2}, {0, last + 35, 4}}).protectors.size(), 1U);
    // What is too short for a head of its own at the end is none, whatever it says.
    const std::size_t end = last + 44;
    EXPECT_EQ(with_head({{end, 0xFFFF, 2}, {0, end + 7, 4}}).protectors.size(), 2U);
    auto bytes = volume();
    for (const auto at : copies) {
        put(bytes, at + 64 + end, 0xFFFF, 2);
        put(bytes, at + 64, end + 8, 4);
    }
    EXPECT_EQ(describe_bitlocker(*support::source_of(bytes, "d1p3")).error().what,
              "an entry in the metadata of BitLocker is damaged");
}

TEST(Bitlocker, LayoutTellsWhatOpensIt) {
    const support::Folder folder;
    const auto image = folder.write("safe.img", volume());
    const auto text = support::shell(std::string(TOOL_PATH) + " layout " + image).out;
    EXPECT_NE(text.find("AES-XTS, 128 bits"), std::string::npos) << text;
    EXPECT_NE(text.find("this machine's TPM"), std::string::npos) << text;
    EXPECT_NE(text.find("a recovery password"), std::string::npos) << text;
    const auto json = support::shell(std::string(TOOL_PATH) + " layout --format json " + image).out;
    EXPECT_NE(json.find("\"opens_by_itself\": true"), std::string::npos) << json;
    EXPECT_NE(json.find("\"bitlocker\": ["), std::string::npos) << json;
}

}  // namespace
