// SPDX-License-Identifier: MIT
// BitLocker as Windows 7 and later lay it out: little-endian throughout. No specification was published; what stands
// here is what those systems write.
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// What a boot sector of an NTFS has at byte 160 when it lies around BitLocker.
struct BitlockerPointer {
    Bytes<16> mark;               ///< {4967d63b-2e29-4ad8-8399-f6a339e3d001}
    little_uint64_t metadata[3];  ///< bytes from the volume's start
};
static_assert(sizeof(BitlockerPointer) == 40);

/// Each of the three copies of the metadata.
struct BitlockerBlock {
    Bytes<8> mark;  ///< "-FVE-FS-"
    little_uint16_t size;
    little_uint16_t version;  ///< 1: Windows Vista, 2
    Bytes<4> states;
    little_uint64_t encrypted_bytes;
    little_uint32_t converting;
    little_uint32_t header_sectors;
    little_uint64_t first_copy;
    little_uint64_t second_copy;
    little_uint64_t third_copy;
    little_uint64_t header_at;  ///< where the file system's own first sectors lie
};
BOOST_DESCRIBE_STRUCT(BitlockerBlock, (),
                      (mark, size, version, states, encrypted_bytes, converting, header_sectors, first_copy,
                       second_copy, third_copy, header_at))
static_assert(sizeof(BitlockerBlock) == 64);

/// What follows it; its entries follow.
struct BitlockerHead {
    little_uint32_t size;  ///< with the entries
    little_uint32_t version;
    little_uint32_t head_size;
    little_uint32_t size_again;
    Bytes<16> volume;
    little_uint32_t nonce;
    little_uint16_t cipher;
    little_uint16_t cipher_again;
    little_uint64_t created;  ///< 100 ns since 1601
};
BOOST_DESCRIBE_STRUCT(BitlockerHead, (),
                      (size, version, head_size, size_again, volume, nonce, cipher, cipher_again, created))
static_assert(sizeof(BitlockerHead) == 48);

struct BitlockerEntry {
    little_uint16_t size;   ///< with this head
    little_uint16_t type;   ///< 2: a key protector
    little_uint16_t value;  ///< 8: the volume's key, enciphered
    little_uint16_t version;
};
BOOST_DESCRIBE_STRUCT(BitlockerEntry, (), (size, type, value, version))
static_assert(sizeof(BitlockerEntry) == 8);

/// What follows the head of such an entry.
struct BitlockerProtector {
    Bytes<16> id;
    little_uint64_t changed;
    little_uint16_t flags;
    little_uint16_t kind;
};
BOOST_DESCRIBE_STRUCT(BitlockerProtector, (), (id, changed, flags, kind))
static_assert(sizeof(BitlockerProtector) == 28);

}  // namespace herberge::ondisk
