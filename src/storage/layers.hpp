// SPDX-License-Identifier: MIT
// Layers: what makes volumes of other volumes.
#pragma once

#include <span>
#include <string_view>

#include <herberge/storage.hpp>

namespace herberge {

/// What Linux does not take, whatever it is told, and a loader that looks at less does: how LayerNames::held_back
/// begins then.
inline constexpr std::string_view linux_refuses = "Linux does not take ";

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
