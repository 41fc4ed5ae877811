// SPDX-License-Identifier: MIT
// Which files a boot option of UEFI firmware names on the disks at hand.
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include <herberge/uefi.hpp>

namespace herberge::chain {

/// The file that the firmware takes where no option names one (UEFI specification 2.10, section 3.5.1.1, x86-64).
constexpr std::string_view efi_fallback_file = "/EFI/BOOT/BOOTX64.EFI";

struct OptionFiles {
    std::vector<const Volume*> volumes;  ///< each may hold the file
    std::string path;                    ///< with slashes, from the volume's top
    std::string problem;                 ///< why no volume comes into question; empty: some does
};
OptionFiles files_of_option(const UefiBootOption& option, const UefiVolumes& seen);

/// "Boot0010 “Almhof”"
std::string option_name(const UefiBootOption& option);

}  // namespace herberge::chain
