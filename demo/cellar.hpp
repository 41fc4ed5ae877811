// SPDX-License-Identifier: MIT
// The wine cellar's machine: Linux in a group of logical volumes, with /boot on a partition of its own.
#pragma once

#include "demo_disks.hpp"

namespace demo {

struct Cellar {
    forge::Tree boot;     ///< the partition with the loader's files, kernel and RAM disk
    forge::Tree root;     ///< the logical volume "root"
    forge::Tree ramdisk;  ///< packed into the boot partition
    std::string group = "inn";
    [[nodiscard]] forge::Bytes build() const;
};
/// The machine as it should be: change its parts, then build() the disk.
Cellar cellar();

std::vector<Story> cellar_disks();

}  // namespace demo
