// SPDX-License-Identifier: MIT
// What whole installations of a distribution came to when one thing was changed: the stage, the finding, what it points
// at, and what the person in front of the machine reads.
#include <herberge/sentences.hpp>

#include "cellar.hpp"
#include "reception.hpp"
#include "support.hpp"
#include "system/mount_options.hpp"

using namespace herberge;
using support::Checked;
using support::edit;

namespace {

using Desk = demo::FrontDesk;

/// The words of the kernel's command line are changed.
void say(Desk& desk, const std::string& words) { edit(desk.root, "/boot/grub/grub.cfg", " ro quiet", words); }

struct Case {
    const char* name;
    std::function<void(Desk&)> change;
    Stage stage;
    Code code;
    std::string text, place, screen;
};

class Stops : public testing::TestWithParam<Case> {};

TEST_P(Stops, WhereTheMachineDoes) {
    const auto& want = GetParam();
    auto desk = demo::reception();
    want.change(desk);
    const Checked checked(desk.build());
    const auto& system = checked.system();
    ASSERT_EQ(system.stops_at, want.stage) << checked.stage();
    const auto& rung = system.at(want.stage);
    EXPECT_EQ(rung.state, State::Breaks);
    ASSERT_FALSE(rung.findings.empty());
    EXPECT_EQ(rung.findings.front(), want.code) << code_id(rung.findings.front());
    EXPECT_EQ(rung.text, want.text);
    EXPECT_EQ(system.symptom, want.screen);
    EXPECT_TRUE(std::ranges::any_of(rung.evidence, [&](const Evidence& e) { return e.place == want.place; }))
        << (rung.evidence.empty() ? "nothing" : rung.evidence.front().place);
    for (const auto& other : system.stages) {
        if (other.stage < want.stage) EXPECT_NE(other.state, State::Breaks) << stage_id(other.stage);
        if (other.stage > want.stage) EXPECT_EQ(other.state, State::NotReached) << stage_id(other.stage);
    }
}

const std::string freezes = "[!!!!!!] Failed to mount early API filesystems.\nFreezing execution.";

const Case cases[] = {
    {"NoFolderProc", [](Desk& d) { d.root.remove("/proc"); }, Stage::Init, Code::InitFolderMissing,
     "the root has no folder /proc: systemd cannot mount what belongs there, and stops", "d1p1:/proc", freezes},
    {"NoFolderSys", [](Desk& d) { d.root.remove("/sys"); }, Stage::Init, Code::InitFolderMissing,
     "the root has no folder /sys: systemd cannot mount what belongs there, and stops", "d1p1:/sys", freezes},
    {"AFileForSys", [](Desk& d) { d.root.remove("/sys").file("/sys", "closed\n"); }, Stage::Init,
     Code::InitFolderMissing, "the root has no folder /sys: systemd cannot mount what belongs there, and stops",
     "d1p1:/sys", freezes},
    {"NoFolderDev", [](Desk& d) { d.root.remove("/dev"); }, Stage::Init, Code::InitFolderMissing,
     "the root has no folder /dev: the RAM disk cannot hand the console over to init", "d1p1:/dev",
     "can't open /root/dev/console: no such file\n"
     "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000100 ]---"},
    {"NoFolderDevThoughItMayBeWritten",
     [](Desk& d) {
         d.root.remove("/dev");
         say(d, " rw");
     },
     Stage::Init, Code::InitFolderMissing,
     "the root has no folder /dev: the RAM disk cannot hand the console over to init", "d1p1:/dev",
     "can't open /root/dev/console: no such file\n"
     "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000100 ]---"},
    {"RootOption", [](Desk& d) { say(d, " ro rootflags=noatime,beds=12"); }, Stage::Root, Code::RootOptionUnknown,
     "d1p1 is to be mounted with the option beds=12, which the driver of ext4 does not know", "the command line",
     "mount: mounting /dev/… on /root failed: Invalid argument\nFailed to mount /dev/… as root file system."},
    {"ShellThatPanicReplaces", [](Desk& d) { say(d, " ro break=mount panic=5"); }, Stage::Ramdisk,
     Code::RamdiskShellAsked,
     "break=mount stops the RAM disk before the system is reached, and panic=5 takes the place of its shell",
     "the command line", "Spawning shell within the initramfs\nRebooting automatically due to panic= boot argument"},
    {"ShellThatPanicHalts", [](Desk& d) { say(d, " ro break panic=0"); }, Stage::Ramdisk, Code::RamdiskShellAsked,
     "break stops the RAM disk before the system is reached, and panic=0 takes the place of its shell",
     "the command line", "Spawning shell within the initramfs\nHalting automatically due to panic= boot argument"},
    {"NoScriptForTheRoot", [](Desk& d) { say(d, " ro boot=hut"); }, Stage::Root, Code::RamdiskNoRootScript,
     "boot=hut asks the RAM disk for its script scripts/hut, which it does not have: its init ends there",
     "RAM disk:/scripts/hut",
     "can't open '/scripts/hut': No such file or directory\n"
     "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000200 ]---"},
    {"NoScriptForTheRootThatItsOwnSettingsAskFor",
     [](Desk& d) {
         d.ramdisk.remove("/bin/busybox").remove("/bin/sh").file("/bin/sh", forge::make_program(), 0755);
         d.ramdisk.file("/conf/initramfs.conf", "MODULES=most\nBOOT=local\nNFSROOT=auto\n");
         d.ramdisk.file("/conf/conf.d/hut", "#BOOT=nfs\nexport BOOT=\"hut\" # for tonight\n");
     },
     Stage::Root, Code::RamdiskNoRootScript,
     "BOOT=hut asks the RAM disk for its script scripts/hut, which it does not have: its init ends there",
     "RAM disk:/conf",
     "cannot open /scripts/hut: No such file\n"
     "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000200 ]---"},
    {"SwitchedOff",
     [](Desk& d) {
         d.root.file("/usr/lib/systemd/system/poweroff.target", "[Unit]\nAllowIsolate=yes\n");
         say(d, " ro systemd.unit=poweroff.target");
     },
     Stage::Services, Code::ServicesEndAsked, "the command line asks for poweroff.target: the start ends with that",
     "d1p1:/usr/lib/systemd/system/poweroff.target", "reboot: Power down"},
    // The next that is tried has its execute bit, and no linker.
    {"NeitherInitNorShell",
     [](Desk& d) {
         d.root.remove("/usr/sbin/init");
         d.root.remove("/usr/bin/sh").file("/usr/bin/sh", forge::make_dynamic({"/lib64/ld.so", {}, "", "", ""}), 0755);
     },
     Stage::Init, Code::ProgramMissing,
     "the init /sbin/init cannot run: /usr/sbin/init does not exist (through the link /sbin -> usr/sbin); and "
     "/bin/sh, which is tried next, cannot either: the program interpreter /lib64/ld.so of /usr/bin/sh cannot be used: "
     "/lib64 does not exist",
     "d1p1:/sbin/init",
     "run-init: can't execute '/bin/sh': No such file or directory\n"
     "---[ end Kernel panic - not syncing: Attempted to kill init! exitcode=0x00000100 ]---"},
};

INSTANTIATE_TEST_SUITE_P(Installed, Stops, testing::ValuesIn(cases), support::by_name);

/// What looks like one of those, and harms nothing.
TEST(Installed, StartsAllTheSame) {
    const std::pair<const char*, std::function<void(Desk&)>> harmless[] = {
        {"a folder is made where the root may be written",
         [](Desk& d) {
             d.root.remove("/sys");
             say(d, " rw");
         }},
        {"the last word counts",
         [](Desk& d) {
             d.root.remove("/sys");
             say(d, " ro rw");
         }},
        {"no point of that name", [](Desk& d) { say(d, " ro break=hut panic=5"); }},
        {"another word", [](Desk& d) { say(d, " ro breakfast=mount panic=5"); }},
        {"of another RAM disk", [](Desk& d) { say(d, " ro rd.break panic=5"); }},
        {"options that the driver knows", [](Desk& d) { say(d, " ro rootflags=noatime,data=ordered"); }},
    };
    for (const auto& [name, change] : harmless) {
        auto desk = demo::reception();
        change(desk);
        const Checked checked(desk.build());
        EXPECT_EQ(checked.system().starts, Starts::Yes) << name << ": " << checked.stage();
        EXPECT_EQ(checked.system().waits_for, "") << name;
    }
}

/// A shell for repairs is no failure: it was asked for, and somebody has to be there.
TEST(Installed, AShellForRepairsWaitsForSomebody) {
    struct Asked {
        const char* words;
        Stage stage;
        Code code;
        const char* text;
    };
    for (const auto& one :
         {Asked{" ro break=premount", Stage::Ramdisk, Code::RamdiskShellAsked,
                "break=premount stops the RAM disk at a shell; the system is started when that is left"},
          {" ro break=hut break=top,init", Stage::Ramdisk, Code::RamdiskShellAsked,
           "break=top,init stops the RAM disk at a shell; the system is started when that is left"},
          {" ro systemd.unit=rescue.target", Stage::Services, Code::ServicesRescueAsked,
           "the command line asks for rescue.target: a shell for repairs, not the usual system"}}) {
        auto desk = demo::reception();
        say(desk, one.words);
        const Checked checked(desk.build());
        const auto& system = checked.system();
        EXPECT_EQ(system.starts, Starts::Yes) << one.words;
        EXPECT_EQ(system.at(one.stage).state, State::Doubtful) << one.words;
        EXPECT_NE(system.at(one.stage).text.find(one.text), std::string::npos) << system.at(one.stage).text;
        EXPECT_EQ(system.waits_for, "somebody at a shell for repairs");
        EXPECT_TRUE(system.entry_is_default);
        EXPECT_EQ(entry_sentence(system),
                  "which starts unattended, and then waits for somebody at a shell for repairs");
        const auto found = std::ranges::find(checked.verdict.findings, one.code, &Finding::code);
        ASSERT_NE(found, checked.verdict.findings.end());
        EXPECT_EQ(found->severity, Severity::Risk);
    }
}

/// What answers on a network, or what another script does, is not told by a disk.
TEST(Installed, ARootThatTheUsualScriptDoesNotMountIsNotTold) {
    struct Asked {
        const char* words;
        Starts starts;
        const char* text;
    };
    const char* network = ": nothing here tells what answers there";
    for (const auto& one :
         {Asked{" ro boot=nfs", Starts::Unknown, "the root comes from the network (boot=nfs)"},
          {" root=/dev/nfs", Starts::Unknown, "the root comes from the network (root=/dev/nfs)"},
          {" boot=local root=/dev/nfs", Starts::Unknown,
           "root=/dev/nfs cannot be followed: /dev/nfs is made by device mapper, RAID or a name rule"},
          {" boot=live", Starts::Unknown,
           "boot=live: another script of the RAM disk mounts the root, which is not followed"},
          {" boot=live boot=local", Starts::Yes, ""},
          {" boot=live boot=", Starts::Yes, ""}}) {
        auto desk = demo::reception();
        desk.ramdisk.file("/scripts/live", "");
        say(desk, one.words);
        const Checked checked(desk.build());
        const auto& root = checked.system().at(Stage::Root);
        EXPECT_EQ(checked.system().starts, one.starts) << one.words << ": " << root.text;
        if (one.starts != Starts::Unknown) continue;
        const std::string text = one.text;
        EXPECT_EQ(root.text, !text.ends_with("nfs)") ? text : text + network);
        EXPECT_EQ(root.evidence.front().place,
                  text.starts_with("root=") ? "d1p1:/boot/grub/grub.cfg" : "the command line");
        EXPECT_EQ(checked.system().at(Stage::Init).state, State::NotReached);
    }
    // dracut has no such word.
    auto desk = demo::reception();
    desk.ramdisk.remove("/scripts/local").remove("/conf/initramfs.conf");
    desk.ramdisk.file("/usr/lib/dracut/build-parameter.txt", "");
    say(desk, " ro boot=hut");
    EXPECT_EQ(Checked(desk.build()).system().starts, Starts::Yes);
}

/// Other makers of RAM disks have words of their own.
TEST(Installed, EachMakerHasItsOwnWordForAShell) {
    struct Maker {
        void (*mark)(forge::Tree&);
        const char *asks, *does_not;
    };
    for (const auto& maker : {Maker{[](forge::Tree& files) { files.file("/usr/lib/dracut/build-parameter.txt", ""); },
                                    "rd.break=pre-mount", "break=premount"},
                              {[](forge::Tree& files) { files.file("/init_functions", "").file("/config", ""); },
                               "break=postmount", "break=bottom"}})
        for (const bool asks : {true, false}) {
            auto desk = demo::reception();
            desk.ramdisk.remove("/scripts/local").remove("/conf/initramfs.conf");
            maker.mark(desk.ramdisk);
            say(desk, std::string(" ro panic=5 ") + (asks ? maker.asks : maker.does_not));
            const Checked checked(desk.build());
            EXPECT_EQ(checked.has(Code::RamdiskShellAsked), asks) << maker.asks;
            EXPECT_EQ(checked.system().starts, Starts::Yes) << "panic= is nothing to them";
        }
}

/// systemd makes one unit of a place, by its first line.
TEST(Installed, TheFirstLineOfAPlaceCounts) {
    const std::string own = std::string("UUID=") + demo::root_uuid + " / ext4 defaults 0 1\n";
    const std::string here = "tmpfs /srv tmpfs defaults 0 0\n", gone = "LABEL=GONE /srv ext4 defaults 0 2\n";
    for (const auto& [lines, starts] : {std::pair{here + gone, Starts::Yes}, {gone + here, Starts::No}}) {
        auto desk = demo::reception();
        desk.root.file("/etc/fstab", own + lines);
        const Checked checked(desk.build());
        EXPECT_EQ(checked.system().starts, starts) << lines << checked.stage();
        if (starts == Starts::No) EXPECT_TRUE(checked.has(Code::FstabDeviceMissing));
    }
}

// --- what of /etc/fstab systemd cannot mount -------------------------------------------------------------------------

/// One line more in the table of the reception, which may be "" for the end that starts.
Verdict with_line(const std::string& line, const std::string& kernel = demo::release) {
    auto desk = demo::reception();
    if (kernel != demo::release) {
        auto image = forge::make_kernel({kernel});
        edit(desk.root, "/boot/grub/grub.cfg", std::string("/boot/vmlinuz-") + demo::release, "/boot/vmlinuz-new");
        desk.root.file("/boot/vmlinuz-new", image);
    }
    edit(desk.root, "/etc/fstab", "tmpfs /tmp", line + "\ntmpfs /tmp");
    return check(support::machine_of(desk.build()));
}

TEST(MountsOfSystemd, ThatFailEndInEmergencyMode) {
    struct Line {
        const char *line, *text, *screen;
        Code code;
    };
    for (const auto& one :
         {Line{"tmpfs /srv tmpfs size=small 0 0",
               "the file system in memory for /srv has the option size=small, which its driver refuses",
               "Failed to mount /srv.\nYou are in emergency mode.", Code::FstabOptionUnknown},
          {"tmpfs /srv tmpfs noatime,beds=12 0 0",
           "the file system in memory for /srv has the option beds=12, which its driver refuses",
           "Failed to mount /srv.\nYou are in emergency mode.", Code::FstabOptionUnknown},
          {"tmpfs /etc/hostname/cellar tmpfs defaults 0 0",
           "the mount point /etc/hostname/cellar cannot be made: /etc/hostname is not a directory",
           "Failed to mount /etc/hostname/cellar.\nYou are in emergency mode.", Code::FstabMountPointMissing},
          {"tmpfs /etc/hostname tmpfs defaults 0 0", "the mount point /etc/hostname is a file",
           "Failed to mount /etc/hostname.\nYou are in emergency mode.", Code::FstabMountPointMissing},
          {"tmpfs /srv", "tmpfs for /srv has no type, and is no device",
           "Failed to mount /srv.\nYou are in emergency mode.", Code::FstabNotMountable}}) {
        const auto told = with_line(one.line);
        const auto& system = told.systems.at(0);
        ASSERT_EQ(system.stops_at, Stage::Services) << one.line;
        EXPECT_EQ(system.at(Stage::Services).findings.at(0), one.code) << one.line;
        EXPECT_EQ(system.at(Stage::Services).text, one.text);
        EXPECT_EQ(system.at(Stage::Services).evidence.back().place, "d1p1:/etc/fstab");
        EXPECT_EQ(system.at(Stage::Services).evidence.back().line, 3);
        EXPECT_EQ(system.symptom, one.screen);
        EXPECT_EQ(system.at(Stage::Init).state, State::Holds);
        for (const auto& finding : told.findings) support::expect_screen_of_table(finding);
    }
}

TEST(MountsOfSystemd, ThatItMakesOrPassesOver) {
    for (const char* line : {"tmpfs /srv tmpfs size=50%,mode=1777,uid=0,nr_inodes=10k,huge=never,inode64 0 0",
                             "tmpfs /srv tmpfs", "tmpfs", "tmpfs /cellar/wine tmpfs size=0x100000 0 0",
                             "tmpfs /srv tmpfs size=small,nofail 0 0", "tmpfs /srv tmpfs beds=12,noauto 0 0",
                             "/opt /srv none bind 0 0", "/nothing /srv none bind 0 0", "# tmpfs /srv"})
        EXPECT_EQ(with_line(line).systems.at(0).starts, Starts::Yes) << line;
    // A kernel that is newer than the list may know more.
    const auto newer = with_line("tmpfs /srv tmpfs beds=12 0 0", "6.99.0-almhof");
    EXPECT_NE(newer.systems.at(0).at(Stage::Services).state, State::Breaks);
}

TEST(MountsOfSystemd, OptionsOfMemoryAtTheirEdges) {
    for (const auto& [options, refused] :
         std::initializer_list<std::pair<const char*, const char*>>{{"", ""},
                                                                    {"defaults,noexec,x-gvfs-hide", ""},
                                                                    {"size=1", ""},
                                                                    {"size=", "size="},
                                                                    {"size", "size"},
                                                                    {"size=k", "size=k"},
                                                                    {"size=1kk", "size=1kk"},
                                                                    {"size=10M%", ""},
                                                                    {"size=%", "size=%"},
                                                                    {"size=-1", "size=-1"},
                                                                    {"size=0x", "size=0x"},
                                                                    {"size=0xfFk", ""},
                                                                    {"size=0xfFgg", "size=0xfFgg"},
                                                                    {"nr_blocks=4e,nr_inodes=2P", ""},
                                                                    {"mode=0755,mode=8", "mode=8"},
                                                                    {"uid=100,gid=games,gid=", "gid="},
                                                                    {"smackfsroot=*,smack", "smack"},
                                                                    {"mpol=interleave", ""},
                                                                    {"huge", "huge"},
                                                                    {"inode32,noswap,usrquota_block_hardlimit=1M", ""},
                                                                    {"inode16", "inode16"}})
        EXPECT_EQ(refused_memory_option(options).value_or(""), refused) << options;
}

// --- a /usr with a volume of its own ---------------------------------------------------------------------------------

constexpr const char* programs_uuid = "a1b0f000-0004-4a01-8a01-00000a1b0f04";

/// The reception with its programs on a second disk. `line`: of /etc/fstab, for /usr; empty: it has none.
Verdict with_programs_apart(const std::string& line, const std::function<void(Desk&, forge::Tree&)>& change = {}) {
    auto desk = demo::reception();
    forge::Tree whole = desk.root, programs;
    desk.root = {};
    demo::split_off(whole, "/usr", programs, desk.root);
    support::edit(desk.root, "/etc/fstab", "tmpfs /tmp", line + "\ntmpfs /tmp");
    if (change) change(desk, programs);
    forge::ExtOptions ext;
    ext.size = 24U << 20U;
    ext.uuid = forge::uuid_from(programs_uuid);
    forge::DiskSpec second;
    second.size = 32U << 20U;
    second.partitions = {{2048, forge::make_ext(programs, ext), 0x83, false}};
    return check(support::machine_of_disks({desk.build(), forge::make_disk(second)}));
}
const std::string usr_line = std::string("UUID=") + programs_uuid + " /usr ext4 defaults 0 2";

TEST(ProgramsApart, AreMountedByTheRamDiskBeforeInitIsLookedFor) {
    const auto sound = with_programs_apart(usr_line);
    ASSERT_EQ(sound.systems.size(), 1U);
    EXPECT_EQ(sound.systems[0].starts, Starts::Yes) << sound.systems[0].at(Stage::Root).text;
    EXPECT_EQ(sound.systems[0].place, "d1p1");
    EXPECT_TRUE(sound.systems[0].at(Stage::Root).text.ends_with("; d2p1 is mounted on /usr"))
        << sound.systems[0].at(Stage::Root).text;
    EXPECT_EQ(sound.systems[0].at(Stage::Root).evidence.back().place, "d1p1:/etc/fstab");
    EXPECT_EQ(sound.systems[0].at(Stage::Init).text,
              "/sbin/init leads to /usr/lib/systemd/systemd, which can be executed");
    EXPECT_EQ(sound.systems[0].at(Stage::Services).state, State::Holds);
    EXPECT_EQ(with_programs_apart("/dev/sdb1 /usr auto ro,nofail 0 0").systems.at(0).starts, Starts::Yes);
    // Nothing is mounted without the line; and nothing but the line makes a difference.
    const auto none = with_programs_apart("# " + usr_line);
    EXPECT_EQ(none.systems.at(0).stops_at, Stage::Init);
    EXPECT_EQ(none.systems[0].symptom,
              "Target filesystem doesn't have requested /sbin/init.\nNo init found. Try passing init= bootarg.");
}

TEST(ProgramsApart, ThatAreNotThereEndTheStartAtTheRoot) {
    struct Lost {
        std::string line, text, screen;
    };
    const std::string refused = "\nFailed to mount /dev/… as /usr file system.";
    for (const auto& one :
         {Lost{"UUID=dead0000-0000-4000-8000-000000000000 /usr ext4 defaults 0 2",
               "UUID=dead0000-0000-4000-8000-000000000000 for /usr is not here, and the RAM disk waits for it",
               "Gave up waiting for /usr file system device.\n"
               "ALERT! UUID=dead0000-0000-4000-8000-000000000000 does not exist. Dropping to a shell!"},
          {std::string("UUID=") + programs_uuid + " /usr xfs defaults 0 2",
           std::string("UUID=") + programs_uuid + " cannot be mounted on /usr: d2p1 holds ext4, and xfs is asked for",
           "mount: mounting /dev/… on /root/usr failed: Invalid argument" + refused},
          {std::string("UUID=") + programs_uuid + " /usr ext4 defaults,beds=3 0 2",
           std::string("UUID=") + programs_uuid +
               " cannot be mounted on /usr: d2p1 is to be mounted with the option beds=3, which the driver of "
               "ext4 does not know",
           "mount: mounting /dev/… on /root/usr failed: Invalid argument" + refused}}) {
        const auto told = with_programs_apart(one.line);
        const auto& system = told.systems.at(0);
        EXPECT_EQ(system.stops_at, Stage::Root) << one.line;
        EXPECT_EQ(system.at(Stage::Root).findings.at(0), Code::UsrNotMounted) << one.line;
        EXPECT_EQ(system.at(Stage::Root).text, one.text);
        EXPECT_EQ(system.at(Stage::Root).evidence.at(0).place, "d1p1:/etc/fstab");
        EXPECT_EQ(system.at(Stage::Root).evidence[0].line, 3);
        EXPECT_EQ(system.symptom, one.screen);
        EXPECT_EQ(system.at(Stage::Init).state, State::NotReached);
        for (const auto& finding : told.findings) support::expect_screen_of_table(finding);
    }
    const auto no_folder = with_programs_apart(usr_line, [](Desk& d, forge::Tree&) { d.root.remove("/usr"); });
    EXPECT_EQ(no_folder.systems.at(0).stops_at, Stage::Root);
    EXPECT_EQ(no_folder.systems[0].symptom,
              "mount: mounting /dev/… on /root/usr failed: No such file or directory" + refused);
    // What lies there is looked at as what lies on the root.
    const auto empty = with_programs_apart(usr_line, [](Desk&, forge::Tree& programs) {
        for (const char* gone : {"/lib/systemd/systemd", "/bin/sh", "/bin/busybox"}) programs.remove(gone);
    });
    EXPECT_EQ(empty.systems.at(0).stops_at, Stage::Init);
    const auto memory = with_programs_apart("tmpfs /usr tmpfs defaults 0 0");
    EXPECT_EQ(memory.systems.at(0).stops_at, Stage::Init);
    EXPECT_EQ(memory.systems[0].at(Stage::Root).state, State::Holds);
    EXPECT_TRUE(
        memory.systems[0].at(Stage::Root).text.ends_with("; an empty file system in memory is mounted on /usr"));
}

/// Makers whose RAM disks do it in another way, or of which it is not known: no failure is told.
TEST(ProgramsApart, OfOtherRamDisks) {
    const auto made_by = [](void (*mark)(forge::Tree&), const std::string& line) {
        return with_programs_apart(line, [&](Desk& desk, forge::Tree&) {
            desk.ramdisk.remove("/scripts/local").remove("/conf/initramfs.conf");
            mark(desk.ramdisk);
        });
    };
    const auto dracut = [](forge::Tree& files) { files.file("/usr/lib/dracut/build-parameter.txt", ""); };
    const auto unknown = [](forge::Tree&) {};
    EXPECT_EQ(made_by(dracut, usr_line).systems.at(0).starts, Starts::Yes);
    const auto lost = made_by(dracut, "UUID=dead0000-0000-4000-8000-000000000000 /usr ext4 defaults 0 2");
    EXPECT_EQ(lost.systems.at(0).at(Stage::Root).state, State::Unknown);
    const auto own = made_by(unknown, usr_line);
    EXPECT_EQ(own.systems.at(0).starts, Starts::Unknown);
    EXPECT_NE(own.systems[0].at(Stage::Root).text.find("; but whether its RAM disk mounts d2p1 on /usr is not known"),
              std::string::npos)
        << own.systems[0].at(Stage::Root).text;
}

// --- a file system on a folder of another ----------------------------------------------------------------------------

TEST(Mounted, ShowsTheFilesOfBoth) {
    forge::Tree base, other;
    base.file("/etc/hostname", "almhof\n").file("/srv/below", "hidden\n").link("/way", "srv/list");
    other.file("/list", "four beds\n").link("/up", "../etc/hostname").directory("/rooms");
    const auto open = [](const forge::Tree& tree) {
        forge::ExtOptions options;
        options.size = 4U << 20U;
        auto out = open_file_system(support::source_of(forge::make_ext(tree, options)), Reader::Kernel);
        EXPECT_TRUE(out);
        return *out;
    };
    const auto below = open(base);
    const auto point = resolve(*below, "/srv");
    ASSERT_TRUE(point);
    const auto both = mounted_on(below, point->file.id, open(other));
    EXPECT_EQ(read_text_file(*both, "/way").value_or(""), "four beds\n");
    EXPECT_EQ(read_text_file(*both, "/srv/up").value_or(""), "almhof\n") << "the way up leads out of it";
    EXPECT_EQ(resolve(*both, "/srv/below").error().kind, ErrorKind::NotFound);
    const auto top = resolve(*both, "/srv");
    ASSERT_TRUE(top);
    EXPECT_NE(top->file.id, point->file.id);
    const auto names = both->list(top->file.id);
    ASSERT_TRUE(names);
    EXPECT_TRUE(std::ranges::any_of(*names, [&](const DirEntry& e) {
        return e.name == "rooms" && both->stat(e.id) && both->stat(e.id)->type == FileType::Directory;
    }));
    const auto at_root = both->list(both->root());
    ASSERT_TRUE(at_root);
    EXPECT_TRUE(
        std::ranges::any_of(*at_root, [&](const DirEntry& e) { return e.name == "srv" && e.id == top->file.id; }));
    EXPECT_EQ(both->extents(resolve(*both, "/srv/list")->file.id).error().kind, ErrorKind::Unsupported);
    EXPECT_TRUE(both->extents(resolve(*both, "/etc/hostname")->file.id));
    const auto memory = mounted_on(below, point->file.id, nullptr);
    EXPECT_TRUE(memory->list(resolve(*memory, "/srv")->file.id)->empty());
    EXPECT_EQ(resolve(*memory, "/srv/below").error().kind, ErrorKind::NotFound);
    EXPECT_EQ(read_text_file(*memory, "/etc/hostname").value_or(""), "almhof\n");
}

}  // namespace
