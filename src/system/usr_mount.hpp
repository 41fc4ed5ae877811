// SPDX-License-Identifier: MIT
// A /usr with a volume of its own, which the RAM disk mounts before it looks for init.
#pragma once

#include <herberge/system.hpp>

namespace herberge {

struct UsrMount {
    VolumeRef root;  ///< with what /etc/fstab has for /usr mounted on it, as far as that is there
    /// Holds: there is nothing to mount (no text), or it is mounted; breaks and unknown as the root's own mount.
    Claim claim;
};
/// What the RAM disk makes of the line for /usr of the root's table. `ramdisk` null: the kernel mounts the root, and
/// nothing else before init. initramfs-tools has it in its init (read_fstab_entry; really started), dracut in its
/// module usrmount, mkinitcpio in its hook usr; of other RAM disks it is not known.
[[nodiscard]] UsrMount mount_usr(const Machine& machine, const VolumeRef& root, const Ramdisk* ramdisk,
                                 const CommandLine& arguments, std::string_view release);
/// The same for who only wants to look at the files: the root as it is where there is nothing to mount.
[[nodiscard]] VolumeRef with_usr(const Machine& machine, const VolumeRef& root);

}  // namespace herberge
