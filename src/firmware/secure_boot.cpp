// SPDX-License-Identifier: MIT
// Authenticode (Microsoft "Windows Authenticode Portable Executable Signature Format" 1.0) and the decision that firmware
// takes over it (SecurityPkg/Library/DxeImageVerificationLib).
#include <fmt/format.h>
#include <openssl/bio.h>
#include <openssl/err.h>
#include <openssl/evp.h>
#include <openssl/pkcs7.h>
#include <openssl/x509.h>
#include <openssl/x509v3.h>
#include <algorithm>
#include <memory>

#include <herberge/signature.hpp>

#include "ondisk/pe.hpp"

namespace herberge {

namespace {

constexpr std::string_view type_sha256 = "c1c41626-504c-4092-aca9-41f936934328";
constexpr std::string_view type_sha1 = "826ca512-cf10-4ac9-b187-be01496631bd";
constexpr std::string_view type_sha384 = "ff3e5307-9fd0-48c9-85f1-8ad56c701e01";
constexpr std::string_view type_sha512 = "093e0fae-a6c4-4f50-9f1b-d41e2b89c19a";
constexpr std::string_view type_x509 = "a5c059a1-94e4-4aa7-87b5-ab155c2bf072";
constexpr std::string_view type_x509_sha256 = "3bd2a492-96c0-4079-b420-fcf98ef103ed";
constexpr std::string_view enable_guid = "f0a30bc7-af08-4556-99c4-001009c93a44";
constexpr std::string_view shim_guid = "605dab50-e046-4300-abb6-3dd810dd8b23";
constexpr std::size_t most_signatures = 32;

template <class T, void (*Free)(T*)>
struct Freer {
    void operator()(T* p) const { Free(p); }
};
using Pkcs7 = std::unique_ptr<PKCS7, Freer<PKCS7, PKCS7_free>>;
using Certificate = std::unique_ptr<X509, Freer<X509, X509_free>>;
using Store = std::unique_ptr<X509_STORE, Freer<X509_STORE, X509_STORE_free>>;
struct BioFreer {
    void operator()(BIO* p) const { BIO_free_all(p); }
};
using Bio = std::unique_ptr<BIO, BioFreer>;
struct DigestFreer {
    void operator()(EVP_MD_CTX* p) const { EVP_MD_CTX_free(p); }
};
using DigestContext = std::unique_ptr<EVP_MD_CTX, DigestFreer>;

std::string guid_at(std::span<const std::uint8_t> bytes, std::size_t at) {
    if (at + 16 > bytes.size()) return {};
    std::array<std::uint8_t, 16> turned{};
    static constexpr std::array<std::size_t, 16> order = {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};
    for (std::size_t i = 0; i < 16; ++i) turned.at(i) = bytes[at + order.at(i)];
    return uuid_text(turned);
}

std::string sha256_of(std::span<const std::uint8_t> bytes) {
    std::array<std::uint8_t, 32> out{};
    unsigned length = 0;
    EVP_Digest(bytes.data(), bytes.size(), out.data(), &length, EVP_sha256(), nullptr);
    return hex(out, "");
}

Certificate parse_certificate(std::span<const std::uint8_t> der) {
    const unsigned char* at = der.data();
    Certificate out(d2i_X509(nullptr, &at, static_cast<long>(der.size())));
    if (!out) ERR_clear_error();
    return out;
}

std::string name_text(const X509_NAME* name) {
    Bio bio(BIO_new(BIO_s_mem()));
    if (!bio || name == nullptr) return {};
    X509_NAME_print_ex(bio.get(), name, 0, XN_FLAG_ONELINE & ~ASN1_STRFLGS_ESC_MSB);
    char* data = nullptr;
    const long length = BIO_get_mem_data(bio.get(), &data);
    return printable(std::string_view(data, static_cast<std::size_t>(std::max(length, 0L))));
}

std::string time_text(const ASN1_TIME* time) {
    Bio bio(BIO_new(BIO_s_mem()));
    if (!bio || time == nullptr) return {};
    ASN1_TIME_print(bio.get(), time);
    char* data = nullptr;
    const long length = BIO_get_mem_data(bio.get(), &data);
    return printable(std::string_view(data, static_cast<std::size_t>(std::max(length, 0L))));
}

std::vector<std::uint8_t> der_of(X509* certificate) {
    unsigned char* raw = nullptr;
    const int length = i2d_X509(certificate, &raw);
    if (length <= 0) return {};
    std::vector<std::uint8_t> out(raw, raw + length);
    OPENSSL_free(raw);
    return out;
}

CertificateInfo describe(X509* certificate) {
    CertificateInfo out;
    out.subject = name_text(X509_get_subject_name(certificate));
    out.issuer = name_text(X509_get_issuer_name(certificate));
    out.not_before = time_text(X509_get0_notBefore(certificate));
    out.not_after = time_text(X509_get0_notAfter(certificate));
    out.sha256 = sha256_of(der_of(certificate));
    return out;
}

/// One element of DER: where its content lies.
struct Element {
    std::uint8_t tag = 0;
    std::size_t content = 0;
    std::size_t length = 0;
    [[nodiscard]] std::size_t end() const { return content + length; }
};
std::optional<Element> element_at(std::span<const std::uint8_t> der, std::size_t at) {
    if (at + 2 > der.size()) return std::nullopt;
    Element out;
    out.tag = der[at];
    std::size_t length = der[at + 1];
    at += 2;
    if (length >= 0x80) {
        const std::size_t bytes = length & 0x7FU;
        if (bytes == 0 || bytes > 4 || at + bytes > der.size()) return std::nullopt;
        length = 0;
        for (std::size_t i = 0; i < bytes; ++i) length = length << 8U | der[at + i];
        at += bytes;
    }
    if (length > der.size() - at) return std::nullopt;
    out.content = at;
    out.length = length;
    return out;
}

/// What the signature says the image's digest is: the content is data, then an algorithm and an octet string.
struct SignedDigest {
    std::string algorithm;
    std::vector<std::uint8_t> digest;
    std::vector<std::uint8_t> content;  ///< the bytes that the signature covers
};
std::optional<SignedDigest> signed_digest(PKCS7* p7) {
    if (p7 == nullptr || !PKCS7_type_is_signed(p7) || p7->d.sign == nullptr || p7->d.sign->contents == nullptr || p7->d.sign->contents->d.other == nullptr ||
        p7->d.sign->contents->d.other->type != V_ASN1_SEQUENCE)
        return std::nullopt;
    const ASN1_STRING* text = p7->d.sign->contents->d.other->value.sequence;
    const std::span<const std::uint8_t> der(ASN1_STRING_get0_data(text), static_cast<std::size_t>(ASN1_STRING_length(text)));
    const auto outer = element_at(der, 0);
    if (!outer) return std::nullopt;
    SignedDigest out;
    out.content.assign(der.begin() + static_cast<std::ptrdiff_t>(outer->content), der.begin() + static_cast<std::ptrdiff_t>(outer->end()));
    const auto data = element_at(der, outer->content);
    const auto info = data ? element_at(der, data->end()) : std::nullopt;
    const auto algorithm = info ? element_at(der, info->content) : std::nullopt;
    const auto octets = algorithm ? element_at(der, algorithm->end()) : std::nullopt;
    if (!octets || octets->tag != 0x04) return std::nullopt;
    out.digest.assign(der.begin() + static_cast<std::ptrdiff_t>(octets->content), der.begin() + static_cast<std::ptrdiff_t>(octets->end()));
    switch (out.digest.size()) {
        case 20: out.algorithm = "SHA1"; break;
        case 32: out.algorithm = "SHA256"; break;
        case 48: out.algorithm = "SHA384"; break;
        case 64: out.algorithm = "SHA512"; break;
        default: return std::nullopt;
    }
    return out;
}

Pkcs7 parse_pkcs7(std::span<const std::uint8_t> der) {
    const unsigned char* at = der.data();
    Pkcs7 out(d2i_PKCS7(nullptr, &at, static_cast<long>(der.size())));
    if (!out) ERR_clear_error();
    return out;
}

/// The signature under `p7` is right, and a chain leads to one of `trusted` (none given: only the signature counts).
bool verifies(PKCS7* p7, const SignedDigest& what, const std::vector<std::vector<std::uint8_t>>* trusted) {
    Bio content(BIO_new_mem_buf(what.content.data(), static_cast<int>(what.content.size())));
    Store store(X509_STORE_new());
    if (!content || !store) return false;
    int flags = PKCS7_BINARY;
    if (trusted == nullptr) {
        flags |= PKCS7_NOVERIFY;
    } else {
        for (const auto& der : *trusted)
            if (const auto certificate = parse_certificate(der)) X509_STORE_add_cert(store.get(), certificate.get());
        // Any certificate of the database ends a chain; purposes and clocks do not count for firmware.
        X509_STORE_set_flags(store.get(), X509_V_FLAG_PARTIAL_CHAIN | X509_V_FLAG_NO_CHECK_TIME);
        X509_STORE_set_purpose(store.get(), X509_PURPOSE_ANY);
    }
    const bool good = PKCS7_verify(p7, nullptr, store.get(), content.get(), nullptr, flags) == 1;
    if (!good) ERR_clear_error();
    return good;
}

}  // namespace

SignatureDatabase parse_signature_lists(std::span<const std::uint8_t> bytes) {
    constexpr std::size_t head = 28;
    SignatureDatabase out;
    for (std::size_t at = 0; at + head <= bytes.size();) {
        const std::string type = guid_at(bytes, at);
        const std::size_t list = ondisk::from_bytes<ondisk::little_uint32_t>(bytes, at + 16);
        const std::size_t header = ondisk::from_bytes<ondisk::little_uint32_t>(bytes, at + 20);
        const std::size_t each = ondisk::from_bytes<ondisk::little_uint32_t>(bytes, at + 24);
        if (list < head || list > bytes.size() - at || each < 17 || header > list - head) {
            ++out.damaged;
            break;
        }
        for (std::size_t i = at + head + header; i + each <= at + list; i += each) {
            const auto data = bytes.subspan(i + 16, each - 16);  // behind the owner's GUID
            if (type == type_x509) out.certificates.emplace_back(data.begin(), data.end());
            else if (type == type_sha256 && data.size() == 32) out.sha256.push_back(hex(data, ""));
            else if (type == type_sha1 && data.size() == 20) out.other_digests.emplace_back("SHA1", hex(data, ""));
            else if (type == type_sha384 && data.size() == 48) out.other_digests.emplace_back("SHA384", hex(data, ""));
            else if (type == type_sha512 && data.size() == 64) out.other_digests.emplace_back("SHA512", hex(data, ""));
            else if (type == type_x509_sha256 && data.size() >= 32) out.certificate_sha256.push_back(hex(data.first(32), ""));
        }
        at += list;
    }
    return out;
}

std::vector<CertificateInfo> database_certificates(const SignatureDatabase& database) {
    std::vector<CertificateInfo> out;
    for (const auto& der : database.certificates) {
        const auto certificate = parse_certificate(der);
        out.push_back(certificate ? describe(certificate.get()) : CertificateInfo{{}, {}, {}, {}, sha256_of(der)});
    }
    return out;
}

Result<std::vector<std::uint8_t>> authenticode_digest(const ByteSource& image, const std::string& algorithm) {
    const auto pe = inspect_pe(image);
    if (!pe) return tl::unexpected(pe.error());
    const auto pe_at = image.load<ondisk::little_uint32_t>(0x3C);
    if (!pe_at) return tl::unexpected(pe_at.error());
    const std::uint64_t checksum = std::uint64_t{*pe_at} + sizeof(ondisk::PeFileHeader) + offsetof(ondisk::PeOptional, checksum);
    const std::uint64_t directory = std::uint64_t{*pe_at} + sizeof(ondisk::PeFileHeader) + (pe->wide ? 112 : 96) + 4 * 8;
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
    if (!pe || pe->certificates_size == 0 || pe->certificates_offset > image.size() || pe->certificates_size > image.size() - pe->certificates_offset)
        return out;
    const auto table = image.bytes(pe->certificates_offset, pe->certificates_size, std::uint64_t{4} << 20U);
    if (!table) return out;
    for (std::size_t at = 0; at + 8 <= table->size() && out.size() < most_signatures;) {
        const std::size_t length = ondisk::from_bytes<ondisk::little_uint32_t>(*table, at);
        const std::uint16_t type = ondisk::from_bytes<ondisk::little_uint16_t>(*table, at + 6);
        if (length < 8 || length > table->size() - at) break;
        constexpr std::uint16_t pkcs7_kind = 2;
        if (type == pkcs7_kind) {
            ImageSignature signature;
            signature.pkcs7.assign(table->begin() + static_cast<std::ptrdiff_t>(at + 8), table->begin() + static_cast<std::ptrdiff_t>(at + length));
            const auto p7 = parse_pkcs7(signature.pkcs7);
            const auto told = signed_digest(p7.get());
            if (told) {
                const auto real = authenticode_digest(image, told->algorithm);
                signature.digest_matches = real && *real == told->digest;
                signature.intact = verifies(p7.get(), *told, nullptr);
                if (p7->d.sign->cert != nullptr)
                    for (int i = 0; i < sk_X509_num(p7->d.sign->cert); ++i) signature.chain.push_back(describe(sk_X509_value(p7->d.sign->cert, i)));
                // The signer's chain upwards, as far as the certificates it brings go.
                if (auto* signers = PKCS7_get0_signers(p7.get(), nullptr, 0); signers != nullptr) {
                    if (sk_X509_num(signers) > 0) {
                        signature.root = name_text(X509_get_issuer_name(sk_X509_value(signers, 0)));
                        for (std::size_t steps = 0; steps < 8; ++steps) {
                            const auto up = std::ranges::find_if(
                                signature.chain, [&](const CertificateInfo& c) { return c.subject == signature.root && c.issuer != c.subject; });
                            if (up == signature.chain.end()) break;
                            signature.root = up->issuer;
                        }
                    }
                    sk_X509_free(signers);
                }
                ERR_clear_error();
            }
            out.push_back(std::move(signature));
        }
        at += (length + 7) / 8 * 8;
    }
    return out;
}

namespace {

/// The digest of the image is in a database, in whatever algorithm.
bool listed(const SignatureDatabase& database, const ByteSource& image, const std::string& sha256) {
    if (std::ranges::find(database.sha256, sha256) != database.sha256.end()) return true;
    return std::ranges::any_of(database.other_digests, [&](const auto& entry) {
        const auto digest = authenticode_digest(image, entry.first);
        return digest && hex(*digest, "") == entry.second;
    });
}

/// A certificate that the signature brings is revoked by the digest of its signed part. A time of revocation would spare
/// what was signed before; without a countersignature that the firmware trusts, it does not.
bool brings_revoked(PKCS7* p7, const std::vector<std::string>& revoked) {
    if (revoked.empty() || p7 == nullptr || p7->d.sign == nullptr || p7->d.sign->cert == nullptr) return false;
    for (int i = 0; i < sk_X509_num(p7->d.sign->cert); ++i) {
        unsigned char* raw = nullptr;
        const int length = i2d_re_X509_tbs(sk_X509_value(p7->d.sign->cert, i), &raw);
        if (length <= 0) continue;
        const std::string digest = sha256_of({raw, static_cast<std::size_t>(length)});
        OPENSSL_free(raw);
        if (std::ranges::find(revoked, digest) != revoked.end()) return true;
    }
    return false;
}

}  // namespace

std::optional<std::string> ImageTrust::refuse(const ByteSource& image) const {
    if (auto why = refuse_by_signature(image)) return why;
    return sbat_refuses(image, sbat, false);
}

std::optional<std::string> ImageTrust::refuse_by_signature(const ByteSource& image) const {
    const auto pe = inspect_pe(image);
    if (!pe) return "it is no image";
    if (pe->certificates_size != 0 && pe->certificates_offset + pe->certificates_size != image.size())
        return "bytes lie behind its certificate table, or the table leaves the file";
    const auto digest = authenticode_digest(image, "SHA256");
    if (!digest) return "its digest cannot be computed: " + digest.error().what;
    const std::string sha = hex(*digest, "");
    if (listed(denied, image, sha)) return "its digest is on the deny list (dbx)";
    const auto signatures = image_signatures(image);
    std::string why = signatures.empty() ? "it is not signed" : "none of its signatures leads to an allowed certificate";
    for (const auto& signature : signatures) {
        if (!signature.digest_matches) {
            why = "its content is not what was signed";
            continue;
        }
        const auto p7 = parse_pkcs7(signature.pkcs7);
        const auto told = signed_digest(p7.get());
        if (!told) continue;
        if (brings_revoked(p7.get(), denied.certificate_sha256)) return "a certificate of its signature is on the deny list (dbx)";
        if (!denied.certificates.empty() && verifies(p7.get(), *told, &denied.certificates)) return "its signer is on the deny list (dbx)";
        if (verifies(p7.get(), *told, &allowed.certificates)) return std::nullopt;
        if (why != "its content is not what was signed" || signature.digest_matches)
            why = signature.chain.empty() ? "its signature brings no certificate"
                                          : fmt::format("its signer ({}) is not allowed", signature.chain.front().subject);
    }
    if (listed(allowed, image, sha)) return std::nullopt;
    return why;
}

SecureBootPolicy secure_boot_policy(const UefiVariables& variables, SecureBoot wanted) {
    SecureBootPolicy out;
    const auto lists = [&](std::string_view name, std::string_view guid) {
        const auto* v = variables.find(name, guid);
        return v != nullptr ? parse_signature_lists(v->data) : SignatureDatabase{};
    };
    out.trust.by = "the firmware";
    out.trust.allowed = lists("db", UefiVariables::security);
    out.trust.denied = lists("dbx", UefiVariables::security);
    const auto* key = variables.find("PK");
    const auto* enable = variables.find("SecureBootEnable", enable_guid);
    const bool platform_key = key != nullptr && !key->data.empty();
    const bool switched_off = enable != nullptr && !enable->data.empty() && enable->data[0] == 0;
    if (wanted == SecureBoot::Off) {
        out.why = "Secure Boot is taken to be off";
    } else if (wanted == SecureBoot::On) {
        out.enforcing = true;
        out.why = out.trust.allowed.empty() ? "Secure Boot is taken to be on, and no database of allowed signers was given" : "Secure Boot is taken to be on";
    } else if (!variables.given()) {
        out.why = "Secure Boot is taken to be off: no variables were given";
    } else {
        out.enforcing = platform_key && !switched_off;
        out.why = out.enforcing  ? "Secure Boot is on: a platform key is enrolled"
                  : platform_key ? "Secure Boot is switched off"
                                 : "Secure Boot is off: no platform key is enrolled";
    }
    return out;
}

ImageTrust shim_trust(const ByteSource& shim, const ImageTrust& firmware, const UefiVariables& variables) {
    ImageTrust out = firmware;
    out.by = "shim";
    out.sbat = sbat_policy(shim, variables);
    const auto take = [](SignatureDatabase& into, SignatureDatabase from) {
        into.certificates.insert(into.certificates.end(), from.certificates.begin(), from.certificates.end());
        into.sha256.insert(into.sha256.end(), from.sha256.begin(), from.sha256.end());
        into.certificate_sha256.insert(into.certificate_sha256.end(), from.certificate_sha256.begin(), from.certificate_sha256.end());
        into.other_digests.insert(into.other_digests.end(), from.other_digests.begin(), from.other_digests.end());
    };
    // Lists that the machine's owner enrolled; the boot-time copy is what shim reads.
    if (const auto* mok = variables.find("MokList", shim_guid)) take(out.allowed, parse_signature_lists(mok->data));
    if (const auto* mok = variables.find("MokListX", shim_guid)) take(out.denied, parse_signature_lists(mok->data));
    const auto pe = inspect_pe(shim);
    if (!pe) return out;
    const auto section = std::ranges::find(pe->sections, std::string_view(".vendor_cert"), &PeSection::name);
    if (section == pe->sections.end()) return out;
    const auto bytes = shim.bytes(section->file_offset, section->file_size, std::uint64_t{1} << 20U);
    if (!bytes || bytes->size() < 16) return out;
    // Four numbers: sizes and offsets of what is allowed and of what is denied, from the section's start.
    const auto piece = [&](std::size_t index) -> std::span<const std::uint8_t> {
        const std::size_t size = ondisk::from_bytes<ondisk::little_uint32_t>(*bytes, index * 4);
        const std::size_t at = ondisk::from_bytes<ondisk::little_uint32_t>(*bytes, 8 + index * 4);
        if (at > bytes->size() || size > bytes->size() - at) return {};
        return std::span(*bytes).subspan(at, size);
    };
    const auto vendor = piece(0);
    if (!vendor.empty()) {
        if (parse_certificate(vendor)) out.allowed.certificates.emplace_back(vendor.begin(), vendor.end());
        else take(out.allowed, parse_signature_lists(vendor));
    }
    const auto denied = piece(1);
    if (!denied.empty()) take(out.denied, parse_signature_lists(denied));
    return out;
}

}  // namespace herberge
