// SPDX-License-Identifier: MIT
// exFAT.
#pragma once

#include <herberge/files.hpp>

namespace herberge {

std::optional<VolumeInfo> recognise_exfat(const ByteSource& volume);

/// Files are numbered by the byte of the volume where their first directory entry lies. Reader::Kernel wants what the
/// kernel's driver wants (fs/exfat/super.c): the boot region's checksum, a map of clusters in use in the root
/// directory. Errors: Malformed, Checksum, Unreadable.
Result<std::shared_ptr<const FileSystem>> open_exfat(const Source& volume, Reader reader);

}  // namespace herberge
