// SPDX-License-Identifier: MIT
// What becomes of the file systems that /etc/fstab lists.
#pragma once

#include <herberge/system.hpp>
#include <herberge/units.hpp>

#include "system/device_manager.hpp"
#include "system/services_claim.hpp"

namespace herberge {

/// Who mounts them, and what hangs on it.
struct MountingStart {
    const UnitStore* units = nullptr;  ///< of systemd, with its plan; null: another init
    const StartPlan* plan = nullptr;
    const NoDevices* no_devices = nullptr;  ///< why no unit of a device appears; null: they do
    bool stops_without = false;             ///< the start ends where a mount fails
};

/// Judges each line, and adds to `out` what follows for the start.
void judge_mounts(const Machine& machine, const InitChoice& init, const CommandLine& arguments,
                  const MountingStart& start, ServicesClaim& out);

}  // namespace herberge
