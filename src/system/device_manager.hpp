// SPDX-License-Identifier: MIT
// Who tells systemd of devices.
#pragma once

#include <optional>
#include <string>
#include <vector>

#include <herberge/finding.hpp>
#include <herberge/storage.hpp>
#include <herberge/system.hpp>
#include <herberge/units.hpp>

namespace herberge {

/// Why no unit of a device ever appears, and what waits for one waits in vain (each really started).
struct NoDevices {
    std::string why;  ///< "/lib/systemd/systemd-udevd cannot run (…)"
    std::vector<Evidence> evidence;
    bool names_alone = false;  ///< those by UUID, label or type of partition; a device by the kernel's name appears
};

/// What keeps the root's udev from its work; none: nothing that is looked at here, or the root has no udev.
[[nodiscard]] std::optional<NoDevices> no_devices(const Volume& root, const InitChoice& init, const UnitStore& units);

}  // namespace herberge
