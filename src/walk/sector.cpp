// SPDX-License-Identifier: MIT
#include <herberge/sector.hpp>

#include <fmt/format.h>
#include <algorithm>

#include <herberge/loader.hpp>

#include "walk/sector_disc.hpp"
#include "walk/sector_structures.hpp"

#include "bytes/uniform.hpp"
#include "ondisk/ext.hpp"
#include "ondisk/fat.hpp"
#include "ondisk/grub.hpp"
#include "ondisk/lilo.hpp"
#include "ondisk/marks.hpp"
#include "ondisk/mbr.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t sector = 512;

void grub_first_sector(SectorView& view, const GrubBoot& boot) {
    const auto head = ondisk::from_bytes<ondisk::GrubBootSector>(view.bytes);
    auto fields = ondisk::annotate(head);
    for (auto& field : fields) {
        if (field.name == "kernel_sector") field.meaning = "where GRUB's core image begins";
        if (field.name == "boot_drive")
            field.meaning = boot.boot_drive == 0xFF ? "the drive the firmware names" : "always this drive";
        if (field.name == "jump")
            field.meaning = boot.jump_lands_in_code ? "to the code behind the fields" : "does not lead to the code";
        if (field.name == "kernel_address") field.meaning = "where it is loaded to";
    }
    // The table's fields stay; the code area is shown by GRUB's own fields.
    std::erase_if(view.fields, [](const Field& f) { return f.name == "code"; });
    view.fields.insert(view.fields.begin(), fields.begin(), fields.end());
    view.kind = "first sector with a partition table and GRUB 2 boot code";
    view.next = fmt::format("loads sector {} to 0000:8000 and jumps there", boot.core_sector);
}

void grub_disk_boot(SectorView& view) {
    view.kind = "first sector of GRUB 2's core image";
    std::vector<Field> runs;
    std::uint64_t total = 0;
    for (std::size_t at = sector - sizeof(ondisk::GrubBlockRun); at > 0x100; at -= sizeof(ondisk::GrubBlockRun)) {
        const auto run = ondisk::from_bytes<ondisk::GrubBlockRun>(view.bytes, at);
        if (run.sectors == 0) break;
        auto fields = ondisk::annotate(run, at, fmt::format("run[{}].", (sector - at) / sizeof(run) - 1));
        fields[0].meaning = "first sector of the run";
        fields[2].meaning = "segment it is loaded to";
        runs.insert(runs.end(), fields.begin(), fields.end());
        total += run.sectors;
    }
    view.fields = std::move(runs);
    view.next = fmt::format("loads {} more sectors, printing \"loading\", and jumps to 0000:8200", total);
}

void ext_super(SectorView& view, const std::vector<std::uint8_t>& two_sectors, const Volume& volume, std::size_t half) {
    const auto fields = ondisk::annotate(ondisk::from_bytes<ondisk::ExtSuper>(two_sectors));
    view.kind =
        fmt::format("superblock of {} ({}), {} half", volume.place, volume.info.name(), half == 0 ? "first" : "second");
    for (auto field : fields) {
        if (field.offset / sector != half) continue;
        field.offset -= half * sector;
        if (field.name == "uuid") field.value = volume.info.uuid;
        if (field.name == "magic")
            field.meaning = field.raw[0] == 0x53 && field.raw[1] == 0xEF ? "ext file system" : "not an ext file system";
        if (field.name == "state")
            field.meaning = (field.raw[0] & 1U) != 0 ? "cleanly unmounted" : "in use or not cleanly unmounted";
        if (field.name == "log_block_size") field.meaning = fmt::format("{} bytes", volume.info.block_size);
        view.fields.push_back(std::move(field));
    }
}

/// The named fields of a boot sector of that format.
std::vector<Field> boot_sector_fields(Format format, std::span<const std::uint8_t> bytes) {
    std::vector<Field> out;
    if (format == Format::Fat32) out = ondisk::annotate(ondisk::from_bytes<ondisk::FatBoot32>(bytes));
    else if (traits_of(format).family == Family::Fat)
        out = ondisk::annotate(ondisk::from_bytes<ondisk::FatBoot16>(bytes));
    else if (format == Format::Ntfs || format == Format::Bitlocker)
        out = ondisk::annotate(ondisk::from_bytes<ondisk::NtfsBoot>(bytes));
    for (auto& field : out)
        if (const auto dot = field.name.rfind('.'); dot != std::string::npos) field.name.erase(0, dot + 1);
    return out;
}

/// The backup beside it: what each field that differs holds there.
void compare_with_backup(SectorView& view, const Disk& disk, const BootSectorCheck& checked) {
    if (!checked.backup_lba) return;
    const std::string where = fmt::format("its backup copy is sector {} (d{}@{}+512)", *checked.backup_lba, disk.number,
                                          *checked.backup_lba * sector);
    const auto copy = disk.source->bytes(*checked.backup_lba * sector, sector);
    if (!copy) {
        view.next = where + ", which cannot be read";
        return;
    }
    std::size_t differ = 0;
    for (std::size_t i = 0; i < sector; ++i) differ += view.bytes[i] != (*copy)[i] ? 1U : 0U;
    view.next = differ == 0 ? where + " and is the same"
                            : fmt::format("{}; {} byte{} differ", where, differ, differ == 1 ? "" : "s");
    const auto there = boot_sector_fields(checked.format, *copy);
    for (std::size_t i = 0; i < view.fields.size() && i < there.size(); ++i) {
        auto& field = view.fields[i];
        if (field.raw == there[i].raw) continue;
        const std::string told =
            field.name == "code" ? std::string("other bytes in the backup") : "backup: " + there[i].value;
        field.meaning += (field.meaning.empty() ? "" : "; ") + told;
    }
}

/// A boot sector's fields with what they should be.
void volume_boot_sector(SectorView& view, const Disk& disk, const Volume& volume) {
    const auto checked = check_boot_sector(disk, volume);
    view.kind = fmt::format(
        "boot sector of {}{}; code: {}", volume.place,
        checked.format == Format::None ? std::string{} : fmt::format(" ({})", traits_of(checked.format).name),
        checked.code);
    view.findings = checked.findings;
    view.fields = boot_sector_fields(checked.format, view.bytes);
    compare_with_backup(view, disk, checked);
    std::erase_if(view.fields, [](const Field& f) { return f.name == "code" && f.meaning.empty(); });
    for (auto& field : view.fields) {
        if (field.name == "code") field.value.clear();
        for (const auto& finding : checked.findings)
            if (field.name == "hidden_sectors" && finding.code == Code::BootSectorHidden)
                field.meaning = fmt::format("should be {}{}{}", finding.evidence.front().expected,
                                            field.meaning.empty() ? "" : "; ", field.meaning);
        if (field.name == "signature")
            field.meaning =
                field.raw[0] == 0x55 && field.raw[1] == 0xAA ? "boot signature present" : "no boot signature";
    }
}

/// The head that LILO's code begins with, from version 22 on.
void lilo_first_sector(SectorView& view) {
    const auto head = ondisk::from_bytes<ondisk::LiloFirst>(view.bytes);
    const unsigned major = head.version & 0xFFU;
    if (major < 22) return;
    auto fields = ondisk::annotate(head, 0, "lilo.");
    for (auto& field : fields) {
        if (field.name == "lilo.version") field.meaning = fmt::format("{}.{}", major, head.version >> 8U);
        if (field.name == "lilo.map_stamp" || field.name == "lilo.stamp")
            field.meaning =
                utc_text(field.name == "lilo.stamp" ? std::uint32_t{head.stamp} : std::uint32_t{head.map_stamp});
        if (field.name == "lilo.index_lba") field.meaning = "of the sector that lists its second part";
    }
    view.fields.insert(view.fields.begin(), fields.begin(), fields.end());
}

}  // namespace

Result<SectorView> view_sector(const Volume& volume, std::uint64_t lba) {
    SectorView view;
    const std::uint64_t count = volume.source->size() / sector;
    if (lba >= count)
        return fail(ErrorKind::OutOfRange, "no such sector", volume.place, fmt::format("below {}", count),
                    fmt::format("{}", lba));
    view.place = fmt::format("{}@{}+{}", volume.place, lba * sector, sector);
    auto bytes = volume.source->bytes(lba * sector, sector);
    if (!bytes) return tl::unexpected(bytes.error());
    view.bytes = std::move(*bytes);
    view.messages = messages_in(std::span(view.bytes).first(446), 4);
    if (holds_only(view.bytes, 0)) {
        view.kind = "zeros";
    } else if (volume.info.is(Family::Ext) && (lba == 2 || lba == 3)) {
        const auto both = volume.source->bytes(1024, 1024);
        if (!both) return tl::unexpected(both.error());
        ext_super(view, *both, volume, static_cast<std::size_t>(lba - 2));
    } else if (auto fields = lba == 0 ? boot_sector_fields(volume.info.format, view.bytes) : std::vector<Field>{};
               !fields.empty()) {
        view.kind = fmt::format("boot sector of {} ({})", volume.place, volume.info.name());
        view.fields = std::move(fields);
    } else if (!walk::view_structures(view, volume, lba * sector)) {
        view.kind = "not recognised";
    }
    return view;
}

Result<SectorView> view_sector(const Disk& disk, std::uint64_t lba) {
    SectorView view;
    if (lba >= disk.source->size() / sector)
        return fail(ErrorKind::OutOfRange, "no such sector", fmt::format("d{}", disk.number),
                    fmt::format("below {}", disk.source->size() / sector), fmt::format("{}", lba));
    view.place = fmt::format("d{}@{}+{}", disk.number, lba * sector, sector);
    auto bytes = disk.source->bytes(lba * sector, sector);
    if (!bytes) return tl::unexpected(bytes.error());
    view.bytes = std::move(*bytes);
    view.messages = messages_in(std::span(view.bytes).first(446), 4);
    const bool zero = holds_only(view.bytes, 0);
    const bool has_signature = view.bytes[510] == 0x55 && view.bytes[511] == 0xAA;
    if (lba == 0 && !has_signature && !zero && walk::view_structures(view, disk, lba))
        return view;  // no disk, or a volume
    if (lba == 0) {
        view.kind = disk.table.kind == TableKind::Mbr ? "first sector with a partition table" : "first sector";
        if (auto fields = annotate_mbr(*disk.source)) view.fields = std::move(*fields);
        if (const auto boot = recognise_grub_boot(view.bytes)) grub_first_sector(view, *boot);
        else if (holds_only(std::span(view.bytes).first(440), 0)) view.next = "nothing: its code area is empty";
        else if (const auto name = identify_loader(view.bytes); !name.empty()) {
            view.next = fmt::format("runs {}'s code", name);
            if (name == "LILO") lilo_first_sector(view);
        } else view.next = "runs code that is not decoded here";
        return view;
    }
    if (!zero && walk::view_gpt(view, disk, lba)) return view;
    if (walk::view_disc_sector(view, disk, lba)) return view;
    const auto first = disk.source->bytes(0, sector);
    const auto boot = first ? recognise_grub_boot(*first) : std::nullopt;
    if (boot && boot->core_sector == lba && !zero) {
        grub_disk_boot(view);
        return view;
    }
    if (boot) {
        const auto run =
            disk.source->load<ondisk::GrubBlockRun>(boot->core_sector * sector + sector - sizeof(ondisk::GrubBlockRun));
        if (run && run->sectors != 0 && run->start == lba) {
            view.kind = "start of GRUB 2's core image, behind its first sector";
            view.fields = ondisk::annotate(ondisk::from_bytes<ondisk::GrubCoreHeader>(view.bytes));
            for (auto& field : view.fields) {
                if (field.name == "redundancy")
                    field.meaning = "bytes of error-correcting data behind the compressed part";
                if (field.name == "unprotected") field.meaning = "bytes from here on that it does not cover";
            }
            view.next = "repairs the image, unpacks it, and starts GRUB's kernel";
            return view;
        }
    }
    for (const auto& held : disk.volumes) {
        const Volume& volume = *held;
        const auto start = volume.source->locate(0, sector);
        if (!start.empty() && start.front().offset == lba * sector && !zero) {
            // What lies around other things, or keeps its superblock here, has no boot code.
            const bool described = volume.info.content() != Content::Files || volume.info.is(Family::Xfs) ||
                                   volume.info.is(Family::Squashfs);
            if (described && !has_signature && walk::view_structures(view, disk, lba)) return view;
            volume_boot_sector(view, disk, volume);
            return view;
        }
    }
    for (const auto& held : disk.volumes) {
        const Volume& volume = *held;
        if (!volume.info.is(Family::Ext)) continue;
        const auto where = volume.source->locate(1024, 1024);
        if (where.empty() || lba * sector < where[0].offset || lba * sector >= where[0].offset + 1024) continue;
        const auto both = volume.source->bytes(1024, 1024);
        if (both) ext_super(view, *both, volume, static_cast<std::size_t>((lba * sector - where[0].offset) / sector));
        return view;
    }
    if (zero) view.kind = "zeros";
    else if (!walk::view_structures(view, disk, lba)) view.kind = "not recognised";
    return view;
}

}  // namespace herberge
