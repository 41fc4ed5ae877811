// SPDX-License-Identifier: MIT
#include "help_disc.hpp"

#include <algorithm>

#include "forge/uefi.hpp"

namespace demo {

using forge::Bytes;

forge::Tree help_root_files() {
    const auto desk = front_desk();
    forge::Tree root;
    for (const auto& [path, node] : desk.root.nodes()) {
        if (path.starts_with("/boot") || path.ends_with("fstab")) continue;
        if (node.kind == forge::Node::Kind::File) root.file(path, node.content, node.mode);
        if (node.kind == forge::Node::Kind::Link) root.link(path, node.target);
        if (node.kind == forge::Node::Kind::Directory) root.directory(path, node.mode);
    }
    return root;
}

HelpDisc help_disc() {
    HelpDisc out;
    const auto desk = front_desk();
    const Bytes kernel = desk.root.nodes().at(std::string("/boot/vmlinuz-") + release).content;
    auto ramdisk_files = desk.ramdisk;
    for (const std::string path :
         {"fs/isofs/isofs", "fs/fat/vfat", "fs/squashfs/squashfs", "fs/overlayfs/overlay", "drivers/block/loop"})
        ramdisk_files.file(std::string("/lib/modules/") + release + "/kernel/" + path + ".ko",
                           forge::make_kernel_module(path.substr(path.rfind('/') + 1)));
    const Bytes ramdisk = forge::gzip(forge::make_cpio(ramdisk_files));
    auto& t = out.files;
    t.file("/.disk/info", "Almhof Help 4 (Murmeltier)\n");
    t.file(help_image, forge::make_disc_boot()).file("/boot/isolinux/ldlinux.c32", forge::make_syslinux_module());
    t.file(help_config,
           "DEFAULT help\nPROMPT 1\nTIMEOUT 50\nLABEL help\n  LINUX /live/vmlinuz\n  INITRD /live/initrd.img\n  APPEND "
           "boot=live quiet\n");
    t.file(help_kernel, kernel)
        .file("/live/initrd.img", ramdisk)
        .file(help_root, forge::make_squashfs(help_root_files()));
    t.file("/notes of the technician/what to do when the front desk stays dark.txt", "Look first, write later.\n");
    t.link("/vmlinuz", "live/vmlinuz").link("/notes of the technician/kernel", "../live/vmlinuz");
    out.esp.file(
        "/EFI/BOOT/BOOTX64.EFI",
        forge::make_efi_application({{".sdmagic", forge::to_bytes("#### a stand-in for a boot manager ####")}}));
    out.esp.file("/EFI/Linux/help-4.efi",
                 forge::make_unified_kernel("PRETTY_NAME=\"Almhof Help 4 (Murmeltier)\"\nID=almhofhelp\nVERSION_ID=4\n",
                                            "boot=live quiet", forge::with_efi_stub(kernel), ramdisk));
    out.options.boot_image = help_image;
    out.options.efi_image = "/boot/efi.img";
    out.options.configuration = help_config;
    out.options.hybrid = true;
    return out;
}

forge::DiscImage HelpDisc::build() const {
    forge::Tree all = files;
    forge::FatOptions fat;
    fat.size = 2U << 20U;
    fat.hidden_sectors = 0;
    fat.label = "HELP";
    all.file("/boot/efi.img", forge::make_fat(esp, fat).bytes);
    return forge::make_disc(all, options);
}

std::vector<Story> help_discs() {
    auto changed = [](std::function<void(HelpDisc&)> change) {
        return [change = std::move(change)] {
            auto disc = help_disc();
            change(disc);
            return disc.build().bytes;
        };
    };
    return {
        {"help.iso", "the technician's disc, written to a stick", "", changed([](HelpDisc&) {})},
        {"help-drive.iso", "the same for a drive only: without a first sector of its own", "",
         changed([](HelpDisc& d) { d.options.hybrid = false; })},
        {"help-scratched.iso", "a scratch runs through the loader's image", "loader",
         [] {
             auto disc = help_disc();
             disc.options.hybrid = false;
             auto image = disc.build();
             image.bytes[image.first_block.at(help_image) * std::size_t{2048} + 5000] ^= 0x41U;
             return image.bytes;
         }},
        {"help-no-root.iso", "the packed root did not fit and was left out", "root",
         changed([](HelpDisc& d) { d.files.remove(help_root); })},
    };
}

}  // namespace demo
