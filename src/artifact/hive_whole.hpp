// SPDX-License-Identifier: MIT
#pragma once

#include <optional>

#include <herberge/bytes.hpp>

namespace herberge {

/// What the medium does not give of a hive, for those that load it as a whole (the boot manager its store, the loader
/// SYSTEM): one such sector, and they have nothing. None: it gives all.
[[nodiscard]] std::optional<Error> lost_of_hive(const ByteSource& file);

}  // namespace herberge
