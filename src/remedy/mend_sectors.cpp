// SPDX-License-Identifier: MIT
// Volume boot sectors: their backup copies, and the fields that name their place.
#include <fmt/format.h>
#include <algorithm>

#include "files/ext.hpp"
#include "ondisk/ext.hpp"
#include "ondisk/fat.hpp"
#include "ondisk/marks.hpp"
#include "remedy/remedy.hpp"
#include "remedy/sector.hpp"

namespace herberge::remedy {

namespace {

/// What the sector at `at` says of itself, as a boot sector of NTFS, exFAT or FAT32 in a volume of `size` bytes.
std::string_view boot_sector_kind(std::span<const std::uint8_t> bytes, std::uint64_t size) {
    if (bytes.size() < sector || bytes[510] != 0x55 || bytes[511] != 0xAA) return {};
    const auto ntfs = ondisk::from_bytes<ondisk::NtfsBoot>(bytes);
    if (std::equal(ntfs.oem_name.begin(), ntfs.oem_name.end(), "NTFS    ") && ntfs.bytes_per_sector >= 512 &&
        ntfs.sectors * ntfs.bytes_per_sector <= size && ntfs.sectors * ntfs.bytes_per_sector + 65536 > size)
        return "NTFS";
    if (std::equal(bytes.begin() + 3, bytes.begin() + 11, "EXFAT   ")) return "exFAT";
    const auto fat = ondisk::from_bytes<ondisk::FatBoot32>(bytes);
    if (fat.common.fat_sectors_16 == 0 && fat.fat32.fat_sectors != 0 && fat.common.fats != 0 &&
        fat.common.bytes_per_sector >= 512 && fat.common.bytes_per_sector <= 4096)
        return "FAT32";
    return {};
}

/// The backups that may lie in a volume: NTFS keeps one in its last sector, FAT32 in sector 6, exFAT in sector 12.
void backups(const Disk& disk, const Partition& p, std::vector<Idea>& out) {
    const std::uint64_t start = p.first_lba * disk.table.sector_size;
    const std::uint64_t size = p.sectors * disk.table.sector_size;
    if (size < 64 * sector) return;
    const auto first = disk.source->bytes(start, sector);
    const struct {
        std::uint64_t at, length;
        std::string_view kind;
    } places[] = {
        {size - sector, sector, "NTFS"}, {6 * sector, 3 * sector, "FAT32"}, {12 * sector, 12 * sector, "exFAT"}};
    for (const auto& place : places) {
        const auto copy = disk.source->bytes(start + place.at, place.length);
        if (!copy || boot_sector_kind(*copy, size) != place.kind) continue;
        if (first && std::equal(first->begin(), first->end(), copy->begin())) continue;
        const int number = disk.number;
        out.push_back(
            {fmt::format("restore the boot sector of d{}p{} from its own copy at byte {} of the partition ({})", number,
                         p.number, place.at, place.kind),
             "a boot sector that somebody changed on purpose since is replaced",
             [number, start, copy = *copy](Workshop& shop) { return shop.write(number, start, copy); }, 0});
    }
}

/// Boot code reads further sectors counted from the disk's start: the number of sectors before the volume must be
/// right.
void hidden_sectors(const Disk& disk, const Partition& p, std::vector<Idea>& out) {
    const std::uint64_t start = p.first_lba * disk.table.sector_size;
    const auto boot = disk.source->load<ondisk::FatCommon>(start);
    if (!boot || p.first_lba > 0xFFFFFFFFU || boot->hidden_sectors == p.first_lba) return;
    if (boot->bytes_per_sector != 512 || (boot->jump[0] != 0xEB && boot->jump[0] != 0xE9)) return;
    const int number = disk.number;
    const ondisk::little_uint32_t hidden(static_cast<std::uint32_t>(p.first_lba));
    out.push_back({fmt::format("let the boot sector of d{}p{} say that {} sectors lie before it (it says {})", number,
                               p.number, p.first_lba, static_cast<std::uint32_t>(boot->hidden_sectors)),
                   {},
                   [number, start, hidden](Workshop& shop) {
                       return shop.write(number, start + offsetof(ondisk::FatCommon, hidden_sectors),
                                         {reinterpret_cast<const std::uint8_t*>(&hidden), sizeof(hidden)});
                   },
                   1});
}

/// A FAT whose first table is damaged while the second is whole.
void fat_tables(const Disk& disk, const Partition& p, std::vector<Idea>& out) {
    const std::uint64_t start = p.first_lba * disk.table.sector_size;
    const auto boot = disk.source->load<ondisk::FatBoot32>(start);
    if (!boot || boot->common.fats < 2 || boot->common.bytes_per_sector != 512 || boot->common.reserved_sectors == 0)
        return;
    const std::uint64_t length =
        std::uint64_t{boot->common.fat_sectors_16 != 0 ? std::uint32_t{boot->common.fat_sectors_16}
                                                       : std::uint32_t{boot->fat32.fat_sectors}} *
        sector;
    constexpr std::uint64_t most = std::uint64_t{32} << 20U;
    if (length == 0 || length > most) return;
    const std::uint64_t at = start + std::uint64_t{boot->common.reserved_sectors} * sector;
    const auto first = disk.source->bytes(at, length);
    const auto second = disk.source->bytes(at + length, length);
    if (!second || (*second)[0] != boot->common.media || (first && *first == *second)) return;
    const int number = disk.number;
    out.push_back({fmt::format("write the first allocation table of d{}p{} anew from the second", number, p.number),
                   "what only the first one knew is lost",
                   [number, at, table = *second](Workshop& shop) { return shop.write(number, at, table); }, 2});
}

/// An ext whose superblock is lost while one of its backups is intact.
void ext_superblock(const Disk& disk, const Partition& p, std::vector<Idea>& out) {
    const std::uint64_t start = p.first_lba * disk.table.sector_size;
    const auto volume = slice(disk.source, start, p.sectors * disk.table.sector_size, disk.source->place());
    if (recognise_volume(*volume).known()) return;
    const auto backup = find_ext_backup(*volume);
    auto super = backup ? volume->load<ondisk::ExtSuper>(backup->offset) : fail(ErrorKind::NotFound, "none");
    if (!super) return;
    super->block_group = 0;
    constexpr std::uint32_t metadata_checksums = 0x400;
    const std::span<const std::uint8_t> bytes(reinterpret_cast<const std::uint8_t*>(&*super), sizeof(*super));
    if ((super->feature_ro_compat & metadata_checksums) != 0)
        super->checksum = crc32c(0xFFFFFFFFU, bytes.first(offsetof(ondisk::ExtSuper, checksum)));
    const int number = disk.number;
    out.push_back({fmt::format("restore the superblock of d{}p{} from its backup at byte {} of the partition", number,
                               p.number, backup->offset),
                   "the file system should be checked afterwards: its counters are those of the backup",
                   [number, at = start + 1024, copy = std::vector<std::uint8_t>(bytes.begin(), bytes.end())](
                       Workshop& shop) { return shop.write(number, at, copy); },
                   2});
}

}  // namespace

void propose_volume_sectors(const Case& stopped, std::vector<Idea>& out) {
    for (const auto& disk : stopped.machine.disks) {
        if (disk.optical || disk.problem) continue;
        for (const auto& p : disk.table.partitions) {
            if (p.extended()) continue;
            backups(disk, p, out);
            if (stopped.verdict.firmware == FirmwareKind::Bios) hidden_sectors(disk, p, out);
            fat_tables(disk, p, out);
            ext_superblock(disk, p, out);
        }
    }
}

}  // namespace herberge::remedy
