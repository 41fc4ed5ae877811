// SPDX-License-Identifier: MIT
// What a Linux system starts: by units, by run levels, by BusyBox; and what the stage of services makes of it.
#include <algorithm>

#include <herberge/startup.hpp>

#include "reception.hpp"
#include "schema_check.hpp"
#include "support.hpp"
#include "system/mount_options.hpp"
#include "system/run_levels.hpp"

using namespace herberge;
using support::Folder;

namespace {

struct Started {
    Machine machine;
    Result<LinuxStart> start = fail(ErrorKind::NotFound, "nothing");
    Result<LevelTable> levels = fail(ErrorKind::NotFound, "nothing");
    explicit Started(demo::FrontDesk desk, const std::string& words = "", const std::string& level = "")
        : machine(support::machine_of(desk.build())) {
        for (const auto& system : find_systems(machine)) {
            start = linux_startup(machine, system, CommandLine(words), level);
            levels = linux_levels(system, CommandLine(words));
        }
    }
    [[nodiscard]] const StartStep& step(std::string_view name) const {
        const auto found = std::ranges::find(start->steps, name, &StartStep::name);
        if (found == start->steps.end()) throw std::runtime_error("no step " + std::string(name));
        return *found;
    }
    [[nodiscard]] std::vector<std::string> names(std::string_view group = {}) const {
        std::vector<std::string> out;
        for (const auto& one : start->steps)
            if (group.empty() || one.group == group) out.push_back(one.name);
        return out;
    }
};

TEST(LinuxStartup, OfUnitsInOrder) {
    const Started started(demo::reception());
    ASSERT_TRUE(started.start) << started.start.error().text();
    EXPECT_EQ(started.start->flavour, "systemd");
    EXPECT_EQ(started.start->level, "graphical.target (default.target)");
    EXPECT_EQ(started.start->asked_by, "systemd's own choice");
    EXPECT_TRUE(started.start->findings.empty());
    const auto all = started.names();
    const auto place = [&](std::string_view name) { return std::ranges::find(all, name) - all.begin(); };
    EXPECT_LT(place("lamps.service"), place("key-board.service"));
    EXPECT_LT(place("key-board.service"), place("guest-list.service"));
    EXPECT_LT(place("guest-list.service"), place("bell.service"));
    EXPECT_LT(place("bell.service"), place("tea@lounge.service"));
    EXPECT_EQ(started.step("lamps.service").group, "before sysinit.target");
    EXPECT_EQ(started.step("bell.service").group, "before graphical.target");
    EXPECT_EQ(started.step("bell.service").because, "multi-user.target wants it");
    EXPECT_EQ(started.step("tea@lounge.service").command, "/usr/bin/kettle %i");
    EXPECT_EQ(started.step("tea@lounge.service").file, "/usr/bin/kettle");
    EXPECT_EQ(started.step("ski-pass.service").state, UnitOutcome::Kind::Skipped);
    EXPECT_EQ(started.step("ski-pass.service").text, "ConditionPathExists=/etc/ski-pass.conf");
    EXPECT_EQ(place("weather-map.service"), static_cast<std::ptrdiff_t>(all.size())) << "it is masked";
    // Another level, by its number or its name.
    const Started rescue(demo::reception(), "", "1");
    EXPECT_FALSE(rescue.start) << "without the links that a system brings, numbers name nothing";
    const Started named(demo::reception(), "", "rescue");
    ASSERT_TRUE(named.start);
    EXPECT_EQ(named.start->level, "rescue.target");
    EXPECT_EQ(named.step("rescue.service").command, "/bin/sh");
    EXPECT_EQ(Started(demo::reception(), "systemd.unit=multi-user.target").start->asked_by, "the command line");
    ASSERT_TRUE(started.levels);
    EXPECT_EQ(started.levels->levels, (std::vector<std::string>{"rescue", "multi-user", "graphical"}));
    const auto bell = std::ranges::find(started.levels->rows, "bell.service", &LevelTable::Row::name);
    EXPECT_EQ(bell->on, (std::vector<bool>{false, true, true}));
    // A target that is not there is no level, and the others keep theirs.
    for (const auto& [gone, left] : std::initializer_list<std::pair<std::string, std::vector<std::string>>>{
             {"rescue", {"multi-user", "graphical"}}, {"graphical", {"rescue", "multi-user"}}}) {
        auto desk = demo::reception();
        desk.root.remove("/usr/lib/systemd/system/" + gone + ".target");
        const Started without(desk);
        ASSERT_TRUE(without.levels) << gone;
        EXPECT_EQ(without.levels->levels, left);
        const auto row = std::ranges::find(without.levels->rows, "bell.service", &LevelTable::Row::name);
        EXPECT_EQ(row->on, gone == "rescue" ? std::vector({true, true}) : std::vector({false, true}));
    }
}

TEST(LinuxStartup, OfRunLevels) {
    const Started started(demo::kitchen());
    ASSERT_TRUE(started.start) << started.start.error().text();
    EXPECT_EQ(started.start->flavour, "sysvinit");
    EXPECT_EQ(started.start->level, "2");
    EXPECT_EQ(started.start->asked_by, "/etc/inittab, line 2");
    EXPECT_EQ(started.names("at the begin"), (std::vector<std::string>{"si", "S01hostname", "S02mountall"}));
    EXPECT_EQ(started.names("run level 2"), (std::vector<std::string>{"l2", "S01wood", "S02stove", "S03dishes"}));
    EXPECT_EQ(started.names("kept running"), (std::vector<std::string>{"1"}));
    EXPECT_EQ(started.step("S02stove").command, "/etc/rc2.d/S02stove start");
    EXPECT_EQ(started.step("S02stove").because, "/etc/init.d/rc 2");
    EXPECT_EQ(Started(demo::kitchen(), "quiet 3").start->level, "3");
    EXPECT_EQ(Started(demo::kitchen(), "single").start->level, "S");
    const Started day(demo::kitchen(), "", "3");
    EXPECT_EQ(day.names("run level 3"),
              (std::vector<std::string>{"l3", "S01wood", "S02oven-timer", "S02stove", "S03dishes", "S04dinner"}));
    ASSERT_TRUE(started.levels);
    EXPECT_EQ(started.levels->levels, (std::vector<std::string>{"S", "1", "2", "3"}));
    const auto stove = std::ranges::find(started.levels->rows, "stove", &LevelTable::Row::name);
    EXPECT_EQ(stove->on, (std::vector<bool>{false, false, true, true}));
    // A link to nothing is passed over without a word, and so is a folder; a script that may not run fails.
    auto gone = demo::kitchen();
    gone.root.remove("/etc/init.d/stove");
    gone.root.directory("/etc/rc2.d/S04folder");
    const Started silent(gone);
    EXPECT_EQ(silent.step("S02stove").state, UnitOutcome::Kind::Skipped);
    EXPECT_EQ(silent.step("S02stove").text, "its link leads to nothing");
    EXPECT_TRUE(silent.start->findings.empty());
    EXPECT_EQ(silent.names("run level 2"), (std::vector<std::string>{"l2", "S01wood", "S02stove", "S03dishes"}));
    // Debian's rc runs what insserv listed, and nothing else.
    auto listed = demo::kitchen();
    listed.root.file("/etc/init.d/rc", "#!/bin/sh\nstartpar -M start\n", 0755);
    for (const char* list : {"boot", "stop", "start"})
        listed.root.file(std::string("/etc/init.d/.depend.") + list,
                         "TARGETS = wood dishes hostname mountall\nINTERACTIVE =\n");
    const Started by_list(listed);
    EXPECT_EQ(by_list.step("S01wood").state, UnitOutcome::Kind::Starts);
    EXPECT_EQ(by_list.step("S02stove").state, UnitOutcome::Kind::Skipped);
    EXPECT_EQ(by_list.step("S02stove").text, "/etc/init.d/.depend.start does not name it: insserv was not run since");
    EXPECT_EQ(Started(listed, "concurrency=none").step("S02stove").state, UnitOutcome::Kind::Starts);
    listed.root.file("/etc/init.d/.depend.stop", "");
    EXPECT_EQ(Started(listed).step("S02stove").state, UnitOutcome::Kind::Starts);
    gone = demo::kitchen();
    gone.root.at("/etc/init.d/stove").mode = 0644;
    const Started cold(gone);
    EXPECT_EQ(cold.step("S02stove").state, UnitOutcome::Kind::Fails);
    ASSERT_EQ(cold.start->findings.size(), 1U);
    EXPECT_EQ(cold.start->findings[0].code, Code::ServicesStartupProgramOptional);
}

TEST(LinuxStartup, OfBusyBox) {
    const Started started(demo::front_desk());
    ASSERT_TRUE(started.start);
    EXPECT_EQ(started.start->flavour, "busybox");
    EXPECT_EQ(started.start->level, "");
    EXPECT_EQ(started.names("at the begin"), (std::vector<std::string>{"console"}));
    EXPECT_EQ(started.step("tty1").command, "/sbin/getty 38400 tty1");
    EXPECT_FALSE(Started(demo::front_desk(), "", "2").start);
    EXPECT_FALSE(started.levels);
    // A script that runs all others, and an init without a table.
    auto own = demo::front_desk();
    own.root.remove("/etc/inittab");
    own.root.file("/etc/init.d/rcS", "#!/bin/sh\nfor i in /etc/init.d/S??* ; do $i start; done\n", 0755);
    own.root.file("/etc/init.d/S20bell", "#!/bin/sh\n", 0755).file("/etc/init.d/S05lamp", "#!/bin/sh\n", 0755);
    const Started without(own);
    EXPECT_EQ(without.names(), (std::vector<std::string>{"console", "S05lamp", "S20bell", "console"}));
    EXPECT_EQ(without.start->steps[0].because, "BusyBox, without /etc/inittab");
}

/// s6: an init that is a script, and the folder of services that it has watched.
TEST(LinuxStartup, OfWatchedServices) {
    for (const auto& [script, folder] :
         {std::pair{"#!/bin/sh\n/usr/bin/lamps on\nexec s6-svscan -t0 /etc/watched\n", "/etc/watched"},
          std::pair{"#!/bin/sh\ns6-linux-init -c \"/etc/s6/current\" -m 0022 -- \"$@\"\n",
                    "/etc/s6/current/run-image/service"}}) {
        auto desk = demo::front_desk();
        desk.root.remove("/usr/sbin/init").remove("/etc/inittab");
        desk.root.file("/usr/sbin/init", script, 0755);
        const std::string top = folder;
        desk.root.file(top + "/bell/run", "#!/bin/sh\n", 0755).file(top + "/lamp/run", "#!/bin/sh\n", 0755);
        desk.root.file(top + "/lamp/down", "").file(top + "/.s6-svscan/finish", "#!/bin/sh\n", 0755);
        const Started started(std::move(desk));
        ASSERT_TRUE(started.start) << started.start.error().text();
        EXPECT_EQ(started.names("kept running"), (std::vector<std::string>{"bell", "lamp"})) << script;
        EXPECT_EQ(started.step("bell").state, UnitOutcome::Kind::Starts);
        EXPECT_EQ(started.step("bell").file, top + "/bell/run");
        EXPECT_EQ(started.step("lamp").state, UnitOutcome::Kind::Skipped);
        EXPECT_EQ(started.step("lamp").text, top + "/lamp/down is there");
    }
}

/// runit: three stages, and a folder of services that it keeps running.
demo::FrontDesk supervised() {
    auto desk = demo::kitchen();
    desk.root.remove("/usr/sbin/init").remove("/etc/inittab");
    desk.root.file("/usr/sbin/runit-init", forge::make_program(), 0755).link("/usr/sbin/init", "runit-init");
    desk.root.file("/etc/runit/1", "#!/bin/sh\n", 0755);
    desk.root.file("/etc/runit/2", "#!/bin/sh\n# runsvdir /not/this\nexec env - runsvdir -P /etc/service 'log: ...'\n",
                   0755);
    for (const char* name : {"bell", "stove", "lamp"})
        desk.root.file(std::string("/etc/service/") + name + "/run", "#!/bin/sh\n", 0755);
    desk.root.file("/etc/service/lamp/down", "");
    return desk;
}

TEST(LinuxStartup, OfRunit) {
    const Started started(supervised());
    ASSERT_TRUE(started.start) << started.start.error().text();
    EXPECT_EQ(started.start->flavour, "runit");
    EXPECT_EQ(started.names(), (std::vector<std::string>{"/etc/runit/1", "/etc/runit/2", "bell", "lamp", "stove"}));
    EXPECT_EQ(started.step("bell").file, "/etc/service/bell/run");
    EXPECT_EQ(started.step("lamp").state, UnitOutcome::Kind::Skipped);
    EXPECT_EQ(started.step("lamp").text, "/etc/service/lamp/down is there");
    EXPECT_FALSE(started.levels);
    EXPECT_EQ(support::Checked(supervised().build()).stage(), "yes");
    auto broken = supervised();
    broken.root.at("/etc/service/stove/run").mode = 0644;
    EXPECT_EQ(Started(broken).step("stove").state, UnitOutcome::Kind::Fails);
    broken.root.remove("/etc/runit/2");
    const support::Checked ends(broken.build());
    EXPECT_EQ(ends.stage(), "services");
    EXPECT_EQ(ends.system().at(Stage::Services).findings.at(0), Code::ServicesProgramMissing);
    EXPECT_EQ(ends.system().symptom, "- runit: fatal: unable to start child: /etc/runit/2: file does not exist");
    auto first = supervised();
    first.root.remove("/etc/runit/1");
    EXPECT_EQ(support::Checked(first.build()).stage(), "yes") << "the second stage comes all the same";
    // Folders as levels.
    auto levels = supervised();
    levels.root.file("/etc/runit/2", "#!/bin/sh\nexec runsvdir -P /run/runit/runsvdir/current\n", 0755);
    levels.root.file("/etc/runit/runsvdir/default/bell/run", "#!/bin/sh\n", 0755);
    levels.root.file("/etc/runit/runsvdir/single/shell/run", "#!/bin/sh\n", 0755);
    levels.root.link("/etc/runit/runsvdir/current", "default");
    const Started usual(levels);
    EXPECT_EQ(usual.names("kept running"), std::vector<std::string>{"bell"});
    ASSERT_TRUE(usual.levels);
    EXPECT_EQ(usual.levels->levels, (std::vector<std::string>{"default", "single"}));
    EXPECT_EQ(Started(levels, "quiet single").names("kept running"), std::vector<std::string>{"shell"});
    EXPECT_EQ(Started(levels, "", "single").names("kept running"), std::vector<std::string>{"shell"});
    EXPECT_EQ(Started(levels, "", "summer").start.error().what, "there is no run level summer");
}

TEST(LinuxStartup, OfAScriptOfItsOwn) {
    auto desk = demo::kitchen();
    desk.root.remove("/usr/sbin/init").remove("/etc/inittab");
    desk.root.file("/usr/sbin/init",
                   "#!/bin/sh\n# /bin/not-this\nexport PATH=/bin\n/bin/stove --on  # warm\n$HOME/x\n\texec "
                   "/usr/bin/bell\n",
                   0755);
    desk.root.file("/usr/bin/stove", "#!/bin/sh\n", 0755);
    const Started started(desk);
    ASSERT_TRUE(started.start) << started.start.error().text();
    EXPECT_EQ(started.start->flavour, "script");
    EXPECT_EQ(started.names(), (std::vector<std::string>{"stove", "bell"}));
    EXPECT_EQ(started.step("stove").because, "/usr/sbin/init, line 4");
    EXPECT_EQ(started.step("stove").state, UnitOutcome::Kind::Starts);
    EXPECT_EQ(started.step("bell").state, UnitOutcome::Kind::Fails);
}

TEST(LinuxStartup, OfOpenRc) {
    const auto needs = parse_depend(
        "#!/sbin/openrc-run\nname=x\ndepend() {\n\tneed localmount wood # not dry\n\tuse net\n\twant logger\n"
        "\tafter bootmisc\n\tbefore dinner\n\tprovide heat\n}\nneed nothing\n");
    EXPECT_EQ(needs.need, (std::vector<std::string>{"localmount", "wood"}));
    EXPECT_EQ(needs.after, (std::vector<std::string>{"net", "logger", "bootmisc"}));
    EXPECT_EQ(needs.before, (std::vector<std::string>{"dinner"}));
    EXPECT_EQ(needs.provide, (std::vector<std::string>{"heat"}));
    auto desk = demo::kitchen();
    const auto script = [&](const std::string& name, const std::string& depend) {
        desk.root.file("/etc/init.d/" + name, "#!/bin/sh\ndepend() {\n" + depend + "\n}\n", 0755);
    };
    script("localmount", "");
    script("stove", "need heat-source\nbefore soup");
    script("wood", "provide heat-source");
    script("soup", "need stove\nafter *");
    script("ring-a", "need ring-b");
    script("ring-b", "need ring-a");
    desk.root.link("/etc/runlevels/boot/localmount", "/etc/init.d/localmount");
    for (const char* name : {"soup", "wood", "ring-a"})
        desk.root.link(std::string("/etc/runlevels/default/") + name, std::string("/etc/init.d/") + name);
    const Started started(desk);
    ASSERT_TRUE(started.start) << started.start.error().text();
    EXPECT_EQ(started.start->level, "default");
    const auto order = started.names("run level default");
    const auto place = [&](std::string_view name) { return std::ranges::find(order, name) - order.begin(); };
    EXPECT_LT(place("wood"), place("stove"));
    EXPECT_LT(place("stove"), place("soup"));
    EXPECT_EQ(order.size(), 5U) << "a ring ends";
    EXPECT_EQ(started.step("stove").because, "another script needs it");
    EXPECT_EQ(Started(desk, "softlevel=boot").start->level, "boot");
    const Started none(desk, "", "winter");
    ASSERT_FALSE(none.start);
    EXPECT_EQ(none.start.error().what, "there is no run level winter");
}

TEST(LinuxStartup, LinesOfATable) {
    const auto lines = parse_inittab("# head\n\nid:23:initdefault:\nx:2:wait:/a b:c\nbroken:2:\n::respawn:/sh\n");
    ASSERT_EQ(lines.size(), 3U);
    EXPECT_EQ(lines[1].process, "/a b:c");
    EXPECT_EQ(lines[1].line, 4);
    EXPECT_TRUE(lines[1].on("2"));
    EXPECT_FALSE(lines[1].on("3"));
    EXPECT_TRUE(lines[2].on("5"));
    EXPECT_EQ(default_level(lines), "3") << "init takes the highest";
    EXPECT_EQ(default_level(parse_inittab("x:2:wait:/a\n")), "");
}

// --- stories --------------------------------------------------------------------------------------------------------

class StartupStory : public testing::TestWithParam<demo::Story> {};

TEST_P(StartupStory, StopsWhereItSays) {
    const auto& story = GetParam();
    const support::Checked checked(story.make());
    const auto& system = checked.verdict.systems.at(0);
    EXPECT_EQ(system.stops_at ? std::string(stage_id(*system.stops_at)) : "", story.stops_at)
        << (system.stops_at ? system.at(*system.stops_at).text : std::string(starts_id(system.starts)));
    if (system.stops_at) {
        EXPECT_FALSE(system.symptom.empty());
        EXPECT_FALSE(system.at(*system.stops_at).evidence.empty());
        EXPECT_FALSE(system.at(*system.stops_at).findings.empty());
    } else EXPECT_EQ(system.starts, Starts::Yes);
}

INSTANTIATE_TEST_SUITE_P(Reception, StartupStory, testing::ValuesIn(demo::reception_disks()),
                         [](const auto& one) { return "Disk" + std::to_string(one.index); });
INSTANTIATE_TEST_SUITE_P(Kitchen, StartupStory, testing::ValuesIn(demo::kitchen_disks()),
                         [](const auto& one) { return "Disk" + std::to_string(one.index); });

TEST(StartupStories, SayWhatIsMissing) {
    const auto of = [](std::size_t i) { return support::Checked(demo::reception_disks().at(i).make()).verdict; };
    const auto gone = of(2);
    EXPECT_EQ(gone.systems.at(0).at(Stage::Services).findings.at(0), Code::FstabDeviceMissing);
    EXPECT_NE(gone.systems[0].symptom.find("You are in emergency mode."), std::string::npos);
    const auto ring = of(4);
    EXPECT_TRUE(std::ranges::any_of(ring.findings, [](const Finding& f) {
        return f.code == Code::ServicesOrderCycle &&
               f.text.find("bell.service after guest-list.service after bell.service") != std::string::npos;
    }));
    const auto keys = of(5);
    EXPECT_EQ(keys.systems.at(0).at(Stage::Services).findings.at(0), Code::ServicesRequiredFails);
    EXPECT_NE(keys.systems[0].at(Stage::Services).text.find("key-board.service fails (/usr/bin/key-board cannot run: "),
              std::string::npos)
        << keys.systems[0].at(Stage::Services).text;
}

// --- modules --------------------------------------------------------------------------------------------------------

/// A second FAT disk that /etc/fstab wants, and what of modules lies on the root.
Verdict with_modules(const std::string& config, const std::vector<std::pair<std::string, std::string>>& files,
                     const std::string& options = "defaults") {
    auto desk = demo::reception();
    desk.root.file(std::string("/boot/config-") + demo::release, config);
    desk.root.file("/etc/fstab", std::string("UUID=") + demo::root_uuid + " / ext4 errors=remount-ro 0 1\n" +
                                     "LABEL=TRAYS /srv/trays vfat " + options + " 0 0\n");
    desk.root.link("/usr/sbin/modprobe", "../bin/busybox");
    for (const auto& [name, text] : files)
        if (name.starts_with("ramdisk:")) desk.ramdisk.file(name.substr(8), text);
        else if (text.starts_with("-> ")) desk.root.link(name, text.substr(3));
        else
            desk.root.file(name, text,
                           text.starts_with("\x7f"
                                            "ELF")
                               ? 0755
                               : 0644);
    forge::FatOptions fat;
    fat.label = "TRAYS";
    fat.size = 4U << 20U;
    forge::DiskSpec second;
    second.size = 8U << 20U;
    second.partitions = {{2048, forge::make_fat({}, fat).bytes, 0x0C, false}};
    return check(support::machine_of_disks({desk.build(), forge::make_disk(second)}));
}

/// Devices that nobody announces: systemd waits for them (each really started).
TEST(DeviceManager, WithoutItAMountWaitsInVain) {
    const std::string config =
        "CONFIG_X86_64=y\nCONFIG_EXT4_FS=y\nCONFIG_VFAT_FS=y\nCONFIG_BLK_DEV_SD=y\n"
        "CONFIG_SATA_AHCI=y\nCONFIG_RD_GZIP=y\nCONFIG_RD_XZ=y\n";
    using Files = std::vector<std::pair<std::string, std::string>>;
    const auto elf = forge::make_program();
    const std::string program(elf.begin(), elf.end());
    const std::string lib = "/usr/lib/systemd/", rules = "/usr/lib/udev/rules.d/";
    const Files whole{
        {lib + "system/systemd-udevd.service", "[Service]\nExecStart=/lib/systemd/systemd-udevd\n"},
        {lib + "system/systemd-udev-trigger.service", "[Service]\nExecStart=-udevadm trigger\n"},
        {lib + "system/sysinit.target.wants/systemd-udevd.service", "-> ../systemd-udevd.service"},
        {lib + "system/sysinit.target.wants/systemd-udev-trigger.service", "-> ../systemd-udev-trigger.service"},
        {lib + "systemd-udevd", program},
        {rules + "60-persistent-storage.rules", "#"},
        {rules + "99-systemd.rules", "#"}};
    const auto start = [&](Files changes, const std::string& options = "defaults") {
        Files all = whole;
        all.insert(all.end(), changes.begin(), changes.end());
        return with_modules(config, all, options);
    };
    const std::string by_node = "/dev/sdb1 /srv/trays vfat defaults 0 0\n";
    ASSERT_EQ(start({}).systems.at(0).starts, Starts::Yes) << start({}).systems.at(0).at(Stage::Services).text;
    ASSERT_EQ(start({{"/etc/fstab", by_node}}).systems.at(0).starts, Starts::Yes);
    const std::string unit = "/etc/systemd/system/";
    const struct {
        Files changes;
        bool node;  ///< a device by the kernel's name is waited for as well
        std::string why, place, found;
    } rows[] = {
        {{{lib + "systemd-udevd", "none"}},
         true,
         "/lib/systemd/systemd-udevd cannot run (/usr/lib/systemd/systemd-udevd has no execute permission)",
         "d1p1:/usr/lib/systemd/systemd-udevd",
         ""},
        {{{unit + "systemd-udevd.service", "-> /dev/null"}},
         true,
         "systemd-udevd.service is masked",
         "d1p1:/etc/systemd/system/systemd-udevd.service",
         "a link to /dev/null, or an empty file"},
        {{{unit + "systemd-udev-trigger.service", "-> /dev/null"}},
         true,
         "systemd-udev-trigger.service is masked",
         "d1p1:/etc/systemd/system/systemd-udev-trigger.service",
         "a link to /dev/null, or an empty file"},
        {{{"/etc/udev/rules.d/99-systemd.rules", "-> /dev/null"}},
         true,
         "udev lacks its rules 99-systemd.rules, which tell systemd of devices",
         "d1p1:/etc/udev/rules.d/99-systemd.rules",
         "empty"},
        {{{"/etc/udev/rules.d/60-persistent-storage.rules", ""}},
         false,
         "udev lacks its rules 60-persistent-storage.rules, which name volumes by UUID and label",
         "d1p1:/etc/udev/rules.d/60-persistent-storage.rules",
         "empty"},
    };
    for (const auto& row : rows) {
        const auto verdict = start(row.changes);
        const auto& system = verdict.systems.at(0);
        ASSERT_EQ(system.stops_at, Stage::Services) << row.why;
        const auto& rung = system.at(Stage::Services);
        EXPECT_EQ(rung.findings.at(0), Code::FstabDeviceUnannounced);
        EXPECT_EQ(rung.text, "the mount of d2p1 for /srv/trays waits for a device that nobody announces: " + row.why);
        EXPECT_EQ(rung.evidence.front().place, row.place);
        if (!row.found.empty()) EXPECT_EQ(rung.evidence.front().found, row.found);
        EXPECT_EQ(rung.evidence.back().line, 2);
        EXPECT_EQ(system.symptom, "Timed out waiting for device LABEL=TRAYS.\nYou are in emergency mode.");
        EXPECT_EQ(std::ranges::count(verdict.findings, Code::ServicesNoDeviceManager, &Finding::code), 0);
        // What does not need it starts, and is told of it.
        const auto free = start(row.changes, "nofail");
        EXPECT_EQ(free.systems.at(0).starts, Starts::Yes);
        const auto& told = free.findings;
        const auto risk = std::ranges::find(told, Code::ServicesNoDeviceManager, &Finding::code);
        ASSERT_NE(risk, told.end()) << row.why;
        EXPECT_EQ(risk->text, row.why + ": devices are not announced, and what waits for one " +
                                  (row.node ? "" : "by UUID or label ") + "waits in vain");
        auto named = row.changes;
        named.emplace_back("/etc/fstab", by_node);
        EXPECT_EQ(start(named).systems.at(0).starts, row.node ? Starts::No : Starts::Yes) << row.why;
        // A RAM disk whose udev knows systemd has told it of them.
        auto before = row.changes;
        before.emplace_back("ramdisk:/usr/lib/udev/rules.d/99-systemd.rules", "#");
        EXPECT_EQ(start(before).systems.at(0).starts, Starts::Yes) << row.why;
    }
    // Without the file; and where no udev is installed nothing is said of it.
    Files bare(whole.begin(), whole.end() - 1);
    const auto gone = with_modules(config, bare);
    EXPECT_EQ(gone.systems.at(0).at(Stage::Services).evidence.front().found, "not there");
    EXPECT_EQ(gone.systems.at(0).stops_at, Stage::Services);
    EXPECT_EQ(with_modules(config, {}).systems.at(0).starts, Starts::Yes);
}

/// An option that no driver takes stops a mount that the start needs; a kernel that is newer than the list may know it.
TEST(MountOptions, ThatNoDriverKnows) {
    const std::string config =
        "CONFIG_X86_64=y\nCONFIG_EXT4_FS=y\nCONFIG_VFAT_FS=y\nCONFIG_BLK_DEV_SD=y\n"
        "CONFIG_SATA_AHCI=y\nCONFIG_RD_GZIP=y\nCONFIG_RD_XZ=y\n";
    const auto typed = with_modules(config, {}, "default,umask=077");
    ASSERT_EQ(typed.systems.at(0).stops_at, Stage::Services) << typed.systems[0].at(Stage::Services).text;
    const auto& rung = typed.systems[0].at(Stage::Services);
    EXPECT_EQ(rung.findings.at(0), Code::FstabOptionUnknown);
    EXPECT_EQ(rung.text, "d2p1 for /srv/trays has the option default, which the driver of fat12 does not know");
    EXPECT_EQ(rung.evidence.back().line, 2);
    EXPECT_EQ(typed.systems[0].symptom, "Failed to mount /srv/trays.\nYou are in emergency mode.");
    EXPECT_EQ(with_modules(config, {}, "default,nofail").systems.at(0).starts, Starts::Yes);
    EXPECT_EQ(with_modules(config, {}, "default,noauto").systems.at(0).starts, Starts::Yes);
    EXPECT_EQ(with_modules(config, {}, "defaults,noatime,umask=077,x-systemd.device-timeout=5,errors=remount-ro,user")
                  .systems.at(0)
                  .starts,
              Starts::Yes);
    struct Options {
        Format format;
        const char* text;
        const char* refused;  ///< empty: all are taken
    };
    for (const auto& one : std::initializer_list<Options>{
             {Format::Ext4, "defaults,errors=remount-ro,commit=30,discard,barrier=1,nofail,x-gvfs-show", ""},
             {Format::Ext4, "errors=remount-rw", "errors=remount-rw"},
             {Format::Ext4, "commit", "commit"},
             {Format::Ext4, "noatime,comit=5", "comit=5"},
             {Format::Ext4, "data=ordered,nodelalloc=1", "nodelalloc=1"},
             {Format::Ext3, "context=\"system_u:object_r:usr_t:s0:c1,c2\",ro", ""},
             {Format::Xfs, "inode64,logbsize=256k,pquota", ""},
             {Format::Xfs, "subvol=@", "subvol=@"},
             {Format::Btrfs, "subvol=@home,compress=zstd:3,ssd,space_cache=v2,discard=async", ""},
             {Format::Btrfs, "compress,compres", "compres"},
             {Format::Fat32, "umask=0077,shortname=winnt,utf8,iocharset=ascii", ""},
             {Format::Fat32, "shortname=short", "shortname=short"},
             {Format::F2fs, "whatever", ""},
             {Format::Ext4, ",,", ""},
             {Format::Ext4, "", ""}})
        EXPECT_EQ(refused_mount_option(one.format, one.text).value_or(""), one.refused) << one.text;
}

/// A mount of a volume that crypttab would open, if the device below it were there.
TEST(CryptedMounts, NeedWhatTheyAreMadeOf) {
    for (const auto& [fstab, ends] : {std::pair("/dev/mapper/vault /srv ext4 defaults 0 2\n", true),
                                      {"/dev/mapper/vault /srv ext4 nofail 0 2\n", false},
                                      {"/dev/mapper/other /srv ext4 defaults 0 2\n", false}}) {
        auto desk = demo::reception();
        desk.root.file("/etc/crypttab", "# keys\nvault UUID=0a1b0f00-0000-4000-8000-0000000000ee none luks\n");
        desk.root.file("/etc/fstab", std::string("UUID=") + demo::root_uuid + " / ext4 defaults 0 1\n" + fstab);
        const support::Checked checked(desk.build());
        EXPECT_EQ(checked.stage() == "services", ends) << fstab << checked.system().at(Stage::Services).text;
        if (!ends) continue;
        EXPECT_EQ(checked.system().at(Stage::Services).findings.at(0), Code::FstabDeviceMissing);
        EXPECT_EQ(checked.system().at(Stage::Services).text,
                  "d1p1:/etc/fstab demands /dev/mapper/vault for /srv, which d1p1:/etc/crypttab, line 2 makes from "
                  "UUID=0a1b0f00-0000-4000-8000-0000000000ee, and nothing here answers to that");
        EXPECT_EQ(checked.system().symptom,
                  "Timed out waiting for device /dev/mapper/vault.\nYou are in emergency mode.");
    }
}

/// An automount needs a driver of the kernel's.
TEST(MountOptions, AnAutomountNeedsItsDriver) {
    const std::string config =
        "CONFIG_X86_64=y\nCONFIG_EXT4_FS=m\nCONFIG_VFAT_FS=y\nCONFIG_BLK_DEV_SD=m\n"
        "CONFIG_SATA_AHCI=m\nCONFIG_RD_GZIP=y\nCONFIG_RD_XZ=y\n";
    const std::string folder = std::string("/usr/lib/modules/") + demo::release;
    const std::pair<std::string, std::string> none{folder + "/modules.dep", "kernel/fs/fat/fat.ko:\n"};
    const auto broken = with_modules(config + "CONFIG_AUTOFS_FS=m\n", {none}, "x-systemd.automount");
    ASSERT_EQ(broken.systems.at(0).stops_at, Stage::Services) << broken.systems[0].at(Stage::Services).text;
    EXPECT_EQ(broken.systems[0].at(Stage::Services).findings.at(0), Code::FstabNoDriver);
    EXPECT_EQ(broken.systems[0].symptom, "Failed to set up automount srv-trays.automount.\nYou are in emergency mode.");
    EXPECT_EQ(with_modules(config + "CONFIG_AUTOFS_FS=y\n", {none}, "x-systemd.automount").systems.at(0).starts,
              Starts::Yes);
    EXPECT_EQ(with_modules(config + "CONFIG_AUTOFS_FS=m\n", {none}, "x-systemd.automount,nofail").systems.at(0).starts,
              Starts::Yes);
    EXPECT_EQ(with_modules(config + "CONFIG_AUTOFS_FS=m\n",
                           {{folder + "/modules.dep", "kernel/fs/autofs/autofs4.ko:\n"},
                            {folder + "/kernel/fs/autofs/autofs4.ko", "ELF"}},
                           "x-systemd.automount")
                  .systems.at(0)
                  .starts,
              Starts::Yes);
    EXPECT_NE(with_modules(config, {none}, "x-systemd.automount").systems.at(0).starts, Starts::No) << "not told";
}

TEST(KernelModules, AMountNeedsItsDriverOnTheRoot) {
    const std::string modular =
        "CONFIG_X86_64=y\nCONFIG_EXT4_FS=m\nCONFIG_VFAT_FS=m\nCONFIG_BLK_DEV_SD=m\nCONFIG_SATA_AHCI=m\n"
        "CONFIG_VIRTIO_BLK=m\nCONFIG_RD_GZIP=y\nCONFIG_RD_XZ=y\n";
    std::string inside = modular;
    inside.replace(inside.find("VFAT_FS=m"), 9, "VFAT_FS=y");
    const std::string folder = std::string("/usr/lib/modules/") + demo::release;
    const std::string dep = "kernel/fs/fat/vfat.ko.xz: kernel/fs/fat/fat.ko.xz\nkernel/fs/fat/fat.ko.xz:\n";
    // Its RAM disk is of a maker whose RAM disks load what the root needs.
    const auto bare = with_modules(modular, {});
    ASSERT_EQ(bare.systems.at(0).stops_at, Stage::Services) << bare.systems[0].at(Stage::Services).text;
    EXPECT_EQ(bare.systems[0].at(Stage::Services).findings.at(0), Code::FstabNoDriver);
    const auto none = with_modules(modular, {{"/usr/lib/modules/5.10.0-almhof/modules.dep", dep}});
    ASSERT_EQ(none.systems.at(0).stops_at, Stage::Services) << none.systems[0].at(Stage::Services).text;
    const auto& rung = none.systems[0].at(Stage::Services);
    EXPECT_EQ(rung.findings.at(0), Code::FstabNoDriver);
    EXPECT_EQ(rung.text, std::string("d2p1 for /srv/trays holds fat12, and the kernel ") + demo::release +
                             " has no driver for that on this root: neither built in nor in /lib/modules/" +
                             demo::release);
    EXPECT_EQ(none.systems[0].symptom, "Failed to mount /srv/trays.\nYou are in emergency mode.");
    for (const auto& [config, files, options] :
         std::initializer_list<std::tuple<std::string, std::vector<std::pair<std::string, std::string>>, std::string>>{
             {inside, {}, "defaults"},
             {modular,
              {{folder + "/modules.dep", dep},
               {folder + "/kernel/fs/fat/vfat.ko.xz", "ELF"},
               {folder + "/kernel/fs/fat/fat.ko.xz", "ELF"}},
              "defaults"},
             {modular, {}, "nofail"},
             {modular, {{folder + "/modules.builtin", "kernel/fs/fat/vfat.ko\n"}}, "defaults"}})
        EXPECT_EQ(with_modules(config, files, options).systems.at(0).starts, Starts::Yes) << options << files.size();
    // The tables of characters that the kernel's own choice names, or the line.
    const std::string characters = inside +
                                   "CONFIG_FAT_DEFAULT_CODEPAGE=437\nCONFIG_FAT_DEFAULT_IOCHARSET=\"ascii\"\n"
                                   "CONFIG_NLS_CODEPAGE_437=y\nCONFIG_NLS_ASCII=m\nCONFIG_NLS_ISO8859_1=y\n";
    const std::string nls = "kernel/fs/nls/nls_ascii.ko:\n";
    const auto without = with_modules(characters, {{folder + "/modules.dep", nls}});
    ASSERT_EQ(without.systems.at(0).stops_at, Stage::Services) << without.systems[0].at(Stage::Services).text;
    EXPECT_EQ(without.systems[0].at(Stage::Services).findings.at(0), Code::FstabNoDriver);
    EXPECT_NE(without.systems[0].at(Stage::Services).text.find("/kernel/fs/nls/nls_ascii.ko is not there"),
              std::string::npos)
        << without.systems[0].at(Stage::Services).text;
    EXPECT_EQ(
        with_modules(characters, {{folder + "/modules.dep", nls}, {folder + "/kernel/fs/nls/nls_ascii.ko", "ELF"}})
            .systems.at(0)
            .starts,
        Starts::Yes);
    EXPECT_EQ(with_modules(characters, {{folder + "/modules.dep", nls}}, "iocharset=iso8859-1").systems.at(0).starts,
              Starts::Yes);
    // modprobe of kmod reads its indices; a rule may run something else in the module's place.
    const std::vector<std::pair<std::string, std::string>> whole{{folder + "/modules.dep", dep},
                                                                 {folder + "/kernel/fs/fat/vfat.ko.xz", "ELF"},
                                                                 {folder + "/kernel/fs/fat/fat.ko.xz", "ELF"}};
    auto barred = whole;
    barred.emplace_back("/etc/modprobe.d/hut.conf", "# no\ninstall vfat /bin/false\n");
    EXPECT_NE(with_modules(modular, barred)
                  .systems.at(0)
                  .at(Stage::Services)
                  .text.find("/etc/modprobe.d/hut.conf, line 2 keeps vfat from being loaded"),
              std::string::npos);
    barred.back().second = "blacklist vfat\n";
    EXPECT_EQ(with_modules(modular, barred).systems.at(0).stops_at, Stage::Services);
    barred.back().second = "blacklist nls_ascii\ninstall vfat /sbin/modprobe --ignore-install vfat\n";
    EXPECT_EQ(with_modules(modular, barred).systems.at(0).starts, Starts::Yes);
    // Of files of one name the first folder's counts; and a rule may go on in the next line.
    const auto ruled = [&](std::vector<std::pair<std::string, std::string>> rules) {
        rules.insert(rules.end(), whole.begin(), whole.end());
        return with_modules(modular, rules).systems.at(0);
    };
    const std::pair<std::string, std::string> maker{"/usr/lib/modprobe.d/hut.conf", "blacklist vfat\n"};
    EXPECT_EQ(ruled({maker}).stops_at, Stage::Services);
    EXPECT_EQ(ruled({maker, {"/etc/modprobe.d/hut.conf", ""}}).starts, Starts::Yes);
    EXPECT_EQ(ruled({maker, {"/etc/modprobe.d/hut.conf", "-> /dev/null"}}).starts, Starts::Yes);
    EXPECT_EQ(ruled({maker, {"/etc/modprobe.d/inn.conf", ""}}).stops_at, Stage::Services);
    EXPECT_EQ(ruled({maker, {"/etc/modprobe.d/hut.conf/more.conf", ""}}).stops_at, Stage::Services) << "a folder";
    EXPECT_EQ(ruled({{"/etc/modprobe.d/hut", "blacklist vfat\n"}}).starts, Starts::Yes);
    EXPECT_EQ(ruled({{"/etc/modprobe.d/.hut.conf", "blacklist vfat\n"}}).starts, Starts::Yes);
    const auto longer = ruled({{"/etc/modprobe.d/hut.alias", "# \n\n  install vf\\\nat /bin/false\n"}});
    EXPECT_NE(longer.at(Stage::Services).text.find("/etc/modprobe.d/hut.alias, line 3 keeps vfat from being loaded"),
              std::string::npos)
        << longer.at(Stage::Services).text;
    auto kmod = whole;
    kmod.emplace_back("/usr/bin/kmod", "ELF");
    for (const char* index : {"modules.dep.bin", "modules.alias.bin"}) {
        auto desk = kmod;
        desk.emplace_back("/usr/sbin/modprobe", "-> ../bin/kmod");
        desk.emplace_back(
            folder + (std::string_view(index) == "modules.dep.bin" ? "/modules.alias.bin" : "/modules.dep.bin"),
            "index");
        const auto told = with_modules(modular, desk);
        EXPECT_NE(told.systems.at(0)
                      .at(Stage::Services)
                      .text.find(std::string("modprobe finds no module without /lib/"
                                             "modules/") +
                                 demo::release + "/" + index),
                  std::string::npos)
            << told.systems[0].at(Stage::Services).text;
    }
    // Without the program nothing is loaded.
    auto nothing = whole;
    nothing.emplace_back("/usr/sbin/modprobe", "-> ../bin/gone");
    const auto no_program = with_modules(modular, nothing);
    EXPECT_EQ(no_program.systems.at(0).stops_at, Stage::Services);
    EXPECT_NE(
        no_program.systems[0]
            .at(Stage::Services)
            .text.find(
                "has no driver for that on this root: /sbin/modprobe, which the kernel asks for modules, is not there"),
        std::string::npos)
        << no_program.systems[0].at(Stage::Services).text;
    // Another file system than the line asks for.
    auto wrong = demo::reception();
    wrong.root.file("/etc/fstab", std::string("UUID=") + demo::root_uuid +
                                      " / ext4 defaults 0 1\nLABEL=TRAYS /srv/trays ext4 defaults 0 0\n");
    forge::FatOptions fat;
    fat.label = "TRAYS";
    fat.size = 4U << 20U;
    forge::DiskSpec second;
    second.size = 8U << 20U;
    second.partitions = {{2048, forge::make_fat({}, fat).bytes, 0x0C, false}};
    const auto other_type = check(support::machine_of_disks({wrong.build(), forge::make_disk(second)}));
    ASSERT_EQ(other_type.systems.at(0).stops_at, Stage::Services);
    EXPECT_EQ(other_type.systems[0].at(Stage::Services).findings.at(0), Code::FstabNotMountable);
    EXPECT_EQ(other_type.systems[0].at(Stage::Services).text,
              "/srv/trays cannot be mounted: d2p1 holds fat12, and ext4 is asked for");
    // Nothing says whether it is built in.
    EXPECT_NE(with_modules("CONFIG_X86_64=y\n", {}).systems.at(0).at(Stage::Services).state, State::Breaks);
    // Modules of another kernel alone.
    const auto other = with_modules(inside, {{"/usr/lib/modules/5.10.0-almhof/modules.dep", dep}});
    const auto risk = std::ranges::find(other.findings, Code::KernelModulesMissing, &Finding::code);
    ASSERT_NE(risk, other.findings.end());
    EXPECT_EQ(risk->text, std::string("the root holds no modules for the kernel ") + demo::release +
                              ", but for 5.10.0-almhof: what the RAM disk did not bring has no driver");
    EXPECT_EQ(std::ranges::count(with_modules(inside, {}).findings, Code::KernelModulesMissing, &Finding::code), 0);
}

// --- the command ----------------------------------------------------------------------------------------------------

support::Ran run(const std::string& arguments) { return support::shell(std::string(TOOL_PATH) + " " + arguments); }

TEST(StartupTool, ListsComparesAndTabulates) {
    const Folder folder;
    const auto disk = folder.write("reception.img", demo::reception().build());
    const auto cook = folder.write("kitchen.img", demo::kitchen().build());
    const auto all = run("startup " + disk);
    EXPECT_EQ(all.status, 0);
    for (const char* part :
         {"/usr/lib/systemd/systemd runs as init, and starts graphical.target (default.target) (systemd's own choice)",
          "before sysinit.target", "• lamps.service", "/usr/bin/lamps on", "○ ski-pass.service",
          "passed over: ConditionPathExists=/etc/ski-pass.conf", "one is passed over by a condition"})
        EXPECT_NE(all.out.find(part), std::string::npos) << part << "\n" << all.out;
    const auto two = run("startup " + cook + " --level 2 --level 3");
    EXPECT_EQ(two.status, 0);
    EXPECT_NE(two.out.find("only 2 starts\n    nothing\nonly 3 starts\n    dinner\n    oven-timer\n"),
              std::string::npos)
        << two.out;
    const auto table = run("startup " + cook + " --levels");
    EXPECT_NE(table.out.find("S 1 2 3\n"), std::string::npos) << table.out;
    EXPECT_NE(table.out.find("· · • •\n"), std::string::npos) << table.out;
    EXPECT_EQ(run("startup " + cook + " --level 9 2>&1").status, 0) << "a level without scripts is one, too";
    const auto none = run("startup " + disk + " --level winter 2>&1");
    EXPECT_EQ(none.status, 1);
    EXPECT_NE(none.out.find("there is no winter.target"), std::string::npos) << none.out;
    EXPECT_EQ(run("startup " + cook + " --level 1 --level 2 --level 3 2>&1").status, 2);
    for (const auto& arguments : {"startup " + disk, "startup " + cook, "startup " + cook + " --levels"}) {
        const auto json = run(arguments + " --format json");
        EXPECT_EQ(json.status, 0);
        EXPECT_EQ(support::schema_problem(json.out), "") << arguments;
    }
}

}  // namespace
