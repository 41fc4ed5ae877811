// SPDX-License-Identifier: MIT
// Another entry of the same system starts it: that one becomes the one that starts unattended.
#include <fmt/format.h>
#include <algorithm>
#include <regex>

#include <herberge/places.hpp>

#include "remedy/edits.hpp"
#include "remedy/remedy.hpp"
#include "walk/routes.hpp"

namespace herberge::remedy {

namespace {

constexpr std::uint64_t most_text = std::uint64_t{1} << 20U;
constexpr std::size_t environment_size = 1024;
constexpr std::string_view environment_mark = "# GRUB Environment Block\n";

std::optional<std::string> text_at(const Machine& machine, const FilePlace& place) {
    const auto file = open_file(machine, place);
    const auto bytes = file ? file->bytes->bytes(0, file->bytes->size(), most_text) : tl::unexpected(file.error());
    return bytes ? std::optional(std::string(bytes->begin(), bytes->end())) : std::nullopt;
}

void offer(const FilePlace& place, const std::string& text, const std::string& title, std::vector<Idea>& out) {
    out.push_back({fmt::format("in {}, let “{}” start unattended", place.text(), shown(title)),
                   "another entry is started than the menu meant: an older kernel, or other arguments",
                   [place, text](Workshop& shop) -> Result<void> {
                       const std::span<const std::uint8_t> bytes(reinterpret_cast<const std::uint8_t*>(text.data()),
                                                                 text.size());
                       if (set_content(shop, place.volume, place.path, bytes)) return {};
                       return put_file(shop, place.volume, place.path, bytes);
                   },
                   24});
}

/// With the first line that matches replaced, or one at the beginning.
std::string with_line(const std::string& text, const std::regex& line, const std::string& instead) {
    std::smatch found;
    if (!std::regex_search(text, found, line)) return instead + "\n" + text;
    return std::string(found.prefix()) + found.str(1) + instead + std::string(found.suffix());
}

/// GRUB's block of variables with another saved_entry; none: it is none, or has no room.
std::optional<std::string> with_saved_entry(const std::string& block, const std::string& entry) {
    if (block.size() != environment_size || !block.starts_with(environment_mark)) return std::nullopt;
    std::string out(environment_mark);
    std::size_t at = out.size();
    while (at < block.size() && block[at] != '#') {
        const auto end = block.find('\n', at);
        if (end == std::string::npos) break;
        const auto line = block.substr(at, end + 1 - at);
        if (!line.starts_with("saved_entry=")) out += line;
        at = end + 1;
    }
    out += fmt::format("saved_entry={}\n", entry);
    if (out.size() > environment_size) return std::nullopt;
    out.resize(environment_size, '#');
    return out;
}

void grub(const Case& stopped, const FilePlace& place, const std::string& text, const MenuEntry& entry,
          std::vector<Idea>& out) {
    static const std::regex literal(
        "(^|\\n)([ \\t]*)set[ \\t]+default=(\"[^\"$]*\"|'[^'$]*'|[^\"'$\\s]+)[ \\t]*(?=\\n|$)");
    const auto path = entry.path_text();
    if (text.find("saved_entry") != std::string::npos) {
        const FilePlace block{place.volume, place.path.substr(0, place.path.rfind('/')) + "/grubenv"};
        const auto old = text_at(stopped.machine, block);
        const auto changed = old ? with_saved_entry(*old, path) : std::nullopt;
        if (changed) offer(block, *changed, entry.title, out);
    }
    offer(place, with_line(text, literal, fmt::format("set default=\"{}\"", path)), entry.title, out);
}

void by_loader(const Case& stopped, const Menu& menu, const MenuEntry& entry, std::vector<Idea>& out) {
    static const std::regex legacy("(^|\\n)default[ \\t=]+\\S+[ \\t]*(?=\\n|$)");
    static const std::regex syslinux("(^|\\n)default[ \\t]+[^\\n]*(?=\\n|$)", std::regex::icase);
    const auto place = file_place(menu.place);
    const auto text = place ? text_at(stopped.machine, *place) : std::nullopt;
    if (!text) return;
    if (menu.loader == "GRUB Legacy")
        offer(*place, with_line(*text, legacy, fmt::format("default {}", entry.path_text())), entry.title, out);
    else if (menu.loader.starts_with("GRUB")) grub(stopped, *place, *text, entry, out);
    else if (menu.loader.find("LINUX") != std::string::npos && !entry.id.empty())
        offer(*place, with_line(*text, syslinux, "DEFAULT " + entry.id), entry.title, out);
    else if (menu.loader == "systemd-boot" && !entry.id.empty())
        offer(*place, with_line(*text, syslinux, "default " + entry.id), entry.title, out);
}

}  // namespace

void propose_default(const Case& stopped, std::vector<Idea>& out) {
    for (const auto& other : stopped.system.fallbacks) {
        if (other.starts != Starts::Yes) continue;
        for (const auto& menu : stopped.verdict.menus) {
            std::vector<const MenuEntry*> entries;
            walk::collect_leaves(menu.entries, entries);
            for (const auto* entry : entries)
                if (entry->title == other.entry && entry->path_text() == other.path)
                    by_loader(stopped, menu, *entry, out);
        }
    }
}

}  // namespace herberge::remedy
