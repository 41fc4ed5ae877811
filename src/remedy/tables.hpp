// SPDX-License-Identifier: MIT
// Changes to partition tables.
#pragma once

#include <functional>
#include <span>

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

/// A volume that lies on a disk where no partition begins.
struct UnlistedVolume {
    std::uint64_t lba = 0;  ///< its first sector
    std::uint64_t sectors = 0;
    VolumeInfo info;
};
/// Those that begin in unassigned space, at a multiple of 1 MiB or of a track, or close to where a partition does.
/// Looks at 6000 places at most.
[[nodiscard]] std::vector<UnlistedVolume> find_unlisted(const Disk& disk);

}  // namespace herberge::remedy
