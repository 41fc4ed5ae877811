// SPDX-License-Identifier: MIT
// GUID partition tables, judged as Linux (block/partitions/efi.c) and GRUB (partmap/gpt.c) judge them.
#include "storage/gpt.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "bytes/text16.hpp"
#include "bytes/uniform.hpp"
#include "ondisk/gpt.hpp"
#include "ondisk/mbr.hpp"

namespace herberge {

namespace {

constexpr std::uint32_t most_entries = 16384;
constexpr std::string_view mark = "EFI PART";

struct TypeGuid {
    std::string_view guid;
    std::string_view name;
};
constexpr TypeGuid type_guids[] = {
    {"c12a7328-f81f-11d2-ba4b-00a0c93ec93b", "EFI system"},
    {"21686148-6449-6e6f-744e-656564454649", "BIOS boot"},
    {"0fc63daf-8483-4772-8e79-3d69d8477de4", "Linux data"},
    {"4f68bce3-e8cd-4db1-96e7-fbcaf984b709", "Linux root (x86-64)"},
    {"0657fd6d-a4ab-43c4-84e5-0933c84b4f4f", "Linux swap"},
    {"bc13c2ff-59e6-4262-a352-b275fd6f7172", "Linux extended boot"},
    {"933ac7e1-2eb4-4f13-b844-0e14e2aef915", "Linux home"},
    {"a19d880f-05fc-4d3b-a006-743f0f84911e", "Linux RAID"},
    {"e6d6d379-f507-44c2-a23c-238f2a3df928", "Linux LVM"},
    {"ebd0a0a2-b9e5-4433-87c0-68b6b72699c7", "basic data"},
    {"e3c9e316-0b5c-4db8-817d-f92df00215ae", "Microsoft reserved"},
    {"de94bba4-06d1-4d40-a16a-bfd50179d6ac", "Windows recovery"},
};

std::string name_of(const ondisk::GptEntry& entry) { return printable(utf8_from(units_from(entry.name, false, true))); }

/// One of the two copies.
struct Copy {
    std::uint64_t lba = 0;
    ondisk::GptHeader header{};
    bool unread = false;        ///< the medium gives no header
    bool marked = false;        ///< carries "EFI PART"
    bool header_good = false;   ///< checksum, own place
    bool entries_good = false;  ///< the array's checksum
    std::vector<std::uint8_t> entries;
};

Copy read_copy(const ByteSource& disk, std::uint64_t lba, std::uint64_t sector) {
    Copy out;
    out.lba = lba;
    const auto raw = disk.bytes(lba * sector, sector);
    out.unread = !raw && raw.error().unreadable();
    if (!raw) return out;
    out.header = ondisk::from_bytes<ondisk::GptHeader>(*raw);
    out.marked = std::equal(mark.begin(), mark.end(), out.header.signature.begin());
    if (!out.marked) return out;
    const std::uint32_t size = out.header.header_size;
    if (size >= sizeof(out.header) && size <= sector) {
        auto covered = std::vector<std::uint8_t>(raw->begin(), raw->begin() + static_cast<std::ptrdiff_t>(size));
        std::fill_n(covered.begin() + offsetof(ondisk::GptHeader, header_crc), 4, std::uint8_t{0});
        out.header_good = crc32(0, covered) == out.header.header_crc && out.header.my_lba == lba;
    }
    const std::uint32_t entry_size = out.header.entry_size;
    if (entry_size < sizeof(ondisk::GptEntry) || entry_size > 4096 || out.header.entries > most_entries ||
        out.header.entries_lba > disk.size() / sector)
        return out;
    auto entries = disk.bytes(out.header.entries_lba * sector, std::uint64_t{entry_size} * out.header.entries);
    if (!entries) return out;
    out.entries = std::move(*entries);
    out.entries_good = crc32(0, out.entries) == out.header.entries_crc;
    return out;
}

void take_entries(const Copy& copy, std::uint64_t disk_sectors, PartitionTable& table, const ByteSource& disk) {
    const std::uint64_t sector = table.sector_size;
    table.partitions.clear();
    const std::size_t entry_size = copy.header.entry_size;
    for (std::uint32_t i = 0; i < copy.header.entries && (i + 1) * entry_size <= copy.entries.size(); ++i) {
        const auto entry = ondisk::from_bytes<ondisk::GptEntry>(copy.entries, i * entry_size);
        if (holds_only(entry.type, 0)) continue;
        const std::uint64_t first = entry.first_lba;
        const std::uint64_t last = entry.last_lba;
        const std::uint64_t at = copy.header.entries_lba * sector + i * entry_size;
        if (first > last || last >= disk_sectors) {
            table.findings.push_back(
                make_finding(Code::GptEntryPastEnd, fmt::format("partition {} of the GPT lies outside the disk", i + 1),
                             {evidence_bytes(disk, at + 32, 16, fmt::format("sectors below {}", disk_sectors),
                                             fmt::format("{} to {}", first, last))}));
            continue;  // Linux skips it (block/partitions/efi.c, is_pte_valid)
        }
        Partition p;
        p.number = static_cast<int>(i) + 1;
        p.slot = static_cast<int>(i);
        p.entry_offset = at;
        p.first_lba = first;
        p.sectors = last - first + 1;
        p.type_guid = guid_text(entry.type);
        p.partuuid = guid_text(entry.id);
        p.name = name_of(entry);
        p.attributes = entry.attributes;
        table.partitions.push_back(std::move(p));
        if (table.partitions.size() >= 256) break;
    }
}

}  // namespace

std::string_view gpt_type_name(std::string_view guid) {
    const auto* found = std::ranges::find(type_guids, guid, &TypeGuid::guid);
    return found != std::end(type_guids) ? found->name : "unknown type";
}

void read_gpt(const ByteSource& disk, PartitionTable& table) {
    // Disks with 4096-byte logical sectors keep the header at byte 4096.
    for (const unsigned size : {512U, 4096U}) {
        const auto start = disk.bytes(size, mark.size());
        if (!start || !std::equal(mark.begin(), mark.end(), start->begin())) continue;
        table.sector_size = size;
        break;
    }
    const std::uint64_t sector = table.sector_size;
    const std::uint64_t sectors = disk.size() / sector;
    if (sectors < 4) return;
    const Copy primary = read_copy(disk, 1, sector);
    if (!table.protective) {
        if (primary.marked)
            table.findings.push_back(make_finding(
                Code::GptProtectiveMissing,
                "there is a GPT, but sector 0 has no protective entry: loaders and kernel do not look for it",
                {evidence_bytes(disk, 446, 64, "an entry of type EE", "none")}));
        return;
    }
    const bool told = primary.header_good && primary.header.alternate_lba > 1 && primary.header.alternate_lba < sectors;
    const Copy backup =
        read_copy(disk, told ? static_cast<std::uint64_t>(primary.header.alternate_lba) : sectors - 1, sector);
    auto note = [&](Code code, std::string text, std::uint64_t lba, std::string expected, std::string found) {
        table.findings.push_back(make_finding(
            code, std::move(text), {evidence_bytes(disk, lba * sector, 92, std::move(expected), std::move(found))}));
    };
    if (!primary.marked && !backup.marked) {
        note(Code::GptHeaderMissing,
             fmt::format("the protective entry promises a GPT, and {}",
                         primary.unread || backup.unread ? "its headers cannot be read" : "neither copy is there"),
             1, "EFI PART", primary.unread ? "unreadable" : "something else");
        table.kind = TableKind::Gpt;
        table.partitions.clear();
        return;
    }
    table.kind = TableKind::Gpt;
    if (!primary.marked)
        note(Code::GptHeaderMissing,
             fmt::format("the primary GPT header {}; the backup is there",
                         primary.unread ? "cannot be read" : "is gone"),
             1, "EFI PART", primary.unread ? "unreadable" : "something else");
    else if (!primary.header_good)
        note(Code::GptHeaderCrc, "the primary GPT header fails its checksum or names another place", 1,
             "a header for sector 1 with its CRC-32", "not so");
    else if (!primary.entries_good)
        note(Code::GptArrayCrc, "the primary GPT's array of entries fails its checksum", 1, "its CRC-32", "another");
    if (!backup.marked)
        note(Code::GptBackupMissing,
             backup.unread ? "the backup GPT header cannot be read" : "the backup GPT header is not where it should be",
             backup.lba, "EFI PART", backup.unread ? "unreadable" : "something else");
    else if (!backup.header_good || !backup.entries_good)
        note(Code::GptBackupBad, "the backup GPT fails a checksum", backup.lba, "matching CRC-32s", "not so");
    else if (backup.lba != sectors - 1)
        note(Code::GptBackupNotAtEnd, "the backup GPT is not at the end of the disk: the disk has grown since",
             backup.lba, fmt::format("sector {}", sectors - 1), fmt::format("sector {}", backup.lba));
    // A hybrid MBR has further entries beside the protective one; who reads the GPT does not see them.
    for (const auto& p : table.partitions)
        if (p.type != 0xEE) {
            table.findings.push_back(make_finding(Code::GptHybrid,
                                                  fmt::format("the MBR has entries beside the protective one (hybrid): "
                                                              "entry {} is of type {:02x}, from sector {}",
                                                              p.slot + 1, p.type, p.first_lba),
                                                  {evidence_bytes(disk, p.entry_offset, 16)}));
            break;
        }
    table.primary_marked = primary.marked;
    table.primary_sound = primary.header_good && primary.entries_good;
    table.backup_sound = backup.header_good && backup.entries_good;
    const bool use_primary = primary.marked && (primary.entries_good || !backup.entries_good);
    take_entries(use_primary ? primary : backup, sectors, table, disk);
    if (!use_primary && primary.marked)
        for (const auto& p : table.partitions) {
            // As GRUB reads it, whatever the count and the size of entries are: one at a time.
            const auto at =
                primary.header.entries_lba * sector + static_cast<std::uint64_t>(p.slot) * primary.header.entry_size;
            const bool counted = static_cast<std::uint32_t>(p.slot) < primary.header.entries;
            const auto entry =
                counted ? disk.load<ondisk::GptEntry>(at) : fail(ErrorKind::NotFound, "none", disk.place());
            if (!entry || holds_only(entry->type, 0) || entry->first_lba != p.first_lba)
                table.not_in_primary.push_back(p.number);
        }
    table.disk_guid = guid_text(use_primary ? primary.header.disk_guid : backup.header.disk_guid);
}

namespace {

/// What firmware finds in sector 0 before it looks for a GPT.
bool protective_for_firmware(const ByteSource& disk) {
    const auto mbr = disk.load<ondisk::Mbr>(0);
    return mbr && std::ranges::any_of(mbr->entries,
                                      [](const ondisk::MbrEntry& e) { return e.type == 0xEE && e.first_lba == 1; });
}

unsigned sector_size_of(const ByteSource& disk) {
    const auto start =
        disk.bytes(4096, std::min<std::uint64_t>(mark.size(), disk.size() > 4096 ? disk.size() - 4096 : 0));
    const auto usual = disk.bytes(512, mark.size());
    const auto is_mark = [](const Result<std::vector<std::uint8_t>>& bytes) {
        return bytes && bytes->size() == mark.size() && std::equal(mark.begin(), mark.end(), bytes->begin());
    };
    return !is_mark(usual) && is_mark(start) ? 4096 : 512;
}

}  // namespace

std::optional<PartitionTable> read_gpt_as_uefi(const ByteSource& disk, std::vector<Finding>& findings) {
    const std::uint64_t sector = sector_size_of(disk);
    const std::uint64_t sectors = disk.size() / sector;
    if (sectors < 4) return std::nullopt;
    const Copy primary = read_copy(disk, 1, sector);
    const Copy backup = read_copy(disk, sectors - 1, sector);
    if (!protective_for_firmware(disk)) {
        if (primary.marked || backup.marked)
            findings.push_back(
                make_finding(Code::UefiNoProtectiveEntry,
                             disk.bytes(0, 512) ? "sector 0 has no protective entry (type EE from sector 1 on): the "
                                                  "firmware does not look for the GPT"
                                                : "sector 0 cannot be read: the firmware does not look for the GPT",
                             {evidence_bytes(disk, 446, 64, "an entry of type EE that starts at sector 1", "none")}));
        return std::nullopt;
    }
    const bool first = primary.header_good && primary.entries_good;
    const bool second = backup.header_good && backup.entries_good;
    if (!first && !second) {
        findings.push_back(make_finding(Code::UefiGptRefused,
                                        "neither copy of the GPT passes its checksums: the firmware sees no partitions",
                                        {evidence_bytes(disk, sector, 92)}));
        return std::nullopt;
    }
    PartitionTable out;
    out.kind = TableKind::Gpt;
    out.sector_size = static_cast<unsigned>(sector);
    out.protective = true;
    take_entries(first ? primary : backup, sectors, out, disk);
    out.disk_guid = guid_text(first ? primary.header.disk_guid : backup.header.disk_guid);
    return out;
}

Source mend_gpt_primary(const Source& disk) {
    if (!protective_for_firmware(*disk)) return nullptr;
    const std::uint64_t sector = sector_size_of(*disk);
    const std::uint64_t sectors = disk->size() / sector;
    if (sectors < 70) return nullptr;
    const Copy primary = read_copy(*disk, 1, sector);
    const Copy backup = read_copy(*disk, sectors - 1, sector);
    if ((primary.header_good && primary.entries_good) || !backup.header_good || !backup.entries_good) return nullptr;
    ondisk::GptHeader header = backup.header;
    header.my_lba = 1;
    header.alternate_lba = sectors - 1;
    header.entries_lba = 2;
    header.header_crc = 0;
    auto raw = disk->bytes((sectors - 1) * sector, sector);
    if (!raw || header.header_size < sizeof(header) || header.header_size > sector) return nullptr;
    std::memcpy(raw->data(), &header, sizeof(header));
    header.header_crc = crc32(0, std::span(*raw).first(header.header_size));
    std::memcpy(raw->data(), &header, sizeof(header));
    auto mended = overlay(disk);
    if (!mended->write(sector, *raw) || !mended->write(2 * sector, backup.entries)) return nullptr;
    return mended;
}

}  // namespace herberge
