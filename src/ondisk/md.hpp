// SPDX-License-Identifier: MIT
// Linux software RAID (kernel include/uapi/linux/raid/md_p.h).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// Superblock of version 1.0 (near the end), 1.1 (at the start) or 1.2 (at 4 KiB); the roles of all devices follow, two
/// bytes each.
struct RaidSuper {
    little_uint32_t magic;  ///< 0xA92B4EFC
    little_uint32_t major;
    little_uint32_t features;  ///< bit 2: it is being reshaped
    little_uint32_t pad0;
    Bytes<16> array_uuid;
    Bytes<32> name;
    little_uint64_t created;
    little_uint32_t level;  ///< 0xFFFFFFFF: linear
    little_uint32_t layout;
    little_uint64_t size;   ///< sectors used of each member
    little_uint32_t chunk;  ///< sectors
    little_uint32_t members;
    little_uint32_t bitmap_offset;
    little_uint32_t new_level;
    little_uint64_t reshape_position;
    little_uint32_t delta_members;
    little_uint32_t new_layout;
    little_uint32_t new_chunk;
    little_uint32_t new_offset;
    little_uint64_t data_offset;   ///< sectors
    little_uint64_t data_size;     ///< sectors
    little_uint64_t super_offset;  ///< sectors: where this structure itself lies
    little_uint64_t recovery_offset;
    little_uint32_t device_number;  ///< its place in the list of roles
    little_uint32_t corrected;
    Bytes<16> device_uuid;
    std::uint8_t device_flags;
    std::uint8_t bad_blocks_shift;
    little_uint16_t bad_blocks_size;
    little_uint32_t bad_blocks_offset;
    little_uint64_t updated;
    little_uint64_t events;
    little_uint64_t resync_offset;  ///< all ones: in sync
    little_uint32_t checksum;
    little_uint32_t roles;
    Bytes<32> pad3;
};
BOOST_DESCRIBE_STRUCT(RaidSuper, (),
                      (magic, major, features, pad0, array_uuid, name, created, level, layout, size, chunk, members,
                       bitmap_offset, new_level, reshape_position, delta_members, new_layout, new_chunk, new_offset,
                       data_offset, data_size, super_offset, recovery_offset, device_number, corrected, device_uuid,
                       device_flags, bad_blocks_shift, bad_blocks_size, bad_blocks_offset, updated, events,
                       resync_offset, checksum, roles, pad3))
static_assert(sizeof(RaidSuper) == 256);

/// Superblock of version 0.90, in the last 64 KiB that begin at a multiple of 64 KiB. Numbers as the machine had them.
struct RaidSuper90 {
    little_uint32_t magic;
    little_uint32_t major;  ///< 0
    little_uint32_t minor;  ///< 90
    little_uint32_t patch;
    little_uint32_t generic_words;
    little_uint32_t uuid0;
    little_uint32_t created;
    little_uint32_t level;
    little_uint32_t size;  ///< KiB used of each member
    little_uint32_t devices;
    little_uint32_t members;
    little_uint32_t minor_number;  ///< md0: 0
    little_uint32_t not_persistent;
    little_uint32_t uuid1;
    little_uint32_t uuid2;
    little_uint32_t uuid3;
    Bytes<64> pad1;
    little_uint32_t updated;
    little_uint32_t state;  ///< bit 0: clean
    little_uint32_t active;
    little_uint32_t working;
    little_uint32_t failed;
    little_uint32_t spares;
    little_uint32_t checksum;
    little_uint64_t events;
    Bytes<92> pad2;
    little_uint32_t layout;
    little_uint32_t chunk;  ///< bytes
};
BOOST_DESCRIBE_STRUCT(RaidSuper90, (),
                      (magic, major, minor, patch, generic_words, uuid0, created, level, size, devices, members,
                       minor_number, not_persistent, uuid1, uuid2, uuid3, pad1, updated, state, active, working, failed,
                       spares, checksum, events, pad2, layout, chunk))
static_assert(offsetof(RaidSuper90, updated) == 128 && offsetof(RaidSuper90, layout) == 256);

/// Version 0.90: what it says of one device; the own one lies at byte 3968 of the superblock.
struct RaidDevice90 {
    little_uint32_t number;
    little_uint32_t major;
    little_uint32_t minor;
    little_uint32_t role;
    little_uint32_t state;  ///< bit 0: faulty, bit 1: active, bit 2: in sync
};
BOOST_DESCRIBE_STRUCT(RaidDevice90, (), (number, major, minor, role, state))
static_assert(sizeof(RaidDevice90) == 20);

}  // namespace herberge::ondisk
