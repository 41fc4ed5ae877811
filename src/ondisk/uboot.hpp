// SPDX-License-Identifier: MIT
// What boards start with: U-Boot's legacy image (include/image.h), the headers of boot ROMs, ARM kernels.
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// Big-endian; the content follows.
struct UbootLegacyImage {
    big_uint32_t magic;       ///< 27051956
    big_uint32_t header_crc;  ///< CRC-32 of these 64 bytes, with 0 here
    big_uint32_t time;        ///< seconds since 1970
    big_uint32_t size;        ///< bytes of content
    big_uint32_t load;
    big_uint32_t entry;
    big_uint32_t data_crc;
    std::uint8_t os;           ///< 5 Linux, 17 U-Boot
    std::uint8_t arch;         ///< 2 ARM, 22 ARM64, 26 RISC-V
    std::uint8_t type;         ///< 2 kernel, 3 RAM disk, 4 several, 5 firmware, 6 script, 8 device tree
    std::uint8_t compression;  ///< 0 none, 1 gzip, 2 bzip2, 3 lzma, 4 lzo, 5 lz4, 6 zstd
    Bytes<32> name;
};
BOOST_DESCRIBE_STRUCT(UbootLegacyImage, (),
                      (magic, header_crc, time, size, load, entry, data_crc, os, arch, type, compression, name))
static_assert(sizeof(UbootLegacyImage) == 64);

/// The start of a device tree blob ("Devicetree Specification" 0.4, 5.2), big-endian.
struct DeviceTreeHeader {
    big_uint32_t magic;  ///< d00dfeed
    big_uint32_t total_size;
    big_uint32_t structure_at;
    big_uint32_t strings_at;
    big_uint32_t reserved_at;
    big_uint32_t version;
    big_uint32_t last_compatible;
    big_uint32_t boot_cpu;
    big_uint32_t strings_size;
    big_uint32_t structure_size;
};
BOOST_DESCRIBE_STRUCT(DeviceTreeHeader, (),
                      (magic, total_size, structure_at, strings_at, reserved_at, version, last_compatible, boot_cpu,
                       strings_size, structure_size))
static_assert(sizeof(DeviceTreeHeader) == 40);

/// What the ROM of Allwinner's chips looks for (U-Boot's include/sunxi_image.h, "eGON.BT0").
struct EgonHeader {
    little_uint32_t branch;    ///< an instruction that jumps over the header
    Bytes<8> magic;            ///< "eGON.BT0"
    little_uint32_t checksum;  ///< sum of all words, with 5F0A6C39 here
    little_uint32_t length;    ///< bytes, a multiple of 512
    Bytes<4> signature;        ///< "SPL" and a version: what U-Boot's own tools add
    little_uint32_t fel_script;
    little_uint32_t uenv_length;
    little_uint32_t tree_name_at;  ///< from the header's start, where the default device tree's name lies; 0: none
    little_uint32_t dram_size;
    little_uint32_t boot_media;
    Bytes<52> rest;
};
BOOST_DESCRIBE_STRUCT(EgonHeader, (),
                      (branch, magic, checksum, length, signature, fel_script, uenv_length, tree_name_at, dram_size,
                       boot_media, rest))
static_assert(sizeof(EgonHeader) == 96);

/// An arm64 kernel (Linux Documentation/arch/arm64/booting.rst); RISC-V's differs in its mark ("RSC\5").
struct Arm64Image {
    Bytes<8> code;
    little_uint64_t text_offset;
    little_uint64_t image_size;  ///< bytes in memory; 0: an old kernel
    little_uint64_t flags;       ///< bit 0: big-endian; bits 1 and 2: page size; bit 3: anywhere in memory
    Bytes<24> reserved;
    Bytes<4> magic;         ///< "ARMd"
    little_uint32_t pe_at;  ///< 0: no EFI stub
};
BOOST_DESCRIBE_STRUCT(Arm64Image, (), (code, text_offset, image_size, flags, reserved, magic, pe_at))
static_assert(sizeof(Arm64Image) == 64);

/// The head of a zImage behind its first 36 bytes (arch/arm/boot/compressed/head.S).
struct ArmZimage {
    little_uint32_t magic;  ///< 016F2818
    little_uint32_t start;
    little_uint32_t end;         ///< less start: bytes of the image
    little_uint32_t endianness;  ///< 04030201
};
BOOST_DESCRIBE_STRUCT(ArmZimage, (), (magic, start, end, endianness))
static_assert(sizeof(ArmZimage) == 16);

}  // namespace herberge::ondisk
