// SPDX-License-Identifier: MIT
// Disks and volumes as UEFI firmware judges them (MdeModulePkg/Universal/Disk/PartitionDxe and FatPkg of open
// firmware).
#include <fmt/format.h>
#include <algorithm>

#include <herberge/uefi.hpp>

#include "ondisk/gpt.hpp"
#include "ondisk/mbr.hpp"
#include "storage/gpt.hpp"

namespace herberge {

namespace {

/// An MBR whose entries overlap or leave the disk is refused as a whole.
bool mbr_accepted(const Disk& disk) {
    const std::uint64_t end = disk.source->size() / 512;
    for (const auto& a : disk.table.partitions) {
        if (a.logical) continue;
        if (a.first_lba + a.sectors > end) return false;
        for (const auto& b : disk.table.partitions)
            if (!b.logical && a.number < b.number && a.first_lba < b.first_lba + b.sectors &&
                b.first_lba < a.first_lba + a.sectors)
                return false;
    }
    return true;
}

}  // namespace

Machine after_uefi_firmware(const Machine& machine) {
    Machine out;
    for (const auto& disk : machine.disks) {
        auto mended = mend_gpt_primary(disk.source);
        out.disks.push_back(inspect_disk(mended != nullptr ? mended : disk.source, disk.number, disk.path));
        if (disk.optical) into_optical_drive(out.disks.back());
    }
    out.more_layers = machine.more_layers;
    assemble_layers(out);
    return out;
}

UefiVolumes uefi_volumes(const Machine& machine) {
    UefiVolumes out;
    constexpr std::uint64_t ignored_by_firmware = 2;  // attribute bit 1
    for (const auto& disk : machine.disks) {
        Disk seen;
        seen.number = disk.number;
        seen.path = disk.path;
        seen.source = disk.source;
        seen.problem = disk.problem;
        seen.catalogue = disk.catalogue;
        seen.optical = disk.optical;
        if (!disk.problem) {
            // On a disc, with its blocks of 2048 bytes, a GPT meant for disks is not found.
            if (auto table = disk.optical ? std::nullopt : read_gpt_as_uefi(*disk.source, out.findings)) {
                seen.table = std::move(*table);
                std::erase_if(seen.table.partitions, [&](const Partition& p) {
                    if ((p.attributes & ignored_by_firmware) == 0) return false;
                    out.findings.push_back(make_finding(
                        Code::UefiPartitionIgnored,
                        fmt::format("d{}p{} carries the attribute by which firmware ignores it", disk.number, p.number),
                        {evidence_bytes(*disk.source, p.entry_offset + 48, 8, "bit 1 clear", "set")}));
                    return true;
                });
            } else if (disk.table.kind == TableKind::Mbr && !disk.table.protective) {
                if (mbr_accepted(disk)) {
                    seen.table = disk.table;
                } else {
                    out.findings.push_back(make_finding(
                        Code::UefiMbrRefused,
                        fmt::format(
                            "entries of d{}'s table overlap or leave the disk: the firmware refuses it as a whole",
                            disk.number),
                        {evidence_bytes(*disk.source, 446, 64)}));
                }
            }
            if (!seen.table.partitions.empty()) seen = inspect_partitions(std::move(seen));
            else if (seen.table.kind == TableKind::None) {
                // Media without a table: the whole disk may be one FAT.
                seen.table = PartitionTable{};
                seen = inspect_partitions(std::move(seen));
            }
        }
        out.view.disks.push_back(std::move(seen));
    }
    for (const auto& disk : out.view.disks)
        if (disk.catalogue && disk.catalogue->passed_over && disk.table.kind != TableKind::Gpt) {
            const auto& why = *disk.catalogue->passed_over;
            out.findings.push_back(make_finding(
                Code::UefiCatalogueRefused,
                fmt::format("{}: the firmware takes nothing from d{}'s boot catalogue", why.what, disk.number),
                {evidence_error(why)}));
        }
    out.view.each_volume([&](const Volume& volume) {
        // A boot catalogue counts where there is no GPT.
        const auto* disk = out.view.disk(volume.disk);
        const bool passed_over = volume.partition < 0 && (disk->table.kind == TableKind::Gpt ||
                                                          (disk->catalogue && disk->catalogue->passed_over));
        // The firmware knows of no layers: a mirror's member whose metadata lies at its end is a FAT to it.
        if (volume.as(Observer::Uefi).is(Family::Fat) && !passed_over) out.volumes.push_back(volume.shared_from_this());
    });
    return out;
}

}  // namespace herberge
