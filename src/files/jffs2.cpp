// SPDX-License-Identifier: MIT
#include "files/jffs2.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <map>

#include "bytes/blocks.hpp"
#include "bytes/uniform.hpp"
#include "files/piece_source.hpp"
#include "files/stored.hpp"
#include "ondisk/jffs2.hpp"

namespace herberge {

namespace {

constexpr std::uint16_t jffs2_magic = 0x1985;
constexpr std::uint16_t name_node = 0xE001;
constexpr std::uint16_t inode_node = 0xE002;
constexpr std::uint64_t most_bytes = std::uint64_t{256} << 20U;
constexpr std::size_t most_nodes = std::size_t{4} << 20U;
constexpr std::uint32_t page = 4096;
constexpr FileId top = 1;

using Bytes = std::vector<std::uint8_t>;

/// The kernel's crc32 from 0 on, which is not turned at either end.
std::uint32_t flash_crc(std::span<const std::uint8_t> bytes) {
    return bytes.empty() ? 0 : ~crc32(~std::uint32_t{0}, bytes);
}

constexpr std::uint8_t zeros = 1;  // a hole, of any size: it has no bytes

/// A piece of a file, as a node wrote it.
struct Piece {
    std::uint32_t version = 0, offset = 0, size = 0, packed = 0, crc = 0;
    std::uint8_t compression = 0;
    std::uint64_t at = 0;  ///< of its bytes, in the volume
};
struct Inode {
    ondisk::Jffs2Inode newest{};
    std::vector<Piece> pieces;  ///< by version
};
struct Name {
    std::uint32_t version = 0;
    FileId inode = 0;  ///< 0: it was deleted
    std::uint8_t type = 0;
};

/// Distances to the same byte before (fs/jffs2/compr_rtime.c).
std::optional<Bytes> unpack_rtime(std::span<const std::uint8_t> packed, std::size_t size) {
    std::array<std::size_t, 256> places{};
    Bytes out;
    std::size_t at = 0;
    while (out.size() < size) {
        if (at + 2 > packed.size()) return std::nullopt;
        const std::uint8_t value = packed[at], repeat = packed[at + 1];
        at += 2;
        out.push_back(value);
        std::size_t from = places.at(value);
        places.at(value) = out.size();
        for (unsigned i = 0; i < repeat && out.size() < size; ++i) {
            if (from >= out.size()) return std::nullopt;
            out.push_back(out[from++]);
        }
    }
    return out;
}

Result<Bytes> unpack_piece(const ByteSource& volume, const Piece& piece) {
    auto packed = volume.bytes(piece.at, piece.packed);
    if (!packed) return packed;
    const auto damaged = [&](std::string what) {
        return fail(ErrorKind::Malformed, std::move(what), fmt::format("{}, byte {}", volume.place(), piece.at));
    };
    if (flash_crc(*packed) != piece.crc) return damaged("a part of a file fails its CRC");
    // The kernel writes at most a page of memory at once, but for holes (fs/jffs2/write.c).
    constexpr std::uint32_t most_unpacked = 1U << 20U;
    enum : std::uint8_t { none = 0, rtime = 2, zlib = 6, lzo = 7 };
    if (piece.compression != none && piece.compression != zeros && piece.size > most_unpacked)
        return damaged(fmt::format("a packed part of a file would be {} bytes long", piece.size));
    switch (piece.compression) {
        case none: return packed;
        case zeros: return Bytes{};
        case rtime:
            if (auto out = unpack_rtime(*packed, piece.size)) return *out;
            return damaged("a packed part of a file does not unpack");
        case zlib:
        case lzo: {
            auto out = bytes::unpack_block(piece.compression == zlib ? bytes::BlockCodec::Zlib : bytes::BlockCodec::Lzo,
                                           *packed, piece.size);
            if (!out) return damaged(out.error().what);
            return out;
        }
        default:
            return fail(ErrorKind::Unsupported,
                        fmt::format("a part of a file is packed in the way {}", piece.compression),
                        fmt::format("{}, byte {}", volume.place(), piece.at));
    }
}

class Jffs2Source : public PieceSource {
public:
    Jffs2Source(Source volume, std::vector<Piece> pieces, std::uint64_t size, std::string place)
        : PieceSource(size, page, std::move(place)), volume_(std::move(volume)), pieces_(std::move(pieces)) {}
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        std::vector<DiskRange> out;
        for (const auto& piece : pieces_)
            if (piece.offset < offset + length && piece.offset + std::uint64_t{piece.size} > offset)
                for (auto& range : volume_->locate(piece.at, piece.packed)) out.push_back(range);
        return out;
    }

private:
    /// The parts that touch it, the older ones first.
    [[nodiscard]] Result<Bytes> unpack(std::uint64_t number, std::size_t wanted) const override {
        Bytes out(wanted);
        const std::uint64_t begin = number * page, end = begin + wanted;
        for (const auto& piece : pieces_) {
            const std::uint64_t from = std::max<std::uint64_t>(begin, piece.offset);
            const std::uint64_t to = std::min(end, piece.offset + std::uint64_t{piece.size});
            if (from >= to) continue;
            auto bytes = unpack_piece(*volume_, piece);
            if (!bytes) return bytes;
            if (piece.compression == zeros)
                std::fill(out.begin() + static_cast<std::ptrdiff_t>(from - begin),
                          out.begin() + static_cast<std::ptrdiff_t>(to - begin), std::uint8_t{0});
            for (std::uint64_t i = from; i < to && i - piece.offset < bytes->size(); ++i)
                out[static_cast<std::size_t>(i - begin)] = (*bytes)[static_cast<std::size_t>(i - piece.offset)];
        }
        return out;
    }

    Source volume_;
    std::vector<Piece> pieces_;
};

class Jffs2 final : public FileSystem {
public:
    Jffs2(Source volume, VolumeInfo info) : volume_(std::move(volume)), info_(std::move(info)) {}

    Result<void> scan() {
        const auto bytes = volume_->bytes(0, volume_->size(), most_bytes);
        if (!bytes) return tl::unexpected(bytes.error());
        std::size_t nodes = 0;
        for (std::size_t at = 0; at + sizeof(ondisk::Jffs2Head) <= bytes->size();) {
            const auto head = ondisk::from_bytes<ondisk::Jffs2Head>(*bytes, at);
            const bool node = head.magic == jffs2_magic && flash_crc(std::span(*bytes).subspan(at, 8)) == head.crc &&
                              head.size >= sizeof(head) && head.size <= bytes->size() - at;
            if (!node) {
                at += 4;
                continue;
            }
            if (++nodes > most_nodes) return fail(ErrorKind::TooLarge, "more nodes than are read", volume_->place());
            take(std::span(*bytes).subspan(at, head.size), head, at);
            at += (head.size + 3U) / 4 * 4;
        }
        if (nodes == 0) return fail(ErrorKind::Malformed, "no node passes its CRC", volume_->place());
        for (auto& [id, inode] : inodes_) std::ranges::stable_sort(inode.pieces, {}, &Piece::version);
        return {};
    }

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return top; }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        FileInfo out;
        out.id = file;
        const auto found = inodes_.find(file);
        // The top needs no node of its own.
        if (found == inodes_.end() && file == top) {
            out.type = FileType::Directory;
            out.permissions = 0755;
            return out;
        }
        if (found == inodes_.end())
            return fail(ErrorKind::NotFound, fmt::format("there is no inode {}", file), volume_->place());
        const auto& inode = found->second.newest;
        out.type = stored::type_of_mode(inode.mode);
        out.size = inode.size;
        out.permissions = inode.mode & 07777U;
        out.uid = inode.uid;
        out.gid = inode.gid;
        out.modified = inode.modified;
        return out;
    }
    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        const auto names = names_of(directory);
        if (!names) return tl::unexpected(names.error());
        const auto found = (*names)->find(name);
        if (found == (*names)->end() || found->second.inode == 0)
            return fail(ErrorKind::NotFound, fmt::format("no “{}” in the directory", printable(name)),
                        volume_->place());
        return found->second.inode;
    }
    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        const auto names = names_of(directory);
        if (!names) return tl::unexpected(names.error());
        std::vector<DirEntry> out;
        for (const auto& [name, one] : **names)
            if (one.inode != 0) out.push_back({name, one.inode, stored::type_of_mode(std::uint32_t{one.type} << 12U)});
        return out;
    }
    [[nodiscard]] Result<std::string> link_target(FileId link) const override {
        const auto info = stat(link);
        if (!info) return tl::unexpected(info.error());
        if (info->type != FileType::Symlink) return fail(ErrorKind::WrongType, "no link", volume_->place());
        const auto& pieces = inodes_.at(link).pieces;
        if (pieces.empty()) return std::string{};
        const auto bytes = unpack_piece(*volume_, pieces.back());
        if (!bytes) return tl::unexpected(bytes.error());
        return std::string(bytes->begin(), bytes->end());
    }
    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto info = stat(file);
        if (!info) return tl::unexpected(info.error());
        if (info->type != FileType::Regular) return fail(ErrorKind::WrongType, "no regular file", std::move(place));
        return std::make_shared<const Jffs2Source>(volume_, inodes_.at(file).pieces, info->size, std::move(place));
    }
    /// Only what is not packed lies on the volume as it is read.
    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        std::vector<Extent> out;
        if (const auto found = inodes_.find(file); found != inodes_.end())
            for (const auto& piece : found->second.pieces)
                if (piece.compression == 0 && piece.size != 0) out.push_back({piece.offset, piece.size, piece.at});
        return out;
    }

private:
    using Names = std::map<std::string, Name, std::less<>>;

    void take(std::span<const std::uint8_t> node, const ondisk::Jffs2Head& head, std::uint64_t at) {
        if (head.type == name_node && node.size() >= sizeof(ondisk::Jffs2Name)) {
            const auto told = ondisk::from_bytes<ondisk::Jffs2Name>(node);
            const auto text = node.subspan(sizeof(told));
            if (told.name_size > text.size() || flash_crc(node.first(sizeof(told) - 8)) != told.node_crc ||
                flash_crc(text.first(told.name_size)) != told.name_crc)
                return;
            auto& held = names_[told.parent][std::string(text.begin(), text.begin() + told.name_size)];
            if (told.version >= held.version) held = {told.version, told.inode, told.type};
        } else if (head.type == inode_node && node.size() >= sizeof(ondisk::Jffs2Inode)) {
            const auto told = ondisk::from_bytes<ondisk::Jffs2Inode>(node);
            if (flash_crc(node.first(sizeof(told) - 8)) != told.node_crc ||
                told.packed_size > node.size() - sizeof(told))
                return;
            if (is_torn(node.subspan(sizeof(told), told.packed_size), told.data_crc, at + node.size())) return;
            auto& inode = inodes_[told.inode];
            if (told.version >= inode.newest.version) inode.newest = told;
            if (told.part_size != 0)
                inode.pieces.push_back({told.version, told.offset, told.part_size, told.packed_size, told.data_crc,
                                        told.compression, at + sizeof(told)});
        }
    }

    /// The machine stopped while it was written: its data fail their CRC, end erased, and nothing lies behind them. The
    /// kernel passes over such a node (fs/jffs2/nodelist.c, check_tn_node).
    [[nodiscard]] bool is_torn(std::span<const std::uint8_t> data, std::uint32_t crc, std::uint64_t end) const {
        constexpr std::uint64_t enough = 16;
        if (data.empty() || data.back() != 0xFF || flash_crc(data) == crc) return false;
        const std::uint64_t next = (end + 3) / 4 * 4;
        if (next >= volume_->size()) return true;
        const auto behind = volume_->bytes(next, std::min(enough, volume_->size() - next));
        return behind && holds_only(*behind, 0xFF);
    }

    [[nodiscard]] Result<const Names*> names_of(FileId directory) const {
        static const Names none;
        const auto info = stat(directory);
        if (!info) return tl::unexpected(info.error());
        if (info->type != FileType::Directory) return fail(ErrorKind::WrongType, "no directory", volume_->place());
        const auto found = names_.find(directory);
        return found != names_.end() ? &found->second : &none;
    }

    Source volume_;
    VolumeInfo info_;
    std::map<FileId, Inode> inodes_;
    std::map<FileId, Names> names_;
};

}  // namespace

namespace {

/// The first block may be an erased one: which blocks the kernel writes is left to it.
bool begins_with_node(const ByteSource& volume) {
    constexpr std::uint64_t step = std::uint64_t{16} << 10U;
    constexpr int most_looks = 4096;
    std::uint64_t at = 0;
    for (int i = 0; i < most_looks && at < volume.size(); ++i, at += step) {
        const auto head = volume.load<ondisk::Jffs2Head>(at);
        const auto bytes = head ? volume.bytes(at, 8) : tl::unexpected(head.error());
        if (!bytes) return false;
        if (head->magic == jffs2_magic && flash_crc(*bytes) == head->crc) return true;
        // Erased, or the rest of a larger block that begins erased.
        if (i == 0 && !holds_only(*bytes, 0xFF)) return false;
    }
    return false;
}

}  // namespace

std::optional<VolumeInfo> recognise_jffs2(const ByteSource& volume) {
    if (!begins_with_node(volume)) return std::nullopt;
    VolumeInfo info;
    info.format = Format::Jffs2;
    info.block_size = page;
    info.size = volume.size();
    return info;
}

Result<std::shared_ptr<const FileSystem>> open_jffs2(const Source& volume, Reader /*reader*/) {
    auto info = recognise_jffs2(*volume);
    if (!info) return fail(ErrorKind::NotFound, "no node of JFFS2", volume->place());
    auto out = std::make_shared<Jffs2>(volume, std::move(*info));
    if (auto done = out->scan(); !done) return tl::unexpected(done.error());
    return std::shared_ptr<const FileSystem>(std::move(out));
}

}  // namespace herberge
