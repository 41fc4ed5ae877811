// SPDX-License-Identifier: MIT
// What every loader's menu has in common.
#include <herberge/loader.hpp>

namespace herberge {

namespace {
constexpr int most_menu_depth = 8;
}  // namespace

std::string_view entry_kind_name(EntryKind kind) {
    switch (kind) {
        case EntryKind::Linux: return "linux";
        case EntryKind::Chainload: return "chainload";
        case EntryKind::Multiboot: return "multiboot";
        case EntryKind::Submenu: return "submenu";
        case EntryKind::Windows: return "windows";
        case EntryKind::Recovery: return "recovery";
        case EntryKind::Tool: return "tool";
        case EntryKind::Nothing: break;
    }
    return "nothing";
}

std::string MenuEntry::path_text() const {
    std::string out;
    for (const int step : path) {
        if (!out.empty()) out += '>';
        out += std::to_string(step);
    }
    return out;
}

const MenuEntry* Menu::unattended() const {
    if (boots_without_menu && !direct.empty()) return &direct.front();
    return unattended_from(default_entry);
}

const MenuEntry* Menu::unattended_from(int index) const {
    const std::vector<MenuEntry>* level = &entries;
    for (int depth = 0; depth < most_menu_depth + 1; ++depth) {
        if (level->empty()) return nullptr;
        if (index < 0 || static_cast<std::size_t>(index) >= level->size()) index = 0;
        const MenuEntry& entry = (*level)[static_cast<std::size_t>(index)];
        if (entry.kind != EntryKind::Submenu) return &entry;
        if (entry.children.empty()) return &entry;
        index = entry.default_child;
        level = &entry.children;
    }
    return nullptr;
}

}  // namespace herberge
