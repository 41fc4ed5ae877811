// SPDX-License-Identifier: MIT
#include "demo_disks.hpp"

#include <algorithm>

namespace demo {

using forge::Bytes;

namespace {

const std::string kernel_path = std::string("/boot/vmlinuz-") + release;
const std::string ramdisk_path = std::string("/boot/initrd.img-") + release;

std::string grub_config() {
    const std::string uuid = root_uuid;
    const std::string entry_body =
        "\tinsmod part_msdos\n\tinsmod ext2\n\tset root='hd0,msdos1'\n\tsearch --no-floppy --fs-uuid --set=root "
        "--hint-bios=hd0,msdos1 " +
        uuid + "\n\techo 'Opening the front desk ...'\n\tlinux " + kernel_path + " root=UUID=" + uuid +
        " ro quiet\n\tinitrd " + ramdisk_path + "\n";
    std::string single = entry_body;
    single.insert(single.find(" ro quiet"), " single");
    return "# the front desk of the inn Almhof\n"
           "if [ -s $prefix/grubenv ]; then\n  load_env\nfi\n"
           "if [ \"${next_entry}\" ]; then\n  set default=\"${next_entry}\"\n  set next_entry=\n  save_env "
           "next_entry\nelse\n  set default=\"0\"\nfi\n"
           "set timeout_style=hidden\nset timeout=3\n\n"
           "menuentry 'Almhof front desk' --class almhof --id front-desk {\n" +
           entry_body +
           "}\n"
           "submenu 'More ways to start' --id more {\n"
           "menuentry 'Almhof front desk, single user' --id front-desk-single {\n" +
           single + "}\n}\n";
}

}  // namespace

FrontDesk front_desk() {
    FrontDesk d;
    auto& t = d.root;
    t.file("/etc/os-release",
           "PRETTY_NAME=\"Almhof Desk 4 (Enzian)\"\nNAME=\"Almhof Desk\"\nVERSION_ID=\"4\"\nID=almhofdesk\n");
    t.file("/etc/hostname", "frontdesk\n");
    t.file("/etc/passwd", "root:x:0:0:root:/root:/bin/sh\n");
    t.file("/etc/fstab", std::string("UUID=") + root_uuid + " / ext4 errors=remount-ro 0 1\nUUID=" + swap_uuid +
                             " none swap sw 0 0\ntmpfs /tmp tmpfs defaults 0 0\n");
    t.file("/etc/inittab",
           "::sysinit:/etc/init.d/rcS\ntty1::respawn:/sbin/getty 38400 tty1\n::ctrlaltdel:/sbin/reboot\n");
    t.file("/etc/init.d/rcS",
           "#!/bin/sh\n# opens the front desk\nmount -a || exit 1\n"
           "/etc/init.d/guestbook start || { echo 'the guest book stays closed'; exit 1; }\n"
           "/usr/bin/welcome-lamp on || true\n",
           0755);
    t.file("/etc/init.d/guestbook", "#!/bin/sh\necho \"guest book: $1\"\n", 0755);
    t.file("/usr/bin/busybox", forge::make_program(), 0755);
    t.file("/usr/bin/welcome-lamp", "#!/bin/sh\n", 0755);
    t.link("/usr/bin/sh", "busybox")
        .link("/usr/sbin/init", "/usr/bin/busybox")
        .link("/usr/sbin/getty", "../bin/busybox")
        .link("/usr/bin/login", "busybox")
        .link("/usr/sbin/reboot", "../bin/busybox");
    t.link("/bin", "usr/bin").link("/sbin", "usr/sbin").link("/lib", "usr/lib");
    for (const char* directory : {"/dev", "/proc", "/sys", "/run", "/tmp", "/root", "/usr/lib", "/var/log"})
        t.directory(directory);
    t.file(kernel_path, forge::make_kernel({release}));
    t.link("/vmlinuz", kernel_path.substr(1)).link("/initrd.img", ramdisk_path.substr(1));
    t.file(std::string("/boot/config-") + release,
           "CONFIG_X86_64=y\nCONFIG_EXT4_FS=m\nCONFIG_BLK_DEV_SD=m\nCONFIG_SATA_AHCI=m\nCONFIG_VIRTIO_BLK=m\nCONFIG_RD_"
           "GZIP=y\nCONFIG_RD_XZ=y\n# CONFIG_RD_LZO "
           "is not set\n");
    t.file("/boot/grub/grub.cfg", grub_config());
    std::string environment = "# GRUB Environment Block\n";
    environment.resize(1024, '#');
    t.file("/boot/grub/grubenv", environment);
    const std::string modules = "/boot/grub/i386-pc/";
    auto module = [&](const std::string& name, std::vector<std::string> depends, std::vector<std::string> needs,
                      std::vector<std::string> defines) {
        t.file(modules + name + ".mod",
               forge::make_grub_module({name, std::move(depends), std::move(needs), std::move(defines)}));
    };
    module("boot", {}, {"grub_malloc"}, {"grub_loader_set"});
    module("normal", {"boot"}, {"grub_malloc", "grub_loader_set"}, {"grub_menu_init"});
    module("linux", {"boot"}, {"grub_loader_set"}, {});
    module("search", {"search_fs_uuid"}, {}, {});
    module("search_fs_uuid", {}, {"grub_malloc"}, {});
    for (const char* name : {"echo", "test", "loadenv", "minicmd", "ext2", "part_msdos", "configfile"})
        module(name, {}, {"grub_malloc"}, {});
    t.file(modules + "command.lst",
           "*echo: echo\n*linux: linux\n*search: search\n[: test\nboot: boot\ninitrd: linux\nload_env: "
           "loadenv\nsave_env: loadenv\nsource: configfile\ntest: "
           "test\n");
    t.file(modules + "fs.lst", "ext2\n");

    auto& r = d.ramdisk;
    r.file("/init", "#!/bin/sh\n# finds the root of the front desk and hands over\nexec switch_root /root /sbin/init\n",
           0755);
    r.file("/bin/busybox", forge::make_program(), 0755).link("/bin/sh", "busybox");
    // What tells that initramfs-tools made it.
    r.file("/conf/initramfs.conf", "MODULES=most\n").file("/scripts/local", "# mounts the root\n");
    const std::string kernel_modules = std::string("/lib/modules/") + release + "/kernel/";
    for (const char* name : {"drivers/ata/ahci", "drivers/ata/libahci", "drivers/scsi/sd_mod",
                             "drivers/block/virtio_blk", "drivers/virtio/virtio_pci", "fs/ext4/ext4"}) {
        const std::string path = name;
        r.file(kernel_modules + path + ".ko", forge::make_kernel_module(path.substr(path.rfind('/') + 1)));
    }
    r.file("/lib/firmware/desk-bell.bin", forge::noise(60000, 3));

    d.ext.size = 12U << 20U;
    d.ext.uuid = forge::uuid_from(root_uuid);
    d.ext.label = "frontdesk";
    d.disk.boot_code = forge::make_grub_boot();
    d.disk.gap = forge::make_grub_core();
    d.disk.size = 16U << 20U;
    return d;
}

Bytes FrontDesk::build() {
    if (rebuild_ramdisk) root.file(ramdisk_path, forge::gzip(forge::make_cpio(ramdisk)));
    auto spec = disk;
    const std::uint64_t first = 2048;
    spec.partitions.push_back({first, forge::make_ext(root, ext), 0x83, true});
    if (swap_size > 0)
        spec.partitions.push_back(
            {first + ext.size / 512, forge::make_swap(swap_size, forge::uuid_from(swap_uuid)), 0x82, false});
    return forge::make_disk(spec);
}

std::vector<Story> front_desk_disks() {
    auto changed = [](auto change) {
        return [change] {
            auto d = front_desk();
            change(d);
            return d.build();
        };
    };
    auto overwritten = [](std::size_t from, std::size_t length, std::uint8_t with) {
        return [=] {
            auto image = front_desk().build();
            std::fill_n(image.begin() + static_cast<std::ptrdiff_t>(from), length, with);
            return image;
        };
    };
    return {
        {"healthy.img", "as the inn's technician left it", "", changed([](FrontDesk&) {})},
        {"scratched-core.img", "four sectors of the loader were overwritten; it carries what it needs to repair itself",
         "", overwritten(std::size_t{5} * 512, std::size_t{4} * 512, 0x41)},
        {"no-signature.img", "a clean-up tool wiped the end of the first sector", "firmware", overwritten(510, 2, 0)},
        {"lost-core.img", "a backup program wrote its own mark behind the first sector", "loader",
         overwritten(512, 512, 0xE5)},
        {"no-config.img", "the loader's configuration was deleted", "configuration",
         changed([](FrontDesk& d) { d.root.remove("/boot/grub/grub.cfg"); })},
        {"wrong-kernel.img", "the kernel was updated, the menu was not", "entry", changed([](FrontDesk& d) {
             d.root.file("/boot/vmlinuz-6.1.2-almhof", d.root.at(kernel_path).content);
             d.root.remove(kernel_path);
         })},
        {"bad-kernel.img", "the kernel was damaged on the way to the disk", "kernel", changed([](FrontDesk& d) {
             auto& bytes = d.root.at(kernel_path).content;
             std::fill_n(bytes.begin() + 40000, 600, std::uint8_t{0});
         })},
        {"cut-ramdisk.img", "the disk was full when the RAM disk was written", "ramdisk", changed([](FrontDesk& d) {
             auto bytes = forge::gzip(forge::make_cpio(d.ramdisk));
             bytes.resize(180);
             d.root.file(ramdisk_path, bytes);
             d.rebuild_ramdisk = false;
         })},
        {"cloned-root.img", "the root was copied to a new file system with a UUID of its own", "root",
         changed([](FrontDesk& d) { d.ext.uuid = forge::uuid_from("c10ed000-0003-4a01-8a01-00000c10ed03"); })},
        {"no-init.img", "an upgrade stopped half-way and took init with it", "init",
         changed([](FrontDesk& d) { d.root.remove("/usr/sbin/init"); })},
        {"no-guest-book.img", "the start-up script calls a program that was removed", "services",
         changed([](FrontDesk& d) { d.root.remove("/etc/init.d/guestbook"); })},
    };
}

herberge::Result<void> write_disk(const Story& story, const std::string& path) {
    if (!forge::write_sparse(path, story.make()))
        return herberge::fail(herberge::ErrorKind::Io, "the disk cannot be written", path);
    return {};
}

}  // namespace demo
