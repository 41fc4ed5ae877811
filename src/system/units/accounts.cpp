// SPDX-License-Identifier: MIT
#include "system/units/accounts.hpp"

#include <fmt/format.h>
#include <algorithm>

#include <herberge/lines.hpp>

#include "system/config_text.hpp"
#include "system/units/names.hpp"

namespace herberge::units {

namespace {

bool is_number(std::string_view text) {
    return !text.empty() && text.find_first_not_of("0123456789") == std::string_view::npos;
}

/// A file "….conf" in the system's folders of this name ("sysusers.d") has the word, or cannot be read. Programs that
/// run before services make what those files name.
bool is_named_in(const FileSystem& fs, std::string_view folder, std::string_view word) {
    constexpr std::size_t most = 500;
    for (const char* top : {"/usr/lib", "/lib", "/etc"}) {
        const auto there = resolve(fs, fmt::format("{}/{}", top, folder));
        const auto entries = there ? fs.list(there->file.id) : tl::unexpected(there.error());
        if (!entries && entries.error().unreadable()) return true;
        if (!entries) continue;
        std::size_t read = 0;
        for (const auto& one : *entries) {
            if (!one.name.ends_with(".conf") || ++read > most) continue;
            const auto text = read_text_file(fs, fmt::format("{}/{}/{}", top, folder, one.name));
            if (!text || text->find(word) != std::string::npos) return true;
        }
    }
    return false;
}

/// Programs besides the files of /etc that tell accounts. The names that systemd itself gives out belong to units with
/// DynamicUser=, and to records that have a folder of their own.
bool others_tell(const FileSystem& fs, std::string_view database) {
    const auto text = read_text_file(fs, "/etc/nsswitch.conf");
    if (!text) return text.error().unreadable();
    bool out = false;
    each_line(*text, [&](int, std::string_view line) {
        line = line.substr(0, line.find('#'));
        const auto words = blank_words(line);
        if (words.empty() || words[0] != fmt::format("{}:", database)) return;
        for (std::size_t i = 1; i < words.size(); ++i)
            out = out ||
                  (words[i] != "files" && words[i] != "compat" && words[i] != "systemd" && !words[i].starts_with('['));
    });
    return out || resolve(fs, "/etc/userdb") || resolve(fs, "/usr/lib/userdb");
}

/// A folder that the machine makes before the service runs: by the service's own settings, or by a line of tmpfiles.d.
bool is_made_before(const FileSystem& fs, const Unit& unit, std::string_view path) {
    static constexpr std::pair<std::string_view, std::string_view> makers[] = {{"StateDirectory", "/var/lib/"},
                                                                               {"CacheDirectory", "/var/cache/"},
                                                                               {"LogsDirectory", "/var/log/"},
                                                                               {"ConfigurationDirectory", "/etc/"}};
    for (const auto& [key, folder] : makers)
        if (path.starts_with(folder) && !unit.values("Service", key).empty()) return true;
    return is_named_in(fs, "tmpfiles.d", path);
}

std::optional<Refusal> account(const FileSystem& fs, const UnitSetting& setting, std::string_view name, bool group) {
    if (name.empty() || is_number(name) || name == "root" || name == "nobody" || name == "nogroup" ||
        name.find('%') != std::string_view::npos || knows_account(fs, name, group) != false)
        return std::nullopt;
    return Refusal{fmt::format("its {} {} is not in {}", group ? "group" : "account", printable(name),
                               group ? "/etc/group" : "/etc/passwd"),
                   &setting};
}

const UnitSetting* last(const Unit& unit, std::string_view key) {
    const auto all = unit.values("Service", key);
    return all.empty() ? nullptr : all.back();
}

}  // namespace

std::optional<bool> knows_account(const FileSystem& fs, std::string_view name, bool group) {
    const auto text = read_text_file(fs, group ? "/etc/group" : "/etc/passwd", std::uint64_t{8} << 20U);
    if (!text && text.error().kind != ErrorKind::NotFound) return std::nullopt;
    bool there = false;
    if (text)
        each_line(*text, [&](int, std::string_view line) {
            there = there || (line.find(':') != std::string_view::npos && line.substr(0, line.find(':')) == name);
        });
    if (there) return true;
    if (others_tell(fs, group ? "group" : "passwd") || is_named_in(fs, "sysusers.d", name)) return std::nullopt;
    return false;
}

std::optional<Refusal> judge_credentials(const FileSystem& fs, const Unit& unit,
                                         const std::function<bool(std::string_view)>& in_image) {
    // With a root of its own it knows other accounts and folders.
    if (unit.value("Service", "RootDirectory") || unit.value("Service", "RootImage")) return std::nullopt;
    if (!unit.is_on("Service", "DynamicUser", false)) {
        if (const auto* user = last(unit, "User"))
            if (auto refused = account(fs, *user, user->value, false)) return refused;
        if (const auto* group = last(unit, "Group"))
            if (auto refused = account(fs, *group, group->value, true)) return refused;
    }
    for (const auto* setting : unit.values("Service", "SupplementaryGroups"))
        for (const auto& name : blank_words(setting->value))
            if (auto refused = account(fs, *setting, name, true)) return refused;
    const auto* folder = last(unit, "WorkingDirectory");
    if (folder == nullptr || !folder->value.starts_with('/') || folder->value.find('%') != std::string::npos ||
        !in_image(folder->value))
        return std::nullopt;
    const auto found = resolve(fs, folder->value);
    if (found && found->file.type == FileType::Directory) return std::nullopt;
    if (!found && (found.error().kind != ErrorKind::NotFound || is_made_before(fs, unit, folder->value)))
        return std::nullopt;
    return Refusal{fmt::format("the folder {} that it works in is {}", printable(folder->value),
                               found ? "no folder" : "not there"),
                   folder};
}

}  // namespace herberge::units
