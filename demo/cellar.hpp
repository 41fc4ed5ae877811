// SPDX-License-Identifier: MIT
// The wine cellar's machine: Linux in a group of logical volumes, with /boot on a partition of its own.
#pragma once

#include "demo_disks.hpp"

namespace demo {

/// Parts a system's files into those of a /boot of its own and all others.
void split_off(const forge::Tree& whole, const std::string& folder, forge::Tree& apart, forge::Tree& root);

struct Cellar {
    forge::Tree boot;     ///< the partition with the loader's files, kernel and RAM disk
    forge::Tree root;     ///< the logical volume "root"
    forge::Tree ramdisk;  ///< packed into the boot partition
    std::string group = "inn";
    std::string passphrase;  ///< not empty: the group lies in an encrypted volume
    std::string crypttab;    ///< of the RAM disk, then
    [[nodiscard]] forge::Bytes build() const;
};
/// The machine as it should be: change its parts, then build() the disk.
Cellar cellar();

std::vector<Story> cellar_disks();

inline constexpr const char* vault_uuid = "0c4e5700-0001-4a01-8a01-000000c4e571";
inline constexpr const char* vault_passphrase = "edelweiss under the third stair";
/// The same machine with the group in an encrypted volume.
Cellar vault();
std::vector<Story> vault_disks();

}  // namespace demo
