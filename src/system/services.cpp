// SPDX-License-Identifier: MIT
// What init must start before the system is up: targets and start-up scripts.
#include <fmt/format.h>
#include <algorithm>
#include <array>

#include <herberge/system.hpp>
#include <herberge/units.hpp>

#include "bytes/listed.hpp"
#include "loader/text.hpp"
#include "system/config_text.hpp"
#include "system/device_manager.hpp"
#include "system/logins.hpp"
#include "system/module_files.hpp"
#include "system/mounts.hpp"
#include "system/run_levels.hpp"
#include "system/start_scripts.hpp"
#include "system/units/conditions.hpp"

namespace herberge {

namespace {

using loader::trim;

class Judge {
public:
    Judge(const Machine& machine, const Volume& root, const InitChoice& init, const CommandLine& arguments)
        : machine_(machine),
          root_(root),
          fs_(*root.files(Observer::Linux)),
          init_(init),
          arguments_(arguments),
          out_{root, fs_} {}

    Claim run() {
        if (init_.flavour == "systemd") systemd();
        else if (init_.flavour == "busybox" || init_.flavour == "sysvinit") inittab();
        else if (init_.flavour == "runit") stages();
        else if (init_.flavour == "script") own_script();
        else out_.claim.text = unknown_init();
        if (units_ != nullptr) no_devices_ = no_devices(root_, init_, *units_);
        if (mounts_all_ && !init_.from_medium)
            judge_mounts(machine_, init_, arguments_,
                         {units_.get(), &plan_, no_devices_ ? &*no_devices_ : nullptr, stops_without_mounts_}, out_);
        besides();
        if (out_.claim.state == State::Unknown && out_.checked > 0) out_.claim.state = State::Holds;
        if (out_.claim.state == State::Holds && out_.claim.text.empty()) out_.claim.text = summary_;
        if (out_.claim.state == State::Holds && !asked_rescue_.empty()) {
            out_.claim.state = State::Doubtful;
            out_.claim.text = asked_rescue_;
        }
        if (!out_.unmounted.empty() && out_.claim.state == State::Holds) {
            out_.claim.state = State::Doubtful;
            out_.claim.text += (out_.claim.text.empty() ? "" : "; but ") + out_.unmounted;
        }
        if (out_.claim.state != State::Breaks && !out_.unseen.empty()) {
            out_.claim.state = State::Unknown;
            out_.claim.text =
                fmt::format("{}{}", out_.claim.text.empty() ? "" : out_.claim.text + "; but ", out_.unseen);
        }
        return std::move(out_.claim);
    }

private:
    /// An init of which nothing is known, or whose own files do not tell what it is.
    [[nodiscard]] std::string unknown_init() {
        std::string out = "this init's own configuration is not known";
        const auto program = resolve(fs_, init_.program.path);
        const auto bytes = program ? fs_.open(program->file.id, init_.program.path) : tl::unexpected(program.error());
        const auto table = resolve(fs_, "/etc/inittab");
        const Error* lost = !bytes && bytes.error().unreadable() ? &bytes.error() : nullptr;
        if (!table && table.error().unreadable()) lost = &table.error();
        const auto text = read_text_file(fs_, init_.program.path, std::uint64_t{1} << 20U);
        if (!text && text.error().unreadable()) lost = &text.error();
        if (lost == nullptr) return out;
        out_.claim.evidence.push_back(evidence_error(*lost));
        return out + ": what tells it cannot be read";
    }

    // --- systemd -------------------------------------------------------------------------------------------------
    void systemd() {
        note_mounts(MountsAll::StopsWithout);
        const auto unit = systemd_target(arguments_);
        const std::string by = unit == "default.target" ? "the default target is" : "the command line asks for";
        units_ = std::make_unique<UnitStore>(root_, arguments_, &machine_);
        plan_ = plan_boot(*units_, unit);
        const Unit& target = *units_->find(unit);
        for (const auto& finding : units_->findings()) out_.claim.findings.push_back(finding);
        if (target.load == UnitLoad::Unreadable) {
            out_.untold(fmt::format("whether {} is there cannot be read", unit), target.problem->evidence.front());
            return;
        }
        for (const auto& finding : plan_.findings) {
            if (finding.code != Code::ServicesTargetMasked && finding.code != Code::ServicesTargetMissing) {
                out_.claim.findings.push_back(finding);
                continue;
            }
            if (finding.code == Code::ServicesTargetMissing && !units_->findings().empty())
                out_.untold(fmt::format("{}; but not all folders of units can be read", finding.text),
                            units_->findings().front().evidence.front());
            else out_.breaks(finding.code, finding.text, finding.evidence, finding.symptom);
            return;
        }
        const auto& others = units_->other_generators();
        if (plan_.refused && plan_.refused_for_missing && (!others.empty() || !units_->findings().empty())) {
            out_.untold(
                fmt::format("{}; {}", plan_.refused->text,
                            others.empty() ? std::string("not all folders of units can be read")
                                           : fmt::format("{} may make it, which is not followed here", others.front())),
                plan_.refused->evidence.front());
            return;
        }
        if (plan_.refused) {
            out_.breaks(plan_.refused->code, plan_.refused->text, plan_.refused->evidence, plan_.refused->symptom);
            return;
        }
        ++out_.checked;
        const Evidence where = evidence_place(out_.at(target.fragment), {}, target.name);
        if (target.name == "rescue.target" || target.name == "emergency.target") {
            asked_rescue_ = fmt::format("{} {}: a shell for repairs, not the usual system", by, target.name);
            out_.risk(Code::ServicesRescueAsked, asked_rescue_, {where});
        }
        for (const auto& [name, screen] : std::initializer_list<std::pair<std::string_view, const char*>>{
                 {"poweroff.target", "reboot: Power down"},
                 {"halt.target", "reboot: System halted"},
                 {"reboot.target", "reboot: Restarting system"}})
            if (target.name == name)
                out_.breaks(Code::ServicesEndAsked, fmt::format("{} {}: the start ends with that", by, name), {where},
                            screen);
        summary_ = fmt::format("the target to start, {}, is there: {}; {} units start with it", unit, target.fragment,
                               plan_.jobs.size());
        out_.claim.evidence.push_back(where);
        const auto outcome =
            follow_start(machine_, root_, arguments_, *units_, plan_, init_.processor, init_.root_checked);
        for (const auto& finding : outcome.findings) out_.claim.findings.push_back(finding);
        // Mounts are looked at by themselves, as every init has them.
        if (outcome.breaks && !is_of_fstab(*outcome.breaks))
            out_.breaks(outcome.breaks->code, outcome.breaks->text, outcome.breaks->evidence, outcome.breaks->symptom);
    }

    /// What fails is made of a line of /etc/fstab.
    [[nodiscard]] bool is_of_fstab(const Finding& finding) const {
        return std::ranges::any_of(finding.evidence,
                                   [&](const Evidence& one) { return one.place == out_.at("/etc/fstab"); });
    }

    /// runit's second stage keeps everything running; without it the third ends the system.
    void stages() {
        for (const std::string script : {"/etc/runit/1", "/etc/runit/2"}) {
            ++out_.checked;
            const auto judged = judge_executable(fs_, root_.place, script, init_.processor);
            if (judged.runs) {
                out_.claim.evidence.push_back(
                    evidence_place(out_.at(script), {}, "runit's stage " + script.substr(script.size() - 1)));
                if (judged.script) this->script(judged.path);
                continue;
            }
            if (!judged.code) continue;
            const auto text = fmt::format("runit's stage {} cannot run: {}", script, judged.why);
            if (script.ends_with('2'))
                out_.breaks(Code::ServicesProgramMissing, text + "; the last stage follows, which ends the system",
                            judged.evidence,
                            fmt::format("- runit: fatal: unable to start child: {}: file does not exist", script));
            else out_.risk(Code::ServicesStartupProgramOptional, text, judged.evidence);
        }
        summary_ = "runit's stages are there";
    }

    /// An init that is a script: it has no configuration besides itself.
    void own_script() {
        ++out_.checked;
        summary_ = fmt::format("{} is a script of its own; what it cannot do without is there", init_.program.path);
        out_.claim.evidence.push_back(
            evidence_place(out_.at(init_.program.path), {}, "a script for " + printable(init_.program.interpreter)));
        script(init_.program.path);
    }

    // --- inittab ---------------------------------------------------------------------------------------------------
    void inittab() {
        const bool busybox = init_.flavour == "busybox";
        const auto text = busybox ? read_text_file(fs_, "/etc/inittab") : out_.text_of("/etc/inittab");
        const bool lost = !text && text.error().unreadable();
        if (lost && !busybox) return;
        // One that opens and gives nothing is an empty one to it (BusyBox libbb/parse_config.c; really started).
        if (lost && resolve(fs_, "/etc/inittab")) {
            out_.breaks(Code::ServicesInittabMissing, "/etc/inittab cannot be read: init finds nothing in it to start",
                        {evidence_error(text.error())}, "(nothing more is shown)");
            return;
        }
        if (!text) {
            if (busybox)
                start_program(
                    "/etc/init.d/rcS",
                    fmt::format("busybox's default, {}",
                                lost ? "for /etc/inittab cannot be read" : "there being no /etc/inittab"),
                    lost ? evidence_error(text.error()) : evidence_place(out_.at("/etc/inittab"), {}, "not there"));
            else
                out_.breaks(Code::ServicesInittabMissing, "/etc/inittab is missing: init does not know what to start",
                            {evidence_place(out_.at("/etc/inittab"), "a readable file", "not there")},
                            "INIT: No inittab file found\nEnter runlevel:");
            return;
        }
        const auto lines = parse_inittab(*text);
        auto level = default_level(lines);
        if (level.empty()) level = "2";
        for (const auto& line : lines) {
            if (line.action == "respawn" || line.action == "askfirst")
                terminals_.emplace_back(program_of(line.process));
            const bool sysinit = line.action == "sysinit" || line.action == "boot" || line.action == "bootwait";
            const bool level_wait =
                line.action == "wait" && (init_.flavour == "busybox" || line.levels.find(level) != std::string::npos);
            if (!sysinit && !level_wait) continue;
            start_program(program_of(line.process), fmt::format("action {}", line.action),
                          evidence_line(out_.at("/etc/inittab"), line.line, {}, printable(line.process)));
        }
    }

    void note_mounts(MountsAll found) {
        mounts_all_ = mounts_all_ || found != MountsAll::No;
        stops_without_mounts_ = stops_without_mounts_ || found == MountsAll::StopsWithout;
    }

    /// The program of an inittab's line, without the marks before it: "-" makes it a login shell (BusyBox init/init.c),
    /// "+" keeps it out of the accounts, "@" waits for no slot (sysvinit src/init.c).
    static std::string_view program_of(std::string_view process) {
        process.remove_prefix(std::min(process.find_first_not_of("-+@"), process.size()));
        return process.substr(0, process.find(' '));
    }

    /// What execvp of glibc and uClibc does with a file that the kernel calls no program (and sysvinit by itself): the
    /// shell gets it (glibc posix/execvpe.c; sysvinit src/init.c, spawn). Text is meant for it; musl only says what the
    /// kernel says.
    [[nodiscard]] bool gives_to_shell() const {
        return init_.flavour == "sysvinit" || init_.program.interpreter.find("ld-musl") == std::string::npos;
    }
    [[nodiscard]] bool shell_runs(const std::string& path) const {
        if (!gives_to_shell() || !judge_executable(fs_, root_.place, "/bin/sh", init_.processor).runs) return false;
        const auto file = resolve(fs_, path);
        const auto bytes = file ? fs_.open(file->file.id, path) : tl::unexpected(file.error());
        const auto text =
            bytes ? (*bytes)->bytes(0, std::min<std::uint64_t>((*bytes)->size(), 4096)) : tl::unexpected(bytes.error());
        return text && std::ranges::find(*text, std::uint8_t{0}) == text->end();
    }
    /// What init says of a program that does not run; empty: it is another one who speaks, a shell or the kernel.
    [[nodiscard]] std::string not_run(const std::string& program, const Executable& judged) const {
        const Code why = *judged.code;
        const bool sum = judged.error == ErrorKind::Checksum;  // the kernel's EBADMSG
        const bool lost = judged.error == ErrorKind::Unreadable || judged.error == ErrorKind::Io;
        const bool format = why == Code::ProgramFormat || why == Code::ProgramArchitecture;
        const bool denied = why == Code::ProgramNotExecutable || why == Code::ProgramNotAFile;
        const bool missing =
            why == Code::ProgramMissing || why == Code::ProgramLinkDangling || why == Code::ProgramInterpreterMissing;
        if (!denied && !missing && !sum && !lost && (!format || gives_to_shell())) return {};
        if (init_.flavour == "sysvinit") return fmt::format("INIT: cannot execute \"{}\"", program);
        return fmt::format("can't run '{}': {}", program,
                           denied   ? "Permission denied"
                           : format ? "Exec format error"
                           : sum    ? "Bad message"
                           : lost   ? "Input/output error"
                                    : "No such file or directory");
    }

    void start_program(std::string_view program, std::string why, Evidence named_by) {
        if (!program.starts_with('/')) return;
        ++out_.checked;
        auto judged = judge_executable(fs_, root_.place, program, init_.processor);
        if (!judged.runs && judged.code == Code::ProgramFormat && shell_runs(judged.path)) {
            out_.claim.evidence.push_back(evidence_place(out_.at(judged.path), {}, "no \"#!\": /bin/sh runs it"));
            judged.interpreter = "/bin/sh";
            judged.runs = true;
        }
        if (!judged.runs) {
            std::vector<Evidence> evidence = judged.evidence;
            evidence.push_back(std::move(named_by));
            out_.breaks(Code::ServicesProgramMissing,
                        fmt::format("init must run {} ({}), and cannot: {}", printable(program), why, judged.why),
                        evidence, not_run(printable(program), judged));
            return;
        }
        if (summary_.empty()) summary_ = fmt::format("init's {} is there", printable(program));
        out_.claim.evidence.push_back(std::move(named_by));
        // The start-up scripts of a distribution: a folder for run level S, or OpenRC's own mounting service.
        if (((program.ends_with("/rc") || program.ends_with("/rcS")) && resolve(fs_, "/etc/rcS.d")) ||
            (program.ends_with("/openrc") && resolve(fs_, "/etc/runlevels/boot/localmount")))
            note_mounts(MountsAll::StopsWithout);
        if (judged.interpreter.ends_with("sh") && !judged.evidence.empty()) script(judged.path);
    }

    /// Programs that a start-up script runs by their full path. One that is missing stops the start only where the
    /// script itself treats a failure as fatal; guarded by a test it does not matter at all.
    void script(const std::string& path) {
        const auto text = out_.text_of(path);
        if (!text) return;
        note_mounts(mounts_everything(*text));
        const bool exits_on_error = text->find("\nset -e") != std::string::npos;
        each_line(*text, [&](int number, std::string_view line) {
            line = trim(line);
            if (!line.starts_with('/')) return;
            const auto program = line.substr(0, line.find_first_of(" \t;|&<>"));
            if (program.find_first_of("$*?[`\"'\\") != std::string_view::npos || program.ends_with(')')) return;
            if (text->find(fmt::format("-x {}", program)) != std::string::npos ||
                text->find(fmt::format("-f {}", program)) != std::string::npos ||
                text->find(fmt::format("-e {}", program)) != std::string::npos)
                return;
            const auto judged = judge_executable(fs_, root_.place, program, init_.processor);
            if (judged.runs) return;
            auto evidence = judged.evidence;
            evidence.push_back(evidence_line(out_.at(path), number, {}, printable(line)));
            const auto bars = line.find("||");
            const auto after = bars == std::string_view::npos ? std::string_view{} : trim(line.substr(bars + 2));
            const bool fatal = bars == std::string_view::npos ? exits_on_error
                                                              : !after.starts_with("true") && !after.starts_with(":") &&
                                                                    !after.starts_with("echo");
            if (fatal)
                out_.breaks(
                    Code::ServicesStartupProgram,
                    fmt::format("the start-up script {} needs {}, which cannot run: {}", path, program, judged.why),
                    evidence,
                    fmt::format("{}: line {}: {}: {}", path, number, program,
                                judged.code == Code::ProgramNotExecutable ? "Permission denied" : "not found"));
            else
                out_.risk(
                    Code::ServicesStartupProgramOptional,
                    fmt::format("the start-up script {} calls {}, which cannot run: {}", path, program, judged.why),
                    evidence);
        });
    }

    // --- the kernel's modules, and who may come in ------------------------------------------------------------------
    void device_manager() {
        const bool told = std::ranges::find(out_.claim.findings, Code::FstabDeviceUnannounced, &Finding::code) !=
                          out_.claim.findings.end();
        if (!no_devices_ || told) return;
        out_.risk(Code::ServicesNoDeviceManager,
                  fmt::format("{}: devices are not announced, and what waits for one {}waits in vain", no_devices_->why,
                              no_devices_->names_alone ? "by UUID or label " : ""),
                  no_devices_->evidence);
    }

    /// systemd-remount-fs.service makes writable what /etc/fstab has a line for; else it stays as it was mounted.
    void read_only_root() {
        const auto text = out_.text_of("/etc/fstab");
        if (!text && text.error().kind != ErrorKind::NotFound) return;
        const auto lines = parse_fstab(text.value_or(""));
        const auto own = std::ranges::find(lines, "/", &FstabLine::mount_point);
        if (own != lines.end()) {
            bool closed = false;
            any_listed(own->options, [&](std::string_view option) {
                closed = option == "ro" || (option != "rw" && closed);
                return false;
            });
            if (closed)
                out_.risk(Code::RootReadOnly, "the root stays read-only: /etc/fstab says ro",
                          {evidence_line(out_.at("/etc/fstab"), own->line, {}, printable(own->options))});
            return;
        }
        if (arguments_.root_is_writable() == false)
            out_.risk(
                Code::RootReadOnly,
                "the root stays read-only: the command line says ro, and /etc/fstab has no line for / that would make "
                "it writable",
                {evidence_place(out_.at("/etc/fstab"), "a line for /", "none")});
    }

    void first_start() {
        if (units::is_first_start(fs_, arguments_) != true) return;
        out_.risk(
            Code::ServicesFirstStart,
            "systemd will take this start for the first one of this root: it makes a machine id, and enables what its "
            "presets name besides the units told here",
            {evidence_place(out_.at("/etc/machine-id"), "an id",
                            resolve(fs_, "/etc/machine-id") ? "none yet" : "not there")});
    }

    void besides() {
        const auto add = [&](std::vector<Finding> all) {
            for (auto& finding : all) out_.claim.findings.push_back(std::move(finding));
        };
        add(judge_module_files(root_, init_.kernel_release));
        if (init_.flavour == "systemd") {
            read_only_root();
            first_start();
            if (resolve(fs_, "/lib/systemd/system/getty@.service") ||
                resolve(fs_, "/usr/lib/systemd/system/getty@.service"))
                terminals_.emplace_back("/sbin/agetty");
            device_manager();
            add(judge_selinux(root_, arguments_));
        }
        add(judge_logins(root_, init_, terminals_));
        const bool emergency =
            out_.claim.state == State::Breaks && std::ranges::any_of(out_.claim.findings, [](const Finding& f) {
                return f.symptom.find("emergency mode") != std::string::npos;
            });
        if (emergency)
            if (auto locked = no_way_into_emergency(root_)) out_.claim.findings.push_back(std::move(*locked));
    }

    const Machine& machine_;
    const Volume& root_;
    const FileSystem& fs_;
    const InitChoice& init_;
    const CommandLine& arguments_;
    ServicesClaim out_;
    std::unique_ptr<UnitStore> units_;  ///< of systemd; null: another init
    StartPlan plan_;
    std::optional<NoDevices> no_devices_;
    std::string summary_;
    std::string asked_rescue_;
    std::vector<std::string> terminals_;  ///< programs that ask for a login, or stand in for it
    bool mounts_all_ = false;             ///< something mounts what /etc/fstab lists
    bool stops_without_mounts_ = false;   ///< and does not go on where that fails
};

}  // namespace

Claim judge_services(const Machine& machine, const Volume& root, const InitChoice& init, const CommandLine& arguments) {
    return Judge(machine, root, init, arguments).run();
}

}  // namespace herberge
