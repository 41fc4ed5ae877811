// SPDX-License-Identifier: MIT
// XFS, versions 4 and 5.
#pragma once

#include <herberge/files.hpp>

namespace herberge {

std::optional<VolumeInfo> recognise_xfs(const ByteSource& volume);

/// Files are numbered by their inodes. Reader::Kernel checks the checksums of version 5. What a log that was not closed
/// would still change is not looked at. Errors: Malformed, Checksum, Unsupported (features that are not known here).
Result<std::shared_ptr<const FileSystem>> open_xfs(const Source& volume, Reader reader);

}  // namespace herberge
