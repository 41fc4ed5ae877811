// SPDX-License-Identifier: MIT
// Signs images (Authenticode) with keys that live as long as the program runs.
#include "sign.hpp"

#include <openssl/evp.h>
#include <openssl/pkcs7.h>
#include <openssl/x509.h>
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

/// Everything but the checksum and the header's entry of the certificate table; our images have nothing behind their sections.
Bytes image_digest(const Bytes& image) {
    const std::size_t optional = get32(image, 0x3C) + 24;
    const bool wide = image[optional + 1] == 2;
    const std::size_t entry = optional + (wide ? 112 : 96) + 32;
    Bytes covered(image.begin(), image.begin() + static_cast<std::ptrdiff_t>(optional + 64));
    covered.insert(covered.end(), image.begin() + static_cast<std::ptrdiff_t>(optional + 68), image.begin() + static_cast<std::ptrdiff_t>(entry));
    covered.insert(covered.end(), image.begin() + static_cast<std::ptrdiff_t>(entry + 8), image.end());
    Bytes out(32);
    unsigned length = 0;
    EVP_Digest(covered.data(), covered.size(), out.data(), &length, EVP_sha256(), nullptr);
    return out;
}

/// SpcIndirectDataContent.
Bytes indirect_data(const Bytes& digest) {
    const Bytes image_object = der(0x06, {0x2B, 0x06, 0x01, 0x04, 0x01, 0x82, 0x37, 0x02, 0x01, 0x0F});
    const Bytes file = der(0xA0, der(0xA2, der(0x80, {})));
    const Bytes data = der(0x30, joined({image_object, der(0x30, joined({der(0x03, {0}), file}))}));
    const Bytes sha256 = der(0x30, joined({der(0x06, {0x60, 0x86, 0x48, 0x01, 0x65, 0x03, 0x04, 0x02, 0x01}), der(0x05, {})}));
    return der(0x30, joined({data, der(0x30, joined({sha256, der(0x04, digest)}))}));
}

}  // namespace

struct SigningKey::Parts {
    EVP_PKEY* key = nullptr;
    X509* certificate = nullptr;
    Parts() = default;
    Parts(const Parts&) = delete;
    Parts& operator=(const Parts&) = delete;
    Parts(Parts&&) = delete;
    Parts& operator=(Parts&&) = delete;
    ~Parts() {
        EVP_PKEY_free(key);
        X509_free(certificate);
    }
};

SigningKey::SigningKey(const std::string& name) : parts_(std::make_shared<Parts>()) {
    parts_->key = EVP_RSA_gen(2048);
    parts_->certificate = X509_new();
    need(parts_->key != nullptr && parts_->certificate != nullptr);
    X509* c = parts_->certificate;
    X509_set_version(c, 2);
    ASN1_INTEGER_set(X509_get_serialNumber(c), 1);
    ASN1_TIME_set_string(X509_getm_notBefore(c), "20250101000000Z");
    ASN1_TIME_set_string(X509_getm_notAfter(c), "20260101000000Z");
    X509_NAME* subject = X509_get_subject_name(c);
    X509_NAME_add_entry_by_txt(subject, "CN", MBSTRING_UTF8, reinterpret_cast<const unsigned char*>(name.c_str()), -1, -1, 0);
    X509_set_issuer_name(c, subject);
    X509_set_pubkey(c, parts_->key);
    need(X509_sign(c, parts_->key, EVP_sha256()) != 0);
}

Bytes SigningKey::certificate() const {
    unsigned char* raw = nullptr;
    const int length = i2d_X509(parts_->certificate, &raw);
    need(length > 0);
    Bytes out(raw, raw + length);
    OPENSSL_free(raw);
    return out;
}

Bytes SigningKey::sign(Bytes image) const {
    while (image.size() % 8 != 0) image.push_back(0);
    const Bytes content = indirect_data(image_digest(image));
    PKCS7* p7 = PKCS7_new();
    need(p7 != nullptr);
    PKCS7_set_type(p7, NID_pkcs7_signed);
    PKCS7_SIGNER_INFO* signer = PKCS7_add_signature(p7, parts_->certificate, parts_->key, EVP_sha256());
    need(signer != nullptr && PKCS7_add_certificate(p7, parts_->certificate) == 1);
    PKCS7* inner = PKCS7_new();
    ASN1_OBJECT_free(inner->type);
    inner->type = OBJ_txt2obj("1.3.6.1.4.1.311.2.1.4", 1);
    inner->d.other = ASN1_TYPE_new();
    ASN1_STRING* text = ASN1_STRING_type_new(V_ASN1_SEQUENCE);
    ASN1_STRING_set(text, content.data(), static_cast<int>(content.size()));
    ASN1_TYPE_set(inner->d.other, V_ASN1_SEQUENCE, text);
    need(PKCS7_set_content(p7, inner) == 1);
    // The signature covers the content without its outer tag and length.
    const std::size_t head = content[1] == 0x82 ? 4 : 2;
    std::array<unsigned char, 32> digest{};
    unsigned length = 0;
    EVP_Digest(content.data() + head, content.size() - head, digest.data(), &length, EVP_sha256(), nullptr);
    PKCS7_add_signed_attribute(signer, NID_pkcs9_contentType, V_ASN1_OBJECT, OBJ_txt2obj("1.3.6.1.4.1.311.2.1.4", 1));
    need(PKCS7_add1_attrib_digest(signer, digest.data(), static_cast<int>(length)) == 1);
    need(PKCS7_SIGNER_INFO_sign(signer) == 1);
    unsigned char* raw = nullptr;
    const int size = i2d_PKCS7(p7, &raw);
    PKCS7_free(p7);
    need(size > 0);
    const std::size_t at = image.size();
    Bytes table;
    put32(table, 0, static_cast<std::uint32_t>(8 + size));
    put16(table, 4, 0x0200);
    put16(table, 6, 2);
    table.insert(table.end(), raw, raw + size);
    OPENSSL_free(raw);
    while (table.size() % 8 != 0) table.push_back(0);
    image.insert(image.end(), table.begin(), table.end());
    const std::size_t optional = get32(image, 0x3C) + 24;
    const std::size_t entry = optional + (image[optional + 1] == 2 ? 112 : 96) + 32;
    put32(image, entry, static_cast<std::uint32_t>(at));
    put32(image, entry + 4, static_cast<std::uint32_t>(table.size()));
    return image;
}

Bytes make_certificate_list(const std::vector<Bytes>& certificates) {
    Bytes out;
    for (const auto& certificate : certificates) {
        Bytes list(28);
        const Bytes type = guid_bytes("a5c059a1-94e4-4aa7-87b5-ab155c2bf072");
        std::copy(type.begin(), type.end(), list.begin());
        put32(list, 16, static_cast<std::uint32_t>(28 + 16 + certificate.size()));
        put32(list, 24, static_cast<std::uint32_t>(16 + certificate.size()));
        const Bytes owner = guid_bytes("a1b0f000-5160-4ea1-8a01-00000a1b0f51");
        list.insert(list.end(), owner.begin(), owner.end());
        list.insert(list.end(), certificate.begin(), certificate.end());
        out.insert(out.end(), list.begin(), list.end());
    }
    return out;
}

}  // namespace forge
