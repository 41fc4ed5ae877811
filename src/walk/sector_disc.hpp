// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/sector.hpp>

namespace herberge::walk {

/// Takes apart a sector that belongs to the start of an optical disc; false: it is none of these.
bool view_disc_sector(SectorView& view, const Disk& disk, std::uint64_t lba);

}  // namespace herberge::walk
