// SPDX-License-Identifier: MIT
#include "files/exfat.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <map>
#include <mutex>

#include <herberge/budget.hpp>

#include "bytes/text16.hpp"
#include "bytes/uniform.hpp"
#include "files/fat.hpp"
#include "files/stored.hpp"
#include "ondisk/exfat.hpp"

namespace herberge {

namespace {

using namespace stored;

constexpr std::size_t entry_size = 32;
constexpr std::uint64_t most_directory = std::uint64_t{256} << 20U;  // section 7.1

namespace type {
constexpr std::uint8_t bitmap = 0x81, label = 0x83, file = 0x85, stream = 0xC0, name = 0xC1;
}

class Exfat final : public FileSystem {
public:
    Exfat(Source volume, const ondisk::ExfatBoot& boot, VolumeInfo info)
        : volume_(std::move(volume)),
          boot_(boot),
          info_(std::move(info)),
          cluster_(std::uint64_t{1} << (boot.sector_shift + boot.cluster_shift)) {}

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return 0; }
    [[nodiscard]] bool ignores_case() const override { return true; }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        const auto found = entry(file);
        if (!found) return tl::unexpected(found.error());
        FileInfo out;
        out.id = file;
        out.permissions = 0755;
        out.type = found->directory ? FileType::Directory : FileType::Regular;
        out.size = found->directory ? 0 : found->size;
        out.modified = found->modified;
        return out;
    }

    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        // There are no entries for these.
        if (name == ".") return directory;
        if (name == "..") return parent_of(directory);
        std::optional<FileId> found;
        const auto walked = walk(directory, [&](const Entry& one) {
            if (same_name(one.name, name)) found = one.id;
            return !found;
        });
        if (found) return *found;
        if (!walked) return tl::unexpected(walked.error());
        return fail(ErrorKind::NotFound, fmt::format("no entry named {}", printable(name)), volume_->place());
    }

    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        std::vector<DirEntry> out;
        const auto walked = walk(directory, [&](const Entry& one) {
            out.push_back({one.name, one.id, one.directory ? FileType::Directory : FileType::Regular});
            return true;
        });
        if (!walked) return tl::unexpected(walked.error());
        return out;
    }

    [[nodiscard]] Result<std::string> link_target(FileId /*link*/) const override {
        return fail(ErrorKind::WrongType, "exFAT has no links", volume_->place());
    }

    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto found = entry(file);
        if (!found) return tl::unexpected(found.error());
        auto pieces = extents(file);
        if (!pieces) return tl::unexpected(pieces.error());
        return extent_source(volume_, std::move(*pieces), found->size, std::move(place));
    }

    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        const auto found = entry(file);
        if (!found) return tl::unexpected(found.error());
        auto out = chain(*found);
        if (!out || found->directory) return out;
        // What was never written reads as zeros.
        while (!out->empty() && out->back().offset >= found->valid) out->pop_back();
        if (!out->empty()) out->back().length = std::min(out->back().length, found->valid - out->back().offset);
        return out;
    }

    /// Whether the root directory names a map of clusters in use.
    [[nodiscard]] Result<bool> has_bitmap() const {
        bool out = false;
        const auto read = each_entry(root_entry(), [&](std::span<const std::uint8_t> one, std::uint64_t /*at*/) {
            out = out || one[0] == type::bitmap;
            return !out;
        });
        if (!read) return tl::unexpected(read.error());
        return out;
    }

private:
    struct Entry {
        FileId id = 0;
        FileId parent = 0;
        std::string name;
        bool directory = false;
        bool in_one_piece = false;
        std::uint32_t first = 0;
        std::uint64_t size = 0, valid = 0;
        std::int64_t modified = 0;
    };

    [[nodiscard]] Entry root_entry() const {
        Entry out;
        out.directory = true;
        out.first = boot_.root_cluster;
        out.size = most_directory;
        return out;
    }

    /// Entries are known from the directory that they were found in: their sets may lie across clusters.
    [[nodiscard]] Result<Entry> entry(FileId file) const {
        if (file == 0) return root_entry();
        const std::scoped_lock lock(mutex_);
        const auto known = known_.find(file);
        if (known != known_.end()) return known->second;
        return fail(ErrorKind::NotFound, "no such file", fmt::format("{}@{}+32", volume_->place(), file));
    }
    [[nodiscard]] Result<FileId> parent_of(FileId directory) const {
        const auto found = entry(directory);
        if (!found) return tl::unexpected(found.error());
        return found->parent;
    }

    [[nodiscard]] std::uint64_t offset_of(std::uint32_t cluster) const {
        return (std::uint64_t{boot_.heap_offset} << boot_.sector_shift) + std::uint64_t{cluster - 2} * cluster_;
    }

    /// The next cluster; 0 at the chain's end.
    [[nodiscard]] Result<std::uint32_t> next(std::uint32_t cluster) const {
        std::uint64_t table = boot_.fat_offset;
        if (boot_.fats == 2 && (boot_.flags & 1U) != 0) table += boot_.fat_sectors;
        const auto value =
            volume_->load<ondisk::little_uint32_t>((table << boot_.sector_shift) + std::uint64_t{cluster} * 4);
        if (!value) return tl::unexpected(value.error());
        constexpr std::uint32_t end = 0xFFFFFFFF;
        return *value == end ? std::uint32_t{0} : std::uint32_t{*value};
    }

    /// The bytes of a file, or of a directory up to its chain's end.
    [[nodiscard]] Result<std::vector<Extent>> chain(const Entry& of) const {
        std::vector<Extent> out;
        std::uint64_t done = 0;
        const auto outside = [&](std::uint64_t cluster) {
            return fail(ErrorKind::Malformed, "a cluster chain leads outside the volume", volume_->place(),
                        fmt::format("a cluster from 2 to {}", boot_.clusters + 1), std::to_string(cluster));
        };
        if (of.size == 0) return out;
        if (of.in_one_piece) {
            const std::uint64_t count = (of.size + cluster_ - 1) / cluster_;
            if (of.first < 2 || count > boot_.clusters || of.first - 2 + count > boot_.clusters)
                return outside(of.first + count);
            out.push_back({0, of.size, offset_of(of.first)});
            return out;
        }
        for (std::uint32_t cluster = of.first; cluster != 0 && done < of.size;) {
            if (auto paid = charge(Cost::Steps, 1, volume_->place()); !paid) return tl::unexpected(paid.error());
            if (cluster < 2 || cluster - 2 >= boot_.clusters) return outside(cluster);
            const std::uint64_t length = std::min(cluster_, of.size - done);
            const std::uint64_t base = offset_of(cluster);
            if (!out.empty() && out.back().base_offset + out.back().length == base) out.back().length += length;
            else out.push_back({done, length, base});
            done += length;
            const auto following = next(cluster);
            if (!following) return tl::unexpected(following.error());
            cluster = *following;
        }
        if (!of.directory && done < of.size)
            return fail(ErrorKind::OutOfRange, "a file's cluster chain ends before the file does", volume_->place(),
                        std::to_string(of.size), std::to_string(done));
        if (of.id == 0 && done >= most_directory)
            return fail(ErrorKind::Malformed, "a directory's cluster chain does not end", volume_->place());
        return out;
    }

    /// Each entry up to the one that ends the directory, with its byte of the volume; false: `visit` has seen enough.
    template <class Visit>
    [[nodiscard]] Result<void> each_entry(const Entry& directory, const Visit& visit) const {
        const auto pieces = chain(directory);
        if (!pieces) return tl::unexpected(pieces.error());
        for (const auto& piece : *pieces)
            for (std::uint64_t done = 0; done < piece.length; done += cluster_) {
                const auto bytes = volume_->bytes(piece.base_offset + done, std::min(cluster_, piece.length - done));
                if (!bytes) return tl::unexpected(bytes.error());
                for (std::size_t at = 0; at + entry_size <= bytes->size(); at += entry_size) {
                    const auto one = std::span(*bytes).subspan(at, entry_size);
                    if (one[0] == 0 || !visit(one, piece.base_offset + done + at)) return {};
                }
            }
        return {};
    }

    template <class Visit>
    [[nodiscard]] Result<void> walk(FileId directory, const Visit& visit) const {
        const auto where = entry(directory);
        if (!where) return tl::unexpected(where.error());
        if (!where->directory) return fail(ErrorKind::WrongType, "not a directory", volume_->place());
        Entry now;
        std::u16string name;
        std::size_t awaited = 0;  // entries of this set
        std::size_t length = 0;   // of its name
        return each_entry(*where, [&](std::span<const std::uint8_t> one, std::uint64_t at) {
            if (one[0] == type::file) {
                const auto file = ondisk::from_bytes<ondisk::ExfatFile>(one);
                constexpr std::uint16_t is_directory = 0x10;
                now = {};
                now.id = at;
                now.parent = directory;
                now.directory = (file.attributes & is_directory) != 0;
                now.modified = fat_time(file.modified_date, file.modified_time);
                awaited = file.followers;
                name.clear();
                length = 0;
            } else if (awaited > 0 && one[0] == type::stream && length == 0) {
                const auto stream = ondisk::from_bytes<ondisk::ExfatStream>(one);
                constexpr std::uint8_t one_piece = 2;
                now.in_one_piece = (stream.flags & one_piece) != 0;
                now.first = stream.first_cluster;
                now.size =
                    now.directory ? std::min<std::uint64_t>(stream.size, most_directory) : std::uint64_t{stream.size};
                now.valid = std::min<std::uint64_t>(stream.valid_size, stream.size);
                length = stream.name_length;
                --awaited;
            } else if (awaited > 0 && one[0] == type::name && length > 0) {
                name += units_from(one.subspan(2), false, false);
                --awaited;
            } else if (one[0] < type::stream) {
                awaited = 0;  // the set was broken off, or goes on with what is not in use any more
            } else if (awaited > 0) {
                --awaited;  // of a vendor: no matter
            }
            if (awaited != 0 || length == 0 || name.size() < length) return true;
            name.resize(length);
            length = 0;
            now.name = utf8_from(name);
            if (auto paid = charge(Cost::Kept, sizeof(Entry) + now.name.size(), volume_->place()); !paid) return false;
            {
                const std::scoped_lock lock(mutex_);
                known_[now.id] = now;
            }
            return visit(now);
        });
    }

    Source volume_;
    ondisk::ExfatBoot boot_;
    VolumeInfo info_;
    std::uint64_t cluster_;
    mutable std::mutex mutex_;
    mutable std::map<FileId, Entry> known_;
};

/// The sum over the first eleven sectors, which the twelfth holds again and again (section 3.4).
Result<bool> region_holds(const ByteSource& volume, std::uint64_t sector) {
    const auto region = volume.bytes(0, sector * 12);
    if (!region) return tl::unexpected(region.error());
    constexpr std::size_t flags = 106, percent = 112;
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < sector * 11; ++i)
        if (i != flags && i != flags + 1 && i != percent) sum = (sum << 31U | sum >> 1U) + (*region)[i];
    for (std::size_t at = sector * 11; at < sector * 12; at += 4)
        if (ondisk::from_bytes<ondisk::little_uint32_t>(*region, at) != sum) return false;
    return true;
}

/// The label, which stands in the first cluster of the root directory.
std::string label_of(const ByteSource& volume, const ondisk::ExfatBoot& boot) {
    constexpr std::uint64_t most = 65536;
    const std::uint64_t cluster = std::uint64_t{1} << (boot.sector_shift + boot.cluster_shift);
    if (boot.root_cluster < 2 || boot.root_cluster - 2 >= boot.clusters) return {};
    const auto bytes = volume.bytes(
        (std::uint64_t{boot.heap_offset} << boot.sector_shift) + std::uint64_t{boot.root_cluster - 2} * cluster,
        std::min(cluster, most));
    for (std::size_t at = 0; bytes && at + entry_size <= bytes->size() && (*bytes)[at] != 0; at += entry_size)
        if ((*bytes)[at] == type::label)
            return printable(utf8_from(
                units_from(std::span(*bytes).subspan(at + 2, std::min<std::size_t>((*bytes)[at + 1], 11) * 2))));
    return {};
}

}  // namespace

std::optional<VolumeInfo> recognise_exfat(const ByteSource& volume) {
    const auto boot = volume.load<ondisk::ExfatBoot>(0);
    if (!boot || !begins(boot->name, "EXFAT   ") || boot->sector_shift < 9 || boot->sector_shift > 12 ||
        boot->cluster_shift > 25 - boot->sector_shift)
        return std::nullopt;
    VolumeInfo info;
    info.format = Format::Exfat;
    info.size = boot->sectors << boot->sector_shift;
    info.block_size = 1U << (boot->sector_shift + boot->cluster_shift);
    info.uuid = fmt::format("{:04X}-{:04X}", boot->serial >> 16U, boot->serial & 0xFFFFU);
    info.label = label_of(volume, *boot);
    return info;
}

Result<std::shared_ptr<const FileSystem>> open_exfat(const Source& volume, Reader reader) {
    const auto info = recognise_exfat(*volume);
    const auto boot = volume->load<ondisk::ExfatBoot>(0);
    if (!info || !boot) return fail(ErrorKind::Malformed, "no exFAT boot sector", volume->place());
    const std::string place = fmt::format("{}@0+512", volume->place());
    const std::uint64_t table = std::uint64_t{boot->fat_sectors} << boot->sector_shift;
    if (boot->fats < 1 || boot->fats > 2 || boot->clusters == 0 || table / 4 < std::uint64_t{boot->clusters} + 2 ||
        boot->heap_offset < boot->fat_offset + std::uint64_t{boot->fat_sectors} * boot->fats)
        return fail(ErrorKind::Malformed, "the exFAT boot sector contradicts itself", place);
    auto out = std::make_shared<const Exfat>(volume, *boot, *info);
    if (reader == Reader::Kernel) {
        if (boot->signature != 0xAA55U || !holds_only(boot->zero, 0))
            return fail(ErrorKind::Malformed, "the exFAT boot sector lacks a mark", place);
        const auto sound = region_holds(*volume, std::uint64_t{1} << boot->sector_shift);
        if (!sound) return tl::unexpected(sound.error());
        if (!*sound) return fail(ErrorKind::Checksum, "the boot region of the exFAT fails its checksum", place);
        const auto bitmap = out->has_bitmap();
        if (!bitmap) return tl::unexpected(bitmap.error());
        if (!*bitmap) return fail(ErrorKind::Malformed, "the root of the exFAT names no map of clusters in use", place);
    }
    return out;
}

}  // namespace herberge
