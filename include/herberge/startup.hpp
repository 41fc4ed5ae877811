// SPDX-License-Identifier: MIT
// What a system starts, in order: for people who ask "which scripts, on which run level", and what a Windows runs.
#pragma once

#include <optional>
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

/// What becomes of it: "passed over: …", "fails: …", "is not started: …"; of Kind::Untold why it cannot be told, which
/// may be empty; empty: it starts.
[[nodiscard]] std::string step_outcome(const StartStep& step);

struct LinuxStart {
    std::string init;      ///< the program: "/usr/lib/systemd/systemd"
    std::string flavour;   ///< as InitChoice
    std::string level;     ///< "multi-user.target", "2", "default"; empty: this init knows none
    std::string asked_by;  ///< "the command line", "/etc/inittab, line 2"
    std::vector<StartStep> steps;
    std::size_t silent = 0;                 ///< devices, slices and targets that are left out
    std::vector<std::string> not_followed;  ///< programs that make further units at each start
    /// What says all this, and the programs: units with their drop-ins, tables and scripts of run levels, lists of
    /// mounts and of accounts. Paths on the root, each once, in order; not all need be there.
    std::vector<std::string> files;
    std::vector<Finding> findings;  ///< what is wrong, that which ends the start first
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
[[nodiscard]] Result<LevelTable> linux_levels(const InstalledSystem& system, const CommandLine& arguments);

/// How a Windows is started.
enum class StartMode : std::uint8_t {
    Normal,
    Safe,
    SafeNetwork,
    SafeShell,  ///< safe mode with a command line in place of the desktop
};
/// "normal", "safe", "safe-network", "safe-shell"
[[nodiscard]] std::string_view start_mode_id(StartMode mode);
[[nodiscard]] std::optional<StartMode> start_mode_of(std::string_view id);

/// When a start runs something, in order.
enum class StartupPhase : std::uint8_t {
    Kernel,
    BootDriver,
    SystemDriver,
    SessionManager,
    SystemProgram,
    Service,
    TaskAtStart,
    Logon,
    RunAtLogon,
    TaskAtLogon,
    StartUpFolder,
};
/// "boot driver", "run at logon" …
[[nodiscard]] std::string_view startup_phase_name(StartupPhase phase);

/// Something that a start would run, in order.
struct StartupItem {
    StartupPhase phase = StartupPhase::Kernel;
    std::string name;
    std::string command;  ///< as written; empty: the default place
    std::string file;     ///< on the system's volume; empty: not told
    bool present = false;
    std::string source;       ///< where that is said: "SYSTEM\ControlSet001\Services\disk"
    FileSignature signature;  ///< of kernel, drivers and programs
    bool starts = true;       ///< false: `note` says why not
    std::string note;         ///< what is worth knowing of how it starts; empty: nothing
    std::string account;      ///< of a service or a task: who it runs as; empty: the system
};

/// What \Windows\bootstat.dat says of the last start.
struct LastStart {
    bool succeeded = false;
    bool shut_down = false;  ///< and was ended in the regular way
};

/// What a Windows installation would start.
struct WindowsStartup {
    StartMode mode = StartMode::Normal;
    WindowsRegistry registry;
    std::vector<std::uint32_t> control_sets;  ///< those that are there
    std::optional<LastStart> last_start;      ///< none: no such file, or one that is not understood here
    std::vector<StartupItem> items;
    std::vector<Finding> findings;
};

/// What an installation would start: drivers and services in load order with what they depend on, the session manager's
/// programs and pending renames, logon programs, the run keys of machine and users, scheduled tasks, the start-up
/// folders. Errors: WrongType (no Windows), and the SYSTEM hive cannot be used.
[[nodiscard]] Result<WindowsStartup> windows_startup(const InstalledSystem& system, StartMode mode = StartMode::Normal);

/// The Windows that lies in the imaging file of a recovery environment. Errors: WrongType (no recovery environment),
/// NotFound (no Windows in it), and the image's.
[[nodiscard]] Result<InstalledSystem> windows_in_image(const InstalledSystem& recovery);

/// A drive letter as the installation has it recorded, and what answers to it on this machine.
struct DriveLetter {
    std::string letter;  ///< "C:"
    VolumeRef volume;    ///< null: nothing here
    std::string text;    ///< for people
};
[[nodiscard]] Result<std::vector<DriveLetter>> windows_drive_letters(const Machine& machine,
                                                                     const InstalledSystem& system);

}  // namespace herberge
