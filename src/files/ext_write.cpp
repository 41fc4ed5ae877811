// SPDX-License-Identifier: MIT
// ext2/3/4: what has to change for a directory to have another file: inode, blocks, bitmaps, counters, checksums.
#include <fmt/format.h>
#include <algorithm>
#include <cstring>
#include <map>

#include "files/ext_fs.hpp"

namespace herberge::ext {

namespace {

constexpr std::uint64_t super_offset = 1024;
constexpr std::uint16_t inode_uninit = 1, block_uninit = 2;
constexpr std::uint32_t quota = 0x100, project_quota = 0x2000;
constexpr std::size_t most_extents = 4;    ///< that lie in the inode itself
constexpr std::size_t direct_blocks = 12;  ///< … in a file system without extents
/// In a descriptor of 64 bytes: the upper halves of its counters and checksums.
constexpr std::size_t free_blocks_high = 0x2C, free_inodes_high = 0x2E, unused_inodes_high = 0x32,
                      used_dirs_high = 0x30, block_checksum_high = 0x38, inode_checksum_high = 0x3A;

template <class T>
std::vector<std::uint8_t> bytes_of(const T& value) {
    const auto* begin = reinterpret_cast<const std::uint8_t*>(&value);
    return {begin, begin + sizeof(value)};
}
std::uint32_t get16(const std::vector<std::uint8_t>& raw, std::size_t at) {
    return raw[at] | std::uint32_t{raw[at + 1]} << 8U;
}
void put16(std::vector<std::uint8_t>& raw, std::size_t at, std::uint32_t value) {
    raw[at] = static_cast<std::uint8_t>(value);
    raw[at + 1] = static_cast<std::uint8_t>(value >> 8U);
}
bool bit(const std::vector<std::uint8_t>& map, std::uint64_t index) {
    return (map[index / 8] >> (index % 8) & 1U) != 0;
}
void set_bit(std::vector<std::uint8_t>& map, std::uint64_t index, bool to) {
    const auto mask = static_cast<std::uint8_t>(1U << (index % 8));
    map[index / 8] = static_cast<std::uint8_t>(to ? map[index / 8] | mask : map[index / 8] & ~mask);
}
std::size_t padded(std::size_t size) { return (size + 3) / 4 * 4; }

struct Run {
    std::uint64_t start = 0, blocks = 0;
};

/// Writes into an inode where its blocks lie: as extents, or one after the other where the file system has none.
void list_blocks(ondisk::ExtInode& inode, const std::vector<Run>& runs) {
    const bool extents = (inode.flags & inode_flag::extents) != 0;
    inode.block.fill(0);
    ondisk::ExtExtentHeader header{};
    header.magic = 0xF30A;
    header.entries = static_cast<std::uint16_t>(runs.size());
    header.capacity = most_extents;
    if (extents) std::memcpy(inode.block.data(), &header, sizeof(header));
    std::uint64_t logical = 0;
    for (std::size_t i = 0; i < runs.size(); ++i) {
        const auto& run = runs[i];
        ondisk::ExtExtent extent{};
        extent.block = static_cast<std::uint32_t>(logical);
        extent.length = static_cast<std::uint16_t>(run.blocks);
        extent.start_low = static_cast<std::uint32_t>(run.start);
        extent.start_high = static_cast<std::uint16_t>(run.start >> 32U);
        if (extents) std::memcpy(inode.block.data() + sizeof(header) + i * sizeof(extent), &extent, sizeof(extent));
        for (std::uint64_t b = 0; !extents && b < run.blocks; ++b) {
            const ondisk::little_uint32_t block(static_cast<std::uint32_t>(run.start + b));
            std::memcpy(inode.block.data() + (logical + b) * sizeof(block), &block, sizeof(block));
        }
        logical += run.blocks;
    }
}

/// An entry of a directory's block.
void put_entry(std::vector<std::uint8_t>& block, std::size_t at, FileId file, std::string_view name, std::size_t length,
               std::uint8_t type) {
    ondisk::ExtDirEntry entry{};
    entry.inode = static_cast<std::uint32_t>(file);
    entry.record_length = static_cast<std::uint16_t>(length);
    entry.name_length = static_cast<std::uint8_t>(name.size());
    entry.file_type = type;
    std::memcpy(block.data() + at, &entry, sizeof(entry));
    std::memcpy(block.data() + at + sizeof(entry), name.data(), name.size());
}

}  // namespace

/// Block groups under change.
struct ExtFs::Draft {
    struct Group {
        std::vector<std::uint8_t> descriptor, blocks, inodes;
        std::uint64_t blocks_at = 0, inodes_at = 0;
    };
    const ExtFs& fs;
    std::map<std::uint32_t, Group> groups;
    std::int64_t blocks_taken = 0, inodes_taken = 0;

    Result<Group*> group(std::uint32_t number) {
        if (const auto known = groups.find(number); known != groups.end()) return &known->second;
        Group out;
        out.descriptor.resize(fs.descriptor_size_);
        if (auto done = fs.volume_->read(fs.descriptor_offset(number), out.descriptor); !done)
            return tl::unexpected(done.error());
        const auto head = fs.group(number);
        if (!head) return tl::unexpected(head.error());
        out.blocks_at = fs.group_field(head->block_bitmap_low, head->block_bitmap_high) * fs.block_size_;
        out.inodes_at = fs.group_field(head->inode_bitmap_low, head->inode_bitmap_high) * fs.block_size_;
        auto blocks = fs.volume_->bytes(out.blocks_at, fs.block_size_);
        auto inodes = fs.volume_->bytes(out.inodes_at, fs.block_size_);
        if (!blocks || !inodes) return tl::unexpected(!blocks ? blocks.error() : inodes.error());
        out.blocks = std::move(*blocks);
        out.inodes = std::move(*inodes);
        return &groups.emplace(number, std::move(out)).first->second;
    }
    static bool has(const Group& group, std::uint16_t flag) {
        return (get16(group.descriptor, offsetof(ondisk::ExtGroup, flags)) & flag) != 0;
    }
    /// A counter of 32 bits in two halves.
    void count(Group& group, std::size_t low, std::size_t high, std::int64_t by) const {
        const bool wide = fs.descriptor_size_ >= 64;
        const std::uint32_t now = get16(group.descriptor, low) | (wide ? get16(group.descriptor, high) << 16U : 0U);
        const auto then = static_cast<std::uint32_t>(static_cast<std::int64_t>(now) + by);
        put16(group.descriptor, low, then);
        if (wide) put16(group.descriptor, high, then >> 16U);
    }

    Result<FileId> take_inode(std::uint32_t first) {
        const std::uint32_t per_group = fs.super_.inodes_per_group;
        for (std::uint32_t i = 0; i < fs.groups_; ++i) {
            const std::uint32_t number = (first + i) % fs.groups_;
            auto held = group(number);
            if (!held) return tl::unexpected(held.error());
            Group& g = **held;
            if (has(g, inode_uninit)) continue;
            for (std::uint32_t index = 0; index < per_group && index / 8 < g.inodes.size(); ++index) {
                const FileId id = FileId{number} * per_group + index + 1;
                const std::uint32_t reserved =
                    fs.super_.revision != 0 ? std::uint32_t{fs.super_.reserved_for.first_inode} : 11U;
                if (bit(g.inodes, index) || id < reserved) continue;
                set_bit(g.inodes, index, true);
                count(g, offsetof(ondisk::ExtGroup, free_inodes_low), free_inodes_high, -1);
                const bool wide = fs.descriptor_size_ >= 64;
                constexpr std::size_t low = offsetof(ondisk::ExtGroup, unused_inodes_low);
                const std::uint32_t unused =
                    get16(g.descriptor, low) | (wide ? get16(g.descriptor, unused_inodes_high) << 16U : 0U);
                if (unused > per_group - index - 1)
                    count(g, low, unused_inodes_high,
                          static_cast<std::int64_t>(per_group - index - 1) - static_cast<std::int64_t>(unused));
                ++inodes_taken;
                return id;
            }
        }
        return fail(ErrorKind::TooLarge, "no inode is free", fs.volume_->place());
    }

    [[nodiscard]] std::uint64_t first_block(std::uint32_t number) const {
        return fs.super_.first_data_block + std::uint64_t{number} * fs.super_.blocks_per_group;
    }
    Result<void> mark(std::uint64_t block, bool used) {
        const auto number =
            static_cast<std::uint32_t>((block - fs.super_.first_data_block) / fs.super_.blocks_per_group);
        auto held = group(number);
        if (!held) return tl::unexpected(held.error());
        const std::uint64_t index = block - first_block(number);
        if (index / 8 >= (*held)->blocks.size())
            return fail(ErrorKind::Malformed, "a block outside its group", fs.volume_->place());
        set_bit((*held)->blocks, index, used);
        count(**held, offsetof(ondisk::ExtGroup, free_blocks_low), free_blocks_high, used ? -1 : 1);
        blocks_taken += used ? 1 : -1;
        return {};
    }
    /// Free blocks in at most four runs.
    Result<std::vector<Run>> take_blocks(std::uint64_t wanted, std::uint32_t first) {
        std::vector<Run> out;
        const std::uint64_t least = (wanted + most_extents - 1) / most_extents;
        for (std::uint32_t i = 0; i < fs.groups_ && wanted > 0; ++i) {
            const std::uint32_t number = (first + i) % fs.groups_;
            auto held = group(number);
            if (!held) return tl::unexpected(held.error());
            if (has(**held, block_uninit)) continue;
            const std::uint64_t base = first_block(number);
            const std::uint64_t end = std::min<std::uint64_t>(fs.super_.blocks_per_group, fs.blocks_ - base);
            Run run;
            for (std::uint64_t index = 0; index <= end && wanted > 0; ++index) {
                if (index < end && index / 8 < (*held)->blocks.size() && !bit((*held)->blocks, index)) {
                    if (run.blocks++ == 0) run.start = base + index;
                    if (run.blocks < std::min<std::uint64_t>(wanted, 32768)) continue;
                }
                if (run.blocks >= std::min(least, wanted) && run.blocks > 0) {
                    wanted -= run.blocks;
                    out.push_back(run);
                    for (std::uint64_t b = 0; b < run.blocks; ++b)
                        if (auto done = mark(run.start + b, true); !done) return tl::unexpected(done.error());
                }
                run = {};
            }
        }
        if (wanted > 0 || out.size() > most_extents)
            return fail(ErrorKind::TooLarge, "the volume has no room for the file in few pieces", fs.volume_->place());
        return out;
    }

    /// What changed of groups and superblock.
    void add_edits(std::vector<VolumeEdit>& out) {
        for (auto& changed : groups) {
            const std::uint32_t number = changed.first;
            Group& g = changed.second;
            if (fs.has_ro_compat(ro_compat::metadata_csum)) {
                const auto sum = [&](const std::vector<std::uint8_t>& map, std::uint32_t bits, std::size_t low,
                                     std::size_t high) {
                    const std::uint32_t value =
                        crc32c(fs.seed_, std::span(map).first(std::min<std::size_t>(bits / 8, map.size())));
                    put16(g.descriptor, low, value);
                    if (fs.descriptor_size_ >= 64) put16(g.descriptor, high, value >> 16U);
                };
                if (!has(g, block_uninit))
                    sum(g.blocks, fs.super_.clusters_per_group, offsetof(ondisk::ExtGroup, block_bitmap_checksum_low),
                        block_checksum_high);
                if (!has(g, inode_uninit))
                    sum(g.inodes, fs.super_.inodes_per_group, offsetof(ondisk::ExtGroup, inode_bitmap_checksum_low),
                        inode_checksum_high);
            }
            if (const auto checksum = fs.group_checksum(number, g.descriptor))
                put16(g.descriptor, offsetof(ondisk::ExtGroup, checksum), *checksum);
            out.push_back({fs.descriptor_offset(number), g.descriptor});
            out.push_back({g.blocks_at, g.blocks});
            out.push_back({g.inodes_at, g.inodes});
        }
        auto super = fs.super_;
        const std::uint64_t free = (super.free_blocks_low | std::uint64_t{super.free_blocks_high} << 32U) -
                                   static_cast<std::uint64_t>(blocks_taken);
        super.free_blocks_low = static_cast<std::uint32_t>(free);
        if (fs.has_incompat(incompat::bit64)) super.free_blocks_high = static_cast<std::uint32_t>(free >> 32U);
        super.free_inodes = static_cast<std::uint32_t>(super.free_inodes - inodes_taken);
        auto raw = bytes_of(super);
        if (fs.has_ro_compat(ro_compat::metadata_csum)) {
            super.checksum = crc32c(0xFFFFFFFFU, std::span(raw).first(offsetof(ondisk::ExtSuper, checksum)));
            raw = bytes_of(super);
        }
        out.push_back({super_offset, std::move(raw)});
    }
};

/// The blocks that a node of a file's tree of extents lists, and those of the nodes below it.
Result<void> ExtFs::release_node(std::span<const std::uint8_t> node, int depth, FileId file, Draft& draft) const {
    const auto header = ondisk::from_bytes<ondisk::ExtExtentHeader>(node);
    const auto outside = [&]() -> Result<void> {
        return fail(ErrorKind::Malformed, "a damaged tree of extents", inode_place(file));
    };
    if (header.magic != 0xF30A || header.depth != depth || depth > 4 ||
        header.entries > (node.size() - sizeof(header)) / sizeof(ondisk::ExtExtent))
        return outside();
    for (std::size_t i = 0; i < header.entries; ++i) {
        const std::size_t at = sizeof(header) + i * sizeof(ondisk::ExtExtent);
        std::uint64_t start = 0, length = 1;
        if (depth == 0) {
            const auto extent = ondisk::from_bytes<ondisk::ExtExtent>(node, at);
            start = extent.start_low | std::uint64_t{extent.start_high} << 32U;
            length = extent.length > 32768 ? extent.length - 32768U : std::uint32_t{extent.length};
        } else {
            const auto index = ondisk::from_bytes<ondisk::ExtExtentIndex>(node, at);
            start = index.leaf_low | std::uint64_t{index.leaf_high} << 32U;
        }
        if (start < super_.first_data_block || start + length > blocks_) return outside();
        if (depth > 0) {
            const auto below = volume_->bytes(start * block_size_, block_size_);
            if (!below) return tl::unexpected(below.error());
            if (auto done = release_node(*below, depth - 1, file, draft); !done) return done;
        }
        for (std::uint64_t b = 0; b < length; ++b)
            if (auto done = draft.mark(start + b, false); !done) return done;
    }
    return {};
}

/// The blocks of a file become free; Unsupported: they are listed in a way that is not followed here.
Result<void> ExtFs::release(const Inode& inode, Draft& draft) const {
    const auto unsupported = [&]() -> Result<void> {
        return fail(ErrorKind::Unsupported, "the file's blocks are listed in a way that is not followed",
                    inode_place(inode.number));
    };
    if ((inode.flags() & (inode_flag::inline_data | inode_flag::encrypted)) != 0 || inode.head.file_acl_low != 0)
        return unsupported();
    if ((inode.flags() & inode_flag::extents) != 0) {
        const auto header = ondisk::from_bytes<ondisk::ExtExtentHeader>(inode.head.block);
        return release_node(inode.head.block, header.depth, inode.number, draft);
    }
    for (std::size_t i = 0; i < 15; ++i) {
        const std::uint32_t block = ondisk::from_bytes<ondisk::little_uint32_t>(inode.head.block, i * 4);
        if (block == 0) continue;
        if (i >= direct_blocks || block < super_.first_data_block || block >= blocks_) return unsupported();
        if (auto done = draft.mark(block, false); !done) return done;
    }
    return {};
}

/// A name in a block of the directory that has room for it.
Result<VolumeEdit> ExtFs::named(const Inode& directory, std::string_view name, FileId file, std::uint8_t type) const {
    if ((directory.flags() &
         (inode_flag::indexed | inode_flag::inline_data | inode_flag::encrypted | inode_flag::casefold)) != 0 ||
        block_size_ == 65536)
        return fail(ErrorKind::Unsupported, "names are not added to such a directory (hashed, inline, encrypted)",
                    inode_place(directory.number));
    const auto runs = map(directory);
    if (!runs) return tl::unexpected(runs.error());
    const bool checked = has_ro_compat(ro_compat::metadata_csum);
    const std::size_t need = sizeof(ondisk::ExtDirEntry) + padded(name.size());
    for (const auto& run : *runs)
        for (std::uint64_t done = 0; done < run.length; done += block_size_) {
            auto block = volume_->bytes(run.base_offset + done, block_size_);
            if (!block) return tl::unexpected(block.error());
            const std::size_t end = block->size() - (checked ? sizeof(ondisk::ExtDirTail) : 0);
            for (std::size_t at = 0; at + sizeof(ondisk::ExtDirEntry) <= end;) {
                auto entry = ondisk::from_bytes<ondisk::ExtDirEntry>(*block, at);
                const std::size_t length = entry.record_length;
                if (length < sizeof(entry) || length % 4 != 0 || length > end - at) break;
                const std::size_t used = entry.inode == 0 ? 0 : sizeof(entry) + padded(entry.name_length);
                if (used > length || length - used < need) {
                    at += length;
                    continue;
                }
                if (used != 0) {
                    entry.record_length = static_cast<std::uint16_t>(used);
                    std::memcpy(block->data() + at, &entry, sizeof(entry));
                }
                put_entry(*block, at + used, file, name, length - used,
                          has_incompat(incompat::filetype) ? type : std::uint8_t{0});
                if (checked) {
                    auto tail = ondisk::from_bytes<ondisk::ExtDirTail>(*block, end);
                    tail.checksum = crc32c(inode_seed(directory), std::span(*block).first(end));
                    std::memcpy(block->data() + end, &tail, sizeof(tail));
                }
                return VolumeEdit{run.base_offset + done, std::move(*block)};
            }
        }
    return fail(ErrorKind::TooLarge, "the directory has no room for another name", inode_place(directory.number));
}

/// The directory, if it may have another file, of this name.
Result<Inode> ExtFs::folder_for(FileId directory, std::string_view name) const {
    if (has_ro_compat(ro_compat::bigalloc) || has_ro_compat(quota) || has_ro_compat(project_quota))
        return fail(ErrorKind::Unsupported, "files are not added to an ext with clusters or quotas", volume_->place());
    if (name.empty() || name.size() > 255 || name.find_first_of(std::string_view("/\0", 2)) != name.npos ||
        name == "." || name == "..")
        return fail(ErrorKind::Malformed, "not a name", volume_->place(), {}, printable(name));
    auto folder = changeable(directory);
    if (!folder) return tl::unexpected(folder.error());
    if (folder->type() != FileType::Directory)
        return fail(ErrorKind::WrongType, "not a directory", inode_place(directory));
    return folder;
}

/// An inode that is free, for a file of this mode with one name and no content.
Result<Inode> ExtFs::new_inode(Draft& draft, std::uint32_t first_group, std::uint16_t mode) const {
    const auto number = draft.take_inode(first_group);
    if (!number) return tl::unexpected(number.error());
    Inode out;
    out.number = *number;
    out.raw.assign(inode_size_, 0);
    out.head.mode = mode;
    out.head.links = 1;
    out.head.access_time = out.head.change_time = out.head.modify_time = super_.write_time;
    if (inode_size_ > 128) put16(out.raw, 128, std::max<std::uint32_t>(super_.want_extra_isize, 4));
    return out;
}

Result<std::vector<VolumeEdit>> ExtFs::with_file(FileId directory, std::string_view name,
                                                 std::span<const std::uint8_t> content) const {
    constexpr std::uint8_t regular = 1;
    const auto folder = folder_for(directory, name);
    if (!folder) return tl::unexpected(folder.error());
    const auto known = lookup(directory, name);
    if (!known && known.error().kind != ErrorKind::NotFound) return tl::unexpected(known.error());
    Draft draft{*this, {}, 0, 0};
    std::vector<VolumeEdit> out;
    Inode file;
    const auto home = static_cast<std::uint32_t>((directory - 1) / super_.inodes_per_group);
    if (known) {
        auto old = changeable(*known);
        if (!old) return tl::unexpected(old.error());
        if (old->type() != FileType::Regular)
            return fail(ErrorKind::WrongType, "something that is no file has this name", inode_place(*known));
        if (auto done = release(*old, draft); !done) return tl::unexpected(done.error());
        file = std::move(*old);
    } else {
        auto fresh = new_inode(draft, home, 0100644);
        if (!fresh) return tl::unexpected(fresh.error());
        file = std::move(*fresh);
        file.head.flags = has_incompat(incompat::extents) ? inode_flag::extents : 0U;
        auto entry = named(*folder, name, file.number, regular);
        if (!entry) return tl::unexpected(entry.error());
        out.push_back(std::move(*entry));
    }
    const std::uint64_t blocks = (content.size() + block_size_ - 1) / block_size_;
    const bool listed = (file.head.flags & inode_flag::extents) != 0;
    if (!listed && blocks > direct_blocks)
        return fail(ErrorKind::TooLarge, "the file needs more blocks than its inode can list", volume_->place());
    const auto runs = draft.take_blocks(blocks, home);
    if (!runs) return tl::unexpected(runs.error());
    file.head.size_low = static_cast<std::uint32_t>(content.size());
    file.head.size_high = 0;
    file.head.blocks_low = static_cast<std::uint32_t>(blocks * (block_size_ / 512));
    list_blocks(file.head, *runs);
    std::uint64_t logical = 0;
    for (const auto& run : *runs) {
        std::vector<std::uint8_t> bytes(run.blocks * block_size_);
        const std::size_t from = logical * block_size_;
        std::copy_n(content.begin() + static_cast<std::ptrdiff_t>(from), std::min(bytes.size(), content.size() - from),
                    bytes.begin());
        out.push_back({run.start * block_size_, std::move(bytes)});
        logical += run.blocks;
    }
    std::memcpy(file.raw.data(), &file.head, sizeof(file.head));
    auto inode_edits = written_back(std::move(file));
    if (!inode_edits) return tl::unexpected(inode_edits.error());
    out.insert(out.end(), inode_edits->begin(), inode_edits->end());
    draft.add_edits(out);
    return out;
}

Result<std::vector<VolumeEdit>> ExtFs::with_directory(FileId directory, std::string_view name) const {
    constexpr std::uint8_t kind = 2;
    constexpr std::uint16_t most_links = 64000;
    auto folder = folder_for(directory, name);
    if (!folder) return tl::unexpected(folder.error());
    if (const auto known = lookup(directory, name); known || known.error().kind != ErrorKind::NotFound)
        return fail(ErrorKind::WrongType, "this name is taken", inode_place(directory), {}, printable(name));
    if (folder->head.links >= most_links)
        return fail(ErrorKind::TooLarge, "the directory has as many others as it can have", inode_place(directory));
    Draft draft{*this, {}, 0, 0};
    const auto home = static_cast<std::uint32_t>((directory - 1) / super_.inodes_per_group);
    auto fresh = new_inode(draft, home, 040755);
    if (!fresh) return tl::unexpected(fresh.error());
    auto entry = named(*folder, name, fresh->number, kind);
    if (!entry) return tl::unexpected(entry.error());
    const auto runs = draft.take_blocks(1, home);
    if (!runs) return tl::unexpected(runs.error());
    const auto group = draft.group(static_cast<std::uint32_t>((fresh->number - 1) / super_.inodes_per_group));
    if (!group) return tl::unexpected(group.error());
    draft.count(**group, offsetof(ondisk::ExtGroup, used_dirs_low), used_dirs_high, 1);

    std::vector<std::uint8_t> block(block_size_);
    const bool checked = has_ro_compat(ro_compat::metadata_csum);
    const std::size_t end = block.size() - (checked ? sizeof(ondisk::ExtDirTail) : 0);
    const std::size_t first = sizeof(ondisk::ExtDirEntry) + padded(1);
    const std::uint8_t type = has_incompat(incompat::filetype) ? kind : std::uint8_t{0};
    put_entry(block, 0, fresh->number, ".", first, type);
    put_entry(block, first, directory, "..", end - first, type);
    if (checked) {
        ondisk::ExtDirTail tail{};
        tail.record_length = sizeof(tail);
        tail.file_type = 0xDE;
        tail.checksum = crc32c(inode_seed(*fresh), std::span(block).first(end));
        std::memcpy(block.data() + end, &tail, sizeof(tail));
    }

    fresh->head.links = 2;
    fresh->head.flags = has_incompat(incompat::extents) ? inode_flag::extents : 0U;
    fresh->head.size_low = static_cast<std::uint32_t>(block_size_);
    fresh->head.blocks_low = static_cast<std::uint32_t>(block_size_ / 512);
    list_blocks(fresh->head, *runs);
    folder->head.links = static_cast<std::uint16_t>(folder->head.links + 1);
    std::vector<VolumeEdit> out{std::move(*entry), {runs->front().start * block_size_, std::move(block)}};
    for (Inode* one : {&*fresh, &*folder}) {
        std::memcpy(one->raw.data(), &one->head, sizeof(one->head));
        auto edits = written_back(std::move(*one));
        if (!edits) return tl::unexpected(edits.error());
        out.insert(out.end(), edits->begin(), edits->end());
    }
    draft.add_edits(out);
    return out;
}

Result<std::vector<VolumeEdit>> ExtFs::with_link(FileId directory, std::string_view name,
                                                 std::string_view target) const {
    constexpr std::uint8_t link = 7;
    // A target that is shorter stands where others have their blocks.
    if (target.empty() || target.size() >= sizeof(ondisk::ExtInode::block) || target.find('\0') != target.npos)
        return fail(ErrorKind::TooLarge, "a link's target has 1 to 59 bytes here", volume_->place());
    const auto folder = folder_for(directory, name);
    if (!folder) return tl::unexpected(folder.error());
    if (const auto known = lookup(directory, name); known || known.error().kind != ErrorKind::NotFound)
        return fail(ErrorKind::WrongType, "this name is taken", inode_place(directory), {}, printable(name));
    Draft draft{*this, {}, 0, 0};
    auto file = new_inode(draft, static_cast<std::uint32_t>((directory - 1) / super_.inodes_per_group), 0120777);
    if (!file) return tl::unexpected(file.error());
    file->head.size_low = static_cast<std::uint32_t>(target.size());
    std::copy(target.begin(), target.end(), file->head.block.begin());
    auto entry = named(*folder, name, file->number, link);
    if (!entry) return tl::unexpected(entry.error());
    std::vector<VolumeEdit> out{std::move(*entry)};
    std::memcpy(file->raw.data(), &file->head, sizeof(file->head));
    auto inode_edits = written_back(std::move(*file));
    if (!inode_edits) return tl::unexpected(inode_edits.error());
    out.insert(out.end(), inode_edits->begin(), inode_edits->end());
    draft.add_edits(out);
    return out;
}

Result<std::vector<VolumeEdit>> ExtFs::with_name(FileId directory, std::string_view name, FileId file) const {
    const auto folder = folder_for(directory, name);
    if (!folder) return tl::unexpected(folder.error());
    if (const auto known = lookup(directory, name); known || known.error().kind != ErrorKind::NotFound)
        return fail(ErrorKind::WrongType, "this name is taken", inode_place(directory), {}, printable(name));
    const auto meant = inode(file);
    if (!meant) return tl::unexpected(meant.error());
    const auto type = meant->type() == FileType::Directory ? 2 : meant->type() == FileType::Symlink ? 7 : 1;
    auto entry = named(*folder, name, file, static_cast<std::uint8_t>(type));
    if (!entry) return tl::unexpected(entry.error());
    return std::vector<VolumeEdit>{std::move(*entry)};
}

}  // namespace herberge::ext
