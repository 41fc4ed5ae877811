// SPDX-License-Identifier: MIT
// JFFS2 (Linux fs/jffs2, include/uapi/linux/jffs2.h) in little-endian order: all nodes are read once, the newest count.
#pragma once

#include <herberge/files.hpp>

namespace herberge {

[[nodiscard]] std::optional<VolumeInfo> recognise_jffs2(const ByteSource& volume);
/// Errors: Unreadable, TooLarge (more than 256 MiB, or 4 million nodes), Malformed (no node that passes its CRC).
[[nodiscard]] Result<std::shared_ptr<const FileSystem>> open_jffs2(const Source& volume, Reader reader);

}  // namespace herberge
