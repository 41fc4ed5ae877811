// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <set>

#include "views.hpp"

namespace tool {

using herberge::printable;
using herberge::UnitOutcome;

namespace {

constexpr std::size_t name_width = 34;

std::string mark(UnitOutcome::Kind state, const Terminal& terminal) {
    switch (state) {
        case UnitOutcome::Kind::Starts: return terminal.ink(Ink::Good, "•");
        case UnitOutcome::Kind::Skipped: return terminal.ink(Ink::Dim, "○");
        case UnitOutcome::Kind::Fails:
        case UnitOutcome::Kind::Dragged: return terminal.ink(Ink::Bad, "✗");
        case UnitOutcome::Kind::Untold: break;
    }
    return "?";
}

std::string words_of(const herberge::StartStep& step, const Terminal& terminal) {
    const auto words = herberge::step_outcome(step);
    if (words.empty()) return {};
    const bool bad = step.state == UnitOutcome::Kind::Fails || step.state == UnitOutcome::Kind::Dragged;
    return std::string(name_width + 7, ' ') + terminal.ink(bad ? Ink::Bad : Ink::Dim, printable(words)) + "\n";
}

/// Units of paths are long, and say what they are with their command; of others a name holds nothing that harms.
std::string name_of(const herberge::StartStep& step) {
    const auto dot = step.name.rfind('.');
    auto type = dot != std::string::npos ? step.name.substr(dot + 1) : std::string{};
    if ((type == "mount" || type == "swap") &&
        (step.name.size() > name_width || step.name.find('\\') != std::string::npos))
        return type;
    const bool plain = std::ranges::all_of(step.name, [](char c) { return c > ' ' && c < 0x7F; });
    return plain ? step.name : printable(step.name);
}

std::string counted(std::size_t count, const char* one, const char* many) {
    return count == 1 ? std::string(one) : fmt::format("{} {}", count, many);
}

void head(std::string& out, const herberge::InstalledSystem& system, const herberge::LinuxStart& start,
          const Terminal& terminal) {
    out += fmt::format("{}  {}\n", terminal.ink(Ink::Bold, system.volume->place + ":" + printable(system.directory)),
                       printable(system.name));
    out += fmt::format("  {} runs as init", printable(start.init));
    if (!start.level.empty())
        out += fmt::format(", and starts {}{}", terminal.ink(Ink::Bold, printable(start.level)),
                           start.asked_by.empty() ? "" : fmt::format(" ({})", printable(start.asked_by)));
    out += "\n";
}

}  // namespace

std::string linux_startup_text(const herberge::InstalledSystem& system, const herberge::LinuxStart& start,
                               const Terminal& terminal) {
    std::string out;
    head(out, system, start, terminal);
    std::size_t fails = 0, skipped = 0;
    for (const auto& step : start.steps) {
        fails += step.state == UnitOutcome::Kind::Fails || step.state == UnitOutcome::Kind::Dragged ? 1 : 0;
        skipped += step.state == UnitOutcome::Kind::Skipped ? 1 : 0;
    }
    for (const auto& finding : start.findings) {
        const bool ends = finding.severity == herberge::Severity::Breaks;
        out += fmt::format("  {} {}\n", terminal.ink(ends ? Ink::Bad : Ink::Warn, ends ? "✗" : "!"),
                           terminal.ink(ends ? Ink::Bad : Ink::Plain, printable(finding.text)));
        for (const auto& one : finding.evidence)
            if (!one.place.empty())
                out += terminal.ink(Ink::Dim, fmt::format("      {}{}\n", printable(one.place),
                                                          one.line ? fmt::format(", line {}", *one.line) : ""));
        if (ends && !finding.symptom.empty())
            for (const auto& line : herberge::lines_of(finding.symptom))
                out += "      " + terminal.ink(Ink::Dim, "on the screen: ") + printable(line) + "\n";
    }
    out +=
        fmt::format("  {} in {}", counted(start.steps.size() - fails - skipped, "one thing starts,", "things start,"),
                    start.flavour == "systemd" ? "an order like this" : "this order");
    if (fails != 0) out += "; " + terminal.ink(Ink::Bad, counted(fails, "one does not", "do not"));
    if (skipped != 0)
        out += "; " + counted(skipped, "one is passed over by a condition", "are passed over by conditions");
    if (start.silent != 0) out += fmt::format("; {} devices, slices and targets are not listed", start.silent);
    out += "\n";
    if (!start.not_followed.empty())
        out += terminal.ink(Ink::Dim, fmt::format("  what these make at each start is not followed: {}\n",
                                                  printable(fmt::format("{}", fmt::join(start.not_followed, ", ")))));
    std::string group;
    for (const auto& step : start.steps) {
        if (step.group != group) {
            group = step.group;
            out += "\n  " + terminal.ink(Ink::Bold, printable(group)) + "\n";
        }
        const std::string runs =
            step.command.empty() ? terminal.ink(Ink::Dim, printable(step.because)) : printable(step.command);
        const auto name = name_of(step);
        out += fmt::format("    {} {}\n", mark(step.state, terminal),
                           runs.empty() ? name : fmt::format("{} {}", pad(name, name_width), runs));
        out += words_of(step, terminal);
    }
    return out;
}

std::string start_difference_text(const herberge::LinuxStart& first, const herberge::LinuxStart& second,
                                  const Terminal& terminal) {
    const auto names = [](const herberge::LinuxStart& start) {
        std::set<std::string> out;
        // Numbers before a script's name order it, and are none of its name.
        for (const auto& step : start.steps) {
            const auto& n = step.name;
            // The line that runs a level's scripts is no program of its own.
            if (step.file.ends_with("/rc")) continue;
            const bool numbered = n.size() > 3 && (n[0] == 'S' || n[0] == 'K') && n[1] >= '0' && n[1] <= '9' &&
                                  n[2] >= '0' && n[2] <= '9';
            out.insert(numbered ? n.substr(3) : n);
        }
        return out;
    };
    const auto a = names(first), b = names(second);
    std::string out;
    const auto only = [&](const herberge::LinuxStart& start, const std::set<std::string>& own,
                          const std::set<std::string>& other) {
        out += terminal.ink(Ink::Bold, fmt::format("only {} starts", printable(start.level))) + "\n";
        std::size_t count = 0;
        for (const auto& name : own)
            if (!other.contains(name)) {
                out += fmt::format("    {}\n", printable(name));
                ++count;
            }
        if (count == 0) out += "    nothing\n";
    };
    only(first, a, b);
    only(second, b, a);
    out += fmt::format("{} are started by both\n",
                       std::ranges::count_if(a, [&](const auto& name) { return b.contains(name); }));
    return out;
}

std::string run_levels_text(const herberge::InstalledSystem& system, const herberge::LevelTable& table,
                            const Terminal& terminal) {
    std::string out =
        fmt::format("{}  {}\n", terminal.ink(Ink::Bold, system.volume->place + ":" + printable(system.directory)),
                    printable(system.name));
    std::string line = "  " + pad("", name_width);
    for (const auto& level : table.levels) line += " " + printable(level);
    out += terminal.ink(Ink::Bold, line) + "\n";
    for (const auto& row : table.rows) {
        out += "  " + pad(printable(row.name), name_width);
        for (std::size_t i = 0; i < table.levels.size(); ++i) {
            const auto width = std::max<std::size_t>(table.levels[i].size(), 1);
            out += " " + pad(row.on[i] ? "•" : "·", width);
        }
        out += "\n";
    }
    return out;
}

}  // namespace tool
