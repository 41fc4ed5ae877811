// SPDX-License-Identifier: MIT
#include "system/units/files.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "system/units/names.hpp"

namespace herberge::units {

namespace {

constexpr std::size_t most_entries = 20'000;  // of all folders together
constexpr int most_hops = 8;                  // FOLLOW_MAX

std::string_view base_of(std::string_view path) { return path.substr(path.rfind('/') + 1); }
std::string_view folder_of(std::string_view path) { return path.substr(0, path.rfind('/')); }

}  // namespace

UnitFiles::UnitFiles(const FileSystem& fs, std::string volume) : fs_(fs), volume_(std::move(volume)) {
    // What lies below /run is written at each start anew: of it, only the generators' work is known.
    paths_ = {"/etc/systemd/system.control",
              generator_early,
              "/etc/systemd/system",
              "/etc/systemd/system.attached",
              generator,
              "/usr/local/lib/systemd/system",
              "/lib/systemd/system",
              "/usr/lib/systemd/system",
              generator_late};
    const auto split = resolve(fs_, "/lib/systemd/system");
    const auto merged = resolve(fs_, "/usr/lib/systemd/system");
    if (split && merged && split->path == merged->path) std::erase(paths_, "/lib/systemd/system");
    real_ = paths_;
    for (const auto& path : paths_)
        if (const auto at = resolve(fs_, path); at && at->path != path) real_.push_back(at->path);
}

void UnitFiles::add(GeneratedFiles files) {
    generated_.merge(files);
    mapped_ = false;
}

std::string UnitFiles::place(const std::string& path) const { return fmt::format("{}:{}", volume_, path); }

const Generated* UnitFiles::generated(const std::string& path) const {
    const auto found = generated_.find(path);
    return found != generated_.end() ? &found->second : nullptr;
}

Result<std::string> UnitFiles::text(const std::string& path) const {
    if (const auto* made = generated(path)) return made->text;
    return read_text_file(fs_, path);
}

std::vector<UnitFiles::Entry> UnitFiles::list(const std::string& folder) const {
    std::vector<Entry> out;
    const std::string inside = folder + "/";
    for (auto it = generated_.lower_bound(inside); it != generated_.end() && it->first.starts_with(inside); ++it) {
        const auto rest = std::string_view(it->first).substr(inside.size());
        const auto slash = rest.find('/');
        const std::string name(rest.substr(0, slash));
        if (!out.empty() && out.back().name == name) continue;
        Entry entry{name, inside + name, it->second.link_to};
        entry.folder = slash != std::string_view::npos;
        entry.link = !entry.folder && !it->second.link_to.empty();
        if (entry.folder) entry.link_to.clear();
        out.push_back(std::move(entry));
    }
    const auto lost = [&](const char* what, const std::string& path, const Error& error) {
        if (!error.unreadable()) return;
        findings_.push_back(make_finding(Code::ServicesUnitsUnreadable,
                                         fmt::format("{} {} cannot be read: {}", what, path, error.what),
                                         {evidence_error(error)}));
    };
    const auto there = resolve(fs_, folder);
    if (!there) {
        lost("the folder", folder, there.error());
        return out;
    }
    const auto entries = fs_.list(there->file.id);
    if (!entries) {
        lost("the folder", folder, entries.error());
        return out;
    }
    for (const auto& one : *entries) {
        if (one.name == "." || one.name == ".." || out.size() > most_entries) continue;
        Entry entry{one.name, inside + one.name, {}};
        const auto info = resolve(fs_, entry.path, {.follow_last = false});
        if (!info) {
            lost("what is named", entry.path, info.error());
            if (info.error().unreadable()) lost_.insert(entry.path);
            continue;
        }
        entry.folder = info->file.type == FileType::Directory;
        entry.link = info->file.type == FileType::Symlink;
        if (entry.link) {
            const auto target = fs_.link_target(info->file.id);
            if (!target) {
                lost("the link", entry.path, target.error());
                lost_.insert(entry.path);
                continue;
            }
            entry.link_to = *target;
        }
        entry.empty = info->file.type == FileType::Regular && info->file.size == 0;
        out.push_back(std::move(entry));
    }
    return out;
}

/// A link to /dev/null, by whatever way, or an empty file.
bool UnitFiles::is_null(const Entry& entry) const {
    if (!entry.link) return entry.empty;
    // Images have no /dev/null: links are followed by their text.
    std::string at = entry.path, to = entry.link_to;
    for (int hop = 0; hop < most_hops; ++hop) {
        std::vector<std::string> parts;
        const std::string full = to.starts_with('/') ? to : std::string(folder_of(at)) + "/" + to;
        for (std::size_t i = 0; i < full.size();) {
            const auto end = std::min(full.find('/', i), full.size());
            const auto part = full.substr(i, end - i);
            i = end + 1;
            if (part == "..") {
                if (!parts.empty()) parts.pop_back();
            } else if (!part.empty() && part != ".") parts.push_back(part);
        }
        at = fmt::format("/{}", fmt::join(parts, "/"));
        if (at == "/dev/null") return true;
        if (const auto* made = generated(at); made != nullptr && !made->link_to.empty()) {
            to = made->link_to;
            continue;
        }
        const auto end = resolve(fs_, at, {.follow_last = false});
        if (!end) return false;
        if (end->file.type != FileType::Symlink) return end->file.type == FileType::Regular && end->file.size == 0;
        const auto next = fs_.link_target(end->file.id);
        if (!next) return false;
        to = *next;
    }
    return false;
}

void UnitFiles::map_names() const {
    mapped_ = true;
    ids_.clear();
    also_.clear();
    folders_.clear();
    empty_.clear();
    std::size_t seen = 0;
    for (const auto& path : paths_) {
        for (const auto& entry : list(path)) {
            if (++seen > most_entries) break;
            if (entry.folder || (entry.link && entry.name.rfind('.') != std::string::npos && !parts_of(entry.name))) {
                folders_.insert(entry.path);
                continue;
            }
            if (!parts_of(entry.name) || ids_.contains(entry.name)) continue;
            std::string leads_to = entry.path;
            if (entry.link) {
                auto target = entry.link_to.starts_with('/') ? entry.link_to : path + "/" + entry.link_to;
                // The folders on the way are followed, the end is not.
                const auto folder = resolve(fs_, folder_of(tidy_path(target)));
                const std::string base(base_of(tidy_path(target)));
                const std::string in = folder ? folder->path : tidy_path(std::string(folder_of(tidy_path(target))));
                const bool known = std::ranges::find(real_, in) != real_.end();
                if (known && base == entry.name) continue;  // the file in the other folder is found by itself
                leads_to = known ? base : fmt::format("{}{}{}", in, in == "/" ? "" : "/", base);
                if (known) {
                    // An alias has the type of what it stands for, and is a template where that is one.
                    const auto from = parts_of(entry.name), to = parts_of(base);
                    if (!to || from->type != to->type || (from->is_template() && !to->is_template()) ||
                        (from->is_instance() && to->is_instance() && *from->instance != *to->instance) ||
                        (!from->instance && to->is_template()))
                        continue;
                    also_[base].insert(entry.name);
                }
            }
            if (is_null(entry)) empty_.insert(leads_to);
            ids_.emplace(entry.name, leads_to);
        }
    }
}

UnitFile UnitFiles::find(const std::string& name) const {
    if (!mapped_) map_names();
    UnitFile out;
    out.names = {name};
    const auto parts = parts_of(name);
    if (!parts) return out;
    const auto follow = [&](std::string at) {
        for (int hop = 0; hop < most_hops; ++hop) {
            const auto next = ids_.find(at);
            if (next == ids_.end()) return std::string{};
            if (next->second.starts_with('/')) return next->second;
            at = next->second;
        }
        return std::string{};
    };
    out.path = follow(name);
    if (out.path.empty() && parts->is_instance()) out.path = follow(parts->template_name());
    for (const auto& path : paths_)
        if (lost_.contains(fmt::format("{}/{}", path, name))) out.unreadable = out.path.empty();
    if (out.path.empty()) return out;
    out.masked = empty_.contains(out.path) || out.path == "/dev/null";
    // The file's own name comes first; a template's gets the instance.
    std::string own(base_of(out.path));
    const auto own_parts = parts_of(own);
    if (own_parts && own_parts->is_template()) {
        auto with = *own_parts;
        with.instance = parts->instance.value_or("");
        if (parts->is_instance()) own = with.name();
    }
    if (own_parts && own != name && own_parts->type == parts->type) out.names.insert(out.names.begin(), own);
    const std::string key = own_parts ? std::string(base_of(out.path)) : name;
    std::vector<std::string> todo = {key};
    for (std::size_t i = 0; i < todo.size() && todo.size() < 64; ++i) {
        const auto aliases = also_.find(todo[i]);
        if (aliases == also_.end()) continue;
        for (const auto& alias : aliases->second) {
            todo.push_back(alias);
            auto full = parts_of(alias);
            if (full->is_template()) {
                if (!parts->is_instance()) continue;
                full->instance = parts->instance;
            }
            if (const auto one = full->name(); std::ranges::find(out.names, one) == out.names.end())
                out.names.push_back(one);
        }
    }
    return out;
}

std::vector<std::string> UnitFiles::folders_of(const std::vector<std::string>& names, std::string_view suffix,
                                               bool prefixes) const {
    if (!mapped_) map_names();
    std::vector<std::string> out;
    const auto add = [&](const std::string& stem) {
        for (const auto& path : paths_) {
            std::string folder = fmt::format("{}/{}{}", path, stem, suffix);
            if (folders_.contains(folder) && std::ranges::find(out, folder) == out.end())
                out.push_back(std::move(folder));
        }
    };
    for (const auto& name : names) {
        const auto parts = parts_of(name);
        if (!parts) continue;
        // foo-bar@x.service, foo-bar@.service, foo-@x.service, foo-@.service …
        auto cut = *parts;
        while (true) {
            add(cut.name());
            if (cut.is_instance()) add(cut.template_name());
            auto stem = cut.prefix;
            if (stem.ends_with('-')) stem.pop_back();
            const auto dash = stem.rfind('-');
            if (!prefixes || dash == std::string::npos || dash == 0) break;
            cut.prefix = stem.substr(0, dash + 1);
        }
    }
    if (prefixes && !names.empty())
        if (const auto parts = parts_of(names.front())) add(parts->type.substr(1));
    return out;
}

std::vector<std::string> UnitFiles::drop_ins(const std::vector<std::string>& names) const {
    std::map<std::string, std::string> files;
    for (const auto& folder : folders_of(names, ".d", true))
        for (const auto& entry : list(folder)) {
            if (!entry.name.ends_with(".conf") || entry.folder) continue;
            files.emplace(entry.name, is_null(entry) ? std::string{} : entry.path);
        }
    std::vector<std::string> out;
    for (auto& [name, path] : files)
        if (!path.empty()) out.push_back(path);
    return out;
}

std::vector<UnitFiles::Link> UnitFiles::links(const std::vector<std::string>& names, std::string_view suffix) const {
    std::map<std::string, std::string> found;
    for (const auto& folder : folders_of(names, suffix, true))
        for (const auto& entry : list(folder)) {
            if (entry.folder || !parts_of(entry.name)) continue;
            const bool counts = entry.link && !is_null(entry);
            found.emplace(entry.name, counts ? entry.path : std::string{});
        }
    std::vector<Link> out;
    for (auto& [name, path] : found)
        if (!path.empty()) out.push_back({name, path});
    return out;
}

}  // namespace herberge::units
