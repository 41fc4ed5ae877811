// SPDX-License-Identifier: MIT
// The configuration of GRUB Legacy.
#pragma once

#include "loader/family.hpp"

namespace herberge::loader::legacy {

/// What its devices mean when it interprets a configuration.
struct Setting {
    const Machine& machine;
    int first_drive = 0;         ///< the disk that is (hd0)
    const Disk* disk = nullptr;  ///< where it was started from
    VolumeRef volume;            ///< its root
    std::uint32_t saved_entry = 0;
    int depth = 0;             ///< configurations that other configurations read
    std::string_view program;  ///< its second stage, for what commands it has; empty: it is taken to have all
};

/// Interprets the configuration `text`, which lies at `place`, and tries every entry.
Menu read_menu(const Setting& setting, std::string_view text, std::string place);

/// "Error 15: File not found"
std::string error_text(int number);

}  // namespace herberge::loader::legacy
