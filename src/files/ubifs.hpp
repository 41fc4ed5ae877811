// SPDX-License-Identifier: MIT
// UBIFS (Linux fs/ubifs), as its last commit left it; what its journal holds beyond that is not replayed.
#pragma once

#include <herberge/files.hpp>

namespace herberge {

[[nodiscard]] std::optional<VolumeInfo> recognise_ubifs(const ByteSource& volume);
/// Errors: Malformed (superblock or master node fail their checks), Unsupported (a later format, encryption),
/// Unreadable.
[[nodiscard]] Result<std::shared_ptr<const FileSystem>> open_ubifs(const Source& volume, Reader reader);

}  // namespace herberge
