// SPDX-License-Identifier: MIT
// NTFS: what has to change for a directory to have another file: record, clusters, bitmaps, the directory's index.
#include <fmt/format.h>
#include <algorithm>
#include <cstring>
#include <set>

#include "bytes/text16.hpp"
#include "files/ntfs_fs.hpp"
#include "files/ntfs_records.hpp"

namespace herberge::ntfs {

namespace {

constexpr std::uint32_t security_descriptor = 0x50;
constexpr std::uint64_t first_user_record = 24;
constexpr std::size_t record_number_at = 0x2C;        ///< in the head of a record, since NTFS 3.1
constexpr std::size_t security_id_at = 0x34;          ///< in the value of $STANDARD_INFORMATION, since NTFS 3.0
constexpr std::uint32_t archived = 0x20;              ///< the DOS attribute
constexpr std::uint32_t indexed_folder = 0x10000000;  ///< in a name: it is a folder
constexpr std::size_t most_pieces = 8;
constexpr std::uint64_t most_bitmap = std::uint64_t{64} << 20U;

bool bit(const Bytes& map, std::uint64_t index) { return (map[index / 8] >> (index % 8) & 1U) != 0; }
void set_bit(Bytes& map, std::uint64_t index, bool to) {
    const auto mask = static_cast<std::uint8_t>(1U << (index % 8));
    map[index / 8] = static_cast<std::uint8_t>(to ? map[index / 8] | mask : map[index / 8] & ~mask);
}

/// A name that DOS can have, too: then it is the file's only one.
bool short_name(std::string_view name) {
    const auto dot = name.find('.');
    const auto stem = name.substr(0, dot);
    const auto end = dot == std::string_view::npos ? std::string_view{} : name.substr(dot + 1);
    if (stem.empty() || stem.size() > 8 || end.size() > 3 || (dot != std::string_view::npos && end.empty()))
        return false;
    return std::ranges::all_of(std::string(stem) + std::string(end), [](char c) {
        return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') ||
               std::string_view("_-~$!#%&'()@^`{}").find(c) != std::string_view::npos;
    });
}

Bytes resident_attribute(std::uint32_t type, std::span<const std::uint8_t> value, std::uint16_t id, bool indexed,
                         std::u16string_view name = {}) {
    constexpr std::size_t head_size = sizeof(ondisk::NtfsAttribute) + sizeof(ondisk::NtfsResident);
    const std::size_t value_at = padded(head_size + 2 * name.size());
    ondisk::NtfsAttribute head{};
    head.type = type;
    head.length = static_cast<std::uint32_t>(padded(value_at + value.size()));
    head.name_length = static_cast<std::uint8_t>(name.size());
    head.name_offset = head_size;
    head.id = id;
    ondisk::NtfsResident rest{};
    rest.length = static_cast<std::uint32_t>(value.size());
    rest.offset = static_cast<std::uint16_t>(value_at);
    rest.flags = indexed ? 1 : 0;
    Bytes out;
    append(out, head);
    append(out, rest);
    for (const char16_t unit : name) append(out, ondisk::little_uint16_t(unit));
    out.resize(value_at);
    out.insert(out.end(), value.begin(), value.end());
    out.resize(head.length);
    return out;
}

/// Signed, in as few bytes as it takes.
void append_number(Bytes& out, std::int64_t value, std::size_t& count) {
    count = 0;
    do {
        out.push_back(static_cast<std::uint8_t>(value));
        value >>= 8;
        ++count;
    } while (!((value == 0 && (out.back() & 0x80U) == 0) || (value == -1 && (out.back() & 0x80U) != 0)));
}

Bytes coded_runs(const std::vector<Run>& runs) {
    Bytes out;
    std::int64_t last = 0;
    for (const auto& run : runs) {
        const std::size_t head = out.size();
        std::size_t lengths = 0;
        std::size_t offsets = 0;
        out.push_back(0);
        append_number(out, static_cast<std::int64_t>(run.clusters), lengths);
        append_number(out, static_cast<std::int64_t>(*run.lcn) - last, offsets);
        out[head] = static_cast<std::uint8_t>(lengths | offsets << 4U);
        last = static_cast<std::int64_t>(*run.lcn);
    }
    out.push_back(0);
    return out;
}

Bytes data_in_runs(const std::vector<Run>& runs, std::uint64_t size, std::uint64_t cluster, std::uint16_t id) {
    constexpr std::size_t head_size = sizeof(ondisk::NtfsAttribute) + sizeof(ondisk::NtfsNonResident);
    std::uint64_t clusters = 0;
    for (const auto& run : runs) clusters += run.clusters;
    const auto coded = coded_runs(runs);
    ondisk::NtfsAttribute head{};
    head.type = attribute::data;
    head.length = static_cast<std::uint32_t>(padded(head_size + coded.size()));
    head.non_resident = 1;
    head.name_offset = head_size;
    head.id = id;
    ondisk::NtfsNonResident rest{};
    rest.last_vcn = clusters - 1;
    rest.runs_offset = head_size;
    rest.allocated = clusters * cluster;
    rest.size = rest.valid = size;
    Bytes out;
    append(out, head);
    append(out, rest);
    out.resize(head.length);
    std::ranges::copy(coded, out.begin() + static_cast<std::ptrdiff_t>(head_size));
    return out;
}

/// Where an attribute of this type belongs: they stand in the order of their types.
std::size_t place_for(const Bytes& record, std::uint32_t type) {
    const auto head = ondisk::from_bytes<ondisk::NtfsRecord>(record);
    std::size_t at = head.first_attribute;
    while (at + sizeof(ondisk::NtfsAttribute) <= record.size()) {
        const auto a = ondisk::from_bytes<ondisk::NtfsAttribute>(record, at);
        if (a.type > type || a.length < sizeof(a) || a.length > record.size() - at) break;
        at += a.length;
    }
    return at;
}

}  // namespace

Result<std::vector<VolumeEdit>> NtfsFs::laid(const Attribute& attribute, std::uint64_t offset,
                                             std::span<const std::uint8_t> bytes) const {
    std::vector<VolumeEdit> out;
    std::uint64_t done = 0;
    for (const auto& run : attribute.runs) {
        const std::uint64_t begin = run.vcn * cluster_;
        const std::uint64_t end = begin + run.clusters * cluster_;
        if (done == bytes.size() || offset + done < begin || offset + done >= end) continue;
        if (!run.lcn) break;
        const auto part = std::min<std::uint64_t>(bytes.size() - done, end - offset - done);
        const auto piece = bytes.subspan(static_cast<std::size_t>(done), static_cast<std::size_t>(part));
        out.push_back({*run.lcn * cluster_ + offset + done - begin, {piece.begin(), piece.end()}});
        done += part;
    }
    if (attribute.resident || done != bytes.size())
        return fail(ErrorKind::Unsupported, "what has to change does not lie in clusters of its own", volume_->place());
    return out;
}

Result<std::vector<VolumeEdit>> NtfsFs::laid_fixed(const Attribute& attribute, std::uint64_t offset,
                                                   std::vector<std::uint8_t> block) const {
    constexpr std::size_t stride = 512;
    const auto head = ondisk::from_bytes<ondisk::NtfsFixedUp>(block);
    const std::size_t at = head.fixup_offset;
    const std::size_t count = head.fixup_count;
    if (count == 0 || (count - 1) * stride > block.size() || at + count * 2 > block.size())
        return fail(ErrorKind::Malformed, "a block without room for its sectors' ends", volume_->place());
    auto number = static_cast<std::uint16_t>(ondisk::from_bytes<ondisk::little_uint16_t>(block, at) + 1U);
    if (number == 0 || number == 0xFFFF) number = 1;
    put(block, at, ondisk::little_uint16_t(number));
    for (std::size_t i = 1; i < count; ++i) {
        const std::size_t end = i * stride - 2;
        put(block, at + i * 2, ondisk::from_bytes<ondisk::little_uint16_t>(block, end));
        put(block, end, ondisk::little_uint16_t(number));
    }
    return laid(attribute, offset, block);
}

/// Everything that one file changes.
struct NtfsFs::Writing {
    const NtfsFs& fs;
    const Attribute& record_map;  ///< which records are in use
    Attribute cluster_map;        ///< which clusters are
    Bytes records, clusters;
    std::set<std::uint64_t> changed;  ///< bytes of `clusters`: each is written once, as it is in the end
    std::vector<VolumeEdit> edits;

    static Result<Writing> begin(const NtfsFs& fs) {
        const auto* map = fs.mft_.find(attribute::bitmap);
        const auto bitmap = fs.record(6);  // $Bitmap
        if (!bitmap) return tl::unexpected(bitmap.error());
        const auto* data = bitmap->find(attribute::data);
        if (map == nullptr || data == nullptr)
            return fail(ErrorKind::Malformed, "a volume without its bitmaps", fs.volume_->place());
        Writing out{fs, *map, *data, {}, {}, {}, {}};
        for (const auto& [source, into] : {std::pair{map, &out.records}, {data, &out.clusters}}) {
            const auto bits = fs.stream(*source, fs.volume_->place());
            if (!bits) return tl::unexpected(bits.error());
            auto bytes = (*bits)->bytes(0, (*bits)->size(), most_bitmap);
            if (!bytes) return tl::unexpected(bytes.error());
            *into = std::move(*bytes);
        }
        return out;
    }

    Result<void> add(Result<std::vector<VolumeEdit>> more) {
        if (!more) return tl::unexpected(more.error());
        edits.insert(edits.end(), more->begin(), more->end());
        return {};
    }

    /// A record that nobody uses; the MFT does not grow.
    Result<std::uint64_t> take_record() {
        const auto all = fs.mft_data_->size() / fs.record_size_;
        for (std::uint64_t number = first_user_record; number < all && number / 8 < records.size(); ++number) {
            if (bit(records, number)) continue;
            set_bit(records, number, true);
            if (auto done = add(fs.laid(record_map, number / 8, std::span(records).subspan(number / 8, 1))); !done)
                return tl::unexpected(done.error());
            return number;
        }
        return fail(ErrorKind::TooLarge, "the MFT has no free record", fs.volume_->place());
    }

    /// Free clusters in at most eight runs, the first that fits alone preferred.
    Result<std::vector<Run>> take_clusters(std::uint64_t wanted) {
        const auto all = std::min<std::uint64_t>(clusters.size() * 8, fs.volume_->size() / fs.cluster_);
        for (const std::size_t pieces : {std::size_t{1}, most_pieces}) {
            std::vector<Run> out;
            std::uint64_t left = wanted;
            const std::uint64_t least = (wanted + pieces - 1) / pieces;
            for (std::uint64_t at = 0; at < all && left != 0;) {
                std::uint64_t length = 0;
                while (at + length < all && length < left && !bit(clusters, at + length)) ++length;
                if (length != 0 && length >= std::min(least, left)) {
                    out.push_back({wanted - left, length, at});
                    left -= length;
                }
                at += std::max<std::uint64_t>(length, 1);
            }
            if (left != 0) continue;
            for (const auto& run : out)
                if (auto done = mark(*run.lcn, run.clusters, true); !done) return tl::unexpected(done.error());
            return out;
        }
        return fail(ErrorKind::TooLarge, "the volume has no room in few pieces", fs.volume_->place());
    }

    Result<void> mark(std::uint64_t first, std::uint64_t count, bool used) {
        if ((first + count + 7) / 8 > clusters.size())
            return fail(ErrorKind::Malformed, "clusters outside of the volume's bitmap", fs.volume_->place());
        for (std::uint64_t i = first; i < first + count; ++i) set_bit(clusters, i, used);
        for (std::uint64_t byte = first / 8; byte < (first + count + 7) / 8; ++byte) changed.insert(byte);
        return {};
    }
    Result<void> write_map() {
        for (auto at = changed.begin(); at != changed.end();) {
            const std::uint64_t begin = *at;
            std::uint64_t end = begin;
            while (at != changed.end() && *at == end) {
                ++at;
                ++end;
            }
            const auto piece = std::span(clusters).subspan(begin, end - begin);
            if (auto done = add(fs.laid(cluster_map, begin, piece)); !done) return done;
        }
        return {};
    }

    /// The clusters of a record's content become free, and the attribute goes.
    Result<void> release(Bytes& raw, const Record& record) {
        const auto old = find(raw, attribute::data);
        if (!old) return {};
        if (raw.empty() || record.find(attribute::list) != nullptr || old->head.flags != 0 ||
            record.find(attribute::reparse) != nullptr)
            return fail(ErrorKind::Unsupported, "the file is compressed, a link, or in several records",
                        fs.record_place(record.number));
        for (const auto& run : record.find(attribute::data)->runs)
            if (run.lcn)
                if (auto done = mark(*run.lcn, run.clusters, false); !done) return done;
        (void)splice(raw, old->at, old->head.length, {});
        return {};
    }

    /// Content for a record that has none: in the record itself where it fits, else in clusters.
    Result<std::uint64_t> give(Bytes& raw, std::span<const std::uint8_t> content) {
        auto head = ondisk::from_bytes<ondisk::NtfsRecord>(raw);
        const std::uint16_t id = head.next_attribute;
        head.next_attribute = static_cast<std::uint16_t>(id + 1U);
        put(raw, 0, head);
        const auto at = place_for(raw, attribute::data);
        if (splice(raw, at, 0, resident_attribute(attribute::data, content, id, false))) return padded(content.size());
        const auto runs = take_clusters((content.size() + fs.cluster_ - 1) / fs.cluster_);
        if (!runs) return tl::unexpected(runs.error());
        if (runs->empty() || !splice(raw, at, 0, data_in_runs(*runs, content.size(), fs.cluster_, id)))
            return fail(ErrorKind::TooLarge, "the file's record is full", fs.volume_->place());
        std::uint64_t clusters_taken = 0;
        for (const auto& run : *runs) {
            Bytes piece(run.clusters * fs.cluster_);
            const std::size_t from = run.vcn * fs.cluster_;
            std::copy_n(content.begin() + static_cast<std::ptrdiff_t>(from),
                        std::min(piece.size(), content.size() - from), piece.begin());
            edits.push_back({*run.lcn * fs.cluster_, std::move(piece)});
            clusters_taken += run.clusters;
        }
        return clusters_taken * fs.cluster_;
    }

    /// An index without names, which makes the record a folder's.
    bool give_index(Bytes& raw) const {
        auto head = ondisk::from_bytes<ondisk::NtfsRecord>(raw);
        const std::uint16_t id = head.next_attribute;
        head.next_attribute = static_cast<std::uint16_t>(id + 1U);
        head.flags = head.flags | 2U;
        put(raw, 0, head);
        const std::uint32_t block = coded_size(fs.boot_.index_size, fs.cluster_);
        ondisk::NtfsIndexRoot root{};
        root.type = attribute::file_name;
        root.collation = 1;  // file names
        root.block_size = block;
        root.clusters_per_block = static_cast<std::uint8_t>(block / (block < fs.cluster_ ? 512 : fs.cluster_));
        root.header.entries_offset = sizeof(root.header);
        root.header.used = root.header.allocated = sizeof(root.header) + sizeof(ondisk::NtfsIndexEntry);
        ondisk::NtfsIndexEntry end{};
        end.length = sizeof(end);
        end.flags = 2;
        Bytes value;
        append(value, root);
        append(value, end);
        return splice(raw, place_for(raw, attribute::index_root), 0,
                      resident_attribute(attribute::index_root, value, id, false, index_name));
    }

    Result<void> write_record(std::uint64_t number, Bytes raw) {
        return add(fs.laid_fixed(*fs.mft_.find(attribute::data), number * fs.record_size_, std::move(raw)));
    }

    /// A record with its times, permissions and name, and no content.
    [[nodiscard]] Bytes new_record(std::uint64_t number, std::uint16_t sequence, const Bytes& parent,
                                   const Bytes& key) const {
        Bytes out(fs.record_size_);
        ondisk::NtfsRecord head{};
        std::memcpy(head.mark.data(), "FILE", 4);
        head.fixup_offset = 0x30;
        head.fixup_count = static_cast<std::uint16_t>(fs.record_size_ / 512 + 1);
        head.sequence = sequence;
        head.links = 1;
        head.first_attribute = static_cast<std::uint16_t>(padded(0x30U + 2U * head.fixup_count));
        head.flags = 1;
        head.used = head.first_attribute + 8U;
        head.allocated = fs.record_size_;
        put(out, record_number_at, ondisk::little_uint32_t(static_cast<std::uint32_t>(number)));
        const auto value_of = [&](std::uint32_t type) -> Bytes {
            const auto found = find(parent, type);
            if (!found || found->head.non_resident != 0) return {};
            const auto rest = ondisk::from_bytes<ondisk::NtfsResident>(parent, found->at + sizeof(found->head));
            if (std::size_t{rest.offset} + rest.length > found->head.length) return {};
            const auto begin = parent.begin() + static_cast<std::ptrdiff_t>(found->at + rest.offset);
            return {begin, begin + static_cast<std::ptrdiff_t>(std::uint32_t{rest.length})};
        };
        // Whoever may use the folder may use the file: its descriptor, or the number of it.
        Bytes standard = value_of(attribute::standard);
        if (standard.size() < 48) standard.assign(48, 0);
        auto times = ondisk::from_bytes<ondisk::NtfsStandardInformation>(standard);
        const bool numbered = standard.size() > security_id_at + 4;
        Bytes fresh(72);
        const bool folder = (ondisk::from_bytes<ondisk::NtfsFileName>(key).flags & indexed_folder) != 0;
        times.flags = folder ? 0U : archived;
        std::memcpy(fresh.data(), &times, sizeof(times));
        if (numbered) std::copy_n(standard.begin() + security_id_at, 4, fresh.begin() + security_id_at);
        fresh.resize(numbered ? 72 : 48);
        put(out, 0, head);
        put(out, head.first_attribute, ondisk::little_uint32_t(attributes_end));
        std::uint16_t id = 0;
        const auto add_attribute = [&](std::uint32_t type, const Bytes& value, bool named) {
            (void)splice(out, place_for(out, type), 0, resident_attribute(type, value, id++, named));
        };
        add_attribute(attribute::standard, fresh, false);
        add_attribute(attribute::file_name, key, true);
        if (const auto rights = value_of(security_descriptor); !rights.empty() && rights.size() <= 256)
            add_attribute(security_descriptor, rights, false);
        head = ondisk::from_bytes<ondisk::NtfsRecord>(out);
        head.next_attribute = id;
        put(out, 0, head);
        return out;
    }
};

Result<std::vector<VolumeEdit>> NtfsFs::with_file(FileId directory, std::string_view name,
                                                  std::span<const std::uint8_t> content) const {
    return with_entry(directory, name, content);
}
Result<std::vector<VolumeEdit>> NtfsFs::with_directory(FileId directory, std::string_view name) const {
    return with_entry(directory, name, std::nullopt);
}

Result<std::vector<VolumeEdit>> NtfsFs::with_entry(FileId directory, std::string_view name,
                                                   std::optional<std::span<const std::uint8_t>> content) const {
    const auto units = utf16_from(name);
    if (units.empty() || units.size() > 255 || name.find_first_of(std::string_view("/\\:*?\"<>|\0", 10)) != name.npos ||
        name == "." || name == "..")
        return fail(ErrorKind::Malformed, "not a name", volume_->place(), {}, printable(name));
    if ((volume_flags_ & 1U) != 0 || hibernated())
        return fail(ErrorKind::Unsupported, "the volume is marked dirty, or holds a system that is hibernated",
                    volume_->place());
    std::uint64_t at = 0;
    const auto folder = raw_record(directory & record_mask, at);
    if (!folder) return tl::unexpected(folder.error());
    const auto known = lookup(directory, name);
    if (!known && known.error().kind != ErrorKind::NotFound) return tl::unexpected(known.error());
    auto writing = Writing::begin(*this);
    if (!writing) return tl::unexpected(writing.error());

    // The file's record: the one that it has, or a free one with a sequence number of its own.
    Bytes raw;
    std::uint64_t number = 0;
    ondisk::NtfsFileName key{};
    Bytes key_bytes;
    if (known) {
        number = *known & record_mask;
        const auto r = record(number);
        auto old = raw_record(number, at);
        if (!r || !old) return tl::unexpected(!r ? r.error() : old.error());
        if (r->directory || !content)
            return fail(ErrorKind::WrongType, "a directory or file has this name", record_place(number));
        raw = std::move(*old);
        if (auto done = writing->release(raw, *r); !done) return tl::unexpected(done.error());
        const auto* named = r->find(attribute::file_name);
        if (named == nullptr || named->value.size() < sizeof(key))
            return fail(ErrorKind::Unsupported, "the file's name lies in another record", record_place(number));
        // The name as it stands in this directory: a file may have others elsewhere.
        for (const auto& one : r->attributes)
            if (one.type == attribute::file_name && one.value.size() >= sizeof(key) &&
                upper(units_from(std::span(one.value).subspan(sizeof(key)))) == upper(units))
                named = &one;
        key = ondisk::from_bytes<ondisk::NtfsFileName>(named->value);
        if (named->value.size() < sizeof(key) + std::size_t{key.name_length} * 2)
            return fail(ErrorKind::Malformed, "a name that does not fit its attribute", record_place(number));
        key_bytes = named->value;
    } else {
        const auto free = writing->take_record();
        if (!free) return tl::unexpected(free.error());
        number = *free;
        const auto old = mft_data_->bytes(number * record_size_, record_size_);
        const auto head = old ? ondisk::from_bytes<ondisk::NtfsRecord>(*old) : ondisk::NtfsRecord{};
        const bool used_before = old && std::memcmp(head.mark.data(), "FILE", 4) == 0;
        auto sequence = static_cast<std::uint16_t>(used_before ? head.sequence + 1U : 1U);
        if (sequence == 0) sequence = 1;
        const auto parent = ondisk::from_bytes<ondisk::NtfsRecord>(*folder);
        const auto times = find(*folder, attribute::standard);
        if (times && times->head.non_resident == 0) {
            const auto rest = ondisk::from_bytes<ondisk::NtfsResident>(*folder, times->at + sizeof(times->head));
            const auto told = ondisk::from_bytes<ondisk::NtfsStandardInformation>(*folder, times->at + rest.offset);
            key.created = key.modified = key.changed = key.accessed = std::uint64_t{told.modified};
        }
        key.parent = (directory & record_mask) | std::uint64_t{parent.sequence} << 48U;
        key.flags = content ? archived : indexed_folder;
        key.name_length = static_cast<std::uint8_t>(units.size());
        key.name_space = short_name(name) ? 3 : 0;
        append(key_bytes, key);
        for (const char16_t unit : units) append(key_bytes, ondisk::little_uint16_t(unit));
        raw = writing->new_record(number, sequence, *folder, key_bytes);
    }
    if (content) {
        const auto allocated = writing->give(raw, *content);
        if (!allocated) return tl::unexpected(allocated.error());
        key.allocated = *allocated;
        key.size = content->size();
    } else if (!writing->give_index(raw)) {
        return fail(ErrorKind::TooLarge, "the folder's record is full", volume_->place());
    }
    put(key_bytes, 0, key);
    if (!known)
        if (const auto named = find(raw, attribute::file_name)) {
            const auto rest = ondisk::from_bytes<ondisk::NtfsResident>(raw, named->at + sizeof(named->head));
            put(raw, named->at + rest.offset, key);
        }
    const auto sequence = ondisk::from_bytes<ondisk::NtfsRecord>(raw).sequence;
    if (auto done = writing->write_record(number, std::move(raw)); !done) return tl::unexpected(done.error());
    if (auto done = writing->add(indexed(directory & record_mask, number | std::uint64_t{sequence} << 48U, key_bytes));
        !done)
        return tl::unexpected(done.error());
    if (auto done = writing->write_map(); !done) return tl::unexpected(done.error());
    return std::move(writing->edits);
}

}  // namespace herberge::ntfs
