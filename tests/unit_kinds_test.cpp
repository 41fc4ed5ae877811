// SPDX-License-Identifier: MIT
// What systemd refuses of each kind of unit, and the ties that it gives each by itself (systemd 252: core/socket.c,
// timer.c, path.c, mount.c, automount.c, swap.c, service.c).
#include <herberge/units.hpp>

#include "support.hpp"

using namespace herberge;

namespace {

struct Loaded {
    Machine machine;
    CommandLine line{""};
    std::unique_ptr<UnitStore> store;
    const Unit* unit;
    Loaded(const std::string& name, const std::string& text) : machine(support::machine_of(root(name, text))) {
        store = std::make_unique<UnitStore>(*machine.volume(1, 0), line);
        unit = &store->load(name);
    }
    static support::Bytes root(const std::string& name, const std::string& text) {
        forge::Tree tree;
        tree.file("/etc/systemd/system/" + name, text).file("/bin/true", "#!/bin/sh\n", 0755);
        for (const char* target : {"sysinit", "shutdown", "sockets", "timers", "paths", "basic"})
            tree.file(std::string("/usr/lib/systemd/system/") + target + ".target", "[Unit]\n");
        tree.file("/usr/lib/systemd/system/inn.service", "[Service]\nExecStart=/bin/true\n");
        return forge::make_ext(tree, {});
    }
    [[nodiscard]] std::string problem() const { return unit->problem ? unit->problem->text : ""; }
    [[nodiscard]] bool tied(UnitTie tie, const std::string& to) const {
        return std::ranges::any_of(unit->ties, [&](const UnitDependency& d) { return d.tie == tie && d.unit == to; });
    }
};

TEST(UnitKinds, AreRefusedForWhatTheyLack) {
    const struct {
        const char* name;
        const char* text;
        const char* problem;  ///< empty: it is loaded
    } rows[] = {
        {"inn.socket", "[Socket]\nListenStream=/run/inn\n", ""},
        {"inn.socket", "[Socket]\nListenFIFO=/run/inn\nAccept=yes\n", ""},
        {"inn.socket", "[Socket]\n", "systemd refuses inn.socket: it listens on nothing"},
        {"inn.timer", "[Timer]\nOnBootSec=5min\n", ""},
        {"inn.timer", "[Timer]\nOnCalendar=daily\nPersistent=yes\n", ""},
        {"inn.timer", "[Timer]\nUnit=inn.service\n", "systemd refuses inn.timer: it names no time"},
        {"inn.path", "[Path]\nPathChanged=/var/lib/inn\n", ""},
        {"inn.path", "[Path]\nUnit=inn.service\n", "systemd refuses inn.path: it watches no path"},
        {"srv.mount", "[Mount]\nWhat=/dev/sda2\nWhere=/srv\n", ""},
        {"srv.mount", "[Mount]\nWhere=/srv\n", "systemd refuses srv.mount: What= is missing"},
        {"srv.mount", "[Mount]\nWhat=/dev/sda2\nWhere=/srv/inn\n",
         "systemd refuses srv.mount: Where= is another path than its name says"},
        {"srv.automount", "[Automount]\nWhere=/srv\n", ""},
        {"srv.automount", "[Automount]\nWhere=/home\n",
         "systemd refuses srv.automount: Where= is another path than its name says"},
        {"dev-sda2.swap", "[Swap]\nWhat=/dev/sda2\n", ""},
        {"dev-sda2.swap", "[Swap]\nWhat=/dev/sda3\n",
         "systemd refuses dev-sda2.swap: What= is another path than its name says"},
        {"inn.service", "[Service]\nType=oneshot\nExecStart=/bin/true\nExecStart=/bin/true\n", ""},
        {"inn.service", "[Service]\nType=simple\nExecStop=/bin/true\n",
         "systemd refuses inn.service: it has no ExecStart=, which only Type=oneshot may lack"},
    };
    for (const auto& row : rows) {
        const Loaded loaded(row.name, row.text);
        EXPECT_EQ(loaded.problem(), row.problem) << row.text;
        EXPECT_EQ(loaded.unit->load, *row.problem == 0 ? UnitLoad::Loaded : UnitLoad::BadSetting) << row.text;
    }
}

TEST(UnitKinds, AreTiedByThemselves) {
    const Loaded socket("inn.socket", "[Socket]\nListenStream=/run/inn/bell\nBindToDevice=ski0\n");
    EXPECT_TRUE(socket.tied(UnitTie::Triggers, "inn.service"));
    EXPECT_TRUE(socket.tied(UnitTie::Before, "inn.service"));
    EXPECT_TRUE(socket.tied(UnitTie::Before, "sockets.target"));
    EXPECT_TRUE(socket.tied(UnitTie::Requires, "sysinit.target"));
    EXPECT_TRUE(socket.tied(UnitTie::After, "sysinit.target"));
    EXPECT_TRUE(socket.tied(UnitTie::Conflicts, "shutdown.target"));
    EXPECT_TRUE(socket.tied(UnitTie::BindsTo, "sys-subsystem-net-devices-ski0.device"));
    const Loaded other("inn.socket", "[Socket]\nListenStream=80\nService=bell.service\n");
    EXPECT_TRUE(other.tied(UnitTie::Triggers, "bell.service"));
    EXPECT_FALSE(other.tied(UnitTie::Triggers, "inn.service"));
    const Loaded each("inn.socket", "[Socket]\nListenStream=80\nAccept=yes\n");
    EXPECT_FALSE(each.tied(UnitTie::Triggers, "inn.service"));
    const Loaded bare("inn.socket", "[Unit]\nDefaultDependencies=no\n[Socket]\nListenStream=80\n");
    EXPECT_FALSE(bare.tied(UnitTie::Before, "sockets.target"));
    EXPECT_FALSE(bare.tied(UnitTie::Requires, "sysinit.target"));

    const Loaded timer("inn.timer", "[Timer]\nOnCalendar=daily\n");
    EXPECT_TRUE(timer.tied(UnitTie::Triggers, "inn.service"));
    EXPECT_TRUE(timer.tied(UnitTie::Before, "timers.target"));
    EXPECT_TRUE(timer.tied(UnitTie::After, "time-sync.target"));
    EXPECT_TRUE(timer.tied(UnitTie::After, "time-set.target"));
    const Loaded soon("inn.timer", "[Timer]\nOnBootSec=1\nUnit=bell.service\n");
    EXPECT_TRUE(soon.tied(UnitTie::Triggers, "bell.service"));
    EXPECT_FALSE(soon.tied(UnitTie::After, "time-sync.target"));

    const Loaded path("inn.path", "[Path]\nDirectoryNotEmpty=/var/spool/inn\n");
    EXPECT_TRUE(path.tied(UnitTie::Triggers, "inn.service"));
    EXPECT_TRUE(path.tied(UnitTie::Before, "paths.target"));
}

}  // namespace
