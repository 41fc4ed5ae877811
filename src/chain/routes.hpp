// SPDX-License-Identifier: MIT
// Every way from the firmware to an entry that starts something: through first sectors, boot sectors and loaders.
#pragma once

#include <deque>
#include <memory>
#include <string>
#include <utility>
#include <vector>

#include <herberge/signature.hpp>

#include "chain/ladder.hpp"

namespace herberge::chain {

/// One way, up to the entry at its end or to where it breaks.
struct Route {
    Ladder ladder;
    std::vector<std::string> hops;
    const Menu* menu = nullptr;            ///< of the last loader
    const MenuEntry* entry = nullptr;      ///< null: it ends before an entry is chosen
    std::optional<Controller> controller;  ///< how the disk of the firmware's choice is attached, as its option tells
    int controller_disk = 0;
    std::string controller_told_by;
    bool locked_down = false;         ///< Secure Boot is enforced: a Linux kernel refuses modules without a signature
    bool unattended = true;           ///< nobody presses a key on the way
    std::vector<VolumeRef> passed;    ///< volumes whose boot sectors it started
    std::vector<int> disks;           ///< disks whose first sectors an entry started
    std::vector<std::string> chosen;  ///< titles of the entries that led from loader to loader
};

struct Routes {
    std::vector<Route> list;
    std::deque<LoaderRun> loaders;  ///< reached, in the order of their discovery
    std::vector<StartEdge> steps;
    int first_drive = 0;  ///< the disk that the firmware starts; 0: none
};

[[nodiscard]] Routes find_routes(const Machine& machine, bool rehearsing);

/// The same for UEFI firmware; `machine` is what it has made of the disks (after_uefi_firmware).
[[nodiscard]] Routes find_efi_routes(const Machine& machine, const UefiVariables& variables, SecureBoot secure_boot,
                                     EfiMachine kind = EfiMachine::X64);

/// A loader's node in the graph: "GRUB 2 (d1p1:/boot/grub/grub.cfg)".
[[nodiscard]] std::string loader_node(const LoaderRun& run, const BootPlace& place);
[[nodiscard]] std::string menu_node(const Menu& menu);

/// The entry that ends up being started unattended: the default, or the first fallback that loads.
[[nodiscard]] const MenuEntry* unattended_entry(const Menu& menu);

/// Every entry of a menu, submenus opened.
void collect_leaves(const std::vector<MenuEntry>& entries, std::vector<const MenuEntry*>& out);

}  // namespace herberge::chain
