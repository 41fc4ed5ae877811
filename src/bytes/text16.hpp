// SPDX-License-Identifier: MIT
// UTF-16 names as FAT, NTFS, Joliet and registry hives store them.
#pragma once

#include <cstdint>
#include <span>
#include <string>
#include <string_view>

namespace herberge {

/// UTF-8 from UTF-16 units; a lone surrogate becomes U+FFFD.
std::string utf8_from(std::u16string_view text);
/// The units stored in little-endian (or big-endian) byte order, up to the first zero unit when `stop_at_zero`.
std::u16string units_from(std::span<const std::uint8_t> bytes, bool big_endian = false, bool stop_at_zero = false);
/// UTF-16 from UTF-8; malformed bytes become U+FFFD.
std::u16string utf16_from(std::string_view text);
/// Comparison of names without case: ASCII and Latin-1 letters, Greek and Cyrillic.
bool same_name(std::string_view a, std::string_view b);
char16_t simple_upper(char16_t c);

}  // namespace herberge
