// SPDX-License-Identifier: MIT
// Volumes recognised by their superblock whose files are not read.
#pragma once

#include <optional>

#include <herberge/files.hpp>

namespace herberge {

/// What lies around other things: members of arrays and groups, encrypted volumes.
std::optional<VolumeInfo> recognise_layer(const ByteSource& volume);
/// File systems and swap areas.
std::optional<VolumeInfo> recognise_by_mark(const ByteSource& volume);

}  // namespace herberge
