// SPDX-License-Identifier: MIT
// extlinux.conf as U-Boot reads it (boot/pxe_utils.c of 2023.01).
#pragma once

#include "loader/family.hpp"

namespace herberge::loader::uboot {

struct ExtlinuxLabel {
    std::string name, title, kernel, configuration, ramdisk, tree, tree_folder;
    std::optional<std::string> arguments;  ///< none: those that are set stay
    bool local = false;
    bool fit = false;
    std::string place;
    int line = 0;
};

struct ExtlinuxMenu {
    std::string title;
    std::optional<std::string> chosen;  ///< a label's name
    long timeout = 0;                   ///< tenths of a second; 0: it waits for somebody
    bool prompt = false;                ///< the menu is shown; else nobody is asked
    std::vector<ExtlinuxLabel> labels;
    /// Why U-Boot gives the whole up: what is wrong, and where. Then nothing above counts.
    struct Refusal {
        std::string why, place;
        int line = 0;
        bool deadly = false;  ///< it does not come back from it
    };
    std::optional<Refusal> refusal;
};

/// A file that a menu names, from the menu's folder (which ends with a stroke) unless it begins at the top.
[[nodiscard]] std::string beside(const std::string& folder, const std::string& name);

/// `knows_fit`: the word is one of this version's.
[[nodiscard]] ExtlinuxMenu read_extlinux(const VolumeRef& volume, const std::string& path, bool knows_fit);

}  // namespace herberge::loader::uboot
