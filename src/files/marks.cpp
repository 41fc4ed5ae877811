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

/// What is only named: where its mark stands, and its UUID and label.
struct Mark {
    Format format;
    std::uint64_t at;
    std::string_view mark;
    std::uint64_t uuid_at = 0;  ///< 0: none of 16 bytes
    std::uint64_t label_at = 0;
    std::size_t label_size = 0;
};
using namespace std::string_view_literals;
constexpr Mark around[] = {
    {Format::UbiMember, 0, "UBI#\x01"sv},
    // Its first block may be bad.
    {Format::UbiMember, 131072, "UBI#\x01"sv},
    // kernel include/uapi/linux/bcache.h, struct cache_sb
    {Format::Bcache, 4096 + 24, "\xC6\x85\x73\xF6\x4E\x1A\x45\xCA\x82\x65\xF5\x7F\x48\xBA\x6D\x81"sv, 4096 + 40},
    // kernel Documentation/admin-guide/device-mapper/verity.rst; dm-integrity.c, struct superblock
    {Format::Verity, 0, "verity\0\0\1\0\0\0"sv, 16},
    {Format::Integrity, 0, "integrt\0"sv},
};
constexpr Mark plain_marks[] = {
    // The list of pairs in a vdev label (XDR), whose first name is "version".
    {Format::Zfs, 0x4000, "\1\1\0\0\0\0\0\0\0\0\0\1"sv},
    {Format::Refs, 3, "ReFS\0\0\0\0\0\0\0\0\0FSRS"sv},
    {Format::Bcachefs, 4096 + 24, "\xC6\x85\x73\xF6\x66\xCE\x90\xA9\xD9\x6A\x60\xCF\x80\x3D\xF7\xEF"sv, 4096 + 56,
     4096 + 72, 32},
    {Format::Reiserfs, 65536 + 52, "ReIsEr2Fs"sv, 65536 + 84, 65536 + 100, 16},
    {Format::Reiserfs, 65536 + 52, "ReIsEr3Fs"sv, 65536 + 84, 65536 + 100, 16},
    {Format::Reiserfs, 65536 + 52, "ReIsErFs"sv},
    {Format::Jfs, 32768, "JFS1"sv, 32768 + 136, 32768 + 152, 16},
    {Format::Nilfs, 1024 + 6, "\x34\x34"sv, 1024 + 152, 1024 + 168, 80},
    {Format::Erofs, 1024, "\xE2\xE1\xF5\xE0"sv, 1024 + 48, 1024 + 64, 16},
    {Format::Hfsplus, 1024, "H+\0\4"sv},
    {Format::Hfsplus, 1024, "HX\0\5"sv},
    {Format::Apfs, 32, "NXSB"sv, 72},
};

Found look_for(const ByteSource& volume, std::span<const Mark> marks) {
    for (const auto& one : marks) {
        const auto bytes = volume.bytes(one.at, one.mark.size());
        if (!bytes || !begins(*bytes, one.mark)) continue;
        auto info = named(one.format);
        if (const auto uuid =
                one.uuid_at != 0 ? volume.load<ondisk::Bytes<16>>(one.uuid_at) : fail(ErrorKind::NotFound, "none"))
            info.uuid = uuid_text(*uuid);
        if (const auto label =
                one.label_size != 0 ? volume.bytes(one.label_at, one.label_size) : fail(ErrorKind::NotFound, "none"))
            info.label = fixed_text(*label);
        return info;
    }
    return std::nullopt;
}

/// A superblock of NILFS2 carries its own checksum; two bytes of a mark alone would be found anywhere (kernel
/// include/uapi/linux/nilfs2_ondisk.h).
bool is_nilfs(const ByteSource& volume) {
    const auto fields = volume.load<ondisk::NilfsSuper>(1024);
    if (!fields || fields->bytes < 24 || fields->bytes > 1024) return false;
    auto bytes = volume.bytes(1024, fields->bytes);
    if (!bytes) return false;
    std::fill_n(bytes->begin() + offsetof(ondisk::NilfsSuper, checksum), 4, std::uint8_t{0});
    return ~crc32(~fields->checksum_seed, *bytes) == fields->checksum;
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
    return look_for(volume, around);
}

std::optional<VolumeInfo> recognise_by_mark(const ByteSource& volume) {
    if (auto info = swap(volume)) return info;
    auto found = look_for(volume, plain_marks);
    if (found && found->format == Format::Nilfs && !is_nilfs(volume)) return std::nullopt;
    return found;
}

}  // namespace herberge
