// SPDX-License-Identifier: MIT
// What differs between two verdicts.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include <herberge/chain.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// How a system fares in one of two verdicts.
struct Outcome {
    Starts starts = Starts::Unknown;
    std::optional<Stage> stops_at;
    std::string entry;    ///< the primary entry's title
    std::string symptom;  ///< what the screen shows where it stops
    std::string reason;   ///< why it stops, or cannot be told
    friend bool operator==(const Outcome&, const Outcome&) = default;
};

/// How it fares, in short.
[[nodiscard]] Outcome outcome_of(const SystemVerdict& system);

enum class Turn : std::uint8_t {
    Same,    ///< starts as before, or stops at the same stage for the same reason
    Better,  ///< starts, or gets further
    Worse,   ///< does not start any more, or stops earlier
    Other,   ///< as far as before, by another way or for another reason
    New,     ///< only in the second
    Gone,    ///< only in the first
};
[[nodiscard]] std::string_view turn_id(Turn turn);

/// One system in both verdicts.
struct SystemTurn {
    std::string name;
    std::optional<std::string> place;
    Turn turn = Turn::Same;
    std::optional<Outcome> before, after;
};

/// Every system of either verdict, matched by place, else by name.
[[nodiscard]] std::vector<SystemTurn> compare_verdicts(const Verdict& before, const Verdict& after);

}  // namespace herberge
