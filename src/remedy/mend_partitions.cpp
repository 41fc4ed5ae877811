// SPDX-License-Identifier: MIT
// Partitions that the table has lost, or describes beside where they lie: the volumes on the disk tell.
#include <fmt/format.h>
#include <algorithm>
#include <cstring>
#include <optional>

#include "bytes/uniform.hpp"
#include "ondisk/gpt.hpp"
#include "ondisk/mbr.hpp"
#include "remedy/remedy.hpp"
#include "remedy/sector.hpp"
#include "remedy/tables.hpp"

namespace herberge::remedy {

namespace {

std::uint8_t mbr_type(const VolumeInfo& info) {
    if (info.is(Family::Fat)) return 0x0C;
    if (info.is(Family::Ntfs) || info.is(Family::Exfat)) return 0x07;
    if (info.is(Family::Swap)) return 0x82;
    return info.is(Family::Lvm) ? 0x8E : info.is(Family::Raid) ? 0xFD : 0x83;
}

const Volume* volume_of(const Disk& disk, const Partition& partition) {
    for (const auto& volume : disk.volumes)
        if (volume->partition == partition.number) return volume.get();
    return nullptr;
}
bool holds_nothing_known(const Disk& disk, const Partition& partition) {
    const auto* volume = volume_of(disk, partition);
    return volume == nullptr || (!volume->info.known() && !volume->mark_unreadable());
}

/// Partitions that are meant to hold no file system.
bool needs_none(const Partition& p) {
    return p.type_guid == "21686148-6449-6e6f-744e-656564454649" ||  // BIOS boot
           p.type_guid == "e3c9e316-0b5c-4db8-817d-f92df00215ae";    // Microsoft reserved
}

/// Sectors from `lba` to the next partition but `own`.
std::uint64_t room_behind(const Disk& disk, std::uint64_t lba, const Partition& own) {
    std::uint64_t end = disk.source->size() / disk.table.sector_size;
    for (const auto& p : disk.table.partitions)
        if (!p.extended() && p.number != own.number && p.first_lba > lba) end = std::min(end, p.first_lba);
    return end - lba;
}

bool boot_mark(const ByteSource& disk, std::uint64_t lba) {
    const auto mark = disk.bytes(lba * sector + 510, 2);
    return mark && (*mark)[0] == 0x55 && (*mark)[1] == 0xAA;
}

// --- entries that miss their volume ----------------------------------------------------------------------------------

void move_entry(const Disk& disk, const Partition& p, const UnlistedVolume& volume, std::vector<Idea>& out) {
    // As far as the entry reached, where nothing else begins before.
    const std::uint64_t room = room_behind(disk, volume.lba, p);
    const std::uint64_t end = p.first_lba + p.sectors;
    const std::uint64_t length =
        end > volume.lba + volume.sectors && end - volume.lba <= room ? end - volume.lba : volume.sectors;
    // Somewhere else on the disk it is another partition's.
    const bool overlap = volume.lba < p.first_lba + p.sectors && p.first_lba < volume.lba + volume.sectors;
    if (!overlap || needs_none(p) || length > room || volume.lba > 0xFFFFFFFFU || p.logical) return;
    const std::string what = fmt::format("let d{}p{} begin at sector {}, where its {} lies (the table says {})",
                                         disk.number, p.number, volume.lba, volume_words(volume), p.first_lba);
    const auto slot = static_cast<std::size_t>(p.slot);
    const std::uint64_t first = volume.lba;
    if (!p.type_guid.empty())
        out.push_back({what,
                       {},
                       [disk, slot, first, length](Workshop& shop) {
                           return rewrite_gpt(shop, disk, [&](std::span<std::uint8_t> entries, std::size_t size) {
                               auto entry = ondisk::from_bytes<ondisk::GptEntry>(entries, slot * size);
                               entry.first_lba = first;
                               entry.last_lba = first + length - 1;
                               std::memcpy(entries.data() + slot * size, &entry, sizeof(entry));
                           });
                       },
                       5});
    else
        out.push_back({what,
                       {},
                       [disk, p, first, length](Workshop& shop) {
                           return write_entry(shop, disk.number, p.entry_offset,
                                              {p.status, p.type, static_cast<std::uint32_t>(first),
                                               static_cast<std::uint32_t>(length)});
                       },
                       5});
}

void lengthen(const Disk& disk, const Partition& p, std::vector<Idea>& out) {
    const auto* volume = volume_of(disk, p);
    if (volume == nullptr || p.extended() || volume->info.size <= p.sectors * disk.table.sector_size) return;
    const std::uint64_t wanted = (volume->info.size + sector - 1) / sector;
    if (wanted > room_behind(disk, p.first_lba, p) || wanted > 0xFFFFFFFFU) return;
    const std::string what = fmt::format("let d{}p{} be {} sectors long, as its file system is (the table says {})",
                                         disk.number, p.number, wanted, p.sectors);
    const auto slot = static_cast<std::size_t>(p.slot);
    if (!p.type_guid.empty())
        out.push_back({what,
                       {},
                       [disk, slot, wanted](Workshop& shop) {
                           return rewrite_gpt(shop, disk, [&](std::span<std::uint8_t> entries, std::size_t size) {
                               auto entry = ondisk::from_bytes<ondisk::GptEntry>(entries, slot * size);
                               entry.last_lba = entry.first_lba + wanted - 1;
                               std::memcpy(entries.data() + slot * size, &entry, sizeof(entry));
                           });
                       },
                       5});
    else
        out.push_back({what,
                       {},
                       [disk, p, wanted](Workshop& shop) {
                           const ondisk::little_uint32_t length(static_cast<std::uint32_t>(wanted));
                           return shop.write(disk.number, p.entry_offset + offsetof(ondisk::MbrEntry, sectors),
                                             {reinterpret_cast<const std::uint8_t*>(&length), sizeof(length)});
                       },
                       5});
}

// --- partitions that are gone ----------------------------------------------------------------------------------------

void add_primary(const Disk& disk, const UnlistedVolume& volume, std::vector<Idea>& out) {
    int offered = 0;
    const bool active = disk.table.active_count() == 0 && boot_mark(*disk.source, volume.lba);
    for (int slot = 0; slot < 4 && offered < 3; ++slot) {
        const bool taken = std::ranges::any_of(disk.table.partitions,
                                               [&](const Partition& p) { return !p.logical && p.slot == slot; });
        if (taken || volume.lba + volume.sectors > 0xFFFFFFFFU) continue;
        ++offered;
        const int number = disk.number;
        const EntryValues values{static_cast<std::uint8_t>(active ? 0x80 : 0), mbr_type(volume.info),
                                 static_cast<std::uint32_t>(volume.lba), static_cast<std::uint32_t>(volume.sectors)};
        out.push_back({fmt::format("put the {} at sector {} of d{} back into the table, as partition {}{}",
                                   volume_words(volume), volume.lba, number, slot + 1, active ? ", active" : ""),
                       "its number may have been another one",
                       [number, slot, values](Workshop& shop) {
                           return write_entry(
                               shop, number,
                               offsetof(ondisk::Mbr, entries) + static_cast<unsigned>(slot) * sizeof(ondisk::MbrEntry),
                               values);
                       },
                       6 + offered});
    }
}

void add_to_gpt(const Disk& disk, const UnlistedVolume& volume, std::vector<Idea>& out) {
    int offered = 0;
    for (std::size_t slot = 0; slot < 128 && offered < 3; ++slot) {
        const bool taken = std::ranges::any_of(disk.table.partitions,
                                               [&](const Partition& p) { return p.slot == static_cast<int>(slot); });
        if (taken) continue;
        ++offered;
        out.push_back({fmt::format("put the {} at sector {} of d{} back into the GPT, as partition {}",
                                   volume_words(volume), volume.lba, disk.number, slot + 1),
                       "its number may have been another one, and its identifier is a new one",
                       [disk, volume, slot](Workshop& shop) {
                           return rewrite_gpt(shop, disk, [&](std::span<std::uint8_t> entries, std::size_t size) {
                               put_gpt_entry(entries, size, slot, gpt_type(volume.info), volume.lba, volume.sectors);
                           });
                       },
                       6 + offered});
    }
}

// --- a GPT of which no copy is left ---------------------------------------------------------------------------------

/// Its partitions begin where volumes do, in that order. What holds no file system is not seen: GRUB's core tells of
/// one such partition; else the first number may have been one.
void lost_gpt(const Disk& disk, const std::vector<UnlistedVolume>& volumes, std::vector<Idea>& out) {
    if (disk.table.kind != TableKind::Gpt || disk.table.primary_marked || disk.table.primary_sound ||
        disk.table.backup_sound || volumes.empty())
        return;
    const auto core = find_grub_core(disk);
    const std::uint64_t first = volumes.front().lba;
    const bool core_apart = core && *core >= 34 && *core < first;
    std::vector<NewPartition> listed;
    if (core_apart) listed.push_back({bios_boot_type, *core, first - *core});
    std::uint64_t end = 34;
    std::string names;
    for (const auto& volume : volumes) {
        if (volume.lba < end) continue;  // inside the one before
        listed.push_back({gpt_type(volume.info), volume.lba, volume.sectors});
        names += fmt::format("{}{} at {}", names.empty() ? "" : ", ", volume_words(volume), volume.lba);
        end = volume.lba + volume.sectors;
    }
    for (const std::size_t number : {1U, 2U}) {
        if (number == 2 && (core_apart || first < 4096)) continue;
        out.push_back(
            {fmt::format("write the GPT of d{} anew from the volumes on it, numbered from {}: {}{}", disk.number,
                         number, core_apart ? fmt::format("GRUB's core at {}, ", *core) : "", names),
             "partitions without a file system are not in it, and the identifiers of all are new ones",
             [disk, listed, number](Workshop& shop) { return create_gpt(shop, disk, listed, number - 1); },
             static_cast<int>(20 + number)});
    }
}

// --- logical partitions ----------------------------------------------------------------------------------------------

/// An extended partition that says it is something else: its first sector is a table of one entry without code.
void extended_type(const Disk& disk, const Partition& p, std::vector<Idea>& out) {
    if (p.logical || p.extended() || !p.type_guid.empty() || !holds_nothing_known(disk, p)) return;
    const auto table = disk.source->load<ondisk::Mbr>(p.first_lba * sector);
    if (!table || table->signature != 0xAA55 || table->entries[0].type == 0 || table->entries[0].first_lba == 0 ||
        table->entries[0].first_lba >= p.sectors || !holds_only(table->code, 0))
        return;
    out.push_back({fmt::format("set the type of d{}p{} to 05 (extended): its first sector is the table of logical "
                               "partitions (its type is {:02x})",
                               disk.number, p.number, p.type),
                   {},
                   [disk, p](Workshop& shop) {
                       static constexpr std::uint8_t extended[] = {0x05};
                       return shop.write(disk.number, p.entry_offset + offsetof(ondisk::MbrEntry, type), extended);
                   },
                   2});
}

struct Chain {
    std::vector<std::uint64_t> tables;      ///< sectors of the tables that are reached
    std::optional<std::uint64_t> unmarked;  ///< the next one, which lacks 55AA
};
Chain chain_of(const Disk& disk, const Partition& extended) {
    Chain out;
    std::uint64_t at = extended.first_lba;
    while (out.tables.size() < 128) {
        const auto table = disk.source->load<ondisk::Mbr>(at * sector);
        if (!table || std::ranges::find(out.tables, at) != out.tables.end()) break;
        if (table->signature != 0xAA55) {
            if (table->entries[0].type != 0) out.unmarked = at;
            break;
        }
        out.tables.push_back(at);
        const auto& link = table->entries[1];
        if (link.type == 0 || link.first_lba == 0 || link.first_lba >= extended.sectors) break;
        at = extended.first_lba + link.first_lba;
    }
    return out;
}

void logical(const Disk& disk, const Partition& extended, const std::vector<UnlistedVolume>& unlisted,
             std::vector<Idea>& out) {
    const Chain chain = chain_of(disk, extended);
    const int number = disk.number;
    if (chain.unmarked) {
        const std::uint64_t at = *chain.unmarked * sector + 510;
        out.push_back({fmt::format("write the mark 55 AA at the end of the table of a logical partition (sector {} of "
                                   "d{})",
                                   *chain.unmarked, number),
                       {},
                       [number, at](Workshop& shop) {
                           static constexpr std::uint8_t mark[] = {0x55, 0xAA};
                           return shop.write(number, at, mark);
                       },
                       0});
    }
    for (const auto& volume : unlisted) {
        if (volume.lba <= extended.first_lba || volume.lba >= extended.first_lba + extended.sectors) continue;
        for (const std::uint64_t before : {2048U, 63U, 1U}) {
            const std::uint64_t at = volume.lba - before;
            const auto table = disk.source->load<ondisk::Mbr>(at * sector);
            if (!table || table->signature != 0xAA55) continue;
            const bool reached = std::ranges::find(chain.tables, at) != chain.tables.end();
            if (reached && table->entries[0].type == 0)
                out.push_back({fmt::format("put the {} at sector {} of d{} back into its table of logical partitions",
                                           volume_words(volume), volume.lba, number),
                               {},
                               [number, at, before, volume](Workshop& shop) {
                                   return write_entry(shop, number, at * sector + offsetof(ondisk::Mbr, entries),
                                                      {0, mbr_type(volume.info), static_cast<std::uint32_t>(before),
                                                       static_cast<std::uint32_t>(volume.sectors)},
                                                      at);
                               },
                               5});
            if (!reached && table->entries[0].first_lba == before && !chain.tables.empty()) {
                const std::uint64_t from = chain.tables.back();
                const std::uint64_t base = extended.first_lba;
                out.push_back(
                    {fmt::format("let the table of logical partitions at sector {} of d{} go on to the one at "
                                 "sector {}, which describes the {} behind it",
                                 from, number, at, volume_words(volume)),
                     {},
                     [number, from, at, base, before, volume](Workshop& shop) {
                         return write_entry(shop, number,
                                            from * sector + offsetof(ondisk::Mbr, entries) + sizeof(ondisk::MbrEntry),
                                            {0, 0x05, static_cast<std::uint32_t>(at - base),
                                             static_cast<std::uint32_t>(before + volume.sectors)},
                                            base);
                     },
                     5});
            }
        }
    }
}

}  // namespace

void propose_partitions(const Case& stopped, std::vector<Idea>& out) {
    for (const auto& disk : stopped.machine.disks) {
        if (disk.optical || disk.problem || disk.table.sector_size != sector) continue;
        const auto unlisted = find_unlisted(disk);
        lost_gpt(disk, unlisted, out);
        for (const auto& p : disk.table.partitions) {
            lengthen(disk, p, out);
            extended_type(disk, p, out);
            if (p.extended()) logical(disk, p, unlisted, out);
        }
        for (const auto& volume : unlisted) {
            for (const auto& p : disk.table.partitions)
                if (!p.extended() && holds_nothing_known(disk, p)) move_entry(disk, p, volume, out);
            const bool inside = std::ranges::any_of(disk.table.partitions, [&](const Partition& p) {
                return volume.lba < p.first_lba + p.sectors && p.first_lba < volume.lba + volume.sectors;
            });
            if (inside) continue;
            if (disk.table.kind == TableKind::Gpt && disk.table.primary_sound) add_to_gpt(disk, volume, out);
            else if (disk.table.kind == TableKind::Gpt) continue;
            else add_primary(disk, volume, out);
        }
    }
}

}  // namespace herberge::remedy
