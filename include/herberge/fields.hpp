// SPDX-License-Identifier: MIT
// Any described on-disk structure, field by field.
#pragma once

#include <cstddef>
#include <cstdint>
#include <span>
#include <string>
#include <string_view>
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

/// One kind of on-disk structure, of which a description is kept: reading, annotation and output come from it.
struct StructureKind {
    std::string_view name;     ///< "gpt-entry"
    std::string_view meaning;  ///< "entry of a GUID partition table"
    std::size_t size = 0;      ///< bytes; what may follow is not counted
    std::size_t mark_at = 0;   ///< where its mark lies
    std::string_view mark;     ///< bytes by which it is known; empty: nothing in it tells
    /// The fields of the one that `bytes` begin with; `offset` is added to their places. None: too few bytes.
    std::vector<Field> (*fields)(std::span<const std::uint8_t> bytes, std::uint64_t offset) = nullptr;

    /// `bytes` begin with one, as its mark tells.
    [[nodiscard]] bool marks(std::span<const std::uint8_t> bytes) const;
};
/// All that are described.
[[nodiscard]] std::span<const StructureKind> structure_kinds();
/// Null: no such kind.
[[nodiscard]] const StructureKind* structure_kind(std::string_view name);

}  // namespace herberge
