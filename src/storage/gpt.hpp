// SPDX-License-Identifier: MIT
#pragma once

#include <optional>

#include <herberge/partition.hpp>

namespace herberge {

/// Reads both copies of a GUID partition table into `table` when there is one, or when the protective entry promises
/// one.
void read_gpt(const ByteSource& disk, PartitionTable& table);

/// The table as UEFI firmware takes it: sector 0 must have an entry of type EE that starts at sector 1 (its 55AA does
/// not matter), and one copy must pass its checksums. None: not a GPT for the firmware; `findings` says why.
std::optional<PartitionTable> read_gpt_as_uefi(const ByteSource& disk, std::vector<Finding>& findings);

/// The disk with its primary copy written anew from a good backup, as firmware does before it starts anything; null
/// when there is nothing to mend.
Source mend_gpt_primary(const Source& disk);

}  // namespace herberge
