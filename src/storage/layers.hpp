// SPDX-License-Identifier: MIT
// Layers: what makes volumes of other volumes.
#pragma once

#include <span>

#include <herberge/storage.hpp>

namespace herberge {

/// Logical Volume Manager 2.
/// `machine`: whose disks the members lie on.
[[nodiscard]] Assembly assemble_lvm(std::span<const VolumeRef> members, const Machine& machine);

/// Linux software RAID, metadata 0.90 and 1.0 to 1.2.
[[nodiscard]] Assembly assemble_md(std::span<const VolumeRef> members);

/// UBI on raw flash (Linux drivers/mtd/ubi).
[[nodiscard]] Assembly assemble_ubi(std::span<const VolumeRef> members);

/// Whether `observer` looks into layers by itself. GRUB does it with modules, which its own code decides.
[[nodiscard]] bool knows_layers(Observer observer);

}  // namespace herberge
