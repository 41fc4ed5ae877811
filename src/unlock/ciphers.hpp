// SPDX-License-Identifier: MIT
// Key derivation and sector ciphers, by a packaged library (libgcrypt).
#pragma once

#include <memory>
#include <mutex>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/error.hpp>
#include <herberge/unlock.hpp>

namespace herberge::ciphers {

/// Bytes of a digest; 0: the library does not know the hash. Names are those of LUKS: "sha256", "ripemd160",
/// "whirlpool".
[[nodiscard]] std::size_t digest_size(std::string_view hash);
/// The digest of `parts` one behind the other. `hash` is known.
[[nodiscard]] std::vector<std::uint8_t> digest(std::string_view hash,
                                               std::initializer_list<std::span<const std::uint8_t>> parts);

/// PBKDF2 (RFC 8018). Errors: Unsupported for a hash that is not known, Exhausted beyond 200 million rounds.
[[nodiscard]] Result<Secret> pbkdf2(std::string_view hash, std::span<const std::uint8_t> password,
                                    std::span<const std::uint8_t> salt, std::uint64_t rounds, std::size_t bytes);

struct Argon2 {
    std::string kind;          ///< "argon2i", "argon2id"
    std::uint64_t passes = 0;  ///< over the memory
    std::uint64_t memory = 0;  ///< KiB
    std::uint64_t lanes = 0;
};
/// Argon2 1.3 (RFC 9106). Errors: Unsupported, Exhausted beyond 4 GiB, 32 lanes or 128 GiB written.
[[nodiscard]] Result<Secret> argon2(const Argon2& cost, std::span<const std::uint8_t> password,
                                    std::span<const std::uint8_t> salt, std::size_t bytes);

/// Gathers a key that was spread over stripes (LUKS, section 2.4: anti-forensic splitter). `material` has as many
/// bytes as `bytes` times `stripes`.
[[nodiscard]] Secret merge_stripes(std::string_view hash, std::span<const std::uint8_t> material, std::size_t bytes,
                                   std::size_t stripes);

/// A cipher for sectors as device mapper writes it: "aes-xts-plain64", "aes-cbc-essiv:sha256". May be used by several
/// threads.
class SectorCipher {
public:
    /// Errors: Unsupported with the part that is not known, Malformed for a key of a length that does not fit.
    [[nodiscard]] static Result<std::shared_ptr<const SectorCipher>> make(std::string_view name,
                                                                          std::span<const std::uint8_t> key);
    virtual ~SectorCipher() = default;
    /// Deciphers one sector in place; `number` counts in 512 bytes, as the initial vector wants it.
    virtual Result<void> decipher(std::uint64_t number, std::span<std::uint8_t> sector) const = 0;
};

}  // namespace herberge::ciphers
