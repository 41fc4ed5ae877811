// SPDX-License-Identifier: MIT
// XFS of version 5 ("XFS Algorithms & Data Structures"): one allocation group, its trees one block each.
#include <algorithm>
#include <stdexcept>

#include <herberge/bytes.hpp>

#include "servers.hpp"

namespace forge {

namespace {

constexpr std::size_t block_size = 4096;
constexpr std::size_t sector_size = 512;
constexpr std::size_t inode_size = 512;
constexpr std::size_t inodes_per_block = block_size / inode_size;
constexpr std::size_t inode_head = 176;
constexpr std::size_t inode_room = inode_size - inode_head;
constexpr std::size_t inodes_per_chunk = 64;
constexpr std::uint32_t none = 0xFFFFFFFFU;
constexpr std::uint32_t spare_blocks = 4;  // at hand for the group's trees
constexpr std::uint32_t free_by_place = 1, free_by_size = 2, inode_tree = 3, first_spare = 4;
constexpr std::uint32_t log_at = first_spare + spare_blocks, log_blocks = 1600;
constexpr std::uint32_t inodes_at = log_at + log_blocks;  // a multiple of four: inodes are read 16 KiB at a time
constexpr std::uint64_t written = 1767225600U;

void big16(Bytes& out, std::size_t at, std::uint64_t value) {
    grow(out, at + 2);
    out[at] = static_cast<std::uint8_t>(value >> 8U);
    out[at + 1] = static_cast<std::uint8_t>(value);
}
void big32(Bytes& out, std::size_t at, std::uint64_t value) {
    big16(out, at, value >> 16U);
    big16(out, at + 2, value);
}
void big64(Bytes& out, std::size_t at, std::uint64_t value) {
    big32(out, at, value >> 32U);
    big32(out, at + 4, value);
}

/// The checksum of `size` bytes from `at` on goes to `field` behind it.
void seal(Bytes& out, std::size_t at, std::size_t size, std::size_t field) {
    put32(out, at + field, 0);
    put32(out, at + field, ~herberge::crc32c(0xFFFFFFFFU, std::span(out).subspan(at, size)));
}

std::uint32_t rotated(std::uint32_t value, unsigned by) { return value << by | value >> (32U - by); }

/// fs/xfs/libxfs/xfs_da_btree.c, xfs_da_hashname.
std::uint32_t hash_of(std::string_view name) {
    std::uint32_t hash = 0;
    const auto at = [&](std::size_t i) { return std::uint32_t{static_cast<std::uint8_t>(name[i])}; };
    for (; name.size() >= 4; name.remove_prefix(4))
        hash = (at(0) << 21U) ^ (at(1) << 14U) ^ (at(2) << 7U) ^ at(3) ^ rotated(hash, 28);
    switch (name.size()) {
        case 3: return (at(0) << 14U) ^ (at(1) << 7U) ^ at(2) ^ rotated(hash, 21);
        case 2: return (at(0) << 7U) ^ at(1) ^ rotated(hash, 14);
        case 1: return at(0) ^ rotated(hash, 7);
        default: return hash;
    }
}

struct Entry {
    std::string name;
    std::uint64_t inode;
    std::uint8_t type;
};

std::uint8_t type_of(Node::Kind kind) {
    return kind == Node::Kind::Directory ? 2 : kind == Node::Kind::Link ? 7 : kind == Node::Kind::Device ? 3 : 1;
}

/// Bytes of an entry in a directory block: inode, length, name, type, and its own place at the end.
std::size_t entry_size(std::string_view name) { return (8 + 1 + name.size() + 1 + 2 + 7) / 8 * 8; }

class XfsWriter {
public:
    XfsWriter(const Tree& tree, const XfsOptions& options)
        : o_(options), blocks_(static_cast<std::uint32_t>(options.size / block_size)), image_(options.size) {
        for (const auto& [path, node] : tree.nodes())
            if (path != "/") paths_.push_back({path, &node});
    }

    Bytes make() {
        // The root, two for a real-time part that is not there, then all others in the order of their paths.
        numbers_["/"] = number(0);
        for (std::size_t i = 0; i < paths_.size(); ++i) numbers_[paths_[i].first] = number(3 + i);
        count_ = 3 + paths_.size();
        chunks_ = static_cast<std::uint32_t>((count_ + inodes_per_chunk - 1) / inodes_per_chunk);
        next_ = inodes_at + chunks_ * static_cast<std::uint32_t>(inodes_per_chunk / inodes_per_block);
        room(next_);
        for (std::size_t i = 0; i < std::size_t{chunks_} * inodes_per_chunk; ++i) inode(number(i), 0, 0);
        directory("/", 0755);
        inode(number(1), 0100000, 1);
        inode(number(2), 0100000, 1);
        for (const auto& [path, node] : paths_) {
            if (node->kind == Node::Kind::Directory) directory(path, node->mode);
            else if (node->kind == Node::Kind::File) file(path, *node);
            else if (node->kind == Node::Kind::Link) link(path, *node);
            else device(path, *node);
        }
        for (std::size_t i = 0; i < std::size_t{chunks_} * inodes_per_chunk; ++i)
            seal(image_, inode_place(number(i)), inode_size, 100);
        group();
        log();
        super();
        return std::move(image_);
    }

private:
    static std::uint64_t number(std::size_t index) { return std::uint64_t{inodes_at} * inodes_per_block + index; }
    static std::size_t inode_place(std::uint64_t number) { return static_cast<std::size_t>(number) * inode_size; }
    void room(std::uint32_t blocks) const {
        if (blocks > blocks_) throw std::runtime_error("the XFS is too small for its tree");
    }

    /// A fresh inode: its form of data is a list of extents, and there is none.
    std::size_t inode(std::uint64_t number, std::uint32_t mode, std::uint32_t links) {
        const std::size_t at = inode_place(number);
        std::fill_n(image_.begin() + static_cast<std::ptrdiff_t>(at), inode_size, std::uint8_t{0});
        big16(image_, at, 0x494E);
        big16(image_, at + 2, mode);
        image_[at + 4] = 3;
        image_[at + 5] = 2;
        big32(image_, at + 16, links);
        for (const std::size_t time : {32U, 40U, 48U, 144U}) big32(image_, at + time, mode == 0 ? 0 : written);
        image_[at + 83] = 2;
        big32(image_, at + 96, none);
        big64(image_, at + 152, number);
        std::ranges::copy(o_.uuid, image_.begin() + static_cast<std::ptrdiff_t>(at + 160));
        return at;
    }

    std::uint32_t take(std::size_t bytes) {
        const auto blocks = static_cast<std::uint32_t>((bytes + block_size - 1) / block_size);
        room(next_ + blocks);
        next_ += blocks;
        return next_ - blocks;
    }

    void extents(std::size_t at, const std::vector<std::array<std::uint64_t, 3>>& list) {
        if (list.size() * 16 > inode_room) throw std::runtime_error("a file has too many pieces");
        std::uint64_t blocks = 0;
        for (std::size_t i = 0; i < list.size(); ++i) {
            const auto& [offset, block, count] = list[i];
            big64(image_, at + inode_head + i * 16, offset << 9U | block >> 43U);
            big64(image_, at + inode_head + i * 16 + 8, block << 21U | count);
            blocks += count;
        }
        big64(image_, at + 64, blocks);
        big32(image_, at + 76, list.size());
    }

    void file(const std::string& path, const Node& node) {
        const std::size_t at = inode(numbers_.at(path), 0100000U | node.mode, 1);
        big64(image_, at + 56, node.content.size());
        std::vector<std::array<std::uint64_t, 3>> list;
        std::size_t from = 0;
        const auto piece = [&](std::size_t to) {
            if (to <= from) return;
            const std::uint32_t block = take(to - from);
            std::copy(node.content.begin() + static_cast<std::ptrdiff_t>(from),
                      node.content.begin() + static_cast<std::ptrdiff_t>(to),
                      image_.begin() + static_cast<std::ptrdiff_t>(block * block_size));
            list.push_back({from / block_size, block, (to - from + block_size - 1) / block_size});
        };
        for (const auto& [offset, length] : node.holes) {
            piece(static_cast<std::size_t>(offset));
            from = static_cast<std::size_t>(offset + length);
        }
        piece(node.content.size());
        extents(at, list);
    }

    void link(const std::string& path, const Node& node) {
        if (node.target.size() > inode_room) throw std::runtime_error("a link's target is too long");
        const std::size_t at = inode(numbers_.at(path), 0120777, 1);
        image_[at + 5] = 1;
        big64(image_, at + 56, node.target.size());
        std::ranges::copy(node.target, image_.begin() + static_cast<std::ptrdiff_t>(at + inode_head));
    }

    void device(const std::string& path, const Node& node) {
        const std::size_t at = inode(numbers_.at(path), 0020000U | node.mode, 1);
        image_[at + 5] = 0;
        big32(image_, at + inode_head, 5U << 18U | 1U);  // the console
    }

    void directory(const std::string& path, std::uint32_t mode) {
        const std::string below = path == "/" ? "/" : path + "/";
        std::vector<Entry> entries;
        std::uint32_t links = 2;
        for (const auto& [other, node] : paths_) {
            if (!other.starts_with(below) || other.find('/', below.size()) != std::string::npos) continue;
            entries.push_back({other.substr(below.size()), numbers_.at(other), type_of(node->kind)});
            if (node->kind == Node::Kind::Directory) ++links;
        }
        const auto slash = path.rfind('/');
        const std::uint64_t own = numbers_.at(path);
        const std::uint64_t parent = numbers_.at(slash == 0 || path == "/" ? "/" : path.substr(0, slash));
        const std::size_t at = inode(own, 0040000U | mode, links);
        std::size_t inside = 6;
        for (const auto& e : entries) inside += 3 + e.name.size() + 1 + 4;
        if (inside <= inode_room) short_directory(at, parent, entries, inside);
        else block_directory(at, own, parent, entries);
    }

    void short_directory(std::size_t at, std::uint64_t parent, const std::vector<Entry>& entries, std::size_t size) {
        image_[at + 5] = 1;
        big64(image_, at + 56, size);
        std::size_t to = at + inode_head;
        image_[to] = static_cast<std::uint8_t>(entries.size());
        big32(image_, to + 2, parent);
        to += 6;
        std::size_t offset = 64 + entry_size(".") + entry_size("..");
        for (const auto& e : entries) {
            image_[to] = static_cast<std::uint8_t>(e.name.size());
            big16(image_, to + 1, offset);
            std::ranges::copy(e.name, image_.begin() + static_cast<std::ptrdiff_t>(to + 3));
            to += 3 + e.name.size();
            image_[to] = e.type;
            big32(image_, to + 1, e.inode);
            to += 5;
            offset += entry_size(e.name);
        }
    }

    void block_directory(std::size_t at, std::uint64_t own, std::uint64_t parent, std::vector<Entry> entries) {
        entries.insert(entries.begin(), {{".", own, 2}, {"..", parent, 2}});
        const std::uint32_t block = take(block_size);
        big64(image_, at + 56, block_size);
        extents(at, {{0, block, 1}});
        const std::size_t begin = block * block_size;
        std::vector<std::pair<std::uint32_t, std::uint32_t>> index;
        std::size_t to = 64;
        const std::size_t index_at = block_size - 8 - entries.size() * 8;
        for (const auto& e : entries) {
            const std::size_t size = entry_size(e.name);
            if (to + size > index_at) throw std::runtime_error("a directory has too many names");
            big64(image_, begin + to, e.inode);
            image_[begin + to + 8] = static_cast<std::uint8_t>(e.name.size());
            std::ranges::copy(e.name, image_.begin() + static_cast<std::ptrdiff_t>(begin + to + 9));
            image_[begin + to + 9 + e.name.size()] = e.type;
            big16(image_, begin + to + size - 2, to);
            index.emplace_back(hash_of(e.name), static_cast<std::uint32_t>(to / 8));
            to += size;
        }
        if (to < index_at) {
            big16(image_, begin + to, 0xFFFF);
            big16(image_, begin + to + 2, index_at - to);
            big16(image_, begin + index_at - 2, to);
            big16(image_, begin + 48, to);
            big16(image_, begin + 50, index_at - to);
        }
        std::ranges::sort(index);
        for (std::size_t i = 0; i < index.size(); ++i) {
            big32(image_, begin + index_at + i * 8, index[i].first);
            big32(image_, begin + index_at + i * 8 + 4, index[i].second);
        }
        big32(image_, begin + block_size - 8, index.size());
        big32(image_, begin, 0x58444233);  // "XDB3"
        big64(image_, begin + 8, block * (block_size / sector_size));
        std::ranges::copy(o_.uuid, image_.begin() + static_cast<std::ptrdiff_t>(begin + 24));
        big64(image_, begin + 40, own);
        seal(image_, begin, block_size, 4);
    }

    /// A tree of the group that is one block: records of 32-bit words.
    void tree(std::uint32_t block, std::uint32_t magic, std::size_t records, const std::vector<std::uint32_t>& words) {
        const std::size_t at = block * block_size;
        big32(image_, at, magic);
        big16(image_, at + 6, records);
        big32(image_, at + 8, none);
        big32(image_, at + 12, none);
        big64(image_, at + 16, block * (block_size / sector_size));
        std::ranges::copy(o_.uuid, image_.begin() + static_cast<std::ptrdiff_t>(at + 32));
        for (std::size_t i = 0; i < words.size(); ++i) big32(image_, at + 56 + i * 4, words[i]);
        seal(image_, at, block_size, 52);
    }

    void group() {
        const std::uint32_t free = blocks_ - next_;
        tree(free_by_place, 0x41423342, free > 0 ? 1 : 0, {next_, free});  // "AB3B"
        tree(free_by_size, 0x41423343, free > 0 ? 1 : 0, {next_, free});   // "AB3C"
        std::vector<std::uint32_t> chunks;
        for (std::uint32_t c = 0; c < chunks_; ++c) {
            const std::size_t used = std::min(inodes_per_chunk, count_ - c * inodes_per_chunk);
            const std::uint64_t open = used == inodes_per_chunk ? 0 : ~std::uint64_t{0} << used;
            chunks.insert(chunks.end(), {static_cast<std::uint32_t>(number(c * inodes_per_chunk)),
                                         static_cast<std::uint32_t>(inodes_per_chunk - used),
                                         static_cast<std::uint32_t>(open >> 32U), static_cast<std::uint32_t>(open)});
        }
        tree(inode_tree, 0x49414233, chunks_, chunks);  // "IAB3"
        const std::size_t space = sector_size;
        big32(image_, space, 0x58414746);  // "XAGF"
        big32(image_, space + 4, 1);
        big32(image_, space + 12, blocks_);
        big32(image_, space + 16, free_by_place);
        big32(image_, space + 20, free_by_size);
        big32(image_, space + 28, 1);
        big32(image_, space + 32, 1);
        big32(image_, space + 44, spare_blocks - 1);
        big32(image_, space + 48, spare_blocks);
        big32(image_, space + 52, free);
        big32(image_, space + 56, free);
        std::ranges::copy(o_.uuid, image_.begin() + static_cast<std::ptrdiff_t>(space + 64));
        seal(image_, space, sector_size, 216);
        const std::size_t inodes = 2 * sector_size;
        big32(image_, inodes, 0x58414749);  // "XAGI"
        big32(image_, inodes + 4, 1);
        big32(image_, inodes + 12, blocks_);
        big32(image_, inodes + 16, std::uint64_t{chunks_} * inodes_per_chunk);
        big32(image_, inodes + 20, inode_tree);
        big32(image_, inodes + 24, 1);
        big32(image_, inodes + 28, chunks_ * inodes_per_chunk - count_);
        big32(image_, inodes + 32, number(0));
        big32(image_, inodes + 36, none);
        for (std::size_t i = 0; i < 64; ++i) big32(image_, inodes + 40 + i * 4, none);
        std::ranges::copy(o_.uuid, image_.begin() + static_cast<std::ptrdiff_t>(inodes + 296));
        seal(image_, inodes, sector_size, 312);
        const std::size_t spare = 3 * sector_size;
        big32(image_, spare, 0x5841464C);  // "XAFL"
        std::ranges::copy(o_.uuid, image_.begin() + static_cast<std::ptrdiff_t>(spare + 8));
        for (std::size_t i = 0; i < (sector_size - 36) / 4; ++i)
            big32(image_, spare + 36 + i * 4, i < spare_blocks ? first_spare + i : none);
        seal(image_, spare, sector_size, 32);
    }

    /// The log says only that it was left in order (fs/xfs/libxfs/xfs_log_format.h).
    void log() {
        const std::size_t at = log_at * block_size;
        big32(image_, at, 0xFEEDBABE);
        big32(image_, at + 4, 1);
        big32(image_, at + 8, 2);
        big32(image_, at + 12, sector_size);
        big64(image_, at + 16, std::uint64_t{1} << 32U);
        big64(image_, at + 24, std::uint64_t{1} << 32U);
        big32(image_, at + 36, none);
        big32(image_, at + 40, 1);
        big32(image_, at + 44, 0xB0C0D0D0);
        big32(image_, at + 300, 1);
        std::ranges::copy(o_.uuid, image_.begin() + static_cast<std::ptrdiff_t>(at + 304));
        big32(image_, at + 320, 32768);
        big32(image_, at + sector_size, 1);  // the round stands in place of the first word
        big32(image_, at + sector_size + 4, 8);
        image_[at + sector_size + 8] = 0xAA;
        image_[at + sector_size + 9] = 0x20;
        put16(image_, at + sector_size + 12, 0x556E);
    }

    void super() {
        big32(image_, 0, 0x58465342);  // "XFSB"
        big32(image_, 4, block_size);
        big64(image_, 8, blocks_);
        std::ranges::copy(o_.uuid, image_.begin() + 32);
        big64(image_, 48, log_at);
        big64(image_, 56, number(0));
        big64(image_, 64, number(1));
        big64(image_, 72, number(2));
        big32(image_, 80, 1);
        big32(image_, 84, blocks_);
        big32(image_, 88, 1);
        big32(image_, 96, log_blocks);
        big16(image_, 100, 0xB4A5);
        big16(image_, 102, sector_size);
        big16(image_, 104, inode_size);
        big16(image_, 106, inodes_per_block);
        std::copy_n(o_.label.begin(), std::min<std::size_t>(12, o_.label.size()), image_.begin() + 108);
        image_[120] = 12;
        image_[121] = 9;
        image_[122] = 9;
        image_[123] = 3;
        while ((std::uint32_t{1} << image_[124]) < blocks_) ++image_[124];
        image_[127] = 25;
        big64(image_, 128, std::uint64_t{chunks_} * inodes_per_chunk);
        big64(image_, 136, chunks_ * inodes_per_chunk - count_);
        big64(image_, 144, blocks_ - next_ + spare_blocks);
        big32(image_, 180, 4);
        big32(image_, 196, 1);
        big32(image_, 200, 0x18A);
        big32(image_, 204, 0x18A);
        big32(image_, 216, 1);
        seal(image_, 0, sector_size, 224);
    }

    XfsOptions o_;
    std::uint32_t blocks_;
    Bytes image_;
    std::vector<std::pair<std::string, const Node*>> paths_;
    std::map<std::string, std::uint64_t> numbers_;
    std::size_t count_ = 0;
    std::uint32_t chunks_ = 0;
    std::uint32_t next_ = 0;
};

}  // namespace

Bytes make_xfs(const Tree& tree, const XfsOptions& options) { return XfsWriter(tree, options).make(); }

}  // namespace forge
