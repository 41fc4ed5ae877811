// SPDX-License-Identifier: MIT
// Contents packed in pieces, with a table of where each ends before them: what imaging files and files that NTFS keeps
// packed as a whole have in common.
#pragma once

#include <herberge/bytes.hpp>

namespace herberge {

struct Packing {
    std::uint32_t piece = 0;  ///< plain bytes
    bool lzx = false;         ///< else XPRESS
};

/// The `size` bytes that `packed` holds. A piece that would not become smaller is stored as it is.
Source packed_source(Source packed, std::uint64_t size, const Packing& packing, std::string place);

}  // namespace herberge
