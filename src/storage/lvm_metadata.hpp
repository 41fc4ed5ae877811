// SPDX-License-Identifier: MIT
// What a physical volume of LVM 2 says about its group: labels, metadata areas, and the text in them.
#pragma once

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include <herberge/storage.hpp>

namespace herberge::lvm {

/// A value or section of the text.
struct Item {
    std::string name;
    // No std::variant: where memory ends while libstdc++ 12 copies one, its destructor takes a wrong way.
    enum class Kind : std::uint8_t { Number, Text, List } kind = Kind::Number;
    std::int64_t whole = 0;   ///< Kind::Number
    std::string written;      ///< Kind::Text
    std::vector<Item> parts;  ///< Kind::List: a list or a section
    [[nodiscard]] bool section() const { return kind == Kind::List; }
    /// Null: it is of another kind.
    [[nodiscard]] const std::int64_t* as_number() const { return kind == Kind::Number ? &whole : nullptr; }
    [[nodiscard]] const std::string* as_text() const { return kind == Kind::Text ? &written : nullptr; }
    [[nodiscard]] const std::vector<Item>& items() const;  ///< of a list or section; else empty
    [[nodiscard]] const Item* find(std::string_view name) const;
    [[nodiscard]] std::int64_t number(std::string_view name, std::int64_t otherwise = 0) const;
    [[nodiscard]] std::string text(std::string_view name) const;
    /// A list of words (`status`) has this one.
    [[nodiscard]] bool has_word(std::string_view list, std::string_view word) const;
};

/// Reads the text of a metadata area: sections, numbers, strings, lists, comments from # to the line's end. Errors:
/// Malformed with the byte, TooLarge beyond 200,000 items or 32 sections inside each other.
[[nodiscard]] Result<Item> parse(std::string_view text, const std::string& place);

/// A copy of a group's description.
struct Description {
    std::string group;
    std::int64_t sequence = 0;
    Item root;            ///< the section of the group
    std::string refused;  ///< why LVM does not take it, though it can be read: "its checksum is wrong"; empty: it does
};

/// A physical volume as it describes itself.
struct Physical {
    VolumeRef volume;
    std::string id;  ///< 32 characters, without hyphens
    std::vector<Description> descriptions;
    std::string refused;            ///< why LVM does not take its label; empty: it does
    bool unused = false;            ///< it says itself that it belongs to no group
    std::vector<Finding> findings;  ///< damaged labels and areas
};
/// Reads the label, and all metadata areas that it names.
[[nodiscard]] Physical read_physical(const VolumeRef& volume);

/// "hnlGU6-MbOi-uySJ-VjZb-eaGM-bVAB-hl3XBT" without its hyphens.
[[nodiscard]] std::string plain_id(std::string_view id);

}  // namespace herberge::lvm
