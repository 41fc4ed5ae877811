// SPDX-License-Identifier: MIT
// The second stage of the SYSLINUX family, ldlinux.sys, as its installer patches it (libinstaller/syslxint.h, 6.x).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// Found by its magic number near the start of ldlinux.sys.
struct SyslinuxPatch {
    little_uint32_t magic;     ///< 0x3EB202FE
    little_uint32_t instance;  ///< the boot sector compares it
    little_uint16_t data_sectors;
    little_uint16_t adv_sectors;
    little_uint32_t dwords;  ///< covered by the checksum
    little_uint32_t checksum;
    little_uint16_t most_transfer;
    little_uint16_t extended_offset;  ///< of SyslinuxExtended, from the file's start
};
BOOST_DESCRIBE_STRUCT(SyslinuxPatch, (),
                      (magic, instance, data_sectors, adv_sectors, dwords, checksum, most_transfer, extended_offset))
static_assert(sizeof(SyslinuxPatch) == 24);

struct SyslinuxExtended {
    little_uint16_t adv_pointers;
    little_uint16_t directory_offset;  ///< where the installation directory's name lies in the file
    little_uint16_t directory_length;
    little_uint16_t subvolume_offset;
    little_uint16_t subvolume_length;
    little_uint16_t extents_offset;
    little_uint16_t extents_count;
};
BOOST_DESCRIBE_STRUCT(SyslinuxExtended, (),
                      (adv_pointers, directory_offset, directory_length, subvolume_offset, subvolume_length,
                       extents_offset, extents_count))
static_assert(sizeof(SyslinuxExtended) == 14);

struct SyslinuxExtent {
    little_uint64_t lba;  ///< from the volume's start
    little_uint16_t sectors;
};
BOOST_DESCRIBE_STRUCT(SyslinuxExtent, (), (lba, sectors))
static_assert(sizeof(SyslinuxExtent) == 10);

}  // namespace herberge::ondisk
