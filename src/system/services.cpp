// SPDX-License-Identifier: MIT
// What init must start before the system is up: targets, start-up scripts, file systems to mount.
#include <fmt/format.h>
#include <algorithm>
#include <array>

#include <herberge/system.hpp>
#include <herberge/units.hpp>

#include "bytes/listed.hpp"
#include "files/features.hpp"
#include "loader/text.hpp"
#include "system/config_text.hpp"
#include "system/crypttab.hpp"
#include "system/logins.hpp"
#include "system/module_files.hpp"
#include "system/mount_options.hpp"
#include "system/run_levels.hpp"
#include "system/start_scripts.hpp"
#include "system/units/conditions.hpp"

namespace herberge {

namespace {

using loader::trim;

/// Up to Linux 6.12, whose drivers' options are listed.
bool is_known_release(std::string_view release) {
    const auto version = kernel_version(release);
    return version && *version <= KernelVersion{6, 12};
}

class Judge {
public:
    Judge(const Machine& machine, const Volume& root, const InitChoice& init, const CommandLine& arguments)
        : machine_(machine), root_(root), fs_(*root.files(Observer::Linux)), init_(init), arguments_(arguments) {}

    Claim run() {
        if (init_.flavour == "systemd") systemd();
        else if (init_.flavour == "busybox" || init_.flavour == "sysvinit") inittab();
        else if (init_.flavour == "runit") stages();
        else if (init_.flavour == "script") own_script();
        else out_.text = unknown_init();
        if (mounts_all_ && !init_.from_medium) mounts();
        besides();
        if (out_.state == State::Unknown && checked_ > 0) out_.state = State::Holds;
        if (out_.state == State::Holds && out_.text.empty()) out_.text = summary_;
        if (out_.state == State::Holds && !asked_rescue_.empty()) {
            out_.state = State::Doubtful;
            out_.text = asked_rescue_;
        }
        if (!lost_mounts_.empty() && out_.state == State::Holds) {
            out_.state = State::Doubtful;
            out_.text += (out_.text.empty() ? "" : "; but ") + lost_mounts_;
        }
        if (out_.state != State::Breaks && !untold_.empty()) {
            out_.state = State::Unknown;
            out_.text = fmt::format("{}{}", out_.text.empty() ? "" : out_.text + "; but ", untold_);
        }
        return out_;
    }

private:
    /// What cannot be looked at, in place of a statement about it.
    void untold(std::string text, Evidence evidence) {
        if (untold_.empty()) untold_ = std::move(text);
        out_.evidence.push_back(std::move(evidence));
    }
    /// A text file of the root; when the medium does not give it, that is said, and it is neither there nor absent.
    Result<std::string> text_of(const std::string& path) {
        auto text = read_text_file(fs_, path);
        if (!text && text.error().unreadable())
            untold(fmt::format("{} cannot be read: {}", path, text.error().what), evidence_error(text.error()));
        return text;
    }

    void breaks(Code code, std::string text, std::vector<Evidence> evidence, std::string symptom) {
        out_.break_with(make_finding(code, std::move(text), std::move(evidence), std::move(symptom)));
    }
    void risk(Code code, std::string text, std::vector<Evidence> evidence) {
        out_.findings.push_back(make_finding(code, std::move(text), std::move(evidence)));
    }
    [[nodiscard]] std::string at(std::string_view path) const { return fmt::format("{}:{}", root_.place, path); }

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
        out_.evidence.push_back(evidence_error(*lost));
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
        for (const auto& finding : units_->findings()) out_.findings.push_back(finding);
        if (target.load == UnitLoad::Unreadable) {
            untold(fmt::format("whether {} is there cannot be read", unit), target.problem->evidence.front());
            return;
        }
        for (const auto& finding : plan_.findings) {
            if (finding.code != Code::ServicesTargetMasked && finding.code != Code::ServicesTargetMissing) {
                out_.findings.push_back(finding);
                continue;
            }
            if (finding.code == Code::ServicesTargetMissing && !units_->findings().empty())
                untold(fmt::format("{}; but not all folders of units can be read", finding.text),
                       units_->findings().front().evidence.front());
            else breaks(finding.code, finding.text, finding.evidence, finding.symptom);
            return;
        }
        const auto& others = units_->other_generators();
        if (plan_.refused && plan_.refused_for_missing && (!others.empty() || !units_->findings().empty())) {
            untold(
                fmt::format("{}; {}", plan_.refused->text,
                            others.empty() ? std::string("not all folders of units can be read")
                                           : fmt::format("{} may make it, which is not followed here", others.front())),
                plan_.refused->evidence.front());
            return;
        }
        if (plan_.refused) {
            breaks(plan_.refused->code, plan_.refused->text, plan_.refused->evidence, plan_.refused->symptom);
            return;
        }
        ++checked_;
        const Evidence where = evidence_place(at(target.fragment), {}, target.name);
        if (target.name == "rescue.target" || target.name == "emergency.target") {
            asked_rescue_ = fmt::format("{} {}: a shell for repairs, not the usual system", by, target.name);
            risk(Code::ServicesRescueAsked, asked_rescue_, {where});
        }
        summary_ = fmt::format("the target to start, {}, is there: {}; {} units start with it", unit, target.fragment,
                               plan_.jobs.size());
        out_.evidence.push_back(where);
        const auto outcome = follow_start(machine_, root_, arguments_, *units_, plan_, init_.processor);
        for (const auto& finding : outcome.findings) out_.findings.push_back(finding);
        // Mounts are looked at by themselves, as every init has them.
        if (outcome.breaks && !is_of_fstab(*outcome.breaks))
            breaks(outcome.breaks->code, outcome.breaks->text, outcome.breaks->evidence, outcome.breaks->symptom);
    }

    /// What fails is made of a line of /etc/fstab.
    [[nodiscard]] bool is_of_fstab(const Finding& finding) const {
        return std::ranges::any_of(finding.evidence,
                                   [&](const Evidence& one) { return one.place == at("/etc/fstab"); });
    }

    /// Without this mount the start ends.
    [[nodiscard]] bool is_needed(const FstabLine& line) const {
        if (line.type == "swap" || line.mount_point == "/") return false;
        if (units_ == nullptr)
            return !line.has_option("noauto") && !line.has_option("nofail") && !line.has_option("x-systemd.automount");
        return !dragged_along(*units_, plan_, UnitStore::name_of_path(line.mount_point, ".mount")).empty();
    }

    /// runit's second stage keeps everything running; without it the third ends the system.
    void stages() {
        for (const std::string script : {"/etc/runit/1", "/etc/runit/2"}) {
            ++checked_;
            const auto judged = judge_executable(fs_, root_.place, script, init_.processor);
            if (judged.runs) {
                out_.evidence.push_back(
                    evidence_place(at(script), {}, "runit's stage " + script.substr(script.size() - 1)));
                if (judged.script) this->script(judged.path);
                continue;
            }
            if (!judged.code) continue;
            const auto text = fmt::format("runit's stage {} cannot run: {}", script, judged.why);
            if (script.ends_with('2'))
                breaks(Code::ServicesProgramMissing, text + "; the last stage follows, which ends the system",
                       judged.evidence,
                       fmt::format("- runit: fatal: unable to start child: {}: file does not exist", script));
            else risk(Code::ServicesStartupProgramOptional, text, judged.evidence);
        }
        summary_ = "runit's stages are there";
    }

    /// An init that is a script: it has no configuration besides itself.
    void own_script() {
        ++checked_;
        summary_ = fmt::format("{} is a script of its own; what it cannot do without is there", init_.program.path);
        out_.evidence.push_back(
            evidence_place(at(init_.program.path), {}, "a script for " + printable(init_.program.interpreter)));
        script(init_.program.path);
    }

    // --- inittab ---------------------------------------------------------------------------------------------------
    void inittab() {
        const bool busybox = init_.flavour == "busybox";
        const auto text = busybox ? read_text_file(fs_, "/etc/inittab") : text_of("/etc/inittab");
        const bool lost = !text && text.error().unreadable();
        if (lost && !busybox) return;
        // One that opens and gives nothing is an empty one to it (BusyBox libbb/parse_config.c; really started).
        if (lost && resolve(fs_, "/etc/inittab")) {
            breaks(Code::ServicesInittabMissing, "/etc/inittab cannot be read: init finds nothing in it to start",
                   {evidence_error(text.error())}, "(nothing more is shown)");
            return;
        }
        if (!text) {
            if (busybox)
                start_program(
                    "/etc/init.d/rcS",
                    fmt::format("busybox's default, {}",
                                lost ? "for /etc/inittab cannot be read" : "there being no /etc/inittab"),
                    lost ? evidence_error(text.error()) : evidence_place(at("/etc/inittab"), {}, "not there"));
            else
                breaks(Code::ServicesInittabMissing, "/etc/inittab is missing: init does not know what to start",
                       {evidence_place(at("/etc/inittab"), "a readable file", "not there")},
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
                          evidence_line(at("/etc/inittab"), line.line, {}, printable(line.process)));
        }
    }

    /// BusyBox' mount names the device that it found, which the kernel names by the hardware (util-linux/mount.c).
    static std::string mount_failed(const FstabLine& line, std::string_view reason, bool found = true) {
        const bool by_name = line.device.starts_with('/') || !found;
        return fmt::format("mount: mounting {} on {} failed: {}", by_name ? printable(line.device) : "/dev/…",
                           printable(line.mount_point), reason);
    }

    /// Why a mount as `type` fails of a volume that holds something else.
    [[nodiscard]] std::string_view refusal_as(std::string_view type) const {
        static constexpr Format all[] = {
#define HERBERGE_FORMAT(name, ...) Format::name,
#include <herberge/formats.def>
#undef HERBERGE_FORMAT
        };
        const auto* asked = std::ranges::find_if(all, [&](Format f) { return file_system_fits(f, type); });
        const auto driver = asked != std::end(all) && init_.has_driver ? init_.has_driver(*asked) : std::nullopt;
        // Without its driver the kernel does not come to look.
        return !driver ? "…" : *driver ? "Invalid argument" : "No such device";
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
        ++checked_;
        auto judged = judge_executable(fs_, root_.place, program, init_.processor);
        if (!judged.runs && judged.code == Code::ProgramFormat && shell_runs(judged.path)) {
            out_.evidence.push_back(evidence_place(at(judged.path), {}, "no \"#!\": /bin/sh runs it"));
            judged.interpreter = "/bin/sh";
            judged.runs = true;
        }
        if (!judged.runs) {
            std::vector<Evidence> evidence = judged.evidence;
            evidence.push_back(std::move(named_by));
            breaks(Code::ServicesProgramMissing,
                   fmt::format("init must run {} ({}), and cannot: {}", printable(program), why, judged.why), evidence,
                   not_run(printable(program), judged));
            return;
        }
        if (summary_.empty()) summary_ = fmt::format("init's {} is there", printable(program));
        out_.evidence.push_back(std::move(named_by));
        // The start-up scripts of a distribution: a folder for run level S, or OpenRC's own mounting service.
        if (((program.ends_with("/rc") || program.ends_with("/rcS")) && resolve(fs_, "/etc/rcS.d")) ||
            (program.ends_with("/openrc") && resolve(fs_, "/etc/runlevels/boot/localmount")))
            note_mounts(MountsAll::StopsWithout);
        if (judged.interpreter.ends_with("sh") && !judged.evidence.empty()) script(judged.path);
    }

    /// Programs that a start-up script runs by their full path. One that is missing stops the start only where the
    /// script itself treats a failure as fatal; guarded by a test it does not matter at all.
    void script(const std::string& path) {
        const auto text = text_of(path);
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
            evidence.push_back(evidence_line(at(path), number, {}, printable(line)));
            const auto bars = line.find("||");
            const auto after = bars == std::string_view::npos ? std::string_view{} : trim(line.substr(bars + 2));
            const bool fatal = bars == std::string_view::npos ? exits_on_error
                                                              : !after.starts_with("true") && !after.starts_with(":") &&
                                                                    !after.starts_with("echo");
            if (fatal)
                breaks(Code::ServicesStartupProgram,
                       fmt::format("the start-up script {} needs {}, which cannot run: {}", path, program, judged.why),
                       evidence,
                       fmt::format("{}: line {}: {}: {}", path, number, program,
                                   judged.code == Code::ProgramNotExecutable ? "Permission denied" : "not found"));
            else
                risk(Code::ServicesStartupProgramOptional,
                     fmt::format("the start-up script {} calls {}, which cannot run: {}", path, program, judged.why),
                     evidence);
        });
    }

    // --- fstab -------------------------------------------------------------------------------------------------------
    void mounts() {
        const auto text = busybox_mounts() ? read_text_file(fs_, "/etc/fstab") : text_of("/etc/fstab");
        if (!text && text.error().unreadable() && busybox_mounts()) return mounts_lost(text.error());
        if (!text) {
            if (text.error().kind == ErrorKind::NotFound && busybox_mounts())
                mount_breaks(
                    Code::FstabMissing,
                    fmt::format("{} is not there, and the start-up script mounts what it lists", at("/etc/fstab")),
                    {evidence_place(at("/etc/fstab"), "a readable file", "not there")},
                    "mount: can't read '/etc/fstab': No such file or directory");
            return;
        }
        for (const auto& line : parse_fstab(*text)) {
            ++checked_;
            mount(line);
        }
        if (busybox_mounts()) short_lines(*text);
    }

    /// Its list is empty to BusyBox' mount where it opens and gives nothing (util-linux/mount.c; really started).
    void mounts_lost(const Error& error) {
        if (!resolve(fs_, "/etc/fstab")) {
            mount_breaks(
                Code::FstabMissing,
                fmt::format("{} cannot be read, and the start-up script mounts what it lists", at("/etc/fstab")),
                {evidence_error(error)}, "mount: can't read '/etc/fstab': Input/output error");
            return;
        }
        lost_mounts_ = "/etc/fstab cannot be read: nothing that it lists is mounted";
        out_.evidence.push_back(evidence_error(error));
    }

    /// BusyBox' own mount is the one that reads the list; util-linux passes over what it cannot read.
    [[nodiscard]] bool busybox_mounts() const {
        if (init_.flavour != "busybox") return false;
        const auto program = resolve(fs_, "/bin/mount");
        return !program || program->path.find("busybox") != std::string::npos;
    }
    /// Lines that lack a mount point or a type are mounted all the same, and fail (getmntent(3); util-linux/mount.c).
    void short_lines(std::string_view text) {
        each_line(text, [&](int number, std::string_view line) {
            const auto fields = blank_words(line);
            if (fields.empty() || fields.size() > 2 || fields[0].starts_with('#')) return;
            const std::string point = fields.size() > 1 ? std::string(fields[1]) : "";
            if (point == "/") return;  // which is mounted
            const bool there = !point.empty() && resolve(fs_, point);
            mount_breaks(there ? Code::FstabNotMountable : Code::FstabDeviceMissing,
                         fmt::format("line {} of {} has no {}, and what mounts the list fails at it", number,
                                     at("/etc/fstab"), point.empty() ? "mount point" : "type"),
                         {evidence_line(at("/etc/fstab"), number, "six fields", printable(trim(line)))},
                         fmt::format("mount: mounting {} on {} failed: {}", printable(fields[0]), printable(point),
                                     there ? "No such device" : "No such file or directory"));
        });
    }

    /// A mount that fails: it stops a start only where something looks at that.
    void mount_breaks(Code code, std::string text, std::vector<Evidence> evidence, std::string symptom) {
        if (stops_without_mounts_) return breaks(code, std::move(text), std::move(evidence), std::move(symptom));
        auto finding = make_finding(code, text + "; the script that mounts it goes on without it", std::move(evidence),
                                    std::move(symptom));
        finding.severity = Severity::Risk;
        out_.findings.push_back(std::move(finding));
    }
    void mount_untold(std::string text, Evidence evidence) {
        if (stops_without_mounts_) untold(std::move(text), std::move(evidence));
    }

    /// Its crypttab makes this device anew at every start.
    [[nodiscard]] bool made_anew(std::string_view device) {
        constexpr std::string_view mapper = "/dev/mapper/";
        if (!device.starts_with(mapper)) return false;
        const auto lines = parse_crypttab(machine_, text_of("/etc/crypttab").value_or(""), at("/etc/crypttab"));
        return std::ranges::any_of(lines, [&](const CryptLine& line) {
            return line.name == device.substr(mapper.size()) && is_made_anew(line);
        });
    }

    /// An automount needs a driver of the kernel's, whatever it mounts later.
    void automount(const FstabLine& line) {
        if (units_ == nullptr || !line.has_option("x-systemd.automount") || !init_.has_module) return;
        const auto unit = UnitStore::name_of_path(line.mount_point, ".automount");
        if (dragged_along(*units_, plan_, unit).empty()) return;
        for (const std::string_view name : {"autofs4", "autofs"})
            if (init_.has_module(name, "CONFIG_AUTOFS_FS") != false) return;
        mount_breaks(
            Code::FstabNoDriver,
            fmt::format("{} is mounted when it is used, and the kernel {} has no driver for that on this root: neither "
                        "built in nor in /lib/modules/{}",
                        printable(line.mount_point), printable(init_.kernel_release), printable(init_.kernel_release)),
            {evidence_line(at("/etc/fstab"), line.line, {}, printable(line.options)),
             evidence_place(at(fmt::format("/lib/modules/{}", init_.kernel_release)), "autofs4", "not there")},
            fmt::format("Failed to set up automount {}.\nYou are in emergency mode.", unit));
    }

    /// Its crypttab makes the device of another one that is not there.
    bool never_opened(const FstabLine& line) {
        constexpr std::string_view mapper = "/dev/mapper/";
        if (init_.flavour != "systemd" || !line.device.starts_with(mapper)) return false;
        const auto lines = parse_crypttab(machine_, text_of("/etc/crypttab").value_or(""), at("/etc/crypttab"));
        for (const auto& one : lines) {
            if (one.name != line.device.substr(mapper.size()) || one.volume != nullptr || one.cannot_tell) continue;
            mount_breaks(
                Code::FstabDeviceMissing,
                fmt::format("{} demands {} for {}, which {} makes from {}, and nothing here answers to that",
                            at("/etc/fstab"), printable(line.device), printable(line.mount_point), one.where,
                            printable(one.source)),
                {evidence_line(at("/etc/fstab"), line.line, printable(line.device), "not opened"),
                 evidence_place(one.where, printable(one.source), "nothing here answers to it")},
                fmt::format("Timed out waiting for device {}.\nYou are in emergency mode.", printable(line.device)));
            return true;
        }
        return false;
    }

    void mount(const FstabLine& line) {
        automount(line);
        static constexpr std::array<std::string_view, 16> no_disk = {
            "proc", "sysfs",   "tmpfs",  "devtmpfs", "devpts",  "none",     "nfs",  "nfs4",
            "cifs", "overlay", "cgroup", "cgroup2",  "debugfs", "efivarfs", "fuse", "bind"};
        if (std::ranges::find(no_disk, line.type) != no_disk.end() || line.device.starts_with("//") ||
            line.has_option("bind") || line.has_option("_netdev"))
            return;
        auto target = resolve_device(machine_, line.device);
        follow_crypt_name(machine_, target, nullptr, arguments_);
        if (target.volume == nullptr && made_anew(target.written)) return;
        const bool needed = is_needed(line);
        if (needed && target.volume == nullptr && never_opened(line)) return;
        if (target.cannot_tell && needed)
            mount_untold(fmt::format("{} for {} cannot be followed: {}", printable(line.device),
                                     printable(line.mount_point), target.note),
                         evidence_line(at("/etc/fstab"), line.line, {}, printable(line.device)));
        if (target.cannot_tell || target.kind == RootReference::Kind::Other) return;
        const Evidence where =
            evidence_line(at("/etc/fstab"), line.line, printable(line.device),
                          target.volume != nullptr ? target.volume->place : "nothing here answers to it");
        if (line.type == "swap") {
            if (target.volume == nullptr || target.volume->info.format != Format::Swap)
                risk(Code::FstabSwapMissing,
                     fmt::format("the swap area {} is not there; the system starts without it", printable(line.device)),
                     {where});
            return;
        }
        if (line.mount_point == "/") {
            if (target.volume == nullptr || target.volume->place != root_.place)
                risk(Code::FstabRootDiffers,
                     fmt::format("/etc/fstab names {} as root, the kernel is told {}", printable(line.device),
                                 root_.place),
                     {where});
            return;
        }
        if (!needed) return;
        // File systems whose own identifiers are read here; those of a partition table are, whatever it holds.
        static constexpr std::array<std::string_view, 10> identified = {
            "auto", "vfat", "msdos", "xfs", "btrfs", "f2fs", "exfat", "iso9660", "squashfs", "fuseblk"};
        const bool known_type = line.type.starts_with("ext") || line.type.starts_with("ntfs") ||
                                std::ranges::find(identified, line.type) != identified.end() ||
                                target.kind == RootReference::Kind::PartUuid ||
                                target.kind == RootReference::Kind::PartLabel;
        const std::string symptom =
            init_.flavour == "systemd"
                ? fmt::format("Timed out waiting for device {}.\nYou are in emergency mode.", printable(line.device))
                : mount_failed(line, "No such file or directory", false);
        if (target.volume == nullptr) {
            if (!known_type) {
                risk(Code::FstabDeviceNotFound,
                     fmt::format("{} for {} was not found here; {} volumes may not be recognised",
                                 printable(line.device), printable(line.mount_point), printable(line.type)),
                     {where});
                return;
            }
            mount_breaks(Code::FstabDeviceMissing,
                         fmt::format("{} demands {} for {}, and nothing here answers to it", at("/etc/fstab"),
                                     printable(line.device), printable(line.mount_point)),
                         {where}, symptom);
            return;
        }
        if (target.volume->unread()) {
            mount_untold(fmt::format("{} for {} holds {}, which is recognised and not read here", target.volume->place,
                                     printable(line.mount_point), target.volume->info.name()),
                         where);
            return;
        }
        if (!known_type) return;
        if (target.volume->files(Observer::Linux) == nullptr) {
            mount_breaks(Code::FstabNotMountable,
                         fmt::format("{} for {} holds no file system that could be mounted", target.volume->place,
                                     printable(line.mount_point)),
                         {where}, mount_failed(line, "Invalid argument"));
            return;
        }
        if (!file_system_fits(target.volume->as(Observer::Linux).format, line.type) && !line.type.starts_with("ntfs")) {
            mount_breaks(
                Code::FstabNotMountable,
                fmt::format("{} for {} holds {}, and {} asks for {}", target.volume->place, printable(line.mount_point),
                            target.volume->info.name(), at("/etc/fstab"), printable(line.type)),
                {where}, mount_failed(line, refusal_as(line.type)));
            return;
        }
        if (const auto format = target.volume->as(Observer::Linux).format;
            init_.has_driver && init_.has_driver(format) == false) {
            mount_breaks(
                Code::FstabNoDriver,
                fmt::format(
                    "{} for {} holds {}, and the kernel {} has no driver for that on this root: neither built in "
                    "nor in /lib/modules/{}",
                    target.volume->place, printable(line.mount_point), target.volume->info.name(),
                    printable(init_.kernel_release), printable(init_.kernel_release)),
                {where, evidence_place(at(fmt::format("/lib/modules/{}", init_.kernel_release)),
                                       std::string(traits_of(format).linux_module), "not there")},
                fmt::format("mount: {}: unknown filesystem type '{}'.{}", printable(line.mount_point),
                            line.type == "auto" ? std::string(traits_of(format).linux_module) : printable(line.type),
                            init_.flavour == "systemd" ? "\nYou are in emergency mode." : ""));
            return;
        }
        if (const auto option = refused_mount_option(target.volume->as(Observer::Linux).format, line.options)) {
            const auto told =
                fmt::format("{} for {} has the option {}, which the driver of {} does not know", target.volume->place,
                            printable(line.mount_point), printable(*option), target.volume->info.name());
            // A newer kernel may know more.
            if (!is_known_release(init_.kernel_release)) mount_untold(told + " as far as it is listed here", where);
            else
                mount_breaks(Code::FstabOptionUnknown, told, {where},
                             init_.flavour == "systemd"
                                 ? fmt::format("mount: {}: wrong fs type, bad option, bad superblock on {}",
                                               printable(line.mount_point), printable(line.device))
                                 : mount_failed(line, "Invalid argument"));
            return;
        }
        if (const auto obstacles = target.volume->files(Observer::Linux)->mount_obstacles(line.options);
            !obstacles.empty()) {
            mount_breaks(Code::FstabNotMountable,
                         fmt::format("{} for {} cannot be mounted: {}", target.volume->place,
                                     printable(line.mount_point), obstacles.front().text),
                         {where}, mount_failed(line, "Invalid argument"));
            return;
        }
        // A subvolume that is not there is not mounted.
        if (const auto mounted = mounted_root(target.volume, CommandLine("rootflags=" + line.options)); !mounted) {
            mount_breaks(Code::FstabNotMountable,
                         fmt::format("{} for {} cannot be mounted: {}", target.volume->place,
                                     printable(line.mount_point), mounted.error().what),
                         {where, evidence_error(mounted.error())}, mount_failed(line, "No such file or directory"));
            return;
        }
        if (init_.flavour != "systemd") {
            const auto point = resolve(fs_, line.mount_point);
            if (!point && point.error().unreadable())
                mount_untold(
                    fmt::format("whether the mount point {} is there cannot be read", printable(line.mount_point)),
                    evidence_error(point.error()));
            else if (!point || point->file.type != FileType::Directory)
                mount_breaks(Code::FstabMountPointMissing,
                             fmt::format("the mount point {} does not exist", printable(line.mount_point)), {where},
                             symptom);
        }
    }

    // --- the kernel's modules, and who may come in ------------------------------------------------------------------
    void device_manager() {
        for (const std::string_view path : {"/lib/systemd/systemd-udevd", "/usr/lib/systemd/systemd-udevd"}) {
            const bool wanted =
                resolve(fs_, std::string(path.substr(0, path.rfind('/'))) + "/system/systemd-udevd.service")
                    .has_value();
            if (!wanted) continue;
            if (const auto program = judge_executable(fs_, root_.place, path, init_.processor); !program.runs)
                risk(Code::ServicesNoDeviceManager,
                     fmt::format(
                         "{} cannot run ({}): devices are not announced, and what waits for one by UUID or label "
                         "waits in vain",
                         path, program.why),
                     program.evidence);
            return;
        }
    }

    /// systemd-remount-fs.service makes writable what /etc/fstab has a line for; else it stays as it was mounted.
    void read_only_root() {
        const auto text = text_of("/etc/fstab");
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
                risk(Code::RootReadOnly, "the root stays read-only: /etc/fstab says ro",
                     {evidence_line(at("/etc/fstab"), own->line, {}, printable(own->options))});
            return;
        }
        const auto& words = arguments_.words();
        const auto last = std::find_if(words.rbegin(), words.rend(),
                                       [](const std::string& word) { return word == "ro" || word == "rw"; });
        if (last != words.rend() && *last == "ro")
            risk(Code::RootReadOnly,
                 "the root stays read-only: the command line says ro, and /etc/fstab has no line for / that would make "
                 "it writable",
                 {evidence_place(at("/etc/fstab"), "a line for /", "none")});
    }

    void first_start() {
        if (units::is_first_start(fs_, arguments_) != true) return;
        risk(Code::ServicesFirstStart,
             "systemd will take this start for the first one of this root: it makes a machine id, and enables what its "
             "presets name besides the units told here",
             {evidence_place(at("/etc/machine-id"), "an id",
                             resolve(fs_, "/etc/machine-id") ? "none yet" : "not there")});
    }

    void besides() {
        const auto add = [&](std::vector<Finding> all) {
            for (auto& finding : all) out_.findings.push_back(std::move(finding));
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
        const bool emergency = out_.state == State::Breaks && std::ranges::any_of(out_.findings, [](const Finding& f) {
                                   return f.symptom.find("emergency mode") != std::string::npos;
                               });
        if (emergency)
            if (auto locked = no_way_into_emergency(root_)) out_.findings.push_back(std::move(*locked));
    }

    const Machine& machine_;
    const Volume& root_;
    const FileSystem& fs_;
    const InitChoice& init_;
    const CommandLine& arguments_;
    Claim out_;
    std::unique_ptr<UnitStore> units_;  ///< of systemd; null: another init
    StartPlan plan_;
    std::string summary_;
    std::string asked_rescue_;
    std::string lost_mounts_;  ///< what a list of mounts that is not given means; empty: it is given
    std::string untold_;
    std::vector<std::string> terminals_;  ///< programs that ask for a login, or stand in for it
    bool mounts_all_ = false;             ///< something mounts what /etc/fstab lists
    bool stops_without_mounts_ = false;   ///< and does not go on where that fails
    int checked_ = 0;
};

}  // namespace

Claim judge_services(const Machine& machine, const Volume& root, const InitChoice& init, const CommandLine& arguments) {
    return Judge(machine, root, init, arguments).run();
}

}  // namespace herberge
