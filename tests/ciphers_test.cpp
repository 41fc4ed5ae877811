// SPDX-License-Identifier: MIT
// Ciphers and derived keys of encrypted volumes, against another library (OpenSSL).
#include <fmt/format.h>
#include <openssl/evp.h>
#include <set>

#include "support.hpp"
#include "unlock/ciphers.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

Bytes noise_of(std::size_t size) { return forge::noise(size, 11); }
std::string text_of(std::span<const std::uint8_t> bytes) { return {bytes.begin(), bytes.end()}; }
Bytes hashed(const EVP_MD* kind, const Bytes& what) {
    Bytes out(static_cast<std::size_t>(EVP_MD_size(kind)));
    EVP_Digest(what.data(), what.size(), out.data(), nullptr, kind, nullptr);
    return out;
}
/// One piece enciphered by OpenSSL, without padding.
Bytes enciphered(const EVP_CIPHER* cipher, const Bytes& key, const Bytes& iv, const Bytes& plain) {
    Bytes out(plain.size());
    EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
    int done = 0;
    EXPECT_EQ(EVP_EncryptInit_ex(context, cipher, nullptr, key.data(), iv.data()), 1);
    EVP_CIPHER_CTX_set_padding(context, 0);
    EXPECT_EQ(EVP_EncryptUpdate(context, out.data(), &done, plain.data(), static_cast<int>(plain.size())), 1);
    EVP_CIPHER_CTX_free(context);
    EXPECT_EQ(done, static_cast<int>(plain.size()));
    return out;
}

constexpr std::uint64_t far = 0x0000'0102'0304'0506;  ///< a sector whose number needs more than 32 bits

/// The number of a sector as an initial vector (the kernel's Documentation/admin-guide/device-mapper/dm-crypt.rst).
Bytes vector_of(std::initializer_list<std::uint8_t> first, bool at_end = false) {
    Bytes out(16);
    std::copy(first.begin(), first.end(), out.begin() + (at_end ? 16 - static_cast<long>(first.size()) : 0));
    return out;
}

struct Row {
    const char* name;
    const char* cipher;
    const EVP_CIPHER* (*other)();
    std::size_t key;
    Bytes vector;
};
class SectorCiphers : public testing::TestWithParam<Row> {};
TEST_P(SectorCiphers, DecipherWhatAnotherLibraryEnciphered) {
    const auto& row = GetParam();
    const Bytes key = noise_of(row.key);
    const Bytes plain = forge::noise(512, 5);
    auto sector = enciphered(row.other(), key, row.vector, plain);
    const auto cipher = ciphers::SectorCipher::make(row.cipher, key);
    ASSERT_TRUE(cipher) << cipher.error().text();
    ASSERT_TRUE((*cipher)->decipher(far, sector));
    EXPECT_TRUE(sector == plain);
    // The next sector's number gives another vector, but where there is none.
    auto again = enciphered(row.other(), key, row.vector, plain);
    ASSERT_TRUE((*cipher)->decipher(far + 1, again));
    EXPECT_EQ(again == plain, std::string_view(row.cipher).ends_with("-null"));
}
INSTANTIATE_TEST_SUITE_P(
    All, SectorCiphers,
    testing::Values(
        Row{"Plain64", "aes-cbc-plain64", EVP_aes_128_cbc, 16, vector_of({6, 5, 4, 3, 2, 1})},
        Row{"PlainIsCutAt32Bits", "aes-cbc-plain", EVP_aes_192_cbc, 24, vector_of({6, 5, 4, 3})},
        Row{"BigEndian", "aes-cbc-plain64be", EVP_aes_256_cbc, 32, vector_of({1, 2, 3, 4, 5, 6}, true)},
        Row{"Null", "aes-cbc-null", EVP_aes_128_cbc, 16, vector_of({})},
        Row{"Xts", "aes-xts-plain64", EVP_aes_128_xts, 32, vector_of({6, 5, 4, 3, 2, 1})},
        Row{"XtsOfTwiceTheKey", "aes-xts-plain", EVP_aes_256_xts, 64, vector_of({6, 5, 4, 3})},
        Row{"Camellia", "camellia-cbc-plain64", EVP_camellia_192_cbc, 24, vector_of({6, 5, 4, 3, 2, 1})},
        Row{"CamelliaShort", "camellia-cbc-plain64", EVP_camellia_128_cbc, 16, vector_of({6, 5, 4, 3, 2, 1})},
        Row{"CamelliaLong", "camellia-cbc-plain64", EVP_camellia_256_cbc, 32, vector_of({6, 5, 4, 3, 2, 1})}),
    support::by_name);

TEST(SectorCipher, EncipheredNumbersAreThoseByTheKeysDigest) {
    const struct {
        const char* name;
        const EVP_MD* (*hash)();
        const EVP_CIPHER* (*number)();
    } rows[] = {{"aes-cbc-essiv:sha256", EVP_sha256, EVP_aes_256_ecb}, {"aes-cbc-essiv:md5", EVP_md5, EVP_aes_128_ecb}};
    for (const auto& row : rows) {
        const Bytes key = noise_of(16), plain = forge::noise(1024, 9);
        const auto vector = enciphered(row.number(), hashed(row.hash(), key), Bytes(16), vector_of({6, 5, 4, 3, 2, 1}));
        auto sector = enciphered(EVP_aes_128_cbc(), key, vector, plain);
        const auto cipher = ciphers::SectorCipher::make(row.name, key);
        ASSERT_TRUE(cipher) << cipher.error().text();
        ASSERT_TRUE((*cipher)->decipher(far, sector));
        EXPECT_TRUE(sector == plain) << row.name;
    }
}

TEST(SectorCipher, OfNamesThatAreNotKnownThePartIsTold) {
    const struct {
        const char* name;
        std::size_t key;
        ErrorKind kind;
        const char* what;
    } rows[] = {
        {"aes", 16, ErrorKind::Unsupported, "the cipher aes is not known (no mode)"},
        {"aes-ctr-plain64", 16, ErrorKind::Unsupported, "the cipher aes-ctr-plain64 is not known (ctr)"},
        {"aes-ecb", 16, ErrorKind::Unsupported, "the cipher aes-ecb is not known (ecb)"},
        {"edelweiss-cbc-plain", 16, ErrorKind::Unsupported, "the cipher edelweiss-cbc-plain is not known (edelweiss)"},
        {"aes-cbc", 16, ErrorKind::Unsupported, "the cipher aes-cbc is not known ()"},
        {"aes-cbc-snow", 16, ErrorKind::Unsupported, "the cipher aes-cbc-snow is not known (snow)"},
        {"aes-cbc-essiv:snow", 16, ErrorKind::Unsupported, "the cipher aes-cbc-essiv:snow is not known (essiv:snow)"},
        {"aes-xts-essiv:sha256", 32, ErrorKind::Unsupported,
         "the cipher aes-xts-essiv:sha256 is not known (essiv:sha256)"},
        // A digest of 20 bytes is no key for AES.
        {"aes-cbc-essiv:sha1", 16, ErrorKind::Unsupported, "the cipher aes-cbc-essiv:sha1 is not known (essiv:sha1)"},
        {"aes-cbc-plain64", 15, ErrorKind::Malformed, "a key of 15 bytes does not fit aes-cbc-plain64"},
        {"aes-xts-plain64", 16, ErrorKind::Malformed, "a key of 16 bytes does not fit aes-xts-plain64"},
        {"twofish-cbc-plain64", 24, ErrorKind::Malformed, "a key of 24 bytes does not fit twofish-cbc-plain64"},
    };
    for (const auto& row : rows) {
        const auto made = ciphers::SectorCipher::make(row.name, noise_of(row.key));
        ASSERT_FALSE(made) << row.name;
        EXPECT_EQ(made.error().kind, row.kind) << row.name;
        EXPECT_EQ(made.error().what, row.what);
    }
    for (const auto& [name, key] : {std::pair<const char*, std::size_t>{"serpent-cbc-plain64", 16},
                                    {"serpent-xts-plain64", 48},
                                    {"serpent-xts-plain64", 64},
                                    {"twofish-xts-plain64", 32},
                                    {"twofish-cbc-plain64", 32}})
        EXPECT_TRUE(ciphers::SectorCipher::make(name, noise_of(key))) << name << " " << key;
}

TEST(DerivedKeys, ByRoundsOfADigest) {
    const std::string password = "three steps down", salt = "gneiss";
    const Bytes p = forge::to_bytes(password), s = forge::to_bytes(salt);
    for (const auto& [name, kind] : {std::pair<const char*, const EVP_MD*>{"sha1", EVP_sha1()},
                                     {"sha256", EVP_sha256()},
                                     {"sha512", EVP_sha512()}})
        for (const std::uint64_t rounds : {1U, 2U, 1000U})
            for (const std::size_t bytes : {16U, 64U}) {
                Bytes wanted(bytes);
                PKCS5_PBKDF2_HMAC(password.data(), static_cast<int>(password.size()), s.data(),
                                  static_cast<int>(s.size()), static_cast<int>(rounds), kind, static_cast<int>(bytes),
                                  wanted.data());
                const auto made = ciphers::pbkdf2(name, p, s, rounds, bytes);
                ASSERT_TRUE(made);
                EXPECT_EQ(text_of(made->bytes()), text_of(wanted)) << name << " " << rounds << " " << bytes;
            }
    const auto refused = [&](const char* hash, std::uint64_t rounds) {
        const auto made = ciphers::pbkdf2(hash, p, s, rounds, 16);
        return made ? std::string() : fmt::format("{}: {}", static_cast<int>(made.error().kind), made.error().what);
    };
    const auto told = [](ErrorKind kind, const char* what) {
        return fmt::format("{}: {}", static_cast<int>(kind), what);
    };
    EXPECT_EQ(refused("snow", 1), told(ErrorKind::Unsupported, "the hash snow is not known"));
    EXPECT_EQ(refused("sha1", 0), told(ErrorKind::Malformed, "a key derivation without rounds"));
    EXPECT_EQ(refused("sha1", 200'000'001),
              told(ErrorKind::Exhausted, "200000001 rounds of key derivation are too many"));
}

TEST(DerivedKeys, ByArgonHaveBounds) {
    const Bytes p = forge::to_bytes("three"), s = noise_of(16);
    const auto refused = [&](const ciphers::Argon2& cost) {
        const auto made = ciphers::argon2(cost, p, s, 32);
        return made ? std::string() : made.error().what;
    };
    EXPECT_EQ(refused({"argon2id", 1, 8, 1}), "");
    EXPECT_EQ(refused({"argon2i", 1, 32, 4}), "");
    EXPECT_EQ(refused({"argon2d", 1, 8, 1}), "the derivation argon2d is not known");
    EXPECT_EQ(refused({"argon2id", 0, 8, 1}), "argon2id with 0 passes over 8 KiB in 1 lanes");
    EXPECT_EQ(refused({"argon2id", 1, 8, 0}), "argon2id with 1 passes over 8 KiB in 0 lanes");
    EXPECT_EQ(refused({"argon2id", 1, 31, 4}), "argon2id with 1 passes over 31 KiB in 4 lanes");
    EXPECT_EQ(refused({"argon2id", 1, 264, 33}), "argon2id with 1 passes over 264 KiB in 33 lanes costs too much");
    EXPECT_EQ(refused({"argon2id", 1, 4194305, 1}),
              "argon2id with 1 passes over 4194305 KiB in 1 lanes costs too much");
    EXPECT_EQ(refused({"argon2id", 33, 4194304, 1}),
              "argon2id with 33 passes over 4194304 KiB in 1 lanes costs too much");
    // Lanes, passes and the kind all count.
    std::set<std::string> keys;
    for (const auto& cost : {ciphers::Argon2{"argon2id", 1, 32, 1}, ciphers::Argon2{"argon2id", 2, 32, 1},
                             ciphers::Argon2{"argon2id", 1, 33, 1}, ciphers::Argon2{"argon2id", 1, 32, 2},
                             ciphers::Argon2{"argon2i", 1, 32, 1}})
        keys.insert(text_of(ciphers::argon2(cost, p, s, 32)->bytes()));
    EXPECT_EQ(keys.size(), 5U);
}

/// As the LUKS specification describes it (On-Disk Format, section 2.4, AFmerge), with OpenSSL's digest.
TEST(DerivedKeys, AreGatheredFromTheirStripes) {
    constexpr std::size_t bytes = 72, stripes = 4;  // two whole digests and a part of one
    const Bytes material = noise_of(bytes * stripes);
    Bytes wanted(bytes);
    for (std::size_t stripe = 0; stripe < stripes; ++stripe) {
        for (std::size_t i = 0; i < bytes; ++i) wanted[i] ^= material[stripe * bytes + i];
        if (stripe + 1 == stripes) break;
        for (std::size_t at = 0; at < bytes; at += 32) {
            Bytes one{0, 0, 0, static_cast<std::uint8_t>(at / 32)};
            one.insert(one.end(), wanted.begin() + static_cast<long>(at),
                       wanted.begin() + static_cast<long>(std::min(at + 32, bytes)));
            std::copy_n(hashed(EVP_sha256(), one).begin(), std::min<std::size_t>(32, bytes - at),
                        wanted.begin() + static_cast<long>(at));
        }
    }
    EXPECT_EQ(text_of(ciphers::merge_stripes("sha256", material, bytes, stripes).bytes()), text_of(wanted));
    EXPECT_EQ(text_of(ciphers::merge_stripes("sha256", material, bytes, 1).bytes()),
              text_of(std::span(material).first(bytes)));
    EXPECT_EQ(text_of(ciphers::merge_stripes("snow", material, bytes, stripes).bytes()), text_of(Bytes(bytes)))
        << "a hash that is not known gathers nothing";
}

}  // namespace
