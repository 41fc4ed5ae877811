// SPDX-License-Identifier: MIT
// Menus and the firmware's variables of two machines beside each other.
#include <fmt/format.h>
#include <algorithm>
#include <map>
#include <set>

#include <herberge/loader.hpp>
#include <herberge/places.hpp>
#include <herberge/uefi.hpp>

#include "remedy/differences.hpp"
#include "walk/routes.hpp"

namespace herberge::remedy {

namespace {

// --- menus -----------------------------------------------------------------------------------------------------------

/// As it is named, whether or not it is there: that is told with the file, or as the entry's state.
const std::string& file_text(const FileReference& file) { return file.place.empty() ? file.written : file.place; }

std::string files_text(const std::vector<FileReference>& files) {
    std::string out;
    for (const auto& file : files) out += (out.empty() ? "" : ", ") + file_text(file);
    return out.empty() ? "none" : out;
}

std::string state_text(const MenuEntry& entry) {
    if (entry.stop) return entry.stop->text;
    return entry.unread.empty() ? "resolves" : "cannot be told: " + entry.unread;
}

std::string entry_text(const MenuEntry* entry) {
    if (entry == nullptr) return {};
    if (entry->chain) return "starts " + entry->chain->place;
    return entry->kernel.empty() ? std::string(entry_kind_name(entry->kind)) : file_text(entry->kernel.front());
}

void compare_entry(const std::string& place, const MenuEntry& was, const MenuEntry& is, Differences& out) {
    const auto told = [&](std::string_view what, const std::string& before, const std::string& after) {
        differ(out, Stage::Entry, place, fmt::format("entry “{}”: {}", is.title, what),
               before.empty() ? "none" : before, after.empty() ? "none" : after);
    };
    told("kind", std::string(entry_kind_name(was.kind)), std::string(entry_kind_name(is.kind)));
    told("kernel", files_text(was.kernel), files_text(is.kernel));
    told("RAM disk", files_text(was.ramdisks), files_text(is.ramdisks));
    told("device tree", files_text(was.devicetree), files_text(is.devicetree));
    told("arguments", was.arguments, is.arguments);
    told("starts", was.chain ? was.chain->place : "", is.chain ? is.chain->place : "");
    told("state", state_text(was), state_text(is));
    if (was.windows || is.windows) {
        const auto device = [](const MenuEntry& entry) { return entry.windows ? entry.windows->system_device : ""; };
        const auto directory = [](const MenuEntry& entry) { return entry.windows ? entry.windows->directory : ""; };
        told("system's device", device(was), device(is));
        told("system's directory", directory(was), directory(is));
    }
}

/// Entries by title; of several with one title, in their order.
std::map<std::pair<std::string, int>, const MenuEntry*> by_title(const Menu& menu) {
    std::map<std::pair<std::string, int>, const MenuEntry*> out;
    std::vector<const MenuEntry*> entries;
    walk::collect_leaves(menu.entries, entries);
    std::map<std::string, int> seen;
    for (const auto* entry : entries) out.emplace(std::pair(entry->title, seen[entry->title]++), entry);
    return out;
}

void compare_menu(const Menu& was, const Menu& is, Differences& out) {
    const auto set = [&](std::string_view what, std::string before, std::string after) {
        differ(out, Stage::Configuration, is.place, std::string(what), std::move(before), std::move(after));
    };
    const auto choice = [](const Menu& menu) {
        const auto* entry = menu.unattended();
        return entry != nullptr ? fmt::format("“{}”", entry->title) : std::string("nothing");
    };
    set("what starts unattended", choice(was), choice(is));
    const auto seconds = [](const Menu& menu) {
        return menu.timeout ? fmt::format("{} s", *menu.timeout) : std::string("waits for ever");
    };
    set("time-out", seconds(was), seconds(is));
    const auto style = [](const Menu& menu) {
        return std::string(menu.style == MenuStyle::Hidden      ? "hidden"
                           : menu.style == MenuStyle::Countdown ? "a countdown"
                                                                : "shown");
    };
    set("menu", style(was), style(is));
    const auto before = by_title(was);
    const auto after = by_title(is);
    for (const auto& [key, entry] : before) {
        const auto found = after.find(key);
        if (found != after.end()) compare_entry(is.place, *entry, *found->second, out);
        else differ(out, Stage::Entry, is.place, fmt::format("entry “{}”", key.first), entry_text(entry), "");
    }
    for (const auto& [key, entry] : after)
        if (!before.contains(key))
            differ(out, Stage::Entry, is.place, fmt::format("entry “{}”", key.first), "", entry_text(entry));
}

// --- variables of UEFI firmware --------------------------------------------------------------------------------------

/// What the firmware, shim or a loader looks at on the way.
bool steers(const UefiVariable& variable) {
    static const std::set<std::string, std::less<>> names = {
        "SecureBoot", "SetupMode",    "PK",      "KEK",           "db",       "dbx", "dbt",
        "AuditMode",  "DeployedMode", "Timeout", "OsIndications", "SbatLevel"};
    return names.contains(variable.name) || variable.name.starts_with("Boot") || variable.name.starts_with("Mok") ||
           variable.name.starts_with("LoaderEntry");
}

/// Its fields, without those that `other` has alike.
std::string variable_text(const UefiVariable* variable, const UefiVariable* other) {
    if (variable == nullptr) return {};
    const auto rest = other != nullptr ? view_variable(*other).fields : std::vector<Field>{};
    std::string out;
    for (const auto& field : view_variable(*variable).fields) {
        if (std::ranges::any_of(rest, [&](const Field& one) {
                return one.name == field.name && one.raw == field.raw && one.value == field.value &&
                       one.meaning == field.meaning;
            }))
            continue;
        if (out.size() < 160)
            out += fmt::format("{}{} {}", out.empty() ? "" : ", ", field.name,
                               field.meaning.empty() ? field.value : field.meaning);
    }
    return out.empty()
               ? fmt::format("{} bytes: {}", variable->data.size(),
                             hex(std::span(variable->data).first(std::min<std::size_t>(16, variable->data.size()))))
               : out;
}

}  // namespace

void compare_menus(const Sides& sides, Differences& out) {
    std::map<std::string, std::pair<const Menu*, const Menu*>> menus;
    for (const auto& menu : sides.before.verdict.menus) menus[menu.place].first = &menu;
    for (const auto& menu : sides.after.verdict.menus) menus[menu.place].second = &menu;
    for (const auto& [place, pair] : menus) {
        const auto [was, is] = pair;
        if (was != nullptr && is != nullptr) {
            compare_menu(*was, *is, out);
            continue;
        }
        // A menu that the start only does not reach any more says nothing about its configuration.
        const auto& elsewhere = was != nullptr ? sides.after : sides.before;
        const auto file = file_place(place);
        if (!file || !both_have_files(sides, file->volume) || open_file(elsewhere.machine, *file)) continue;
        const auto* menu = was != nullptr ? was : is;
        const auto text = fmt::format("{}, {} entries", menu->title(), menu->entries.size());
        differ(out, Stage::Configuration, place, "menu", was != nullptr ? text : "", is != nullptr ? text : "");
    }
}

void compare_variables(const Sides& sides, Differences& out) {
    std::map<std::pair<std::string, std::string>, std::pair<const UefiVariable*, const UefiVariable*>> all;
    for (const auto& one : sides.before.options.variables.all)
        if (steers(one)) all[{one.name, one.guid}].first = &one;
    for (const auto& one : sides.after.options.variables.all)
        if (steers(one)) all[{one.name, one.guid}].second = &one;
    for (const auto& [key, pair] : all) {
        const auto [was, is] = pair;
        if (was != nullptr && is != nullptr && was->data == is->data) continue;
        auto before = variable_text(was, is);
        auto after = variable_text(is, was);
        if (before == after) after += " (other bytes)";
        auto* seen = differ(out, Stage::Firmware, "", "variable " + key.first, before, after);
        if (seen == nullptr) continue;
        seen->take_back = [name = key.first, guid = key.second,
                           old = was != nullptr ? std::optional(*was) : std::nullopt](Workshop&,
                                                                                      CheckOptions& options) {
            auto& list = options.variables.all;
            std::erase_if(list, [&](const UefiVariable& one) { return one.name == name && one.guid == guid; });
            if (old) list.push_back(*old);
            return true;
        };
    }
}

}  // namespace herberge::remedy
