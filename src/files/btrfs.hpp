// SPDX-License-Identifier: MIT
// Btrfs on one device or several.
#pragma once

#include <span>

#include <herberge/files.hpp>

namespace herberge {

std::optional<VolumeInfo> recognise_btrfs(const ByteSource& volume);

/// The root is that of the top; subvolumes are directories in it. Reader::Kernel checks the checksums of trees. What a
/// log that was not replayed would still change is not looked at. `others`: the other devices of the file system that
/// are there; one that belongs to another file system is passed over. Errors: Malformed, Checksum, Unsupported
/// (features or checksums that are not known here), Unreadable (what is needed lies on a device that is not there).
Result<std::shared_ptr<const FileSystem>> open_btrfs(const Source& volume, Reader reader,
                                                     std::span<const Source> others);

/// How many devices the Btrfs on `volume` has by its superblock, and which of them this is; none: no Btrfs.
struct BtrfsDevices {
    std::uint64_t count = 0;
    std::uint64_t number = 0;
};
std::optional<BtrfsDevices> btrfs_devices(const ByteSource& volume);

}  // namespace herberge
