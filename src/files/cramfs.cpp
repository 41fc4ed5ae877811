// SPDX-License-Identifier: MIT
#include "files/cramfs.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "bytes/blocks.hpp"
#include "files/piece_source.hpp"
#include "files/stored.hpp"
#include "files/walked.hpp"
#include "ondisk/jffs2.hpp"

namespace herberge {

namespace {

constexpr std::uint32_t magic = 0x28CD3D45;
constexpr std::uint32_t page = 4096;
constexpr std::uint32_t in_place = 0x800;  // CRAMFS_FLAG_EXT_BLOCK_POINTERS

using Bytes = std::vector<std::uint8_t>;

std::uint32_t size_of(const ondisk::CramfsInode& inode) { return inode.size_gid & 0xFFFFFFU; }
std::uint64_t place_of(const ondisk::CramfsInode& inode) { return std::uint64_t{inode.name_place >> 6U} * 4; }
std::size_t name_size_of(const ondisk::CramfsInode& inode) { return (inode.name_place & 0x3FU) * 4; }

/// Where a block of a file lies: the list says where each ends.
struct Block {
    std::uint64_t at = 0, size = 0;
};
Result<Block> block_of(const ByteSource& volume, std::uint64_t list, std::uint64_t count, std::uint64_t number) {
    const auto end = volume.load<ondisk::little_uint32_t>(list + number * 4);
    if (!end) return tl::unexpected(end.error());
    std::uint64_t begin = list + count * 4;
    if (number != 0) {
        const auto before = volume.load<ondisk::little_uint32_t>(list + (number - 1) * 4);
        if (!before) return tl::unexpected(before.error());
        begin = *before;
    }
    constexpr std::uint64_t most = std::uint64_t{2} * page;
    if (*end < begin || *end - begin > most)
        return fail(ErrorKind::Malformed, "a block of an impossible size",
                    fmt::format("{}, byte {}", volume.place(), list + number * 4));
    return Block{begin, *end - begin};
}

class CramfsSource : public PieceSource {
public:
    CramfsSource(Source volume, std::uint64_t list, std::uint64_t size, std::string place)
        : PieceSource(size, page, std::move(place)),
          volume_(std::move(volume)),
          list_(list),
          count_((size + page - 1) / page) {}
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        std::vector<DiskRange> out;
        for (std::uint64_t i = offset / page; length != 0 && i <= (offset + length - 1) / page && i < count_; ++i)
            if (const auto block = block_of(*volume_, list_, count_, i); block && block->size != 0)
                for (auto& range : volume_->locate(block->at, block->size)) out.push_back(range);
        return out;
    }

private:
    [[nodiscard]] Result<Bytes> unpack(std::uint64_t number, std::size_t wanted) const override {
        const auto block = block_of(*volume_, list_, count_, number);
        if (!block) return tl::unexpected(block.error());
        if (block->size == 0) return Bytes(wanted);
        auto packed = volume_->bytes(block->at, block->size);
        if (!packed) return packed;
        auto out = bytes::unpack_block(bytes::BlockCodec::Zlib, *packed, page);
        if (!out)
            return fail(ErrorKind::Malformed, out.error().what,
                        fmt::format("{}, byte {}", volume_->place(), block->at));
        return out;
    }

    Source volume_;
    std::uint64_t list_, count_;
};

/// Files are known by where their inode lies.
class Cramfs final : public FileSystem {
public:
    Cramfs(Source volume, VolumeInfo info, std::uint64_t root)
        : volume_(std::move(volume)), info_(std::move(info)), root_(root) {}
    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return root_; }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        const auto inode = volume_->load<ondisk::CramfsInode>(file);
        if (!inode) return tl::unexpected(inode.error());
        FileInfo out;
        out.id = file;
        out.type = stored::type_of_mode(inode->mode);
        out.size = size_of(*inode);
        out.permissions = inode->mode & 07777U;
        out.uid = inode->uid;
        out.gid = inode->size_gid >> 24U;
        return out;
    }
    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        return walked::lookup([&](const auto& visit) { return names(directory, visit); }, name, volume_->place());
    }
    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        return walked::list([&](const auto& visit) { return names(directory, visit); });
    }
    [[nodiscard]] Result<std::string> link_target(FileId link) const override {
        const auto info = stat(link);
        if (!info) return tl::unexpected(info.error());
        if (info->type != FileType::Symlink) return fail(ErrorKind::WrongType, "no link", volume_->place());
        return content(link, volume_->place())->text(page);
    }
    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto info = stat(file);
        if (!info) return tl::unexpected(info.error());
        if (info->type != FileType::Regular) return fail(ErrorKind::WrongType, "no regular file", std::move(place));
        return content(file, std::move(place));
    }
    /// Everything is packed.
    [[nodiscard]] Result<std::vector<Extent>> extents(FileId /*file*/) const override { return std::vector<Extent>{}; }

private:
    [[nodiscard]] Source content(FileId file, std::string place) const {
        const auto inode = volume_->load<ondisk::CramfsInode>(file).value_or(ondisk::CramfsInode{});
        return std::make_shared<const CramfsSource>(volume_, place_of(inode), size_of(inode), std::move(place));
    }

    template <class Visit>
    Result<void> names(FileId directory, const Visit& visit) const {
        const auto inode = volume_->load<ondisk::CramfsInode>(directory);
        if (!inode) return tl::unexpected(inode.error());
        if (stored::type_of_mode(inode->mode) != FileType::Directory)
            return fail(ErrorKind::WrongType, "no directory", volume_->place());
        const std::uint64_t begin = place_of(*inode), end = begin + size_of(*inode);
        for (std::uint64_t at = begin; at < end;) {
            const auto one = volume_->load<ondisk::CramfsInode>(at);
            if (!one) return tl::unexpected(one.error());
            const std::size_t size = name_size_of(*one);
            if (size == 0 || at + sizeof(*one) + size > end)
                return fail(ErrorKind::Malformed, "a name of an impossible length",
                            fmt::format("{}, byte {}", volume_->place(), at));
            const auto text = volume_->bytes(at + sizeof(*one), size);
            if (!text) return tl::unexpected(text.error());
            if (!visit(DirEntry{
                    {text->begin(), std::ranges::find(*text, std::uint8_t{0})}, at, stored::type_of_mode(one->mode)}))
                return {};
            at += sizeof(*one) + size;
        }
        return {};
    }

    Source volume_;
    VolumeInfo info_;
    std::uint64_t root_;
};

}  // namespace

std::optional<VolumeInfo> recognise_cramfs(const ByteSource& volume) {
    const auto super = volume.load<ondisk::CramfsSuper>(0);
    if (!super || super->magic != magic) return std::nullopt;
    VolumeInfo info;
    info.format = Format::Cramfs;
    info.size = super->size;
    info.block_size = page;
    info.label = stored::fixed_text(super->name);
    return info;
}

Result<std::shared_ptr<const FileSystem>> open_cramfs(const Source& volume, Reader /*reader*/) {
    auto info = recognise_cramfs(*volume);
    const auto super = volume->load<ondisk::CramfsSuper>(0);
    if (!info || !super) return fail(ErrorKind::NotFound, "no superblock of CramFS", volume->place());
    if ((super->flags & in_place) != 0)
        return fail(ErrorKind::Unsupported, "CramFS with blocks that are run in place", volume->place());
    if (super->size > volume->size())
        return fail(ErrorKind::Malformed, "the volume is cut short", volume->place(),
                    fmt::format("{} bytes", std::uint32_t{super->size}), fmt::format("{} bytes", volume->size()));
    if (stored::type_of_mode(super->root.mode) != FileType::Directory)
        return fail(ErrorKind::Malformed, "the root is no directory", volume->place());
    return std::make_shared<const Cramfs>(volume, std::move(*info), offsetof(ondisk::CramfsSuper, root));
}

}  // namespace herberge
