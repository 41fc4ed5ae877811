// SPDX-License-Identifier: MIT
// Optical media: ISO 9660 (ECMA-119) with Rock Ridge and Joliet, the boot catalogue of El Torito, boot information.
#include <algorithm>
#include <functional>
#include <stdexcept>

#include "forge.hpp"

extern "C" {
extern const std::uint8_t forge_disc_boot[], forge_disc_boot_end[];
extern const std::uint8_t forge_hybrid_boot[], forge_hybrid_boot_end[];
}

namespace forge {

namespace {

constexpr std::size_t block = 2048;

void both16(Bytes& out, std::size_t at, std::uint16_t v) {
    put16(out, at, v);
    out.resize(std::max(out.size(), at + 4));
    out[at + 2] = static_cast<std::uint8_t>(v >> 8U);
    out[at + 3] = static_cast<std::uint8_t>(v);
}
void both32(Bytes& out, std::size_t at, std::uint32_t v) {
    put32(out, at, v);
    grow(out, at + 8);
    for (unsigned i = 0; i < 4; ++i) out[at + 4 + i] = static_cast<std::uint8_t>(v >> (24 - 8 * i));
}
void text(Bytes& out, std::size_t at, std::string_view words, std::size_t width, char fill = ' ') {
    grow(out, at + width);
    for (std::size_t i = 0; i < width; ++i) out[at + i] = static_cast<std::uint8_t>(i < words.size() ? words[i] : fill);
}
constexpr std::uint8_t when[7] = {125, 11, 3, 6, 30, 0, 0};  // 3 November 2025, 06:30 UTC

std::string parent_of(const std::string& path) {
    return path.find('/', 1) == std::string::npos ? "/" : path.substr(0, path.rfind('/'));
}
std::string name_of(const std::string& path) { return path.substr(path.rfind('/') + 1); }

/// One of the two trees that a disc may hold side by side.
class Directories {
public:
    Directories(const Tree& tree, const DiscOptions& options, bool wide) : tree_(tree), options_(options), wide_(wide) {
        paths_.emplace_back("/");
        for (const auto& [path, node] : tree.nodes())
            if (node.kind == Node::Kind::Directory) paths_.push_back(path);
    }

    /// Blocks that all directories take; to be known before files are placed.
    std::size_t place(std::size_t first, const std::map<std::string, std::uint32_t>& files) {
        std::size_t next = first;
        for (const auto& path : paths_) {
            begin_[path] = static_cast<std::uint32_t>(next);
            next += write(path, files, 0).size() / block;
        }
        return next - first;
    }
    void store(Bytes& disc, const std::map<std::string, std::uint32_t>& files) {
        for (const auto& path : paths_) {
            const Bytes bytes = write(path, files, begin_.at(path));
            grow(disc, begin_.at(path) * block + bytes.size());
            std::copy(bytes.begin(), bytes.end(), disc.begin() + static_cast<std::ptrdiff_t>(begin_.at(path) * block));
        }
    }
    [[nodiscard]] std::uint32_t root() const { return begin_.at("/"); }
    [[nodiscard]] Bytes root_record(const std::map<std::string, std::uint32_t>& files) {
        return record(Bytes{0}, begin_["/"], static_cast<std::uint32_t>(size_of("/", files)), 2, {});
    }

private:
    [[nodiscard]] std::size_t size_of(const std::string& path, const std::map<std::string, std::uint32_t>& files) {
        auto known = sizes_.find(path);
        if (known == sizes_.end()) {
            sizes_[path] = block;  // against going round in circles: the size is not part of the size
            known = sizes_.insert_or_assign(path, main_part(path, files, 0, nullptr).size()).first;
        }
        return known->second;
    }

    static Bytes record(const Bytes& name, std::uint32_t at, std::uint32_t size, std::uint8_t flags, const Bytes& use) {
        Bytes out(33);
        both32(out, 2, at);
        both32(out, 10, size);
        std::copy(std::begin(when), std::end(when), out.begin() + 18);
        out[25] = flags;
        both16(out, 28, 1);
        out[32] = static_cast<std::uint8_t>(name.size());
        out.insert(out.end(), name.begin(), name.end());
        if (name.size() % 2 == 0) out.push_back(0);
        out.insert(out.end(), use.begin(), use.end());
        if (out.size() % 2 != 0) out.push_back(0);
        if (out.size() > 255) throw std::runtime_error("a directory record that is too long");
        out[0] = static_cast<std::uint8_t>(out.size());
        return out;
    }

    [[nodiscard]] Bytes stored_name(const std::string& name, bool directory) const {
        Bytes out;
        if (wide_) {
            for (const char c : name.substr(0, 64)) {
                out.push_back(0);
                out.push_back(static_cast<std::uint8_t>(c));
            }
            if (!directory) out.insert(out.end(), {0, ';', 0, '1'});
            return out;
        }
        for (const char c : name.substr(0, 30))
            out.push_back(static_cast<std::uint8_t>(c >= 'a' && c <= 'z' ? c - 32 : c));
        if (!directory) out.insert(out.end(), {';', '1'});
        return out;
    }

    static Bytes entry(char a, char b, const Bytes& body) {
        Bytes out{static_cast<std::uint8_t>(a), static_cast<std::uint8_t>(b),
                  static_cast<std::uint8_t>(body.size() + 4), 1};
        out.insert(out.end(), body.begin(), body.end());
        return out;
    }

    /// Rock Ridge: mode, name, link; what does not fit goes on in `more`, which will lie at block `more_at`.
    Bytes rock_ridge(const std::string& name, const Node& node, std::size_t room, Bytes* more,
                     std::uint32_t more_at) const {
        if (wide_ || !options_.rock_ridge) return {};
        std::vector<Bytes> parts;
        Bytes mode;
        const std::uint32_t type = node.kind == Node::Kind::Directory ? 0040000U
                                   : node.kind == Node::Kind::Link    ? 0120000U
                                                                      : 0100000U;
        both32(mode, 0, type | node.mode);
        both32(mode, 8, 1);
        both32(mode, 16, 0);
        both32(mode, 24, 0);
        parts.push_back(entry('P', 'X', mode));
        Bytes called{0};
        called.insert(called.end(), name.begin(), name.end());
        parts.push_back(entry('N', 'M', called));
        if (node.kind == Node::Kind::Link) {
            Bytes link{0};
            std::string rest = node.target;
            if (rest.starts_with('/')) {
                link.insert(link.end(), {8, 0});
                rest.erase(0, 1);
            }
            while (!rest.empty()) {
                const auto end = std::min(rest.find('/'), rest.size());
                const std::string part = rest.substr(0, end);
                const std::uint8_t flags = part == "." ? 2 : part == ".." ? 4 : 0;
                link.push_back(flags);
                link.push_back(static_cast<std::uint8_t>(flags != 0 ? 0 : part.size()));
                if (flags == 0) link.insert(link.end(), part.begin(), part.end());
                rest.erase(0, std::min(end + 1, rest.size()));
            }
            parts.push_back(entry('S', 'L', link));
        }
        Bytes out;
        constexpr std::size_t pointer = 28;
        std::size_t i = 0;
        for (; i < parts.size() && out.size() + parts[i].size() + pointer <= room; ++i)
            out.insert(out.end(), parts[i].begin(), parts[i].end());
        if (i == parts.size()) return out;
        if (more == nullptr) return out.insert(out.end(), pointer, 0), out;
        const auto from = static_cast<std::uint32_t>(more->size());
        for (; i < parts.size(); ++i) more->insert(more->end(), parts[i].begin(), parts[i].end());
        Bytes where;
        both32(where, 0, more_at);
        both32(where, 8, from);
        both32(where, 16, static_cast<std::uint32_t>(more->size() - from));
        const Bytes ce = entry('C', 'E', where);
        out.insert(out.end(), ce.begin(), ce.end());
        return out;
    }

    Bytes main_part(const std::string& path, const std::map<std::string, std::uint32_t>& files, std::uint32_t at,
                    Bytes* more) {
        const auto here = static_cast<std::uint32_t>(sizes_.contains(path) ? sizes_[path] : block);
        const auto more_at = static_cast<std::uint32_t>(at + here / block);
        const bool ridge = options_.rock_ridge && !wide_;
        Bytes out;
        const auto append = [&](const Bytes& r) {
            if (out.size() / block != (out.size() + r.size() - 1) / block) out.resize((out.size() / block + 1) * block);
            out.insert(out.end(), r.begin(), r.end());
        };
        const Bytes mark = ridge && path == "/" ? entry('S', 'P', {0xBE, 0xEF, 0}) : Bytes{};
        append(record(Bytes{0}, at, here, 2, mark));
        append(record(Bytes{1}, begin_[parent_of(path)], static_cast<std::uint32_t>(block), 2, {}));
        for (const auto& [child, node] : tree_.nodes()) {
            if (parent_of(child) != path || child == "/") continue;
            if (node.kind == Node::Kind::Link && !ridge) continue;
            const bool directory = node.kind == Node::Kind::Directory;
            const Bytes name = stored_name(name_of(child), directory);
            const std::size_t base = 33 + name.size() + (name.size() % 2 == 0 ? 1 : 0);
            const Bytes use = rock_ridge(name_of(child), node, 254 - base, more, more_at);
            if (directory) {
                append(record(name, begin_[child], static_cast<std::uint32_t>(size_of(child, files)), 2, use));
                continue;
            }
            std::size_t left = node.content.size();
            std::uint32_t from = files.contains(child) ? files.at(child) : 0;
            const std::size_t piece = options_.most_piece / block * block;
            while (piece != 0 && left > piece) {
                append(record(name, from, static_cast<std::uint32_t>(piece), 0x80, use));
                from += static_cast<std::uint32_t>(piece / block);
                left -= piece;
            }
            append(record(name, from, static_cast<std::uint32_t>(left), 0, use));
        }
        out.resize((out.size() + block - 1) / block * block);
        return out;
    }

    Bytes write(const std::string& path, const std::map<std::string, std::uint32_t>& files, std::uint32_t at) {
        (void)size_of(path, files);
        Bytes more;
        Bytes out = main_part(path, files, at, &more);
        more.resize((more.size() + block - 1) / block * block);
        out.insert(out.end(), more.begin(), more.end());
        return out;
    }

    const Tree& tree_;
    const DiscOptions& options_;
    bool wide_;
    std::vector<std::string> paths_;
    std::map<std::string, std::uint32_t> begin_;
    std::map<std::string, std::size_t> sizes_;
};

Bytes descriptor(std::uint8_t type, const DiscOptions& options, bool wide, std::uint32_t blocks, const Bytes& root) {
    Bytes out(block);
    out[0] = type;
    text(out, 1, "CD001", 5);
    out[6] = 1;
    if (wide) {
        std::string label;
        for (const char c : options.label) label += std::string(1, '\0') + c;
        text(out, 40, label, 32, '\0');
        text(out, 88, "%/E", 3);
    } else {
        text(out, 40, options.label, 32);
    }
    both32(out, 80, blocks);
    both16(out, 120, 1);
    both16(out, 124, 1);
    both16(out, 128, block);
    std::copy(root.begin(), root.end(), out.begin() + 156);
    text(out, 813, "2025110306300000", 16);
    text(out, 830, "2025110306300000", 16);
    out[881] = 1;
    return out;
}

}  // namespace

Bytes make_disc_boot() {
    Bytes out(forge_disc_boot, forge_disc_boot_end);
    grow(out, 4 * block);
    return out;
}

DiscImage make_disc(const Tree& tree, const DiscOptions& options) {
    DiscImage out;
    std::size_t next = 16;
    const std::size_t primary_at = next++;
    const std::size_t boot_at = next++;
    const std::size_t wide_at = options.joliet ? next++ : 0;
    const std::size_t end_at = next++;
    const std::size_t catalogue_at = next++;
    Directories plain(tree, options, false);
    Directories wide(tree, options, true);
    // Twice: the places of files do not change the directories' sizes.
    next += plain.place(next, {});
    if (options.joliet) next += wide.place(next, {});
    for (const auto& [path, node] : tree.nodes()) {
        if (node.kind != Node::Kind::File) continue;
        out.first_block[path] = static_cast<std::uint32_t>(next);
        next += std::max<std::size_t>(1, (node.content.size() + block - 1) / block);
    }
    auto& disc = out.bytes;
    grow(disc, next * block);
    const auto put = [&](std::size_t at, const Bytes& bytes) {
        std::copy(bytes.begin(), bytes.end(), disc.begin() + static_cast<std::ptrdiff_t>(at * block));
    };
    for (const auto& [path, at] : out.first_block) put(at, tree.nodes().at(path).content);
    plain.store(disc, out.first_block);
    const auto blocks = static_cast<std::uint32_t>(next);
    put(primary_at, descriptor(1, options, false, blocks, plain.root_record(out.first_block)));
    if (options.joliet) {
        wide.store(disc, out.first_block);
        put(wide_at, descriptor(2, options, true, blocks, wide.root_record(out.first_block)));
    }
    Bytes end(block);
    end[0] = 255;
    text(end, 1, "CD001", 5);
    end[6] = 1;
    put(end_at, end);
    if (options.boot_image.empty() && options.efi_image.empty()) return out;
    Bytes record(block);
    text(record, 1, "CD001", 5);
    record[6] = 1;
    text(record, 7, "EL TORITO SPECIFICATION", 23);
    put32(record, 0x47, static_cast<std::uint32_t>(catalogue_at));
    put(boot_at, record);
    Bytes catalogue(block);
    catalogue[0] = 1;
    put16(catalogue, 28, 0x55AA);
    put16(catalogue, 30, 0xAA55);
    catalogue[32] = options.boot_image.empty() ? 0 : 0x88;
    catalogue[33] = options.emulation;
    put16(catalogue, 38, options.emulation != 0 ? 1 : 4);
    if (!options.boot_image.empty()) put32(catalogue, 40, out.first_block.at(options.boot_image));
    if (!options.efi_image.empty()) {
        catalogue[64] = 0x91;
        catalogue[65] = 0xEF;
        put16(catalogue, 66, 1);
        catalogue[96] = 0x88;
        put16(catalogue, 102, static_cast<std::uint16_t>(tree.nodes().at(options.efi_image).content.size() / 512));
        put32(catalogue, 104, out.first_block.at(options.efi_image));
    }
    put(catalogue_at, catalogue);
    if (options.boot_image.empty() || options.emulation != 0) return out;
    // The boot image learns where it lies, what it weighs, and where its configuration is.
    const std::size_t at = out.first_block.at(options.boot_image) * block;
    const std::size_t length = tree.nodes().at(options.boot_image).content.size();
    if (!options.configuration.empty()) put32(disc, at + 0x60, out.first_block.at(options.configuration));
    if (options.boot_information) {
        std::uint32_t sum = 0;
        for (std::size_t i = 64; i < length; i += 4) sum += get32(disc, at + i);
        put32(disc, at + 8, static_cast<std::uint32_t>(primary_at));
        put32(disc, at + 12, static_cast<std::uint32_t>(at / block));
        put32(disc, at + 16, static_cast<std::uint32_t>(length));
        put32(disc, at + 20, sum);
    }
    if (options.hybrid) {
        std::copy(forge_hybrid_boot, forge_hybrid_boot_end, disc.begin());
        put64(disc, 0x1B0, at / 512);
        put32(disc, 0x1B8, 0xA1A1CD01);
        disc[0x1BE] = 0x80;
        disc[0x1C2] = 0x17;
        put32(disc, 0x1C6, 0);
        put32(disc, 0x1CA, static_cast<std::uint32_t>(disc.size() / 512));
        put16(disc, 0x1FE, 0xAA55);
    }
    return out;
}

}  // namespace forge
