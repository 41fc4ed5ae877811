// SPDX-License-Identifier: MIT
// The first structures of volumes that are recognised, not all of them read.
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

using boost::endian::big_uint64_t;

/// NTFS boot sector: the BIOS parameter block and what follows it.
struct NtfsBoot {
    Bytes<3> jump;
    Bytes<8> oem_name;  ///< "NTFS    "
    little_uint16_t bytes_per_sector;
    std::uint8_t sectors_per_cluster;  ///< above 0x80: 2 to the power of its negation
    Bytes<7> zero;
    std::uint8_t media;
    Bytes<2> zero2;
    little_uint16_t sectors_per_track;
    little_uint16_t heads;
    little_uint32_t hidden_sectors;
    Bytes<4> zero3;
    Bytes<4> drive;
    little_uint64_t sectors;
    little_uint64_t mft_cluster;
    little_uint64_t mirror_cluster;
    std::uint8_t record_size;  ///< clusters, or 2 to the power of its negation
    Bytes<3> pad;
    std::uint8_t index_size;
    Bytes<3> pad2;
    little_uint64_t serial;
    little_uint32_t checksum;
    Bytes<426> code;
    little_uint16_t signature;
};
BOOST_DESCRIBE_STRUCT(NtfsBoot, (),
                      (jump, oem_name, bytes_per_sector, sectors_per_cluster, zero, media, zero2, sectors_per_track,
                       heads, hidden_sectors, zero3, drive, sectors, mft_cluster, mirror_cluster, record_size, pad,
                       index_size, pad2, serial, checksum, code, signature))
static_assert(sizeof(NtfsBoot) == 512);

/// NILFS2: the beginning of its superblock at 1 KiB (kernel include/uapi/linux/nilfs2_ondisk.h).
struct NilfsSuper {
    little_uint32_t revision;
    little_uint16_t minor_revision;
    little_uint16_t magic;
    little_uint16_t bytes;  ///< of the superblock that the checksum covers
    little_uint16_t flags;
    little_uint32_t checksum_seed;
    little_uint32_t checksum;
};
BOOST_DESCRIBE_STRUCT(NilfsSuper, (), (revision, minor_revision, magic, bytes, flags, checksum_seed, checksum))
static_assert(sizeof(NilfsSuper) == 20);

/// LVM 2 label in one of the first four sectors (lib/format_text/layout.h's label_header and pv_header).
struct LvmLabel {
    Bytes<8> id;  ///< "LABELONE"
    little_uint64_t sector;
    little_uint32_t checksum;
    little_uint32_t offset;
    Bytes<8> type;  ///< "LVM2 001"
    Bytes<32> uuid;
    little_uint64_t size;
};
BOOST_DESCRIBE_STRUCT(LvmLabel, (), (id, sector, checksum, offset, type, uuid, size))
static_assert(sizeof(LvmLabel) == 72);

/// LVM 2: an area of a physical volume (disk_locn); a list of them ends with zeros. First come the areas for data, then
/// those for metadata.
struct LvmArea {
    little_uint64_t offset;  ///< bytes
    little_uint64_t size;    ///< bytes; 0 for data: all that follows
};
BOOST_DESCRIBE_STRUCT(LvmArea, (), (offset, size))
static_assert(sizeof(LvmArea) == 16);

/// LVM 2: head of a metadata area (mda_header), in a sector of its own. The rest of the area is written round and
/// round.
struct LvmMetadataHead {
    little_uint32_t checksum;  ///< over the rest of the sector
    Bytes<16> magic;           ///< " LVM2 x[5A%r0N*>"
    little_uint32_t version;   ///< 1
    little_uint64_t start;     ///< bytes: where this structure itself lies
    little_uint64_t size;      ///< bytes of the area, this sector included
};
BOOST_DESCRIBE_STRUCT(LvmMetadataHead, (), (checksum, magic, version, start, size))
static_assert(sizeof(LvmMetadataHead) == 40);

/// LVM 2: where in its area a text lies (raw_locn).
struct LvmTextPlace {
    little_uint64_t offset;  ///< bytes from the area's start
    little_uint64_t size;    ///< bytes
    little_uint32_t checksum;
    little_uint32_t flags;  ///< bit 0: not to be used
};
BOOST_DESCRIBE_STRUCT(LvmTextPlace, (), (offset, size, checksum, flags))
static_assert(sizeof(LvmTextPlace) == 24);

}  // namespace herberge::ondisk
