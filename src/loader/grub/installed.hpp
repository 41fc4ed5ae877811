// SPDX-License-Identifier: MIT
// GRUB's start-up code as it is installed, against the same code as it lies in files.
#pragma once

#include <herberge/loader.hpp>

namespace herberge::grub {

/// What a comparison found.
struct Compared {
    std::string with;                 ///< the file, or the build; empty: nothing to compare with
    std::vector<Evidence> differing;  ///< bytes that no installer writes
};

/// The core's first sector, and what stands before its redundancy's reach, against `prefix_path`/i386-pc/core.img on
/// `volume` (may be null), else against the builds that are known by their digest, else against the package's
/// diskboot.img and lzma_decompress.img on any volume. Fields that the installer fills in (util/setup.c) are left out.
[[nodiscard]] Compared compare_installed(const Machine& machine, const GrubCore& core, const VolumeRef& volume,
                                         const std::string& prefix_path);

}  // namespace herberge::grub
