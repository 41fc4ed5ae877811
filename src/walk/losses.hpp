// SPDX-License-Identifier: MIT
// Files that the medium does not give whole: how a loader of kernels goes on, and what is seen of it.
#pragma once

#include <string>

#include "walk/ladder.hpp"
#include "walk/step.hpp"

namespace herberge::walk {

/// How the loader of a menu meets what an entry's files lack.
class Losses {
public:
    Losses(const MenuEntry& entry, const Menu& menu) : entry_(entry), menu_(menu) {}

    /// What is seen where a part of the kernel's file is not had, and where one of a RAM disk is not.
    [[nodiscard]] std::string kernel_screen(const Error& error) const;
    [[nodiscard]] std::string ramdisk_screen(const Error& error) const;

    /// RAM disks of which the loader leaves out a part: unknown, unless that breaks them.
    void doubt_ramdisks(Claim& claim) const;
    /// Where the firmware reads the file for the loader: unknown, if a sector beside it is lost.
    void doubt_beside(Ladder& ladder, Stage stage, const FileReference& file) const;

private:
    [[nodiscard]] bool firmware_reads() const;

    const MenuEntry& entry_;
    const Menu& menu_;
};

}  // namespace herberge::walk
