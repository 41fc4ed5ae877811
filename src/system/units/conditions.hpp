// SPDX-License-Identifier: MIT
// Conditions and assertions of a unit, as far as an image decides them (systemd.unit(5); shared/condition.c of 252).
#pragma once

#include <optional>
#include <string>

#include <herberge/units.hpp>

namespace herberge::units {

struct ConditionVerdict {
    std::optional<bool> holds = true;  ///< none: it depends on the machine
    const UnitSetting* by = nullptr;   ///< the one that does not hold, or is not decided
};
/// machine-id(5), "First Boot Semantics": systemd takes the next start for the first one. None: that cannot be told.
[[nodiscard]] std::optional<bool> is_first_start(const FileSystem& fs, const CommandLine& arguments);

/// `kind`: "Condition" or "Assert"; `root_checked` as InitChoice has it.
[[nodiscard]] ConditionVerdict judge_conditions(const FileSystem& fs, const CommandLine& arguments, const Unit& unit,
                                                std::string_view kind, Processor processor,
                                                std::optional<bool> root_checked = std::nullopt);

}  // namespace herberge::units
