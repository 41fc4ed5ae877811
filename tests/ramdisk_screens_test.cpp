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
    {"a script of its own", [](forge::Tree&) {}},
};

struct End {
    const char* name;
    void (*change)(demo::FrontDesk&);
    Stage stage;
    Code code;
    const char* screens[4];  ///< in the order of the makers above
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
      "You are now being dropped into an emergency shell.",
      "(in its own words, the RAM disk's script says that there is no UUID=dead0000-0000-4000-8000-000000000000)"}},
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
      "You are now being dropped into an emergency shell.",
      "(in its own words, the RAM disk's script says that there is no LABEL=cellar)"}},
    {"NoSuchDevice",
     [](demo::FrontDesk& desk) { say(desk, "root=/dev/sdc1"); },
     Stage::Root,
     Code::RootNotFound,
     {"Gave up waiting for root file system device.\nALERT! /dev/sdc1 does not exist. Dropping to a shell!",
      "Warning: dracut-initqueue: timeout, still waiting for following initqueue hooks:\n"
      "Warning: \"/dev/sdc1\" does not exist\nEntering emergency mode. Exit the shell to continue.",
      "ERROR: device '/dev/sdc1' not found. Skipping fsck.\nERROR: Failed to mount '/dev/sdc1' on real root\n"
      "You are now being dropped into an emergency shell.",
      "(in its own words, the RAM disk's script says that there is no /dev/sdc1)"}},
    {"OfAnotherType",
     [](demo::FrontDesk& desk) { say(desk, root_is + " rootfstype=vfat"); },
     Stage::Root,
     Code::RootTypeWrong,
     {"mount: mounting /dev/… on /root failed: Invalid argument\nFailed to mount /dev/… as root file system.",
      "Failed to mount sysroot.mount - /sysroot.\nEntering emergency mode. Exit the shell to continue.",
      "ERROR: Failed to mount 'UUID=a1b0f000-0001-4a01-8a01-00000a1b0f01' on real root\n"
      "You are now being dropped into an emergency shell.",
      "(in its own words, the RAM disk's script says that UUID=a1b0f000-0001-4a01-8a01-00000a1b0f01 cannot be "
      "mounted: Invalid argument)"}},
    {"Swap",
     [](demo::FrontDesk& desk) { say(desk, "root=/dev/sda2"); },
     Stage::Root,
     Code::RootNotAFileSystem,
     {"mount: mounting /dev/sda2 on /root failed: Invalid argument\nFailed to mount /dev/sda2 as root file system.",
      "Failed to mount sysroot.mount - /sysroot.\nEntering emergency mode. Exit the shell to continue.",
      "ERROR: Failed to mount '/dev/sda2' on real root\nYou are now being dropped into an emergency shell.",
      "(in its own words, the RAM disk's script says that /dev/sda2 cannot be mounted: Invalid argument)"}},
    {"NoInit",
     [](demo::FrontDesk& desk) {
         for (const char* name : {"/usr/sbin/init", "/usr/bin/sh"}) desk.root.remove(name);
     },
     Stage::Init,
     Code::ProgramMissing,
     {"Target filesystem doesn't have requested /sbin/init.\nNo init found. Try passing init= bootarg.",
      "Failed to execute /sbin/init\n[!!!!!!] Failed to execute fallback shell.",
      "ERROR: Root device mounted successfully, but /sbin/init does not exist.\n"
      "Bailing out, you are on your own. Good luck.",
      "(in its own words, the RAM disk's script says that there is no /sbin/init that can be executed)"}},
    {"ForAnotherProcessor",
     [](demo::FrontDesk& desk) { desk.root.at("/usr/bin/busybox").content[18] = 183; },
     Stage::Init,
     Code::ProgramArchitecture,
     {"run-init: can't execute '/sbin/init': Exec format error\n"
      "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000100 ]---",
      "Failed to execute /sbin/init",
      "switch_root: can't execute '/sbin/init': Exec format error\n"
      "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000100 ]---",
      "(in its own words, the RAM disk's script says that /sbin/init cannot be executed: Exec format error)"}},
    // Executed, and killed at the first page that the file does not have: no other init is tried.
    {"CutShort",
     [](demo::FrontDesk& desk) {
         auto& bytes = desk.root.at("/usr/bin/busybox").content;
         bytes.resize(bytes.size() / 2);
         desk.root.file("/etc/init", desk.root.at("/usr/bin/busybox").content, 0755);
     },
     Stage::Init,
     Code::ProgramCut,
     {"---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000007 ]---",
      "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000007 ]---",
      "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000007 ]---",
      "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000007 ]---"}},
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

/// BusyBox' mount, where the start goes by an inittab: the device that it found (its name is the hardware's), and the
/// kernel's own reason, as far as it can be known.
TEST(MountScreens, ARefusedMountIsToldAsItsProgramDoes) {
    const std::string folder = std::string("/usr/lib/modules/") + demo::release;
    struct Row {
        std::string line, drivers, screen;
    };
    const std::string root = std::string("UUID=") + demo::root_uuid;
    const Row rows[] = {
        {root + " /var/log vfat defaults", "", "mount: mounting /dev/… on /var/log failed: No such device"},
        {root + " /var/log vfat defaults", "xfs", "mount: mounting /dev/… on /var/log failed: No such device"},
        {root + " /var/log vfat defaults", "vfat", "mount: mounting /dev/… on /var/log failed: Invalid argument"},
        {"/dev/sda1 /var/log vfat defaults", "vfat", "mount: mounting /dev/sda1 on /var/log failed: Invalid argument"},
        {"UUID=dead0000-0000-4000-8000-000000000000 /var/log ext4 defaults", "",
         "mount: mounting UUID=dead0000-0000-4000-8000-000000000000 on /var/log failed: No such file or directory"},
    };
    // A RAM disk of which it is not known what it loads: neither is the kernel's reason.
    auto own = demo::front_desk();
    own.ramdisk.remove("/scripts/local").remove("/conf/initramfs.conf");
    edit(own.root, "/etc/fstab", "tmpfs /tmp tmpfs defaults", root + " /var/log vfat defaults");
    EXPECT_EQ(Checked(own.build()).system().symptom, "mount: mounting /dev/… on /var/log failed: …");
    for (const auto& row : rows) {
        auto desk = demo::front_desk();
        edit(desk.root, "/etc/fstab", "tmpfs /tmp tmpfs defaults", row.line);
        const std::string config = std::string("/boot/config-") + demo::release;
        edit(desk.root, config, "CONFIG_EXT4_FS=m", "CONFIG_EXT4_FS=m\nCONFIG_VFAT_FS=m\nCONFIG_XFS_FS=m");
        if (!row.drivers.empty())
            desk.root.link("/usr/sbin/modprobe", "../bin/busybox")
                .file(folder + "/modules.dep", "kernel/fs/" + row.drivers + ".ko:\n")
                .file(folder + "/kernel/fs/" + row.drivers + ".ko", "ELF");
        const Checked checked(desk.build());
        EXPECT_EQ(checked.system().stops_at, Stage::Services) << row.line;
        EXPECT_EQ(checked.system().symptom, row.screen) << row.line << " " << row.drivers;
    }
}
