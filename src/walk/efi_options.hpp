// SPDX-License-Identifier: MIT
// Which files a boot option of UEFI firmware names on the disks at hand.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include <herberge/uefi.hpp>

namespace herberge::walk {

struct OptionFiles {
    std::vector<VolumeRef> volumes;  ///< each may hold the file
    std::string path;                ///< with slashes, from the volume's top
    std::string problem;             ///< why no volume comes into question; empty: some does
};
OptionFiles files_of_option(const UefiBootOption& option, const UefiVolumes& seen,
                            EfiMachine machine = EfiMachine::X64);

/// "Boot0010 “Almhof”"
std::string option_name(const UefiBootOption& option);

}  // namespace herberge::walk
