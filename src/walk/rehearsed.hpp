// SPDX-License-Identifier: MIT
// The second line of evidence: what the first sector's code does when it runs.
#pragma once

#include <herberge/rehearsal.hpp>

#include "walk/ladder.hpp"

namespace herberge::walk {

/// How the rehearsal ended, as evidence.
Evidence rehearsal_evidence(const Rehearsal& rehearsal);
/// What was printed, as lines for a symptom.
std::string rehearsal_screen(const Rehearsal& rehearsal);
/// Code read from sector `lba` of the disk was entered.
bool reaches_sector(const Rehearsal& rehearsal, int disk, std::uint64_t lba);

/// Confirms or contradicts what was decoded of a loader's first part at `place`; `own` is the stage that part counts
/// as.
void compare_with_loader(const BootPlace& place, const LoaderRun& run, Stage own, const Rehearsal& rehearsal,
                         Ladder& ladder);
/// Whether the first code has read all that it must before it leaves real mode; a break at `loader` when it has not.
void parts_loaded(const BootPlace& place, const LoaderRun& run, Stage own, const Rehearsal& rehearsal, Ladder& ladder);
/// Judges a volume's boot sector of no loader with a name, started directly.
void judge_boot_sector_by_rehearsal(const BootPlace& place, const Rehearsal& rehearsal, Ladder& ladder);
/// Judges code that was not decoded, as far as its effect tells.
void judge_by_rehearsal(const Machine& machine, const Disk& disk, const Rehearsal& rehearsal, Ladder& ladder);

// --- longer runs ----------------------------------------------------------------------------------------------------

/// What stands at `place`, run in the emulated PC.
Rehearsal rehearse_from(const Machine& machine, const BootPlace& place, RehearsalOptions options);
/// What was decoded says that it cannot work; run, it went on. How far? A menu, or a kernel, outranks the decoder.
bool works_all_the_same(const Machine& machine, const BootPlace& place, const LoaderRun& r, Stage own, Ladder& ladder);
/// Code that nothing protects differs from the same code in a file: does it unpack what it should all the same?
void prove_start_up(const Machine& machine, const BootPlace& place, const LoaderRun& r, Ladder& ladder);
/// Runs the loader until it reads its configuration: the only proof for parts without checksums.
void prove(const Machine& machine, const BootPlace& place, const LoaderRun& r, Ladder& ladder);

}  // namespace herberge::walk
