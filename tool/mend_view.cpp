// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include "page.hpp"
#include "views.hpp"

namespace tool {

using namespace herberge;

namespace {

std::string counted(std::uint64_t number, std::string_view what) {
    return fmt::format("{} {}{}", number, what, number == 1 ? "" : "s");
}

std::string name_of(const Mending& one) {
    return one.place ? fmt::format("{} ({})", shown(one.name), *one.place) : shown(one.name);
}

void proposal(Page& page, const Proposal& one, int number) {
    page.line();
    const auto size = one.patch.empty() ? std::string("no byte of a disk changes")
                                        : fmt::format("{} in {}", counted(one.patch.size(), "byte"),
                                                      counted(one.patch.changes.size(), "place"));
    page.line(fmt::format("  {} {}", page.terminal.ink(Ink::Good, fmt::format("Proposal {}", number)),
                          page.terminal.ink(Ink::Dim, fmt::format("(proven; {})", size))));
    for (const auto& step : one.steps) page.indented(6, "• ", step);
    for (const auto& risk : one.risks) page.indented(6, "! ", risk, Ink::Warn);
    for (const auto& turn : one.systems) {
        if (turn.turn == Turn::Same) continue;
        page.indented(
            6, "→ ",
            fmt::format("{}{} {}", turn.name, turn.place ? fmt::format(" ({})", *turn.place) : "", turn_sentence(turn)),
            Ink::Good);
    }
}

}  // namespace

std::string mend_text(const std::vector<Mending>& mendings, const Terminal& terminal) {
    Page page{terminal, {}};
    if (mendings.empty()) page.line("Every system starts: there is nothing to mend.");
    int number = 0;
    for (const auto& one : mendings) {
        if (&one != &mendings.front()) page.line();
        page.line(terminal.ink(Ink::Bold, name_of(one)));
        page.indented(2, "",
                      one.before.stops_at
                          ? fmt::format("stops at {}: {}", stage_id(*one.before.stops_at), one.before.reason)
                          : fmt::format("cannot be told whether it starts: {}", one.before.reason));
        for (const auto& each : one.proposals) proposal(page, each, ++number);
        if (!one.proposals.empty()) continue;
        page.line();
        page.indented(2, "",
                      "Nothing on this machine makes it start. What would have to be brought: " + one.bring + ".",
                      Ink::Warn);
        if (!one.further.empty()) page.line("  What was tried and gets it further:");
        for (std::size_t i = 0; i < std::min<std::size_t>(3, one.further.size()); ++i)
            page.indented(6, "• ", one.further[i]);
    }
    return std::move(page.out);
}

std::string steps_text(const Proposal& proposal) {
    std::string out;
    int number = 0;
    for (const auto& step : proposal.steps) out += fmt::format("{}. {}\n", ++number, shown(step));
    if (!proposal.risks.empty()) out += "\nMind:\n";
    for (const auto& risk : proposal.risks) out += fmt::format("- {}\n", shown(risk));
    for (const auto& variable : proposal.variables) {
        out += fmt::format("\nThe variable {} ({}, attributes {}){}\n", shown(variable.name), variable.guid,
                           variable.attributes, variable.data.empty() ? " is deleted." : ":");
        for (const auto& field : view_variable(variable).fields)
            out += fmt::format("  {}: {}{}\n", field.name, shown(field.value),
                               field.meaning.empty() ? "" : ", " + shown(field.meaning));
        if (!variable.data.empty()) out += fmt::format("  all of it: {}\n", hex(variable.data));
    }
    if (!proposal.patch.empty()) out += "\nThe bytes that change:\n";
    for (const auto& change : proposal.patch.changes) {
        const auto excerpt = [](const std::vector<std::uint8_t>& bytes) {
            constexpr std::size_t most = 16;
            return hex(std::span(bytes).first(std::min(most, bytes.size()))) + (bytes.size() > most ? " …" : "");
        };
        out += fmt::format("{}: {} becomes {}\n", DiskRange{change.disk, change.offset, change.after.size()}.text(),
                           excerpt(change.before), excerpt(change.after));
    }
    return out;
}

}  // namespace tool
