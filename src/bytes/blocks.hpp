// SPDX-License-Identifier: MIT
// Blocks that are packed one by one, as SquashFS and Btrfs keep them: no frame of their own, a known most.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include <herberge/error.hpp>

namespace herberge::bytes {

enum class BlockCodec : std::uint8_t { Zlib, Lzma, Lzo, Xz, Lz4, Zstd, Deflate };

/// What `packed` unpacks to. Errors: Malformed, also where it would be more than `most` bytes; no place in them.
[[nodiscard]] Result<std::vector<std::uint8_t>> unpack_block(BlockCodec codec, std::span<const std::uint8_t> packed,
                                                             std::size_t most);

}  // namespace herberge::bytes
