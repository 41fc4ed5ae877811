// SPDX-License-Identifier: MIT
// Whether an image may run: the decision that firmware takes over its signatures (SecurityPkg,
// DxeImageVerificationLib), and shim's (shim.c, verify_buffer_authenticode).
#include <fmt/format.h>
#include <algorithm>
#include <ctime>

#include <herberge/pe.hpp>

#include "artifact/pkcs7.hpp"
#include "bytes/uniform.hpp"
#include "firmware/shim_variables.hpp"
#include "ondisk/uefi.hpp"

namespace herberge {

namespace {

constexpr std::string_view type_sha256 = "c1c41626-504c-4092-aca9-41f936934328";
constexpr std::string_view type_sha1 = "826ca512-cf10-4ac9-b187-be01496631bd";
constexpr std::string_view type_sha384 = "ff3e5307-9fd0-48c9-85f1-8ad56c701e01";
constexpr std::string_view type_sha512 = "093e0fae-a6c4-4f50-9f1b-d41e2b89c19a";
constexpr std::string_view type_x509 = "a5c059a1-94e4-4aa7-87b5-ab155c2bf072";
/// Certificates by the digest of their signed part, each with a time of revocation behind it.
struct RevokedKind {
    std::string_view type;
    std::string_view algorithm;
    std::size_t length;
};
constexpr std::array<RevokedKind, 3> revoked_kinds = {{{"3bd2a492-96c0-4079-b420-fcf98ef103ed", "SHA256", 32},
                                                       {"7076876e-80c2-4ee6-aad2-28b349a6865b", "SHA384", 48},
                                                       {"446dbf63-2502-4cda-bcfa-2465d2b0fe9d", "SHA512", 64}}};
constexpr std::string_view enable_guid = "f0a30bc7-af08-4556-99c4-001009c93a44";

}  // namespace

std::optional<std::int64_t> efi_time_seconds(std::span<const std::uint8_t> time) {
    if (time.size() < sizeof(ondisk::EfiTime) || holds_only(time.first(7), 0)) return std::nullopt;
    std::tm parts{};
    const auto told = ondisk::from_bytes<ondisk::EfiTime>(time);
    parts.tm_year = told.year - 1900;
    parts.tm_mon = told.month - 1;
    parts.tm_mday = told.day;
    parts.tm_hour = told.hour;
    parts.tm_min = told.minute;
    parts.tm_sec = told.second;
    return ::timegm(&parts);
}

SignatureDatabase parse_signature_lists(std::span<const std::uint8_t> bytes) {
    SignatureDatabase out;
    for (std::size_t at = 0; at + sizeof(ondisk::SignatureListHead) <= bytes.size();) {
        const auto head = ondisk::from_bytes<ondisk::SignatureListHead>(bytes, at);
        const std::string type = ondisk::guid_at(head.type, 0);
        const std::size_t list = head.list_size;
        const std::size_t header = head.header_size;
        const std::size_t each = head.signature_size;
        if (list < sizeof(head) || list > bytes.size() - at || each < 17 || header > list - sizeof(head)) {
            ++out.damaged;
            break;
        }
        for (std::size_t i = at + sizeof(head) + header; i + each <= at + list; i += each) {
            const auto data = bytes.subspan(i + 16, each - 16);  // behind the owner's GUID
            if (type == type_x509) out.certificates.emplace_back(data.begin(), data.end());
            else if (type == type_sha256 && data.size() == 32) out.sha256.push_back(hex(data, ""));
            else if (type == type_sha1 && data.size() == 20) out.other_digests.emplace_back("SHA1", hex(data, ""));
            else if (type == type_sha384 && data.size() == 48) out.other_digests.emplace_back("SHA384", hex(data, ""));
            else if (type == type_sha512 && data.size() == 64) out.other_digests.emplace_back("SHA512", hex(data, ""));
            else if (const auto kind = std::ranges::find(revoked_kinds, type, &RevokedKind::type);
                     kind != revoked_kinds.end() && data.size() >= kind->length)
                out.revoked.push_back({std::string(kind->algorithm), hex(data.first(kind->length), ""),
                                       efi_time_seconds(data.subspan(kind->length))});
        }
        at += list;
    }
    return out;
}

std::vector<CertificateInfo> database_certificates(const SignatureDatabase& database) {
    std::vector<CertificateInfo> out;
    for (const auto& der : database.certificates) {
        const auto certificate = pkcs7::parse_certificate(der);
        out.push_back(certificate ? pkcs7::describe(certificate.get())
                                  : CertificateInfo{{}, {}, {}, {}, pkcs7::sha256_of(der)});
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

/// Why a deny list of certificates' digests refuses `certificate` as signer, or as the root that allows; none: it does
/// not. A time of revocation spares what was signed before it, when a token witnesses that whose authority is in dbt.
std::optional<std::string> revoked(PKCS7* message, X509* certificate, const ImageTrust& trust) {
    for (const auto& entry : trust.denied.revoked) {
        if (hex(pkcs7::signed_part_digest(certificate, entry.algorithm), "") != entry.digest) continue;
        const std::string name = pkcs7::name_text(X509_get_subject_name(certificate));
        if (!entry.from) return fmt::format("the certificate of {} is on the deny list (dbx)", name);
        std::string why = fmt::format("the certificate of {} is revoked from {} on (dbx)", name, utc_text(*entry.from));
        if (trust.time_authorities.empty()) return why + ", and no authority for time stamps is enrolled (dbt)";
        const auto time = pkcs7::signing_time(message, &trust.time_authorities);
        if (!time) return why + ", and no time stamp witnesses when it was signed";
        if (!time->intact) return why + ", and its time stamp leads to no authority that is enrolled (dbt)";
        if (time->seconds > *entry.from)
            return fmt::format("{}, and it was signed on {}", why, utc_text(time->seconds));
    }
    return std::nullopt;
}

/// The database allows this signature: the first certificate in it that does decides, revoked or not.
std::optional<std::string> allowed_by(PKCS7* message, const pkcs7::SignedDigest& told, const ImageTrust& trust,
                                      bool& allowed) {
    for (const auto& der : trust.allowed.certificates) {
        const pkcs7::Certificates one{der};
        if (!pkcs7::verifies(message, told.content, &one)) continue;
        const auto certificate = pkcs7::parse_certificate(der);
        auto why = certificate ? revoked(message, certificate.get(), trust) : std::nullopt;
        allowed = !why;
        return why;
    }
    return std::nullopt;
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
    if (digests_first && listed(allowed, image, sha)) return std::nullopt;
    const auto signatures = image_signatures(image);
    std::string why =
        signatures.empty() ? "it is not signed" : "none of its signatures leads to an allowed certificate";
    for (const auto& signature : signatures) {
        if (!signature.digest_matches) {
            why = "its content is not what was signed";
            continue;
        }
        const auto message = pkcs7::parse(signature.pkcs7);
        const auto told = pkcs7::signed_digest(message.get());
        if (!told) continue;
        if (X509* signer = pkcs7::signer_of(message.get()); signer != nullptr)
            if (auto refused = revoked(message.get(), signer, *this)) return refused;
        if (!denied.certificates.empty() && pkcs7::verifies(message.get(), told->content, &denied.certificates))
            return "its signer is on the deny list (dbx)";
        bool good = false;
        const auto refused = allowed_by(message.get(), *told, *this, good);
        if (good) return std::nullopt;
        why = refused ? *refused
              : signature.chain.empty()
                  ? "its signature brings no certificate"
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
    out.trust.time_authorities = lists("dbt", UefiVariables::security).certificates;
    const auto* key = variables.find("PK");
    const auto* enable = variables.find("SecureBootEnable", enable_guid);
    const bool platform_key = key != nullptr && !key->data.empty();
    const bool switched_off = enable != nullptr && !enable->data.empty() && enable->data[0] == 0;
    if (wanted == SecureBoot::Off) {
        out.why = "Secure Boot is taken to be off";
    } else if (wanted == SecureBoot::On) {
        out.enforcing = true;
        out.why = out.trust.allowed.empty()
                      ? "Secure Boot is taken to be on, and no database of allowed signers was given"
                      : "Secure Boot is taken to be on";
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
    out.digests_first = true;
    // It knows lists of certificates and of images' digests only.
    out.denied.revoked.clear();
    out.sbat = sbat_policy(shim, variables);
    const auto take = [](SignatureDatabase& into, SignatureDatabase from) {
        into.certificates.insert(into.certificates.end(), from.certificates.begin(), from.certificates.end());
        into.sha256.insert(into.sha256.end(), from.sha256.begin(), from.sha256.end());
        into.other_digests.insert(into.other_digests.end(), from.other_digests.begin(), from.other_digests.end());
    };
    // Lists that the machine's owner enrolled; the boot-time copy is what shim reads.
    if (const auto* mok = variables.find("MokList", shim_guid)) take(out.allowed, parse_signature_lists(mok->data));
    if (const auto* mok = variables.find("MokListX", shim_guid)) take(out.denied, parse_signature_lists(mok->data));
    const auto pe = inspect_pe(shim);
    if (!pe) return out;
    const auto bytes = pe_section(shim, *pe, ".vendor_cert");
    const auto table = ondisk::from_bytes<ondisk::ShimVendorTable>(bytes);
    if (bytes.size() < sizeof(table)) return out;
    const auto piece = [&](std::size_t at, std::size_t size) -> std::span<const std::uint8_t> {
        if (at > bytes.size() || size > bytes.size() - at) return {};
        return std::span(bytes).subspan(at, size);
    };
    const auto vendor = piece(table.allowed_at, table.allowed_size);
    if (!vendor.empty()) {
        if (pkcs7::parse_certificate(vendor)) out.allowed.certificates.emplace_back(vendor.begin(), vendor.end());
        else take(out.allowed, parse_signature_lists(vendor));
    }
    const auto denied = piece(table.denied_at, table.denied_size);
    if (!denied.empty()) take(out.denied, parse_signature_lists(denied));
    return out;
}

}  // namespace herberge
