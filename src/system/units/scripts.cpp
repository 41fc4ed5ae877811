// SPDX-License-Identifier: MIT
// Old start-up scripts as units (sysv-generator.c of systemd 252).
#include <fmt/format.h>
#include <algorithm>
#include <map>

#include <herberge/lines.hpp>

#include "system/units/generators.hpp"
#include "system/units/names.hpp"

namespace herberge::units {

namespace {

constexpr const char* folder = "/etc/init.d";

/// "foo.sh" is foo.service.
std::string unit_of(std::string_view script) {
    if (script.ends_with(".sh")) script.remove_suffix(3);
    std::string out;
    for (const char c : script) {
        const bool plain = (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
                           std::string_view(":-_.\\@").find(c) != std::string_view::npos;
        out += plain ? c : '_';
    }
    return out + ".service";
}

/// A name of the header: a facility, another script; empty: it stands for nothing.
std::string facility(std::string_view name) {
    static const std::map<std::string_view, std::string_view> known = {{"$local_fs", ""},
                                                                       {"$network", "network-online.target"},
                                                                       {"$named", "nss-lookup.target"},
                                                                       {"$portmap", "rpcbind.target"},
                                                                       {"$remote_fs", "remote-fs.target"},
                                                                       {"$syslog", ""},
                                                                       {"$time", "time-sync.target"}};
    if (!name.starts_with('$')) return unit_of(name);
    const auto found = known.find(name);
    return found != known.end() ? std::string(found->second) : fmt::format("{}.target", name.substr(1));
}

struct Script {
    std::string name, path;
    std::vector<std::string> before, after, wants, provides;
    bool has_header = false;
    std::optional<int> priority;
};

/// The header between "### BEGIN INIT INFO" and "### END INIT INFO" (LSB 5.0, 22.3).
void read_header(std::string_view text, Script& out) {
    bool inside = false;
    for (const auto& line : lines_of(text)) {
        if (line.starts_with("### BEGIN INIT INFO")) inside = out.has_header = true;
        else if (line.starts_with("### END INIT INFO")) return;
        if (!inside || !line.starts_with('#')) continue;
        const auto colon = line.find(':');
        if (colon == std::string::npos) continue;
        std::string key = line.substr(1, colon - 1);
        key.erase(0, std::min(key.find_first_not_of(" \t"), key.size()));
        const auto words = quoted_words(std::string_view(line).substr(colon + 1)).value_or(std::vector<std::string>{});
        if (key == "Provides") out.provides = words;
        for (const auto& word : words) {
            const auto unit = facility(word);
            if (unit.empty() || unit == out.name) continue;
            if (key == "Required-Start" || key == "Should-Start") {
                out.after.push_back(unit);
                if (unit == "network-online.target") out.wants.push_back(unit);
            } else if (key == "X-Start-Before") out.before.push_back(unit);
        }
    }
}

}  // namespace

void from_scripts(const GeneratorInput& input, const UnitFiles& files, GeneratedFiles& out) {
    const auto there = resolve(input.fs, folder);
    const auto entries = there ? input.fs.list(there->file.id) : fail(ErrorKind::NotFound, "no scripts");
    if (!entries) return;
    std::map<std::string, Script> scripts;
    for (const auto& entry : *entries) {
        const std::string path = fmt::format("{}/{}", folder, entry.name);
        const auto file = resolve(input.fs, path);
        constexpr std::size_t most = 2000;
        if (entry.name.starts_with('.') || !file || file->file.type != FileType::Regular ||
            (file->file.permissions & 0111U) == 0 || scripts.size() > most)
            continue;
        Script script;
        script.name = unit_of(entry.name);
        script.path = path;
        const auto known = files.find(script.name);
        if (!known.path.empty() || known.masked || scripts.contains(script.name)) continue;
        if (const auto text = read_text_file(input.fs, path)) read_header(*text, script);
        scripts.emplace(script.name, std::move(script));
    }
    // Which run levels start them; the earlier number goes first.
    const std::pair<const char*, const char*> levels[] = {{"/etc/rc1.d", "rescue.target"},
                                                          {"/etc/rc2.d", "multi-user.target"},
                                                          {"/etc/rc3.d", "multi-user.target"},
                                                          {"/etc/rc4.d", "multi-user.target"},
                                                          {"/etc/rc5.d", "graphical.target"}};
    for (const auto& [level, target] : levels) {
        const auto at = resolve(input.fs, level);
        const auto links = at ? input.fs.list(at->file.id) : fail(ErrorKind::NotFound, "no such level");
        if (!links) continue;
        for (const auto& one : *links) {
            if (one.name.size() < 4 || one.name[0] != 'S' || one.name[1] < '0' || one.name[1] > '9' ||
                one.name[2] < '0' || one.name[2] > '9')
                continue;
            const auto script = scripts.find(unit_of(std::string_view(one.name).substr(3)));
            if (script == scripts.end()) continue;
            const int priority = (one.name[1] - '0') * 10 + (one.name[2] - '0');
            script->second.priority = std::max(priority, script->second.priority.value_or(priority));
            const auto said = evidence_place(fmt::format("{}:{}/{}", input.volume, level, one.name));
            out.insert_or_assign(fmt::format("{}/{}.wants/{}", generator_late, target, script->first),
                                 Generated{{}, "../" + script->first, said});
        }
    }
    for (auto& [name, script] : scripts) {
        // Without a header, the numbers order them.
        if (script.priority && !script.has_header)
            for (const auto& [other, earlier] : scripts)
                if (earlier.priority && !earlier.has_header && *earlier.priority < *script.priority)
                    script.after.push_back(other);
        std::string text = fmt::format("[Unit]\nSourcePath={}\n", script.path);
        for (const auto& one : script.before) text += "Before=" + one + "\n";
        for (const auto& one : script.after) text += "After=" + one + "\n";
        for (const auto& one : script.wants) text += "Wants=" + one + "\n";
        text += fmt::format("[Service]\nType=forking\nRemainAfterExit=yes\nExecStart={0} start\nExecStop={0} stop\n",
                            script.path);
        const auto said = evidence_place(fmt::format("{}:{}", input.volume, script.path));
        out.insert_or_assign(fmt::format("{}/{}", generator_late, name), Generated{text, {}, said});
        for (const auto& provided : script.provides) {
            const auto alias = facility(provided);
            if (provided.starts_with('$') || alias == name || scripts.contains(alias) ||
                !files.find(alias).path.empty())
                continue;
            out.insert_or_assign(fmt::format("{}/{}", generator_late, alias), Generated{{}, name, said});
        }
    }
}

}  // namespace herberge::units
