// SPDX-License-Identifier: MIT
#include "system/windows_state.hpp"

#include <algorithm>
#include <charconv>

#include "ondisk/windows.hpp"

namespace herberge {

std::optional<LastStart> read_boot_status(const FileSystem& fs, const std::string& directory) {
    const auto found = resolve(fs, directory + "/bootstat.dat");
    const auto file = found ? fs.open(found->file.id, found->path) : tl::unexpected(found.error());
    if (!file) return std::nullopt;
    const auto status = (*file)->load<ondisk::BootStatus>(0);
    if (!status || status->version == 0 || status->succeeded > 1 || status->shut_down > 1) return std::nullopt;
    return LastStart{status->succeeded == 1, status->shut_down == 1};
}

std::vector<WindowsRename> pending_renames(const Hive& system, const std::string& control_set) {
    std::vector<WindowsRename> out;
    const auto key = system.at(control_set + "\\Control\\Session Manager");
    if (!key) return out;
    for (const char* name : {"PendingFileRenameOperations", "PendingFileRenameOperations2"}) {
        const auto value = system.value(*key, name);
        if (!value) continue;
        // Pairs; an empty second one deletes, so that empty texts count here.
        const auto all = value->texts(true);
        for (std::size_t i = 0; i + 1 < all.size(); i += 2) {
            if (all[i].empty()) continue;
            WindowsRename one{all[i], all[i + 1], false};
            if (one.to.starts_with('!')) {
                one.replaces = true;
                one.to.erase(0, 1);
            }
            out.push_back(std::move(one));
        }
    }
    return out;
}

std::map<std::string, std::string> after_renames(const std::vector<WindowsRename>& renames,
                                                 const WindowsCommands& commands, const FileSystem& fs) {
    std::map<std::string, std::string> out;
    const auto content = [&](const std::string& path) -> std::string {
        if (const auto known = out.find(lower_text(path)); known != out.end()) return known->second;
        return !path.empty() && resolve(fs, path) ? path : std::string{};
    };
    for (const auto& rename : renames) {
        const std::string from = commands.path_of(rename.from);
        const std::string held = content(from);
        if (held.empty()) continue;
        if (!rename.to.empty()) {
            const std::string to = commands.path_of(rename.to);
            // What is there already stays, unless the entry says that it goes.
            if (to.empty() || (!rename.replaces && !content(to).empty())) continue;
            out[lower_text(to)] = held;
        }
        out[lower_text(from)] = {};
    }
    return out;
}

std::vector<std::uint32_t> control_sets_of(const Hive& system) {
    std::vector<std::uint32_t> out;
    const auto keys = system.subkeys(system.root());
    if (!keys) return out;
    for (const auto key : *keys) {
        const auto name = system.name(key);
        constexpr std::string_view lead = "controlset";
        if (!name || !lower_text(*name).starts_with(lead)) continue;
        std::uint32_t number = 0;
        const auto [end, error] = std::from_chars(name->data() + lead.size(), name->data() + name->size(), number);
        if (error == std::errc{} && end == name->data() + name->size()) out.push_back(number);
    }
    std::ranges::sort(out);
    return out;
}

}  // namespace herberge
