// SPDX-License-Identifier: MIT
// Structures that boot ROMs of boards look for. Sources stand at each.
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// Rockchip's ID block, enciphered by RC4 with a fixed key (U-Boot tools/rkcommon.c, struct header0_info).
struct RockchipHeader {
    little_uint32_t magic;  ///< 0FF0AA55
    Bytes<4> reserved;
    little_uint32_t plain;       ///< 1: the programs are not enciphered
    little_uint16_t program_at;  ///< in sectors from here
    Bytes<492> reserved1;
    little_uint16_t program_size;  ///< sectors that are put into the chip's memory
    little_uint16_t whole_size;    ///< sectors of both programs
    Bytes<2> reserved2;
};
BOOST_DESCRIBE_STRUCT(RockchipHeader, (),
                      (magic, reserved, plain, program_at, reserved1, program_size, whole_size, reserved2))
static_assert(sizeof(RockchipHeader) == 512);

/// One program of the newer ID block.
struct RockchipProgram {
    little_uint16_t at;    ///< in sectors from the header
    little_uint16_t size;  ///< in sectors
    little_uint32_t address, flags, counter;
    Bytes<8> reserved;
    Bytes<64> hash;  ///< SHA-256 of the program, where the header asks for it
};
BOOST_DESCRIBE_STRUCT(RockchipProgram, (), (at, size, address, flags, counter, reserved, hash))
static_assert(sizeof(RockchipProgram) == 88);

/// The newer ID block, plain (U-Boot tools/rkcommon.c, struct header0_info_v2).
struct RockchipHeader2 {
    Bytes<4> magic;  ///< "RKNS"
    Bytes<4> reserved;
    little_uint16_t size;  ///< of what the last hash covers, in words
    little_uint16_t programs;
    little_uint32_t flags;  ///< bits 0 to 3: 1 SHA-256
    Bytes<104> reserved1;
    Bytes<352> table;  ///< four of RockchipProgram
    Bytes<1064> reserved2;
    Bytes<512> hash;
};
BOOST_DESCRIBE_STRUCT(RockchipHeader2, (), (magic, reserved, size, programs, flags, reserved1, table, reserved2, hash))
static_assert(sizeof(RockchipHeader2) == 2048);

/// NXP's image vector table (i.MX 6 reference manual, 8.7.1; U-Boot include/imximage.h).
struct ImxVectorTable {
    std::uint8_t tag;  ///< D1
    big_uint16_t length;
    std::uint8_t version;   ///< 40 to 4F
    little_uint32_t entry;  ///< addresses in memory, as all that follow
    little_uint32_t reserved1, device_data, boot_data, self, signature, reserved2;
};
BOOST_DESCRIBE_STRUCT(ImxVectorTable, (),
                      (tag, length, version, entry, reserved1, device_data, boot_data, self, signature, reserved2))
static_assert(sizeof(ImxVectorTable) == 32);
struct ImxBootData {
    little_uint32_t start, length, plugin;
};
BOOST_DESCRIBE_STRUCT(ImxBootData, (), (start, length, plugin))
static_assert(sizeof(ImxBootData) == 12);

/// An item of the table that a raw image of TI's carries in its first sector (AM335x reference manual, 26.1.10;
/// U-Boot tools/omapimage.c).
struct TiTocItem {
    little_uint32_t at, size, flags, align, spare;
    Bytes<12> name;  ///< "CHSETTINGS"
};
BOOST_DESCRIBE_STRUCT(TiTocItem, (), (at, size, flags, align, spare, name))
static_assert(sizeof(TiTocItem) == 32);
struct TiImageHeader {
    little_uint32_t size, address;
};
BOOST_DESCRIBE_STRUCT(TiImageHeader, (), (size, address))
static_assert(sizeof(TiImageHeader) == 8);

/// STM32MP1's header (U-Boot tools/stm32image.c, struct stm32_header).
struct Stm32Header {
    Bytes<4> magic;  ///< "STM2"
    Bytes<64> signature;
    little_uint32_t checksum;  ///< sum of the program's bytes
    little_uint32_t version;   ///< 00010000
    little_uint32_t length;    ///< of the program
    little_uint32_t entry, reserved1, load, reserved2, image_version;
    little_uint32_t flags;  ///< bit 0: not signed
    Bytes<152> rest;
};
BOOST_DESCRIBE_STRUCT(Stm32Header, (),
                      (magic, signature, checksum, version, length, entry, reserved1, load, reserved2, image_version,
                       flags, rest))
static_assert(sizeof(Stm32Header) == 256);

/// The part of Zynq's boot header that its ROM judges, from byte 32 on (Zynq-7000 reference manual, 6.3.2; U-Boot
/// tools/zynqimage.c).
struct ZynqHeader {
    little_uint32_t width;       ///< AA995566
    Bytes<4> identity;           ///< "XNLX" as bytes
    little_uint32_t encryption;  ///< 0: none
    little_uint32_t user;
    little_uint32_t program_at, program_size;
    little_uint32_t load, entry, whole_size, reserved;
    little_uint32_t checksum;  ///< all bits of the sum of the words before it turned
};
BOOST_DESCRIBE_STRUCT(ZynqHeader, (),
                      (width, identity, encryption, user, program_at, program_size, load, entry, whole_size, reserved,
                       checksum))
static_assert(sizeof(ZynqHeader) == 44);

/// StarFive JH7110's header before its first program (U-Boot tools/sfspl.c).
struct StarfiveHeader {
    little_uint32_t self_at, copy_at;
    Bytes<636> zero;
    little_uint32_t version;  ///< 01010101
    little_uint32_t size;
    little_uint32_t program_at;  ///< 400
    little_uint32_t checksum;    ///< CRC-32 of the program
};
BOOST_DESCRIBE_STRUCT(StarfiveHeader, (), (self_at, copy_at, zero, version, size, program_at, checksum))
static_assert(sizeof(StarfiveHeader) == 660);

}  // namespace herberge::ondisk
