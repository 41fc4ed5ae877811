// SPDX-License-Identifier: MIT
// Layers: what makes volumes of other volumes.
#pragma once

#include <span>
#include <string_view>
#include <vector>

#include <herberge/storage.hpp>

namespace herberge {

/// What a layer made of its members.
struct Assembly {
    std::vector<VolumeRef> made;  ///< also those that it names and cannot make (Volume::not_assembled)
    /// Members of which all is known that lies inside: nothing can be hidden there.
    std::vector<VolumeRef> understood;
    std::vector<Finding> findings;
};

/// One row of the table of layers.
struct Layer {
    std::string_view name;
    Family family;  ///< what its members are recognised as
    /// Called with all members on the machine, those inside other layers' volumes included. Costs what the members'
    /// descriptions have in bytes; what is in the volumes is not read.
    Assembly (*assemble)(std::span<const VolumeRef> members);
};

/// Logical Volume Manager 2.
[[nodiscard]] Assembly assemble_lvm(std::span<const VolumeRef> members);

/// Linux software RAID, metadata 0.90 and 1.0 to 1.2.
[[nodiscard]] Assembly assemble_md(std::span<const VolumeRef> members);

/// Whether `observer` looks into layers by itself. GRUB does it with modules, which its own code decides.
[[nodiscard]] bool knows_layers(Observer observer);

}  // namespace herberge
