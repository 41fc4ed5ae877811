// SPDX-License-Identifier: MIT
// ext2, ext3 and ext4 as described by the Linux kernel's Documentation/filesystems/ext4 and fs/ext4/ext4.h.
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// When and by whom the volume was to be checked.
struct ExtCheckUp {
    little_uint32_t last_check;
    little_uint32_t check_interval;
    little_uint32_t creator_os;
};
BOOST_DESCRIBE_STRUCT(ExtCheckUp, (), (last_check, check_interval, creator_os))

struct ExtReserved {
    little_uint16_t reserved_uid;
    little_uint16_t reserved_gid;
    little_uint32_t first_inode;
};
BOOST_DESCRIBE_STRUCT(ExtReserved, (), (reserved_uid, reserved_gid, first_inode))

struct ExtPerformance {
    little_uint32_t algorithm_bitmap;
    std::uint8_t prealloc_blocks;
    std::uint8_t prealloc_dir_blocks;
    little_uint16_t reserved_gdt_blocks;
};
BOOST_DESCRIBE_STRUCT(ExtPerformance, (), (algorithm_bitmap, prealloc_blocks, prealloc_dir_blocks, reserved_gdt_blocks))

struct ExtJournalMore {
    little_uint32_t journal_device;
    little_uint32_t last_orphan;
    std::array<little_uint32_t, 4> hash_seed;
    std::uint8_t default_hash_version;
    std::uint8_t journal_backup_type;
};
BOOST_DESCRIBE_STRUCT(ExtJournalMore, (),
                      (journal_device, last_orphan, hash_seed, default_hash_version, journal_backup_type))

/// What the file system keeps about its use and its disks.
struct ExtUsage {
    little_uint16_t raid_stride;
    little_uint16_t mmp_interval;
    little_uint64_t mmp_block;
    little_uint32_t raid_stripe_width;
    std::uint8_t log_groups_per_flex;
    std::uint8_t checksum_type;  ///< 1: crc32c
    std::uint8_t encryption_level;
    std::uint8_t reserved_pad;
    little_uint64_t kbytes_written;
    little_uint32_t snapshot_inode;
    little_uint32_t snapshot_id;
    little_uint64_t snapshot_reserved_blocks;
    little_uint32_t snapshot_list;
    little_uint32_t error_count;
    Bytes<104> error_records;
    Bytes<64> mount_options;
    little_uint32_t user_quota_inode;
    little_uint32_t group_quota_inode;
    little_uint32_t overhead_clusters;
};
BOOST_DESCRIBE_STRUCT(ExtUsage, (),
                      (raid_stride, mmp_interval, mmp_block, raid_stripe_width, log_groups_per_flex, checksum_type,
                       encryption_level, reserved_pad, kbytes_written, snapshot_inode, snapshot_id,
                       snapshot_reserved_blocks, snapshot_list, error_count, error_records, mount_options,
                       user_quota_inode, group_quota_inode, overhead_clusters))

struct ExtEncryption {
    Bytes<4> encrypt_algorithms;
    Bytes<16> encrypt_salt;
    little_uint32_t lost_found_inode;
    little_uint32_t project_quota_inode;
};
BOOST_DESCRIBE_STRUCT(ExtEncryption, (), (encrypt_algorithms, encrypt_salt, lost_found_inode, project_quota_inode))

struct ExtRest {
    Bytes<6> times_high;
    std::uint8_t error_codes_pad0;
    std::uint8_t error_codes_pad1;
    little_uint16_t encoding;
    little_uint16_t encoding_flags;
    little_uint32_t orphan_file_inode;
    Bytes<376> reserved;
};
BOOST_DESCRIBE_STRUCT(ExtRest, (),
                      (times_high, error_codes_pad0, error_codes_pad1, encoding, encoding_flags, orphan_file_inode,
                       reserved))

/// The superblock: 1024 bytes, at byte 1024 of the volume.
struct ExtSuper {
    little_uint32_t inodes_count;
    little_uint32_t blocks_count_low;
    little_uint32_t reserved_blocks_low;
    little_uint32_t free_blocks_low;
    little_uint32_t free_inodes;
    little_uint32_t first_data_block;
    little_uint32_t log_block_size;  ///< block size = 1024 << this
    little_uint32_t log_cluster_size;
    little_uint32_t blocks_per_group;
    little_uint32_t clusters_per_group;
    little_uint32_t inodes_per_group;
    little_uint32_t mount_time;
    little_uint32_t write_time;
    little_uint16_t mount_count;
    little_uint16_t max_mount_count;
    little_uint16_t magic;  ///< 0xEF53
    little_uint16_t state;  ///< bit 0 cleanly unmounted, bit 1 errors
    little_uint16_t errors;
    little_uint16_t minor_revision;
    ExtCheckUp check_up;
    little_uint32_t revision;
    ExtReserved reserved_for;
    little_uint16_t inode_size;
    little_uint16_t block_group;  ///< the group this copy lies in
    little_uint32_t feature_compat;
    little_uint32_t feature_incompat;
    little_uint32_t feature_ro_compat;
    Bytes<16> uuid;
    Bytes<16> label;
    Bytes<64> last_mounted;
    ExtPerformance performance;
    Bytes<16> journal_uuid;
    little_uint32_t journal_inode;
    ExtJournalMore journal_more;
    little_uint16_t descriptor_size;
    little_uint32_t default_mount_options;
    little_uint32_t first_meta_group;
    little_uint32_t mkfs_time;
    std::array<little_uint32_t, 17> journal_blocks;
    little_uint32_t blocks_count_high;
    little_uint32_t reserved_blocks_high;
    little_uint32_t free_blocks_high;
    little_uint16_t min_extra_isize;
    little_uint16_t want_extra_isize;
    little_uint32_t flags;
    ExtUsage usage;
    std::array<little_uint32_t, 2> backup_groups;  ///< sparse_super2
    ExtEncryption encryption;
    little_uint32_t checksum_seed;
    ExtRest rest;
    little_uint32_t checksum;
};
BOOST_DESCRIBE_STRUCT(ExtSuper, (),
                      (inodes_count, blocks_count_low, reserved_blocks_low, free_blocks_low, free_inodes,
                       first_data_block, log_block_size, log_cluster_size, blocks_per_group, clusters_per_group,
                       inodes_per_group, mount_time, write_time, mount_count, max_mount_count, magic, state, errors,
                       minor_revision, check_up, revision, reserved_for, inode_size, block_group, feature_compat,
                       feature_incompat, feature_ro_compat, uuid, label, last_mounted, performance, journal_uuid,
                       journal_inode, journal_more, descriptor_size, default_mount_options, first_meta_group, mkfs_time,
                       journal_blocks, blocks_count_high, reserved_blocks_high, free_blocks_high, min_extra_isize,
                       want_extra_isize, flags, usage, backup_groups, encryption, checksum_seed, rest, checksum))
static_assert(sizeof(ExtSuper) == 1024);
static_assert(offsetof(ExtSuper, feature_incompat) == 0x60);
static_assert(offsetof(ExtSuper, descriptor_size) == 0xFE);
static_assert(offsetof(ExtSuper, blocks_count_high) == 0x150);
static_assert(offsetof(ExtSuper, usage) + offsetof(ExtUsage, checksum_type) == 0x175);
static_assert(offsetof(ExtSuper, backup_groups) == 0x24C);
static_assert(offsetof(ExtSuper, checksum_seed) == 0x270);

/// A group descriptor; the second half exists only when descriptors are at least 64 bytes long.
struct ExtGroup {
    little_uint32_t block_bitmap_low;
    little_uint32_t inode_bitmap_low;
    little_uint32_t inode_table_low;
    little_uint16_t free_blocks_low;
    little_uint16_t free_inodes_low;
    little_uint16_t used_dirs_low;
    little_uint16_t flags;
    little_uint32_t exclude_bitmap_low;
    little_uint16_t block_bitmap_checksum_low;
    little_uint16_t inode_bitmap_checksum_low;
    little_uint16_t unused_inodes_low;
    little_uint16_t checksum;
    little_uint32_t block_bitmap_high;
    little_uint32_t inode_bitmap_high;
    little_uint32_t inode_table_high;
    Bytes<20> rest_high;
};
BOOST_DESCRIBE_STRUCT(ExtGroup, (),
                      (block_bitmap_low, inode_bitmap_low, inode_table_low, free_blocks_low, free_inodes_low,
                       used_dirs_low, flags, exclude_bitmap_low, block_bitmap_checksum_low, inode_bitmap_checksum_low,
                       unused_inodes_low, checksum, block_bitmap_high, inode_bitmap_high, inode_table_high, rest_high))
static_assert(sizeof(ExtGroup) == 64);

struct ExtInode {
    little_uint16_t mode;
    little_uint16_t uid_low;
    little_uint32_t size_low;
    little_uint32_t access_time;
    little_uint32_t change_time;
    little_uint32_t modify_time;
    little_uint32_t delete_time;
    little_uint16_t gid_low;
    little_uint16_t links;
    little_uint32_t blocks_low;
    little_uint32_t flags;
    little_uint32_t version;
    Bytes<60> block;  ///< block map, extent tree root, link target or inline data
    little_uint32_t generation;
    little_uint32_t file_acl_low;
    little_uint32_t size_high;
    little_uint32_t fragment;
    little_uint16_t blocks_high;
    little_uint16_t file_acl_high;
    little_uint16_t uid_high;
    little_uint16_t gid_high;
    little_uint16_t checksum_low;
    little_uint16_t reserved;
};
BOOST_DESCRIBE_STRUCT(ExtInode, (),
                      (mode, uid_low, size_low, access_time, change_time, modify_time, delete_time, gid_low, links,
                       blocks_low, flags, version, block, generation, file_acl_low, size_high, fragment, blocks_high,
                       file_acl_high, uid_high, gid_high, checksum_low, reserved))
static_assert(sizeof(ExtInode) == 128);

/// What follows the first 128 bytes in larger inodes.
struct ExtInodeExtra {
    little_uint16_t extra_isize;
    little_uint16_t checksum_high;
};
BOOST_DESCRIBE_STRUCT(ExtInodeExtra, (), (extra_isize, checksum_high))
static_assert(sizeof(ExtInodeExtra) == 4);

struct ExtExtentHeader {
    little_uint16_t magic;  ///< 0xF30A
    little_uint16_t entries;
    little_uint16_t capacity;
    little_uint16_t depth;
    little_uint32_t generation;
};
BOOST_DESCRIBE_STRUCT(ExtExtentHeader, (), (magic, entries, capacity, depth, generation))
static_assert(sizeof(ExtExtentHeader) == 12);

struct ExtExtent {
    little_uint32_t block;
    little_uint16_t length;  ///< above 32768: an unwritten extent of (length - 32768) blocks, read as zeros
    little_uint16_t start_high;
    little_uint32_t start_low;
};
BOOST_DESCRIBE_STRUCT(ExtExtent, (), (block, length, start_high, start_low))
static_assert(sizeof(ExtExtent) == 12);

struct ExtExtentIndex {
    little_uint32_t block;
    little_uint32_t leaf_low;
    little_uint16_t leaf_high;
    little_uint16_t unused;
};
BOOST_DESCRIBE_STRUCT(ExtExtentIndex, (), (block, leaf_low, leaf_high, unused))
static_assert(sizeof(ExtExtentIndex) == 12);

struct ExtDirEntry {
    little_uint32_t inode;
    little_uint16_t record_length;
    std::uint8_t name_length;
    std::uint8_t file_type;
};
BOOST_DESCRIBE_STRUCT(ExtDirEntry, (), (inode, record_length, name_length, file_type))
static_assert(sizeof(ExtDirEntry) == 8);

/// The start of the journal's superblock (include/linux/jbd2.h: all big-endian).
struct JournalSuper {
    big_uint32_t magic;       ///< 0xC03B3998
    big_uint32_t block_type;  ///< 3: without the features, 4
    big_uint32_t sequence;
    big_uint32_t block_size;
    big_uint32_t max_blocks;
    big_uint32_t first_block;
    big_uint32_t first_sequence;
    big_uint32_t start;  ///< first block of the log; 0: nothing to replay
    big_uint32_t error;
    big_uint32_t compatible;
    big_uint32_t incompatible;
    big_uint32_t read_only_compatible;
    Bytes<16> uuid;
    big_uint32_t users;
    big_uint32_t copy;
    big_uint32_t most_in_transaction;
    big_uint32_t most_data;
    std::uint8_t checksum_type;
    Bytes<3> padding;
    big_uint32_t fast_commit_blocks;
};
BOOST_DESCRIBE_STRUCT(JournalSuper, (),
                      (magic, block_type, sequence, block_size, max_blocks, first_block, first_sequence, start, error,
                       compatible, incompatible, read_only_compatible, uuid, users, copy, most_in_transaction,
                       most_data, checksum_type, padding, fast_commit_blocks))
static_assert(offsetof(JournalSuper, uuid) == 48 && sizeof(JournalSuper) == 88);

/// What every block of the log's own begins with.
struct JournalHead {
    big_uint32_t magic;
    big_uint32_t type;  ///< 1: descriptor, 2: commit, 5: revocation
    big_uint32_t sequence;
};
BOOST_DESCRIBE_STRUCT(JournalHead, (), (magic, type, sequence))
static_assert(sizeof(JournalHead) == 12);

/// In a descriptor: a block that follows. With 64 bits the number's upper half follows.
struct JournalTag {
    big_uint32_t block;
    big_uint16_t checksum;
    big_uint16_t flags;
};
BOOST_DESCRIBE_STRUCT(JournalTag, (), (block, checksum, flags))
static_assert(sizeof(JournalTag) == 8);

/// The same with checksums of the third kind.
struct JournalTag3 {
    big_uint32_t block;
    big_uint32_t flags;
    big_uint32_t block_high;
    big_uint32_t checksum;
};
BOOST_DESCRIBE_STRUCT(JournalTag3, (), (block, flags, block_high, checksum))
static_assert(sizeof(JournalTag3) == 16);

struct JournalCommit {
    JournalHead head;
    std::uint8_t checksum_type;
    std::uint8_t checksum_size;
    Bytes<2> padding;
    big_uint32_t checksum;
    Bytes<28> more;
    big_uint64_t seconds;
};
BOOST_DESCRIBE_STRUCT(JournalCommit, (), (head, checksum_type, checksum_size, padding, checksum, more, seconds))
static_assert(offsetof(JournalCommit, checksum) == 16 && offsetof(JournalCommit, seconds) == 48);

/// Numbers of blocks follow that are not to be replayed.
struct JournalRevoke {
    JournalHead head;
    big_uint32_t bytes;  ///< with this head
};
BOOST_DESCRIBE_STRUCT(JournalRevoke, (), (head, bytes))
static_assert(sizeof(JournalRevoke) == 16);

/// What a fast commit begins with (fs/ext4/fast_commit.h: little-endian).
struct FastCommitHead {
    little_uint16_t tag;
    little_uint16_t length;
    little_uint32_t features;
    little_uint32_t transaction;
};
BOOST_DESCRIBE_STRUCT(FastCommitHead, (), (tag, length, features, transaction))
static_assert(sizeof(FastCommitHead) == 12);

/// An extended attribute (section "Extended Attributes"); its name follows.
struct ExtAttribute {
    std::uint8_t name_length;
    std::uint8_t name_index;   ///< 7: "system."
    little_uint16_t value_at;  ///< from the first entry on
    little_uint32_t value_inode;
    little_uint32_t value_size;
    little_uint32_t hash;
};
BOOST_DESCRIBE_STRUCT(ExtAttribute, (), (name_length, name_index, value_at, value_inode, value_size, hash))
static_assert(sizeof(ExtAttribute) == 16);

/// How full a block of a hashed directory is; at its first entry's place.
struct ExtIndexCount {
    little_uint16_t limit;
    little_uint16_t count;
    little_uint32_t block;
};
BOOST_DESCRIBE_STRUCT(ExtIndexCount, (), (limit, count, block))
static_assert(sizeof(ExtIndexCount) == 8);

/// The end of such a block.
struct ExtIndexTail {
    little_uint32_t reserved;
    little_uint32_t checksum;
};
BOOST_DESCRIBE_STRUCT(ExtIndexTail, (), (reserved, checksum))
static_assert(sizeof(ExtIndexTail) == 8);

/// The end of a directory's block: an entry that is none.
struct ExtDirTail {
    little_uint32_t inode;          ///< 0
    little_uint16_t record_length;  ///< 12
    std::uint8_t name_length;       ///< 0
    std::uint8_t file_type;         ///< 0xDE
    little_uint32_t checksum;
};
BOOST_DESCRIBE_STRUCT(ExtDirTail, (), (inode, record_length, name_length, file_type, checksum))
static_assert(sizeof(ExtDirTail) == 12);

}  // namespace herberge::ondisk
