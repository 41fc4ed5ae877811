// SPDX-License-Identifier: MIT
// NTFS.
#pragma once

#include <optional>

#include <herberge/files.hpp>

namespace herberge {

std::optional<VolumeInfo> recognise_ntfs(const ByteSource& volume);

/// File numbers are MFT record numbers. Reader::Loader fails when the MFT's first record is bad, Reader::Kernel then
/// uses the mirror.
Result<std::shared_ptr<const FileSystem>> open_ntfs(const Source& volume, Reader reader);

}  // namespace herberge
