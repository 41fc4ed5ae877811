// SPDX-License-Identifier: MIT
#include "files/marks.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "bytes/text16.hpp"
#include "files/stored.hpp"
#include "ondisk/linux.hpp"
#include "ondisk/luks.hpp"
#include "ondisk/marks.hpp"
#include "ondisk/md.hpp"

namespace herberge {

namespace {

using Found = std::optional<VolumeInfo>;
using stored::begins;
using stored::fixed_text;

VolumeInfo named(Format format) {
    VolumeInfo info;
    info.format = format;
    return info;
}

/// Linux swap: the mark sits in the last ten bytes of the first page (kernel mm/swapfile.c, 4 KiB pages).
Found swap(const ByteSource& volume) {
    const auto mark = volume.load<ondisk::Bytes<10>>(4096 - 10);
    if (!mark || !begins(*mark, "SWAPSPACE2")) return std::nullopt;
    const auto header = volume.load<ondisk::SwapHeader>(0);
    if (!header) return std::nullopt;
    auto info = named(Format::Swap);
    info.uuid = uuid_text(header->uuid);
    info.label = fixed_text(header->label);
    info.block_size = 4096;
    info.size = (std::uint64_t{header->last_page} + 1) * 4096;
    return info;
}

Found bitlocker(const ByteSource& volume) {
    const auto boot = volume.load<ondisk::NtfsBoot>(0);
    if (!boot || !begins(boot->oem_name, "-FVE-FS-")) return std::nullopt;
    auto info = named(Format::Bitlocker);
    info.size = boot->sectors * boot->bytes_per_sector;
    return info;
}

Found exfat(const ByteSource& volume) {
    const auto boot = volume.load<ondisk::ExfatBoot>(0);
    if (!boot || !begins(boot->name, "EXFAT   ") || boot->sector_shift < 9 || boot->sector_shift > 12 ||
        boot->cluster_shift > 16)
        return std::nullopt;
    auto info = named(Format::Exfat);
    info.size = boot->sectors << boot->sector_shift;
    info.block_size = 1U << (boot->sector_shift + std::min<unsigned>(boot->cluster_shift, 16));
    info.uuid = fmt::format("{:04X}-{:04X}", boot->serial >> 16U, boot->serial & 0xFFFFU);
    return info;
}

Found f2fs(const ByteSource& volume) {
    const auto super = volume.load<ondisk::F2fsSuper>(1024);
    if (!super || super->magic != 0xF2F52010U) return std::nullopt;
    auto info = named(Format::F2fs);
    info.uuid = uuid_text(super->uuid);
    info.label = printable(utf8_from(units_from(super->label, false, true)));
    info.block_size = super->log_block_size < 20 ? 1U << super->log_block_size : 0;
    info.size = super->blocks * info.block_size;
    return info;
}

Found luks(const ByteSource& volume) {
    auto header = volume.load<ondisk::Luks2Header>(0);
    if (!header) return std::nullopt;
    if (!begins(header->magic, "LUKS\xBA\xBE")) {
        // The second header of version 2, when the first one is gone.
        bool found = false;
        for (const std::uint64_t at : ondisk::luks2_copy_places) {
            header = volume.load<ondisk::Luks2Header>(at);
            found = header && begins(header->magic, "SKUL\xBA\xBE") && header->version == 2 && header->offset == at;
            if (found || !header) break;
        }
        if (!found) return std::nullopt;
    }
    auto info = named(header->version == 1 ? Format::Luks1 : header->version == 2 ? Format::Luks2 : Format::Luks);
    info.uuid = fixed_text(header->uuid);
    if (header->version == 2) info.label = fixed_text(header->label);
    return info;
}

Found raid(const ByteSource& volume) {
    for (const std::uint64_t at : raid_super_places(volume.size())) {
        const auto super = volume.load<ondisk::RaidSuper>(at);
        if (!super || super->magic != raid_magic || super->major > 1) continue;
        // It says itself where it lies: the end of a disk is the end of its last partition, too.
        if (super->major == 1 && super->super_offset != at / 512) continue;
        auto info = named(Format::RaidMember);
        if (super->major == 1) {
            info.uuid = uuid_text(super->array_uuid);
            info.label = fixed_text(super->name);
        }
        return info;
    }
    return std::nullopt;
}

Found lvm(const ByteSource& volume) {
    for (std::uint64_t sector = 0; sector < 4; ++sector) {
        const auto label = volume.load<ondisk::LvmLabel>(sector * 512);
        if (!label || !begins(label->id, "LABELONE") || !begins(label->type, "LVM2 001")) continue;
        auto info = named(Format::LvmMember);
        info.uuid = fixed_text(label->uuid);
        info.size = label->size;
        return info;
    }
    return std::nullopt;
}

}  // namespace

std::vector<std::uint64_t> raid_super_places(std::uint64_t size) {
    std::vector<std::uint64_t> out{0, 4096};
    if (size >= 131072) {
        out.push_back((size / 512 - 16) / 8 * 8 * 512);
        out.push_back(size / 65536 * 65536 - 65536);
    }
    return out;
}

std::optional<VolumeInfo> recognise_layer(const ByteSource& volume) {
    for (const auto& look : {luks, raid, lvm, bitlocker})
        if (auto found = look(volume)) return found;
    return std::nullopt;
}

std::optional<VolumeInfo> recognise_by_mark(const ByteSource& volume) {
    for (const auto& look : {exfat, f2fs, swap})
        if (auto found = look(volume)) return found;
    return std::nullopt;
}

}  // namespace herberge
