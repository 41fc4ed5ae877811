// SPDX-License-Identifier: MIT
// Which systems are installed, by their own marks.
#include <fmt/format.h>
#include <algorithm>
#include <cctype>

#include <herberge/system.hpp>

#include "system/medium.hpp"
#include "system/recovery.hpp"
#include "system/usr_mount.hpp"
#include "system/windows.hpp"

namespace herberge {

namespace {

/// A shell-style assignment of os-release(5); quotes and backslashes removed.
std::string assignment(std::string_view text, std::string_view name) {
    while (!text.empty()) {
        const auto end = std::min(text.find('\n'), text.size());
        auto line = text.substr(0, end);
        text.remove_prefix(std::min(end + 1, text.size()));
        if (!line.starts_with(name) || line.size() <= name.size() || line[name.size()] != '=') continue;
        line.remove_prefix(name.size() + 1);
        std::string out;
        for (std::size_t i = 0; i < line.size(); ++i) {
            if (line[i] == '"' || line[i] == '\'') continue;
            if (line[i] == '\\' && i + 1 < line.size()) ++i;
            out += line[i];
        }
        return printable(out);
    }
    return {};
}

std::string first_line(const std::string& text) { return printable(text.substr(0, text.find('\n'))); }

bool exists(const FileSystem& fs, std::string_view path) {
    return resolve(fs, path, {.most_links = 40, .follow_last = false}).has_value();
}

void list_kernels(const FileSystem& fs, InstalledSystem& out) {
    for (const std::string_view folder : {"/boot", "/"}) {
        const auto directory = resolve(fs, folder);
        if (!directory || directory->file.type != FileType::Directory) continue;
        const auto names = fs.list(directory->file.id);
        if (!names) continue;
        for (const auto& entry : *names)
            if ((entry.name.starts_with("vmlinuz") || entry.name.starts_with("bzImage") ||
                 entry.name.starts_with("kernel-")) &&
                entry.type != FileType::Symlink && entry.type != FileType::Directory)
                out.kernels.push_back((folder == "/" ? "/" : std::string(folder) + "/") + entry.name);
    }
    std::ranges::sort(out.kernels);
}

std::optional<InstalledSystem> identify_linux(const Volume& volume) {
    // Identity is read the lenient way: a system with a damaged inode is still this system.
    const FileSystem* fs = volume.files(Observer::Analyst);
    if (fs == nullptr) return std::nullopt;
    InstalledSystem out;
    out.kind = SystemKind::Linux;
    out.volume = volume.shared_from_this();
    out.last_used = volume.info.last_written;
    for (const std::string_view path : {"/etc/os-release", "/usr/lib/os-release"}) {
        const auto text = read_text_file(*fs, path);
        if (!text) continue;
        out.mark = path;
        out.name = assignment(*text, "PRETTY_NAME");
        if (out.name.empty()) out.name = assignment(*text, "NAME");
        out.version = assignment(*text, "VERSION_ID");
        break;
    }
    if (out.mark.empty())
        for (const std::string_view path :
             {"/etc/debian_version", "/etc/redhat-release", "/etc/SuSE-release", "/etc/arch-release",
              "/etc/alpine-release", "/etc/gentoo-release", "/etc/slackware-version"}) {
            const auto text = read_text_file(*fs, path);
            if (!text) continue;
            out.mark = path;
            if (path == "/etc/debian_version") {
                out.version = first_line(*text);
                out.name = "Debian " + out.version;
            } else if (path == "/etc/alpine-release") {
                out.version = first_line(*text);
                out.name = "Alpine Linux " + out.version;
            } else {
                out.name =
                    text->empty() ? (path == "/etc/arch-release" ? "Arch Linux" : "Linux system") : first_line(*text);
            }
            break;
        }
    if (out.mark.empty()) {
        // Without a release file: the shape of a Unix root, with accounts or a mount table in it.
        const bool accounts = exists(*fs, "/etc/passwd") || exists(*fs, "/etc/fstab") || exists(*fs, "/etc/inittab");
        const bool programs =
            exists(*fs, "/sbin") || exists(*fs, "/usr/sbin") || exists(*fs, "/bin") || exists(*fs, "/usr/bin");
        if (!accounts || !programs) return std::nullopt;
        out.mark = exists(*fs, "/etc/passwd")  ? "/etc/passwd"
                   : exists(*fs, "/etc/fstab") ? "/etc/fstab"
                                               : "/etc/inittab";
    }
    if (out.name.empty()) out.name = "Linux system";
    list_kernels(*fs, out);
    return out;
}

/// A system at the volume's top, or in one of its subvolumes: in the one that is mounted by itself, else the first.
std::optional<InstalledSystem> identify_linux_within(const Machine& machine, const Volume& volume) {
    const auto tree = with_usr(machine, volume.shared_from_this());
    if (auto out = identify_linux(*tree)) {
        if (tree.get() != &volume) out->with_programs = tree;
        out->volume = volume.shared_from_this();
        return out;
    }
    const FileSystem* fs = volume.files(Observer::Analyst);
    if (fs == nullptr || !volume.info.is(Family::Btrfs)) return std::nullopt;
    std::vector<FileId> roots{fs->usual_root()};
    for (const auto& one : fs->subvolumes())
        if (roots.size() < 64) roots.push_back(one.root);
    for (const FileId root : roots) {
        if (root == fs->root()) continue;
        auto out = identify_linux(*volume.rooted(root));
        if (!out) continue;
        out->volume = volume.shared_from_this();
        return out;
    }
    return std::nullopt;
}

}  // namespace

std::string_view system_kind_id(SystemKind kind) {
    switch (kind) {
        case SystemKind::Linux: return "linux";
        case SystemKind::Windows: return "windows";
        case SystemKind::Recovery: return "recovery";
        case SystemKind::Medium: return "medium";
        case SystemKind::Tool: return "tool";
        case SystemKind::Unknown: break;
    }
    return "unknown";
}

std::vector<InstalledSystem> find_systems(const Machine& machine) {
    std::vector<InstalledSystem> out;
    std::vector<std::string> arrays;
    machine.each_volume(Observer::Linux, [&](const Volume& volume) {
        // A file system of several devices is the same in each of them.
        if (!volume.listed_at.empty()) return;
        // What lies in a member is looked at where it is put together.
        if (machine.understands(volume)) return;
        // A mirror shows the same system in each of its members.
        if (volume.info.content() == Content::Member && !volume.info.uuid.empty()) {
            if (std::ranges::find(arrays, volume.info.uuid) != arrays.end()) return;
            arrays.push_back(volume.info.uuid);
        }
        if (auto system = identify_linux_within(machine, volume)) out.push_back(std::move(*system));
        else if (auto medium = identify_medium(volume)) out.push_back(std::move(*medium));
        for (auto& system : find_windows(volume)) out.push_back(std::move(system));
        for (auto& system : find_recovery(volume)) out.push_back(std::move(system));
    });
    return out;
}

CommandLine::CommandLine(std::string_view text) {
    std::string word;
    bool quoted = false;
    bool any = false;
    for (const char c : text) {
        if (c == '"') {
            quoted = !quoted;
            any = true;
        } else if (!quoted && std::isspace(static_cast<unsigned char>(c)) != 0) {
            if (any) words_.push_back(word);
            word.clear();
            any = false;
        } else {
            word += c;
            any = true;
        }
    }
    if (any) words_.push_back(word);
}

std::optional<std::string> CommandLine::value(std::string_view name) const {
    for (auto word = words_.rbegin(); word != words_.rend(); ++word) {
        if (*word == "--") continue;
        if (word->size() > name.size() && word->starts_with(name) && (*word)[name.size()] == '=')
            return word->substr(name.size() + 1);
    }
    return std::nullopt;
}

std::optional<bool> CommandLine::root_is_writable() const {
    const auto last = std::find_if(words_.rbegin(), words_.rend(),
                                   [](const std::string& word) { return word == "ro" || word == "rw"; });
    return last != words_.rend() ? std::optional(*last == "rw") : std::nullopt;
}

bool CommandLine::has(std::string_view word) const { return std::ranges::find(words_, word) != words_.end(); }

}  // namespace herberge
