// SPDX-License-Identifier: MIT
// F2FS, the flash-friendly file system.
#pragma once

#include <herberge/files.hpp>

namespace herberge {

std::optional<VolumeInfo> recognise_f2fs(const ByteSource& volume);

/// Files are numbered by their inodes. The newer whole one of the two checkpoints counts; what was synced after it, and
/// the kernel would recover, is not looked at. Reader::Kernel checks the checksums of inodes that have one; for
/// Reader::Loader inodes with later fields are Unsupported, which loaders misread. Compressed and encrypted files are
/// Unsupported each by itself. Errors: Malformed, Unsupported (several devices, blocks of other sizes), Unreadable.
Result<std::shared_ptr<const FileSystem>> open_f2fs(const Source& volume, Reader reader);

}  // namespace herberge
