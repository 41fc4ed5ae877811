// SPDX-License-Identifier: MIT
// Machines of one disk each, one for each loader that the demo's own disks do not start alone.
#pragma once

#include "kiosk.hpp"
#include "support.hpp"

namespace support {

inline const std::string today_kernel = std::string("/boot/vmlinuz-") + demo::release;
inline const std::string today_ramdisk = std::string("/boot/initrd.img-") + demo::release;

inline Bytes whole_sector(Bytes code) {
    code.resize(512);
    code[510] = 0x55;
    code[511] = 0xAA;
    return code;
}

/// The commands of a menu of GRUB Legacy that start the ledger.
inline const std::string ledger_commands =
    "root (hd0,0)\nkernel " + today_kernel + " root=UUID=" + demo::ledger_uuid + " ro\ninitrd " + today_ramdisk + "\n";

/// GRUB Legacy on a disk of its own; with its own menu the first title is the one that starts. `more`: what else is
/// done to its volume.
inline Bytes legacy_desk_with(const std::string& menu, const std::function<void(forge::Tree&)>& more = {}) {
    auto parts = demo::back_office();
    parts.ledger.file("/boot/grub/menu.lst", menu);
    if (more) more(parts.ledger);
    parts.ledger.file("/boot/grub/stage1", whole_sector(forge::make_legacy_boot()));
    auto disk = parts.second();
    std::fill_n(disk.begin() + 446 + 16, 32, std::uint8_t{0});
    return disk;
}
inline Bytes legacy_desk() {
    return legacy_desk_with("default 0\ntimeout 5\n\ntitle Ledger\n" + ledger_commands +
                            "\ntitle Old ledger\nroot (hd0,0)\nkernel /boot/none\n");
}

/// The lines of an entry of SYSLINUX that start the guests' system.
inline const std::string guests_lines = std::string("  LINUX /guest-kernel\n  APPEND root=UUID=") + demo::guests_uuid +
                                        " ro\n  INITRD /guest-ramdisk.img\n";

/// SYSLINUX on a FAT, its root beside it. `more`: what else is done to the FAT.
inline Bytes guests_desk_with(const std::string& menu, const std::function<void(forge::Tree&)>& more = {}) {
    auto parts = demo::back_office();
    parts.notice.file("/SYSLINUX/syslinux.cfg", menu);
    if (more) more(parts.notice);
    parts.guests.file("/usr/lib/syslinux/mbr/mbr.bin", forge::make_plain_boot());
    forge::FatOptions fat;
    fat.label = "GUESTS";
    auto volume = forge::make_fat(parts.notice, fat);
    forge::install_syslinux(volume, "/SYSLINUX");
    forge::ExtOptions ext;
    ext.size = 12U << 20U;
    ext.uuid = forge::uuid_from(demo::guests_uuid);
    forge::DiskSpec disk;
    disk.boot_code = forge::make_plain_boot();
    disk.partitions = {{2048, volume.bytes, 0x06, true},
                       {2048 + volume.bytes.size() / 512, forge::make_ext(parts.guests, ext), 0x83, false}};
    return forge::make_disk(disk);
}
inline Bytes guests_desk() {
    return guests_desk_with("DEFAULT guests\nPROMPT 0\n\nLABEL guests\n" + guests_lines +
                            "LABEL strays\n  LINUX /stray-kernel\n");
}

/// systemd-boot with two entries of type 1.
inline Bytes entries_kiosk() {
    auto parts = demo::kiosk();
    parts.esp.file("/loader/loader.conf", "default today.conf\n");
    auto desk = demo::front_desk();
    parts.esp.file("/linux", forge::with_efi_stub(desk.root.at(today_kernel).content))
        .file("/initrd", forge::gzip(forge::make_cpio(desk.ramdisk)));
    const std::string body = std::string("initrd /initrd\noptions root=UUID=") + demo::kiosk_uuid + " ro\n";
    parts.esp.file("/loader/entries/today.conf", "title Almhof today\nlinux /linux\n" + body);
    parts.esp.file("/loader/entries/later.conf", "title Almhof later\nlinux /loader/loader.conf\n" + body);
    parts.esp.remove("/EFI/Linux");
    return parts.build();
}

/// The front desk, whose root is a logical partition: tables lie at sectors 4096 and 36864, swap is behind the other
/// one.
inline Bytes logical_desk(bool root_is_second) {
    const std::string number = root_is_second ? "6" : "5";
    auto parts = demo::front_desk();
    edit(parts.root, "/boot/grub/grub.cfg", "hd0,msdos1", "hd0,msdos" + number);
    parts.disk.gap = forge::make_grub_core({.prefix = "(,msdos" + number + ")/boot/grub"});
    const auto flat = parts.build();
    constexpr std::size_t sector = 512, gap = 2048 * sector, root_size = 24576 * sector;
    constexpr std::uint32_t extended = 4096, second = 36864, behind = 2048;
    Bytes disk(48U << 20U);
    std::copy_n(flat.begin(), gap, disk.begin());
    std::fill_n(disk.begin() + 446, 64, std::uint8_t{0});
    const auto put = [&](std::size_t at, std::uint8_t type, std::uint32_t first, std::uint32_t length) {
        disk[at + 4] = type;
        forge::put32(disk, at + 8, first);
        forge::put32(disk, at + 12, length);
    };
    put(446, 5, extended, 60000);
    put(extended * sector + 462, 5, second - extended, 27000);
    for (const std::size_t table : {extended, second}) {
        const bool root = (table == second) == root_is_second;
        disk[table * sector + 510] = 0x55;
        disk[table * sector + 511] = 0xAA;
        put(table * sector + 446, root ? 0x83 : 0x82, behind, root ? 24576 : 4096);
        const auto swap = forge::make_swap(4096 * sector, forge::uuid_from(demo::swap_uuid));
        const auto from = root ? flat.begin() + gap : swap.begin();
        std::copy_n(from, root ? root_size : swap.size(),
                    disk.begin() + static_cast<std::ptrdiff_t>((table + behind) * sector));
    }
    return disk;
}

}  // namespace support
