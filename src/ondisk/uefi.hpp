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

}  // namespace herberge::ondisk
