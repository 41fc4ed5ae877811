// SPDX-License-Identifier: MIT
// CramFS (Linux fs/cramfs): a packed file system that is never written to.
#pragma once

#include <herberge/files.hpp>

namespace herberge {

[[nodiscard]] std::optional<VolumeInfo> recognise_cramfs(const ByteSource& volume);
/// Errors: Malformed (cut short, a root that is no directory), Unsupported (blocks that are run in place).
[[nodiscard]] Result<std::shared_ptr<const FileSystem>> open_cramfs(const Source& volume, Reader reader);

}  // namespace herberge
