// SPDX-License-Identifier: MIT
// What servers lie on: mirrored disks and XFS.
#pragma once

#include "forge.hpp"

namespace forge {

struct MirrorOptions {
    std::string name = "0";  ///< of the array, up to 31 bytes
    std::array<std::uint8_t, 16> uuid{};
    std::uint64_t events = 17;
};
/// A member of a RAID 1 of two, metadata 1.2 (kernel include/uapi/linux/raid/md_p.h): `role` is 0 or 1. The content is
/// that of the array, in whole sectors.
Bytes make_mirror(const Bytes& content, unsigned role, const MirrorOptions& options);
/// Byte of a member where the array's content begins.
inline constexpr std::size_t mirror_data_at = std::size_t{1} << 20U;

struct XfsOptions {
    std::uint64_t size = std::uint64_t{16} << 20U;  ///< bytes, whole blocks of 4 KiB
    std::array<std::uint8_t, 16> uuid{};
    std::string label;  ///< up to 12 bytes
};
/// A whole XFS of version 5 with one allocation group and a clean log. Directories of more than a block (some 100
/// names) and links above 336 bytes are not written. Throws std::runtime_error if something does not fit: a mistake of
/// the caller.
Bytes make_xfs(const Tree& tree, const XfsOptions& options);

}  // namespace forge
