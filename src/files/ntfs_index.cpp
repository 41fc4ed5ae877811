// SPDX-License-Identifier: MIT
// NTFS: directories. A search goes down the tree as the drivers and the boot code do; a listing reads every block once.
#include <fmt/format.h>
#include <algorithm>
#include <set>

#include "bytes/text16.hpp"
#include "files/ntfs_fs.hpp"

namespace herberge::ntfs {

namespace {

constexpr std::size_t most_depth = 32;
constexpr std::size_t most_names = 2'000'000;

struct Entry {
    ondisk::NtfsIndexEntry head{};
    std::span<const std::uint8_t> key;
    std::optional<std::uint64_t> child;
    [[nodiscard]] bool last() const { return (head.flags & 2U) != 0; }
};

/// The entries of one node; stops at the first that does not fit.
template <class Visit>
bool each_entry(std::span<const std::uint8_t> node, std::size_t first, std::size_t used, const Visit& visit) {
    std::size_t at = first;
    const std::size_t end = std::min(node.size(), used);
    while (at + sizeof(ondisk::NtfsIndexEntry) <= end) {
        Entry entry;
        entry.head = ondisk::from_bytes<ondisk::NtfsIndexEntry>(node, at);
        const std::size_t length = entry.head.length;
        if (length < sizeof(entry.head) || length > end - at || entry.head.key_length + sizeof(entry.head) > length)
            return false;
        entry.key = node.subspan(at + sizeof(entry.head), entry.head.key_length);
        if ((entry.head.flags & 1U) != 0 && length >= sizeof(entry.head) + 8)
            entry.child = ondisk::from_bytes<ondisk::little_uint64_t>(node, at + length - 8);
        if (!visit(entry)) return true;
        if (entry.last()) return true;
        at += length;
    }
    return false;
}

}  // namespace

Result<std::vector<std::uint8_t>> NtfsFs::index_block(const Source& allocation, std::uint64_t at,
                                                      std::uint32_t size) const {
    if (allocation == nullptr || at > allocation->size() || size > allocation->size() - at)
        return fail(ErrorKind::OutOfRange, "a directory block past the directory's end", volume_->place());
    auto block = allocation->bytes(at, size);
    if (!block) return tl::unexpected(block.error());
    if ((*block)[0] != 'I' || (*block)[1] != 'N' || (*block)[2] != 'D' || (*block)[3] != 'X')
        return fail(ErrorKind::Malformed, "a directory block without its mark",
                    fmt::format("{} byte {}", allocation->place(), at), "INDX", hex(std::span(*block).first(4)));
    if (!fix(*block))
        return fail(ErrorKind::Malformed, "a directory block whose sectors do not belong together",
                    fmt::format("{} byte {}", allocation->place(), at));
    return block;
}

Result<FileId> NtfsFs::lookup(FileId directory, std::string_view name) const {
    const auto r = record(directory);
    if (!r) return tl::unexpected(r.error());
    const auto* root = r->find(attribute::index_root, index_name);
    if (!r->directory || root == nullptr || root->value.size() < sizeof(ondisk::NtfsIndexRoot))
        return fail(ErrorKind::WrongType, "not a directory", record_place(directory));
    const auto head = ondisk::from_bytes<ondisk::NtfsIndexRoot>(root->value);
    const std::uint32_t block_size = head.block_size;
    Source allocation;
    if (const auto* blocks = r->find(attribute::index_allocation, index_name))
        if (auto source = stream(*blocks, fmt::format("{} index", record_place(directory)))) allocation = *source;
    const std::u16string wanted = upper(utf16_from(name));
    std::vector<std::uint8_t> node = root->value;
    std::size_t base = 16;  // the header's place in the node
    for (std::size_t depth = 0; depth < most_depth; ++depth) {
        const auto header = ondisk::from_bytes<ondisk::NtfsIndexHeader>(node, base);
        std::optional<std::uint64_t> child;
        std::optional<FileId> hit;
        const bool whole = each_entry(node, base + header.entries_offset, base + header.used, [&](const Entry& entry) {
            child = entry.child;
            if (entry.last()) return false;
            if (entry.key.size() < sizeof(ondisk::NtfsFileName)) return true;
            const auto key = ondisk::from_bytes<ondisk::NtfsFileName>(entry.key);
            const std::size_t length =
                std::min<std::size_t>(std::size_t{key.name_length} * 2, entry.key.size() - sizeof(key));
            const auto here = upper(units_from(entry.key.subspan(sizeof(key), length)));
            if (here == wanted) {
                hit = entry.head.record & record_mask;
                return false;
            }
            return here < wanted;  // the first greater one leads down
        });
        if (hit) return *hit;
        if (!whole) return fail(ErrorKind::Malformed, "a damaged directory entry", record_place(directory));
        if (!child) break;
        const std::uint64_t unit = block_size < cluster_ ? 512 : cluster_;
        if (block_size < 256 || block_size > 65536 || *child > (std::uint64_t{1} << 40U))
            return fail(ErrorKind::Malformed, "an impossible directory block", record_place(directory));
        auto block = index_block(allocation, *child * unit, block_size);
        if (!block) return tl::unexpected(block.error());
        node = std::move(*block);
        base = 24;
    }
    return fail(ErrorKind::NotFound, fmt::format("no entry named {}", printable(name)), record_place(directory));
}

Result<void> NtfsFs::walk(FileId directory, const std::function<bool(const Named&)>& visit) const {
    const auto r = record(directory);
    if (!r) return tl::unexpected(r.error());
    const auto* root = r->find(attribute::index_root, index_name);
    if (!r->directory || root == nullptr || root->value.size() < sizeof(ondisk::NtfsIndexRoot))
        return fail(ErrorKind::WrongType, "not a directory", record_place(directory));
    const auto head = ondisk::from_bytes<ondisk::NtfsIndexRoot>(root->value);
    bool go_on = true;
    auto node = [&](std::span<const std::uint8_t> bytes, std::size_t base) {
        const auto header = ondisk::from_bytes<ondisk::NtfsIndexHeader>(bytes, base);
        each_entry(bytes, base + header.entries_offset, base + header.used, [&](const Entry& entry) {
            if (entry.last() || entry.key.size() < sizeof(ondisk::NtfsFileName)) return true;
            Named named;
            named.record = entry.head.record & record_mask;
            named.key = ondisk::from_bytes<ondisk::NtfsFileName>(entry.key);
            const std::size_t length =
                std::min<std::size_t>(std::size_t{named.key.name_length} * 2, entry.key.size() - sizeof(named.key));
            named.name = units_from(entry.key.subspan(sizeof(named.key), length));
            go_on = visit(named);
            return go_on;
        });
    };
    node(root->value, 16);
    const auto* blocks = r->find(attribute::index_allocation, index_name);
    if (blocks == nullptr || !go_on) return {};
    const auto source = stream(*blocks, fmt::format("{} index", record_place(directory)));
    if (!source) return tl::unexpected(source.error());
    const std::uint32_t size = head.block_size;
    if (size < 256 || size > 65536)
        return fail(ErrorKind::Malformed, "an impossible directory block size", record_place(directory));
    const auto* bitmap = r->find(attribute::bitmap, index_name);
    std::vector<std::uint8_t> used;
    if (bitmap != nullptr)
        if (const auto bits = stream(*bitmap, "bitmap"))
            if (auto bytes = (*bits)->bytes(0, (*bits)->size(), std::uint64_t{1} << 24U)) used = std::move(*bytes);
    std::optional<Error> damage;
    // A claimed size costs nothing: only blocks in runs are read.
    for (const auto& run : blocks->runs) {
        if (!run.lcn) continue;
        const std::uint64_t end = std::min((run.vcn + run.clusters) * cluster_, (*source)->size());
        for (std::uint64_t at = run.vcn * cluster_ / size * size; at + size <= end && go_on; at += size) {
            const std::uint64_t index = at / size;
            if (index / 8 < used.size() && (used[static_cast<std::size_t>(index / 8)] >> (index % 8) & 1U) == 0)
                continue;
            const auto block = index_block(*source, at, size);
            if (block) node(*block, 24);
            else if (!damage) damage = block.error();
        }
    }
    if (damage && go_on) return tl::unexpected(*damage);
    return {};
}

Result<std::vector<DirEntry>> NtfsFs::list(FileId directory) const {
    std::vector<DirEntry> out;
    const auto walked = walk(directory, [&](const Named& named) {
        if (named.key.name_space == 2) return true;  // the 8.3 twin of a long name
        DirEntry entry;
        entry.name = utf8_from(named.name);
        entry.id = named.record;
        const bool link = (named.key.flags & 0x400U) != 0 &&
                          (named.key.reparse == reparse_junction || named.key.reparse == reparse_symlink);
        entry.type = link                                   ? FileType::Symlink
                     : (named.key.flags & 0x10000000U) != 0 ? FileType::Directory
                                                            : FileType::Regular;
        out.push_back(std::move(entry));
        return out.size() < most_names;
    });
    if (!walked && out.empty()) return tl::unexpected(walked.error());
    return out;
}

}  // namespace herberge::ntfs
