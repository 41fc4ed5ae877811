// SPDX-License-Identifier: MIT
// Names of units (systemd.unit(5); basic/unit-name.c of systemd 252).
#pragma once

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace herberge::units {

/// "foo@bar.service" in its parts; `instance` none: it has no @, empty: it is a template.
struct NameParts {
    std::string prefix;
    std::optional<std::string> instance;
    std::string type;  ///< with its dot
    [[nodiscard]] bool is_template() const { return instance && instance->empty(); }
    [[nodiscard]] bool is_instance() const { return instance && !instance->empty(); }
    [[nodiscard]] std::string name() const;
    /// "foo@.service"
    [[nodiscard]] std::string template_name() const;
};
/// None: it is no name of a unit.
[[nodiscard]] std::optional<NameParts> parts_of(std::string_view name);

/// As systemd-escape(1).
[[nodiscard]] std::string escape(std::string_view text);
[[nodiscard]] std::string escape_path(std::string_view path);
[[nodiscard]] std::string unescape(std::string_view text);
[[nodiscard]] std::string unescape_path(std::string_view text);

/// Without doubled and closing slashes, and without ".".
[[nodiscard]] std::string tidy_path(std::string_view path);

/// The folder that a full path lies in; of "/" itself: "/"; of a bare name: empty.
[[nodiscard]] std::string parent_of(std::string_view path);

/// Words between blanks, quotes and backslashes taken off (extract-word.c); none: a quote is not closed.
[[nodiscard]] std::optional<std::vector<std::string>> quoted_words(std::string_view text);

}  // namespace herberge::units
