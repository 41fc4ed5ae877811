// SPDX-License-Identifier: MIT
// Signatures of images (Microsoft "Windows Authenticode Portable Executable Signature Format" 1.0).
#include <openssl/evp.h>
#include <algorithm>

#include "artifact/pkcs7.hpp"
#include "ondisk/pe.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_signatures = 32;
constexpr std::uint16_t pkcs7_kind = 2;  // WIN_CERT_TYPE_PKCS_SIGNED_DATA

using DigestContext = Held<EVP_MD_CTX, EVP_MD_CTX_free>;

ImageSignature judge(const ByteSource& image, std::span<const std::uint8_t> der) {
    ImageSignature out;
    out.pkcs7.assign(der.begin(), der.end());
    const auto message = pkcs7::parse(der);
    const auto told = pkcs7::signed_digest(message.get());
    if (!told) return out;
    const auto real = authenticode_digest(image, told->algorithm);
    out.digest_matches = real && *real == told->digest;
    out.intact = pkcs7::verifies(message.get(), told->content, nullptr);
    if (message->d.sign->cert != nullptr)
        for (int i = 0; i < sk_X509_num(message->d.sign->cert); ++i)
            out.chain.push_back(pkcs7::describe(sk_X509_value(message->d.sign->cert, i)));
    // The signer's certificate first: a message brings them in any order.
    if (X509* signer = pkcs7::signer_of(message.get()); signer != nullptr) {
        const auto first = pkcs7::describe(signer).sha256;
        const auto at = std::ranges::find(out.chain, first, &CertificateInfo::sha256);
        if (at != out.chain.end()) std::rotate(out.chain.begin(), at, at + 1);
        out.root = pkcs7::root_of(message.get());
    }
    out.time = pkcs7::signing_time(message.get());
    out.chain_problem = pkcs7::chain_problem(
        message.get(), out.time && out.time->intact ? std::optional(out.time->seconds) : std::nullopt);
    return out;
}

}  // namespace

Result<std::vector<std::uint8_t>> authenticode_digest(const ByteSource& image, const std::string& algorithm) {
    const auto pe = inspect_pe(image);
    if (!pe) return tl::unexpected(pe.error());
    const std::uint64_t checksum = pe->checksum_at;
    const std::uint64_t directory = pe->directories_at + 4 * sizeof(ondisk::PeDirectory);
    const EVP_MD* kind = EVP_get_digestbyname(algorithm.c_str());
    DigestContext context(EVP_MD_CTX_new());
    if (kind == nullptr || !context || EVP_DigestInit_ex(context.get(), kind, nullptr) != 1)
        return fail(ErrorKind::Unsupported, "an unknown digest", image.place());
    std::optional<Error> problem;
    auto feed = [&](std::uint64_t from, std::uint64_t to) {
        constexpr std::uint64_t step = std::uint64_t{1} << 20U;
        for (std::uint64_t at = from; at < to && !problem; at += step) {
            const auto part = image.bytes(at, std::min(step, to - at));
            if (!part) problem = part.error();
            else EVP_DigestUpdate(context.get(), part->data(), part->size());
        }
    };
    feed(0, checksum);
    feed(checksum + 4, directory);
    feed(directory + 8, pe->header_size);
    std::uint64_t hashed = pe->header_size;
    auto sections = pe->sections;
    std::ranges::stable_sort(sections, {}, &PeSection::file_offset);
    for (const auto& s : sections) {
        if (s.file_size == 0) continue;
        feed(s.file_offset, std::uint64_t{s.file_offset} + s.file_size);
        hashed += s.file_size;
    }
    // What lies behind the sections and before the certificates is covered, too.
    const std::uint64_t certificates = pe->certificates_size;
    if (image.size() > hashed + certificates) feed(hashed, image.size() - certificates);
    if (problem) return tl::unexpected(*problem);
    std::vector<std::uint8_t> out(EVP_MAX_MD_SIZE);
    unsigned length = 0;
    EVP_DigestFinal_ex(context.get(), out.data(), &length);
    out.resize(length);
    return out;
}

std::vector<ImageSignature> image_signatures(const ByteSource& image) {
    std::vector<ImageSignature> out;
    const auto pe = inspect_pe(image);
    if (!pe || pe->certificates_size == 0 || pe->certificates_offset > image.size() ||
        pe->certificates_size > image.size() - pe->certificates_offset)
        return out;
    const auto table = image.bytes(pe->certificates_offset, pe->certificates_size, std::uint64_t{4} << 20U);
    if (!table) return out;
    for (std::size_t at = 0; at + sizeof(ondisk::WinCertificate) <= table->size() && out.size() < most_signatures;) {
        const auto head = ondisk::from_bytes<ondisk::WinCertificate>(*table, at);
        const std::size_t length = head.length;
        if (length < sizeof(head) || length > table->size() - at) break;
        if (head.type == pkcs7_kind)
            out.push_back(judge(image, std::span(*table).subspan(at + sizeof(head), length - sizeof(head))));
        at += (length + 7) / 8 * 8;
    }
    return out;
}

}  // namespace herberge
