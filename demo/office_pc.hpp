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
    forge::Tree recovery;        ///< what lies in the recovery image
    forge::Tree recovery_files;  ///< what lies beside it
    bool with_recovery = false, own_image = true, with_ram_disk_head = true;
    std::size_t recovery_cut = 0;  ///< bytes that the recovery image has left; 0: all
    bool with_store = true;
    bool with_hives = true;
    bool dirty = false;
    std::uint32_t disk_signature = 0x0A1B0F70;

    [[nodiscard]] forge::Bytes build() const;
    [[nodiscard]] forge::Bytes recovery_image() const;
};
OfficePc office_pc();
/// The same with a recovery environment in a partition of its own.
OfficePc office_pc_with_recovery();
std::vector<Story> office_pc_disks();

}  // namespace demo
