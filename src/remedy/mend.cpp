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
        for (const auto& turn : compare_verdicts(verdict_, verdict_))
            if (turn.name == system.name && turn.place == system.place && turn.before) out.before = *turn.before;
        wanted_ = &system;
        walks_ = 0;
        // Level by level: a single change is better than two.
        std::vector<Path> level{{Workshop(machine_), {}, {}, machine_, verdict_}};
        for (int depth = 0; depth < limits_.most_changes && !level.empty() && out.proposals.empty(); ++depth)
            level = deepen(level, out);
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
            const Case stopped{path.machine, path.verdict, options_, *system, stop_of(*system)};
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
        Path here{path.shop.copy(), path.made, path.cures, {}, {}};
        if (!idea.make(here.shop)) return;
        const Patch patch = here.shop.patch({}, {});
        if (patch.empty() || !tried_.insert(key_of(patch)).second) return;
        ++walks_;
        here.machine = here.shop.machine();
        here.verdict = check(here.machine, options_);
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
    static std::string key_of(const Patch& patch) {
        std::string out;
        for (const auto& change : patch.changes)
            out += fmt::format("{}@{}+{}={:08x}{:08x};", change.disk, change.offset, change.after.size(),
                               crc32(0, change.after), crc32c(0, change.after));
        return out;
    }

    static Proposal proposal_of(const Path& path, std::vector<SystemTurn> turns) {
        Proposal out;
        for (const auto& idea : path.made) {
            out.steps.push_back(idea.what);
            if (!idea.risk.empty()) out.risks.push_back(idea.risk);
        }
        out.title = fmt::format("{}", fmt::join(out.steps, "; then "));
        out.cures = path.cures;
        out.patch = path.shop.patch(out.title, out.steps);
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

const Finding* remedy::Case::finding(Code code) const {
    const auto found = std::ranges::find(verdict.findings, code, &Finding::code);
    return found != verdict.findings.end() ? &*found : nullptr;
}

std::vector<Mending> mend(const Machine& machine, const Verdict& verdict, const CheckOptions& options,
                          const MendLimits& limits) {
    std::vector<Mending> out;
    for (const auto& system : verdict.systems)
        if (system.starts != Starts::Yes) out.push_back(Search(machine, verdict, options, limits).run(system));
    return out;
}

}  // namespace herberge
