// SPDX-License-Identifier: MIT
// The disc that the inn's technician brings: starts by BIOS and by UEFI, from a drive or a stick, and runs from memory.
#pragma once

#include "demo_disks.hpp"

namespace demo {

struct HelpDisc {
    forge::Tree files;
    forge::Tree esp;  ///< packed into /boot/efi.img
    forge::DiscOptions options;
    [[nodiscard]] forge::DiscImage build() const;
};
HelpDisc help_disc();
/// The root that it packs: what the front desk has, without its kernel.
forge::Tree help_root_files();
std::vector<Story> help_discs();

inline constexpr const char* help_kernel = "/live/vmlinuz";
inline constexpr const char* help_root = "/live/help.squashfs";
inline constexpr const char* help_config = "/boot/isolinux/isolinux.cfg";
inline constexpr const char* help_image = "/boot/isolinux/isolinux.bin";

}  // namespace demo
