// SPDX-License-Identifier: MIT
// GRUB 2, i386-pc: the fields its installer fills in (grub-core/boot/i386/pc/boot.S, diskboot.S, startup_raw.S,
// include/grub/offsets.h, include/grub/kernel.h).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// boot.img, the first sector.
struct GrubBootSector {
    Bytes<3> jump;  ///< over the BIOS parameter block
    Bytes<0x57> parameter_block;
    little_uint16_t kernel_address;  ///< 0x8000
    little_uint64_t kernel_sector;   ///< where the core image starts, in sectors of this disk
    std::uint8_t boot_drive;         ///< 0xFF: the drive the firmware passed in DL
    std::uint8_t code_start;
    Bytes<2> drive_check;  ///< a short jump, or two NOPs when the check of DL was enabled at installation
};
BOOST_DESCRIBE_STRUCT(GrubBootSector, (),
                      (jump, parameter_block, kernel_address, kernel_sector, boot_drive, code_start, drive_check))
static_assert(sizeof(GrubBootSector) == 0x68);

/// One run of sectors in diskboot.img's list, which grows downwards from the end of its sector.
struct GrubBlockRun {
    little_uint64_t start;  ///< sector on the boot disk; 0 with length 0 ends the list
    little_uint16_t sectors;
    little_uint16_t segment;  ///< where it is loaded, in paragraphs
};
BOOST_DESCRIBE_STRUCT(GrubBlockRun, (), (start, sectors, segment))
static_assert(sizeof(GrubBlockRun) == 12);

/// The start of the core image proper, behind diskboot.img.
struct GrubCoreHeader {
    Bytes<5> jump;  ///< far jump to the start-up code
    Bytes<3> pad;
    little_uint32_t compressed_size;
    little_uint32_t uncompressed_size;
    little_uint32_t redundancy;   ///< bytes of Reed-Solomon data behind the compressed part
    little_uint16_t unprotected;  ///< bytes from here on that the Reed-Solomon data does not cover
    little_uint16_t pad2;
    Bytes<3> boot_partition;
    std::uint8_t boot_drive;
};
BOOST_DESCRIBE_STRUCT(GrubCoreHeader, (),
                      (jump, pad, compressed_size, uncompressed_size, redundancy, unprotected, pad2, boot_partition,
                       boot_drive))
static_assert(sizeof(GrubCoreHeader) == 0x1C);

/// "mimg": the list of embedded modules behind the kernel.
struct GrubModuleInfo {
    little_uint32_t magic;  ///< 0x676D696D
    little_uint32_t offset;
    little_uint32_t size;
};
BOOST_DESCRIBE_STRUCT(GrubModuleInfo, (), (magic, offset, size))
static_assert(sizeof(GrubModuleInfo) == 12);

struct GrubModuleHeader {
    little_uint32_t type;  ///< 0 ELF module, 1 memory disk, 2 configuration, 3 prefix …
    little_uint32_t size;  ///< this header included
};
BOOST_DESCRIBE_STRUCT(GrubModuleHeader, (), (type, size))
static_assert(sizeof(GrubModuleHeader) == 8);

/// The head of that list in 64-bit images.
struct GrubModuleInfo64 {
    little_uint32_t magic;
    little_uint32_t padding;
    little_uint64_t offset;
    little_uint64_t size;
};
BOOST_DESCRIBE_STRUCT(GrubModuleInfo64, (), (magic, padding, offset, size))
static_assert(sizeof(GrubModuleInfo64) == 24);

}  // namespace herberge::ondisk
