// SPDX-License-Identifier: MIT
// The disks of the inn's machines.
#pragma once

#include <functional>
#include <string>
#include <vector>

#include <herberge/error.hpp>

#include "forge/forge.hpp"

namespace demo {

/// What a front desk's disk is made of; change it before it is put together.
struct FrontDesk {
    forge::Tree root;  ///< files of the root file system
    forge::ExtOptions ext;
    forge::DiskSpec disk;  ///< partitions are added when it is built
    forge::Tree ramdisk;
    bool rebuild_ramdisk = true;  ///< pack `ramdisk` into /boot/initrd.img-…
    std::uint64_t swap_size = 2U << 20U;

    [[nodiscard]] forge::Bytes build();
};
/// The healthy machine.
FrontDesk front_desk();

inline constexpr const char* root_uuid = "a1b0f000-0001-4a01-8a01-00000a1b0f01";
inline constexpr const char* swap_uuid = "a1b0f000-0002-4a01-8a01-00000a1b0f02";
inline constexpr const char* release = "6.1.0-almhof";

/// One disk of the demo: a file name, what happened to the machine, the stage it stops at (empty: starts).
struct Story {
    std::string name;
    std::string story;
    std::string stops_at;
    std::function<forge::Bytes()> make;
};
std::vector<Story> front_desk_disks();

herberge::Result<void> write_disk(const Story& story, const std::string& path);

}  // namespace demo
