// SPDX-License-Identifier: MIT
// What a Windows starts, as text for people.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <map>
#include <optional>

#include "views.hpp"

namespace tool {

using herberge::printable;

namespace {

/// `held`: it must be signed to be loaded, on a 64-bit system.
std::string signature_text(const herberge::FileSignature& signature, bool held, const Terminal& terminal) {
    using Kind = herberge::FileSignature::Kind;
    const std::string by =
        signature.by.empty() ? std::string("someone whose certificate is not there") : printable(signature.by);
    const std::string when = signature.time && signature.time->intact
                                 ? ", " + herberge::utc_text(signature.time->seconds).substr(0, 10)
                                 : std::string();
    switch (signature.kind) {
        case Kind::NotLooked: return {};
        case Kind::Inside:
            return terminal.ink(Ink::Dim, fmt::format("signed by {}{}", by, when)) +
                   (signature.chain_problem.empty()
                        ? std::string()
                        : terminal.ink(Ink::Warn, ", but: " + printable(signature.chain_problem)));
        case Kind::Catalogue:
            return terminal.ink(Ink::Dim,
                                fmt::format("signed by {}{}, in {}", by, when,
                                            printable(signature.catalogue.substr(signature.catalogue.rfind('/') + 1))));
        case Kind::Broken: return terminal.ink(Ink::Bad, "its signature is for other content");
        case Kind::None: break;
    }
    if (!held) return terminal.ink(Ink::Dim, "not signed");
    if (signature.looked_in == 0) return terminal.ink(Ink::Dim, "not signed inside");
    return terminal.ink(
        Ink::Warn, "not signed: nothing inside, and " +
                       (signature.looked_in == 1 ? std::string("the catalogue does not list it")
                                                 : fmt::format("none of {} catalogues lists it", signature.looked_in)));
}

/// Somebody's, and nothing is wrong with it.
bool is_sound(const herberge::FileSignature& signature) {
    using Kind = herberge::FileSignature::Kind;
    return (signature.kind == Kind::Inside || signature.kind == Kind::Catalogue) && !signature.by.empty() &&
           signature.chain_problem.empty();
}

/// Who signed most of it, so that it is said once; empty: nobody signed more than two.
std::string usual_signer(const std::vector<herberge::StartupItem>& items) {
    std::map<std::string, std::size_t> counts;
    for (const auto& item : items)
        if (is_sound(item.signature)) ++counts[item.signature.by];
    const auto most = std::ranges::max_element(counts, {}, [](const auto& one) { return one.second; });
    return most != counts.end() && most->second > 2 ? most->first : std::string{};
}

std::string mode_text(herberge::StartMode mode) {
    switch (mode) {
        case herberge::StartMode::Normal: return {};
        case herberge::StartMode::Safe: return " in safe mode";
        case herberge::StartMode::SafeNetwork: return " in safe mode with network";
        case herberge::StartMode::SafeShell: return " in safe mode with a command line";
    }
    return {};
}

std::string head(const herberge::WindowsStartup& start) {
    const auto& registry = start.registry;
    std::string out = fmt::format("  {} is used", registry.control_set);
    if (start.control_sets.size() > 1) out += fmt::format(" of {}", fmt::join(start.control_sets, ", "));
    if (registry.last_known_good != 0) out += fmt::format("; last known good: {}", registry.last_known_good);
    if (registry.failed != 0) out += fmt::format("; a start with {} failed", registry.failed);
    if (start.last_start)
        out += fmt::format("; by bootstat.dat the last start {}", !start.last_start->succeeded ? "did not succeed"
                                                                  : start.last_start->shut_down
                                                                      ? "succeeded and was ended regularly"
                                                                      : "succeeded and was not ended regularly");
    return out + "\n";
}

std::string mark(const herberge::StartupItem& item, const Terminal& terminal) {
    if (!item.starts) return terminal.ink(Ink::Dim, "○");
    if (item.present) return terminal.ink(Ink::Good, "•");
    return item.file.empty() ? "?" : terminal.ink(Ink::Bad, "✗");
}

}  // namespace

std::string startup_text(const herberge::InstalledSystem& system, const herberge::WindowsStartup& start,
                         const std::vector<herberge::DriveLetter>& letters, const Terminal& terminal) {
    constexpr std::size_t name_width = 24;
    const std::string indent(name_width + 7, ' ');
    std::string out =
        fmt::format("{}  {}\n", terminal.ink(Ink::Bold, system.volume->place + ":" + printable(system.directory)),
                    printable(system.name)) +
        head(start);
    for (const auto& finding : start.findings)
        out += fmt::format("  {} {}\n", terminal.ink(Ink::Warn, "!"), printable(finding.text));
    std::size_t absent = 0, starting = 0;
    for (const auto& item : start.items) {
        starting += item.starts ? 1 : 0;
        absent += item.starts && !item.present && !item.file.empty() ? 1 : 0;
    }
    out +=
        fmt::format("  {} things start{}, in this order; {}", starting, mode_text(start.mode),
                    absent == 0 ? "every file is there"
                                : terminal.ink(Ink::Warn, absent == 1 ? std::string("one file is not there")
                                                                      : fmt::format("{} files are not there", absent)));
    if (const auto others = start.items.size() - starting; others != 0)
        out += others == 1 ? "; one does not" : fmt::format("; {} do not", others);
    out += "\n";
    const std::string usual = usual_signer(start.items);
    if (!usual.empty())
        out += terminal.ink(Ink::Dim, fmt::format("  signed by {}, where nothing else is said\n", printable(usual)));
    std::optional<herberge::StartupPhase> phase;
    for (const auto& item : start.items) {
        if (item.phase != phase) {
            phase = item.phase;
            out += "\n  " + terminal.ink(Ink::Bold, std::string(herberge::startup_phase_name(item.phase))) + "\n";
        }
        const std::string file = item.file.empty() ? printable(item.command) : printable(item.file);
        const bool lacks = item.starts && !item.present && !item.file.empty();
        // A long name gets a line of its own.
        const std::string name = printable(item.name);
        out += fmt::format("    {} {}{}{}\n", mark(item, terminal), pad(name, name_width),
                           name.size() > name_width ? "\n" + indent : " ",
                           lacks ? terminal.ink(Ink::Bad, file + "  not there") : file);
        if (!item.note.empty())
            out += indent +
                   terminal.ink(item.starts ? Ink::Plain : Ink::Warn,
                                (item.starts ? "" : "does not start: ") + printable(item.note)) +
                   "\n";
        if (!item.account.empty()) out += indent + terminal.ink(Ink::Dim, "as " + printable(item.account)) + "\n";
        if (is_sound(item.signature) && item.signature.by == usual) continue;
        if (const auto told =
                signature_text(item.signature, item.phase <= herberge::StartupPhase::SystemDriver, terminal);
            !told.empty())
            out += indent + told + "\n";
    }
    if (!letters.empty()) out += "\n  " + terminal.ink(Ink::Bold, "drive letters as this system knows them") + "\n";
    for (const auto& letter : letters)
        out +=
            fmt::format("    {} {} {}\n", pad(letter.letter, 4),
                        pad(letter.volume != nullptr ? letter.volume->place : "not here", 10), printable(letter.text));
    return out;
}

}  // namespace tool
