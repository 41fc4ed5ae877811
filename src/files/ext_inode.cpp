// SPDX-License-Identifier: MIT
// ext2/3/4: inodes and where their blocks lie.
#include <fmt/format.h>
#include <algorithm>

#include "bytes/lost.hpp"
#include "files/ext_fs.hpp"
#include "files/stored.hpp"

namespace herberge::ext {

namespace {

/// Mapping nodes (extent or indirect blocks) one file may use before it is taken for hostile.
constexpr std::size_t most_nodes = 65536;
constexpr std::uint16_t extent_magic = 0xF30A;
constexpr std::uint32_t unwritten_limit = 32768;

std::uint32_t chain_u32(std::uint32_t sum, std::uint32_t value) {
    const ondisk::little_uint32_t stored(value);
    return crc32c(sum, std::span(reinterpret_cast<const std::uint8_t*>(&stored), 4));
}

}  // namespace

std::uint64_t Inode::size() const { return head.size_low | std::uint64_t{head.size_high} << 32U; }

FileType Inode::type() const { return stored::type_of_mode(head.mode); }

struct ExtFs::Mapping {
    std::vector<Extent> extents;
    std::size_t nodes = 0;
    std::uint64_t wanted = 0;  ///< blocks of the file that matter

    /// Adds a run, joined with the previous one where both continue.
    void add(std::uint64_t offset, std::uint64_t length, std::uint64_t base) {
        if (!extents.empty()) {
            auto& last = extents.back();
            if (last.offset + last.length == offset && last.base_offset + last.length == base) {
                last.length += length;
                return;
            }
        }
        extents.push_back({offset, length, base});
    }
};

Result<std::uint64_t> ExtFs::inode_offset(FileId number) const {
    if (number == 0 || number > super_.inodes_count)
        return fail(ErrorKind::Malformed, "an inode number outside the file system", inode_place(number),
                    fmt::format("1 to {}", static_cast<std::uint32_t>(super_.inodes_count)));
    const auto group_number = static_cast<std::uint32_t>((number - 1) / super_.inodes_per_group);
    if (group_number >= groups_)
        return fail(ErrorKind::Malformed, "an inode in a block group that does not exist", inode_place(number));
    const auto descriptor = group(group_number);
    if (!descriptor) return tl::unexpected(descriptor.error());
    const std::uint64_t table = group_field(descriptor->inode_table_low, descriptor->inode_table_high);
    if (table >= blocks_)
        return fail(ErrorKind::Malformed, "an inode table outside the file system", inode_place(number),
                    fmt::format("a block below {}", blocks_), fmt::format("block {}", table));
    return table * block_size_ + ((number - 1) % super_.inodes_per_group) * inode_size_;
}

/// Only for file systems with metadata_csum.
ExtFs::InodeChecksum ExtFs::inode_checksum(const Inode& inode) const {
    constexpr std::size_t low_at = offsetof(ondisk::ExtInode, checksum_low);
    auto raw = inode.raw;
    raw[low_at] = raw[low_at + 1] = 0;
    InodeChecksum out;
    out.stored = inode.head.checksum_low;
    if (inode_size_ > 128) {
        const auto extra = ondisk::from_bytes<ondisk::ExtInodeExtra>(inode.raw, 128);
        if (extra.extra_isize >= 4) {
            out.whole = true;
            out.stored |= std::uint32_t{extra.checksum_high} << 16U;
            raw[130] = raw[131] = 0;
        }
    }
    out.computed = crc32c(inode_seed(inode), raw);
    if (!out.whole) out.computed &= 0xFFFFU;
    return out;
}

Result<Inode> ExtFs::inode(FileId number) const {
    const auto at = inode_offset(number);
    if (!at) return tl::unexpected(at.error());
    Inode out;
    out.number = number;
    out.raw.resize(inode_size_);
    if (auto done = volume_->read(*at, out.raw); !done) return tl::unexpected(done.error());
    // The kernel reads the whole block that it lies in (fs/ext4/inode.c, __ext4_get_inode_loc).
    if (reader_ == Reader::Kernel)
        if (auto lost = lost_within(*volume_, *at / block_size_ * block_size_, block_size_))
            return tl::unexpected(std::move(*lost));
    out.head = ondisk::from_bytes<ondisk::ExtInode>(out.raw);
    if (checks_metadata()) {
        const auto sum = inode_checksum(out);
        if (sum.computed != sum.stored)
            return fail(ErrorKind::Checksum, "the inode fails its checksum", inode_place(number),
                        fmt::format("{:08x}", sum.computed), fmt::format("{:08x}", sum.stored));
    }
    return out;
}

namespace {
void put(std::vector<std::uint8_t>& raw, std::size_t where, std::uint32_t value, std::size_t bytes) {
    for (std::size_t i = 0; i < bytes; ++i) raw[where + i] = static_cast<std::uint8_t>(value >> (8 * i));
}
}  // namespace

Result<Inode> ExtFs::changeable(FileId file) const {
    if (has_incompat(incompat::recover))
        return fail(ErrorKind::Unsupported, "the journal is not empty: the kernel would replay it over the change",
                    volume_->place());
    return inode(file);
}

Result<std::vector<VolumeEdit>> ExtFs::written_back(Inode inode) const {
    const auto at = inode_offset(inode.number);
    if (!at) return tl::unexpected(at.error());
    inode.head = ondisk::from_bytes<ondisk::ExtInode>(inode.raw);
    if (has_ro_compat(ro_compat::metadata_csum)) {
        const auto sum = inode_checksum(inode);
        put(inode.raw, offsetof(ondisk::ExtInode, checksum_low), sum.computed, 2);
        if (sum.whole) put(inode.raw, 130, sum.computed >> 16U, 2);
    }
    return std::vector<VolumeEdit>{{*at, std::move(inode.raw)}};
}

Result<std::vector<VolumeEdit>> ExtFs::resized(FileId file, std::uint64_t size) const {
    auto found = changeable(file);
    if (!found) return tl::unexpected(found.error());
    constexpr std::uint32_t elsewhere = inode_flag::inline_data | inode_flag::encrypted;
    if (found->type() != FileType::Regular || (found->flags() & elsewhere) != 0)
        return fail(ErrorKind::Unsupported, "not a plain file with blocks of its own", inode_place(file));
    const auto blocks = [&](std::uint64_t bytes) { return bytes / block_size_ + (bytes % block_size_ != 0 ? 1U : 0U); };
    if (blocks(size) != blocks(found->size()))
        return fail(ErrorKind::TooLarge, "the file would need another number of blocks", inode_place(file),
                    fmt::format("{}", blocks(found->size())), fmt::format("{}", blocks(size)));
    put(found->raw, offsetof(ondisk::ExtInode, size_low), static_cast<std::uint32_t>(size), 4);
    put(found->raw, offsetof(ondisk::ExtInode, size_high), static_cast<std::uint32_t>(size >> 32U), 4);
    return written_back(std::move(*found));
}

Result<std::vector<VolumeEdit>> ExtFs::with_permissions(FileId file, std::uint32_t permissions) const {
    auto found = changeable(file);
    if (!found) return tl::unexpected(found.error());
    put(found->raw, offsetof(ondisk::ExtInode, mode), (found->head.mode & 0xF000U) | (permissions & 07777U), 2);
    return written_back(std::move(*found));
}

std::uint32_t ExtFs::inode_seed(const Inode& inode) const {
    return chain_u32(chain_u32(seed_, static_cast<std::uint32_t>(inode.number)), inode.head.generation);
}

Result<FileInfo> ExtFs::stat(FileId file) const {
    const auto found = inode(file);
    if (!found) return tl::unexpected(found.error());
    FileInfo out;
    out.id = file;
    out.type = found->type();
    out.size = found->size();
    out.permissions = found->head.mode & 07777U;
    out.uid = found->head.uid_low | std::uint32_t{found->head.uid_high} << 16U;
    out.gid = found->head.gid_low | std::uint32_t{found->head.gid_high} << 16U;
    out.modified = static_cast<std::int32_t>(static_cast<std::uint32_t>(found->head.modify_time));
    return out;
}

Result<void> ExtFs::map_extent_node(const Inode& inode, std::span<const std::uint8_t> node, int depth,
                                    Mapping& out) const {
    const auto header = ondisk::from_bytes<ondisk::ExtExtentHeader>(node);
    auto damaged = [&](std::string what, std::string found = {}) {
        return fail(ErrorKind::Malformed, std::move(what), inode_place(inode.number), {}, std::move(found));
    };
    if (header.magic != extent_magic)
        return damaged("an extent node without its magic number",
                       fmt::format("0x{:04x}", static_cast<unsigned>(header.magic)));
    if (header.depth != depth)
        return damaged("an extent node of the wrong depth", fmt::format("{}", static_cast<unsigned>(header.depth)));
    if (header.entries > (node.size() - sizeof(header)) / sizeof(ondisk::ExtExtent))
        return damaged("an extent node with more entries than fit",
                       fmt::format("{}", static_cast<unsigned>(header.entries)));
    for (std::size_t i = 0; i < header.entries; ++i) {
        const std::size_t at = sizeof(header) + i * sizeof(ondisk::ExtExtent);
        if (depth == 0) {
            const auto extent = ondisk::from_bytes<ondisk::ExtExtent>(node, at);
            std::uint64_t length = extent.length;
            const bool unwritten = length > unwritten_limit;
            if (unwritten) length -= unwritten_limit;
            const std::uint64_t start = extent.start_low | std::uint64_t{extent.start_high} << 32U;
            if (start + length > blocks_)
                return damaged("an extent outside the file system",
                               fmt::format("blocks {} to {}", start, start + length));
            const std::uint64_t logical = extent.block;
            if (!out.extents.empty() && logical * block_size_ < out.extents.back().offset + out.extents.back().length)
                return damaged("extents out of order");
            if (logical >= out.wanted || unwritten) continue;
            out.add(logical * block_size_, std::min(length, out.wanted - logical) * block_size_, start * block_size_);
            continue;
        }
        const auto index = ondisk::from_bytes<ondisk::ExtExtentIndex>(node, at);
        const std::uint64_t child = index.leaf_low | std::uint64_t{index.leaf_high} << 32U;
        if (child >= blocks_) return damaged("an extent index outside the file system", fmt::format("block {}", child));
        if (++out.nodes > most_nodes) return damaged("an extent tree without end");
        const auto block = volume_->bytes(child * block_size_, block_size_);
        if (!block) return tl::unexpected(block.error());
        if (checks_metadata()) {
            const auto below = ondisk::from_bytes<ondisk::ExtExtentHeader>(*block);
            const std::size_t tail = sizeof(below) + std::size_t{below.capacity} * sizeof(ondisk::ExtExtent);
            if (tail + 4 <= block->size() && crc32c(inode_seed(inode), std::span(*block).first(tail)) !=
                                                 ondisk::from_bytes<ondisk::little_uint32_t>(*block, tail))
                return fail(ErrorKind::Checksum, fmt::format("extent block {} fails its checksum", child),
                            inode_place(inode.number));
        }
        if (auto done = map_extent_node(inode, *block, depth - 1, out); !done) return done;
    }
    return {};
}

Result<void> ExtFs::map_indirect(std::uint32_t block, int level, std::uint64_t& logical, Mapping& out) const {
    const std::uint64_t per_block = block_size_ / 4;
    if (logical >= out.wanted) return {};
    if (level == 0) {
        if (block != 0) {
            if (block >= blocks_)
                return fail(ErrorKind::Malformed, "a block outside the file system", volume_->place(),
                            fmt::format("below {}", blocks_), fmt::format("{}", block));
            out.add(logical * block_size_, block_size_, std::uint64_t{block} * block_size_);
        }
        ++logical;
        return {};
    }
    if (block == 0) {
        std::uint64_t span = 1;
        for (int i = 0; i < level; ++i) span *= per_block;
        logical += span;
        return {};
    }
    if (block >= blocks_ || ++out.nodes > most_nodes)
        return fail(ErrorKind::Malformed, "an indirect block outside the file system or without end", volume_->place());
    const auto node = volume_->bytes(std::uint64_t{block} * block_size_, block_size_);
    if (!node) return tl::unexpected(node.error());
    for (std::uint64_t i = 0; i < per_block && logical < out.wanted; ++i)
        if (auto done =
                map_indirect(ondisk::from_bytes<ondisk::little_uint32_t>(*node, i * 4), level - 1, logical, out);
            !done)
            return done;
    return {};
}

Result<std::vector<Extent>> ExtFs::map(const Inode& inode) const {
    Mapping out;
    out.wanted = inode.size() / block_size_ + (inode.size() % block_size_ != 0 ? 1U : 0U);
    if ((inode.flags() & inode_flag::extents) != 0) {
        const auto header = ondisk::from_bytes<ondisk::ExtExtentHeader>(inode.head.block);
        if (header.depth > 5)
            return fail(ErrorKind::Malformed, "an extent tree deeper than five levels", inode_place(inode.number));
        if (auto done = map_extent_node(inode, inode.head.block, header.depth, out); !done)
            return tl::unexpected(done.error());
        return out.extents;
    }
    std::uint64_t logical = 0;
    for (std::size_t i = 0; i < 15; ++i) {
        const auto block = ondisk::from_bytes<ondisk::little_uint32_t>(inode.head.block, i * 4);
        const int level = i < 12 ? 0 : static_cast<int>(i) - 11;
        if (auto done = map_indirect(block, level, logical, out); !done) return tl::unexpected(done.error());
    }
    return out.extents;
}

/// Inline data: the first 60 bytes lie in the block area, the rest in the attribute "system.data" behind the inode.
Result<std::vector<std::uint8_t>> ExtFs::inline_content(const Inode& inode) const {
    std::vector<std::uint8_t> out(inode.head.block.begin(), inode.head.block.end());
    const auto& raw = inode.raw;
    if (inode_size_ > 128 + 4) {
        const auto extra = ondisk::from_bytes<ondisk::ExtInodeExtra>(raw, 128);
        const std::size_t start = 128U + extra.extra_isize;
        if (start + 4 <= raw.size() && ondisk::from_bytes<ondisk::little_uint32_t>(raw, start) == 0xEA020000U) {
            const std::size_t first = start + 4;
            std::size_t at = first;
            // Four zero bytes end the list.
            while (at + sizeof(ondisk::ExtAttribute) <= raw.size() &&
                   ondisk::from_bytes<ondisk::little_uint32_t>(raw, at) != 0) {
                const auto entry = ondisk::from_bytes<ondisk::ExtAttribute>(raw, at);
                const std::size_t value_at = first + entry.value_at;
                const std::size_t value_size = entry.value_size;
                const bool is_data = entry.name_index == 7 && entry.name_length == 4 && at + 20 <= raw.size() &&
                                     std::memcmp(raw.data() + at + sizeof(entry), "data", 4) == 0;
                if (is_data) {
                    if (value_at > raw.size() || value_size > raw.size() - value_at)
                        return fail(ErrorKind::Malformed, "inline data reaches past its inode",
                                    inode_place(inode.number));
                    out.insert(out.end(), raw.begin() + static_cast<std::ptrdiff_t>(value_at),
                               raw.begin() + static_cast<std::ptrdiff_t>(value_at + value_size));
                    break;
                }
                at += (sizeof(entry) + entry.name_length + 3) & ~std::size_t{3};
            }
        }
    }
    return out;
}

Result<std::vector<std::uint8_t>> ExtFs::content(const Inode& inode, std::uint64_t most) const {
    if ((inode.flags() & inode_flag::inline_data) != 0) {
        auto out = inline_content(inode);
        if (out && inode.type() != FileType::Directory && out->size() > inode.size()) out->resize(inode.size());
        return out;
    }
    const auto runs = map(inode);
    if (!runs) return tl::unexpected(runs.error());
    return extent_source(volume_, *runs, inode.size(), inode_place(inode.number))->bytes(0, inode.size(), most);
}

Result<std::string> ExtFs::link_target(FileId link) const {
    const auto found = inode(link);
    if (!found) return tl::unexpected(found.error());
    if (found->type() != FileType::Symlink) return fail(ErrorKind::WrongType, "not a symbolic link", inode_place(link));
    if (found->size() == 0 || found->size() > 65536)
        return fail(ErrorKind::Malformed, "a symbolic link of impossible length", inode_place(link), {},
                    fmt::format("{} bytes", found->size()));
    const bool fast = found->size() < found->head.block.size() &&
                      (found->flags() & (inode_flag::extents | inode_flag::inline_data)) == 0;
    if (fast)
        return std::string(reinterpret_cast<const char*>(found->head.block.data()),
                           static_cast<std::size_t>(found->size()));
    if ((found->flags() & inode_flag::encrypted) != 0)
        return fail(ErrorKind::Unsupported, "the link is encrypted", inode_place(link));
    const auto bytes = content(*found, 65536);
    if (!bytes) return tl::unexpected(bytes.error());
    // The kernel takes the target as a C string.
    return std::string(bytes->begin(), std::ranges::find(*bytes, std::uint8_t{0}));
}

Result<Source> ExtFs::open(FileId file, std::string place) const {
    const auto found = inode(file);
    if (!found) return tl::unexpected(found.error());
    if (found->type() == FileType::Directory)
        return fail(ErrorKind::WrongType, "a directory, not a file", std::move(place));
    if ((found->flags() & inode_flag::encrypted) != 0)
        return fail(ErrorKind::Unsupported, "the file is encrypted", std::move(place));
    if ((found->flags() & inode_flag::inline_data) != 0) {
        auto bytes = content(*found, std::uint64_t{1} << 20U);
        if (!bytes) return tl::unexpected(bytes.error());
        return memory_source(std::move(*bytes), std::move(place));
    }
    auto runs = map(*found);
    if (!runs) return tl::unexpected(runs.error());
    return extent_source(volume_, std::move(*runs), found->size(), std::move(place));
}

Result<std::vector<Extent>> ExtFs::extents(FileId file) const {
    const auto found = inode(file);
    if (!found) return tl::unexpected(found.error());
    if ((found->flags() & inode_flag::inline_data) != 0) return std::vector<Extent>{};
    return map(*found);
}

}  // namespace herberge::ext
