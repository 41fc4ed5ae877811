// SPDX-License-Identifier: MIT
// ext2, ext3, ext4: recognising and opening. See Linux Documentation/filesystems/ext4.
#pragma once

#include <optional>

#include <herberge/files.hpp>

namespace herberge {

/// Judges by the primary superblock's magic number alone.
std::optional<VolumeInfo> recognise_ext(const ByteSource& volume);

Result<std::shared_ptr<const FileSystem>> open_ext(const Source& volume, Reader reader);

/// The superblock at the usual place is the primary one, not a copy in another group.
bool is_primary_ext(const ByteSource& volume);

/// A backup superblock in a volume whose primary one is gone.
struct ExtBackup {
    std::uint64_t offset = 0;  ///< bytes from the volume's start
    VolumeInfo info;
};
std::optional<ExtBackup> find_ext_backup(const ByteSource& volume);

}  // namespace herberge
