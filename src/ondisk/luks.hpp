// SPDX-License-Identifier: MIT
// LUKS, big-endian throughout ("LUKS On-Disk Format Specification" 1.2.3; "LUKS2 On-Disk Format Specification" 1.1.1).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

struct Luks1Slot {
    big_uint32_t state;  ///< 0x00AC71F3 in use, 0x0000DEAD free
    big_uint32_t iterations;
    Bytes<32> salt;
    big_uint32_t material_sector;  ///< where the key lies, from the volume's start
    big_uint32_t stripes;
};
BOOST_DESCRIBE_STRUCT(Luks1Slot, (), (state, iterations, salt, material_sector, stripes))
static_assert(sizeof(Luks1Slot) == 48);

/// Eight slots follow.
struct Luks1Header {
    Bytes<6> magic;  ///< "LUKS" BA BE
    big_uint16_t version;
    Bytes<32> cipher;
    Bytes<32> mode;
    Bytes<32> hash;
    big_uint32_t payload_sector;
    big_uint32_t key_bytes;
    Bytes<20> digest;
    Bytes<32> digest_salt;
    big_uint32_t digest_iterations;
    Bytes<40> uuid;
};
BOOST_DESCRIBE_STRUCT(Luks1Header, (),
                      (magic, version, cipher, mode, hash, payload_sector, key_bytes, digest, digest_salt,
                       digest_iterations, uuid))
static_assert(sizeof(Luks1Header) == 208);

/// 4 KiB with what follows it, then text in JSON.
struct Luks2Header {
    Bytes<6> magic;  ///< "LUKS" BA BE; of the copy: "SKUL" BA BE
    big_uint16_t version;
    big_uint64_t size;      ///< bytes, with the text
    big_uint64_t sequence;  ///< the higher one of both copies counts
    Bytes<48> label;
    Bytes<32> checksum_kind;
    Bytes<64> salt;
    Bytes<40> uuid;
    Bytes<48> subsystem;
    big_uint64_t offset;  ///< where this copy lies, bytes from the volume's start
    Bytes<184> padding;
    Bytes<64> checksum;  ///< over header and text, itself taken as zeros
};
BOOST_DESCRIBE_STRUCT(Luks2Header, (),
                      (magic, version, size, sequence, label, checksum_kind, salt, uuid, subsystem, offset, padding,
                       checksum))
static_assert(sizeof(Luks2Header) == 512);

/// Where a copy of the header may begin (section 2.1: the primary one's size).
inline constexpr std::uint64_t luks2_copy_places[] = {0x4000,  0x8000,   0x10000,  0x20000, 0x40000,
                                                      0x80000, 0x100000, 0x200000, 0x400000};

}  // namespace herberge::ondisk
