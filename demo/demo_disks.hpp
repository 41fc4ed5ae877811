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
    std::string key;  ///< the passphrase of partition 2; empty: it is not encrypted, or nobody tells
};
std::vector<Story> front_desk_disks();

/// The back office: two disks, four systems, three loaders, one stale entry, one system that no menu names.
/// Change the parts before they are put together.
struct BackOffice {
    forge::Tree office, weather, ledger, guests, notice;  ///< the last one is the FAT with the guests' loader
    forge::Bytes first() const;                           ///< the first disk
    forge::Bytes second() const;
    forge::Bytes first_boot, first_gap, second_boot, second_gap;
    bool with_guest_loader = true;
};
BackOffice back_office();

inline constexpr const char* office_uuid = "0ff1ce00-0001-4a01-8a01-00000ff1ce01";
inline constexpr const char* weather_uuid = "0ff1ce00-0002-4a01-8a01-00000ff1ce02";
inline constexpr const char* ledger_uuid = "0ff1ce00-0003-4a01-8a01-00000ff1ce03";
inline constexpr const char* guests_uuid = "0ff1ce00-0004-4a01-8a01-00000ff1ce04";

/// Disks of one machine, by file name.
struct MachineStory {
    std::string name;
    std::string story;
    std::vector<std::pair<std::string, std::function<forge::Bytes()>>> disks;
};
std::vector<MachineStory> back_office_machines();

herberge::Result<void> write_disk(const Story& story, const std::string& path);

}  // namespace demo
