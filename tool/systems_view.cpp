// SPDX-License-Identifier: MIT
#include <fmt/chrono.h>
#include <fmt/format.h>
#include <algorithm>
#include <ctime>

#include "views.hpp"

namespace tool {

using herberge::printable;
using herberge::Starts;

namespace {

std::string day_text(std::int64_t seconds) {
    if (seconds <= 0) return {};
    const auto time = static_cast<std::time_t>(seconds);
    std::tm parts{};
    if (gmtime_r(&time, &parts) == nullptr) return {};
    return fmt::format("{:%Y-%m-%d}", parts);
}

std::string state_text(const herberge::SystemVerdict& system, const Terminal& terminal) {
    if (system.starts == Starts::Yes) return terminal.ink(Ink::Good, "starts");
    if (system.stops_at)
        return terminal.ink(Ink::Bad, fmt::format("will not start: stops at {}", herberge::stage_id(*system.stops_at)));
    return terminal.ink(Ink::Warn, untold_sentence(system));
}

std::string node_of(const herberge::SystemVerdict& system) {
    return system.place ? fmt::format("{} ({})", system.name, *system.place) : system.name;
}

/// The branches below `node`; a node that was shown before is only named.
void branch(std::string& out, const herberge::Verdict& verdict, const std::string& node, const std::string& lead,
            std::vector<std::string>& shown, const Terminal& terminal) {
    std::vector<const herberge::StartEdge*> edges;
    for (const auto& edge : verdict.graph)
        if (edge.from == node) edges.push_back(&edge);
    std::stable_partition(edges.begin(), edges.end(), [](const herberge::StartEdge* e) { return e->unattended; });
    for (std::size_t i = 0; i < edges.size(); ++i) {
        const auto& edge = *edges[i];
        const bool last = i + 1 == edges.size();
        const auto system = std::ranges::find_if(verdict.systems, [&](const auto& s) { return node_of(s) == edge.to; });
        std::string line = lead + (last ? "└─ " : "├─ ");
        if (!edge.label.empty())
            line += terminal.ink(edge.unattended ? Ink::Bold : Ink::Plain, fmt::format("“{}”", printable(edge.label))) +
                    " → ";
        line += terminal.ink(system != verdict.systems.end() ? Ink::Bold : Ink::Plain, printable(edge.to));
        if (edge.broken) line += "  " + terminal.ink(Ink::Bad, "✗ does not work");
        else if (system != verdict.systems.end() && system->starts == Starts::Yes)
            line += "  " + terminal.ink(Ink::Good, "•");
        if (edge.unattended && !edge.label.empty()) line += terminal.ink(Ink::Dim, "  by itself");
        const bool before = std::ranges::find(shown, edge.to) != shown.end();
        const bool leads_on = std::ranges::any_of(verdict.graph, [&](const auto& e) { return e.from == edge.to; });
        if (before && leads_on) line += terminal.ink(Ink::Dim, "  (see above)");
        out += "  " + line + "\n";
        if (before) continue;
        shown.push_back(edge.to);
        branch(out, verdict, edge.to, lead + (last ? "   " : "│  "), shown, terminal);
    }
}

}  // namespace

std::string systems_text(const herberge::Verdict& verdict, const Terminal& terminal) {
    std::string out;
    for (const auto& system : verdict.systems) {
        out += fmt::format("{}  {}  {}\n", terminal.ink(Ink::Bold, pad(system.place.value_or("—"), 5)),
                           terminal.ink(Ink::Bold, printable(system.name)), state_text(system, terminal));
        auto line = [&](std::string_view name, const std::string& text) {
            if (text.empty()) return;
            bool first = true;
            for (const auto& part : wrap(text, terminal.width() - 18)) {
                out += fmt::format("       {}{}\n", pad(first ? std::string(name) : std::string{}, 11), part);
                first = false;
            }
        };
        line("version", printable(system.version));
        line("last used", day_text(system.last_used));
        std::string entries;
        for (const auto& entry : system.named_by) entries += (entries.empty() ? "" : ", ") + printable(entry);
        if (system.named_by.empty() && system.kind != herberge::SystemKind::Unknown && system.place)
            entries = system.entry.empty() ? "none: no menu that is reached names it" : printable(system.entry);
        line("entries", entries);
        std::string unused;
        for (const auto& kernel : system.unused_kernels) unused += (unused.empty() ? "" : ", ") + printable(kernel);
        line("unused", unused.empty() ? "" : unused + " (no entry starts it)");
        out += "\n";
    }
    out += "Who starts whom\n\n  firmware\n";
    std::vector<std::string> shown{"firmware"};
    branch(out, verdict, "firmware", "", shown, terminal);
    std::string stale;
    for (const auto& finding : verdict.findings)
        if (finding.code == herberge::Code::EntryStale || finding.code == herberge::Code::ChainLoop ||
            finding.code == herberge::Code::PartitionLost)
            stale += fmt::format("  {}\n", printable(finding.text));
    if (!stale.empty()) out += "\nOn the menus, but not on the disks\n\n" + stale;
    return out;
}

std::string efi_files_text(const std::vector<herberge::EfiFile>& files, const Terminal& terminal) {
    if (files.empty()) return {};
    std::string out = "\nEFI applications\n\n";
    for (const auto& file : files) {
        const std::string what =
            fmt::format("{}{}{}", herberge::efi_application_name(file.application),
                        file.version.empty() ? "" : ", " + printable(file.version),
                        file.machine.empty() || file.machine == "x86-64" ? "" : ", for " + file.machine);
        out += fmt::format("  {}\n    {}\n", terminal.ink(Ink::Bold, printable(file.place)), what);
        auto line = [&](std::string_view name, const std::string& text, Ink ink) {
            bool first = true;
            for (const auto& part : wrap(text, terminal.width() - 16)) {
                out += fmt::format("    {}{}\n", pad(first ? std::string(name) : std::string{}, 12),
                                   terminal.ink(ink, part));
                first = false;
            }
        };
        const auto joined = [](const std::vector<std::string>& all) {
            std::string text;
            for (const auto& one : all) text += (text.empty() ? "" : ", ") + printable(one);
            return text;
        };
        line("signed by", file.signers.empty() ? "nobody" : joined(file.signers),
             file.signers.empty() ? Ink::Dim : Ink::Plain);
        line("started by", file.orphan() ? "nobody: an orphan" : joined(file.named_by),
             file.orphan() ? Ink::Warn : Ink::Plain);
        if (!file.problem.empty()) line("refused", printable(file.problem), Ink::Bad);
    }
    return out;
}

}  // namespace tool
