// SPDX-License-Identifier: MIT
// Stand-ins for GRUB Legacy and the SYSLINUX family: their structures, and code that goes as far as it says.
#include <algorithm>
#include <stdexcept>

#include "forge.hpp"

extern "C" {
extern const std::uint8_t forge_legacy_stage1[], forge_legacy_stage1_end[];
extern const std::uint8_t forge_legacy_start[], forge_legacy_start_end[];
extern const std::uint8_t forge_legacy_stage15[], forge_legacy_stage15_end[];
extern const std::uint8_t forge_lilo_boot[], forge_lilo_boot_end[];
extern const std::uint8_t forge_syslinux_boot[], forge_syslinux_boot_end[];
extern const std::uint8_t forge_syslinux_stage2[], forge_syslinux_stage2_end[];
}

namespace forge {

namespace {

constexpr std::size_t sector_size = 512;

void put_text(Bytes& out, std::size_t at, std::string_view text) {
    grow(out, at + text.size() + 1);
    std::copy(text.begin(), text.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
}

}  // namespace

Bytes make_legacy_boot() {
    Bytes out(forge_legacy_stage1, forge_legacy_stage1_end);
    grow(out, 440);
    return out;
}

Bytes make_legacy_gap(unsigned partition, std::string_view stage2) {
    Bytes out(forge_legacy_start, forge_legacy_start_end);
    grow(out, sector_size);
    put32(out, 0x1F8, 2);
    put16(out, 0x1FC, 4);
    put16(out, 0x1FE, 0x220);
    Bytes body(forge_legacy_stage15, forge_legacy_stage15_end);
    grow(body, 4 * sector_size);
    put32(body, 8, 0xFFFFFF);
    body[0x10] = 2;  // reads ext2
    put_text(body, 0x12, "0.97");
    put32(body, 0x17, 0xFF00FFFFU | partition << 16U);
    put_text(body, 0x1B, std::string(stage2) + " /boot/grub/menu.lst");
    out.insert(out.end(), body.begin(), body.end());
    return out;
}

Bytes make_legacy_stage2(std::string_view config) {
    Bytes out = noise(24000, 97);
    std::fill_n(out.begin() + sector_size, 0x100, std::uint8_t{0});
    out[sector_size] = 0xEA;
    out[sector_size + 6] = 3;
    out[sector_size + 7] = 2;
    put32(out, sector_size + 8, 0xFFFFFF);
    put_text(out, sector_size + 0x12, "0.97");
    put_text(out, sector_size + 0x17, config);
    return out;
}

Bytes make_lilo_boot(std::uint32_t list_sector) {
    Bytes out(forge_lilo_boot, forge_lilo_boot_end);
    grow(out, 440);
    put32(out, 0x20, list_sector);
    return out;
}

namespace {

Bytes lilo_address(std::uint32_t lba, std::uint8_t count, bool linear) {
    if (linear)
        return {static_cast<std::uint8_t>(lba), static_cast<std::uint8_t>(lba >> 8U), 0x80 | 0x20,
                static_cast<std::uint8_t>(lba >> 16U), count};
    const std::uint32_t cylinder = lba / (255 * 63);
    return {static_cast<std::uint8_t>((lba % 63 + 1) | (cylinder >> 2U & 0xC0U)), static_cast<std::uint8_t>(cylinder),
            0x80, static_cast<std::uint8_t>(lba / 63 % 255), count};
}

}  // namespace

Bytes make_lilo_map(const std::vector<LiloImage>& images, std::uint32_t first, bool linear) {
    constexpr std::size_t per_sector = 101;
    Bytes out(3 * 512);  // the default command line's sector, two sectors of descriptors
    put16(out, 0, 0x6B6D);
    const auto list = [&](const std::vector<SectorRun>& runs) {
        Bytes all;
        std::size_t count = 0;
        for (auto [lba, left] : runs)
            while (left > 0) {
                const auto part = static_cast<std::uint8_t>(std::min<unsigned>(left, 120));
                const Bytes address = lilo_address(lba, part, linear);
                all.insert(all.end(), address.begin(), address.end());
                lba += part;
                left = static_cast<std::uint16_t>(left - part);
                ++count;
            }
        const std::size_t at = out.size() / 512;
        for (std::size_t i = 0; i == 0 || i < count; i += per_sector) {
            Bytes one(all.begin() + static_cast<std::ptrdiff_t>(i * 5),
                      all.begin() + static_cast<std::ptrdiff_t>(std::min(count, i + per_sector) * 5));
            one.resize(512);
            if (i + per_sector < count) {
                const Bytes next = lilo_address(first + static_cast<std::uint32_t>(out.size() / 512) + 1, 1, linear);
                std::copy(next.begin(), next.end(), one.begin() + per_sector * 5);
            }
            out.insert(out.end(), one.begin(), one.end());
        }
        return lilo_address(first + static_cast<std::uint32_t>(at), 1, linear);
    };
    for (std::size_t i = 0; i < images.size(); ++i) {
        const std::size_t at = 512 + i * 52;
        const auto& image = images[i];
        const Bytes start = list(image.kernel);
        const Bytes ramdisk = image.ramdisk.empty() ? Bytes(5) : list(image.ramdisk);
        std::copy(image.label.begin(), image.label.end(), out.begin() + static_cast<std::ptrdiff_t>(at));
        put32(out, at + 32, image.ramdisk_size);
        std::copy(ramdisk.begin(), ramdisk.end(), out.begin() + static_cast<std::ptrdiff_t>(at + 36));
        std::copy(start.begin(), start.end(), out.begin() + static_cast<std::ptrdiff_t>(at + 41));
    }
    return out;
}

Bytes make_sector_list(const std::vector<std::pair<std::uint32_t, std::uint16_t>>& runs) {
    Bytes out;
    for (const auto& [first, count] : runs) {
        const std::size_t at = out.size();
        put32(out, at, first);
        put32(out, at + 4, count);
    }
    grow(out, sector_size);
    return out;
}

Bytes make_syslinux_stage2(std::string_view directory) {
    Bytes out(forge_syslinux_stage2, forge_syslinux_stage2_end);
    grow(out, 8 * sector_size);
    // The further fields, the list of extents behind them, the directory's name behind the code.
    put16(out, 0x182, 0x1E0);
    put16(out, 0x184, static_cast<std::uint16_t>(directory.size() + 1));
    put16(out, 0x18A, 0x1A0);
    put16(out, 0x18C, 6);
    put_text(out, 0x1E0, directory);
    return out;
}

Bytes make_syslinux_module() {
    // The head of a 32-bit x86 ELF shared object; nothing in it is ever run.
    Bytes out(4096);
    const std::uint8_t ident[] = {0x7F, 'E', 'L', 'F', 1, 1, 1};
    std::copy(std::begin(ident), std::end(ident), out.begin());
    put16(out, 16, 3);
    put16(out, 18, 3);
    put32(out, 20, 1);
    put16(out, 40, 52);
    return out;
}

void install_syslinux(FatImage& volume, const std::string& directory) {
    const auto file = volume.first_sector.find(directory + "/ldlinux.sys");
    const auto config = volume.first_sector.find(directory + "/syslinux.cfg");
    if (file == volume.first_sector.end() || config == volume.first_sector.end())
        throw std::runtime_error("no ldlinux.sys or syslinux.cfg to install");
    const std::uint32_t first = file->second;
    Bytes code(forge_syslinux_boot + 0x5A, forge_syslinux_boot_end);  // without the signature
    for (std::size_t i = 0; i + 15 < code.size(); ++i)
        if (code[i] == 0x66 && code[i + 1] == 0xB8 && code[i + 6] == 0x66 && code[i + 7] == 0xBA) {
            put32(code, i + 2, first);
            break;
        }
    std::copy(code.begin(), code.end(), volume.bytes.begin() + 0x5A);
    volume.bytes[1] = 0x58;
    Bytes stage = make_syslinux_stage2(directory);
    const auto sectors = static_cast<std::uint16_t>(stage.size() / sector_size);
    put16(stage, 0x20, sectors);
    put16(stage, 0x22, 0);
    put32(stage, 0x24, static_cast<std::uint32_t>(stage.size() / 4));
    put32(stage, 0x28, 0);
    put16(stage, 0x2C, 0x7F);
    put16(stage, 0x2E, 0x180);
    put32(stage, 0x190, config->second);
    put32(stage, 0x1A0, first + 1);
    put16(stage, 0x1A8, static_cast<std::uint16_t>(sectors - 1));
    std::uint32_t sum = 0x3EB202FE;
    for (std::size_t i = 0; i < stage.size(); i += 4) sum -= get32(stage, i);
    put32(stage, 0x28, sum);
    std::copy(stage.begin(), stage.end(),
              volume.bytes.begin() + static_cast<std::ptrdiff_t>(std::size_t{first} * sector_size));
}

}  // namespace forge
