// SPDX-License-Identifier: MIT
// Partition tables: what their copies, their own rules, and the volumes on the disk can put right.
#include <fmt/format.h>
#include <algorithm>

#include "ondisk/gpt.hpp"
#include "ondisk/mbr.hpp"
#include "remedy/edits.hpp"
#include "remedy/remedy.hpp"
#include "remedy/sector.hpp"
#include "remedy/tables.hpp"

namespace herberge::remedy {

namespace {

constexpr std::uint64_t signature_at = 510;

std::uint64_t entry_at(int slot) {
    return offsetof(ondisk::Mbr, entries) + static_cast<std::uint64_t>(slot) * sizeof(ondisk::MbrEntry);
}

void signature(const Disk& disk, const ondisk::Mbr& mbr, std::vector<Idea>& out) {
    if (mbr.signature == 0xAA55) return;
    const int number = disk.number;
    out.push_back({fmt::format("write the mark 55 AA at the end of d{}'s first sector", number),
                   {},
                   [number](Workshop& shop) {
                       static constexpr std::uint8_t mark[] = {0x55, 0xAA};
                       return shop.write(number, signature_at, mark);
                   },
                   0});
}

void protective_entry(const Disk& disk, const ondisk::Mbr& mbr, std::vector<Idea>& out) {
    const auto start = disk.source->bytes(disk.table.sector_size, 8);
    if (!start || !std::equal(start->begin(), start->end(), "EFI PART")) return;
    int slot = 0;
    bool used = false;
    for (int i = 3; i >= 0; --i) {
        const auto& entry = mbr.entries[static_cast<std::size_t>(i)];
        if (entry.type == 0xEE) slot = i;
        used = used || entry.type != 0;
    }
    const auto& there = mbr.entries[static_cast<std::size_t>(slot)];
    if (used && there.type != 0xEE) return;  // an MBR disk with a leftover of a GPT
    if (there.type == 0xEE && there.first_lba == 1 && (there.status & 0x7FU) == 0 && mbr.signature == 0xAA55) return;
    const int number = disk.number;
    const auto sectors = static_cast<std::uint32_t>(
        std::min<std::uint64_t>(disk.source->size() / disk.table.sector_size - 1, 0xFFFFFFFFU));
    out.push_back({fmt::format("write the protective entry (type EE from sector 1 on) into d{}'s first sector", number),
                   {},
                   [number, slot, sectors](Workshop& shop) -> Result<void> {
                       static constexpr std::uint8_t mark[] = {0x55, 0xAA};
                       if (auto done = shop.write(number, signature_at, mark); !done) return done;
                       return write_entry(shop, number, entry_at(slot), {0, 0xEE, 1, sectors});
                   },
                   0});
}

void gpt_copies(const Disk& disk, std::vector<Idea>& out) {
    if (disk.table.kind != TableKind::Gpt || disk.table.primary_sound == disk.table.backup_sound) return;
    const bool primary = !disk.table.primary_sound;
    out.push_back({fmt::format("write the {} GPT of d{} anew from its {} copy", primary ? "primary" : "backup",
                               disk.number, primary ? "backup" : "primary"),
                   {},
                   [disk, primary](Workshop& shop) { return restore_gpt(shop, disk, primary); },
                   0});
}

void status_bytes(const Disk& disk, const ondisk::Mbr& mbr, std::vector<Idea>& out) {
    for (int slot = 0; slot < 4; ++slot) {
        const std::uint8_t status = mbr.entries[static_cast<std::size_t>(slot)].status;
        if ((status & 0x7FU) == 0) continue;
        const int number = disk.number;
        out.push_back({fmt::format("set the status byte of entry {} of d{}'s table to 00 (it is {:02x})", slot + 1,
                                   number, status),
                       {},
                       [number, slot](Workshop& shop) {
                           static constexpr std::uint8_t inactive[] = {0};
                           return shop.write(number, entry_at(slot), inactive);
                       },
                       1});
    }
}

void active_flag(const Case& stopped, const Disk& disk, std::vector<Idea>& out) {
    if (disk.table.kind != TableKind::Mbr || stopped.verdict.firmware != FirmwareKind::Bios ||
        stopped.rung.stage > Stage::Loader)
        return;
    for (const auto& p : disk.table.partitions) {
        if (p.logical || p.extended() || (p.active && disk.table.active_count() == 1)) continue;
        const bool starts_code = [&] {
            const auto mark = disk.source->bytes(p.first_lba * sector + signature_at, 2);
            return mark && (*mark)[0] == 0x55 && (*mark)[1] == 0xAA;
        }();
        if (!starts_code) continue;
        out.push_back({fmt::format("make d{}p{} the only active partition of its disk", disk.number, p.number),
                       "what was active before is not started by itself any more",
                       [disk, p](Workshop& shop) { return make_active(shop, disk, p); }, 10});
    }
}

/// The attribute by which UEFI firmware passes a partition over (UEFI 2.10, table 5.8, bit 1).
void ignored_partition(const Disk& disk, std::vector<Idea>& out) {
    if (disk.table.kind != TableKind::Gpt) return;
    for (const auto& p : disk.table.partitions) {
        if ((p.attributes & 2U) == 0) continue;
        const auto slot = static_cast<std::size_t>(p.slot);
        out.push_back({fmt::format("clear the attribute of d{}p{} by which firmware ignores it", disk.number, p.number),
                       {},
                       [disk, slot](Workshop& shop) {
                           return rewrite_gpt(shop, disk, [slot](std::span<std::uint8_t> entries, std::size_t size) {
                               entries[slot * size + offsetof(ondisk::GptEntry, attributes)] &= 0xFDU;
                           });
                       },
                       0});
    }
}

}  // namespace

void propose_tables(const Case& stopped, std::vector<Idea>& out) {
    for (const auto& disk : stopped.machine.disks) {
        if (disk.optical || disk.problem) continue;
        const auto mbr = disk.source->load<ondisk::Mbr>(0);
        if (!mbr) continue;
        signature(disk, *mbr, out);
        protective_entry(disk, *mbr, out);
        gpt_copies(disk, out);
        if (disk.table.kind != TableKind::None) status_bytes(disk, *mbr, out);
        ignored_partition(disk, out);
        active_flag(stopped, disk, out);
    }
}

}  // namespace herberge::remedy
