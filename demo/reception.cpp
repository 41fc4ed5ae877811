// SPDX-License-Identifier: MIT
#include "reception.hpp"

namespace demo {

namespace {

const std::string units = "/usr/lib/systemd/system/";
const std::string own = "/etc/systemd/system/";

/// A front desk's disk with another system on it, and without its init.
FrontDesk desk(const std::string& name, const std::string& host) {
    auto d = front_desk();
    for (const char* gone : {"/etc/inittab", "/etc/init.d/rcS", "/etc/init.d/guestbook", "/usr/sbin/init",
                             "/usr/sbin/getty", "/usr/bin/welcome-lamp"})
        d.root.remove(gone);
    d.root.file("/etc/os-release",
                "PRETTY_NAME=\"" + name + "\"\nNAME=\"Almhof Desk\"\nVERSION_ID=\"5\"\nID=almhofdesk\n");
    d.root.file("/etc/hostname", host + "\n");
    d.root.file("/usr/sbin/agetty", forge::make_program(), 0755);
    d.ext.label = host;
    return d;
}

/// The targets that every systemd brings, as far as a start needs them.
void add_targets(forge::Tree& t) {
    const auto target = [&](const std::string& name, const std::string& text) {
        t.file(units + name + ".target", "[Unit]\n" + text);
    };
    target("graphical", "Requires=multi-user.target\nAfter=multi-user.target\nAllowIsolate=yes\n");
    target("multi-user",
           "Requires=basic.target\nConflicts=rescue.service rescue.target\n"
           "After=basic.target rescue.service rescue.target\nAllowIsolate=yes\n");
    target("basic",
           "Requires=sysinit.target\nWants=sockets.target timers.target paths.target slices.target\n"
           "After=sysinit.target sockets.target paths.target slices.target\n");
    target("sysinit",
           "Conflicts=emergency.service emergency.target\nWants=local-fs.target swap.target\n"
           "After=local-fs.target swap.target emergency.service emergency.target\n");
    target("local-fs",
           "DefaultDependencies=no\nConflicts=shutdown.target\nAfter=local-fs-pre.target\n"
           "OnFailure=emergency.target\nOnFailureJobMode=replace-irreversibly\n");
    target("rescue", "Requires=sysinit.target rescue.service\nAfter=sysinit.target rescue.service\nAllowIsolate=yes\n");
    target("emergency", "Requires=emergency.service\nAfter=emergency.service\nAllowIsolate=yes\n");
    for (const char* plain :
         {"sockets", "timers", "paths", "slices", "swap", "local-fs-pre", "shutdown", "umount", "getty"})
        target(plain, "");
    for (const std::string name : {"rescue", "emergency"})
        t.file(units + name + ".service",
               "[Unit]\nDefaultDependencies=no\nConflicts=shutdown.target\n"
               "Before=shutdown.target\n[Service]\nType=idle\nExecStart=/bin/sh\n");
    t.link(units + "default.target", "graphical.target");
}

void add_service(forge::Tree& t, const std::string& name, const std::string& unit, const std::string& command,
                 const std::string& more = {}) {
    t.file(units + name + ".service", "[Unit]\nDescription=" + name + "\n" + unit + "[Service]\n" + more +
                                          "ExecStart=" + command + "\n[Install]\nWantedBy=multi-user.target\n");
    const auto program = command.substr(0, command.find(' '));
    t.file(program, forge::make_program(), 0755);
}

void enable(forge::Tree& t, const std::string& name, const std::string& target = "multi-user.target") {
    t.link(own + target + ".wants/" + name, units + name);
}

struct Change {
    std::string name, story, stops_at;
    std::function<void(FrontDesk&)> change;
};

std::vector<Story> stories(FrontDesk (*machine)(), const std::vector<Change>& all) {
    std::vector<Story> out;
    for (const auto& one : all)
        out.push_back({one.name,
                       one.story,
                       one.stops_at,
                       [machine, change = one.change] {
                           auto d = machine();
                           change(d);
                           return d.build();
                       },
                       {}});
    return out;
}

}  // namespace

FrontDesk reception() {
    auto d = desk("Almhof Reception 5 (Alpenrose)", "reception");
    auto& t = d.root;
    t.file("/usr/lib/systemd/systemd", forge::make_program(), 0755).link("/usr/sbin/init", "/usr/lib/systemd/systemd");
    t.file("/etc/machine-id", "a1b0f000000a4a018a0100000a1b0f0a\n");
    add_targets(t);
    add_service(t, "lamps", "DefaultDependencies=no\nBefore=sysinit.target\n", "/usr/bin/lamps on", "Type=oneshot\n");
    enable(t, "lamps.service", "sysinit.target");
    add_service(t, "key-board", "", "/usr/bin/key-board --count", "Type=oneshot\nRemainAfterExit=yes\n");
    enable(t, "key-board.service");
    add_service(t, "guest-list", "Requires=key-board.service\nAfter=key-board.service\n", "/usr/bin/guest-list");
    enable(t, "guest-list.service");
    add_service(t, "bell", "After=guest-list.service\n", "/usr/bin/bell");
    enable(t, "bell.service");
    add_service(t, "ski-pass", "ConditionPathExists=/etc/ski-pass.conf\n", "/usr/bin/ski-pass");
    enable(t, "ski-pass.service");
    add_service(t, "tea@", "After=bell.service\n", "/usr/bin/kettle %i");
    enable(t, "tea@.service");
    t.remove(own + "multi-user.target.wants/tea@.service");
    t.link(own + "multi-user.target.wants/tea@lounge.service", units + "tea@.service");
    add_service(t, "weather-map", "", "/usr/bin/weather-map");
    t.link(own + "weather-map.service", "/dev/null");
    add_service(t, "getty@", "After=guest-list.service\n", "/usr/sbin/agetty %I", "Type=idle\nRestart=always\n");
    t.link(units + "multi-user.target.wants/getty.target", "../getty.target");
    t.link(own + "getty.target.wants/getty@tty1.service", units + "getty@.service");
    return d;
}

FrontDesk kitchen() {
    auto d = desk("Almhof Kitchen 2 (Enzian)", "kitchen");
    auto& t = d.root;
    t.file("/usr/sbin/init", forge::make_program(), 0755);
    t.file("/etc/inittab",
           "# the kitchen's levels: 2 breakfast, 3 the whole day\nid:2:initdefault:\nsi::sysinit:/etc/init.d/rcS\n"
           "l1:1:wait:/etc/init.d/rc 1\nl2:2:wait:/etc/init.d/rc 2\nl3:3:wait:/etc/init.d/rc 3\n"
           "1:2345:respawn:/sbin/agetty 38400 tty1\nca:12345:ctrlaltdel:/sbin/shutdown -t1 -a -r now\n");
    for (const char* name : {"rc", "rcS", "mountall", "hostname", "wood", "stove", "dishes", "oven-timer", "dinner"})
        t.file(std::string("/etc/init.d/") + name, std::string("#!/bin/sh\n# ") + name + "\n", 0755);
    t.link("/etc/rcS.d/S01hostname", "../init.d/hostname").link("/etc/rcS.d/S02mountall", "../init.d/mountall");
    const auto level = [&](const std::string& number, const std::vector<std::string>& links) {
        for (const auto& link : links) t.link("/etc/rc" + number + ".d/" + link, "../init.d/" + link.substr(3));
    };
    level("1", {"K01stove", "K01dinner", "S01wood"});
    level("2", {"S01wood", "S02stove", "S03dishes", "K01dinner"});
    level("3", {"S01wood", "S02stove", "S02oven-timer", "S03dishes", "S04dinner"});
    return d;
}

std::vector<Story> reception_disks() {
    return stories(
        reception,
        {{"reception.img", "as the inn's technician left it", "", [](FrontDesk&) {}},
         {"reception-dangling.img", "the default target is a link to a desktop that was removed", "services",
          [](FrontDesk& d) { d.root.link(own + "default.target", units + "desktop.target"); }},
         {"reception-no-archive.img", "the disk with the old guest books was taken out, /etc/fstab still names it",
          "services",
          [](FrontDesk& d) {
              d.root.file("/etc/fstab",
                          std::string("UUID=") + root_uuid + " / ext4 errors=remount-ro 0 1\nUUID=" + swap_uuid +
                              " none swap sw 0 0\n"
                              "UUID=a1b0f000-0009-4a01-8a01-00000a1b0f09 /srv/old-books ext4 defaults 0 2\n");
          }},
         {"reception-no-library.img", "an upgrade stopped before it brought init's new library", "init",
          [](FrontDesk& d) {
              d.root.file("/usr/lib/systemd/systemd", forge::make_dynamic({.needed = {"libalmhof-shared-5.so"}}), 0755);
              d.root.file("/lib64/ld-linux-x86-64.so.2", forge::make_dynamic({.interpreter = ""}), 0755);
          }},
         {"reception-ring.img", "bell and guest list were made to wait for each other", "",
          [](FrontDesk& d) { d.root.file(own + "guest-list.service.d/later.conf", "[Unit]\nAfter=bell.service\n"); }},
         {"reception-no-keys.img", "the target requires the key board's program, which was removed", "services",
          [](FrontDesk& d) {
              d.root.remove("/usr/bin/key-board");
              d.root.link(own + "multi-user.target.requires/key-board.service", units + "key-board.service");
          }}});
}

std::vector<Story> kitchen_disks() {
    return stories(kitchen, {{"kitchen.img", "as it should be: breakfast on level 2, the whole day on level 3", "",
                              [](FrontDesk&) {}},
                             {"kitchen-no-rc.img", "the script that starts a level's scripts was removed", "services",
                              [](FrontDesk& d) { d.root.remove("/etc/init.d/rc"); }}});
}

}  // namespace demo
