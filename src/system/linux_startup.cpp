// SPDX-License-Identifier: MIT
#include <herberge/startup.hpp>

#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <map>
#include <set>

#include "system/run_levels.hpp"

namespace herberge {

namespace {

/// "3" and "multi-user" are names of targets, too.
std::string target_of(const std::string& level) {
    if (level.find('.') != std::string::npos) return level;
    if (level.size() == 1 && level[0] >= '0' && level[0] <= '6') return "runlevel" + level + ".target";
    return level + ".target";
}

/// The milestone before which each job must have started.
std::map<std::string, std::string> milestones(const UnitStore& units, const StartPlan& plan, const std::string& own) {
    std::map<std::string, std::string> out;
    std::set<std::string> jobs;
    for (const auto& job : plan.jobs) jobs.insert(job.unit);
    for (const std::string& milestone : {std::string("sysinit.target"), std::string("basic.target"), own}) {
        if (!jobs.contains(milestone)) continue;
        std::vector<std::string> todo = {milestone};
        for (std::size_t i = 0; i < todo.size(); ++i) {
            if (!out.emplace(todo[i], milestone).second) continue;
            const Unit* unit = units.find(todo[i]);
            if (unit == nullptr) continue;
            for (const auto& tie : unit->ties)
                if (tie.tie == UnitTie::After && jobs.contains(tie.unit) && !out.contains(tie.unit))
                    todo.push_back(tie.unit);
        }
    }
    return out;
}

/// Files that inits and logins read whatever they start.
constexpr std::array lists = {"/etc/crypttab", "/etc/fstab",         "/etc/group",          "/etc/inittab",
                              "/etc/modules",  "/etc/nsswitch.conf", "/etc/pam.d/login",    "/etc/passwd",
                              "/etc/rc.local", "/etc/rc.conf",       "/etc/selinux/config", "/etc/system-update"};

/// As LinuxStart::files. `units`: as the plan loaded them; empty for inits that have none.
std::vector<std::string> files_of(const LinuxStart& start, const std::string& root,
                                  const std::vector<const Unit*>& units) {
    std::set<std::string> out(lists.begin(), lists.end());
    for (const auto* unit : units) {
        if (!unit->fragment.empty()) out.insert(unit->fragment);
        out.insert(unit->drop_ins.begin(), unit->drop_ins.end());
    }
    const std::string lead = root + ":";
    for (const auto& step : start.steps) {
        if (step.file.starts_with('/')) out.insert(step.file);
        for (const auto& one : step.evidence)
            if (one.place.starts_with(lead + "/")) out.insert(one.place.substr(lead.size()));
    }
    return {out.begin(), out.end()};
}

Result<LinuxStart> by_units(const Machine& machine, const Volume& root, const InitChoice& init,
                            const CommandLine& arguments, const std::string& level) {
    LinuxStart out;
    out.init = init.program.path;
    out.flavour = init.flavour;
    UnitStore units(root, arguments, &machine);
    const auto asked = level.empty() ? systemd_target(arguments) : target_of(level);
    if (!level.empty() && units.load(asked).load == UnitLoad::NotFound)
        return fail(ErrorKind::NotFound, fmt::format("there is no {}", printable(asked)), root.place);
    const auto plan = plan_boot(units, asked);
    const auto outcome = follow_start(machine, root, arguments, units, plan, init.processor);
    const Unit* target = units.find(plan.target);
    const std::string own = target != nullptr ? target->name : plan.target;
    out.level = own == plan.target ? own : fmt::format("{} ({})", own, plan.target);
    out.asked_by = !level.empty() ? "" : asked == "default.target" ? "systemd's own choice" : "the command line";
    out.not_followed = units.other_generators();
    if (plan.refused) out.findings.push_back(*plan.refused);
    if (outcome.breaks) out.findings.push_back(*outcome.breaks);
    out.findings.insert(out.findings.end(), plan.findings.begin(), plan.findings.end());
    out.findings.insert(out.findings.end(), outcome.findings.begin(), outcome.findings.end());
    const auto when = milestones(units, plan, own);
    std::map<std::string, std::vector<StartStep>> groups;
    std::vector<std::string> order = {"sysinit.target", "basic.target"};
    if (std::ranges::find(order, own) == order.end()) order.push_back(own);
    order.emplace_back();
    for (const auto& unit : outcome.units) {
        const auto job = std::ranges::find(plan.jobs, unit.unit, &StartJob::unit);
        const bool fine = unit.kind == UnitOutcome::Kind::Starts || unit.kind == UnitOutcome::Kind::Untold;
        const bool quiet =
            unit.unit.ends_with(".device") || unit.unit.ends_with(".slice") || unit.unit.ends_with(".target");
        if (fine && quiet && unit.unit != own) {
            ++out.silent;
            continue;
        }
        StartStep step;
        const auto milestone = when.find(unit.unit);
        const std::string before = milestone != when.end() ? milestone->second : std::string{};
        step.group = before.empty() ? "beside them" : "before " + before;
        step.name = unit.unit;
        step.command = unit.command;
        step.file = unit.file;
        if (job != plan.jobs.end() && !job->because.empty())
            step.because = fmt::format("{} {} it", job->because,
                                       job->by == UnitTie::Wants || job->by == UnitTie::Upholds ? "wants" : "requires");
        step.state = unit.kind;
        step.text = unit.text;
        step.evidence = unit.evidence;
        if (step.evidence.empty())
            if (const Unit* one = units.find(unit.unit); one != nullptr && !one->fragment.empty())
                step.evidence.push_back(evidence_place(fmt::format("{}:{}", root.place, one->fragment)));
        if (unit.unit == own) {
            step.group = "then";
            groups["(then)"].push_back(std::move(step));
        } else groups[before].push_back(std::move(step));
    }
    for (const auto& one : order) {
        if (one.empty())
            for (auto& step : groups["(then)"]) out.steps.push_back(std::move(step));
        for (auto& step : groups[one]) out.steps.push_back(std::move(step));
    }
    std::vector<const Unit*> loaded;
    for (const auto& job : plan.jobs)
        if (const Unit* unit = units.find(job.unit); unit != nullptr) loaded.push_back(unit);
    out.files = files_of(out, root.place, loaded);
    return out;
}

Result<InitChoice> init_of(const InstalledSystem& system, const CommandLine& arguments) {
    if (system.kind != SystemKind::Linux) return fail(ErrorKind::WrongType, "no Linux", system.volume->place);
    if (system.volume->files(Observer::Linux) == nullptr)
        return fail(ErrorKind::Unsupported, "its file system is not read here", system.volume->place);
    for (const auto processor : {Processor::X86, Processor::Arm64, Processor::Arm, Processor::Riscv64}) {
        auto init = judge_init(system.tree(), arguments, nullptr, processor);
        if (!init.program.path.empty() && init.program.runs) return init;
    }
    return fail(ErrorKind::NotFound, "no init that could run is there", system.volume->place);
}

}  // namespace

std::string step_outcome(const StartStep& step) {
    switch (step.state) {
        case UnitOutcome::Kind::Starts: return {};
        case UnitOutcome::Kind::Skipped: return "passed over: " + step.text;
        case UnitOutcome::Kind::Fails: return "fails: " + step.text;
        case UnitOutcome::Kind::Dragged: return "is not started: " + step.text;
        case UnitOutcome::Kind::Untold: return step.text;
    }
    return {};
}

Result<LinuxStart> linux_startup(const Machine& machine, const InstalledSystem& system, const CommandLine& arguments,
                                 const std::string& level) {
    const auto init = init_of(system, arguments);
    if (!init) return tl::unexpected(init.error());
    if (init->flavour == "systemd") return by_units(machine, system.tree(), *init, arguments, level);
    auto out = start_by_levels(system.tree(), *init, arguments, level);
    if (out) out->files = files_of(*out, system.tree().place, {});
    return out;
}

Result<LevelTable> linux_levels(const InstalledSystem& system, const CommandLine& arguments) {
    const auto init = init_of(system, arguments);
    if (!init) return tl::unexpected(init.error());
    if (init->flavour != "systemd") return table_of_levels(system.tree(), *init);
    std::vector<std::string> levels;
    std::map<std::string, std::set<std::string>> on;
    UnitStore units(system.tree(), arguments);
    for (const char* level : {"rescue", "multi-user", "graphical"}) {
        const auto name = std::string(level) + ".target";
        if (units.load(name).load != UnitLoad::Loaded) continue;
        levels.emplace_back(level);
        for (const auto& job : plan_start(units, name).jobs)
            if (!job.verify && !job.unit.ends_with(".slice") && !job.unit.ends_with(".device"))
                on[job.unit].insert(level);
    }
    if (levels.empty()) return fail(ErrorKind::NotFound, "none of the usual targets is there", system.volume->place);
    return make_table(std::move(levels), on);
}

}  // namespace herberge
