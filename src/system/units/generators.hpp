// SPDX-License-Identifier: MIT
// What systemd's generators make of /etc/fstab, /etc/crypttab, the command line and old start-up scripts before the
// first unit is loaded (systemd.generator(7)).
#pragma once

#include <herberge/system.hpp>

#include "system/units/files.hpp"

namespace herberge::units {

struct GeneratorInput {
    const FileSystem& fs;
    std::string volume;  ///< "d1p2"
    const CommandLine& arguments;
};

/// systemd-fstab-generator(8)
void from_fstab(const GeneratorInput& input, GeneratedFiles& out);
/// systemd-cryptsetup-generator(8)
void from_crypttab(const GeneratorInput& input, GeneratedFiles& out);
/// systemd-getty-generator(8), systemd-debug-generator(8), systemd-rc-local-generator(8),
/// systemd-system-update-generator(8)
void from_command_line(const GeneratorInput& input, GeneratedFiles& out);
/// systemd-gpt-auto-generator(8): `root` lies on `machine`.
void from_partition_types(const GeneratorInput& input, const Machine& machine, const Volume& root, GeneratedFiles& out);
/// systemd-sysv-generator(8); `files` tells which units there are already.
void from_scripts(const GeneratorInput& input, const UnitFiles& files, GeneratedFiles& out);

/// The type is one of a file system that comes over the network (fstype_is_network).
[[nodiscard]] bool is_network_type(std::string_view type);
/// There is a program that checks file systems of this type (fsck_exists_for_fstype).
[[nodiscard]] bool has_checker(const FileSystem& fs, std::string_view type);
[[nodiscard]] bool is_device_path(std::string_view path);
/// Device files that /etc/fstab and its kin name by a tag: "/dev/disk/by-uuid/…".
[[nodiscard]] std::string device_of(std::string_view written);

}  // namespace herberge::units
