// SPDX-License-Identifier: MIT
#include <algorithm>

#include <herberge/compare.hpp>

namespace herberge {

Outcome outcome_of(const SystemVerdict& system) {
    Outcome out{system.starts, system.stops_at, system.entry, system.symptom, {}};
    for (const auto& rung : system.stages) {
        const bool decides = system.stops_at ? rung.stage == *system.stops_at
                                             : system.starts == Starts::Unknown && rung.state == State::Unknown;
        if (decides && out.reason.empty()) out.reason = rung.text;
    }
    return out;
}

namespace {

/// How far it gets: a start beats everything, the first stage that breaks or cannot be told counts.
int reach(const SystemVerdict& system) {
    if (system.starts == Starts::Yes) return 1000;
    for (const auto& rung : system.stages) {
        if (rung.state == State::Breaks) return 10 * static_cast<int>(rung.stage);
        if (rung.state == State::Unknown && !system.stops_at) return 10 * static_cast<int>(rung.stage) + 5;
    }
    return 0;
}

Turn turn_of(const SystemVerdict& before, const SystemVerdict& after) {
    const int was = reach(before);
    const int is = reach(after);
    if (is != was) return is > was ? Turn::Better : Turn::Worse;
    return outcome_of(before) == outcome_of(after) ? Turn::Same : Turn::Other;
}

}  // namespace

std::string_view turn_id(Turn turn) {
    switch (turn) {
        case Turn::Same: return "same";
        case Turn::Better: return "better";
        case Turn::Worse: return "worse";
        case Turn::Other: return "other";
        case Turn::New: return "new";
        case Turn::Gone: return "gone";
    }
    return {};
}

std::vector<SystemTurn> compare_verdicts(const Verdict& before, const Verdict& after) {
    std::vector<SystemTurn> out;
    std::vector<const SystemVerdict*> partners(before.systems.size(), nullptr);
    std::vector<bool> matched(after.systems.size());
    // By place first: two systems may have one name, and one that moved is known by its name alone.
    for (const bool by_place : {true, false})
        for (std::size_t b = 0; b < partners.size(); ++b)
            for (std::size_t a = 0; a < matched.size() && partners[b] == nullptr; ++a) {
                const auto& one = before.systems[b];
                const auto& other = after.systems[a];
                const bool same = by_place ? one.place && other.place == one.place : other.name == one.name;
                if (matched[a] || !same) continue;
                matched[a] = true;
                partners[b] = &other;
            }
    for (std::size_t b = 0; b < partners.size(); ++b) {
        const auto& system = before.systems[b];
        SystemTurn one{system.name, system.place, Turn::Gone, outcome_of(system), {}};
        if (const auto* other = partners[b]) {
            one.turn = turn_of(system, *other);
            one.after = outcome_of(*other);
            // What could not be named before may have its name now.
            if (system.kind == SystemKind::Unknown) one.name = other->name;
        }
        out.push_back(std::move(one));
    }
    for (std::size_t i = 0; i < after.systems.size(); ++i)
        if (!matched[i])
            out.push_back({after.systems[i].name, after.systems[i].place, Turn::New, {}, outcome_of(after.systems[i])});
    return out;
}

}  // namespace herberge
