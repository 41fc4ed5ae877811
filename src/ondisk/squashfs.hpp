// SPDX-License-Identifier: MIT
// SquashFS 4.0 (Linux Documentation/filesystems/squashfs.rst, fs/squashfs/squashfs_fs.h).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

struct SquashfsSuper {
    little_uint32_t magic;  ///< 0x73717368
    little_uint32_t inodes;
    little_uint32_t made;        ///< seconds since 1970
    little_uint32_t block_size;  ///< bytes
    little_uint32_t fragments;
    little_uint16_t compression;  ///< 1 zlib, 2 lzma, 3 lzo, 4 xz, 5 lz4, 6 zstd
    little_uint16_t block_log;
    little_uint16_t flags;
    little_uint16_t ids;
    little_uint16_t major;
    little_uint16_t minor;
    little_uint64_t root;  ///< reference to its inode: start of the block, and in the low 16 bits the place in it
    little_uint64_t bytes_used;
    little_uint64_t id_table;
    little_uint64_t attribute_table;
    little_uint64_t inode_table;
    little_uint64_t directory_table;
    little_uint64_t fragment_table;
    little_uint64_t export_table;
};
BOOST_DESCRIBE_STRUCT(SquashfsSuper, (),
                      (magic, inodes, made, block_size, fragments, compression, block_log, flags, ids, major, minor,
                       root, bytes_used, id_table, attribute_table, inode_table, directory_table, fragment_table,
                       export_table))
static_assert(sizeof(SquashfsSuper) == 96);

/// What every inode begins with.
struct SquashfsInode {
    little_uint16_t type;  ///< 1 directory, 2 file, 3 link, 4 to 7 block, character, fifo, socket; extended: 7 more
    little_uint16_t mode;
    little_uint16_t uid;  ///< place in the table of ids
    little_uint16_t gid;
    little_uint32_t modified;
    little_uint32_t number;
};
BOOST_DESCRIBE_STRUCT(SquashfsInode, (), (type, mode, uid, gid, modified, number))
static_assert(sizeof(SquashfsInode) == 16);

struct SquashfsDirectory {
    little_uint32_t block;  ///< from the directory table's start
    little_uint32_t links;
    little_uint16_t size;  ///< of its listing, plus 3
    little_uint16_t offset;
    little_uint32_t parent;
};
BOOST_DESCRIBE_STRUCT(SquashfsDirectory, (), (block, links, size, offset, parent))
static_assert(sizeof(SquashfsDirectory) == 16);

struct SquashfsLongDirectory {
    little_uint32_t links;
    little_uint32_t size;
    little_uint32_t block;
    little_uint32_t parent;
    little_uint16_t indices;
    little_uint16_t offset;
    little_uint32_t attributes;
};
BOOST_DESCRIBE_STRUCT(SquashfsLongDirectory, (), (links, size, block, parent, indices, offset, attributes))
static_assert(sizeof(SquashfsLongDirectory) == 24);

/// The sizes of its blocks follow.
struct SquashfsFile {
    little_uint32_t start;
    little_uint32_t fragment;  ///< 0xFFFFFFFF: none
    little_uint32_t offset;    ///< of its end in the fragment
    little_uint32_t size;
};
BOOST_DESCRIBE_STRUCT(SquashfsFile, (), (start, fragment, offset, size))
static_assert(sizeof(SquashfsFile) == 16);

struct SquashfsLongFile {
    little_uint64_t start;
    little_uint64_t size;
    little_uint64_t sparse;
    little_uint32_t links;
    little_uint32_t fragment;
    little_uint32_t offset;
    little_uint32_t attributes;
};
BOOST_DESCRIBE_STRUCT(SquashfsLongFile, (), (start, size, sparse, links, fragment, offset, attributes))
static_assert(sizeof(SquashfsLongFile) == 40);

/// The target follows.
struct SquashfsLink {
    little_uint32_t links;
    little_uint32_t size;
};
BOOST_DESCRIBE_STRUCT(SquashfsLink, (), (links, size))
static_assert(sizeof(SquashfsLink) == 8);

/// Entries whose inodes lie in the same block; they follow.
struct SquashfsDirectoryHead {
    little_uint32_t count;  ///< one less than there are
    little_uint32_t block;  ///< from the inode table's start
    little_uint32_t number;
};
BOOST_DESCRIBE_STRUCT(SquashfsDirectoryHead, (), (count, block, number))
static_assert(sizeof(SquashfsDirectoryHead) == 12);

/// The name follows.
struct SquashfsEntry {
    little_uint16_t offset;
    little_uint16_t number;  ///< signed: from the head's
    little_uint16_t type;
    little_uint16_t size;  ///< of the name, one less
};
BOOST_DESCRIBE_STRUCT(SquashfsEntry, (), (offset, number, type, size))
static_assert(sizeof(SquashfsEntry) == 8);

struct SquashfsFragment {
    little_uint64_t start;
    little_uint32_t size;  ///< bit 24: not packed
    little_uint32_t unused;
};
BOOST_DESCRIBE_STRUCT(SquashfsFragment, (), (start, size, unused))
static_assert(sizeof(SquashfsFragment) == 16);

}  // namespace herberge::ondisk
