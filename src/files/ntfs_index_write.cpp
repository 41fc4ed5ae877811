// SPDX-License-Identifier: MIT
// NTFS: a directory's index with another name.
#include <algorithm>

#include "bytes/text16.hpp"
#include "files/ntfs_fs.hpp"
#include "files/ntfs_records.hpp"

namespace herberge::ntfs {

std::optional<Place> find(const Bytes& record, std::uint32_t type, std::u16string_view name) {
    const auto head = ondisk::from_bytes<ondisk::NtfsRecord>(record);
    for (std::size_t at = head.first_attribute; at + sizeof(ondisk::NtfsAttribute) <= record.size();) {
        const auto a = ondisk::from_bytes<ondisk::NtfsAttribute>(record, at);
        if (a.type == attributes_end || a.length < sizeof(a) || a.length > record.size() - at) return std::nullopt;
        if (a.type == type && a.name_length == name.size() &&
            std::size_t{a.name_offset} + std::size_t{a.name_length} * 2 <= a.length &&
            units_from(std::span(record).subspan(at + a.name_offset, std::size_t{a.name_length} * 2)) == name)
            return Place{at, a};
        at += a.length;
    }
    return std::nullopt;
}

bool splice(Bytes& record, std::size_t at, std::size_t old, const Bytes& with) {
    auto head = ondisk::from_bytes<ondisk::NtfsRecord>(record);
    const std::size_t used = head.used;
    if (used > record.size() || at + old > used || used - old + with.size() > record.size()) return false;
    Bytes out(record.begin(), record.begin() + static_cast<std::ptrdiff_t>(at));
    out.insert(out.end(), with.begin(), with.end());
    out.insert(out.end(), record.begin() + static_cast<std::ptrdiff_t>(at + old),
               record.begin() + static_cast<std::ptrdiff_t>(used));
    head.used = static_cast<std::uint32_t>(out.size());
    out.resize(record.size());
    put(out, 0, head);
    record = std::move(out);
    return true;
}

namespace {

/// Where in a node an entry of this name belongs.
struct Slot {
    std::size_t at = 0;
    std::optional<std::uint64_t> child;
    bool same = false;  ///< the name is there
    bool damaged = false;
};
template <class Upper>
Slot slot_in(const Bytes& node, std::size_t base, const std::u16string& wanted, const Upper& upper) {
    const auto header = ondisk::from_bytes<ondisk::NtfsIndexHeader>(node, base);
    const std::size_t end = std::min<std::size_t>(node.size(), base + header.used);
    Slot out;
    out.at = base + header.entries_offset;
    while (out.at + sizeof(ondisk::NtfsIndexEntry) <= end) {
        const auto entry = ondisk::from_bytes<ondisk::NtfsIndexEntry>(node, out.at);
        if (entry.length < sizeof(entry) || entry.length > end - out.at ||
            entry.key_length + sizeof(entry) > entry.length)
            break;
        out.child.reset();
        if ((entry.flags & 1U) != 0 && entry.length >= sizeof(entry) + 8)
            out.child = ondisk::from_bytes<ondisk::little_uint64_t>(node, out.at + entry.length - 8);
        if ((entry.flags & 2U) != 0) return out;
        if (entry.key_length >= sizeof(ondisk::NtfsFileName)) {
            const auto key = ondisk::from_bytes<ondisk::NtfsFileName>(node, out.at + sizeof(entry));
            const auto length = std::min<std::size_t>(std::size_t{key.name_length} * 2, entry.key_length - sizeof(key));
            const auto here = upper(units_from(std::span(node).subspan(out.at + sizeof(entry) + sizeof(key), length)));
            out.same = here == wanted;
            if (out.same || here > wanted) return out;
        }
        out.at += entry.length;
    }
    out.damaged = true;
    return out;
}

Bytes index_entry(std::uint64_t file, std::span<const std::uint8_t> key) {
    ondisk::NtfsIndexEntry head{};
    head.record = file;
    head.length = static_cast<std::uint16_t>(padded(sizeof(head) + key.size()));
    head.key_length = static_cast<std::uint16_t>(key.size());
    Bytes out;
    append(out, head);
    out.insert(out.end(), key.begin(), key.end());
    out.resize(head.length);
    return out;
}

}  // namespace

/// The directory's index with one more name, or with other sizes for one that it has. Nodes are not split.
Result<std::vector<VolumeEdit>> NtfsFs::indexed(std::uint64_t directory, std::uint64_t file,
                                                std::span<const std::uint8_t> key) const {
    const auto full = [&]() -> Result<std::vector<VolumeEdit>> {
        return fail(ErrorKind::TooLarge, "the directory has no room for another name where it belongs",
                    record_place(directory));
    };
    std::uint64_t at = 0;
    auto raw = raw_record(directory, at);
    const auto r = record(directory);
    if (!raw || !r) return tl::unexpected(!raw ? raw.error() : r.error());
    const auto root = find(*raw, attribute::index_root, index_name);
    if (!root || root->head.non_resident != 0)
        return fail(ErrorKind::Unsupported, "the directory's index begins in another record", record_place(directory));
    const auto rest = ondisk::from_bytes<ondisk::NtfsResident>(*raw, root->at + sizeof(root->head));
    const std::size_t value_at = root->at + rest.offset;
    const auto index = ondisk::from_bytes<ondisk::NtfsIndexRoot>(*raw, value_at);
    const auto told = ondisk::from_bytes<ondisk::NtfsFileName>(key);
    const auto wanted = upper(units_from(key.subspan(sizeof(told), std::size_t{told.name_length} * 2)));
    const auto capitals = [this](const std::u16string& name) { return upper(name); };
    const auto entry = index_entry(file, key);
    // First the root, which lies in the record.
    const std::size_t base = value_at + offsetof(ondisk::NtfsIndexRoot, header);
    auto slot = slot_in(*raw, base, wanted, capitals);
    if (slot.damaged) return fail(ErrorKind::Malformed, "a damaged directory entry", record_place(directory));
    const auto* records = mft_.find(attribute::data);
    if (slot.same || !slot.child) {
        if (slot.same) {
            std::copy(key.begin(), key.begin() + sizeof(told),
                      raw->begin() + static_cast<std::ptrdiff_t>(slot.at + sizeof(ondisk::NtfsIndexEntry)));
        } else {
            if (!splice(*raw, slot.at, 0, entry)) return full();
            auto head = ondisk::from_bytes<ondisk::NtfsAttribute>(*raw, root->at);
            auto value = ondisk::from_bytes<ondisk::NtfsResident>(*raw, root->at + sizeof(head));
            auto node = ondisk::from_bytes<ondisk::NtfsIndexHeader>(*raw, base);
            const auto more = static_cast<std::uint32_t>(entry.size());
            head.length = head.length + more;
            value.length = value.length + more;
            node.used = node.used + more;
            node.allocated = node.allocated + more;
            put(*raw, root->at, head);
            put(*raw, root->at + sizeof(head), value);
            put(*raw, base, node);
        }
        return laid_fixed(*records, directory * record_size_, std::move(*raw));
    }
    const auto* blocks = r->find(attribute::index_allocation, index_name);
    const auto source =
        blocks != nullptr ? stream(*blocks, record_place(directory)) : fail(ErrorKind::NotFound, "none");
    if (!source) return fail(ErrorKind::Malformed, "a directory without its blocks", record_place(directory));
    const std::uint32_t size = index.block_size;
    const std::uint64_t unit = size < cluster_ ? 512 : cluster_;
    constexpr std::size_t node_base = offsetof(ondisk::NtfsIndexBlock, header);
    for (int depth = 0; depth < 32; ++depth) {
        if (size < 256 || size > 65536 || *slot.child > (std::uint64_t{1} << 40U))
            return fail(ErrorKind::Malformed, "an impossible directory block", record_place(directory));
        const std::uint64_t where = *slot.child * unit;
        auto block = index_block(*source, where, size);
        if (!block) return tl::unexpected(block.error());
        slot = slot_in(*block, node_base, wanted, capitals);
        if (slot.damaged) return fail(ErrorKind::Malformed, "a damaged directory entry", record_place(directory));
        if (!slot.same && slot.child) continue;
        auto node = ondisk::from_bytes<ondisk::NtfsIndexHeader>(*block, node_base);
        if (slot.same) {
            std::copy(key.begin(), key.begin() + sizeof(told),
                      block->begin() + static_cast<std::ptrdiff_t>(slot.at + sizeof(ondisk::NtfsIndexEntry)));
        } else {
            const std::size_t used = node_base + node.used;
            if (node.used + entry.size() > node.allocated || used + entry.size() > block->size()) return full();
            std::copy_backward(block->begin() + static_cast<std::ptrdiff_t>(slot.at),
                               block->begin() + static_cast<std::ptrdiff_t>(used),
                               block->begin() + static_cast<std::ptrdiff_t>(used + entry.size()));
            std::ranges::copy(entry, block->begin() + static_cast<std::ptrdiff_t>(slot.at));
            node.used = static_cast<std::uint32_t>(node.used + entry.size());
            put(*block, node_base, node);
        }
        return laid_fixed(*blocks, where, std::move(*block));
    }
    return fail(ErrorKind::Malformed, "a directory that is too deep", record_place(directory));
}

}  // namespace herberge::ntfs
