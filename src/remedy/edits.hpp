// SPDX-License-Identifier: MIT
// Changes to what lies on disks, made in a workshop.
#pragma once

#include <span>
#include <string>
#include <string_view>

#include <herberge/change.hpp>

namespace herberge::remedy {

/// The only active partition of an MBR disk. Errors: Unsupported (a logical partition, a GPT).
Result<void> make_active(Workshop& shop, const Disk& disk, const Partition& partition);

/// Another UUID or serial for the file system of a volume: ext, FAT, NTFS, swap. Its backup copies are left alone.
/// Errors: Unsupported, Malformed (not such an identifier).
Result<void> set_identifier(Workshop& shop, const Volume& volume, std::string_view identifier);

/// Another content for a file: of the same size, or as large as the blocks that it has. Errors: NotFound, Unsupported
/// (the bytes do not lie on a disk as they are, or the file system guards them), TooLarge.
Result<void> set_content(Workshop& shop, std::string_view volume, const std::string& path,
                         std::span<const std::uint8_t> content);

/// A file with this content at `path`, in free blocks; folders on the way to it that are not there are made, a file
/// that is there is replaced. Errors: NotFound, TooLarge (no room), Unsupported (the file system).
Result<void> put_file(Workshop& shop, std::string_view volume, const std::string& path,
                      std::span<const std::uint8_t> content);

/// An empty folder at `path`, in a folder that is there. Errors: as put_file; WrongType (the name is taken).
Result<void> put_folder(Workshop& shop, std::string_view volume, const std::string& path);

/// A symbolic link at `path`, in a folder that is there. Errors: as put_file; WrongType (the name is taken).
Result<void> put_link(Workshop& shop, std::string_view volume, const std::string& path, std::string_view target);

/// Another name in the same folder for a file or folder. Errors: NotFound, WrongType (the name is taken), Unsupported.
Result<void> rename_file(Workshop& shop, std::string_view volume, const std::string& path, const std::string& name);

/// Other permissions for a file (the POSIX mode's lower 12 bits).
Result<void> set_permissions(Workshop& shop, std::string_view volume, const std::string& path,
                             std::uint32_t permissions);

/// A name that nobody finds any more: its directory entry gets a name that nothing asks for. Its blocks stay in use.
/// Errors: as above.
Result<void> hide_file(Workshop& shop, std::string_view volume, const std::string& path);

}  // namespace herberge::remedy
