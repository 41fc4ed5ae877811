// SPDX-License-Identifier: MIT
#include "exfat.hpp"

#include <algorithm>
#include <stdexcept>

namespace forge {

namespace {

constexpr std::size_t sector = 512;
constexpr std::size_t fat_at = 128 * sector;
constexpr std::size_t entry = 32;

std::uint16_t turned(std::uint16_t sum, std::uint8_t byte) {
    return static_cast<std::uint16_t>((sum << 15U | sum >> 1U) + byte);
}
std::uint32_t turned(std::uint32_t sum, std::uint8_t byte) { return (sum << 31U | sum >> 1U) + byte; }

char upper(char c) { return c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c; }

class ExfatWriter {
public:
    ExfatWriter(const Tree& tree, const ExfatOptions& options) : tree_(tree), o_(options), image_(options.size) {
        clusters_ = static_cast<std::uint32_t>((options.size - fat_at) / (options.cluster + 4)) - 2;
        heap_ = (fat_at + (std::size_t{clusters_} + 2) * 4 + o_.cluster - 1) / o_.cluster * o_.cluster;
        while (heap_ + std::size_t{clusters_} * o_.cluster > options.size) --clusters_;
        link(0, 0xFFFFFFF8);
        link(1, 0xFFFFFFFF);
    }

    Bytes make() {
        const std::size_t map_size = (clusters_ + 7) / 8;
        const std::uint32_t map = chain(Bytes(map_size), false);
        Bytes upcase;
        for (std::uint16_t i = 0; i < 128; ++i)
            put16(upcase, i * 2U, static_cast<std::uint8_t>(upper(static_cast<char>(i))));
        put16(upcase, 256, 0xFFFF);
        put16(upcase, 258, 0xFF80);
        const std::uint32_t table = chain(upcase, false);
        Bytes head(3 * entry);
        head[0] = 0x83;
        head[1] = static_cast<std::uint8_t>(std::min<std::size_t>(11, o_.label.size()));
        for (std::size_t i = 0; i < head[1]; ++i) head[2 + i * 2] = static_cast<std::uint8_t>(o_.label[i]);
        head[32] = 0x81;
        put32(head, 32 + 20, map);
        put64(head, 32 + 24, map_size);
        head[64] = 0x82;
        std::uint32_t sum = 0;
        for (const auto byte : upcase) sum = turned(sum, byte);
        put32(head, 64 + 4, sum);
        put32(head, 64 + 20, table);
        put64(head, 64 + 24, upcase.size());
        const std::uint32_t root = directory("/", std::move(head));
        for (std::uint32_t c = 2; c < used_; ++c)
            image_[offset(map) + (c - 2) / 8] |= static_cast<std::uint8_t>(1U << (c - 2) % 8);
        boot(root);
        return std::move(image_);
    }

private:
    [[nodiscard]] std::size_t offset(std::uint32_t cluster) const {
        return heap_ + std::size_t{cluster - 2} * o_.cluster;
    }
    void link(std::uint32_t cluster, std::uint32_t value) { put32(image_, fat_at + std::size_t{cluster} * 4, value); }

    /// Places content; its first cluster. `turned_round`: the last piece lies first.
    std::uint32_t chain(const Bytes& content, bool turned_round, bool with_table = true) {
        const auto count =
            static_cast<std::uint32_t>(std::max<std::size_t>(1, (content.size() + o_.cluster - 1) / o_.cluster));
        if (used_ - 2 + count > clusters_) throw std::runtime_error("the exFAT is too small for its tree");
        const std::uint32_t base = used_;
        used_ += count;
        const auto place = [&](std::uint32_t i) { return turned_round ? base + count - 1 - i : base + i; };
        for (std::uint32_t i = 0; i < count; ++i) {
            const std::size_t from = std::size_t{i} * o_.cluster;
            const std::size_t to = std::min<std::size_t>(content.size(), from + o_.cluster);
            std::copy(content.begin() + static_cast<std::ptrdiff_t>(from),
                      content.begin() + static_cast<std::ptrdiff_t>(to),
                      image_.begin() + static_cast<std::ptrdiff_t>(offset(place(i))));
            if (with_table) link(place(i), i + 1 < count ? place(i + 1) : 0xFFFFFFFFU);
        }
        return place(0);
    }

    void set(Bytes& out, const std::string& name, bool is_directory, std::uint32_t first, std::uint64_t size,
             bool one_piece) {
        const std::size_t at = out.size();
        const std::size_t names = (name.size() + 14) / 15;
        grow(out, at + (2 + names) * entry);
        out[at] = 0x85;
        out[at + 1] = static_cast<std::uint8_t>(1 + names);
        put16(out, at + 4, is_directory ? 0x10 : 0x20);
        for (const std::size_t time : {8U, 12U, 16U}) put32(out, at + time, 46U << 25U | 1U << 21U | 1U << 16U);
        out[at + 32] = 0xC0;
        out[at + 33] = static_cast<std::uint8_t>(1U | (one_piece ? 2U : 0U));
        out[at + 35] = static_cast<std::uint8_t>(name.size());
        std::uint16_t hash = 0;
        for (const char c : name) hash = turned(turned(hash, static_cast<std::uint8_t>(upper(c))), std::uint8_t{0});
        put16(out, at + 36, hash);
        put64(out, at + 40, size);
        put32(out, at + 52, first);
        put64(out, at + 56, size);
        for (std::size_t i = 0; i < names; ++i) {
            out[at + 64 + i * entry] = 0xC1;
            for (std::size_t k = 0; k < 15 && i * 15 + k < name.size(); ++k)
                out[at + 66 + i * entry + k * 2] = static_cast<std::uint8_t>(name[i * 15 + k]);
        }
        std::uint16_t sum = 0;
        for (std::size_t i = at; i < out.size(); ++i)
            if (i != at + 2 && i != at + 3) sum = turned(sum, out[i]);
        put16(out, at + 2, sum);
    }

    std::uint32_t directory(const std::string& path, Bytes out = {}, std::uint64_t* size = nullptr) {
        const std::string below = path == "/" ? "/" : path + "/";
        for (const auto& [other, node] : tree_.nodes()) {
            if (other == "/" || !other.starts_with(below) || other.find('/', below.size()) != std::string::npos)
                continue;
            const std::string name = other.substr(below.size());
            if (node.kind == Node::Kind::Directory) {
                std::uint64_t length = 0;
                const std::uint32_t first = directory(other, {}, &length);
                set(out, name, true, first, length, false);
            } else if (node.kind == Node::Kind::File) {
                const bool one_piece = ++files_ % 2 == 0;
                const bool empty = node.content.empty();
                const std::uint32_t first = empty ? 0 : chain(node.content, !one_piece, !one_piece);
                set(out, name, false, first, node.content.size(), one_piece && !empty);
            }
        }
        const std::size_t whole = std::max<std::size_t>(1, (out.size() + o_.cluster - 1) / o_.cluster) * o_.cluster;
        out.resize(whole);
        if (size != nullptr) *size = whole;
        return chain(out, true);
    }

    void boot(std::uint32_t root) {
        Bytes region(12 * sector);
        static constexpr std::uint8_t head[] = {0xEB, 0x76, 0x90, 'E', 'X', 'F', 'A', 'T', ' ', ' ', ' '};
        std::ranges::copy(head, region.begin());
        put64(region, 72, image_.size() / sector);
        put32(region, 80, fat_at / sector);
        put32(region, 84, static_cast<std::uint32_t>((heap_ - fat_at) / sector));
        put32(region, 88, static_cast<std::uint32_t>(heap_ / sector));
        put32(region, 92, clusters_);
        put32(region, 96, root);
        put32(region, 100, o_.serial);
        put16(region, 104, 0x100);
        region[108] = 9;
        while (sector << region[109] < o_.cluster) ++region[109];
        region[110] = 1;
        region[111] = 0x80;
        put16(region, 510, 0xAA55);
        for (std::size_t i = 1; i < 9; ++i) put32(region, i * sector + 508, 0xAA550000U);
        std::uint32_t sum = 0;
        for (std::size_t i = 0; i < 11 * sector; ++i)
            if (i != 106 && i != 107 && i != 112) sum = turned(sum, region[i]);
        for (std::size_t i = 0; i < sector / 4; ++i) put32(region, 11 * sector + i * 4, sum);
        std::ranges::copy(region, image_.begin());
        std::ranges::copy(region, image_.begin() + 12 * sector);
    }

    const Tree& tree_;
    ExfatOptions o_;
    Bytes image_;
    std::uint32_t clusters_ = 0;
    std::size_t heap_ = 0;
    std::uint32_t used_ = 2;
    std::size_t files_ = 0;
};

}  // namespace

Bytes make_exfat(const Tree& tree, const ExfatOptions& options) { return ExfatWriter(tree, options).make(); }

}  // namespace forge
