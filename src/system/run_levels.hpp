// SPDX-License-Identifier: MIT
// Inits with run levels and scripts: SysV, BusyBox, OpenRC.
#pragma once

#include <map>
#include <set>

#include <herberge/startup.hpp>

namespace herberge {

/// A line of /etc/inittab: "id:levels:action:process" (inittab(5)), or BusyBox's ("tty::action:process").
struct InittabLine {
    int line = 0;
    std::string id, levels, action, process;
    /// SysV: it counts on this level; without levels it counts on all.
    [[nodiscard]] bool on(std::string_view level) const;
};
[[nodiscard]] std::vector<InittabLine> parse_inittab(std::string_view text);

/// "2": of the line initdefault; empty: there is none.
[[nodiscard]] std::string default_level(const std::vector<InittabLine>& lines);

/// Names and scripts of a run level's folder, in the order in which they run: "S10network" for 'S'.
struct LevelScript {
    std::string name, path;
    [[nodiscard]] std::string stem() const { return name.size() > 3 ? name.substr(3) : name; }
};
[[nodiscard]] std::vector<LevelScript> level_scripts(const FileSystem& fs, const std::string& folder, char kind);

/// What depend() of an OpenRC script says.
struct OpenrcNeeds {
    std::vector<std::string> need, after, before, provide;  ///< `after`: also use and want
};
[[nodiscard]] OpenrcNeeds parse_depend(std::string_view script);
/// The services of a run level in the order in which they start; those that others need are among them.
[[nodiscard]] std::vector<std::string> openrc_order(const FileSystem& fs, const std::vector<std::string>& wanted);

/// `init` is of one of these flavours.
[[nodiscard]] Result<LinuxStart> start_by_levels(const Volume& root, const InitChoice& init,
                                                 const CommandLine& arguments, const std::string& level);
/// `on`: of each program, the levels that start it.
[[nodiscard]] LevelTable make_table(std::vector<std::string> levels,
                                    const std::map<std::string, std::set<std::string>>& on);
[[nodiscard]] Result<LevelTable> table_of_levels(const Volume& root, const InitChoice& init);

}  // namespace herberge
