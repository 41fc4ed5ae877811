// SPDX-License-Identifier: MIT
// Registry hives: base block, bins, cells (format as published by independent researchers and by MSDN's REGF notes).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

struct HiveBase {
    Bytes<4> mark;  ///< "regf"
    little_uint32_t primary_sequence;
    little_uint32_t secondary_sequence;
    little_uint64_t written;
    little_uint32_t major;
    little_uint32_t minor;
    little_uint32_t type;  ///< 0 primary file, 1, 2 and 6 logs
    little_uint32_t format;
    little_uint32_t root_cell;
    little_uint32_t bins_size;
    little_uint32_t clustering;
    Bytes<64> file_name;
    Bytes<396> reserved;
    little_uint32_t checksum;  ///< XOR of the 127 dwords before
};
BOOST_DESCRIBE_STRUCT(HiveBase, (),
                      (mark, primary_sequence, secondary_sequence, written, major, minor, type, format, root_cell,
                       bins_size, clustering, file_name, reserved, checksum))
static_assert(sizeof(HiveBase) == 512);

struct HiveBin {
    Bytes<4> mark;  ///< "hbin"
    little_uint32_t offset;
    little_uint32_t size;
    Bytes<20> reserved;
};
BOOST_DESCRIBE_STRUCT(HiveBin, (), (mark, offset, size, reserved))
static_assert(sizeof(HiveBin) == 32);

/// Key node, behind the cell's size.
struct HiveKey {
    Bytes<2> mark;          ///< "nk"
    little_uint16_t flags;  ///< 0x20: the name is in one-byte characters
    little_uint64_t written;
    little_uint32_t access;
    little_uint32_t parent;
    little_uint32_t subkeys;
    little_uint32_t volatile_subkeys;
    little_uint32_t subkey_list;
    little_uint32_t volatile_list;
    little_uint32_t values;
    little_uint32_t value_list;
    little_uint32_t security;
    little_uint32_t class_name;
    Bytes<20> longest;
    little_uint16_t name_length;
    little_uint16_t class_length;
};
BOOST_DESCRIBE_STRUCT(HiveKey, (),
                      (mark, flags, written, access, parent, subkeys, volatile_subkeys, subkey_list, volatile_list,
                       values, value_list, security, class_name, longest, name_length, class_length))
static_assert(sizeof(HiveKey) == 76);

/// Value, behind the cell's size.
struct HiveValueCell {
    Bytes<2> mark;  ///< "vk"
    little_uint16_t name_length;
    little_uint32_t size;  ///< bit 31: the data is the field below itself
    little_uint32_t data;
    little_uint32_t type;
    little_uint16_t flags;  ///< 1: the name is in one-byte characters
    little_uint16_t spare;
};
BOOST_DESCRIBE_STRUCT(HiveValueCell, (), (mark, name_length, size, data, type, flags, spare))
static_assert(sizeof(HiveValueCell) == 20);

/// An entry of a transaction log of the newer kind.
struct HiveLogEntry {
    Bytes<4> mark;  ///< "HvLE"
    little_uint32_t size;
    little_uint32_t flags;
    little_uint32_t sequence;
    little_uint32_t bins_size;
    little_uint32_t pages;
    little_uint64_t hash1;  ///< Marvin32 of everything behind this header
    little_uint64_t hash2;  ///< Marvin32 of the 32 bytes before
};
BOOST_DESCRIBE_STRUCT(HiveLogEntry, (), (mark, size, flags, sequence, bins_size, pages, hash1, hash2))
static_assert(sizeof(HiveLogEntry) == 40);

/// A list of keys: "lf", "lh" (with hashes), "li", "ri" (of lists).
struct HiveList {
    Bytes<2> mark;
    little_uint16_t count;
};
BOOST_DESCRIBE_STRUCT(HiveList, (), (mark, count))
static_assert(sizeof(HiveList) == 4);

struct HiveHashed {
    little_uint32_t cell;
    little_uint32_t hash;
};
BOOST_DESCRIBE_STRUCT(HiveHashed, (), (cell, hash))
static_assert(sizeof(HiveHashed) == 8);

/// A value beyond 16344 bytes, in pieces.
struct HiveBigData {
    Bytes<2> mark;  ///< "db"
    little_uint16_t count;
    little_uint32_t list;
};
BOOST_DESCRIBE_STRUCT(HiveBigData, (), (mark, count, list))
static_assert(sizeof(HiveBigData) == 8);

struct HiveLogPage {
    little_uint32_t offset;  ///< from behind the base block
    little_uint32_t size;
};
BOOST_DESCRIBE_STRUCT(HiveLogPage, (), (offset, size))
static_assert(sizeof(HiveLogPage) == 8);

}  // namespace herberge::ondisk
