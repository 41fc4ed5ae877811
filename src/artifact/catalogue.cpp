// SPDX-License-Identifier: MIT
// Catalogues of signed files: a certificate trust list (MS-CAESO, 4.4.5) whose subjects are files.
#include <algorithm>

#include "artifact/pkcs7.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t most_bytes = std::uint64_t{64} << 20U;
constexpr std::size_t most_members = 500'000;
constexpr std::uint8_t sequence = 0x30;
constexpr std::uint8_t set = 0x31;
constexpr std::uint8_t octets = 0x04;
constexpr std::uint8_t utc_time = 0x17;
constexpr std::uint8_t general_time = 0x18;

bool is_digest(std::size_t size) { return size == 20 || size == 32; }

using Digests = std::vector<std::array<std::uint8_t, 32>>;

void keep(Digests& out, std::span<const std::uint8_t> bytes) {
    if (!is_digest(bytes.size())) return;
    out.emplace_back();
    std::copy_n(bytes.begin(), std::min(bytes.size(), out.back().size()), out.back().begin());
}

int hex_digit(std::uint8_t c) {
    if (c >= '0' && c <= '9') return c - '0';
    if (c >= 'A' && c <= 'F') return c - 'A' + 10;
    if (c >= 'a' && c <= 'f') return c - 'a' + 10;
    return -1;
}

/// A member's name: the digest itself, or its hexadecimal digits in UTF-16.
void name_of(std::span<const std::uint8_t> name, Digests& out) {
    if (is_digest(name.size())) return keep(out, name);
    std::vector<std::uint8_t> digest;
    int high = -1;
    for (std::size_t i = 0; i + 1 < name.size() && digest.size() <= 32; i += 2) {
        const int digit = name[i + 1] == 0 ? hex_digit(name[i]) : -1;
        if (digit < 0) break;
        if (high >= 0) digest.push_back(static_cast<std::uint8_t>(high * 16 + digit));
        high = high >= 0 ? -1 : digit;
    }
    keep(out, digest);
}

/// Among a member's attributes: what Authenticode signs, with the digest at its end.
void attributes_of(std::span<const std::uint8_t> der, const pkcs7::Element& all, Digests& out) {
    for (std::size_t at = all.content; at < all.end();) {
        const auto attribute = pkcs7::element_at(der, at);
        if (!attribute) return;
        at = attribute->end();
        const auto kind = pkcs7::element_at(der, attribute->content);
        const auto values = kind ? pkcs7::element_at(der, kind->end()) : std::nullopt;
        const auto value = values && values->tag == set ? pkcs7::element_at(der, values->content) : std::nullopt;
        const auto data = value && value->tag == sequence ? pkcs7::element_at(der, value->content) : std::nullopt;
        const auto info = data && data->tag == sequence ? pkcs7::element_at(der, data->end()) : std::nullopt;
        const auto algorithm = info && info->tag == sequence ? pkcs7::element_at(der, info->content) : std::nullopt;
        const auto digest =
            algorithm && algorithm->tag == sequence ? pkcs7::element_at(der, algorithm->end()) : std::nullopt;
        if (digest && digest->tag == octets && digest->end() <= attribute->end())
            keep(out, der.subspan(digest->content, digest->length));
    }
}

}  // namespace

Result<Catalogue> read_catalogue(const ByteSource& file, bool verify) {
    if (file.size() > most_bytes)
        return fail(ErrorKind::TooLarge, "the catalogue is too large", file.place(), size_text(most_bytes),
                    size_text(file.size()));
    const auto bytes = file.bytes(0, file.size(), most_bytes);
    if (!bytes) return tl::unexpected(bytes.error());
    const auto message = pkcs7::parse(*bytes);
    const auto der = pkcs7::content_of(message.get());
    const auto list = pkcs7::element_at(der, 0);
    if (!list) return fail(ErrorKind::Malformed, "the file is no signed list", file.place());
    // Usage, name and number come before the time; behind it the kind of the members, then the members.
    bool timed = false;
    std::optional<pkcs7::Element> members;
    int sequences = 0;
    for (std::size_t at = list->content; at < list->end() && !members;) {
        const auto part = pkcs7::element_at(der, at);
        if (!part) break;
        timed = timed || part->tag == utc_time || part->tag == general_time;
        if (timed && part->tag == sequence && ++sequences == 2) members = part;
        at = part->end();
    }
    if (!members) return fail(ErrorKind::Malformed, "the signed list has no members", file.place());
    Catalogue out;
    std::size_t count = 0;
    for (std::size_t at = members->content; at < members->end() && ++count <= most_members;) {
        const auto member = pkcs7::element_at(der, at);
        if (!member) break;
        at = member->end();
        const auto name = pkcs7::element_at(der, member->content);
        if (!name || name->tag != octets) continue;
        name_of(der.subspan(name->content, name->length), out.digests);
        const auto attributes = pkcs7::element_at(der, name->end());
        if (attributes && attributes->tag == set && attributes->end() <= member->end())
            attributes_of(der, *attributes, out.digests);
    }
    std::ranges::sort(out.digests);
    // By iterators: clang 14 cannot name the range that the other form returns.
    out.digests.erase(std::unique(out.digests.begin(), out.digests.end()), out.digests.end());
    if (X509* signer = pkcs7::signer_of(message.get()); signer != nullptr) out.signer = pkcs7::describe(signer).subject;
    if (verify) {
        out.intact = pkcs7::verifies(message.get(), der.subspan(list->content, list->length), nullptr);
        out.time = pkcs7::signing_time(message.get());
    }
    return out;
}

}  // namespace herberge
