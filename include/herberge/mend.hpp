// SPDX-License-Identifier: MIT
// What would make a system start, proven on an overlay.
#pragma once

#include <string>
#include <vector>

#include <herberge/chain.hpp>
#include <herberge/change.hpp>
#include <herberge/compare.hpp>
#include <herberge/uefi.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// Changes by which one system starts: they were made on an overlay, and the machine walked again.
struct Proposal {
    std::string title;                    ///< one sentence: what is done
    std::vector<std::string> steps;       ///< each change, for people
    std::vector<std::string> risks;       ///< what each costs, or could be wrong about
    std::vector<Code> cures;              ///< what stopped it, change by change
    Patch patch;                          ///< none where it is not the disks that change
    std::vector<UefiVariable> variables;  ///< of the firmware that are set so; without data: deleted
    std::vector<SystemTurn> systems;      ///< how every system of the machine fares by it
};

/// One system that does not start.
struct Mending {
    std::string name;
    std::optional<std::string> place;
    Outcome before;
    std::vector<Proposal> proposals;  ///< proven, best first
    /// What was tried and got the system further, not to its end: the next thing that stops it.
    std::vector<std::string> further;
    std::string bring;  ///< without a proposal: what would have to be brought from outside
};

struct MendLimits {
    int most_changes = 3;    ///< together, for one proposal
    int most_walks = 120;    ///< for one system
    int most_proposals = 3;  ///< for one system
};

/// For every system of `verdict` that does not start (or cannot be told to), the smallest changes that would make it
/// start. `verdict` and `options` are of `machine`. Every proposal was walked: the system starts, and no other one
/// fares worse. Costs a check for each change that is tried.
[[nodiscard]] std::vector<Mending> mend(const Machine& machine, const Verdict& verdict, const CheckOptions& options,
                                        const MendLimits& limits = {});

}  // namespace herberge
