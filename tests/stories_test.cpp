// SPDX-License-Identifier: MIT
// Every machine of the demo: its whole verdict, what would mend it, and how it differs from the sound one, as kept in
// tests/stories/. HERBERGE_WRITE_VIEWS=1 writes those files anew: read what changed.
#include <fmt/format.h>
#include <fstream>
#include <regex>
#include <span>
#include <sstream>

#include "cellar.hpp"
#include "demo_disks.hpp"
#include "help_disc.hpp"
#include "kiosk.hpp"
#include "ledger.hpp"
#include "office_pc.hpp"
#include "reception.hpp"
#include "support.hpp"
#include "weather_station.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

struct Told {
    std::string name;
    std::function<Machine()> machine;
    std::function<CheckOptions()> options;
    std::function<Machine()> sound;  ///< the machine as it was before; empty: there is none
};

CheckOptions bios() { return {}; }

std::string name_of(std::string file) {
    file = file.substr(0, file.find('.'));
    for (auto& c : file)
        if (std::isalnum(static_cast<unsigned char>(c)) == 0) c = '_';
    return file;
}

void add(std::vector<Told>& out, const std::string& group, const std::vector<demo::Story>& all) {
    for (const auto& story : all)
        if (story.key.empty())
            out.push_back({group + "_" + name_of(story.name),
                           [make = story.make] { return support::machine_of(make()); }, bios,
                           [make = all.front().make] { return support::machine_of(make()); }});
}

CheckOptions of_kiosk(const demo::KioskStory& story) {
    CheckOptions out;
    out.firmware = FirmwareKind::Uefi;
    if (!story.variables) return out;
    out.variables = *parse_uefi_flash(story.variables(story.disk()));
    out.variables.source = "kiosk.fd";
    return out;
}

std::vector<Told> all_told() {
    std::vector<Told> out;
    add(out, "Desk", demo::front_desk_disks());
    add(out, "Reception", demo::reception_disks());
    add(out, "Kitchen", demo::kitchen_disks());
    add(out, "Cellar", demo::cellar_disks());
    add(out, "Office", demo::office_pc_disks());
    add(out, "Disc", demo::help_discs());
    for (const auto& story : demo::kiosk_stories())
        out.push_back({"Kiosk_" + name_of(story.name), [story] { return support::machine_of(story.disk()); },
                       [story] { return of_kiosk(story); },
                       [] { return support::machine_of(demo::kiosk_stories().front().disk()); }});
    for (const auto& story : demo::station_stories())
        if (!story.flash && !story.second)
            out.push_back({"Station_" + name_of(story.name), [story] { return support::machine_of(story.card()); },
                           [] {
                               CheckOptions one;
                               one.firmware = FirmwareKind::Board;
                               one.board = demo::station_board;
                               return one;
                           },
                           [] { return support::machine_of(demo::station_stories().front().card()); }});
    for (const auto& story : demo::ledger_stories())
        if (!story.told)
            out.push_back({"Ledger_" + name_of(story.name),
                           [story] {
                               auto ledger = demo::ledger();
                               story.change(ledger);
                               const auto disks = ledger.build();
                               return support::machine_of_disks({disks.begin(), disks.end()});
                           },
                           bios,
                           {}});
    return out;
}

std::string line_of(const Evidence& one) {
    std::string out = one.range ? fmt::format("d{}@{}+{}", one.range->disk, one.range->offset, one.range->length) : "";
    if (!one.place.empty()) out += (out.empty() ? "" : " ") + one.place;
    if (one.line) out += fmt::format(":{}", *one.line);
    if (!one.expected.empty()) out += " expected " + one.expected;
    if (!one.found.empty()) out += " found " + one.found;
    return out;
}

void tell(std::string& out, const SystemVerdict& system) {
    out += fmt::format("{} {} {}{}\n", system.place.value_or("-"), system.name, starts_id(system.starts),
                       system.stops_at ? fmt::format(" at {}", stage_id(*system.stops_at)) : "");
    if (!system.entry.empty())
        out += fmt::format("  entry {}{}: {}\n", system.entry, system.entry_is_default ? " (unattended)" : "",
                           system.arguments);
    if (!system.symptom.empty()) out += "  screen " + system.symptom + "\n";
    if (!system.waits_for.empty()) out += "  waits for " + system.waits_for + "\n";
    out += fmt::format("  route {}\n", fmt::join(system.route, " > "));
    for (const auto& rung : system.stages) {
        out += fmt::format("  {} {}: {}\n", stage_id(rung.stage), state_id(rung.state), rung.text);
        for (const auto code : rung.findings) out += fmt::format("    {}\n", code_id(code));
        for (const auto& one : rung.evidence) out += "    " + line_of(one) + "\n";
    }
    for (const auto& one : system.fallbacks) out += "  else " + one.entry + "\n";
    for (const auto& one : system.named_by) out += "  named by " + one + "\n";
    for (const auto& one : system.unused_kernels) out += "  not used " + one + "\n";
}

void tell(std::string& out, const Mending& one) {
    out += fmt::format("mend {} {}\n", one.place.value_or("-"), one.name);
    for (const auto& proposal : one.proposals) {
        out += "  " + proposal.title + "\n";
        for (const auto& step : proposal.steps) out += "    " + step + "\n";
        for (const auto& risk : proposal.risks) out += "    risk: " + risk + "\n";
        for (const auto& change : proposal.patch.changes)
            out += fmt::format("    d{}@{} {} bytes {}\n", change.disk, change.offset, change.after.size(),
                               hex(std::span(change.after).first(std::min<std::size_t>(24, change.after.size()))));
        for (const auto& variable : proposal.variables)
            out += fmt::format("    {} = {}\n", variable.name, hex(variable.data));
        for (const auto& turn : proposal.systems)
            out += fmt::format("    then {} {}\n", turn.place.value_or("-"), turn_id(turn.turn));
    }
    for (const auto& further : one.further) out += "  further: " + further + "\n";
    if (!one.bring.empty()) out += "  bring " + one.bring + "\n";
}

void tell(std::string& out, const Rehearsal& ran) {
    out += fmt::format("rehearsed {}: {}; {} instructions, {} reads, {} bytes, {} written, {} of memory\n",
                       rehearsal_end_id(ran.end), ran.end_text, ran.instructions, ran.reads, ran.bytes_read, ran.writes,
                       ran.memory_touched);
    constexpr std::size_t most_events = 40;  // a boot sector that finds nothing may run for ever
    for (const auto& event : std::span(ran.events).first(std::min(most_events, ran.events.size())))
        out += fmt::format("  {} {} {}{} {:x} {} x{} {}\n", event.instruction, rehearsal_event_id(event.kind),
                           event.range ? event.range->text() : "-", event.lies_in.empty() ? "" : " " + event.lies_in,
                           event.address, event.stage ? stage_id(*event.stage) : "-", event.count, event.text);
    for (const auto& line : ran.screen)
        if (!line.empty()) out += "  | " + line + "\n";
}

std::string whole(const Told& told) {
    const auto machine = told.machine();
    const auto options = told.options();
    const auto verdict = check(machine, options);
    std::string out;
    for (const auto& system : verdict.systems) tell(out, system);
    for (const auto& finding : verdict.findings) {
        out += fmt::format("{} {}: {}\n", severity_id(finding.severity), code_id(finding.code), finding.text);
        for (const auto& one : finding.evidence) out += "    " + line_of(one) + "\n";
    }
    if (verdict.firmware == FirmwareKind::Bios) {
        RehearsalOptions brief;
        brief.most_instructions = 5'000'000;
        brief.idle_instructions = 1'000'000;
        tell(out, rehearse(machine, 1, brief));
    }
    for (const auto& one : mend(machine, verdict, options)) tell(out, one);
    if (told.sound && verdict.some_fail())
        for (const auto& one : compare_machines(told.sound(), options, machine, options).differences)
            out += fmt::format("{} {} {} {}{}: {} | {}\n", stage_id(one.stage), difference_id(one.kind), one.place,
                               one.what,
                               one.decides    ? " [decides]"
                               : one.explains ? " [explains]"
                                              : "",
                               one.before, one.after);
    // The kiosk's keys are made anew each time, and what they sign with them.
    static const std::regex digest("SHA-256 [0-9a-f]{16,}");
    return std::regex_replace(out, digest, "SHA-256 …");
}

class WholeStories : public testing::TestWithParam<Told> {};
TEST_P(WholeStories, AreToldAsBefore) {
    const std::string path = std::string(SOURCE_DIR) + "/tests/stories/" + GetParam().name + ".txt";
    const auto now = whole(GetParam());
    if (std::getenv("HERBERGE_WRITE_VIEWS") != nullptr) std::ofstream(path) << now;
    std::ifstream file(path);
    const std::string kept(std::istreambuf_iterator<char>(file), {});
    std::istringstream before(kept), after(now);
    std::string was, is;
    int line = 0;
    while (++line, std::getline(before, was) && std::getline(after, is)) ASSERT_EQ(is, was) << path << ":" << line;
    EXPECT_EQ(now.size(), kept.size()) << path << " has " << line << " lines now";
}
INSTANTIATE_TEST_SUITE_P(Demo, WholeStories, testing::ValuesIn(all_told()), support::by_name);

}  // namespace
