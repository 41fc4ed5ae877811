// SPDX-License-Identifier: MIT
// Encrypted volumes: what their headers say, and what lies inside for who has a key.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/finding.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// Bytes that are overwritten before their memory is given back. May be moved, not copied.
class Secret {
public:
    Secret() = default;
    explicit Secret(std::vector<std::uint8_t> bytes) : bytes_(std::move(bytes)) {}
    Secret(const Secret&) = delete;
    Secret& operator=(const Secret&) = delete;
    Secret(Secret&& other) noexcept : bytes_(std::move(other.bytes_)) { other.bytes_.clear(); }
    Secret& operator=(Secret&& other) noexcept;
    ~Secret();
    [[nodiscard]] std::span<const std::uint8_t> bytes() const { return bytes_; }
    [[nodiscard]] std::span<std::uint8_t> bytes() { return bytes_; }
    [[nodiscard]] bool empty() const { return bytes_.empty(); }

private:
    void wipe() noexcept;
    std::vector<std::uint8_t> bytes_;
};

/// A place of an encrypted volume where its key lies, itself enciphered by a passphrase.
struct KeySlot {
    int number = 0;
    std::string derivation;    ///< of the slot's own key from the passphrase: "pbkdf2-sha256", "argon2id"
    std::uint64_t rounds = 0;  ///< of PBKDF2, or passes of Argon2 over its memory
    std::uint64_t memory = 0;  ///< KiB, of Argon2
    std::uint64_t lanes = 0;   ///< of Argon2
    std::string cipher;        ///< that enciphers the key: "aes-xts-plain64"
    std::uint64_t offset = 0;  ///< bytes from the volume's start
    std::uint64_t size = 0;    ///< bytes that the key's stripes take
    std::optional<std::uint64_t> overwritten;  ///< byte of the volume where something else begins; none: not seen
    std::optional<Error> problem;              ///< why no passphrase can open it any more; none: nothing can be seen
};

/// What the header of a LUKS volume says.
struct LuksDescription {
    int version = 0;  ///< 1 or 2
    std::string uuid;
    std::string label;               ///< version 2; empty: none
    std::string cipher;              ///< of the content: "aes-xts-plain64"
    std::size_t key_bytes = 0;       ///< of the content's key
    std::uint64_t sector = 512;      ///< bytes that are enciphered at once
    std::uint64_t data_offset = 0;   ///< bytes from the volume's start
    std::uint64_t data_size = 0;     ///< bytes; 0: up to the volume's end
    std::uint64_t first_number = 0;  ///< what the first sector's initial vector counts from
    std::vector<KeySlot> slots;      ///< those in use
    std::vector<Finding> findings;   ///< header and copy: what of them is damaged
    std::optional<Error> beyond;     ///< why the content cannot be read here even with a key: what is not supported
};

/// Reads and checks header, copy and key slots of the LUKS volume in `volume`, as cryptsetup does. Costs up to 8 MiB of
/// reading for the header, with `slots` the area of each slot (some 256 KiB), too.
/// Errors: Malformed or Checksum when no header can be used; Unsupported for a version that is not known.
[[nodiscard]] Result<LuksDescription> describe_luks(const ByteSource& volume, bool slots = true);

/// What opens a BitLocker volume: each of them alone does.
struct KeyProtector {
    std::string id;                ///< GUID
    std::string kind;              ///< "this machine's TPM", "a recovery password"
    bool opens_by_itself = false;  ///< without anybody who types or plugs in something
};

/// What the metadata of a BitLocker volume says.
struct BitlockerDescription {
    std::string id;      ///< GUID of the volume
    std::string cipher;  ///< "AES-XTS, 128 bits"
    std::uint64_t encrypted_bytes = 0;
    std::vector<KeyProtector> protectors;
    std::vector<Error> damaged_copies;  ///< of the three that there are
};

/// Reads the first whole one of the three copies of the metadata. Costs three sectors and up to 192 KiB of reading.
/// Errors: Malformed when none is whole; Unsupported for Windows Vista's volumes and those on removable media.
[[nodiscard]] Result<BitlockerDescription> describe_bitlocker(const ByteSource& volume);

/// A passphrase, or what is in a key file, for the encrypted volume at `place` ("d1p2", "lvm/inn/safe").
struct VolumeKey {
    std::string place;
    std::shared_ptr<const Secret> secret;
    std::string origin;  ///< for messages: where it comes from
};

/// The layer that opens LUKS volumes for which there are keys (assemble_layers): what `place` holds becomes
/// "open/PLACE". A key is tried as it is, and without the line's end behind it. Deriving a key takes seconds and up to
/// 4 GiB of memory: the volume's maker chose so.
[[nodiscard]] Layer luks_layer(std::vector<VolumeKey> keys);

/// Opens `volume` by `secret`: the content, named `place`. Errors: Malformed or Checksum for the header, Unsupported,
/// NotFound when no slot opens by it, Exhausted.
[[nodiscard]] Result<Source> open_luks(const Source& volume, const Secret& secret, std::string place);

}  // namespace herberge
