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

/// GRUB Legacy on a disk of its own; the first title is the one that starts.
inline Bytes legacy_desk() {
    auto parts = demo::back_office();
    const std::string body = "root (hd0,0)\nkernel " + today_kernel + " root=UUID=" + demo::ledger_uuid +
                             " ro\ninitrd " + today_ramdisk + "\n";
    parts.ledger.file("/boot/grub/menu.lst", "default 0\ntimeout 5\n\ntitle Ledger\n" + body +
                                                 "\ntitle Old ledger\nroot (hd0,0)\nkernel /boot/none\n");
    parts.ledger.file("/boot/grub/stage1", whole_sector(forge::make_legacy_boot()));
    auto disk = parts.second();
    std::fill_n(disk.begin() + 446 + 16, 32, std::uint8_t{0});
    return disk;
}

/// SYSLINUX on a FAT, its root beside it.
inline Bytes guests_desk() {
    auto parts = demo::back_office();
    parts.notice.file(
        "/SYSLINUX/syslinux.cfg",
        std::string("DEFAULT guests\nPROMPT 0\n\nLABEL guests\n  LINUX /guest-kernel\n  APPEND root=UUID=") +
            demo::guests_uuid + " ro\n  INITRD /guest-ramdisk.img\nLABEL strays\n  LINUX /stray-kernel\n");
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

}  // namespace support
