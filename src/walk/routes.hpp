// SPDX-License-Identifier: MIT
// Every way from the firmware to an entry that starts something: through first sectors, boot sectors and loaders.
#pragma once

#include <memory>
#include <string>
#include <utility>
#include <vector>

#include <herberge/signature.hpp>

#include "walk/step.hpp"

namespace herberge::walk {

/// One way, up to the entry at its end or to where it breaks.
struct Route {
    Ladder ladder;
    Surroundings around;
    std::vector<std::string> hops;
    std::shared_ptr<const Menu> menu;    ///< of the last loader; null: none
    const MenuEntry* entry = nullptr;    ///< of `menu`; null: it ends before an entry is chosen
    bool unattended = true;              ///< nobody presses a key on the way
    std::string waits_for;               ///< what somebody must give on the way; empty: nothing
    std::vector<EfiStart> applications;  ///< decoded ones that it started
    std::vector<VolumeRef> passed;       ///< volumes whose code it started
    std::vector<int> disks;              ///< disks whose first sectors an entry started
    std::vector<std::string> chosen;     ///< titles of the entries that led from loader to loader
};

struct Routes {
    std::vector<Route> list;
    std::vector<std::shared_ptr<const LoaderRun>> loaders;  ///< reached, in the order of their discovery
    std::vector<StartEdge> steps;
    std::vector<RefusedStart> refused;  ///< what the firmware's settings name and it passed over
    std::shared_ptr<Artifacts> artifacts = std::make_shared<Artifacts>();  ///< for the programs that the entries start
    int first_drive = 0;         ///< the disk that the firmware starts; 0: none
    bool at_menu_taken = false;  ///< what somebody was to do at a menu was done
};

/// Every way from power-on. `at_menu`: what somebody does at a menu; null: nobody is there.
[[nodiscard]] Routes find_routes(Firmware& firmware, const AtMenu* at_menu = nullptr);

/// A loader's node in the graph: "GRUB 2 (d1p1:/boot/grub/grub.cfg)"; without a menu, by where it was started from.
[[nodiscard]] std::string loader_node(const LoaderRun& run, std::string_view place);
[[nodiscard]] std::string menu_node(const Menu& menu);

/// The entry that ends up being started unattended: the default, or the first fallback that loads.
[[nodiscard]] const MenuEntry* unattended_entry(const Menu& menu);

/// What an entry of the menu does not start without: SystemVerdict::waits_for.
[[nodiscard]] std::string wanted_by(const Menu& menu, const MenuEntry& entry);

/// Every entry of a menu, submenus opened.
void collect_leaves(const std::vector<MenuEntry>& entries, std::vector<const MenuEntry*>& out);

}  // namespace herberge::walk
