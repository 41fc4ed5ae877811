// SPDX-License-Identifier: MIT
#include "artifact/pkcs7.hpp"

#include <openssl/bio.h>
#include <openssl/err.h>
#include <openssl/evp.h>
#include <openssl/ts.h>
#include <openssl/x509v3.h>
#include <algorithm>
#include <ctime>

namespace herberge::pkcs7 {

namespace {

using Store = Held<X509_STORE, X509_STORE_free>;
using Signer = Held<PKCS7_SIGNER_INFO, PKCS7_SIGNER_INFO_free>;
using TokenInfo = Held<TS_TST_INFO, TS_TST_INFO_free>;
using Bio = Held<BIO, BIO_free_all>;
/// An encoding of OpenSSL's making.
using Encoding = Held<unsigned char, [](unsigned char* bytes) { OPENSSL_free(bytes); }>;

/// szOID_RFC3161_counterSign, in an attribute of Authenticode's own.
constexpr const char* token_attribute = "1.3.6.1.4.1.311.3.3.1";

std::string text_in(BIO* bio) {
    char* data = nullptr;
    const long length = BIO_get_mem_data(bio, &data);
    return printable(std::string_view(data, static_cast<std::size_t>(std::max(length, 0L))));
}

std::string time_text(const ASN1_TIME* time) {
    Bio bio(BIO_new(BIO_s_mem()));
    if (!bio || time == nullptr) return {};
    ASN1_TIME_print(bio.get(), time);
    return text_in(bio.get());
}

std::span<const std::uint8_t> bytes_of(const ASN1_STRING* text) {
    if (text == nullptr || ASN1_STRING_length(text) <= 0) return {};
    return {ASN1_STRING_get0_data(text), static_cast<std::size_t>(ASN1_STRING_length(text))};
}

/// One digest algorithm, and a known one. PKCS7_verify loses memory on an unknown one, and takes over the caller's data
/// where there is none; Authenticode has exactly one (section "SignedData").
bool one_known_digest(const PKCS7* message) {
    if (PKCS7_type_is_signed(message) == 0 || message->d.sign == nullptr) return false;
    const auto* kinds = message->d.sign->md_algs;
    return sk_X509_ALGOR_num(kinds) == 1 && EVP_get_digestbyobj(sk_X509_ALGOR_value(kinds, 0)->algorithm) != nullptr;
}

std::optional<std::int64_t> seconds_of(const ASN1_TIME* time) {
    std::tm parts{};
    if (time == nullptr || ASN1_TIME_to_tm(time, &parts) != 1) return std::nullopt;
    return ::timegm(&parts);
}

const ASN1_TYPE* unsigned_attribute(const PKCS7_SIGNER_INFO* signer, const ASN1_OBJECT* kind) {
    for (int i = 0; i < sk_X509_ATTRIBUTE_num(signer->unauth_attr); ++i) {
        auto* attribute = sk_X509_ATTRIBUTE_value(signer->unauth_attr, i);
        if (OBJ_cmp(X509_ATTRIBUTE_get0_object(attribute), kind) == 0) return X509_ATTRIBUTE_get0_type(attribute, 0);
    }
    return nullptr;
}

/// The token names a digest of the signature's own bytes, and a time.
std::optional<SigningTime> token_time(const PKCS7_SIGNER_INFO* signer, const Certificates* trusted) {
    const Held<ASN1_OBJECT, ASN1_OBJECT_free> kind(OBJ_txt2obj(token_attribute, 1));
    const ASN1_TYPE* value = kind ? unsigned_attribute(signer, kind.get()) : nullptr;
    if (value == nullptr || value->type != V_ASN1_SEQUENCE) return std::nullopt;
    const Message token = parse(bytes_of(value->value.sequence));
    if (!token || !one_known_digest(token.get())) return std::nullopt;
    const TokenInfo info(PKCS7_to_TS_TST_INFO(token.get()));
    if (!info) return std::nullopt;
    auto* imprint = TS_TST_INFO_get_msg_imprint(info.get());
    const EVP_MD* digest = EVP_get_digestbyobj(TS_MSG_IMPRINT_get_algo(imprint)->algorithm);
    const auto told = bytes_of(TS_MSG_IMPRINT_get_msg(imprint));
    const auto seconds = seconds_of(TS_TST_INFO_get_time(info.get()));
    if (digest == nullptr || !seconds) return std::nullopt;
    SigningTime out;
    out.seconds = *seconds;
    out.token = true;
    X509* authority = signer_of(token.get());
    if (authority != nullptr) out.by = name_text(X509_get_subject_name(authority));
    out.intact =
        std::ranges::equal(digest_of(bytes_of(signer->enc_digest), digest), told) && verifies(token.get(), {}, trusted);
    return out;
}

/// A signer of its own over the signature's bytes, with the time among what it signs.
std::optional<SigningTime> countersigned_time(PKCS7* message, const PKCS7_SIGNER_INFO* signer) {
    const ASN1_TYPE* value = unsigned_attribute(signer, OBJ_nid2obj(NID_pkcs9_countersignature));
    if (value == nullptr || value->type != V_ASN1_SEQUENCE) return std::nullopt;
    const auto der = bytes_of(value->value.sequence);
    const unsigned char* at = der.data();
    const Signer witness(d2i_PKCS7_SIGNER_INFO(nullptr, &at, static_cast<long>(der.size())));
    if (!witness || witness->digest_alg == nullptr || witness->issuer_and_serial == nullptr) return std::nullopt;
    const ASN1_TYPE* time = PKCS7_get_signed_attribute(witness.get(), NID_pkcs9_signingTime);
    const EVP_MD* digest = EVP_get_digestbyobj(witness->digest_alg->algorithm);
    const auto seconds = time != nullptr && (time->type == V_ASN1_UTCTIME || time->type == V_ASN1_GENERALIZEDTIME)
                             ? seconds_of(time->value.asn1_string)
                             : std::optional<std::int64_t>();
    if (digest == nullptr || !seconds) return std::nullopt;
    SigningTime out;
    out.seconds = *seconds;
    auto* authority = X509_find_by_issuer_and_serial(message->d.sign->cert, witness->issuer_and_serial->issuer,
                                                     witness->issuer_and_serial->serial);
    if (authority == nullptr) return out;
    out.by = name_text(X509_get_subject_name(authority));
    Bio sink(BIO_new(BIO_f_md()));
    Bio nothing(BIO_new(BIO_s_null()));
    if (!sink || !nothing || BIO_set_md(sink.get(), digest) <= 0) return out;
    BIO_push(sink.get(), nothing.release());
    const auto covered = bytes_of(signer->enc_digest);
    BIO_write(sink.get(), covered.data(), static_cast<int>(covered.size()));
    out.intact = PKCS7_signatureVerify(sink.get(), message, witness.get(), authority) == 1;
    return out;
}

}  // namespace

std::vector<std::uint8_t> digest_of(std::span<const std::uint8_t> bytes, const EVP_MD* kind) {
    std::vector<std::uint8_t> out(EVP_MAX_MD_SIZE);
    unsigned length = 0;
    if (kind == nullptr || EVP_Digest(bytes.data(), bytes.size(), out.data(), &length, kind, nullptr) != 1) return {};
    out.resize(length);
    return out;
}

std::string sha256_of(std::span<const std::uint8_t> bytes) { return hex(digest_of(bytes, EVP_sha256()), ""); }

Message parse(std::span<const std::uint8_t> der) {
    const unsigned char* at = der.data();
    Message out(d2i_PKCS7(nullptr, &at, static_cast<long>(der.size())));
    if (!out) ERR_clear_error();
    return out;
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
    return text_in(bio.get());
}

CertificateInfo describe(X509* certificate) {
    CertificateInfo out;
    out.subject = name_text(X509_get_subject_name(certificate));
    out.issuer = name_text(X509_get_issuer_name(certificate));
    out.not_before = time_text(X509_get0_notBefore(certificate));
    out.not_after = time_text(X509_get0_notAfter(certificate));
    unsigned char* raw = nullptr;
    const int length = i2d_X509(certificate, &raw);
    const Encoding held(raw);
    if (length > 0) out.sha256 = sha256_of({raw, static_cast<std::size_t>(length)});
    return out;
}

std::optional<Element> element_at(std::span<const std::uint8_t> der, std::size_t at) {
    if (der.size() < 2 || at > der.size() - 2) return std::nullopt;
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

std::span<const std::uint8_t> content_of(const PKCS7* message) {
    if (message == nullptr || PKCS7_type_is_signed(message) == 0 || message->d.sign == nullptr) return {};
    const PKCS7* inner = message->d.sign->contents;
    if (inner == nullptr || PKCS7_type_is_data(inner) != 0 || OBJ_obj2nid(inner->type) == NID_pkcs7_signed ||
        inner->d.other == nullptr || inner->d.other->type != V_ASN1_SEQUENCE)
        return {};
    return bytes_of(inner->d.other->value.sequence);
}

std::optional<SignedDigest> signed_digest(const PKCS7* message) {
    const auto der = content_of(message);
    const auto outer = element_at(der, 0);
    if (!outer) return std::nullopt;
    SignedDigest out;
    out.content.assign(der.begin() + static_cast<std::ptrdiff_t>(outer->content),
                       der.begin() + static_cast<std::ptrdiff_t>(outer->end()));
    const auto data = element_at(der, outer->content);
    const auto info = data ? element_at(der, data->end()) : std::nullopt;
    const auto algorithm = info ? element_at(der, info->content) : std::nullopt;
    const auto octets = algorithm ? element_at(der, algorithm->end()) : std::nullopt;
    if (!octets || octets->tag != 0x04) return std::nullopt;
    out.digest.assign(der.begin() + static_cast<std::ptrdiff_t>(octets->content),
                      der.begin() + static_cast<std::ptrdiff_t>(octets->end()));
    switch (out.digest.size()) {
        case 20: out.algorithm = "SHA1"; break;
        case 32: out.algorithm = "SHA256"; break;
        case 48: out.algorithm = "SHA384"; break;
        case 64: out.algorithm = "SHA512"; break;
        default: return std::nullopt;
    }
    return out;
}

bool verifies(PKCS7* message, std::span<const std::uint8_t> content, const Certificates* trusted) {
    if (message == nullptr || !one_known_digest(message)) return false;
    Bio data(content.empty() ? nullptr : BIO_new_mem_buf(content.data(), static_cast<int>(content.size())));
    const Store store(X509_STORE_new());
    if (!store || (!content.empty() && !data)) return false;
    int flags = PKCS7_BINARY;
    if (trusted == nullptr) {
        flags |= PKCS7_NOVERIFY;
    } else {
        for (const auto& der : *trusted)
            if (const auto certificate = parse_certificate(der)) X509_STORE_add_cert(store.get(), certificate.get());
        // Any certificate of the database ends a chain.
        X509_STORE_set_flags(store.get(), X509_V_FLAG_PARTIAL_CHAIN | X509_V_FLAG_NO_CHECK_TIME);
        X509_STORE_set_purpose(store.get(), X509_PURPOSE_ANY);
    }
    const bool good = PKCS7_verify(message, nullptr, store.get(), data.get(), nullptr, flags) == 1;
    if (!good) ERR_clear_error();
    return good;
}

std::vector<std::uint8_t> signed_part_digest(X509* certificate, std::string_view algorithm) {
    unsigned char* raw = nullptr;
    const int length = i2d_re_X509_tbs(certificate, &raw);
    const Encoding held(raw);
    if (length <= 0) return {};
    return digest_of({raw, static_cast<std::size_t>(length)}, EVP_get_digestbyname(std::string(algorithm).c_str()));
}

X509* signer_of(PKCS7* message) {
    auto* signers = PKCS7_get0_signers(message, nullptr, 0);
    X509* out = signers != nullptr && sk_X509_num(signers) > 0 ? sk_X509_value(signers, 0) : nullptr;
    sk_X509_free(signers);
    ERR_clear_error();
    return out;
}

std::string root_of(PKCS7* message) {
    const X509* signer = signer_of(message);
    if (signer == nullptr) return {};
    const X509_NAME* issuer = X509_get_issuer_name(signer);
    for (int steps = 0; steps < 8; ++steps) {
        const X509_NAME* next = nullptr;
        for (int i = 0; next == nullptr && i < sk_X509_num(message->d.sign->cert); ++i) {
            const X509* up = sk_X509_value(message->d.sign->cert, i);
            if (X509_NAME_cmp(X509_get_subject_name(up), issuer) == 0 &&
                X509_NAME_cmp(X509_get_issuer_name(up), issuer) != 0)
                next = X509_get_issuer_name(up);
        }
        if (next == nullptr) break;
        issuer = next;
    }
    return name_text(issuer);
}

std::string chain_problem(PKCS7* message, std::optional<std::int64_t> at) {
    X509* signer = signer_of(message);
    if (signer == nullptr) return "the signer's certificate is not there";
    // The topmost certificate is what is trusted here: whether a machine trusts it is for its databases to say.
    X509* top = signer;
    for (int steps = 0; steps < 8; ++steps) {
        X509* next = nullptr;
        for (int i = 0; next == nullptr && i < sk_X509_num(message->d.sign->cert); ++i) {
            X509* up = sk_X509_value(message->d.sign->cert, i);
            if (up != top && X509_check_issued(up, top) == X509_V_OK) next = up;
        }
        if (next == nullptr) break;
        top = next;
    }
    const Store store(X509_STORE_new());
    const Held<X509_STORE_CTX, X509_STORE_CTX_free> context(X509_STORE_CTX_new());
    if (!store || !context) return "no memory";
    X509_STORE_add_cert(store.get(), top);
    X509_STORE_set_flags(store.get(), X509_V_FLAG_PARTIAL_CHAIN | (at ? 0U : X509_V_FLAG_NO_CHECK_TIME));
    X509_STORE_set_purpose(store.get(), X509_PURPOSE_ANY);
    if (X509_STORE_CTX_init(context.get(), store.get(), signer, message->d.sign->cert) != 1)
        return "the chain cannot be looked at";
    if (at) X509_STORE_CTX_set_time(context.get(), 0, static_cast<time_t>(*at));
    std::string out;
    if (X509_verify_cert(context.get()) != 1) {
        const X509* where = X509_STORE_CTX_get_current_cert(context.get());
        out = X509_verify_cert_error_string(X509_STORE_CTX_get_error(context.get()));
        if (where != nullptr) out += " (" + name_text(X509_get_subject_name(where)) + ")";
    }
    ERR_clear_error();
    return out;
}

std::optional<SigningTime> signing_time(PKCS7* message, const Certificates* trusted) {
    if (message == nullptr || PKCS7_type_is_signed(message) == 0 ||
        sk_PKCS7_SIGNER_INFO_num(PKCS7_get_signer_info(message)) < 1)
        return std::nullopt;
    const auto* signer = sk_PKCS7_SIGNER_INFO_value(PKCS7_get_signer_info(message), 0);
    auto out = token_time(signer, trusted);
    if (!out && trusted == nullptr) out = countersigned_time(message, signer);
    ERR_clear_error();
    return out;
}

}  // namespace herberge::pkcs7
