// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <deque>

#include <herberge/files.hpp>

namespace herberge {

std::string_view file_type_name(FileType type) {
    switch (type) {
        case FileType::Regular: return "file";
        case FileType::Directory: return "directory";
        case FileType::Symlink: return "link";
        case FileType::CharDevice: return "character device";
        case FileType::BlockDevice: return "block device";
        case FileType::Fifo: return "fifo";
        case FileType::Socket: return "socket";
        case FileType::Unknown: break;
    }
    return "unknown";
}

namespace {

void prepend_components(std::deque<std::string>& pending, std::string_view path) {
    std::vector<std::string> parts;
    std::size_t at = 0;
    while (at < path.size()) {
        const std::size_t slash = std::min(path.find('/', at), path.size());
        if (slash > at) parts.emplace_back(path.substr(at, slash - at));
        at = slash + 1;
    }
    pending.insert(pending.begin(), parts.begin(), parts.end());
}

std::string join_path(const std::vector<std::pair<std::string, FileId>>& stack) {
    std::string out;
    for (const auto& [name, id] : stack) out += "/" + name;
    return out.empty() ? "/" : out;
}

}  // namespace

Result<Resolved> resolve(const FileSystem& fs, std::string_view path, const ResolveOptions& options) {
    constexpr std::size_t most_components = 4096;
    std::deque<std::string> pending;
    prepend_components(pending, path);
    std::vector<std::pair<std::string, FileId>> stack;  // where we are, from the root down
    Resolved out;
    int links = 0;
    std::size_t steps = 0;
    std::size_t from_link = 0;  // how many of the pending components the last link brought in
    auto here = [&] { return stack.empty() ? fs.root() : stack.back().second; };
    auto info = fs.stat(here());
    if (!info) return tl::unexpected(info.error());
    while (!pending.empty()) {
        if (++steps > most_components) return fail(ErrorKind::LinkLoop, "the path does not end", std::string(path));
        const std::string name = std::move(pending.front());
        pending.pop_front();
        const bool of_link = from_link > 0;
        if (of_link) --from_link;
        if (info->type != FileType::Directory)
            return fail(ErrorKind::WrongType, fmt::format("{} is not a directory", join_path(stack)), std::string(path),
                        "a directory", std::string(file_type_name(info->type)));
        if (name == ".") continue;
        if (name == "..") {
            if (!stack.empty()) stack.pop_back();
            info = fs.stat(here());
            if (!info) return tl::unexpected(info.error());
            continue;
        }
        auto id = fs.lookup(here(), name);
        const std::string shown = join_path(stack) == "/" ? "/" + name : join_path(stack) + "/" + name;
        if (!id) {
            auto error = id.error();
            if (error.kind == ErrorKind::NotFound) {
                error.what = fmt::format("{} does not exist", printable(shown));
                if (!out.links.empty())
                    error.what += fmt::format(" (through the link {})", printable(out.links.back()));
                if (of_link) error.found = "a link to nothing";
            }
            error.place = std::string(path);
            return tl::unexpected(error);
        }
        auto next = fs.stat(*id);
        if (!next) return tl::unexpected(next.error());
        if (next->type == FileType::Symlink && (options.follow_last || !pending.empty())) {
            auto target = fs.link_target(*id);
            if (!target) return tl::unexpected(target.error());
            out.links.push_back(shown + " -> " + *target);
            if (++links > options.most_links)
                return fail(ErrorKind::LinkLoop, "too many symbolic links follow each other", std::string(path),
                            fmt::format("at most {}", options.most_links), printable(out.links.back()));
            if (target->starts_with('/')) stack.clear();
            const std::size_t before = pending.size();
            prepend_components(pending, *target);
            from_link += pending.size() - before;
            info = fs.stat(here());
            if (!info) return tl::unexpected(info.error());
            continue;
        }
        stack.emplace_back(name, *id);
        info = std::move(next);
    }
    out.file = *info;
    out.path = join_path(stack);
    return out;
}

namespace {

/// Edit distance, cut off at `most`; names here are short.
std::size_t distance(std::string_view a, std::string_view b, std::size_t most) {
    if (a.size() > 255 || b.size() > 255) return most + 1;
    std::vector<std::size_t> row(b.size() + 1);
    for (std::size_t j = 0; j <= b.size(); ++j) row[j] = j;
    for (std::size_t i = 1; i <= a.size(); ++i) {
        std::size_t diagonal = row[0];
        row[0] = i;
        for (std::size_t j = 1; j <= b.size(); ++j) {
            const std::size_t replaced = diagonal + (a[i - 1] == b[j - 1] ? 0U : 1U);
            diagonal = row[j];
            row[j] = std::min({row[j] + 1, row[j - 1] + 1, replaced});
        }
    }
    return row[b.size()];
}

}  // namespace

Result<std::string> read_text_file(const FileSystem& fs, std::string_view path, std::uint64_t most) {
    const auto found = resolve(fs, path);
    if (!found) return tl::unexpected(found.error());
    if (found->file.type != FileType::Regular)
        return fail(ErrorKind::WrongType, "not a regular file", std::string(path));
    const auto file = fs.open(found->file.id, std::string(path));
    if (!file) return tl::unexpected(file.error());
    return (*file)->text(most);
}

std::vector<std::string> near_misses(const FileSystem& fs, std::string_view path) {
    const std::size_t slash = path.find_last_of('/');
    const std::string directory(slash == std::string_view::npos || slash == 0 ? "/" : path.substr(0, slash));
    const std::string wanted(slash == std::string_view::npos ? path : path.substr(slash + 1));
    const auto folder = resolve(fs, directory);
    if (!folder || folder->file.type != FileType::Directory || wanted.empty()) return {};
    const auto names = fs.list(folder->file.id);
    if (!names) return {};
    const std::size_t most = std::max<std::size_t>(2, wanted.size() / 3);
    std::vector<std::pair<std::size_t, std::string>> close;
    std::size_t looked_at = 0;
    for (const auto& entry : *names) {
        if (entry.name == "." || entry.name == ".." || ++looked_at > 2000) continue;
        // A name that only goes on or stops early is what people mistype and packagers rename.
        const bool begins = std::min(wanted.size(), entry.name.size()) >= 4 &&
                            (entry.name.starts_with(wanted) || wanted.starts_with(entry.name));
        const std::size_t apart =
            begins ? std::min(most, distance(wanted, entry.name, most)) : distance(wanted, entry.name, most);
        if (apart <= most && apart > 0) close.emplace_back(apart, entry.name);
    }
    std::ranges::sort(close);
    std::vector<std::string> out;
    for (auto& [apart, name] : close) {
        if (out.size() == 3) break;
        out.push_back((directory == "/" ? "" : directory) + "/" + name);
    }
    return out;
}

}  // namespace herberge
