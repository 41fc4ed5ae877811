// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/bytes.hpp>

namespace herberge {

/// `base`, but a sector that was refused once is refused again: no two parts of an answer are about different bytes,
/// also where a medium gives at the second try what it did not give at the first. Sources that are damaged on purpose
/// stay as they are.
[[nodiscard]] Source steady(Source base);

}  // namespace herberge
