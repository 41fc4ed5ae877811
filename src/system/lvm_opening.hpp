// SPDX-License-Identifier: MIT
// Whether a RAM disk opens a logical volume: who may open it, and what LVM's settings in there leave out.
#pragma once

#include <herberge/system.hpp>

namespace herberge {

/// `volume` is a logical volume, put together. Breaks, with one finding, where the RAM disk leaves it closed: its group
/// is another host's or exported, the volume is marked to be skipped or not to be opened by itself (lvmsystemid(7),
/// vgexport(8), lvchange(8)), the settings leave out its disk, group or volume (lvm.conf(5), lvmdevices(8)), dracut is
/// told to open others (dracut.cmdline(7)), or nothing in initramfs-tools' RAM disk ever calls LVM. Unknown where that
/// hangs on what the machine's kernel calls its disks. Holds otherwise, without a text.
[[nodiscard]] Claim judge_group_opening(const Volume& volume, const Ramdisk& ramdisk, const CommandLine& arguments);

}  // namespace herberge
