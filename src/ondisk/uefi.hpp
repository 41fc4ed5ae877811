// SPDX-License-Identifier: MIT
// What UEFI variables hold (UEFI specification 2.10: sections 3.1.3, 10.3, 32.4.1).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

struct DevicePathHead {
    std::uint8_t type;
    std::uint8_t subtype;
    little_uint16_t length;  ///< bytes, with this head
};
BOOST_DESCRIBE_STRUCT(DevicePathHead, (), (type, subtype, length))
static_assert(sizeof(DevicePathHead) == 4);

struct HardDriveNode {
    little_uint32_t partition;
    little_uint64_t first_lba;
    little_uint64_t sectors;
    Bytes<16> signature;
    std::uint8_t format;          ///< 1 MBR, 2 GPT
    std::uint8_t signature_type;  ///< 0 none, 1 MBR's disk signature, 2 GUID
};
BOOST_DESCRIBE_STRUCT(HardDriveNode, (), (partition, first_lba, sectors, signature, format, signature_type))
static_assert(sizeof(HardDriveNode) == 38);

struct OpticalNode {
    little_uint32_t entry;
    little_uint64_t first_lba;
    little_uint64_t sectors;
};
BOOST_DESCRIBE_STRUCT(OpticalNode, (), (entry, first_lba, sectors))
static_assert(sizeof(OpticalNode) == 20);

struct PciNode {
    std::uint8_t function;
    std::uint8_t device;
};
BOOST_DESCRIBE_STRUCT(PciNode, (), (function, device))

struct AcpiNode {
    little_uint32_t hid;
    little_uint32_t uid;
};
BOOST_DESCRIBE_STRUCT(AcpiNode, (), (hid, uid))

struct SataNode {
    little_uint16_t port;
    little_uint16_t multiplier_port;
    little_uint16_t lun;
};
BOOST_DESCRIBE_STRUCT(SataNode, (), (port, multiplier_port, lun))

struct ScsiNode {
    little_uint16_t target;
    little_uint16_t lun;
};
BOOST_DESCRIBE_STRUCT(ScsiNode, (), (target, lun))

struct UsbNode {
    std::uint8_t port;
    std::uint8_t interface;
};
BOOST_DESCRIBE_STRUCT(UsbNode, (), (port, interface))

struct NvmeNode {
    little_uint32_t name_space;
    Bytes<8> eui64;
};
BOOST_DESCRIBE_STRUCT(NvmeNode, (), (name_space, eui64))
static_assert(sizeof(NvmeNode) == 12);

struct LoadOptionHead {
    little_uint32_t attributes;
    little_uint16_t path_length;  ///< bytes of the device path
};
BOOST_DESCRIBE_STRUCT(LoadOptionHead, (), (attributes, path_length))
static_assert(sizeof(LoadOptionHead) == 6);

struct SignatureListHead {
    Bytes<16> type;
    little_uint32_t list_size;  ///< bytes, with this head
    little_uint32_t header_size;
    little_uint32_t signature_size;  ///< bytes of each signature, with its owner
};
BOOST_DESCRIBE_STRUCT(SignatureListHead, (), (type, list_size, header_size, signature_size))
static_assert(sizeof(SignatureListHead) == 28);

/// EFI_FAULT_TOLERANT_WORKING_BLOCK_HEADER (MdeModulePkg/Include/Guid/SystemNvDataGuid.h).
struct WorkingBlockHead {
    Bytes<16> signature;
    little_uint32_t crc;
    std::uint8_t state;  ///< flash: a bit that is 0 is set; bit 0 valid, bit 1 invalid
    Bytes<3> reserved;
    little_uint64_t queue_size;
};
BOOST_DESCRIBE_STRUCT(WorkingBlockHead, (), (signature, crc, state, reserved, queue_size))
static_assert(sizeof(WorkingBlockHead) == 32);

/// EFI_FAULT_TOLERANT_WRITE_HEADER, as 64-bit firmware lays it out.
struct PendingWriteHead {
    std::uint8_t state;  ///< bit 0 header there, bit 1 writes there, bit 2 complete; 0 is set
    Bytes<3> reserved;
    Bytes<16> caller;
    Bytes<4> padding;
    little_uint64_t writes;
    little_uint64_t private_size;
};
BOOST_DESCRIBE_STRUCT(PendingWriteHead, (), (state, reserved, caller, padding, writes, private_size))
static_assert(sizeof(PendingWriteHead) == 40);

/// EFI_FAULT_TOLERANT_WRITE_RECORD.
struct PendingWriteRecord {
    std::uint8_t state;  ///< bit 0 boot block, bit 1 spare copy complete, bit 2 destination complete; 0 is set
    Bytes<7> reserved;
    little_uint64_t block;
    little_uint64_t offset;
    little_uint64_t length;
    little_uint64_t relative;  ///< signed: from the spare area to the destination
};
BOOST_DESCRIBE_STRUCT(PendingWriteRecord, (), (state, reserved, block, offset, length, relative))
static_assert(sizeof(PendingWriteRecord) == 40);

/// EFI_FIRMWARE_VOLUME_HEADER (Platform Initialization specification, volume 3, section 3.2.1), without its map of
/// blocks.
struct FirmwareVolumeHead {
    Bytes<16> zero_vector;
    Bytes<16> file_system;
    little_uint64_t length;
    Bytes<4> mark;  ///< "_FVH"
    little_uint32_t attributes;
    little_uint16_t head_length;
    little_uint16_t checksum;
    little_uint16_t extended_head;
    std::uint8_t reserved;
    std::uint8_t revision;
};
BOOST_DESCRIBE_STRUCT(FirmwareVolumeHead, (),
                      (zero_vector, file_system, length, mark, attributes, head_length, checksum, extended_head,
                       reserved, revision))
static_assert(sizeof(FirmwareVolumeHead) == 56);

/// What tells the two kinds of variable store: their `signature`.
inline constexpr std::string_view authenticated_store = "aaf32c78-947b-439a-a180-2e144ec37792";
inline constexpr std::string_view plain_store = "ddcf3616-3275-4164-98b6-fe85707ffe7d";

/// VARIABLE_STORE_HEADER (MdeModulePkg/Include/Guid/VariableFormat.h).
struct VariableStoreHead {
    Bytes<16> signature;
    little_uint32_t size;  ///< bytes, with this head
    std::uint8_t format;   ///< 0x5A: formatted
    std::uint8_t state;    ///< 0xFE: healthy
    Bytes<6> reserved;
};
BOOST_DESCRIBE_STRUCT(VariableStoreHead, (), (signature, size, format, state, reserved))
static_assert(sizeof(VariableStoreHead) == 28);

/// VARIABLE_HEADER: name and data follow.
struct PlainVariableHead {
    little_uint16_t mark;  ///< 0x55AA
    std::uint8_t state;    ///< bits are cleared as it ages: 0x3F is there, 0x3E about to go
    std::uint8_t reserved;
    little_uint32_t attributes;
    little_uint32_t name_size;
    little_uint32_t data_size;
    Bytes<16> vendor;
};
BOOST_DESCRIBE_STRUCT(PlainVariableHead, (), (mark, state, reserved, attributes, name_size, data_size, vendor))
static_assert(sizeof(PlainVariableHead) == 32);

/// AUTHENTICATED_VARIABLE_HEADER.
struct VariableHead {
    little_uint16_t mark;  ///< 0x55AA
    std::uint8_t state;    ///< as in PlainVariableHead
    std::uint8_t reserved;
    little_uint32_t attributes;
    little_uint64_t count;
    Bytes<16> time;
    little_uint32_t key;
    little_uint32_t name_size;
    little_uint32_t data_size;
    Bytes<16> vendor;
};
BOOST_DESCRIBE_STRUCT(VariableHead, (),
                      (mark, state, reserved, attributes, count, time, key, name_size, data_size, vendor))
static_assert(sizeof(VariableHead) == 60);

/// EFI_TIME (UEFI 2.10, section 8.3).
struct EfiTime {
    little_uint16_t year;
    std::uint8_t month;
    std::uint8_t day;
    std::uint8_t hour;
    std::uint8_t minute;
    std::uint8_t second;
    std::uint8_t padding;
    little_uint32_t nanosecond;
    little_uint16_t zone;  ///< minutes; 0x7FF: none
    std::uint8_t daylight;
    std::uint8_t padding2;
};
BOOST_DESCRIBE_STRUCT(EfiTime, (),
                      (year, month, day, hour, minute, second, padding, nanosecond, zone, daylight, padding2))
static_assert(sizeof(EfiTime) == 16);

/// What shim's section .vendor_cert begins with; places count from the section's start.
struct ShimVendorTable {
    little_uint32_t allowed_size;
    little_uint32_t denied_size;
    little_uint32_t allowed_at;
    little_uint32_t denied_at;
};
BOOST_DESCRIBE_STRUCT(ShimVendorTable, (), (allowed_size, denied_size, allowed_at, denied_at))
static_assert(sizeof(ShimVendorTable) == 16);

/// What shim's section .sbatlevel begins with; places count from behind `version`.
struct SbatLevelHead {
    little_uint32_t version;  ///< 0
    little_uint32_t automatic_at;
    little_uint32_t latest_at;
};
BOOST_DESCRIBE_STRUCT(SbatLevelHead, (), (version, automatic_at, latest_at))
static_assert(sizeof(SbatLevelHead) == 12);

}  // namespace herberge::ondisk
