// SPDX-License-Identifier: MIT
// Tables, volumes and sectors of two machines beside each other.
#include <fmt/format.h>
#include <algorithm>
#include <map>
#include <set>

#include <herberge/loader.hpp>
#include <herberge/sector.hpp>

#include "ondisk/mbr.hpp"
#include "remedy/differences.hpp"
#include "remedy/edits.hpp"

namespace herberge::remedy {

namespace {

constexpr std::uint64_t signature_at = offsetof(ondisk::Mbr, disk_signature);
constexpr std::uint64_t entry_size = sizeof(ondisk::MbrEntry);
/// A GPT with the usual array of 128 entries of 128 bytes (UEFI specification 2.10, 5.3).
constexpr std::uint64_t gpt_sectors = 34;

std::string place_of(const Disk& disk) { return fmt::format("d{}", disk.number); }

std::string_view kind_text(TableKind kind) {
    return kind == TableKind::Mbr ? "MBR" : kind == TableKind::Gpt ? "GPT" : "none";
}

/// Lays bytes of the first machine's disk over the same place of the second's.
TakeBack bytes_back(const Disk& before, std::uint64_t offset, std::uint64_t length) {
    return [source = before.source, disk = before.number, offset, length](Workshop& shop, CheckOptions&) {
        const auto bytes = source->bytes(offset, length);
        return bytes && shop.write(disk, offset, *bytes);
    };
}

/// The same for both copies of a GPT.
TakeBack gpt_back(const Disk& before, const Disk& after) {
    const auto sector = before.table.sector_size;
    const auto size = before.source->size();
    if (size != after.source->size() || size < 2 * gpt_sectors * sector) return {};
    return [source = before.source, disk = before.number, sector, size](Workshop& shop, CheckOptions&) {
        const auto first = source->bytes(0, gpt_sectors * sector);
        const auto last = source->bytes(size - (gpt_sectors - 1) * sector, (gpt_sectors - 1) * sector);
        return first && last && shop.write(disk, 0, *first) && shop.write(disk, size - last->size(), *last);
    };
}

std::string entry_text(const Disk& disk, const Partition* entry) {
    if (entry == nullptr) return {};
    std::string out = fmt::format("sectors {} to {} ({}), type {}", entry->first_lba,
                                  entry->first_lba + std::max<std::uint64_t>(entry->sectors, 1) - 1,
                                  size_text(entry->sectors * disk.table.sector_size),
                                  entry->type_guid.empty() ? fmt::format("{:02x}", entry->type) : entry->type_name());
    if (entry->active) out += ", active";
    else if (entry->type_guid.empty() && entry->status != 0) out += fmt::format(", status {:02x}", entry->status);
    if (!entry->type_guid.empty()) {
        out += ", " + entry->partuuid;
        if (!entry->name.empty()) out += fmt::format(", “{}”", printable(entry->name));
        if (entry->attributes != 0) out += fmt::format(", attributes {:x}", entry->attributes);
    }
    return out;
}

void compare_partitions(const Disk& before, const Disk& after, Differences& out) {
    std::set<int> numbers;
    for (const auto* disk : {&before, &after})
        for (const auto& entry : disk->table.partitions) numbers.insert(entry.number);
    for (const int number : numbers) {
        const auto* was = before.table.find(number);
        const auto* is = after.table.find(number);
        auto* seen = differ(out, Stage::PartitionTable, fmt::format("d{}p{}", after.number, number), "table entry",
                            entry_text(before, was), entry_text(after, is));
        if (seen == nullptr) continue;
        const auto* entry = is != nullptr ? is : was;
        seen->range = DiskRange{after.number, entry->entry_offset, entry_size};
        if (was != nullptr && is != nullptr && was->entry_offset != is->entry_offset) continue;
        if (after.table.kind == TableKind::Mbr) seen->take_back = bytes_back(before, entry->entry_offset, entry_size);
        else seen->take_back = gpt_back(before, after);
    }
}

std::string copies_text(const PartitionTable& table) {
    if (table.kind != TableKind::Gpt) return {};
    return fmt::format("primary {}, backup {}", table.primary_sound ? "sound" : "not sound",
                       table.backup_sound ? "sound" : "not sound");
}

std::string first_sector_text(const Disk& disk) {
    const auto view = view_sector(disk, 0);
    return view ? view->kind : "cannot be read";
}

void compare_first_sectors(const Disk& before, const Disk& after, Differences& out) {
    const auto was = before.source->bytes(0, sizeof(ondisk::Mbr));
    const auto is = after.source->bytes(0, sizeof(ondisk::Mbr));
    if (!was || !is) return;
    std::size_t differing = 0;
    for (std::size_t i = 0; i < signature_at; ++i) differing += (*was)[i] != (*is)[i] ? 1 : 0;
    if (differing == 0) return;
    auto* seen = differ(out, Stage::BootCode, place_of(after), "code in the first sector", first_sector_text(before),
                        first_sector_text(after));
    if (seen == nullptr)
        seen = differ(out, Stage::BootCode, place_of(after), "code in the first sector", first_sector_text(before),
                      fmt::format("the same, with {} other bytes", differing));
    seen->range = DiskRange{after.number, 0, signature_at};
    seen->take_back = bytes_back(before, 0, signature_at);
}

void compare_tables(const Disk& before, const Disk& after, Differences& out) {
    const auto place = place_of(after);
    const auto signature = [](const Disk& disk) {
        return std::string(disk.table.boot_signature ? "55 aa" : "not there");
    };
    if (auto* seen =
            differ(out, Stage::Firmware, place, "boot signature (byte 510)", signature(before), signature(after))) {
        seen->range = DiskRange{after.number, 510, 2};
        seen->take_back = bytes_back(before, 510, 2);
    }
    if (auto* seen = differ(out, Stage::PartitionTable, place, "kind of table",
                            std::string(kind_text(before.table.kind)), std::string(kind_text(after.table.kind)))) {
        constexpr auto rest = sizeof(ondisk::Mbr) - signature_at;
        seen->range = DiskRange{after.number, signature_at, rest};
        seen->take_back =
            before.table.kind == TableKind::Gpt ? gpt_back(before, after) : bytes_back(before, signature_at, rest);
    }
    const auto id = [](const Disk& disk) { return fmt::format("{:08x}", disk.table.disk_signature); };
    if (auto* seen = differ(out, Stage::PartitionTable, place, "disk signature", id(before), id(after))) {
        seen->range = DiskRange{after.number, signature_at, 4};
        seen->take_back = bytes_back(before, signature_at, 4);
    }
    differ(out, Stage::PartitionTable, place, "disk GUID", before.table.disk_guid, after.table.disk_guid);
    if (auto* seen = differ(out, Stage::PartitionTable, place, "copies of the GPT", copies_text(before.table),
                            copies_text(after.table)))
        seen->take_back = gpt_back(before, after);
    // Without a table there are no entries; that is told already.
    if (before.table.kind != TableKind::None && after.table.kind != TableKind::None)
        compare_partitions(before, after, out);
}

/// Where a loader keeps parts of itself outside of files: the core image of GRUB 2.
std::vector<DiskRange> loader_ranges(const Disk& disk) {
    const auto first = disk.source->bytes(0, sizeof(ondisk::Mbr));
    const auto boot = first ? recognise_grub_boot(*first) : std::nullopt;
    if (!boot) return {};
    const auto core = read_grub_core(disk, *boot);
    return core ? core->ranges : std::vector<DiskRange>{};
}

std::string volume_text(const VolumeRef& volume) {
    if (volume == nullptr) return {};
    if (volume->not_assembled) return "cannot be put together: " + volume->not_assembled->text();
    return volume->info.known() ? std::string(volume->info.name()) : "nothing that is known";
}

}  // namespace

void compare_disks(const Sides& sides, Differences& out) {
    const auto& was = sides.before.machine.disks;
    const auto& is = sides.after.machine.disks;
    for (std::size_t i = 0; i < std::max(was.size(), is.size()); ++i) {
        if (i >= was.size() || i >= is.size()) {
            const auto& disk = i < was.size() ? was[i] : is[i];
            const auto text = fmt::format("{}, {}", size_text(disk.source->size()), first_sector_text(disk));
            differ(out, Stage::Firmware, place_of(disk), "disk", i < was.size() ? text : "",
                   i < was.size() ? "" : text);
            continue;
        }
        compare_tables(was[i], is[i], out);
        if (sides.before.verdict.firmware == FirmwareKind::Bios || sides.after.verdict.firmware == FirmwareKind::Bios)
            compare_first_sectors(was[i], is[i], out);
    }
}

void compare_volumes(const Sides& sides, Differences& out) {
    std::map<std::string, std::pair<VolumeRef, VolumeRef>> volumes;
    sides.before.machine.each_volume(Observer::Linux,
                                     [&](const Volume& one) { volumes[one.place].first = one.shared_from_this(); });
    sides.after.machine.each_volume(Observer::Linux,
                                    [&](const Volume& one) { volumes[one.place].second = one.shared_from_this(); });
    for (const auto& [place, pair] : volumes) {
        const auto& [was, is] = pair;
        // A partition that is there on one side only is told as a table entry.
        if ((was == nullptr || is == nullptr) && (was != nullptr ? was : is)->kind == NodeKind::Partition) continue;
        differ(out, Stage::Root, place, "holds", volume_text(was), volume_text(is));
        if (was == nullptr || is == nullptr || !was->info.known() || !is->info.known()) continue;
        const auto or_none = [](const std::string& text) { return text.empty() ? std::string("none") : text; };
        if (auto* seen = differ(out, Stage::Root, place, "UUID", or_none(was->info.uuid), or_none(is->info.uuid));
            seen != nullptr && !was->info.uuid.empty())
            seen->take_back = [at = place, id = was->info.uuid](Workshop& shop, CheckOptions&) {
                const auto volume = shop.machine().at(at);
                return volume != nullptr && set_identifier(shop, *volume, id);
            };
        differ(out, Stage::Root, place, "label", or_none(was->info.label), or_none(is->info.label));
    }
}

void compare_sectors(const Sides& sides, Differences& out) {
    constexpr std::uint64_t most = std::uint64_t{4} << 20U;
    std::map<std::tuple<int, std::uint64_t, std::uint64_t>, Stage> ranges;
    for (const auto* verdict : {&sides.before.verdict, &sides.after.verdict})
        for (const auto& system : verdict->systems)
            for (const auto& rung : system.stages)
                for (const auto& one : rung.evidence)
                    if (one.range && one.place.find(":/") == std::string::npos && rung.stage >= Stage::BootCode &&
                        rung.stage <= Stage::Loader)
                        ranges.emplace(std::tuple(one.range->disk, one.range->offset, one.range->length), rung.stage);
    const auto add = [&](const DiskRange& range, Stage stage) {
        ranges.emplace(std::tuple(range.disk, range.offset, range.length), stage);
    };
    for (const auto* side : {&sides.before, &sides.after}) {
        for (const auto& finding : side->verdict.findings)
            for (const auto& one : finding.evidence)
                if (one.range && one.place.find(":/") == std::string::npos && finding.stage >= Stage::BootCode &&
                    finding.stage <= Stage::Loader)
                    add(*one.range, finding.stage);
        if (side->verdict.firmware != FirmwareKind::Bios) continue;
        for (const auto& disk : side->machine.disks)
            for (const auto& range : loader_ranges(disk)) add(range, Stage::Loader);
    }
    const auto covered = [&](const DiskRange& range) {
        return std::ranges::any_of(out, [&](const Seen& seen) { return seen.range && overlap(*seen.range, range); });
    };
    for (const auto& [where, stage] : ranges) {
        const int number = std::get<0>(where);
        const std::uint64_t offset = std::get<1>(where);
        const std::uint64_t length = std::get<2>(where);
        const DiskRange range{number, offset, length};
        const Disk* before = sides.before.machine.disk(number);
        const Disk* after = sides.after.machine.disk(number);
        if (before == nullptr || after == nullptr || length > most || covered(range)) continue;
        const auto was = before->source->bytes(offset, length);
        const auto is = after->source->bytes(offset, length);
        if (was && is && *was == *is) continue;
        if (!was && !is) continue;
        std::size_t differing = 0;
        if (was && is)
            for (std::size_t i = 0; i < was->size(); ++i) differing += (*was)[i] != (*is)[i] ? 1 : 0;
        const auto kind = [&](const Disk& disk, bool readable) {
            if (!readable) return std::string("cannot be read");
            const auto view = view_sector(disk, offset / 512);
            return view && !view->kind.empty() ? view->kind : std::string("bytes");
        };
        const auto one = kind(*before, was.has_value());
        auto other = kind(*after, is.has_value());
        if (one == other) other = fmt::format("the same, with {} other bytes", differing);
        auto* seen = differ(out, stage, range.text(), "sectors that the start reads", one, other);
        if (seen == nullptr) continue;
        seen->range = range;
        if (was) seen->take_back = bytes_back(*before, offset, length);
    }
}

}  // namespace herberge::remedy
