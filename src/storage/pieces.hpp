// SPDX-License-Identifier: MIT
// Sources that layers put together.
#pragma once

#include <herberge/bytes.hpp>

namespace herberge {

/// `size` bytes in chunks of `chunk` bytes that go round over `parts`: the first chunk of each, the second of each, and
/// so on. `parts` is not empty, `chunk` is not 0.
[[nodiscard]] Source striped_source(std::vector<Source> parts, std::uint64_t chunk, std::uint64_t size,
                                    std::string place);

/// `source` under another name.
[[nodiscard]] Source renamed(Source source, std::string place);

/// `size` zeros that lie on no disk.
[[nodiscard]] Source zero_source(std::uint64_t size, std::string place);

}  // namespace herberge
