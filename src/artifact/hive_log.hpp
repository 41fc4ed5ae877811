// SPDX-License-Identifier: MIT
// Transaction logs of registry hives.
#pragma once

#include <vector>

#include <herberge/bytes.hpp>

#include "ondisk/hive.hpp"

namespace herberge::hive {

bool checksum_holds(const ondisk::HiveBase& base);

/// Marvin32 with the seed that logs use.
std::uint64_t marvin32(std::span<const std::uint8_t> bytes);

struct Replayed {
    Source source;  ///< the hive with the log's pages laid over it
    ondisk::HiveBase base{};
    std::size_t pages = 0;
};

/// Applies what fits of the logs: entries with hashes in sequence (newer kind), or a dirty vector (older kind).
/// Error NotFound when none fits.
Result<Replayed> replay(const Source& file, const ondisk::HiveBase& base, bool head_good,
                        const std::vector<Source>& logs);

}  // namespace herberge::hive
