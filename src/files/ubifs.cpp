// SPDX-License-Identifier: MIT
#include "files/ubifs.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <map>
#include <optional>

#include "bytes/blocks.hpp"
#include "files/piece_source.hpp"
#include "files/stored.hpp"
#include "files/ubifs_nodes.hpp"
#include "files/walked.hpp"

namespace herberge {

namespace {

using namespace ubifs;  // NOLINT: its nodes

constexpr int most_depth = 64;
constexpr std::size_t most_nodes = std::size_t{1} << 20U;
constexpr std::uint32_t formats_read = 5;  // fmt_version

class UbifsSource : public PieceSource {
public:
    UbifsSource(std::shared_ptr<const Media> media, std::map<std::uint64_t, Place> blocks, std::uint64_t size,
                std::string place)
        : PieceSource(size, page, std::move(place)), media_(std::move(media)), blocks_(std::move(blocks)) {}
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        std::vector<DiskRange> out;
        for (std::uint64_t i = offset / page; length != 0 && i <= (offset + length - 1) / page; ++i)
            if (const auto found = blocks_.find(i); found != blocks_.end())
                for (auto& range : media_->volume->locate(found->second.at, found->second.size)) out.push_back(range);
        return out;
    }

private:
    [[nodiscard]] Result<Bytes> unpack(std::uint64_t number, std::size_t wanted) const override {
        const auto found = blocks_.find(number);
        if (found == blocks_.end()) return Bytes(wanted);
        const auto node = media_->node(found->second.at, data_kind);
        if (!node) return tl::unexpected(node.error());
        const auto data = ondisk::from_bytes<ondisk::UbifsData>(*node);
        const auto packed = std::span(*node).subspan(std::min(sizeof(data), node->size()));
        if (node->size() < sizeof(data) || data.size > page)
            return media_->damaged("a block of an impossible size", found->second.at);
        using enum bytes::BlockCodec;
        constexpr std::array codecs = {Lzo, Deflate, Zstd};
        if (data.compression == 0) return Bytes(packed.begin(), packed.end());
        if (data.compression > codecs.size())
            return media_->damaged("a block packed in an unknown way", found->second.at);
        auto out = bytes::unpack_block(codecs.at(data.compression - 1U), packed, data.size);
        if (!out) return media_->damaged(out.error().what, found->second.at);
        return out;
    }

    std::shared_ptr<const Media> media_;
    std::map<std::uint64_t, Place> blocks_;
};

class Ubifs final : public FileSystem {
public:
    Ubifs(std::shared_ptr<const Media> media, VolumeInfo info, Place root, Journal journal)
        : media_(std::move(media)), info_(std::move(info)), root_(root), journal_(std::move(journal)) {}

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return 1; }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        const auto node = inode(file);
        if (!node) return tl::unexpected(node.error());
        const auto inode = ondisk::from_bytes<ondisk::UbifsInode>(*node);
        FileInfo out;
        out.id = file;
        out.type = stored::type_of_mode(inode.mode);
        out.size = std::max<std::uint64_t>(inode.size, journal_.grown(file));
        out.permissions = inode.mode & 07777U;
        out.uid = inode.uid;
        out.gid = inode.gid;
        out.modified = static_cast<std::int64_t>(std::uint64_t{inode.modified});
        return out;
    }

    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        return walked::lookup([&](const auto& visit) { return names(directory, visit); }, name,
                              media_->volume->place());
    }
    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        return walked::list([&](const auto& visit) { return names(directory, visit); });
    }

    [[nodiscard]] Result<std::string> link_target(FileId link) const override {
        const auto node = inode(link);
        if (!node) return tl::unexpected(node.error());
        const auto inode = ondisk::from_bytes<ondisk::UbifsInode>(*node);
        if (stored::type_of_mode(inode.mode) != FileType::Symlink)
            return fail(ErrorKind::WrongType, "no link", media_->volume->place());
        const auto text = std::span(*node).subspan(sizeof(inode));
        return std::string(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(
                                                            std::min<std::size_t>(inode.data_size, text.size())));
    }

    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto info = stat(file);
        if (!info) return tl::unexpected(info.error());
        if (info->type != FileType::Regular) return fail(ErrorKind::WrongType, "no regular file", std::move(place));
        std::map<std::uint64_t, Place> blocks;
        const auto done = each(key_of(file, data_kind), key_of(file, data_kind + 1) - 1, [&](const Place& found) {
            blocks[found.key & 0x1FFFFFFFU] = found;
            return blocks.size() < most_nodes;
        });
        if (!done) return tl::unexpected(done.error());
        return std::make_shared<const UbifsSource>(media_, std::move(blocks), info->size, std::move(place));
    }

    /// Only what is not packed lies on the volume as it is read.
    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        std::vector<Extent> out;
        const auto done = each(key_of(file, data_kind), key_of(file, data_kind + 1) - 1, [&](const Place& found) {
            const auto data = media_->volume->load<ondisk::UbifsData>(found.at);
            if (data && data->compression == 0 && data->size <= page)
                out.push_back({(found.key & 0x1FFFFFFFU) * page, data->size, found.at + sizeof(*data)});
            return out.size() < most_nodes;
        });
        if (!done) return tl::unexpected(done.error());
        return out;
    }

private:
    [[nodiscard]] Result<Bytes> inode(FileId file) const {
        std::optional<Place> found;
        const auto key = key_of(file, inode_kind);
        const auto done = each(key, key, [&](const Place& place) {
            found = place;
            return false;
        });
        if (!found) {
            if (!done) return tl::unexpected(done.error());
            return fail(ErrorKind::NotFound, fmt::format("there is no inode {}", file), media_->volume->place());
        }
        auto node = media_->node(found->at, inode_kind);
        if (node && node->size() < sizeof(ondisk::UbifsInode))
            return media_->damaged("an inode that is too short", found->at);
        return node;
    }

    template <class Visit>
    Result<void> names(FileId directory, const Visit& visit) const {
        const auto info = stat(directory);
        if (!info) return tl::unexpected(info.error());
        if (info->type != FileType::Directory)
            return fail(ErrorKind::WrongType, "no directory", media_->volume->place());
        std::optional<Error> problem;
        const auto done =
            each(key_of(directory, name_kind), key_of(directory, name_kind + 1) - 1, [&](const Place& found) {
                const auto node = media_->node(found.at, name_kind);
                if (!node || node->size() < sizeof(ondisk::UbifsName)) {
                    // The others are there all the same.
                    if (!problem)
                        problem = node
                                      ? Error{ErrorKind::Malformed, "a name that is too short", media_->volume->place()}
                                      : node.error();
                    return true;
                }
                const auto name = ondisk::from_bytes<ondisk::UbifsName>(*node);
                const auto text = std::span(*node).subspan(sizeof(name));
                if (name.inode == 0) return true;  // deleted
                return visit(
                    DirEntry{std::string(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(std::min<std::size_t>(
                                                                          name.name_size, text.size()))),
                             name.inode, type_of(name.type)});
            });
        if (!done) return tl::unexpected(done.error());
        if (problem) return tl::unexpected(*problem);
        return {};
    }

    static FileType type_of(std::uint8_t type) {
        constexpr std::array types = {FileType::Regular,     FileType::Directory,  FileType::Symlink,
                                      FileType::BlockDevice, FileType::CharDevice, FileType::Fifo,
                                      FileType::Socket};
        return type < types.size() ? types.at(type) : FileType::Unknown;
    }

    /// Calls `visit` with every leaf of an inode whose key lies between the two, in order, until it gives false.
    template <class Visit>
    Result<void> each(std::uint64_t from, std::uint64_t to, const Visit& visit) const {
        bool more = true;
        const auto inode = inode_of(from);
        if (!journal_.touches(inode)) return descend(root_, from, to, visit, more, 0);
        std::vector<Place> known;
        const auto keep = [&](const Place& place) {
            known.push_back(place);
            return known.size() < most_nodes;
        };
        if (auto done = descend(root_, from, to, keep, more, 0); !done) return done;
        for (const auto& place : journal_.after(*media_, inode, std::move(known)))
            if (place.key >= from && place.key <= to && !visit(place)) break;
        return {};
    }

    template <class Visit>
    Result<void> descend(const Place& at, std::uint64_t from, std::uint64_t to, const Visit& visit, bool& more,
                         int depth) const {
        if (depth > most_depth) return media_->damaged("an index deeper than any", at.at);
        const auto node = media_->node(at.at, index_kind);
        if (!node) return tl::unexpected(node.error());
        const auto head = ondisk::from_bytes<ondisk::UbifsIndex>(*node);
        const std::size_t room =
            node->size() < sizeof(head) ? 0 : (node->size() - sizeof(head)) / sizeof(ondisk::UbifsBranch);
        // With authentication each branch is followed by a digest.
        if (head.children == 0 || head.children > room)
            return media_->damaged("an index node of an impossible size", at.at);
        const std::size_t step = (node->size() - sizeof(head)) / head.children;
        const auto branch = [&](std::size_t i) {
            const auto told = ondisk::from_bytes<ondisk::UbifsBranch>(*node, sizeof(head) + i * step);
            return Place{key_of(told.key), told.block * media_->block + told.at, told.size};
        };
        for (std::size_t i = 0; i < head.children && more; ++i) {
            const auto here = branch(i);
            if (here.key > to) break;
            if (head.level == 0) {
                if (here.key >= from) more = visit(here);
                continue;
            }
            if (i + 1 < head.children && branch(i + 1).key < from) continue;
            if (auto done = descend(here, from, to, visit, more, depth + 1); !done) return done;
        }
        return {};
    }

    std::shared_ptr<const Media> media_;
    VolumeInfo info_;
    Place root_;
    Journal journal_;
};

/// The newest master node of a block: they are written one behind the other.
std::optional<ondisk::UbifsMaster> newest_master(const Media& media, std::uint64_t block, std::uint64_t unit) {
    std::optional<ondisk::UbifsMaster> out;
    constexpr std::uint64_t whole = 512;  // UBIFS_MST_NODE_SZ
    const std::uint64_t step = std::max<std::uint64_t>(8, (whole + unit - 1) / unit * unit);
    for (std::uint64_t at = 0; at + whole <= media.block; at += step) {
        const auto node = media.node(block * media.block + at, master_kind);
        if (node && node->size() >= sizeof(ondisk::UbifsMaster)) out = ondisk::from_bytes<ondisk::UbifsMaster>(*node);
        else if (node || node.error().unreadable()) continue;
        else if (const auto head = media.volume->load<ondisk::UbifsHead>(block * media.block + at);
                 !head || head->magic != magic)
            break;
    }
    return out;
}

}  // namespace

std::optional<VolumeInfo> recognise_ubifs(const ByteSource& volume) {
    const auto super = volume.load<ondisk::UbifsSuper>(0);
    if (!super || super->head.magic != magic || super->head.type != super_kind) return std::nullopt;
    VolumeInfo info;
    info.format = Format::Ubifs;
    info.uuid = uuid_text(super->uuid);
    info.block_size = page;
    info.size = std::uint64_t{super->block_size} * super->blocks;
    return info;
}

Result<std::shared_ptr<const FileSystem>> open_ubifs(const Source& volume, Reader reader) {
    auto info = recognise_ubifs(*volume);
    const auto super = volume->load<ondisk::UbifsSuper>(0);
    if (!info || !super) return fail(ErrorKind::NotFound, "no superblock of UBIFS", volume->place());
    auto media = std::make_shared<Media>();
    media->volume = volume;
    media->strict = reader == Reader::Kernel;
    if (const auto node = media->node(0, super_kind); !node) return tl::unexpected(node.error());
    constexpr std::uint32_t encrypted = 1U << 4U;
    if (super->version > formats_read || (super->flags & encrypted) != 0)
        return fail(ErrorKind::Unsupported,
                    (super->flags & encrypted) != 0 ? "UBIFS with encryption"
                                                    : fmt::format("UBIFS in format {}", std::uint32_t{super->version}),
                    volume->place());
    media->block = super->block_size;
    constexpr std::uint64_t largest = std::uint64_t{4} << 20U;
    if (media->block < 4096 || media->block > largest || super->key_format != 0)
        return fail(ErrorKind::Malformed, "the superblock gives a size of blocks that cannot be", volume->place(),
                    "4 KiB to 4 MiB", fmt::format("{}", media->block));
    const std::uint64_t unit = std::max<std::uint64_t>(8, super->unit);
    // Two copies, of which a stop in between leaves one behind.
    const auto one = newest_master(*media, 1, unit);
    const auto two = newest_master(*media, 2, unit);
    if (!one && !two) return fail(ErrorKind::Malformed, "neither copy of the master node can be used", volume->place());
    const auto& master = one && (!two || one->head.sequence >= two->head.sequence) ? *one : *two;
    const Place root{0, master.root_block * media->block + master.root_at, master.root_size};
    if (const auto node = media->node(root.at, index_kind); !node) return tl::unexpected(node.error());
    constexpr std::uint64_t most_log = 1024;
    auto journal = Journal::read(*media, {master.log_block, std::min<std::uint64_t>(super->log_blocks, most_log),
                                          master.commit, (master.flags & 1U) == 0});
    if (!journal) return tl::unexpected(journal.error());
    return std::make_shared<const Ubifs>(media, std::move(*info), root, std::move(*journal));
}

}  // namespace herberge
