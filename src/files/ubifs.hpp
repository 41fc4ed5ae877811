// SPDX-License-Identifier: MIT
// UBIFS (Linux fs/ubifs): as its last commit left it, with what its journal holds beyond that.
#pragma once

#include <herberge/files.hpp>

namespace herberge {

[[nodiscard]] std::optional<VolumeInfo> recognise_ubifs(const ByteSource& volume);
/// Errors: Malformed (superblock, master node or journal fail their checks), Unsupported (a later format, encryption),
/// Unreadable.
[[nodiscard]] Result<std::shared_ptr<const FileSystem>> open_ubifs(const Source& volume, Reader reader);

}  // namespace herberge
