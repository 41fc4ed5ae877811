// SPDX-License-Identifier: MIT
// LILO's structures from version 22 on (its common.h; the map's layout in its technical overview).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// The first sector up to its code.
struct LiloFirst {
    Bytes<3> jump;
    std::uint8_t stage;  ///< 1
    little_uint16_t code_length;
    Bytes<4> mark;                ///< "LILO"
    little_uint16_t version;      ///< high byte minor, low byte major
    little_uint32_t map_stamp;    ///< when the map was made: seconds since 1970
    little_uint32_t raid_offset;  ///< sectors to add to each address
    little_uint32_t stamp;        ///< when this sector was written
    little_uint32_t map_volume;   ///< serial number of the disk with the map
    little_uint16_t prompt;
    std::uint8_t index_device;  ///< BIOS drive of the second part's index sector
    std::uint8_t index_flags;
    little_uint32_t index_lba;
};
BOOST_DESCRIBE_STRUCT(LiloFirst, (),
                      (jump, stage, code_length, mark, version, map_stamp, raid_offset, stamp, map_volume, prompt,
                       index_device, index_flags, index_lba))
static_assert(sizeof(LiloFirst) == 36);

/// A run of sectors. As cylinder, head and sector it is what INT 13h/02h takes; with a flag in `device` it is a number.
struct LiloAddress {
    std::uint8_t sector;
    std::uint8_t track;
    std::uint8_t device;
    std::uint8_t head;
    std::uint8_t count;
};
BOOST_DESCRIBE_STRUCT(LiloAddress, (), (sector, track, device, head, count))
static_assert(sizeof(LiloAddress) == 5);

/// One image in the descriptor table.
struct LiloDescriptor {
    Bytes<16> name;  ///< ends with a zero
    std::array<little_uint32_t, 4> password;
    little_uint32_t ramdisk_size;  ///< bytes
    LiloAddress ramdisk;           ///< of the map sector that its list begins with
    LiloAddress start;             ///< the same for the kernel
    little_uint16_t start_page;
    little_uint16_t flags;
    little_uint16_t video_mode;
};
BOOST_DESCRIBE_STRUCT(LiloDescriptor, (), (name, password, ramdisk_size, ramdisk, start, start_page, flags, video_mode))
static_assert(sizeof(LiloDescriptor) == 52);

}  // namespace herberge::ondisk
