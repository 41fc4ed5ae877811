// SPDX-License-Identifier: MIT
// The walk: a machine goes in, a verdict for every installed system comes out.
#pragma once

#include <array>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include <herberge/budget.hpp>
#include <herberge/finding.hpp>
#include <herberge/loader.hpp>
#include <herberge/storage.hpp>
#include <herberge/system.hpp>
#include <herberge/uefi.hpp>
#include <herberge/unlock.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

enum class FirmwareKind : std::uint8_t { Auto, Bios, Uefi, Board };
[[nodiscard]] std::string_view firmware_id(FirmwareKind kind);

enum class Starts : std::uint8_t { Yes, No, Unknown };
[[nodiscard]] std::string_view starts_id(Starts starts);

/// One rung of a system's ladder.
struct StageState {
    Stage stage = Stage::Firmware;
    State state = State::NotReached;
    std::string text;
    std::vector<Evidence> evidence;
    std::vector<Code> findings;
};

/// Another entry of the same system that gets further than its primary one.
struct Fallback {
    std::string entry;  ///< title
    std::string path;   ///< "1>0"
    Starts starts = Starts::Unknown;
    std::optional<Stage> stops_at;
};

struct SystemVerdict {
    std::string name;
    SystemKind kind = SystemKind::Unknown;
    std::optional<std::string> place;  ///< "d1p1"; none when it could not be told
    Starts starts = Starts::Unknown;
    std::optional<Stage> stops_at;
    std::string symptom;  ///< lines on the screen, separated by '\n'; empty: none
    std::vector<std::string> route;
    std::array<StageState, stage_count> stages;
    std::string entry;              ///< the primary entry's title; empty: none
    std::string arguments;          ///< … and the kernel's command line that it gives
    bool entry_is_default = false;  ///< the loader starts it unattended
    /// What somebody must give before it is up: "a choice", "a password", "a user name and password", "somebody at a
    /// shell for repairs"; empty: nothing.
    std::string waits_for;
    std::vector<Fallback> fallbacks;
    std::string version;                      ///< as the system itself tells; may be empty
    std::int64_t last_used = 0;               ///< seconds since 1970, 0: unknown
    std::vector<std::string> named_by;        ///< every entry that starts it: "title (place:line)"
    std::vector<std::string> kernels;         ///< found on its volume
    std::vector<std::string> unused_kernels;  ///< of these, the ones no entry starts

    [[nodiscard]] const StageState& at(Stage stage) const { return stages[static_cast<std::size_t>(stage)]; }
};

/// A step of the graph "who starts whom". Nodes are named by their text: "firmware", "d1 first sector",
/// "GRUB 2 (d1p1:/boot/grub/grub.cfg)", a system's "name (place)".
struct StartEdge {
    std::string from;
    std::string to;
    std::string label;                            ///< the entry's title; empty: code does it by itself
    bool unattended = false;                      ///< nobody presses a key on the way from the firmware to here
    bool broken = false;                          ///< it does not work
    bool from_sector = false, to_sector = false;  ///< its end is code in a sector, no file
};

struct Verdict {
    FirmwareKind firmware = FirmwareKind::Bios;
    std::string board;  ///< its name in the table of boards; empty: a PC
    std::vector<SystemVerdict> systems;
    std::vector<Finding> findings;
    std::vector<Menu> menus;  ///< of every loader that was reached
    std::vector<StartEdge> graph;
    bool at_menu_taken = false;  ///< CheckOptions::at_menu: there was such a menu and entry
    /// Every system starts, and there is at least one.
    [[nodiscard]] bool all_start() const;
    /// Some system would not start, or none was found.
    [[nodiscard]] bool some_fail() const;
};

/// An entry that somebody writes by hand at a loader's prompt. Files are places: "d1p2:/boot/vmlinuz-6.1".
struct HandEntry {
    std::string kernel;
    std::vector<std::string> ramdisks;
    std::string arguments;  ///< the kernel's command line
};

/// What somebody does at a loader's menu instead of waiting.
struct AtMenu {
    /// An entry's title, or its place in the menu ("1>0"): of the first menu on the way that has it; empty: none.
    std::string choice;
    std::optional<HandEntry> by_hand;  ///< at the first menu on the way, in place of all its entries
};

struct CheckOptions {
    FirmwareKind firmware = FirmwareKind::Auto;
    std::string board;  ///< FirmwareKind::Board: its name in the table of boards
    /// FirmwareKind::Board: a dump of flash beside the disks, where the loader's environment may lie; null: none.
    Source flash;
    /// Also run the first sector's code in an emulated PC (a few milliseconds): it confirms or contradicts what was
    /// decoded, and is the evidence for code nobody has a name for.
    bool rehearse = true;
    /// UEFI: the firmware's variables; without them only what it finds by itself is known.
    UefiVariables variables;
    SecureBoot secure_boot = SecureBoot::Auto;
    EfiMachine efi_machine = EfiMachine::X64;
    std::optional<AtMenu> at_menu;  ///< none: nobody is at the machine
    /// What the walk may cost; what is judged after something ran out is unknown, and says so.
    BudgetLimits limits;
};

/// Auto: UEFI when variables are given, or when a volume has an EFI application and no disk has boot code in its first
/// sector.
[[nodiscard]] FirmwareKind likely_firmware(const Machine& machine, const CheckOptions& options);

/// The options with nothing left to guess: Auto becomes what is likely; a board with UEFI firmware becomes that
/// firmware and its processor, `board` stays. On a machine whose only fallback files are for another processor than a
/// PC's, the guess is that machine.
[[nodiscard]] CheckOptions settled_options(const Machine& machine, const CheckOptions& options);

/// Walks the boot chain of `machine` for every installed system.
[[nodiscard]] Verdict check(const Machine& machine, const CheckOptions& options = {});

/// The menus of every loader on the machine, whether or not the firmware reaches them.
[[nodiscard]] std::vector<Menu> read_menus(const Machine& machine, const UefiVariables& variables = {});

/// Keys for encrypted volumes that are shut, carried by the machine itself: in the RAM disks of its entries, and on
/// volumes that are open (crypttab(5)). Reads menus and RAM disks; nothing where nothing is shut.
[[nodiscard]] std::vector<VolumeKey> carried_keys(const Machine& machine);
/// assemble_layers with these keys, and with those that the machine itself carries, as it would use them.
void open_layers(Machine& machine, std::vector<VolumeKey> keys);

/// What an option of UEFI firmware leads to.
struct BootOptionState {
    UefiBootOption option;
    std::string place;  ///< "d1p1:/EFI/almhof/checkin.efi"; empty: no such file
    EfiApplication application = EfiApplication::Unknown;
    std::string
        problem;  ///< why it leads nowhere; empty: the firmware can start it (its signature is not looked at here)
};
/// Every boot option in the order in which the firmware tries them, with the file that it names on the machine's disks.
[[nodiscard]] std::vector<BootOptionState> inspect_boot_options(const Machine& machine, const UefiVariables& variables,
                                                                EfiMachine kind = EfiMachine::X64);

/// The disk ranges of every kernel that the menus name: where a rehearsal may stop.
[[nodiscard]] std::vector<DiskRange> kernel_ranges(const std::vector<Menu>& menus);

}  // namespace herberge
