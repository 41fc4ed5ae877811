// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include "views.hpp"

namespace tool {

using namespace herberge;

namespace {

std::string outcome_text(const std::optional<Outcome>& outcome) {
    if (!outcome) return "not there";
    if (outcome->starts == Starts::Yes) return "starts";
    if (outcome->stops_at) return fmt::format("stops at {}", stage_id(*outcome->stops_at));
    return "cannot be told";
}

struct Look {
    Ink ink;
    std::string_view word;
};
Look look_of(Turn turn) {
    switch (turn) {
        case Turn::Same: return {Ink::Dim, "as before"};
        case Turn::Better: return {Ink::Good, "BETTER"};
        case Turn::Worse: return {Ink::Bad, "WORSE"};
        case Turn::Other: return {Ink::Warn, "otherwise"};
        case Turn::New: return {Ink::Blue, "new"};
        case Turn::Gone: return {Ink::Warn, "gone"};
    }
    return {Ink::Plain, ""};
}

}  // namespace

std::string turn_lines(const std::vector<SystemTurn>& turns, const Terminal& terminal) {
    std::string out;
    for (const auto& one : turns) {
        const Look look = look_of(one.turn);
        out += fmt::format("  {}  {}{}\n", terminal.ink(look.ink, pad(std::string(look.word), 9)), shown(one.name),
                           one.place ? fmt::format(" ({})", *one.place) : "");
        if (one.turn == Turn::Same) {
            out += fmt::format("             {}\n", outcome_text(one.after));
            continue;
        }
        out += fmt::format("             {}, before: {}\n", outcome_text(one.after), outcome_text(one.before));
        if (one.after && !one.after->reason.empty())
            for (const auto& part : wrap(shown(one.after->reason), terminal.width() > 40 ? terminal.width() - 13 : 60))
                out += "             " + part + "\n";
    }
    return out;
}

std::string turns_text(const std::vector<std::string>& supposed, const std::vector<SystemTurn>& turns,
                       const Terminal& terminal) {
    std::string out = terminal.ink(Ink::Bold, "Supposed") + "\n";
    for (const auto& line : supposed) out += "  " + shown(line) + "\n";
    out += "\n" + terminal.ink(Ink::Bold, "What that changes") + "\n";
    return out + turn_lines(turns, terminal) + "\n";
}

}  // namespace tool
