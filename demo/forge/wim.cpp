// SPDX-License-Identifier: MIT
// Windows imaging files of one image. Contents are stored as they are, unless a packer is given.
#include <openssl/sha.h>
#include <map>

#include "windows.hpp"

namespace forge {

namespace {

constexpr std::uint32_t piece = 32768;

using Digest = std::array<std::uint8_t, 20>;

Digest digest_of(const Bytes& bytes) {
    Digest out{};
    SHA1(bytes.data(), bytes.size(), out.data());
    return out;
}

void append(Bytes& out, std::span<const std::uint8_t> more) { out.insert(out.end(), more.begin(), more.end()); }

struct Resource {
    std::uint64_t stored = 0, offset = 0, plain = 0;
    std::uint8_t flags = 0;
};

void put_resource(Bytes& out, std::size_t at, const Resource& resource) {
    put64(out, at, resource.stored | std::uint64_t{resource.flags} << 56U);
    put64(out, at + 8, resource.offset);
    put64(out, at + 16, resource.plain);
}

class WimWriter {
public:
    WimWriter(const Tree& tree, const WimOptions& options) : tree_(tree), options_(options), out_(208) {}

    Bytes write() {
        for (const auto& [path, node] : tree_.nodes())
            if (node.kind == Node::Kind::File && !node.content.empty()) {
                const auto digest = digest_of(node.content);
                if (!table_.contains(digest)) table_[digest] = store(node.content, 0);
            }
        const Bytes metadata = entries();
        const auto image = store(metadata, 2);
        Bytes rows;
        for (const auto& [digest, resource] : table_) row(rows, resource, digest);
        row(rows, image, digest_of(metadata));
        const Resource xml = whole(utf16("\xFF" + options_.description, false));
        const Resource table = whole(rows);
        std::copy_n("MSWIM", 5, out_.begin());
        put32(out_, 8, 208);
        put32(out_, 12, 0x10D00);
        put32(out_, 16, options_.pack_piece ? (options_.lzx ? 0x40002U : 0x20002U) : 0U);
        put32(out_, 20, options_.pack_piece ? piece : 0);
        for (std::size_t i = 0; i < 16; ++i) out_[24 + i] = static_cast<std::uint8_t>(0xA0 + i);
        put16(out_, 40, 1);
        put16(out_, 42, 1);
        put32(out_, 44, 1);
        put_resource(out_, 48, table);
        put_resource(out_, 72, xml);
        if (options_.boot_image != 0) put_resource(out_, 96, image);
        put32(out_, 120, options_.boot_image);
        // The texts begin with the mark of their byte order.
        out_[xml.offset] = 0xFF;
        out_[xml.offset + 1] = 0xFE;
        return std::move(out_);
    }

private:
    static void row(Bytes& rows, const Resource& resource, const Digest& digest) {
        const std::size_t at = rows.size();
        put_resource(rows, at, resource);
        put16(rows, at + 24, 1);
        put32(rows, at + 26, 1);
        append(rows, digest);
    }

    Resource whole(const Bytes& bytes) {
        const Resource out{bytes.size(), out_.size(), bytes.size(), 0};
        append(out_, bytes);
        return out;
    }

    /// In pieces, where there is a packer and they become smaller.
    Resource store(const Bytes& plain, std::uint8_t flags) {
        if (!options_.pack_piece) {
            auto out = whole(plain);
            out.flags = flags;
            return out;
        }
        Bytes table, pieces;
        for (std::size_t at = 0; at < plain.size(); at += piece) {
            const Bytes one(plain.begin() + static_cast<std::ptrdiff_t>(at),
                            plain.begin() + static_cast<std::ptrdiff_t>(std::min(at + piece, plain.size())));
            if (at != 0) put32(table, table.size(), static_cast<std::uint32_t>(pieces.size()));
            const Bytes small = options_.pack_piece(one, options_.lzx ? 1 : 0);
            append(pieces, small.empty() || small.size() >= one.size() ? one : small);
        }
        Resource out{table.size() + pieces.size(), out_.size(), plain.size(), static_cast<std::uint8_t>(flags | 4U)};
        append(out_, table);
        append(out_, pieces);
        return out;
    }

    /// The metadata: no descriptors, the root, then each directory's entries; 0 ends a directory.
    Bytes entries() {
        Bytes out;
        put32(out, 0, 8);
        put32(out, 4, 0);
        std::map<std::string, std::size_t> where;  // directories: where their entry tells of their children
        entry(out, "", Node{Node::Kind::Directory, 0755, {}, {}, {}}, "/", where);
        put64(out, out.size(), 0);
        std::vector<std::string> pending{"/"};
        for (std::size_t i = 0; i < pending.size(); ++i) {
            const std::string here = pending[i];
            put64(out, where.at(here), out.size());
            const std::string lead = here == "/" ? "/" : here + "/";
            for (const auto& [path, node] : tree_.nodes()) {
                if (!path.starts_with(lead) || path.size() == lead.size() ||
                    path.find('/', lead.size()) != std::string::npos)
                    continue;
                if (node.kind != Node::Kind::File && node.kind != Node::Kind::Directory) continue;
                entry(out, path.substr(lead.size()), node, path, where);
                if (node.kind == Node::Kind::Directory) pending.push_back(path);
            }
            put64(out, out.size(), 0);
        }
        return out;
    }

    static void entry(Bytes& out, const std::string& name, const Node& node, const std::string& path,
                      std::map<std::string, std::size_t>& where) {
        const std::size_t at = out.size();
        const bool directory = node.kind == Node::Kind::Directory;
        const Bytes text = utf16(name);
        const std::size_t size = 102 + (name.empty() ? 2 : text.size()) + 2;
        grow(out, at + (size + 7) / 8 * 8);
        put64(out, at, (size + 7) / 8 * 8);
        put32(out, at + 8, directory ? 0x10 : 0x20);
        put32(out, at + 12, 0xFFFFFFFF);
        for (const std::size_t time : {40U, 48U, 56U}) put64(out, at + time, 133616736000000000);
        if (directory) where[path] = at + 16;
        else if (!node.content.empty()) {
            const auto digest = digest_of(node.content);
            std::copy(digest.begin(), digest.end(), out.begin() + static_cast<std::ptrdiff_t>(at + 64));
        }
        put16(out, at + 100, static_cast<std::uint16_t>(name.size() * 2));
        std::copy(text.begin(), text.end(), out.begin() + static_cast<std::ptrdiff_t>(at + 102));
    }

    const Tree& tree_;
    const WimOptions& options_;
    Bytes out_;
    std::map<Digest, Resource> table_;
};

}  // namespace

Bytes make_wim(const Tree& tree, const WimOptions& options) { return WimWriter(tree, options).write(); }

Bytes make_ram_disk_head() {
    Bytes out(8192);
    std::copy_n("$SDI0001", 8, out.begin());
    return out;
}

}  // namespace forge
