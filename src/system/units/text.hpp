// SPDX-License-Identifier: MIT
// The text of a unit's file (systemd.syntax(7); shared/conf-parser.c of systemd 252).
#pragma once

#include <functional>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/units.hpp>

namespace herberge::units {

struct UnitText {
    std::vector<UnitSetting> settings;
    std::vector<std::string> notes;  ///< "line 4: no =", of lines that are passed over
    std::optional<int> bad_line;     ///< a section's head that is not closed: nothing behind it is read
    std::string bad_text;
};

[[nodiscard]] UnitText parse_unit(std::string_view text, const std::string& place);

/// Puts in what %-specifiers stand for; none: one of them stands for nothing that the image tells.
struct SpecifierValues {
    std::string name;  ///< of the unit
    std::string machine_id, host_name, kernel_release, os_id, os_version, boot_id;
    std::string fragment;
};
[[nodiscard]] std::optional<std::string> expand_specifiers(std::string_view text, const SpecifierValues& values);

}  // namespace herberge::units
