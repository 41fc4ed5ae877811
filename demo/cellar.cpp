// SPDX-License-Identifier: MIT
#include "cellar.hpp"

namespace demo {

namespace {

constexpr const char* boot_uuid = "ce11a700-0001-4a01-8a01-00000ce11a01";
constexpr const char* cellar_root_uuid = "ce11a700-0002-4a01-8a01-00000ce11a02";
constexpr const char* cellar_swap_uuid = "ce11a700-0003-4a01-8a01-00000ce11a03";

}  // namespace

void split_off(const forge::Tree& whole, const std::string& folder, forge::Tree& apart, forge::Tree& root) {
    for (const auto& [path, node] : whole.nodes()) {
        const bool below = path.starts_with(folder + "/");
        auto& tree = below ? apart : root;
        const std::string at = below ? path.substr(folder.size()) : path;
        switch (node.kind) {
            case forge::Node::Kind::Directory: tree.directory(at); break;
            case forge::Node::Kind::Link: tree.link(at, node.target); break;
            case forge::Node::Kind::File: tree.file(at, node.content, node.mode); break;
            default: break;
        }
    }
    root.directory(folder);
}

Cellar cellar() {
    Cellar out;
    const auto desk = front_desk();
    split_off(desk.root, "/boot", out.boot, out.root);
    out.root.file(
        "/etc/os-release",
        "PRETTY_NAME=\"Almhof Cellar 3 (Silberdistel)\"\nNAME=\"Almhof Cellar\"\nVERSION_ID=\"3\"\nID=almhofcellar\n");
    out.root.file("/etc/hostname", "cellar\n");
    out.root.file("/etc/fstab", std::string("/dev/mapper/inn-root / ext4 errors=remount-ro 0 1\nUUID=") + boot_uuid +
                                    " /boot ext4 defaults 0 2\n/dev/mapper/inn-swap none swap sw 0 0\n");
    const std::string kernel = std::string("vmlinuz-") + release;
    out.boot.file(
        "/grub/grub.cfg",
        "set default=0\nset timeout=5\nmenuentry 'Almhof cellar' {\n\tsearch --no-floppy --fs-uuid --set=root " +
            std::string(boot_uuid) + "\n\tlinux /" + kernel +
            " root=/dev/mapper/inn-root ro quiet\n\tinitrd /initrd.img-" + release + "\n}\n");
    out.ramdisk = desk.ramdisk;
    out.ramdisk.file("/sbin/lvm", forge::make_program(), 0755);
    out.ramdisk.file(std::string("/lib/modules/") + release + "/kernel/drivers/md/dm-mod.ko",
                     forge::make_kernel_module("dm_mod"));
    return out;
}

forge::Bytes Cellar::build() const {
    auto files = boot;
    auto first_root = ramdisk;
    if (!crypttab.empty()) first_root.file("/cryptroot/crypttab", crypttab);
    files.file(std::string("/initrd.img-") + release, forge::gzip(forge::make_cpio(first_root)));
    forge::ExtOptions small;
    small.size = 6U << 20U;
    small.uuid = forge::uuid_from(boot_uuid);
    small.label = "cellar-boot";
    forge::ExtOptions large;
    large.size = 8U << 20U;
    large.uuid = forge::uuid_from(cellar_root_uuid);
    large.label = "cellar";
    auto members = forge::make_lvm(group, {{"root", forge::make_ext(root, large)},
                                           {"swap", forge::make_swap(1U << 20U, forge::uuid_from(cellar_swap_uuid))}});
    if (!passphrase.empty()) members = forge::make_luks(members, passphrase, {2, vault_uuid, "vault"});
    forge::DiskSpec disk;
    disk.size = (passphrase.empty() ? 20U : 24U) << 20U;
    disk.signature = 0x0CE11A01;
    disk.boot_code = forge::make_grub_boot();
    disk.gap = forge::make_grub_core({.prefix = "(,msdos1)/grub"});
    disk.partitions = {
        {2048, forge::make_ext(files, small), 0x83, true},
        {2048 + small.size / 512, members, passphrase.empty() ? std::uint8_t{0x8E} : std::uint8_t{0xE8}, false}};
    return forge::make_disk(disk);
}

std::vector<Story> cellar_disks() {
    const auto changed = [](auto change) {
        return [change] {
            auto c = cellar();
            change(c);
            return c.build();
        };
    };
    return {
        {"cellar.img", "its root in a group of logical volumes, as it should be", "", changed([](Cellar&) {})},
        {"cellar-no-lvm.img", "the RAM disk was made while the group's tools were not installed", "root",
         changed([](Cellar& c) { c.ramdisk.remove("/sbin/lvm"); })},
        {"cellar-renamed.img", "the group was renamed, the menu was not", "root",
         changed([](Cellar& c) { c.group = "inn2"; })},
    };
}

Cellar vault() {
    auto out = cellar();
    out.passphrase = vault_passphrase;
    out.crypttab = std::string("vault UUID=") + vault_uuid + " none luks,discard\n";
    out.root.file("/etc/crypttab", out.crypttab);
    out.ramdisk.file("/sbin/cryptsetup", forge::make_program(), 0755);
    out.ramdisk.file(std::string("/lib/modules/") + release + "/kernel/drivers/md/dm-crypt.ko",
                     forge::make_kernel_module("dm_crypt"));
    return out;
}

std::vector<Story> vault_disks() {
    const auto changed = [](auto change) {
        return [change] {
            auto c = vault();
            change(c);
            return c.build();
        };
    };
    // Bytes of the encrypted partition: behind the one for /boot.
    constexpr std::size_t vault_at = std::size_t{2048} * 512 + (6U << 20U);
    const auto scratched = [](std::size_t at, std::size_t count) {
        return [at, count] {
            auto bytes = vault().build();
            std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(vault_at + at), count, std::uint8_t{0});
            return bytes;
        };
    };
    const std::string key = vault_passphrase;
    return {
        {"vault.img", "the group in an encrypted volume, as it should be", "", changed([](Cellar&) {}), key},
        {"vault-no-passphrase.img", "the same, and nobody tells the passphrase", "unknown", changed([](Cellar&) {})},
        {"vault-first-header.img", "a partition tool wiped the beginning of the volume: its second header serves", "",
         scratched(0, 4096), key},
        {"vault-key-slot.img", "something was written over the only key slot", "root", scratched(32768 + 8192, 4096)},
        {"vault-renewed.img", "the volume was made anew, and the RAM disk still asks for the old one", "root",
         changed([](Cellar& c) { c.crypttab = "vault UUID=0bad1d00-0000-4a01-8a01-00000bad1d01 none luks\n"; }), key},
    };
}

}  // namespace demo
