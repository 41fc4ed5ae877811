// SPDX-License-Identifier: MIT
// Decoders for single blocks of three formats for which no library with a permissive licence is packaged. None reads
// outside `packed` or writes outside `into`.
#pragma once

#include <cstddef>
#include <cstdint>
#include <optional>
#include <span>

namespace herberge::bytes {

/// One LZO1X block, as lzop files and SquashFS hold it; the stream is described in Linux'
/// Documentation/staging/lzo.rst. The number of bytes made; none: it is damaged, does not end with `packed`, or does
/// not fit in `into`. What matches repeat lies in `into` itself.
[[nodiscard]] std::optional<std::size_t> decode_lzo1x(std::span<const std::uint8_t> packed,
                                                      std::span<std::uint8_t> into);

/// One chunk of LZ77+Huffman ([MS-XCA] 2.2), of at most 64 KiB: a table of code lengths, and the codes. False: it is
/// damaged, or does not fill `into`.
[[nodiscard]] bool decode_xpress(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into);

/// One chunk of LZX with a window of 32 KiB, which each chunk begins anew: the format of [MS-PATCH], with the block
/// sizes and the translation of calls that WIM files and packed files on NTFS have. `into` is at most 32 KiB. False:
/// it is damaged, or does not fill `into`.
[[nodiscard]] bool decode_lzx(std::span<const std::uint8_t> packed, std::span<std::uint8_t> into);

}  // namespace herberge::bytes
