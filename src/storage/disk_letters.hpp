// SPDX-License-Identifier: MIT
// Linux's letters of a disk: a to z, then aa (drivers/scsi/sd.c, sd_format_disk_name).
#pragma once

#include <algorithm>
#include <optional>
#include <string>
#include <string_view>

namespace herberge {

/// The letters of the disk of this number, from 1: "a", "z", "aa".
inline std::string disk_letters(int number) {
    std::string out;
    for (; number > 0; number = (number - 1) / 26) out += static_cast<char>('a' + (number - 1) % 26);
    std::ranges::reverse(out);
    return out;
}

/// The number of the disk with these letters, four at most; none: there are none, or others.
inline std::optional<int> disk_of_letters(std::string_view letters) {
    if (letters.empty() || letters.size() > 4) return std::nullopt;
    int out = 0;
    for (const char c : letters) {
        if (c < 'a' || c > 'z') return std::nullopt;
        out = out * 26 + (c - 'a' + 1);
    }
    return out;
}

}  // namespace herberge
