// SPDX-License-Identifier: MIT
// Writes a few good inputs for each fuzz target below a folder. Further arguments are images of volumes, which become
// inputs of the target for volumes: whole, or what of them is not empty.
#include <cstdio>
#include <filesystem>
#include <fstream>

#include "demo_disks.hpp"
#include "forge/board.hpp"
#include "forge/sign.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "parts.hpp"

int main(int argc, char** argv) {
    if (argc < 2) return 2;
    const std::filesystem::path top = argv[1];
    auto write = [&](const char* target, const char* name, const forge::Bytes& bytes) {
        std::filesystem::create_directories(top / target);
        return forge::write_sparse(top / target / name, bytes);
    };
    forge::Tree tree;
    tree.file("/etc/a", "text").file("/b", forge::noise(9000, 1)).link("/l", "etc/a");
    forge::ExtOptions options;
    options.size = 600U << 10U;
    options.journal = false;
    bool good = write("volume", "ext4", forge::make_ext(tree, options));
    options.extents = false;
    options.metadata_csum = false;
    good = write("volume", "ext2", forge::make_ext(tree, options)) && good;
    forge::Tree plain_tree;
    plain_tree.file("/etc/a name that is long.txt", "text").file("/b", forge::noise(9000, 1));
    for (int i = 0; i < 12; ++i) plain_tree.file("/rooms/number " + std::to_string(i), "x");
    forge::FatOptions fat;
    fat.size = 400U << 10U;
    good = write("volume", "fat", forge::make_fat(plain_tree, fat).bytes) && good;
    good = write("volume", "ntfs", forge::make_ntfs(plain_tree, {600U << 10U, 2048, 1, "rooms", "", false})) && good;
    good = write("volume", "wim", forge::make_wim(plain_tree, {1, "<WIM/>", {}, false})) && good;
    // The same as if its pieces were packed: they are stored where they would not shrink.
    const auto as_it_is = [](const forge::Bytes& piece, std::uint32_t) { return piece; };
    for (const bool lzx : {false, true})
        good = write("volume", lzx ? "wim-lzx" : "wim-xpress", forge::make_wim(plain_tree, {1, "", as_it_is, lzx})) &&
               good;
    // What remedies change: the first byte says what it is.
    const auto remedy = [&](const char* name, std::uint8_t kind, forge::Bytes bytes) {
        bytes.insert(bytes.begin(), kind);
        good = write("remedy", name, bytes) && good;
    };
    remedy("patch", 0,
           forge::to_bytes("{\"schema\":\"herberge/patch/"
                           "1\",\"disks\":[{\"disk\":1,\"size\":512}],\"changes\":[{\"disk\":1,\"offset\":510,"
                           "\"before\":\"0000\",\"after\":\"55aa\"}]}"));
    remedy("screen", 1, forge::to_bytes("error: no such device: a1b0.\nEntering rescue mode...\ngrub rescue>"));
    remedy("ext4", 4, forge::make_ext(tree, {.size = 600U << 10U, .journal = false}));
    remedy("fat", 4, forge::make_fat(plain_tree, fat).bytes);
    remedy("ntfs", 4, forge::make_ntfs(plain_tree, {700U << 10U, 2048, 1, "rooms", "", false}));
    const auto pc = demo::office_pc();
    remedy("store", 3, forge::make_hive(pc.store));
    good = write("hive", "system", forge::make_hive(pc.system_hive)) && good;
    good = write("hive", "store", forge::make_hive(pc.store, {forge::ListKind::Indexed, 2, 1})) && good;
    const std::string global = "8be4df61-93ca-11d2-aa0d-00e098032b8c";
    auto flash = forge::make_flash(
        {{"BootOrder", global, {4, 0}, 0x3F},
         {"Boot0004", global,
          forge::make_boot_option("Almhof", 1, "0a1b0f00-1111-4222-8333-444455556666", "\\EFI\\a.efi"), 0x3F}});
    flash.resize(1024);
    good = write("uefi", "flash", flash) && good;
    remedy("flash", 2, flash);
    good = write("uefi", "image", forge::make_efi_application({{".sdmagic", forge::to_bytes("a stand-in")}})) && good;
    const forge::SigningKey house("Almhof house");
    const forge::SigningKey clock("Almhof clock");
    const auto application = forge::make_efi_application();
    good = write("uefi", "signed", house.sign(application, clock, "20250315120000Z")) && good;
    good = write("uefi", "countersigned", house.sign(application, clock, "20250315120000Z", false)) && good;
    good = write("uefi", "catalogue", house.catalogue({application})) && good;
    good = write("uefi", "list", forge::make_certificate_list({house.certificate()})) && good;
    good = write("uefi", "option",
                 forge::make_boot_option("Almhof", 1, "0a1b0f00-1111-4222-8333-444455556666", "\\EFI\\a.efi")) &&
           good;
    // The first byte says which decoder.
    const auto table = [&](const char* name, std::uint8_t kind, forge::Bytes bytes) {
        bytes.insert(bytes.begin(), kind);
        if (bytes.size() > (96U << 10U)) bytes.resize(96U << 10U);
        good = write("tables", name, bytes) && good;
    };
    table("mbr", 0, demo::front_desk().build());
    table("gpt", 0, demo::kiosk().build());
    table("sectors", 2, demo::front_desk().build());
    table("efi", 3, forge::make_efi_application());
    table("flash", 4, flash);
    table("option", 5, forge::make_boot_option("Almhof", 1, "0a1b0f00-1111-4222-8333-444455556666", "\\EFI\\a.efi"));
    table("texts", 6,
          forge::to_bytes("sbat,1,SBAT Version\ngrub,3,x\nUUID=1 / ext4 ro 0 1\nid:2:initdefault:\nwine /dev/sda7 none "
                          "luks\n512k(u-boot),-(rootfs)\nroot=PARTUUID=a1b0f000-01/PARTNROFF=1 ro\n"));
    table("scripts", 7,
          forge::to_bytes("if [ -f /a ]; then set b=$c; fi\nmenuentry 'x' { linux /b\n}\nsetenv a 1; boot\n"));
    good = write("configurations", "all",
                 forge::to_bytes("a\ndefault 0\ntitle x\nroot (hd0,0)\nkernel /b root=/dev/sda1\n\xFF"
                                 "c\nDEFAULT a\nLABEL a\n KERNEL /b\n APPEND initrd=/i root=/dev/sda1\n\xFF"
                                 "f\ntitle x\nlinux /b\ninitrd /i\noptions ro\n\xFF"
                                 "g\n[boot loader]\ntimeout=3\ndefault=multi(0)disk(0)rdisk(0)partition(1)\\W\n"
                                 "[operating systems]\nmulti(0)disk(0)rdisk(0)partition(1)\\W=\"x\" /x\n\xFF"
                                 "h\nimage=/b\n label=x\n root=/dev/sda1\n")) &&
           good;
    good = write("configurations", "grub", forge::to_bytes("b\nset default=1\nmenuentry x { linux /b ro\n}\n")) && good;
    forge::Bytes code(33 + 128);
    code[0] = 1;
    const forge::Bytes loop = {0xB9, 4, 0, 0, 0, 0x01, 0xC8, 0x89, 0x05, 0, 0, 1, 0, 0xE2, 0xF7, 0xF4};
    code.insert(code.end(), loop.begin(), loop.end());
    good = write("cpu", "loop", code) && good;
    good = write("machine", "kiosk", demo::kiosk().build()) && good;
    good = write("machine", "office", pc.build()) && good;
    good = write("machine", "archive", demo::back_office().second()) && good;
    auto d = demo::front_desk();
    good = write("script", "desk", d.root.at("/boot/grub/grub.cfg").content) && good;
    // Files of a root, behind one another.
    good =
        write("units", "services",
              forge::to_bytes(
                  "inn.service\n[Unit]\nRequires=b.service\nAfter=b.service c@x.service\n[Service]\nExecStart=/bin/a\n"
                  "\xFFmulti-user.target.wants/inn.service\n->../inn.service\xFF"
                  "b.service\n[Service]\nType=oneshot\n"
                  "ExecStart=/bin/none\n\xFF"
                  "c@.service\n[Service]\nExecStart=/bin/c %i\n")) &&
        good;
    good = write("units", "tables",
                 forge::to_bytes(
                     "/etc/fstab\n/dev/sda2 /srv ext4 nofail,x-systemd.automount 0 2\nUUID=1 none swap sw 0 0\n\xFF"
                     "/etc/crypttab\nv UUID=2 none luks\n\xFF"
                     "words console=ttyS0 3\n")) &&
           good;
    good =
        write("units", "script",
              forge::to_bytes(
                  "/etc/init.d/stove\n#!/bin/sh\n### BEGIN INIT INFO\n# Provides: heat\n# Required-Start: $remote_fs\n"
                  "### END INIT INFO\n\xFF/etc/rc2.d/S02stove\n->../init.d/stove")) &&
        good;
    good = write("ramdisk", "gzip", forge::gzip(forge::make_cpio(tree))) && good;
    good = write("ramdisk", "plain", forge::make_cpio(tree)) && good;
    auto kernel = forge::make_kernel({.payload_size = 5000});
    kernel.insert(kernel.begin(), 0);
    good = write("kernel", "kernel", kernel) && good;
    auto disk = d.build();
    disk.resize(20U << 10U);
    good = write("rehearsal", "desk", disk) && good;
    auto plain = forge::make_plain_boot();
    plain.resize(446);
    good = write("rehearsal", "plain", plain) && good;
    // What hostile disks were made of: runs of prefixes, repeated instructions, writes, nesting, circles.
    auto boot = [&](const char* name, forge::Bytes code, std::uint8_t fill) {
        code.resize(446, fill);
        return write("rehearsal", name, code);
    };
    good = boot("prefixes", {}, 0xF3) && good;
    good = boot("repeat", {0xB9, 0xFF, 0xFF, 0xF3, 0xAC, 0xEB, 0xF9}, 0) && good;
    good = boot("move", {0xBE, 0x00, 0x7D, 0xB9, 0x00, 0x80, 0xB4, 0x87, 0xCD, 0x15, 0xEB, 0xF4}, 0) && good;
    good = boot("writes",
                {0xBE, 0x40, 0x7C, 0xB8, 0x00, 0x43, 0xB2, 0x80, 0xCD, 0x13, 0x83, 0x06, 0x48, 0x7C, 0x02, 0xEB, 0xEF},
                0) &&
           good;
    std::string nested = "if [ ";
    for (int i = 0; i < 3000; ++i) nested += i % 3 == 0 ? "! " : "( ";
    good = write("script", "nested",
                 forge::to_bytes(nested + "]; then set a=b; fi\nset a=x\nset a=$a$a$a$a\nset a=$a$a$a$a\n")) &&
           good;
    forge::Tree programs;
    programs.file("/init", forge::make_dynamic({"/init", {"libinn.so.1", "libinn.so.1"}, "", "$ORIGIN:$LIB", ""}),
                  0755);
    programs.file("/lib/libinn.so.1", forge::make_dynamic({"", {"libinn.so.1"}, "libinn.so.1", "", "/lib"}), 0755);
    programs.file("/etc/ld.so.cache", forge::make_library_cache({{"libinn.so.1", "/lib/libinn.so.1"}}));
    good = write("ramdisk", "programs", forge::gzip(forge::make_cpio(programs))) && good;
    options.extents = true;
    options.metadata_csum = true;
    good = write("volume", "programs", forge::make_ext(programs, options)) && good;
    auto signed_sector = demo::kiosk().build();
    signed_sector[510] = signed_sector[511] = 0;
    good = write("machine", "kiosk-without-a-mark", signed_sector) && good;
    disk = d.build();
    disk.resize(200U << 10U);
    disk.insert(disk.begin(), 2);
    good = write("kernel", "disk", disk) && good;
    // Three members, a third of the input each: a group's first mebibyte, LUKS headers of both versions.
    auto group = forge::make_lvm("inn", {{"root", forge::Bytes(1U << 20U)}});
    group.resize(64U << 10U);
    group.resize(3 * group.size());
    good = write("layers", "group", group) && good;
    auto locked = forge::make_luks(forge::Bytes(4096), "edelweiss", {1});
    locked.resize(600U << 10U);
    auto second = forge::make_luks(forge::Bytes(4096), "edelweiss", {2});
    second.resize(locked.size());
    locked.insert(locked.end(), second.begin(), second.end());
    locked.resize(3 * second.size());
    good = write("layers", "luks", locked) && good;
    // What boards read.
    const auto board = [&](const char* name, std::uint8_t kind, forge::Bytes bytes) {
        bytes.insert(bytes.begin(), kind);
        good = write("board", name, bytes) && good;
    };
    forge::TreeNode hardware{"", {}, {{"chosen", {}, {}}, {"memory@40000000", {}, {}}}};
    hardware.text("compatible", "almhof,weather-station");
    board("tree", 0, forge::make_device_tree(hardware));
    board("fit", 0,
          forge::make_fit({{"kernel-1", "kernel", forge::noise(400, 1), 0x42000000, 0x42000000},
                           {"ramdisk-1", "ramdisk", forge::noise(300, 2)},
                           {"tree-1", "flat_dt", forge::make_device_tree(hardware)}},
                          "Weather station"));
    board("legacy", 1, forge::make_legacy_image(forge::noise(500, 3), {.name = "kernel"}));
    board("image", 1, forge::make_arm64_image("6.1.0-almhof", 4000));
    board("variables", 2, forge::make_uboot_environment({{"bootcmd", "run a"}, {"a", "true"}}, 4096));
    board("program", 2, forge::make_uboot({{"bootcmd", "run distro_bootcmd"}, {"bootdelay", "2"}}));
    forge::TreeNode mark{"signature-1", {}, {}};
    mark.text("algo", "sha256,rsa2048").text("key-name-hint", "inn");
    mark.properties.emplace_back("hashed-nodes",
                                 forge::to_bytes(std::string("/\0/images/kernel-1\0/configurations/conf-1\0", 42)));
    mark.properties.emplace_back("hashed-strings", forge::Bytes{0, 0, 0, 0, 0, 0, 0, 40});
    mark.properties.emplace_back("value", forge::noise(256, 4));
    forge::TreeNode covered{"kernel-1", {{"data", forge::noise(100, 5)}}, {mark}};
    forge::TreeNode chosen{"conf-1", {}, {mark}};
    chosen.text("kernel", "kernel-1");
    board("signed", 0,
          forge::make_device_tree(
              {"", {{"timestamp", {0, 0, 0, 1}}}, {{"images", {}, {covered}}, {"configurations", {}, {chosen}}}}));
    forge::TreeNode symbols{"__symbols__", {}, {}};
    symbols.text("vane", "/vane");
    forge::TreeNode fixups{"__fixups__", {}, {}};
    fixups.text("vane", "/fragment@0:target:0");
    forge::TreeNode inside{"__overlay__", {}, {}};
    inside.text("status", "okay");
    forge::TreeNode fragment{"fragment@0", {{"target", {0xFF, 0xFF, 0xFF, 0xFF}}}, {inside}};
    auto pair = forge::make_device_tree({"", {}, {{"vane", {{"phandle", {0, 0, 0, 1}}}, {}}, symbols}});
    const auto above = forge::make_device_tree({"", {}, {fragment, fixups}});
    pair.insert(pair.end(), above.begin(), above.end());
    board("overlay", 4, pair);
    for (const std::uint8_t version : {std::uint8_t{2}, std::uint8_t{4}}) {
        auto android = forge::to_bytes("ANDROID!");
        android.resize(20000);
        for (const std::size_t at : {8U, 12U, 16U, 24U, 1648U}) forge::put32(android, at, 700);
        forge::put32(android, 36, 2048);
        android[40] = version;
        board(version == 2 ? "android2" : "android4", 5, android);
    }
    auto vendor = forge::to_bytes("VNDRBOOT");
    vendor.resize(20000);
    vendor[8] = 3;
    forge::put32(vendor, 12, 2048);
    forge::put32(vendor, 24, 500);
    board("vendor", 5, vendor);
    board("nand", 6, forge::noise(3 * 4 * 528, 6));
    const std::string commands =
        "setenv a 'b c'\nfor i in 0 1 $a; do if test -e mmc 0:$i /Image && itest ${i} == 1; then load mmc 0:1 "
        "0x40400000 /Image; fi; done\nload mmc 0:1 44000000 /ramdisk; setexpr n ${filesize} + 10\nbooti 0x40400000 "
        "44000000:${filesize} 0x43000000\n";
    board("commands", 3, forge::to_bytes(commands));
    board("imported", 7, forge::to_bytes("more=" + commands.substr(0, commands.find('\n')) + "\n"));
    board("script", 7,
          forge::make_legacy_image(forge::to_bytes(commands), {.type = 6, .load = 0, .entry = 0, .name = "script"}));
    board("menu", 8,
          forge::to_bytes("DEFAULT a\nTIMEOUT 30\nMENU TITLE Inn\nLABEL a\n KERNEL /Image\n INITRD /ramdisk\n FDT "
                          "/board.dtb\n APPEND root=/dev/mmcblk0p2 ro\nLABEL b\n LINUX ../Image\n FDTDIR /\n"));
    board("file", 9, forge::make_uboot_environment({{"bootcmd", "booti 40400000 - 43000000"}}, 4096));
    for (int i = 2; i < argc; ++i) {
        const std::filesystem::path path = argv[i];
        std::ifstream in(path, std::ios::binary);
        forge::Bytes image(std::filesystem::file_size(path));
        in.read(reinterpret_cast<char*>(image.data()), static_cast<std::streamsize>(image.size()));
        constexpr std::size_t largest = std::size_t{700} << 10U;
        auto input = image.size() <= largest ? image : fuzz::parts_of(image, largest / fuzz::part_each);
        if (!in || input.empty()) std::fprintf(stderr, "%s: too much of it is not empty\n", argv[i]);
        else good = write("volume", path.filename().c_str(), input) && good;
    }
    return good ? 0 : 1;
}
