// SPDX-License-Identifier: MIT
// The GUID partition table (UEFI specification 2.10, sections 5.3.2 and 5.3.3).
#pragma once

#include "ondisk/describe.hpp"

namespace herberge::ondisk {

struct GptHeader {
    Bytes<8> signature;  ///< "EFI PART"
    little_uint32_t revision;
    little_uint32_t header_size;  ///< bytes that the header's checksum covers, at least 92
    little_uint32_t header_crc;
    little_uint32_t reserved;
    little_uint64_t my_lba;
    little_uint64_t alternate_lba;
    little_uint64_t first_usable_lba;
    little_uint64_t last_usable_lba;
    Bytes<16> disk_guid;
    little_uint64_t entries_lba;
    little_uint32_t entries;
    little_uint32_t entry_size;
    little_uint32_t entries_crc;
};
BOOST_DESCRIBE_STRUCT(GptHeader, (),
                      (signature, revision, header_size, header_crc, reserved, my_lba, alternate_lba, first_usable_lba,
                       last_usable_lba, disk_guid, entries_lba, entries, entry_size, entries_crc))
static_assert(sizeof(GptHeader) == 92);

struct GptEntry {
    Bytes<16> type;
    Bytes<16> id;
    little_uint64_t first_lba;
    little_uint64_t last_lba;  ///< inclusive
    little_uint64_t attributes;
    Bytes<72> name;  ///< UTF-16
};
BOOST_DESCRIBE_STRUCT(GptEntry, (), (type, id, first_lba, last_lba, attributes, name))
static_assert(sizeof(GptEntry) == 128);

}  // namespace herberge::ondisk
