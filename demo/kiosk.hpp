// SPDX-License-Identifier: MIT
// The inn's check-in kiosk: UEFI, a boot manager, a unified kernel image.
#pragma once

#include "demo_disks.hpp"
#include "forge/uefi.hpp"

namespace demo {

inline constexpr const char* kiosk_uuid = "c10ec000-0001-4a01-8a01-00000c10ec01";
/// The GUIDs that the generator gives to the first and second partition of a GPT disk.
std::string kiosk_partition_guid(const forge::Bytes& disk, int number);

struct Kiosk {
    forge::Tree esp;
    forge::Tree root;
    [[nodiscard]] forge::Bytes build() const;
};
/// `locked`: its modules carry signatures, as a kernel under Secure Boot demands.
Kiosk kiosk(bool locked = false);

/// Disk and variables of one kiosk.
struct KioskStory {
    std::string name, story, stops_at;
    std::function<forge::Bytes()> disk;
    std::function<forge::Bytes(const forge::Bytes& disk)> variables;  ///< empty: none are given
};
std::vector<KioskStory> kiosk_stories();

}  // namespace demo
