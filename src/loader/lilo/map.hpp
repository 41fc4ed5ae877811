// SPDX-License-Identifier: MIT
// LILO's map file: for each image the sectors that it will read.
#pragma once

#include "loader/family.hpp"

namespace herberge::loader::lilo {

struct MapImage {
    std::string label;
    std::string place;  ///< of its descriptor: "d1p1:/boot/map"
    std::vector<DiskRange> kernel, ramdisk;
};

/// The images of the map at `path`; `labels` are those that the configuration has: the table of descriptors is where
/// one of them stands. Empty: no table that fits. Addresses that lead outside the disk end their list.
[[nodiscard]] std::vector<MapImage> read_map(const Machine& machine, const Volume& volume, const std::string& path,
                                             const std::vector<std::string>& labels);

/// Where a file and a list of sectors stand to each other.
enum class ListMatch : std::uint8_t { Unknown, Same, Partly, Other };
[[nodiscard]] ListMatch compare_lists(const std::vector<DiskRange>& listed, const std::vector<DiskRange>& file);

}  // namespace herberge::loader::lilo
