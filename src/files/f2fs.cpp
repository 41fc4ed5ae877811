// SPDX-License-Identifier: MIT
#include "files/f2fs.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <map>

#include <herberge/budget.hpp>

#include "bytes/text16.hpp"
#include "files/stored.hpp"
#include "files/walked.hpp"
#include "ondisk/f2fs.hpp"

namespace herberge {

namespace {

using namespace stored;
using ondisk::little_uint32_t;

constexpr std::uint64_t super_at = 1024;
constexpr std::uint32_t f2fs_magic = 0xF2F52010;
constexpr std::uint64_t block_size = 4096;
constexpr std::size_t words_at = 360;  // of an inode's block: 923 words, then five nodes
constexpr std::size_t inode_words = 923;
constexpr std::size_t node_words = 1018;
constexpr std::size_t places_per_block = block_size / sizeof(ondisk::F2fsNodePlace);
constexpr std::size_t journal_size = 507;
constexpr std::size_t name_slot = 8;
constexpr std::size_t most_extents = 1U << 20U;
constexpr std::uint64_t most_directory = std::uint64_t{256} << 20U;
constexpr std::uint64_t most_link = 4096;

namespace flag {
constexpr std::uint32_t unmounted = 0x1, compact = 0x4, fast_boot = 0x20, large_bitmap = 0x400;
}
namespace inside {
constexpr std::uint8_t attributes = 0x1, data = 0x2, names = 0x4, later = 0x20;
}
namespace feature {
constexpr std::uint32_t inode_checksum = 0x20, flexible_attributes = 0x40;
}

/// The kernel's sum over bytes that follow on others (fs/f2fs/f2fs.h, f2fs_chksum).
std::uint32_t sum(std::uint32_t seed, std::span<const std::uint8_t> bytes) { return ~crc32(~seed, bytes); }

/// A whole checkpoint: its head's bytes, and its first block.
struct Pack {
    ondisk::F2fsCheckpoint head{};
    std::vector<std::uint8_t> bytes;  ///< the head's blocks
    std::uint64_t block = 0;
};

class F2fs final : public FileSystem {
public:
    F2fs(Source volume, Reader reader, const ondisk::F2fsSuper& super, VolumeInfo info, Pack pack)
        : volume_(std::move(volume)),
          strict_(reader == Reader::Kernel),
          super_(super),
          info_(std::move(info)),
          pack_(std::move(pack)),
          sum_seed_(sum(~0U, super_.uuid)) {}

    /// The places of nodes that the checkpoint itself carries (fs/f2fs/segment.c, read_compacted_summaries).
    Result<void> read_journal() {
        const bool compact = (pack_.head.flags & flag::compact) != 0;
        // Without: the summaries of three kinds of data, then those of three kinds of nodes if they were written.
        const std::uint32_t back = (pack_.head.flags & (flag::unmounted | flag::fast_boot)) != 0 ? 7 : 4;
        const std::uint32_t blocks = pack_.head.blocks;
        const std::uint32_t in_pack =
            compact ? std::uint32_t{pack_.head.first_summary} : blocks - std::min(back, blocks);
        if (in_pack == 0 || in_pack >= blocks)
            return fail(ErrorKind::Malformed, "the checkpoint contradicts itself", volume_->place());
        const std::uint64_t block = pack_.block + in_pack;
        const auto bytes = volume_->bytes(block * block_size, block_size);
        if (!bytes) return tl::unexpected(bytes.error());
        constexpr std::size_t entries = 512 * 7;
        const std::size_t at = compact ? 0 : entries;
        constexpr std::size_t one = 4 + sizeof(ondisk::F2fsNodePlace);
        const std::size_t count =
            std::min<std::size_t>(ondisk::from_bytes<ondisk::little_uint16_t>(*bytes, at), (journal_size - 2) / one);
        for (std::size_t i = 0; i < count; ++i)
            journal_[ondisk::from_bytes<little_uint32_t>(*bytes, at + 2 + i * one)] =
                ondisk::from_bytes<ondisk::F2fsNodePlace>(*bytes, at + 2 + i * one + 4).block;
        return {};
    }

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return super_.root_inode; }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        const auto inode = read_inode(file);
        if (!inode) return tl::unexpected(inode.error());
        FileInfo out;
        out.id = file;
        out.type = type_of_mode(inode->core.mode);
        out.size = inode->core.size;
        out.permissions = inode->core.mode & 07777U;
        out.uid = inode->core.uid;
        out.gid = inode->core.gid;
        out.modified = static_cast<std::int64_t>(std::uint64_t{inode->core.modified});
        return out;
    }

    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        return walked::lookup([&](const auto& visit) { return walk(directory, visit); }, name, place_of(directory));
    }

    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        return walked::list([&](const auto& visit) { return walk(directory, visit); });
    }

    [[nodiscard]] Result<std::string> link_target(FileId link) const override {
        const auto inode = read_inode(link);
        if (!inode) return tl::unexpected(inode.error());
        if (type_of_mode(inode->core.mode) != FileType::Symlink)
            return fail(ErrorKind::WrongType, "not a link", place_of(link));
        if (inode->core.size == 0 || inode->core.size > most_link)
            return fail(ErrorKind::Malformed, "a link's target has an impossible length", place_of(link));
        const auto source = open(link, place_of(link));
        if (!source) return tl::unexpected(source.error());
        auto text = (*source)->text(most_link);
        if (text) text->resize(std::min(text->size(), text->find('\0')));
        return text;
    }

    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto inode = read_inode(file);
        if (!inode) return tl::unexpected(inode.error());
        auto extents = extents_of(*inode);
        if (!extents) return tl::unexpected(extents.error());
        return extent_source(volume_, std::move(*extents), inode->core.size, std::move(place));
    }

    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        const auto inode = read_inode(file);
        if (!inode) return tl::unexpected(inode.error());
        return extents_of(*inode);
    }

    [[nodiscard]] std::optional<std::string> unreplayed() const override {
        if ((pack_.head.flags & flag::unmounted) != 0) return std::nullopt;
        return "it was not unmounted, and what was synced after its last checkpoint is not looked at here";
    }

private:
    struct Inode {
        ondisk::F2fsInode core{};
        std::vector<std::uint8_t> bytes;
        std::uint64_t block = 0;
        std::uint32_t number = 0;
        std::size_t first_word = 0;  ///< of its data
        std::size_t words = 0;
    };

    [[nodiscard]] std::string place_of(FileId file) const { return fmt::format("{} inode {}", volume_->place(), file); }

    /// A bit of the map that tells which of two copies of a block of the table counts.
    [[nodiscard]] bool second_copy(std::uint64_t block) const {
        std::size_t at = sizeof(ondisk::F2fsCheckpoint);
        if ((pack_.head.flags & flag::large_bitmap) != 0) at += 4;
        else if (super_.checkpoint_payload == 0) at += pack_.head.segment_bitmap_size;
        at += static_cast<std::size_t>(block / 8);
        return at < pack_.bytes.size() && (pack_.bytes[at] & 1U << (7 - block % 8)) != 0;
    }

    /// The block of a node; 0: there is none.
    [[nodiscard]] Result<std::uint64_t> block_of(std::uint32_t node) const {
        if (const auto known = journal_.find(node); known != journal_.end()) return std::uint64_t{known->second};
        const std::uint64_t blocks_per_segment = std::uint64_t{1} << super_.log_blocks_per_segment;
        const std::uint64_t block = node / places_per_block;
        const std::uint64_t segment = block / blocks_per_segment;
        if (segment * 2 >= super_.node_table_segments)
            return fail(ErrorKind::Malformed, "a node's number is beyond the table of nodes", place_of(node));
        std::uint64_t at = super_.node_table + segment * 2 * blocks_per_segment + block % blocks_per_segment;
        if (second_copy(block)) at += blocks_per_segment;
        const auto place = volume_->load<ondisk::F2fsNodePlace>(at * block_size + node % places_per_block *
                                                                                      sizeof(ondisk::F2fsNodePlace));
        if (!place) return tl::unexpected(place.error());
        return std::uint64_t{place->block};
    }

    [[nodiscard]] Result<std::vector<std::uint8_t>> read_node(std::uint32_t node, std::uint32_t inode,
                                                              std::uint64_t* at = nullptr) const {
        if (auto paid = charge(Cost::Steps, 1, place_of(inode)); !paid) return tl::unexpected(paid.error());
        const auto block = block_of(node);
        if (!block) return tl::unexpected(block.error());
        if (*block < super_.main || *block >= super_.blocks)
            return fail(ErrorKind::Malformed, "a node lies outside the volume", place_of(inode),
                        fmt::format("a block from {} to {}", std::uint32_t{super_.main}, super_.blocks - 1),
                        std::to_string(*block));
        auto bytes = volume_->bytes(*block * block_size, block_size);
        if (!bytes) return tl::unexpected(bytes.error());
        const auto tail = ondisk::from_bytes<ondisk::F2fsNodeTail>(*bytes, block_size - sizeof(ondisk::F2fsNodeTail));
        if (tail.node != node || tail.inode != inode)
            return fail(ErrorKind::Malformed, "a node's block belongs to another one",
                        fmt::format("{}@{}+{}", volume_->place(), *block * block_size, block_size),
                        fmt::format("node {} of inode {}", node, inode),
                        fmt::format("node {} of inode {}", std::uint32_t{tail.node}, std::uint32_t{tail.inode}));
        if (at != nullptr) *at = *block;
        return bytes;
    }

    [[nodiscard]] Result<Inode> read_inode(FileId file) const {
        Inode out;
        out.number = static_cast<std::uint32_t>(file);
        auto bytes = read_node(out.number, out.number, &out.block);
        if (!bytes) return tl::unexpected(bytes.error());
        out.bytes = std::move(*bytes);
        out.core = ondisk::from_bytes<ondisk::F2fsInode>(out.bytes);
        std::size_t reserved = 0;
        if ((out.core.inside & inside::later) != 0) {
            if (!strict_)
                return fail(ErrorKind::Unsupported, "an inode with later fields, which loaders misread",
                            place_of(file));
            out.first_word = out.core.later_size / 4U;
            if (auto sound = check(out); !sound) return tl::unexpected(sound.error());
        }
        if ((super_.features & feature::flexible_attributes) != 0 && (out.core.inside & inside::later) != 0)
            reserved = out.core.attributes_size;
        else if ((out.core.inside & (inside::attributes | inside::names)) != 0) reserved = 50;
        if (out.first_word + reserved + 1 > inode_words)
            return fail(ErrorKind::Malformed, "an inode contradicts itself", place_of(file));
        out.words = inode_words - out.first_word - reserved;
        return out;
    }

    /// fs/f2fs/inode.c, f2fs_inode_chksum.
    [[nodiscard]] Result<void> check(const Inode& inode) const {
        constexpr std::size_t at = offsetof(ondisk::F2fsInode, checksum);
        if ((super_.features & feature::inode_checksum) == 0 || inode.core.later_size < 12) return {};
        const std::span<const std::uint8_t> all(inode.bytes);
        const auto tail = block_size - sizeof(ondisk::F2fsNodeTail);
        std::uint32_t value = sum(sum_seed_, all.subspan(tail + offsetof(ondisk::F2fsNodeTail, inode), 4));
        value = sum(value, all.subspan(offsetof(ondisk::F2fsInode, generation), 4));
        value = sum(value, all.first(at));
        value = sum(value, std::array<std::uint8_t, 4>{});
        value = sum(value, all.subspan(at + 4));
        if (value == inode.core.checksum) return {};
        return fail(ErrorKind::Checksum, "an inode fails its checksum",
                    fmt::format("{}@{}+{}", volume_->place(), inode.block * block_size, block_size));
    }

    [[nodiscard]] std::uint64_t inside_at(const Inode& inode) const { return words_at + (inode.first_word + 1) * 4; }

    [[nodiscard]] Result<std::vector<Extent>> extents_of(const Inode& inode) const {
        constexpr std::uint8_t encrypted = 4;
        constexpr std::uint32_t compressed = 4;
        if ((inode.core.advice & encrypted) != 0 || (inode.core.flags & compressed) != 0)
            return fail(ErrorKind::Unsupported, "an encrypted or compressed file", place_of(inode.number));
        std::vector<Extent> out;
        const auto type = type_of_mode(inode.core.mode);
        if ((inode.core.inside & (type == FileType::Directory ? inside::names : inside::data)) != 0) {
            const std::uint64_t room = (inode.words - 1) * 4;
            if (type == FileType::Directory) out.push_back({0, room, inode.block * block_size + inside_at(inode)});
            else if (inode.core.size > room)
                return fail(ErrorKind::Malformed, "a file is longer than its inode", place_of(inode.number));
            else if (inode.core.size > 0)
                out.push_back({0, inode.core.size, inode.block * block_size + inside_at(inode)});
            return out;
        }
        if (type != FileType::Directory && type != FileType::Regular && type != FileType::Symlink) return out;
        Blocks blocks{*this, inode, out, (inode.core.size + block_size - 1) / block_size};
        if (auto done = blocks.list(inode.bytes, words_at + inode.first_word * 4, inode.words); !done)
            return tl::unexpected(done.error());
        // Two direct nodes, two that list such, one that lists those.
        constexpr std::array<int, 5> depths = {0, 0, 1, 1, 2};
        for (std::size_t i = 0; i < depths.size() && blocks.next < blocks.count; ++i) {
            const auto node = ondisk::from_bytes<little_uint32_t>(inode.bytes, words_at + inode_words * 4 + i * 4);
            if (auto done = blocks.node(node, depths.at(i)); !done) return tl::unexpected(done.error());
        }
        if (!out.empty() && type != FileType::Directory && out.back().offset + out.back().length > inode.core.size)
            out.back().length = inode.core.size - out.back().offset;
        return out;
    }

    /// Collects a file's blocks in order.
    struct Blocks {
        const F2fs& fs;
        const Inode& inode;
        std::vector<Extent>& out;
        std::uint64_t count;
        std::uint64_t next = 0;

        Result<void> list(std::span<const std::uint8_t> bytes, std::size_t at, std::size_t words) {
            constexpr std::uint32_t reserved = 0xFFFFFFFF;  // space is promised, nothing is written
            for (std::size_t i = 0; i < words && next < count; ++i, ++next) {
                const std::uint64_t block = ondisk::from_bytes<little_uint32_t>(bytes, at + i * 4);
                if (block == 0 || block == reserved) continue;
                if (block < fs.super_.main || block >= fs.super_.blocks)
                    return fail(ErrorKind::Malformed, "a file's block lies outside the volume",
                                fs.place_of(inode.number), {}, std::to_string(block));
                if (!out.empty() && out.back().offset + out.back().length == next * block_size &&
                    out.back().base_offset + out.back().length == block * block_size) {
                    out.back().length += block_size;
                    continue;
                }
                if (out.size() >= most_extents)
                    return fail(ErrorKind::TooLarge, "a file has too many pieces", fs.place_of(inode.number));
                out.push_back({next * block_size, block_size, block * block_size});
            }
            return {};
        }

        Result<void> node(std::uint32_t number, int depth) {
            std::uint64_t covered = node_words;
            for (int i = 0; i < depth; ++i) covered *= node_words;
            if (number == 0) {
                next += covered;
                return {};
            }
            const auto bytes = fs.read_node(number, inode.number);
            if (!bytes) return tl::unexpected(bytes.error());
            if (depth == 0) return list(*bytes, 0, node_words);
            for (std::size_t i = 0; i < node_words && next < count; ++i)
                if (auto done = node(ondisk::from_bytes<little_uint32_t>(*bytes, i * 4), depth - 1); !done) return done;
            return {};
        }
    };

    /// Entries lie in blocks, or in the inode, each with a map of those in use (fs/f2fs/dir.c).
    template <class Visit>
    Result<void> walk(FileId directory, const Visit& visit) const {
        const auto inode = read_inode(directory);
        if (!inode) return tl::unexpected(inode.error());
        if (type_of_mode(inode->core.mode) != FileType::Directory)
            return fail(ErrorKind::WrongType, "not a directory", place_of(directory));
        const auto pieces = extents_of(*inode);
        if (!pieces) return tl::unexpected(pieces.error());
        std::uint64_t done = 0;
        for (const auto& piece : *pieces) {
            const std::uint64_t step = std::min<std::uint64_t>(block_size, piece.length);
            for (std::uint64_t at = 0; at + step <= piece.length; at += step) {
                if ((done += step) > most_directory)
                    return fail(ErrorKind::TooLarge, "a directory is too long", place_of(directory));
                const auto bytes = volume_->bytes(piece.base_offset + at, step);
                if (!bytes) return tl::unexpected(bytes.error());
                const auto more = entries(*bytes, directory, visit);
                if (!more) return tl::unexpected(more.error());
                if (!*more) return {};
            }
        }
        return {};
    }

    /// False: `visit` has seen enough.
    template <class Visit>
    Result<bool> entries(std::span<const std::uint8_t> bytes, FileId directory, const Visit& visit) const {
        constexpr std::size_t each = sizeof(ondisk::F2fsName) + name_slot;
        const std::size_t count = bytes.size() * 8 / (each * 8 + 1);
        const std::size_t names_at = bytes.size() - count * name_slot;
        const std::size_t entries_at = names_at - count * sizeof(ondisk::F2fsName);
        for (std::size_t i = 0; i < count;) {
            if ((bytes[i / 8] & 1U << i % 8) == 0) {
                ++i;
                continue;
            }
            const auto entry = ondisk::from_bytes<ondisk::F2fsName>(bytes, entries_at + i * sizeof(ondisk::F2fsName));
            const std::size_t slots = (entry.length + name_slot - 1U) / name_slot;
            if (entry.length == 0 || entry.length > 255 || i + slots > count)
                return fail(ErrorKind::Malformed, "a directory entry has an impossible length", place_of(directory));
            const auto* const name = bytes.data() + names_at + i * name_slot;
            DirEntry one{std::string(name, name + entry.length), entry.inode, type_in_directory(entry.type)};
            if (!visit(one)) return false;
            i += slots;
        }
        return true;
    }

    Source volume_;
    bool strict_;
    ondisk::F2fsSuper super_;
    VolumeInfo info_;
    Pack pack_;
    std::uint32_t sum_seed_;
    std::map<std::uint32_t, std::uint32_t> journal_;
};

/// A checkpoint pack from `block` on; none: it is not whole (fs/f2fs/checkpoint.c, validate_checkpoint).
Result<Pack> read_pack(const Source& volume, Reader reader, const ondisk::F2fsSuper& super, std::uint64_t block) {
    const std::string place = fmt::format("{}@{}+{}", volume->place(), block * block_size, block_size);
    const auto head_of = [&](std::uint64_t at) -> Result<std::vector<std::uint8_t>> {
        auto bytes = volume->bytes(at * block_size, block_size);
        if (!bytes) return bytes;
        const auto head = ondisk::from_bytes<ondisk::F2fsCheckpoint>(*bytes);
        const std::uint32_t offset = head.checksum_offset;
        // grub-core/fs/f2fs.c knows one place.
        if (reader == Reader::Loader && offset != block_size - 4)
            return fail(ErrorKind::Malformed, "a checkpoint has its checksum where loaders do not look", place);
        if (offset < sizeof(head) || offset > block_size - 4)
            return fail(ErrorKind::Malformed, "a checkpoint contradicts itself", place);
        std::uint32_t value = sum(f2fs_magic, std::span(*bytes).first(offset));
        if (offset < block_size - 4) value = sum(value, std::span(*bytes).subspan(offset + 4));
        if (value != ondisk::from_bytes<little_uint32_t>(*bytes, offset))
            return fail(ErrorKind::Checksum, "a checkpoint fails its checksum", place);
        return bytes;
    };
    Pack out;
    out.block = block;
    auto first = head_of(block);
    if (!first) return tl::unexpected(first.error());
    out.head = ondisk::from_bytes<ondisk::F2fsCheckpoint>(*first);
    const std::uint64_t most = std::uint64_t{1} << super.log_blocks_per_segment;
    if (out.head.blocks > most || out.head.blocks <= 2 + super.checkpoint_payload)
        return fail(ErrorKind::Malformed, "a checkpoint contradicts itself", place);
    const auto last = head_of(block + out.head.blocks - 1);
    if (!last) return tl::unexpected(last.error());
    if (ondisk::from_bytes<ondisk::F2fsCheckpoint>(*last).version != out.head.version)
        return fail(ErrorKind::Malformed, "a checkpoint was not written to its end", place);
    out.bytes = std::move(*first);
    for (std::uint32_t i = 0; i < super.checkpoint_payload; ++i) {
        const auto more = volume->bytes((block + 1 + i) * block_size, block_size);
        if (!more) return tl::unexpected(more.error());
        out.bytes.insert(out.bytes.end(), more->begin(), more->end());
    }
    return out;
}

}  // namespace

std::optional<VolumeInfo> recognise_f2fs(const ByteSource& volume) {
    // By its second superblock alone nobody recognises it, though the driver would read that.
    const auto super = volume.load<ondisk::F2fsSuper>(super_at);
    if (!super || super->magic != f2fs_magic) return std::nullopt;
    VolumeInfo info;
    info.format = Format::F2fs;
    info.uuid = uuid_text(super->uuid);
    info.label = printable(utf8_from(units_from(super->label, false, true)));
    info.block_size = super->log_block_size < 20 ? 1U << super->log_block_size : 0;
    info.size = super->blocks * info.block_size;
    return info;
}

Result<std::shared_ptr<const FileSystem>> open_f2fs(const Source& volume, Reader reader) {
    const auto super = volume->load<ondisk::F2fsSuper>(super_at);
    const auto info = recognise_f2fs(*volume);
    if (!super || !info) return fail(ErrorKind::Malformed, "no F2FS superblock", volume->place());
    const std::string place = fmt::format("{}@{}+{}", volume->place(), super_at, sizeof(ondisk::F2fsSuper));
    if (super->log_block_size != 12)
        return fail(ErrorKind::Unsupported, "F2FS with blocks of another size than 4096 bytes", place);
    if (super->log_blocks_per_segment != 9 || super->checkpoint_payload > 510 || super->main >= super->blocks)
        return fail(ErrorKind::Malformed, "the F2FS superblock contradicts itself", place);
    constexpr std::size_t device = 68;
    if (super->devices[device] != 0) return fail(ErrorKind::Unsupported, "F2FS on several devices", place);
    auto pack = read_pack(volume, reader, *super, super->checkpoint);
    auto other =
        read_pack(volume, reader, *super, super->checkpoint + (std::uint64_t{1} << super->log_blocks_per_segment));
    if (!pack && !other) return tl::unexpected(pack.error());
    if (!pack || (other && static_cast<std::int64_t>(other->head.version - pack->head.version) > 0))
        pack = std::move(other);
    auto out = std::make_shared<F2fs>(volume, reader, *super, *info, std::move(*pack));
    if (auto read = out->read_journal(); !read) return tl::unexpected(read.error());
    const auto root = out->stat(out->root());
    if (!root) return tl::unexpected(root.error());
    if (root->type != FileType::Directory)
        return fail(ErrorKind::Malformed, "the root of the F2FS is no directory", place);
    return out;
}

}  // namespace herberge
