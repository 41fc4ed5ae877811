// SPDX-License-Identifier: MIT
// Signatures of images (Authenticode) and Secure Boot's databases.
#pragma once

#include <array>
#include <cstdint>
#include <optional>
#include <string>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/uefi.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// A certificate, for people.
struct CertificateInfo {
    std::string subject;
    std::string issuer;
    std::string not_before, not_after;
    std::string sha256;  ///< of its DER form
};

/// A certificate that a deny list names by its digest.
struct RevokedCertificate {
    std::string algorithm;  ///< "SHA256", "SHA384", "SHA512"
    std::string digest;     ///< of its to-be-signed part, in hexadecimal
    std::optional<std::int64_t>
        from;  ///< what was signed later is refused: seconds since 1970; none: whatever it signed
};

/// Certificates (DER) and digests of a signature database (UEFI specification 2.10, section 32.4.1).
struct SignatureDatabase {
    std::vector<std::vector<std::uint8_t>> certificates;
    std::vector<std::string> sha256;  ///< digests of images, in hexadecimal
    std::vector<RevokedCertificate> revoked;
    std::vector<std::pair<std::string, std::string>>
        other_digests;        ///< of images: "SHA1", "SHA384", "SHA512", and the digest
    std::size_t damaged = 0;  ///< lists whose sizes do not fit
    [[nodiscard]] bool empty() const {
        return certificates.empty() && sha256.empty() && revoked.empty() && other_digests.empty();
    }
};
/// EFI_TIME (UEFI specification 2.10, section 8.3) as seconds since 1970; none: all zero, which revokes for all times.
[[nodiscard]] std::optional<std::int64_t> efi_time_seconds(std::span<const std::uint8_t> time);
[[nodiscard]] SignatureDatabase parse_signature_lists(std::span<const std::uint8_t> bytes);
/// The certificates of a database for people; what cannot be parsed has an empty subject.
[[nodiscard]] std::vector<CertificateInfo> database_certificates(const SignatureDatabase& database);

/// The digest that Authenticode signs: everything but the checksum, the certificate table and its entry in the header.
/// `algorithm` is OpenSSL's name: "SHA256". Error when the image is none, or its table does not fit.
[[nodiscard]] Result<std::vector<std::uint8_t>> authenticode_digest(const ByteSource& image,
                                                                    const std::string& algorithm);

/// When a signature was made, as a time-stamping authority witnesses it.
struct SigningTime {
    std::int64_t seconds = 0;  ///< since 1970
    std::string by;            ///< the authority; empty: its certificate is not there
    bool token = false;        ///< a token (RFC 3161), which firmware looks at; otherwise a countersignature
    bool intact = false;       ///< it witnesses this signature, and is right under the authority's certificate
};

/// One signature of an image.
struct ImageSignature {
    bool digest_matches = false;         ///< it signs this image's content
    bool intact = false;                 ///< its own signature is right under the certificate it names
    std::vector<CertificateInfo> chain;  ///< the certificates it brings, the signer's first
    std::string root;                    ///< the last issuer of its chain
    std::optional<SigningTime> time;     ///< none: nobody witnesses when it was made
    std::string chain_problem;  ///< why the certificates do not lead from the signer to their topmost one at that time;
                                ///< empty: they do
    std::vector<std::uint8_t> pkcs7;
};
[[nodiscard]] std::vector<ImageSignature> image_signatures(const ByteSource& image);

/// A catalogue: digests of images and other files under one signature (Windows' .cat files).
struct Catalogue {
    std::string signer;  ///< subject of the signer's certificate; empty: the catalogue does not bring it
    bool intact = false;
    std::optional<SigningTime> time;
    std::vector<std::array<std::uint8_t, 32>> digests;  ///< of members: SHA-256, or SHA-1 with zeros behind it; sorted
};
/// `verify` false: `intact` and `time` are not looked at. Errors: Malformed, TooLarge (64 MiB), and what reading
/// reports.
[[nodiscard]] Result<Catalogue> read_catalogue(const ByteSource& file, bool verify = true);

/// A component and its generation, as an image's SBAT section or shim's policy has it.
struct SbatGeneration {
    std::string component;
    unsigned generation = 0;
    std::string rest;  ///< vendor, product, version; in a policy's first line its date
};
[[nodiscard]] std::vector<SbatGeneration> parse_sbat(std::string_view text);
/// The section of an image; empty: none.
[[nodiscard]] std::vector<SbatGeneration> image_sbat(const ByteSource& image);
/// What a shim asks for: the variable, or its own policy where that is newer.
[[nodiscard]] std::vector<SbatGeneration> sbat_policy(const ByteSource& shim, const UefiVariables& variables);
/// Why the policy refuses an image; `required`: one without the section is refused, too.
[[nodiscard]] std::optional<std::string> sbat_refuses(const ByteSource& image,
                                                      const std::vector<SbatGeneration>& policy, bool required);

/// What decides whether an image may run: the firmware's databases, or these with what shim adds.
struct ImageTrust {
    SignatureDatabase allowed;
    SignatureDatabase denied;
    std::vector<std::vector<std::uint8_t>> time_authorities;  ///< certificates (DER) that may witness a time (dbt)
    std::string by;                                           ///< "the firmware", "shim"
    bool digests_first = false;        ///< shim: an allowed digest counts before any signature is looked at
    std::vector<SbatGeneration> sbat;  ///< shim's policy; empty: none

    /// Why the image may not run; none: it may. Validity periods do not count, as firmware has no trusted clock.
    [[nodiscard]] std::optional<std::string> refuse(const ByteSource& image) const;
    /// The same without SBAT.
    [[nodiscard]] std::optional<std::string> refuse_by_signature(const ByteSource& image) const;
};

/// Secure Boot's state as the variables tell: enforcing needs a platform key, and not to be switched off.
enum class SecureBoot : std::uint8_t { Auto, On, Off };
struct SecureBootPolicy {
    bool enforcing = false;
    std::string why;  ///< for people
    ImageTrust trust;
};
[[nodiscard]] SecureBootPolicy secure_boot_policy(const UefiVariables& variables, SecureBoot wanted);

/// What a shim image adds: its embedded vendor certificate and deny list.
[[nodiscard]] ImageTrust shim_trust(const ByteSource& shim, const ImageTrust& firmware, const UefiVariables& variables);

}  // namespace herberge
