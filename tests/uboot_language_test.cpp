// SPDX-License-Identifier: MIT
// U-Boot's shell and commands, against what a real one answered (conformance/uboot.scripts).
#include <fmt/format.h>

#include "answer_table.hpp"
#include "board_support.hpp"

using namespace herberge;

namespace {

/// What stands in the program of Debian 12's U-Boot for an emulated arm64 board (strings u-boot.bin).
const loader::uboot::Variables usual = {{"arch", "arm"},
                                        {"baudrate", "115200"},
                                        {"board", "qemu-arm"},
                                        {"board_name", "qemu-arm"},
                                        {"boot_prefixes", "/ /boot/"},
                                        {"boot_script_dhcp", "boot.scr.uimg"},
                                        {"boot_scripts", "boot.scr.uimg boot.scr"},
                                        {"boot_syslinux_conf", "extlinux/extlinux.conf"},
                                        {"boot_targets", "qfw usb0 scsi0 virtio0 nvme0 dhcp"},
                                        {"bootdelay", "2"},
                                        {"cpu", "armv8"},
                                        {"fdt_addr", "0x40000000"},
                                        {"fdt_high", "0xffffffff"},
                                        {"fdtcontroladdr", "0xfffff000"},
                                        {"initrd_high", "0xffffffff"},
                                        {"kernel_addr_r", "0x40400000"},
                                        {"loadaddr", "0x40200000"},
                                        {"pxefile_addr_r", "0x40300000"},
                                        {"ramdisk_addr_r", "0x44000000"},
                                        {"scriptaddr", "0x40200000"},
                                        {"vendor", "emulation"}};

TEST(UbootLanguage, AnswersAsARealOneDid) {
    const auto rows = support::answer_table("uboot.scripts");
    ASSERT_GT(rows.size(), 600U);
    const auto image = [](const std::string& script) {
        return forge::make_legacy_image(forge::to_bytes(script),
                                        {.type = 6, .compression = 1});  // as mkimage says of all
    };
    forge::Tree files;
    files.file("/files.txt", "one=1\n# a remark\ntwo=zwei\n").file("/s0.scr", image(rows.front().script));
    for (const auto& row : rows) files.file(fmt::format("/all/{}.scr", row.line), image(row.script));
    forge::FatOptions fat;
    fat.size = 14U << 20U;
    forge::DiskSpec disk;
    disk.size = 20U << 20U;
    disk.signature = 0xA1B0C0DE;
    disk.partitions = {{2048, forge::make_fat(files, fat).bytes, 0x0C, true}};
    const auto machine = support::machine_of(forge::make_disk(disk));
    loader::uboot::Build build;
    build.emulated = true;
    build.version = "U-Boot 2023.01";
    for (const auto& row : rows) {
        auto variables = usual;
        variables.insert_or_assign(
            "bootcmd", fmt::format("load virtio 0:1 0x40200000 /all/{}.scr; setenv filesize; setenv fileaddr; "
                                   "source 0x40200000\necho \"<<${{r}}>>\"",
                                   row.line));
        const auto outcome =
            loader::uboot::Console(machine, *find_board("uboot-qemu-arm64"), variables, false, build).boot("bootcmd");
        ASSERT_FALSE(outcome.screen.empty()) << row.line;
        auto answer = outcome.screen.back();
        ASSERT_TRUE(answer.starts_with("<<") && answer.ends_with(">>")) << row.line << ": " << answer;
        answer = support::as_in_table(answer.substr(2, answer.size() - 4));
        EXPECT_EQ(answer, support::as_in_table(row.answer)) << "uboot.scripts, line " << row.line << ": " << row.script;
    }
}

/// What was tried of a menu, as conformance/uboot-menus.py tells it of a real one.
std::string tried(const loader::uboot::Outcome& outcome) {
    if (outcome.troubles.empty() || !outcome.troubles.back().menu) return outcome.dead ? "gone" : "";
    const auto& menu = *outcome.troubles.back().menu;
    if (!menu.timeout) return "asks";
    std::string out;
    const auto add = [&](const MenuEntry& entry) {
        // Of which label it does not say.
        if (entry.stop && entry.stop->symptom.starts_with("missing environment variable: localcmd")) return;
        if (!out.empty()) out += ' ';
        const auto symptom = entry.stop ? entry.stop->symptom : std::string{};
        constexpr std::string_view skipped = " for failure retrieving ";
        if (entry.stop && entry.stop->code == Code::EntryLoadsNothing) {
            out += "n:" + entry.id;
        } else if (const auto at = symptom.find(skipped); at != std::string::npos) {
            out += fmt::format("x:{}:{}", entry.id, symptom.substr(at + skipped.size()));
        } else {
            std::vector<std::string> files;
            for (const auto* list : {&entry.ramdisks, &entry.kernel, &entry.devicetree})
                for (const auto& file : *list) files.push_back(file.place.substr(file.place.find(':') + 1));
            out += fmt::format("b:{} [{}]", fmt::join(files, ","), entry.arguments);
        }
    };
    add(menu.entries.at(static_cast<std::size_t>(menu.default_entry)));
    for (const int index : menu.fallback) add(menu.entries.at(static_cast<std::size_t>(index)));
    return out;
}

TEST(UbootMenus, AreTriedAsARealOneDid) {
    const auto rows = support::answer_table("uboot.menus");
    ASSERT_GT(rows.size(), 150U);
    forge::Tree files;
    for (const auto* name : {"/k1", "/k2", "/k3", "/c/k", "/d/k", "/k 4"}) files.file(name, "no kernel\n");
    for (const auto* name : {"/r1", "/c/r"}) files.file(name, forge::gzip(forge::to_bytes("no cpio")));
    for (const auto* name : {"/t1.dtb", "/d/b.dtb", "/c/t.dtb"})
        files.file(name, forge::make_device_tree({"", {}, {}}));
    files.file("/more.conf", "label more\n\tkernel /k3\n\tappend of=more\n")
        .file("/c/more.conf", "label near\n\tkernel /k3\n\tappend of=near\n")
        .file("/words.conf", "\tappend of=words\n")
        .file("/loop.conf", "include /loop.conf\n")
        .file("/deep.conf", "include /more.conf\nlabel deep\n\tkernel /k2\n");
    for (const auto& row : rows) files.file(fmt::format("/c/{}.conf", row.line), row.script);
    forge::FatOptions fat;
    fat.size = 14U << 20U;
    forge::DiskSpec disk;
    disk.size = 20U << 20U;
    disk.partitions = {{2048, forge::make_fat(files, fat).bytes, 0x0C, true}};
    const auto machine = support::machine_of(forge::make_disk(disk));
    loader::uboot::Build build;
    build.emulated = true;
    build.version = "U-Boot 2023.01";
    auto variables = usual;
    for (const auto& [name, value] : {std::pair("x", "drei"), {"fdtfile", "b.dtb"}, {"fdt_addr_r", "0x46000000"}})
        variables.insert_or_assign(name, value);
    for (const auto& row : rows) {
        variables.insert_or_assign("bootcmd", fmt::format("sysboot virtio 0:1 any 0x40300000 /c/{}.conf", row.line));
        const auto outcome =
            loader::uboot::Console(machine, *find_board("uboot-qemu-arm64"), variables, false, build).boot("bootcmd");
        EXPECT_FALSE(outcome.started) << row.line;
        EXPECT_EQ(support::as_in_table(tried(outcome)), support::as_in_table(row.answer))
            << "uboot.menus, line " << row.line << ": " << row.script;
    }
}

/// Those that stand in the programs of the package u-boot-qemu, for each of its boards.
TEST(UbootVariables, OfTheEmulatedBoardsAreThoseOfTheirPrograms) {
    const auto told = [](const std::string& board) {
        support::ScriptCard card("");
        card.files.file(
            "/boot.scr",
            forge::make_legacy_image(
                forge::to_bytes(
                    "setenv bootargs \"$arch $cpu $board $kernel_addr_r $ramdisk_addr_r $loadaddr $scriptaddr "
                    "$fdt_addr-$fdt_addr_r $initrd_high $boot_targets\"\n"
                    "load virtio 0:1 $kernel_addr_r /Image\nbooti $kernel_addr_r\n"),
                {.type = 6}));
        const support::BoardVerdict verdict(card.build(), board);
        for (const auto& menu : verdict.verdict.menus)
            for (const auto* list : {&menu.entries, &menu.direct})
                if (!list->empty()) return list->front().arguments;
        return std::string("no entry");
    };
    EXPECT_EQ(
        told("uboot-qemu-arm64"),
        "arm armv8 qemu-arm 0x40400000 0x44000000 0x40200000 0x40200000 0x40000000- 0xffffffff qfw usb0 scsi0 virtio0 "
        "nvme0 dhcp");
    EXPECT_EQ(
        told("uboot-qemu-arm"),
        "arm armv7 qemu-arm 0x40400000 0x44000000 0x40200000 0x40200000 0x40000000- 0xffffffff qfw usb0 scsi0 virtio0 "
        "nvme0 dhcp");
    EXPECT_EQ(
        told("uboot-qemu-riscv64"),
        "riscv generic qemu-riscv 0x84000000 0x8c300000 0x80200000 0x8c100000 -0x8c000000 0xffffffffffffffff qemu "
        "virtio0 scsi0 dhcp");
}

}  // namespace
