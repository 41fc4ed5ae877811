// SPDX-License-Identifier: MIT
// XFS, big-endian throughout but for its checksums ("XFS Algorithms & Data Structures"; kernel
// fs/xfs/libxfs/xfs_format.h and xfs_da_format.h).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

using boost::endian::big_uint64_t;

struct XfsSuper {
    Bytes<4> magic;  ///< "XFSB"
    big_uint32_t block_size;
    big_uint64_t blocks;
    big_uint64_t realtime_blocks;
    big_uint64_t realtime_extents;
    Bytes<16> uuid;
    big_uint64_t log_start;  ///< 0: the log is on another device
    big_uint64_t root_inode;
    big_uint64_t realtime_bitmap_inode;
    big_uint64_t realtime_summary_inode;
    big_uint32_t realtime_extent_size;
    big_uint32_t group_blocks;
    big_uint32_t groups;
    big_uint32_t realtime_bitmap_blocks;
    big_uint32_t log_blocks;
    big_uint16_t version;  ///< low four bits: 4 or 5
    big_uint16_t sector_size;
    big_uint16_t inode_size;
    big_uint16_t inodes_per_block;
    Bytes<12> label;
    std::uint8_t block_log;
    std::uint8_t sector_log;
    std::uint8_t inode_log;
    std::uint8_t inodes_per_block_log;
    std::uint8_t group_blocks_log;
    std::uint8_t realtime_extent_log;
    std::uint8_t in_progress;  ///< not 0: it was not made to the end
    std::uint8_t inode_percent;
    Bytes<32> counters;
    Bytes<32> quota;  ///< … alignment, stripes
    std::uint8_t directory_block_log;
    std::uint8_t log_sector_log;
    big_uint16_t log_sector_size;
    big_uint32_t log_stripe;
    big_uint32_t features2;  ///< version 4
    big_uint32_t bad_features2;
    big_uint32_t compatible;  ///< version 5, and what follows
    big_uint32_t read_only_compatible;
    big_uint32_t incompatible;
    big_uint32_t log_incompatible;
    little_uint32_t checksum;  ///< over the sector, this field 0
    big_uint32_t sparse_alignment;
    big_uint64_t project_quota_inode;
    big_uint64_t last_write;
    Bytes<16> metadata_uuid;
};
BOOST_DESCRIBE_STRUCT(XfsSuper, (),
                      (magic, block_size, blocks, realtime_blocks, realtime_extents, uuid, log_start, root_inode,
                       realtime_bitmap_inode, realtime_summary_inode, realtime_extent_size, group_blocks, groups,
                       realtime_bitmap_blocks, log_blocks, version, sector_size, inode_size, inodes_per_block, label,
                       block_log, sector_log, inode_log, inodes_per_block_log, group_blocks_log, realtime_extent_log,
                       in_progress, inode_percent, counters, quota, directory_block_log, log_sector_log,
                       log_sector_size, log_stripe, features2, bad_features2, compatible, read_only_compatible,
                       incompatible, log_incompatible, checksum, sparse_alignment, project_quota_inode, last_write,
                       metadata_uuid))
static_assert(sizeof(XfsSuper) == 264);

/// The core of an inode; versions 1 and 2 end at `checksum`.
struct XfsInode {
    Bytes<2> magic;  ///< "IN"
    big_uint16_t mode;
    std::uint8_t version;
    std::uint8_t format;  ///< 0 device, 1 in the inode, 2 a list of extents, 3 a tree of extents
    big_uint16_t old_links;
    big_uint32_t uid;
    big_uint32_t gid;
    big_uint32_t links;
    Bytes<4> project;
    big_uint64_t big_extents;  ///< with 64-bit counters
    big_uint64_t accessed;     ///< seconds and nanoseconds, or nanoseconds since 1901
    big_uint64_t modified;
    big_uint64_t changed;
    big_uint64_t size;
    big_uint64_t blocks;
    big_uint32_t extent_hint;
    big_uint32_t extents;
    big_uint16_t attribute_extents;
    std::uint8_t fork_offset;  ///< units of 8 bytes; 0: all room is for data
    std::uint8_t attribute_format;
    Bytes<6> management;
    big_uint16_t flags;
    big_uint32_t generation;
    big_uint32_t next_unlinked;
    little_uint32_t checksum;  ///< over the whole inode, this field 0
    big_uint64_t changes;
    big_uint64_t last_write;
    big_uint64_t flags2;
    big_uint32_t copy_hint;
    Bytes<12> pad;
    big_uint64_t created;
    big_uint64_t number;
    Bytes<16> uuid;
};
BOOST_DESCRIBE_STRUCT(XfsInode, (),
                      (magic, mode, version, format, old_links, uid, gid, links, project, big_extents, accessed,
                       modified, changed, size, blocks, extent_hint, extents, attribute_extents, fork_offset,
                       attribute_format, management, flags, generation, next_unlinked, checksum, changes, last_write,
                       flags2, copy_hint, pad, created, number, uuid))
static_assert(sizeof(XfsInode) == 176 && offsetof(XfsInode, checksum) == 100);

/// An extent: 1 bit "not written", 54 bits place in the file, 52 bits block, 21 bits count.
struct XfsExtent {
    big_uint64_t high;
    big_uint64_t low;
};
BOOST_DESCRIBE_STRUCT(XfsExtent, (), (high, low))
static_assert(sizeof(XfsExtent) == 16);

/// Head of a block of a tree of extents; version 4 ends at `block`.
struct XfsTreeHead {
    Bytes<4> magic;  ///< "BMAP", "BMA3"
    big_uint16_t level;
    big_uint16_t records;
    big_uint64_t left;
    big_uint64_t right;
    big_uint64_t block;
    big_uint64_t last_write;
    Bytes<16> uuid;
    big_uint64_t owner;
    little_uint32_t checksum;
    big_uint32_t pad;
};
BOOST_DESCRIBE_STRUCT(XfsTreeHead, (),
                      (magic, level, records, left, right, block, last_write, uuid, owner, checksum, pad))
static_assert(sizeof(XfsTreeHead) == 72 && offsetof(XfsTreeHead, block) == 24);

/// Each group's second sector: its free space (xfs_agf).
struct XfsFreeSpace {
    Bytes<4> magic;  ///< "XAGF"
    big_uint32_t version;
    big_uint32_t group;
    big_uint32_t length;  ///< blocks
    Bytes<48> trees;      ///< roots, levels, list of free blocks, counters
    Bytes<16> uuid;
    Bytes<128> more;
    big_uint64_t last_write;
    little_uint32_t checksum;  ///< over the sector, this field 0
};
BOOST_DESCRIBE_STRUCT(XfsFreeSpace, (), (magic, version, group, length, trees, uuid, more, last_write, checksum))
static_assert(offsetof(XfsFreeSpace, checksum) == 216);

/// Each group's third sector: its inodes (xfs_agi).
struct XfsInodes {
    Bytes<4> magic;  ///< "XAGI"
    big_uint32_t version;
    big_uint32_t group;
    big_uint32_t length;  ///< blocks
    big_uint32_t count;
    big_uint32_t root;  ///< block of the group: the tree of inodes
    big_uint32_t level;
    Bytes<12> counters;
    Bytes<256> unlinked;
    Bytes<16> uuid;
    little_uint32_t checksum;  ///< over the sector, this field 0
};
BOOST_DESCRIBE_STRUCT(XfsInodes, (),
                      (magic, version, group, length, count, root, level, counters, unlinked, uuid, checksum))
static_assert(offsetof(XfsInodes, checksum) == 312);

/// Head of a block of a group's tree; version 4 ends at `block`.
struct XfsGroupTree {
    Bytes<4> magic;  ///< "IABT", "IAB3"
    big_uint16_t level;
    big_uint16_t records;
    big_uint32_t left;
    big_uint32_t right;
    big_uint64_t block;
    big_uint64_t last_write;
    Bytes<16> uuid;
    big_uint32_t owner;
    little_uint32_t checksum;
};
BOOST_DESCRIBE_STRUCT(XfsGroupTree, (), (magic, level, records, left, right, block, last_write, uuid, owner, checksum))
static_assert(sizeof(XfsGroupTree) == 56 && offsetof(XfsGroupTree, checksum) == 52);

/// Head of a directory block of version 5; version 4 has the mark and the list of free space only (16 bytes).
struct XfsDirectoryHead {
    Bytes<4> magic;            ///< "XDB3", "XDD3"
    little_uint32_t checksum;  ///< over the block, this field 0
    big_uint64_t block;
    big_uint64_t last_write;
    Bytes<16> uuid;
    big_uint64_t owner;
    Bytes<12> free;
    big_uint32_t pad;
};
BOOST_DESCRIBE_STRUCT(XfsDirectoryHead, (), (magic, checksum, block, last_write, uuid, owner, free, pad))
static_assert(sizeof(XfsDirectoryHead) == 64);

/// The last eight bytes of a directory that is one block: its index lies before them.
struct XfsDirectoryTail {
    big_uint32_t count;
    big_uint32_t stale;
};
BOOST_DESCRIBE_STRUCT(XfsDirectoryTail, (), (count, stale))
static_assert(sizeof(XfsDirectoryTail) == 8);

/// Head of a block of a long link's target, version 5.
struct XfsLinkHead {
    Bytes<4> magic;  ///< "XSLM"
    big_uint32_t offset;
    big_uint32_t length;
    little_uint32_t checksum;
    Bytes<16> uuid;
    big_uint64_t owner;
    big_uint64_t block;
    big_uint64_t last_write;
};
BOOST_DESCRIBE_STRUCT(XfsLinkHead, (), (magic, offset, length, checksum, uuid, owner, block, last_write))
static_assert(sizeof(XfsLinkHead) == 56);

/// What a record of the log begins with (fs/xfs/libxfs/xfs_log_format.h); it goes on with the cycles of its sectors.
struct XfsLogRecord {
    big_uint32_t magic;  ///< 0xFEEDBABE
    big_uint32_t cycle;
    big_uint32_t version;
    big_uint32_t length;  ///< bytes behind the record's own sectors
    big_uint64_t number;
    big_uint64_t tail;
    little_uint32_t checksum;
    big_uint32_t previous;
    big_uint32_t operations;
    Bytes<256> cycles;
    big_uint32_t format;
    Bytes<16> uuid;
    big_uint32_t size;  ///< of the buffer that it was written from
};
BOOST_DESCRIBE_STRUCT(XfsLogRecord, (),
                      (magic, cycle, version, length, number, tail, checksum, previous, operations, cycles, format,
                       uuid, size))
static_assert(offsetof(XfsLogRecord, operations) == 40 && sizeof(XfsLogRecord) == 324);

/// What each operation in a record begins with; its first word is the sector's cycle where it opens a sector.
struct XfsLogOperation {
    big_uint32_t transaction;
    big_uint32_t length;
    std::uint8_t client;
    std::uint8_t flags;  ///< bit 5: an unmount
    big_uint16_t reserved;
};
BOOST_DESCRIBE_STRUCT(XfsLogOperation, (), (transaction, length, client, flags, reserved))
static_assert(sizeof(XfsLogOperation) == 12);

}  // namespace herberge::ondisk
