// SPDX-License-Identifier: MIT
// What the person at the screen reads where a RAM disk goes no further: each maker's own words.
#include "demo_disks.hpp"
#include "support.hpp"

using namespace herberge;
using support::Checked;
using support::edit;

namespace {

struct Builder {
    const char* name;
    void (*mark)(forge::Tree&);
};
const Builder builders[] = {
    {"initramfs-tools",
     [](forge::Tree& files) {
         files.file("/scripts/local", "#!/bin/sh\n").file("/conf/initramfs.conf", "MODULES=most\n");
     }},
    {"dracut", [](forge::Tree& files) { files.file("/usr/lib/dracut/build-parameter.txt", ""); }},
    {"mkinitcpio", [](forge::Tree& files) { files.file("/init_functions", "").file("/config", ""); }},
};

struct End {
    const char* name;
    void (*change)(demo::FrontDesk&);
    Stage stage;
    Code code;
    const char* screens[3];  ///< in the order of the makers above
};
const std::string root_is = std::string("root=UUID=") + demo::root_uuid;
void say(demo::FrontDesk& desk, const std::string& instead) {
    edit(desk.root, "/boot/grub/grub.cfg", root_is, instead);
}

const End ends[] = {
    {"NoSuchUuid",
     [](demo::FrontDesk& desk) { say(desk, "root=UUID=dead0000-0000-4000-8000-000000000000"); },
     Stage::Root,
     Code::RootNotFound,
     {"Gave up waiting for root file system device.\n"
      "ALERT! UUID=dead0000-0000-4000-8000-000000000000 does not exist. Dropping to a shell!",
      "Warning: dracut-initqueue: timeout, still waiting for following initqueue hooks:\n"
      "Warning: \"/dev/disk/by-uuid/dead0000-0000-4000-8000-000000000000\" does not exist\n"
      "Entering emergency mode. Exit the shell to continue.",
      "ERROR: device 'UUID=dead0000-0000-4000-8000-000000000000' not found. Skipping fsck.\n"
      "ERROR: Failed to mount 'UUID=dead0000-0000-4000-8000-000000000000' on real root\n"
      "You are now being dropped into an emergency shell."}},
    {"NoSuchLabel",
     [](demo::FrontDesk& desk) { say(desk, "root=LABEL=cellar"); },
     Stage::Root,
     Code::RootNotFound,
     {"Gave up waiting for root file system device.\nALERT! LABEL=cellar does not exist. Dropping to a shell!",
      "Warning: dracut-initqueue: timeout, still waiting for following initqueue hooks:\n"
      "Warning: \"/dev/disk/by-label/cellar\" does not exist\n"
      "Entering emergency mode. Exit the shell to continue.",
      "ERROR: device 'LABEL=cellar' not found. Skipping fsck.\n"
      "ERROR: Failed to mount 'LABEL=cellar' on real root\n"
      "You are now being dropped into an emergency shell."}},
    {"NoSuchDevice",
     [](demo::FrontDesk& desk) { say(desk, "root=/dev/sdc1"); },
     Stage::Root,
     Code::RootNotFound,
     {"Gave up waiting for root file system device.\nALERT! /dev/sdc1 does not exist. Dropping to a shell!",
      "Warning: dracut-initqueue: timeout, still waiting for following initqueue hooks:\n"
      "Warning: \"/dev/sdc1\" does not exist\nEntering emergency mode. Exit the shell to continue.",
      "ERROR: device '/dev/sdc1' not found. Skipping fsck.\nERROR: Failed to mount '/dev/sdc1' on real root\n"
      "You are now being dropped into an emergency shell."}},
    {"OfAnotherType",
     [](demo::FrontDesk& desk) { say(desk, root_is + " rootfstype=vfat"); },
     Stage::Root,
     Code::RootTypeWrong,
     {"mount: mounting UUID=a1b0f000-0001-4a01-8a01-00000a1b0f01 on /root failed: Invalid argument",
      "Failed to mount sysroot.mount - /sysroot.\nEntering emergency mode. Exit the shell to continue.",
      "ERROR: Failed to mount 'UUID=a1b0f000-0001-4a01-8a01-00000a1b0f01' on real root\n"
      "You are now being dropped into an emergency shell."}},
    {"Swap",
     [](demo::FrontDesk& desk) { say(desk, "root=/dev/sda2"); },
     Stage::Root,
     Code::RootNotAFileSystem,
     {"mount: mounting /dev/sda2 on /root failed: Invalid argument",
      "Failed to mount sysroot.mount - /sysroot.\nEntering emergency mode. Exit the shell to continue.",
      "ERROR: Failed to mount '/dev/sda2' on real root\nYou are now being dropped into an emergency shell."}},
    {"NoInit",
     [](demo::FrontDesk& desk) {
         for (const char* name : {"/usr/sbin/init", "/usr/bin/sh"}) desk.root.remove(name);
     },
     Stage::Init,
     Code::ProgramMissing,
     {"Target filesystem doesn't have requested /sbin/init. No init found. Try passing init= bootarg.",
      "Failed to execute /sbin/init\n[!!!!!!] Failed to execute fallback shell.",
      "ERROR: Root device mounted successfully, but /sbin/init does not exist.\n"
      "Bailing out, you are on your own. Good luck."}},
    {"ForAnotherProcessor",
     [](demo::FrontDesk& desk) { desk.root.at("/usr/bin/busybox").content[18] = 183; },
     Stage::Init,
     Code::ProgramArchitecture,
     {"switch_root: can't execute '/sbin/init': Exec format error\n"
      "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000100 ]---",
      "Failed to execute /sbin/init",
      "switch_root: can't execute '/sbin/init': Exec format error\n"
      "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000100 ]---"}},
};

}  // namespace

TEST(RamdiskScreens, AreInTheirMakersWords) {
    for (const auto& end : ends)
        for (std::size_t maker = 0; maker < std::size(builders); ++maker) {
            auto desk = demo::front_desk();
            desk.ramdisk.remove("/scripts/local").remove("/conf/initramfs.conf");
            builders[maker].mark(desk.ramdisk);
            end.change(desk);
            const Checked checked(desk.build());
            const std::string at = std::string(end.name) + " by " + builders[maker].name;
            EXPECT_EQ(checked.system().stops_at, end.stage) << at;
            EXPECT_TRUE(checked.has(end.code)) << at;
            EXPECT_EQ(checked.system().symptom, end.screens[maker]) << at;
        }
}

TEST(RamdiskScreens, AKernelWithoutOneSaysItItself) {
    auto desk = demo::front_desk();
    edit(desk.root, "/boot/grub/grub.cfg", "initrd ", "true ");
    edit(desk.root, std::string("/boot/config-") + demo::release, "CONFIG_EXT4_FS=m", "CONFIG_EXT4_FS=y");
    say(desk, "root=/dev/sda2");
    const Checked checked(desk.build());
    EXPECT_NE(checked.system().symptom.find("VFS: Unable to mount root fs on unknown-block"), std::string::npos)
        << checked.system().symptom;
    EXPECT_EQ(checked.system().symptom.find("/root failed"), std::string::npos);
}
