// SPDX-License-Identifier: MIT
#include "kiosk.hpp"

#include "forge/sign.hpp"

#include <algorithm>

namespace demo {

using forge::Bytes;

namespace {

const std::string manager = "/EFI/BOOT/BOOTX64.EFI";
const std::string own_manager = "/EFI/almhof/checkin.efi";
const std::string image = "/EFI/Linux/checkin-4.efi";

const forge::SigningKey& house_key() {
    static const forge::SigningKey key("Almhof image signing");
    return key;
}

/// What the kernel's build appends to a module (include/linux/module_signature.h): a signature, its sizes, a mark.
void sign_module(Bytes& module) {
    const Bytes signature = forge::noise(256, 11);
    module.insert(module.end(), signature.begin(), signature.end());
    const Bytes sizes{0, 0, 2, 0, 0, 0, 0, 0, 0, 0, 1, 0};
    module.insert(module.end(), sizes.begin(), sizes.end());
    const Bytes mark = forge::to_bytes("~Module signature appended~\n");
    module.insert(module.end(), mark.begin(), mark.end());
}

/// The kiosk with everything signed that the firmware looks at.
Kiosk signed_kiosk() {
    Kiosk out = kiosk(true);
    for (const auto& path : {manager, own_manager, image})
        out.esp.at(path).content = house_key().sign(out.esp.at(path).content);
    return out;
}

Bytes boot_manager() {
    return forge::make_efi_application({{".sdmagic", forge::to_bytes("#### a stand-in for a boot manager ####")}});
}

}  // namespace

std::string kiosk_partition_guid(const Bytes& disk, int number) {
    const std::size_t at = 1024 + static_cast<std::size_t>(number - 1) * 128 + 16;
    static constexpr std::size_t order[16] = {3, 2, 1, 0, 5, 4, 7, 6, 8, 9, 10, 11, 12, 13, 14, 15};
    static constexpr char digits[] = "0123456789abcdef";
    std::string out;
    for (std::size_t i = 0; i < 16; ++i) {
        if (i == 4 || i == 6 || i == 8 || i == 10) out += '-';
        out += digits[disk[at + order[i]] >> 4U];
        out += digits[disk[at + order[i]] & 15U];
    }
    return out;
}

Kiosk kiosk(bool locked) {
    Kiosk out;
    auto desk = front_desk();
    out.root = desk.root;
    // A machine that starts by UEFI has no use for the desk's menu.
    out.root.remove("/boot/grub");
    out.root.file("/etc/os-release",
                  "PRETTY_NAME=\"Almhof Check-in 4 (Steinbock)\"\nVERSION_ID=\"4\"\nID=almhofcheckin\n");
    out.root.file("/etc/fstab", std::string("UUID=") + kiosk_uuid + " / ext4 errors=remount-ro 0 1\n");
    const Bytes kernel = forge::with_efi_stub(out.root.at(std::string("/boot/vmlinuz-") + release).content);
    // A copy of the tree: its nodes are changed on the way.
    const forge::Tree before = desk.ramdisk;
    if (locked)
        for (const auto& [path, node] : before.nodes())
            if (path.ends_with(".ko")) sign_module(desk.ramdisk.at(path).content);
    const Bytes ramdisk = forge::gzip(forge::make_cpio(desk.ramdisk));
    out.esp.file(manager, boot_manager());
    out.esp.file(own_manager, boot_manager());
    out.esp.file(image, forge::make_unified_kernel(
                            "PRETTY_NAME=\"Almhof Check-in 4 (Steinbock)\"\nID=almhofcheckin\nVERSION_ID=4\n",
                            std::string("root=UUID=") + kiosk_uuid + " ro quiet", kernel, ramdisk));
    out.esp.file("/loader/loader.conf", "default checkin-*\ntimeout 3\n");
    return out;
}

Bytes Kiosk::build() const {
    forge::DiskSpec disk;
    disk.size = 24U << 20U;
    disk.gpt = true;
    forge::FatOptions fat;
    fat.size = 8U << 20U;
    fat.label = "KIOSK";
    forge::ExtOptions ext;
    ext.size = 10U << 20U;
    ext.uuid = forge::uuid_from(kiosk_uuid);
    disk.partitions = {{2048, forge::make_fat(esp, fat).bytes, 0xEF, false},
                       {2048 + fat.size / 512, forge::make_ext(root, ext), 0x83, false}};
    return forge::make_disk(disk);
}

std::vector<KioskStory> kiosk_stories() {
    auto changed = [](auto change) {
        return [change] {
            auto k = kiosk();
            change(k);
            return k.build();
        };
    };
    const auto option = [](const std::string& guid) {
        Bytes order;
        forge::put16(order, 0, 0x0004);
        return forge::make_flash({{"BootOrder", "8be4df61-93ca-11d2-aa0d-00e098032b8c", order},
                                  {"Boot0004", "8be4df61-93ca-11d2-aa0d-00e098032b8c",
                                   forge::make_boot_option("Almhof Check-in", 1, guid, "\\EFI\\almhof\\checkin.efi")}});
    };
    const auto right = [option](const Bytes& disk) { return option(kiosk_partition_guid(disk, 1)); };
    const auto gone = [option](const Bytes&) { return option("0ff1ce00-dead-4000-8000-000000000001"); };
    // A platform key that is enrolled switches Secure Boot on.
    const auto secured = [](const Bytes& disk) {
        const std::string global = "8be4df61-93ca-11d2-aa0d-00e098032b8c";
        Bytes order;
        forge::put16(order, 0, 0x0004);
        const Bytes allowed = forge::make_certificate_list({house_key().certificate()});
        return forge::make_flash({{"PK", global, allowed},
                                  {"db", "d719b2cb-3d3a-4596-a3bc-dad00e67656f", allowed},
                                  {"BootOrder", global, order},
                                  {"Boot0004", global,
                                   forge::make_boot_option("Almhof Check-in", 1, kiosk_partition_guid(disk, 1),
                                                           "\\EFI\\almhof\\checkin.efi")}});
    };
    const auto signed_one = [](auto change) {
        return [change] {
            auto k = signed_kiosk();
            change(k);
            return k.build();
        };
    };
    return {
        {"kiosk-secure", "Secure Boot is on, and all that the firmware starts is signed by the house", "",
         signed_one([](Kiosk&) {}), secured},
        {"kiosk-unsigned", "Secure Boot is on, and a kernel image without a signature was put in", "kernel",
         signed_one([](Kiosk& k) { k.esp.at(image).content = kiosk().esp.at(image).content; }), secured},
        {"kiosk-tampered", "Secure Boot is on, and one byte of the signed boot manager was changed", "boot-code",
         signed_one([](Kiosk& k) {
             for (const auto& path : {manager, own_manager}) k.esp.at(path).content[0x401] ^= 1U;
         }),
         secured},
        {"kiosk", "as it was delivered", "", changed([](Kiosk&) {}), right},
        {"kiosk-no-fallback", "the fallback file is missing; the boot option leads the way", "",
         changed([](Kiosk& k) { k.esp.remove(manager); }), right},
        {"kiosk-gone", "its boot option names a partition that is gone, and there is no fallback file", "firmware",
         changed([](Kiosk& k) { k.esp.remove(manager); }), gone},
        {"kiosk-cut", "the boot manager was cut short by a full volume", "boot-code", changed([](Kiosk& k) {
             for (const auto& path : {manager, own_manager}) k.esp.at(path).content.resize(700);
         }),
         right},
        {"kiosk-no-image", "the kernel image was deleted", "configuration",
         changed([](Kiosk& k) { k.esp.remove(image); }), right},
    };
}

}  // namespace demo
