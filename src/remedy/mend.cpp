// SPDX-License-Identifier: MIT
// The search: changes are tried on an overlay, best first, and the machine is walked again.
#include <herberge/mend.hpp>

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <set>

#include "remedy/remedy.hpp"

namespace herberge {

namespace {

using remedy::Case;
using remedy::Idea;

const SystemVerdict* same_system(const Verdict& verdict, const SystemVerdict& system) {
    for (const bool by_place : {true, false})
        for (const auto& other : verdict.systems) {
            if (by_place ? system.place && other.place == system.place : other.name == system.name) return &other;
        }
    // One that could not be named is whatever is found in its stead.
    if (system.kind == SystemKind::Unknown && verdict.systems.size() == 1) return &verdict.systems.front();
    return nullptr;
}

const StageState& stop_of(const SystemVerdict& system) {
    for (const auto& rung : system.stages)
        if (rung.state == State::Breaks || (rung.state == State::Unknown && !system.stops_at)) return rung;
    return system.stages.front();
}

/// What has been changed on the way to here.
struct Path {
    Workshop shop;
    std::vector<Idea> made;
    std::vector<Code> cures;
    Machine machine;  ///< as these changes leave it
    CheckOptions options;
    Verdict verdict;
};

class Search {
public:
    Search(const Machine& machine, const Verdict& verdict, const CheckOptions& options, const MendLimits& limits)
        : machine_(machine), verdict_(verdict), options_(options), limits_(limits) {}

    Mending run(const SystemVerdict& system) {
        Mending out;
        out.name = system.name;
        out.place = system.place;
        out.before = outcome_of(system);
        wanted_ = &system;
        walks_ = 0;
        // Level by level: a single change is better than two.
        std::vector<Path> level{{Workshop(machine_), {}, {}, machine_, options_, verdict_}};
        for (int depth = 0; depth < limits_.most_changes && !level.empty() && out.proposals.empty(); ++depth)
            level = deepen(level, out);
        // Of as many changes, those that cost nothing come first.
        std::ranges::stable_sort(out.proposals, {}, [](const Proposal& one) { return !one.risks.empty(); });
        if (out.proposals.empty())
            out.bring = remedy::to_bring({machine_, verdict_, options_, system, stop_of(system)});
        return out;
    }

private:
    /// Every idea for every path of a level; those that got further are the next level.
    std::vector<Path> deepen(const std::vector<Path>& level, Mending& out) {
        std::vector<Path> next;
        for (const auto& path : level) {
            const SystemVerdict* system = same_system(path.verdict, *wanted_);
            if (system == nullptr) continue;
            const Case stopped{path.machine, path.verdict, path.options, *system, stop_of(*system)};
            std::vector<Idea> ideas;
            for (const auto& remedy : remedy::remedies()) remedy.propose(stopped, ideas);
            std::ranges::stable_sort(ideas, {}, &Idea::rank);
            for (auto& idea : ideas) {
                if (walks_ >= limits_.most_walks || static_cast<int>(out.proposals.size()) >= limits_.most_proposals)
                    return {};
                attempt(path, stopped, std::move(idea), out, next);
            }
        }
        return next;
    }

    void attempt(const Path& path, const Case& stopped, Idea idea, Mending& out, std::vector<Path>& next) {
        Path here{path.shop.copy(), path.made, path.cures, path.machine, path.options, {}};
        if (idea.set) idea.set(here.options);
        else if (!idea.make(here.shop)) return;
        const Patch patch = here.shop.patch({}, {});
        if ((patch.empty() && !idea.set) || !tried_.insert(key_of(patch, here.options)).second) return;
        ++walks_;
        if (!idea.set) here.machine = here.shop.machine();
        here.verdict = check(here.machine, here.options);
        const SystemVerdict* system = same_system(here.verdict, *wanted_);
        const auto turns = compare_verdicts(verdict_, here.verdict);
        here.made.push_back(std::move(idea));
        here.cures.insert(here.cures.end(), stopped.rung.findings.begin(),
                          stopped.rung.findings.begin() + (stopped.rung.findings.empty() ? 0 : 1));
        const bool harms = std::ranges::any_of(turns, [](const SystemTurn& turn) {
            return turn.turn == Turn::Worse || (turn.turn == Turn::Gone && turn.before->starts == Starts::Yes);
        });
        if (system == nullptr || harms) return;
        if (system->starts == Starts::Yes) {
            out.proposals.push_back(proposal_of(here, turns));
            return;
        }
        const auto turn = compare_verdicts(stopped.verdict, here.verdict);
        const bool further = std::ranges::any_of(turn, [&](const SystemTurn& one) {
            return one.place == system->place && (one.turn == Turn::Better || one.turn == Turn::New);
        });
        if (!further) return;
        out.further.push_back(fmt::format(
            "{}: then it stops at {}: {}", here.made.back().what,
            system->stops_at ? stage_id(*system->stops_at) : std::string_view("a place that cannot be told"),
            stop_of(*system).text));
        next.push_back(std::move(here));
    }

    /// Patches that do the same have the same.
    static std::string key_of(const Patch& patch, const CheckOptions& options) {
        std::string out = options.secure_boot == SecureBoot::Off ? "unguarded;" : "";
        for (const auto& one : options.variables.all)
            out += fmt::format("{}{}={:08x};", one.name, one.guid, crc32(0, one.data));
        for (const auto& change : patch.changes)
            out += fmt::format("{}@{}+{}={:08x}{:08x};", change.disk, change.offset, change.after.size(),
                               crc32(0, change.after), crc32c(0, change.after));
        return out;
    }

    /// The variables that differ from what the firmware has now.
    [[nodiscard]] std::vector<UefiVariable> set_variables(const CheckOptions& options) const {
        std::vector<UefiVariable> out;
        const auto same = [](const UefiVariable& one) {
            return [&one](const UefiVariable& other) { return other.name == one.name && other.guid == one.guid; };
        };
        for (const auto& one : options.variables.all) {
            const auto& all = options_.variables.all;
            const auto old = std::ranges::find_if(all, same(one));
            if (old == all.end() || old->data != one.data) out.push_back(one);
        }
        for (const auto& one : options_.variables.all)
            if (std::ranges::none_of(options.variables.all, same(one)))
                out.push_back({one.name, one.guid, one.attributes, {}});
        return out;
    }

    Proposal proposal_of(const Path& path, std::vector<SystemTurn> turns) const {
        Proposal out;
        for (const auto& idea : path.made) {
            out.steps.push_back(idea.what);
            if (!idea.risk.empty()) out.risks.push_back(idea.risk);
        }
        out.title = fmt::format("{}", fmt::join(out.steps, "; then "));
        out.cures = path.cures;
        out.patch = path.shop.patch(out.title, out.steps);
        out.variables = set_variables(path.options);
        out.systems = std::move(turns);
        return out;
    }

    const Machine& machine_;
    const Verdict& verdict_;
    const CheckOptions& options_;
    const MendLimits& limits_;
    const SystemVerdict* wanted_ = nullptr;
    int walks_ = 0;
    std::set<std::string> tried_;
};

}  // namespace

bool remedy::Case::has(Code code) const { return std::ranges::find(rung.findings, code) != rung.findings.end(); }

std::vector<Mending> mend(const Machine& machine, const Verdict& verdict, const CheckOptions& asked,
                          const MendLimits& limits) {
    CheckOptions options = asked;
    const auto settled = settled_options(machine, asked);
    options.efi_machine = settled.efi_machine;
    // A guess holds for the mended machine as well.
    if (settled.firmware == FirmwareKind::Board) {
        options.firmware = settled.firmware;
        options.board = settled.board;
    }
    std::vector<Mending> out;
    for (const auto& system : verdict.systems)
        if (system.starts != Starts::Yes) out.push_back(Search(machine, verdict, options, limits).run(system));
    return out;
}

}  // namespace herberge
