// SPDX-License-Identifier: MIT
// ISO 9660 with Rock Ridge and Joliet.
#pragma once

#include <optional>

#include <herberge/files.hpp>

namespace herberge {

std::optional<VolumeInfo> recognise_iso9660(const ByteSource& volume);

/// File numbers are the byte position of a file's directory record in the volume. Names come from Rock Ridge where it
/// is there, else from Joliet, else they are the plain ones in lower case, as kernel and loaders choose.
Result<std::shared_ptr<const FileSystem>> open_iso9660(const Source& volume, Reader reader);

}  // namespace herberge
