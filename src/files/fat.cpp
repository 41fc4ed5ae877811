// SPDX-License-Identifier: MIT
// FAT12, FAT16, FAT32: geometry, the allocation table, files.
#include "files/fat.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <bit>
#include <map>
#include <mutex>

#include "bytes/text16.hpp"
#include "files/fat_write.hpp"
#include "ondisk/fat.hpp"

namespace herberge {

namespace fat {

std::optional<Geometry> geometry(const ByteSource& volume) {
    const auto boot = volume.load<ondisk::FatBoot32>(0);
    if (!boot) return std::nullopt;
    const auto& b = boot->common;
    const std::uint32_t sector = b.bytes_per_sector;
    const std::uint32_t per_cluster = b.sectors_per_cluster;
    if (sector < 512 || sector > 4096 || !std::has_single_bit(sector)) return std::nullopt;
    if (per_cluster == 0 || !std::has_single_bit(per_cluster)) return std::nullopt;
    if (b.reserved_sectors == 0 || b.fats == 0 || b.fats > 4) return std::nullopt;
    // Media bytes are F0 and F8 to FF; Linux and GRUB refuse others.
    if (b.media < 0xF8 && b.media != 0xF0) return std::nullopt;
    Geometry g;
    g.sector = sector;
    g.cluster = sector * per_cluster;
    g.fats = b.fats;
    g.media = b.media;
    const bool wide = b.fat_sectors_16 == 0;
    const std::uint64_t fat_sectors = wide ? std::uint64_t{boot->fat32.fat_sectors} : std::uint64_t{b.fat_sectors_16};
    const std::uint64_t sectors = b.sectors_16 != 0 ? std::uint64_t{b.sectors_16} : std::uint64_t{b.sectors_32};
    if (fat_sectors == 0 || sectors == 0) return std::nullopt;
    const std::uint64_t root_sectors = (std::uint64_t{b.root_entries} * 32 + sector - 1) / sector;
    const std::uint64_t first_data = b.reserved_sectors + g.fats * fat_sectors + root_sectors;
    if (first_data >= sectors) return std::nullopt;
    const std::uint64_t clusters = (sectors - first_data) / per_cluster;
    if (clusters > 0x0FFFFFF5) return std::nullopt;
    g.clusters = static_cast<std::uint32_t>(clusters);
    g.bits = wide ? 32 : clusters < 4085 ? 12 : 16;
    if (wide && b.root_entries != 0) return std::nullopt;
    if (!wide && b.root_entries == 0) return std::nullopt;
    g.fat_offset = std::uint64_t{b.reserved_sectors} * sector;
    g.fat_bytes = fat_sectors * sector;
    g.root_offset = g.fat_offset + g.fats * g.fat_bytes;
    g.root_bytes = root_sectors * sector;
    g.data_offset = first_data * sector;
    g.root_cluster = wide ? static_cast<std::uint32_t>(boot->fat32.root_cluster) : 0;
    g.bytes = sectors * sector;
    return g;
}

std::uint8_t name_checksum(std::span<const std::uint8_t> name) {
    std::uint8_t sum = 0;
    for (const auto c : name) sum = static_cast<std::uint8_t>((((sum & 1U) << 7U) | (sum >> 1U)) + c);
    return sum;
}

}  // namespace fat

namespace {

using fat::Geometry;
using fat::geometry;
using fat::name_checksum;

constexpr std::uint8_t attribute_label = 0x08;
constexpr std::uint8_t attribute_directory = 0x10;
constexpr std::uint8_t attribute_long = 0x0F;
constexpr std::uint64_t most_listing = std::uint64_t{65536} * 32;  // the specification's limit
constexpr std::uint32_t bad_or_end_32 = 0x0FFFFFF7;

std::string padded(std::span<const std::uint8_t> text) {
    std::string out(text.begin(), text.end());
    while (!out.empty() && (out.back() == ' ' || out.back() == '\0')) out.pop_back();
    return printable(out);
}

std::string short_name(const ondisk::FatEntry& entry) {
    auto piece = [&](std::size_t from, std::size_t length, bool lower) {
        std::string out;
        for (std::size_t i = from; i < from + length; ++i) {
            auto c = entry.name[i];
            if (i == 0 && c == 0x05) c = 0xE5;
            out += lower && c >= 'A' && c <= 'Z' ? static_cast<char>(c + 32) : static_cast<char>(c);
        }
        while (!out.empty() && out.back() == ' ') out.pop_back();
        return out;
    };
    const std::string base = piece(0, 8, (entry.case_flags & 0x08U) != 0);
    const std::string extension = piece(8, 3, (entry.case_flags & 0x10U) != 0);
    return printable(extension.empty() ? base : base + "." + extension);
}

class FatFs : public FileSystem {
public:
    FatFs(Source volume, Reader reader, const Geometry& g, VolumeInfo info)
        : volume_(std::move(volume)), reader_(reader), g_(g), info_(std::move(info)) {}

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return 0; }
    [[nodiscard]] bool ignores_case() const override { return true; }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        FileInfo out;
        out.id = file;
        out.permissions = 0755;
        if (file == 0) {
            out.type = FileType::Directory;
            return out;
        }
        const auto entry = load_entry(file);
        if (!entry) return tl::unexpected(entry.error());
        out.type = (entry->attributes & attribute_directory) != 0 ? FileType::Directory : FileType::Regular;
        out.size = out.type == FileType::Regular ? static_cast<std::uint32_t>(entry->size) : 0;
        out.modified = fat_time(entry->modified_date, entry->modified_time);
        return out;
    }

    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        FileId hit = 0;
        const auto walked = walk(directory, [&](const Named& n) {
            if (!same_name(n.name, name) && !same_name(n.short_name, name)) return true;
            hit = n.id;
            return false;
        });
        if (hit != 0) {
            // ".." of a directory below the root is stored as cluster 0.
            const auto entry = load_entry(hit);
            if (entry && (entry->attributes & attribute_directory) != 0 && first_cluster(*entry) == 0) return FileId{0};
            return hit;
        }
        if (!walked) return tl::unexpected(walked.error());
        return fail(ErrorKind::NotFound, fmt::format("no entry named {}", printable(name)), volume_->place());
    }

    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        std::vector<DirEntry> out;
        const auto walked = walk(directory, [&](const Named& n) {
            out.push_back({n.name, n.id, n.directory ? FileType::Directory : FileType::Regular});
            return true;
        });
        if (!walked && out.empty()) return tl::unexpected(walked.error());
        return out;
    }

    [[nodiscard]] Result<std::string> link_target(FileId /*link*/) const override {
        return fail(ErrorKind::WrongType, "FAT has no links", volume_->place());
    }

    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto info = stat(file);
        if (!info) return tl::unexpected(info.error());
        auto pieces = extents(file);
        if (!pieces) return tl::unexpected(pieces.error());
        return extent_source(volume_, std::move(*pieces), info->size, std::move(place));
    }

    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        if (file == 0) return directory_extents(0);
        const auto entry = load_entry(file);
        if (!entry) return tl::unexpected(entry.error());
        if ((entry->attributes & attribute_directory) != 0) return directory_extents(file);
        const std::uint64_t size = entry->size;
        if (size == 0) return std::vector<Extent>{};
        return chain(first_cluster(*entry), size, false);
    }

    [[nodiscard]] Result<std::vector<VolumeEdit>> resized(FileId file, std::uint64_t size) const override {
        auto entry = load_entry(file);
        if (file == 0 || !entry || (entry->attributes & attribute_directory) != 0)
            return fail(ErrorKind::Unsupported, "not a plain file", volume_->place());
        const auto clusters = [&](std::uint64_t bytes) { return (bytes + g_.cluster - 1) / g_.cluster; };
        if (size > 0xFFFFFFFFU || clusters(size) != clusters(entry->size))
            return fail(ErrorKind::TooLarge, "the file would need another number of clusters", volume_->place(),
                        fmt::format("{}", clusters(entry->size)), fmt::format("{}", clusters(size)));
        entry->size = static_cast<std::uint32_t>(size);
        const auto* bytes = reinterpret_cast<const std::uint8_t*>(&*entry);
        return std::vector<VolumeEdit>{{file, {bytes, bytes + sizeof(*entry)}}};
    }

    [[nodiscard]] Result<std::vector<VolumeEdit>> with_file(FileId directory, std::string_view name,
                                                            std::span<const std::uint8_t> content) const override {
        return put(directory, name, 0x20, content);
    }
    [[nodiscard]] Result<std::vector<VolumeEdit>> with_directory(FileId directory,
                                                                 std::string_view name) const override {
        return put(directory, name, attribute_directory, {});
    }

    [[nodiscard]] Result<std::vector<VolumeEdit>> without_name(FileId directory, std::string_view name) const override {
        const auto file = lookup(directory, name);
        if (!file) return tl::unexpected(file.error());
        std::vector<VolumeEdit> out{{*file, {0xE5}}};
        // The pieces of its long name lie before it; those in another cluster are found by its checksum, and left.
        for (FileId at = *file; at >= 32 && at % g_.cluster != 0 && out.size() < 21; at -= 32) {
            const auto piece = load_entry(at - 32);
            if (!piece || (piece->attributes & 0x3FU) != attribute_long || piece->name[0] == 0xE5) break;
            out.push_back({at - 32, {0xE5}});
        }
        return out;
    }

    [[nodiscard]] std::vector<Finding> mount_obstacles(std::string_view /*options*/) const override {
        std::vector<Finding> out;
        if (g_.bytes > volume_->size())
            out.push_back(make_finding(
                Code::FatLargerThanPartition,
                fmt::format("the file system in {} is larger than its partition", volume_->place()),
                {evidence_bytes(*volume_, 0x13, 2, fmt::format("at most {} sectors", volume_->size() / g_.sector),
                                fmt::format("{} sectors", g_.bytes / g_.sector))}));
        return out;
    }

    [[nodiscard]] std::vector<Finding> remarks() const override {
        std::vector<Finding> out;
        compare_tables(out);
        if (g_.bits == 32) backup_and_info(out);
        return out;
    }

private:
    [[nodiscard]] Result<std::vector<VolumeEdit>> put(FileId directory, std::string_view name, std::uint8_t attributes,
                                                      std::span<const std::uint8_t> content) const {
        const auto known = lookup(directory, name);
        if (!known && known.error().kind != ErrorKind::NotFound) return tl::unexpected(known.error());
        if (known && attributes == attribute_directory)
            return fail(ErrorKind::Unsupported, "there is something of this name", volume_->place());
        const auto pieces = directory_extents(directory);
        if (!pieces) return tl::unexpected(pieces.error());
        const auto parent = directory != 0 ? load_entry(directory) : Result<ondisk::FatEntry>(ondisk::FatEntry{});
        if (!parent) return tl::unexpected(parent.error());
        return fat::with_entry(*volume_, g_, *pieces, first_cluster(*parent),
                               known ? std::optional<FileId>(*known) : std::nullopt, name, attributes, content);
    }

    struct Named {
        std::string name, short_name;
        FileId id = 0;
        bool directory = false;
    };

    [[nodiscard]] Result<ondisk::FatEntry> load_entry(FileId file) const {
        return volume_->load<ondisk::FatEntry>(file);
    }
    [[nodiscard]] std::uint32_t first_cluster(const ondisk::FatEntry& entry) const {
        const std::uint32_t low = entry.cluster_low;
        return g_.bits == 32 ? low | std::uint32_t{entry.cluster_high} << 16U : low;
    }
    [[nodiscard]] std::uint64_t cluster_offset(std::uint32_t cluster) const {
        return g_.data_offset + std::uint64_t{cluster - 2} * g_.cluster;
    }

    /// The next cluster; 0 at the chain's end.
    [[nodiscard]] Result<std::uint32_t> next(std::uint32_t cluster) const {
        const std::uint64_t at = g_.bits == 12 ? cluster + cluster / 2 : std::uint64_t{cluster} * (g_.bits / 8);
        const std::uint64_t length = g_.bits == 32 ? 4 : 2;
        if (at + length > g_.fat_bytes)
            return fail(ErrorKind::OutOfRange, "the allocation table is shorter than the volume", volume_->place(), {},
                        fmt::format("cluster {}", cluster));
        std::uint32_t value = 0;
        if (g_.bits == 32) {
            const auto v = volume_->load<ondisk::little_uint32_t>(g_.fat_offset + at);
            if (!v) return tl::unexpected(v.error());
            value = *v & 0x0FFFFFFFU;
        } else {
            const auto v = volume_->load<ondisk::little_uint16_t>(g_.fat_offset + at);
            if (!v) return tl::unexpected(v.error());
            value = *v;
            if (g_.bits == 12) value = (cluster & 1U) != 0 ? value >> 4U : value & 0xFFFU;
            if (value >= (g_.bits == 12 ? 0xFF8U : 0xFFF8U)) return std::uint32_t{0};
        }
        if (value > bad_or_end_32) return std::uint32_t{0};
        if (value < 2 || value >= g_.clusters + 2)
            return fail(ErrorKind::Malformed, "a cluster chain leads outside the volume",
                        fmt::format("{} cluster {}", volume_->place(), cluster),
                        fmt::format("2 to {}", g_.clusters + 1), fmt::format("{}", value));
        return value;
    }

    /// The bytes of a chain; files stop at their size, directories at the chain's end.
    [[nodiscard]] Result<std::vector<Extent>> chain(std::uint32_t first, std::uint64_t size, bool to_the_end) const {
        std::vector<Extent> out;
        const auto followed = follow(first, size, to_the_end, out);
        if (!followed) return tl::unexpected(followed.error());
        return out;
    }

    /// `out` has the bytes up to where the chain cannot be followed any more.
    [[nodiscard]] Result<void> follow(std::uint32_t first, std::uint64_t size, bool to_the_end,
                                      std::vector<Extent>& out) const {
        std::uint64_t done = 0;
        std::uint32_t cluster = first;
        if (cluster < 2 || cluster >= g_.clusters + 2)
            return fail(ErrorKind::Malformed, "a file begins outside the volume", volume_->place(),
                        fmt::format("a cluster from 2 to {}", g_.clusters + 1), fmt::format("{}", cluster));
        const std::uint64_t most = to_the_end ? most_listing : size;
        while (cluster != 0 && done < most) {
            const std::uint64_t length = to_the_end ? g_.cluster : std::min<std::uint64_t>(g_.cluster, size - done);
            const std::uint64_t base = cluster_offset(cluster);
            if (!out.empty() && out.back().base_offset + out.back().length == base) out.back().length += length;
            else out.push_back({done, length, base});
            done += length;
            if (!to_the_end && done >= size) break;
            const auto following = next(cluster);
            if (!following) return tl::unexpected(following.error());
            cluster = *following;
        }
        if (!to_the_end && done < size)
            return fail(ErrorKind::OutOfRange, "a file's cluster chain ends before the file does", volume_->place(),
                        size_text(size), size_text(done));
        if (to_the_end && cluster != 0)
            return fail(ErrorKind::Malformed, "a directory's cluster chain does not end", volume_->place(),
                        size_text(most_listing));
        return {};
    }

    [[nodiscard]] Result<std::vector<Extent>> directory_extents(FileId directory) const {
        std::vector<Extent> out;
        const auto followed = follow_directory(directory, out);
        if (!followed) return tl::unexpected(followed.error());
        return out;
    }

    [[nodiscard]] Result<void> follow_directory(FileId directory, std::vector<Extent>& out) const {
        if (directory == 0) {
            if (g_.bits == 32) return follow(g_.root_cluster, 0, true, out);
            out = {{0, g_.root_bytes, g_.root_offset}};
            return {};
        }
        const auto entry = load_entry(directory);
        if (!entry) return tl::unexpected(entry.error());
        if ((entry->attributes & attribute_directory) == 0)
            return fail(ErrorKind::WrongType, "not a directory", volume_->place());
        return follow(first_cluster(*entry), 0, true, out);
    }

    template <class Visit>
    [[nodiscard]] Result<void> walk(FileId directory, const Visit& visit) const {
        std::vector<Extent> pieces;
        auto followed = follow_directory(directory, pieces);
        // Loaders and firmware go from cluster to cluster, and may find a name before the chain is lost; Linux measures
        // a directory before it looks into it (fs/fat/inode.c, fat_calc_dir_size).
        if (!followed && (reader_ == Reader::Kernel || pieces.empty())) return followed;
        std::u16string long_name;
        std::uint8_t expected = 0;
        std::uint8_t sum = 0;
        for (const auto& piece : pieces) {
            // Piece by piece, so that a name found early costs little.
            for (std::uint64_t done = 0; done < piece.length; done += g_.cluster) {
                const auto block =
                    volume_->bytes(piece.base_offset + done, std::min<std::uint64_t>(g_.cluster, piece.length - done));
                if (!block) return tl::unexpected(block.error());
                for (std::size_t at = 0; at + 32 <= block->size(); at += 32) {
                    const auto entry = ondisk::from_bytes<ondisk::FatEntry>(*block, at);
                    if (entry.name[0] == 0) return {};
                    if (entry.name[0] == 0xE5) {
                        long_name.clear();
                        expected = 0;
                        continue;
                    }
                    if ((entry.attributes & 0x3FU) == attribute_long) {
                        take_long(ondisk::from_bytes<ondisk::FatLongEntry>(*block, at), long_name, expected, sum);
                        continue;
                    }
                    Named named;
                    named.short_name = short_name(entry);
                    const bool whole = !long_name.empty() && expected == 0 && sum == name_checksum(entry.name);
                    named.name = whole ? utf8_from(long_name) : named.short_name;
                    long_name.clear();
                    expected = 0;
                    if ((entry.attributes & attribute_label) != 0) continue;
                    named.id = piece.base_offset + done + at;
                    named.directory = (entry.attributes & attribute_directory) != 0;
                    if (!visit(named)) return {};
                }
            }
        }
        return followed;
    }

    static void take_long(const ondisk::FatLongEntry& piece, std::u16string& name, std::uint8_t& expected,
                          std::uint8_t& sum) {
        const std::uint8_t order = piece.order & 0x3FU;
        if ((piece.order & 0x40U) != 0) {
            name.clear();
            sum = piece.checksum;
        } else if (order != expected || piece.checksum != sum) {
            name.clear();
            expected = 0xFF;
            return;
        }
        if (order == 0 || order > 20) {
            expected = 0xFF;
            return;
        }
        std::u16string part = units_from(piece.name1) + units_from(piece.name2) + units_from(piece.name3);
        if (const auto end = part.find(u'\0'); end != std::u16string::npos) part.resize(end);
        name = part + name;
        expected = static_cast<std::uint8_t>(order - 1);
    }

    void compare_tables(std::vector<Finding>& out) const {
        if (g_.fats < 2) return;
        // A table is small; still only the part that describes clusters is compared, and at most 8 MiB of it.
        const std::uint64_t used =
            std::min<std::uint64_t>(g_.fat_bytes, (std::uint64_t{g_.clusters} + 2) * g_.bits / 8 + 1);
        constexpr std::uint64_t step = 65536;
        for (std::uint64_t at = 0; at < std::min<std::uint64_t>(used, std::uint64_t{8} << 20U); at += step) {
            const std::uint64_t length = std::min(step, used - at);
            const auto first = volume_->bytes(g_.fat_offset + at, length);
            const auto second = volume_->bytes(g_.fat_offset + g_.fat_bytes + at, length);
            if (!first || !second || *first == *second) continue;
            const auto differ = static_cast<std::uint64_t>(std::ranges::mismatch(*first, *second).in1 - first->begin());
            out.push_back(make_finding(
                Code::FatCopiesDiffer,
                fmt::format("the two allocation tables of {} differ; loaders and firmware read the first one",
                            volume_->place()),
                {evidence_bytes(*volume_, g_.fat_offset + at + differ, 1),
                 evidence_bytes(*volume_, g_.fat_offset + g_.fat_bytes + at + differ, 1)}));
            return;
        }
    }

    void backup_and_info(std::vector<Finding>& out) const {
        const auto boot = volume_->load<ondisk::FatBoot32>(0);
        if (!boot) return;
        const std::uint64_t info_at = std::uint64_t{boot->fat32.info_sector} * g_.sector;
        const auto info = info_at != 0 ? volume_->load<ondisk::FatInfo>(info_at) : fail(ErrorKind::NotFound, "none");
        if (info && (info->lead != 0x41615252U || info->signature != 0x61417272U))
            out.push_back(make_finding(
                Code::FatInfoSector,
                fmt::format("the FSInfo sector of {} carries no mark; it holds hints only", volume_->place()),
                {evidence_bytes(*volume_, info_at, 4, "52 52 61 41")}));
        const std::uint64_t backup_at = std::uint64_t{boot->fat32.backup_sector} * g_.sector;
        if (backup_at == 0) return;
        const auto one = volume_->bytes(0, 512);
        const auto two = volume_->bytes(backup_at, 512);
        if (one && two && *one != *two)
            out.push_back(make_finding(Code::BootSectorBackupDiffers,
                                       fmt::format("the boot sector of {} and its backup differ", volume_->place()),
                                       {evidence_bytes(*volume_, 0, 512), evidence_bytes(*volume_, backup_at, 512)}));
    }

    Source volume_;
    [[maybe_unused]] Reader reader_;
    Geometry g_;
    VolumeInfo info_;
};

/// The label in the root directory counts; the one in the boot sector is a copy.
std::string directory_label(const ByteSource& volume, const Geometry& g) {
    const std::uint64_t at =
        g.bits == 32 ? (g.root_cluster >= 2 ? g.data_offset + std::uint64_t{g.root_cluster - 2} * g.cluster : 0)
                     : g.root_offset;
    const std::uint64_t length = g.bits == 32 ? g.cluster : std::min<std::uint64_t>(g.root_bytes, 65536);
    const auto block = at != 0 ? volume.bytes(at, length) : fail(ErrorKind::NotFound, "none");
    if (!block) return {};
    for (std::size_t i = 0; i + 32 <= block->size(); i += 32) {
        const auto entry = ondisk::from_bytes<ondisk::FatEntry>(*block, i);
        if (entry.name[0] == 0) break;
        if (entry.name[0] != 0xE5 && (entry.attributes & attribute_label) != 0 &&
            (entry.attributes & 0x3FU) != attribute_long)
            return padded(entry.name);
    }
    return {};
}

}  // namespace

std::int64_t fat_time(std::uint16_t date, std::uint16_t time) {
    if (date == 0) return 0;
    const int year = 1980 + (date >> 9U);
    const int month = std::clamp((date >> 5U) & 15, 1, 12);
    const int day = std::max(1, date & 31);
    // Days since 1970 of a civil date (proleptic Gregorian).
    const int y = month <= 2 ? year - 1 : year;
    const int era = y / 400;
    const int of_era = y - era * 400;
    const int of_year = (153 * (month + (month > 2 ? -3 : 9)) + 2) / 5 + day - 1;
    const std::int64_t days = std::int64_t{era} * 146097 + of_era * 365 + of_era / 4 - of_era / 100 + of_year - 719468;
    return days * 86400 + (time >> 11U) * 3600 + ((time >> 5U) & 63) * 60 + (time & 31) * 2;
}

std::optional<VolumeInfo> recognise_fat(const ByteSource& volume) {
    const auto g = geometry(volume);
    if (!g) return std::nullopt;
    const auto boot16 = volume.load<ondisk::FatBoot16>(0);
    const auto boot32 = volume.load<ondisk::FatBoot32>(0);
    if (!boot16 || !boot32) return std::nullopt;
    const auto& extended = g->bits == 32 ? boot32->extended : boot16->extended;
    VolumeInfo info;
    info.format = g->bits == 12 ? Format::Fat12 : g->bits == 16 ? Format::Fat16 : Format::Fat32;
    info.size = g->bytes;
    info.block_size = g->cluster;
    if (extended.boot_signature == 0x29 || extended.boot_signature == 0x28)
        info.uuid = fmt::format("{:04X}-{:04X}", extended.serial >> 16U, extended.serial & 0xFFFFU);
    info.label = directory_label(volume, *g);
    if (info.label.empty() && extended.boot_signature == 0x29) info.label = padded(extended.label);
    if (info.label == "NO NAME") info.label.clear();
    return info;
}

Result<std::shared_ptr<const FileSystem>> open_fat(const Source& volume, Reader reader) {
    const auto g = geometry(*volume);
    const auto info = recognise_fat(*volume);
    if (!g || !info) return fail(ErrorKind::Malformed, "no FAT geometry", volume->place());
    if (reader == Reader::Grub) {
        // GRUB wants the media byte repeated in the first table entry (grub-core/fs/fat.c); SYSLINUX does not look.
        const auto first = volume->load<ondisk::little_uint16_t>(g->fat_offset);
        if (!first || (*first & 0xFFU) != g->media || (*first & 0xF00U) != 0xF00U)
            return fail(ErrorKind::Malformed, "the first allocation table does not begin with the media byte",
                        volume->place(), fmt::format("{:02x}", g->media),
                        first ? fmt::format("{:02x}", *first & 0xFFU) : std::string("unreadable"));
    }
    return std::make_shared<const FatFs>(volume, reader, *g, *info);
}

}  // namespace herberge
