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
        Body{"RamdiskAndAFileThatIsPacked", "linux " + kernel + root + "\ninitrd newc:etc/key:/boot/short " + ramdisk,
             EntryKind::Linux, "", "", "unknown"},
        Body{"RamdiskBeforeAFileThatIsPacked",
             "linux " + kernel + root + "\ninitrd " + ramdisk + " newc:///a/b/c:/boot/short newc:d:/boot/image.elf",
             EntryKind::Linux, "", "", "yes"},
        Body{"PackedFileThatIsGone", "linux " + kernel + root + "\ninitrd " + ramdisk + " newc:etc/key:/boot/none",
             EntryKind::Linux, "", "error: file `/boot/none' not found.", "ramdisk"},
        Body{"PackedFileWithoutAName", "linux " + kernel + root + "\ninitrd newc:/boot/short", EntryKind::Linux, "",
             "error: invalid file name `newc:/boot/short'.", "ramdisk"},
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

/// As the system's own archiver reads what GRUB packs; and from which version on the kernel reads it, too.
TEST(GrubArchive, HoldsTheFileByItsNewName) {
    const auto start = [](const std::string& version, const std::string& files) {
        auto desk = demo::front_desk();
        desk.root.file("/boot/short", "twelve beds\n");
        desk.root.file("/boot/grub/grub.cfg",
                       "set timeout=1\nmenuentry 'Almhof' {\nlinux " + kernel + root + "\ninitrd " + files + "\n}\n");
        auto& normal = desk.root.at("/boot/grub/i386-pc/linux.mod").content;
        normal.push_back(0);
        normal.insert(normal.end(), version.begin(), version.end());
        normal.push_back(0);
        return support::Checked(desk.build());
    };
    const std::string packed = "newc:srv/inn/beds:/boot/short ";
    const auto checked = start("2.12-9", packed + ramdisk);
    EXPECT_EQ(checked.stage(), "yes") << checked.system().at(Stage::Entry).text;
    const auto& files = checked.verdict.menus.at(0).entries.at(0).ramdisks;
    ASSERT_EQ(files.size(), 2U);
    EXPECT_EQ(files[0].where(), "d1p1:/boot/short as srv/inn/beds");
    ASSERT_NE(files[0].bytes, nullptr);
    EXPECT_EQ(files[0].size, files[0].bytes->size());
    const support::Folder folder;
    folder.write("archive", files[0].bytes->bytes(0, files[0].size).value());
    const std::string in = "cd " + folder.file("") + " && cpio --quiet ";
    const auto listed = support::shell(in + "-tv <archive 2>&1");
    EXPECT_EQ(listed.status, 0);
    for (const char* name : {" srv\n", " srv/inn\n", " srv/inn/beds\n"})
        EXPECT_NE(listed.out.find(name), std::string::npos) << listed.out;
    EXPECT_EQ(listed.out.find("drwxrwxrwx"), 0U) << listed.out;
    EXPECT_EQ(support::shell(in + "-i --to-stdout srv/inn/beds <archive 2>/dev/null").out, "twelve beds\n");
    // The two stand in the RAM disk together.
    EXPECT_NE(checked.system().at(Stage::Ramdisk).text.find("plain archive (3 files"), std::string::npos)
        << checked.system().at(Stage::Ramdisk).text;
    for (const char* version : {"2.12", "2:2.12-1", "2.14~rc1"})
        EXPECT_EQ(start(version, packed + ramdisk).stage(), "yes") << version;
    for (const char* version : {"2.06-13+deb12u2", "2.02", "2.1", "x2.12", "2.x2"}) {
        EXPECT_EQ(start(version, packed + ramdisk).stage(), "unknown") << version;
        EXPECT_EQ(start(version, ramdisk + " " + packed).stage(), "yes") << "what is lost lies behind all else";
    }
    const auto old = start("2.06-13+deb12u2", packed + ramdisk);
    EXPECT_NE(
        old.system()
            .at(Stage::Entry)
            .text.find("GRUB 2.06-13+deb12u2 packs /boot/short by a name without its end: newer kernels unpack nothing "
                       "behind it, older ones do"),
        std::string::npos)
        << old.system().at(Stage::Entry).text;
    EXPECT_EQ(start("2.06", "newc:init:/usr/bin/busybox").stage(), "unknown");
    EXPECT_EQ(start("2.06", packed).stage(), "ramdisk") << "no init is in it, packed well or not";
}

}  // namespace
