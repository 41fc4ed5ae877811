// SPDX-License-Identifier: MIT
// What a Windows installation would run when it starts.
#include <fmt/format.h>
#include <algorithm>
#include <map>

#include <herberge/startup.hpp>

#include "ondisk/describe.hpp"
#include "ondisk/windows.hpp"
#include "system/config_text.hpp"
#include "system/signed_files.hpp"
#include "system/windows.hpp"
#include "system/windows_commands.hpp"
#include "system/windows_services.hpp"
#include "system/windows_state.hpp"
#include "system/windows_tasks.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_users = 200;
constexpr std::string_view pending_value = "\\PendingFileRenameOperations";

class Collector {
public:
    Collector(const InstalledSystem& system, StartMode mode)
        : system_(system),
          fs_(*system.volume->files(Observer::Nt)),
          signed_(fs_, system.directory, system.volume->place),
          commands_(fs_, system.directory, windows_letter(*system.volume, system.directory)) {
        out_.mode = mode;
    }

    Result<WindowsStartup> run() {
        auto registry = read_windows_registry(*system_.volume, system_.directory);
        if (!registry) return tl::unexpected(registry.error());
        out_.registry = std::move(*registry);
        const auto hive = open_windows_hive(*system_.volume, system_.directory, "SYSTEM");
        if (!hive) return tl::unexpected(hive.error());
        const auto software = open_windows_hive(*system_.volume, system_.directory, "SOFTWARE");
        out_.control_sets = control_sets_of(**hive);
        out_.last_start = read_boot_status(fs_, system_.directory);
        const SafeList safe_list(**hive, set(), out_.mode);
        before_services(**hive, safe_list);
        services(safe_list);
        if (software) logon(**software, **hive);
        if (runs_user_programs()) {
            tasks(StartupPhase::TaskAtStart);
            if (software) run_keys(**software, "SOFTWARE", "Microsoft\\Windows\\CurrentVersion\\");
            users();
            tasks(StartupPhase::TaskAtLogon);
            folder("/ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp");
        } else if (software) {
            // Of all of these only what is marked for it runs in safe mode.
            run_keys(**software, "SOFTWARE", "Microsoft\\Windows\\CurrentVersion\\");
        }
        std::ranges::stable_sort(out_.items, {}, &StartupItem::phase);
        renames_against_items();
        return std::move(out_);
    }

private:
    [[nodiscard]] bool safe() const { return out_.mode != StartMode::Normal; }
    [[nodiscard]] bool runs_user_programs() const { return !safe(); }
    [[nodiscard]] std::string set() const { return out_.registry.control_set; }

    StartupItem& add(StartupPhase phase, const std::string& name, const std::string& command, std::string file,
                     std::string source) {
        StartupItem item;
        item.phase = phase;
        item.name = printable(name);
        item.command = printable(command);
        item.source = std::move(source);
        const auto found = file.empty() ? fail(ErrorKind::NotFound, "no file") : resolve(fs_, file);
        item.present = found && found->file.type != FileType::Directory;
        if (item.present && is_program(file)) item.signature = signature_of(found->path, found->file.id);
        item.file = std::move(file);
        out_.items.push_back(std::move(item));
        return out_.items.back();
    }

    static bool is_program(std::string_view file) {
        const std::string small = lower_text(file);
        return small.ends_with(".exe") || small.ends_with(".sys") || small.ends_with(".dll");
    }

    /// Services share programs: each is looked at once.
    const FileSignature& signature_of(const std::string& path, FileId id) {
        const auto [at, added] = signatures_.try_emplace(lower_text(path));
        if (added)
            if (const auto bytes = fs_.open(id, path)) at->second = signed_.of(**bytes);
        return at->second;
    }

    /// What the system starts without any setting that names it.
    void own_program(StartupPhase phase, const char* name) {
        add(phase, name, {}, fmt::format("{}/System32/{}", system_.directory, name), {});
    }

    // --- kernel, drivers, session manager
    // -----------------------------------------------------------------------------

    void before_services(const Hive& hive, const SafeList& safe_list) {
        for (const char* name : {"ntoskrnl.exe", "hal.dll"}) own_program(StartupPhase::Kernel, name);
        drivers(0, StartupPhase::BootDriver, safe_list);
        drivers(1, StartupPhase::SystemDriver, safe_list);
        own_program(StartupPhase::SessionManager, "smss.exe");
        session_manager(hive);
        add(StartupPhase::SystemProgram, "csrss.exe", {},
            out_.registry.csrss.empty() ? system_.directory + "/System32/csrss.exe" : out_.registry.csrss,
            "SYSTEM\\" + set() + "\\Control\\Session Manager\\SubSystems");
        // Only systems with a boot store have a start-up program before the logon.
        if (resolve(fs_, system_.directory + "/System32/winload.exe") ||
            resolve(fs_, system_.directory + "/System32/winload.efi"))
            own_program(StartupPhase::SystemProgram, "wininit.exe");
        for (const char* name : {"winlogon.exe", "services.exe", "lsass.exe"})
            own_program(StartupPhase::SystemProgram, name);
        if (hive.number_at("Setup", "SetupType").value_or(0) != 0)
            if (const auto command = hive.text_at("Setup", "CmdLine"); command && !command->empty()) {
                const auto program = commands_.program_of(*command);
                add(StartupPhase::SystemProgram, "setup", *command, program.file, "SYSTEM\\Setup\\CmdLine").note =
                    "runs before anybody can log on";
                if (lower_text(program.file).ends_with("/winpeshl.exe")) launched_in_repair();
            }
    }

    /// What winpeshl.exe starts one after the other, in a Windows that lies in an image: winpeshl.ini has sections
    /// LaunchApp ("AppPath=program") and LaunchApps (a program, a comma, its arguments).
    void launched_in_repair() {
        const std::string path = system_.directory + "/System32/winpeshl.ini";
        std::string section;
        each_line(read_text_file(fs_, path).value_or(""), [&](int number, std::string_view line) {
            const auto from = line.find_first_not_of(" \t\r");
            if (from == std::string_view::npos || line[from] == ';') return;
            line = line.substr(from, line.find_last_not_of(" \t\r") - from + 1);
            if (line.front() == '[') {
                section = lower_text(line.substr(1, line.find(']') - 1));
                return;
            }
            if (section == "launchapp" && lower_text(line).starts_with("apppath")) {
                line.remove_prefix(std::min(line.find('=') + 1, line.size()));
                line.remove_prefix(std::min(line.find_first_not_of(" \t"), line.size()));
            } else if (section != "launchapps") return;
            const auto program = commands_.program_at(line.substr(0, line.find(',')));
            add(StartupPhase::SystemProgram, "winpeshl", std::string(line), program.file,
                fmt::format("{}, line {}", path, number));
        });
    }

    void drivers(std::uint32_t start, StartupPhase phase, const SafeList& safe_list) {
        for (const auto& s : out_.registry.services) {
            if (s.start != start || (s.type != 1 && s.type != 2)) continue;
            auto& item =
                add(phase, s.name, s.image_path, s.file, fmt::format("SYSTEM\\{}\\Services\\{}", set(), s.name));
            // The loader takes all of its own drivers, in safe mode as well; the kernel then asks the list.
            if (start == 1 && !safe_list.lists(s)) {
                item.starts = false;
                item.note = "not in the list of what starts in safe mode";
            }
            for (const auto& filter : out_.registry.filters)
                if (lower_text(filter.service) == lower_text(s.name))
                    item.note += fmt::format("{}filter of {}", item.note.empty() ? "" : "; ", filter.device_class);
        }
    }

    void session_manager(const Hive& hive) {
        const std::string path = set() + "\\Control\\Session Manager";
        const auto key = hive.at(path);
        if (!key) return;
        for (const char* kind : {"BootExecute", "SetupExecute", "Execute"})
            if (const auto programs = hive.value(*key, kind))
                for (const auto& line : programs->texts()) {
                    // "autocheck autochk *": a kind, then the program and its arguments.
                    std::string_view rest(line);
                    for (const std::string_view lead : {"autocheck ", "async "})
                        if (lower_text(rest).starts_with(lead)) rest.remove_prefix(lead.size());
                    const std::string program(rest.substr(0, rest.find(' ')));
                    add(StartupPhase::SessionManager, program, line,
                        fmt::format("{}/System32/{}.exe", system_.directory, program), "SYSTEM\\" + path + "\\" + kind);
                }
        for (const auto& rename : out_.registry.renames) {
            const std::string from = commands_.path_of(rename.from), to = commands_.path_of(rename.to);
            const auto leaf = rename.from.substr(rename.from.rfind('\\') + 1);
            auto& item = add(StartupPhase::SessionManager, (rename.to.empty() ? "delete " : "rename ") + leaf,
                             rename.to.empty() ? rename.from : fmt::format("{} -> {}", rename.from, rename.to), from,
                             fmt::format("SYSTEM\\{}{}", path, pending_value));
            if (item.note.empty() && !to.empty()) item.note = "to " + to;
            if (item.present) continue;
            item.starts = false;
            item.note = from.empty() ? "it lies on another volume" : "it is not there any more: nothing to do";
        }
    }

    /// What the next start takes away of what it needs itself.
    void renames_against_items() {
        const auto left = after_renames(out_.registry.renames, commands_, fs_);
        for (const auto& item : out_.items) {
            if (item.phase > StartupPhase::SystemProgram || !item.present || item.source.ends_with(pending_value))
                continue;
            const auto at = left.find(lower_text(item.file));
            if (at == left.end() || !at->second.empty()) continue;
            out_.findings.push_back(make_finding(
                Code::WindowsPendingRemoval,
                fmt::format("the next start removes {}:{}, which every start needs", system_.volume->place, item.file),
                {evidence_place(fmt::format("{}:{}/System32/config/SYSTEM", system_.volume->place, system_.directory),
                                {}, set() + "\\Control\\Session Manager\\PendingFileRenameOperations")}));
        }
    }

    // --- services
    // -----------------------------------------------------------------------------------------------------

    void services(const SafeList& safe_list) {
        WindowsServices all(out_.registry, fs_, commands_, safe_list);
        for (const auto& one : all.in_order()) {
            const auto& s = *one.service;
            auto& item = add(StartupPhase::Service, s.name, s.image_path, one.program.file,
                             fmt::format("SYSTEM\\{}\\Services\\{}", set(), s.name));
            item.account = one.account;
            item.starts = one.starts;
            item.note = one.note;
        }
        if (safe() && !safe_list.there())
            out_.findings.push_back(make_finding(
                Code::WindowsSafeListMissing, "the list of what starts in safe mode is not there",
                {evidence_place(fmt::format("{}:{}/System32/config/SYSTEM", system_.volume->place, system_.directory),
                                {}, set() + "\\Control\\SafeBoot")}));
    }

    // --- logon
    // --------------------------------------------------------------------------------------------------------

    void program(StartupPhase phase, const std::string& name, const std::string& command, const std::string& source) {
        const auto told = commands_.program_of(command);
        add(phase, name, command, told.file, source).note = told.note;
    }

    void logon(const Hive& software, const Hive& system) {
        const std::string path = "Microsoft\\Windows NT\\CurrentVersion\\Winlogon";
        for (const char* value : {"Userinit", "Shell"}) {
            const auto text = software.text_at(path, value);
            if (!text || text->empty()) continue;
            if (std::string_view(value) == "Shell" && out_.mode == StartMode::SafeShell) {
                shell_of_safe_mode(system);
                continue;
            }
            // Several, separated by commas.
            for (std::string_view rest(*text); !rest.empty();) {
                const auto one = rest.substr(0, rest.find(','));
                rest.remove_prefix(std::min(one.size() + 1, rest.size()));
                if (one.find_first_not_of(' ') != std::string_view::npos)
                    program(StartupPhase::Logon, value, std::string(one), "SOFTWARE\\" + path);
            }
        }
    }

    void shell_of_safe_mode(const Hive& system) {
        const std::string path = set() + "\\Control\\SafeBoot";
        const auto shell = system.text_at(path, "AlternateShell");
        if (shell && !shell->empty()) program(StartupPhase::Logon, "AlternateShell", *shell, "SYSTEM\\" + path);
    }

    void run_keys(const Hive& hive, const std::string& name, const std::string& base) {
        for (const std::string leaf : {"Run", "RunOnce", "RunServices", "Policies\\Explorer\\Run"}) {
            const auto key = hive.at(base + leaf);
            const auto all = key ? hive.values(*key) : tl::unexpected(key.error());
            if (!all) continue;
            for (const auto& value : *all) {
                const auto text = value.text();
                if (text.empty()) continue;
                // A name that begins with a star runs in safe mode, too.
                if (safe() && (leaf != "RunOnce" || !value.name.starts_with('*'))) continue;
                program(StartupPhase::RunAtLogon, value.name, text, fmt::format("{}\\{}{}", name, base, leaf));
            }
        }
    }

    void users() {
        for (const std::string top : {"/Users", "/Documents and Settings", "/Dokumente und Einstellungen"}) {
            // Newer systems keep the old name as a link to the new one.
            const auto found = resolve(fs_, top, {.most_links = 0, .follow_last = false});
            const auto names = found && found->file.type == FileType::Directory ? fs_.list(found->file.id)
                                                                                : fail(ErrorKind::NotFound, "none");
            if (!names) continue;
            std::size_t count = 0;
            for (const auto& user : *names) {
                if (user.type != FileType::Directory || user.name.starts_with('.') || ++count > most_users) continue;
                const std::string home = top + "/" + user.name;
                std::string profile = "C:" + home;
                std::ranges::replace(profile, '/', '\\');
                commands_.define("USERPROFILE", profile);
                commands_.define("APPDATA", profile + "\\AppData\\Roaming");
                commands_.define("LOCALAPPDATA", profile + "\\AppData\\Local");
                if (const auto file = resolve(fs_, home + "/NTUSER.DAT"))
                    if (auto source = fs_.open(file->file.id, system_.volume->place + ":" + home + "/NTUSER.DAT"))
                        if (const auto hive = open_hive(*source))
                            run_keys(**hive, user.name, "Software\\Microsoft\\Windows\\CurrentVersion\\");
                folder(home + "/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup");
            }
        }
    }

    void tasks(StartupPhase phase) {
        if (!tasks_) tasks_ = windows_tasks(fs_, system_.directory);
        for (const auto& task : *tasks_) {
            if (!(phase == StartupPhase::TaskAtStart ? task.at_start : task.at_logon) && task.problem.empty()) continue;
            if (!task.problem.empty() && phase != StartupPhase::TaskAtStart) continue;
            const auto told = task.command.empty() ? WindowsProgram{} : commands_.program_at(task.command);
            auto& item =
                add(phase, task.name, task.arguments.empty() ? task.command : task.command + " " + task.arguments,
                    told.file, fmt::format("{}:{}", system_.volume->place, task.file));
            item.account = task.account;
            item.note = told.note;
            if (!task.problem.empty()) item.note = task.problem;
            else if (task.command.empty()) item.note = "calls into a registered library, which is not followed";
            if (task.enabled && task.problem.empty()) continue;
            item.starts = false;
            if (task.problem.empty()) item.note = "switched off";
        }
    }

    void folder(const std::string& path) {
        const auto found = resolve(fs_, path);
        const auto names = found && found->file.type == FileType::Directory ? fs_.list(found->file.id)
                                                                            : fail(ErrorKind::NotFound, "none");
        if (!names) return;
        for (const auto& entry : *names) {
            if (entry.type != FileType::Regular || lower_text(entry.name) == "desktop.ini") continue;
            std::string target;
            if (lower_text(entry.name).ends_with(".lnk"))
                if (const auto source = fs_.open(entry.id, path + "/" + entry.name))
                    target = link_file_target(**source);
            add(StartupPhase::StartUpFolder, entry.name, target,
                target.empty() ? path + "/" + entry.name : commands_.path_of(commands_.expanded(target)),
                fmt::format("{}:{}", system_.volume->place, path));
        }
    }

    /// The local path that a link file names (MS-SHLLINK 2.3); empty: none.
    static std::string link_file_target(const ByteSource& file) {
        const auto bytes = file.bytes(0, std::min<std::uint64_t>(file.size(), 65536));
        if (!bytes || bytes->size() < sizeof(ondisk::ShellLink) + 2) return {};
        const auto link = ondisk::from_bytes<ondisk::ShellLink>(*bytes);
        if (link.head_size != sizeof(link)) return {};
        std::size_t at = sizeof(link);
        if ((link.flags & 1U) != 0) at += 2 + ondisk::from_bytes<ondisk::little_uint16_t>(*bytes, at);
        const auto info = ondisk::from_bytes<ondisk::ShellLinkInfo>(*bytes, at);
        if ((link.flags & 2U) == 0 || at + sizeof(info) > bytes->size() || (info.flags & 1U) == 0) return {};
        const std::size_t path = at + info.path_at;
        std::string out;
        for (std::size_t i = path; i < bytes->size() && (*bytes)[i] != 0; ++i) out += static_cast<char>((*bytes)[i]);
        return out;
    }

    const InstalledSystem& system_;
    const FileSystem& fs_;
    SignedFiles signed_;
    WindowsCommands commands_;
    std::map<std::string, FileSignature> signatures_;
    std::optional<std::vector<WindowsTask>> tasks_;
    WindowsStartup out_;
};

}  // namespace

std::string_view start_mode_id(StartMode mode) {
    static constexpr std::string_view names[] = {"normal", "safe", "safe-network", "safe-shell"};
    return names[static_cast<std::size_t>(mode)];
}

std::optional<StartMode> start_mode_of(std::string_view id) {
    for (const auto mode : {StartMode::Normal, StartMode::Safe, StartMode::SafeNetwork, StartMode::SafeShell})
        if (start_mode_id(mode) == id) return mode;
    return std::nullopt;
}

std::string_view startup_phase_name(StartupPhase phase) {
    static constexpr std::string_view names[] = {"kernel",         "boot driver",   "system driver",  "session manager",
                                                 "system program", "service",       "task at start",  "logon",
                                                 "run at logon",   "task at logon", "start-up folder"};
    return names[static_cast<std::size_t>(phase)];
}

Result<WindowsStartup> windows_startup(const InstalledSystem& system, StartMode mode) {
    if (system.kind != SystemKind::Windows || system.volume == nullptr || system.volume->files(Observer::Nt) == nullptr)
        return fail(ErrorKind::WrongType, "not a Windows installation");
    return Collector(system, mode).run();
}

}  // namespace herberge
