// SPDX-License-Identifier: MIT
// NTFS: the bytes of attributes: resident, in runs, compressed; links.
#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <mutex>

#include "bytes/text16.hpp"
#include "files/ntfs_fs.hpp"
#include "files/packed_pieces.hpp"
#include "files/piece_source.hpp"

namespace herberge::ntfs {

namespace {

/// A value inside its file record: held in memory, located on the volume.
class ResidentSource : public ByteSource {
public:
    ResidentSource(Source volume, const Attribute& attribute, std::string place)
        : volume_(std::move(volume)),
          value_(attribute.value),
          at_(attribute.value_at),
          record_(attribute.record_at),
          fixups_(attribute.fixups_at),
          place_(std::move(place)) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return value_.size(); }
    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        if (offset > value_.size() || into.size() > value_.size() - offset)
            return fail(ErrorKind::OutOfRange, "a read past the end", place_);
        std::copy_n(value_.begin() + static_cast<std::ptrdiff_t>(offset), into.size(), into.begin());
        return {};
    }
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        // The last two bytes of each 512 of the record lie in its update sequence array.
        constexpr std::uint64_t stride = 512;
        std::vector<DiskRange> out;
        for (std::uint64_t done = 0; done < length;) {
            const std::uint64_t inside = at_ + offset + done - record_;
            const std::uint64_t tail = inside % stride;
            const bool moved = tail >= stride - 2;
            const std::uint64_t piece = std::min(length - done, moved ? stride - tail : stride - 2 - tail);
            const std::uint64_t where =
                moved ? fixups_ + inside / stride * 2 + (tail - (stride - 2)) : record_ + inside;
            for (const auto& range : volume_->locate(where, piece)) {
                auto* last = out.empty() ? nullptr : &out.back();
                if (last != nullptr && last->disk == range.disk && last->offset + last->length == range.offset)
                    last->length += range.length;
                else out.push_back(range);
            }
            done += piece;
        }
        return out;
    }
    [[nodiscard]] std::string place() const override { return place_; }

private:
    Source volume_;
    std::vector<std::uint8_t> value_;
    std::uint64_t at_, record_, fixups_;
    std::string place_;
};

/// LZNT1-compressed data: units of clusters, each stored plain, compressed or not at all.
class CompressedSource : public PieceSource {
public:
    CompressedSource(Source volume, const Attribute& attribute, std::uint64_t cluster, std::string place)
        : PieceSource(attribute.size, cluster << attribute.compression_unit, std::move(place)),
          volume_(std::move(volume)),
          runs_(attribute.runs),
          valid_(attribute.valid),
          cluster_(cluster) {}
    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        std::vector<DiskRange> out;
        if (length == 0) return out;
        const std::uint64_t first = offset / piece() * piece() / cluster_;
        const std::uint64_t past = (offset + length + piece() - 1) / piece() * piece() / cluster_;
        for (const auto& run : runs_) {
            const std::uint64_t begin = std::max(first, run.vcn);
            const std::uint64_t end = std::min(past, run.vcn + run.clusters);
            if (!run.lcn || begin >= end) continue;
            for (const auto& range : volume_->locate((*run.lcn + begin - run.vcn) * cluster_, (end - begin) * cluster_))
                out.push_back(range);
        }
        return out;
    }

private:
    [[nodiscard]] Result<std::vector<std::uint8_t>> unpack(std::uint64_t number,
                                                           std::size_t /*wanted*/) const override {
        const std::uint64_t first = number * piece() / cluster_;
        const std::uint64_t past = first + piece() / cluster_;
        std::vector<std::uint8_t> out;
        std::uint64_t stored = 0;
        for (const auto& run : runs_) {
            const std::uint64_t begin = std::max(first, run.vcn);
            const std::uint64_t end = std::min(past, run.vcn + run.clusters);
            if (!run.lcn || begin >= end) continue;
            const auto part = volume_->bytes((*run.lcn + begin - run.vcn) * cluster_, (end - begin) * cluster_);
            if (!part) return tl::unexpected(part.error());
            out.insert(out.end(), part->begin(), part->end());
            stored += end - begin;
        }
        if (stored != 0 && stored != past - first) {
            auto plain = unpack_lznt1(out, static_cast<std::size_t>(piece()));
            if (!plain) {
                plain.error().place = place();
                return plain;
            }
            out = std::move(*plain);
        }
        // What was never written reads as zeros.
        const std::uint64_t written = valid_ > number * piece() ? valid_ - number * piece() : 0;
        if (written < out.size()) out.resize(static_cast<std::size_t>(written));
        return out;
    }

    Source volume_;
    std::vector<Run> runs_;
    std::uint64_t valid_;
    std::uint64_t cluster_;
};

/// By the algorithm's number in the reparse data (FILE_PROVIDER_EXTERNAL_INFO_V1), FILE_PROVIDER_COMPRESSION_….
constexpr std::array<Packing, 4> packings = {{{4096, false}, {32768, true}, {8192, false}, {16384, false}}};

std::int64_t unix_time(std::uint64_t ticks) {
    constexpr std::uint64_t to_1970 = 11644473600ULL;
    return ticks / 10000000 >= to_1970 ? static_cast<std::int64_t>(ticks / 10000000 - to_1970) : 0;
}

}  // namespace

Result<std::vector<std::uint8_t>> unpack_lznt1(std::span<const std::uint8_t> packed, std::size_t room) {
    constexpr std::size_t chunk = 4096;
    std::vector<std::uint8_t> out;
    std::size_t at = 0;
    while (at + 2 <= packed.size() && out.size() < room) {
        const unsigned head = packed[at] | unsigned{packed[at + 1]} << 8U;
        if (head == 0) break;
        at += 2;
        const std::size_t length = (head & 0xFFFU) + 1;
        if (length > packed.size() - at) return fail(ErrorKind::OutOfRange, "a compressed piece is cut off");
        const std::size_t end = at + length;
        const std::size_t start = out.size();
        if ((head & 0x8000U) == 0) {
            out.insert(out.end(), packed.begin() + static_cast<std::ptrdiff_t>(at),
                       packed.begin() + static_cast<std::ptrdiff_t>(end));
        } else {
            while (at < end && out.size() - start < chunk) {
                const unsigned flags = packed[at++];
                for (unsigned bit = 0; bit < 8 && at < end && out.size() - start < chunk; ++bit) {
                    if ((flags >> bit & 1U) == 0) {
                        out.push_back(packed[at++]);
                        continue;
                    }
                    if (at + 2 > end) return fail(ErrorKind::Malformed, "a compressed piece ends inside a copy");
                    const unsigned pair = packed[at] | unsigned{packed[at + 1]} << 8U;
                    at += 2;
                    // The split between distance and length moves with the position in the piece.
                    const std::size_t position = out.size() - start;
                    if (position == 0) return fail(ErrorKind::Malformed, "a copy from before the piece");
                    unsigned bits = 12;
                    for (std::size_t i = position - 1; i >= 0x10; i >>= 1U) --bits;
                    const std::size_t copy = (pair & ((1U << bits) - 1)) + 3;
                    const std::size_t back = (pair >> bits) + 1;
                    if (back > position || copy > chunk - position)
                        return fail(ErrorKind::Malformed, "a copy from outside the piece");
                    for (std::size_t i = 0; i < copy; ++i) out.push_back(out[out.size() - back]);
                }
            }
        }
        at = end;
        // Every piece but the last stands for 4 KiB.
        if (out.size() - start < chunk && at + 2 <= packed.size() && (packed[at] | packed[at + 1]) != 0)
            out.resize(start + chunk);
    }
    if (out.size() > room) out.resize(room);
    return out;
}

std::vector<Extent> NtfsFs::extents_of(const Attribute& attribute) const {
    std::vector<Extent> out;
    const std::uint64_t end = std::min(attribute.size, attribute.valid);
    for (const auto& run : attribute.runs) {
        const std::uint64_t begin = run.vcn * cluster_;
        if (!run.lcn || begin >= end) continue;
        const std::uint64_t length = std::min(run.clusters * cluster_, end - begin);
        const std::uint64_t base = *run.lcn * cluster_;
        if (!out.empty() && out.back().offset + out.back().length > begin)
            continue;  // overlapping pieces: the first counts
        if (!out.empty() && out.back().offset + out.back().length == begin &&
            out.back().base_offset + out.back().length == base)
            out.back().length += length;
        else out.push_back({begin, length, base});
    }
    return out;
}

Result<Source> NtfsFs::stream(const Attribute& attribute, std::string place) const {
    if (attribute.resident) return std::make_shared<const ResidentSource>(volume_, attribute, std::move(place));
    if ((attribute.flags & flag_encrypted) != 0)
        return fail(ErrorKind::Unsupported, "the file is encrypted", std::move(place));
    if ((attribute.flags & flag_compressed) != 0 && attribute.compression_unit > 0 && attribute.compression_unit <= 8)
        return std::make_shared<const CompressedSource>(volume_, attribute, cluster_, std::move(place));
    return extent_source(volume_, extents_of(attribute), attribute.size, std::move(place));
}

Result<std::vector<VolumeEdit>> NtfsFs::resized(FileId file, std::uint64_t size) const {
    std::uint64_t at = 0;
    const auto raw = raw_record(file & record_mask, at);
    if (!raw) return tl::unexpected(raw.error());
    const auto head = ondisk::from_bytes<ondisk::NtfsRecord>(*raw);
    for (std::size_t here = head.first_attribute; here + sizeof(ondisk::NtfsAttribute) <= raw->size();) {
        const auto a = ondisk::from_bytes<ondisk::NtfsAttribute>(*raw, here);
        if (a.type == 0xFFFFFFFFU || a.length < sizeof(a) || a.length > raw->size() - here) break;
        const std::size_t inside = here + sizeof(a);
        if (a.type == attribute::data && a.name_length == 0 && a.non_resident != 0 && a.flags == 0 &&
            inside + sizeof(ondisk::NtfsNonResident) <= raw->size()) {
            const auto n = ondisk::from_bytes<ondisk::NtfsNonResident>(*raw, inside);
            const auto clusters = [&](std::uint64_t bytes) { return (bytes + cluster_ - 1) / cluster_; };
            if (n.first_vcn != 0 || size > n.allocated || clusters(size) != clusters(n.size))
                return fail(ErrorKind::TooLarge, "the file would need another number of clusters", record_place(file));
            std::vector<VolumeEdit> out;
            for (const std::size_t field :
                 {offsetof(ondisk::NtfsNonResident, size), offsetof(ondisk::NtfsNonResident, valid)})
                for (std::size_t i = 0; i < 8; ++i) {
                    // The last two bytes of each 512 of a record lie in its update sequence array.
                    const std::size_t byte = inside + field + i;
                    const std::size_t tail = byte % 512;
                    const std::size_t where =
                        tail < 510 ? byte : std::size_t{head.fixup_offset} + 2 + 2 * (byte / 512) + (tail - 510);
                    out.push_back({at + where, {static_cast<std::uint8_t>(size >> (8 * i))}});
                }
            return out;
        }
        here += a.length;
    }
    return fail(ErrorKind::Unsupported, "its content lies inside its record, is compressed, or in several records",
                record_place(file));
}

Result<FileInfo> NtfsFs::stat(FileId file) const {
    const auto r = record(file);
    if (!r) return tl::unexpected(r.error());
    FileInfo out;
    out.id = file;
    out.permissions = 0755;
    out.type = r->directory ? FileType::Directory : FileType::Regular;
    if (const auto* reparse = r->find(attribute::reparse);
        reparse != nullptr && reparse->value.size() >= sizeof(ondisk::NtfsReparse)) {
        const std::uint32_t tag = ondisk::from_bytes<ondisk::NtfsReparse>(reparse->value).tag;
        if (tag == reparse_junction || tag == reparse_symlink) out.type = FileType::Symlink;
        out.packed_elsewhere = tag == reparse_wof;
    }
    if (const auto* data = r->find(attribute::data)) out.size = data->size;
    if (const auto* times = r->find(attribute::standard);
        times != nullptr && times->value.size() >= sizeof(ondisk::NtfsStandardInformation)) {
        const auto s = ondisk::from_bytes<ondisk::NtfsStandardInformation>(times->value);
        out.modified = unix_time(s.modified);
        out.attributes = s.flags;
    }
    return out;
}

Result<std::string> NtfsFs::link_target(FileId link) const {
    const auto r = record(link);
    if (!r) return tl::unexpected(r.error());
    const auto* reparse = r->find(attribute::reparse);
    if (reparse == nullptr || reparse->value.size() < sizeof(ondisk::NtfsReparse) + sizeof(ondisk::NtfsLinkNames))
        return fail(ErrorKind::WrongType, "no link", record_place(link));
    const std::span<const std::uint8_t> v(reparse->value);
    const auto head = ondisk::from_bytes<ondisk::NtfsReparse>(v);
    const auto told = ondisk::from_bytes<ondisk::NtfsLinkNames>(v, sizeof(head));
    // Symbolic links have four bytes of flags more.
    const std::size_t names = sizeof(head) + sizeof(told) + (head.tag == reparse_symlink ? 4 : 0);
    const std::size_t offset = told.target_at;
    const std::size_t length = told.target_length;
    if (names + offset + length > v.size())
        return fail(ErrorKind::Malformed, "a link whose name lies outside it", record_place(link));
    std::string text = utf8_from(units_from(v.subspan(names + offset, length)));
    if (text.starts_with("\\??\\")) text.erase(0, 4);
    if (text.size() >= 2 && text[1] == ':') text.erase(0, 2);  // the same volume is what boot files' links mean
    std::ranges::replace(text, '\\', '/');
    return text;
}

Result<Source> NtfsFs::open(FileId file, std::string place) const {
    const auto r = record(file);
    if (!r) return tl::unexpected(r.error());
    if (r->directory) return fail(ErrorKind::WrongType, "a directory", std::move(place));
    const auto* data = r->find(attribute::data);
    if (data == nullptr) return memory_source({}, std::move(place));
    const auto* packed = r->find(attribute::data, u"WofCompressedData");
    const auto* reparse = r->find(attribute::reparse);
    if (packed == nullptr || reparse == nullptr ||
        reparse->value.size() < sizeof(ondisk::NtfsReparse) + sizeof(ondisk::NtfsPackedFile) || data->size == 0)
        return stream(*data, std::move(place));
    const std::uint32_t algorithm =
        ondisk::from_bytes<ondisk::NtfsPackedFile>(reparse->value, sizeof(ondisk::NtfsReparse)).algorithm;
    if (algorithm >= packings.size())
        return fail(ErrorKind::Unsupported,
                    fmt::format("the file is packed in a way that is not known ({})", algorithm), std::move(place));
    auto source = stream(*packed, place);
    if (!source) return tl::unexpected(source.error());
    return packed_source(std::move(*source), data->size, packings.at(algorithm), std::move(place));
}

Result<std::vector<Extent>> NtfsFs::extents(FileId file) const {
    const auto r = record(file);
    if (!r) return tl::unexpected(r.error());
    const auto* data = r->find(attribute::data);
    if (const auto* packed = r->find(attribute::data, u"WofCompressedData");
        packed != nullptr && r->find(attribute::reparse) != nullptr)
        data = packed;
    if (data == nullptr) return std::vector<Extent>{};
    if (data->resident) return std::vector<Extent>{{0, data->value.size(), data->value_at}};
    Attribute whole = *data;
    if ((whole.flags & flag_compressed) != 0) whole.valid = whole.size = ~std::uint64_t{0} >> 1U;
    return extents_of(whole);
}

}  // namespace herberge::ntfs
