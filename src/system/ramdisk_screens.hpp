// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/system.hpp>

namespace herberge {

/// What the screen shows where the way from the kernel to the init ends, in the words of who is at work there: the
/// kernel itself (`ramdisk` null), or the programs of the RAM disk's maker
/// (where that is not known, a remark in brackets says what happens). `written` is root= as on the command line.
///
/// Sources: init/do_mounts.c; initramfs-tools' scripts/functions; dracut's modules.d/99base and systemd's
/// core/main.c, which dracut's RAM disks run; mkinitcpio's init_functions.
inline constexpr std::string_view root_panic =
    "---[ end Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0) ]---";
/// The command line has no root=.
[[nodiscard]] std::string screen_root_unnamed(const Ramdisk* ramdisk);
[[nodiscard]] std::string screen_root_missing(std::string_view written, const Ramdisk* ramdisk);
/// `reason`: in the C library's words, "Invalid argument".
[[nodiscard]] std::string screen_mount_refused(std::string_view written, std::string_view reason,
                                               const Ramdisk* ramdisk);
/// The init `asked` for is not there, or may not be executed.
[[nodiscard]] std::string screen_init_missing(std::string_view asked, const Ramdisk& ramdisk);
/// The init is there, and executing it fails. `reason`: as above.
[[nodiscard]] std::string screen_init_refused(std::string_view asked, std::string_view reason, const Ramdisk& ramdisk);
/// The init is executed, and ends by a signal (its number, 1 to 31) at once.
[[nodiscard]] std::string screen_init_dies(int signal);

}  // namespace herberge
