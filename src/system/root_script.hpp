// SPDX-License-Identifier: MIT
// Which of its scripts initramfs-tools' RAM disk mounts the root with.
#pragma once

#include <herberge/system.hpp>

namespace herberge {

/// A setting that initramfs-tools' init takes from its RAM disk (conf/initramfs.conf, then each of conf/conf.d): the
/// last line "KEY=value" counts; empty: none sets it.
std::string ramdisk_setting(const Ramdisk& ramdisk, std::string_view key);

/// A root that is not mounted from a disk of this machine by the script that usually does so: boot= names another
/// (initramfs-tools(7)), BOOT= in the RAM disk does, or root=/dev/nfs. It breaks where the RAM disk has no such script,
/// is unknown where it has, and holds, without a word, where nothing asks for another, or another maker made the RAM
/// disk.
[[nodiscard]] Claim judge_root_script(const Ramdisk& ramdisk, const CommandLine& arguments);

}  // namespace herberge
