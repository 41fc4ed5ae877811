// SPDX-License-Identifier: MIT
// Writes NTFS volumes: every file in one run or inside its record, directories as a tree of two levels.
#include <algorithm>
#include <array>
#include <cctype>
#include <map>
#include <stdexcept>

#include "windows.hpp"

extern "C" {
extern const std::uint8_t forge_nt_boot[], forge_nt_boot_end[];
extern const std::uint8_t forge_nt_head[], forge_nt_head_end[];
}

namespace forge {

namespace {

constexpr std::size_t sector = 512;
constexpr std::size_t cluster = 4096;
constexpr std::size_t record_size = 1024;
constexpr std::size_t block_size = 4096;
constexpr std::size_t mft_cluster = 4;
constexpr std::size_t first_user = 24;
constexpr std::size_t spare_records = 16;
constexpr std::uint64_t a_time = 133'000'000'000'000'000ULL;  // in 2022

std::string upper(std::string text) {
    std::transform(text.begin(), text.end(), text.begin(),
                   [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
    return text;
}

struct File {
    std::string name;
    std::size_t parent = 5;
    bool directory = false;
    Bytes content;
    std::optional<std::uint32_t> packing;
    std::vector<std::size_t> children;
};

class NtfsWriter {
public:
    NtfsWriter(const Tree& tree, const NtfsOptions& options) : o_(options) { collect(tree); }

    Bytes write() {
        const std::size_t clusters = static_cast<std::size_t>(o_.size / cluster);
        out_.resize(static_cast<std::size_t>(o_.size));
        const std::size_t used_records = first_user + files_.size();
        const std::size_t records = used_records + spare_records;
        const std::size_t mft_clusters = (records * record_size + cluster - 1) / cluster;
        next_ = mft_cluster + mft_clusters + 8;
        mirror_ = next_;
        next_ += 1;
        // Which records and which clusters are in use; the latter is known at the end.
        Bytes in_use((records + 63) / 64 * 8);
        mark(in_use, used_records);
        const std::size_t records_at = allocate(1);
        place(in_use, records_at * cluster);
        const std::size_t map_size = (clusters + 63) / 64 * 8;
        const std::size_t map_clusters = (map_size + cluster - 1) / cluster;
        const std::size_t map_at = allocate(map_clusters);
        // The table that names compare by.
        Bytes upcase(131072);
        for (std::size_t i = 0; i < 65536; ++i) {
            std::size_t up = i;
            if (i < 128) up = static_cast<std::size_t>(std::toupper(static_cast<int>(i)));
            else if (i >= 0xE0 && i <= 0xFE && i != 0xF7) up = i - 32;
            put16(upcase, i * 2, static_cast<std::uint16_t>(up));
        }
        std::map<std::size_t, Bytes> system;
        system[1] = Bytes(4 * record_size);
        system[10] = upcase;
        Bytes mft_attributes = run_attribute(0x80, mft_cluster, mft_clusters, records * record_size);
        append(mft_attributes, run_attribute(0xB0, records_at, 1, in_use.size()));
        record(0, "$MFT", 5, false, mft_attributes);
        record(1, "$MFTMirr", 5, false, run_attribute(0x80, mirror_, 1, 4 * record_size));
        record(2, "$LogFile", 5, false, data(Bytes(cluster, 0xFF)));
        Bytes volume = resident(0x60, utf16(o_.label, false));
        Bytes info(12);
        info[8] = 3;
        info[9] = 1;
        info[10] = o_.dirty ? 1 : 0;
        append(volume, resident(0x70, info));
        record(3, "$Volume", 5, false, volume);
        record(4, "$AttrDef", 5, false, data(Bytes(2560)));
        record(6, "$Bitmap", 5, false, run_attribute(0x80, map_at, map_clusters, map_size));
        record(7, "$Boot", 5, false, run_attribute(0x80, 0, 2, 2 * cluster));
        record(8, "$BadClus", 5, false, data({}));
        record(9, "$Secure", 5, false, data({}));
        record(10, "$UpCase", 5, false, data(upcase));
        record(11, "$Extend", 5, true, index({}));
        for (std::size_t i = 0; i < files_.size(); ++i) {
            const auto& f = files_[i];
            if (!f.directory)
                record(first_user + i, f.name, f.parent, false,
                       f.packing ? packed(f.content, *f.packing) : data(f.content));
        }
        // Directories come last: their index needs the sizes of what is in them.
        for (std::size_t i = files_.size(); i-- > 0;)
            if (files_[i].directory)
                record(first_user + i, files_[i].name, files_[i].parent, true, index(files_[i].children));
        record(5, ".", 5, true, index(root_));
        boot(clusters);
        Bytes map(map_size, 0xFF);
        for (std::size_t i = next_; i < clusters; ++i)
            map[i / 8] = static_cast<std::uint8_t>(map[i / 8] & ~(1U << (i % 8)));
        place(map, map_at * cluster);
        std::copy_n(out_.begin() + mft_cluster * cluster, 4 * record_size,
                    out_.begin() + static_cast<std::ptrdiff_t>(mirror_ * cluster));
        return std::move(out_);
    }

private:
    void collect(const Tree& tree) {
        std::map<std::string, std::size_t> numbers;
        for (const auto& [path, node] : tree.nodes()) {
            const auto slash = path.rfind('/');
            const std::string parent = path.substr(0, slash);
            File f;
            f.name = path.substr(slash + 1);
            if (f.name.empty()) continue;
            f.directory = node.kind == Node::Kind::Directory;
            f.content = node.content;
            if (const auto found = o_.packed.find(path); found != o_.packed.end()) f.packing = found->second;
            f.parent = parent.empty() ? 5 : numbers.at(parent);
            const std::size_t number = first_user + files_.size();
            numbers[path] = number;
            (parent.empty() ? root_ : files_[f.parent - first_user].children).push_back(number);
            files_.push_back(std::move(f));
        }
    }

    static void append(Bytes& to, const Bytes& from) { to.insert(to.end(), from.begin(), from.end()); }

    static void mark(Bytes& map, std::size_t count) {
        for (std::size_t i = 0; i < count; ++i) map[i / 8] = static_cast<std::uint8_t>(map[i / 8] | 1U << (i % 8));
    }

    std::size_t allocate(std::size_t clusters) {
        const std::size_t first = next_;
        next_ += clusters;
        if ((next_ + 1) * cluster > out_.size()) throw std::runtime_error("an NTFS volume is too small for its files");
        return first;
    }
    void place(const Bytes& bytes, std::size_t at) {
        std::copy(bytes.begin(), bytes.end(), out_.begin() + static_cast<std::ptrdiff_t>(at));
    }

    static Bytes resident(std::uint32_t type, const Bytes& value, std::string_view name = {}, bool indexed = false) {
        const std::size_t name_at = 24;
        const std::size_t value_at = (name_at + name.size() * 2 + 7) / 8 * 8;
        Bytes out((value_at + value.size() + 7) / 8 * 8);
        put32(out, 0, type);
        put32(out, 4, static_cast<std::uint32_t>(out.size()));
        out[9] = static_cast<std::uint8_t>(name.size());
        put16(out, 10, name_at);
        put32(out, 16, static_cast<std::uint32_t>(value.size()));
        put16(out, 20, static_cast<std::uint16_t>(value_at));
        out[22] = indexed ? 1 : 0;
        const Bytes units = utf16(name, false);
        std::copy(units.begin(), units.end(), out.begin() + name_at);
        std::copy(value.begin(), value.end(), out.begin() + static_cast<std::ptrdiff_t>(value_at));
        return out;
    }

    static Bytes run_attribute(std::uint32_t type, std::size_t lcn, std::size_t clusters, std::size_t size,
                               std::string_view name = {}) {
        const std::size_t name_at = 64;
        const std::size_t runs_at = (name_at + name.size() * 2 + 7) / 8 * 8;
        Bytes out(runs_at + 16);
        put32(out, 0, type);
        put32(out, 4, static_cast<std::uint32_t>(out.size()));
        out[8] = 1;
        out[9] = static_cast<std::uint8_t>(name.size());
        put16(out, 10, name_at);
        put64(out, 24, clusters - 1);
        put16(out, 32, static_cast<std::uint16_t>(runs_at));
        put64(out, 40, clusters * cluster);
        put64(out, 48, size);
        put64(out, 56, size);
        const Bytes units = utf16(name, false);
        std::copy(units.begin(), units.end(), out.begin() + name_at);
        out[runs_at] = 0x44;
        put32(out, runs_at + 1, static_cast<std::uint32_t>(clusters));
        put32(out, runs_at + 5, static_cast<std::uint32_t>(lcn));
        return out;
    }

    Bytes data(const Bytes& content) {
        if (content.size() <= 500) return resident(0x80, content);
        const std::size_t clusters = (content.size() + cluster - 1) / cluster;
        const std::size_t first = allocate(clusters);
        place(content, first * cluster);
        last_data_ = first;
        return run_attribute(0x80, first, clusters, content.size());
    }

    /// A hole of the file's length, its pieces packed in a stream of their own, and what says so.
    Bytes packed(const Bytes& content, std::uint32_t algorithm) {
        static constexpr std::array<std::size_t, 4> pieces = {4096, 32768, 8192, 16384};
        const std::size_t piece = pieces.at(algorithm);
        const std::size_t count = (content.size() + piece - 1) / piece;
        Bytes stream((count - 1) * 4);
        const std::size_t table = stream.size();
        for (std::size_t i = 0; i < count; ++i) {
            if (i > 0) put32(stream, (i - 1) * 4, static_cast<std::uint32_t>(stream.size() - table));
            const std::size_t plain = std::min(piece, content.size() - i * piece);
            const Bytes whole(content.begin() + static_cast<std::ptrdiff_t>(i * piece),
                              content.begin() + static_cast<std::ptrdiff_t>(i * piece + plain));
            Bytes one = o_.pack_piece(whole, algorithm);
            if (one.empty() || one.size() >= plain) one = whole;
            append(stream, one);
        }
        const std::size_t clusters = (content.size() + cluster - 1) / cluster;
        Bytes out = run_attribute(0x80, 0, clusters, content.size());
        put16(out, 12, 0x8000);  // sparse
        std::fill_n(out.begin() + 64, 16, std::uint8_t{0});
        out[64] = 0x04;
        put32(out, 65, static_cast<std::uint32_t>(clusters));
        const std::size_t first = allocate((stream.size() + cluster - 1) / cluster);
        place(stream, first * cluster);
        append(out,
               run_attribute(0x80, first, (stream.size() + cluster - 1) / cluster, stream.size(), "WofCompressedData"));
        Bytes reparse(24);
        put32(reparse, 0, 0x80000017);
        put16(reparse, 4, 16);
        put32(reparse, 8, 1);
        put32(reparse, 12, 2);
        put32(reparse, 16, 1);
        put32(reparse, 20, algorithm);
        append(out, resident(0xC0, reparse));
        return out;
    }

    [[nodiscard]] Bytes file_name(const std::string& name, std::size_t parent, bool directory, std::size_t size) const {
        Bytes out(66);
        put64(out, 0, parent | std::uint64_t{1} << 48U);
        for (std::size_t i = 8; i < 40; i += 8) put64(out, i, a_time);
        put64(out, 40, (size + cluster - 1) / cluster * cluster);
        put64(out, 48, size);
        put32(out, 56, directory ? 0x10000000U : 0x20U);
        out[64] = static_cast<std::uint8_t>(name.size());
        out[65] = 3;
        append(out, utf16(name, false));
        return out;
    }

    Bytes entry(std::size_t number, std::uint16_t flags, std::uint64_t child) const {
        const auto& f = files_[number - first_user];
        const Bytes key = file_name(f.name, f.parent, f.directory, f.content.size());
        Bytes out(16);
        put64(out, 0, number | std::uint64_t{1} << 48U);
        put16(out, 10, static_cast<std::uint16_t>(key.size()));
        put16(out, 12, flags);
        append(out, key);
        while (out.size() % 8 != 0) out.push_back(0);
        if ((flags & 1U) != 0) put64(out, out.size(), child);
        put16(out, 8, static_cast<std::uint16_t>(out.size()));
        return out;
    }
    static Bytes end_entry(std::uint16_t flags, std::uint64_t child) {
        Bytes out(16);
        put16(out, 12, static_cast<std::uint16_t>(flags | 2U));
        if ((flags & 1U) != 0) put64(out, 16, child);
        put16(out, 8, static_cast<std::uint16_t>(out.size()));
        return out;
    }

    /// Index root, and blocks when the names do not fit into it.
    Bytes index(std::vector<std::size_t> numbers) {
        std::sort(numbers.begin(), numbers.end(), [&](std::size_t a, std::size_t b) {
            return upper(files_[a - first_user].name) < upper(files_[b - first_user].name);
        });
        Bytes entries;
        for (const auto n : numbers) append(entries, entry(n, 0, 0));
        const bool large = entries.size() > 400;
        Bytes blocks;
        std::size_t count = 0;
        if (large) {
            entries.clear();
            std::size_t i = 0;
            while (i < numbers.size()) {
                Bytes body;
                while (i < numbers.size() && body.size() + 300 < block_size - 96)
                    append(body, entry(numbers[i++], 0, 0));
                append(body, end_entry(0, 0));
                append(blocks, index_block(body, count));
                if (i < numbers.size()) append(entries, entry(numbers[i++], 1, count));
                else {
                    append(entries, end_entry(1, count));
                    ++count;
                    break;
                }
                ++count;
                if (i == numbers.size()) {
                    append(blocks, index_block(end_entry(0, 0), count));
                    append(entries, end_entry(1, count));
                    ++count;
                }
            }
            if (entries.size() > 600) throw std::runtime_error("too many names in a directory of an NTFS volume");
        } else {
            append(entries, end_entry(0, 0));
        }
        Bytes root(32);
        put32(root, 0, 0x30);
        put32(root, 4, 1);
        put32(root, 8, block_size);
        root[12] = 1;
        put32(root, 16, 16);
        put32(root, 20, static_cast<std::uint32_t>(16 + entries.size()));
        put32(root, 24, static_cast<std::uint32_t>(16 + entries.size()));
        put32(root, 28, large ? 1 : 0);
        append(root, entries);
        Bytes out = resident(0x90, root, "$I30");
        if (large) {
            const std::size_t clusters = blocks.size() / cluster;
            const std::size_t first = allocate(clusters);
            place(blocks, first * cluster);
            append(out, run_attribute(0xA0, first, clusters, blocks.size(), "$I30"));
            Bytes bitmap((count + 63) / 64 * 8);
            for (std::size_t i = 0; i < count; ++i)
                bitmap[i / 8] = static_cast<std::uint8_t>(bitmap[i / 8] | 1U << (i % 8));
            append(out, resident(0xB0, bitmap, "$I30"));
        }
        return out;
    }

    static void fix_up(Bytes& block, std::size_t at) {
        const std::size_t count = block.size() / sector;
        put16(block, 4, static_cast<std::uint16_t>(at));
        put16(block, 6, static_cast<std::uint16_t>(count + 1));
        put16(block, at, 0x0101);
        for (std::size_t i = 0; i < count; ++i) {
            const std::size_t end = (i + 1) * sector - 2;
            block[at + 2 + i * 2] = block[end];
            block[at + 3 + i * 2] = block[end + 1];
            block[end] = block[end + 1] = 0x01;
        }
    }

    static Bytes index_block(const Bytes& body, std::size_t number) {
        Bytes out(block_size);
        std::copy_n("INDX", 4, out.begin());
        put64(out, 16, number);
        put32(out, 24, 40);
        put32(out, 28, static_cast<std::uint32_t>(40 + body.size()));
        put32(out, 32, block_size - 24);
        std::copy(body.begin(), body.end(), out.begin() + 64);
        fix_up(out, 40);
        return out;
    }

    void record(std::size_t number, const std::string& name, std::size_t parent, bool directory,
                const Bytes& attributes) {
        Bytes out(56);
        std::copy_n("FILE", 4, out.begin());
        put16(out, 16, 1);
        put16(out, 18, 1);
        put16(out, 20, 56);
        put16(out, 22, directory ? 3 : 1);
        put32(out, 28, record_size);
        Bytes standard(48);
        for (std::size_t i = 0; i < 32; i += 8) put64(standard, i, a_time);
        append(out, resident(0x10, standard));
        append(out, resident(0x30, file_name(name, parent, directory, 0), {}, true));
        append(out, attributes);
        put32(out, out.size(), 0xFFFFFFFF);
        put32(out, out.size(), 0);
        put32(out, 24, static_cast<std::uint32_t>(out.size()));
        if (out.size() > record_size) throw std::runtime_error("a file record of an NTFS volume is too full: " + name);
        out.resize(record_size);
        fix_up(out, 48);
        place(out, mft_cluster * cluster + number * record_size);
        if (!o_.loader_name.empty() && upper(name) == o_.loader_name && parent == 5) loader_cluster_ = last_data_;
    }

    void boot(std::size_t clusters) {
        Bytes b(sector);
        b[0] = 0xEB;
        b[1] = 0x52;
        b[2] = 0x90;
        std::copy_n("NTFS    ", 8, b.begin() + 3);
        put16(b, 11, sector);
        b[13] = cluster / sector;
        b[21] = 0xF8;
        put16(b, 24, 63);
        put16(b, 26, 255);
        put32(b, 28, o_.hidden_sectors);
        put32(b, 36, 0x00800080);
        put64(b, 40, clusters * cluster / sector - 1);
        put64(b, 48, mft_cluster);
        put64(b, 56, mirror_);
        b[64] = 0xF6;
        b[68] = 1;
        put64(b, 72, o_.serial);
        if (!o_.loader_name.empty()) {
            std::copy(forge_nt_boot + 0x54, forge_nt_boot_end, b.begin() + 0x54);
            const std::string words = o_.loader_name + " is missing";
            std::copy(words.begin(), words.end(), b.begin() + 0x1A0);
            put32(b, 0x1F0, static_cast<std::uint32_t>(loader_cluster_ * (cluster / sector)));
        }
        put16(b, 510, 0xAA55);
        place(b, 0);
        place(b, out_.size() - sector);
        if (!o_.loader_name.empty()) {
            // The second sector begins with the name the code asks for, its length in front.
            Bytes second(2);
            put16(second, 0, static_cast<std::uint16_t>(o_.loader_name.size()));
            append(second, utf16(o_.loader_name, false));
            place(second, sector);
        }
    }

    const NtfsOptions& o_;
    std::vector<File> files_;
    std::vector<std::size_t> root_;
    Bytes out_;
    std::size_t next_ = 0;
    std::size_t mirror_ = 0;
    std::size_t last_data_ = 0;
    std::size_t loader_cluster_ = 0;
};

}  // namespace

Bytes make_ntfs(const Tree& tree, const NtfsOptions& options) { return NtfsWriter(tree, options).write(); }

Bytes make_boot_manager() {
    Bytes out(forge_nt_head, forge_nt_head_end);
    out.resize(4096);
    const Bytes image = make_pe({0x14C, 16, {}, {}, true});
    out.insert(out.end(), image.begin(), image.end());
    return out;
}

}  // namespace forge
