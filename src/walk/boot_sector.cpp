// SPDX-License-Identifier: MIT
// A volume's boot sector against its partition, its backup and the file system behind it; and what lies in gaps.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/loader.hpp>
#include <herberge/sector.hpp>

#include "artifact/boot_image.hpp"
#include "bytes/uniform.hpp"
#include "firmware/rom.hpp"
#include "ondisk/fat.hpp"
#include "ondisk/marks.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t sector = 512;
constexpr std::uint64_t looked_at = std::uint64_t{1} << 20U;

std::string code_kind(std::span<const std::uint8_t> bytes) {
    if (const auto name = identify_loader(bytes); !name.empty()) return std::string(name);
    if (holds_only(bytes.subspan(90, 420), 0)) return "empty";
    return "code of no loader that is decoded";
}

struct Judge {
    const Disk& disk;
    const Volume& volume;
    std::uint64_t first;  ///< sector of the volume on its disk
    BootSectorCheck out{};

    void note(Code code, std::string text, std::uint64_t offset, std::uint64_t length, std::string expected,
              std::string found) {
        out.findings.push_back(
            make_finding(code, std::move(text),
                         {evidence_bytes(*volume.source, offset, length, std::move(expected), std::move(found))}));
    }
    /// Code that trusts its own field looks in the wrong place; code that takes the partition from the loader does not.
    void hidden(std::uint64_t told) {
        if (volume.partition == 0 || told == first) return;
        note(Code::BootSectorHidden,
             fmt::format("the boot sector of {} says that {} sectors come before it, but it begins at sector {}: code "
                         "that trusts it fails",
                         volume.place, told, first),
             0x1C, 4, fmt::format("{}", first), fmt::format("{}", told));
    }
    void size(std::uint64_t told, std::uint64_t room) {
        if (told <= room) return;
        note(Code::BootSectorSize,
             fmt::format("the boot sector of {} claims {} sectors, its partition has {}", volume.place, told, room),
             0x20, 4, fmt::format("at most {}", room), fmt::format("{}", told));
    }
    void backup(std::uint64_t offset) {
        const auto one = volume.source->bytes(0, sector);
        const auto two = volume.source->bytes(offset, sector);
        if (!one || !two) return;
        out.backup_lba = first + offset / sector;
        if (*one == *two) return;
        out.findings.push_back(make_finding(
            Code::BootSectorBackupDiffers, fmt::format("the boot sector of {} and its backup differ", volume.place),
            {evidence_bytes(*volume.source, 0, sector), evidence_bytes(*volume.source, offset, sector)}));
    }
};

}  // namespace

BootSectorCheck check_boot_sector(const Disk& disk, const Volume& volume) {
    const auto where = volume.source->locate(0, sector);
    Judge judge{disk, volume, where.empty() ? 0 : where.front().offset / sector, {}};
    const auto bytes = volume.source->bytes(0, sector);
    if (!bytes) return judge.out;
    judge.out.code = code_kind(*bytes);
    const std::uint64_t room = volume.source->size() / sector;
    if (volume.as(Observer::Loader).is(Family::Fat)) {
        judge.out.format = volume.as(Observer::Loader).format;
        const auto boot = ondisk::from_bytes<ondisk::FatBoot32>(*bytes);
        judge.hidden(boot.common.hidden_sectors);
        judge.size(volume.as(Observer::Loader).size / sector, room);
        if (volume.as(Observer::Loader).format == Format::Fat32 && boot.fat32.backup_sector != 0 &&
            boot.fat32.backup_sector < 32)
            judge.backup(boot.fat32.backup_sector * sector);
    } else if (volume.info.format == Format::Ntfs || volume.info.format == Format::Bitlocker) {
        judge.out.format = volume.info.format;
        const auto boot = ondisk::from_bytes<ondisk::NtfsBoot>(*bytes);
        judge.hidden(boot.hidden_sectors);
        judge.size(boot.sectors, room);
        if (room > 0) judge.backup((room - 1) * sector);
    }
    return judge.out;
}

namespace {

/// What a board starts from space that no partition covers, and whether one lies over it all the same; empty: nothing
/// of the kind.
std::string board_programs(const Disk& disk, std::uint64_t length) {
    static constexpr std::pair<BoardRom, std::string_view> marks[] = {{BoardRom::Egon, "eGON"},
                                                                      {BoardRom::Rockchip, "ID block"},
                                                                      {BoardRom::Imx, "image vector table"},
                                                                      {BoardRom::Ti, "CHSETTINGS"},
                                                                      {BoardRom::Amlogic, "@AML"}};
    Machine alone;
    alone.disks.push_back(disk);
    std::string out;
    std::uint64_t end = 0;
    for (const auto& board : boards()) {
        const auto* mark = std::ranges::find(marks, board.rom, &std::pair<BoardRom, std::string_view>::first);
        if (mark == std::end(marks)) continue;
        const auto program = search_rom(alone, board).program;
        if (!program || program->refused || program->volume != nullptr || program->at >= length) continue;
        out = fmt::format("a board's first program ({}) from sector {}", mark->second, program->at / sector);
        end = program->at + program->length;
        constexpr std::uint64_t next = std::uint64_t{32} << 10U;
        const std::uint64_t at = program->at + std::max(program->length, next);
        if (const auto image = inspect_legacy_image(*disk.source, at); image && image->whole) {
            const std::uint64_t last = at + LegacyImage::data_at + image->header.size - 1;
            out += fmt::format(", U-Boot from sector {} to {}", at / sector, last / sector);
            end = last + 1;
        }
        break;
    }
    for (const auto& partition : disk.table.partitions)
        if (!out.empty() && partition.first_lba != 0 && partition.first_lba * disk.table.sector_size < end)
            out += fmt::format("; d{}p{} lies over it from sector {} on", disk.number, partition.number,
                               partition.first_lba);
    return out;
}

}  // namespace

std::string describe_gap(const Disk& disk, const Stretch& gap) {
    const std::uint64_t unit = disk.table.sector_size;
    const std::uint64_t begin = gap.first_lba * unit;
    const std::uint64_t length = gap.sectors * unit;
    // The first sector itself is no gap content, and neither is a GPT.
    const std::uint64_t skip = gap.first_lba == 0 ? (disk.table.kind == TableKind::Gpt ? 34 * unit : sector) : 0;
    if (length <= skip) return "—";
    if (gap.first_lba == 0) {
        const auto first = disk.source->bytes(0, sector);
        if (first) {
            if (const auto boot = recognise_grub_boot(*first);
                boot && boot->core_sector != 0 && boot->core_sector * sector < length)
                if (const auto core = read_grub_core(disk, *boot))
                    return fmt::format("GRUB 2's core image from sector {}", core->first_sector);
            if (identify_loader(*first) == "GRUB Legacy") return "GRUB Legacy's next stage from sector 1";
            if (auto programs = board_programs(disk, length); !programs.empty()) return programs;
        }
    }
    auto first_used = [&](std::uint64_t from, std::uint64_t bytes) -> std::optional<std::uint64_t> {
        const auto part = disk.source->bytes(from, bytes);
        if (!part) return std::nullopt;
        const auto found = std::ranges::find_if(*part, [](auto b) { return b != 0; });
        if (found == part->end()) return std::nullopt;
        return (from + static_cast<std::uint64_t>(found - part->begin())) / unit;
    };
    const std::uint64_t body = length - skip;
    const bool behind_gpt = gap.first_lba == 0 && disk.table.kind == TableKind::Gpt;
    if (const auto used = first_used(begin + skip, std::min(body, looked_at)))
        return fmt::format("{}unknown bytes from sector {} on", behind_gpt ? "the GPT, then " : "", *used);
    if (body > looked_at)
        if (const auto used = first_used(begin + length - std::min(body, looked_at), std::min(body, looked_at))) {
            const bool backup =
                disk.table.kind == TableKind::Gpt && begin + length == disk.source->size() / unit * unit;
            return backup ? "the backup GPT" : fmt::format("unknown bytes from sector {} on", *used);
        }
    return fmt::format("{}{}", behind_gpt ? "the GPT, then " : "",
                       body > 2 * looked_at ? "zeros at both ends" : "zeros");
}

}  // namespace herberge
