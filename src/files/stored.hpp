// SPDX-License-Identifier: MIT
// What several file systems store in the same way: marks, names of a fixed size, POSIX modes, types in directories.
#pragma once

#include <algorithm>
#include <array>
#include <span>
#include <string>
#include <string_view>

#include <herberge/files.hpp>

namespace herberge::stored {

inline bool begins(std::span<const std::uint8_t> bytes, std::string_view wanted) {
    return bytes.size() >= wanted.size() &&
           std::equal(wanted.begin(), wanted.end(), bytes.begin(),
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

/// Text up to the first zero byte, printable.
inline std::string fixed_text(std::span<const std::uint8_t> bytes) {
    return printable(std::string(bytes.begin(), std::ranges::find(bytes, std::uint8_t{0})));
}

/// The type bits of a POSIX mode.
inline FileType type_of_mode(std::uint32_t mode) {
    switch (mode & 0170000U) {
        case 0100000: return FileType::Regular;
        case 0040000: return FileType::Directory;
        case 0120000: return FileType::Symlink;
        case 0020000: return FileType::CharDevice;
        case 0060000: return FileType::BlockDevice;
        case 0010000: return FileType::Fifo;
        case 0140000: return FileType::Socket;
        default: return FileType::Unknown;
    }
}

/// The type that ext, XFS and Btrfs keep beside a name (kernel include/linux/fs_types.h, FT_…).
inline FileType type_in_directory(std::uint8_t type) {
    static constexpr std::array<FileType, 8> types = {FileType::Unknown,    FileType::Regular,     FileType::Directory,
                                                      FileType::CharDevice, FileType::BlockDevice, FileType::Fifo,
                                                      FileType::Socket,     FileType::Symlink};
    return type < types.size() ? types[type] : FileType::Unknown;
}

}  // namespace herberge::stored
