// SPDX-License-Identifier: MIT
#pragma once

#include <cstdint>
#include <string>

#include <herberge/bytes.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// The SHA-256 of a source's first `most` bytes, as 64 hexadecimal digits; reads 1 MiB at a time. Empty: one of them
/// cannot be read.
[[nodiscard]] std::string sha256_of(const ByteSource& source, std::uint64_t most = ~std::uint64_t{0});

}  // namespace herberge
