// SPDX-License-Identifier: MIT
#include <herberge/digest.hpp>

#include <openssl/evp.h>
#include <algorithm>
#include <memory>

namespace herberge {

std::string sha256_of(const ByteSource& source, std::uint64_t most) {
    constexpr std::uint64_t step = std::uint64_t{1} << 20U;
    const std::unique_ptr<EVP_MD_CTX, decltype(&EVP_MD_CTX_free)> context(EVP_MD_CTX_new(), &EVP_MD_CTX_free);
    if (!context || EVP_DigestInit_ex(context.get(), EVP_sha256(), nullptr) != 1) return {};
    std::vector<std::uint8_t> buffer;
    const auto size = std::min(source.size(), most);
    for (std::uint64_t at = 0; at < size; at += step) {
        buffer.resize(static_cast<std::size_t>(std::min(step, size - at)));
        if (!source.read(at, buffer) || EVP_DigestUpdate(context.get(), buffer.data(), buffer.size()) != 1) return {};
    }
    std::vector<std::uint8_t> digest(32);
    if (EVP_DigestFinal_ex(context.get(), digest.data(), nullptr) != 1) return {};
    return hex(digest, "");
}

}  // namespace herberge
