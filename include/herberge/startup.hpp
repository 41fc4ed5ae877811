// SPDX-License-Identifier: MIT
// What a Linux system starts once its init runs, in order: for people who ask "which scripts, on which run level".
#pragma once

#include <string>
#include <vector>

#include <herberge/system.hpp>
#include <herberge/units.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// A program, script, mount or service of a start.
struct StartStep {
    std::string group;    ///< what it stands under: "before basic.target", "run level 2", "at the begin"
    std::string name;     ///< "cron.service", "S03stove", an identifier of inittab
    std::string command;  ///< as written; empty: it runs nothing
    std::string file;     ///< the program; empty: none, or not told
    std::string because;  ///< "multi-user.target wants it", "/etc/inittab, line 4"
    UnitOutcome::Kind state = UnitOutcome::Kind::Starts;
    std::string text;  ///< why, for all but Kind::Starts
    std::vector<Evidence> evidence;
};

struct LinuxStart {
    std::string init;      ///< the program: "/usr/lib/systemd/systemd"
    std::string flavour;   ///< as InitChoice
    std::string level;     ///< "multi-user.target", "2", "default"; empty: this init knows none
    std::string asked_by;  ///< "the command line", "/etc/inittab, line 2"
    std::vector<StartStep> steps;
    std::size_t silent = 0;                 ///< devices, slices and targets that are left out
    std::vector<std::string> not_followed;  ///< programs that make further units at each start
    std::vector<Finding> findings;          ///< what is wrong, that which ends the start first
};

/// What `system` starts. `arguments`: the kernel's; `level`: a run level or target, empty: the one that it would start
/// with. Errors: NotFound (no init that is known, or no such level), and the file system's.
[[nodiscard]] Result<LinuxStart> linux_startup(const Machine& machine, const InstalledSystem& system,
                                               const CommandLine& arguments, const std::string& level = {});

/// Which run level or target starts what.
struct LevelTable {
    std::vector<std::string> levels;  ///< in order
    struct Row {
        std::string name;
        std::vector<bool> on;  ///< as `levels`
    };
    std::vector<Row> rows;  ///< by name
};
/// Errors as linux_startup(); NotFound too where the init knows no levels.
[[nodiscard]] Result<LevelTable> linux_levels(const Machine& machine, const InstalledSystem& system,
                                              const CommandLine& arguments);

}  // namespace herberge
