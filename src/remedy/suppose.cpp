// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <charconv>

#include <herberge/places.hpp>
#include <herberge/suppose.hpp>

#include "remedy/edits.hpp"

namespace herberge {

namespace {

std::string disk_names(const std::vector<int>& disks) {
    std::string out;
    for (const int disk : disks) out += fmt::format("{}d{}", out.empty() ? "" : ",", disk);
    return out;
}

/// "d2,d1"
std::optional<std::vector<int>> disks_of(std::string_view text) {
    std::vector<int> out;
    while (!text.empty()) {
        const auto end = std::min(text.find(','), text.size());
        std::string_view one = text.substr(0, end);
        int number = 0;
        if (!one.starts_with('d')) return std::nullopt;
        one.remove_prefix(1);
        const auto [stop, error] = std::from_chars(one.data(), one.data() + one.size(), number);
        if (error != std::errc{} || stop != one.data() + one.size() || number < 1) return std::nullopt;
        out.push_back(number);
        text.remove_prefix(std::min(end + 1, text.size()));
    }
    return out.empty() ? std::nullopt : std::optional(out);
}

Error not_there(std::string what, std::string place) {
    return {ErrorKind::NotFound, std::move(what), std::move(place), {}, {}};
}

/// A text that is shorter than the file: with line ends up to the file's size, so that it keeps its blocks.
std::vector<std::uint8_t> filled_up(const Workshop& shop, const FilePlace& file, std::vector<std::uint8_t> content) {
    const auto opened = open_file(shop.machine(), file);
    const bool text = std::ranges::find(content, std::uint8_t{0}) == content.end();
    if (opened && text && opened->found.file.size > content.size())
        content.resize(static_cast<std::size_t>(opened->found.file.size), std::uint8_t{'\n'});
    return content;
}

/// The disks that are there, as the firmware tries them.
Result<Machine> arranged(const Machine& machine, const Supposition& what) {
    for (const int number : what.without)
        if (machine.disk(number) == nullptr)
            return tl::unexpected(not_there("there is no such disk", fmt::format("d{}", number)));
    Machine out;
    for (const int number : what.order) {
        const Disk* disk = machine.disk(number);
        if (disk == nullptr) return tl::unexpected(not_there("there is no such disk", fmt::format("d{}", number)));
        out.disks.push_back(*disk);
    }
    for (const auto& disk : machine.disks)
        if (std::ranges::find(what.order, disk.number) == what.order.end()) out.disks.push_back(disk);
    std::erase_if(out.disks,
                  [&](const Disk& disk) { return std::ranges::find(what.without, disk.number) != what.without.end(); });
    if (out.disks.empty()) return fail(ErrorKind::Malformed, "a machine needs a disk");
    out.more_layers = machine.more_layers;
    return out;
}

Result<void> change(Workshop& shop, const Supposition& what) {
    for (const auto& patch : what.patches)
        if (auto done = shop.apply(patch); !done) return done;
    for (const auto& place : what.active) {
        const Machine now = shop.machine();
        const auto volume = now.at(place);
        const Disk* disk = volume != nullptr ? now.disk(volume->disk) : nullptr;
        const Partition* partition = disk != nullptr ? disk->table.find(volume->partition) : nullptr;
        if (partition == nullptr) return tl::unexpected(not_there("there is no such partition", place));
        if (auto done = remedy::make_active(shop, *disk, *partition); !done) return done;
    }
    for (const auto& [place, identifier] : what.identifiers) {
        const Machine now = shop.machine();
        const auto volume = now.at(place);
        if (volume == nullptr || volume->source == nullptr)
            return tl::unexpected(not_there("there is no such volume", place));
        if (auto done = remedy::set_identifier(shop, *volume, identifier); !done) return done;
    }
    for (const auto& [place, content] : what.contents) {
        const auto parts = file_place(place);
        if (!parts) return fail(ErrorKind::Malformed, "not the place of a file", place, "d1p2:/boot/grub/grub.cfg");
        auto done = remedy::set_content(shop, parts->volume, parts->path, content);
        if (!done && done.error().kind == ErrorKind::TooLarge)
            done = remedy::set_content(shop, parts->volume, parts->path, filled_up(shop, *parts, content));
        if (!done) return done;
    }
    for (const auto& place : what.removed) {
        const auto parts = file_place(place);
        if (!parts) return fail(ErrorKind::Malformed, "not the place of a file", place, "d1p2:/boot/grub/grub.cfg");
        if (auto done = remedy::hide_file(shop, parts->volume, parts->path); !done) return done;
    }
    return {};
}

AtMenu& at_menu_of(Supposition& to) {
    if (!to.at_menu) to.at_menu.emplace();
    return *to.at_menu;
}
HandEntry& hand_of(Supposition& to) {
    auto& menu = at_menu_of(to);
    if (!menu.by_hand) menu.by_hand.emplace();
    return *menu.by_hand;
}

using ReadFile = std::function<Result<std::vector<std::uint8_t>>(const std::string& path)>;

Result<void> add_word(Supposition& to, const std::string& word, const std::string& rest, const ReadFile& read) {
    const auto bad = [&](std::string expected) -> Result<void> {
        return fail(ErrorKind::Malformed, fmt::format("{} needs something else", word), {}, std::move(expected), rest);
    };
    const auto equals = rest.find('=');
    if (word == "order" || word == "without") {
        const auto disks = disks_of(rest);
        if (!disks) return bad("disks, such as d2,d1");
        auto& list = word == "order" ? to.order : to.without;
        list.insert(list.end(), disks->begin(), disks->end());
    } else if (word == "patch") {
        const auto text = read(rest);
        if (!text) return tl::unexpected(text.error());
        auto patch = read_patch({reinterpret_cast<const char*>(text->data()), text->size()});
        if (!patch) return tl::unexpected(patch.error());
        to.patches.push_back(std::move(*patch));
    } else if (word == "active") {
        to.active.push_back(rest);
    } else if (word == "identifier") {
        if (equals == std::string::npos) return bad("PLACE=IDENTIFIER");
        to.identifiers.emplace_back(rest.substr(0, equals), rest.substr(equals + 1));
    } else if (word == "content") {
        if (equals == std::string::npos) return bad("PLACE=FILE");
        auto bytes = read(rest.substr(equals + 1));
        if (!bytes) return tl::unexpected(bytes.error());
        to.contents.emplace_back(rest.substr(0, equals), std::move(*bytes));
    } else if (word == "remove") {
        to.removed.push_back(rest);
    } else if (word == "choose") {
        at_menu_of(to).choice = rest;
    } else if (word == "keys") {
        for (std::size_t at = 0; at <= rest.size();) {
            const auto end = std::min(rest.find(',', at), rest.size());
            to.keys.push_back(lower_text(rest.substr(at, end - at)));
            at = end + 1;
        }
    } else if (word == "kernel") {
        hand_of(to).kernel = rest;
    } else if (word == "ramdisk") {
        hand_of(to).ramdisks.push_back(rest);
    } else if (word == "arguments") {
        hand_of(to).arguments = rest;
    } else {
        return fail(ErrorKind::Malformed, "nothing of this kind can be supposed", {}, {}, word);
    }
    return {};
}

}  // namespace

bool Supposition::empty() const { return lines().empty(); }

std::vector<std::string> Supposition::lines() const {
    std::vector<std::string> out;
    if (!order.empty()) out.push_back("order " + disk_names(order));
    if (!without.empty()) out.push_back("without " + disk_names(without));
    for (const auto& patch : patches)
        out.push_back(
            fmt::format("patch “{}”: {} bytes in {} places", patch.title, patch.size(), patch.changes.size()));
    for (const auto& place : active) out.push_back("active " + place);
    for (const auto& [place, identifier] : identifiers)
        out.push_back(fmt::format("identifier {}={}", place, identifier));
    for (const auto& [place, content] : contents)
        out.push_back(fmt::format("content {} ({} bytes)", place, content.size()));
    for (const auto& place : removed) out.push_back("remove " + place);
    if (at_menu && !at_menu->choice.empty()) out.push_back("choose " + at_menu->choice);
    if (!keys.empty()) out.push_back(fmt::format("keys {}", fmt::join(keys, ",")));
    if (at_menu && at_menu->by_hand) {
        out.push_back("kernel " + at_menu->by_hand->kernel);
        for (const auto& file : at_menu->by_hand->ramdisks) out.push_back("ramdisk " + file);
        out.push_back("arguments " + at_menu->by_hand->arguments);
    }
    return out;
}

Result<void> add_supposition(Supposition& to, std::string_view line, const ReadFile& read) {
    const auto blanks = " \t\r\n";
    const auto from = line.find_first_not_of(blanks);
    if (from == line.npos || line[from] == '#') return {};
    line = line.substr(from, line.find_last_not_of(blanks) + 1 - from);
    const auto gap = std::min(line.find_first_of(" \t"), line.size());
    const auto rest = line.find_first_not_of(blanks, gap);
    if (rest == line.npos && line.substr(0, gap) != "arguments")
        return fail(ErrorKind::Malformed, "a word and what belongs to it are wanted", {}, {}, std::string(line));
    return add_word(to, std::string(line.substr(0, gap)),
                    rest == line.npos ? std::string{} : std::string(line.substr(rest)), read);
}

Result<std::string> choice_by_keys(const Menu& menu, const std::vector<std::string>& keys) {
    if (menu.entries.empty()) return fail(ErrorKind::NotFound, "the menu has no entry", menu.place);
    std::size_t first = 0;
    if (menu.style == MenuStyle::Hidden) {
        if (menu.timeout == 0)
            return fail(ErrorKind::Unsupported, "the menu is hidden and does not wait for a key", menu.place);
        if (keys.empty() || keys.front() != "esc")
            return fail(ErrorKind::Malformed, "the menu is hidden: the first key must show it", menu.place, "esc");
        first = 1;
    }
    // The lists that were entered, and what is marked in each.
    std::vector<std::pair<const std::vector<MenuEntry>*, std::size_t>> levels;
    const auto enter = [&](const std::vector<MenuEntry>& list, int marked) {
        levels.emplace_back(&list,
                            std::min<std::size_t>(static_cast<std::size_t>(std::max(marked, 0)), list.size() - 1));
    };
    enter(menu.entries, menu.default_entry);
    for (std::size_t i = first; i < keys.size(); ++i) {
        auto& [list, marked] = levels.back();
        const auto& key = keys[i];
        if (key == "up") marked -= marked == 0 ? 0 : 1;
        else if (key == "down") marked += marked + 1 == list->size() ? 0 : 1;
        else if (key == "home") marked = 0;
        else if (key == "end") marked = list->size() - 1;
        else if (key == "esc") {
            if (levels.size() > 1) levels.pop_back();
        } else if (key == "enter") {
            const auto& entry = (*list)[marked];
            if (entry.kind != EntryKind::Submenu) return entry.path_text();
            if (entry.children.empty()) return fail(ErrorKind::NotFound, "the submenu has no entry", menu.place);
            enter(entry.children, entry.default_child);
        } else {
            return fail(ErrorKind::Malformed, "no key that moves in a menu", {}, "up, down, home, end, enter, esc",
                        key);
        }
    }
    return fail(ErrorKind::Malformed, "the keys start nothing: the last one must be enter", menu.place);
}

Result<Supposed> suppose(const Machine& machine, const Supposition& what) {
    if (!what.keys.empty() && what.at_menu)
        return fail(ErrorKind::Malformed, "keys and another choice at the menu go against each other");
    if (what.at_menu && what.at_menu->by_hand && what.at_menu->by_hand->kernel.empty())
        return fail(ErrorKind::Malformed, "an entry by hand needs a kernel");
    Workshop shop(machine);
    if (auto done = change(shop, what); !done) return tl::unexpected(done.error());
    auto there = arranged(shop.machine(), what);
    if (!there) return tl::unexpected(there.error());
    assemble_layers(*there);
    return Supposed{std::move(*there), shop.patch("supposed", what.lines())};
}

}  // namespace herberge
