// SPDX-License-Identifier: MIT
// Partition tables.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/fields.hpp>
#include <herberge/finding.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

enum class TableKind : std::uint8_t { None, Mbr, Gpt };

/// Cylinder, head, sector as stored in an MBR entry. Sector counts from 1.
struct ChsAddress {
    unsigned cylinder = 0;
    unsigned head = 0;
    unsigned sector = 0;
    [[nodiscard]] std::string text() const;
};

struct Partition {
    int number = 0;  ///< as the Linux kernel counts: 1 to 4 for primary entries
    int slot = 0;    ///< place in its table, from 0
    std::uint64_t first_lba = 0;
    std::uint64_t sectors = 0;
    std::uint8_t type = 0;    ///< MBR type byte
    std::uint8_t status = 0;  ///< MBR status byte as stored
    bool active = false;      ///< status 0x80
    ChsAddress chs_first;
    ChsAddress chs_last;
    std::string partuuid;          ///< "a1a10f01-01" for MBR disks, the entry's GUID for GPT disks
    std::string type_guid;         ///< GPT; empty for MBR
    std::string name;              ///< GPT: the partition's label
    std::uint64_t attributes = 0;  ///< GPT

    std::uint64_t entry_offset = 0;  ///< bytes from the disk's start to the table entry that describes it
    bool logical = false;            ///< inside an extended partition

    /// An MBR entry that only holds others (types 05, 0F, 85).
    [[nodiscard]] bool extended() const { return type_guid.empty() && (type == 0x05 || type == 0x0F || type == 0x85); }
    [[nodiscard]] std::string type_name() const;
};

/// What sector 0 (and later the structures it names) says about the disk's layout.
struct PartitionTable {
    TableKind kind = TableKind::None;
    unsigned sector_size = 512;
    bool boot_signature = false;  ///< 55AA at byte 510
    bool protective = false;      ///< an 0xEE entry is present
    bool odd_status = false;      ///< one of the four status bytes is neither 00 nor 80
    /// A GPT's copies: whether each is marked as one, and whether header and array are sound.
    bool primary_marked = false, primary_sound = false, backup_sound = false;
    /// GPT: partitions that the primary array does not have where the table says, so that who checks no sum does not
    /// find them there: the backup is what the table tells then.
    std::vector<int> not_in_primary;
    bool protective_at_one = false;  ///< a protective entry starts at sector 1
    std::string disk_guid;           ///< GPT
    std::uint32_t disk_signature = 0;
    std::vector<Partition> partitions;  ///< used entries in ascending number
    std::vector<Finding> findings;

    [[nodiscard]] const Partition* find(int number) const;
    [[nodiscard]] const Partition* first_active() const;
    [[nodiscard]] std::size_t active_count() const;
};

/// A stretch of the disk for drawings: a partition, the first sector, or unassigned space.
struct Stretch {
    std::uint64_t first_lba = 0;
    std::uint64_t sectors = 0;
    int partition = 0;  ///< number, or 0 for a gap
};

/// Reads sector 0. Only a failing read is an Error; a sector without a table gives TableKind::None with findings.
[[nodiscard]] Result<PartitionTable> read_partition_table(const ByteSource& disk);

/// The disk from its first to its last sector, in order, gaps included.
[[nodiscard]] std::vector<Stretch> stretches(const PartitionTable& table, std::uint64_t disk_size);

/// The fields of an MBR sector with their meaning, for `sector`.
[[nodiscard]] Result<std::vector<Field>> annotate_mbr(const ByteSource& disk);

/// "EFI system", "Linux data" … by a GPT type GUID in lower case.
[[nodiscard]] std::string_view gpt_type_name(std::string_view guid);

/// The conventional name of an MBR type byte: "Linux", "NTFS/exFAT/HPFS" …
[[nodiscard]] std::string_view mbr_type_name(std::uint8_t type);

}  // namespace herberge
