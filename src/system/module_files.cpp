// SPDX-License-Identifier: MIT
#include "system/module_files.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <map>
#include <set>

#include "system/config_text.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t most_index = std::uint64_t{16} << 20U;
constexpr std::size_t most_folders = 5000, most_named = 5;

/// "kernel/fs/fat/vfat.ko.xz" → "vfat"; '-' is '_'.
std::string module_of(std::string_view path) {
    path.remove_prefix(std::min(path.rfind('/') + 1, path.size()));
    std::string out(path.substr(0, path.find(".ko")));
    std::ranges::replace(out, '-', '_');
    return out;
}

class ModuleFiles {
public:
    ModuleFiles(const Volume& root, const std::string& release)
        : root_(root), fs_(*root.files(Observer::Linux)), folder_("/lib/modules/" + release), release_(release) {}

    std::vector<Finding> run() {
        if (!resolve(fs_, folder_)) {
            no_folder();
            return std::move(out_);
        }
        if (const auto text = read_text_file(fs_, folder_ + "/modules.dep", most_index)) {
            listed_files(*text);
            // What is built in, and other names of modules, may be asked for as well.
            bool all = true;
            for (const char* list : {"modules.builtin", "modules.alias"})
                if (const auto more = read_text_file(fs_, fmt::format("{}/{}", folder_, list), most_index))
                    names(*more);
                else all = false;
            if (all) wanted();
        }
        return std::move(out_);
    }

private:
    [[nodiscard]] std::string at(std::string_view path) const { return fmt::format("{}:{}", root_.place, path); }

    /// Others are there, and none for this kernel: an upgrade that was not finished, or cleaned up too much.
    void no_folder() {
        const auto folder = resolve(fs_, "/lib/modules");
        const auto entries = folder ? fs_.list(folder->file.id) : fail(ErrorKind::NotFound, "no modules");
        if (!entries) return;
        std::vector<std::string> others;
        for (const auto& one : *entries)
            if (one.name != "." && one.name != "..") others.push_back(printable(one.name));
        if (others.empty()) return;
        out_.push_back(make_finding(
            Code::KernelModulesMissing,
            fmt::format(
                "the root holds no modules for the kernel {}, but for {}: what the RAM disk did not bring has no "
                "driver",
                printable(release_), fmt::join(others, ", ")),
            {evidence_place(at(folder_), "modules", "not there")}));
    }

    void listed_files(std::string_view text) {
        std::map<std::string, std::vector<std::string>, std::less<>> by_folder;
        each_line(text, [&](int, std::string_view line) {
            const auto path = line.substr(0, line.find(':'));
            if (path.empty() || path.starts_with('/')) return;
            known_.insert(module_of(path));
            const auto slash = path.rfind('/');
            by_folder[std::string(path.substr(0, slash == std::string_view::npos ? 0 : slash))].emplace_back(
                path.substr(slash + 1));
        });
        std::size_t absent = 0, looked = 0;
        std::vector<std::string> first;
        for (const auto& [folder, files] : by_folder) {
            if (++looked > most_folders) break;
            const auto found = resolve(fs_, folder_ + "/" + folder);
            if (!found && found.error().unreadable()) return;
            const auto entries = found && found->file.type == FileType::Directory ? fs_.list(found->file.id)
                                                                                  : fail(ErrorKind::NotFound, "none");
            if (!entries && entries.error().kind != ErrorKind::NotFound) return;
            std::set<std::string_view> there;
            if (entries)
                for (const auto& one : *entries) there.insert(one.name);
            for (const auto& file : files) {
                if (there.contains(file)) continue;
                if (++absent <= most_named) first.push_back(printable(fmt::format("{}/{}", folder, file)));
            }
        }
        if (absent == 0) return;
        out_.push_back(make_finding(
            Code::KernelModulesIncomplete,
            fmt::format("{} of {} modules that {} lists are not there: {}{}", absent, known_.size(),
                        folder_ + "/modules.dep", fmt::join(first, ", "), absent > first.size() ? " …" : ""),
            {evidence_place(at(folder_ + "/modules.dep"), first.front(), "not there")}));
    }

    void names(std::string_view text) {
        each_line(text, [&](int, std::string_view line) {
            if (line.starts_with("alias ")) {
                const auto rest = line.substr(6);
                std::string name(rest.substr(0, rest.find(' ')));
                std::ranges::replace(name, '-', '_');
                known_.insert(std::move(name));
            } else if (line.starts_with("kernel/")) {
                known_.insert(module_of(line));
            }
        });
    }

    /// Lists of what to load: one name in a line, perhaps with options behind it.
    void wanted() {
        std::vector<std::string> files{"/etc/modules"};
        for (const std::string folder : {"/etc/modules-load.d", "/usr/lib/modules-load.d", "/lib/modules-load.d"}) {
            const auto found = resolve(fs_, folder);
            const auto entries = found && found->file.type == FileType::Directory && found->path == folder
                                     ? fs_.list(found->file.id)
                                     : fail(ErrorKind::NotFound, "none");
            if (!entries) continue;
            for (const auto& one : *entries)
                if (one.name.ends_with(".conf")) files.push_back(folder + "/" + one.name);
        }
        std::set<std::string> seen;
        for (const auto& path : files) {
            const auto found = resolve(fs_, path);
            const auto text = found && seen.insert(found->path).second ? read_text_file(fs_, found->path)
                                                                       : fail(ErrorKind::NotFound, "none");
            if (!text) continue;
            each_line(*text, [&](int number, std::string_view line) {
                const auto from = std::min(line.find_first_not_of(" \t\r"), line.size());
                line.remove_prefix(from);
                if (line.empty() || line.front() == '#' || line.front() == ';') return;
                const auto word = line.substr(0, line.find_first_of(" \t\r#"));
                if (known_.contains(module_of(word))) return;
                out_.push_back(
                    make_finding(Code::KernelModuleUnknown,
                                 fmt::format("{} asks for the module {}, and the kernel {} has none of that name",
                                             found->path, printable(word), printable(release_)),
                                 {evidence_line(at(found->path), number, {}, printable(line))}));
            });
        }
    }

    const Volume& root_;
    const FileSystem& fs_;
    std::string folder_, release_;
    std::set<std::string> known_;
    std::vector<Finding> out_;
};

}  // namespace

std::vector<Finding> judge_module_files(const Volume& root, const std::string& release) {
    return release.empty() ? std::vector<Finding>{} : ModuleFiles(root, release).run();
}

}  // namespace herberge
