// SPDX-License-Identifier: MIT
// FAT12, FAT16, FAT32 ("Microsoft Extensible Firmware Initiative FAT32 File System Specification" 1.03).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// The BIOS parameter block common to all three, with the jump and the OEM name (section "Boot Sector and BPB").
struct FatCommon {
    Bytes<3> jump;
    Bytes<8> oem_name;
    little_uint16_t bytes_per_sector;
    std::uint8_t sectors_per_cluster;
    little_uint16_t reserved_sectors;
    std::uint8_t fats;
    little_uint16_t root_entries;  ///< 0 for FAT32
    little_uint16_t sectors_16;    ///< 0: see sectors_32
    std::uint8_t media;
    little_uint16_t fat_sectors_16;  ///< 0 for FAT32
    little_uint16_t sectors_per_track;
    little_uint16_t heads;
    little_uint32_t hidden_sectors;  ///< sectors before the volume
    little_uint32_t sectors_32;
};
BOOST_DESCRIBE_STRUCT(FatCommon, (),
                      (jump, oem_name, bytes_per_sector, sectors_per_cluster, reserved_sectors, fats, root_entries,
                       sectors_16, media, fat_sectors_16, sectors_per_track, heads, hidden_sectors, sectors_32))
static_assert(sizeof(FatCommon) == 36);

/// What follows in FAT12 and FAT16, and at byte 64 in FAT32.
struct FatExtended {
    std::uint8_t drive;
    std::uint8_t reserved;
    std::uint8_t boot_signature;  ///< 0x29: the three fields below are present
    little_uint32_t serial;
    Bytes<11> label;
    Bytes<8> type_text;  ///< "FAT16   ": a comment, not a decision
};
BOOST_DESCRIBE_STRUCT(FatExtended, (), (drive, reserved, boot_signature, serial, label, type_text))
static_assert(sizeof(FatExtended) == 26);

struct Fat32Part {
    little_uint32_t fat_sectors;
    little_uint16_t flags;  ///< bit 7: only the FAT named by the lowest four bits is active
    little_uint16_t version;
    little_uint32_t root_cluster;
    little_uint16_t info_sector;
    little_uint16_t backup_sector;
    Bytes<12> reserved;
};
BOOST_DESCRIBE_STRUCT(Fat32Part, (), (fat_sectors, flags, version, root_cluster, info_sector, backup_sector, reserved))
static_assert(sizeof(Fat32Part) == 28);

struct FatBoot16 {
    FatCommon common;
    FatExtended extended;
    Bytes<448> code;
    little_uint16_t signature;
};
BOOST_DESCRIBE_STRUCT(FatBoot16, (), (common, extended, code, signature))
static_assert(sizeof(FatBoot16) == 512);

struct FatBoot32 {
    FatCommon common;
    Fat32Part fat32;
    FatExtended extended;
    Bytes<420> code;
    little_uint16_t signature;
};
BOOST_DESCRIBE_STRUCT(FatBoot32, (), (common, fat32, extended, code, signature))
static_assert(sizeof(FatBoot32) == 512);

/// A directory entry with a short name (section "Directory Structure").
struct FatEntry {
    Bytes<11> name;
    std::uint8_t attributes;
    std::uint8_t case_flags;  ///< 0x08 base in lower case, 0x10 extension in lower case (Windows NT)
    std::uint8_t created_tenths;
    little_uint16_t created_time;
    little_uint16_t created_date;
    little_uint16_t accessed_date;
    little_uint16_t cluster_high;
    little_uint16_t modified_time;
    little_uint16_t modified_date;
    little_uint16_t cluster_low;
    little_uint32_t size;
};
BOOST_DESCRIBE_STRUCT(FatEntry, (),
                      (name, attributes, case_flags, created_tenths, created_time, created_date, accessed_date,
                       cluster_high, modified_time, modified_date, cluster_low, size))
static_assert(sizeof(FatEntry) == 32);

/// A piece of a long name: 13 UTF-16 units.
struct FatLongEntry {
    std::uint8_t order;  ///< 1 …; 0x40 marks the last piece, which is stored first
    Bytes<10> name1;
    std::uint8_t attributes;  ///< 0x0F
    std::uint8_t type;
    std::uint8_t checksum;  ///< of the short name that follows
    Bytes<12> name2;
    little_uint16_t cluster;
    Bytes<4> name3;
};
BOOST_DESCRIBE_STRUCT(FatLongEntry, (), (order, name1, attributes, type, checksum, name2, cluster, name3))
static_assert(sizeof(FatLongEntry) == 32);

/// FSInfo (section "FAT32 FSInfo Sector Structure"): hints only.
struct FatInfo {
    little_uint32_t lead;  ///< 0x41615252
    Bytes<480> reserved;
    little_uint32_t signature;  ///< 0x61417272
    little_uint32_t free_clusters;
    little_uint32_t next_free;
    Bytes<12> reserved2;
    little_uint32_t trail;  ///< 0xAA550000
};
BOOST_DESCRIBE_STRUCT(FatInfo, (), (lead, reserved, signature, free_clusters, next_free, reserved2, trail))
static_assert(sizeof(FatInfo) == 512);

}  // namespace herberge::ondisk
