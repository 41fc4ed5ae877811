// SPDX-License-Identifier: MIT
// A writer of ext2/3/4 file systems: no flex_bg, one inode table per group, files laid out one behind the other.
#include <algorithm>
#include <cstring>
#include <stdexcept>

#include <herberge/bytes.hpp>

#include "forge/forge.hpp"

namespace forge {

namespace {

constexpr std::uint32_t root_inode = 2;
constexpr std::uint32_t journal_inode = 8;
constexpr std::uint32_t first_free_inode = 11;

struct File {
    std::uint32_t inode = 0;
    std::uint32_t mode = 0;
    Node::Kind kind = Node::Kind::File;
    Bytes content;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> holes;
    std::vector<std::uint32_t> blocks;  ///< physical block of each logical one; 0: hole
    std::size_t meta = 0;               ///< mapping blocks
    Bytes area = Bytes(60);             ///< the inode's block area
    Bytes attribute;                    ///< what inline data does not fit into the area
    std::uint32_t flags = 0;
    std::uint16_t links = 1;
    std::uint64_t size = 0;
};

std::uint32_t chain(std::uint32_t seed, std::uint32_t value) {
    Bytes raw;
    put32(raw, 0, value);
    return herberge::crc32c(seed, raw);
}

class ExtWriter {
public:
    ExtWriter(const Tree& tree, const ExtOptions& options) : o_(options), bs_(options.block_size) {
        blocks_ = static_cast<std::uint32_t>(options.size / bs_);
        first_data_ = bs_ == 1024 ? 1 : 0;
        per_group_ = std::min<std::uint32_t>(bs_ * 8, 65528);
        groups_ = (blocks_ - first_data_ + per_group_ - 1) / per_group_;
        desc_size_ = options.bit64 ? 64 : 32;
        seed_ = herberge::crc32c(0xFFFFFFFFU, o_.uuid);
        number(tree);
        const std::uint32_t wanted = std::max<std::uint32_t>(next_inode_ + 16, 64);
        const std::uint32_t per_block = bs_ / o_.inode_size;
        inodes_per_group_ = ((wanted + groups_ - 1) / groups_ + per_block - 1) / per_block * per_block;
        inodes_per_group_ = std::max<std::uint32_t>((inodes_per_group_ + 7) / 8 * 8, 16);
        table_blocks_ = (inodes_per_group_ * o_.inode_size + bs_ - 1) / bs_;
    }

    Bytes run() {
        image_.resize(static_cast<std::size_t>(o_.size));
        used_.resize(blocks_);
        reserve();
        for (auto& [path, file] : files_) place(path, file);
        for (auto& [path, file] : files_) write_inode(file);
        descriptors();
        supers();
        return std::move(image_);
    }

private:
    void number(const Tree& tree) {
        files_["/"] = make(Node{Node::Kind::Directory, 0755, {}, {}, {}}, root_inode);
        if (o_.journal) {
            Node journal{Node::Kind::File, 0600, Bytes(std::size_t{256} * bs_), {}, {}};
            // The journal's superblock is big-endian.
            const std::uint32_t fields[] = {0xC03B3998U, 4, 0, bs_, 256, 1, 1, o_.dirty_journal ? 1U : 0U};
            for (std::size_t i = 0; i < 8; ++i)
                for (std::size_t j = 0; j < 4; ++j)
                    journal.content[i * 4 + j] = static_cast<std::uint8_t>(fields[i] >> (24 - 8 * j));
            files_[" journal"] = make(journal, journal_inode);
        }
        for (const auto& [path, node] : tree.nodes()) files_[path] = make(node, next_inode_++);
        for (auto& [path, file] : files_) {
            if (file.kind != Node::Kind::Directory) continue;
            file.links = 2;
            for (const auto& [other, child] : files_)
                if (child.kind == Node::Kind::Directory && other != "/" && parent(other) == path) ++file.links;
        }
    }
    static File make(const Node& node, std::uint32_t inode) {
        File out;
        out.inode = inode;
        out.kind = node.kind;
        out.content = node.kind == Node::Kind::Link ? to_bytes(node.target) : node.content;
        out.holes = node.holes;
        out.size = out.content.size();
        const std::uint32_t type = node.kind == Node::Kind::Directory ? 0x4000U
                                   : node.kind == Node::Kind::Link    ? 0xA000U
                                   : node.kind == Node::Kind::Device  ? 0x2000U
                                                                      : 0x8000U;
        out.mode = type | node.mode;
        return out;
    }
    static std::string parent(const std::string& path) {
        const auto slash = path.rfind('/');
        return slash == 0 || slash == std::string::npos ? "/" : path.substr(0, slash);
    }
    [[nodiscard]] bool has_super(std::uint32_t group) const {
        if (group == 0 || !o_.sparse_super) return true;
        auto power = [&](std::uint32_t base) {
            std::uint32_t v = group;
            while (v % base == 0) v /= base;
            return v == 1;
        };
        return group == 1 || power(3) || power(5) || power(7);
    }
    [[nodiscard]] std::uint32_t gdt_blocks() const { return (groups_ * desc_size_ + bs_ - 1) / bs_; }
    [[nodiscard]] std::uint32_t group_start(std::uint32_t group) const { return first_data_ + group * per_group_; }

    void reserve() {
        for (std::uint32_t b = 0; b < first_data_; ++b) used_[b] = true;
        for (std::uint32_t g = 0; g < groups_; ++g) {
            std::uint32_t at = group_start(g);
            auto take = [&] {
                if (at >= blocks_) throw std::runtime_error("the last block group is too small");
                used_[at] = true;
                return at++;
            };
            if (has_super(g)) {
                take();
                if (!o_.meta_bg)
                    for (std::uint32_t i = 0; i < gdt_blocks(); ++i) take();
            }
            if (o_.meta_bg && g % (bs_ / desc_size_) == 0) meta_gdt_.push_back(take());
            block_bitmap_.push_back(take());
            inode_bitmap_.push_back(take());
            inode_table_.push_back(at);
            for (std::uint32_t i = 0; i < table_blocks_; ++i) take();
        }
    }

    std::uint32_t allocate() {
        if (o_.scatter > 0 && ++allocated_ % o_.scatter == 0) ++next_;
        while (next_ < blocks_ && used_[next_]) ++next_;
        if (next_ >= blocks_) throw std::runtime_error("the file system is too small for the tree");
        used_[next_] = true;
        return next_++;
    }
    std::span<std::uint8_t> block(std::uint32_t number) {
        return std::span(image_).subspan(std::size_t{number} * bs_, bs_);
    }
    [[nodiscard]] std::uint32_t inode_seed(const File& file) const { return chain(chain(seed_, file.inode), 0); }

    static void dir_entry(Bytes& out, std::uint32_t inode, std::string_view name, std::uint8_t type) {
        const std::size_t at = out.size();
        out.resize(at + ((8 + name.size() + 3) & ~std::size_t{3}));
        put32(out, at, inode);
        put16(out, at + 4, static_cast<std::uint16_t>(out.size() - at));
        out[at + 6] = static_cast<std::uint8_t>(name.size());
        out[at + 7] = type;
        std::copy(name.begin(), name.end(), out.begin() + static_cast<std::ptrdiff_t>(at + 8));
    }

    /// The entries of a directory packed into blocks, each closed with a checksum tail where wanted.
    Bytes directory(const std::string& path, const File& file) {
        const std::size_t room = bs_ - (o_.metadata_csum ? 12U : 0U);
        Bytes out;
        Bytes current;
        std::size_t last = 0;
        auto close = [&] {
            put16(current, last + 4, static_cast<std::uint16_t>(room - last));
            current.resize(room);
            if (o_.metadata_csum) {
                const std::uint32_t sum = herberge::crc32c(inode_seed(file), current);
                current.resize(bs_);
                put16(current, room + 4, 12);
                current[room + 7] = 0xDE;
                put32(current, room + 8, sum);
            }
            out.insert(out.end(), current.begin(), current.end());
            current.clear();
        };
        auto add = [&](std::uint32_t inode, std::string_view name, std::uint8_t type) {
            if (current.size() + 8 + name.size() + 4 > room) close();
            last = current.size();
            dir_entry(current, inode, name, type);
        };
        add(file.inode, ".", 2);
        add(path == "/" ? root_inode : files_.at(parent(path)).inode, "..", 2);
        for (const auto& [other, child] : files_)
            if (other != "/" && other[0] == '/' && parent(other) == path)
                add(child.inode, other.substr(other.rfind('/') + 1),
                    child.kind == Node::Kind::Directory ? 2
                    : child.kind == Node::Kind::Link    ? 7
                    : child.kind == Node::Kind::Device  ? 3
                                                        : 1);
        close();
        return out;
    }

    void place(const std::string& path, File& file) {
        if (file.kind == Node::Kind::Directory) {
            file.content = directory(path, file);
            file.size = file.content.size();
        }
        if (file.kind == Node::Kind::Link && file.size < 60) {
            std::copy(file.content.begin(), file.content.end(), file.area.begin());
            return;
        }
        if (o_.inline_data && file.kind == Node::Kind::File && file.size + 200 <= o_.inode_size + 60) {
            file.flags |= 0x10000000U;
            std::copy_n(file.content.begin(), std::min<std::size_t>(60, file.content.size()), file.area.begin());
            if (file.content.size() > 60) file.attribute.assign(file.content.begin() + 60, file.content.end());
            return;
        }
        const std::uint64_t count = (file.size + bs_ - 1) / bs_;
        for (std::uint64_t i = 0; i < count; ++i) {
            const bool hole = std::ranges::any_of(
                file.holes, [&](const auto& h) { return i * bs_ >= h.first && (i + 1) * bs_ <= h.first + h.second; });
            file.blocks.push_back(hole ? 0 : allocate());
            if (hole) continue;
            const auto from = static_cast<std::size_t>(i * bs_);
            std::copy_n(file.content.begin() + static_cast<std::ptrdiff_t>(from),
                        std::min<std::size_t>(bs_, file.content.size() - from), block(file.blocks.back()).begin());
        }
        if (o_.extents) map_extents(file);
        else map_blocks(file);
    }

    static void extent_header(Bytes& out, std::size_t entries, std::size_t capacity, std::uint16_t depth) {
        put16(out, 0, 0xF30A);
        put16(out, 2, static_cast<std::uint16_t>(entries));
        put16(out, 4, static_cast<std::uint16_t>(capacity));
        put16(out, 6, depth);
    }
    struct Run {
        std::uint32_t logical, length, physical;
    };
    using Child = std::pair<std::uint32_t, std::uint32_t>;  // logical block, where the node lies
    static void put_run(Bytes& out, std::size_t at, const Run& run) {
        put32(out, at, run.logical);
        put16(out, at + 4, static_cast<std::uint16_t>(run.length));
        put32(out, at + 8, run.physical);
    }
    static void put_index(Bytes& out, std::size_t at, const Child& child) {
        put32(out, at, child.first);
        put32(out, at + 4, child.second);
    }

    void map_extents(File& file) {
        file.flags |= 0x80000U;
        std::vector<Run> runs;
        for (std::uint32_t i = 0; i < file.blocks.size(); ++i) {
            const std::uint32_t physical = file.blocks[i];
            if (physical == 0) continue;
            if (!runs.empty() && runs.back().logical + runs.back().length == i &&
                runs.back().physical + runs.back().length == physical && runs.back().length < 32000)
                ++runs.back().length;
            else runs.push_back({i, 1, physical});
        }
        if (runs.size() <= 4) {
            extent_header(file.area, runs.size(), 4, 0);
            for (std::size_t i = 0; i < runs.size(); ++i) put_run(file.area, 12 + i * 12, runs[i]);
            return;
        }
        const std::size_t capacity = (bs_ - 12 - 4) / 12;
        std::vector<Child> children;
        for (std::size_t from = 0; from < runs.size(); from += capacity) {
            const std::size_t part = std::min(capacity, runs.size() - from);
            Bytes leaf(bs_);
            extent_header(leaf, part, capacity, 0);
            for (std::size_t i = 0; i < part; ++i) put_run(leaf, 12 + i * 12, runs[from + i]);
            children.emplace_back(runs[from].logical, store_node(file, std::move(leaf), capacity));
        }
        std::uint16_t depth = 1;
        while (children.size() > 4) {
            std::vector<Child> above;
            for (std::size_t from = 0; from < children.size(); from += capacity) {
                const std::size_t part = std::min(capacity, children.size() - from);
                Bytes node(bs_);
                extent_header(node, part, capacity, depth);
                for (std::size_t i = 0; i < part; ++i) put_index(node, 12 + i * 12, children[from + i]);
                above.emplace_back(children[from].first, store_node(file, std::move(node), capacity));
            }
            children = std::move(above);
            ++depth;
        }
        extent_header(file.area, children.size(), 4, depth);
        for (std::size_t i = 0; i < children.size(); ++i) put_index(file.area, 12 + i * 12, children[i]);
    }
    std::uint32_t store_node(File& file, Bytes node, std::size_t capacity) {
        const std::size_t tail = 12 + capacity * 12;
        if (o_.metadata_csum) put32(node, tail, herberge::crc32c(inode_seed(file), std::span(node).first(tail)));
        const std::uint32_t where = allocate();
        std::copy_n(node.begin(), bs_, block(where).begin());
        ++file.meta;
        return where;
    }

    std::uint32_t indirect(File& file, std::size_t& next, int level) {
        Bytes node(bs_);
        bool any = false;
        for (std::size_t i = 0; i < bs_ / 4 && next < file.blocks.size(); ++i) {
            const std::uint32_t child = level == 1 ? file.blocks[next++] : indirect(file, next, level - 1);
            put32(node, i * 4, child);
            any = any || child != 0;
        }
        if (!any) return 0;
        const std::uint32_t where = allocate();
        std::copy(node.begin(), node.end(), block(where).begin());
        ++file.meta;
        return where;
    }
    void map_blocks(File& file) {
        std::size_t next = 0;
        for (std::size_t i = 0; i < 12 && next < file.blocks.size(); ++i) put32(file.area, i * 4, file.blocks[next++]);
        for (int level = 1; level <= 3 && next < file.blocks.size(); ++level)
            put32(file.area, static_cast<std::size_t>(11 + level) * 4, indirect(file, next, level));
    }

    void write_inode(const File& file) {
        Bytes raw(o_.inode_size);
        put16(raw, 0, static_cast<std::uint16_t>(file.mode));
        put32(raw, 4, static_cast<std::uint32_t>(file.size));
        for (const std::size_t at : {8U, 12U, 16U}) put32(raw, at, 1767225600U);  // a fixed day
        put16(raw, 26, file.links);
        const auto data =
            static_cast<std::size_t>(std::ranges::count_if(file.blocks, [](auto b) { return b != 0; })) + file.meta;
        put32(raw, 28, static_cast<std::uint32_t>(data * (bs_ / 512)));
        put32(raw, 32, file.flags);
        std::copy(file.area.begin(), file.area.end(), raw.begin() + 40);
        put32(raw, 108, static_cast<std::uint32_t>(file.size >> 32U));
        if (o_.inode_size > 128) {
            put16(raw, 128, 32);
            if ((file.flags & 0x10000000U) != 0) {
                // The attribute "system.data", its value at the end of the inode.
                const std::size_t start = 128 + 32;
                put32(raw, start, 0xEA020000U);
                const std::size_t value_at = o_.inode_size - ((file.attribute.size() + 3) & ~std::size_t{3});
                raw[start + 4] = 4;
                raw[start + 5] = 7;
                put16(raw, start + 6, static_cast<std::uint16_t>(value_at - start - 4));
                put32(raw, start + 12, static_cast<std::uint32_t>(file.attribute.size()));
                std::memcpy(raw.data() + start + 20, "data", 4);
                std::copy(file.attribute.begin(), file.attribute.end(),
                          raw.begin() + static_cast<std::ptrdiff_t>(value_at));
            }
        }
        if (o_.metadata_csum) {
            const std::uint32_t sum = herberge::crc32c(inode_seed(file), raw);
            put16(raw, 124, static_cast<std::uint16_t>(sum));
            if (o_.inode_size > 128) put16(raw, 130, static_cast<std::uint16_t>(sum >> 16U));
        }
        const std::uint32_t group = (file.inode - 1) / inodes_per_group_;
        const std::size_t at = std::size_t{inode_table_.at(group)} * bs_ +
                               std::size_t{(file.inode - 1) % inodes_per_group_} * o_.inode_size;
        std::copy(raw.begin(), raw.end(), image_.begin() + static_cast<std::ptrdiff_t>(at));
    }

    static void set_bit(std::span<std::uint8_t> bits, std::uint32_t i) {
        bits[i / 8] = static_cast<std::uint8_t>(bits[i / 8] | 1U << i % 8);
    }

    void descriptors() {
        for (std::uint32_t g = 0; g < groups_; ++g) {
            Bytes raw(desc_size_);
            put32(raw, 0, block_bitmap_[g]);
            put32(raw, 4, inode_bitmap_[g]);
            put32(raw, 8, inode_table_[g]);
            auto bits = block(block_bitmap_[g]);
            std::uint32_t free = 0;
            for (std::uint32_t i = 0; i < bs_ * 8; ++i) {
                const std::uint64_t number = std::uint64_t{group_start(g)} + i;
                if (i >= per_group_ || number >= blocks_ || used_[static_cast<std::size_t>(number)]) set_bit(bits, i);
                else ++free;
            }
            auto inodes = block(inode_bitmap_[g]);
            std::uint32_t free_inodes = 0;
            for (std::uint32_t i = 0; i < bs_ * 8; ++i) {
                const std::uint32_t number = g * inodes_per_group_ + i + 1;
                if (i >= inodes_per_group_ || number < first_free_inode || number < next_inode_) set_bit(inodes, i);
                else ++free_inodes;
            }
            put16(raw, 12, static_cast<std::uint16_t>(free));
            put16(raw, 14, static_cast<std::uint16_t>(free_inodes));
            if (g == 0)
                put16(raw, 16, static_cast<std::uint16_t>(std::ranges::count_if(files_, [](const auto& f) {
                          return f.second.kind == Node::Kind::Directory;
                      })));
            if (o_.metadata_csum) {
                const std::uint32_t block_sum = herberge::crc32c(seed_, bits.first(per_group_ / 8));
                const std::uint32_t inode_sum = herberge::crc32c(seed_, inodes.first(inodes_per_group_ / 8));
                put16(raw, 24, static_cast<std::uint16_t>(block_sum));
                put16(raw, 26, static_cast<std::uint16_t>(inode_sum));
                if (desc_size_ >= 64) {
                    put16(raw, 56, static_cast<std::uint16_t>(block_sum >> 16U));
                    put16(raw, 58, static_cast<std::uint16_t>(inode_sum >> 16U));
                }
                put16(raw, 30, static_cast<std::uint16_t>(herberge::crc32c(chain(seed_, g), raw)));
            }
            if (o_.meta_bg) {
                const std::uint32_t per_block = bs_ / desc_size_;
                std::copy(raw.begin(), raw.end(), block(meta_gdt_[g / per_block]).begin() + g % per_block * desc_size_);
                continue;
            }
            for (std::uint32_t copy = 0; copy < groups_; ++copy)
                if (has_super(copy))
                    std::copy(raw.begin(), raw.end(),
                              image_.begin() + static_cast<std::ptrdiff_t>((std::size_t{group_start(copy)} + 1) * bs_ +
                                                                           g * desc_size_));
        }
    }

    void supers() {
        for (std::uint32_t g = 0; g < groups_; ++g) {
            if (!has_super(g)) continue;
            Bytes raw(1024);
            put32(raw, 0, inodes_per_group_ * groups_);
            put32(raw, 4, blocks_);
            put32(raw, 12, static_cast<std::uint32_t>(std::ranges::count(used_, false)));
            put32(raw, 16, inodes_per_group_ * groups_ - next_inode_ + 1);
            put32(raw, 20, first_data_);
            std::uint32_t log = 0;
            while ((1024U << log) < bs_) ++log;
            put32(raw, 24, log);
            put32(raw, 28, log);
            put32(raw, 32, per_group_);
            put32(raw, 36, per_group_);
            put32(raw, 40, inodes_per_group_);
            put32(raw, 48, 1767225600U);
            put16(raw, 56, 0xEF53);
            put16(raw, 58, 1);
            put16(raw, 60, 1);
            put32(raw, 76, 1);
            put32(raw, 84, first_free_inode);
            put16(raw, 88, static_cast<std::uint16_t>(o_.inode_size));
            put16(raw, 90, static_cast<std::uint16_t>(g));
            put32(raw, 92, o_.journal ? 4U : 0U);
            put32(raw, 96,
                  2U | (o_.extents ? 0x40U : 0U) | (o_.bit64 ? 0x80U : 0U) | (o_.meta_bg ? 0x10U : 0U) |
                      (o_.inline_data ? 0x8000U : 0U) | (o_.dirty_journal ? 4U : 0U) | o_.extra_incompat);
            put32(raw, 100, (o_.sparse_super ? 1U : 0U) | 2U | (o_.metadata_csum ? 0x400U : 0U));
            std::copy(o_.uuid.begin(), o_.uuid.end(), raw.begin() + 104);
            std::copy_n(o_.label.begin(), std::min<std::size_t>(16, o_.label.size()), raw.begin() + 120);
            if (o_.journal) put32(raw, 224, journal_inode);
            if (o_.bit64) put16(raw, 254, 64);
            put16(raw, 0x15C, 32);
            put16(raw, 0x15E, 32);
            raw[0x175] = o_.metadata_csum ? 1 : 0;
            if (o_.metadata_csum) put32(raw, 1020, herberge::crc32c(0xFFFFFFFFU, std::span(raw).first(1020)));
            const std::size_t at = g == 0 ? 1024 : std::size_t{group_start(g)} * bs_;
            std::copy(raw.begin(), raw.end(), image_.begin() + static_cast<std::ptrdiff_t>(at));
        }
    }

    ExtOptions o_;
    std::uint32_t bs_;
    std::uint32_t blocks_ = 0;
    std::uint32_t first_data_ = 0;
    std::uint32_t per_group_ = 0;
    std::uint32_t groups_ = 0;
    std::uint32_t desc_size_ = 32;
    std::uint32_t inodes_per_group_ = 0;
    std::uint32_t table_blocks_ = 0;
    std::uint32_t seed_ = 0;
    std::uint32_t next_inode_ = first_free_inode;
    std::uint32_t next_ = 0;
    std::size_t allocated_ = 0;
    std::map<std::string, File> files_;
    std::vector<bool> used_;
    std::vector<std::uint32_t> block_bitmap_, inode_bitmap_, inode_table_, meta_gdt_;
    Bytes image_;
};

}  // namespace

Bytes make_ext(const Tree& tree, const ExtOptions& options) { return ExtWriter(tree, options).run(); }

}  // namespace forge
