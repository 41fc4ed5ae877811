// SPDX-License-Identifier: MIT
// Incompatible features of file systems: a driver that does not know one of them refuses the whole.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/files.hpp>

namespace herberge {

/// A version of Linux; 0.0 is older than all.
struct KernelVersion {
    int major = 0;
    int minor = 0;
    friend constexpr bool operator<=(const KernelVersion& a, const KernelVersion& b) {
        return a.major != b.major ? a.major < b.major : a.minor <= b.minor;
    }
};
inline constexpr KernelVersion no_kernel{1 << 20, 0};

struct IncompatibleFeature {
    Family family;
    std::uint32_t bit;
    std::string_view name;
    KernelVersion since;  ///< the first whose driver mounts it; no_kernel: none does
};

/// "6.1.0-50-amd64" is 6.1; none: no such beginning.
[[nodiscard]] std::optional<KernelVersion> kernel_version(std::string_view release);

/// The table, from fs/ext4/ext4.h, fs/xfs/libxfs/xfs_format.h, fs/btrfs/fs.h and their histories.
[[nodiscard]] std::span<const IncompatibleFeature> incompatible_features();
/// The names of `bits`, in the order of the bits; those without a name together as "unknown incompatible features 0x…".
[[nodiscard]] std::vector<std::string> incompatible_names(Family family, std::uint32_t bits);
/// All bits that the driver of a version mounts.
[[nodiscard]] std::uint32_t incompatible_known_to(Family family, KernelVersion version);

}  // namespace herberge
