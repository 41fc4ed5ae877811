// SPDX-License-Identifier: MIT
// Any sector of a disk, recognised and taken apart field by field.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include <herberge/fields.hpp>
#include <herberge/finding.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// A sector with what is known about it.
struct SectorView {
    std::string place;  ///< "d1@0+512"
    std::string kind;   ///< "MBR with GRUB 2 boot code"
    std::string next;   ///< what its code does next, where that is known
    std::vector<std::uint8_t> bytes;
    std::vector<Field> fields;          ///< empty when nothing is recognised
    std::vector<std::string> messages;  ///< printable text in it, which its code may show
    std::vector<Finding> findings;      ///< of a volume's boot sector: against its partition and its backup
};

/// The sector number `lba` (512 bytes) of a disk. Recognises what its place tells (the first sector, tables, boot
/// sectors and superblocks of volumes, a loader's parts, directories of FAT) and every described structure with a mark
/// at the sector's beginning. Errors: OutOfRange, and what reading reports.
[[nodiscard]] Result<SectorView> view_sector(const Disk& disk, std::uint64_t lba);

/// The same for a volume that layers make: an array, a logical or unlocked volume, which lies on no one disk.
[[nodiscard]] Result<SectorView> view_sector(const Volume& volume, std::uint64_t lba);

/// `count` structures of one kind from byte `offset` of `source` on, whatever lies there. Errors: TooLarge beyond 1 MiB
/// of them, and what reading reports.
[[nodiscard]] Result<SectorView> view_structure(const ByteSource& source, std::uint64_t offset,
                                                const StructureKind& kind, std::uint64_t count = 1);

/// What lies in a stretch that no partition covers: "GRUB 2's core image from sector 1", "zeros", "unknown bytes from
/// sector 40 on". Looks at the first and last 1 MiB of it.
[[nodiscard]] std::string describe_gap(const Disk& disk, const Stretch& gap);

/// A volume's boot sector: its parameter block against the partition and against the backup copy.
struct BootSectorCheck {
    Format format = Format::None;             ///< None: no parameter block
    std::string code;                         ///< "SYSLINUX", "code of no loader that is decoded", "empty"
    std::optional<std::uint64_t> backup_lba;  ///< from the disk's start, when there is a copy
    std::vector<Finding> findings;
};
[[nodiscard]] BootSectorCheck check_boot_sector(const Disk& disk, const Volume& volume);

}  // namespace herberge
