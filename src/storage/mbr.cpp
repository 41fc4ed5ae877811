// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>

#include <herberge/partition.hpp>

#include "bytes/uniform.hpp"
#include "ondisk/mbr.hpp"
#include "storage/gpt.hpp"

namespace herberge {

std::string ChsAddress::text() const { return fmt::format("{}/{}/{}", cylinder, head, sector); }

namespace {

struct TypeName {
    std::uint8_t type;
    std::string_view name;
};

constexpr TypeName type_names[] = {
    {0x00, "unused"},
    {0x01, "FAT12"},
    {0x04, "FAT16 below 32 MiB"},
    {0x05, "extended (CHS)"},
    {0x06, "FAT16"},
    {0x07, "NTFS, exFAT or HPFS"},
    {0x0B, "FAT32 (CHS)"},
    {0x0C, "FAT32 (LBA)"},
    {0x0E, "FAT16 (LBA)"},
    {0x0F, "extended (LBA)"},
    {0x11, "hidden FAT12"},
    {0x14, "hidden FAT16 below 32 MiB"},
    {0x16, "hidden FAT16"},
    {0x17, "hidden NTFS, exFAT or HPFS"},
    {0x1B, "hidden FAT32 (CHS)"},
    {0x1C, "hidden FAT32 (LBA)"},
    {0x1E, "hidden FAT16 (LBA)"},
    {0x27, "Windows recovery (hidden NTFS)"},
    {0x42, "Windows dynamic volume"},
    {0x82, "Linux swap"},
    {0x83, "Linux"},
    {0x85, "Linux extended"},
    {0x8E, "Linux LVM"},
    {0xA5, "FreeBSD"},
    {0xA6, "OpenBSD"},
    {0xA9, "NetBSD"},
    {0xAF, "HFS or HFS+"},
    {0xBF, "Solaris"},
    {0xDA, "data without a file system"},
    {0xEA, "Boot Loader Specification boot volume"},
    {0xE8, "LUKS"},
    {0xEE, "GPT protective"},
    {0xEF, "EFI system"},
    {0xFD, "Linux RAID, auto-detected"},
};

ChsAddress unpack_chs(const ondisk::Chs& chs) {
    ChsAddress out;
    out.head = chs.head;
    out.sector = chs.sector_and_cylinder_high & 0x3FU;
    out.cylinder = chs.cylinder_low | (static_cast<unsigned>(chs.sector_and_cylinder_high) & 0xC0U) << 2U;
    return out;
}

std::string status_meaning(std::uint8_t status) {
    if (status == 0x80) return "active";
    return status == 0 ? "not active" : "not a valid status: only 00 and 80 are";
}

std::uint64_t entry_offset(int slot) { return offsetof(ondisk::Mbr, entries) + static_cast<std::uint64_t>(slot) * 16U; }

class Check {
public:
    Check(const ByteSource& disk, PartitionTable& table) : disk_(disk), table_(table) {}

    void all() {
        const std::uint64_t disk_sectors = disk_.size() / table_.sector_size;
        for (const auto& p : table_.partitions) {
            if (p.status != 0 && p.status != 0x80)
                add(Code::MbrStatusByte, p, 0, 1,
                    fmt::format("entry {} has the status byte {:02x}", p.number, p.status), "00 or 80",
                    fmt::format("{:02x}", p.status));
            if (p.first_lba >= disk_sectors)
                add(Code::MbrEntryPastEnd, p, 8, 8,
                    fmt::format("partition {} starts past the end of the disk", p.number),
                    fmt::format("a start below sector {}", disk_sectors), fmt::format("sector {}", p.first_lba));
            else if (p.sectors > disk_sectors - p.first_lba)
                add(Code::MbrEntryPastEnd, p, 8, 8, fmt::format("partition {} ends past the end of the disk", p.number),
                    fmt::format("an end at or below sector {}", disk_sectors),
                    fmt::format("sector {}", p.first_lba + p.sectors));
            if (p.first_lba == 0 && p.type != 0xEE)
                add(Code::MbrEntryAtZero, p, 8, 4,
                    fmt::format("partition {} starts at sector 0, on top of the table itself", p.number),
                    "a start of 1 or more", "0");
            chs(p);
        }
        overlaps();
        if (table_.active_count() > 1)
            table_.findings.push_back(make_finding(
                Code::MbrSeveralActive,
                fmt::format("{} partitions are marked active; some boot code refuses that", table_.active_count()),
                {evidence_bytes(disk_, entry_offset(0), 64, "at most one status byte 80",
                                fmt::format("{}", table_.active_count()))}));
    }

    void overlaps() {
        for (std::size_t i = 0; i < table_.partitions.size(); ++i)
            for (std::size_t j = i + 1; j < table_.partitions.size(); ++j) {
                const auto& a = table_.partitions[i];
                const auto& b = table_.partitions[j];
                if (a.first_lba >= b.first_lba + b.sectors || b.first_lba >= a.first_lba + a.sectors) continue;
                // Logical partitions lie inside their extended one by design.
                if ((a.extended() && b.logical) || (b.extended() && a.logical)) continue;
                const std::uint64_t where = b.entry_offset + (table_.kind == TableKind::Gpt ? 32 : 8);
                table_.findings.push_back(make_finding(
                    Code::PartitionsOverlap, fmt::format("partitions {} and {} overlap", a.number, b.number),
                    {evidence_bytes(disk_, where, 8,
                                    fmt::format("no sector of {}..{}", a.first_lba, a.first_lba + a.sectors - 1),
                                    fmt::format("{}..{}", b.first_lba, b.first_lba + b.sectors - 1))}));
                if (table_.findings.size() > 200) return;
            }
    }

private:
    void add(Code code, const Partition& p, std::uint64_t offset, std::uint64_t length, std::string text,
             std::string expected, std::string found) {
        table_.findings.push_back(make_finding(
            code, std::move(text),
            {evidence_bytes(disk_, p.entry_offset + offset, length, std::move(expected), std::move(found))}));
    }

    /// CHS and LBA should name the same sector where CHS can reach it; the usual 255/63 and 16/63 translations count.
    void chs(const Partition& p) {
        const auto& c = p.chs_first;
        if (p.type == 0xEE || p.logical || c.sector == 0 || c.cylinder >= 1023) return;
        const bool agrees =
            std::ranges::any_of(std::initializer_list<unsigned>{255, 240, 128, 64, 32, 16},
                                [&](unsigned heads) {
                                    return (std::uint64_t{c.cylinder} * heads + c.head) * 63 + c.sector - 1 ==
                                           p.first_lba;
                                }) ||
            (std::uint64_t{c.cylinder} * 64 + c.head) * 32 + c.sector - 1 == p.first_lba;
        if (!agrees)
            add(Code::MbrChsDiffers, p, 1, 3,
                fmt::format("the CHS start of partition {} does not match its LBA start in any usual geometry",
                            p.number),
                fmt::format("LBA {}", p.first_lba), "C/H/S " + c.text());
    }

    const ByteSource& disk_;
    PartitionTable& table_;
};

}  // namespace

std::string_view mbr_type_name(std::uint8_t type) {
    const auto* found = std::ranges::find(type_names, type, &TypeName::type);
    return found != std::end(type_names) ? found->name : "unknown type";
}

std::string Partition::type_name() const {
    return std::string(type_guid.empty() ? mbr_type_name(type) : gpt_type_name(type_guid));
}

const Partition* PartitionTable::find(int number) const {
    const auto found = std::ranges::find(partitions, number, &Partition::number);
    return found != partitions.end() ? &*found : nullptr;
}

const Partition* PartitionTable::first_active() const {
    const auto found = std::ranges::find(partitions, true, &Partition::active);
    return found != partitions.end() ? &*found : nullptr;
}

std::size_t PartitionTable::active_count() const {
    return static_cast<std::size_t>(std::ranges::count(partitions, true, &Partition::active));
}

namespace {

Partition from_entry(const ondisk::MbrEntry& entry, int number, int slot, std::uint64_t base, std::uint64_t at,
                     std::uint32_t signature) {
    Partition p;
    p.number = number;
    p.slot = slot;
    p.first_lba = base + entry.first_lba;
    p.sectors = entry.sectors;
    p.type = entry.type;
    p.status = entry.status;
    p.active = entry.status == 0x80;
    p.chs_first = unpack_chs(entry.first);
    p.chs_last = unpack_chs(entry.last);
    p.partuuid = fmt::format("{:08x}-{:02x}", signature, number);
    p.entry_offset = at;
    return p;
}

bool is_extended(const ondisk::MbrEntry& entry) {
    return entry.type == 0x05 || entry.type == 0x0F || entry.type == 0x85;
}

/// Follows the chain of tables in an extended partition as the kernel does (block/partitions/msdos.c, parse_extended):
/// data entries count from their own table, links from the extended partition's start. What came before a break stays.
void read_logical(const ByteSource& disk, const Partition& extended, PartitionTable& table) {
    constexpr int most_tables = 256;
    std::vector<std::uint64_t> seen;
    std::uint64_t at = extended.first_lba;
    std::uint64_t room = extended.sectors;
    int number = 5;
    for (int tables = 0; tables < most_tables; ++tables) {
        const auto broken = [&](Code code, std::string text, std::string expected, std::string found) {
            table.findings.push_back(make_finding(
                code, std::move(text), {evidence_bytes(disk, at * 512, 512, std::move(expected), std::move(found))}));
        };
        if (std::ranges::find(seen, at) != seen.end()) {
            broken(Code::MbrChainCycle, fmt::format("the chain of logical partitions comes back to sector {}", at),
                   "a table that was not visited before", "one that was");
            return;
        }
        seen.push_back(at);
        const Result<ondisk::Mbr> sector = at < disk.size() / 512
                                               ? disk.load<ondisk::Mbr>(at * 512)
                                               : fail(ErrorKind::OutOfRange, "past the end of the disk");
        if (!sector || sector->signature != 0xAA55) {
            broken(Code::MbrChainBroken,
                   fmt::format("the chain of logical partitions breaks at sector {}: no table there", at),
                   "55 aa at its end", sector ? "something else" : sector.error().what);
            return;
        }
        for (std::size_t slot = 0; slot < 4; ++slot) {
            const auto& entry = sector->entries[slot];
            if (entry.sectors == 0 || is_extended(entry)) continue;
            const std::uint64_t first = at + entry.first_lba;
            const std::uint64_t past = first + entry.sectors;
            // The third and fourth entry are believed only when they lie inside.
            if (slot >= 2 && (std::uint64_t{entry.first_lba} + entry.sectors > room || first < extended.first_lba ||
                              past > extended.first_lba + extended.sectors))
                continue;
            auto p = from_entry(entry, number++, static_cast<int>(slot), at,
                                at * 512 + entry_offset(static_cast<int>(slot)), table.disk_signature);
            p.logical = true;
            table.partitions.push_back(std::move(p));
        }
        const auto next = std::ranges::find_if(
            sector->entries, [](const ondisk::MbrEntry& e) { return e.sectors != 0 && is_extended(e); });
        if (next == sector->entries.end()) return;
        at = extended.first_lba + next->first_lba;
        room = next->sectors;
    }
}

}  // namespace

Result<PartitionTable> read_partition_table(const ByteSource& disk) {
    PartitionTable table;
    if (disk.size() < sizeof(ondisk::Mbr)) {
        table.findings.push_back(make_finding(
            Code::DiskTooSmall, "the image is smaller than one sector",
            {evidence_bytes(disk, 0, disk.size(), "at least 512 bytes", fmt::format("{} bytes", disk.size()))}));
        return table;
    }
    const auto mbr = disk.load<ondisk::Mbr>(0);
    if (!mbr) return tl::unexpected(mbr.error());
    table.boot_signature = mbr->signature == 0xAA55;
    table.disk_signature = mbr->disk_signature;
    bool protective_at_one = false;
    for (int slot = 0; slot < 4; ++slot) {
        const auto& entry = mbr->entries[static_cast<std::size_t>(slot)];
        table.odd_status = table.odd_status || (entry.status & 0x7FU) != 0;
        // Of a protective entry nobody asks for the size (block/partitions/efi.c, pmbr_part_valid).
        table.protective = table.protective || entry.type == 0xEE;
        protective_at_one = protective_at_one || (entry.type == 0xEE && entry.first_lba == 1);
        // The Linux kernel and the loaders skip an entry without sectors, whatever its type says.
        if (entry.sectors == 0 || entry.type == 0) continue;
        auto p = from_entry(entry, slot + 1, slot, 0, entry_offset(slot), table.disk_signature);
        table.partitions.push_back(std::move(p));
    }
    if (!table.boot_signature) {
        table.findings.push_back(make_finding(
            Code::MbrNoSignature, "sector 0 does not end with the boot signature",
            {evidence_bytes(disk, 510, 2, "55 aa",
                            hex(std::array<std::uint8_t, 2>{static_cast<std::uint8_t>(mbr->signature & 0xFFU),
                                                            static_cast<std::uint8_t>(mbr->signature >> 8U)}))}));
        // Without the signature the bytes at 446 are no table for anybody (kernel block/partitions/msdos.c).
        table.partitions.clear();
        return table;
    }
    table.kind = TableKind::Mbr;
    table.protective_at_one = protective_at_one;
    if (table.protective || table.partitions.empty()) read_gpt(disk, table);
    if (table.kind == TableKind::Gpt) {
        Check(disk, table).overlaps();
        return table;
    }
    // One extended partition is what every tool makes; its logical partitions count from 5.
    const auto extended = std::ranges::find_if(table.partitions, [](const Partition& p) { return p.extended(); });
    if (extended != table.partitions.end()) read_logical(disk, Partition(*extended), table);
    Check(disk, table).all();
    return table;
}

std::vector<Stretch> stretches(const PartitionTable& table, std::uint64_t disk_size) {
    std::vector<const Partition*> order;
    for (const auto& p : table.partitions) order.push_back(&p);
    std::ranges::stable_sort(order, {}, [](const Partition* p) { return p->first_lba; });
    std::vector<Stretch> out;
    std::uint64_t at = 0;
    for (const auto* p : order) {
        if (p->first_lba > at) out.push_back({at, p->first_lba - at, 0});
        out.push_back({p->first_lba, p->sectors, p->number});
        at = std::max(at, p->first_lba + p->sectors);
    }
    const std::uint64_t end = disk_size / table.sector_size;
    if (at < end) out.push_back({at, end - at, 0});
    return out;
}

Result<std::vector<Field>> annotate_mbr(const ByteSource& disk) {
    const auto mbr = disk.load<ondisk::Mbr>(0);
    if (!mbr) return tl::unexpected(mbr.error());
    std::vector<Field> fields;
    for (auto& field : ondisk::annotate(*mbr)) {
        const bool in_table = field.name.starts_with("entries[");
        const auto at = (field.offset - offsetof(ondisk::Mbr, entries)) % 16;
        // The three bytes of a CHS address are one thing to a reader, and so is an entry without anything in it.
        const bool continues_chs = in_table && (at == 2 || at == 3 || at == 6 || at == 7);
        const bool continues_unused = in_table && at != 0 && !fields.empty() && fields.back().meaning == "unused entry";
        if (continues_chs || continues_unused) {
            fields.back().size += field.size;
            fields.back().raw.insert(fields.back().raw.end(), field.raw.begin(), field.raw.end());
            continue;
        }
        if (in_table && at == 0) {
            const auto raw = disk.bytes(field.offset, 16);
            if (raw && holds_only(*raw, 0)) {
                field.name.resize(field.name.find('.'));
                field.value = "all zero";
                field.meaning = "unused entry";
            }
        }
        if (in_table && (at == 1 || at == 5)) field.name.resize(field.name.rfind('.'));
        fields.push_back(std::move(field));
    }
    for (auto& field : fields) {
        if (field.meaning == "unused entry") continue;
        if (field.size == 3 && field.name.starts_with("entries[")) {
            field.value = hex(field.raw);
            field.meaning = "C/H/S " + unpack_chs(ondisk::from_bytes<ondisk::Chs>(field.raw)).text();
        }
        const auto within = (field.offset - offsetof(ondisk::Mbr, entries)) % 16;
        const bool in_entry = field.name.starts_with("entries[");
        if (in_entry && within == 0) field.meaning = status_meaning(field.raw[0]);
        if (in_entry && within == 4) field.meaning = mbr_type_name(field.raw[0]);
        if (in_entry && within == 12)
            field.meaning = size_text(ondisk::from_bytes<ondisk::little_uint32_t>(field.raw) * std::uint64_t{512});
        if (field.name == "signature")
            field.meaning =
                mbr->signature == 0xAA55 ? "boot signature present" : "no boot signature: not startable by a BIOS";
        if (field.name == "disk_signature")
            field.meaning =
                fmt::format("PARTUUIDs of this disk begin {:08x}-", static_cast<std::uint32_t>(mbr->disk_signature));
    }
    return fields;
}

}  // namespace herberge
