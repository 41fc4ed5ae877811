// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <pugixml.hpp>
#include <sstream>

#include <herberge/boot_report.hpp>
#include <herberge/lines.hpp>
#include <herberge/sentences.hpp>

#include "report/report_texts.hpp"

namespace herberge {

namespace {

std::string_view class_name(const Verdict& verdict) {
    switch (verdict.firmware) {
        case FirmwareKind::Uefi: return "UEFI";
        case FirmwareKind::Board: return "board";
        case FirmwareKind::Bios:
        case FirmwareKind::Auto: break;
    }
    return "BIOS";
}

/// Text that XML can hold (Extensible Markup Language 1.0, 2.2: no U+FFFE, U+FFFF); control characters are gone with
/// `shown` already.
std::string xml(std::string_view text) {
    std::vector<std::string> parts = lines_of(text);
    for (auto& line : parts) {
        line = shown(line);
        for (const std::string_view never : {"\xEF\xBF\xBE", "\xEF\xBF\xBF"})
            for (auto at = line.find(never); at != std::string::npos; at = line.find(never))
                line[at] = line[at + 1] = line[at + 2] = '?';
    }
    return fmt::format("{}", fmt::join(parts, "\n"));
}

void set(pugi::xml_node node, const char* name, const std::string& value) {
    node.append_attribute(name).set_value(value.c_str());
}

/// What is told of a case besides its outcome.
std::string story(const BootReport& report, const SystemVerdict& system) {
    std::string out;
    for (const auto& rung : system.stages)
        out += fmt::format("{:<16} {:<12} {}\n", stage_id(rung.stage), report::state_words(rung.state), rung.text);
    if (const auto* mending = report::mending_of(report, system)) {
        for (const auto& each : mending->proposals) out += fmt::format("would mend it (proven): {}\n", each.title);
        if (mending->proposals.empty()) out += fmt::format("would have to be brought: {}\n", mending->bring);
    }
    return out;
}

/// Why it does not start: the text of a failure.
std::string failure_text(const SystemVerdict& system) {
    std::string out;
    if (const auto* rung = report::deciding(system)) {
        out = rung->text + "\n";
        for (const auto& each : rung->evidence) out += evidence_text(each) + "\n";
    }
    if (!system.symptom.empty()) out += "on the screen:\n" + system.symptom + "\n";
    return out;
}

}  // namespace

std::string report_junit(const BootReport& report, bool strict) {
    pugi::xml_document document;
    auto declaration = document.append_child(pugi::node_declaration);
    set(declaration, "version", "1.0");
    set(declaration, "encoding", "UTF-8");
    auto root = document.append_child("testsuites");
    auto suite = root.append_child("testsuite");
    const auto& systems = report.verdict.systems;
    const auto failing = std::ranges::count_if(systems, [&](const SystemVerdict& one) {
        return one.starts == Starts::No || (strict && one.starts == Starts::Unknown);
    });
    const auto skipped = strict ? 0 : std::ranges::count(systems, Starts::Unknown, &SystemVerdict::starts);
    // A machine without a system is a failed case of its own.
    const bool none = systems.empty();
    std::string name;
    for (const auto& disk : report.machine.disks) name += (name.empty() ? "" : ", ") + disk.path;
    for (auto node : {root, suite}) {
        set(node, "name", node == root ? "start of every installed system" : xml(name));
        set(node, "tests", std::to_string(systems.size() + (none ? 1 : 0)));
        set(node, "failures", std::to_string(failing + (none ? 1 : 0)));
        set(node, "errors", "0");
        set(node, "skipped", std::to_string(skipped));
        set(node, "time", fmt::format("{:.3f}", report.origin.seconds));
    }
    auto properties = suite.append_child("properties");
    for (const auto& [key, value] : report::origin_facts(report.origin)) {
        auto property = properties.append_child("property");
        set(property, "name", key);
        set(property, "value", xml(value));
    }
    for (const auto& system : systems) {
        auto node = suite.append_child("testcase");
        set(node, "classname", std::string(class_name(report.verdict)));
        set(node, "name", xml(system_title(system)));
        set(node, "time", "0");
        const bool fails = system.starts == Starts::No || (strict && system.starts == Starts::Unknown);
        if (fails) {
            auto failure = node.append_child("failure");
            set(failure, "type", system.stops_at ? std::string(stage_id(*system.stops_at)) : "unknown");
            set(failure, "message", xml(verdict_sentence(system)));
            failure.append_child(pugi::node_pcdata).set_value(xml(failure_text(system)).c_str());
        } else if (system.starts == Starts::Unknown) {
            const auto* rung = report::deciding(system);
            set(node.append_child("skipped"), "message",
                xml(verdict_sentence(system) + (rung != nullptr ? ": " + rung->text : std::string{})));
        }
        node.append_child("system-out").append_child(pugi::node_pcdata).set_value(xml(story(report, system)).c_str());
    }
    if (none) {
        auto node = suite.append_child("testcase");
        set(node, "classname", std::string(class_name(report.verdict)));
        set(node, "name", "a system that could start");
        set(node, "time", "0");
        set(node.append_child("failure"), "message", headline(report.verdict));
    }
    std::ostringstream out;
    document.save(out, "  ");
    return out.str();
}

}  // namespace herberge
