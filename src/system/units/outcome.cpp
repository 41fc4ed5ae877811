// SPDX-License-Identifier: MIT
// What becomes of the jobs of a start (core/job.c, core/service.c, core/mount.c of systemd 252).
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <map>
#include <set>

#include "system/config_text.hpp"
#include "system/crypttab.hpp"
#include "system/mount_options.hpp"
#include "system/units/accounts.hpp"
#include "system/units/conditions.hpp"
#include "system/units/generators.hpp"
#include "system/units/names.hpp"

namespace herberge {

namespace {

using Kind = UnitOutcome::Kind;

bool needs(UnitTie tie) { return tie == UnitTie::Requires || tie == UnitTie::BindsTo || tie == UnitTie::Requisite; }

bool ends_the_start(std::string_view unit) {
    return unit == "emergency.target" || unit == "emergency.service" || unit == "rescue.target" ||
           unit == "rescue.service" || unit == "halt.target" || unit == "poweroff.target" || unit == "reboot.target";
}

class Follower {
public:
    Follower(const Machine& machine, const Volume& root, const CommandLine& arguments, const UnitStore& units,
             const StartPlan& plan, Processor processor, std::optional<bool> root_checked)
        : machine_(machine),
          root_(root),
          fs_(*root.files(Observer::Linux)),
          arguments_(arguments),
          units_(units),
          plan_(plan),
          processor_(processor),
          root_checked_(root_checked) {}

    StartOutcome run() {
        for (const auto& job : plan_.jobs) {
            const Unit* unit = units_.find(job.unit);
            if (unit == nullptr) continue;
            UnitOutcome outcome = job.verify ? not_running(job) : alone(*unit);
            outcome.unit = job.unit;
            if (outcome.kind == Kind::Starts || outcome.kind == Kind::Untold) drag(*unit, outcome);
            place_[job.unit] = out_.units.size();
            out_.units.push_back(std::move(outcome));
        }
        tell();
        return std::move(out_);
    }

private:
    static UnitOutcome not_running(const StartJob& job) {
        UnitOutcome out;
        out.kind = Kind::Fails;
        out.text = fmt::format("{} wants it to run already, and nothing starts it", job.because);
        return out;
    }

    /// A unit that is started behind one that it requires, and that fails, fails with it.
    void drag(const Unit& unit, UnitOutcome& outcome) {
        for (const auto& one : unit.ties) {
            if (!needs(one.tie) || !unit.has_tie(UnitTie::After, one.unit)) continue;
            const auto found = place_.find(one.unit);
            if (found == place_.end()) {
                // Nothing starts it: BindsTo= and Requisite= ask for it to run.
                const Unit* other = units_.find(one.unit);
                const bool runs = one.unit == "-.mount" || one.unit.ends_with(".slice") || one.unit == "init.scope";
                if (one.tie == UnitTie::Requires || runs || other == nullptr) continue;
                outcome.kind = Kind::Dragged;
                outcome.text = fmt::format("{} that it is bound to does not start", one.unit);
                outcome.evidence = {one.said};
                return;
            }
            const auto& other = out_.units[found->second];
            if (other.kind == Kind::Fails || other.kind == Kind::Dragged) {
                outcome.kind = Kind::Dragged;
                outcome.text = fmt::format("{}, which it requires, fails", one.unit);
                outcome.evidence = {one.said};
                return;
            }
            if (other.kind == Kind::Skipped && one.tie != UnitTie::Requires && !one.unit.ends_with(".device")) {
                outcome.kind = Kind::Dragged;
                outcome.text = fmt::format("{} that it is bound to is passed over", one.unit);
                outcome.evidence = {one.said};
                return;
            }
        }
    }

    /// By itself, whatever becomes of others.
    UnitOutcome alone(const Unit& unit) {
        const auto type = unit.type();
        if (type == ".device") return device(unit);
        UnitOutcome out;
        const auto conditions = units::judge_conditions(fs_, arguments_, unit, "Condition", processor_, root_checked_);
        if (conditions.holds == false) {
            out.kind = Kind::Skipped;
            out.text = said(*conditions.by);
            out.evidence = {at(*conditions.by)};
            describe(unit, out);
            return out;
        }
        const auto assertions = units::judge_conditions(fs_, arguments_, unit, "Assert", processor_, root_checked_);
        if (assertions.holds == false) {
            out.kind = Kind::Fails;
            out.text = "it asserts " + said(*assertions.by);
            out.evidence = {at(*assertions.by)};
            return out;
        }
        if (type == ".service") out = service(unit);
        else if (type == ".mount") out = mount(unit);
        else describe(unit, out);
        // What may be passed over may not fail.
        if (out.kind == Kind::Fails && (!conditions.holds || !assertions.holds)) {
            out.kind = Kind::Untold;
            out.text += fmt::format(", if {} lets it start", said(*(conditions.holds ? assertions.by : conditions.by)));
        }
        return out;
    }

    static std::string said(const UnitSetting& setting) { return fmt::format("{}={}", setting.key, setting.value); }
    [[nodiscard]] Evidence at(const UnitSetting& setting) const {
        return evidence_line(fmt::format("{}:{}", root_.place, setting.place), setting.line, {}, said(setting));
    }

    /// What a unit that is no service does.
    static void describe(const Unit& unit, UnitOutcome& out) {
        const auto type = unit.type();
        if (type == ".mount")
            out.command = fmt::format("{} at {}", unit.value("Mount", "What").value_or("?"),
                                      unit.value("Mount", "Where").value_or("?"));
        else if (type == ".swap") out.command = unit.value("Swap", "What").value_or("?");
        else if (type == ".service")
            if (const auto starts = unit.values("Service", "ExecStart"); !starts.empty())
                out.command = starts.front()->value;
    }

    UnitOutcome device(const Unit& unit) {
        UnitOutcome out;
        out.kind = Kind::Untold;
        const auto path = units::unescape_path(unit.name.substr(0, unit.name.size() - unit.type().size()));
        out.command = path;
        if (!path.starts_with("/dev/disk/") && !path.starts_with("/dev/mapper/") && !path.starts_with("/dev/sd") &&
            !path.starts_with("/dev/nvme") && !path.starts_with("/dev/vd") && !path.starts_with("/dev/mmcblk") &&
            !path.starts_with("/dev/md") && !path.starts_with("/dev/xvd")) {
            out.text = "it depends on the machine";
            return out;
        }
        auto target = resolve_device(machine_, path);
        follow_crypt_name(machine_, target, nullptr, arguments_);
        if (target.volume != nullptr) {
            out.kind = Kind::Starts;
            out.text = target.volume->place;
            return out;
        }
        if (target.cannot_tell || target.kind == RootReference::Kind::Other) {
            out.text = target.note.empty() ? "these images do not tell whether it is there" : target.note;
            return out;
        }
        out.kind = Kind::Fails;
        out.text = fmt::format("{} does not appear: nothing here answers to it", path);
        return out;
    }

    /// What lies on the device, where it is there: whether it comes is the device's own outcome.
    UnitOutcome mount(const Unit& unit) {
        UnitOutcome out;
        describe(unit, out);
        const auto what = unit.value("Mount", "What").value_or("");
        if (!units::is_device_path(what)) return out;
        auto target = resolve_device(machine_, what);
        follow_crypt_name(machine_, target, nullptr, arguments_);
        const auto volume = target.volume;
        if (volume == nullptr || volume->not_assembled || volume->unread() || volume->mark_unreadable()) return out;
        const auto type = unit.value("Mount", "Type").value_or("auto");
        if (auto other = other_than_asked(*volume, type)) {
            out.kind = Kind::Fails;
            out.text = std::move(*other);
            out.evidence = {evidence_place(volume->place, type == "auto" ? "a file system" : printable(type),
                                           std::string(volume->info.name()))};
            return out;
        }
        const auto obstacles =
            volume->files(Observer::Linux)->mount_obstacles(unit.value("Mount", "Options").value_or(""));
        if (obstacles.empty()) return out;
        out.kind = Kind::Fails;
        out.text = fmt::format("{} cannot be mounted: {}", volume->place, obstacles.front().text);
        out.evidence = obstacles.front().evidence;
        return out;
    }

    UnitOutcome service(const Unit& unit) {
        UnitOutcome out;
        describe(unit, out);
        const auto type = unit.value("Service", "Type");
        const auto starts = unit.values("Service", "ExecStart");
        // Whether the program can be run is seen by those kinds alone that wait for it.
        const bool waits = type == "exec" || type == "forking" || type == "oneshot" || type == "notify" ||
                           type == "dbus" || (!type && unit.value("Service", "BusName")) || (!type && starts.empty());
        for (const auto* setting : unit.values("Service", "EnvironmentFile")) {
            if (setting->value.starts_with('-') || setting->value.find('%') != std::string::npos ||
                setting->value.find_first_of("*?[") != std::string::npos || !in_image(setting->value))
                continue;
            if (const auto file = resolve(fs_, setting->value); !file && !file.error().unreadable())
                return fails(std::move(out), fmt::format("its {} is not there", setting->value), *setting);
        }
        const auto refusal =
            units::judge_credentials(fs_, unit, [this](std::string_view path) { return in_image(path); });
        for (const char* key : {"ExecCondition", "ExecStartPre", "ExecStart"}) {
            for (const auto* setting : unit.values("Service", key)) {
                auto judged = command(unit, *setting, out);
                if (!judged && refusal && !may_fail(*setting)) {
                    judged = refusal->text;
                    out.evidence.push_back(at(*refusal->setting));
                }
                if (!judged) continue;
                if (std::string_view(key) == "ExecCondition") {
                    // Any answer but 255 means that the unit is passed over, also "cannot be executed".
                    out = fails(std::move(out), *judged, *setting);
                    out.kind = Kind::Skipped;
                    return out;
                }
                if (std::string_view(key) == "ExecStart" && !waits) {
                    out.kind = Kind::Fails;
                    out.text = fmt::format("{} (the start goes on at once: systemd does not wait for it)", *judged);
                    not_waited_for_.insert(unit.name);
                    return out;
                }
                return fails(std::move(out), *judged, *setting);
            }
        }
        return out;
    }

    /// "-" before a command: its failure does not count (systemd.service(5)).
    static bool may_fail(const UnitSetting& command) {
        const std::string_view text = command.value;
        return text.substr(0, std::min(text.find_first_not_of("@-:+!"), text.size())).find('-') !=
               std::string_view::npos;
    }

    UnitOutcome fails(UnitOutcome out, std::string why, const UnitSetting& setting) const {
        out.kind = Kind::Fails;
        out.text = std::move(why);
        out.evidence.push_back(at(setting));
        return out;
    }

    /// Not below another mount, nor made while the machine runs.
    [[nodiscard]] bool in_image(std::string_view path) const {
        static constexpr std::string_view folders[] = {"/run/", "/proc/", "/sys/", "/dev/", "/tmp/", "/var/run/"};
        if (!path.starts_with('/')) return false;
        if (std::ranges::any_of(folders, [&](std::string_view one) { return path.starts_with(one); })) return false;
        for (const Unit* unit : units_.all()) {
            if (unit->type() != ".mount" || unit->fragment.empty()) continue;
            const auto where = unit->value("Mount", "Where");
            if (where && where->size() > 1 && path.starts_with(*where) &&
                (path.size() == where->size() || path[where->size()] == '/'))
                return false;
        }
        return true;
    }

    /// Why a command cannot run; none: it can, or may, or its failure does not count.
    std::optional<std::string> command(const Unit& unit, const UnitSetting& setting, UnitOutcome& out) const {
        const std::string_view text = setting.value;
        const auto signs = text.substr(0, std::min(text.find_first_not_of("@-:+!"), text.size()));
        const auto words = units::quoted_words(text.substr(signs.size()));
        if (!words || words->empty()) return std::nullopt;
        std::string program = words->front();
        if (program.find_first_of("%$") != std::string::npos) return std::nullopt;
        if (!program.starts_with('/')) {
            for (const char* folder : {"/usr/local/sbin", "/usr/local/bin", "/usr/sbin", "/usr/bin", "/sbin", "/bin"})
                if (resolve(fs_, fmt::format("{}/{}", folder, program))) {
                    program = fmt::format("{}/{}", folder, program);
                    break;
                }
            if (!program.starts_with('/')) {
                if (signs.find('-') != std::string_view::npos) return std::nullopt;
                return fmt::format("{} is in none of the folders for programs", printable(program));
            }
        }
        if (!in_image(program)) return std::nullopt;
        if (out.file.empty()) out.file = program;
        if (signs.find('-') != std::string_view::npos) return std::nullopt;
        const auto judged = judge_executable(fs_, root_.place, program, processor_);
        if (judged.runs && judged.missing_library.empty()) return always_fails(unit, program);
        if (!judged.code && judged.missing_library.empty()) return std::nullopt;  // not read: it may run
        out.evidence.insert(out.evidence.end(), judged.evidence.begin(), judged.evidence.end());
        return judged.runs ? fmt::format("{} cannot run: {}", program, judged.missing_library)
                           : fmt::format("{} cannot run: {}", program, judged.why);
    }

    /// A program that does nothing but fail (coreutils' false), unless its status 1 counts as success.
    static std::optional<std::string> always_fails(const Unit& unit, std::string_view program) {
        if (program != "/bin/false" && program != "/usr/bin/false") return std::nullopt;
        for (const auto* setting : unit.values("Service", "SuccessExitStatus"))
            for (const auto& word : blank_words(setting->value))
                if (word == "1") return std::nullopt;
        return fmt::format("{} does nothing but fail", program);
    }

    void tell() {
        constexpr std::size_t most = 12;
        for (const auto& unit : out_.units) {
            if (unit.kind != Kind::Fails) continue;
            const auto way = not_waited_for_.contains(unit.unit) ? std::vector<std::string>{}
                                                                 : dragged_along(units_, plan_, unit.unit);
            if (!way.empty()) {
                if (!out_.breaks) out_.breaks = ends(unit, way);
                continue;
            }
            // Of the others, what waits for them tells.
            if (!unit.unit.ends_with(".service") || out_.findings.size() >= most) continue;
            auto evidence = unit.evidence;
            if (evidence.empty()) evidence.push_back(evidence_place(unit.unit));
            out_.findings.push_back(make_finding(
                Code::ServicesUnitFails, fmt::format("{} fails: {}", unit.unit, unit.text), std::move(evidence)));
        }
    }

    [[nodiscard]] Finding ends(const UnitOutcome& unit, const std::vector<std::string>& way) const {
        std::vector<Evidence> evidence = unit.evidence;
        for (std::size_t i = 0; i + 1 < way.size(); ++i)
            if (const Unit* later = units_.find(way[i + 1]))
                for (const auto& one : later->ties)
                    if (needs(one.tie) && one.unit == way[i]) {
                        evidence.push_back(one.said);
                        break;
                    }
        if (evidence.empty()) evidence.push_back(evidence_place(unit.unit));
        const bool device = unit.unit.ends_with(".device");
        const bool mount = unit.unit.ends_with(".mount");
        std::string screen = device  ? fmt::format("Timed out waiting for device {}.\n", unit.command)
                             : mount ? fmt::format("Failed to mount {}.\n", unit.unit)
                                     : fmt::format("Failed to start {}.\n", unit.unit);
        for (std::size_t i = 1; i < way.size(); ++i)
            if (!ends_the_start(way[i])) screen += fmt::format("Dependency failed for {}.\n", way[i]);
        const auto& last = way.back();
        const bool emergency = ends_the_start(last);
        if (emergency) screen += last.starts_with("rescue") ? "You are in rescue mode." : "You are in emergency mode.";
        auto names = way;
        names.erase(names.begin());
        return make_finding(Code::ServicesRequiredFails,
                            fmt::format("{} fails ({}), and with it {}", unit.unit, unit.text, fmt::join(names, ", ")),
                            std::move(evidence), std::move(screen));
    }

    const Machine& machine_;
    const Volume& root_;
    const FileSystem& fs_;
    const CommandLine& arguments_;
    const UnitStore& units_;
    const StartPlan& plan_;
    Processor processor_;
    std::optional<bool> root_checked_;
    StartOutcome out_;
    std::map<std::string, std::size_t, std::less<>> place_;
    std::set<std::string, std::less<>> not_waited_for_;
};

}  // namespace

std::vector<std::string> dragged_along(const UnitStore& units, const StartPlan& plan, const std::string& unit) {
    std::map<std::string, std::string, std::less<>> by;  // a failing unit: whose failure drags it
    std::vector<std::string> todo = {unit};
    std::set<std::string, std::less<>> jobs;
    for (const auto& job : plan.jobs) jobs.insert(job.unit);
    if (!jobs.contains(unit)) return {};
    by.emplace(unit, "");
    const auto way_to = [&](const std::string& last, const std::string& more) {
        std::vector<std::string> way;
        for (std::string at = last; !at.empty(); at = by.find(at)->second) way.push_back(at);
        std::ranges::reverse(way);
        if (!more.empty()) way.push_back(more);
        return way;
    };
    for (std::size_t i = 0; i < todo.size(); ++i) {
        const Unit* failed = units.find(todo[i]);
        if (failed == nullptr) continue;
        for (const auto& one : failed->ties)
            if (one.tie == UnitTie::OnFailure && ends_the_start(one.unit)) return way_to(todo[i], one.unit);
        if (failed == units.find(plan.target)) return way_to(todo[i], "");
        for (const auto& one : failed->ties) {
            const bool hangs =
                one.tie == UnitTie::RequiredBy || one.tie == UnitTie::BoundBy || one.tie == UnitTie::RequisiteOf;
            if (!hangs || by.contains(one.unit) || !jobs.contains(one.unit)) continue;
            const Unit* other = units.find(one.unit);
            if (other == nullptr || !other->has_tie(UnitTie::After, todo[i])) continue;
            by.emplace(one.unit, todo[i]);
            todo.push_back(one.unit);
        }
    }
    return {};
}

StartOutcome follow_start(const Machine& machine, const Volume& root, const CommandLine& arguments,
                          const UnitStore& units, const StartPlan& plan, Processor processor,
                          std::optional<bool> root_checked) {
    return Follower(machine, root, arguments, units, plan, processor, root_checked).run();
}

}  // namespace herberge
