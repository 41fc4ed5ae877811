// SPDX-License-Identifier: MIT
// exFAT (Microsoft "exFAT file system specification", revision 1.00).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// The main boot sector (section 3.1); its region goes on with eleven more, the last of which holds checksums.
struct ExfatBoot {
    Bytes<3> jump;
    Bytes<8> name;  ///< "EXFAT   "
    Bytes<53> zero;
    little_uint64_t partition_offset;
    little_uint64_t sectors;
    little_uint32_t fat_offset;   ///< sectors
    little_uint32_t fat_sectors;  ///< of one table
    little_uint32_t heap_offset;  ///< sectors: cluster 2
    little_uint32_t clusters;
    little_uint32_t root_cluster;
    little_uint32_t serial;
    little_uint16_t revision;
    little_uint16_t flags;  ///< bit 0: the second table counts
    std::uint8_t sector_shift;
    std::uint8_t cluster_shift;  ///< sectors of a cluster
    std::uint8_t fats;
    std::uint8_t drive;
    std::uint8_t percent_used;
    Bytes<7> reserved;
    Bytes<390> code;
    little_uint16_t signature;
};
BOOST_DESCRIBE_STRUCT(ExfatBoot, (),
                      (jump, name, zero, partition_offset, sectors, fat_offset, fat_sectors, heap_offset, clusters,
                       root_cluster, serial, revision, flags, sector_shift, cluster_shift, fats, drive, percent_used,
                       reserved, code, signature))
static_assert(sizeof(ExfatBoot) == 512 && offsetof(ExfatBoot, sector_shift) == 108);

/// The first entry of a file's set (section 7.4).
struct ExfatFile {
    std::uint8_t type;  ///< 85h
    std::uint8_t followers;
    little_uint16_t checksum;
    little_uint16_t attributes;
    little_uint16_t reserved;
    little_uint16_t created_time;
    little_uint16_t created_date;
    little_uint16_t modified_time;
    little_uint16_t modified_date;
    Bytes<16> more;
};
BOOST_DESCRIBE_STRUCT(ExfatFile, (),
                      (type, followers, checksum, attributes, reserved, created_time, created_date, modified_time,
                       modified_date, more))
static_assert(sizeof(ExfatFile) == 32);

/// The second: where its content lies (section 7.6).
struct ExfatStream {
    std::uint8_t type;   ///< C0h
    std::uint8_t flags;  ///< bit 1: in one piece, the table is not asked
    std::uint8_t reserved;
    std::uint8_t name_length;  ///< UTF-16 units
    little_uint16_t name_hash;
    little_uint16_t reserved2;
    little_uint64_t valid_size;  ///< what lies behind reads as zeros
    little_uint32_t reserved3;
    little_uint32_t first_cluster;
    little_uint64_t size;
};
BOOST_DESCRIBE_STRUCT(ExfatStream, (),
                      (type, flags, reserved, name_length, name_hash, reserved2, valid_size, reserved3, first_cluster,
                       size))
static_assert(sizeof(ExfatStream) == 32);

/// The others: 15 units of its name each (section 7.7).
struct ExfatName {
    std::uint8_t type;  ///< C1h
    std::uint8_t flags;
    Bytes<30> units;
};
BOOST_DESCRIBE_STRUCT(ExfatName, (), (type, flags, units))
static_assert(sizeof(ExfatName) == 32);

}  // namespace herberge::ondisk
