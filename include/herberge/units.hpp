// SPDX-License-Identifier: MIT
// systemd's units as they lie on a root: what it would load, and what a start of a target would run.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/files.hpp>
#include <herberge/finding.hpp>
#include <herberge/system.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// How one unit is tied to another (systemd.unit(5)).
enum class UnitTie : std::uint8_t {
    Requires,
    Requisite,
    BindsTo,
    Wants,
    Upholds,
    PartOf,
    Conflicts,
    Before,
    After,
    OnFailure,
    OnSuccess,
    Triggers,
    RequiredBy,
    RequisiteOf,
    BoundBy,
    WantedBy,
    UpheldBy,
    ConsistsOf,
    ConflictedBy,
    TriggeredBy,
};
/// "Requires", as in a unit's file; of the last eight: what its other end calls it.
[[nodiscard]] std::string_view unit_tie_name(UnitTie tie);

struct UnitDependency {
    UnitTie tie = UnitTie::Wants;
    std::string unit;
    Evidence said;  ///< the line, link or rule that makes it
};

/// A line "Key=value" of a unit's file.
struct UnitSetting {
    std::string section, key, value;
    std::string place;  ///< the file
    int line = 0;       ///< from 1
};

enum class UnitLoad : std::uint8_t {
    Loaded,
    NotFound,    ///< no file
    Masked,      ///< a link to /dev/null, or an empty file
    BadSetting,  ///< its file says what systemd refuses to run
    Damaged,     ///< its file cannot be parsed
    Unreadable,  ///< the medium does not give its file
};
/// "loaded", "not-found", "masked", "bad-setting", "error", "unreadable"
[[nodiscard]] std::string_view unit_load_id(UnitLoad load);

struct Unit {
    std::string name;
    std::vector<std::string> aliases;
    UnitLoad load = UnitLoad::Loaded;
    std::string fragment;               ///< its file; empty: none
    std::vector<std::string> drop_ins;  ///< files that change it, in order
    std::optional<Finding> problem;     ///< for all that are not loaded but for UnitLoad::NotFound
    std::vector<UnitSetting> settings;  ///< of the file and its drop-ins, in order
    std::vector<UnitDependency> ties;   ///< those of both ends: each dependency is told by both units
    std::vector<std::string> notes;     ///< lines that systemd passes over, each with a word why

    /// The last value of a key; none: it is not set, or was emptied.
    [[nodiscard]] std::optional<std::string> value(std::string_view section, std::string_view key) const;
    /// The values of a key that collects, since it was emptied last.
    [[nodiscard]] std::vector<const UnitSetting*> values(std::string_view section, std::string_view key) const;
    /// systemd.syntax(7): 1, yes, true, on.
    [[nodiscard]] bool is_on(std::string_view section, std::string_view key, bool otherwise) const;
    [[nodiscard]] bool has_tie(UnitTie tie, std::string_view unit) const;
    /// ".service", with its dot.
    [[nodiscard]] std::string_view type() const;
};

/// The units of a root, loaded as they are asked for. Not for several threads.
class UnitStore {
public:
    /// `root` and `arguments`, which are the kernel's, must outlive the store. `machine` is that on which the root
    /// lies: the types of its partitions make mounts, too; null: those are left out.
    UnitStore(const Volume& root, const CommandLine& arguments, const Machine* machine = nullptr);
    ~UnitStore();
    UnitStore(const UnitStore&) = delete;
    UnitStore& operator=(const UnitStore&) = delete;

    /// Loads a unit and all that it names, by its name or an alias of it; the reference holds as long as the store.
    const Unit& load(std::string_view name);
    /// Null: nothing asked for it.
    [[nodiscard]] const Unit* find(std::string_view name) const;
    /// All that were loaded, those that do not exist included, by name.
    [[nodiscard]] std::vector<const Unit*> all() const;
    /// Folders that cannot be read, and more units than are looked at.
    [[nodiscard]] const std::vector<Finding>& findings() const;
    /// Programs that make further units at each start, and whose work is not followed here; by name.
    [[nodiscard]] const std::vector<std::string>& other_generators() const;
    /// The unit's name where a path is mounted, or a device: "srv-a\x2db.mount" for "/srv/a-b".
    [[nodiscard]] static std::string name_of_path(std::string_view path, std::string_view type);

private:
    class Impl;
    std::unique_ptr<Impl> impl_;
};

/// A job of a start.
struct StartJob {
    std::string unit;
    bool verify = false;  ///< only looks whether the unit runs already (Requisite=)
    std::string because;  ///< the unit that pulled it in first; empty: the target itself
    UnitTie by = UnitTie::Wants;
};

/// A ring of units that each want to be behind the next.
struct OrderingCycle {
    std::vector<std::string> units;
    std::string dropped;  ///< the job that is given up; empty: none can be, and nothing starts
};

/// What systemd would start for a target, before anything runs.
struct StartPlan {
    std::string target;
    std::vector<StartJob> jobs;        ///< in an order in which they may start
    std::vector<std::string> stopped;  ///< units that a conflict keeps from starting
    std::vector<OrderingCycle> cycles;
    std::vector<Finding> findings;
    std::optional<Finding> refused;    ///< the target cannot be started at all
    bool refused_for_missing = false;  ///< … for a unit that is not there
};
/// The jobs of a start of `target`, as systemd's transaction collects, prunes and orders them.
[[nodiscard]] StartPlan plan_start(UnitStore& units, const std::string& target);
/// What a kernel's command line asks systemd for: "default.target" where it says nothing (kernel-command-line(7)).
[[nodiscard]] std::string systemd_target(const CommandLine& arguments);
/// The same as systemd does it first of all: where the target cannot be loaded, rescue.target takes its place, and
/// `findings` say so.
[[nodiscard]] StartPlan plan_boot(UnitStore& units, const std::string& target);

/// What becomes of a job, as far as the images decide it.
struct UnitOutcome {
    enum class Kind : std::uint8_t {
        Starts,
        Skipped,  ///< a condition does not hold: no failure
        Fails,    ///< it cannot run
        Dragged,  ///< a unit that it requires fails
        Untold,   ///< not decided by these images
    } kind = Kind::Starts;
    std::string unit;
    std::string text;                ///< why, for all but Kind::Starts
    std::vector<Evidence> evidence;  ///< of that
    std::string command;             ///< what it runs, as written; of a mount: what is mounted where
    std::string file;                ///< the program, of those that run one
};

/// What a start comes to.
struct StartOutcome {
    std::vector<UnitOutcome> units;  ///< in the order of the plan's jobs
    /// A failing unit that takes the target with it, or brings emergency mode: which, and how.
    std::optional<Finding> breaks;
    std::vector<Finding> findings;  ///< units that fail and harm nothing else
};
/// Goes through the jobs: are programs, devices and accounts there, which conditions hold, whom does a failure drag
/// along? `processor`: that programs must be made for; `root_checked`: the RAM disk has checked the root's file system
/// (InitChoice::root_checked).
[[nodiscard]] StartOutcome follow_start(const Machine& machine, const Volume& root, const CommandLine& arguments,
                                        const UnitStore& units, const StartPlan& plan, Processor processor,
                                        std::optional<bool> root_checked = std::nullopt);
/// Would the failure of this unit keep the target from being reached? The units that it drags along, the unit first,
/// the one that ends the start last; empty: it would not.
[[nodiscard]] std::vector<std::string> dragged_along(const UnitStore& units, const StartPlan& plan,
                                                     const std::string& unit);

}  // namespace herberge
