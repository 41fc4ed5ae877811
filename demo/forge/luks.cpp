// SPDX-License-Identifier: MIT
// Encrypted volumes: LUKS 1 and 2, with one key slot.
#include <openssl/evp.h>
#include <algorithm>
#include <stdexcept>

#include "forge.hpp"

namespace forge {

namespace {

constexpr std::size_t key_bytes = 64;
constexpr std::size_t stripes = 4000;
constexpr std::size_t digest_bytes = 32;
constexpr int rounds = 1000;  // the least that is allowed: demo disks need no strength

void must(bool done) {
    if (!done) throw std::runtime_error("the cipher library refuses");
}

Bytes derive(const Bytes& secret, const Bytes& salt, std::size_t size) {
    Bytes out(size);
    must(PKCS5_PBKDF2_HMAC(reinterpret_cast<const char*>(secret.data()), static_cast<int>(secret.size()), salt.data(),
                           static_cast<int>(salt.size()), rounds, EVP_sha256(), static_cast<int>(size),
                           out.data()) == 1);
    return out;
}

Bytes sha256(std::span<const std::uint8_t> bytes) {
    Bytes out(digest_bytes);
    must(EVP_Digest(bytes.data(), bytes.size(), out.data(), nullptr, EVP_sha256(), nullptr) == 1);
    return out;
}

/// AES-256 in XTS mode; sectors of 512 bytes counted from 0.
void encipher(Bytes& bytes, const Bytes& key) {
    EVP_CIPHER_CTX* context = EVP_CIPHER_CTX_new();
    bool done = context != nullptr;
    for (std::size_t at = 0; done && at < bytes.size(); at += 512) {
        std::array<std::uint8_t, 16> number{};
        for (std::size_t i = 0; i < 8; ++i) number[i] = static_cast<std::uint8_t>(at / 512 >> (8 * i));
        int size = 0;
        done = EVP_EncryptInit_ex(context, EVP_aes_256_xts(), nullptr, key.data(), number.data()) == 1 &&
               EVP_EncryptUpdate(context, bytes.data() + at, &size, bytes.data() + at, 512) == 1;
    }
    EVP_CIPHER_CTX_free(context);
    must(done);
}

/// Spreads a key so that one lost sector loses it.
Bytes spread(const Bytes& key, std::uint32_t seed) {
    Bytes out = noise(key_bytes * (stripes - 1), seed);
    Bytes state(key_bytes);
    for (std::size_t stripe = 0; stripe + 1 < stripes; ++stripe) {
        for (std::size_t i = 0; i < key_bytes; ++i) state[i] ^= out[stripe * key_bytes + i];
        for (std::size_t part = 0; part * digest_bytes < key_bytes; ++part) {
            Bytes counted = {0, 0, 0, static_cast<std::uint8_t>(part)};
            const auto from = state.begin() + static_cast<std::ptrdiff_t>(part * digest_bytes);
            counted.insert(counted.end(), from, from + digest_bytes);
            std::ranges::copy(sha256(counted), from);
        }
    }
    for (std::size_t i = 0; i < key_bytes; ++i) state[i] ^= key[i];
    out.insert(out.end(), state.begin(), state.end());
    return out;
}

std::string base64(const Bytes& bytes) {
    std::string out((bytes.size() + 2) / 3 * 4 + 1, '\0');
    const int size =
        EVP_EncodeBlock(reinterpret_cast<unsigned char*>(out.data()), bytes.data(), static_cast<int>(bytes.size()));
    out.resize(static_cast<std::size_t>(size));
    return out;
}

void place(Bytes& out, std::size_t at, std::string_view text) {
    std::copy(text.begin(), text.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
}
void place(Bytes& out, std::size_t at, const Bytes& bytes) {
    std::copy(bytes.begin(), bytes.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
}
void put_big(Bytes& out, std::size_t at, std::uint64_t value, std::size_t size) {
    for (std::size_t i = 0; i < size; ++i) out[at + i] = static_cast<std::uint8_t>(value >> (8 * (size - 1 - i)));
}

constexpr std::size_t header_size = 16384;  // of version 2, with its text
constexpr std::size_t slot_2_at = 2 * header_size;
constexpr std::size_t slot_1_at = 4096;

/// What both versions are made of.
struct Made {
    Bytes key, slot_salt, digest_salt, digest, material;
};

void header_1(Bytes& out, const LuksOptions& o, const Made& made) {
    place(out, 0, "LUKS\xBA\xBE");
    put_big(out, 6, 1, 2);
    place(out, 8, "aes");
    place(out, 40, "xts-plain64");
    place(out, 72, "sha256");
    put_big(out, 104, luks_data_at / 512, 4);
    put_big(out, 108, key_bytes, 4);
    place(out, 112, Bytes(made.digest.begin(), made.digest.begin() + 20));
    place(out, 132, made.digest_salt);
    put_big(out, 164, rounds, 4);
    place(out, 168, o.uuid);
    for (std::size_t slot = 0; slot < 8; ++slot) {
        const std::size_t at = 208 + slot * 48;
        put_big(out, at, slot == 0 ? 0x00AC71F3 : 0x0000DEAD, 4);
        put_big(out, at + 40, slot_1_at / 512 + slot * 504, 4);
        put_big(out, at + 44, stripes, 4);
        if (slot == 0) {
            put_big(out, at + 4, rounds, 4);
            place(out, at + 8, made.slot_salt);
        }
    }
}

void header_2(Bytes& out, const LuksOptions& o, const Made& made, bool copy) {
    const std::size_t at = copy ? header_size : 0;
    place(out, at, copy ? "SKUL\xBA\xBE" : "LUKS\xBA\xBE");
    put_big(out, at + 6, 2, 2);
    put_big(out, at + 8, header_size, 8);
    put_big(out, at + 16, 3, 8);
    place(out, at + 24, o.label);
    place(out, at + 72, "sha256");
    place(out, at + 104, noise(64, copy ? 72 : 71));
    place(out, at + 168, o.uuid);
    put_big(out, at + 256, at, 8);
    const std::string text =
        R"({"keyslots":{"0":{"type":"luks2","key_size":64,"af":{"type":"luks1","stripes":4000,"hash":"sha256"},)"
        R"("area":{"type":"raw","offset":"32768","size":"258048","encryption":"aes-xts-plain64","key_size":64},)"
        R"("kdf":{"type":"pbkdf2","hash":"sha256","iterations":)" +
        std::to_string(rounds) + R"(,"salt":")" + base64(made.slot_salt) +
        R"("}}},"tokens":{},"segments":{"0":{"type":"crypt","offset":")" + std::to_string(luks_data_at) +
        R"(","size":"dynamic","iv_tweak":"0","encryption":"aes-xts-plain64","sector_size":512}},"digests":{"0":)"
        R"({"type":"pbkdf2","keyslots":["0"],"segments":["0"],"hash":"sha256","iterations":)" +
        std::to_string(rounds) + R"(,"salt":")" + base64(made.digest_salt) + R"(","digest":")" + base64(made.digest) +
        R"("}},"config":{"json_size":"12288","keyslots_size":")" + std::to_string(luks_data_at - slot_2_at) + "\"}}";
    place(out, at + 4096, text);
    const auto sum = sha256(std::span(out).subspan(at, header_size));
    place(out, at + 448, sum);
}

}  // namespace

Bytes make_luks(const Bytes& content, const std::string& passphrase, const LuksOptions& options) {
    Made made;
    made.key = noise(key_bytes, 81);
    made.slot_salt = noise(32, 82);
    made.digest_salt = noise(32, 83);
    made.digest = derive(made.key, made.digest_salt, digest_bytes);
    made.material = spread(made.key, 84);
    encipher(made.material, derive(to_bytes(passphrase), made.slot_salt, key_bytes));
    Bytes inside = content;
    inside.resize((inside.size() + 511) / 512 * 512);
    encipher(inside, made.key);
    Bytes out(luks_data_at + inside.size());
    if (options.version == 1) {
        header_1(out, options, made);
    } else {
        header_2(out, options, made, false);
        header_2(out, options, made, true);
    }
    place(out, options.version == 1 ? slot_1_at : slot_2_at, made.material);
    place(out, luks_data_at, inside);
    return out;
}

}  // namespace forge
