// SPDX-License-Identifier: MIT
// SquashFS 4.0.
#pragma once

#include <herberge/files.hpp>

namespace herberge {

std::optional<VolumeInfo> recognise_squashfs(const ByteSource& volume);

/// File numbers are references to inodes. Errors: Malformed, Unsupported (another version, an unknown packer).
Result<std::shared_ptr<const FileSystem>> open_squashfs(const Source& volume, Reader reader);

}  // namespace herberge
