// SPDX-License-Identifier: MIT
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// Cylinder, head, sector packed into three bytes (INT 13h convention: sector counts from 1,
/// the cylinder's upper two bits lie in the sector byte).
struct Chs {
    std::uint8_t head;
    std::uint8_t sector_and_cylinder_high;
    std::uint8_t cylinder_low;
};
BOOST_DESCRIBE_STRUCT(Chs, (), (head, sector_and_cylinder_high, cylinder_low))
static_assert(sizeof(Chs) == 3);

/// One of the four entries of the table in sector 0 (UEFI specification 2.10, section 5.2.1).
struct MbrEntry {
    std::uint8_t status;  ///< 0x80 active, 0x00 not; other values are invalid
    Chs first;
    std::uint8_t type;
    Chs last;
    little_uint32_t first_lba;
    little_uint32_t sectors;
};
BOOST_DESCRIBE_STRUCT(MbrEntry, (), (status, first, type, last, first_lba, sectors))
static_assert(sizeof(MbrEntry) == 16);

/// Sector 0 of a partitioned disk (UEFI specification 2.10, table 5.1).
struct Mbr {
    Bytes<440> code;
    little_uint32_t disk_signature;
    little_uint16_t reserved;
    std::array<MbrEntry, 4> entries;
    little_uint16_t signature;  ///< 0xAA55
};
BOOST_DESCRIBE_STRUCT(Mbr, (), (code, disk_signature, reserved, entries, signature))
static_assert(sizeof(Mbr) == 512);

}  // namespace herberge::ondisk
