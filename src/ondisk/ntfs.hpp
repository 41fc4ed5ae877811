// SPDX-License-Identifier: MIT
// NTFS 3.1: file records, attributes, indexes (as the Linux driver's fs/ntfs3/ntfs.h lays them down).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

struct NtfsRecord {
    Bytes<4> mark;  ///< "FILE", "BAAD" after a failed write
    little_uint16_t fixup_offset;
    little_uint16_t fixup_count;  ///< sectors of the record, plus one
    little_uint64_t log_number;
    little_uint16_t sequence;
    little_uint16_t links;
    little_uint16_t first_attribute;
    little_uint16_t flags;  ///< 1 in use, 2 directory
    little_uint32_t used;
    little_uint32_t allocated;
    little_uint64_t base;  ///< of an extension record: the record it belongs to
    little_uint16_t next_attribute;
};
BOOST_DESCRIBE_STRUCT(NtfsRecord, (),
                      (mark, fixup_offset, fixup_count, log_number, sequence, links, first_attribute, flags, used,
                       allocated, base, next_attribute))
static_assert(sizeof(NtfsRecord) == 42);

struct NtfsAttribute {
    little_uint32_t type;  ///< 0xFFFFFFFF ends the list
    little_uint32_t length;
    std::uint8_t non_resident;
    std::uint8_t name_length;  ///< UTF-16 units
    little_uint16_t name_offset;
    little_uint16_t flags;  ///< 0x0001 compressed, 0x4000 encrypted, 0x8000 sparse
    little_uint16_t id;
};
BOOST_DESCRIBE_STRUCT(NtfsAttribute, (), (type, length, non_resident, name_length, name_offset, flags, id))
static_assert(sizeof(NtfsAttribute) == 16);

/// Follows NtfsAttribute when it is resident.
struct NtfsResident {
    little_uint32_t length;
    little_uint16_t offset;
    little_uint16_t flags;
};
BOOST_DESCRIBE_STRUCT(NtfsResident, (), (length, offset, flags))
static_assert(sizeof(NtfsResident) == 8);

/// Follows NtfsAttribute when it is not.
struct NtfsNonResident {
    little_uint64_t first_vcn;
    little_uint64_t last_vcn;
    little_uint16_t runs_offset;
    std::uint8_t compression_unit;  ///< 2 to this power of clusters; 0: not compressed
    Bytes<5> reserved;
    little_uint64_t allocated;
    little_uint64_t size;
    little_uint64_t valid;  ///< bytes behind this read as zeros
};
BOOST_DESCRIBE_STRUCT(NtfsNonResident, (),
                      (first_vcn, last_vcn, runs_offset, compression_unit, reserved, allocated, size, valid))
static_assert(sizeof(NtfsNonResident) == 48);

/// An element of $ATTRIBUTE_LIST.
struct NtfsListEntry {
    little_uint32_t type;
    little_uint16_t length;
    std::uint8_t name_length;
    std::uint8_t name_offset;
    little_uint64_t first_vcn;
    little_uint64_t record;  ///< 48 bits of number, 16 of sequence
    little_uint16_t id;
};
BOOST_DESCRIBE_STRUCT(NtfsListEntry, (), (type, length, name_length, name_offset, first_vcn, record, id))
static_assert(sizeof(NtfsListEntry) == 26);

struct NtfsIndexHeader {
    little_uint32_t entries_offset;  ///< from this header
    little_uint32_t used;
    little_uint32_t allocated;
    little_uint32_t flags;  ///< 1: has children
};
BOOST_DESCRIBE_STRUCT(NtfsIndexHeader, (), (entries_offset, used, allocated, flags))
static_assert(sizeof(NtfsIndexHeader) == 16);

struct NtfsIndexRoot {
    little_uint32_t type;  ///< 0x30: file names
    little_uint32_t collation;
    little_uint32_t block_size;
    std::uint8_t clusters_per_block;
    Bytes<3> pad;
    NtfsIndexHeader header;
};
BOOST_DESCRIBE_STRUCT(NtfsIndexRoot, (), (type, collation, block_size, clusters_per_block, pad, header))
static_assert(sizeof(NtfsIndexRoot) == 32);

struct NtfsIndexBlock {
    Bytes<4> mark;  ///< "INDX"
    little_uint16_t fixup_offset;
    little_uint16_t fixup_count;
    little_uint64_t log_number;
    little_uint64_t vcn;
    NtfsIndexHeader header;
};
BOOST_DESCRIBE_STRUCT(NtfsIndexBlock, (), (mark, fixup_offset, fixup_count, log_number, vcn, header))
static_assert(sizeof(NtfsIndexBlock) == 40);

struct NtfsIndexEntry {
    little_uint64_t record;
    little_uint16_t length;
    little_uint16_t key_length;
    little_uint16_t flags;  ///< 1: a child's number stands at the entry's end; 2: the last entry, without a key
    little_uint16_t pad;
};
BOOST_DESCRIBE_STRUCT(NtfsIndexEntry, (), (record, length, key_length, flags, pad))
static_assert(sizeof(NtfsIndexEntry) == 16);

/// $FILE_NAME, in records and as the key of directory entries.
struct NtfsFileName {
    little_uint64_t parent;
    little_uint64_t created, modified, changed, accessed;  ///< 100 ns since 1601
    little_uint64_t allocated;
    little_uint64_t size;
    little_uint32_t flags;  ///< DOS attributes
    little_uint32_t reparse;
    std::uint8_t name_length;
    std::uint8_t name_space;  ///< 0 POSIX, 1 Win32, 2 DOS, 3 both
};
BOOST_DESCRIBE_STRUCT(NtfsFileName, (),
                      (parent, created, modified, changed, accessed, allocated, size, flags, reparse, name_length,
                       name_space))
static_assert(sizeof(NtfsFileName) == 66);

struct NtfsStandardInformation {
    little_uint64_t created, modified, changed, accessed;
    little_uint32_t flags;
};
BOOST_DESCRIBE_STRUCT(NtfsStandardInformation, (), (created, modified, changed, accessed, flags))
static_assert(sizeof(NtfsStandardInformation) == 36);

/// What records and index blocks begin with: where the saved ends of their sectors are.
struct NtfsFixedUp {
    Bytes<4> mark;
    little_uint16_t fixup_offset;
    little_uint16_t fixup_count;  ///< one more than there are sectors
};
BOOST_DESCRIBE_STRUCT(NtfsFixedUp, (), (mark, fixup_offset, fixup_count))
static_assert(sizeof(NtfsFixedUp) == 8);

/// Head of a reparse point ([MS-FSCC] 2.1.2.1).
struct NtfsReparse {
    little_uint32_t tag;
    little_uint16_t length;
    little_uint16_t reserved;
};
BOOST_DESCRIBE_STRUCT(NtfsReparse, (), (tag, length, reserved))
static_assert(sizeof(NtfsReparse) == 8);

/// Behind it for links and mount points (2.1.2.4, 2.1.2.5); places count from behind these fields, and for links from
/// behind four bytes of flags.
struct NtfsLinkNames {
    little_uint16_t target_at;
    little_uint16_t target_length;
    little_uint16_t shown_at;
    little_uint16_t shown_length;
};
BOOST_DESCRIBE_STRUCT(NtfsLinkNames, (), (target_at, target_length, shown_at, shown_length))
static_assert(sizeof(NtfsLinkNames) == 8);

/// Behind it for a file that is kept packed as a whole (WOF_EXTERNAL_INFO, FILE_PROVIDER_EXTERNAL_INFO).
struct NtfsPackedFile {
    little_uint32_t version;
    little_uint32_t provider;  ///< 2: a file
    little_uint32_t provider_version;
    little_uint32_t algorithm;  ///< 0 XPRESS 4K, 1 LZX, 2 XPRESS 8K, 3 XPRESS 16K
};
BOOST_DESCRIBE_STRUCT(NtfsPackedFile, (), (version, provider, provider_version, algorithm))
static_assert(sizeof(NtfsPackedFile) == 16);

struct NtfsVolumeInformation {
    Bytes<8> reserved;
    std::uint8_t major;
    std::uint8_t minor;
    little_uint16_t flags;
};
BOOST_DESCRIBE_STRUCT(NtfsVolumeInformation, (), (reserved, major, minor, flags))
static_assert(sizeof(NtfsVolumeInformation) == 12);

}  // namespace herberge::ondisk
