// SPDX-License-Identifier: MIT
#include "system/run_levels.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <functional>
#include <map>
#include <set>

#include <herberge/lines.hpp>

#include "system/start_steps.hpp"
#include "system/supervised.hpp"

namespace herberge {

namespace {

constexpr const char* inittab = "/etc/inittab";
constexpr std::size_t most_scripts = 2000;

std::string trimmed(std::string_view text) {
    const auto from = text.find_first_not_of(" \t\r");
    if (from == std::string_view::npos) return {};
    return std::string(text.substr(from, text.find_last_not_of(" \t\r") - from + 1));
}

}  // namespace

bool InittabLine::on(std::string_view level) const { return levels.empty() || levels.find(level) != std::string::npos; }

std::vector<InittabLine> parse_inittab(std::string_view text) {
    std::vector<InittabLine> out;
    int number = 0;
    for (const auto& raw : lines_of(text)) {
        ++number;
        const auto line = trimmed(raw);
        if (line.empty() || line.starts_with('#')) continue;
        InittabLine one{number, {}, {}, {}, {}};
        std::string_view rest = line;
        bool whole = true;
        for (auto* field : {&one.id, &one.levels, &one.action}) {
            const auto colon = rest.find(':');
            if (colon == std::string_view::npos) {
                whole = false;
                break;
            }
            *field = rest.substr(0, colon);
            rest.remove_prefix(colon + 1);
        }
        one.process = rest;
        if (whole) out.push_back(std::move(one));
    }
    return out;
}

std::string default_level(const std::vector<InittabLine>& lines) {
    std::string out;
    for (const auto& line : lines)
        if (line.action == "initdefault" && !line.levels.empty()) out = line.levels.substr(line.levels.size() - 1);
    return out;
}

std::vector<LevelScript> level_scripts(const FileSystem& fs, const std::string& folder, char kind) {
    std::vector<LevelScript> out;
    for (const auto& name : names_in(fs, folder))
        if (name.size() > 1 && name[0] == kind && name[1] >= '0' && name[1] <= '9')
            out.push_back({name, fmt::format("{}/{}", folder, name)});
    return out;
}

OpenrcNeeds parse_depend(std::string_view script) {
    OpenrcNeeds out;
    bool inside = false;
    for (const auto& raw : lines_of(script)) {
        const auto line = trimmed(raw.substr(0, raw.find('#')));
        if (line.starts_with("depend()") || line.starts_with("depend ()")) inside = true;
        else if (inside && line == "}") return out;
        if (!inside) continue;
        const auto blank = line.find_first_of(" \t");
        if (blank == std::string::npos) continue;
        const auto word = line.substr(0, blank);
        auto* list = word == "need"                                       ? &out.need
                     : word == "use" || word == "want" || word == "after" ? &out.after
                     : word == "before"                                   ? &out.before
                     : word == "provide"                                  ? &out.provide
                                                                          : nullptr;
        if (list == nullptr) continue;
        for (std::size_t at = blank; at < line.size();) {
            const auto from = line.find_first_not_of(" \t", at);
            if (from == std::string::npos) break;
            const auto to = std::min(line.find_first_of(" \t", from), line.size());
            list->push_back(line.substr(from, to - from));
            at = to;
        }
    }
    return out;
}

std::vector<std::string> openrc_order(const FileSystem& fs, const std::vector<std::string>& wanted) {
    std::map<std::string, OpenrcNeeds> all;
    std::map<std::string, std::string> provided;
    std::vector<std::string> todo = wanted;
    for (std::size_t i = 0; i < todo.size() && all.size() < most_scripts; ++i) {
        if (all.contains(todo[i])) continue;
        const auto text = read_text_file(fs, "/etc/init.d/" + todo[i]);
        auto& needs = all[todo[i]];
        if (text) needs = parse_depend(*text);
        for (const auto& one : needs.provide) provided.emplace(one, todo[i]);
        for (const auto& one : needs.need)
            if (resolve(fs, "/etc/init.d/" + one)) todo.push_back(one);
    }
    const auto real = [&](const std::string& name) {
        const auto found = provided.find(name);
        return all.contains(name) || found == provided.end() ? name : found->second;
    };
    std::map<std::string, std::set<std::string>> behind;
    for (const auto& [name, needs] : all) {
        for (const auto* list : {&needs.need, &needs.after})
            for (const auto& one : *list) {
                if (one == "*") continue;
                if (all.contains(real(one))) behind[name].insert(real(one));
            }
        for (const auto& one : needs.before)
            if (all.contains(real(one))) behind[real(one)].insert(name);
    }
    std::vector<std::string> out;
    std::map<std::string, int> state;
    const std::function<void(const std::string&, int)> visit = [&](const std::string& name, int depth) {
        constexpr int most_depth = 200;
        if (state[name] != 0 || depth > most_depth) return;
        state[name] = 1;
        for (const auto& one : behind[name]) visit(one, depth + 1);
        out.push_back(name);
    };
    for (const auto& [name, needs] : all) visit(name, 0);
    return out;
}

namespace {

std::string line_of(int line) { return fmt::format("{}, line {}", inittab, line); }

/// Debian's rc starts scripts by the lists that insserv made of their headers, where it has them.
bool runs_startpar(const FileSystem& fs, const CommandLine& arguments) {
    if (arguments.has("concurrency=none") || resolve(fs, "/etc/init.d/.legacy-bootordering")) return false;
    for (const char* list : {"/etc/init.d/.depend.boot", "/etc/init.d/.depend.start", "/etc/init.d/.depend.stop"})
        if (const auto found = resolve(fs, list); !found || found->file.size == 0) return false;
    const auto rc = read_text_file(fs, "/etc/init.d/rc");
    return rc && rc->find("startpar") != std::string::npos;
}

Result<LinuxStart> sysv(const Volume& root, const InitChoice& init, const CommandLine& arguments,
                        const std::string& asked) {
    const FileSystem& fs = *root.files(Observer::Linux);
    LinuxStart out;
    const auto text = read_text_file(fs, inittab);
    if (!text) return tl::unexpected(text.error());
    const auto lines = parse_inittab(*text);
    out.level = asked;
    if (out.level.empty()) {
        for (const auto& word : arguments.words()) {
            const bool number =
                word.size() == 1 && std::string_view("0123456789Ss").find(word[0]) != std::string_view::npos;
            if (!number && word != "single") continue;
            out.level = word == "s" || word == "single" ? "S" : word;
            out.asked_by = "the command line";
        }
    }
    for (const auto& line : lines)
        if (out.level.empty() && line.action == "initdefault") {
            out.level = default_level(lines);
            out.asked_by = line_of(line.line);
        }
    if (out.level.empty())
        return fail(ErrorKind::NotFound, "/etc/inittab names no run level to start with", root.place);
    Steps steps(root, init, out);
    const bool by_dependencies = runs_startpar(fs, arguments);
    const auto run = [&](const InittabLine& line, const std::string& group) {
        const auto because = line_of(line.line);
        const auto said =
            evidence_line(fmt::format("{}:{}", root.place, inittab), line.line, {}, printable(line.process));
        const auto program = word_of(line.process);
        steps.add(group, line.id, line.process, because, said);
        if (program.ends_with("/rcS"))
            steps.scripts(group, "/etc/rcS.d", 'S', program, by_dependencies ? "/etc/init.d/.depend.boot" : "");
        else if (program.ends_with("/rc")) {
            const auto blank = line.process.find_last_of(" \t");
            const auto level = blank != std::string::npos ? line.process.substr(blank + 1) : out.level;
            steps.scripts(group, fmt::format("/etc/rc{}.d", level), 'S', program + " " + level,
                          !by_dependencies               ? ""
                          : level == "S"                 ? "/etc/init.d/.depend.boot"
                          : level == "0" || level == "6" ? "/etc/init.d/.depend.stop"
                                                         : "/etc/init.d/.depend.start");
        }
    };
    for (const auto& line : lines)
        if (line.action == "sysinit" || line.action == "boot" || line.action == "bootwait") run(line, "at the begin");
    const std::string group = "run level " + out.level;
    for (const auto& line : lines)
        if ((line.action == "wait" || line.action == "once") && line.on(out.level)) run(line, group);
    for (const auto& line : lines)
        if ((line.action == "respawn" || line.action == "ondemand") && line.on(out.level)) run(line, "kept running");
    return out;
}

Result<LinuxStart> busybox(const Volume& root, const InitChoice& init) {
    const FileSystem& fs = *root.files(Observer::Linux);
    LinuxStart out;
    const auto text = read_text_file(fs, inittab);
    if (!text && text.error().unreadable()) return tl::unexpected(text.error());
    // What it does by itself without a table (init/init.c).
    std::vector<InittabLine> lines;
    if (text) lines = parse_inittab(*text);
    else {
        lines.resize(2);
        lines[0].action = "sysinit";
        lines[0].process = "/etc/init.d/rcS";
        lines[1].action = "askfirst";
        lines[1].process = "-/bin/sh";
    }
    Steps steps(root, init, out);
    const std::pair<const char*, const char*> actions[] = {{"sysinit", "at the begin"},
                                                           {"wait", "at the begin"},
                                                           {"once", "at the begin"},
                                                           {"respawn", "kept running"},
                                                           {"askfirst", "kept running, after a key"}};
    for (const auto& [action, group] : actions)
        for (const auto& line : lines) {
            if (line.action != action) continue;
            const auto because = text ? line_of(line.line) : std::string("BusyBox, without /etc/inittab");
            const auto said = text ? evidence_line(fmt::format("{}:{}", root.place, inittab), line.line)
                                   : evidence_place(fmt::format("{}:{}", root.place, inittab), {}, "not there");
            steps.add(group, line.id.empty() ? "console" : line.id, line.process, because, said);
            const auto program = word_of(line.process);
            if (!program.starts_with('/')) continue;
            const auto script = read_text_file(fs, program);
            // A script that runs all that begins with S.
            if (script && (script->find("/etc/init.d/S??*") != std::string::npos ||
                           script->find("/etc/init.d/S*") != std::string::npos))
                steps.scripts(group, "/etc/init.d", 'S', program);
            if (script && script->find("/etc/rc.d/S") != std::string::npos)
                steps.scripts(group, "/etc/rc.d", 'S', program);
        }
    return out;
}

Result<LinuxStart> openrc(const Volume& root, const InitChoice& init, const CommandLine& arguments,
                          const std::string& asked) {
    const FileSystem& fs = *root.files(Observer::Linux);
    LinuxStart out;
    out.level = asked.empty() ? arguments.value("softlevel").value_or("default") : asked;
    out.asked_by = arguments.value("softlevel") && asked.empty() ? "the command line" : "OpenRC's usual level";
    if (!resolve(fs, "/etc/runlevels/" + out.level))
        return fail(ErrorKind::NotFound, fmt::format("there is no run level {}", printable(out.level)), root.place);
    Steps steps(root, init, out);
    std::set<std::string> done;
    for (const std::string& level : {std::string("sysinit"), std::string("boot"), out.level})
        for (const auto& name : openrc_order(fs, names_in(fs, "/etc/runlevels/" + level))) {
            if (!done.insert(name).second) continue;
            const bool own =
                resolve(fs, fmt::format("/etc/runlevels/{}/{}", level, name), {.follow_last = false}).has_value();
            steps.add("run level " + level, name, fmt::format("/etc/init.d/{} start", name),
                      own ? fmt::format("/etc/runlevels/{}", level) : std::string("another script needs it"),
                      evidence_place(fmt::format("{}:/etc/runlevels/{}/{}", root.place, level, name)));
        }
    return out;
}

}  // namespace

namespace {

Result<LinuxStart> by_flavour(const Volume& root, const InitChoice& init, const CommandLine& arguments,
                              const std::string& level) {
    const bool scripts = init.flavour == "sysvinit" || init.flavour == "busybox";
    if (init.flavour == "openrc" || (scripts && resolve(*root.files(Observer::Linux), "/etc/runlevels/boot")))
        return openrc(root, init, arguments, level);
    if (init.flavour == "sysvinit") return sysv(root, init, arguments, level);
    if (init.flavour == "runit") return start_supervised(root, init, arguments, level);
    if (init.flavour == "script" && level.empty()) return start_own_script(root, init);
    if (init.flavour != "busybox") return fail(ErrorKind::NotFound, "what this init starts is not known", root.place);
    if (!level.empty()) return fail(ErrorKind::NotFound, "BusyBox' init knows no run levels", root.place);
    return busybox(root, init);
}

}  // namespace

Result<LinuxStart> start_by_levels(const Volume& root, const InitChoice& init, const CommandLine& arguments,
                                   const std::string& level) {
    auto out = by_flavour(root, init, arguments, level);
    if (!out) return out;
    out->init = init.program.path;
    out->flavour = init.flavour;
    for (const auto& step : out->steps)
        if (step.state == UnitOutcome::Kind::Fails)
            out->findings.push_back(make_finding(Code::ServicesStartupProgramOptional,
                                                 fmt::format("{} cannot run: {}", printable(step.file), step.text),
                                                 step.evidence));
    return out;
}

LevelTable make_table(std::vector<std::string> levels, const std::map<std::string, std::set<std::string>>& on) {
    LevelTable out;
    out.levels = std::move(levels);
    for (const auto& [name, own] : on) {
        LevelTable::Row row{name, {}};
        for (const auto& level : out.levels) row.on.push_back(own.contains(level));
        out.rows.push_back(std::move(row));
    }
    return out;
}

Result<LevelTable> table_of_levels(const Volume& root, const InitChoice& init) {
    const FileSystem& fs = *root.files(Observer::Linux);
    std::vector<std::string> levels;
    std::map<std::string, std::set<std::string>> on;
    if (init.flavour == "runit") {
        for (const auto& level : supervised_levels(fs)) {
            levels.push_back(level);
            for (const auto& name : names_in(fs, supervised_folder(fs, level))) on[name].insert(level);
        }
    } else if (resolve(fs, "/etc/runlevels")) {
        for (const auto& level : names_in(fs, "/etc/runlevels")) {
            levels.push_back(level);
            for (const auto& name : names_in(fs, "/etc/runlevels/" + level)) on[name].insert(level);
        }
    } else if (init.flavour == "sysvinit") {
        for (const char* level : {"S", "0", "1", "2", "3", "4", "5", "6"}) {
            if (!resolve(fs, fmt::format("/etc/rc{}.d", level))) continue;
            levels.emplace_back(level);
            for (const auto& one : level_scripts(fs, fmt::format("/etc/rc{}.d", level), 'S'))
                on[one.stem()].insert(level);
        }
    }
    if (levels.empty()) return fail(ErrorKind::NotFound, "this init knows no run levels", root.place);
    return make_table(std::move(levels), on);
}

}  // namespace herberge
