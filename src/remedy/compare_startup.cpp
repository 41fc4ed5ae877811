// SPDX-License-Identifier: MIT
// What the systems of two machines start, beside each other.
#include <fmt/format.h>
#include <algorithm>
#include <functional>
#include <map>
#include <set>

#include <herberge/startup.hpp>
#include <herberge/system.hpp>

#include "remedy/differences.hpp"

namespace herberge::remedy {

namespace {

/// What is started, each with what it runs and why it does not. By its phase of a Windows (0 of a Linux) and its name.
using Started = std::map<std::pair<int, std::string>, std::string>;

void compare_started(const std::string& place, const Started& was, const Started& is, Differences& out) {
    std::set<Started::key_type> keys;
    for (const auto* side : {&was, &is})
        for (const auto& [key, text] : *side) keys.insert(key);
    const auto text = [](const Started& side, const Started::key_type& key) {
        const auto found = side.find(key);
        return found == side.end() ? std::string{} : found->second;
    };
    for (const auto& key : keys) differ(out, Stage::Services, place, key.second, text(was, key), text(is, key));
}

/// The items of each Windows that can be read, by its place.
std::map<std::string, Started> windows_items(const std::vector<InstalledSystem>& systems) {
    std::map<std::string, Started> out;
    for (const auto& system : systems) {
        if (system.kind != SystemKind::Windows) continue;
        const auto start = windows_startup(system);
        if (!start) continue;
        auto& all = out[system.volume->place + ":" + system.directory];
        for (const auto& item : start->items)
            all.emplace(std::pair(static_cast<int>(item.phase),
                                  fmt::format("{} {}", startup_phase_name(item.phase), item.name)),
                        fmt::format("{}{}", item.command.empty() ? item.file : item.command,
                                    item.present ? "" : ", file not there"));
    }
    return out;
}

Started steps_of(const LinuxStart& start) {
    Started out;
    for (const auto& step : start.steps) {
        // Before which target a unit starts is a matter of its file; of scripts the level is half of the name.
        const auto name = start.flavour == "systemd" ? step.name : fmt::format("{}: {}", step.group, step.name);
        auto text = step.command;
        // "was …" and "is …" stand before it.
        auto outcome = step_outcome(step);
        if (outcome.starts_with("is ")) outcome.erase(0, 3);
        if (!outcome.empty()) text += (text.empty() ? "" : ", ") + outcome;
        out.emplace(std::pair(0, name), text.empty() ? "started" : text);
    }
    return out;
}

}  // namespace

Side::Side(const Machine& its_machine, const CheckOptions& its_options, const Verdict& its_verdict,
           const Verdict& other)
    : machine(its_machine), options(its_options), verdict(its_verdict), systems(find_systems(machine)) {
    for (const auto& system : systems) {
        if (system.kind != SystemKind::Linux) continue;
        // Where no entry is reached, the arguments of the other machine's: the same system is to be compared.
        std::string arguments;
        for (const auto* side : {&other, &verdict})
            for (const auto& one : side->systems)
                if (one.place == system.volume->place && !one.entry.empty()) arguments = one.arguments;
        auto start = linux_startup(machine, system, CommandLine(arguments));
        if (start) runs.push_back({system.tree().place, std::move(*start)});
    }
}

void compare_startup(const Sides& sides, Differences& out) {
    const auto was = windows_items(sides.before.systems), is = windows_items(sides.after.systems);
    // A registry or an init that is there on one side only is told as a file.
    for (const auto& [place, items] : was)
        if (const auto found = is.find(place); found != is.end()) compare_started(place, items, found->second, out);
    for (const auto& one : sides.before.runs) {
        const auto found = std::ranges::find(sides.after.runs, one.place, &LinuxRun::place);
        if (found == sides.after.runs.end()) continue;
        const LinuxStart& start = one.start;
        const LinuxStart& other = found->start;
        differ(out, Stage::Init, one.place, "init", start.init, other.init);
        if (start.flavour != other.flavour) continue;
        differ(out, Stage::Services, one.place, start.flavour == "systemd" ? "target" : "run level", start.level,
               other.level);
        compare_started(one.place, steps_of(start), steps_of(other), out);
    }
}

}  // namespace herberge::remedy
