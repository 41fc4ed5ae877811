// SPDX-License-Identifier: MIT
// Running the boot code found on a disk in an emulated PC, and recording what it does.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/finding.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// Why a rehearsal ended.
enum class RehearsalEnd : std::uint8_t {
    KernelEntered,  ///< a Linux kernel's real-mode or 32-bit entry was reached
    KernelRead,     ///< the first sectors of a kernel that is known from decoding were asked for
    UntilReached,   ///< the stage asked for was reached
    WaitsForKey,    ///< a key is waited for and none is scripted
    Halted,         ///< HLT with interrupts off, or one after the other without doing anything else
    Int18,          ///< INT 18h: "no bootable device"
    Int19,          ///< INT 19h: the firmware is asked to start over
    EmptyMemory,    ///< execution reached memory that holds nothing
    Fault,          ///< a CPU exception nobody handles
    Loops,          ///< instructions without any effect outside the CPU
    Differs,        ///< code is entered that is not what its image holds
    Limit,          ///< the budget of instructions, reads, text or memory was used up
    NotStarted,     ///< the firmware would not start this disk
};
[[nodiscard]] std::string_view rehearsal_end_id(RehearsalEnd end);

enum class RehearsalEventKind : std::uint8_t { Read, Write, Text, Transfer, Key, Mode, End };
[[nodiscard]] std::string_view rehearsal_event_id(RehearsalEventKind kind);

/// What lies at a place of a disk, as far as a table tells.
enum class PlaceKind : std::uint8_t { Nowhere, FirstSector, BootSector, BootImage, Partition, File, Gap };

/// One thing that happened. Deterministic: the same images and options give the same events.
struct RehearsalEvent {
    RehearsalEventKind kind = RehearsalEventKind::Read;
    std::uint64_t instruction = 0;   ///< how many had been executed
    double seconds = 0;              ///< virtual time since power-on
    std::string text;                ///< printed text, or what happened
    std::optional<DiskRange> range;  ///< Read, Write: where; Transfer: where the code was read from
    std::string lies_in;             ///< what lies there: "d1p1 boot sector", "d1p1:/boot/grub/i386-pc/normal.mod"
    PlaceKind lies_in_kind = PlaceKind::Nowhere;
    bool failed = false;         ///< Read: the bytes could not be had
    std::uint32_t address = 0;   ///< linear address read to or entered
    std::optional<Stage> stage;  ///< Transfer: the stage that has begun
    std::uint64_t count = 1;     ///< Read: how many calls were folded into this event
};

/// A key pressed at a moment of virtual time.
struct KeyPress {
    double seconds = 0;
    std::uint16_t code = 0;  ///< scan code in the upper byte, character in the lower one (INT 16h)
};
/// "enter", "esc", "up", "f4", "a" …; none for an unknown name.
[[nodiscard]] std::optional<std::uint16_t> key_code(std::string_view name);

struct RehearsalOptions {
    std::uint64_t most_instructions = 400'000'000;
    std::uint64_t idle_instructions = 400'000'000;  ///< without any BIOS call: Loops
    std::uint64_t most_reads = 200'000;
    std::uint64_t memory = std::uint64_t{128} << 20U;  ///< bytes of RAM the PC has; touched ones cost memory
    std::uint64_t touched_memory = std::uint64_t{112} << 20U;
    bool extensions = true;  ///< INT 13h extensions (LBA) are offered
    bool stop_in_protected_mode = false;
    std::optional<Stage> until;
    std::vector<KeyPress> keys;      ///< ascending times
    std::vector<DiskRange> kernels;  ///< reading one of these ends the rehearsal (KernelRead)
    /// Starts this sector of the boot disk instead of its first one, as a first sector's code does: at 0000:7C00, with
    /// SI pointing at the table entry that leads to it.
    std::uint64_t start_sector = 0;
    /// What must have been unpacked by the time protected-mode code at `unpacked_at` is entered: the run ends there,
    /// with UntilReached when memory holds these bytes and with Differs when it does not.
    std::shared_ptr<const std::vector<std::uint8_t>> unpacked;
    std::uint32_t unpacked_at = 0;
    /// Text that goes on for a dozen characters behind these words ends the run with UntilReached; empty: none does.
    std::string until_text;
    bool name_files = false;  ///< map reads to files of the boot directories (costs directory reads)

    /// What `check` affords: first stages only, a few milliseconds.
    [[nodiscard]] static RehearsalOptions brief();
};

struct Rehearsal {
    std::vector<RehearsalEvent> events;
    RehearsalEnd end = RehearsalEnd::NotStarted;
    std::string end_text;             ///< for people
    std::string text;                 ///< everything printed through the BIOS, in order
    std::vector<std::string> screen;  ///< the 80x25 screen at the end, without trailing blanks
    std::uint64_t instructions = 0;
    std::uint64_t reads = 0;
    std::uint64_t bytes_read = 0;
    std::uint64_t writes = 0;          ///< to the overlay; never to the image
    std::uint64_t memory_touched = 0;  ///< bytes of RAM

    /// The last transfer into code read from a disk; null: the first sector never left itself.
    [[nodiscard]] const RehearsalEvent* last_transfer() const;
};

/// Starts disk `boot_disk` (its number) as a BIOS does and runs until something ends it. The other disks are there,
/// too.
[[nodiscard]] Rehearsal rehearse(const Machine& machine, int boot_disk, const RehearsalOptions& options = {});

}  // namespace herberge
