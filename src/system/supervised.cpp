// SPDX-License-Identifier: MIT
#include "system/supervised.hpp"

#include <fmt/format.h>
#include <algorithm>

#include <herberge/lines.hpp>

#include "system/start_steps.hpp"

namespace herberge {

namespace {

constexpr const char* levels_folder = "/etc/runit/runsvdir";

/// The folder that a script hands to runsvdir: its first word with a path behind that.
std::string folder_in(const std::string& script) {
    for (const auto& line : lines_of(script)) {
        if (line.find_first_not_of(" \t") == std::string::npos || line[line.find_first_not_of(" \t")] == '#') continue;
        auto at = line.find("runsvdir ");
        if (at == std::string::npos) continue;
        while (at != std::string::npos) {
            at = line.find(" /", at);
            if (at == std::string::npos) break;
            auto word = line.substr(at + 1, line.find_first_of(" \t'\"", at + 1) - at - 1);
            if (word.find('$') == std::string::npos) return word;
            ++at;
        }
    }
    return {};
}

/// The folder of services that a line has watched: "s6-svscan DIR", "s6-linux-init -c DIR" (whose image of /run holds
/// them); empty: none.
std::string watched_folder(const std::string& line) {
    const auto word_behind = [&](std::size_t at) {
        at = line.find('/', at);
        if (at == std::string::npos) return std::string{};
        return line.substr(at, line.find_first_of(" \t'\"", at) - at);
    };
    if (const auto at = line.find("s6-svscan "); at != std::string::npos) return word_behind(at + 10);
    const auto at = line.find("s6-linux-init ");
    const auto option = at != std::string::npos ? line.find("-c", at) : at;
    const auto folder = option != std::string::npos ? word_behind(option) : std::string{};
    return folder.empty() ? folder : folder + "/run-image/service";
}

/// One step for each service below a folder; a file `down` keeps it from being started.
void add_kept_running(Steps& steps, const Volume& root, const std::string& folder) {
    const FileSystem& fs = *root.files(Observer::Linux);
    for (const auto& name : names_in(fs, folder)) {
        if (name.starts_with('.')) continue;
        const auto own = fmt::format("{}/{}", folder, name);
        auto& step = steps.add("kept running", name, own + "/run", folder, evidence_place(root.place + ":" + own));
        if (!resolve(fs, own + "/down")) continue;
        step.state = UnitOutcome::Kind::Skipped;
        step.text = own + "/down is there";
    }
}

}  // namespace

std::vector<std::string> supervised_levels(const FileSystem& fs) {
    std::vector<std::string> out;
    for (const auto& name : names_in(fs, levels_folder)) {
        const auto found = resolve(fs, fmt::format("{}/{}", levels_folder, name), {.follow_last = false});
        // "current" and "previous" are links to the others.
        if (found && found->file.type == FileType::Directory) out.push_back(name);
    }
    return out;
}

std::string supervised_folder(const FileSystem& fs, const std::string& level) {
    if (!level.empty()) return fmt::format("{}/{}", levels_folder, level);
    const auto script = read_text_file(fs, "/etc/runit/2").value_or("");
    auto named = folder_in(script);
    // What lies in memory is a link to the usual level.
    if (!named.empty() && !named.starts_with("/run/") && resolve(fs, named)) return named;
    for (const char* usual : {"/etc/runit/runsvdir/default", "/etc/service", "/var/service", "/service"})
        if (resolve(fs, usual)) return usual;
    return named;
}

Result<LinuxStart> start_supervised(const Volume& root, const InitChoice& init, const CommandLine& arguments,
                                    const std::string& level) {
    const FileSystem& fs = *root.files(Observer::Linux);
    LinuxStart out;
    const auto levels = supervised_levels(fs);
    out.level = level;
    if (level.empty())
        for (const auto& word : arguments.words())
            if (std::ranges::find(levels, word) != levels.end()) {
                out.level = word;
                out.asked_by = "the command line";
            }
    if (!out.level.empty() && std::ranges::find(levels, out.level) == levels.end())
        return fail(ErrorKind::NotFound, fmt::format("there is no run level {}", printable(out.level)), root.place);
    Steps steps(root, init, out);
    const auto stage = [&](const char* group, const char* script) {
        steps.add(group, script, script, "runit", evidence_place(root.place + ":" + script));
    };
    stage("at the begin", "/etc/runit/1");
    stage("then", "/etc/runit/2");
    add_kept_running(steps, root, supervised_folder(fs, out.level));
    return out;
}

Result<LinuxStart> start_own_script(const Volume& root, const InitChoice& init) {
    const FileSystem& fs = *root.files(Observer::Linux);
    const auto text = read_text_file(fs, init.program.path);
    if (!text) return tl::unexpected(text.error());
    LinuxStart out;
    Steps steps(root, init, out);
    int number = 0;
    std::vector<std::string> watched;
    for (const auto& raw : lines_of(*text)) {
        ++number;
        const auto from = raw.find_first_not_of(" \t");
        if (from == std::string::npos || raw[from] == '#') continue;
        std::string line = raw.substr(from);
        if (line.starts_with("exec ")) line.erase(0, 5);
        if (auto folder = watched_folder(line); !folder.empty()) watched.push_back(std::move(folder));
        if (!line.starts_with('/')) continue;
        const auto end = line.find_first_of(" \t;|&<>");
        const auto program = line.substr(0, end);
        if (program.find_first_of("$*?[`\"'\\)") != std::string::npos) continue;
        steps.add("in the script's order", program.substr(program.rfind('/') + 1), line.substr(0, line.find('#')),
                  fmt::format("{}, line {}", init.program.path, number),
                  evidence_line(fmt::format("{}:{}", root.place, init.program.path), number, {}, printable(raw)));
    }
    for (const auto& folder : watched) add_kept_running(steps, root, folder);
    return out;
}

}  // namespace herberge
