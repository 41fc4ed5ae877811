// SPDX-License-Identifier: MIT
#include "weather_station.hpp"

#include <algorithm>

namespace demo {

namespace {

const std::string station_release = "6.1.0-almhof-armmp";

}  // namespace

WeatherStation weather_station() {
    WeatherStation out;
    out.variables = {
        {"bootcmd", "run from_card || echo 'no card'"},
        {"bootdelay", "2"},
        {"from_card",
         "if load mmc 0:1 ${scriptaddr} /station.scr; then source ${scriptaddr}; else echo 'the card has no script'; "
         "fi"},
        {"fdt_addr_r", "0x43000000"},
        {"kernel_addr_r", "0x42000000"},
        {"scriptaddr", "0x43100000"},
        {"image_at", "0x48000000"},
    };
    out.script =
        "echo Weather station on the ridge\n"
        "setenv bootargs root=UUID=" +
        std::string(station_root_uuid) +
        " ro console=ttyS0,115200\n"
        "for image in station.itb older.itb; do\n"
        "  if test -e mmc 0:1 /${image}; then\n"
        "    load mmc 0:1 ${image_at} /${image} && bootm ${image_at}\n"
        "  fi\n"
        "done\n"
        "echo 'No image could be started.'\n";
    forge::TreeNode tree{"", {}, {{"chosen", {}, {}}, {"memory@40000000", {}, {}}}};
    tree.text("compatible", "almhof,weather-station").text("model", "Almhof weather station");
    out.parts = {{"kernel-1", "kernel", forge::make_zimage(station_release), 0x42000000, 0x42000000},
                 {"ramdisk-1", "ramdisk", {}},
                 {"tree-1", "flat_dt", forge::make_device_tree(tree)}};
    out.ramdisk.file("/init",
                     "#!/bin/sh\n# finds the station's root and hands over\nexec switch_root /root /sbin/init\n", 0755);
    out.ramdisk.file("/bin/busybox", forge::make_arm_program(), 0755).link("/bin/sh", "busybox");
    const std::string modules = "/lib/modules/" + station_release + "/";
    for (const char* name : {"drivers/mmc/core/mmc_block", "drivers/mmc/host/sunxi-mmc", "fs/ext4/ext4"}) {
        const std::string path = name;
        out.ramdisk.file(modules + "kernel/" + path + ".ko",
                         forge::make_kernel_module(path.substr(path.rfind('/') + 1)));
    }
    auto& t = out.root;
    t.file("/etc/os-release",
           "PRETTY_NAME=\"Almhof Weather 2 (Arnika)\"\nNAME=\"Almhof Weather\"\nVERSION_ID=\"2\"\nID=almhofweather\n");
    t.file("/etc/hostname", "weather-station\n");
    t.file("/etc/passwd", "root:x:0:0:root:/root:/bin/sh\n");
    t.file("/etc/fstab", std::string("UUID=") + station_root_uuid + " / ext4 errors=remount-ro 0 1\n");
    t.file("/etc/inittab", "::sysinit:/etc/init.d/rcS\nttyS0::respawn:/sbin/getty 115200 ttyS0\n");
    t.file("/etc/init.d/rcS", "#!/bin/sh\n/usr/bin/windvane start || true\n", 0755);
    t.file("/usr/bin/windvane", "#!/bin/sh\n", 0755);
    t.file("/usr/bin/busybox", forge::make_arm_program(), 0755);
    t.link("/usr/bin/sh", "busybox")
        .link("/usr/sbin/init", "/usr/bin/busybox")
        .link("/usr/sbin/getty", "../bin/busybox")
        .link("/usr/bin/login", "busybox");
    t.link("/bin", "usr/bin").link("/sbin", "usr/sbin").link("/lib", "usr/lib");
    for (const char* directory : {"/dev", "/proc", "/sys", "/run", "/tmp", "/root", "/usr/lib"}) t.directory(directory);
    return out;
}

forge::Bytes WeatherStation::build() const {
    auto all = parts;
    for (auto& part : all)
        if (part.type == "ramdisk" && part.data.empty()) part.data = forge::gzip(forge::make_cpio(ramdisk));
    auto files = boot;
    if (!script.empty())
        files.file("/station.scr",
                   forge::make_legacy_image(forge::to_bytes(script),
                                            {.type = 6, .arch = 2, .load = 0, .entry = 0, .name = "station"}));
    if (!all.empty()) files.file("/station.itb", forge::make_fit(all, "Weather station"));
    forge::FatOptions fat;
    fat.size = 4U << 20U;
    forge::ExtOptions ext;
    ext.size = 4U << 20U;
    ext.uuid = forge::uuid_from(station_root_uuid);
    ext.label = "weather";
    forge::DiskSpec disk;
    disk.size = 12U << 20U;
    disk.signature = 0x57A71001;
    auto content = forge::make_fat(files, fat).bytes;
    const std::uint64_t second = first_lba + content.size() / 512;
    disk.partitions = {{first_lba, std::move(content), 0x0C, true}, {second, forge::make_ext(root, ext), 0x83, false}};
    auto out = forge::make_disk(disk);
    const auto place = [&out](std::size_t at, const forge::Bytes& bytes, std::uint64_t before) {
        const std::size_t count =
            std::min<std::size_t>(bytes.size(), before > at ? static_cast<std::size_t>(before) - at : 0);
        std::copy_n(bytes.begin(), count, out.begin() + static_cast<std::ptrdiff_t>(at));
    };
    const std::uint64_t end = first_lba * 512;
    place(station_first_at, forge::make_egon(first_size), end);
    place(station_loader_at,
          forge::make_legacy_image(
              forge::make_uboot(variables),
              {.type = 5, .os = 17, .load = 0x4A000000, .entry = 0x4A000000, .name = "board loader"}),
          end);
    return out;
}

std::vector<StationStory> station_stories() {
    const auto changed = [](auto change) {
        return [change] {
            auto station = weather_station();
            change(station);
            return station.build();
        };
    };
    const auto written = [](auto change) {
        return [change] {
            auto bytes = weather_station().build();
            change(bytes);
            return bytes;
        };
    };
    const auto flash = [](bool sound, const std::string& command) {
        return [sound, command] {
            auto variables = weather_station().variables;
            variables[0].second = command;
            auto bytes = forge::make_uboot_environment(variables, 65536);
            if (!sound) bytes[2000] = 'x';
            return bytes;
        };
    };
    // The card brings the kernel alone; its root is a packed one in raw flash.
    const auto in_flash = changed([](WeatherStation& s) {
        s.script =
            "setenv bootargs root=/dev/ubiblock0_0 rootfstype=squashfs ubi.mtd=vane ubi.block=0,vane ro "
            "console=ttyS0,115200\nload mmc 0:1 ${image_at} /station.itb && bootm ${image_at}\n";
        std::erase_if(s.parts, [](const forge::FitPart& part) { return part.type == "ramdisk"; });
        s.root = forge::Tree();
    });
    const auto vane = [](bool lost) {
        return [lost] {
            auto root = weather_station().root;
            root.file("/etc/fstab", "/dev/ubiblock0_0 / squashfs ro 0 0\n");
            auto nor = forge::make_ubi({{"vane", forge::make_squashfs(root)}}, 32);
            // Both copies lie in the first two blocks.
            if (lost) std::fill_n(nor.begin(), 2 * 65536, std::uint8_t{0xFF});
            return nor;
        };
    };
    return {
        {"station.img", "as it should be", "", changed([](WeatherStation&) {}), {}},
        {"station-large.img",
         "a first program with too much in it",
         "boot-code",
         changed([](WeatherStation& s) { s.first_size = 40000; }),
         {}},
        {"station-sum.img",
         "one byte of the first program changed",
         "boot-code",
         written([](forge::Bytes& b) { b[station_first_at + 900] ^= 1; }),
         {}},
        {"station-mark.img",
         "the card was partitioned from sector 1 on: the first program is gone",
         "firmware",
         written([](forge::Bytes& b) {
             std::fill_n(b.begin() + static_cast<std::ptrdiff_t>(station_first_at), 512, std::uint8_t{0});
         }),
         {}},
        {"station-loader.img",
         "a partition that begins at sector 64 has overwritten U-Boot",
         "loader",
         written([](forge::Bytes& b) {
             std::fill_n(b.begin() + static_cast<std::ptrdiff_t>(station_loader_at), 4096, std::uint8_t{0xF6});
         }),
         {}},
        {"station-script.img",
         "the script was edited as a text",
         "configuration",
         changed([](WeatherStation& s) {
             s.boot.file("/station.scr", s.script);
             s.script.clear();
         }),
         {}},
        {"station-tree.img",
         "the script loads a device tree that is not there",
         "entry",
         changed([](WeatherStation& s) {
             s.boot.file("/zImage", s.parts[0].data);
             s.script = "setenv bootargs root=UUID=" + std::string(station_root_uuid) +
                        "\nload mmc 0:1 ${kernel_addr_r} /zImage\nload mmc 0:1 ${fdt_addr_r} /ridge.dtb\n"
                        "bootz ${kernel_addr_r} - ${fdt_addr_r}\n";
             s.boot.file("/ridge2.dtb", s.parts[2].data);
         }),
         {}},
        {"station-hash.img",
         "a byte of the kernel in the image changed",
         "kernel",
         [] {
             auto station = weather_station();
             auto all = station.parts;
             all[1].data = forge::gzip(forge::make_cpio(station.ramdisk));
             auto image = forge::make_fit(all, "Weather station");
             image[4000] ^= 1;
             station.boot.file("/station.itb", image);
             station.parts.clear();
             return station.build();
         },
         {}},
        {"station-processor.img",
         "the kernel is one for 64-bit boards",
         "kernel",
         changed([](WeatherStation& s) { s.parts[0].data = forge::make_arm64_image("6.1.0-almhof-arm64"); }),
         {}},
        {"station-root.img",
         "the card was copied to another one, and the root made anew",
         "root",
         changed([](WeatherStation& s) {
             const std::string known = station_root_uuid;
             s.script.replace(s.script.find(known), 4, "57ff");
         }),
         {}},
        {"station-flash.img", "an environment in flash with another command", "configuration",
         changed([](WeatherStation&) {}), flash(true, "run from_net")},
        {"station-flash-sum.img", "the same, but its checksum fails: it does not count", "",
         changed([](WeatherStation&) {}), flash(false, "run from_net")},
        {"station-vane.img",
         "the system lies in the station's flash, in a volume of UBI",
         "",
         in_flash,
         {},
         vane(false)},
        {"station-vane-lost.img",
         "the same, but the table of the flash's volumes was overwritten",
         "root",
         in_flash,
         {},
         vane(true)},
    };
}

}  // namespace demo
