// SPDX-License-Identifier: MIT
// Changes to values of a registry hive, in the cells that they have.
#pragma once

#include <span>
#include <string>
#include <string_view>

#include <herberge/change.hpp>
#include <herberge/hive.hpp>
#include <herberge/places.hpp>

namespace herberge::remedy {

/// The hive in this file, opened without its logs: it must be clean, or its logs would be laid over the change. Errors:
/// Unsupported, and those of reading.
Result<std::shared_ptr<const Hive>> open_clean(const Machine& machine, const FilePlace& file);

/// Another content for a value. Errors: NotFound, TooLarge (its cell has no room), Unsupported (see open_clean).
Result<void> set_value(Workshop& shop, const FilePlace& file, std::string_view key, std::string_view name,
                       std::span<const std::uint8_t> content);
Result<void> set_number(Workshop& shop, const FilePlace& file, std::string_view key, std::string_view name,
                        std::uint32_t number);
/// A text, with its ending zero, in UTF-16.
Result<void> set_text(Workshop& shop, const FilePlace& file, std::string_view key, std::string_view name,
                      std::string_view text);
/// Another name of the same length for a value. Errors: as above; Malformed (another length).
Result<void> rename_value(Workshop& shop, const FilePlace& file, std::string_view key, std::string_view name,
                          std::string_view to);

}  // namespace herberge::remedy
