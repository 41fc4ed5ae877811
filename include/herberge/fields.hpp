// SPDX-License-Identifier: MIT
// Any described on-disk structure, field by field.
#pragma once

#include <cstdint>
#include <string>
#include <vector>

#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// One field of a structure as it lies on disk.
struct Field {
    std::string name;          ///< as in the structure's description; nested ones as "entries[0].first_lba"
    std::uint64_t offset = 0;  ///< bytes from the start of the annotated piece
    std::uint64_t size = 0;    ///< bytes
    std::string value;         ///< decoded: number in decimal and hex, text, or bytes
    std::string meaning;       ///< what the value stands for, where there is more to say
    std::vector<std::uint8_t> raw;
};

}  // namespace herberge
