// SPDX-License-Identifier: MIT
// GRUB's commands that load something, each as the body of an entry: what is loaded, what GRUB says, where it stops.
#include "kiosk.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

const std::string kernel = std::string("/boot/vmlinuz-") + demo::release;
const std::string ramdisk = std::string("/boot/initrd.img-") + demo::release;
const std::string root = std::string(" root=UUID=") + demo::root_uuid + " ro";

struct Body {
    const char* name;
    std::string commands;
    EntryKind kind;
    std::string code;     ///< of what stops it; empty: it resolves
    std::string message;  ///< the first that is printed; empty: none
    std::string stage;    ///< of the machine
};
void PrintTo(const Body& body, std::ostream* out) { *out << body.name; }

class GrubEntry : public testing::TestWithParam<Body> {};
TEST_P(GrubEntry, LoadsOrSaysWhyNot) {
    auto desk = demo::front_desk();
    const std::string modules = "/boot/grub/i386-pc/";
    for (const char* name : {"multiboot", "multiboot2", "chain", "fdt", "linux16"})
        desk.root.file(modules + name + ".mod", forge::make_grub_module({name, {"boot"}, {"grub_loader_set"}, {}}));
    auto& list = desk.root.at(modules + "command.lst").content;
    for (const char c : std::string_view("chainloader: chain\ndevicetree: fdt\ninitrd16: linux16\nlinux16: "
                                         "linux16\nmultiboot: multiboot\nmodule: multiboot\n"
                                         "multiboot2: multiboot2\nmodule2: multiboot2\n"))
        list.push_back(static_cast<std::uint8_t>(c));
    desk.root.file("/boot/grub/grub.cfg", "set timeout=1\nmenuentry 'Almhof' {\n" + GetParam().commands + "\n}\n");
    desk.root.file("/boot/short", "x").file("/boot/image.elf", forge::noise(9000, 3));
    const support::Checked checked(desk.build());
    ASSERT_EQ(checked.verdict.menus.size(), 1U);
    const auto& entry = checked.verdict.menus[0].entries.at(0);
    EXPECT_EQ(entry.kind, GetParam().kind) << static_cast<int>(entry.kind);
    EXPECT_EQ(entry.stop ? std::string(code_id(entry.stop->code)) : "", GetParam().code)
        << (entry.stop ? entry.stop->text : "");
    EXPECT_EQ(entry.messages.empty() ? "" : entry.messages.front().text, GetParam().message);
    EXPECT_EQ(checked.stage(), GetParam().stage);
}

INSTANTIATE_TEST_SUITE_P(
    Bios, GrubEntry,
    testing::Values(
        Body{"Linux", "linux " + kernel + root + "\ninitrd " + ramdisk, EntryKind::Linux, "", "", "yes"},
        Body{"LinuxWithoutAFile", "linux", EntryKind::Nothing, "entry-loads-nothing", "error: filename expected.",
             "entry"},
        Body{"LinuxThatIsShort", "linux /boot/short" + root, EntryKind::Linux, "kernel-refused-by-loader",
             "error: premature end of file /boot/short.", "kernel"},
        Body{"LinuxThatIsNone", "linux /boot/image.elf" + root, EntryKind::Linux, "kernel-refused-by-loader",
             "error: invalid magic number.", "kernel"},
        Body{"RamdiskBeforeTheKernel", "initrd " + ramdisk + "\nlinux " + kernel + root, EntryKind::Linux, "",
             "error: you need to load the kernel first.", "ramdisk"},
        Body{"RamdiskWithoutAFile", "linux " + kernel + root + "\ninitrd", EntryKind::Linux, "",
             "error: filename expected.", "ramdisk"},
        Body{"TwoRamdisks", "linux " + kernel + root + "\ninitrd " + ramdisk + " /boot/none", EntryKind::Linux, "",
             "error: file `/boot/none' not found.", "ramdisk"},
        Body{"LinuxOfOldSetup", "linux16 " + kernel + root + "\ninitrd16 " + ramdisk, EntryKind::Linux, "", "", "yes"},
        Body{"Multiboot", "multiboot /boot/image.elf\nmodule /boot/short", EntryKind::Multiboot, "", "", "unknown"},
        Body{"MultibootWithWords", "multiboot --quirk-bad-kludge /boot/image.elf", EntryKind::Multiboot, "", "",
             "unknown"},
        Body{"MultibootGone", "multiboot2 /boot/none", EntryKind::Multiboot, "entry-kernel-missing",
             "error: file `/boot/none' not found.", "entry"},
        Body{"MultibootWithoutAFile", "multiboot", EntryKind::Multiboot, "", "error: filename expected.", "entry"},
        Body{"Devicetree", "linux " + kernel + root + "\ninitrd " + ramdisk + "\ndevicetree /boot/short",
             EntryKind::Linux, "", "", "yes"},
        Body{"DevicetreeGone", "linux " + kernel + root + "\ninitrd " + ramdisk + "\ndevicetree /boot/none",
             EntryKind::Linux, "", "error: file `/boot/none' not found.", "yes"},
        Body{"DevicetreeWithoutAFile", "linux " + kernel + root + "\ninitrd " + ramdisk + "\ndevicetree",
             EntryKind::Linux, "", "error: filename expected.", "yes"},
        Body{"ChainWithoutAFile", "chainloader", EntryKind::Chainload, "", "error: filename expected.", "entry"},
        Body{"ChainToAFileThatIsGone", "chainloader /boot/none", EntryKind::Chainload, "entry-kernel-missing",
             "error: file `/boot/none' not found.", "entry"},
        Body{"ChainToAShortFile", "chainloader /boot/short", EntryKind::Chainload, "chain-unreadable",
             "error: premature end of file /boot/short.", "entry"},
        Body{"ChainToAPartitionThatIsNot", "chainloader (hd0,msdos7)+1", EntryKind::Chainload, "entry-device-missing",
             "error: no such partition.", "entry"},
        Body{"ChainToADiskThatIsNot", "chainloader (hd5)+1", EntryKind::Chainload, "entry-device-missing",
             "error: disk `hd5' not found.", "entry"},
        Body{"ChainToASectorWithoutAMark", "chainloader (hd0,msdos1)+1", EntryKind::Chainload, "chain-no-signature",
             "error: invalid signature.", "entry"},
        Body{"ChainForced", "chainloader --force (hd0,msdos1)+1", EntryKind::Chainload, "", "", "boot-sector"}),
    support::by_name);

}  // namespace
