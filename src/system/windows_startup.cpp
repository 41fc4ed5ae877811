// SPDX-License-Identifier: MIT
// What a Windows installation would run when it starts, and its drive letters.
#include <fmt/format.h>
#include <algorithm>

#include "bytes/text16.hpp"
#include "ondisk/describe.hpp"
#include "ondisk/windows.hpp"
#include "system/signed_files.hpp"
#include "system/windows.hpp"

namespace herberge {

namespace {

constexpr std::size_t most_users = 200;

class Collector {
public:
    explicit Collector(const InstalledSystem& system)
        : system_(system),
          fs_(*system.volume->files(Observer::Nt)),
          signed_(fs_, system.directory, system.volume->place) {}

    Result<std::vector<StartupItem>> run() {
        const auto registry = read_windows_registry(*system_.volume, system_.directory);
        if (!registry) return tl::unexpected(registry.error());
        for (const char* name : {"ntoskrnl.exe", "hal.dll"}) own_program(StartupPhase::Kernel, name);
        drivers(*registry, 0, StartupPhase::BootDriver);
        drivers(*registry, 1, StartupPhase::SystemDriver);
        own_program(StartupPhase::SessionManager, "smss.exe");
        session_manager(registry->control_set);
        add(StartupPhase::SystemProgram, "csrss.exe", {},
            registry->csrss.empty() ? system_.directory + "/System32/csrss.exe" : registry->csrss,
            "SYSTEM\\" + registry->control_set + "\\Control\\Session Manager\\SubSystems");
        // Only systems with a boot store have a start-up program before the logon.
        if (resolve(fs_, system_.directory + "/System32/winload.exe") ||
            resolve(fs_, system_.directory + "/System32/winload.efi"))
            own_program(StartupPhase::SystemProgram, "wininit.exe");
        for (const char* name : {"winlogon.exe", "services.exe", "lsass.exe"})
            own_program(StartupPhase::SystemProgram, name);
        services(*registry);
        if (const auto software = open_windows_hive(*system_.volume, system_.directory, "SOFTWARE")) {
            logon(**software);
            run_keys(**software, "SOFTWARE", "Microsoft\\Windows\\CurrentVersion\\");
        }
        users();
        folder("/ProgramData/Microsoft/Windows/Start Menu/Programs/StartUp");
        return std::move(out_);
    }

private:
    void add(StartupPhase phase, const std::string& name, const std::string& command, std::string file,
             std::string source) {
        const auto found = file.empty() ? fail(ErrorKind::NotFound, "no file") : resolve(fs_, file);
        FileSignature signature;
        if (found && phase <= StartupPhase::SystemDriver)
            if (const auto bytes = fs_.open(found->file.id, file)) signature = signed_.of(**bytes);
        out_.push_back({phase, printable(name), printable(command), std::move(file), found.has_value(),
                        std::move(source), std::move(signature)});
    }

    /// What the system starts without any setting that names it.
    void own_program(StartupPhase phase, const char* name) {
        add(phase, name, {}, fmt::format("{}/System32/{}", system_.directory, name), {});
    }

    void drivers(const WindowsRegistry& registry, std::uint32_t start, StartupPhase phase) {
        for (const auto& s : registry.services)
            if (s.start == start && (s.type == 1 || s.type == 2))
                add(phase, s.name, s.image_path, s.file,
                    fmt::format("SYSTEM\\{}\\Services\\{}", registry.control_set, s.name));
    }

    void services(const WindowsRegistry& registry) {
        for (const auto& s : registry.services)
            if (s.start == 2)
                add(StartupPhase::Service, s.name, s.image_path, s.file,
                    fmt::format("SYSTEM\\{}\\Services\\{}", registry.control_set, s.name));
    }

    void session_manager(const std::string& set) {
        const auto system = open_windows_hive(*system_.volume, system_.directory, "SYSTEM");
        if (!system) return;
        const std::string path = set + "\\Control\\Session Manager";
        const auto key = (*system)->at(path);
        if (!key) return;
        if (const auto programs = (*system)->value(*key, "BootExecute"))
            for (const auto& line : programs->texts()) {
                // "autocheck autochk *": a kind, then the program and its arguments.
                std::string_view rest(line);
                if (lower_text(rest).starts_with("autocheck ")) rest.remove_prefix(10);
                const std::string program(rest.substr(0, rest.find(' ')));
                add(StartupPhase::SessionManager, program, line,
                    fmt::format("{}/System32/{}.exe", system_.directory, program), "SYSTEM\\" + path + "\\BootExecute");
            }
        if (const auto pending = (*system)->value(*key, "PendingFileRenameOperations"))
            if (const auto count = pending->texts().size(); count > 0)
                add(StartupPhase::SessionManager, fmt::format("{} pending renames", (count + 1) / 2), {}, {},
                    "SYSTEM\\" + path + "\\PendingFileRenameOperations");
    }

    std::string program_of(std::string_view command) const {
        std::string text(command);
        // Folders that a variable names lie at the volume's top.
        for (const auto& [variable, folder] :
             {std::pair<std::string_view, std::string_view>{"%programfiles%", "C:\\Program Files"},
              {"%programdata%", "C:\\ProgramData"}})
            if (const auto at = lower_text(text).find(variable); at != std::string::npos)
                text.replace(at, variable.size(), folder);
        std::string file = windows_image_path(text, {}, 16, system_.directory);
        // A bare name is looked for in the system's folders.
        if (text.find('\\') == std::string::npos && text.find('/') == std::string::npos) {
            const std::string name =
                file.substr(file.rfind('/') + 1, file.find(' ', file.rfind('/') + 1) - file.rfind('/') - 1);
            for (const char* folder : {"/System32/", "/"})
                if (resolve(fs_, system_.directory + folder + name)) return system_.directory + folder + name;
        }
        return file;
    }

    void logon(const Hive& software) {
        const std::string path = "Microsoft\\Windows NT\\CurrentVersion\\Winlogon";
        for (const char* value : {"Userinit", "Shell"})
            if (auto text = software.text_at(path, value); text && !text->empty()) {
                add(StartupPhase::Logon, value, *text, program_of(text->substr(0, text->find(','))),
                    "SOFTWARE\\" + path);
            }
    }

    void run_keys(const Hive& hive, const std::string& name, const std::string& base) {
        for (const char* leaf : {"Run", "RunOnce"}) {
            const auto key = hive.at(base + leaf);
            const auto all = key ? hive.values(*key) : tl::unexpected(key.error());
            if (!all) continue;
            for (const auto& value : *all)
                if (const auto text = value.text(); !text.empty())
                    add(StartupPhase::RunAtLogon, value.name, text, program_of(text),
                        fmt::format("{}\\{}{}", name, base, leaf));
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
                if (const auto file = resolve(fs_, home + "/NTUSER.DAT"))
                    if (auto source = fs_.open(file->file.id, system_.volume->place + ":" + home + "/NTUSER.DAT"))
                        if (const auto hive = open_hive(*source))
                            run_keys(**hive, user.name, "Software\\Microsoft\\Windows\\CurrentVersion\\");
                folder(home + "/AppData/Roaming/Microsoft/Windows/Start Menu/Programs/Startup");
            }
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
                target.empty() ? path + "/" + entry.name : windows_image_path(target, {}, 16, system_.directory),
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
    std::vector<StartupItem> out_;
};

}  // namespace

std::string_view startup_phase_name(StartupPhase phase) {
    static constexpr std::string_view names[] = {"kernel",          "boot driver",    "system driver",
                                                 "session manager", "system program", "service",
                                                 "logon",           "run at logon",   "start-up folder"};
    return names[static_cast<std::size_t>(phase)];
}

Result<std::vector<StartupItem>> windows_startup(const InstalledSystem& system) {
    if (system.kind != SystemKind::Windows || system.volume == nullptr || system.volume->files(Observer::Nt) == nullptr)
        return fail(ErrorKind::WrongType, "not a Windows installation");
    return Collector(system).run();
}

Result<std::vector<DriveLetter>> windows_drive_letters(const Machine& machine, const InstalledSystem& system) {
    const auto hive = open_windows_hive(*system.volume, system.directory, "SYSTEM");
    if (!hive) return tl::unexpected(hive.error());
    const auto key = (*hive)->at("MountedDevices");
    const auto all = key ? (*hive)->values(*key) : tl::unexpected(key.error());
    if (!all) return tl::unexpected(all.error());
    std::vector<DriveLetter> out;
    constexpr std::string_view lead = "\\DosDevices\\";
    for (const auto& value : *all) {
        if (!value.name.starts_with(lead)) continue;
        DriveLetter letter;
        letter.letter = value.name.substr(lead.size());
        const std::span<const std::uint8_t> data(value.data);
        if (data.size() == sizeof(ondisk::MountedPartition)) {
            const auto told = ondisk::from_bytes<ondisk::MountedPartition>(data);
            const std::uint32_t signature = told.signature;
            const std::uint64_t offset = told.offset;
            letter.text = fmt::format("disk signature {:08x}, byte {}", signature, offset);
            machine.each_volume([&](const Volume& v) {
                const auto where = v.source->locate(0, std::min<std::uint64_t>(v.source->size(), 512));
                if (v.partition != 0 && machine.disk(v.disk)->table.disk_signature == signature && !where.empty() &&
                    where.front().offset == offset)
                    letter.volume = v.shared_from_this();
            });
        } else if (data.size() == 24 && std::equal(data.begin(), data.begin() + 8, "DMIO:ID:")) {
            const std::string guid = ondisk::guid_at(data, 8);
            letter.text = "partition " + guid;
            letter.volume = machine.by_partuuid(guid);
        } else {
            letter.text = printable(utf8_from(units_from(data)));
        }
        out.push_back(std::move(letter));
    }
    std::ranges::sort(out, {}, &DriveLetter::letter);
    return out;
}

}  // namespace herberge
