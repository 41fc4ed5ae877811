// SPDX-License-Identifier: MIT
// GRUB Legacy 0.97: the fields its installer fills in (stage1/stage1.h, stage2/asm.S, stage2/shared.h).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// stage1, the first sector.
struct LegacyStage1 {
    Bytes<3> jump;
    Bytes<0x3B> parameter_block;
    std::uint8_t version_major;  ///< 3
    std::uint8_t version_minor;  ///< 2
    std::uint8_t boot_drive;     ///< 0xFF: the drive the firmware passed in DL
    std::uint8_t force_lba;
    little_uint16_t next_address;  ///< 0x2000: stage 1.5, 0x8000: stage 2
    little_uint32_t next_sector;   ///< from the disk's start
    little_uint16_t next_segment;
};
BOOST_DESCRIBE_STRUCT(LegacyStage1, (),
                      (jump, parameter_block, version_major, version_minor, boot_drive, force_lba, next_address,
                       next_sector, next_segment))
static_assert(sizeof(LegacyStage1) == 0x4A);

/// One run of sectors in the next sector's list, which grows downwards from its end.
struct LegacyRun {
    little_uint32_t start;
    little_uint16_t sectors;
    little_uint16_t segment;
};
BOOST_DESCRIBE_STRUCT(LegacyRun, (), (start, sectors, segment))
static_assert(sizeof(LegacyRun) == 8);

/// The start of stage 1.5 and of stage 2, in the sector behind the list.
struct LegacyStage2 {
    Bytes<6> jump;
    std::uint8_t version_major;
    std::uint8_t version_minor;
    little_uint32_t
        partition;  ///< bits 16-23: the partition from 0, FF: the whole disk; bits 24-31 the drive, FF: the boot drive
    little_uint32_t saved_entry;
    std::uint8_t kind;  ///< 0 stage 2, 2 stage 1.5 for ext2, 3 for FAT …
    std::uint8_t force_lba;
};
BOOST_DESCRIBE_STRUCT(LegacyStage2, (), (jump, version_major, version_minor, partition, saved_entry, kind, force_lba))
static_assert(sizeof(LegacyStage2) == 0x12);

}  // namespace herberge::ondisk
