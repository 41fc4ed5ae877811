// SPDX-License-Identifier: MIT
// The inn owner's office PC.
#pragma once

#include "demo_disks.hpp"
#include "forge/windows.hpp"

namespace demo {

/// What the office PC's disk is made of; change it before it is put together.
struct OfficePc {
    forge::Tree boot;     ///< the small volume that starts
    forge::Tree windows;  ///< the system's volume, without its hives
    forge::HiveNode system_hive, software_hive, store;
    bool with_store = true;
    bool with_hives = true;
    bool dirty = false;
    std::uint32_t disk_signature = 0x0A1B0F70;

    [[nodiscard]] forge::Bytes build() const;
};
OfficePc office_pc();
std::vector<Story> office_pc_disks();

}  // namespace demo
