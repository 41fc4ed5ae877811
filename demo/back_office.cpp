// SPDX-License-Identifier: MIT
// The back office of the inn Almhof: an old machine to which somebody added a disk, twice.
#include <algorithm>

#include "demo_disks.hpp"

namespace demo {

using forge::Bytes;

namespace {

const std::string kernel = std::string("/boot/vmlinuz-") + release;
const std::string ramdisk = std::string("/boot/initrd.img-") + release;

/// A small system that starts: the front desk's root with another name and another mount table.
forge::Tree system_tree(const std::string& name, const std::string& version, const std::string& uuid) {
    auto desk = front_desk();
    auto tree = desk.root;
    tree.file("/etc/os-release",
              "PRETTY_NAME=\"" + name + "\"\nNAME=\"Almhof\"\nVERSION_ID=\"" + version + "\"\nID=almhof\n");
    tree.file("/etc/fstab", "UUID=" + uuid + " / ext4 errors=remount-ro 0 1\n");
    tree.file(ramdisk, forge::gzip(forge::make_cpio(desk.ramdisk)));
    tree.remove("/boot/grub/grub.cfg");
    return tree;
}

std::string linux_entry(const std::string& title, const std::string& device, const std::string& uuid) {
    return "menuentry '" + title + "' {\n\tset root='" + device + "'\n\tsearch --no-floppy --fs-uuid --set=root " +
           uuid + "\n\tlinux " + kernel + " root=UUID=" + uuid + " ro quiet\n\tinitrd " + ramdisk + "\n}\n";
}

Bytes ext_of(const forge::Tree& tree, const char* uuid, const std::string& label, bool modern) {
    forge::ExtOptions options;
    options.size = 8U << 20U;
    options.uuid = forge::uuid_from(uuid);
    options.label = label;
    if (!modern) {
        options.extents = options.metadata_csum = options.bit64 = options.journal = false;
        options.inode_size = 128;
    }
    return forge::make_ext(tree, options);
}

constexpr std::uint64_t first_lba = 2048;
constexpr std::uint64_t ext_sectors = (8U << 20U) / 512;

}  // namespace

BackOffice back_office() {
    BackOffice out;
    out.office = system_tree("Almhof Office 3 (Arnika)", "3", office_uuid);
    const std::string missing = "0ff1ce00-dead-4a01-8a01-00000ff1ce99";
    out.office.file("/boot/grub/grub.cfg",
                    "# the back office of the inn Almhof\nset default=0\nset timeout=5\n" +
                        linux_entry("Office", "hd0,msdos1", office_uuid) +
                        "menuentry 'Ledger (second disk)' {\n\tinsmod chain\n\tset root='hd1'\n\tchainloader +1\n}\n" +
                        linux_entry("Office of 2019", "hd0,msdos3", missing));
    const std::string modules = "/boot/grub/i386-pc/";
    out.office.file(modules + "chain.mod", forge::make_grub_module({"chain", {"boot"}, {"grub_loader_set"}, {}}));
    auto& list = out.office.at(modules + "command.lst").content;
    const Bytes more = forge::to_bytes("chainloader: chain\n");
    list.insert(list.end(), more.begin(), more.end());
    out.weather = system_tree("Almhof Weather Station 2 (Wetterfrosch)", "2", weather_uuid);
    out.ledger = system_tree("Almhof Ledger 1 (Edelweiss)", "1", ledger_uuid);
    out.ledger.file("/boot/grub/stage2", forge::make_legacy_stage2());
    out.ledger.file("/boot/grub/menu.lst",
                    "# the ledger machine\ndefault 0\ntimeout 5\nfallback 1\n\ntitle Ledger\nroot (hd1,0)\nkernel " +
                        kernel + " root=UUID=" + ledger_uuid + " ro\ninitrd " + ramdisk +
                        "\n\ntitle Guests\nrootnoverify (hd1,1)\nchainloader +1\n");
    out.guests = system_tree("Almhof Guest Terminal 4 (Murmeltier)", "4", guests_uuid);
    auto& notice = out.notice;
    notice.file("/SYSLINUX/ldlinux.sys", forge::make_syslinux_stage2("/SYSLINUX"));
    notice.file("/SYSLINUX/ldlinux.c32", forge::make_syslinux_module());
    notice.file("/SYSLINUX/syslinux.cfg",
                std::string("DEFAULT guests\nPROMPT 0\nTIMEOUT 30\n\nLABEL guests\n  MENU LABEL Guest terminal\n  "
                            "LINUX /guest-kernel\n  APPEND root=UUID=") +
                    guests_uuid + " ro\n  INITRD /guest-ramdisk.img\n");
    notice.file("/guest-kernel", out.guests.at(kernel).content);
    notice.file("/guest-ramdisk.img", out.guests.at(ramdisk).content);
    notice.file("/read me first.txt", "This small volume starts the guests' terminal.\n");
    out.first_boot = forge::make_grub_boot();
    out.first_gap = forge::make_grub_core();
    out.second_boot = forge::make_legacy_boot();
    out.second_gap = forge::make_legacy_gap();
    return out;
}

Bytes BackOffice::first() const {
    forge::DiskSpec disk;
    disk.size = 20U << 20U;
    disk.signature = 0x0FF1CE01;
    disk.boot_code = first_boot;
    disk.gap = first_gap;
    disk.partitions = {{first_lba, ext_of(office, office_uuid, "office", true), 0x83, true},
                       {first_lba + ext_sectors, ext_of(weather, weather_uuid, "weather", true), 0x83, false}};
    return forge::make_disk(disk);
}

Bytes BackOffice::second() const {
    forge::DiskSpec disk;
    disk.size = 28U << 20U;
    disk.signature = 0x0FF1CE02;
    disk.boot_code = second_boot;
    disk.gap = second_gap;
    forge::FatOptions fat;
    fat.hidden_sectors = static_cast<std::uint32_t>(first_lba + ext_sectors);
    fat.label = "GUESTS";
    auto volume = forge::make_fat(notice, fat);
    if (with_guest_loader) forge::install_syslinux(volume, "/SYSLINUX");
    const std::uint64_t third = first_lba + ext_sectors + volume.bytes.size() / 512;
    disk.partitions = {{first_lba, ext_of(ledger, ledger_uuid, "ledger", false), 0x83, true},
                       {first_lba + ext_sectors, volume.bytes, 0x06, false},
                       {third, ext_of(guests, guests_uuid, "guests", true), 0x83, false}};
    return forge::make_disk(disk);
}

std::vector<MachineStory> back_office_machines() {
    return {
        {"back-office",
         "two disks, four systems, three loaders, an entry for a system that is gone, a system that no menu names",
         {{"office.img", [] { return back_office().first(); }},
          {"archive.img", [] { return back_office().second(); }}}},
        {"back-office-swapped",
         "the two disks were plugged in the other way round",
         {{"archive.img", [] { return back_office().second(); }},
          {"office.img", [] { return back_office().first(); }}}},
        {"back-office-circle",
         "each disk's menu sends the machine to the other disk",
         {{"circle-office.img",
           [] {
               auto b = back_office();
               b.office.file(
                   "/boot/grub/grub.cfg",
                   "set default=0\nset timeout=1\nmenuentry 'Ledger' {\n\tset root='hd1'\n\tchainloader +1\n}\n");
               return b.first();
           }},
          {"circle-archive.img",
           [] {
               auto b = back_office();
               b.ledger.file("/boot/grub/menu.lst",
                             "default 0\ntimeout 1\ntitle Office\nrootnoverify (hd0)\nchainloader +1\n");
               return b.second();
           }}}},
    };
}

}  // namespace demo
