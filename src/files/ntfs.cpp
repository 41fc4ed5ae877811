// SPDX-License-Identifier: MIT
// NTFS: boot sector, file records, attributes.
#include "files/ntfs.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <bit>

#include "bytes/text16.hpp"
#include "files/ntfs_fs.hpp"

namespace herberge {

namespace ntfs {

namespace {

constexpr std::size_t most_runs = 1U << 20U;
constexpr std::size_t most_attributes = 4096;
constexpr std::uint64_t most_list = std::uint64_t{1} << 20U;

}  // namespace

std::uint32_t coded_size(std::uint8_t code, std::uint64_t cluster) {
    if (code == 0) return 0;
    if (code < 0x80) return static_cast<std::uint32_t>(std::min<std::uint64_t>(code * cluster, 1U << 20U));
    const unsigned shift = 256U - code;
    return shift <= 20 ? 1U << shift : 0;
}

const Attribute* Record::find(std::uint32_t type, std::u16string_view name) const {
    const auto found =
        std::ranges::find_if(attributes, [&](const Attribute& a) { return a.type == type && a.name == name; });
    return found != attributes.end() ? &*found : nullptr;
}

NtfsFs::NtfsFs(Source volume, Reader reader, const ondisk::NtfsBoot& boot)
    : volume_(std::move(volume)), reader_(reader), boot_(boot) {
    sector_ = boot.bytes_per_sector;
    const unsigned per = boot.sectors_per_cluster;
    cluster_ = std::uint64_t{sector_} * (per <= 0x80 ? per : 1U << std::min(256U - per, 12U));
    record_size_ = coded_size(boot.record_size, cluster_);
    if (auto info = recognise_ntfs(*volume_)) info_ = std::move(*info);
}

std::string NtfsFs::record_place(std::uint64_t number) const {
    return fmt::format("{} MFT record {}", volume_->place(), number);
}

bool NtfsFs::fix(std::vector<std::uint8_t>& block) const {
    constexpr std::size_t stride = 512;  // fix-ups count sectors of 512 bytes whatever the disk has
    const auto head = ondisk::from_bytes<ondisk::NtfsFixedUp>(block);
    const std::size_t at = head.fixup_offset;
    const std::size_t count = head.fixup_count;
    if (count == 0 || (count - 1) * stride > block.size() || at + count * 2 > block.size()) return false;
    for (std::size_t i = 1; i < count; ++i) {
        const std::size_t end = i * stride - 2;
        if (block[end] != block[at] || block[end + 1] != block[at + 1]) return false;
        block[end] = block[at + i * 2];
        block[end + 1] = block[at + i * 2 + 1];
    }
    return true;
}

Result<std::vector<std::uint8_t>> NtfsFs::raw_record(std::uint64_t number, std::uint64_t& at) const {
    at = 0;
    Result<std::vector<std::uint8_t>> raw;
    if (mft_data_ == nullptr) {
        at = (mirror_used_ ? boot_.mirror_cluster : boot_.mft_cluster) * cluster_ + number * record_size_;
        raw = volume_->bytes(at, record_size_);
    } else {
        raw = mft_data_->bytes(number * record_size_, record_size_);
        for (const auto& run : mft_.find(attribute::data)->runs) {
            const std::uint64_t begin = run.vcn * cluster_;
            const std::uint64_t offset = number * record_size_;
            if (run.lcn && offset >= begin && offset < begin + run.clusters * cluster_)
                at = *run.lcn * cluster_ + offset - begin;
        }
    }
    if (!raw) return tl::unexpected(raw.error());
    if ((*raw)[0] != 'F' || (*raw)[1] != 'I' || (*raw)[2] != 'L' || (*raw)[3] != 'E')
        return fail(ErrorKind::Malformed, "a file record without its mark", record_place(number), "FILE",
                    hex(std::span(*raw).first(4)));
    if (!fix(*raw))
        return fail(ErrorKind::Malformed, "a file record whose sectors do not belong together", record_place(number));
    return raw;
}

Result<std::vector<Run>> NtfsFs::decode_runs(std::span<const std::uint8_t> bytes, std::uint64_t first_vcn) const {
    std::vector<Run> out;
    std::uint64_t vcn = first_vcn;
    std::int64_t lcn = 0;
    const std::uint64_t clusters = volume_->size() / cluster_ + 1;
    for (std::size_t at = 0; at < bytes.size() && bytes[at] != 0;) {
        const std::size_t length_size = bytes[at] & 15U;
        const std::size_t offset_size = bytes[at] >> 4U;
        if (length_size == 0 || length_size > 8 || offset_size > 8 ||
            at + 1 + length_size + offset_size > bytes.size() || out.size() >= most_runs)
            return fail(ErrorKind::Malformed, "a damaged run list", volume_->place());
        std::uint64_t length = 0;
        for (std::size_t i = 0; i < length_size; ++i) length |= std::uint64_t{bytes[at + 1 + i]} << (8 * i);
        std::uint64_t delta = 0;
        for (std::size_t i = 0; i < offset_size; ++i)
            delta |= std::uint64_t{bytes[at + 1 + length_size + i]} << (8 * i);
        if (offset_size > 0 && offset_size < 8 && (bytes[at + length_size + offset_size] & 0x80U) != 0)
            delta |= ~std::uint64_t{0} << (8 * offset_size);
        at += 1 + length_size + offset_size;
        Run run{vcn, length, std::nullopt};
        if (length == 0 || length > (std::uint64_t{1} << 44U))
            return fail(ErrorKind::Malformed, "a run of impossible length", volume_->place());
        if (offset_size > 0) {
            lcn = static_cast<std::int64_t>(static_cast<std::uint64_t>(lcn) + delta);
            if (lcn < 0 || static_cast<std::uint64_t>(lcn) >= clusters ||
                length > clusters - static_cast<std::uint64_t>(lcn))
                return fail(ErrorKind::OutOfRange, "a run past the end of the volume", volume_->place(),
                            fmt::format("clusters below {}", clusters), fmt::format("{} from {}", length, lcn));
            run.lcn = static_cast<std::uint64_t>(lcn);
        }
        vcn += length;
        out.push_back(run);
    }
    return out;
}

Result<void> NtfsFs::add_attributes(const std::vector<std::uint8_t>& raw, std::uint64_t record_at, Record& out) const {
    const auto head = ondisk::from_bytes<ondisk::NtfsRecord>(raw);
    std::size_t at = head.first_attribute;
    auto damaged = [&](std::string what) {
        return fail(ErrorKind::Malformed, std::move(what), record_place(out.number));
    };
    while (at + 8 <= raw.size() && out.attributes.size() < most_attributes) {
        if (ondisk::from_bytes<ondisk::little_uint32_t>(raw, at) == 0xFFFFFFFFU) return {};
        const auto a = ondisk::from_bytes<ondisk::NtfsAttribute>(raw, at);
        if (a.length < sizeof(a) + 8 || a.length > raw.size() - at)
            return damaged("an attribute that does not fit its record");
        Attribute attribute;
        attribute.type = a.type;
        attribute.flags = a.flags;
        attribute.resident = a.non_resident == 0;
        if (a.name_length > 0) {
            if (std::size_t{a.name_offset} + std::size_t{a.name_length} * 2 > a.length)
                return damaged("an attribute name outside its attribute");
            attribute.name = units_from(std::span(raw).subspan(at + a.name_offset, std::size_t{a.name_length} * 2));
        }
        if (attribute.resident) {
            const auto r = ondisk::from_bytes<ondisk::NtfsResident>(raw, at + sizeof(a));
            if (r.offset > a.length || r.length > a.length - r.offset)
                return damaged("a resident value outside its attribute");
            const auto begin = raw.begin() + static_cast<std::ptrdiff_t>(at + r.offset);
            attribute.value.assign(begin, begin + static_cast<std::ptrdiff_t>(static_cast<std::uint32_t>(r.length)));
            attribute.value_at = record_at + at + r.offset;
            attribute.record_at = record_at;
            attribute.fixups_at = record_at + head.fixup_offset + 2;
            attribute.size = attribute.valid = r.length;
            out.attributes.push_back(std::move(attribute));
        } else {
            if (a.length < sizeof(a) + sizeof(ondisk::NtfsNonResident))
                return damaged("an attribute that is too short");
            const auto n = ondisk::from_bytes<ondisk::NtfsNonResident>(raw, at + sizeof(a));
            if (n.runs_offset > a.length) return damaged("a run list outside its attribute");
            auto runs = decode_runs(std::span(raw).subspan(at + n.runs_offset, a.length - n.runs_offset), n.first_vcn);
            if (!runs) return tl::unexpected(runs.error());
            attribute.runs = std::move(*runs);
            attribute.compression_unit = n.compression_unit;
            attribute.size = n.size;
            attribute.valid = n.valid;
            // Pieces in other records go on where the first one ends; sizes stand in the first one only.
            const auto known = std::ranges::find_if(out.attributes, [&](const Attribute& k) {
                return k.type == attribute.type && k.name == attribute.name && !k.resident;
            });
            if (known == out.attributes.end()) {
                out.attributes.push_back(std::move(attribute));
            } else {
                if (n.first_vcn == 0) {
                    known->size = attribute.size;
                    known->valid = attribute.valid;
                    known->compression_unit = attribute.compression_unit;
                    known->flags = attribute.flags;
                }
                known->runs.insert(known->runs.end(), attribute.runs.begin(), attribute.runs.end());
                std::ranges::stable_sort(known->runs, {}, &Run::vcn);
                if (known->runs.size() > most_runs) return damaged("too many runs");
            }
        }
        at += a.length;
    }
    return {};
}

Result<void> NtfsFs::take_list(const Attribute& list, Record& out) const {
    const auto source = stream(list, record_place(out.number));
    if (!source) return tl::unexpected(source.error());
    const auto bytes = (*source)->bytes(0, (*source)->size(), most_list);
    if (!bytes) return tl::unexpected(bytes.error());
    std::vector<std::uint64_t> seen{out.number};
    for (std::size_t at = 0; at + sizeof(ondisk::NtfsListEntry) <= bytes->size();) {
        const auto entry = ondisk::from_bytes<ondisk::NtfsListEntry>(*bytes, at);
        if (entry.length < sizeof(entry)) break;
        at += entry.length;
        const std::uint64_t number = entry.record & record_mask;
        // A list that names its own record, or one twice, adds nothing.
        if (std::ranges::find(seen, number) != seen.end() || seen.size() > most_attributes) continue;
        seen.push_back(number);
        std::uint64_t where = 0;
        const auto raw = raw_record(number, where);
        if (!raw) return tl::unexpected(raw.error());
        const auto head = ondisk::from_bytes<ondisk::NtfsRecord>(*raw);
        if ((head.base & record_mask) != out.number)
            return fail(ErrorKind::Malformed, "an extension record that belongs to another file", record_place(number),
                        fmt::format("{}", out.number), fmt::format("{}", head.base & record_mask));
        if (auto done = add_attributes(*raw, where, out); !done) return done;
    }
    return {};
}

Result<Record> NtfsFs::record(std::uint64_t number) const {
    Record out;
    out.number = number & record_mask;
    std::uint64_t at = 0;
    const auto raw = raw_record(out.number, at);
    if (!raw) return tl::unexpected(raw.error());
    const auto head = ondisk::from_bytes<ondisk::NtfsRecord>(*raw);
    if ((head.flags & 1U) == 0)
        return fail(ErrorKind::NotFound, "a file record that is not in use", record_place(out.number));
    out.directory = (head.flags & 2U) != 0;
    if (auto done = add_attributes(*raw, at, out); !done) return tl::unexpected(done.error());
    if (const auto* list = out.find(attribute::list); list != nullptr) {
        const Attribute copy = *list;
        if (auto done = take_list(copy, out); !done) return tl::unexpected(done.error());
    }
    return out;
}

Result<void> NtfsFs::start() {
    if (record_size_ < 512 || record_size_ > 65536 || cluster_ == 0)
        return fail(ErrorKind::Malformed, "an impossible record size", volume_->place());
    auto mft = record(0);
    if (!mft && reader_ == Reader::Kernel) {
        mirror_used_ = true;
        mft = record(0);
    }
    if (!mft) return tl::unexpected(mft.error());
    if (mft->find(attribute::data) == nullptr || mft->find(attribute::data)->resident)
        return fail(ErrorKind::Malformed, "the MFT has no data", record_place(0));
    mft_ = std::move(*mft);
    auto data = stream(*mft_.find(attribute::data), volume_->place() + " MFT");
    if (!data) return tl::unexpected(data.error());
    mft_data_ = std::move(*data);
    mirror_used_ = false;
    if (const auto volume = record(3)) {
        if (const auto* name = volume->find(attribute::volume_name))
            info_.label = printable(utf8_from(units_from(name->value)));
        if (const auto* flags = volume->find(attribute::volume_information);
            flags != nullptr && flags->value.size() >= sizeof(ondisk::NtfsVolumeInformation))
            volume_flags_ = ondisk::from_bytes<ondisk::NtfsVolumeInformation>(flags->value).flags;
    }
    if (const auto table = record(10)) {
        const auto* content = table->find(attribute::data);
        const auto source = content != nullptr ? stream(*content, "$UpCase") : fail(ErrorKind::NotFound, "none");
        const auto bytes = source && (*source)->size() == 131072 ? (*source)->bytes(0, 131072)
                                                                 : fail(ErrorKind::Malformed, "not 128 KiB");
        if (bytes) {
            const auto units = units_from(*bytes);
            upcase_.assign(units.begin(), units.end());
        }
    }
    return {};
}

std::u16string NtfsFs::upper(std::u16string_view name) const {
    std::u16string out(name);
    for (auto& c : out) c = c < upcase_.size() ? upcase_[c] : simple_upper(c);
    return out;
}

std::vector<Finding> NtfsFs::remarks() const {
    std::vector<Finding> out;
    if ((volume_flags_ & 1U) != 0)
        out.push_back(make_finding(
            Code::NtfsDirty, fmt::format("{} is marked dirty: Windows checks it when it starts", volume_->place()),
            {evidence_place(record_place(3))}));
    const std::uint64_t mirror = boot_.mirror_cluster * cluster_;
    const auto one = volume_->bytes(boot_.mft_cluster * cluster_, record_size_);
    const auto two = volume_->bytes(mirror, record_size_);
    if (one && two && *one != *two)
        out.push_back(make_finding(Code::NtfsMirrorDiffers,
                                   fmt::format("the first MFT record of {} and its mirror differ", volume_->place()),
                                   {evidence_bytes(*volume_, boot_.mft_cluster * cluster_, record_size_),
                                    evidence_bytes(*volume_, mirror, record_size_)}));
    if (hibernated())
        out.push_back(make_finding(
            Code::NtfsHibernated,
            fmt::format("{} holds a system that is hibernated: nothing on it should be changed", volume_->place()),
            {evidence_place(volume_->place() + ":/hiberfil.sys")}));
    return out;
}

/// Hibernation leaves the memory's image behind.
bool NtfsFs::hibernated() const {
    const auto file = lookup(root(), "hiberfil.sys");
    if (!file) return false;
    const auto source = open(*file, volume_->place() + ":/hiberfil.sys");
    const auto first = source && (*source)->size() >= 4 ? (*source)->bytes(0, 4) : fail(ErrorKind::NotFound, "none");
    return first && ((*first)[0] == 'h' || (*first)[0] == 'H') && ((*first)[1] == 'i' || (*first)[1] == 'I');
}

}  // namespace ntfs

std::optional<VolumeInfo> recognise_ntfs(const ByteSource& volume) {
    const auto boot = volume.load<ondisk::NtfsBoot>(0);
    static constexpr std::string_view name = "NTFS    ";
    if (!boot || !std::equal(name.begin(), name.end(), boot->oem_name.begin(),
                             [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; }))
        return std::nullopt;
    const std::uint32_t sector = boot->bytes_per_sector;
    if (sector < 256 || sector > 4096 || !std::has_single_bit(sector) || boot->sectors == 0) return std::nullopt;
    VolumeInfo info;
    info.format = Format::Ntfs;
    info.size = boot->sectors < (std::uint64_t{1} << 50U) ? boot->sectors * sector : 0;
    info.uuid = fmt::format("{:016X}", static_cast<std::uint64_t>(boot->serial));
    const unsigned per = boot->sectors_per_cluster;
    info.block_size = sector * (per <= 0x80 ? per : 1U << std::min(256U - per, 12U));
    if (info.block_size == 0) return std::nullopt;
    return info;
}

Result<std::shared_ptr<const FileSystem>> open_ntfs(const Source& volume, Reader reader) {
    const auto boot = volume->load<ondisk::NtfsBoot>(0);
    if (!boot) return tl::unexpected(boot.error());
    auto fs = std::make_shared<ntfs::NtfsFs>(volume, reader, *boot);
    if (auto done = fs->start(); !done) return tl::unexpected(done.error());
    return fs;
}

}  // namespace herberge
