// SPDX-License-Identifier: MIT
// Changes to partition tables.
#pragma once

#include <array>
#include <functional>
#include <span>
#include <string>
#include <vector>

#include <herberge/change.hpp>
#include <herberge/storage.hpp>

namespace herberge::remedy {

/// What an MBR entry says.
struct EntryValues {
    std::uint8_t status = 0;
    std::uint8_t type = 0x83;
    std::uint32_t first = 0;  ///< sectors; of a logical partition: from its own EBR
    std::uint32_t sectors = 0;
};
/// Writes the entry of 16 bytes at byte `at` of a disk; cylinders and heads as for 255 heads and 63 sectors.
/// `base`: what `first` is counted from.
Result<void> write_entry(Workshop& shop, int disk, std::uint64_t at, const EntryValues& values, std::uint64_t base = 0);

/// Changes the array of a GPT's entries in both copies, with their checksums. Errors: Unsupported (the primary copy is
/// not sound).
Result<void> rewrite_gpt(Workshop& shop, const Disk& disk,
                         const std::function<void(std::span<std::uint8_t> entries, std::size_t entry_size)>& change);
/// Makes one copy of a GPT from the other: the primary from a sound backup, or the reverse.
Result<void> restore_gpt(Workshop& shop, const Disk& disk, bool primary);

/// A type of GPT partition in the order in which it is stored.
using GptType = std::array<std::uint8_t, 16>;
inline constexpr GptType bios_boot_type = {0x48, 0x61, 0x68, 0x21, 0x49, 0x64, 0x6f, 0x6e,
                                           0x74, 0x4e, 0x65, 0x65, 0x64, 0x45, 0x46, 0x49};
/// What holds such a volume: UEFI's system partition for FAT, basic data for NTFS, Linux' data for all else.
[[nodiscard]] GptType gpt_type(const VolumeInfo& info);
/// Writes one entry of the array; its identifier is made from its place: the same entry twice is the same. Nothing
/// where the array has no such slot.
void put_gpt_entry(std::span<std::uint8_t> entries, std::size_t entry_size, std::size_t slot, const GptType& type,
                   std::uint64_t lba, std::uint64_t sectors);

struct NewPartition {
    GptType type;
    std::uint64_t lba = 0, sectors = 0;
};
/// Writes both copies of a GPT of 128 entries (UEFI 2.10, 5.3) with these partitions in its slots from `first_slot` on,
/// and the protective entry and the mark where sector 0 has none. Errors: OutOfRange (one lies in the table's own
/// sectors).
Result<void> create_gpt(Workshop& shop, const Disk& disk, std::span<const NewPartition> partitions,
                        std::size_t first_slot);

/// A volume that lies on a disk where no partition begins.
struct UnlistedVolume {
    std::uint64_t lba = 0;  ///< its first sector
    std::uint64_t sectors = 0;
    VolumeInfo info;
};
/// "ext4 “wurzel”"
[[nodiscard]] std::string volume_words(const UnlistedVolume& volume);
/// Those that begin in unassigned space, at a multiple of 1 MiB or of a track, or close to where a partition does.
/// Looks at 6000 places at most.
[[nodiscard]] std::vector<UnlistedVolume> find_unlisted(const Disk& disk);

}  // namespace herberge::remedy
