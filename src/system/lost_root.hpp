// SPDX-License-Identifier: MIT
// What a medium lacks of what is read on the way to the root volume, before its file system.
#pragma once

#include <optional>
#include <string>

#include <herberge/system.hpp>

namespace herberge {

struct RootLoss {
    Error error;       ///< the medium's
    std::string text;  ///< "the kernel does not see d1p2: …"
    bool certain;      ///< false: another program's way of looking may succeed
};

/// The kernel reads a partition table in pages of 4 KiB (block/partitions/core.c, read_part_sector), and does not get a
/// sector whose page has a lost one. `by_program`: a RAM disk's programs look for the root by its UUID or label; they
/// read the first 68 KiB of each volume, BusyBox in one piece (util-linux/volume_id), libblkid where a file system
/// could have its mark, and give up where that fails. None: nothing of it is lost.
[[nodiscard]] std::optional<RootLoss> root_loss(const Machine& machine, const RootReference& root, bool by_program);

}  // namespace herberge
