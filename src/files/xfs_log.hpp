// SPDX-License-Identifier: MIT
// Whether an XFS was unmounted cleanly (fs/xfs/xfs_log_recover.c: xlog_find_head, xlog_find_tail).
#pragma once

#include <herberge/bytes.hpp>

namespace herberge::xfs {

/// The log of `size` bytes at `offset` ends with the record of an unmount: nothing is to be replayed. Reads some 30
/// sectors, and up to 256 KiB behind the last record. Errors: the reader's, Malformed when no record is found.
[[nodiscard]] Result<bool> log_is_clean(const ByteSource& volume, std::uint64_t offset, std::uint64_t size);

}  // namespace herberge::xfs
