// SPDX-License-Identifier: MIT
// Records of NTFS taken apart and put together again: what its writers share.
#pragma once

#include <cstring>
#include <optional>
#include <string_view>
#include <vector>

#include "ondisk/ntfs.hpp"

namespace herberge::ntfs {

using Bytes = std::vector<std::uint8_t>;

/// Stands where an attribute's type would, behind the last one of a record.
inline constexpr std::uint32_t attributes_end = 0xFFFFFFFFU;

inline std::size_t padded(std::size_t size) { return (size + 7) / 8 * 8; }

template <class T>
void put(Bytes& bytes, std::size_t at, const T& value) {
    std::memcpy(bytes.data() + at, &value, sizeof(value));
}
template <class T>
void append(Bytes& bytes, const T& value) {
    const auto at = bytes.size();
    bytes.resize(at + sizeof(value));
    std::memcpy(bytes.data() + at, &value, sizeof(value));
}

/// Where an attribute of a record begins.
struct Place {
    std::size_t at = 0;
    ondisk::NtfsAttribute head{};
};
/// None: the record has no such attribute.
[[nodiscard]] std::optional<Place> find(const Bytes& record, std::uint32_t type, std::u16string_view name = {});

/// Puts `with` where `old` bytes stand from `at` on; false: the record has no room.
[[nodiscard]] bool splice(Bytes& record, std::size_t at, std::size_t old, const Bytes& with);

}  // namespace herberge::ntfs
