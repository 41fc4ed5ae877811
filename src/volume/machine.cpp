// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>
#include <cctype>

#include <herberge/volume.hpp>

#include "volume/ext.hpp"

namespace herberge {

namespace {

bool same_without_case(std::string_view a, std::string_view b) {
    return std::ranges::equal(a, b, [](char x, char y) { return std::tolower(static_cast<unsigned char>(x)) == std::tolower(static_cast<unsigned char>(y)); });
}

Volume inspect_volume(Source source, int disk, int partition, std::string partuuid) {
    Volume volume;
    volume.disk = disk;
    volume.partition = partition;
    volume.place = source->place();
    volume.partuuid = std::move(partuuid);
    volume.info = recognise_volume(*source);
    if (!volume.info.kind.empty()) {
        auto loader = open_file_system(source, Reader::Loader);
        if (loader) volume.loader_view = *loader;
        else volume.problem = loader.error();
        auto kernel = open_file_system(source, Reader::Kernel);
        if (kernel) volume.kernel_view = *kernel;
    } else {
        volume.problem = Error{ErrorKind::NotFound, "no known file system", volume.place, {}, {}};
    }
    volume.source = std::move(source);
    return volume;
}

template <class Match>
const Volume* first_volume(const Machine& machine, Match match) {
    for (const auto& disk : machine.disks)
        for (const auto& volume : disk.volumes)
            if (match(volume)) return &volume;
    return nullptr;
}

}  // namespace

Disk inspect_disk(Source source, int number, std::string path) {
    Disk disk;
    disk.number = number;
    disk.path = std::move(path);
    disk.source = source;
    auto table = read_partition_table(*source);
    if (!table) {
        disk.problem = table.error();
        return disk;
    }
    disk.table = std::move(*table);
    return inspect_partitions(std::move(disk));
}

Disk inspect_partitions(Disk disk) {
    const std::uint64_t sector = disk.table.sector_size;
    for (const auto& p : disk.table.partitions) {
        if (p.extended()) continue;  // it only holds others
        const std::string place = fmt::format("d{}p{}", disk.number, p.number);
        disk.volumes.push_back(inspect_volume(slice(disk.source, p.first_lba * sector, p.sectors * sector, place), disk.number, p.number, p.partuuid));
    }
    // A disk without a table may be one volume from its first sector on.
    if (disk.table.partitions.empty() && !recognise_volume(*disk.source).kind.empty())
        disk.volumes.push_back(inspect_volume(slice(disk.source, 0, disk.source->size(), fmt::format("d{}", disk.number)), disk.number, 0, {}));
    return disk;
}

PartitionNames partition_names(const Disk& disk, const Partition& partition) {
    const int index = disk.number - 1;
    const bool gpt = disk.table.kind == TableKind::Gpt;
    PartitionNames out;
    out.linux_name = fmt::format("sd{}{}", static_cast<char>('a' + index % 26), partition.number);
    out.grub = fmt::format("hd{},{}{}", index, gpt ? "gpt" : "msdos", partition.number);
    if (gpt) return out;
    out.legacy = fmt::format("hd{},{}", index, partition.number - 1);
    if (partition.extended()) return out;
    // NT counts what is in use: first the primary entries, then the logical ones.
    int arc = 1;
    for (const auto& p : disk.table.partitions)
        if (!p.extended() && p.number < partition.number) ++arc;
    out.arc = fmt::format("multi(0)disk(0)rdisk({})partition({})", index, arc);
    return out;
}

std::optional<MisplacedVolume> find_misplaced_volume(const Disk& disk) {
    constexpr std::uint64_t sector = 512;
    constexpr std::uint64_t first_sectors = 8192;
    const std::uint64_t end = disk.source->size() / sector;
    auto starts_here = [&](std::uint64_t lba) { return std::ranges::any_of(disk.table.partitions, [&](const Partition& p) { return p.first_lba == lba; }); };
    auto look = [&](std::uint64_t lba) -> std::optional<MisplacedVolume> {
        if (lba == 0 || lba >= end || starts_here(lba)) return std::nullopt;
        const auto volume = slice(disk.source, lba * sector, (end - lba) * sector, {});
        auto info = recognise_volume(*volume);
        // A plausible size guards against a backup superblock or leftovers of a copy.
        if (info.kind.empty() || info.block_size == 0 || info.size == 0 || info.size > volume->size()) return std::nullopt;
        if (info.kind.starts_with("ext") && !is_primary_ext(*volume)) return std::nullopt;
        // A lone copy of a boot sector is no volume: what it leads to must be there.
        if ((info.kind == "ntfs" || info.kind.starts_with("fat")) && !open_file_system(volume, Reader::Loader)) return std::nullopt;
        return MisplacedVolume{lba, std::move(info)};
    };
    for (const auto& p : disk.table.partitions)
        for (const std::uint64_t lba : {p.first_lba - 1, p.first_lba + 1})
            if (auto found = look(lba)) return found;
    for (std::uint64_t lba = 1; lba < std::min(first_sectors, end); ++lba)
        if (auto found = look(lba)) return found;
    return std::nullopt;
}

const Disk* Machine::disk(int number) const {
    const auto found = std::ranges::find(disks, number, &Disk::number);
    return found != disks.end() ? &*found : nullptr;
}

const Disk* Machine::drive(int index, int first) const {
    if (index < 0) return nullptr;
    return disk(index == 0 ? first : index <= first - 1 ? index : index + 1);
}

int Machine::drive_index(int disk, int first) { return disk == first ? 0 : disk < first ? disk : disk - 1; }

const Volume* Machine::volume(int disk, int partition) const {
    return first_volume(*this, [&](const Volume& v) { return v.disk == disk && v.partition == partition; });
}

const Volume* Machine::at(std::string_view place) const {
    return first_volume(*this, [&](const Volume& v) { return v.place == place; });
}

void Machine::each_volume(const std::function<void(const Volume&)>& visit) const {
    for (const auto& disk : disks)
        for (const auto& volume : disk.volumes) visit(volume);
}

const Volume* Machine::by_uuid(std::string_view uuid) const {
    return first_volume(*this, [&](const Volume& v) { return !uuid.empty() && same_without_case(v.info.uuid, uuid); });
}

const Volume* Machine::by_label(std::string_view label) const {
    return first_volume(*this, [&](const Volume& v) { return !label.empty() && v.info.label == label; });
}

const Volume* Machine::by_partuuid(std::string_view partuuid) const {
    return first_volume(*this, [&](const Volume& v) { return !partuuid.empty() && same_without_case(v.partuuid, partuuid); });
}

}  // namespace herberge
