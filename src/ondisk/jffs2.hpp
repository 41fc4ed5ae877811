// SPDX-License-Identifier: MIT
// JFFS2 (Linux include/uapi/linux/jffs2.h) and CramFS (include/uapi/linux/cramfs_fs.h), little-endian.
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

struct Jffs2Head {
    little_uint16_t magic;  ///< 1985
    little_uint16_t type;   ///< E001 name, E002 inode, 2003 an erased block
    little_uint32_t size;   ///< of the whole node
    little_uint32_t crc;    ///< of the 8 bytes before
};
BOOST_DESCRIBE_STRUCT(Jffs2Head, (), (magic, type, size, crc))
static_assert(sizeof(Jffs2Head) == 12);

struct Jffs2Name {
    Jffs2Head head;
    little_uint32_t parent, version, inode, changed;
    std::uint8_t name_size, type;
    Bytes<2> unused;
    little_uint32_t node_crc, name_crc;
};
BOOST_DESCRIBE_STRUCT(Jffs2Name, (),
                      (head, parent, version, inode, changed, name_size, type, unused, node_crc, name_crc))
static_assert(sizeof(Jffs2Name) == 40);

struct Jffs2Inode {
    Jffs2Head head;
    little_uint32_t inode, version, mode;
    little_uint16_t uid, gid;
    little_uint32_t size, accessed, modified, changed, offset, packed_size, part_size;
    std::uint8_t compression, asked_compression;
    little_uint16_t flags;
    little_uint32_t data_crc, node_crc;
};
BOOST_DESCRIBE_STRUCT(Jffs2Inode, (),
                      (head, inode, version, mode, uid, gid, size, accessed, modified, changed, offset, packed_size,
                       part_size, compression, asked_compression, flags, data_crc, node_crc))
static_assert(sizeof(Jffs2Inode) == 68);

/// Bit fields: from the lowest bit on.
struct CramfsInode {
    little_uint16_t mode, uid;
    little_uint32_t size_gid;    ///< 24 bits of size, 8 of group
    little_uint32_t name_place;  ///< 6 bits: name's length in words; 26: place in words
};
BOOST_DESCRIBE_STRUCT(CramfsInode, (), (mode, uid, size_gid, name_place))
static_assert(sizeof(CramfsInode) == 12);

struct CramfsSuper {
    little_uint32_t magic;  ///< 28CD3D45
    little_uint32_t size, flags, future;
    Bytes<16> signature;  ///< "Compressed ROMFS"
    little_uint32_t crc, edition, blocks, files;
    Bytes<16> name;
    CramfsInode root;
};
BOOST_DESCRIBE_STRUCT(CramfsSuper, (), (magic, size, flags, future, signature, crc, edition, blocks, files, name, root))
static_assert(sizeof(CramfsSuper) == 76);

}  // namespace herberge::ondisk
