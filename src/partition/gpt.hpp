// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/partition.hpp>

namespace herberge {

/// Reads both copies of a GUID partition table into `table` when there is one, or when the protective entry promises one.
void read_gpt(const ByteSource& disk, PartitionTable& table);

}  // namespace herberge
