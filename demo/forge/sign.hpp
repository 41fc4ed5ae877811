// SPDX-License-Identifier: MIT
// Keys of the demo's own, and what Secure Boot makes of them.
#pragma once

#include <memory>

#include "uefi.hpp"

namespace forge {

/// An RSA key with a certificate; made anew each time, and kept nowhere.
class SigningKey {
public:
    /// The certificate is signed by the key itself, or by `issuer`.
    explicit SigningKey(const std::string& name, const SigningKey* issuer = nullptr);
    [[nodiscard]] Bytes certificate() const;
    /// The digest by which a deny list names the certificate: SHA-256 over its to-be-signed part.
    [[nodiscard]] Bytes signed_part_digest() const;
    /// An image with an Authenticode signature (SHA-256) behind it, which brings the issuers' certificates, too.
    [[nodiscard]] Bytes sign(Bytes image) const;
    /// The same, witnessed by an authority for time stamps: "20260131120000Z". `token`: as RFC 3161 has it; otherwise a
    /// countersignature.
    [[nodiscard]] Bytes sign(Bytes image, const SigningKey& authority, const std::string& time,
                             bool token = true) const;
    /// A catalogue that lists images by their digests (SHA-256), or files by plain digests.
    [[nodiscard]] Bytes catalogue(const std::vector<Bytes>& images) const;

private:
    struct Parts;
    std::shared_ptr<Parts> parts_;
};

/// A signature database of certificates.
Bytes make_certificate_list(const std::vector<Bytes>& certificates);
/// An image with the signature of a second copy of it behind its own.
Bytes sign_again(Bytes image, const Bytes& copy);
/// One list: `type` is the GUID of its kind, each entry without its owner.
Bytes make_signature_list(std::string_view type, const std::vector<Bytes>& entries);
/// EFI_TIME.
Bytes efi_time(std::uint16_t year, std::uint8_t month, std::uint8_t day);
/// The digest that Authenticode signs (SHA-256).
Bytes image_digest(const Bytes& image);

}  // namespace forge
