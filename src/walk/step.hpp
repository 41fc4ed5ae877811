// SPDX-License-Identifier: MIT
// One step of a start: some code begins to run, and what it does next.
#pragma once

#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <variant>
#include <vector>

#include <herberge/board.hpp>
#include <herberge/loader.hpp>
#include <herberge/system.hpp>
#include <herberge/uefi.hpp>

#include "walk/artifacts.hpp"
#include "walk/ladder.hpp"

namespace herberge::walk {

/// A sector that is started as code.
struct SectorStart {
    BootPlace place;
    bool by_firmware = false;
};

/// A file that is started as an EFI application.
struct EfiStart {
    VolumeRef volume;
    std::string path;     ///< with slashes, from the volume's top
    std::string options;  ///< text handed to it
};

/// A program in memory that is entered where it begins, by a board's ROM or by the program before it.
struct FlatStart {
    std::string name;  ///< "U-Boot"
    int disk = 0;      ///< of the first of the machine's disks
    std::function<LoaderRun(const Machine&)> run;
    std::vector<std::string> before;  ///< what starts it, from the ROM on; empty: it is what the board runs at once
};

/// What the firmware leaves for all that comes after it.
struct Surroundings {
    std::optional<Controller> controller;  ///< how the disk of its choice is attached, as its option tells
    int controller_disk = 0;
    std::string controller_told_by;
    Processor processor = Processor::X86;  ///< of the machine
    bool locked_down = false;  ///< Secure Boot is enforced: a Linux kernel refuses modules without a signature
};

/// An entry of a menu that starts a Linux kernel, or something in its format.
struct LinuxStart {
    std::shared_ptr<const Menu> menu;
    const MenuEntry* entry = nullptr;  ///< of `menu`
    Surroundings around;
    VolumeRef medium;  ///< the install or live medium that is started; null: none
};

/// An entry of a menu that starts Windows' own loader.
struct NtStart {
    std::shared_ptr<const Menu> menu;
    const MenuEntry* entry = nullptr;  ///< of `menu`
};

/// An entry that starts something which is not followed.
struct UnfollowedStart {
    std::shared_ptr<const Menu> menu;
    const MenuEntry* entry = nullptr;  ///< of `menu`
};

using Start = std::variant<SectorStart, EfiStart, LinuxStart, NtStart, UnfollowedStart, FlatStart>;

/// "d1 first sector", "d1p1:/EFI/BOOT/BOOTX64.EFI", "“Front desk”"
[[nodiscard]] std::string start_text(const Start& start);

/// What is known when a step begins.
struct Before {
    std::size_t depth = 0;  ///< starts before this one
    bool chosen = false;    ///< an entry of a menu led here
};

/// An arrow of the graph, and whether what it leads to works.
struct Edge {
    std::string from, to;
    bool broken = false;
    bool from_sector = false, to_sector = false;  ///< its end is code in a sector, no file
};

/// What a start came to. Its claims are set in the ladder that it was given.
struct Step {
    std::vector<std::string> hops;
    std::vector<VolumeRef> passed;  ///< volumes whose code ran
    std::vector<Edge> edges;
    std::shared_ptr<const LoaderRun> run;  ///< the loader that ran; null: none that is decoded
    std::optional<Start> next;             ///< the code goes on there by itself
    bool offers = false;                   ///< the loader's menu is what comes next
};

/// What all steps of one walk share.
struct Context {
    explicit Context(const Machine& of) : machine(of) {}

    const Machine& machine;
    bool rehearsing = false;
    EfiContext efi;  ///< for EFI applications
    std::shared_ptr<Artifacts> artifacts = std::make_shared<Artifacts>();
};

/// Who runs what is started.
struct Program {
    std::string_view name;
    bool (*bid)(const Start& start);
    Step (*run)(const Start& start, const Before& before, Context& context, Ladder& ladder);
};
[[nodiscard]] bool is_sector(const Start& start);
Step run_sector(const Start& start, const Before& before, Context& context, Ladder& ladder);
[[nodiscard]] bool is_application(const Start& start);
Step run_application(const Start& start, const Before& before, Context& context, Ladder& ladder);
[[nodiscard]] bool is_flat(const Start& start);
Step run_flat(const Start& start, const Before& before, Context& context, Ladder& ladder);
[[nodiscard]] bool is_linux(const Start& start);
Step run_linux(const Start& start, const Before& before, Context& context, Ladder& ladder);
[[nodiscard]] bool is_nt(const Start& start);
Step run_nt(const Start& start, const Before& before, Context& context, Ladder& ladder);
/// The program of the table that `start` belongs to, run.
Step run_program(const Start& start, const Before& before, Context& context, Ladder& ladder);
/// What an entry starts when its loader has done its part: a kernel, the NT loader, or what is not followed. `medium`:
/// the live medium that it belongs to.
[[nodiscard]] Start start_of(const std::shared_ptr<const Menu>& menu, const MenuEntry& entry,
                             const Surroundings& around, VolumeRef medium);

/// A start that the firmware was told to make and did not.
struct RefusedStart {
    Start what;
    Finding why;
};

/// What a machine does when it is switched on.
class Firmware {
public:
    Firmware() = default;
    Firmware(const Firmware&) = delete;
    Firmware& operator=(const Firmware&) = delete;
    virtual ~Firmware() = default;
    /// Sets the first stages; none: it starts nothing (more), and the ladder says why. `label`: the title of what led
    /// there. Called again when what was started comes back to the firmware.
    virtual std::optional<Start> power_on(Ladder& ladder, Surroundings& around, std::string& label) = 0;
    /// What its settings name and it passed over so far.
    [[nodiscard]] virtual std::vector<RefusedStart> refused() const { return {}; }
    /// What the programs share under this firmware.
    [[nodiscard]] virtual Context context() const = 0;
};
[[nodiscard]] std::unique_ptr<Firmware> bios_firmware(const Machine& machine, bool rehearsing);
/// `machine` is what the firmware has made of the disks (after_uefi_firmware).
[[nodiscard]] std::unique_ptr<Firmware> uefi_firmware(const Machine& machine, const UefiVariables& variables,
                                                      SecureBoot secure_boot, EfiMachine kind = EfiMachine::X64);

/// A board with this ROM. `flash`: a dump beside the disks; null: none.
[[nodiscard]] std::unique_ptr<Firmware> board_firmware(const Machine& machine, const Board& board, Source flash);

/// The volume that begins at sector `lba` of a disk, and is not the whole disk; null: none.
[[nodiscard]] VolumeRef volume_starting_at(const Machine& machine, int disk, std::uint64_t lba);

}  // namespace herberge::walk
