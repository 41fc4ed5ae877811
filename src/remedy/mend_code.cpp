// SPDX-License-Identifier: MIT
// First sectors and what they load: from the loader's own files on this machine, or from another disk's sector.
#include <fmt/format.h>
#include <algorithm>
#include <cstring>

#include "bytes/uniform.hpp"
#include "ondisk/grub.hpp"
#include "ondisk/legacy.hpp"
#include "ondisk/mbr.hpp"
#include "remedy/remedy.hpp"
#include "remedy/sector.hpp"

extern "C" {
/// first_sector.S
extern const std::uint8_t herberge_first_sector[];
extern const std::uint8_t herberge_first_sector_end[];
}

namespace herberge::remedy {

namespace {

constexpr std::size_t code_size = offsetof(ondisk::Mbr, disk_signature);

using Bytes = std::vector<std::uint8_t>;

struct CodeFile {
    std::string place;
    Bytes bytes;
};
/// The files of these names that are on the machine, each content once.
std::vector<CodeFile> code_files(const Machine& machine, std::initializer_list<const char*> paths, std::uint64_t most) {
    std::vector<CodeFile> out;
    machine.each_volume(Observer::Linux, [&](const Volume& volume) {
        const auto* fs = volume.files(Observer::Linux);
        if (fs == nullptr) return;
        for (const char* path : paths) {
            const auto found = resolve(*fs, path);
            if (!found || found->file.type != FileType::Regular || found->file.size > most || found->file.size == 0)
                continue;
            const auto file = fs->open(found->file.id, fmt::format("{}:{}", volume.place, found->path));
            auto bytes = file ? (*file)->bytes(0, found->file.size, most) : tl::unexpected(file.error());
            if (!bytes || std::ranges::any_of(out, [&](const CodeFile& known) { return known.bytes == *bytes; }))
                continue;
            out.push_back({fmt::format("{}:{}", volume.place, found->path), std::move(*bytes)});
        }
    });
    return out;
}

template <class T>
void put(Bytes& bytes, std::size_t at, const T& value) {
    std::memcpy(bytes.data() + at, &value, sizeof(value));
}

/// Where GRUB's core image lies or belongs: in the gap behind the first sector, or in a BIOS boot partition.
struct CoreRoom {
    std::uint64_t lba = 0;
    std::uint64_t sectors = 0;
    bool there = false;  ///< a core image begins there
};
std::vector<CoreRoom> core_rooms(const Disk& disk) {
    constexpr std::string_view bios_boot = "21686148-6449-6e6f-744e-656564454649";
    std::vector<CoreRoom> out;
    for (const auto& p : disk.table.partitions)
        if (p.type_guid == bios_boot) out.push_back({p.first_lba, p.sectors, false});
    if (out.empty() && disk.table.kind == TableKind::Mbr) {
        std::uint64_t first = disk.source->size() / sector;
        for (const auto& p : disk.table.partitions) first = std::min(first, p.first_lba);
        if (first > 2) out.push_back({1, first - 1, false});
    }
    if (const auto core = find_grub_core(disk)) {
        const auto known = std::ranges::find(out, *core, &CoreRoom::lba);
        if (known != out.end()) known->there = true;
        else out.push_back({*core, 0, true});
    }
    for (auto& room : out) {
        const auto start = disk.source->bytes(room.lba * sector, sector);
        room.there = room.there || (start && !holds_only(*start, 0));
    }
    return out;
}

/// boot.img over the first sector, as its installer fills it in.
void grub_first_sector(const Case& stopped, const Disk& disk, const Bytes& first, std::vector<Idea>& out) {
    for (const auto& file : code_files(
             stopped.machine,
             {"/boot/grub/i386-pc/boot.img", "/grub/i386-pc/boot.img", "/usr/lib/grub/i386-pc/boot.img"}, sector)) {
        if (file.bytes.size() != sector) continue;
        for (const auto& room : core_rooms(disk)) {
            Bytes code(file.bytes.begin(), file.bytes.begin() + code_size);
            // The parameter block stays; the check of the drive number is left out on hard disks.
            constexpr std::size_t block = offsetof(ondisk::GrubBootSector, parameter_block);
            std::copy_n(first.begin() + block, sizeof(ondisk::GrubBootSector::parameter_block), code.begin() + block);
            put(code, offsetof(ondisk::GrubBootSector, kernel_sector), ondisk::little_uint64_t(room.lba));
            code[offsetof(ondisk::GrubBootSector, boot_drive)] = 0xFF;
            code[offsetof(ondisk::GrubBootSector, drive_check)] = 0x90;
            code[offsetof(ondisk::GrubBootSector, drive_check) + 1] = 0x90;
            const int number = disk.number;
            out.push_back({fmt::format("write GRUB's first sector to d{} from {}, for its core image at sector {}",
                                       number, file.place, room.lba),
                           "what the first sector started before is not started any more",
                           [number, code](Workshop& shop) { return shop.write(number, 0, code); },
                           room.there ? 2 : 12});
        }
    }
}

void grub_pointer(const Disk& disk, const Bytes& first, std::vector<Idea>& out) {
    const auto boot = recognise_grub_boot(first);
    const auto core = find_grub_core(disk);
    if (!boot || !core || *core == boot->core_sector) return;
    const int number = disk.number;
    const std::uint64_t at = boot->pointer_at;
    const ondisk::little_uint64_t pointer(*core);
    out.push_back(
        {fmt::format("let d{}'s first sector look for GRUB's core image at sector {}, where it lies (it says {})",
                     number, *core, boot->core_sector),
         {},
         [number, at, pointer](Workshop& shop) {
             return shop.write(number, at, {reinterpret_cast<const std::uint8_t*>(&pointer), sizeof(pointer)});
         },
         1});
}

/// core.img into the place that is made for it, with its list of sectors for there.
void grub_core(const Case& stopped, const Disk& disk, std::vector<Idea>& out) {
    constexpr std::uint64_t most = std::uint64_t{1} << 20U;
    for (const auto& file :
         code_files(stopped.machine, {"/boot/grub/i386-pc/core.img", "/grub/i386-pc/core.img"}, most))
        for (const auto& room : core_rooms(disk)) {
            const std::uint64_t sectors = (file.bytes.size() + sector - 1) / sector;
            if (sectors < 2 || sectors > room.sectors) continue;
            Bytes core = file.bytes;
            core.resize(sectors * sector);
            constexpr std::size_t run_at = sector - sizeof(ondisk::GrubBlockRun);
            ondisk::GrubBlockRun run{};
            std::fill_n(core.begin() + run_at - sizeof(run), sizeof(run), std::uint8_t{0});
            run.start = room.lba + 1;
            run.sectors = static_cast<std::uint16_t>(sectors - 1);
            run.segment = 0x820;
            put(core, run_at, run);
            const int number = disk.number;
            const std::uint64_t at = room.lba * sector;
            out.push_back(
                {fmt::format("write GRUB's core image to sector {} of d{} from {}", room.lba, number, file.place),
                 "the image carries no error correction of its own there",
                 [number, at, core](Workshop& shop) { return shop.write(number, at, core); }, 3});
        }
}

/// GRUB Legacy's stage 1, for the stage 1.5 behind it.
void legacy_first_sector(const Case& stopped, const Disk& disk, const Bytes& first, std::vector<Idea>& out) {
    const auto behind = disk.source->bytes(2 * sector, sector);
    if (!behind || disk.table.kind != TableKind::Mbr) return;
    const auto next = ondisk::from_bytes<ondisk::LegacyStage2>(*behind);
    if (next.version_major != 3 || next.version_minor != 2) return;
    for (const auto& file : code_files(
             stopped.machine,
             {"/boot/grub/stage1", "/grub/stage1", "/usr/lib/grub/i386-pc/stage1", "/usr/lib/grub/x86_64-pc/stage1"},
             sector)) {
        if (file.bytes.size() != sector) continue;
        Bytes code(file.bytes.begin(), file.bytes.begin() + code_size);
        constexpr std::size_t block = offsetof(ondisk::LegacyStage1, parameter_block);
        std::copy_n(first.begin() + block, sizeof(ondisk::LegacyStage1::parameter_block), code.begin() + block);
        const bool whole = next.kind == 0;
        code[offsetof(ondisk::LegacyStage1, boot_drive)] = 0xFF;
        put(code, offsetof(ondisk::LegacyStage1, next_address), ondisk::little_uint16_t(whole ? 0x8000 : 0x2000));
        put(code, offsetof(ondisk::LegacyStage1, next_sector), ondisk::little_uint32_t(1));
        put(code, offsetof(ondisk::LegacyStage1, next_segment), ondisk::little_uint16_t(whole ? 0x800 : 0x200));
        const int number = disk.number;
        out.push_back({fmt::format("write GRUB Legacy's first sector to d{} from {}, for the stage behind it", number,
                                   file.place),
                       "what the first sector started before is not started any more",
                       [number, code](Workshop& shop) { return shop.write(number, 0, code); }, 2});
    }
}

/// Code that starts the active partition: the SYSLINUX project's, or that of another disk.
void plain_first_sector(const Case& stopped, const Disk& disk, std::vector<Idea>& out) {
    auto files =
        code_files(stopped.machine,
                   {"/usr/lib/syslinux/mbr/mbr.bin", "/usr/lib/syslinux/mbr.bin", "/usr/share/syslinux/mbr.bin",
                    "/usr/lib/EXTLINUX/mbr.bin", "/boot/extlinux/mbr.bin", "/boot/syslinux/mbr.bin",
                    "/syslinux/mbr.bin", "/usr/lib/syslinux/mbr/gptmbr.bin", "/boot/extlinux/gptmbr.bin"},
                   code_size);
    for (const auto& other : stopped.machine.disks) {
        if (other.number == disk.number || other.optical) continue;
        auto code = other.source->bytes(0, code_size);
        if (code && !holds_only(*code, 0))
            files.push_back({fmt::format("d{}'s first sector", other.number), std::move(*code)});
    }
    for (const auto& file : files) {
        const int number = disk.number;
        Bytes code = file.bytes;
        code.resize(code_size);
        out.push_back({fmt::format("write boot code to d{}'s first sector from {}", number, file.place),
                       "what the first sector started before is not started any more",
                       [number, code](Workshop& shop) { return shop.write(number, 0, code); }, 14});
    }
}

/// Code of this project that starts the active partition, where the sector has none: it may be anything else's before.
void own_first_sector(const Disk& disk, const Bytes& first, std::vector<Idea>& out) {
    const auto active = std::ranges::count(disk.table.partitions, true, &Partition::active);
    const bool blank = holds_only(std::span(first).first(code_size), 0);
    if (active != 1 || disk.table.kind != TableKind::Mbr) return;
    out.push_back(
        {fmt::format("write code of our own to d{}'s first sector, which starts the active partition", disk.number),
         blank ? "a loader's own first sector, if there was one, did more than that"
               : "what the first sector started before is not started any more",
         [number = disk.number](Workshop& shop) {
             Bytes code(herberge_first_sector, herberge_first_sector_end);
             code.resize(code_size);
             return shop.write(number, 0, code);
         },
         blank ? 15 : 25});
}

}  // namespace

void propose_boot_code(const Case& stopped, std::vector<Idea>& out) {
    if (stopped.verdict.firmware != FirmwareKind::Bios || stopped.rung.stage > Stage::Loader) return;
    for (const auto& disk : stopped.machine.disks) {
        if (disk.optical || disk.problem) continue;
        const auto first = disk.source->bytes(0, sector);
        if (!first) continue;
        grub_pointer(disk, *first, out);
        grub_first_sector(stopped, disk, *first, out);
        grub_core(stopped, disk, out);
        legacy_first_sector(stopped, disk, *first, out);
        plain_first_sector(stopped, disk, out);
        own_first_sector(disk, *first, out);
    }
}

}  // namespace herberge::remedy
