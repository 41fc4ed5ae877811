// SPDX-License-Identifier: MIT
#pragma once

#include <herberge/sector.hpp>

namespace herberge::walk {

/// Takes apart a header or entries of a GUID partition table, wherever the disk has them; false: it holds none of
/// these.
bool view_gpt(SectorView& view, const Disk& disk, std::uint64_t lba);
/// Takes apart a sector that holds a described structure: entries of a table or directory whose place is known, or what
/// a mark at its beginning tells. False: none.
bool view_structures(SectorView& view, const Disk& disk, std::uint64_t lba);
/// The same at byte `offset` of a volume.
bool view_structures(SectorView& view, const Volume& volume, std::uint64_t offset);
/// Any described structure whose mark the sector begins with.
bool view_marked(SectorView& view);

}  // namespace herberge::walk
