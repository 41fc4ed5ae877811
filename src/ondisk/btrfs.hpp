// SPDX-License-Identifier: MIT
// Btrfs, little-endian throughout (kernel include/uapi/linux/btrfs_tree.h).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

struct BtrfsKey {
    little_uint64_t object;
    std::uint8_t type;
    little_uint64_t offset;
};
BOOST_DESCRIBE_STRUCT(BtrfsKey, (), (object, type, offset))
static_assert(sizeof(BtrfsKey) == 17);

/// Superblock at 64 KiB, with copies at 64 MiB and 256 GiB.
struct BtrfsSuper {
    Bytes<32> checksum;  ///< over the rest of its 4 KiB
    Bytes<16> uuid;
    little_uint64_t position;
    little_uint64_t flags;
    Bytes<8> magic;  ///< "_BHRfS_M"
    little_uint64_t generation;
    little_uint64_t root;        ///< tree of roots
    little_uint64_t chunk_root;  ///< tree of chunks
    little_uint64_t log_root;
    little_uint64_t log_generation;
    little_uint64_t total_bytes;
    little_uint64_t bytes_used;
    little_uint64_t root_directory;
    little_uint64_t devices;
    little_uint32_t sector_size;
    little_uint32_t node_size;
    little_uint32_t leaf_size;
    little_uint32_t stripe_size;
    little_uint32_t chunk_array_size;
    little_uint64_t chunk_generation;
    little_uint64_t compatible;
    little_uint64_t read_only_compatible;
    little_uint64_t incompatible;
    little_uint16_t checksum_type;  ///< 0: CRC-32C
    std::uint8_t root_level;
    std::uint8_t chunk_level;
    std::uint8_t log_level;
    little_uint64_t device;        ///< the device that it lies on
    little_uint64_t device_bytes;  ///< and how large that is
    Bytes<82> device_more;
    Bytes<256> label;
};
BOOST_DESCRIBE_STRUCT(BtrfsSuper, (),
                      (checksum, uuid, position, flags, magic, generation, root, chunk_root, log_root, log_generation,
                       total_bytes, bytes_used, root_directory, devices, sector_size, node_size, leaf_size, stripe_size,
                       chunk_array_size, chunk_generation, compatible, read_only_compatible, incompatible,
                       checksum_type, root_level, chunk_level, log_level, device, device_bytes, device_more, label))
static_assert(offsetof(BtrfsSuper, label) == 299 && sizeof(BtrfsSuper) == 555);

/// Head of every node of a tree.
struct BtrfsNode {
    Bytes<32> checksum;  ///< over the rest of the node
    Bytes<16> uuid;
    little_uint64_t position;  ///< logical
    little_uint64_t flags;
    Bytes<16> chunk_uuid;
    little_uint64_t generation;
    little_uint64_t owner;
    little_uint32_t count;
    std::uint8_t level;  ///< 0: a leaf
};
BOOST_DESCRIBE_STRUCT(BtrfsNode, (), (checksum, uuid, position, flags, chunk_uuid, generation, owner, count, level))
static_assert(sizeof(BtrfsNode) == 101);

/// In a leaf: a key, and where its data lies behind the head.
struct BtrfsItem {
    BtrfsKey key;
    little_uint32_t offset;
    little_uint32_t size;
};
BOOST_DESCRIBE_STRUCT(BtrfsItem, (), (key, offset, size))
static_assert(sizeof(BtrfsItem) == 25);

/// In a node above: the first key below, and where that lies.
struct BtrfsPointer {
    BtrfsKey key;
    little_uint64_t position;
    little_uint64_t generation;
};
BOOST_DESCRIBE_STRUCT(BtrfsPointer, (), (key, position, generation))
static_assert(sizeof(BtrfsPointer) == 33);

/// A chunk: where a stretch of logical addresses lies; its stripes follow.
struct BtrfsChunk {
    little_uint64_t length;
    little_uint64_t owner;
    little_uint64_t stripe_length;
    little_uint64_t type;
    little_uint32_t io_align;
    little_uint32_t io_width;
    little_uint32_t sector_size;
    little_uint16_t stripes;
    little_uint16_t sub_stripes;
};
BOOST_DESCRIBE_STRUCT(BtrfsChunk, (),
                      (length, owner, stripe_length, type, io_align, io_width, sector_size, stripes, sub_stripes))
static_assert(sizeof(BtrfsChunk) == 48);

struct BtrfsStripe {
    little_uint64_t device;
    little_uint64_t offset;  ///< bytes of the device
    Bytes<16> uuid;
};
BOOST_DESCRIBE_STRUCT(BtrfsStripe, (), (device, offset, uuid))
static_assert(sizeof(BtrfsStripe) == 32);

/// A device, in the tree of chunks.
struct BtrfsDevice {
    little_uint64_t number;
    little_uint64_t bytes;
    little_uint64_t used;
    little_uint32_t io_align;
    little_uint32_t io_width;
    little_uint32_t sector_size;
    little_uint64_t type;
    little_uint64_t generation;
    little_uint64_t start;
    little_uint32_t group;
    std::uint8_t seek_speed;
    std::uint8_t bandwidth;
    Bytes<16> uuid;
    Bytes<16> file_system;
};
BOOST_DESCRIBE_STRUCT(BtrfsDevice, (),
                      (number, bytes, used, io_align, io_width, sector_size, type, generation, start, group, seek_speed,
                       bandwidth, uuid, file_system))
static_assert(sizeof(BtrfsDevice) == 98);

struct BtrfsInode {
    little_uint64_t generation;
    little_uint64_t transaction;
    little_uint64_t size;
    little_uint64_t bytes;
    little_uint64_t block_group;
    little_uint32_t links;
    little_uint32_t uid;
    little_uint32_t gid;
    little_uint32_t mode;
    little_uint64_t device;
    little_uint64_t flags;
    little_uint64_t sequence;
    Bytes<32> reserved;
    little_uint64_t accessed;
    little_uint32_t accessed_nano;
    little_uint64_t changed;
    little_uint32_t changed_nano;
    little_uint64_t modified;
    little_uint32_t modified_nano;
    little_uint64_t created;
    little_uint32_t created_nano;
};
BOOST_DESCRIBE_STRUCT(BtrfsInode, (),
                      (generation, transaction, size, bytes, block_group, links, uid, gid, mode, device, flags,
                       sequence, reserved, accessed, accessed_nano, changed, changed_nano, modified, modified_nano,
                       created, created_nano))
static_assert(sizeof(BtrfsInode) == 160);

/// The root of a tree: a subvolume's, or one of the file system's own.
struct BtrfsRoot {
    BtrfsInode inode;
    little_uint64_t generation;
    little_uint64_t root_directory;
    little_uint64_t position;
    little_uint64_t byte_limit;
    little_uint64_t bytes_used;
    little_uint64_t last_snapshot;
    little_uint64_t flags;
    little_uint32_t references;
    BtrfsKey drop_progress;
    std::uint8_t drop_level;
    std::uint8_t level;
};
BOOST_DESCRIBE_STRUCT(BtrfsRoot, (),
                      (inode, generation, root_directory, position, byte_limit, bytes_used, last_snapshot, flags,
                       references, drop_progress, drop_level, level))
static_assert(sizeof(BtrfsRoot) == 239);

/// An entry of a directory; its name follows.
struct BtrfsDirectoryItem {
    BtrfsKey location;
    little_uint64_t transaction;
    little_uint16_t data_length;
    little_uint16_t name_length;
    std::uint8_t type;
};
BOOST_DESCRIBE_STRUCT(BtrfsDirectoryItem, (), (location, transaction, data_length, name_length, type))
static_assert(sizeof(BtrfsDirectoryItem) == 30);

/// Where a subvolume is entered in its parent; its name follows.
struct BtrfsRootReference {
    little_uint64_t directory;
    little_uint64_t sequence;
    little_uint16_t name_length;
};
BOOST_DESCRIBE_STRUCT(BtrfsRootReference, (), (directory, sequence, name_length))
static_assert(sizeof(BtrfsRootReference) == 18);

/// A piece of a file. Content that is kept here ends at `position`.
struct BtrfsExtent {
    little_uint64_t generation;
    little_uint64_t unpacked;  ///< bytes
    std::uint8_t compression;  ///< 0 none, 1 zlib, 2 LZO, 3 Zstandard
    std::uint8_t encryption;
    little_uint16_t encoding;
    std::uint8_t type;         ///< 0: the content follows; 1: elsewhere; 2: reserved, reads as zeros
    little_uint64_t position;  ///< logical; 0: a hole
    little_uint64_t packed;    ///< bytes there
    little_uint64_t offset;    ///< into what is unpacked
    little_uint64_t length;    ///< bytes of the file
};
BOOST_DESCRIBE_STRUCT(BtrfsExtent, (),
                      (generation, unpacked, compression, encryption, encoding, type, position, packed, offset, length))
static_assert(sizeof(BtrfsExtent) == 53 && offsetof(BtrfsExtent, position) == 21);

}  // namespace herberge::ondisk
