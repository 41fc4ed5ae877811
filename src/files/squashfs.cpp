// SPDX-License-Identifier: MIT
#include "files/squashfs.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <map>
#include <mutex>
#include <optional>

#include "bytes/blocks.hpp"
#include "files/piece_source.hpp"
#include "ondisk/squashfs.hpp"

namespace herberge {

namespace {

constexpr std::uint32_t squashfs_magic = 0x73717368;
constexpr std::size_t metadata_block = 8192;
constexpr std::uint32_t no_fragment = 0xFFFFFFFF;
constexpr std::uint32_t not_packed = 1U << 24U;
constexpr std::uint64_t absent_table = ~std::uint64_t{0};
constexpr std::size_t most_entries = std::size_t{1} << 20U;
constexpr std::uint64_t most_blocks = std::uint64_t{1} << 22U;  ///< of one file

std::optional<bytes::BlockCodec> codec_of(unsigned compression) {
    using enum bytes::BlockCodec;
    constexpr std::array codecs = {Zlib, Lzma, Lzo, Xz, Lz4, Zstd};
    if (compression < 1 || compression > codecs.size()) return std::nullopt;
    return codecs.at(compression - 1);
}

/// A block of a file: where its bytes lie, as they are packed.
struct Block {
    std::uint64_t at = 0;
    std::uint32_t size = 0;  ///< 0: a hole
    bool packed = false;
};

/// What all readers of one file system share.
struct Image {
    Source volume;
    ondisk::SquashfsSuper super;
    bytes::BlockCodec codec{};

    [[nodiscard]] tl::unexpected<Error> damaged(std::string what, std::uint64_t at) const {
        return fail(ErrorKind::Malformed, std::move(what), fmt::format("{}, byte {}", volume->place(), at));
    }
    /// The bytes of a block of data, unpacked.
    [[nodiscard]] Result<std::vector<std::uint8_t>> data(const Block& block) const {
        if (block.size > super.block_size) return damaged("a block larger than blocks are", block.at);
        auto raw = volume->bytes(block.at, block.size);
        if (!raw || !block.packed) return raw;
        auto out = bytes::unpack_block(codec, *raw, super.block_size);
        if (!out) return damaged(out.error().what, block.at);
        return out;
    }
};

/// A file's content.
class SquashfsSource : public PieceSource {
public:
    SquashfsSource(std::shared_ptr<const Image> image, std::vector<Block> blocks, std::optional<Block> fragment,
                   std::uint64_t fragment_at, std::uint64_t size, std::string place)
        : PieceSource(size, image->super.block_size, std::move(place)),
          image_(std::move(image)),
          blocks_(std::move(blocks)),
          fragment_(fragment),
          fragment_at_(fragment_at) {}
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        std::vector<DiskRange> out;
        for (std::uint64_t i = offset / piece(); length != 0 && i <= (offset + length - 1) / piece(); ++i) {
            if (i >= blocks_.size() && !fragment_) break;
            const Block& block = i < blocks_.size() ? blocks_[static_cast<std::size_t>(i)] : *fragment_;
            if (block.size == 0) continue;
            for (auto& range : image_->volume->locate(block.at, block.size)) out.push_back(range);
        }
        return out;
    }

private:
    [[nodiscard]] Result<std::vector<std::uint8_t>> unpack(std::uint64_t number, std::size_t wanted) const override {
        if (number < blocks_.size()) {
            const Block& block = blocks_[static_cast<std::size_t>(number)];
            if (block.size == 0) return std::vector<std::uint8_t>{};
            auto made = image_->data(block);
            if (made && made->size() < wanted) return image_->damaged("a block of a file is too short", block.at);
            return made;
        }
        auto made = fragment_ ? image_->data(*fragment_) : image_->damaged("a file without its end", 0);
        if (!made) return made;
        if (fragment_at_ > made->size() || wanted > made->size() - fragment_at_)
            return image_->damaged("a file's end lies outside its fragment", fragment_->at);
        const auto from = made->begin() + static_cast<std::ptrdiff_t>(fragment_at_);
        return std::vector<std::uint8_t>(from, from + static_cast<std::ptrdiff_t>(wanted));
    }

    std::shared_ptr<const Image> image_;
    std::vector<Block> blocks_;
    std::optional<Block> fragment_;
    std::uint64_t fragment_at_;
};

class SquashFs : public FileSystem {
public:
    SquashFs(std::shared_ptr<const Image> image, VolumeInfo info) : image_(std::move(image)), info_(std::move(info)) {}

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return image_->super.root; }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        const auto inode = inode_at(file);
        if (!inode) return tl::unexpected(inode.error());
        FileInfo out;
        out.id = file;
        out.type = inode->type;
        out.permissions = inode->head.mode & 07777U;
        out.modified = inode->head.modified;
        out.size = inode->size;
        out.uid = id(inode->head.uid).value_or(0);
        out.gid = id(inode->head.gid).value_or(0);
        return out;
    }

    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        const auto all = list(directory);
        if (!all) return tl::unexpected(all.error());
        const auto found = std::ranges::find(*all, name, &DirEntry::name);
        if (found == all->end())
            return fail(ErrorKind::NotFound, fmt::format("no {} in this directory", printable(name)),
                        image_->volume->place());
        return found->id;
    }

    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        const auto inode = inode_at(directory);
        if (!inode) return tl::unexpected(inode.error());
        if (inode->type != FileType::Directory)
            return fail(ErrorKind::WrongType, "no directory", image_->volume->place());
        std::vector<DirEntry> out;
        if (inode->size <= 3) return out;  // what stands for "." and ".."
        Cursor cursor(*this, image_->super.directory_table + inode->start, inode->offset);
        const auto bytes = cursor.take(static_cast<std::size_t>(inode->size - 3));
        if (!bytes) return tl::unexpected(bytes.error());
        for (std::size_t at = 0; at < bytes->size();) {
            if (bytes->size() - at < sizeof(ondisk::SquashfsDirectoryHead))
                return image_->damaged("a directory that ends within an entry", image_->super.directory_table);
            const auto head = ondisk::from_bytes<ondisk::SquashfsDirectoryHead>(*bytes, at);
            at += sizeof(head);
            for (std::uint64_t i = 0; i <= head.count; ++i) {
                const auto entry = ondisk::from_bytes<ondisk::SquashfsEntry>(*bytes, at);
                const std::size_t length = std::size_t{entry.size} + 1;
                if (bytes->size() - at < sizeof(entry) || bytes->size() - at - sizeof(entry) < length)
                    return image_->damaged("a directory that ends within an entry", image_->super.directory_table);
                at += sizeof(entry);
                out.push_back({std::string(bytes->begin() + static_cast<std::ptrdiff_t>(at),
                                           bytes->begin() + static_cast<std::ptrdiff_t>(at + length)),
                               std::uint64_t{head.block} << 16U | entry.offset, type_of(entry.type)});
                at += length;
                if (out.size() > most_entries)
                    return fail(ErrorKind::TooLarge, "a directory with too many entries", image_->volume->place());
            }
        }
        return out;
    }

    [[nodiscard]] Result<std::string> link_target(FileId link) const override {
        const auto inode = inode_at(link);
        if (!inode) return tl::unexpected(inode.error());
        if (inode->type != FileType::Symlink) return fail(ErrorKind::WrongType, "no link", image_->volume->place());
        return inode->target;
    }

    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto inode = inode_at(file);
        if (!inode) return tl::unexpected(inode.error());
        if (inode->type != FileType::Regular) return fail(ErrorKind::WrongType, "no regular file", std::move(place));
        std::optional<Block> fragment;
        if (inode->fragment != no_fragment) {
            auto found = fragment_at(inode->fragment);
            if (!found) return tl::unexpected(found.error());
            fragment = *found;
        }
        return std::make_shared<const SquashfsSource>(image_, inode->blocks, fragment, inode->offset, inode->size,
                                                      std::move(place));
    }

    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        // Only what is not packed lies on the volume as it is read.
        const auto inode = inode_at(file);
        if (!inode) return tl::unexpected(inode.error());
        std::vector<Extent> out;
        for (std::size_t i = 0; i < inode->blocks.size(); ++i)
            if (const Block& block = inode->blocks[i]; block.size != 0 && !block.packed)
                out.push_back({i * std::uint64_t{image_->super.block_size}, block.size, block.at});
        return out;
    }

private:
    struct Inode {
        ondisk::SquashfsInode head{};
        FileType type = FileType::Unknown;
        std::uint64_t size = 0;
        std::uint64_t start = 0;
        std::uint32_t offset = 0;
        std::uint32_t fragment = no_fragment;
        std::vector<Block> blocks;
        std::string target;
    };

    /// Reads on through the metadata blocks of a table, which are packed one by one.
    class Cursor {
    public:
        Cursor(const SquashFs& fs, std::uint64_t block, std::size_t offset) : fs_(fs), next_(block), skip_(offset) {}
        Result<std::vector<std::uint8_t>> take(std::size_t count) {
            constexpr std::size_t most = std::size_t{64} << 20U;
            if (count > most) return fs_.image_->damaged("metadata of an impossible length", next_);
            std::vector<std::uint8_t> out;
            while (out.size() < count) {
                if (at_ == bytes_.size()) {
                    auto more = fs_.metadata(next_);
                    if (!more) return tl::unexpected(more.error());
                    bytes_ = std::move(more->bytes);
                    next_ = more->next;
                    at_ = skip_;
                    skip_ = 0;
                    if (at_ >= bytes_.size()) return fs_.image_->damaged("metadata that ends too early", next_);
                }
                const std::size_t part = std::min(count - out.size(), bytes_.size() - at_);
                out.insert(out.end(), bytes_.begin() + static_cast<std::ptrdiff_t>(at_),
                           bytes_.begin() + static_cast<std::ptrdiff_t>(at_ + part));
                at_ += part;
            }
            return out;
        }
        template <class T>
        Result<T> load() {
            const auto bytes = take(sizeof(T));
            if (!bytes) return tl::unexpected(bytes.error());
            return ondisk::from_bytes<T>(*bytes);
        }

    private:
        const SquashFs& fs_;
        std::uint64_t next_;
        std::size_t skip_;
        std::vector<std::uint8_t> bytes_;
        std::size_t at_ = 0;
    };

    struct Metadata {
        std::vector<std::uint8_t> bytes;
        std::uint64_t next = 0;  ///< where the next block begins
    };
    /// The metadata block at byte `at`; the last ones are kept.
    [[nodiscard]] Result<Metadata> metadata(std::uint64_t at) const {
        {
            const std::scoped_lock lock(mutex_);
            if (const auto found = kept_.find(at); found != kept_.end()) return found->second;
        }
        constexpr unsigned unpacked = 0x8000;
        const auto head = image_->volume->load<ondisk::little_uint16_t>(at);
        if (!head) return tl::unexpected(head.error());
        const std::size_t size = *head & 0x7FFFU;
        if (size == 0 || size > metadata_block) return image_->damaged("a metadata block of an impossible size", at);
        auto raw = image_->volume->bytes(at + 2, size);
        if (!raw) return tl::unexpected(raw.error());
        Metadata out;
        out.next = at + 2 + size;
        if ((*head & unpacked) != 0) {
            out.bytes = std::move(*raw);
        } else {
            auto made = bytes::unpack_block(image_->codec, *raw, metadata_block);
            if (!made) return image_->damaged(made.error().what, at);
            out.bytes = std::move(*made);
        }
        const std::scoped_lock lock(mutex_);
        if (kept_.size() >= most_kept) kept_.clear();
        kept_.emplace(at, out);
        return out;
    }

    static FileType type_of(unsigned type) {
        constexpr std::array types = {FileType::Unknown,     FileType::Directory,  FileType::Regular, FileType::Symlink,
                                      FileType::BlockDevice, FileType::CharDevice, FileType::Fifo,    FileType::Socket};
        if (type > 14) return FileType::Unknown;
        return types.at(type > 7 ? type - 7 : type);
    }

    [[nodiscard]] Result<Inode> inode_at(FileId id) const {
        const std::uint64_t at = image_->super.inode_table + (id >> 16U);
        Cursor cursor(*this, at, static_cast<std::size_t>(id & 0xFFFFU));
        const auto head = cursor.load<ondisk::SquashfsInode>();
        if (!head) return tl::unexpected(head.error());
        Inode out;
        out.head = *head;
        out.type = type_of(head->type);
        std::optional<Error> problem;
        const auto load = [&](auto& into) {
            auto loaded = cursor.load<std::remove_reference_t<decltype(into)>>();
            if (loaded) into = *loaded;
            else problem = loaded.error();
        };
        // The basic and the extended form name the same fields.
        const auto directory = [&](auto d) {
            load(d);
            out.size = d.size;
            out.start = d.block;
            out.offset = d.offset;
        };
        const auto file = [&](auto f) {
            load(f);
            out.size = f.size;
            out.start = f.start;
            out.offset = f.offset;
            out.fragment = f.fragment;
        };
        switch (head->type) {
            case 1: directory(ondisk::SquashfsDirectory{}); break;
            case 8: directory(ondisk::SquashfsLongDirectory{}); break;
            case 2: file(ondisk::SquashfsFile{}); break;
            case 9: file(ondisk::SquashfsLongFile{}); break;
            case 3:
            case 10: {
                ondisk::SquashfsLink l{};
                load(l);
                if (problem) break;
                if (l.size > 65536) return image_->damaged("a link of an impossible length", at);
                const auto text = cursor.take(l.size);
                if (!text) return tl::unexpected(text.error());
                out.target.assign(text->begin(), text->end());
                out.size = l.size;
                break;
            }
            default:
                if (out.type == FileType::Unknown) return image_->damaged("an inode of an unknown type", at);
        }
        if (problem) return tl::unexpected(*problem);
        if (out.type == FileType::Regular)
            if (auto done = take_blocks(cursor, out, at); !done) return tl::unexpected(done.error());
        return out;
    }

    /// The list of a file's blocks; one behind the other from its start on.
    Result<void> take_blocks(Cursor& cursor, Inode& inode, std::uint64_t at) const {
        const std::uint64_t unit = image_->super.block_size;
        std::uint64_t count = inode.size / unit;
        if (inode.fragment == no_fragment && inode.size % unit != 0) ++count;
        if (count > most_blocks) return image_->damaged("a file of an impossible length", at);
        const auto list = cursor.take(static_cast<std::size_t>(count * 4));
        if (!list) return tl::unexpected(list.error());
        std::uint64_t place = inode.start;
        for (std::size_t i = 0; i < count; ++i) {
            const std::uint32_t told = ondisk::from_bytes<ondisk::little_uint32_t>(*list, i * 4);
            const std::uint32_t size = told & (not_packed - 1);
            inode.blocks.push_back({place, size, (told & not_packed) == 0});
            place += size;
        }
        return {};
    }

    /// Element `index` of a table whose blocks of metadata are listed at `table`.
    template <class T>
    [[nodiscard]] Result<T> element(std::uint64_t table, std::uint64_t index) const {
        constexpr std::uint64_t in_a_block = metadata_block / sizeof(T);
        if (table == absent_table) return image_->damaged("a table is asked for that is not there", 0);
        const auto block = image_->volume->load<ondisk::little_uint64_t>(table + index / in_a_block * 8);
        if (!block) return tl::unexpected(block.error());
        return Cursor(*this, *block, static_cast<std::size_t>(index % in_a_block * sizeof(T))).load<T>();
    }
    [[nodiscard]] Result<Block> fragment_at(std::uint32_t index) const {
        if (index >= image_->super.fragments)
            return image_->damaged("a fragment beyond their number", image_->super.fragment_table);
        const auto told = element<ondisk::SquashfsFragment>(image_->super.fragment_table, index);
        if (!told) return tl::unexpected(told.error());
        return Block{told->start, told->size & (not_packed - 1), (told->size & not_packed) == 0};
    }
    [[nodiscard]] std::optional<std::uint32_t> id(unsigned index) const {
        const auto told = element<ondisk::little_uint32_t>(image_->super.id_table, index);
        if (!told) return std::nullopt;
        return std::uint32_t{*told};
    }

    static constexpr std::size_t most_kept = 64;
    std::shared_ptr<const Image> image_;
    VolumeInfo info_;
    mutable std::mutex mutex_;
    mutable std::map<std::uint64_t, Metadata> kept_;
};

}  // namespace

std::optional<VolumeInfo> recognise_squashfs(const ByteSource& volume) {
    const auto super = volume.load<ondisk::SquashfsSuper>(0);
    if (!super || super->magic != squashfs_magic) return std::nullopt;
    VolumeInfo info;
    info.format = Format::Squashfs;
    info.size = super->bytes_used;
    info.block_size = super->block_size;
    info.last_written = super->made;
    return info;
}

Result<std::shared_ptr<const FileSystem>> open_squashfs(const Source& volume, [[maybe_unused]] Reader reader) {
    auto info = recognise_squashfs(*volume);
    const auto super = volume->load<ondisk::SquashfsSuper>(0);
    if (!info || !super) return fail(ErrorKind::NotFound, "no superblock of SquashFS", volume->place());
    if (super->major != 4 || super->minor != 0)
        return fail(ErrorKind::Unsupported,
                    fmt::format("SquashFS {}.{}", std::uint16_t{super->major}, std::uint16_t{super->minor}),
                    volume->place(), "4.0");
    // What fs/squashfs/super.c refuses.
    if (super->block_size < 4096 || super->block_size > (1U << 20U) || super->block_log > 20 ||
        super->block_size != 1U << super->block_log)
        return fail(ErrorKind::Malformed, "the size of blocks cannot be", volume->place(), "a power of two to 1 MiB",
                    fmt::format("{}", std::uint32_t{super->block_size}));
    if (super->bytes_used > volume->size())
        return fail(ErrorKind::Malformed, "the volume is cut short", volume->place(),
                    fmt::format("{} bytes", std::uint64_t{super->bytes_used}), fmt::format("{} bytes", volume->size()));
    const auto codec = codec_of(super->compression);
    if (!codec)
        return fail(ErrorKind::Unsupported,
                    fmt::format("SquashFS packed in a way that is not known ({})", std::uint16_t{super->compression}),
                    volume->place());
    const auto image = std::make_shared<const Image>(Image{volume, *super, *codec});
    auto fs = std::make_shared<const SquashFs>(image, std::move(*info));
    if (const auto root = fs->stat(fs->root()); !root) return tl::unexpected(root.error());
    else if (root->type != FileType::Directory)
        return fail(ErrorKind::Malformed, "its root is no directory", volume->place());
    return fs;
}

}  // namespace herberge
