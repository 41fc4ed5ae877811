// SPDX-License-Identifier: MIT
// Writes registry hives anew.
#pragma once

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/hive.hpp>

namespace herberge {

/// A key with all that is below it.
struct HiveTree {
    std::string name;
    std::vector<HiveValue> values;
    std::vector<HiveTree> keys;

    /// The key "Objects\…" below this one; made where it is not there. Names compare without case.
    HiveTree& at(std::string_view path);
    void set(HiveValue value);
    void set_text(std::string name, std::string_view text);
    void set_texts(std::string name, const std::vector<std::string>& texts);
    void set_number(std::string name, std::uint32_t number);
    void set_bytes(std::string name, std::vector<std::uint8_t> bytes);
};

/// Reads a whole hive. Errors: TooLarge beyond 20000 keys or 64 levels, and what reading gives.
[[nodiscard]] Result<HiveTree> read_hive_tree(const Hive& hive);

/// The file of a hive with this root: format 1.5, clean, one bin, every key for administrators and the system.
/// Errors: TooLarge (a value beyond 16344 bytes, more than 65535 keys in one, a name beyond 255 characters), Malformed
/// (a name that is not in the first 256 characters of Unicode).
[[nodiscard]] Result<std::vector<std::uint8_t>> write_hive(const HiveTree& root);

}  // namespace herberge
