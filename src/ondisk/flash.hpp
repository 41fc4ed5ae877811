// SPDX-License-Identifier: MIT
// What raw flash is divided by and holds: UBI (Linux drivers/mtd/ubi/ubi-media.h), big-endian; UBIFS (fs/ubifs/
// ubifs-media.h) and CramFS (include/uapi/linux/cramfs_fs.h), little-endian.
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// At the start of every block that was erased for UBI.
struct UbiEraseHeader {
    Bytes<4> magic;  ///< "UBI#"
    std::uint8_t version;
    Bytes<3> reserved;
    big_uint64_t erased;      ///< how often
    big_uint32_t volume_at;   ///< where the volume header lies in the block
    big_uint32_t content_at;  ///< … and the content
    big_uint32_t sequence;    ///< the same in all blocks of one image
    Bytes<32> reserved2;
    big_uint32_t crc;  ///< of what stands before, not inverted at the end
};
BOOST_DESCRIBE_STRUCT(UbiEraseHeader, (),
                      (magic, version, reserved, erased, volume_at, content_at, sequence, reserved2, crc))
static_assert(sizeof(UbiEraseHeader) == 64);

struct UbiVolumeHeader {
    Bytes<4> magic;  ///< "UBI!"
    std::uint8_t version;
    std::uint8_t type;  ///< 1 dynamic, 2 static
    std::uint8_t copy;  ///< 1: a copy made by wear levelling, whose content must pass its CRC
    std::uint8_t compatible;
    big_uint32_t volume;  ///< 7FFFEFFF: the table of volumes
    big_uint32_t number;  ///< of the logical block
    Bytes<4> reserved;
    big_uint32_t size;    ///< bytes of content that the CRC covers
    big_uint32_t blocks;  ///< static: how many the volume has in use
    big_uint32_t padding;
    big_uint32_t content_crc;
    Bytes<4> reserved2;
    big_uint64_t sequence;  ///< of two blocks with one number the larger one counts
    Bytes<12> reserved3;
    big_uint32_t crc;
};
BOOST_DESCRIBE_STRUCT(UbiVolumeHeader, (),
                      (magic, version, type, copy, compatible, volume, number, reserved, size, blocks, padding,
                       content_crc, reserved2, sequence, reserved3, crc))
static_assert(sizeof(UbiVolumeHeader) == 64);

/// A row of the table of volumes.
struct UbiVolumeRecord {
    big_uint32_t blocks;  ///< reserved for it; 0: an empty row
    big_uint32_t alignment;
    big_uint32_t padding;
    std::uint8_t type;
    std::uint8_t updating;  ///< 1: an update of it was interrupted
    big_uint16_t name_size;
    Bytes<128> name;
    std::uint8_t flags;
    Bytes<23> reserved;
    big_uint32_t crc;
};
BOOST_DESCRIBE_STRUCT(UbiVolumeRecord, (),
                      (blocks, alignment, padding, type, updating, name_size, name, flags, reserved, crc))
static_assert(sizeof(UbiVolumeRecord) == 172);

/// Before every node of UBIFS.
struct UbifsHead {
    little_uint32_t magic;  ///< 06101831
    little_uint32_t crc;    ///< of what follows, to the node's end, not inverted at the end
    little_uint64_t sequence;
    little_uint32_t size;
    std::uint8_t type;  ///< 0 inode, 1 data, 2 name, 6 superblock, 7 master, 8 reference, 9 index, 10 begin of a commit
    std::uint8_t group;
    Bytes<2> reserved;
};
BOOST_DESCRIBE_STRUCT(UbifsHead, (), (magic, crc, sequence, size, type, group, reserved))
static_assert(sizeof(UbifsHead) == 24);

struct UbifsKey {
    little_uint32_t inode;
    little_uint32_t what;  ///< upper 3 bits: kind; lower ones: a name's hash, or a block's number
};
BOOST_DESCRIBE_STRUCT(UbifsKey, (), (inode, what))
static_assert(sizeof(UbifsKey) == 8);

struct UbifsSuper {
    UbifsHead head;
    Bytes<2> reserved;
    std::uint8_t key_hash;
    std::uint8_t key_format;  ///< 0
    little_uint32_t flags;    ///< bit 2: double hash; bit 4: encryption; bit 5: authentication
    little_uint32_t unit;     ///< smallest write, in bytes
    little_uint32_t block_size;
    little_uint32_t blocks;
    little_uint32_t most_blocks;
    little_uint64_t journal_size;
    little_uint32_t log_blocks;
    Bytes<20> counts;
    little_uint32_t version;
    little_uint16_t compression;
    Bytes<22> owners;
    Bytes<16> uuid;
};
BOOST_DESCRIBE_STRUCT(UbifsSuper, (),
                      (head, reserved, key_hash, key_format, flags, unit, block_size, blocks, most_blocks, journal_size,
                       log_blocks, counts, version, compression, owners, uuid))
static_assert(sizeof(UbifsSuper) == 124);

struct UbifsMaster {
    UbifsHead head;
    little_uint64_t highest_inode;
    little_uint64_t commit;
    little_uint32_t flags;  ///< bit 0: not unmounted
    little_uint32_t log_block;
    little_uint32_t root_block, root_at, root_size;
};
BOOST_DESCRIBE_STRUCT(UbifsMaster, (), (head, highest_inode, commit, flags, log_block, root_block, root_at, root_size))
static_assert(sizeof(UbifsMaster) == 60);

struct UbifsInode {
    UbifsHead head;
    UbifsKey key;
    Bytes<8> key_rest;
    little_uint64_t created;
    little_uint64_t size;
    little_uint64_t accessed, changed, modified;
    Bytes<12> nanoseconds;
    little_uint32_t links, uid, gid, mode, flags;
    little_uint32_t data_size;
    Bytes<16> attributes;
    little_uint16_t compression;
    Bytes<26> reserved;
};
BOOST_DESCRIBE_STRUCT(UbifsInode, (),
                      (head, key, key_rest, created, size, accessed, changed, modified, nanoseconds, links, uid, gid,
                       mode, flags, data_size, attributes, compression, reserved))
static_assert(sizeof(UbifsInode) == 160);

struct UbifsName {
    UbifsHead head;
    UbifsKey key;
    Bytes<8> key_rest;
    little_uint64_t inode;
    std::uint8_t reserved;
    std::uint8_t type;
    little_uint16_t name_size;
    little_uint32_t cookie;
};
BOOST_DESCRIBE_STRUCT(UbifsName, (), (head, key, key_rest, inode, reserved, type, name_size, cookie))
static_assert(sizeof(UbifsName) == 56);

struct UbifsData {
    UbifsHead head;
    UbifsKey key;
    Bytes<8> key_rest;
    little_uint32_t size;         ///< unpacked
    little_uint16_t compression;  ///< 0 none, 1 LZO, 2 raw deflate, 3 zstd
    little_uint16_t packed_size;
};
BOOST_DESCRIBE_STRUCT(UbifsData, (), (head, key, key_rest, size, compression, packed_size))
static_assert(sizeof(UbifsData) == 48);

struct UbifsIndex {
    UbifsHead head;
    little_uint16_t children;
    little_uint16_t level;  ///< 0: its children are what the keys name
};
BOOST_DESCRIBE_STRUCT(UbifsIndex, (), (head, children, level))
static_assert(sizeof(UbifsIndex) == 28);

struct UbifsBranch {
    little_uint32_t block, at, size;
    UbifsKey key;
};
BOOST_DESCRIBE_STRUCT(UbifsBranch, (), (block, at, size, key))
static_assert(sizeof(UbifsBranch) == 20);

struct UbifsCommit {
    UbifsHead head;
    little_uint64_t number;
};
BOOST_DESCRIBE_STRUCT(UbifsCommit, (), (head, number))
static_assert(sizeof(UbifsCommit) == 32);

struct UbifsCut {
    UbifsHead head;
    little_uint32_t inode;
    Bytes<12> reserved;
    little_uint64_t old_size, new_size;
};
BOOST_DESCRIBE_STRUCT(UbifsCut, (), (head, inode, reserved, old_size, new_size))
static_assert(sizeof(UbifsCut) == 56);

struct UbifsPadding {
    UbifsHead head;
    little_uint32_t size;  ///< bytes behind it that hold nothing
};
BOOST_DESCRIBE_STRUCT(UbifsPadding, (), (head, size))
static_assert(sizeof(UbifsPadding) == 28);

struct UbifsReference {
    UbifsHead head;
    little_uint32_t block, at, journal_head;
};
BOOST_DESCRIBE_STRUCT(UbifsReference, (), (head, block, at, journal_head))
static_assert(sizeof(UbifsReference) == 36);

}  // namespace herberge::ondisk
