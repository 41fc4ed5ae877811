// SPDX-License-Identifier: MIT
// SquashFS 4.0 with zlib, without fragments: every table packed, every inode in its basic form.
#include <zlib.h>
#include <stdexcept>

#include "forge.hpp"

namespace forge {

namespace {

Bytes packed(const Bytes& plain) {
    Bytes out(compressBound(plain.size()));
    uLongf size = out.size();
    if (compress2(out.data(), &size, plain.data(), plain.size(), 9) != Z_OK) throw std::runtime_error("zlib");
    out.resize(size);
    return out;
}

void append(Bytes& out, const Bytes& more) { out.insert(out.end(), more.begin(), more.end()); }

/// A stream of metadata, cut into packed blocks of 8 KiB.
class Metadata {
public:
    /// Where the next byte will be: start of its block, place in it.
    [[nodiscard]] std::uint64_t place() const { return done_.size() << 16U | open_.size(); }
    void put(const Bytes& bytes) {
        for (const auto byte : bytes) {
            open_.push_back(byte);
            if (open_.size() == 8192) flush();
        }
    }
    Bytes finish() {
        if (!open_.empty()) flush();
        return std::move(done_);
    }

private:
    void flush() {
        const Bytes small = packed(open_);
        const bool shrinks = small.size() < open_.size();
        const std::size_t at = done_.size();
        put16(done_, at, static_cast<std::uint16_t>(shrinks ? small.size() : open_.size() | 0x8000U));
        append(done_, shrinks ? small : open_);
        open_.clear();
    }
    Bytes done_, open_;
};

class SquashfsWriter {
public:
    explicit SquashfsWriter(const Tree& tree) : tree_(tree), out_(96) {}

    Bytes write() {
        const std::uint64_t root = directory("/");
        const auto inodes = out_.size();
        append(out_, inodes_.finish());
        const auto directories = out_.size();
        append(out_, directories_.finish());
        Metadata ids;
        ids.put(Bytes(4));
        const auto id_block = out_.size();
        append(out_, ids.finish());
        const auto id_table = out_.size();
        put64(out_, id_table, id_block);
        put32(out_, 0, 0x73717368);
        put32(out_, 4, number_);
        put32(out_, 8, 1717200000);
        put32(out_, 12, block);
        put16(out_, 20, 1);
        put16(out_, 22, 17);
        put16(out_, 26, 1);
        put16(out_, 28, 4);
        put64(out_, 32, root);
        put64(out_, 40, out_.size());
        put64(out_, 48, id_table);
        put64(out_, 56, ~std::uint64_t{0});
        put64(out_, 64, inodes);
        put64(out_, 72, directories);
        put64(out_, 80, out_.size());
        put64(out_, 88, ~std::uint64_t{0});
        grow(out_, (out_.size() + 4095) / 4096 * 4096);
        return std::move(out_);
    }

private:
    static constexpr std::uint32_t block = 131072;

    Bytes head(unsigned type, std::uint32_t mode) {
        Bytes out;
        put16(out, 0, static_cast<std::uint16_t>(type));
        put16(out, 2, static_cast<std::uint16_t>(mode));
        put32(out, 8, 1717200000);
        put32(out, 12, ++number_);
        return out;
    }

    std::uint64_t file(const Node& node) {
        Bytes inode = head(2, node.mode);
        put32(inode, 16, static_cast<std::uint32_t>(out_.size()));
        put32(inode, 20, 0xFFFFFFFF);
        put32(inode, 28, static_cast<std::uint32_t>(node.content.size()));
        for (std::size_t at = 0; at < node.content.size(); at += block) {
            const auto from = node.content.begin() + static_cast<std::ptrdiff_t>(at);
            const Bytes plain(
                from, from + static_cast<std::ptrdiff_t>(std::min<std::size_t>(block, node.content.size() - at)));
            const Bytes small = packed(plain);
            const bool shrinks = small.size() < plain.size();
            put32(inode, inode.size(),
                  static_cast<std::uint32_t>(shrinks ? small.size() : plain.size() | std::size_t{1} << 24U));
            append(out_, shrinks ? small : plain);
        }
        return keep(inode);
    }

    std::uint64_t link(const Node& node) {
        Bytes inode = head(3, 0777);
        put32(inode, 16, 1);
        put32(inode, 20, static_cast<std::uint32_t>(node.target.size()));
        append(inode, to_bytes(node.target));
        return keep(inode);
    }

    /// Children come first, so that their places are known.
    std::uint64_t directory(const std::string& path) {
        struct Child {
            std::string name;
            std::uint64_t place;
            std::uint32_t number;
            unsigned type;
        };
        std::vector<Child> children;
        const std::string lead = path == "/" ? "/" : path + "/";
        for (const auto& [child, node] : tree_.nodes()) {
            if (child == "/" || !child.starts_with(lead) || child.find('/', lead.size()) != std::string::npos) continue;
            std::uint64_t place = 0;
            unsigned type = 2;
            if (node.kind == Node::Kind::Directory) {
                place = directory(child);
                type = 1;
            } else if (node.kind == Node::Kind::Link) {
                place = link(node);
                type = 3;
            } else {
                place = file(node);
            }
            children.push_back({child.substr(lead.size()), place, number_, type});
        }
        const std::uint64_t listing = directories_.place();
        std::size_t size = 0;
        for (const auto& child : children) {
            // One head for each entry: permitted, if wasteful.
            Bytes entry;
            put32(entry, 0, 0);
            put32(entry, 4, static_cast<std::uint32_t>(child.place >> 16U));
            put32(entry, 8, child.number);
            put16(entry, 12, static_cast<std::uint16_t>(child.place & 0xFFFFU));
            put16(entry, 16, static_cast<std::uint16_t>(child.type));
            put16(entry, 18, static_cast<std::uint16_t>(child.name.size() - 1));
            append(entry, to_bytes(child.name));
            size += entry.size();
            directories_.put(entry);
        }
        Bytes inode = head(1, 0755);
        put32(inode, 16, static_cast<std::uint32_t>(listing >> 16U));
        put32(inode, 20, 2);
        put16(inode, 24, static_cast<std::uint16_t>(size + 3));
        put16(inode, 26, static_cast<std::uint16_t>(listing & 0xFFFFU));
        put32(inode, 28, number_ + 1);
        return keep(inode);
    }

    std::uint64_t keep(const Bytes& inode) {
        const std::uint64_t place = inodes_.place();
        inodes_.put(inode);
        return place;
    }

    const Tree& tree_;
    Bytes out_;
    Metadata inodes_, directories_;
    std::uint32_t number_ = 0;
};

}  // namespace

Bytes make_squashfs(const Tree& tree) { return SquashfsWriter(tree).write(); }

}  // namespace forge
