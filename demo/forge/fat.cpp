// SPDX-License-Identifier: MIT
// Writes FAT12 and FAT16 volumes: every file in one piece, long names where the short form does not do.
#include <algorithm>
#include <cctype>
#include <functional>
#include <set>
#include <stdexcept>

#include "forge.hpp"

namespace forge {

namespace {

constexpr std::size_t sector = 512;

struct Child {
    std::string name;
    std::string path;
    const Node* node = nullptr;
};

std::vector<Child> children_of(const Tree& tree, const std::string& directory) {
    std::vector<Child> out;
    const std::string lead = directory == "/" ? "/" : directory + "/";
    for (const auto& [path, node] : tree.nodes()) {
        if (!path.starts_with(lead) || path.size() == lead.size()) continue;
        const std::string rest = path.substr(lead.size());
        if (rest.find('/') == std::string::npos) out.push_back({rest, path, &node});
    }
    return out;
}

bool fits_short(const std::string& name) {
    const auto dot = name.find('.');
    const std::string base = name.substr(0, dot);
    const std::string extension = dot == std::string::npos ? "" : name.substr(dot + 1);
    if (base.empty() || base.size() > 8 || extension.size() > 3 || extension.find('.') != std::string::npos)
        return false;
    return std::all_of(name.begin(), name.end(), [](char c) {
        return std::isupper(static_cast<unsigned char>(c)) != 0 || std::isdigit(static_cast<unsigned char>(c)) != 0 ||
               c == '.' || c == '_' || c == '-';
    });
}

std::string short_form(const std::string& name, std::size_t number) {
    std::string out(11, ' ');
    const auto dot = name.rfind('.');
    auto put = [&](std::size_t at, std::string_view text, std::size_t room) {
        for (const char c : text) {
            if (room == 0) return;
            const auto u = static_cast<unsigned char>(c);
            if (c == '.' || c == ' ') continue;
            out[at++] = std::isalnum(u) != 0 ? static_cast<char>(std::toupper(u)) : '_';
            --room;
        }
    };
    const std::string base = name.substr(0, dot);
    const bool plain = fits_short(name);
    put(0, base, plain ? 8 : 5);
    if (!plain) {
        const std::string tail = "~" + std::to_string(number);
        std::size_t at = 0;
        while (at < 8 - tail.size() && out[at] != ' ') ++at;
        std::copy(tail.begin(), tail.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
    }
    if (dot != std::string::npos) put(8, name.substr(dot + 1), 3);
    return out;
}

class FatWriter {
public:
    FatWriter(const Tree& tree, const FatOptions& options) : tree_(tree), o_(options) {}

    FatImage write() {
        const std::size_t sectors = static_cast<std::size_t>(o_.size / sector);
        fat_sectors_ = (sectors / o_.sectors_per_cluster * 2 + sector - 1) / sector + 1;
        data_ = reserved + 2 * fat_sectors_ + root_sectors;
        clusters_ = (sectors - data_) / o_.sectors_per_cluster;
        bits_ = clusters_ < 4085 ? 12 : 16;
        out_.bytes.resize(sectors * sector);
        boot_sector(sectors);
        set_next(0, 0xFFF8);
        set_next(1, 0xFFFF);
        Bytes root;
        if (!o_.label.empty()) {
            std::string label = o_.label;
            label.resize(11, ' ');
            entry(root, label, 0x08, 0, 0);
        }
        directory("/", root, 0, 0);
        if (root.size() > root_sectors * sector) throw std::runtime_error("too many files in the root of a FAT");
        place(root, (reserved + 2 * fat_sectors_) * sector);
        const auto fat = out_.bytes.begin() + reserved * sector;
        std::copy_n(fat, fat_sectors_ * sector, fat + static_cast<std::ptrdiff_t>(fat_sectors_ * sector));
        return std::move(out_);
    }

private:
    static constexpr std::size_t reserved = 4;
    static constexpr std::size_t root_sectors = 32;

    void boot_sector(std::size_t sectors) {
        Bytes b(sector);
        const std::string oem = "ALMHOF  ";
        b[0] = 0xEB;
        b[1] = 0x58;
        b[2] = 0x90;
        std::copy(oem.begin(), oem.end(), b.begin() + 3);
        put16(b, 11, sector);
        b[13] = static_cast<std::uint8_t>(o_.sectors_per_cluster);
        put16(b, 14, reserved);
        b[16] = 2;
        put16(b, 17, root_sectors * 16);
        if (sectors < 65536) put16(b, 19, static_cast<std::uint16_t>(sectors));
        else put32(b, 32, static_cast<std::uint32_t>(sectors));
        b[21] = 0xF8;
        put16(b, 22, static_cast<std::uint16_t>(fat_sectors_));
        put16(b, 24, 63);
        put16(b, 26, 255);
        put32(b, 28, o_.hidden_sectors);
        b[36] = 0x80;
        b[38] = 0x29;
        put32(b, 39, o_.serial);
        std::string label = o_.label.empty() ? "NO NAME" : o_.label;
        label.resize(11, ' ');
        std::copy(label.begin(), label.end(), b.begin() + 43);
        const std::string type = bits_ == 12 ? "FAT12   " : "FAT16   ";
        std::copy(type.begin(), type.end(), b.begin() + 54);
        std::copy_n(o_.boot_code.begin(), std::min<std::size_t>(o_.boot_code.size(), 0x1FE - 0x5A), b.begin() + 0x5A);
        put16(b, 510, 0xAA55);
        place(b, 0);
    }

    void place(const Bytes& bytes, std::size_t at) {
        if (at + bytes.size() > out_.bytes.size()) throw std::runtime_error("a FAT volume is too small for its files");
        std::copy(bytes.begin(), bytes.end(), out_.bytes.begin() + static_cast<std::ptrdiff_t>(at));
    }

    void set_next(std::size_t cluster, unsigned value) {
        const std::size_t base = reserved * sector;
        if (bits_ == 16) {
            put16(out_.bytes, base + cluster * 2, static_cast<std::uint16_t>(value));
            return;
        }
        const std::size_t at = base + cluster + cluster / 2;
        const unsigned low = out_.bytes[at];
        const unsigned high = out_.bytes[at + 1];
        value &= 0xFFFU;
        const unsigned both = (cluster & 1U) != 0 ? (low & 0x0FU) | value << 4U : value | (high & 0xF0U) << 8U;
        out_.bytes[at] = static_cast<std::uint8_t>(both);
        out_.bytes[at + 1] = static_cast<std::uint8_t>(both >> 8U);
    }

    /// Reserves clusters in one piece and chains them.
    std::size_t allocate(std::size_t bytes) {
        const std::size_t cluster = o_.sectors_per_cluster * sector;
        const std::size_t count = std::max<std::size_t>(1, (bytes + cluster - 1) / cluster);
        const std::size_t first = next_;
        next_ += count;
        if (next_ > clusters_ + 2) throw std::runtime_error("a FAT volume is too small for its files");
        for (std::size_t i = 0; i < count; ++i)
            set_next(first + i, i + 1 < count ? static_cast<unsigned>(first + i + 1) : 0xFFFFU);
        return first;
    }
    [[nodiscard]] std::size_t offset_of(std::size_t cluster) const {
        return (data_ + (cluster - 2) * o_.sectors_per_cluster) * sector;
    }

    static void entry(Bytes& into, const std::string& name, std::uint8_t attributes, std::size_t cluster,
                      std::size_t size) {
        Bytes e(32);
        std::copy(name.begin(), name.end(), e.begin());
        e[11] = attributes;
        put16(e, 22, 0x6000);
        put16(e, 24, (44U << 9U) | (5U << 5U) | 1U);
        put16(e, 26, static_cast<std::uint16_t>(cluster));
        put32(e, 28, static_cast<std::uint32_t>(size));
        into.insert(into.end(), e.begin(), e.end());
    }

    static void long_entries(Bytes& into, const std::string& name, const std::string& short_name) {
        unsigned sum = 0;
        for (const char c : short_name)
            sum = ((((sum & 1U) << 7U) | (sum >> 1U)) + static_cast<unsigned char>(c)) & 0xFFU;
        const std::size_t pieces = (name.size() + 12) / 13;
        static constexpr std::size_t places[13] = {1, 3, 5, 7, 9, 14, 16, 18, 20, 22, 24, 28, 30};
        for (std::size_t piece = pieces; piece-- > 0;) {
            Bytes e(32);
            e[0] = static_cast<std::uint8_t>((piece + 1) | (piece + 1 == pieces ? 0x40U : 0U));
            e[11] = 0x0F;
            e[13] = static_cast<std::uint8_t>(sum);
            for (std::size_t i = 0; i < 13; ++i) {
                const std::size_t at = piece * 13 + i;
                put16(e, places[i],
                      at < name.size()    ? static_cast<unsigned char>(name[at])
                      : at == name.size() ? 0
                                          : 0xFFFF);
            }
            into.insert(into.end(), e.begin(), e.end());
        }
    }

    void directory(const std::string& path, Bytes& into, std::size_t own, std::size_t parent) {
        if (path != "/") {
            entry(into, ".          ", 0x10, own, 0);
            entry(into, "..         ", 0x10, parent, 0);
        }
        std::size_t number = 0;
        for (const auto& child : children_of(tree_, path)) {
            const std::string name = short_form(child.name, ++number);
            if (!fits_short(child.name)) long_entries(into, child.name, name);
            if (child.node->kind == Node::Kind::Directory) {
                // A directory's own size is at most three entries per name: reserve that.
                const std::size_t room = (children_of(tree_, child.path).size() * 4 + 2) * 32;
                const std::size_t cluster = allocate(room);
                entry(into, name, 0x10, cluster, 0);
                Bytes inner;
                directory(child.path, inner, cluster, own);
                place(inner, offset_of(cluster));
            } else {
                const auto& content = child.node->content;
                const std::size_t cluster = content.empty() ? 0 : allocate(content.size());
                entry(into, name, 0x20, cluster, content.size());
                if (cluster != 0) {
                    place(content, offset_of(cluster));
                    out_.first_sector[child.path] = static_cast<std::uint32_t>(offset_of(cluster) / sector);
                }
            }
        }
    }

    const Tree& tree_;
    const FatOptions& o_;
    FatImage out_;
    std::size_t fat_sectors_ = 0;
    std::size_t data_ = 0;
    std::size_t clusters_ = 0;
    unsigned bits_ = 16;
    std::size_t next_ = 2;
};

}  // namespace

FatImage make_fat(const Tree& tree, const FatOptions& options) { return FatWriter(tree, options).write(); }

}  // namespace forge
