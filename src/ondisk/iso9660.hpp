// SPDX-License-Identifier: MIT
// ISO 9660 (ECMA-119), the system use sharing protocol with Rock Ridge (IEEE P1281/P1282), El Torito 1.0.
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// A number stored twice: little-endian, then big-endian (ECMA-119, 7.3.3).
struct BothEndian32 {
    little_uint32_t little;
    big_uint32_t big;
};
BOOST_DESCRIBE_STRUCT(BothEndian32, (), (little, big))
static_assert(sizeof(BothEndian32) == 8);

/// ECMA-119, 9.1; the identifier of `name_length` bytes follows, a pad byte if that is even, then system use.
struct IsoDirectoryRecord {
    std::uint8_t length;
    std::uint8_t extended_attributes;  ///< blocks before the file's data
    BothEndian32 block;
    BothEndian32 size;
    Bytes<7> recorded;   ///< years since 1900, month, day, hour, minute, second, quarters of an hour from GMT
    std::uint8_t flags;  ///< 1 hidden, 2 directory, 80h: goes on in the next record
    Bytes<2> interleave;
    Bytes<4> volume_number;
    std::uint8_t name_length;
};
BOOST_DESCRIBE_STRUCT(IsoDirectoryRecord, (),
                      (length, extended_attributes, block, size, recorded, flags, interleave, volume_number,
                       name_length))
static_assert(sizeof(IsoDirectoryRecord) == 33);

/// Primary and supplementary volume descriptor, first fields (ECMA-119, 8.4 and 8.5).
struct IsoVolumeDescriptor {
    std::uint8_t type;  ///< 0 boot record, 1 primary, 2 supplementary, 255 the end
    Bytes<5> id;        ///< "CD001"
    std::uint8_t version;
    std::uint8_t flags;
    Bytes<32> system;
    Bytes<32> label;
    Bytes<8> unused;
    BothEndian32 blocks;
    Bytes<32> escapes;  ///< supplementary: "%/@", "%/C", "%/E" mark Joliet
    Bytes<8> volume_set;
    little_uint16_t block_size;
    big_uint16_t block_size_big;
    Bytes<24> path_tables;
    IsoDirectoryRecord root;
    Bytes<1> root_name;
};
BOOST_DESCRIBE_STRUCT(IsoVolumeDescriptor, (),
                      (type, id, version, flags, system, label, unused, blocks, escapes, volume_set, block_size,
                       block_size_big, path_tables, root, root_name))
static_assert(sizeof(IsoVolumeDescriptor) == 190);
static_assert(offsetof(IsoVolumeDescriptor, root) == 156);

/// El Torito 1.0, figure 7: in sector 17.
struct IsoBootRecord {
    std::uint8_t type;
    Bytes<5> id;
    std::uint8_t version;
    Bytes<32> system;  ///< "EL TORITO SPECIFICATION"
    Bytes<32> unused;
    little_uint32_t catalogue;  ///< sector of 2048 bytes
};
BOOST_DESCRIBE_STRUCT(IsoBootRecord, (), (type, id, version, system, unused, catalogue))
static_assert(offsetof(IsoBootRecord, catalogue) == 0x47);

/// El Torito 1.0, figure 2.
struct CatalogueValidation {
    std::uint8_t header;    ///< 1
    std::uint8_t platform;  ///< 0: x86, 0xEF: EFI
    little_uint16_t reserved;
    Bytes<24> id;
    little_uint16_t checksum;  ///< makes the sum of all words zero
    Bytes<2> key;              ///< 55 AA
};
BOOST_DESCRIBE_STRUCT(CatalogueValidation, (), (header, platform, reserved, id, checksum, key))
static_assert(sizeof(CatalogueValidation) == 32);

/// El Torito 1.0, figures 3 and 5.
struct CatalogueEntry {
    std::uint8_t bootable;  ///< 88h; 0: not bootable
    std::uint8_t media;     ///< low four bits: 0 no emulation, 1 to 3 a floppy, 4 a hard disk
    little_uint16_t segment;
    std::uint8_t system;
    std::uint8_t unused;
    little_uint16_t sectors;  ///< of 512 bytes
    little_uint32_t block;
    Bytes<20> selection;
};
BOOST_DESCRIBE_STRUCT(CatalogueEntry, (), (bootable, media, segment, system, unused, sectors, block, selection))
static_assert(sizeof(CatalogueEntry) == 32);

/// El Torito 1.0, figure 4.
struct CatalogueSection {
    std::uint8_t header;  ///< 90h: more follow, 91h: the last one
    std::uint8_t platform;
    little_uint16_t entries;
    Bytes<28> id;
};
BOOST_DESCRIBE_STRUCT(CatalogueSection, (), (header, platform, entries, id))
static_assert(sizeof(CatalogueSection) == 32);

/// At byte 8 of a boot image, where the maker of the disc wrote it.
struct BootInformation {
    little_uint32_t descriptor;  ///< block of the primary volume descriptor
    little_uint32_t file;        ///< block where the image begins
    little_uint32_t length;      ///< bytes
    little_uint32_t checksum;    ///< sum of all dwords from byte 64 on
};
BOOST_DESCRIBE_STRUCT(BootInformation, (), (descriptor, file, length, checksum))
static_assert(sizeof(BootInformation) == 16);

/// Code for media that start as disc and as disk: makers of discs put the pointer where it does not disturb the table.
struct HybridBootSector {
    Bytes<432> code;
    little_uint64_t image;  ///< sector
};
BOOST_DESCRIBE_STRUCT(HybridBootSector, (), (code, image))
static_assert(sizeof(HybridBootSector) == 440);

/// ISOLINUX's boot image.
struct IsolinuxBoot {
    Bytes<8> code;
    BootInformation information;
    Bytes<40> reserved;
    little_uint32_t disk_entry;  ///< 0x7078C0FB: it may be started from a disk, too
};
BOOST_DESCRIBE_STRUCT(IsolinuxBoot, (), (code, information, reserved, disk_entry))
static_assert(sizeof(IsolinuxBoot) == 68);

}  // namespace herberge::ondisk
