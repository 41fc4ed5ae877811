// SPDX-License-Identifier: MIT
// The second line of evidence: what the first sector's code does when it runs.
#pragma once

#include <herberge/rehearsal.hpp>

#include "chain/ladder.hpp"

namespace herberge::chain {

/// How the rehearsal ended, as evidence.
Evidence rehearsal_evidence(const Rehearsal& rehearsal);
/// What was printed, as lines for a symptom.
std::string rehearsal_screen(const Rehearsal& rehearsal);
/// Code read from sector `lba` of the disk was entered.
bool reaches_sector(const Rehearsal& rehearsal, int disk, std::uint64_t lba);

/// Confirms or contradicts the decoded rungs of a disk that GRUB starts from.
void compare_with_grub(const Disk& disk, const GrubBoot& boot, const Rehearsal& rehearsal, Ladder& ladder);
/// Judges code that was not decoded, as far as its effect tells.
void judge_by_rehearsal(const Machine& machine, const Disk& disk, const Rehearsal& rehearsal, Ladder& ladder);

}  // namespace herberge::chain
