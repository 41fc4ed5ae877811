// SPDX-License-Identifier: MIT
// Volumes recognised by their superblock whose files are not read.
#pragma once

#include <optional>

#include <herberge/volume.hpp>

namespace herberge {

std::optional<VolumeInfo> recognise_by_mark(const ByteSource& volume);

}  // namespace herberge
