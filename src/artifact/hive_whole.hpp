// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/bytes.hpp>

namespace herberge {

/// Reads all of a hive, as those do that load it as a whole (the boot manager its store, the loader SYSTEM): one sector
/// that the medium does not give, and they have nothing. Error: that of the read.
[[nodiscard]] Result<void> read_hive_throughout(const ByteSource& file);

}  // namespace herberge
