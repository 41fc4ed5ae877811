// SPDX-License-Identifier: MIT
// Boards: which partition U-Boot looks at, marks and checksums of what it loads, and a configuration for it.
#include <fmt/format.h>
#include <algorithm>
#include <cstring>
#include <set>

#include <herberge/places.hpp>

#include "artifact/boot_image.hpp"
#include "loader/uboot/console.hpp"
#include "ondisk/gpt.hpp"
#include "ondisk/mbr.hpp"
#include "remedy/edits.hpp"
#include "remedy/remedy.hpp"
#include "remedy/tables.hpp"
#include "walk/routes.hpp"

namespace herberge::remedy {

namespace {

constexpr std::uint64_t most_file = std::uint64_t{256} << 20U;

/// U-Boot looks at those partitions that are marked, else at the first (doc/develop/distro.rst).
void look_at(const Disk& disk, std::vector<Idea>& out) {
    constexpr std::uint8_t legacy_bootable = 4;
    for (const auto& p : disk.table.partitions) {
        if (p.extended() || p.logical) continue;
        const std::string what =
            fmt::format("mark d{}p{} as the partition that U-Boot looks at", disk.number, p.number);
        const std::string risk = "what it looked at before is not looked at any more";
        if (disk.table.kind == TableKind::Mbr && !p.active) {
            out.push_back({what, risk, [disk, p](Workshop& shop) { return make_active(shop, disk, p); }, 10});
        } else if (disk.table.kind == TableKind::Gpt && (p.attributes & legacy_bootable) == 0) {
            const auto slot = static_cast<std::size_t>(p.slot);
            out.push_back({what, risk,
                           [disk, slot](Workshop& shop) {
                               return rewrite_gpt(
                                   shop, disk, [slot](std::span<std::uint8_t> entries, std::size_t size) {
                                       for (std::size_t i = 0; (i + 1) * size <= entries.size(); ++i) {
                                           auto& bits = entries[i * size + offsetof(ondisk::GptEntry, attributes)];
                                           bits = static_cast<std::uint8_t>(i == slot ? bits | legacy_bootable
                                                                                      : bits & ~legacy_bootable);
                                       }
                                   });
                           },
                           10});
        }
    }
}

/// A sole entry from sector 1 on with another type, before a GPT.
void protective_type(const Disk& disk, std::vector<Idea>& out) {
    const auto gpt = disk.source->bytes(disk.table.sector_size, 8);
    if (disk.table.kind != TableKind::Mbr || disk.table.partitions.size() != 1 || !gpt ||
        !std::equal(gpt->begin(), gpt->end(), "EFI PART"))
        return;
    const auto& p = disk.table.partitions.front();
    if (p.first_lba != 1 || p.type == 0xEE) return;
    out.push_back(
        {fmt::format("set the type of d{}'s only entry, which begins at sector 1, to EE: it protects a GPT (its "
                     "type is {:02x})",
                     disk.number, p.type),
         {},
         [number = disk.number, at = p.entry_offset](Workshop& shop) {
             static constexpr std::uint8_t type[] = {0xEE};
             return shop.write(number, at + offsetof(ondisk::MbrEntry, type), type);
         },
         0});
}

/// What U-Boot wants of a FAT and others do not: 55AA, and the text of its kind.
void fat_marks(const Volume& volume, std::vector<Idea>& out) {
    if (!volume.info.is(Family::Fat) || loader::uboot::files_of(volume) != nullptr) return;
    const bool wide = volume.info.format == Format::Fat32;
    const std::uint64_t at = wide ? 0x52 : 0x36;
    const std::string text = wide ? "FAT32   " : volume.info.format == Format::Fat12 ? "FAT12   " : "FAT16   ";
    out.push_back(
        {fmt::format("write the marks by which U-Boot knows a FAT into the boot sector of {}: 55 AA, and {}",
                     volume.place, text.substr(0, text.find(' '))),
         {},
         [source = volume.source, at, text](Workshop& shop) -> Result<void> {
             static constexpr std::uint8_t mark[] = {0x55, 0xAA};
             if (auto done = shop.write(*source, 510, mark); !done) return done;
             return shop.write(*source, at, {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
         },
         1});
}

struct Named {
    std::string place;
    Source bytes;
};
/// The files that were loaded, as far as entries and findings name them.
std::vector<Named> named(const Case& stopped) {
    std::vector<Named> out;
    std::set<std::string> seen;
    const auto add = [&](const std::string& place) {
        const auto file = file_place(place);
        const auto opened = file ? open_file(stopped.machine, *file) : fail(ErrorKind::NotFound, "no file");
        if (opened && seen.insert(opened->found.path).second) out.push_back({place, opened->bytes});
    };
    std::vector<const MenuEntry*> entries;
    for (const auto& menu : stopped.verdict.menus) {
        walk::collect_leaves(menu.entries, entries);
        for (const auto& entry : menu.direct) entries.push_back(&entry);
    }
    for (const auto* entry : entries) {
        for (const auto& file : entry->kernel)
            if (file.found() && file.volume != nullptr) add(file.volume->place + ":" + file.real_path);
        for (const auto& file : entry->devicetree)
            if (file.found() && file.volume != nullptr) add(file.volume->place + ":" + file.real_path);
    }
    for (const auto& evidence : stopped.rung.evidence)
        if (evidence.place.find(":/") != std::string::npos) add(evidence.place);
    return out;
}

void offer_mark(const Named& file, std::uint64_t at, std::vector<std::uint8_t> mark, std::string_view what,
                std::vector<Idea>& out) {
    const auto there = file.bytes->bytes(at, mark.size());
    if (!there || *there == mark) return;
    out.push_back(
        {fmt::format("write {} back into {}, at byte {}", what, file.place, at),
         "the rest of the file may be damaged, too: what its content should be is not known",
         [bytes = file.bytes, at, mark = std::move(mark)](Workshop& shop) { return shop.write(*bytes, at, mark); }, 9});
}

/// Marks, where the fields beside them are those of such a file.
void marks(const Named& file, std::vector<Idea>& out) {
    const auto head = file.bytes->bytes(0, std::min<std::uint64_t>(64, file.bytes->size()));
    if (!head || head->size() < 64) return;
    const auto tree = ondisk::from_bytes<ondisk::DeviceTreeHeader>(*head);
    if (tree.version == 17 && tree.last_compatible == 16 && tree.structure_at < tree.total_size)
        offer_mark(file, 0, {0xD0, 0x0D, 0xFE, 0xED}, "the mark of a device tree (d0 0d fe ed)", out);
    const auto zimage = ondisk::from_bytes<ondisk::ArmZimage>(*head, 36);
    if (zimage.endianness == 0x04030201 && zimage.end > zimage.start)
        offer_mark(file, 36, {0x18, 0x28, 0x6F, 0x01}, "the mark of a zImage (18 28 6f 01)", out);
    const auto flat = ondisk::from_bytes<ondisk::Arm64Image>(*head);
    constexpr std::uint64_t most_image = std::uint64_t{1} << 30U;
    if (flat.image_size > 0x10000 && flat.image_size < most_image && flat.flags < 0x100)
        offer_mark(file, 56, {'A', 'R', 'M', 0x64}, "the mark of an arm64 kernel (“ARMd”)", out);
    const auto legacy = ondisk::from_bytes<ondisk::UbootLegacyImage>(*head);
    if (legacy.size + sizeof(legacy) == file.bytes->size() && legacy.type != 0 && legacy.type < 32)
        offer_mark(file, 0, {0x27, 0x05, 0x19, 0x56}, "the mark of an image of U-Boot (27 05 19 56)", out);
}

/// A legacy image whose checksums do not match: they are made anew for what it holds now.
void checksums(const Named& file, std::vector<Idea>& out) {
    const auto image = inspect_legacy_image(*file.bytes);
    if (!image || !image->whole || (image->header_sound && image->data_sound)) return;
    const auto content = file.bytes->bytes(LegacyImage::data_at, image->header.size, most_file);
    if (!content) return;
    auto header = image->header;
    header.data_crc = crc32(0, *content);
    header.header_crc = 0;
    header.header_crc = crc32(0, {reinterpret_cast<const std::uint8_t*>(&header), sizeof(header)});
    std::vector<std::uint8_t> head(sizeof(header));
    std::memcpy(head.data(), &header, sizeof(header));
    out.push_back({fmt::format("make the checksums of {} anew for what it holds now", file.place),
                   "read what it holds first: it was changed since it was made, and a checksum says so",
                   [bytes = file.bytes, head = std::move(head)](Workshop& shop) { return shop.write(*bytes, 0, head); },
                   30});
}

/// A configuration with one entry, for a kernel that lies on a volume that U-Boot reads.
void configuration(const Case& stopped, std::vector<Idea>& out) {
    if (!stopped.has(Code::UbootNothingFound)) return;
    for (const auto& system : find_systems(stopped.machine)) {
        if (system.kind != SystemKind::Linux || system.volume->info.uuid.empty()) continue;
        stopped.machine.each_volume([&](const Volume& volume) {
            const auto* fs = loader::uboot::files_of(volume);
            for (const std::string folder : {"/", "/boot/"}) {
                const auto found = fs != nullptr ? resolve(*fs, folder) : fail(ErrorKind::NotFound, "no files");
                const auto names = found ? fs->list(found->file.id) : tl::unexpected(found.error());
                if (!names) continue;
                std::string kernel, ramdisk;
                for (const auto& entry : *names) {
                    const auto& name = entry.name;
                    if ((name.starts_with("vmlinuz") || name.starts_with("Image") || name.starts_with("zImage")) &&
                        name > kernel)
                        kernel = name;
                    if (name.starts_with("initr") && name > ramdisk) ramdisk = name;
                }
                if (kernel.empty()) continue;
                const std::string text = fmt::format(
                    "# Written by Herberge: one entry, as far as the files on the disks tell.\n"
                    "default linux\nlabel linux\n\tkernel {}{}\n{}\tappend root=UUID={} ro\n",
                    folder, kernel, ramdisk.empty() ? "" : fmt::format("\tinitrd {}{}\n", folder, ramdisk),
                    system.volume->info.uuid);
                const std::string path = folder + "extlinux/extlinux.conf";
                out.push_back({fmt::format("write {}:{} anew, with one entry for {}", volume.place, path, system.name),
                               "options that the old one had are not known",
                               [place = volume.place, path, text](Workshop& shop) {
                                   return put_file(shop, place, path,
                                                   {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()});
                               },
                               20});
            }
        });
    }
}

}  // namespace

void propose_boards(const Case& stopped, std::vector<Idea>& out) {
    if (stopped.verdict.firmware != FirmwareKind::Board || stopped.machine.disks.empty()) return;
    const Disk& disk = stopped.machine.disks.front();
    if (disk.problem) return;
    if (stopped.rung.stage <= Stage::Configuration) {
        protective_type(disk, out);
        look_at(disk, out);
        stopped.machine.each_volume([&](const Volume& volume) { fat_marks(volume, out); });
        configuration(stopped, out);
    }
    if (stopped.rung.stage < Stage::Configuration || stopped.rung.stage > Stage::Ramdisk) return;
    for (const auto& file : named(stopped)) {
        marks(file, out);
        checksums(file, out);
    }
}

}  // namespace herberge::remedy
