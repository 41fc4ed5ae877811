// SPDX-License-Identifier: MIT
// The journal of ext3 and ext4 as the kernel replays it before it mounts (fs/jbd2/recovery.c).
#pragma once

#include <optional>

#include <herberge/bytes.hpp>

namespace herberge::ext {

/// A volume as it is once its journal was replayed.
struct Replayed {
    Source volume;  ///< the one that was given, where there is nothing to replay
    /// Fast commits behind the last transaction, which are not replayed here.
    bool fast_commits = false;
    /// Why the kernel gives up on the journal, and does not mount: Checksum, Malformed, or the reader's.
    std::optional<Error> problem;
};

/// `journal` is the content of the journal's file, `block_size` that of the file system. Only whole transactions count;
/// nothing is written: the blocks are read from the journal where they are asked for. Costs the bytes of the log, and a
/// step for each of its blocks.
[[nodiscard]] Replayed replay_journal(const Source& volume, const Source& journal, std::uint32_t block_size);

}  // namespace herberge::ext
