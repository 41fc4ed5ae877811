// SPDX-License-Identifier: MIT
// Btrfs on one device.
#pragma once

#include <herberge/files.hpp>

namespace herberge {

std::optional<VolumeInfo> recognise_btrfs(const ByteSource& volume);

/// The root is that of the top; subvolumes are directories in it. Reader::Kernel checks the checksums of trees. What a
/// log that was not replayed would still change is not looked at. Errors: Malformed, Checksum, Unsupported (several
/// devices, features or checksums that are not known here).
Result<std::shared_ptr<const FileSystem>> open_btrfs(const Source& volume, Reader reader);

}  // namespace herberge
