// SPDX-License-Identifier: MIT
#include "remedy/tables.hpp"
#include "remedy/sector.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <array>
#include <cstring>
#include <set>

#include "ondisk/gpt.hpp"
#include "ondisk/mbr.hpp"

namespace herberge::remedy {

namespace {

ondisk::Chs chs_of(std::uint64_t lba) {
    constexpr std::uint64_t heads = 255, per_track = 63;
    const std::uint64_t cylinder = lba / (heads * per_track);
    if (cylinder > 1023) return {0xFE, 0xFF, 0xFF};
    return {static_cast<std::uint8_t>(lba / per_track % heads),
            static_cast<std::uint8_t>((lba % per_track + 1) | (cylinder >> 8U) << 6U),
            static_cast<std::uint8_t>(cylinder)};
}

/// A header with its checksum set, in the sector that it lies in.
void seal(ondisk::GptHeader& header, std::vector<std::uint8_t>& raw) {
    header.header_crc = 0;
    std::memcpy(raw.data(), &header, sizeof(header));
    const std::size_t covered = std::clamp<std::size_t>(header.header_size, sizeof(header), raw.size());
    header.header_crc = crc32(0, std::span(raw).first(covered));
    std::memcpy(raw.data(), &header, sizeof(header));
}

struct GptCopy {
    ondisk::GptHeader header{};
    std::vector<std::uint8_t> raw;  ///< the header's sector
    std::vector<std::uint8_t> entries;
};
Result<GptCopy> read_copy(const ByteSource& disk, std::uint64_t lba, std::uint64_t size) {
    constexpr std::uint64_t most_array = std::uint64_t{1} << 22U;
    GptCopy out;
    auto raw = disk.bytes(lba * size, size);
    if (!raw) return tl::unexpected(raw.error());
    out.raw = std::move(*raw);
    out.header = ondisk::from_bytes<ondisk::GptHeader>(out.raw);
    if (!std::equal(out.header.signature.begin(), out.header.signature.end(), "EFI PART"))
        return fail(ErrorKind::NotFound, "there is no GPT header", disk.place());
    auto entries = disk.bytes(out.header.entries_lba * size, std::uint64_t{out.header.entries} * out.header.entry_size,
                              most_array);
    if (!entries) return tl::unexpected(entries.error());
    out.entries = std::move(*entries);
    return out;
}

Result<void> write_copy(Workshop& shop, int disk, GptCopy& copy, std::uint64_t size) {
    copy.header.entries_crc = crc32(0, copy.entries);
    seal(copy.header, copy.raw);
    if (auto wrote = shop.write(disk, copy.header.my_lba * size, copy.raw); !wrote) return wrote;
    return shop.write(disk, copy.header.entries_lba * size, copy.entries);
}

}  // namespace

Result<void> write_entry(Workshop& shop, int disk, std::uint64_t at, const EntryValues& values, std::uint64_t base) {
    ondisk::MbrEntry entry{};
    entry.status = values.status;
    entry.type = values.type;
    entry.first_lba = values.first;
    entry.sectors = values.sectors;
    entry.first = chs_of(base + values.first);
    entry.last = chs_of(base + values.first + (values.sectors != 0 ? values.sectors - 1 : 0));
    return shop.write(disk, at, ondisk::stored_bytes(entry));
}

Result<void> rewrite_gpt(Workshop& shop, const Disk& disk,
                         const std::function<void(std::span<std::uint8_t>, std::size_t)>& change) {
    if (!disk.table.primary_sound)
        return fail(ErrorKind::Unsupported, "the primary GPT is not sound", disk.source->place());
    const auto source = shop.disk(disk.number);
    const std::uint64_t size = disk.table.sector_size;
    auto primary = read_copy(*source, 1, size);
    if (!primary) return tl::unexpected(primary.error());
    change(primary->entries, primary->header.entry_size);
    auto backup = read_copy(*source, primary->header.alternate_lba, size);
    if (auto wrote = write_copy(shop, disk.number, *primary, size); !wrote) return wrote;
    if (!backup) return {};  // it was not there before
    backup->entries = primary->entries;
    return write_copy(shop, disk.number, *backup, size);
}

Result<void> restore_gpt(Workshop& shop, const Disk& disk, bool primary) {
    const auto source = shop.disk(disk.number);
    const std::uint64_t size = disk.table.sector_size;
    const std::uint64_t last = source->size() / size - 1;
    auto copy = read_copy(*source, primary ? last : 1, size);
    if (!copy) return tl::unexpected(copy.error());
    const std::uint64_t array = (copy->entries.size() + size - 1) / size;
    copy->header.my_lba = primary ? 1 : last;
    copy->header.alternate_lba = primary ? last : 1;
    copy->header.entries_lba = primary ? 2 : last - array;
    return write_copy(shop, disk.number, *copy, size);
}

namespace {

/// In the order in which they are stored: UEFI's system partition, Microsoft's basic data, Linux' data.
constexpr GptType esp_type = {0x28, 0x73, 0x2a, 0xc1, 0x1f, 0xf8, 0xd2, 0x11,
                              0xba, 0x4b, 0x00, 0xa0, 0xc9, 0x3e, 0xc9, 0x3b};
constexpr GptType basic_type = {0xa2, 0xa0, 0xd0, 0xeb, 0xe5, 0xb9, 0x33, 0x44,
                                0x87, 0xc0, 0x68, 0xb6, 0xb7, 0x26, 0x99, 0xc7};
constexpr GptType linux_type = {0xaf, 0x3d, 0xc6, 0x0f, 0x83, 0x84, 0x72, 0x47,
                                0x8e, 0x79, 0x3d, 0x69, 0xd8, 0x47, 0x7d, 0xe4};

}  // namespace

GptType gpt_type(const VolumeInfo& info) {
    return info.is(Family::Fat) ? esp_type : info.is(Family::Ntfs) ? basic_type : linux_type;
}

void put_gpt_entry(std::span<std::uint8_t> entries, std::size_t entry_size, std::size_t slot, const GptType& type,
                   std::uint64_t lba, std::uint64_t sectors) {
    if (entry_size < sizeof(ondisk::GptEntry) || (slot + 1) * entry_size > entries.size()) return;
    ondisk::GptEntry entry{};
    std::ranges::copy(type, entry.type.begin());
    // A random UUID of a fixed seed.
    for (std::size_t i = 0; i < entry.id.size(); ++i)
        entry.id[i] = static_cast<std::uint8_t>((lba >> (i % 8 * 4)) * 167 + i * 59 + slot);
    entry.id[7] = static_cast<std::uint8_t>((entry.id[7] & 0x0FU) | 0x40U);
    entry.id[8] = static_cast<std::uint8_t>((entry.id[8] & 0x3FU) | 0x80U);
    entry.first_lba = lba;
    entry.last_lba = lba + sectors - 1;
    std::memcpy(entries.data() + slot * entry_size, &entry, sizeof(entry));
}

Result<void> create_gpt(Workshop& shop, const Disk& disk, std::span<const NewPartition> partitions,
                        std::size_t first_slot) {
    constexpr std::uint32_t slots = 128;
    const std::uint64_t size = disk.table.sector_size;
    const std::uint64_t last = disk.source->size() / size - 1;
    const std::uint64_t array = slots * sizeof(ondisk::GptEntry) / size;
    GptCopy copy;
    copy.raw.resize(size);
    copy.entries.resize(slots * sizeof(ondisk::GptEntry));
    auto& header = copy.header;
    std::ranges::copy(std::string_view("EFI PART"), header.signature.begin());
    header.revision = 0x00010000;
    header.header_size = sizeof(header);
    header.first_usable_lba = 2 + array;
    header.last_usable_lba = last - array - 1;
    header.entries = slots;
    header.entry_size = sizeof(ondisk::GptEntry);
    for (const auto& one : partitions) {
        if (one.lba < header.first_usable_lba || one.sectors == 0 || one.lba + one.sectors - 1 > header.last_usable_lba)
            return fail(ErrorKind::OutOfRange, "a volume lies where the GPT itself would", disk.source->place());
        put_gpt_entry(copy.entries, sizeof(ondisk::GptEntry), first_slot++, one.type, one.lba, one.sectors);
    }
    // Of the disk itself: as of a partition that begins where the disk does.
    std::vector<std::uint8_t> own(sizeof(ondisk::GptEntry));
    put_gpt_entry(own, own.size(), 0, linux_type, 0, last);
    std::copy_n(own.begin() + offsetof(ondisk::GptEntry, id), header.disk_guid.size(), header.disk_guid.begin());
    for (const bool primary : {true, false}) {
        header.my_lba = primary ? 1 : last;
        header.alternate_lba = primary ? last : 1;
        header.entries_lba = primary ? 2 : last - array;
        if (auto wrote = write_copy(shop, disk.number, copy, size); !wrote) return wrote;
    }
    if (!disk.table.boot_signature) {
        // Without it Linux does not look for the GPT (block/partitions/efi.c, is_pmbr_valid).
        constexpr std::array<std::uint8_t, 2> mark = {0x55, 0xAA};
        if (auto wrote = shop.write(disk.number, offsetof(ondisk::Mbr, signature), mark); !wrote) return wrote;
    }
    if (disk.table.protective) return {};
    return write_entry(shop, disk.number, offsetof(ondisk::Mbr, entries),
                       {0, 0xEE, 1, static_cast<std::uint32_t>(std::min<std::uint64_t>(last, 0xFFFFFFFFU))});
}

std::string volume_words(const UnlistedVolume& volume) {
    return fmt::format("{}{}", volume.info.name(),
                       volume.info.label.empty() ? "" : fmt::format(" “{}”", printable(volume.info.label)));
}

std::vector<UnlistedVolume> find_unlisted(const Disk& disk) {
    constexpr std::size_t most_places = 6000;
    const std::uint64_t end = disk.source->size() / sector;
    std::set<std::uint64_t> places;
    for (const auto& stretch : stretches(disk.table, disk.source->size())) {
        if (stretch.partition != 0) continue;
        const std::uint64_t to = stretch.first_lba + stretch.sectors;
        for (const std::uint64_t step : {2048U, 63U})
            for (std::uint64_t lba = (stretch.first_lba + step - 1) / step * step;
                 lba < to && places.size() < most_places; lba += step == 63 ? 255 * 63 : step)
                places.insert(lba);
        if (stretch.first_lba <= 63 && to > 63) places.insert(63);
        places.insert(stretch.first_lba);
    }
    for (const auto& p : disk.table.partitions)
        for (std::uint64_t lba = p.first_lba + 2048;
             p.extended() && lba < p.first_lba + p.sectors && places.size() < most_places; lba += 2048)
            places.insert(lba);
    // An entry that points a little beside its volume.
    for (const auto& p : disk.table.partitions)
        for (std::uint64_t distance = 1; distance <= 64; ++distance) {
            if (p.first_lba >= distance) places.insert(p.first_lba - distance);
            places.insert(p.first_lba + distance);
        }
    for (const auto& p : disk.table.partitions)
        if (p.first_lba > 2048) places.insert(p.first_lba / 2048 * 2048);
    std::vector<UnlistedVolume> out;
    for (const std::uint64_t lba : places) {
        if (lba == 0 || lba >= end) continue;
        const bool listed = std::ranges::any_of(
            disk.table.partitions, [&](const Partition& p) { return p.first_lba == lba && !p.extended(); });
        if (listed) continue;
        const auto volume = slice(disk.source, lba * sector, (end - lba) * sector, disk.source->place());
        auto info = recognise_plain_volume(*volume);
        if (!info.known() || info.size == 0 || info.size > volume->size() || info.size < 65536) continue;
        // A copy of a boot sector or superblock is no volume: its files must be there.
        if (info.content() == Content::Files && !open_file_system(volume, Reader::Loader)) continue;
        out.push_back({lba, (info.size + sector - 1) / sector, std::move(info)});
    }
    return out;
}

}  // namespace herberge::remedy
