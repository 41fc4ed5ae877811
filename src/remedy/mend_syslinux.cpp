// SPDX-License-Identifier: MIT
// SYSLINUX: the lists of sectors by which its boot sector and ldlinux.sys find ldlinux.sys, written anew for where the
// file lies now (as its installer writes them, libinstaller/syslxmod.c of 6.04).
#include <fmt/format.h>
#include <algorithm>
#include <cstring>

#include <herberge/places.hpp>

#include "loader/syslinux/second_stage.hpp"
#include "ondisk/syslinux.hpp"
#include "remedy/remedy.hpp"

namespace herberge::remedy {

namespace {

namespace syslinux = loader::syslinux;
using Bytes = std::vector<std::uint8_t>;

constexpr std::uint64_t sector_size = 512;

template <class T>
void put(Bytes& bytes, std::size_t at, const T& value) {
    if (at + sizeof(value) <= bytes.size()) std::memcpy(bytes.data() + at, &value, sizeof(value));
}

/// The sectors of a file, counted from the volume's start; empty: it has holes, or does not lie in whole sectors.
std::vector<std::uint64_t> sectors_of(const Volume& volume, FileId file, std::uint64_t count) {
    const auto* fs = volume.files(Observer::Linux);
    const auto extents = fs != nullptr ? fs->extents(file) : fail(ErrorKind::NotFound, "no files");
    std::vector<std::uint64_t> out;
    if (!extents) return out;
    for (const auto& extent : *extents) {
        if (out.size() == count) break;
        if (extent.offset != out.size() * sector_size || extent.base_offset % sector_size != 0) return {};
        for (std::uint64_t at = 0; at < extent.length && out.size() < count; at += sector_size)
            out.push_back((extent.base_offset + at) / sector_size);
    }
    return out.size() == count ? out : std::vector<std::uint64_t>{};
}

/// Runs of the sectors behind the first.
std::vector<ondisk::SyslinuxExtent> runs_of(const std::vector<std::uint64_t>& sectors, std::size_t count) {
    constexpr std::uint16_t most = 0xFFFF;
    std::vector<ondisk::SyslinuxExtent> out;
    for (std::size_t i = 1; i < count; ++i) {
        if (!out.empty() && out.back().sectors < most && out.back().lba + out.back().sectors == sectors[i]) {
            out.back().sectors = static_cast<std::uint16_t>(out.back().sectors + 1U);
            continue;
        }
        ondisk::SyslinuxExtent extent{};
        extent.lba = sectors[i];
        extent.sectors = 1;
        out.push_back(extent);
    }
    return out;
}

/// What the file sums up to, as its own first sector computes it.
std::uint32_t sum_of(const Bytes& file, std::uint32_t dwords) {
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < dwords; ++i) sum += ondisk::from_bytes<ondisk::little_uint32_t>(file, i * 4);
    return sum;
}

/// The file with lists for where it lies; empty: it is not whole, of another build, or has no room for them.
Bytes pointed(Bytes file, const syslinux::BootSector& boot, const Volume& volume, FileId id) {
    const auto first = std::span(file).first(std::min<std::size_t>(sector_size, file.size()));
    const auto patch_at = syslinux::find_patch(first, boot.instance);
    const auto list_at = syslinux::find_extents(first);
    if (!patch_at || !list_at) return {};
    auto patch = ondisk::from_bytes<ondisk::SyslinuxPatch>(file, *patch_at);
    const std::size_t data = patch.data_sectors;
    const std::size_t all = data + patch.adv_sectors;
    if (data == 0 || all > syslinux::most_sectors || file.size() < (data - 1) * sector_size ||
        file.size() / 4 < patch.dwords || sum_of(file, patch.dwords) != syslinux::patch_magic)
        return {};
    const auto told = ondisk::from_bytes<ondisk::SyslinuxExtended>(file, patch.extended_offset);
    const auto sectors =
        sectors_of(volume, id, std::min<std::uint64_t>(all, (file.size() + sector_size - 1) / sector_size));
    if (sectors.size() < data) return {};
    const auto runs = runs_of(sectors, data);
    if (runs.size() > told.extents_count) return {};
    for (std::size_t i = 0; i < told.extents_count; ++i)
        put(file, *list_at + i * sizeof(ondisk::SyslinuxExtent), i < runs.size() ? runs[i] : ondisk::SyslinuxExtent{});
    // The auxiliary data follow the code in the same file.
    for (std::size_t i = data; i < sectors.size(); ++i)
        put(file, told.adv_pointers + (i - data) * sizeof(ondisk::little_uint64_t),
            ondisk::little_uint64_t(sectors[i]));
    patch.checksum = 0;
    put(file, *patch_at, patch);
    patch.checksum = syslinux::patch_magic - sum_of(file, patch.dwords);
    put(file, *patch_at, patch);
    return file;
}

void volume_boot(const Volume& volume, const syslinux::BootSector& boot, const PlacedFile& file, const FilePlace& place,
                 std::vector<Idea>& out) {
    auto content = file.bytes->bytes(0, file.bytes->size(), (syslinux::most_sectors + 8) * sector_size);
    const auto sectors = sectors_of(volume, file.found.file.id, 1);
    if (!content || sectors.empty()) return;
    auto changed = pointed(*content, boot, volume, file.found.file.id);
    if (changed.empty() || (changed == *content && sectors.front() == boot.first)) return;
    out.push_back({fmt::format("let {}'s boot sector and {} name the sectors in which that file lies", volume.place,
                               place.text()),
                   {},
                   [where = volume.place, place, boot, first = sectors.front(),
                    changed = std::move(changed)](Workshop& shop) -> Result<void> {
                       const Machine now = shop.machine();
                       const auto held = now.at(where);
                       const auto opened = open_file(now, place);
                       if (held == nullptr || !opened) return fail(ErrorKind::NotFound, "it is gone", where);
                       const ondisk::little_uint32_t lower(static_cast<std::uint32_t>(first));
                       const ondisk::little_uint32_t upper(static_cast<std::uint32_t>(first >> 32U));
                       const auto bytes = [](const ondisk::little_uint32_t& value) {
                           return std::span(reinterpret_cast<const std::uint8_t*>(&value), sizeof(value));
                       };
                       if (auto done = shop.write(*held->source, boot.pointer_at, bytes(lower)); !done) return done;
                       if (auto done = shop.write(*held->source, boot.upper_at, bytes(upper)); !done) return done;
                       return shop.write(*opened->bytes, 0, changed);
                   },
                   9});
}

}  // namespace

void propose_syslinux(const Case& stopped, std::vector<Idea>& out) {
    if (stopped.verdict.firmware != FirmwareKind::Bios || stopped.rung.stage > Stage::Loader) return;
    stopped.machine.each_volume([&](const Volume& volume) {
        const auto sector = volume.source->bytes(0, sector_size);
        const auto boot = sector ? syslinux::read_boot_sector(*sector) : std::nullopt;
        if (!boot) return;
        for (const char* folder :
             {"", "/syslinux", "/boot/syslinux", "/extlinux", "/boot/extlinux", "/boot", "/SYSLINUX"}) {
            const FilePlace place{volume.place, fmt::format("{}/ldlinux.sys", folder)};
            if (const auto file = open_file(stopped.machine, place)) volume_boot(volume, *boot, *file, place, out);
        }
    });
}

}  // namespace herberge::remedy
