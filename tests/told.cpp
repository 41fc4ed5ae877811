// SPDX-License-Identifier: MIT
#include "told.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <gtest/gtest.h>
#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <regex>
#include <span>
#include <sstream>

using namespace herberge;

namespace support {

namespace {

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

void tell(std::string& out, const Finding& finding) {
    out += fmt::format("{} {}: {}\n", severity_id(finding.severity), code_id(finding.code), finding.text);
    for (const auto& one : finding.evidence) out += "    " + line_of(one) + "\n";
}

/// The kiosk's keys are made anew each time, and what they sign with them.
std::string without_digests(const std::string& text) {
    static const std::regex digest("SHA-256 [0-9a-f]{16,}");
    return std::regex_replace(text, digest, "SHA-256 …");
}

}  // namespace

std::string told(const Machine& machine, const CheckOptions& options, const Machine* sound) {
    const auto verdict = check(machine, options);
    std::string out;
    for (const auto& system : verdict.systems) tell(out, system);
    for (const auto& finding : verdict.findings) tell(out, finding);
    if (verdict.firmware == FirmwareKind::Bios) {
        RehearsalOptions brief;
        brief.most_instructions = 5'000'000;
        brief.idle_instructions = 1'000'000;
        tell(out, rehearse(machine, 1, brief));
    }
    for (const auto& one : mend(machine, verdict, options)) tell(out, one);
    if (sound != nullptr && verdict.some_fail())
        for (const auto& one : compare_machines(*sound, options, machine, options).differences)
            out += fmt::format("{} {} {} {}{}: {} | {}\n", stage_id(one.stage), difference_id(one.kind), one.place,
                               one.what,
                               one.decides    ? " [decides]"
                               : one.explains ? " [explains]"
                                              : "",
                               one.before, one.after);
    return without_digests(out);
}

std::string told_briefly(const Machine& machine, const CheckOptions& options) {
    const auto verdict = check(machine, options);
    std::string out;
    for (const auto& system : verdict.systems) {
        out += fmt::format("{} {} {}\n  ", system.place.value_or("-"), system.name, starts_id(system.starts));
        for (const auto& rung : system.stages)
            if (rung.state != State::NotReached)
                out += fmt::format("{} {}, ", stage_id(rung.stage), state_id(rung.state));
        out += fmt::format("\n  entry {} screen {}\n", system.entry, system.symptom);
        if (!system.stops_at) continue;
        const auto& rung = system.at(*system.stops_at);
        out += "  " + rung.text + "\n";
        for (const auto& one : rung.evidence) out += "    " + line_of(one) + "\n";
    }
    for (const auto& finding : verdict.findings)
        out += fmt::format("{} {}: {}\n", severity_id(finding.severity), code_id(finding.code), finding.text);
    for (const auto& one : mend(machine, verdict, options)) tell(out, one);
    return without_digests(out);
}

void expect_as_kept(const std::string& now) {
    const auto* test = testing::UnitTest::GetInstance()->current_test_info();
    std::string suite = test->test_suite_name(), name = test->name();
    std::ranges::replace(suite, '/', '-');
    const std::string path =
        fmt::format("{}/tests/stories/{}/{}.txt", SOURCE_DIR, suite, name.substr(name.find('/') + 1));
    if (std::getenv("HERBERGE_WRITE_VIEWS") != nullptr) {
        std::filesystem::create_directories(std::filesystem::path(path).parent_path());
        std::ofstream(path) << now;
    }
    std::ifstream file(path);
    const std::string kept(std::istreambuf_iterator<char>(file), {});
    std::istringstream before(kept), after(now);
    std::string was, is;
    int line = 0;
    while (++line, std::getline(before, was) && std::getline(after, is)) ASSERT_EQ(is, was) << path << ":" << line;
    EXPECT_EQ(now.size(), kept.size()) << path << " has other lines from " << line << " on";
}

}  // namespace support
