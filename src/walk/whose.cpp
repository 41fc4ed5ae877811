// SPDX-License-Identifier: MIT
#include "walk/whose.hpp"

#include <algorithm>

#include "bytes/text16.hpp"
#include "system/crypttab.hpp"
#include "walk/artifacts.hpp"

namespace herberge::walk {

namespace {

const InstalledSystem* windows_system(const MenuEntry& entry, const std::vector<InstalledSystem>& systems) {
    const auto& start = *entry.windows;
    // A RAM disk is its imaging file: a recovery environment of its own, or a medium's.
    if (start.image || entry.kind == EntryKind::Recovery) {
        for (const auto& s : systems)
            if (start.image && s.volume == start.image->volume &&
                (s.kind == SystemKind::Medium || same_name(s.directory, start.image->real_path)))
                return &s;
        return nullptr;
    }
    const InstalledSystem* only = nullptr;
    std::size_t windows = 0;
    for (const auto& s : systems) {
        if (s.kind != SystemKind::Windows) continue;
        if (s.volume == start.system && same_name(s.directory, start.directory)) return &s;
        ++windows;
        only = &s;
    }
    // An entry that leads nowhere was meant for the system whose directory it names, or for the only one there is.
    const InstalledSystem* named = nullptr;
    for (const auto& s : systems)
        if (s.kind == SystemKind::Windows && same_name(s.directory, start.directory))
            named = named == nullptr ? &s : nullptr;
    if (named != nullptr && (start.system == nullptr || entry.stop)) return named;
    if (start.loader.volume != nullptr)
        for (const auto& s : systems)
            if (s.kind == SystemKind::Windows && s.volume == start.loader.volume &&
                start.loader.real_path.size() > s.directory.size() &&
                same_name(std::string_view(start.loader.real_path).substr(0, s.directory.size()), s.directory))
                return &s;
    return windows == 1 ? only : nullptr;
}

}  // namespace

bool is_other_program(const MenuEntry& entry) {
    if (entry.kind != EntryKind::Linux || entry.kernel.empty()) return false;
    const auto source = open_reference(entry.kernel.front());
    return source != nullptr && is_other_program(*source);
}

RootReference named_root(const Machine& machine, const MenuEntry& entry, const Ramdisk* ramdisk) {
    const CommandLine arguments(entry.arguments);
    auto root = resolve_root(machine, arguments.value("root").value_or(""));
    follow_crypt_name(machine, root, ramdisk, arguments);
    return root;
}

const InstalledSystem* system_of(const Machine& machine, const MenuEntry& entry,
                                 const std::vector<InstalledSystem>& systems) {
    if (entry.windows) return windows_system(entry, systems);
    auto system_on = [&](const VolumeRef& volume) -> const InstalledSystem* {
        const auto found = std::ranges::find_if(systems, [&](const InstalledSystem& s) {
            return volume != nullptr && s.volume == volume && s.kind == SystemKind::Linux;
        });
        return found != systems.end() ? &*found : nullptr;
    };
    const auto root = named_root(machine, entry);
    if (const auto* system = system_on(root.volume)) return system;
    if (root.volume != nullptr && root.volume->unread()) return nullptr;
    if (root.kind == RootReference::Kind::Absent && is_other_program(entry)) return nullptr;
    for (const auto& kernel : entry.kernel)
        if (const auto* system = system_on(kernel.volume); system != nullptr && entry.kind != EntryKind::Chainload)
            return system;
    const auto lies_on = [](const FileReference& kernel, const Volume& medium) {
        if (kernel.volume.get() == &medium) return true;
        // A boot image of the same disc.
        return kernel.volume != nullptr && kernel.volume->partition < 0 && kernel.volume->disk == medium.disk;
    };
    for (const auto& kernel : entry.kernel)
        for (const auto& system : systems)
            if (system.kind == SystemKind::Medium && entry.kind != EntryKind::Chainload &&
                lies_on(kernel, *system.volume))
                return &system;
    // A kernel on a volume of its own, with a root that is gone: the only system there is must be meant, if it lies on
    // the same disk and nothing else could hold the root.
    const bool kernel_there =
        !entry.kernel.empty() && entry.kernel.front().found() && entry.kernel.front().volume != nullptr;
    const auto linux_systems = std::ranges::count(systems, SystemKind::Linux, &InstalledSystem::kind);
    if (root.volume != nullptr || root.cannot_tell || linux_systems != 1 || entry.kind != EntryKind::Linux ||
        !kernel_there)
        return nullptr;
    const auto only = std::ranges::find(systems, SystemKind::Linux, &InstalledSystem::kind);
    return only->volume->lies_on(entry.kernel.front().volume->disk) ? &*only : nullptr;
}

}  // namespace herberge::walk
