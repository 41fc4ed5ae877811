// SPDX-License-Identifier: MIT
// Configuration files: what a line names wrongly, and what a file lacks, in that loader's own language.
#include <fmt/format.h>
#include <algorithm>
#include <optional>
#include <regex>
#include <set>

#include <herberge/lines.hpp>
#include <herberge/places.hpp>
#include <herberge/system.hpp>

#include "remedy/edits.hpp"
#include "remedy/remedy.hpp"

namespace herberge::remedy {

namespace {

constexpr std::size_t most_text = std::size_t{1} << 20U;
constexpr std::size_t most_candidates = 6;

/// A configuration file of this machine.
struct TextFile {
    std::string volume;
    std::string path;
    std::string text;
    [[nodiscard]] std::string place() const { return volume + ":" + path; }
};

std::optional<TextFile> text_file(const Machine& machine, const std::string& place) {
    const auto named = file_place(place);
    if (!named) return std::nullopt;
    TextFile out{named->volume, named->path, {}};
    const auto volume = machine.at(out.volume);
    const auto* fs = volume != nullptr ? volume->files(Observer::Linux) : nullptr;
    auto text = fs != nullptr ? read_text_file(*fs, out.path, most_text) : fail(ErrorKind::NotFound, "no files");
    if (!text || text->empty() || text->find('\0') != std::string::npos) return std::nullopt;
    out.text = std::move(*text);
    return out;
}

void each_entry(const std::vector<MenuEntry>& entries, const std::function<void(const MenuEntry&)>& visit) {
    for (const auto& entry : entries) {
        visit(entry);
        each_entry(entry.children, visit);
    }
}

/// The configuration files that the loaders on the way read, and those that entries stand in.
std::vector<TextFile> configurations(const Case& stopped) {
    std::set<std::string> places;
    for (const auto& menu : stopped.verdict.menus) {
        places.insert(menu.place);
        for (const auto& message : menu.messages) places.insert(message.place);
        each_entry(menu.entries, [&](const MenuEntry& entry) { places.insert(entry.place); });
    }
    for (const auto& evidence : stopped.rung.evidence) places.insert(evidence.place);
    std::vector<TextFile> out;
    for (const auto& place : places)
        if (auto file = text_file(stopped.machine, place)) out.push_back(std::move(*file));
    return out;
}

/// As long as it was: filled up with line ends, or with blank lines and comments at its end left out.
std::string fitted(std::string text, std::size_t size) {
    while (text.size() > size && !text.empty() && (text.back() == '\n' || text.back() == ' ')) text.pop_back();
    if (text.size() < size) text.append(size - text.size(), '\n');
    return text;
}

void offer(const TextFile& file, const std::string& text, std::string what, std::string risk, int rank,
           std::vector<Idea>& out) {
    if (text == file.text) return;
    const std::string same = fitted(text, file.text.size());
    const std::string chosen = same.size() == file.text.size() ? same : text;
    out.push_back({std::move(what), std::move(risk),
                   [volume = file.volume, path = file.path, chosen](Workshop& shop) {
                       return set_content(shop, volume, path,
                                          {reinterpret_cast<const std::uint8_t*>(chosen.data()), chosen.size()});
                   },
                   rank});
}

std::string replaced(std::string text, std::string_view from, std::string_view to) {
    for (auto at = text.find(from); at != std::string::npos; at = text.find(from, at + to.size()))
        text.replace(at, from.size(), to);
    return text;
}

/// The same where it stands as a whole path: not inside a longer one.
std::string replaced_path(std::string text, std::string_view from, std::string_view to) {
    const auto goes_on = [](char c) {
        return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == '_' || c == '.' ||
               c == '-' || c == '/' || c == '+';
    };
    for (auto at = text.find(from); at != std::string::npos;) {
        const auto end = at + from.size();
        const bool whole = (at == 0 || !goes_on(text[at - 1])) && (end == text.size() || !goes_on(text[end]));
        if (whole) text.replace(at, from.size(), to);
        at = text.find(from, at + (whole ? to.size() : 1));
    }
    return text;
}

// --- names of files --------------------------------------------------------------------------------------------------

/// Files in the folder of one that is missing, which begin as it does: "/boot/vmlinuz-6.1.0-5" for "…-4".
std::vector<std::string> siblings(const FileReference& file) {
    std::vector<std::string> out = file.near_misses;
    const auto* fs = file.volume != nullptr ? file.volume->files(Observer::Linux) : nullptr;
    const auto slash = file.written.rfind('/');
    if (fs == nullptr || slash == std::string::npos) return out;
    const std::string folder = slash == 0 ? "/" : file.written.substr(0, slash);
    const std::string name = file.written.substr(slash + 1);
    const std::string begin = name.substr(0, std::min(name.find_first_of("-."), name.size()));
    const auto found = resolve(*fs, folder);
    const auto names = found ? fs->list(found->file.id) : tl::unexpected(found.error());
    if (!names || begin.size() < 3) return out;
    for (const auto& entry : *names)
        if (entry.name.starts_with(begin) && entry.name != name) {
            const std::string path = (folder == "/" ? "" : folder) + "/" + entry.name;
            if (std::ranges::find(out, path) == out.end()) out.push_back(path);
        }
    if (out.size() > most_candidates) out.resize(most_candidates);
    // What a link led to, or another folder: kernels and RAM disks are kept in /boot.
    const auto boot = resolve(*fs, "/boot");
    const auto kept = boot && folder != "/boot" ? fs->list(boot->file.id) : fail(ErrorKind::NotFound, "none");
    if (kept)
        for (const auto& entry : *kept)
            if (entry.name.starts_with(begin) && out.size() < 2 * most_candidates) out.push_back("/boot/" + entry.name);
    return out;
}

void missing_files(const Case& stopped, const std::vector<TextFile>& files, std::vector<Idea>& out) {
    std::set<std::string> done;
    const auto look = [&](const FileReference& missing) {
        if (missing.found() || missing.written.empty() || !done.insert(missing.written).second) return;
        for (const auto& near : siblings(missing))
            for (const auto& file : files)
                if (file.text.find(missing.written) != std::string::npos)
                    offer(file, replaced_path(file.text, missing.written, near),
                          fmt::format("in {}, name {} instead of {}, which is not there", file.place(), near,
                                      missing.written),
                          "another version is started than the menu says", 13, out);
    };
    for (const auto& menu : stopped.verdict.menus)
        each_entry(menu.entries, [&](const MenuEntry& entry) {
            for (const auto& kernel : entry.kernel) look(kernel);
            for (const auto& ramdisk : entry.ramdisks) look(ramdisk);
        });
}

// --- names of volumes ------------------------------------------------------------------------------------------------

bool is_there(const Machine& machine, const std::string& identifier) {
    return machine.by_uuid(identifier) != nullptr || machine.by_partuuid(lower_text(identifier)) != nullptr;
}

std::set<std::string> tokens_of(const std::string& text, const std::regex& form) {
    std::set<std::string> out;
    for (std::sregex_iterator at(text.begin(), text.end(), form), end; at != end && out.size() < 32; ++at)
        out.insert(at->str());
    return out;
}

/// UUIDs and FAT serials that nothing on the machine has, and those that something of the same form has.
void identifiers(const Case& stopped, const TextFile& file, std::vector<Idea>& out) {
    static const std::regex form(
        "[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}|\\b[0-9A-F]{4}-[0-9A-F]{4}\\b");
    for (const auto& wrong : tokens_of(file.text, form)) {
        if (is_there(stopped.machine, wrong)) continue;
        std::size_t offered = 0;
        stopped.machine.each_volume(Observer::Linux, [&](const Volume& volume) {
            const bool of_another = std::ranges::any_of(stopped.verdict.systems, [&](const SystemVerdict& other) {
                return &other != &stopped.system && other.place == volume.place;
            });
            // Two lines of fstab for one volume would be one too many.
            const bool listed = file.path == "/etc/fstab" && file.text.find(volume.info.uuid) != std::string::npos;
            if (listed || volume.info.uuid.size() != wrong.size() || volume.info.content() == Content::Swap ||
                of_another || ++offered > most_candidates)
                return;
            offer(file, replaced(file.text, wrong, volume.info.uuid),
                  fmt::format("in {}, name the volume {} ({}) instead of {}, which is not on this machine",
                              file.place(), volume.info.uuid, volume.place, wrong),
                  {}, 12, out);
        });
    }
}

/// "(hd0,4)", "hd0,msdos3", "rdisk(1)partition(2)": the same with another number.
void device_names(const Case& stopped, const TextFile& file, std::vector<Idea>& out) {
    static const std::regex grub("hd[0-9]{1,3},(?:msdos|gpt)?[0-9]{1,3}");
    static const std::regex arc("rdisk\\([0-9]{1,3}\\)partition\\([0-9]{1,3}\\)");
    struct Name {
        std::string text, place;
    };
    std::vector<Name> names;
    std::vector<Name> arcs;
    const auto legacy = file.text.find("msdos") == std::string::npos && file.text.find("gpt") == std::string::npos;
    for (const auto& disk : stopped.machine.disks)
        for (const auto& p : disk.table.partitions) {
            if (p.extended()) continue;
            const auto called = partition_names(disk, p);
            const std::string place = fmt::format("d{}p{}", disk.number, p.number);
            if (!(legacy ? called.legacy : called.grub).empty())
                names.push_back({legacy ? called.legacy : called.grub, place});
            if (const auto at = called.arc.find("rdisk"); at != std::string::npos)
                arcs.push_back({called.arc.substr(at), place});
        }
    for (const auto* form : {&grub, &arc})
        for (const auto& token : tokens_of(file.text, *form)) {
            const auto& known = form == &grub ? names : arcs;
            if (std::ranges::any_of(known, [&](const Name& n) { return n.text == token; })) continue;
            std::size_t offered = 0;
            for (const auto& name : known)
                if (++offered <= most_candidates)
                    offer(file, replaced(file.text, token, name.text),
                          fmt::format("in {}, say {} ({}) instead of {}, which is not there", file.place(), name.text,
                                      name.place, token),
                          {}, 12, out);
        }
}

/// root=/dev/…: the same volume by its UUID, or the name that another driver gives it.
void root_devices(const Case& stopped, const TextFile& file, std::vector<Idea>& out) {
    static const std::regex form("root=/dev/[a-zA-Z0-9_./-]{1,80}");
    if (!stopped.system.place) return;
    const auto root = stopped.machine.at(*stopped.system.place);
    if (root == nullptr || root->info.uuid.empty()) return;
    for (const auto& token : tokens_of(file.text, form)) {
        for (const auto& name : root->names.linux_names)
            if (token != "root=/dev/" + name)
                offer(file, replaced(file.text, token, "root=/dev/" + name),
                      fmt::format("in {}, say root=/dev/{} instead of {}", file.place(), name, token), {}, 12, out);
        offer(file, replaced(file.text, token, "root=UUID=" + root->info.uuid),
              fmt::format("in {}, say root=UUID={} ({}) instead of {}", file.place(), root->info.uuid, root->place,
                          token),
              {}, 12, out);
        const auto digits = token.find_last_not_of("0123456789") + 1;
        for (const char* disk : {"vda", "sda"})
            offer(
                file, replaced(file.text, token, fmt::format("root=/dev/{}{}", disk, token.substr(digits))),
                fmt::format("in {}, say root=/dev/{}{} instead of {}", file.place(), disk, token.substr(digits), token),
                "such a name depends on how the disk is attached", 15, out);
    }
}

// --- what a file lacks -----------------------------------------------------------------------------------------------

std::string joined(const std::vector<std::string>& lines) {
    std::string out;
    for (const auto& line : lines) out += line + "\n";
    return out;
}
std::string first_word(const std::string& line) {
    const auto from = line.find_first_not_of(" \t");
    return from == std::string::npos ? "" : line.substr(from, line.find_first_of(" \t", from) - from);
}

/// GRUB: a closing brace that got lost, before the next entry or at the end.
void braces(const TextFile& file, std::vector<Idea>& out) {
    const auto lines = lines_of(file.text);
    for (std::size_t i = 1; i <= lines.size(); ++i) {
        const bool here = i == lines.size() || first_word(lines[i]) == "menuentry" ||
                          first_word(lines[i]) == "submenu" || lines[i].starts_with("###");
        if (!here || lines[i - 1].find('}') != std::string::npos) continue;
        auto more = lines;
        more.insert(more.begin() + static_cast<std::ptrdiff_t>(i), "}");
        offer(file, joined(more), fmt::format("in {}, put the closing brace back behind line {}", file.place(), i), {},
              12, out);
        if (out.size() > 40) return;
    }
}

/// A kernel without its RAM disk, where one of the same version lies beside it.
void ramdisk_lines(const Case& stopped, const TextFile& file, std::vector<Idea>& out) {
    for (const auto& menu : stopped.verdict.menus)
        each_entry(menu.entries, [&](const MenuEntry& entry) {
            if (entry.place != file.place() || !entry.ramdisks.empty() || entry.kernel.empty() ||
                !entry.kernel.front().found())
                return;
            const auto& kernel = entry.kernel.front();
            const auto slash = kernel.real_path.rfind('/');
            const auto dash = kernel.real_path.find('-', slash);
            const auto* fs = kernel.volume->files(Observer::Linux);
            const auto folder = fs != nullptr ? resolve(*fs, slash == 0 ? "/" : kernel.real_path.substr(0, slash))
                                              : fail(ErrorKind::NotFound, "no files");
            const auto names = folder ? fs->list(folder->file.id) : tl::unexpected(folder.error());
            if (!names) return;
            const std::string version = dash == std::string::npos ? "" : kernel.real_path.substr(dash);
            for (const auto& name : *names) {
                if (!name.name.starts_with("initr") || name.name.find(version) == std::string::npos) continue;
                const auto begin = kernel.written.rfind('/');
                const std::string path = kernel.written.substr(0, begin + 1) + name.name;
                auto lines = lines_of(file.text);
                const auto at = static_cast<std::size_t>(kernel.line);
                if (at == 0 || at > lines.size()) continue;
                const std::string indent = lines[at - 1].substr(0, lines[at - 1].find_first_not_of(" \t"));
                lines.insert(lines.begin() + static_cast<std::ptrdiff_t>(at), fmt::format("{}initrd {}", indent, path));
                offer(file, joined(lines),
                      fmt::format("in {}, give the kernel of line {} its RAM disk {}", file.place(), at, path), {}, 12,
                      out);
            }
        });
}

/// SYSLINUX: a DEFAULT that names nothing, or none at all.
void default_label(const TextFile& file, std::vector<Idea>& out) {
    auto lines = lines_of(file.text);
    std::string label;
    std::optional<std::size_t> line;
    for (std::size_t i = 0; i < lines.size(); ++i) {
        const std::string word = lower_text(first_word(lines[i]));
        if (word == "label" && label.empty()) label = lines[i].substr(lines[i].find_last_of(" \t") + 1);
        if (word == "default" && !line) line = i;
    }
    if (label.empty()) return;
    if (line) lines[*line] = "DEFAULT " + label;
    else lines.insert(lines.begin(), "DEFAULT " + label);
    offer(file, joined(lines), fmt::format("in {}, let DEFAULT name the label {}", file.place(), label), {}, 12, out);
}

/// /etc/fstab demands what is not there, or cannot be mounted: the line becomes a comment.
void fstab(const Case& stopped, std::vector<Idea>& out) {
    if (!stopped.system.place || stopped.rung.stage != Stage::Services) return;
    const auto file = text_file(stopped.machine, *stopped.system.place + ":/etc/fstab");
    if (!file) return;
    const auto lines = lines_of(file->text);
    for (const auto& line : parse_fstab(file->text, 2)) {
        if (line.mount_point == "/" || line.line < 1 || static_cast<std::size_t>(line.line) > lines.size()) continue;
        const auto device = resolve_device(stopped.machine, line.device);
        const bool gone = device.volume == nullptr && !device.cannot_tell && device.kind != RootReference::Kind::Other;
        const bool named = std::ranges::any_of(stopped.rung.evidence, [&](const Evidence& one) {
            return one.place == file->place() && one.line == line.line;
        });
        if (!gone && !named) continue;
        auto changed = lines;
        auto& text = changed[static_cast<std::size_t>(line.line) - 1];
        // As long as before: the comment's mark takes the place of a letter of the device, which the step names.
        text.front() = '#';
        offer(*file, joined(changed),
              fmt::format("in {}, make line {} a comment ({} for {} {})", file->place(), line.line, line.device,
                          line.mount_point, gone ? "is not there" : "cannot be mounted"),
              fmt::format("{} is not mounted any more", line.mount_point), 14, out);
    }
}

}  // namespace

void propose_texts(const Case& stopped, std::vector<Idea>& out) {
    const auto files = configurations(stopped);
    missing_files(stopped, files, out);
    for (const auto& file : files) {
        identifiers(stopped, file, out);
        device_names(stopped, file, out);
        root_devices(stopped, file, out);
        if (stopped.has(Code::GrubConfigSyntax)) braces(file, out);
        if (stopped.rung.stage == Stage::Ramdisk) ramdisk_lines(stopped, file, out);
        if (stopped.has(Code::SyslinuxDefaultUnknown) || stopped.has(Code::SyslinuxNoDefault)) default_label(file, out);
    }
    fstab(stopped, out);
}

}  // namespace herberge::remedy
