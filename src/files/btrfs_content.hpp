// SPDX-License-Identifier: MIT
// What a file of a Btrfs holds: pieces in extents, packed or not, and in the trees themselves.
#pragma once

#include <memory>
#include <string>
#include <vector>

#include "files/btrfs_trees.hpp"

namespace herberge::btrfs {

/// A piece of a file.
struct Piece {
    std::uint64_t offset = 0;  ///< of the file
    std::uint64_t length = 0;
    ondisk::BtrfsExtent told{};
    std::vector<std::uint8_t> here;  ///< content that the tree keeps itself
};

/// The content of a file of `size` bytes from its pieces, which are in ascending order; what none of them has is zeros.
/// `sector`: the file system's, which LZO is framed by.
[[nodiscard]] Source content_of(std::shared_ptr<const Trees> trees, std::vector<Piece> pieces, std::uint64_t size,
                                std::size_t sector, std::string place);

}  // namespace herberge::btrfs
