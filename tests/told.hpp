// SPDX-License-Identifier: MIT
// What is said of a machine, as text that is kept beside the tests: a change to any of it is seen.
#pragma once

#include <string>

#include <herberge/herberge.hpp>

namespace support {

/// The whole verdict with its evidence, the findings, a short rehearsal of a BIOS's code, what would mend it, and where
/// it differs from the sound machine (null: it is not compared).
std::string told(const herberge::Machine& machine, const herberge::CheckOptions& options,
                 const herberge::Machine* sound = nullptr);
/// A line for each system, the state of each stage, all of the one where it stops, the findings, and what would mend
/// it.
std::string told_briefly(const herberge::Machine& machine, const herberge::CheckOptions& options = {});

/// Compares with what is kept in tests/stories/ for this test and its parameter, line by line; HERBERGE_WRITE_VIEWS=1
/// writes that file anew: read what changed.
void expect_as_kept(const std::string& now);

}  // namespace support
