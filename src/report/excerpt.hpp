// SPDX-License-Identifier: MIT
// What evidence points to, read again: bytes of a disk, lines of a file.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include <herberge/finding.hpp>
#include <herberge/storage.hpp>

namespace herberge::report {

struct ExcerptLine {
    std::string head;   ///< an offset, a line's number
    std::string text;   ///< printable
    bool meant = true;  ///< false: it stands around what is meant
};
struct Excerpt {
    std::vector<ExcerptLine> lines;
    std::string more;  ///< what was left out, for people; empty: nothing
};

/// Up to 96 bytes, 16 on a line with their letters; or the line that is meant with two around it. None: the evidence
/// names neither, or it cannot be read.
[[nodiscard]] std::optional<Excerpt> excerpt(const Machine& machine, const Evidence& evidence);

}  // namespace herberge::report
