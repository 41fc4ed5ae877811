// SPDX-License-Identifier: MIT
// A flash image's variables, changed.
#pragma once

#include <cstdint>
#include <span>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/uefi.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// The image with these variables set, as firmware sets them (MdeModulePkg/Universal/Variable): the old record is
/// marked as deleted, a new one follows the last. One without data is deleted. Not for variables that are signed (PK,
/// KEK, db, dbx). Errors: Malformed (no variable store), Unsupported (firmware has begun to rewrite the store),
/// TooLarge (no room behind the last record).
[[nodiscard]] Result<std::vector<std::uint8_t>> with_variables(std::span<const std::uint8_t> flash,
                                                               std::span<const UefiVariable> changes);

}  // namespace herberge
