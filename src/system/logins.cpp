// SPDX-License-Identifier: MIT
#include "system/logins.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <set>

#include "system/config_text.hpp"

namespace herberge {

namespace {

constexpr int most_pam_depth = 8;

/// The fields of `name`'s line in a file like /etc/passwd; empty: it has none.
std::vector<std::string> account(const std::string& text, std::string_view name, int& line_number) {
    std::vector<std::string> out;
    each_line(text, [&](int number, std::string_view line) {
        if (!out.empty() || line.substr(0, line.find(':')) != name) return;
        line_number = number;
        for (std::string_view rest = line;;) {
            const auto end = rest.find(':');
            out.emplace_back(rest.substr(0, end));
            if (end == std::string_view::npos) break;
            rest.remove_prefix(end + 1);
        }
    });
    return out;
}

class Judge {
public:
    Judge(const Volume& root, const InitChoice& init) : root_(root), fs_(*root.files(Observer::Linux)), init_(init) {}

    std::vector<Finding> run(std::span<const std::string> terminals) {
        programs(terminals);
        if (std::ranges::any_of(terminals, [](const std::string& t) { return t.ends_with("getty"); })) {
            const auto login = judge_executable(fs_, root_.place, "/bin/login", init_.processor);
            if (!login.runs)
                risk(fmt::format("/bin/login cannot run ({}): nobody can log in at the screen", login.why),
                     login.evidence);
            accounts();
            if (login.runs) pam();
            barred();
        }
        return std::move(out_);
    }

private:
    void risk(std::string text, std::vector<Evidence> evidence, Code code = Code::ServicesNoLogin) {
        out_.push_back(make_finding(code, std::move(text), std::move(evidence)));
    }
    [[nodiscard]] std::string at(std::string_view path) const { return fmt::format("{}:{}", root_.place, path); }

    void programs(std::span<const std::string> terminals) {
        std::vector<Evidence> refused;
        bool any = false;
        for (const auto& terminal : terminals) {
            const auto program = judge_executable(fs_, root_.place, terminal, init_.processor);
            any = any || program.runs;
            if (!program.runs) refused.insert(refused.end(), program.evidence.begin(), program.evidence.end());
        }
        if (!terminals.empty() && !any)
            risk(fmt::format("no program that asks for a login can run ({}): nobody can log in at the screen",
                             printable(terminals.front())),
                 refused);
    }

    void accounts() {
        const auto text = read_text_file(fs_, "/etc/passwd");
        if (!text) {
            if (!text.error().unreadable() && text.error().kind == ErrorKind::NotFound)
                risk("/etc/passwd is missing: nobody can log in at the screen",
                     {evidence_place(at("/etc/passwd"), "accounts", "not there")});
            return;
        }
        int line = 0;
        const auto fields = account(*text, "root", line);
        if (fields.empty())
            return risk("/etc/passwd has no account root: nobody can repair this system at its screen",
                        {evidence_place(at("/etc/passwd"), "root:…", "not there")});
        if (fields.size() < 7 || fields[6].empty()) return;  // /bin/sh
        const auto shell = judge_executable(fs_, root_.place, fields[6], init_.processor);
        if (shell.runs || !shell.code) return;
        auto evidence = shell.evidence;
        evidence.push_back(evidence_line(at("/etc/passwd"), line, {}, printable(fields[6])));
        risk(fmt::format("root's shell {} cannot run ({}): root cannot log in", printable(fields[6]), shell.why),
             std::move(evidence));
    }

    void barred() {
        if (resolve(fs_, "/etc/nologin"))
            risk("/etc/nologin keeps out everybody but root", {evidence_place(at("/etc/nologin"))}, Code::LoginBarred);
    }

    // --- PAM
    // ----------------------------------------------------------------------------------------------------------

    /// Folders that hold modules of PAM.
    [[nodiscard]] std::vector<std::string> module_folders() const {
        std::vector<std::string> out;
        for (const std::string top : {"/lib", "/usr/lib", "/lib64", "/usr/lib64"}) {
            if (resolve(fs_, top + "/security")) out.push_back(top + "/security");
            const auto folder = resolve(fs_, top);
            const auto names = folder && folder->file.type == FileType::Directory ? fs_.list(folder->file.id)
                                                                                  : fail(ErrorKind::NotFound, "none");
            if (!names) continue;
            for (const auto& one : *names)
                if (one.name.find("-linux-") != std::string::npos && resolve(fs_, top + "/" + one.name + "/security"))
                    out.push_back(top + "/" + one.name + "/security");
        }
        return out;
    }

    void pam() {
        const auto folders = module_folders();
        if (folders.empty()) return;
        if (!resolve(fs_, "/etc/pam.d") || resolve(fs_, "/usr/lib/pam.d") || resolve(fs_, "/etc/pam.conf")) return;
        if (!resolve(fs_, "/etc/pam.d/login") && !resolve(fs_, "/etc/pam.d/other"))
            return risk("/etc/pam.d has rules neither for login nor for what is not listed: every login is refused",
                        {evidence_place(at("/etc/pam.d/login"), "rules", "not there")});
        rules(resolve(fs_, "/etc/pam.d/login") ? "/etc/pam.d/login" : "/etc/pam.d/other", folders, 0);
    }

    void rules(const std::string& path, const std::vector<std::string>& folders, int depth) {
        if (depth > most_pam_depth || !seen_.insert(path).second) return;
        const auto text = read_text_file(fs_, path);
        if (!text) {
            if (text.error().kind == ErrorKind::NotFound)
                risk(fmt::format("{} is not there, and rules of PAM include it: every login is refused", path),
                     {evidence_place(at(path), "rules", "not there")});
            return;
        }
        each_line(*text, [&](int number, std::string_view line) {
            const auto words = blank_words(line.substr(0, line.find('#')));
            if (words.size() >= 2 && words[0] == "@include") return rules("/etc/pam.d/" + words[1], folders, depth + 1);
            if (words.size() < 3) return;
            if (words[1] == "include" || words[1] == "substack")
                return rules("/etc/pam.d/" + words[2], folders, depth + 1);
            // A minus lets a module be absent; of the rest only what is required refuses.
            if (words[0].starts_with('-') || (words[1] != "required" && words[1] != "requisite")) return;
            const auto& module = words[2];
            const bool there = module.starts_with('/') ? resolve(fs_, module).has_value()
                                                       : std::ranges::any_of(folders, [&](const std::string& folder) {
                                                             return resolve(fs_, folder + "/" + module).has_value();
                                                         });
            if (there || module.find('$') != std::string::npos) return;
            risk(fmt::format("{} is required for a login and is not there: every login is refused", printable(module)),
                 {evidence_line(at(path), number, printable(module), "not there")});
        });
    }

    const Volume& root_;
    const FileSystem& fs_;
    const InitChoice& init_;
    std::vector<Finding> out_;
    std::set<std::string> seen_;
};

/// The value of "KEY=value" in a configuration for the shell.
std::string value_of(const std::string& text, std::string_view key) {
    std::string out;
    each_line(text, [&](int, std::string_view line) {
        while (line.starts_with(' ') || line.starts_with('\t')) line.remove_prefix(1);
        if (!line.starts_with(key) || line.size() <= key.size() || line[key.size()] != '=') return;
        const auto words = blank_words(line.substr(key.size() + 1));
        out = words.empty() ? std::string{} : words[0];
    });
    return out;
}

}  // namespace

std::vector<Finding> judge_logins(const Volume& root, const InitChoice& init, std::span<const std::string> terminals) {
    return Judge(root, init).run(terminals);
}

std::optional<Finding> no_way_into_emergency(const Volume& root) {
    const auto text = read_text_file(*root.files(Observer::Linux), "/etc/shadow");
    if (!text) return std::nullopt;
    int line = 0;
    const auto fields = account(*text, "root", line);
    if (fields.size() < 2 || (!fields[1].starts_with('!') && !fields[1].starts_with('*'))) return std::nullopt;
    return make_finding(Code::RootLocked,
                        "emergency mode asks for root's password, and root's account is locked: nobody gets in there",
                        {evidence_line(root.place + ":/etc/shadow", line, "a password", "a locked account")});
}

std::vector<Finding> judge_selinux(const Volume& root, const CommandLine& arguments) {
    std::vector<Finding> out;
    const FileSystem& fs = *root.files(Observer::Linux);
    const auto text = read_text_file(fs, "/etc/selinux/config");
    if (!text || arguments.value("selinux") == "0") return out;
    const auto mode = value_of(*text, "SELINUX");
    if (mode == "disabled" || mode.empty()) return out;
    if (const auto mark = resolve(fs, "/.autorelabel"))
        out.push_back(
            make_finding(Code::SelinuxRelabel,
                         "the next start labels every file anew for SELinux, which takes long, and starts again",
                         {evidence_place(root.place + ":/.autorelabel")}));
    auto type = value_of(*text, "SELINUXTYPE");
    if (type.empty()) type = "targeted";
    const std::string folder = "/etc/selinux/" + type + "/policy";
    const auto found = resolve(fs, folder);
    const auto names =
        found && found->file.type == FileType::Directory ? fs.list(found->file.id) : fail(ErrorKind::NotFound, "none");
    if (!found && found.error().unreadable()) return out;
    const bool policy =
        names && std::ranges::any_of(*names, [](const DirEntry& one) { return one.name.starts_with("policy."); });
    if (mode == "enforcing" && arguments.value("enforcing") != "0" && !policy)
        out.push_back(make_finding(
            Code::SelinuxPolicyMissing,
            fmt::format(
                "/etc/selinux/config enforces the policy {}, and {} holds none: where the kernel has SELinux on, "
                "init stops there",
                printable(type), folder),
            {evidence_place(root.place + ":/etc/selinux/config", {}, "SELINUX=enforcing"),
             evidence_place(root.place + ":" + folder, "policy.N", "not there")}));
    return out;
}

}  // namespace herberge
