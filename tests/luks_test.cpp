// SPDX-License-Identifier: MIT
// Encrypted volumes: headers made and judged by cryptsetup itself, contents enciphered by another library, and the way
// of a machine whose root lies in one.
#include <fmt/format.h>
#include <openssl/evp.h>
#include <algorithm>
#include <nlohmann/json.hpp>

#include "cellar.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Checked;
using support::shell;

namespace {

constexpr const char* passphrase = "enzian, three steps down";

Bytes read_all(const std::string& path) { return support::file_bytes(path); }
Secret secret_of(std::string_view text) { return Secret(std::vector<std::uint8_t>(text.begin(), text.end())); }

/// cryptsetup opens the volume with this key file: what a machine would do. It works on a copy, which it may repair.
bool really_opens(const Bytes& volume, const std::string& key = passphrase) {
    const support::Folder folder;
    const auto image = folder.write("volume", volume);
    const auto file = folder.write("key", forge::to_bytes(key));
    return shell("/sbin/cryptsetup open --test-passphrase --batch-mode --key-file " + file + " " + image).status == 0;
}

/// A volume that cryptsetup made; its content is enciphered here, by OpenSSL.
struct Made {
    Bytes volume;
    Bytes key;  ///< of the content
    std::string how;

    explicit Made(std::string options, std::size_t size = 24U << 20U) : how(std::move(options)) {
        const support::Folder folder;
        const auto image = folder.write("volume", Bytes(size));
        const auto file = folder.write("key", forge::to_bytes(passphrase));
        const auto run = shell("/sbin/cryptsetup luksFormat --batch-mode " + how + " " + image + " " + file);
        EXPECT_EQ(run.status, 0) << how << run.out;
        const auto dump = shell("/sbin/cryptsetup luksDump --batch-mode --dump-volume-key --volume-key-file " +
                                folder.file("volume-key") + " --key-file " + file + " " + image);
        EXPECT_EQ(dump.status, 0) << how << dump.out;
        volume = read_all(image);
        key = read_all(folder.file("volume-key"));
    }
    /// Enciphers `content` sector by sector; the initial vectors as dm-crypt documents them.
    void fill(const Bytes& content, std::size_t at, const EVP_CIPHER* cipher, std::size_t sector, bool essiv) {
        EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
        Bytes hashed(32);
        EVP_Digest(key.data(), key.size(), hashed.data(), nullptr, EVP_sha256(), nullptr);
        for (std::size_t from = 0; from < content.size(); from += sector) {
            Bytes iv(16);
            for (std::size_t i = 0; i < 8; ++i) iv[i] = static_cast<std::uint8_t>(from / 512 >> (8 * i));
            int done = 0;
            if (essiv) {
                EVP_EncryptInit_ex(context, EVP_aes_256_ecb(), nullptr, hashed.data(), nullptr);
                EVP_CIPHER_CTX_set_padding(context, 0);
                EVP_EncryptUpdate(context, iv.data(), &done, iv.data(), 16);
            }
            EVP_EncryptInit_ex(context, cipher, nullptr, key.data(), iv.data());
            EVP_CIPHER_CTX_set_padding(context, 0);
            EVP_EncryptUpdate(context, volume.data() + at + from, &done, content.data() + from,
                              static_cast<int>(sector));
        }
        EVP_CIPHER_CTX_free(context);
    }
};

struct Shape {
    const char* name;
    const char* options;
    int version;
    const char* cipher;
    const char* derivation;
    const EVP_CIPHER* (*content)();  ///< null: only the key is checked
    bool essiv = false;
    std::size_t sector = 512;
};
class Shapes : public testing::TestWithParam<Shape> {};
TEST_P(Shapes, OpenAsCryptsetupMadeThem) {
    Made made(GetParam().options);
    const auto told = describe_luks(*support::source_of(made.volume, "d1p2"));
    ASSERT_TRUE(told) << told.error().text();
    EXPECT_EQ(told->version, GetParam().version);
    EXPECT_EQ(told->cipher, GetParam().cipher);
    EXPECT_EQ(told->key_bytes, made.key.size());
    EXPECT_EQ(told->sector, GetParam().sector);
    EXPECT_TRUE(told->findings.empty());
    EXPECT_FALSE(told->beyond) << told->beyond->text();
    ASSERT_EQ(told->slots.size(), 1U);
    EXPECT_EQ(told->slots[0].number, 0);
    EXPECT_EQ(told->slots[0].derivation, GetParam().derivation);
    EXPECT_FALSE(told->slots[0].problem) << told->slots[0].problem->text();
    Bytes content = forge::noise(100'000 / GetParam().sector * GetParam().sector, 3);
    if (GetParam().content != nullptr)
        made.fill(content, told->data_offset, GetParam().content(), GetParam().sector, GetParam().essiv);
    const auto volume = support::source_of(made.volume, "d1p2");
    const auto inside = open_luks(volume, secret_of(passphrase), "open/d1p2");
    ASSERT_TRUE(inside) << inside.error().text();
    EXPECT_EQ((*inside)->place(), "open/d1p2");
    EXPECT_EQ((*inside)->size(), (made.volume.size() - told->data_offset) / GetParam().sector * GetParam().sector);
    if (GetParam().content != nullptr) {
        EXPECT_TRUE((*inside)->bytes(0, content.size()).value() == content);
        // Reads that begin and end inside sectors, at both edges.
        for (const auto& [from, size] :
             {std::pair<std::size_t, std::size_t>{0, 1}, {511, 2}, {4095, 4098}, {1, 90'000}})
            EXPECT_TRUE(
                std::ranges::equal((*inside)->bytes(from, size).value(), std::span(content).subspan(from, size)))
                << from;
    }
    EXPECT_TRUE((*inside)->bytes((*inside)->size() - 1, 1));
    const auto past = (*inside)->bytes((*inside)->size(), 1);
    ASSERT_FALSE(past);
    EXPECT_EQ(past.error().kind, ErrorKind::OutOfRange);
    // As a passphrase typed into a text file; not with a blank more.
    EXPECT_TRUE(open_luks(volume, secret_of(std::string(passphrase) + "\r\n"), "x"));
    const auto refused = open_luks(volume, secret_of(std::string(passphrase) + " "), "x");
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::NotFound);
    EXPECT_NE(refused.error().what.find(std::string("tried: 0 (") + GetParam().derivation), std::string::npos)
        << refused.error().what;
}
INSTANTIATE_TEST_SUITE_P(
    Luks, Shapes,
    testing::Values(
        Shape{"V1Usual", "--type luks1 --pbkdf-force-iterations 1000", 1, "aes-xts-plain64", "pbkdf2-sha256",
              EVP_aes_256_xts},
        Shape{"V1Short", "--type luks1 --pbkdf-force-iterations 1000 --key-size 256 --hash sha512", 1,
              "aes-xts-plain64", "pbkdf2-sha512", EVP_aes_128_xts},
        Shape{"V1Essiv",
              "--type luks1 --pbkdf-force-iterations 1000 --cipher aes-cbc-essiv:sha256 --key-size 256 "
              "--hash sha1",
              1, "aes-cbc-essiv:sha256", "pbkdf2-sha1", EVP_aes_256_cbc, true},
        Shape{"V1Old",
              "--type luks1 --pbkdf-force-iterations 1000 --cipher aes-cbc-plain --key-size 128 --hash ripemd160", 1,
              "aes-cbc-plain", "pbkdf2-ripemd160", EVP_aes_128_cbc},
        Shape{"V2Usual", "--type luks2 --sector-size 512 --pbkdf-force-iterations 4 --pbkdf-memory 32768", 2,
              "aes-xts-plain64", "argon2id", EVP_aes_256_xts},
        Shape{"V2OneLane",
              "--type luks2 --sector-size 512 --pbkdf argon2i --pbkdf-force-iterations 5 --pbkdf-memory 1024 "
              "--pbkdf-parallel 1",
              2, "aes-xts-plain64", "argon2i", EVP_aes_256_xts},
        Shape{"V2Pbkdf2", "--type luks2 --sector-size 512 --pbkdf pbkdf2 --pbkdf-force-iterations 1000 --hash sha512",
              2, "aes-xts-plain64", "pbkdf2-sha512", EVP_aes_256_xts},
        Shape{"V2LargeSectors", "--type luks2 --pbkdf pbkdf2 --pbkdf-force-iterations 1000 --sector-size 4096", 2,
              "aes-xts-plain64", "pbkdf2-sha256", EVP_aes_256_xts, false, 4096},
        Shape{"V2LargeHeader",
              "--type luks2 --sector-size 512 --pbkdf pbkdf2 --pbkdf-force-iterations 1000 --luks2-metadata-size 128k",
              2, "aes-xts-plain64", "pbkdf2-sha256", EVP_aes_256_xts}),
    support::by_name);

TEST(Luks, AKeyFileIsTakenAsItIs) {
    const support::Folder folder;
    const auto image = folder.write("volume", Bytes(20U << 20U));
    const std::string raw("\0\1two\nlines\xFF", 12);
    const auto file = folder.write("key", forge::to_bytes(raw));
    ASSERT_EQ(shell("/sbin/cryptsetup luksFormat --batch-mode --type luks1 --pbkdf-force-iterations 1000 " + image +
                    " " + file)
                  .status,
              0);
    const auto volume = support::source_of(read_all(image), "d1");
    EXPECT_TRUE(open_luks(volume, secret_of(raw), "x"));
    EXPECT_FALSE(open_luks(volume, secret_of(raw.substr(0, raw.find('\n'))), "x"));
}

TEST(Luks, EverySlotIsTriedAndAFreedOneIsNot) {
    const support::Folder folder;
    const auto image = folder.write("volume", Bytes(20U << 20U));
    const auto first = folder.write("first", forge::to_bytes("the host's"));
    const auto second = folder.write("second", forge::to_bytes("the cook's"));
    const std::string cost = " --batch-mode --pbkdf pbkdf2 --pbkdf-force-iterations 1000 ";
    ASSERT_EQ(shell("/sbin/cryptsetup luksFormat --type luks2" + cost + image + " " + first).status, 0);
    ASSERT_EQ(
        shell("/sbin/cryptsetup luksAddKey --key-slot 5 --key-file " + first + cost + image + " " + second).status, 0);
    const auto both = support::source_of(read_all(image), "d1");
    EXPECT_EQ(describe_luks(*both)->slots.size(), 2U);
    EXPECT_EQ(describe_luks(*both)->slots[1].number, 5);
    EXPECT_TRUE(open_luks(both, secret_of("the cook's"), "x"));
    ASSERT_EQ(shell("/sbin/cryptsetup luksKillSlot --batch-mode " + image + " 5").status, 0);
    const auto one = support::source_of(read_all(image), "d1");
    EXPECT_EQ(describe_luks(*one)->slots.size(), 1U);
    EXPECT_FALSE(open_luks(one, secret_of("the cook's"), "x"));
    EXPECT_TRUE(open_luks(one, secret_of("the host's"), "x"));
}

/// What is changed in a sound volume, and whether the analyst expects it to open; cryptsetup is asked the same.
struct Harm {
    const char* name;
    int version;
    std::function<void(Bytes&)> change;
    bool opens;
    const char* says;  ///< in a finding, a slot's problem or the error
};
void PrintTo(const Harm& harm, std::ostream* out) { *out << harm.name; }
void zero(Bytes& bytes, std::size_t at, std::size_t count) {
    std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(at), count, std::uint8_t{0});
}
/// The eighth slot's material ends with the sector before the content begins, or `beyond` it. Numbers are big-endian; a
/// key is spread over 4000 stripes (LUKS1 on-disk format, 3.1).
void last_slot_before_content(Bytes& b, std::uint32_t beyond) {
    const auto number = [&](std::size_t at) {
        return static_cast<std::uint32_t>(b[at]) << 24U | static_cast<std::uint32_t>(b[at + 1]) << 16U |
               static_cast<std::uint32_t>(b[at + 2]) << 8U | b[at + 3];
    };
    const std::uint32_t content = number(104), sectors = (number(108) * 4000 + 511) / 512;
    const std::uint32_t first = content - sectors + beyond;
    for (std::size_t i = 0; i < 4; ++i) b[208 + 7 * 48 + 40 + i] = static_cast<std::uint8_t>(first >> (24 - 8 * i));
}
class Harms : public testing::TestWithParam<Harm> {};
TEST_P(Harms, AreJudgedAsByCryptsetup) {
    static const Bytes sound[] = {
        Made("--type luks1 --pbkdf-force-iterations 1000").volume,
        Made("--type luks2 --pbkdf pbkdf2 --pbkdf-force-iterations 1000").volume,
    };
    auto bytes = sound[GetParam().version - 1];
    GetParam().change(bytes);
    EXPECT_EQ(really_opens(bytes), GetParam().opens) << "cryptsetup";
    const auto volume = support::source_of(bytes, "d1");
    EXPECT_EQ(open_luks(volume, secret_of(passphrase), "x").has_value(), GetParam().opens);
    const auto told = describe_luks(*volume);
    std::string said = told ? "" : told.error().text();
    if (told) {
        for (const auto& finding : told->findings) said += finding.text + "\n";
        for (const auto& slot : told->slots)
            if (slot.problem) said += slot.problem->text() + "\n";
    }
    if (*GetParam().says == '\0') EXPECT_EQ(said, "");
    else EXPECT_NE(said.find(GetParam().says), std::string::npos) << said;
}
INSTANTIATE_TEST_SUITE_P(
    Luks, Harms,
    testing::Values(
        Harm{"V1Sound", 1, [](Bytes&) {}, true, ""},
        Harm{"V1FreeSlotState", 1, [](Bytes& b) { b[208 + 48] ^= 1U; }, true, ""},
        Harm{"V1SlotState", 1, [](Bytes& b) { b[208] ^= 1U; }, false, ""},
        Harm{"V1SlotOutside", 1, [](Bytes& b) { b[208 + 40] = 0x7F; }, false,
             "key slot 0 has its key material outside its room"},
        Harm{"V1FreeSlotOutside", 1, [](Bytes& b) { b[208 + 48 + 40] = 0x7F; }, false,
             "key slot 1 has its key material outside its room"},
        Harm{"V1FreeSlotInTheHeader", 1, [](Bytes& b) { zero(b, 208 + 48 + 40, 4); }, false, "outside its room"},
        Harm{"V1FreeSlotToTheContent", 1, [](Bytes& b) { last_slot_before_content(b, 0); }, true, ""},
        Harm{"V1FreeSlotIntoTheContent", 1, [](Bytes& b) { last_slot_before_content(b, 1); }, false,
             "key slot 7 has its key material outside its room"},
        Harm{"V1FreeSlotStripes", 1, [](Bytes& b) { b[208 + 48 + 47] ^= 1U; }, false,
             "key slot 1 has a wrong number of stripes"},
        Harm{"V1SlotsOverlap", 1, [](Bytes& b) { std::copy_n(b.begin() + 208 + 40, 4, b.begin() + 208 + 48 + 40); },
             false, "overlaps another one"},
        Harm{"V1Hash", 1, [](Bytes& b) { b[72] = 'x'; }, false, "the header's hash is not known"},
        Harm{"V1Digest", 1, [](Bytes& b) { b[112] ^= 1U; }, false, ""},
        Harm{"V1MaterialScratched", 1, [](Bytes& b) { zero(b, 4096 + 1000, 1024); }, false,
             "the area of key slot 0 was overwritten at byte 5120"},
        Harm{"V1MaterialFlipped", 1, [](Bytes& b) { b[4096 + 1000] ^= 1U; }, false, ""},
        Harm{"V1BehindTheMaterial", 1, [](Bytes& b) { zero(b, 4096 + 256'000, 512); }, true, ""},
        Harm{"V2Sound", 2, [](Bytes&) {}, true, ""},
        Harm{"V2FirstMark", 2, [](Bytes& b) { zero(b, 0, 512); }, true, "the first header of d1 cannot be used"},
        Harm{"V2FirstText", 2, [](Bytes& b) { b[4096 + 40] ^= 1U; }, true, "fails its checksum"},
        Harm{"V2FirstWhole", 2, [](Bytes& b) { zero(b, 0, 16384); }, true, "its second one serves"},
        Harm{"V2SecondMark", 2, [](Bytes& b) { b[16384] ^= 1U; }, true, "the second header of d1 cannot be used"},
        Harm{"V2SecondText", 2, [](Bytes& b) { b[16384 + 5000] ^= 1U; }, true, "its first one serves"},
        Harm{"V2Both", 2, [](Bytes& b) { b[4096 + 40] ^= 1U, b[16384 + 4096 + 40] ^= 1U; }, false,
             "the header fails its checksum"},
        Harm{"V2Slot", 2, [](Bytes& b) { zero(b, 32768 + 255'488, 512); }, false,
             "the area of key slot 0 was overwritten at byte 288256"},
        Harm{"V2BehindTheSlot", 2, [](Bytes& b) { zero(b, 32768 + 256'000, 2048); }, true, ""}),
    support::by_name);

// --- hostile headers -------------------------------------------------------------------------------------------------

/// The same volume with another text, its checksum made right again.
Bytes with_text(const std::function<void(std::string&)>& change) {
    auto bytes = forge::make_luks(Bytes(4096), passphrase);
    for (const std::size_t at : {std::size_t{0}, std::size_t{16384}}) {
        std::string text(reinterpret_cast<const char*>(bytes.data()) + at + 4096);
        change(text);
        zero(bytes, at + 4096, 12288);
        std::copy_n(text.begin(), std::min<std::size_t>(text.size(), 12288),
                    bytes.begin() + static_cast<std::ptrdiff_t>(at + 4096));
        zero(bytes, at + 448, 64);
        EVP_Digest(bytes.data() + at, 16384, bytes.data() + at + 448, nullptr, EVP_sha256(), nullptr);
    }
    return bytes;
}
struct Hostile {
    const char* name;
    const char* from;
    const char* to;
    ErrorKind kind;
    const char* says;
};
void PrintTo(const Hostile& hostile, std::ostream* out) { *out << hostile.name; }
class HostileTexts : public testing::TestWithParam<Hostile> {};
TEST_P(HostileTexts, EndWithAClearError) {
    const auto bytes = with_text([](std::string& text) {
        const auto at = text.find(GetParam().from);
        ASSERT_NE(at, std::string::npos);
        text.replace(at, std::string_view(GetParam().from).size(), GetParam().to);
    });
    const auto opened = open_luks(support::source_of(bytes, "d1"), secret_of(passphrase), "x");
    ASSERT_FALSE(opened);
    EXPECT_EQ(opened.error().kind, GetParam().kind) << opened.error().text();
    EXPECT_NE(opened.error().text().find(GetParam().says), std::string::npos) << opened.error().text();
}
INSTANTIATE_TEST_SUITE_P(
    Luks, HostileTexts,
    testing::Values(
        Hostile{"Rounds", "\"iterations\":1000", "\"iterations\":4000000000", ErrorKind::Exhausted, "too many"},
        Hostile{"NoRounds", "\"iterations\":1000", "\"iterations\":0", ErrorKind::Malformed, "without rounds"},
        Hostile{"Memory", R"("type":"pbkdf2","hash":"sha256","iterations":1000)",
                R"("type":"argon2id","time":4,"memory":4194305,"cpus":4)", ErrorKind::Exhausted, "costs too much"},
        Hostile{"Passes", R"("type":"pbkdf2","hash":"sha256","iterations":1000)",
                R"("type":"argon2id","time":4294967295,"memory":1048576,"cpus":4)", ErrorKind::Exhausted,
                "costs too much"},
        Hostile{"Lanes", R"("type":"pbkdf2","hash":"sha256","iterations":1000)",
                R"("type":"argon2id","time":4,"memory":1048576,"cpus":33)", ErrorKind::Exhausted, "costs too much"},
        Hostile{"AnotherDerivation", R"("type":"pbkdf2","hash":"sha256","iterations":1000)",
                R"("type":"scrypt","time":4)", ErrorKind::Unsupported, "scrypt is not known"},
        Hostile{"AreaOutside", R"("offset":"32768")", R"("offset":"18446744073709551615")", ErrorKind::Malformed,
                "the area of key slot 0 does not fit"},
        Hostile{"AreaSmall", R"("size":"258048")", R"("size":"255999")", ErrorKind::Malformed, "does not fit"},
        Hostile{"Stripes", R"("stripes":4000)", R"("stripes":4000000000)", ErrorKind::Malformed, "does not fit"},
        Hostile{"ContentOutside", R"("offset":"4194304")", R"("offset":"9999999999999")", ErrorKind::Malformed,
                "its content begins where the volume has ended"},
        Hostile{"Integrity", R"("sector_size":512)", R"("sector_size":512,"integrity":{"type":"aead"})",
                ErrorKind::Unsupported, "dm-integrity"},
        Hostile{"AnotherCipher", R"("iv_tweak":"0","encryption":"aes-xts-plain64")",
                R"("iv_tweak":"0","encryption":"xchacha12,aes-adiantum-plain64")", ErrorKind::Unsupported,
                "is not known"},
        Hostile{"NoSegments", "\"segments\":{\"0\"", "\"sediments\":{\"0\"", ErrorKind::Malformed, "has no segments"},
        Hostile{"NoObject", "{\"keyslots\"", "[\"keyslots\"", ErrorKind::Malformed, "no JSON object"}),
    support::by_name);

TEST(Luks, WhatIsNotKnownIsNotBroken) {
    const struct {
        const char *from, *to, *beyond;
    } cases[] = {
        // While it is being deciphered for good, the first segment is a plain one.
        {R"("segments":{"0":{"type":"crypt")",
         R"("segments":{"0":{"type":"linear","offset":"0","size":"512"},"1":{"type":"crypt")",
         "it is being enciphered anew"},
        {R"("digests":{"0":{"type":"pbkdf2")", R"("digests":{"0":{"type":"blake9")",
         "its key is recognised by a digest that is not known"},
        {R"("keyslots":{"0":{"type":"luks2")", R"("keyslots":{"0":{"type":"luks7")", ""},
        {R"("sector_size":512)", R"("sector_size":8192)", "sectors of 8192 bytes"},
        {R"("sector_size":512)", R"("sector_size":256)", "sectors of 256 bytes"},
        {R"("sector_size":512)", R"("sector_size":0)", "sectors of 0 bytes"},
    };
    for (const auto& one : cases) {
        const auto bytes = with_text([&](std::string& text) {
            const auto at = text.find(one.from);
            ASSERT_NE(at, std::string::npos) << one.from;
            text.replace(at, std::string_view(one.from).size(), one.to);
        });
        const auto told = describe_luks(*support::source_of(bytes, "d1"));
        ASSERT_TRUE(told) << one.to << told.error().text();
        EXPECT_EQ(told->beyond ? told->beyond->what : "", one.beyond);
        if (*one.beyond == '\0') {
            ASSERT_EQ(told->slots.size(), 1U);
            EXPECT_EQ(told->slots[0].derivation, "luks7");
            EXPECT_FALSE(told->slots[0].problem);
        }
        const auto opened = open_luks(support::source_of(bytes, "d1"), secret_of(passphrase), "x");
        ASSERT_FALSE(opened);
        EXPECT_EQ(opened.error().lack(), Lack::Unsupported) << opened.error().text();
    }
}

/// A slot that only says how far a new enciphering has come holds no key (LUKS2 on-disk format, 3.2.3).
TEST(Luks, ASlotOfAnEncipheringIsNoKeySlot) {
    const auto bytes = with_text([](std::string& text) {
        const std::string first = R"("keyslots":{)";
        const auto at = text.find(first);
        ASSERT_NE(at, std::string::npos);
        text.insert(at + first.size(),
                    R"("1":{"type":"reencrypt","key_size":1,"mode":"reencrypt","direction":"forward",)"
                    R"("area":{"type":"none","offset":"290816","size":"4096"}},)");
    });
    const auto told = describe_luks(*support::source_of(bytes, "d1"));
    ASSERT_TRUE(told) << told.error().text();
    ASSERT_EQ(told->slots.size(), 1U);
    EXPECT_EQ(told->slots[0].number, 0);
    EXPECT_EQ(told->slots[0].derivation, "pbkdf2-sha256");
    EXPECT_TRUE(open_luks(support::source_of(bytes, "d1"), secret_of(passphrase), "x"));
}

TEST(Luks, SectorsOfEachSizeAndTheirFirstNumber) {
    for (const unsigned size : {512U, 1024U, 2048U, 4096U}) {
        const auto bytes = with_text([&](std::string& text) {
            const auto replace = [&](const std::string& from, const std::string& to) {
                const auto at = text.find(from);
                ASSERT_NE(at, std::string::npos) << from;
                text.replace(at, from.size(), to);
            };
            replace(R"("sector_size":512)", fmt::format(R"("sector_size":{})", size));
            replace(R"("iv_tweak":"0")", R"("iv_tweak":"70000000000")");
        });
        const auto told = describe_luks(*support::source_of(bytes, "d1"));
        ASSERT_TRUE(told);
        EXPECT_FALSE(told->beyond) << told->beyond->text();
        EXPECT_EQ(told->sector, size);
        EXPECT_EQ(told->first_number, 70'000'000'000U);
    }
}

TEST(Luks, ADeepTextIsNotFollowed) {
    const auto deep = with_text(
        [](std::string& text) { text.insert(1, "\"a\":" + std::string(5000, '[') + std::string(5000, ']') + ","); });
    const auto told = describe_luks(*support::source_of(deep, "d1"));
    ASSERT_FALSE(told);
    EXPECT_NE(told.error().what.find("no JSON object"), std::string::npos);
    const auto shallow = with_text([](std::string& text) { text.insert(1, R"("a":[[[[1]]]],)"); });
    EXPECT_TRUE(describe_luks(*support::source_of(shallow, "d1")));
}

TEST(Luks, CutAnywhereIsAnError) {
    const auto whole = forge::make_luks(Bytes(4096), passphrase);
    for (const std::ptrdiff_t size : {0, 5, 100, 511, 512, 4096, 16383, 16384, 32768, 40000, 290'000}) {
        const Bytes cut(whole.begin(), whole.begin() + size);
        EXPECT_FALSE(open_luks(support::source_of(cut, "d1"), secret_of(passphrase), "x")) << size;
    }
}

TEST(Luks, WhatTheGeneratorMakesIsSoundToCryptsetup) {
    for (const int version : {1, 2}) {
        const auto bytes = forge::make_luks(forge::noise(8192, 4), passphrase, {version});
        EXPECT_TRUE(really_opens(bytes)) << version;
        EXPECT_FALSE(really_opens(bytes, "another one")) << version;
        const auto inside = open_luks(support::source_of(bytes, "d1"), secret_of(passphrase), "x");
        ASSERT_TRUE(inside) << version << inside.error().text();
        EXPECT_EQ((*inside)->bytes(0, 8192).value(), forge::noise(8192, 4)) << version;
    }
}

TEST(Luks, ASecretIsWipedWhenItIsMoved) {
    auto first = secret_of("room key");
    const auto* at = first.bytes().data();
    Secret second(std::move(first));
    EXPECT_EQ(second.bytes().data(), at);
    EXPECT_TRUE(first.empty());  // NOLINT(bugprone-use-after-move): that it is empty is the point
    second = secret_of("another");
    EXPECT_EQ(second.bytes().size(), 7U);
}

// --- the machine whose root lies in one ------------------------------------------------------------------------------

struct Vault {
    Machine machine;
    Verdict verdict;
    std::string json;
    explicit Vault(Bytes image, const char* key = nullptr) {
        machine.disks.push_back(inspect_disk(memory_source(std::move(image), "d1", 1), 1, "vault.img"));
        if (key != nullptr)
            machine.more_layers.push_back(
                luks_layer({{"d1p2", std::make_shared<const Secret>(secret_of(key)), "the key"}}));
        assemble_layers(machine);
        verdict = check(machine);
        json = layout_json(machine);
    }
    [[nodiscard]] const SystemVerdict& system() const { return verdict.systems.front(); }
    [[nodiscard]] const StageState& root() const { return system().at(Stage::Root); }
};

TEST(Vaults, OpenWithTheKeyStartsFromItsGroup) {
    const Vault vault(demo::vault().build(), demo::vault_passphrase);
    ASSERT_EQ(vault.verdict.systems.size(), 1U);
    EXPECT_EQ(vault.system().place, "lvm/inn/root");
    EXPECT_EQ(vault.system().starts, Starts::Yes) << vault.root().text;
    EXPECT_EQ(vault.system().name, "Almhof Cellar 3 (Silberdistel)");
    EXPECT_NE(vault.root().text.find("cryptsetup opens the unlocked volume open/d1p2"), std::string::npos)
        << vault.root().text;
    const auto document = nlohmann::json::parse(vault.json);
    const auto& made = document.at("made");
    const auto unlocked = std::ranges::find_if(made, [](const auto& m) { return m.at("place") == "open/d1p2"; });
    ASSERT_NE(unlocked, made.end());
    EXPECT_EQ(unlocked->at("kind"), "unlocked volume");
    EXPECT_EQ(unlocked->at("file_system"), "lvm physical volume");
    EXPECT_EQ(unlocked->at("names").at("linux").at(0), std::string("/dev/mapper/luks-") + demo::vault_uuid);
    EXPECT_EQ(document.at("encrypted").at(0).at("slots").at(0).at("derivation"), "pbkdf2-sha256");
    EXPECT_EQ(document.at("encrypted").at(0).at("slots").at(0).at("problem"), nullptr);
}

TEST(Vaults, WithoutTheKeyNobodyCanTell) {
    const Vault vault(demo::vault().build());
    ASSERT_EQ(vault.verdict.systems.size(), 1U);
    EXPECT_EQ(vault.system().starts, Starts::Unknown);
    EXPECT_EQ(vault.system().stops_at, std::nullopt);
    EXPECT_EQ(vault.root().state, State::Unknown);
    EXPECT_NE(vault.root().text.find("the machine asks for its passphrase"), std::string::npos) << vault.root().text;
    for (const auto& rung : vault.system().stages)
        if (rung.stage < Stage::Root) EXPECT_NE(rung.state, State::Breaks) << rung.text;
}

TEST(Vaults, TheWrongKeyIsTold) {
    const Vault vault(demo::vault().build(), "edelweiss under the fourth stair");
    EXPECT_EQ(vault.system().starts, Starts::Unknown);
    ASSERT_EQ(vault.machine.layer_findings.size(), 1U);
    EXPECT_EQ(vault.machine.layer_findings[0].code, Code::LuksKeyRefused);
    EXPECT_EQ(vault.machine.layer_findings[0].text,
              "the key does not open d1p2: no key slot opens by it (tried: 0 (pbkdf2-sha256))");
}

void scratch(Bytes& image, std::size_t at, std::size_t count) { zero(image, 2048 * 512 + (6U << 20U) + at, count); }

struct Change {
    const char* name;
    std::function<void(demo::Cellar&)> parts;
    std::function<void(Bytes&)> bytes;
    bool with_key;
    Starts starts;
    std::optional<Code> code;
    const char* says;
};
void PrintTo(const Change& change, std::ostream* out) { *out << change.name; }
class VaultChanges : public testing::TestWithParam<Change> {};
TEST_P(VaultChanges, AreSeenWithTheirReason) {
    auto parts = demo::vault();
    if (GetParam().parts) GetParam().parts(parts);
    auto image = parts.build();
    if (GetParam().bytes) GetParam().bytes(image);
    const Vault vault(image, GetParam().with_key ? demo::vault_passphrase : nullptr);
    ASSERT_EQ(vault.verdict.systems.size(), 1U);
    EXPECT_EQ(vault.system().starts, GetParam().starts) << vault.root().text;
    std::string said = vault.root().text + "\n" + vault.system().symptom;
    for (const auto& finding : vault.verdict.findings) said += "\n" + finding.text;
    EXPECT_NE(said.find(GetParam().says), std::string::npos) << said;
    if (GetParam().starts == Starts::No) {
        EXPECT_EQ(vault.system().stops_at, Stage::Root);
        EXPECT_EQ(vault.root().findings.front(), *GetParam().code);
        EXPECT_FALSE(vault.root().evidence.empty());
        EXPECT_EQ(vault.system().at(Stage::Init).state, State::NotReached);
    } else if (GetParam().code) {
        EXPECT_TRUE(
            std::ranges::any_of(vault.verdict.findings, [](const Finding& f) { return f.code == *GetParam().code; }));
    }
}
constexpr const char* other = "vault UUID=0bad1d00-0000-4a01-8a01-00000bad1d01 none luks\n";
INSTANTIATE_TEST_SUITE_P(
    Luks, VaultChanges,
    testing::Values(
        Change{"KeySlot",
               {},
               [](Bytes& b) { scratch(b, 32768 + 8192, 4096); },
               false,
               Starts::No,
               Code::LuksNoKeySlot,
               "no key slot of the encrypted d1p2 can be opened any more: the area of key slot 0 was overwritten at "
               "byte 40960"},
        Change{"BothHeaders",
               {},
               [](Bytes& b) { scratch(b, 4096, 100), scratch(b, 16384 + 4096, 100); },
               false,
               Starts::No,
               Code::LuksHeaderDamaged,
               "is not a valid LUKS device."},
        Change{"FirstHeader",
               {},
               [](Bytes& b) { scratch(b, 0, 4096); },
               true,
               Starts::Yes,
               Code::LuksHeaderCopy,
               "the first header of d1p2 cannot be used"},
        Change{"FirstHeaderWithoutKey",
               {},
               [](Bytes& b) { scratch(b, 0, 4096); },
               false,
               Starts::Unknown,
               Code::LuksHeaderCopy,
               "the first header of d1p2 cannot be used"},
        Change{"AnotherVolumeInTheTable",
               [](auto& c) { c.crypttab = other; },
               {},
               true,
               Starts::No,
               Code::RootNotOpened,
               "neither the RAM disk nor the command line names the encrypted d1p2"},
        Change{"AnotherVolumeInTheTableWithoutKey",
               [](auto& c) { c.crypttab = other; },
               {},
               false,
               Starts::No,
               Code::RootNotOpened,
               "but UUID=0bad1d00-0000-4a01-8a01-00000bad1d01 (RAM disk:/cryptroot/crypttab, line 1)"},
        Change{
            "NoTable", [](auto& c) { c.crypttab.clear(); }, {}, true, Starts::Unknown, {}, "names the encrypted d1p2"},
        Change{"AnEmptyTableOfDebian",
               [](auto& c) { c.crypttab = "\n"; },
               {},
               true,
               Starts::No,
               Code::RootNotOpened,
               "names the encrypted d1p2"},
        Change{"NamedByADeviceOfAnotherMachine",
               [](auto& c) { c.crypttab = "vault /dev/nvme0n1p7 none luks\n"; },
               {},
               true,
               Starts::Yes,
               {},
               "cryptsetup opens the unlocked volume open/d1p2"},
        Change{"NoProgram",
               [](auto& c) { c.ramdisk.remove("/sbin/cryptsetup"); },
               {},
               true,
               Starts::No,
               Code::RamdiskNoLayerProgram,
               "cryptsetup is not there"},
        Change{"NoDriver",
               [](auto& c) {
                   c.ramdisk.remove(std::string("/lib/modules/") + demo::release + "/kernel/drivers/md/dm-crypt.ko");
               },
               {},
               true,
               Starts::No,
               Code::RamdiskNoLayerDriver,
               "dm_crypt"},
        Change{"NamedByTheCommandLine",
               [](auto& c) {
                   c.crypttab.clear();
                   support::edit(c.boot, "/grub/grub.cfg", " ro quiet",
                                 std::string(" ro quiet cryptopts=target=vault,source=UUID=") + demo::vault_uuid);
               },
               {},
               true,
               Starts::Yes,
               {},
               "cryptsetup opens the unlocked volume open/d1p2"}),
    support::by_name);

/// dm-crypt asks the kernel for the parts of "aes-xts-plain64"; where a list tells what is built in, what is neither
/// there nor in the RAM disk is missing.
TEST(Vaults, TheCiphersDriversMustBeThere) {
    const std::string modules = std::string("/lib/modules/") + demo::release;
    const std::string inside =
        "kernel/fs/ext4/ext4.ko\nkernel/drivers/ata/ahci.ko\nkernel/drivers/scsi/sd_mod.ko\n"
        "kernel/drivers/md/dm-mod.ko\n";
    struct Row {
        std::string built_in;
        std::vector<std::string> brought;
        std::string lacks;  ///< empty: nothing
    };
    const Row rows[] = {{"kernel/crypto/xts.ko\nkernel/crypto/aes_generic.ko\n", {}, ""},
                        {"kernel/crypto/aes_generic.ko\n", {"xts"}, ""},
                        {"", {"xts", "aes_generic"}, ""},
                        {"", {"aesni_intel"}, ""},
                        {"kernel/crypto/aes_generic.ko\n", {}, "xts"},
                        {"kernel/crypto/xts.ko\n", {}, "aes_generic"},
                        {"kernel/crypto/cbc.ko\n", {"serpent_generic"}, "aes_generic"}};
    for (const auto& row : rows) {
        auto vault = demo::vault();
        vault.ramdisk.file(modules + "/modules.builtin", inside + row.built_in);
        for (const auto& name : row.brought)
            vault.ramdisk.file(modules + "/kernel/crypto/" + name + ".ko", forge::make_kernel_module(name));
        const auto image = vault.build();
        const Vault walked(image, demo::vault_passphrase);
        if (row.lacks.empty()) {
            EXPECT_NE(walked.system().starts, Starts::No) << row.built_in << walked.root().text;
            continue;
        }
        EXPECT_EQ(walked.system().starts, Starts::No) << row.built_in;
        ASSERT_FALSE(walked.root().findings.empty()) << walked.root().text;
        EXPECT_EQ(walked.root().findings.front(), Code::RamdiskNoLayerDriver);
        EXPECT_EQ(walked.root().text, "d1p2 is enciphered by aes-xts-plain64, and the kernel's driver " + row.lacks +
                                          " is neither in the RAM disk nor built in");
        EXPECT_NE(walked.system().symptom.find("Check that kernel supports aes-xts-plain64 cipher"), std::string::npos)
            << walked.system().symptom;
        EXPECT_EQ(walked.system().at(Stage::Init).state, State::NotReached);
    }
}

TEST(Vaults, OneLostSlotOfTwoIsARisk) {
    auto image = demo::vault().build();
    const auto begin = image.begin() + 2048 * 512 + (6 << 20);
    const support::Folder folder;
    const auto volume = folder.write("volume", Bytes(begin, image.end()));
    const auto first = folder.write("first", forge::to_bytes(demo::vault_passphrase));
    const auto second = folder.write("second", forge::to_bytes("gentian"));
    const auto added = shell(
        "/sbin/cryptsetup luksAddKey --batch-mode --pbkdf pbkdf2 --pbkdf-force-iterations 1000 "
        "--key-file " +
        first + " " + volume + " " + second);
    ASSERT_EQ(added.status, 0) << added.out;
    std::ranges::copy(read_all(volume), begin);
    EXPECT_EQ(Vault(image, "gentian").system().starts, Starts::Yes);
    scratch(image, 32768 + 8192, 512);
    const Vault vault(image, "gentian");
    EXPECT_EQ(vault.system().starts, Starts::Yes) << vault.root().text;
    const auto found = std::ranges::find(vault.verdict.findings, Code::LuksKeySlotDamaged, &Finding::code);
    ASSERT_NE(found, vault.verdict.findings.end());
    EXPECT_EQ(found->severity, Severity::Risk);
    EXPECT_EQ(found->text, "the area of key slot 0 was overwritten at byte 40960: its passphrase no longer opens d1p2");
    ASSERT_FALSE(found->evidence.empty());
    EXPECT_EQ(found->evidence[0].expected, "bytes that look random");
    EXPECT_EQ(found->evidence[0].range->offset, 2048 * 512 + (6U << 20U) + 40960);
}

TEST(Vaults, ARootUnderTheNameThatTheTableGives) {
    // Without a group: the file system lies in the encrypted volume itself.
    auto desk = demo::front_desk();
    forge::ExtOptions options = desk.ext;
    options.size = 8U << 20U;
    options.uuid = forge::uuid_from("0e470000-0002-4a01-8a01-0000000e4702");
    auto root = desk.root;
    root.file("/etc/crypttab", std::string("strongbox UUID=") + demo::vault_uuid + " none luks\n");
    const auto inside = forge::make_luks(forge::make_ext(root, options), passphrase);
    desk.root = support::boot_files(desk.root);
    support::edit(desk.root, "/boot/grub/grub.cfg", std::string("root=UUID=") + demo::root_uuid,
                  "root=/dev/mapper/strongbox");
    desk.ramdisk.file("/cryptroot/crypttab", std::string("strongbox UUID=") + demo::vault_uuid + " none luks\n")
        .file("/sbin/cryptsetup", forge::make_program(), 0755)
        .file(std::string("/lib/modules/") + demo::release + "/kernel/drivers/md/dm-crypt.ko",
              forge::make_kernel_module("dm_crypt"));
    desk.swap_size = 0;
    desk.disk.size = 40U << 20U;
    desk.disk.partitions.push_back({2048 + (20U << 20U) / 512, inside, 0xE8, false});
    const auto image = support::first_entries_swapped(desk.build());
    const Vault open(image, passphrase);
    ASSERT_EQ(open.verdict.systems.size(), 1U);
    EXPECT_EQ(open.system().place, "open/d1p2");
    EXPECT_EQ(open.system().starts, Starts::Yes) << open.root().text;
    EXPECT_NE(open.root().text.find("root=/dev/mapper/strongbox is open/d1p2"), std::string::npos) << open.root().text;
    const Vault shut(image);
    ASSERT_EQ(shut.verdict.systems.size(), 1U);
    EXPECT_EQ(shut.system().starts, Starts::Unknown);
    EXPECT_NE(shut.root().text.find("d1p2 is encrypted (luks2): the machine will ask for its passphrase"),
              std::string::npos)
        << shut.root().text;
    // What the RAM disk lacks to open it is seen without the key.
    desk.ramdisk.remove(std::string("/lib/modules/") + demo::release + "/kernel/drivers/md/dm-crypt.ko");
    const Vault closed(support::first_entries_swapped(desk.build()));
    EXPECT_EQ(closed.system().starts, Starts::No);
    EXPECT_EQ(closed.system().stops_at, Stage::Root);
    ASSERT_FALSE(closed.root().findings.empty());
    EXPECT_EQ(closed.root().findings[0], Code::RamdiskNoLayerDriver);
    EXPECT_NE(closed.root().text.find("the driver dm_crypt for the encrypted volume d1p2 is neither in the RAM disk"),
              std::string::npos)
        << closed.root().text;
}

// --- keys that the machine carries ----------------------------------------------------------------------------------

struct SelfOpened {
    Machine machine;
    Verdict verdict;
    explicit SelfOpened(Bytes image, std::vector<VolumeKey> keys = {}) {
        machine.disks.push_back(inspect_disk(memory_source(std::move(image), "d1", 1), 1, "vault.img"));
        open_layers(machine, std::move(keys));
        verdict = check(machine);
    }
    [[nodiscard]] std::vector<std::string> said() const {
        std::vector<std::string> out;
        for (const auto& finding : machine.layer_findings)
            out.push_back(std::string(code_id(finding.code)) + ": " + finding.text);
        return out;
    }
};

TEST(CarriedKeys, InTheRamDiskOpenTheVolume) {
    auto parts = demo::vault();
    parts.crypttab = std::string("vault UUID=") + demo::vault_uuid + " /cryptroot/keyfiles/vault.key luks\n";
    parts.ramdisk.file("/cryptroot/keyfiles/vault.key", demo::vault_passphrase);
    const SelfOpened open(parts.build());
    EXPECT_EQ(open.verdict.systems.at(0).starts, Starts::Yes);
    EXPECT_EQ(open.verdict.systems[0].place, "lvm/inn/root");
    EXPECT_EQ(open.said(),
              std::vector<std::string>{"luks-key-carried: the machine opens d1p2 by itself: its key lies in "
                                       "d1p1:/initrd.img-6.1.0-almhof:/cryptroot/keyfiles/vault.key"});
    EXPECT_EQ(open.machine.layer_findings[0].code, Code::LuksKeyCarried);
    EXPECT_EQ(open.machine.layer_findings[0].severity, Severity::Note);
    // Part of the file only; then a file that is not the key.
    parts.crypttab = std::string("vault UUID=") + demo::vault_uuid +
                     " /cryptroot/keyfiles/vault.key luks,keyfile-offset=4,keyfile-size=31\n";
    parts.ramdisk.file("/cryptroot/keyfiles/vault.key", std::string("....") + demo::vault_passphrase + "....");
    EXPECT_EQ(std::string(demo::vault_passphrase).size(), 31U);
    EXPECT_EQ(SelfOpened(parts.build()).verdict.systems.at(0).starts, Starts::Yes);
    parts.ramdisk.file("/cryptroot/keyfiles/vault.key", "something else entirely");
    const SelfOpened shut(parts.build());
    EXPECT_EQ(shut.verdict.systems.at(0).starts, Starts::Unknown);
    ASSERT_EQ(shut.said().size(), 1U);
    EXPECT_NE(shut.said()[0].find("luks-key-refused: d1p1:/initrd.img-6.1.0-almhof:/cryptroot/keyfiles/vault.key does "
                                  "not open d1p2"),
              std::string::npos)
        << shut.said()[0];
}

TEST(CarriedKeys, OnAnOpenVolumeOpenTheNextOne) {
    auto parts = demo::vault();
    parts.root.file("/etc/keys/bottles.key", "rows and rows");
    parts.root.file("/etc/crypttab", parts.crypttab + "bottles UUID=b0771e50-0001-4a01-8a01-0000b0771e51 " +
                                         "/etc/keys/bottles.key luks\n");
    auto image = parts.build();
    const std::size_t end = image.size();
    const auto second = forge::make_luks(forge::make_ext(forge::Tree().file("/list", "wine\n"), {.size = 4U << 20U}),
                                         "rows and rows", {2, "b0771e50-0001-4a01-8a01-0000b0771e51"});
    image.insert(image.end(), second.begin(), second.end());
    const std::size_t entry = 446 + 2 * 16;
    image[entry + 4] = 0xE8;
    forge::put32(image, entry + 8, static_cast<std::uint32_t>(end / 512));
    forge::put32(image, entry + 12, static_cast<std::uint32_t>(second.size() / 512));
    EXPECT_EQ(SelfOpened(image).machine.at("open/d1p3"), nullptr);
    const SelfOpened open(image,
                          {{"d1p2", std::make_shared<const Secret>(secret_of(demo::vault_passphrase)), "the key"}});
    ASSERT_NE(open.machine.at("open/d1p3"), nullptr);
    EXPECT_EQ(read_text_file(*open.machine.at("open/d1p3")->files(Observer::Linux), "/list").value_or("?"), "wine\n");
    EXPECT_EQ(open.said(), std::vector<std::string>{"luks-key-carried: the machine opens d1p3 by itself: its key lies "
                                                    "in lvm/inn/root:/etc/keys/bottles.key"});
}

// --- GRUB, whose own files lie in one -------------------------------------------------------------------------------

constexpr const char* grub_uuid = "0c4e570000014a018a01000000c4e571";

/// Everything but GRUB's core in the encrypted second partition.
Bytes all_inside(const Bytes& volume, const std::vector<std::string>& modules, const std::string& embedded) {
    auto desk = demo::front_desk();
    desk.root = forge::Tree().file("/readme", "nothing is here\n");
    desk.rebuild_ramdisk = false;
    desk.swap_size = 0;
    desk.disk.size = 44U << 20U;
    desk.disk.gap =
        forge::make_grub_core({std::string("(cryptouuid/") + grub_uuid + ")/boot/grub", modules, embedded, 1, true});
    desk.disk.partitions.push_back({2048 + (20U << 20U) / 512, volume, 0xE8, false});
    return support::first_entries_swapped(desk.build());
}
Bytes inner_system() {
    auto desk = demo::front_desk();
    auto& tree = desk.root;
    desk.ramdisk.file("/cryptroot/crypttab", std::string("strongbox UUID=") + demo::vault_uuid + " none luks\n")
        .file("/sbin/cryptsetup", forge::make_program(), 0755)
        .file(std::string("/lib/modules/") + demo::release + "/kernel/drivers/md/dm-crypt.ko",
              forge::make_kernel_module("dm_crypt"));
    tree.file(std::string("/boot/initrd.img-") + demo::release, forge::gzip(forge::make_cpio(desk.ramdisk)));
    forge::ExtOptions options = desk.ext;
    options.size = 14U << 20U;
    options.uuid = forge::uuid_from("0e470000-0003-4a01-8a01-0000000e4703");
    support::edit(tree, "/boot/grub/grub.cfg", demo::root_uuid, "0e470000-0003-4a01-8a01-0000000e4703");
    support::edit(tree, "/etc/fstab", demo::root_uuid, "0e470000-0003-4a01-8a01-0000000e4703");
    return forge::make_ext(tree, options);
}
const std::vector<std::string> crypto = {"luks2",       "cryptodisk", "pbkdf2",     "gcry_rijndael",
                                         "gcry_sha256", "ext2",       "part_msdos", "biosdisk"};
const std::string mount = std::string("cryptomount -u ") + grub_uuid + "\n";

TEST(GrubInside, OpensWhatItIsToldToOpen) {
    const auto image = all_inside(forge::make_luks(inner_system(), passphrase), crypto, mount);
    const Vault open(image, passphrase);
    ASSERT_FALSE(open.verdict.systems.empty());
    EXPECT_EQ(open.system().place, "open/d1p2");
    EXPECT_EQ(open.system().starts, Starts::Yes)
        << open.system().at(open.system().stops_at.value_or(Stage::Loader)).text << open.root().text;
    EXPECT_EQ(open.verdict.menus.at(0).place, "open/d1p2:/boot/grub/grub.cfg");
    // Nobody tells the key: what GRUB goes on with cannot be looked at, and nothing is broken.
    const Vault shut(image);
    for (const auto& system : shut.verdict.systems) {
        EXPECT_EQ(system.starts, Starts::Unknown);
        EXPECT_EQ(system.stops_at, std::nullopt);
    }
}

TEST(GrubInside, DoesNotSeeWhatItDoesNotOpen) {
    const auto volume = forge::make_luks(inner_system(), passphrase);
    const struct {
        std::vector<std::string> modules;
        std::string embedded, screen;
    } cases[] = {
        {crypto, "", "grub rescue>"},
        {crypto, "cryptomount -u 0bad1d00000040018a0100000bad1d01\n", "error: no such cryptodisk found."},
        {{"luks", "cryptodisk", "gcry_rijndael", "gcry_sha256", "ext2", "part_msdos", "biosdisk"},
         mount,
         "error: no such cryptodisk found."},
        {{"luks2", "cryptodisk", "gcry_sha256", "ext2", "part_msdos", "biosdisk"},
         mount,
         "error: Cipher aes isn't available."},
        {{"luks2", "cryptodisk", "gcry_rijndael", "ext2", "part_msdos", "biosdisk"},
         mount,
         "error: Invalid passphrase."},
    };
    for (const auto& one : cases) {
        const Vault vault(all_inside(volume, one.modules, one.embedded), passphrase);
        ASSERT_FALSE(vault.verdict.systems.empty());
        EXPECT_EQ(vault.system().stops_at, Stage::Loader) << one.screen;
        EXPECT_NE(vault.system().symptom.find(one.screen), std::string::npos) << vault.system().symptom;
        EXPECT_EQ(vault.system().place, "open/d1p2");
    }
}

TEST(GrubInside, ASlotThatOnlyArgon2OpensStaysShut) {
    const Made made("--type luks2 --pbkdf argon2id --pbkdf-force-iterations 4 --pbkdf-memory 1024 --uuid " +
                        std::string(demo::vault_uuid),
                    20U << 20U);
    const Vault vault(all_inside(made.volume, crypto, mount));
    ASSERT_EQ(vault.verdict.systems.size(), 1U);
    EXPECT_EQ(vault.system().stops_at, Stage::Loader);
    EXPECT_NE(vault.system().symptom.find("error: Invalid passphrase."), std::string::npos) << vault.system().symptom;
    // With the module that some distributions add, whoever knows the passphrase gets further.
    auto with = crypto;
    with.emplace_back("argon2");
    const Vault patched(all_inside(made.volume, with, mount));
    ASSERT_EQ(patched.verdict.systems.size(), 1U);
    EXPECT_EQ(patched.system().stops_at, std::nullopt);
    EXPECT_EQ(patched.system().starts, Starts::Unknown);
}

}  // namespace
