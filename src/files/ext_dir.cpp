// SPDX-License-Identifier: MIT
// ext2/3/4: directories. Hashed directories keep every name in ordinary blocks, so a linear walk reads them too.
#include <fmt/format.h>
#include <algorithm>

#include "bytes/lost.hpp"
#include "files/ext_fs.hpp"
#include "files/stored.hpp"

namespace herberge::ext {

namespace {

constexpr std::uint64_t most_directory = std::uint64_t{256} << 20U;

}  // namespace

/// Checksums of a directory block: leaf blocks end in a 12-byte tail that looks like an empty entry of type 0xDE;
/// index blocks keep theirs behind the index's capacity (kernel fs/ext4/namei.c).
bool ExtFs::directory_block_holds(const Inode& inode, std::span<const std::uint8_t> block, bool first) const {
    const std::size_t tail = block.size() - sizeof(ondisk::ExtDirTail);
    const auto end = ondisk::from_bytes<ondisk::ExtDirTail>(block, tail);
    // In an indexed directory block 0, and each that one empty entry fills, belong to the index: what looks like a
    // leaf's tail there is left over from the time before the directory grew (fs/ext4/namei.c, __ext4_read_dirblock).
    const auto head = ondisk::from_bytes<ondisk::ExtDirEntry>(block);
    const bool indexed = (inode.flags() & inode_flag::indexed) != 0 && (super_.feature_compat & compat::dir_index) != 0;
    const bool of_index = indexed && (first || head.record_length == block.size() ||
                                      (block.size() == 65536 && head.record_length % 65535 == 0));
    if (!of_index)
        return end.inode == 0 && end.record_length == sizeof(end) && end.name_length == 0 && end.file_type == 0xDE &&
               crc32c(inode_seed(inode), block.first(tail)) == end.checksum;
    const std::size_t count_at = first ? 0x20 : 0x8;
    const auto filled = ondisk::from_bytes<ondisk::ExtIndexCount>(block, count_at);
    const std::size_t limit = filled.limit;
    const std::size_t count = filled.count;
    const std::size_t used = count_at + count * 8;
    const std::size_t index_tail = count_at + limit * 8;
    if (count > limit || index_tail + 8 > block.size()) return false;
    static constexpr std::array<std::uint8_t, 4> zeros{};
    std::uint32_t sum = crc32c(inode_seed(inode), block.first(used));
    sum = crc32c(sum, block.subspan(index_tail, 4));
    sum = crc32c(sum, zeros);
    return sum == ondisk::from_bytes<ondisk::ExtIndexTail>(block, index_tail).checksum;
}

Result<void> ExtFs::walk_directory(const Inode& inode, const Visit& visit) const {
    if (inode.type() != FileType::Directory)
        return fail(ErrorKind::WrongType, "not a directory", inode_place(inode.number));
    if ((inode.flags() & inode_flag::encrypted) != 0)
        return fail(ErrorKind::Unsupported, "the directory is encrypted", inode_place(inode.number));
    std::optional<Error> damage;
    auto note = [&](ErrorKind kind, std::string what) {
        if (!damage) damage = Error{kind, std::move(what), inode_place(inode.number), {}, {}};
    };
    // Visits the entries of one block; false when the visitor has what it wants.
    auto entries = [&](std::span<const std::uint8_t> block, std::uint64_t number) {
        std::size_t at = 0;
        while (at + sizeof(ondisk::ExtDirEntry) <= block.size()) {
            const auto entry = ondisk::from_bytes<ondisk::ExtDirEntry>(block, at);
            // Length 0 or 65535 stands for a whole 64 KiB block.
            std::size_t length = entry.record_length;
            if (block_size_ == 65536 && (length == 0 || length == 65535)) length = 65536;
            if (length < sizeof(entry) || length % 4 != 0 || length > block.size() - at ||
                entry.name_length > length - sizeof(entry)) {
                note(ErrorKind::Malformed, fmt::format("a damaged entry in directory block {}, byte {}", number, at));
                return true;
            }
            const std::string_view name(reinterpret_cast<const char*>(block.data()) + at + sizeof(entry),
                                        entry.name_length);
            if (entry.inode != 0 && entry.name_length != 0 && !visit(entry, name)) return false;
            at += length;
        }
        return true;
    };
    if ((inode.flags() & inode_flag::inline_data) != 0) {
        const auto bytes = inline_content(inode);
        if (!bytes) return tl::unexpected(bytes.error());
        const std::span<const std::uint8_t> all(*bytes);
        // The first four bytes are the parent's inode; "." and ".." are not stored.
        if (all.size() < 60 || !entries(all.subspan(4, 56), 0)) return {};
        if (all.size() > 60 && !entries(all.subspan(60), 1)) return {};
        if (damage) return tl::unexpected(*damage);
        return {};
    }
    if (inode.size() > most_directory)
        return fail(ErrorKind::TooLarge, "a directory that claims to be too large", inode_place(inode.number),
                    size_text(most_directory), size_text(inode.size()));
    const auto runs = map(inode);
    if (!runs) return tl::unexpected(runs.error());
    // Only blocks that exist are visited: a claimed size costs nothing by itself.
    for (const auto& run : *runs)
        for (std::uint64_t done = 0; done < run.length; done += block_size_) {
            const std::uint64_t number = (run.offset + done) / block_size_;
            auto block = volume_->bytes(run.base_offset + done, block_size_);
            std::optional<Error> lost;
            if (!block && block.error().unreadable() && reader_ != Reader::Kernel) {
                // Loaders go from entry to entry, and come as far as the first sector that is lost (really started).
                lost = block.error();
                block = zeros_for_losses(volume_)->bytes(run.base_offset + done, block_size_);
            }
            if (!block) return tl::unexpected(block.error());
            if (checks_metadata() && !directory_block_holds(inode, *block, number == 0)) {
                note(ErrorKind::Checksum, fmt::format("directory block {} fails its checksum", number));
                continue;
            }
            if (!entries(*block, number)) return {};
            if (lost) return tl::unexpected(std::move(*lost));
        }
    // Damage matters only to a search that did not find its name before (the kernel looks where the hash says).
    if (damage) return tl::unexpected(*damage);
    return {};
}

Result<FileId> ExtFs::lookup(FileId directory, std::string_view name) const {
    const auto found = inode(directory);
    if (!found) return tl::unexpected(found.error());
    FileId hit = 0;
    auto walked = walk_directory(*found, [&](const ondisk::ExtDirEntry& entry, std::string_view candidate) {
        if (candidate != name) return true;
        hit = entry.inode;
        return false;
    });
    if (hit != 0) return hit;
    if (!walked) return tl::unexpected(walked.error());
    return fail(ErrorKind::NotFound, fmt::format("no entry named {}", printable(name)), inode_place(directory));
}

Result<std::vector<DirEntry>> ExtFs::list(FileId directory) const {
    const auto found = inode(directory);
    if (!found) return tl::unexpected(found.error());
    std::vector<DirEntry> out;
    const bool typed = has_incompat(incompat::filetype);
    auto walked = walk_directory(*found, [&](const ondisk::ExtDirEntry& entry, std::string_view name) {
        out.push_back(
            {std::string(name), entry.inode, typed ? stored::type_in_directory(entry.file_type) : FileType::Unknown});
        return out.size() < 1000000;
    });
    if (!walked && out.empty()) return tl::unexpected(walked.error());
    return out;
}

Result<std::vector<VolumeEdit>> ExtFs::without_name(FileId directory, std::string_view name) const {
    if (has_incompat(incompat::recover))
        return fail(ErrorKind::Unsupported, "the journal is not empty: the kernel would replay it over the change",
                    volume_->place());
    const auto found = inode(directory);
    if (!found) return tl::unexpected(found.error());
    if ((found->flags() & (inode_flag::inline_data | inode_flag::encrypted)) != 0)
        return fail(ErrorKind::Unsupported, "the directory has no blocks of its own, or is encrypted",
                    inode_place(directory));
    const auto runs = map(*found);
    if (!runs) return tl::unexpected(runs.error());
    for (const auto& run : *runs)
        for (std::uint64_t done = 0; done < run.length; done += block_size_) {
            auto block = volume_->bytes(run.base_offset + done, block_size_);
            if (!block) return tl::unexpected(block.error());
            std::size_t before = block->size();
            for (std::size_t at = 0; at + sizeof(ondisk::ExtDirEntry) <= block->size();) {
                auto entry = ondisk::from_bytes<ondisk::ExtDirEntry>(*block, at);
                const std::size_t length = entry.record_length;
                if (length < sizeof(entry) || length > block->size() - at || block_size_ == 65536) break;
                const std::string_view here(reinterpret_cast<const char*>(block->data()) + at + sizeof(entry),
                                            std::min<std::size_t>(entry.name_length, length - sizeof(entry)));
                if (entry.inode != 0 && here == name) {
                    // As the kernel does it: the entry before it takes its room, the first of a block is left empty.
                    if (before < block->size()) {
                        auto last = ondisk::from_bytes<ondisk::ExtDirEntry>(*block, before);
                        last.record_length = static_cast<std::uint16_t>(last.record_length + length);
                        std::memcpy(block->data() + before, &last, sizeof(last));
                    } else {
                        entry.inode = 0;
                        std::memcpy(block->data() + at, &entry, sizeof(entry));
                    }
                    if (has_ro_compat(ro_compat::metadata_csum)) {
                        const std::size_t tail = block->size() - sizeof(ondisk::ExtDirTail);
                        auto end = ondisk::from_bytes<ondisk::ExtDirTail>(*block, tail);
                        end.checksum = crc32c(inode_seed(*found), std::span(*block).first(tail));
                        std::memcpy(block->data() + tail, &end, sizeof(end));
                    }
                    return std::vector<VolumeEdit>{{run.base_offset + done, std::move(*block)}};
                }
                before = at;
                at += length;
            }
        }
    return fail(ErrorKind::NotFound, fmt::format("no entry named {}", printable(name)), inode_place(directory));
}

}  // namespace herberge::ext
