// SPDX-License-Identifier: MIT
#include <fmt/format.h>
#include <algorithm>
#include <cctype>

#include <herberge/flash.hpp>
#include <herberge/storage.hpp>

#include "bytes/steady.hpp"
#include "bytes/uniform.hpp"

#include "files/ext.hpp"
#include "files/stored.hpp"
#include "ondisk/iso9660.hpp"
#include "ondisk/mbr.hpp"
#include "storage/disk_letters.hpp"
#include "storage/layers.hpp"

namespace herberge {

namespace {

bool same_without_case(std::string_view a, std::string_view b) {
    return std::ranges::equal(a, b, [](char x, char y) {
        return std::tolower(static_cast<unsigned char>(x)) == std::tolower(static_cast<unsigned char>(y));
    });
}

/// The file system in a boot image of the disc's catalogue: place "d1c2".
VolumeRef boot_image_volume(const Disk& disk, const CatalogueImage& image) {
    const std::uint64_t rest = disk.source->size() > image.offset ? disk.source->size() - image.offset : 0;
    // A count of 0 or 1 stands for all that follows (MdeModulePkg/Universal/Disk/PartitionDxe/ElTorito.c).
    const std::uint64_t length =
        image.sectors < 2 ? rest : std::min<std::uint64_t>(image.sectors * std::uint64_t{512}, rest);
    return std::make_shared<const Volume>(
        slice(disk.source, image.offset, length, fmt::format("d{}c{}", disk.number, image.number)), disk.number,
        -image.number);
}

template <class Match>
VolumeRef first_volume(const Machine& machine, bool layers, Match match) {
    for (const auto& disk : machine.disks)
        for (const auto& volume : disk.volumes)
            if (match(*volume)) return volume;
    if (layers)
        for (const auto& volume : machine.layered)
            if (match(*volume)) return volume;
    return nullptr;
}

/// The first sector has code and a table of partitions, whether or not its mark is there: what was written with it was
/// to start as a disk, and is no disc that only a drive of discs could start.
bool made_for_disks(const ByteSource& disk) {
    const auto first = disk.load<ondisk::Mbr>(0);
    if (!first || holds_only(first->code, 0)) return false;
    const auto& entry = first->entries.front();
    return (entry.status == 0 || entry.status == 0x80) && entry.sectors != 0;
}

}  // namespace

Disk inspect_disk(Source source, int number, std::string path) {
    Disk disk;
    disk.number = number;
    disk.path = std::move(path);
    disk.source = steady(std::move(source));
    auto table = read_partition_table(*disk.source);
    if (!table) {
        disk.problem = table.error();
        return disk;
    }
    disk.table = std::move(*table);
    disk.catalogue = read_boot_catalogue(*disk.source);
    disk.optical = disk.catalogue && !disk.table.boot_signature && !made_for_disks(*disk.source);
    // A disc needs neither signature nor table.
    if (disk.optical) disk.table.findings.clear();
    // A medium that is disc and disk in one has a partition over all of it, by design.
    if (disk.catalogue)
        std::erase_if(disk.table.findings, [](const Finding& f) { return f.code == Code::MbrEntryAtZero; });
    return inspect_partitions(std::move(disk));
}

std::optional<Finding> bios_raid(const Disk& disk) {
    struct Mark {
        std::uint64_t before_end;
        std::string_view mark, name;
    };
    // mdadm's super-intel.c (MPB_SIGNATURE) and the DDF specification 2.0, section 5.5 (anchor header).
    static constexpr Mark marks[] = {{1024, "Intel Raid ISM Cfg Sig. ", "Intel"}, {512, "\xDE\x11\xDE\x11", "DDF"}};
    for (const auto& one : marks) {
        if (disk.source->size() < one.before_end) continue;
        const std::uint64_t at = disk.source->size() - one.before_end;
        const auto bytes = disk.source->bytes(at, one.mark.size());
        if (!bytes || !stored::begins(*bytes, one.mark)) continue;
        return make_finding(Code::DiskBiosRaid,
                            fmt::format("d{} is a member of a BIOS RAID ({}): its controller may show something else "
                                        "than this disk",
                                        disk.number, one.name),
                            {evidence_bytes(*disk.source, at, one.mark.size())});
    }
    return std::nullopt;
}

namespace {

/// The whole of a disk with a table is a file system of optical discs, and all partitions lie within it: the disk was
/// written with the image of a disc. What an earlier image left in front of newer partitions does not reach as far.
bool is_hybrid_disc(const Disk& disk) {
    constexpr std::uint64_t block = 2048;
    const auto descriptor = disk.source->load<ondisk::IsoVolumeDescriptor>(16 * block);
    if (!descriptor || descriptor->type != 1 || !stored::begins(descriptor->id, "CD001")) return false;
    const std::uint64_t end = std::uint64_t{descriptor->blocks.little} * block;
    return std::ranges::all_of(disk.table.partitions, [&](const Partition& p) {
        return (p.first_lba + p.sectors) * disk.table.sector_size <= end;
    });
}

}  // namespace

Disk inspect_partitions(Disk disk) {
    const std::uint64_t sector = disk.table.sector_size;
    for (const auto& p : disk.table.partitions) {
        if (p.extended()) continue;  // it only holds others
        const std::string place = fmt::format("d{}p{}", disk.number, p.number);
        disk.volumes.push_back(
            std::make_shared<const Volume>(slice(disk.source, p.first_lba * sector, p.sectors * sector, place),
                                           disk.number, p.number, p.partuuid, p.name));
    }
    // A disk without a table may be one volume from its first sector on; what serves as an optical disc is one as well,
    // unless a partition begins there, too.
    const bool covered =
        std::ranges::any_of(disk.table.partitions, [](const Partition& p) { return p.first_lba == 0; });
    const bool whole = disk.table.partitions.empty() || (!covered && (disk.catalogue || is_hybrid_disc(disk)));
    if (whole && recognise_volume(*disk.source).known())
        disk.volumes.push_back(std::make_shared<const Volume>(
            slice(disk.source, 0, disk.source->size(), fmt::format("d{}", disk.number)), disk.number, 0));
    // Boot images for UEFI are volumes of their own, where no partition shows the same.
    constexpr std::uint8_t efi_platform = 0xEF;
    if (disk.catalogue)
        for (const auto& image : disk.catalogue->images) {
            const bool shown = std::ranges::any_of(
                disk.table.partitions, [&](const Partition& p) { return p.first_lba * sector == image.offset; });
            if (!image.bootable || shown || image.offset == 0) continue;
            auto volume = boot_image_volume(disk, image);
            // UEFI firmware does not ask for which platform an image is; what holds no FAT is none for it.
            const bool other = image.platform != efi_platform || !image.listed;
            if (other && (image.emulation != Emulation::None || !volume->as(Observer::Uefi).is(Family::Fat))) continue;
            disk.volumes.push_back(std::move(volume));
        }
    return disk;
}

void into_optical_drive(Disk& disk) {
    if (disk.optical) return;
    if (!disk.catalogue) {
        if (!recognise_volume(*disk.source).is(Family::Iso)) return;
        disk.catalogue = no_boot_catalogue(*disk.source);
    }
    disk.optical = true;
    // The table of a hybrid medium means nothing there.
    disk.table = PartitionTable{};
    disk.volumes.clear();
    disk = inspect_partitions(std::move(disk));
}

namespace {
/// A floppy has no partition table: what stands at its place is boot code.
Disk inspect_floppy(Source source, int number, std::string path) {
    Disk disk;
    disk.number = number;
    disk.path = std::move(path);
    disk.source = std::move(source);
    const auto mark = disk.source->bytes(510, 2);
    if (!mark) disk.problem = mark.error();
    else disk.table.boot_signature = (*mark)[0] == 0x55 && (*mark)[1] == 0xAA;
    return disk.problem ? disk : inspect_partitions(std::move(disk));
}
}  // namespace

std::shared_ptr<const Machine> with_emulated_drives(const Machine& machine) {
    const auto poses = [](const Disk& disk) {
        return disk.optical && disk.catalogue && !disk.catalogue->refused &&
               disk.catalogue->images.front().emulation != Emulation::None &&
               disk.catalogue->images.front().emulation != Emulation::Unknown;
    };
    if (std::ranges::none_of(machine.disks, poses)) return nullptr;
    auto out = std::make_shared<Machine>();
    for (const auto& disk : machine.disks) {
        if (!poses(disk)) {
            out->disks.push_back(disk);
            continue;
        }
        const auto& image = disk.catalogue->images.front();
        const std::uint64_t room = disk.source->size() > image.offset ? disk.source->size() - image.offset : 0;
        std::uint64_t size = room;
        switch (image.emulation) {
            case Emulation::Floppy1200: size = 2400 * 512ULL; break;
            case Emulation::Floppy1440: size = 2880 * 512ULL; break;
            case Emulation::Floppy2880: size = 5760 * 512ULL; break;
            default: break;
        }
        const std::string place = fmt::format("d{}c{}", disk.number, image.number);
        const auto source = slice(disk.source, image.offset, std::min(size, room), place);
        if (image.emulation != Emulation::HardDisk) {
            out->disks.push_back(inspect_floppy(source, disk.number, disk.path));
            out->disks.back().emulation = image.emulation;
            continue;
        }
        auto posing = inspect_disk(source, disk.number, disk.path);
        // A hard disk's size follows from its only partition (El Torito 1.0, section 2.4).
        if (!posing.table.partitions.empty()) {
            const auto& p = posing.table.partitions.front();
            posing =
                inspect_disk(slice(disk.source, image.offset, std::min((p.first_lba + p.sectors) * 512, room), place),
                             disk.number, disk.path);
        }
        posing.emulation = image.emulation;
        out->disks.push_back(std::move(posing));
    }
    out->more_layers = machine.more_layers;
    assemble_layers(*out);
    return out;
}

PartitionNames partition_names(const Disk& disk, const Partition& partition) {
    const int index = disk.number - 1;
    const bool gpt = disk.table.kind == TableKind::Gpt;
    PartitionNames out;
    if (is_divided_flash(disk)) {
        // Nobody but Linux and U-Boot knows flash.
        for (const auto& volume : disk.volumes)
            if (volume->partition == partition.number && !volume->names.linux_names.empty())
                out.linux_name = volume->names.linux_names.front();
        out.grub = "—";
        return out;
    }
    out.linux_name = fmt::format("sd{}{}", disk_letters(disk.number), partition.number);
    out.grub = fmt::format("hd{},{}{}", index, gpt ? "gpt" : "msdos", partition.number);
    if (gpt) return out;
    out.legacy = fmt::format("hd{},{}", index, partition.number - 1);
    if (partition.extended()) return out;
    // NT counts what is in use: first the primary entries, then the logical ones.
    int arc = 1;
    for (const auto& p : disk.table.partitions)
        if (!p.extended() && p.number < partition.number) ++arc;
    out.arc = fmt::format("multi(0)disk(0)rdisk({})partition({})", index, arc);
    return out;
}

PartitionNames disk_names(const Disk& disk) {
    const int index = disk.number - 1;
    if (disk.optical) return {fmt::format("sr{}", index), "cd", "cd", {}};
    const std::string hd = fmt::format("hd{}", index);
    return {fmt::format("sd{}", disk_letters(disk.number)), hd, hd, {}};
}

std::optional<MisplacedVolume> find_misplaced_volume(const Disk& disk) {
    constexpr std::uint64_t sector = 512;
    constexpr std::uint64_t first_sectors = 8192;
    const std::uint64_t end = disk.source->size() / sector;
    auto starts_here = [&](std::uint64_t lba) {
        return std::ranges::any_of(disk.table.partitions, [&](const Partition& p) { return p.first_lba == lba; });
    };
    // What lies inside a member of an array or group is in its place.
    auto inside_member = [&](std::uint64_t lba) {
        return std::ranges::any_of(disk.volumes, [&](const VolumeRef& volume) {
            const Volume& v = *volume;
            const auto where = v.source->locate(0, std::min<std::uint64_t>(v.source->size(), sector));
            return v.info.holds_others() && !where.empty() && lba >= where.front().offset / sector &&
                   lba < (where.front().offset + v.source->size()) / sector;
        });
    };
    auto look = [&](std::uint64_t lba) -> std::optional<MisplacedVolume> {
        if (lba == 0 || lba >= end || starts_here(lba) || inside_member(lba)) return std::nullopt;
        const auto volume = slice(disk.source, lba * sector, (end - lba) * sector, {});
        auto info = recognise_plain_volume(*volume);
        // A plausible size guards against a backup superblock or leftovers of a copy.
        if (!info.known() || info.block_size == 0 || info.size == 0 || info.size > volume->size()) return std::nullopt;
        if (info.is(Family::Ext) && !is_primary_ext(*volume)) return std::nullopt;
        // A lone copy of a boot sector is no volume: what it leads to must be there.
        if ((info.format == Format::Ntfs || info.is(Family::Fat)) && !open_file_system(volume, Reader::Grub))
            return std::nullopt;
        return MisplacedVolume{lba, std::move(info)};
    };
    for (const auto& p : disk.table.partitions)
        for (const std::uint64_t lba : {p.first_lba - 1, p.first_lba + 1})
            if (auto found = look(lba)) return found;
    for (std::uint64_t lba = 1; lba < std::min(first_sectors, end); ++lba)
        if (auto found = look(lba)) return found;
    return std::nullopt;
}

const Disk* Machine::disk(int number) const {
    const auto found = std::ranges::find(disks, number, &Disk::number);
    return found != disks.end() ? &*found : nullptr;
}

const Disk* Machine::drive(int index, int first) const {
    if (index < 0) return nullptr;
    for (const auto& d : disks)
        if (!d.optical && drive_index(d.number, first) == index) return &d;
    return nullptr;
}

int Machine::drive_index(int disk, int first) const {
    if (disk == first) return 0;
    int index = 0;
    for (const auto& d : disks) {
        if (d.optical) continue;
        // The one that was started comes first, the others keep their order.
        if (d.number == first || d.number < disk) ++index;
    }
    return index;
}

VolumeRef Machine::volume(int disk, int partition) const {
    return first_volume(*this, false, [&](const Volume& v) { return v.disk == disk && v.partition == partition; });
}

VolumeRef Machine::at(std::string_view place) const {
    return first_volume(*this, true, [&](const Volume& v) { return v.place == place; });
}

void Machine::each_volume(const std::function<void(const Volume&)>& visit) const {
    for (const auto& disk : disks)
        for (const auto& volume : disk.volumes) visit(*volume);
}

void Machine::each_volume(Observer observer, const std::function<void(const Volume&)>& visit) const {
    each_volume(visit);
    if (!knows_layers(observer)) return;
    for (const auto& volume : layered) visit(*volume);
}

VolumeRef Machine::by_uuid(std::string_view uuid, Observer observer) const {
    return first_volume(*this, knows_layers(observer),
                        [&](const Volume& v) { return !uuid.empty() && same_without_case(v.as(observer).uuid, uuid); });
}

VolumeRef Machine::by_label(std::string_view label, Observer observer) const {
    return first_volume(*this, knows_layers(observer),
                        [&](const Volume& v) { return !label.empty() && v.as(observer).label == label; });
}

VolumeRef Machine::by_partuuid(std::string_view partuuid) const {
    return first_volume(*this, true,
                        [&](const Volume& v) { return !partuuid.empty() && same_without_case(v.partuuid, partuuid); });
}

VolumeRef Machine::by_partlabel(std::string_view partlabel) const {
    return first_volume(*this, true, [&](const Volume& v) { return !partlabel.empty() && v.partlabel == partlabel; });
}

VolumeRef Machine::by_linux_name(std::string_view name) const {
    return first_volume(*this, true, [&](const Volume& v) {
        return std::ranges::find(v.names.linux_names, name) != v.names.linux_names.end();
    });
}

std::string Machine::places_of(const std::function<bool(const Volume&)>& which) const {
    std::string out;
    each_volume(Observer::Linux, [&](const Volume& v) {
        if (which(v))
            out += fmt::format("{}{} ({})", out.empty() ? "" : ", ", v.place,
                               v.not_assembled   ? v.not_assembled->what
                               : !v.info.known() ? std::string("unreadable")
                                                 : v.info.name());
    });
    return out;
}

bool Machine::understands(const Volume& member) const {
    return std::ranges::any_of(understood, [&](const VolumeRef& m) { return m.get() == &member; });
}

std::string Machine::hiding_places() const {
    return places_of([&](const Volume& v) {
        return (v.info.holds_others() && !understands(v)) ||
               (v.not_assembled && v.not_assembled->kind == ErrorKind::Unsupported);
    });
}

}  // namespace herberge
