// SPDX-License-Identifier: MIT
// Android's images and slots, little-endian (Android's "Boot image header" and "Vendor boot partitions"; U-Boot's
// include/android_image.h, include/android_bootloader_message.h).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// Versions 0 to 2. Kernel, RAM disk and second part follow, each from a page of its own on.
struct AndroidBootHead {
    Bytes<8> magic;  ///< "ANDROID!"
    little_uint32_t kernel_size;
    little_uint32_t kernel_load;
    little_uint32_t ramdisk_size;
    little_uint32_t ramdisk_load;
    little_uint32_t second_size;
    little_uint32_t second_load;
    little_uint32_t tags_load;
    little_uint32_t page_size;
    little_uint32_t header_version;
    little_uint32_t os_version;
    Bytes<16> name;
    Bytes<512> arguments;
    Bytes<32> id;
    Bytes<1024> more_arguments;
};
BOOST_DESCRIBE_STRUCT(AndroidBootHead, (),
                      (magic, kernel_size, kernel_load, ramdisk_size, ramdisk_load, second_size, second_load, tags_load,
                       page_size, header_version, os_version, name, arguments, id, more_arguments))
static_assert(sizeof(AndroidBootHead) == 1632);

/// The same with what versions 1 and 2 have behind it.
struct AndroidBootHead2 {
    AndroidBootHead head;
    little_uint32_t recovery_tree_size;
    little_uint64_t recovery_tree_at;
    little_uint32_t header_size;
    little_uint32_t tree_size;  ///< version 2
    little_uint64_t tree_load;
};
static_assert(sizeof(AndroidBootHead2) == 1660);

/// Versions 3 and 4; pages have 4 KiB.
struct AndroidBootHead3 {
    Bytes<8> magic;  ///< "ANDROID!"
    little_uint32_t kernel_size;
    little_uint32_t ramdisk_size;
    little_uint32_t os_version;
    little_uint32_t header_size;
    Bytes<16> reserved;
    little_uint32_t header_version;
    Bytes<1536> arguments;
};
BOOST_DESCRIBE_STRUCT(AndroidBootHead3, (),
                      (magic, kernel_size, ramdisk_size, os_version, header_size, reserved, header_version, arguments))
static_assert(sizeof(AndroidBootHead3) == 1580);

/// What belongs to the board, in an image of its own.
struct AndroidVendorHead {
    Bytes<8> magic;  ///< "VNDRBOOT"
    little_uint32_t header_version;
    little_uint32_t page_size;
    little_uint32_t kernel_load;
    little_uint32_t ramdisk_load;
    little_uint32_t ramdisk_size;
    Bytes<2048> arguments;
    little_uint32_t tags_load;
    Bytes<16> name;
    little_uint32_t header_size;
    little_uint32_t tree_size;
    little_uint64_t tree_load;
};
BOOST_DESCRIBE_STRUCT(AndroidVendorHead, (),
                      (magic, header_version, page_size, kernel_load, ramdisk_load, ramdisk_size, arguments, tags_load,
                       name, header_size, tree_size, tree_load))
static_assert(sizeof(AndroidVendorHead) == 2112);

/// Which of several copies of a system is started, 2 KiB behind the beginning of the partition "misc".
struct AndroidSlots {
    Bytes<4> suffix;
    little_uint32_t magic;  ///< 42414342
    std::uint8_t version;
    std::uint8_t counts;  ///< bits 0 to 2: how many slots; 3 to 5: tries of the recovery system
    Bytes<2> reserved;
    std::array<little_uint16_t, 4> slots;  ///< bits 0 to 3: priority; 4 to 6: tries left; 7: good; 8: spoilt
    Bytes<8> more;
    little_uint32_t crc;  ///< CRC-32 of the 28 bytes before
};
BOOST_DESCRIBE_STRUCT(AndroidSlots, (), (suffix, magic, version, counts, reserved, slots, more, crc))
static_assert(sizeof(AndroidSlots) == 32);

}  // namespace herberge::ondisk
