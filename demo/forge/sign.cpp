// SPDX-License-Identifier: MIT
// Signs images (Authenticode) with keys that live as long as the program runs.
#include "sign.hpp"

#include <openssl/evp.h>
#include <openssl/pkcs7.h>
#include <openssl/x509.h>
#include <openssl/x509v3.h>
#include <algorithm>
#include <stdexcept>

namespace forge {

namespace {

void need(bool good) {
    if (!good) throw std::runtime_error("signing failed");
}

Bytes der(std::uint8_t tag, const Bytes& content) {
    Bytes out{tag};
    if (content.size() < 0x80) {
        out.push_back(static_cast<std::uint8_t>(content.size()));
    } else if (content.size() < 0x100) {
        out.push_back(0x81);
        out.push_back(static_cast<std::uint8_t>(content.size()));
    } else {
        out.push_back(0x82);
        out.push_back(static_cast<std::uint8_t>(content.size() >> 8U));
        out.push_back(static_cast<std::uint8_t>(content.size()));
    }
    out.insert(out.end(), content.begin(), content.end());
    return out;
}
Bytes joined(std::initializer_list<Bytes> parts) {
    Bytes out;
    for (const auto& part : parts) out.insert(out.end(), part.begin(), part.end());
    return out;
}

}  // namespace

// Everything but the checksum and the header's entry of the certificate table; our images have nothing behind their
// sections.
Bytes image_digest(const Bytes& image) {
    const std::size_t optional = get32(image, 0x3C) + 24;
    const bool wide = image[optional + 1] == 2;
    const std::size_t entry = optional + (wide ? 112 : 96) + 32;
    Bytes covered(image.begin(), image.begin() + static_cast<std::ptrdiff_t>(optional + 64));
    covered.insert(covered.end(), image.begin() + static_cast<std::ptrdiff_t>(optional + 68),
                   image.begin() + static_cast<std::ptrdiff_t>(entry));
    covered.insert(covered.end(), image.begin() + static_cast<std::ptrdiff_t>(entry + 8), image.end());
    Bytes out(32);
    unsigned length = 0;
    EVP_Digest(covered.data(), covered.size(), out.data(), &length, EVP_sha256(), nullptr);
    return out;
}

namespace {

/// SpcIndirectDataContent.
Bytes indirect_data(const Bytes& digest) {
    const Bytes image_object = der(0x06, {0x2B, 0x06, 0x01, 0x04, 0x01, 0x82, 0x37, 0x02, 0x01, 0x0F});
    const Bytes file = der(0xA0, der(0xA2, der(0x80, {})));
    const Bytes data = der(0x30, joined({image_object, der(0x30, joined({der(0x03, {0}), file}))}));
    const Bytes sha256 =
        der(0x30, joined({der(0x06, {0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01}), der(0x05, {})}));
    return der(0x30, joined({data, der(0x30, joined({sha256, der(0x04, digest)}))}));
}

}  // namespace

struct SigningKey::Parts {
    EVP_PKEY* key = nullptr;
    X509* certificate = nullptr;
    std::vector<X509*> chain;  ///< the own certificate, and those of the issuers
    std::shared_ptr<Parts> issuer;
    Parts() = default;
    Parts(const Parts&) = delete;
    Parts& operator=(const Parts&) = delete;
    Parts(Parts&&) = delete;
    Parts& operator=(Parts&&) = delete;
    ~Parts() {
        EVP_PKEY_free(key);
        X509_free(certificate);
    }
    [[nodiscard]] PKCS7* message(const char* kind, const Bytes& content) const;
};

namespace {

constexpr const char* indirect_data_kind = "1.3.6.1.4.1.311.2.1.4";
constexpr const char* list_kind = "1.3.6.1.4.1.311.10.1";
constexpr const char* token_kind = "1.3.6.1.4.1.311.3.3.1";

Bytes digest_of(const std::uint8_t* data, std::size_t size) {
    Bytes out(32);
    unsigned length = 0;
    EVP_Digest(data, size, out.data(), &length, EVP_sha256(), nullptr);
    return out;
}

/// i2d_… of whatever it is.
template <class T>
Bytes encoded(T* value, int (*encode)(const T*, unsigned char**)) {
    unsigned char* raw = nullptr;
    const int length = encode(value, &raw);
    need(length > 0);
    Bytes out(raw, raw + length);
    OPENSSL_free(raw);
    return out;
}

/// A signed message whose content is of `kind`: a sequence, or an octet string.
PKCS7* make_message(X509* certificate, EVP_PKEY* key, const std::vector<X509*>& chain, ASN1_OBJECT* kind, int tag,
                    const Bytes& content) {
    PKCS7* p7 = PKCS7_new();
    need(p7 != nullptr);
    PKCS7_set_type(p7, NID_pkcs7_signed);
    PKCS7_SIGNER_INFO* signer = PKCS7_add_signature(p7, certificate, key, EVP_sha256());
    need(signer != nullptr);
    for (X509* one : chain) need(PKCS7_add_certificate(p7, one) == 1);
    PKCS7* inner = PKCS7_new();
    ASN1_OBJECT_free(inner->type);
    inner->type = OBJ_dup(kind);
    inner->d.other = ASN1_TYPE_new();
    ASN1_STRING* text = ASN1_STRING_type_new(tag);
    ASN1_STRING_set(text, content.data(), static_cast<int>(content.size()));
    ASN1_TYPE_set(inner->d.other, tag, text);
    need(PKCS7_set_content(p7, inner) == 1);
    // The signature covers a sequence without its outer tag and length.
    const std::size_t head = tag != V_ASN1_SEQUENCE ? 0 : content[1] == 0x82 ? 4 : content[1] == 0x81 ? 3 : 2;
    const Bytes digest = digest_of(content.data() + head, content.size() - head);
    PKCS7_add_signed_attribute(signer, NID_pkcs9_contentType, V_ASN1_OBJECT, OBJ_dup(kind));
    need(PKCS7_add1_attrib_digest(signer, digest.data(), static_cast<int>(digest.size())) == 1);
    need(PKCS7_SIGNER_INFO_sign(signer) == 1);
    return p7;
}

void add_unsigned(PKCS7_SIGNER_INFO* signer, ASN1_OBJECT* kind, const Bytes& sequence) {
    if (signer->unauth_attr == nullptr) signer->unauth_attr = sk_X509_ATTRIBUTE_new_null();
    X509_ATTRIBUTE* attribute = X509_ATTRIBUTE_create_by_OBJ(nullptr, kind, V_ASN1_SEQUENCE, sequence.data(),
                                                             static_cast<int>(sequence.size()));
    need(attribute != nullptr && sk_X509_ATTRIBUTE_push(signer->unauth_attr, attribute) > 0);
}

}  // namespace

SigningKey::SigningKey(const std::string& name, const SigningKey* issuer) : parts_(std::make_shared<Parts>()) {
    parts_->key = EVP_RSA_gen(2048);
    parts_->certificate = X509_new();
    need(parts_->key != nullptr && parts_->certificate != nullptr);
    X509* c = parts_->certificate;
    static long serial = 0;
    X509_set_version(c, 2);
    ASN1_INTEGER_set(X509_get_serialNumber(c), ++serial);
    ASN1_TIME_set_string(X509_getm_notBefore(c), "20250101000000Z");
    ASN1_TIME_set_string(X509_getm_notAfter(c), "20260101000000Z");
    X509_NAME* subject = X509_get_subject_name(c);
    X509_NAME_add_entry_by_txt(subject, "CN", MBSTRING_UTF8, reinterpret_cast<const unsigned char*>(name.c_str()), -1,
                               -1, 0);
    X509_set_issuer_name(c, issuer == nullptr ? subject : X509_get_subject_name(issuer->parts_->certificate));
    X509_set_pubkey(c, parts_->key);
    X509_EXTENSION* authority = X509V3_EXT_conf_nid(nullptr, nullptr, NID_basic_constraints, "critical,CA:TRUE");
    need(authority != nullptr && X509_add_ext(c, authority, -1) == 1);
    X509_EXTENSION_free(authority);
    need(X509_sign(c, issuer == nullptr ? parts_->key : issuer->parts_->key, EVP_sha256()) != 0);
    parts_->chain.push_back(c);
    if (issuer != nullptr) {
        parts_->issuer = issuer->parts_;
        parts_->chain.insert(parts_->chain.end(), issuer->parts_->chain.begin(), issuer->parts_->chain.end());
    }
}

Bytes SigningKey::certificate() const { return encoded<X509>(parts_->certificate, i2d_X509); }

Bytes SigningKey::signed_part_digest() const {
    unsigned char* raw = nullptr;
    const int length = i2d_re_X509_tbs(parts_->certificate, &raw);
    need(length > 0);
    Bytes out = digest_of(raw, static_cast<std::size_t>(length));
    OPENSSL_free(raw);
    return out;
}

namespace {

Bytes with_table(Bytes image, const Bytes& message) {
    const std::size_t at = image.size();
    Bytes table;
    put32(table, 0, static_cast<std::uint32_t>(8 + message.size()));
    put16(table, 4, 0x0200);
    put16(table, 6, 2);
    table.insert(table.end(), message.begin(), message.end());
    while (table.size() % 8 != 0) table.push_back(0);
    image.insert(image.end(), table.begin(), table.end());
    const std::size_t optional = get32(image, 0x3C) + 24;
    const std::size_t entry = optional + (image[optional + 1] == 2 ? 112 : 96) + 32;
    put32(image, entry, static_cast<std::uint32_t>(at));
    put32(image, entry + 4, static_cast<std::uint32_t>(table.size()));
    return image;
}

Bytes padded(Bytes image) {
    while (image.size() % 8 != 0) image.push_back(0);
    return image;
}

}  // namespace

PKCS7* SigningKey::Parts::message(const char* kind, const Bytes& content) const {
    ASN1_OBJECT* object = OBJ_txt2obj(kind, 1);
    PKCS7* out = make_message(certificate, key, chain, object, V_ASN1_SEQUENCE, content);
    ASN1_OBJECT_free(object);
    return out;
}

Bytes SigningKey::sign(Bytes image) const {
    image = padded(std::move(image));
    PKCS7* p7 = parts_->message(indirect_data_kind, indirect_data(image_digest(image)));
    const Bytes raw = encoded<PKCS7>(p7, i2d_PKCS7);
    PKCS7_free(p7);
    return with_table(std::move(image), raw);
}

Bytes SigningKey::sign(Bytes image, const SigningKey& authority, const std::string& time, bool token) const {
    image = padded(std::move(image));
    PKCS7* p7 = parts_->message(indirect_data_kind, indirect_data(image_digest(image)));
    auto* signer = sk_PKCS7_SIGNER_INFO_value(PKCS7_get_signer_info(p7), 0);
    const auto* own = signer->enc_digest;
    const Bytes covered(own->data, own->data + own->length);
    if (token) {
        const Bytes sha256 =
            der(0x30, joined({der(0x06, {0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01}), der(0x05, {})}));
        const Bytes imprint = der(0x30, joined({sha256, der(0x04, digest_of(covered.data(), covered.size()))}));
        // TSTInfo: version, policy, imprint, serial number, time.
        const Bytes info =
            der(0x30,
                joined({der(0x02, {1}), der(0x06, {0x2A, 0x03}), imprint, der(0x02, {7}), der(0x18, to_bytes(time))}));
        PKCS7* witness = make_message(authority.parts_->certificate, authority.parts_->key, authority.parts_->chain,
                                      OBJ_nid2obj(NID_id_smime_ct_TSTInfo), V_ASN1_OCTET_STRING, info);
        ASN1_OBJECT* kind = OBJ_txt2obj(token_kind, 1);
        add_unsigned(signer, kind, encoded<PKCS7>(witness, i2d_PKCS7));
        ASN1_OBJECT_free(kind);
        PKCS7_free(witness);
    } else {
        for (X509* one : authority.parts_->chain) need(PKCS7_add_certificate(p7, one) == 1);
        PKCS7_SIGNER_INFO* witness = PKCS7_SIGNER_INFO_new();
        need(PKCS7_SIGNER_INFO_set(witness, authority.parts_->certificate, authority.parts_->key, EVP_sha256()) == 1);
        ASN1_TIME* when = ASN1_TIME_new();
        ASN1_TIME_set_string(when, time.c_str());
        PKCS7_add_signed_attribute(witness, NID_pkcs9_contentType, V_ASN1_OBJECT, OBJ_nid2obj(NID_pkcs7_data));
        PKCS7_add_signed_attribute(witness, NID_pkcs9_signingTime, when->type, when);
        const Bytes digest = digest_of(covered.data(), covered.size());
        need(PKCS7_add1_attrib_digest(witness, digest.data(), static_cast<int>(digest.size())) == 1);
        need(PKCS7_SIGNER_INFO_sign(witness) == 1);
        add_unsigned(signer, OBJ_nid2obj(NID_pkcs9_countersignature),
                     encoded<PKCS7_SIGNER_INFO>(witness, i2d_PKCS7_SIGNER_INFO));
        PKCS7_SIGNER_INFO_free(witness);
    }
    const Bytes raw = encoded<PKCS7>(p7, i2d_PKCS7);
    PKCS7_free(p7);
    return with_table(std::move(image), raw);
}

Bytes SigningKey::catalogue(const std::vector<Bytes>& images) const {
    // CertificateTrustList: usage, identifier, time, the members' kind, the members with what is signed for each.
    const Bytes usage = der(0x30, der(0x06, {0x2B, 0x06, 0x01, 0x04, 0x01, 0x82, 0x37, 0x0C, 0x01, 0x01}));
    const Bytes member_kind =
        der(0x30, joined({der(0x06, {0x2B, 0x06, 0x01, 0x04, 0x01, 0x82, 0x37, 0x0C, 0x01, 0x03}), der(0x05, {})}));
    Bytes members;
    for (const auto& image : images) {
        const Bytes digest = image_digest(padded(image));
        const Bytes kind = der(0x06, {0x2B, 0x06, 0x01, 0x04, 0x01, 0x82, 0x37, 0x02, 0x01, 0x04});
        const Bytes attribute = der(0x30, joined({kind, der(0x31, indirect_data(digest))}));
        const Bytes member = der(0x30, joined({der(0x04, digest), der(0x31, attribute)}));
        members.insert(members.end(), member.begin(), member.end());
    }
    const Bytes content = der(0x30, joined({usage, der(0x04, Bytes(16, 0xA1)), der(0x17, to_bytes("250101000000Z")),
                                            member_kind, der(0x30, members)}));
    PKCS7* p7 = parts_->message(list_kind, content);
    Bytes out = encoded<PKCS7>(p7, i2d_PKCS7);
    PKCS7_free(p7);
    return out;
}

Bytes sign_again(Bytes image, const Bytes& copy) {
    const std::size_t optional = get32(image, 0x3C) + 24;
    const std::size_t entry = optional + (image[optional + 1] == 2 ? 112 : 96) + 32;
    image.insert(image.end(), copy.begin() + get32(copy, entry), copy.end());
    put32(image, entry + 4, static_cast<std::uint32_t>(image.size() - get32(image, entry)));
    return image;
}

Bytes make_signature_list(std::string_view type, const std::vector<Bytes>& entries) {
    Bytes out(28);
    const Bytes kind = guid_bytes(type);
    std::copy(kind.begin(), kind.end(), out.begin());
    const std::size_t each = 16 + entries.front().size();
    put32(out, 16, static_cast<std::uint32_t>(28 + each * entries.size()));
    put32(out, 24, static_cast<std::uint32_t>(each));
    const Bytes owner = guid_bytes("a1b0f000-5160-4ea1-8a01-00000a1b0f51");
    for (const auto& entry : entries) {
        out.insert(out.end(), owner.begin(), owner.end());
        out.insert(out.end(), entry.begin(), entry.end());
    }
    return out;
}

Bytes efi_time(std::uint16_t year, std::uint8_t month, std::uint8_t day) {
    Bytes out(16);
    put16(out, 0, year);
    out[2] = month;
    out[3] = day;
    return out;
}

Bytes make_certificate_list(const std::vector<Bytes>& certificates) {
    Bytes out;
    for (const auto& certificate : certificates) {
        const Bytes list = make_signature_list("a5c059a1-94e4-4aa7-87b5-ab155c2bf072", {certificate});
        out.insert(out.end(), list.begin(), list.end());
    }
    return out;
}

}  // namespace forge
