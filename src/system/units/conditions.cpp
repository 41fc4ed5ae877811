// SPDX-License-Identifier: MIT
#include "system/units/conditions.hpp"

#include <algorithm>

#include "system/units/names.hpp"

namespace herberge::units {

namespace {

using Answer = std::optional<bool>;

/// Written while the machine runs, or before.
bool is_of_the_machine(std::string_view path) {
    static constexpr std::string_view folders[] = {"/run", "/proc", "/sys", "/dev", "/tmp", "/var/run", "/var/lock"};
    return std::ranges::any_of(folders, [&](std::string_view one) {
        return path == one || (path.starts_with(one) && path.size() > one.size() && path[one.size()] == '/');
    });
}

bool matches(std::string_view pattern, std::string_view text) {
    std::size_t p = 0, t = 0, star = std::string_view::npos, from = 0;
    while (t < text.size()) {
        if (p < pattern.size() && pattern[p] == '*') {
            star = p++;
            from = t;
        } else if (p < pattern.size() && (pattern[p] == '?' || pattern[p] == text[t])) {
            ++p;
            ++t;
        } else if (star != std::string_view::npos) {
            p = star + 1;
            t = ++from;
        } else return false;
    }
    while (p < pattern.size() && pattern[p] == '*') ++p;
    return p == pattern.size();
}

class Judge {
public:
    Judge(const FileSystem& fs, const CommandLine& arguments, Processor processor, Answer root_checked, bool early)
        : fs_(fs), arguments_(arguments), processor_(processor), root_checked_(root_checked), early_(early) {}

    [[nodiscard]] Answer one(std::string_view what, const std::string& value) const {
        if (what.starts_with("Path") || what == "DirectoryNotEmpty" || what.starts_with("File"))
            return path(what, value);
        if (what == "KernelCommandLine") {
            const auto equals = value.find('=');
            if (equals != std::string::npos) return arguments_.has(value);
            return std::ranges::any_of(arguments_.words(), [&](const std::string& word) {
                return word == value ||
                       (word.starts_with(value) && word.size() > value.size() && word[value.size()] == '=');
            });
        }
        if (what == "Architecture") {
            if (value == "native") return true;
            const char* own = processor_ == Processor::Arm64     ? "arm64"
                              : processor_ == Processor::Arm     ? "arm"
                              : processor_ == Processor::Riscv64 ? "riscv64"
                                                                 : "x86-64";
            return value == own;
        }
        if (what == "FirstBoot") {
            const auto first = is_first_start(fs_, arguments_);
            const bool asked = value == "yes" || value == "true" || value == "1" || value == "on";
            return first ? Answer{*first == asked} : Answer{};
        }
        // Whether it is a virtual machine, has a battery, a security module, so much memory: not in the image.
        return std::nullopt;
    }

private:
    [[nodiscard]] Answer path(std::string_view what, const std::string& value) const {
        // The RAM disk's mark for systemd that it has done this (scripts/functions, _checkfs_once).
        if (what == "PathExists" && value == "/run/initramfs/fsck-root")
            return root_checked_ ? Answer{*root_checked_} : Answer{};
        if (what == "PathIsReadWrite" && value == "/" && early_) return arguments_.root_is_writable();
        if (!value.starts_with('/') || is_of_the_machine(value)) return std::nullopt;
        if (what == "PathExistsGlob") return glob(value);
        if (what == "PathIsMountPoint" || what == "PathIsReadWrite" || what == "PathIsEncrypted") return std::nullopt;
        const bool follow = what != "PathIsSymbolicLink";
        const auto found = resolve(fs_, value, {.follow_last = follow});
        if (!found) {
            if (found.error().unreadable() || is_of_the_machine(found.error().found)) return std::nullopt;
            // Another volume may be mounted there.
            return elsewhere(value) ? Answer{} : Answer{false};
        }
        const auto& file = found->file;
        if (what == "PathExists") return true;
        if (what == "PathIsDirectory") return file.type == FileType::Directory;
        if (what == "PathIsSymbolicLink") return file.type == FileType::Symlink;
        if (what == "FileNotEmpty") return file.type == FileType::Regular && file.size > 0;
        if (what == "FileIsExecutable") return file.type == FileType::Regular && (file.permissions & 0111U) != 0;
        if (what == "DirectoryNotEmpty") {
            if (elsewhere(value)) return std::nullopt;
            const auto entries = fs_.list(file.id);
            if (!entries) return std::nullopt;
            return std::ranges::any_of(*entries,
                                       [](const DirEntry& one) { return one.name != "." && one.name != ".."; });
        }
        return std::nullopt;
    }

    [[nodiscard]] Answer glob(const std::string& pattern) const {
        const auto slash = pattern.rfind('/');
        const auto folder = pattern.substr(0, std::max<std::size_t>(slash, 1));
        if (folder.find_first_of("*?[") != std::string::npos || pattern.find('[') != std::string::npos)
            return std::nullopt;
        if (elsewhere(pattern)) return std::nullopt;
        const auto there = resolve(fs_, folder);
        const auto entries = there ? fs_.list(there->file.id) : fail(ErrorKind::NotFound, "no folder");
        if (!entries) return entries.error().unreadable() ? Answer{} : Answer{false};
        return std::ranges::any_of(*entries, [&](const DirEntry& one) {
            return one.name != "." && one.name != ".." && matches(pattern.substr(slash + 1), one.name);
        });
    }

    /// Below a mount point of /etc/fstab other than "/".
    [[nodiscard]] bool elsewhere(std::string_view path) const {
        const auto text = read_text_file(fs_, "/etc/fstab");
        if (!text) return false;
        return std::ranges::any_of(parse_fstab(*text), [&](const FstabLine& line) {
            return line.mount_point.size() > 1 && line.mount_point.starts_with('/') &&
                   path.starts_with(line.mount_point) &&
                   (path.size() == line.mount_point.size() || path[line.mount_point.size()] == '/');
        });
    }

    const FileSystem& fs_;
    const CommandLine& arguments_;
    Processor processor_;
    Answer root_checked_;
    bool early_;  ///< before systemd makes the root writable
};

}  // namespace

std::optional<bool> is_first_start(const FileSystem& fs, const CommandLine& arguments) {
    for (const char* word : {"systemd.condition-first-boot", "systemd.condition_first_boot"}) {
        const auto told = arguments.value(word);
        if (told || arguments.has(word)) return !told || (*told != "no" && *told != "0" && *told != "false");
    }
    const auto text = read_text_file(fs, "/etc/machine-id");
    if (text) return text->substr(0, text->find_first_of("\r\n")) == "uninitialized";
    return text.error().kind == ErrorKind::NotFound ? std::optional(true) : std::nullopt;
}

ConditionVerdict judge_conditions(const FileSystem& fs, const CommandLine& arguments, const Unit& unit,
                                  std::string_view kind, Processor processor, std::optional<bool> root_checked) {
    const bool early = unit.has_tie(UnitTie::Before, "systemd-remount-fs.service");
    const Judge judge(fs, arguments, processor, root_checked, early);
    ConditionVerdict out;
    std::vector<const UnitSetting*> all;
    for (const auto& setting : unit.settings) {
        if (setting.section != "Unit" || !setting.key.starts_with(kind)) continue;
        // An empty one takes all of them back.
        if (setting.value.empty()) all.clear();
        else all.push_back(&setting);
    }
    bool any_of = false;
    bool one_holds = false, one_may = false;
    const UnitSetting* first_of = nullptr;
    for (const auto* setting : all) {
        std::string_view value = setting->value;
        const bool triggers = value.starts_with('|');
        if (triggers) value.remove_prefix(1);
        while (value.starts_with(' ')) value.remove_prefix(1);
        const bool negated = value.starts_with('!');
        if (negated) value.remove_prefix(1);
        while (value.starts_with(' ')) value.remove_prefix(1);
        Answer answer;
        if (value.find('%') == std::string_view::npos)
            answer = judge.one(std::string_view(setting->key).substr(kind.size()), std::string(value));
        if (answer && negated) answer = !answer.value();
        if (triggers) {
            any_of = true;
            if (first_of == nullptr) first_of = setting;
            one_holds = one_holds || answer == true;
            one_may = one_may || !answer;
            continue;
        }
        if (answer == true) continue;
        if (answer == false) return {false, setting};
        out = {std::nullopt, setting};
    }
    if (!any_of || one_holds) return out;
    if (!one_may) return {false, first_of};
    if (out.holds) return {std::nullopt, first_of};
    return out;
}

}  // namespace herberge::units
