// SPDX-License-Identifier: MIT
// Signed messages (PKCS #7, RFC 2315) as images and catalogues carry them; the mathematics is OpenSSL's.
#pragma once

#include <openssl/pkcs7.h>
#include <openssl/x509.h>
#include <memory>
#include <optional>
#include <span>

#include <herberge/signature.hpp>

#include "bytes/held.hpp"

namespace herberge::pkcs7 {

using Message = Held<PKCS7, PKCS7_free>;
using Certificate = Held<X509, X509_free>;
using Certificates = std::vector<std::vector<std::uint8_t>>;  ///< in DER

[[nodiscard]] std::string sha256_of(std::span<const std::uint8_t> bytes);
/// Empty: `kind` is null.
[[nodiscard]] std::vector<std::uint8_t> digest_of(std::span<const std::uint8_t> bytes, const EVP_MD* kind);

/// Null: not DER of the kind that is asked for.
[[nodiscard]] Message parse(std::span<const std::uint8_t> der);
[[nodiscard]] Certificate parse_certificate(std::span<const std::uint8_t> der);
[[nodiscard]] CertificateInfo describe(X509* certificate);
[[nodiscard]] std::string name_text(const X509_NAME* name);

/// One element of DER: where its content lies.
struct Element {
    std::uint8_t tag = 0;
    std::size_t content = 0;
    std::size_t length = 0;
    [[nodiscard]] std::size_t end() const { return content + length; }
};
[[nodiscard]] std::optional<Element> element_at(std::span<const std::uint8_t> der, std::size_t at);

/// The sequence that a message signs, when its content is one (object identifiers of its own, as Authenticode has
/// them): the whole element. Empty: there is none.
[[nodiscard]] std::span<const std::uint8_t> content_of(const PKCS7* message);

/// SpcIndirectDataContent: data, then an algorithm and an octet string.
struct SignedDigest {
    std::string algorithm;  ///< "SHA1", "SHA256", "SHA384", "SHA512"
    std::vector<std::uint8_t> digest;
    std::vector<std::uint8_t> content;  ///< the bytes that the signature covers
};
[[nodiscard]] std::optional<SignedDigest> signed_digest(const PKCS7* message);

/// The signature over `content` is right, and a chain leads to one of `trusted` (null: only the signature counts).
/// Neither purposes nor validity periods count, as firmware has no trusted clock.
[[nodiscard]] bool verifies(PKCS7* message, std::span<const std::uint8_t> content, const Certificates* trusted);

/// The digests that revocation lists name a certificate by: over its to-be-signed part.
[[nodiscard]] std::vector<std::uint8_t> signed_part_digest(X509* certificate, std::string_view algorithm);

/// The signer's own certificate, when the message brings it.
[[nodiscard]] X509* signer_of(PKCS7* message);
/// The last issuer of the signer's chain, as far as the certificates of the message lead.
[[nodiscard]] std::string root_of(PKCS7* message);

/// Why the message's own certificates do not lead from the signer up to the topmost one that it brings; empty: they do.
/// `at`: all must have been valid then (seconds since 1970); none: validity periods do not count.
[[nodiscard]] std::string chain_problem(PKCS7* message, std::optional<std::int64_t> at);

/// A time-stamping authority's witness over the signer's signature: a token (RFC 3161) or a countersignature (RFC 2985,
/// 5.3.6), both among the attributes that the signature does not cover.
/// `trusted`: only a token whose chain leads to one of these counts; null: any witness that is right in itself.
[[nodiscard]] std::optional<SigningTime> signing_time(PKCS7* message, const Certificates* trusted = nullptr);

}  // namespace herberge::pkcs7
