// SPDX-License-Identifier: MIT
// From an instruction's bytes to what runs it (SDM volume 2, chapter 2 and appendix A).
#pragma once

#include "rehearsal/cpu/cpu.hpp"

namespace herberge::rehearsal {

struct Decoded {
    Operation operation;
    bool ends = false;         ///< what comes behind it is not always next
    bool unreachable = false;  ///< it reaches beyond the segment, or is too long
};
/// The instruction at `eip` of the code segment. One that has no meaning, is longer than 15 bytes or reaches beyond the
/// segment becomes an operation that raises its exception. `end` of the operation is left to the caller.
[[nodiscard]] Decoded decode(const Cpu& cpu, std::uint32_t eip);

}  // namespace herberge::rehearsal
