// SPDX-License-Identifier: MIT
// Any sector of a disk, recognised and taken apart field by field.
#pragma once

#include <string>
#include <vector>

#include <herberge/fields.hpp>
#include <herberge/volume.hpp>

namespace herberge {

/// A sector with what is known about it.
struct SectorView {
    std::string place;  ///< "d1@0+512"
    std::string kind;   ///< "MBR with GRUB 2 boot code"
    std::string next;   ///< what its code does next, where that is known
    std::vector<std::uint8_t> bytes;
    std::vector<Field> fields;          ///< empty when nothing is recognised
    std::vector<std::string> messages;  ///< printable text in it, which its code may show
};

/// The sector number `lba` (512 bytes) of a disk. Recognises MBR, GRUB's first sectors and core header, and
/// ext superblocks of the disk's volumes. Errors: OutOfRange, and what reading reports.
[[nodiscard]] Result<SectorView> view_sector(const Disk& disk, std::uint64_t lba);

}  // namespace herberge
