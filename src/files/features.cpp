// SPDX-License-Identifier: MIT
#include "files/features.hpp"

#include <fmt/format.h>
#include <charconv>

#include "files/ext_fs.hpp"

namespace herberge {

std::span<const IncompatibleFeature> incompatible_features() {
    using enum Family;
    namespace ext = ext::incompat;
    static constexpr IncompatibleFeature rows[] = {
        {Ext, ext::compression, "compression", no_kernel},
        {Ext, ext::filetype, "filetype", {}},
        {Ext, ext::recover, "needs_recovery", {}},
        {Ext, ext::journal_dev, "journal_dev", no_kernel},
        {Ext, ext::meta_bg, "meta_bg", {}},
        {Ext, ext::extents, "extent", {}},
        {Ext, ext::bit64, "64bit", {}},
        {Ext, ext::mmp, "mmp", {3, 0}},
        {Ext, ext::flex_bg, "flex_bg", {}},
        {Ext, ext::ea_inode, "ea_inode", {4, 13}},
        {Ext, ext::dirdata, "dirdata", no_kernel},
        {Ext, ext::csum_seed, "metadata_csum_seed", {4, 4}},
        {Ext, ext::largedir, "large_dir", {4, 13}},
        {Ext, ext::inline_data, "inline_data", {3, 8}},
        {Ext, ext::encrypt, "encrypt", {4, 1}},
        {Ext, ext::casefold, "casefold", {5, 2}},
        {Xfs, 0x1, "ftype", {3, 13}},
        {Xfs, 0x2, "sparse inodes", {4, 2}},
        {Xfs, 0x4, "meta_uuid", {4, 3}},
        {Xfs, 0x8, "bigtime", {5, 10}},
        {Xfs, 0x10, "needsrepair", {5, 11}},
        {Xfs, 0x20, "nrext64", {5, 19}},
        {Xfs, 0x40, "exchange", {6, 10}},
        {Xfs, 0x80, "parent", {6, 10}},
        {Xfs, 0x100, "metadir", {6, 13}},
        {Xfs, 0x200, "zoned", {6, 15}},
        {Xfs, 0x400, "zone_gaps", {6, 15}},
        {Btrfs, 0x1, "mixed_backref", {}},
        {Btrfs, 0x2, "default_subvol", {}},
        {Btrfs, 0x4, "mixed_groups", {}},
        {Btrfs, 0x8, "compress_lzo", {}},
        {Btrfs, 0x10, "compress_zstd", {4, 14}},
        {Btrfs, 0x20, "big_metadata", {3, 4}},
        {Btrfs, 0x40, "extended_iref", {3, 7}},
        {Btrfs, 0x80, "raid56", {3, 9}},
        {Btrfs, 0x100, "skinny_metadata", {3, 10}},
        {Btrfs, 0x200, "no_holes", {3, 14}},
        {Btrfs, 0x400, "metadata_uuid", {5, 0}},
        {Btrfs, 0x800, "raid1c34", {5, 5}},
        {Btrfs, 0x1000, "zoned", {5, 12}},
        {Btrfs, 0x2000, "extent_tree_v2", no_kernel},
        {Btrfs, 0x4000, "raid_stripe_tree", {6, 7}},
        {Btrfs, 0x10000, "simple_quota", {6, 7}},
    };
    return rows;
}

std::vector<std::string> incompatible_names(Family family, std::uint32_t bits) {
    std::vector<std::string> out;
    for (const auto& row : incompatible_features()) {
        if (row.family != family || (bits & row.bit) == 0) continue;
        out.emplace_back(row.name);
        bits &= ~row.bit;
    }
    if (bits != 0) out.push_back(fmt::format("unknown incompatible features 0x{:x}", bits));
    return out;
}

std::optional<KernelVersion> kernel_version(std::string_view release) {
    KernelVersion out;
    const char* const end = release.data() + release.size();
    const auto major = std::from_chars(release.data(), end, out.major);
    if (major.ec != std::errc{} || major.ptr == end || *major.ptr != '.') return std::nullopt;
    if (std::from_chars(major.ptr + 1, end, out.minor).ec != std::errc{}) return std::nullopt;
    return out;
}

std::uint32_t incompatible_known_to(Family family, KernelVersion version) {
    std::uint32_t out = 0;
    for (const auto& row : incompatible_features())
        if (row.family == family && row.since <= version) out |= row.bit;
    return out;
}

}  // namespace herberge
