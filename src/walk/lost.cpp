// SPDX-License-Identifier: MIT
#include "walk/lost.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "walk/whose.hpp"

namespace herberge::walk {

namespace {

constexpr std::uint64_t step_sectors = 2048;  // what partitioning tools align to
constexpr std::uint64_t most_places = 8192;

/// A file system that begins where no partition does.
struct Stray {
    const Disk* disk = nullptr;
    std::uint64_t lba = 0;
    Source source;
    VolumeInfo info;
    int number = 0;  ///< the number it would have as a logical partition; 0: it does not lie among those
};

/// Space that holds no file system of its own: gaps, extended partitions, and partitions with nothing recognised.
bool is_free(const Disk& disk, std::uint64_t lba) {
    for (const auto& p : disk.table.partitions) {
        if (p.extended() || lba < p.first_lba || lba >= p.first_lba + p.sectors) continue;
        const auto volume =
            std::ranges::find_if(disk.volumes, [&](const VolumeRef& v) { return v->partition == p.number; });
        if (volume != disk.volumes.end() && (*volume)->info.known()) return false;
    }
    return true;
}

/// Where logical partitions lie or lay: the extended partition, or one whose first sector still looks like its table.
const Partition* home_of_logical(const Disk& disk, std::uint64_t lba) {
    for (const auto& p : disk.table.partitions) {
        if (p.logical || lba < p.first_lba || lba >= p.first_lba + p.sectors) continue;
        if (p.extended()) return &p;
        const auto mark = disk.source->bytes(p.first_lba * 512 + 510, 2);
        if (mark && (*mark)[0] == 0x55 && (*mark)[1] == 0xAA && lba > p.first_lba) return &p;
    }
    return nullptr;
}

std::vector<Stray> strays(const Machine& machine) {
    std::vector<Stray> out;
    std::uint64_t looked = 0;
    for (const auto& disk : machine.disks) {
        if (disk.problem || disk.table.kind == TableKind::None) continue;
        const std::uint64_t end = disk.source->size() / 512;
        int logical = 5;
        for (std::uint64_t lba = step_sectors; lba < end && looked < most_places; lba += step_sectors) {
            const auto known = std::ranges::find_if(
                disk.table.partitions, [&](const Partition& p) { return p.first_lba == lba && !p.extended(); });
            if (known != disk.table.partitions.end() && known->logical) ++logical;
            if (!is_free(disk, lba)) {
                // Skip to the end of the volume that lies here.
                for (const auto& p : disk.table.partitions)
                    if (!p.extended() && lba >= p.first_lba && lba < p.first_lba + p.sectors)
                        lba = std::max(lba, (p.first_lba + p.sectors) / step_sectors * step_sectors - step_sectors);
                continue;
            }
            ++looked;
            const auto source =
                slice(disk.source, lba * 512, (end - lba) * 512, fmt::format("d{}@{}", disk.number, lba * 512));
            auto info = recognise_plain_volume(*source);
            if (!info.known() || info.size == 0 || info.size > source->size()) continue;
            const bool among_logical = home_of_logical(disk, lba) != nullptr;
            out.push_back({&disk, lba,
                           slice(disk.source, lba * 512, info.size, fmt::format("d{}@{}", disk.number, lba * 512)),
                           info, among_logical ? logical : 0});
            if (among_logical) ++logical;
            lba += info.size / 512 / step_sectors * step_sectors;
            if (info.size / 512 % step_sectors == 0) lba -= step_sectors;
        }
    }
    return out;
}

std::string name_of_system(const Stray& stray) {
    Machine alone;
    Disk disk;
    disk.number = stray.disk->number;
    disk.source = stray.disk->source;
    disk.volumes.push_back(std::make_shared<const Volume>(stray.source, disk.number, 0));
    alone.disks.push_back(std::move(disk));
    const auto systems = find_systems(alone);
    return systems.empty() ? std::string{} : systems.front().name;
}

}  // namespace

bool names_missing_volume(const Machine& machine, const MenuEntry& entry) {
    const auto root = named_root(machine, entry);
    using Kind = RootReference::Kind;
    const bool by_name =
        root.kind == Kind::Uuid || root.kind == Kind::Label || root.kind == Kind::PartUuid || root.kind == Kind::Device;
    return (by_name && root.volume == nullptr && !root.cannot_tell) ||
           (entry.stop && entry.stop->code == Code::EntryDeviceMissing);
}

namespace {

/// Partitions that are meant to hold no file system: GRUB's core (BIOS boot), Microsoft's reserve.
bool meant_to_be_blank(const Partition& partition) {
    return partition.type_guid == "21686148-6449-6e6f-744e-656564454649" ||
           partition.type_guid == "e3c9e316-0b5c-4db8-817d-f92df00215ae" || partition.extended();
}

std::vector<std::string> blank_partitions(const Machine& machine) {
    std::vector<std::string> out;
    machine.each_volume([&](const Volume& volume) {
        constexpr std::uint64_t least = std::uint64_t{1} << 20U;
        if (volume.info.known() || volume.mark_unreadable() || volume.partition <= 0 || volume.source->size() < least)
            return;
        const Disk* disk = machine.disk(volume.disk);
        const auto* partition = disk != nullptr ? disk->table.find(volume.partition) : nullptr;
        if (partition != nullptr && !meant_to_be_blank(*partition)) out.push_back(volume.place);
    });
    return out;
}

}  // namespace

bool room_for_a_volume(const Machine& machine) {
    constexpr std::uint64_t least = (std::uint64_t{16} << 20U) / 512;
    if (!blank_partitions(machine).empty()) return true;
    return std::ranges::any_of(machine.disks, [](const Disk& disk) {
        if (disk.problem || disk.optical || disk.table.kind == TableKind::None) return false;
        return std::ranges::any_of(stretches(disk.table, disk.source->size()),
                                   [](const Stretch& s) { return s.partition == 0 && s.sectors >= least; });
    });
}

std::optional<std::string> blank_partition_of(const Machine& machine, const MenuEntry& entry) {
    if (entry.kernel.empty() || entry.kernel.front().volume == nullptr) return std::nullopt;
    const auto blank = blank_partitions(machine);
    const auto found = std::ranges::find(blank, entry.kernel.front().volume->place);
    return found != blank.end() ? std::optional(*found) : std::nullopt;
}

std::string entry_screen(const MenuEntry& entry, const Menu& menu) {
    constexpr std::size_t most = 6;
    std::vector<std::string> lines;
    // Autoloading drivers can add dozens of lines; the ones that tell the cause remain.
    for (const auto& message : entry.messages)
        if (message.kind != LoaderMessage::Kind::Module || entry.messages.size() <= most) lines.push_back(message.text);
    if (lines.size() > most) lines.erase(lines.begin(), lines.end() - static_cast<std::ptrdiff_t>(most));
    if (!menu.after_error.empty()) lines.push_back(menu.after_error);
    return fmt::format("{}", fmt::join(lines, "\n"));
}

std::vector<LostSystem> find_lost(const Machine& machine, const std::vector<const Route*>& homeless) {
    std::vector<LostSystem> out;
    if (homeless.empty()) return out;
    const auto found = strays(machine);
    for (const auto* route : homeless) {
        LostSystem lost;
        lost.routes.push_back(route);
        const auto root = named_root(machine, *route->entry);
        lost.wanted = root.written.empty() && route->entry->stop ? route->entry->stop->text : root.written;
        if (const auto known = std::ranges::find(out, lost.wanted, &LostSystem::wanted); known != out.end()) {
            known->routes.push_back(route);
            continue;
        }
        for (const auto& stray : found) {
            using Kind = RootReference::Kind;
            const bool same = (root.kind == Kind::Uuid && stray.info.uuid == root.value) ||
                              (root.kind == Kind::Label && stray.info.label == root.value);
            if (!same) continue;
            lost.found = true;
            lost.name = name_of_system(stray);
            if (stray.number != 0) lost.place = fmt::format("d{}p{}", stray.disk->number, stray.number);
            lost.text = fmt::format(
                "“{}” starts a system whose volume ({}, {}) begins at sector {}, but no partition leads there",
                route->entry->title, stray.info.name(), root.written, stray.lba);
            lost.evidence = {evidence_line(route->entry->place, route->entry->line, root.written, "on no partition"),
                             Evidence{DiskRange{stray.disk->number, stray.lba * 512, 4096},
                                      {},
                                      {},
                                      {},
                                      fmt::format("{} with that UUID or label", stray.info.name())}};
            for (const auto& finding : stray.disk->table.findings)
                if ((finding.code == Code::MbrChainBroken || finding.code == Code::MbrChainCycle) &&
                    !finding.evidence.empty()) {
                    lost.text += "; " + finding.text;
                    lost.evidence.push_back(finding.evidence.front());
                }
            break;
        }
        out.push_back(std::move(lost));
    }
    return out;
}

}  // namespace herberge::walk
