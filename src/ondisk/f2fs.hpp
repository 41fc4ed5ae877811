// SPDX-License-Identifier: MIT
// F2FS (kernel include/linux/f2fs_fs.h).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// Superblock at 1 KiB; a copy at 5 KiB. More lists and a checksum follow.
struct F2fsSuper {
    little_uint32_t magic;  ///< 0xF2F52010
    little_uint16_t major;
    little_uint16_t minor;
    little_uint32_t log_sector_size;
    little_uint32_t log_sectors_per_block;
    little_uint32_t log_block_size;
    little_uint32_t log_blocks_per_segment;
    little_uint32_t segments_per_section;
    little_uint32_t sections_per_zone;
    little_uint32_t checksum_offset;
    little_uint64_t blocks;
    little_uint32_t sections;
    little_uint32_t segments;
    little_uint32_t checkpoint_segments;
    little_uint32_t segment_table_segments;
    little_uint32_t node_table_segments;
    little_uint32_t summary_segments;
    little_uint32_t main_segments;
    little_uint32_t first_segment;
    little_uint32_t checkpoint;  ///< block of the first of two packs
    little_uint32_t segment_table;
    little_uint32_t node_table;  ///< block: where each node lies (NAT)
    little_uint32_t summaries;
    little_uint32_t main;
    little_uint32_t root_inode;
    little_uint32_t node_inode;
    little_uint32_t meta_inode;
    Bytes<16> uuid;
    Bytes<1024> label;  ///< UTF-16
    little_uint32_t extensions;
    Bytes<512> extension_list;
    little_uint32_t checkpoint_payload;  ///< blocks of a pack's head besides the first
    Bytes<256> version;
    Bytes<256> made_by;
    little_uint32_t features;
    std::uint8_t encryption_level;
    Bytes<16> encryption_salt;
    Bytes<544> devices;  ///< eight: 64 bytes of path, segments
};
BOOST_DESCRIBE_STRUCT(F2fsSuper, (),
                      (magic, major, minor, log_sector_size, log_sectors_per_block, log_block_size,
                       log_blocks_per_segment, segments_per_section, sections_per_zone, checksum_offset, blocks,
                       sections, segments, checkpoint_segments, segment_table_segments, node_table_segments,
                       summary_segments, main_segments, first_segment, checkpoint, segment_table, node_table, summaries,
                       main, root_inode, node_inode, meta_inode, uuid, label, extensions, extension_list,
                       checkpoint_payload, version, made_by, features, encryption_level, encryption_salt, devices))
static_assert(offsetof(F2fsSuper, uuid) == 108 && offsetof(F2fsSuper, features) == 2180 && sizeof(F2fsSuper) == 2745);

/// Head of a checkpoint pack; bitmaps follow.
struct F2fsCheckpoint {
    little_uint64_t version;
    little_uint64_t user_blocks;
    little_uint64_t valid_blocks;
    Bytes<108> segments;  ///< reserved, free, and those that are written to
    little_uint32_t flags;
    little_uint32_t blocks;         ///< of this pack
    little_uint32_t first_summary;  ///< block of this pack
    little_uint32_t nodes;
    little_uint32_t inodes;
    little_uint32_t next_node;
    little_uint32_t segment_bitmap_size;
    little_uint32_t node_bitmap_size;
    little_uint32_t checksum_offset;
    little_uint64_t elapsed;
    Bytes<16> allocation;
};
BOOST_DESCRIBE_STRUCT(F2fsCheckpoint, (),
                      (version, user_blocks, valid_blocks, segments, flags, blocks, first_summary, nodes, inodes,
                       next_node, segment_bitmap_size, node_bitmap_size, checksum_offset, elapsed, allocation))
static_assert(offsetof(F2fsCheckpoint, flags) == 132 && sizeof(F2fsCheckpoint) == 192);

/// Where a node lies.
struct F2fsNodePlace {
    std::uint8_t version;
    little_uint32_t inode;
    little_uint32_t block;  ///< 0: there is none
};
BOOST_DESCRIBE_STRUCT(F2fsNodePlace, (), (version, inode, block))
static_assert(sizeof(F2fsNodePlace) == 9);

/// The beginning of an inode's block; from byte 360 on lie its fields of a later day (flag 20h), then its data.
struct F2fsInode {
    little_uint16_t mode;
    std::uint8_t advice;  ///< bit 2: encrypted
    std::uint8_t inside;  ///< 1 attributes, 2 data, 4 names, 20h later fields
    little_uint32_t uid;
    little_uint32_t gid;
    little_uint32_t links;
    little_uint64_t size;
    little_uint64_t blocks;
    little_uint64_t accessed;
    little_uint64_t changed;
    little_uint64_t modified;
    Bytes<12> nanoseconds;
    little_uint32_t generation;
    little_uint32_t depth;
    little_uint32_t attributes_node;
    little_uint32_t flags;  ///< 4: compressed
    little_uint32_t parent;
    little_uint32_t name_length;
    Bytes<255> name;
    std::uint8_t directory_level;
    Bytes<12> extent;
    little_uint16_t later_size;       ///< bytes of the later fields, these two included
    little_uint16_t attributes_size;  ///< words
    little_uint32_t project;
    little_uint32_t checksum;
};
BOOST_DESCRIBE_STRUCT(F2fsInode, (),
                      (mode, advice, inside, uid, gid, links, size, blocks, accessed, changed, modified, nanoseconds,
                       generation, depth, attributes_node, flags, parent, name_length, name, directory_level, extent,
                       later_size, attributes_size, project, checksum))
static_assert(offsetof(F2fsInode, later_size) == 360 && offsetof(F2fsInode, checksum) == 368);

/// The end of every node's block.
struct F2fsNodeTail {
    little_uint32_t node;
    little_uint32_t inode;
    little_uint32_t flags;
    little_uint64_t checkpoint;
    little_uint32_t next;
};
BOOST_DESCRIBE_STRUCT(F2fsNodeTail, (), (node, inode, flags, checkpoint, next))
static_assert(sizeof(F2fsNodeTail) == 24);

/// An entry of a directory; the names lie behind all entries, eight bytes each, longer ones in several.
struct F2fsName {
    little_uint32_t hash;
    little_uint32_t inode;
    little_uint16_t length;
    std::uint8_t type;
};
BOOST_DESCRIBE_STRUCT(F2fsName, (), (hash, inode, length, type))
static_assert(sizeof(F2fsName) == 11);

}  // namespace herberge::ondisk
