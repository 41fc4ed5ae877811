// SPDX-License-Identifier: MIT
#include <herberge/sentences.hpp>

#include <fmt/format.h>
#include <algorithm>

#include <herberge/board.hpp>
#include <herberge/compare.hpp>

namespace herberge {

std::string evidence_text(const Evidence& evidence) {
    std::string out = evidence.place;
    if (evidence.range && evidence.place.find(':') == std::string::npos) out = evidence.range->text();
    else if (evidence.range) out += fmt::format(" = {}", evidence.range->text());
    if (evidence.line) out += fmt::format(":{}", *evidence.line);
    // What is as it should be is told once.
    if (!evidence.expected.empty() && evidence.expected != evidence.found)
        out += fmt::format("  expected {}", evidence.expected);
    if (!evidence.found.empty())
        out += fmt::format("{} {}", evidence.expected.empty() || evidence.expected == evidence.found ? " " : ", found",
                           evidence.found);
    return out;
}

std::string firmware_words(const Verdict& verdict) {
    if (const Board* board = find_board(verdict.board))
        return verdict.firmware == FirmwareKind::Board ? fmt::format("the board {} ({})", board->name, board->title)
                                                       : fmt::format("{} (board:{})", board->title, board->name);
    switch (verdict.firmware) {
        case FirmwareKind::Uefi: return "UEFI firmware";
        case FirmwareKind::Board: return "a board";
        case FirmwareKind::Bios:
        case FirmwareKind::Auto: break;
    }
    return "a BIOS";
}

std::string untold_sentence(const SystemVerdict& system) {
    const StageState* last = nullptr;
    for (const auto& rung : system.stages) {
        if (rung.state == State::Unknown || rung.state == State::NotReached) break;
        if (rung.state == State::Holds) last = &rung;
    }
    if (last == nullptr || last->stage < Stage::Entry) return "cannot be told from these images alone";
    return fmt::format("holds as far as {}; the rest cannot be told from these images alone", stage_id(last->stage));
}

std::string verdict_sentence(const SystemVerdict& system) {
    if (system.starts == Starts::Yes) return "starts";
    if (system.stops_at) return fmt::format("will not start: stops at {}", stage_id(*system.stops_at));
    return untold_sentence(system);
}

std::string headline(const Verdict& verdict) {
    const auto all = verdict.systems.size();
    if (all == 0) return "No system was found on this machine";
    const auto of = [&](Starts starts) {
        return static_cast<std::size_t>(std::ranges::count(verdict.systems, starts, &SystemVerdict::starts));
    };
    const auto failing = of(Starts::No);
    const auto untold = of(Starts::Unknown);
    const auto some = [&](std::size_t number, std::string_view one, std::string_view many) {
        if (all == 1) return fmt::format("The system {}", one);
        if (number == all) return fmt::format("All {} systems {}", all, many);
        return fmt::format("{} of {} systems {}", number, all, number == 1 ? one : many);
    };
    std::string out;
    if (failing == 0 && untold == 0) return all == 1 ? "The system starts" : fmt::format("All {} systems start", all);
    if (failing != 0) out = some(failing, "will not start", "will not start");
    if (untold != 0)
        out += (out.empty() ? "" : "; ") + (failing == 0
                                                ? some(untold, "cannot be told to start", "cannot be told to start")
                                                : fmt::format("of {} it cannot be told", untold));
    return out;
}

std::string entry_sentence(const SystemVerdict& system) {
    if (system.entry_is_default && system.waits_for.empty()) return "which starts unattended";
    if (system.entry_is_default) return "which starts unattended, and then waits for " + system.waits_for;
    if (!system.waits_for.empty()) return "which waits for " + system.waits_for;
    return "the first that names this system; another one starts unattended";
}

std::string fallback_sentence(const Fallback& fallback) {
    return fmt::format("entry {} “{}” {}", fallback.path, fallback.entry,
                       fallback.starts == Starts::Yes ? "would start it"
                       : fallback.stops_at            ? fmt::format("gets further, to {}", stage_id(*fallback.stops_at))
                                                      : "gets further");
}

std::string system_title(const SystemVerdict& system) {
    return system.place ? fmt::format("{} ({})", shown(system.name), *system.place) : shown(system.name);
}

std::string turn_sentence(const SystemTurn& turn) {
    if (turn.turn == Turn::Gone) return "is found under another name or place";
    if (turn.after && turn.after->starts == Starts::Yes) return "starts";
    if (turn.after && turn.after->stops_at) return fmt::format("gets as far as {}", stage_id(*turn.after->stops_at));
    return "goes another way";
}

}  // namespace herberge
