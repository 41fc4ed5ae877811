// SPDX-License-Identifier: MIT
#include "ledger.hpp"

#include <algorithm>

#include "cellar.hpp"
#include "forge/servers.hpp"

namespace demo {

namespace {

constexpr const char* books_uuid = "1ed6e700-0001-4a01-8a01-000001ed6e71";
constexpr const char* boot_files_uuid = "1ed6e700-0002-4a01-8a01-000001ed6e72";
constexpr const char* lock_uuid = "1ed6e700-0003-4a01-8a01-000001ed6e73";
constexpr const char* boot_array = "1ed6e700-0004-4a01-8a01-000001ed6e74";
constexpr const char* books_array = "1ed6e700-0005-4a01-8a01-000001ed6e75";
constexpr const char* kernel_modules = "/kernel/drivers/md/";

/// As mdadm writes it: four groups of eight digits.
std::string array_text(std::string uuid) {
    std::erase(uuid, '-');
    for (const std::size_t at : {24U, 16U, 8U}) uuid.insert(at, ":");
    return uuid;
}

std::string digits(std::string uuid) {
    std::erase(uuid, '-');
    return uuid;
}

}  // namespace

Ledger ledger() {
    Ledger out;
    const auto desk = front_desk();
    split_off(desk.root, "/boot", out.boot, out.root);
    out.root.file(
        "/etc/os-release",
        "PRETTY_NAME=\"Almhof Ledger Server 2 (Steinbock)\"\nNAME=\"Almhof Ledger Server\"\nVERSION_ID=\"2\"\n"
        "ID=almhofledger\n");
    out.root.file("/etc/hostname", "ledger\n");
    out.root.file("/etc/fstab", std::string("/dev/mapper/books_open / xfs defaults 0 0\nUUID=") + boot_files_uuid +
                                    " /boot ext4 defaults 0 2\n");
    // The RAM disk loads what the root needs; /boot has another file system.
    const std::string drivers = std::string("/usr/lib/modules/") + release;
    out.root.link("/usr/sbin/modprobe", "../bin/busybox");
    out.root.file(drivers + "/modules.dep", "kernel/fs/ext4/ext4.ko:\n")
        .file(drivers + "/kernel/fs/ext4/ext4.ko", forge::make_kernel_module("ext4"));
    const std::string crypttab = "books_open /dev/mapper/almhof-books none luks\n";
    out.root.file("/etc/crypttab", crypttab);
    const std::string kernel = std::string("vmlinuz-") + release;
    out.boot.file("/grub/grub.cfg",
                  "set default=0\nset timeout=5\nmenuentry 'Almhof ledger server' {\n\tsearch --no-floppy --fs-uuid "
                  "--set=root " +
                      std::string(boot_files_uuid) + "\n\tlinux /" + kernel +
                      " root=/dev/mapper/books_open ro quiet\n\tinitrd /initrd.img-" + release + "\n}\n");
    out.ramdisk = desk.ramdisk;
    for (const char* program : {"/sbin/mdadm", "/sbin/lvm", "/sbin/cryptsetup"})
        out.ramdisk.file(program, forge::make_program(), 0755);
    out.ramdisk.file("/cryptroot/crypttab", crypttab);
    out.ramdisk.file("/etc/mdadm/mdadm.conf",
                     "HOMEHOST <system>\nARRAY /dev/md/boot metadata=1.2 UUID=" + array_text(boot_array) +
                         "\nARRAY /dev/md/books metadata=1.2 UUID=" + array_text(books_array) + "\n");
    const std::string modules = std::string("/lib/modules/") + release;
    for (const char* module : {"md-mod", "raid1", "dm-mod", "dm-crypt"})
        out.ramdisk.file(modules + kernel_modules + module + ".ko", forge::make_kernel_module(module));
    out.ramdisk.file(modules + "/kernel/fs/xfs/xfs.ko", forge::make_kernel_module("xfs"));
    return out;
}

std::array<forge::Bytes, 2> Ledger::build() const {
    auto files = boot;
    files.file(std::string("/initrd.img-") + release, forge::gzip(forge::make_cpio(ramdisk)));
    forge::ExtOptions small;
    small.size = 6U << 20U;
    small.uuid = forge::uuid_from(boot_files_uuid);
    small.label = "ledger-boot";
    const auto boot_content = forge::make_ext(files, small);
    auto locked = forge::make_luks(
        forge::make_xfs(root, {.size = 12U << 20U, .uuid = forge::uuid_from(books_uuid), .label = "books"}),
        ledger_passphrase, {2, lock_uuid, "books"});
    if (key_slot_scratched) std::fill_n(locked.begin() + 32768 + 8192, 4096, std::uint8_t{0});
    const auto books_content = forge::make_lvm(group, {{"books", locked}});
    std::array<forge::Bytes, 2> out;
    for (unsigned role = 0; role < 2; ++role) {
        const auto first = forge::make_mirror(boot_content, role, {"boot", forge::uuid_from(boot_array)});
        const auto second = forge::make_mirror(books_content, role, {"books", forge::uuid_from(books_array)});
        forge::DiskSpec disk;
        disk.size = 28U << 20U;
        disk.signature = 0x1ED6E701 + role;
        disk.boot_code = forge::make_grub_boot();
        disk.gap =
            forge::make_grub_core({.prefix = "(mduuid/" + digits(boot_array) + ")/grub",
                                   .modules = {"fshelp", "ext2", "part_msdos", "biosdisk", "diskfilter", "mdraid1x"}});
        disk.partitions = {{2048, first, 0xFD, true}, {2048 + first.size() / 512, second, 0xFD, false}};
        out.at(role) = forge::make_disk(disk);
    }
    return out;
}

std::vector<LedgerStory> ledger_stories() {
    const auto pair = [](const std::string& name) {
        return std::vector<std::string>{name + "-1.img", name + "-2.img"};
    };
    const std::string raid1 = std::string("/lib/modules/") + release + kernel_modules + "raid1.ko";
    return {
        {"ledger", "as it should be", "", pair("ledger"), [](Ledger&) {}},
        {"ledger-one-disk", "its second disk was taken out", "", {"ledger-alone.img"}, [](Ledger&) {}},
        {"ledger-renamed", "the group was renamed, the table of encrypted volumes was not", "root",
         pair("ledger-renamed"), [](Ledger& l) { l.group = "almhof2"; }},
        {"ledger-no-driver", "the RAM disk was made without the array's driver", "root", pair("ledger-no-driver"),
         [raid1](Ledger& l) { l.ramdisk.remove(raid1); }},
        {"ledger-key-slot", "something was written over the only key slot", "root", pair("ledger-key-slot"),
         [](Ledger& l) { l.key_slot_scratched = true; }, false},
    };
}

}  // namespace demo
