// SPDX-License-Identifier: MIT
// From an entry that names a Linux kernel to the system's services.
#pragma once

#include <map>
#include <memory>
#include <optional>
#include <string>
#include <utility>

#include "walk/ladder.hpp"

namespace herberge::walk {

/// Files that several entries share are judged once.
class Artifacts {
public:
    std::shared_ptr<const Result<KernelImage>> kernel(const FileReference& file, bool efi_stub = false);
    std::shared_ptr<const Result<Ramdisk>> ramdisk(const std::vector<FileReference>& files);
    /// Whether the unpacked kernel contains words; none: cannot be told.
    std::optional<bool> mentions(const FileReference& file, const KernelImage& image, std::string_view words);

private:
    std::map<std::string, std::optional<bool>> mentions_;
    std::map<std::string, std::shared_ptr<const Result<KernelImage>>> kernels_;
    std::map<std::string, std::shared_ptr<const Result<Ramdisk>>> ramdisks_;
};

/// The entry's file only comes in a Linux kernel's format.
bool is_other_program(const MenuEntry& entry);

/// What the entry's root= leads to.
RootReference named_root(const Machine& machine, const MenuEntry& entry);

/// The system that `entry` starts: what its root= names, else where its kernel lies; for Windows the directory its
/// entry names. Null: none of `systems`.
const InstalledSystem* system_of(const Machine& machine, const MenuEntry& entry,
                                 const std::vector<InstalledSystem>& systems);

/// What the way to an entry says about the machine.
struct LinuxSurroundings {
    bool locked_down = false;              ///< Secure Boot is enforced: a kernel refuses modules without a signature
    VolumeRef medium;                      ///< the install or live medium that is started; null: none
    std::optional<Controller> controller;  ///< how disk `controller_disk` is attached, where something tells
    int controller_disk = 0;
    std::string controller_told_by;
};

/// Sets the rungs from `entry` on. What a loader does when the kernel is refused is already in the entry.
void walk_linux(const Machine& machine, const MenuEntry& entry, const Menu& menu, Artifacts& artifacts, Ladder& ladder,
                const LinuxSurroundings& around = {});

}  // namespace herberge::walk
