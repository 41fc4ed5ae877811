// SPDX-License-Identifier: MIT
#include <fmt/format.h>

#include "views.hpp"

namespace tool {

using herberge::RehearsalEventKind;

namespace {

/// Printed text as one line per line of text, control characters dropped.
std::vector<std::string> text_lines(const std::string& text) {
    std::string plain;
    for (const char c : text) {
        if (c == '\n' || (c >= 0x20 && c < 0x7F)) plain += c;
        else if (static_cast<unsigned char>(c) >= 0x80) plain += '.';
    }
    std::vector<std::string> out;
    for (auto& line : lines_of(plain))
        if (line.find_first_not_of(' ') != std::string::npos) out.push_back(line);
    return out;
}

std::string amount(const herberge::RehearsalEvent& e) {
    const std::uint64_t sectors = e.range->length / 512;
    return fmt::format("{} sector{} at {}{}", sectors, sectors == 1 ? "" : "s", e.range->text(),
                       e.count > 1 ? fmt::format(" in {} calls", e.count) : "");
}

}  // namespace

std::string rehearsal_text(const herberge::Rehearsal& rehearsal, const Terminal& terminal) {
    std::string out = fmt::format("{}  {}\n", terminal.ink(Ink::Bold, "ends"),
                                  terminal.ink(rehearsal.end == herberge::RehearsalEnd::KernelEntered ||
                                                       rehearsal.end == herberge::RehearsalEnd::KernelRead
                                                   ? Ink::Good
                                                   : Ink::Warn,
                                               herberge::printable(rehearsal.end_text)));
    out += terminal.ink(Ink::Dim,
                        fmt::format("{} instructions, {} reads of {}, {} written, {} of memory touched\n\n",
                                    rehearsal.instructions, rehearsal.reads, herberge::size_text(rehearsal.bytes_read),
                                    rehearsal.writes, herberge::size_text(rehearsal.memory_touched)));
    constexpr std::size_t most = 60;
    std::size_t shown = 0;
    for (const auto& e : rehearsal.events) {
        if (++shown > most && e.kind != RehearsalEventKind::End && e.kind != RehearsalEventKind::Transfer) {
            if (shown == most + 1) out += terminal.ink(Ink::Dim, "            … more; all of it with --format json\n");
            continue;
        }
        const std::string when = terminal.ink(Ink::Dim, fmt::format("{:>8.3f} s", e.seconds));
        switch (e.kind) {
            case RehearsalEventKind::Read:
                out += fmt::format("{}  {:<9}{}  {}\n", when, "read", pad(herberge::printable(e.lies_in), 40),
                                   terminal.ink(Ink::Dim, (e.text == "reads" ? "" : e.text + "; ") + amount(e)));
                break;
            case RehearsalEventKind::Write:
                out += fmt::format("{}  {:<9}{}  {}\n", when, "write",
                                   terminal.ink(Ink::Warn, pad(herberge::printable(e.lies_in), 40)),
                                   terminal.ink(Ink::Dim, amount(e)));
                break;
            case RehearsalEventKind::Text:
                for (const auto& line : text_lines(e.text))
                    out += fmt::format("{}  {:<9}{}\n", when, "prints",
                                       terminal.ink(Ink::Blue, herberge::printable(line)));
                break;
            case RehearsalEventKind::Transfer:
                out += fmt::format(
                    "{}  {:<9}{}{}\n", when, "jump", terminal.ink(Ink::Bold, herberge::printable(e.text)),
                    terminal.ink(Ink::Dim,
                                 fmt::format(" at {:08x}{}", e.address,
                                             e.stage ? fmt::format(", stage {}", herberge::stage_id(*e.stage)) : "")));
                break;
            case RehearsalEventKind::Key: out += fmt::format("{}  {:<9}{}\n", when, "key", e.text); break;
            case RehearsalEventKind::Mode: out += fmt::format("{}  {:<9}{}\n", when, "mode", e.text); break;
            case RehearsalEventKind::End:
                out += fmt::format("{}  {:<9}{}\n", when, "end", terminal.ink(Ink::Bold, herberge::printable(e.text)));
                break;
        }
    }
    std::string bar;
    for (int i = 0; i < 80; ++i) bar += "─";
    out += fmt::format("\n  ┌{}┐\n", bar);
    for (const auto& line : rehearsal.screen) out += "  │" + terminal.ink(Ink::Blue, pad(line, 80)) + "│\n";
    out += fmt::format("  └{}┘\n", bar);
    return out;
}

}  // namespace tool
