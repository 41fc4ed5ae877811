// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>

#include <herberge/difference.hpp>

#include "remedy/differences.hpp"

namespace herberge {

using remedy::Differences;
using remedy::Seen;
using remedy::Sides;

namespace {

/// An identifier shorter than this stands in too many texts to prove anything.
constexpr std::size_t least_telling = 6;
constexpr int most_walks = 24;

bool mentions(const std::string& text, const std::string& value) {
    return value.size() >= least_telling && text.find(value) != std::string::npos;
}

/// The rungs that decide a verdict: where a system stops, or from which on it cannot be told.
std::vector<const StageState*> deciding(const Verdict& verdict, const SystemTurn& turn) {
    std::vector<const StageState*> out;
    for (const auto& system : verdict.systems) {
        if (system.name != turn.name && system.place != turn.place) continue;
        for (const auto& rung : system.stages)
            if (rung.state == State::Breaks || rung.state == State::Unknown) out.push_back(&rung);
    }
    return out;
}

bool rests_on(const StageState& rung, const Seen& seen) {
    const auto& told = seen.told;
    if (mentions(rung.text, told.before) || mentions(rung.text, told.after)) return true;
    return std::ranges::any_of(rung.evidence, [&](const Evidence& one) {
        return (!one.place.empty() && one.place == told.place) ||
               (one.range && seen.range && remedy::overlap(*one.range, *seen.range)) ||
               mentions(one.expected, told.before) || mentions(one.expected, told.after) ||
               mentions(one.found, told.before) || mentions(one.found, told.after);
    });
}

/// Marks what the deciding rungs of changed verdicts name; where they name nothing, what belongs to their stage.
void explain(const Comparison& compared, Differences& all) {
    for (const auto& turn : compared.systems) {
        if (turn.turn == Turn::Same) continue;
        bool any = false;
        std::vector<const StageState*> rungs = deciding(compared.after, turn);
        for (const auto* rung : deciding(compared.before, turn)) rungs.push_back(rung);
        for (auto& seen : all)
            for (const auto* rung : rungs)
                if (rests_on(*rung, seen)) any = seen.told.explains = true;
        if (any) continue;
        for (auto& seen : all)
            for (const auto* rung : rungs) seen.told.explains = seen.told.explains || seen.told.stage == rung->stage;
    }
}

bool same_outcomes(const Verdict& one, const Verdict& other) {
    return std::ranges::all_of(compare_verdicts(one, other),
                               [](const SystemTurn& turn) { return turn.turn == Turn::Same; });
}

/// Takes each difference back by itself, and walks again: the one that brings the first verdicts back decides.
void prove(const Sides& sides, Differences& all) {
    int walks = 0;
    std::vector<Seen*> order;
    for (auto& seen : all)
        if (seen.take_back) order.push_back(&seen);
    std::ranges::stable_sort(order, {}, [](const Seen* seen) { return !seen->told.explains; });
    for (auto* seen : order) {
        if (walks++ == most_walks) return;
        Workshop shop(sides.after.machine);
        CheckOptions options = sides.after.options;
        if (!seen->take_back(shop, options)) continue;
        if (same_outcomes(sides.before.verdict, check(shop.machine(), options)))
            seen->told.decides = seen->told.explains = true;
    }
    // What a file that decides says is decided with it.
    for (const auto* file : order)
        if (file->told.decides && file->told.place.find(":/") != std::string::npos)
            for (auto& seen : all)
                if (seen.told.place == file->told.place && !seen.take_back)
                    seen.told.decides = seen.told.explains = true;
}

}  // namespace

std::string_view difference_id(DifferenceKind kind) {
    switch (kind) {
        case DifferenceKind::Added: return "added";
        case DifferenceKind::Removed: return "removed";
        case DifferenceKind::Changed: return "changed";
    }
    return {};
}

bool Comparison::alike() const {
    return differences.empty() &&
           std::ranges::all_of(systems, [](const SystemTurn& turn) { return turn.turn == Turn::Same; });
}

bool remedy::overlap(const DiskRange& one, const DiskRange& other) {
    return one.disk == other.disk && one.offset < other.offset + other.length && other.offset < one.offset + one.length;
}

Seen* remedy::differ(Differences& out, Stage stage, std::string place, std::string what, std::string before,
                     std::string after) {
    if (before == after) return nullptr;
    Seen seen;
    seen.told.stage = stage;
    seen.told.kind = before.empty()  ? DifferenceKind::Added
                     : after.empty() ? DifferenceKind::Removed
                                     : DifferenceKind::Changed;
    seen.told.place = std::move(place);
    seen.told.what = std::move(what);
    seen.told.before = std::move(before);
    seen.told.after = std::move(after);
    out.push_back(std::move(seen));
    return &out.back();
}

Comparison compare_machines(const Machine& before, const CheckOptions& options_before, const Machine& after,
                            const CheckOptions& options_after) {
    Comparison out;
    out.before = check(before, options_before);
    out.after = check(after, options_after);
    out.systems = compare_verdicts(out.before, out.after);
    const Sides sides{{before, options_before, out.before, out.after}, {after, options_after, out.after, out.before}};
    Differences all;
    remedy::compare_disks(sides, all);
    remedy::compare_volumes(sides, all);
    remedy::compare_sectors(sides, all);
    remedy::compare_files(sides, all);
    remedy::compare_menus(sides, all);
    remedy::compare_variables(sides, all);
    remedy::compare_startup(sides, all);
    explain(out, all);
    if (!same_outcomes(out.before, out.after)) prove(sides, all);
    std::ranges::stable_sort(
        all, {}, [](const Seen& seen) { return std::tuple(!seen.told.decides, !seen.told.explains, seen.told.stage); });
    for (auto& seen : all) out.differences.push_back(std::move(seen.told));
    return out;
}

}  // namespace herberge
