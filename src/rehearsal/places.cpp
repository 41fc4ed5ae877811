// SPDX-License-Identifier: MIT
#include "rehearsal/places.hpp"

#include <fmt/format.h>

namespace herberge::rehearsal {

namespace {
constexpr std::size_t most_files = 4000;
}

Places::Places(const Machine& machine, bool files) : machine_(machine) {
    if (!files) return;
    machine.each_volume([this](const Volume& volume) {
        if (volume.files(Observer::Loader) == nullptr) return;
        add_directory(volume, "/", 0);
        for (const char* path : {"/boot", "/grub", "/syslinux", "/extlinux"}) add_directory(volume, path, 3);
    });
}

void Places::add_directory(const Volume& volume, const std::string& path, int depth) {
    const auto& fs = *volume.files(Observer::Loader);
    const auto found = resolve(fs, path, {.most_links = 1, .follow_last = false});
    if (!found || found->file.type != FileType::Directory) return;
    const auto names = fs.list(found->file.id);
    if (!names) return;
    for (const auto& entry : *names) {
        if (entry.name == "." || entry.name == ".." || ++count_ > most_files) continue;
        const std::string full = (path == "/" ? "/" : path + "/") + entry.name;
        const auto info = fs.stat(entry.id);
        if (!info) continue;
        if (info->type == FileType::Directory && depth > 0) add_directory(volume, full, depth - 1);
        if (info->type != FileType::Regular) continue;
        const auto extents = fs.extents(entry.id);
        if (!extents) continue;
        for (const auto& extent : *extents)
            for (const auto& range : volume.source->locate(extent.base_offset, extent.length))
                files_[range.disk][range.offset + range.length] = {range.offset,
                                                                   fmt::format("{}:{}", volume.place, full)};
    }
}

Lies Places::at(int disk, std::uint64_t offset) const {
    if (const auto on_disk = files_.find(disk); on_disk != files_.end()) {
        const auto next = on_disk->second.upper_bound(offset);
        if (next != on_disk->second.end() && next->second.first <= offset)
            return {next->second.second, PlaceKind::File};
    }
    if (offset < 512) return {fmt::format("d{} first sector", disk), PlaceKind::FirstSector};
    const Disk* where = machine_.disk(disk);
    if (where == nullptr) return {};
    for (const auto& p : where->table.partitions) {
        const std::uint64_t start = p.first_lba * where->table.sector_size;
        if (offset < start || offset >= start + p.sectors * where->table.sector_size) continue;
        if (offset - start < 512) return {fmt::format("d{}p{} boot sector", disk, p.number), PlaceKind::BootSector};
        return {fmt::format("d{}p{}", disk, p.number), PlaceKind::Partition};
    }
    return {fmt::format("gap of d{}", disk), PlaceKind::Gap};
}

}  // namespace herberge::rehearsal
