// SPDX-License-Identifier: MIT
// Small records of Windows: shell links ([MS-SHLLINK]), devices of the boot store, mounted devices.
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

/// ShellLinkHeader ([MS-SHLLINK] 2.1).
struct ShellLink {
    little_uint32_t head_size;  ///< 0x4C
    Bytes<16> class_id;
    little_uint32_t flags;  ///< bit 0: a list of shell items follows, bit 1: ShellLinkInfo follows
    little_uint32_t attributes;
    little_uint64_t created;
    little_uint64_t accessed;
    little_uint64_t written;
    little_uint32_t file_size;
    little_uint32_t icon;
    little_uint32_t show;
    little_uint16_t key;
    Bytes<10> reserved;
};
BOOST_DESCRIBE_STRUCT(ShellLink, (),
                      (head_size, class_id, flags, attributes, created, accessed, written, file_size, icon, show, key,
                       reserved))
static_assert(sizeof(ShellLink) == 76);

/// LinkInfo ([MS-SHLLINK] 2.3); places count from its start.
struct ShellLinkInfo {
    little_uint32_t size;
    little_uint32_t head_size;
    little_uint32_t flags;  ///< bit 0: a local path
    little_uint32_t volume_at;
    little_uint32_t path_at;
    little_uint32_t network_at;
    little_uint32_t suffix_at;
};
BOOST_DESCRIBE_STRUCT(ShellLinkInfo, (), (size, head_size, flags, volume_at, path_at, network_at, suffix_at))
static_assert(sizeof(ShellLinkInfo) == 28);

/// A device in a boot store.
struct StoreDevice {
    Bytes<16> options;
    little_uint32_t type;  ///< 0 local: a RAM disk or a file; 5 boot, 6 partition, 8 locate
    little_uint32_t flags;
    little_uint32_t size;
    little_uint32_t reserved;
};
BOOST_DESCRIBE_STRUCT(StoreDevice, (), (options, type, flags, size, reserved))
static_assert(sizeof(StoreDevice) == 32);

/// Behind it for a partition of a disk with an MBR.
struct StoreMbrPartition {
    little_uint64_t offset;  ///< bytes
    Bytes<8> reserved;
    little_uint32_t disk_kind;
    little_uint32_t style;  ///< 1
    little_uint32_t signature;
    Bytes<12> reserved2;
};
BOOST_DESCRIBE_STRUCT(StoreMbrPartition, (), (offset, reserved, disk_kind, style, signature, reserved2))
static_assert(sizeof(StoreMbrPartition) == 40);

/// The same for a GPT.
struct StoreGptPartition {
    Bytes<16> partition;
    little_uint32_t disk_kind;
    little_uint32_t style;  ///< 0
    Bytes<16> disk;
};
BOOST_DESCRIBE_STRUCT(StoreGptPartition, (), (partition, disk_kind, style, disk))
static_assert(sizeof(StoreGptPartition) == 40);

/// A value of MountedDevices for a partition of a disk with an MBR.
struct MountedPartition {
    little_uint32_t signature;
    little_uint64_t offset;  ///< bytes
};
BOOST_DESCRIBE_STRUCT(MountedPartition, (), (signature, offset))
static_assert(sizeof(MountedPartition) == 12);

/// What bootstat.dat begins with.
struct BootStatus {
    little_uint32_t version;
    little_uint32_t product;
    std::uint8_t menu_after_failure;
    std::uint8_t menu_seconds;
    std::uint8_t succeeded;  ///< the last start
    std::uint8_t shut_down;  ///< and it was ended regularly
};
BOOST_DESCRIBE_STRUCT(BootStatus, (), (version, product, menu_after_failure, menu_seconds, succeeded, shut_down))
static_assert(sizeof(BootStatus) == 12);

}  // namespace herberge::ondisk
