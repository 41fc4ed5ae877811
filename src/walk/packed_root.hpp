// SPDX-License-Identifier: MIT
// The system that a live medium keeps in one file, or in several that lie over each other.
#pragma once

#include "walk/ladder.hpp"
#include "walk/step.hpp"

namespace herberge::walk {

struct PackedStart {
    const Machine& machine;
    const Volume& medium;
    const CommandLine& arguments;
    const Ramdisk& ramdisk;
    Processor processor;  ///< that programs must be made for
    Ladder& ladder;
};

/// From the packed root that the RAM disk finds to the services of the system in it.
void walk_packed_root(PackedRoot packed, const RootDemand& demand, const PackedStart& start);

}  // namespace herberge::walk
