// SPDX-License-Identifier: MIT
// From the ways through a machine to its verdict.
#pragma once

#include "walk/routes.hpp"

namespace herberge::walk {

/// A verdict for every installed system, and for what an entry names and nothing here shows any more.
[[nodiscard]] Verdict judge_all(const Machine& machine, const Routes& routes);

}  // namespace herberge::walk
