// SPDX-License-Identifier: MIT
// U-Boot's environment: names and values, stored with a checksum, or built into the program (env/common.c,
// include/env_internal.h).
#pragma once

#include <map>
#include <optional>
#include <string>

#include <herberge/bytes.hpp>

namespace herberge::loader::uboot {

using Variables = std::map<std::string, std::string, std::less<>>;

/// "name=value" with a zero, or another separator, behind each, up to an empty one (lib/hashtable.c, himport_r). What
/// has no
/// "=" is left out.
[[nodiscard]] Variables parse_variables(std::span<const std::uint8_t> bytes, char separator = '\0');

/// An environment as it is stored: a CRC-32 over what follows, perhaps a byte that tells which of two copies is newer.
struct StoredVariables {
    std::uint64_t at = 0;    ///< bytes from the source's start
    std::uint64_t size = 0;  ///< with checksum
    bool sound = false;      ///< its checksum holds
    std::optional<std::uint8_t> flag;
    Variables variables;
};
/// The whole source as one environment, with or without the byte; none: too short.
[[nodiscard]] std::optional<StoredVariables> read_stored(const ByteSource& source);
/// Looks for environments in a dump of at most 256 MiB, at multiples of 4 KiB; of two copies that are sound the newer
/// one. One that fails its checksum is returned only when there is no other. None: nothing looks like one.
[[nodiscard]] std::optional<StoredVariables> find_stored(const ByteSource& dump);
/// Of two copies with flags, both sound: 1 is in use and 0 is not; else they count, and go on with 0 behind 255.
[[nodiscard]] bool newer(const StoredVariables& a, const StoredVariables& b);
/// The environment that a U-Boot of `length` bytes at `at` carries in itself; empty: none was found.
[[nodiscard]] Variables find_built_in(const ByteSource& source, std::uint64_t at, std::uint64_t length);

}  // namespace herberge::loader::uboot
