// SPDX-License-Identifier: MIT
// systemd's units: how they are found and read, what they are tied to, and what a start of a target makes of them. The
// expectations are those of systemd 252, with which conformance/units-against-systemd.py compares many more.
#include <algorithm>

#include <herberge/units.hpp>

#include "support.hpp"
#include "system/units/names.hpp"
#include "system/units/text.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

constexpr const char* service = "[Service]\nExecStart=/bin/true\n";
const std::string etc = "/etc/systemd/system/";

/// A root with the targets that every systemd has.
class UnitRoot {
public:
    UnitRoot() {
        const std::string lib = "/usr/lib/systemd/system/";
        files.file(lib + "multi-user.target",
                   "[Unit]\nRequires=basic.target\nConflicts=rescue.service rescue.target\nAfter=basic.target "
                   "rescue.service rescue.target\nAllowIsolate=yes\n");
        files.file(lib + "basic.target",
                   "[Unit]\nRequires=sysinit.target\nWants=sockets.target\nAfter=sysinit.target "
                   "sockets.target\n");
        files.file(lib + "sysinit.target",
                   "[Unit]\nConflicts=emergency.service\nWants=local-fs.target swap.target\n"
                   "After=local-fs.target swap.target\n");
        files.file(lib + "local-fs.target",
                   "[Unit]\nDefaultDependencies=no\nConflicts=shutdown.target\nAfter=local-fs-pre.target\n"
                   "OnFailure=emergency.target\n");
        for (const char* name : {"sockets.target", "swap.target", "shutdown.target", "local-fs-pre.target"})
            files.file(lib + name, "[Unit]\n");
        files.file(lib + "rescue.target", "[Unit]\nRequires=sysinit.target rescue.service\nAfter=sysinit.target\n");
        files.file(lib + "rescue.service", std::string("[Unit]\nDefaultDependencies=no\n") + service);
        files.file(lib + "emergency.target", "[Unit]\nRequires=emergency.service\nAfter=emergency.service\n");
        files.file(lib + "emergency.service", std::string("[Unit]\nDefaultDependencies=no\n") + service);
        files.file("/bin/true", "#!/bin/sh\n", 0755);
        files.file("/bin/false", "#!/bin/sh\nexit 1\n", 0755).file("/usr/bin/false", "#!/bin/sh\nexit 1\n", 0755);
        files.file("/bin/sh", forge::make_program(), 0755);
    }
    UnitRoot& file(const std::string& name, const std::string& text) {
        files.file(name, text);
        return *this;
    }
    UnitRoot& wanted(const std::string& name, const std::string& text, const std::string& how = "wants",
                     const std::string& by = "multi-user.target") {
        if (!text.empty()) files.file(etc + name, text);
        files.link(etc + by + "." + how + "/" + name, "../" + name);
        return *this;
    }
    forge::Tree files;
};

struct Planned {
    Machine machine;
    CommandLine line;
    std::unique_ptr<UnitStore> store;
    StartPlan plan;
    StartOutcome outcome;
    explicit Planned(const UnitRoot& root, const std::string& target = "multi-user.target",
                     const std::string& words = "")
        : machine(support::machine_of(forge::make_ext(root.files, {}))), line(words) {
        const auto volume = machine.volume(1, 0);
        store = std::make_unique<UnitStore>(*volume, line);
        plan = plan_boot(*store, target);
        outcome = follow_start(machine, *volume, line, *store, plan, Processor::X86);
    }
    [[nodiscard]] bool starts(std::string_view unit) const {
        return std::ranges::find(plan.jobs, unit, &StartJob::unit) != plan.jobs.end();
    }
    [[nodiscard]] std::size_t place(std::string_view unit) const {
        return static_cast<std::size_t>(std::ranges::find(plan.jobs, unit, &StartJob::unit) - plan.jobs.begin());
    }
    [[nodiscard]] const Unit& unit(std::string_view name) const {
        const Unit* found = store->find(name);
        if (found == nullptr) throw std::runtime_error("not loaded: " + std::string(name));
        return *found;
    }
    [[nodiscard]] const UnitOutcome& of(std::string_view name) const {
        const auto found = std::ranges::find(outcome.units, name, &UnitOutcome::unit);
        if (found == outcome.units.end()) throw std::runtime_error("no job: " + std::string(name));
        return *found;
    }
};

// --- names and text -------------------------------------------------------------------------------------------------

TEST(UnitNames, AreTakenApart) {
    const auto plain = units::parts_of("cron.service");
    ASSERT_TRUE(plain);
    EXPECT_EQ(plain->prefix, "cron");
    EXPECT_EQ(plain->type, ".service");
    EXPECT_FALSE(plain->instance);
    EXPECT_TRUE(units::parts_of("room@.service")->is_template());
    EXPECT_EQ(units::parts_of("room@a@b.service")->instance, "a@b");
    EXPECT_EQ(units::parts_of("room@1.service")->template_name(), "room@.service");
    for (const char* none :
         {"", "cron", ".service", "@x.service", "a b.service", "a/b.service", "a.conf", "über.service"})
        EXPECT_FALSE(units::parts_of(none)) << none;
    EXPECT_TRUE(units::parts_of(std::string(247, 'a') + ".service"));
    EXPECT_FALSE(units::parts_of(std::string(248, 'a') + ".service"));
}

/// As systemd-escape(1) prints them.
TEST(UnitNames, AreEscaped) {
    EXPECT_EQ(UnitStore::name_of_path("/", ".mount"), "-.mount");
    EXPECT_EQ(UnitStore::name_of_path("/srv/a-b", ".mount"), "srv-a\\x2db.mount");
    EXPECT_EQ(UnitStore::name_of_path("//srv//x/", ".mount"), "srv-x.mount");
    EXPECT_EQ(UnitStore::name_of_path("/dev/disk/by-uuid/57a7-1", ".device"), "dev-disk-by\\x2duuid-57a7\\x2d1.device");
    EXPECT_EQ(units::escape(".hidden file"), "\\x2ehidden\\x20file");
    EXPECT_EQ(units::unescape_path("srv-a\\x2db"), "/srv/a-b");
    EXPECT_EQ(units::unescape("a\\x4"), "a\\x4");
}

TEST(UnitText, IsReadLineByLine) {
    const auto text = units::parse_unit(
        "stray=1\n# remark\n[Unit]\nnonsense\n; other\nAfter = b.service \\\n  c.service \\\n"
        "# inside\n  d.service\n[Service]\nExecStart=\n",
        "/u");
    ASSERT_EQ(text.settings.size(), 2U);
    EXPECT_EQ(text.settings[0].value, "b.service    c.service    d.service");
    EXPECT_EQ(text.settings[0].line, 6);
    EXPECT_EQ(text.settings[1].section, "Service");
    EXPECT_EQ(text.settings[1].value, "");
    EXPECT_EQ(text.notes,
              (std::vector<std::string>{"/u, line 1: it stands before any section", "/u, line 4: it has no ="}));
    const auto open = units::parse_unit("[Unit]\nAfter=a.service\n[Service\nExecStart=/x\n", "/u");
    EXPECT_EQ(open.bad_line, 3);
    EXPECT_EQ(open.settings.size(), 1U);
}

TEST(UnitText, SpecifiersStandForParts) {
    units::SpecifierValues values{
        "room-a@b\\x2dc-d.service", "0123", "inn.example", "6.1", "almhof", "2", "", "/u/x.service"};
    const auto of = [&](std::string_view text) { return units::expand_specifiers(text, values).value_or("(none)"); };
    EXPECT_EQ(of("%n|%N|%p|%P|%i|%I"), "room-a@b\\x2dc-d.service|room-a@b\\x2dc-d|room-a|room/a|b\\x2dc-d|b-c/d");
    EXPECT_EQ(of("%j|%f|%t|%m|%H|%l|%v|%o|%w|%y|%Y|%%|%z"),
              "a|/b-c/d|/run|0123|inn.example|inn|6.1|almhof|2|/u/x.service|/u|%|%z");
    EXPECT_EQ(of("%b"), "(none)");
    EXPECT_EQ(of("x%"), "x%");
}

// --- where files lie ------------------------------------------------------------------------------------------------

TEST(UnitFilesOfARoot, HideOneAnother) {
    UnitRoot root;
    root.file("/usr/lib/systemd/system/cook.service", std::string("[Unit]\nAfter=lib.service\n") + service);
    root.file("/usr/local/lib/systemd/system/cook.service", std::string("[Unit]\nAfter=local.service\n") + service);
    root.wanted("cook.service", "");
    EXPECT_TRUE(Planned(root).unit("cook.service").has_tie(UnitTie::After, "local.service"));
    root.file(etc + "cook.service", std::string("[Unit]\nAfter=etc.service\n") + service);
    const Planned planned(root);
    EXPECT_TRUE(planned.unit("cook.service").has_tie(UnitTie::After, "etc.service"));
    EXPECT_FALSE(planned.unit("cook.service").has_tie(UnitTie::After, "local.service"));
    EXPECT_EQ(planned.unit("cook.service").fragment, etc + "cook.service");
}

TEST(UnitFilesOfARoot, MaskAndAlias) {
    UnitRoot root;
    root.wanted("bell.service", "").files.link(etc + "bell.service", "/dev/null");
    root.files.file("/usr/lib/systemd/system/bell.service", service);
    root.wanted("empty.service", "").files.file(etc + "empty.service", "");
    root.wanted("maid.service", "").files.file(etc + "cleaner.service", service);
    root.files.link(etc + "maid.service", "cleaner.service");
    root.wanted("gone.service", "").files.link(etc + "gone.service", "nowhere.service");
    const Planned planned(root);
    EXPECT_FALSE(planned.starts("bell.service"));
    EXPECT_FALSE(planned.starts("empty.service"));
    EXPECT_TRUE(planned.starts("cleaner.service"));
    EXPECT_EQ(planned.unit("maid.service").name, "cleaner.service");
    EXPECT_EQ(planned.unit("cleaner.service").aliases, (std::vector<std::string>{"maid.service"}));
    EXPECT_EQ(planned.unit("gone.service").load, UnitLoad::NotFound);
    // A masked unit behind a required name: a link that leads to /dev/null over two steps is none at all.
    UnitRoot asked;
    asked.file(etc + "inn.service", std::string("[Unit]\nRequires=bell.service\n") + service)
        .files.link(etc + "bell.service", "/dev/null");
    asked.wanted("inn.service", "");
    const Planned other(asked);
    EXPECT_EQ(other.unit("bell.service").load, UnitLoad::Masked);
    ASSERT_TRUE(other.unit("bell.service").problem);
    EXPECT_EQ(other.unit("bell.service").problem->code, Code::ServicesUnitMasked);
}

TEST(UnitFilesOfARoot, TemplatesAndDropIns) {
    UnitRoot root;
    root.file(etc + "room@.service", std::string("[Unit]\nAfter=key-%i.service\n") + service);
    root.file(etc + "room@.service.d/b.conf", "[Unit]\nAfter=b.service\n");
    root.file(etc + "room@one.service.d/a.conf", "[Unit]\nAfter=a.service\n");
    root.file("/usr/lib/systemd/system/service.d/z.conf", "[Unit]\nAfter=every.service\n");
    root.file("/usr/lib/systemd/system/room@.service.d/b.conf", "[Unit]\nAfter=hidden.service\n");
    root.wanted("room@one.service", "");
    const Planned planned(root);
    const auto& unit = planned.unit("room@one.service");
    for (const char* name : {"key-one.service", "a.service", "b.service", "every.service"})
        EXPECT_TRUE(unit.has_tie(UnitTie::After, name)) << name;
    EXPECT_FALSE(unit.has_tie(UnitTie::After, "hidden.service"));
    EXPECT_EQ(unit.drop_ins,
              (std::vector<std::string>{etc + "room@one.service.d/a.conf", etc + "room@.service.d/b.conf",
                                        "/usr/lib/systemd/system/service.d/z.conf"}));
    EXPECT_TRUE(unit.has_tie(UnitTie::Requires, "system-room.slice"));
}

// --- what a start makes of them -------------------------------------------------------------------------------------

TEST(UnitPlan, CollectsAndOrders) {
    UnitRoot root;
    root.wanted("late.service", std::string("[Unit]\nAfter=early.service\nWants=early.service\n") + service);
    root.file(etc + "early.service", service);
    const Planned planned(root);
    ASSERT_FALSE(planned.plan.refused);
    EXPECT_LT(planned.place("sysinit.target"), planned.place("basic.target"));
    EXPECT_LT(planned.place("basic.target"), planned.place("early.service"));
    EXPECT_LT(planned.place("early.service"), planned.place("late.service"));
    EXPECT_LT(planned.place("late.service"), planned.place("multi-user.target"));
    const auto& job = planned.plan.jobs[planned.place("early.service")];
    EXPECT_EQ(job.because, "late.service");
    EXPECT_EQ(job.by, UnitTie::Wants);
    // It stands beside, and is not started.
    EXPECT_FALSE(planned.starts("rescue.service"));
}

TEST(UnitPlan, WhatIsRequiredAndMissingStopsIt) {
    const auto of = [](const std::string& how, const std::string& text) {
        UnitRoot root;
        root.wanted("inn.service", text, how);
        return Planned(root);
    };
    EXPECT_FALSE(of("wants", "").plan.refused);
    const auto missing = of("requires", "");
    ASSERT_TRUE(missing.plan.refused);
    EXPECT_EQ(missing.plan.refused->code, Code::ServicesTargetRefused);
    EXPECT_EQ(missing.plan.refused->text,
              "systemd cannot start multi-user.target: inn.service is not there, which multi-user.target demands");
    ASSERT_EQ(missing.plan.refused->evidence.size(), 2U);
    EXPECT_EQ(missing.plan.refused->evidence[1].place, "d1:/etc/systemd/system/multi-user.target.requires/inn.service");
    EXPECT_NE(missing.plan.refused->symptom.find("Failed to start default target"), std::string::npos);
    EXPECT_TRUE(missing.plan.jobs.empty());
    // A wanted unit that requires a missing one is started all the same.
    const auto wanted = of("wants", std::string("[Unit]\nRequires=none.service\n") + service);
    EXPECT_FALSE(wanted.plan.refused);
    EXPECT_TRUE(wanted.starts("inn.service"));
}

TEST(UnitPlan, FilesThatSystemdRefuses) {
    const std::pair<const char*, const char*> rows[] = {
        {"[Service]\nType=simple\n", "it has no ExecStart=, ExecStop= or SuccessAction="},
        {"[Service]\nType=oneshot\nExecStop=/bin/true\n", "it has no ExecStart= and no RemainAfterExit=yes"},
        {"[Service]\nExecStart=/bin/true\nExecStart=/bin/true\n",
         "it has more than one ExecStart=, which only Type=oneshot may have"},
        {"[Service]\nExecStart=bin/true\n", "bin/true is neither a full path nor a plain name"},
        {"[Service]\nExecStart=-bin/true\n", "it has no ExecStart=, ExecStop= or SuccessAction="},
        {"[Service]\nType=dbus\nExecStart=/bin/true\n", "it is of Type=dbus and has no BusName="},
        {"[Service]\nType=oneshot\nRestart=always\nExecStart=/bin/true\n",
         "Type=oneshot does not go with Restart=always or on-success"}};
    for (const auto& [text, why] : rows) {
        UnitRoot root;
        root.wanted("inn.service", text);
        const Planned planned(root);
        const auto& unit = planned.unit("inn.service");
        EXPECT_EQ(unit.load, UnitLoad::BadSetting) << text;
        ASSERT_TRUE(unit.problem) << text;
        EXPECT_EQ(unit.problem->text, std::string("systemd refuses inn.service: ") + why);
        EXPECT_FALSE(unit.problem->evidence.empty());
        EXPECT_EQ(unit.problem->code, Code::ServicesUnitRefused);
        EXPECT_FALSE(planned.starts("inn.service"));
    }
    for (const char* good : {"[Service]\nType=oneshot\nRemainAfterExit=yes\nExecStop=/bin/true\n",
                             "[Service]\nExecStart=/bin/false\nExecStart=\nExecStart=/bin/true\n",
                             "[Service]\nType=oneshot\nExecStart=/bin/true\nExecStart=/bin/true\n",
                             "[Service]\nExecStart=true\n", "[Service]\nExecStart=@/bin/true name\n"}) {
        UnitRoot root;
        root.wanted("inn.service", good);
        EXPECT_TRUE(Planned(root).starts("inn.service")) << good;
    }
    UnitRoot changed;
    changed.wanted("inn.service", service)
        .file(etc + "inn.service.d/a.conf", "[Unit]\nAfter=a.service\n[Unit\nAfter=b.service\n");
    const Planned kept(changed);
    EXPECT_TRUE(kept.starts("inn.service")) << "a broken drop-in stops nothing";
    EXPECT_TRUE(kept.unit("inn.service").has_tie(UnitTie::After, "a.service"));
    EXPECT_FALSE(kept.unit("inn.service").has_tie(UnitTie::After, "b.service"));
    UnitRoot broken;
    broken.wanted("inn.service", std::string("[Unit\n") + service, "requires");
    const Planned planned(broken);
    ASSERT_TRUE(planned.plan.refused);
    EXPECT_EQ(planned.plan.refused->text,
              "systemd cannot start multi-user.target: inn.service cannot be loaded, which multi-user.target demands");
    EXPECT_EQ(planned.plan.refused->evidence[0].line, 1);
}

TEST(UnitPlan, Cycles) {
    UnitRoot root;
    root.wanted("a.service", std::string("[Unit]\nAfter=b.service\n") + service, "requires");
    root.wanted("b.service", std::string("[Unit]\nAfter=a.service\n") + service);
    const Planned planned(root);
    ASSERT_EQ(planned.plan.cycles.size(), 1U);
    EXPECT_EQ(planned.plan.cycles[0].dropped, "b.service") << "what the target requires stays";
    EXPECT_FALSE(planned.starts("b.service"));
    EXPECT_TRUE(planned.starts("a.service"));
    ASSERT_EQ(planned.plan.findings.size(), 1U);
    EXPECT_EQ(planned.plan.findings[0].code, Code::ServicesOrderCycle);
    EXPECT_EQ(planned.plan.findings[0].evidence.size(), 2U);
    // Both required: nothing starts.
    root.wanted("b.service", "", "requires");
    const Planned ring(root);
    ASSERT_TRUE(ring.plan.refused);
    EXPECT_EQ(ring.plan.refused->text,
              "systemd cannot start multi-user.target: its units wait for one another in a ring that it may not break "
              "(a.service after b.service after a.service)");
}

TEST(UnitPlan, ConflictsGiveWay) {
    UnitRoot root;
    root.wanted("a.service", std::string("[Unit]\nConflicts=b.service\n") + service);
    root.wanted("b.service", service, "requires");
    const Planned planned(root);
    EXPECT_TRUE(planned.starts("b.service")) << "it is required";
    EXPECT_FALSE(planned.starts("a.service"));
    root.wanted("a.service", "", "requires");
    const Planned both(root);
    ASSERT_TRUE(both.plan.refused);
    EXPECT_NE(both.plan.refused->text.find("it requires b.service, and what else it requires conflicts with that"),
              std::string::npos);
}

TEST(UnitPlan, FallsBackToRescue) {
    UnitRoot root;
    const Planned missing(root, "graphical.target");
    EXPECT_EQ(missing.plan.target, "rescue.target");
    EXPECT_EQ(missing.plan.findings.at(0).code, Code::ServicesTargetMissing);
    root.files.link(etc + "graphical.target", "/dev/null");
    const Planned masked(root, "graphical.target");
    EXPECT_EQ(masked.plan.findings.at(0).code, Code::ServicesTargetMasked);
    EXPECT_TRUE(masked.starts("rescue.service"));
}

TEST(UnitPlan, WordsOfTheCommandLine) {
    const std::pair<const char*, const char*> rows[] = {{"", "default.target"},
                                                        {"quiet single", "rescue.target"},
                                                        {"1", "rescue.target"},
                                                        {"emergency", "emergency.target"},
                                                        {"systemd.unit=inn.target", "inn.target"},
                                                        {"3", "multi-user.target"},
                                                        {"5", "graphical.target"},
                                                        {"rd.systemd.unit=x.target", "default.target"}};
    for (const auto& [words, target] : rows) EXPECT_EQ(systemd_target(CommandLine(words)), target) << words;
    UnitRoot root;
    root.file("/usr/lib/systemd/system/getty.target", "[Unit]\n").wanted("getty.target", "");
    root.file("/usr/lib/systemd/system/serial-getty@.service", service);
    root.wanted("inn.service", service);
    const Planned planned(root, "multi-user.target", "console=tty0 console=ttyS0,115200 systemd.mask=inn.service");
    EXPECT_TRUE(planned.starts("serial-getty@ttyS0.service"));
    EXPECT_FALSE(planned.starts("serial-getty@tty0.service"));
    EXPECT_FALSE(planned.starts("inn.service"));
}

TEST(UnitPlan, AUnitThatAGeneratorMayMakeIsNotCalledMissing) {
    UnitRoot root;
    root.wanted("inn.service", "", "requires");
    root.files.file("/usr/lib/systemd/systemd", forge::make_program(), 0755);
    root.files.link("/sbin/init", "/usr/lib/systemd/systemd")
        .link(etc + "default.target", "/usr/lib/systemd/system/multi-user.target");
    const auto judged = [&] {
        const auto machine = support::machine_of(forge::make_ext(root.files, {}));
        const auto volume = machine.volume(1, 0);
        const CommandLine line("");
        return judge_services(machine, *volume, judge_init(*volume, line, nullptr), line);
    };
    EXPECT_EQ(judged().state, State::Breaks);
    EXPECT_EQ(judged().text,
              "systemd cannot start default.target: inn.service is not there, which multi-user.target demands");
    root.files.file("/usr/lib/systemd/system-generators/systemd-fstab-generator", forge::make_program(), 0755);
    EXPECT_EQ(judged().state, State::Breaks);
    root.files.file("/usr/lib/systemd/system-generators/inn-generator", forge::make_program(), 0644);
    EXPECT_EQ(judged().state, State::Breaks) << "it cannot be run";
    root.files.file("/etc/systemd/system-generators/inn-generator", forge::make_program(), 0755);
    EXPECT_EQ(judged().state, State::Unknown);
    EXPECT_NE(judged().text.find("inn-generator may make it, which is not followed here"), std::string::npos)
        << judged().text;
    // What is masked stays so.
    root.files.link(etc + "inn.service", "/dev/null")
        .link(etc + "multi-user.target.requires/inn.service", "/usr/lib/systemd/system/inn.service");
    EXPECT_EQ(judged().state, State::Breaks);
    EXPECT_EQ(judged().findings.at(0).code, Code::ServicesTargetRefused);
}

// --- generators -----------------------------------------------------------------------------------------------------

TEST(UnitGenerators, MakeMountsOfTheTable) {
    UnitRoot root;
    root.file("/etc/fstab",
              "/dev/sda2 /srv/a-b ext4 defaults 0 0\n/dev/sda3 none swap sw 0 0\n/dev/sda4 /opt ext4 nofail 0 0\n"
              "/dev/sda5 /data xfs noauto 0 0\n/dev/sda6 /lazy ext4 x-systemd.automount 0 0\n");
    const Planned planned(root);
    EXPECT_TRUE(planned.unit("local-fs.target").has_tie(UnitTie::Requires, "srv-a\\x2db.mount"));
    EXPECT_TRUE(planned.unit("srv-a\\x2db.mount").has_tie(UnitTie::Requires, "dev-sda2.device"));
    EXPECT_TRUE(planned.unit("srv-a\\x2db.mount").has_tie(UnitTie::Before, "local-fs.target"));
    EXPECT_TRUE(planned.unit("local-fs.target").has_tie(UnitTie::Wants, "opt.mount"));
    EXPECT_FALSE(planned.unit("opt.mount").has_tie(UnitTie::Before, "local-fs.target"));
    EXPECT_TRUE(planned.unit("swap.target").has_tie(UnitTie::Requires, "dev-sda3.swap"));
    EXPECT_FALSE(planned.starts("data.mount"));
    EXPECT_TRUE(planned.starts("lazy.automount"));
    EXPECT_FALSE(planned.starts("lazy.mount"));
    const auto& ties = planned.unit("local-fs.target").ties;
    const auto of_line = std::ranges::find_if(ties, [](const UnitDependency& one) { return one.unit == "opt.mount"; });
    ASSERT_NE(of_line, ties.end());
    EXPECT_EQ(of_line->said.place, "d1:/etc/fstab");
    EXPECT_EQ(of_line->said.line, 3);
    // What hangs on which mount.
    EXPECT_EQ(dragged_along(*planned.store, planned.plan, "srv-a\\x2db.mount"),
              (std::vector<std::string>{"srv-a\\x2db.mount", "local-fs.target", "emergency.target"}));
    EXPECT_TRUE(dragged_along(*planned.store, planned.plan, "opt.mount").empty());
    EXPECT_TRUE(dragged_along(*planned.store, planned.plan, "dev-sda3.swap").empty());
}

/// A disk that the system's partitioner made, whose types say what the partitions are for.
struct TypedDisk {
    UnitRoot root;
    std::string home_attributes, var_id = "57a71000-0001-4a01-8a01-000000000005";
    std::string line;
    [[nodiscard]] std::optional<Machine> machine() const {
        constexpr std::uint64_t mib = std::uint64_t{1} << 20U;
        const support::Folder folder;
        Bytes image(24 * mib);
        folder.write("disk.img", image);
        const auto made = support::shell(
            "printf 'label: gpt\nfirst-lba: 2048\n"
            "start=2048, size=16384, type=4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709\n"
            "start=18432, size=4096, type=933AC7E1-2EB4-4F13-B844-0E14E2AEF915, "
            "uuid=57A71000-0001-4A01-8A01-000000000002" +
            home_attributes +
            "\nstart=22528, size=2048, type=0657FD6D-A4AB-43C4-84E5-0933C84B4F4F, "
            "uuid=57A71000-0001-4A01-8A01-000000000003\n"
            "start=24576, size=2048, type=3B8F8425-20E0-4F3B-907F-1A25A76F98E8, "
            "uuid=57A71000-0001-4A01-8A01-000000000004\n"
            "start=26624, size=2048, type=4D21B016-B534-45C2-A9FB-5C16E091FD2D, uuid=" +
            var_id + "\n' | /sbin/sfdisk -q " + folder.file("disk.img"));
        if (made.status == 127) return std::nullopt;
        EXPECT_EQ(made.status, 0) << made.out;
        image = support::file_bytes(folder.file("disk.img"));
        forge::ExtOptions options;
        options.size = 8 * mib;
        const auto ext = forge::make_ext(root.files, options);
        std::ranges::copy(ext, image.begin() + mib);
        return support::machine_of(std::move(image));
    }
};

/// systemd-gpt-auto-generator(8) of systemd 252.
TEST(UnitGenerators, MakeMountsOfPartitionTypes) {
    const std::string own = "/usr/lib/systemd/system-generators/systemd-gpt-auto-generator";
    const auto planned = [&](TypedDisk& disk, const std::function<void(UnitStore&)>& look) {
        disk.root.file("/etc/machine-id", "0123456789abcdef0123456789abcdef\n");
        const auto machine = disk.machine();
        if (!machine) return false;
        const CommandLine line(disk.line);
        UnitStore units(*machine->volume(1, 1), line, &*machine);
        units.load("multi-user.target");
        look(units);
        return true;
    };
    const std::string by = "dev-disk-by\\x2dpartuuid-57a71000\\x2d0001\\x2d4a01\\x2d8a01\\x2d00000000000";
    TypedDisk disk;
    disk.root.files.file(own, forge::make_program(), 0755).directory("/home");
    disk.root.file("/srv/guests", "a list\n").files.file("/sbin/fsck.ext4", forge::make_program(), 0755);
    const bool there = planned(disk, [&](UnitStore& units) {
        const Unit* home = units.find("home.mount");
        ASSERT_NE(home, nullptr);
        EXPECT_EQ(home->value("Mount", "What"), "/dev/disk/by-partuuid/57a71000-0001-4a01-8a01-000000000002");
        EXPECT_EQ(home->value("Mount", "Options"), "rw");
        EXPECT_TRUE(home->has_tie(UnitTie::Before, "local-fs.target"));
        const auto& ties = units.find("local-fs.target")->ties;
        const auto said = std::ranges::find(ties, "home.mount", &UnitDependency::unit);
        ASSERT_NE(said, ties.end());
        EXPECT_EQ(said->tie, UnitTie::Requires);
        EXPECT_EQ(said->said.place, "d1p2");
        EXPECT_EQ(said->said.found, "a partition of type Linux home");
        EXPECT_EQ(units.find("srv.mount"), nullptr) << "its folder holds something";
        EXPECT_EQ(units.find("var.mount"), nullptr) << "it is another system's";
        EXPECT_TRUE(units.find("swap.target")->has_tie(UnitTie::Wants, by + "3.swap"));
    });
    if (!there) GTEST_SKIP() << "sfdisk is not here";
    // HMAC-SHA-256 of the type by the machine's id, as `openssl dgst -sha256 -mac hmac` gives it.
    const auto digest = support::shell(
        "printf '\\115\\041\\260\\026\\265\\064\\105\\302\\251\\373\\134\\026\\340\\221\\375\\055' | "
        "openssl dgst -sha256 -mac hmac -macopt hexkey:0123456789abcdef0123456789abcdef -r");
    ASSERT_EQ(digest.status, 0) << digest.out;
    auto id = digest.out.substr(0, 32);
    id[12] = '4';
    id[16] = "89ab"[std::stoi(id.substr(16, 1), nullptr, 16) & 3];
    TypedDisk other;
    other.var_id =
        id.substr(0, 8) + "-" + id.substr(8, 4) + "-" + id.substr(12, 4) + "-" + id.substr(16, 4) + "-" + id.substr(20);
    other.home_attributes = ", attrs=\"GUID:60\"";
    other.root.files.file(own, forge::make_program(), 0755);
    other.root.file("/etc/fstab", "/dev/vda9 none swap sw 0 0\n");
    planned(other, [&](UnitStore& units) {
        EXPECT_EQ(units.find("home.mount")->value("Mount", "Options"), "ro");
        EXPECT_NE(units.find("var.mount"), nullptr);
        EXPECT_NE(units.find("srv.mount"), nullptr);
        EXPECT_FALSE(units.find("swap.target")->has_tie(UnitTie::Wants, by + "3.swap")) << "/etc/fstab has one";
    });
    // Told not to, marked not to be, or without the program that does it.
    other.line = "systemd.gpt_auto=0";
    planned(other, [&](UnitStore& units) { EXPECT_EQ(units.find("srv.mount"), nullptr); });
    other.line.clear();
    other.home_attributes = ", attrs=\"GUID:63\"";
    planned(other, [&](UnitStore& units) {
        EXPECT_EQ(units.find("home.mount"), nullptr);
        EXPECT_NE(units.find("srv.mount"), nullptr);
    });
    other.root.files.remove(own);
    planned(other, [&](UnitStore& units) { EXPECT_EQ(units.find("srv.mount"), nullptr); });
}

/// A second line of the same place is passed over, whatever it asks for.
TEST(UnitGenerators, TheFirstLineOfAPlaceCounts) {
    UnitRoot root;
    root.file("/etc/fstab",
              "tmpfs /srv tmpfs size=1m 0 0\n/dev/sdq1 //srv/ ext4 defaults 0 2\n/dev/sda3 none swap sw 0 0\n"
              "/dev/sda3 swap swap pri=5,nofail 0 0\n");
    const Planned planned(root);
    EXPECT_EQ(planned.unit("srv.mount").value("Mount", "What"), "tmpfs");
    EXPECT_EQ(planned.unit("srv.mount").value("Mount", "Options"), "size=1m");
    EXPECT_EQ(planned.store->find("dev-sdq1.device"), nullptr);
    EXPECT_TRUE(planned.unit("swap.target").has_tie(UnitTie::Requires, "dev-sda3.swap"));
    EXPECT_EQ(planned.unit("dev-sda3.swap").value("Swap", "Options"), "sw");
}

TEST(UnitGenerators, TakeOldScripts) {
    UnitRoot root;
    root.files.file("/etc/init.d/stove",
                    "#!/bin/sh\n### BEGIN INIT INFO\n# Provides: stove heating\n# Required-Start: $remote_fs wood\n"
                    "### END INIT INFO\n",
                    0755);
    root.files.link("/etc/rc2.d/S03stove", "../init.d/stove");
    root.files.file("/etc/init.d/cook", "#!/bin/sh\n", 0755);
    root.wanted("cook.service", service);
    const Planned planned(root);
    EXPECT_TRUE(planned.starts("stove.service"));
    EXPECT_TRUE(planned.unit("stove.service").has_tie(UnitTie::After, "wood.service"));
    EXPECT_TRUE(planned.unit("stove.service").has_tie(UnitTie::After, "remote-fs.target"));
    EXPECT_EQ(planned.unit("heating.service").name, "stove.service");
    EXPECT_EQ(planned.unit("cook.service").fragment, etc + "cook.service") << "a unit hides the script";
}

/// A script's name becomes a unit's: what may not stand there becomes "_" (sysv-generator, sysv_translate_name).
TEST(UnitGenerators, NamesOfOldScripts) {
    for (const auto& [script, unit] : {std::pair{"az:-_.@AZ09", "az:-_.@AZ09.service"},
                                       {"a`z", "a_z.service"},
                                       {"a{z", "a_z.service"},
                                       {"A[Z", "A_Z.service"},
                                       {"0;9", "0_9.service"},
                                       {"stove.sh", "stove.service"},
                                       {"stove.sh.sh", "stove.sh.service"},
                                       {"st ove", "st_ove.service"},
                                       {"s,t", "s_t.service"}}) {
        UnitRoot root;
        const std::string name = script;
        root.files.file("/etc/init.d/" + name,
                        "#!/bin/sh\n### BEGIN INIT INFO\n# Provides: " + name + "\n### END INIT INFO\n", 0755);
        root.files.link("/etc/rc2.d/S03" + name, "../init.d/" + name);
        const Planned planned(root);
        EXPECT_TRUE(planned.starts(unit)) << script;
    }
}

TEST(UnitGenerators, OpenEncryptedVolumes) {
    UnitRoot root;
    root.file("/usr/lib/systemd/system/cryptsetup.target", "[Unit]\n")
        .wanted("cryptsetup.target", "", "wants", "sysinit.target");
    root.file("/etc/crypttab",
              "# cellar\nwine /dev/sda7 none luks\ncheese /dev/sda8 /etc/key luks,nofail\nham /dev/sda9 none noauto\n");
    const Planned planned(root);
    EXPECT_TRUE(planned.unit("cryptsetup.target").has_tie(UnitTie::Requires, "systemd-cryptsetup@wine.service"));
    EXPECT_TRUE(planned.unit("cryptsetup.target").has_tie(UnitTie::Wants, "systemd-cryptsetup@cheese.service"));
    EXPECT_TRUE(planned.unit("systemd-cryptsetup@wine.service").has_tie(UnitTie::BindsTo, "dev-sda7.device"));
    EXPECT_EQ(planned.store->find("systemd-cryptsetup@ham.service"), nullptr);
    // A start waits for ever for what it needs, for somebody may have to type a passphrase (cryptsetup-generator.c).
    UnitStore store(*planned.machine.volume(1, 0), planned.line);
    for (const auto& [name, for_ever] : {std::pair{"wine", true}, {"cheese", false}, {"ham", false}}) {
        const auto& device = store.load(fmt::format("dev-mapper-{}.device", name));
        EXPECT_EQ(device.value("Unit", "JobTimeoutSec"), for_ever ? std::optional<std::string>("0") : std::nullopt)
            << name;
        EXPECT_TRUE(device.has_tie(UnitTie::Requires, fmt::format("systemd-cryptsetup@{}.service", name))) << name;
    }
}

// --- what becomes of it ---------------------------------------------------------------------------------------------

TEST(UnitOutcomes, OfPrograms) {
    struct Row {
        const char* text;
        UnitOutcome::Kind kind;
        const char* why;
    };
    const Row rows[] = {
        {"[Service]\nExecStart=/bin/true\n", UnitOutcome::Kind::Starts, ""},
        {"[Service]\nExecStart=-/bin/none\n", UnitOutcome::Kind::Starts, ""},
        {"[Service]\nType=oneshot\nExecStart=/bin/none\n", UnitOutcome::Kind::Fails, "/bin/none cannot run: "},
        {"[Service]\nType=oneshot\nExecStart=none\n", UnitOutcome::Kind::Fails,
         "none is in none of the folders for programs"},
        {"[Service]\nExecStartPre=/bin/none\nExecStart=/bin/true\n", UnitOutcome::Kind::Fails,
         "/bin/none cannot run: "},
        // The one program of which it is known how it ends.
        {"[Service]\nType=oneshot\nExecStart=/bin/false\n", UnitOutcome::Kind::Fails,
         "/bin/false does nothing but fail"},
        {"[Service]\nType=oneshot\nExecStart=false now\n", UnitOutcome::Kind::Fails,
         "/usr/bin/false does nothing but fail"},
        {"[Service]\nType=oneshot\nExecStart=-/bin/false\n", UnitOutcome::Kind::Starts, ""},
        {"[Service]\nType=oneshot\nSuccessExitStatus=2 1\nExecStart=/bin/false\n", UnitOutcome::Kind::Starts, ""},
        {"[Service]\nType=oneshot\nSuccessExitStatus=11\nExecStart=/bin/false\n", UnitOutcome::Kind::Fails,
         "/bin/false does nothing but fail"},
        {"[Service]\nExecStart=/bin/false\n", UnitOutcome::Kind::Fails,
         "/bin/false does nothing but fail (the start goes on at once: systemd does not wait for it)"},
        {"[Service]\nExecCondition=/bin/false\nExecStart=/bin/true\n", UnitOutcome::Kind::Skipped,
         "/bin/false does nothing but fail"},
        {"[Service]\nEnvironmentFile=/etc/none\nExecStart=/bin/true\n", UnitOutcome::Kind::Fails,
         "its /etc/none is not there"},
        {"[Service]\nEnvironmentFile=-/etc/none\nExecStart=/bin/true\n", UnitOutcome::Kind::Starts, ""},
        {"[Unit]\nConditionPathExists=/etc/none\n[Service]\nExecStart=/bin/none\n", UnitOutcome::Kind::Skipped,
         "ConditionPathExists=/etc/none"},
        {"[Unit]\nConditionPathExists=!/etc/none\n[Service]\nExecStart=/bin/true\n", UnitOutcome::Kind::Starts, ""},
        {"[Unit]\nConditionPathExists=|/etc/none\nConditionPathExists=|/bin/true\n[Service]\nExecStart=/bin/true\n",
         UnitOutcome::Kind::Starts, ""},
        {"[Unit]\nConditionKernelCommandLine=ski\n[Service]\nExecStart=/bin/true\n", UnitOutcome::Kind::Skipped,
         "ConditionKernelCommandLine=ski"},
        {"[Unit]\nConditionKernelCommandLine=lift\n[Service]\nExecStart=/bin/true\n", UnitOutcome::Kind::Starts, ""},
        {"[Unit]\nConditionVirtualization=vm\n[Service]\nType=oneshot\nExecStart=/bin/none\n",
         UnitOutcome::Kind::Untold, "/bin/none cannot run: "},
        {"[Unit]\nAssertPathExists=/etc/none\n[Service]\nExecStart=/bin/true\n", UnitOutcome::Kind::Fails,
         "it asserts AssertPathExists=/etc/none"},
        {"[Service]\nType=oneshot\nExecStart=/run/made/later\n", UnitOutcome::Kind::Starts, ""},
    };
    for (const auto& row : rows) {
        UnitRoot root;
        root.wanted("inn.service", row.text);
        const Planned planned(root, "multi-user.target", "lift=2");
        EXPECT_EQ(planned.of("inn.service").kind, row.kind) << row.text << planned.of("inn.service").text;
        EXPECT_TRUE(planned.of("inn.service").text.starts_with(row.why)) << row.text << planned.of("inn.service").text;
        EXPECT_FALSE(planned.outcome.breaks) << row.text << " the target only wants it";
        EXPECT_EQ(planned.outcome.findings.empty(), row.kind != UnitOutcome::Kind::Fails) << row.text;
    }
}

/// As whom and where a service runs: exec_child() gives up before it comes to the program.
TEST(UnitOutcomes, OfAccountsAndFolders) {
    struct Row {
        const char* setting;
        UnitOutcome::Kind kind;
        const char* why;
        const char* command = "/bin/true";
    };
    using Kind = UnitOutcome::Kind;
    const Row rows[] = {
        {"User=reto", Kind::Starts, ""},
        {"User=7", Kind::Starts, "", "/bin/true"},
        {"User=root", Kind::Starts, ""},
        {"User=ret", Kind::Fails, "its account ret is not in /etc/passwd"},
        {"User=ret", Kind::Starts, "", "-/bin/true"},
        {"User=ret", Kind::Fails, "its account ret is not in /etc/passwd", "+/bin/true"},
        {"User=ret\nUser=", Kind::Starts, ""},
        {"User=ret\nDynamicUser=yes", Kind::Starts, ""},
        {"User=ret\nRootDirectory=/srv", Kind::Starts, ""},
        {"User=%i", Kind::Starts, ""},
        {"User=made-later", Kind::Starts, ""},
        {"Group=guides", Kind::Starts, ""},
        {"Group=reto", Kind::Fails, "its group reto is not in /etc/group"},
        {"SupplementaryGroups=guides cooks", Kind::Fails, "its group cooks is not in /etc/group"},
        {"WorkingDirectory=/etc", Kind::Starts, ""},
        {"WorkingDirectory=/etc/passwd", Kind::Fails, "the folder /etc/passwd that it works in is no folder"},
        {"WorkingDirectory=/srv/huts", Kind::Fails, "the folder /srv/huts that it works in is not there"},
        {"WorkingDirectory=-/srv/huts", Kind::Starts, ""},
        {"WorkingDirectory=~", Kind::Starts, ""},
        {"WorkingDirectory=/run/huts", Kind::Starts, ""},
        {"WorkingDirectory=/var/lib/huts\nStateDirectory=huts", Kind::Starts, ""},
        {"WorkingDirectory=/var/lib/made", Kind::Starts, ""},
    };
    for (const auto& row : rows) {
        UnitRoot root;
        root.file("/etc/passwd", "root:x:0:0::/root:/bin/sh\nreto:x:1000:1000::/home/reto:/bin/sh\n");
        root.file("/etc/group", "root:x:0:\nguides:x:50:reto\n").file("/etc/nsswitch.conf", "passwd: files systemd\n");
        root.file("/usr/lib/sysusers.d/inn.conf", "u made-later - \"\"\n");
        root.file("/usr/lib/tmpfiles.d/inn.conf", "d /var/lib/made 0755 root root\n");
        root.wanted("inn.service",
                    std::string("[Service]\nType=oneshot\n") + row.setting + "\nExecStart=" + row.command + "\n",
                    "requires");
        const Planned planned(root);
        const auto& outcome = planned.of("inn.service");
        EXPECT_EQ(outcome.kind, row.kind) << row.setting << ": " << outcome.text;
        EXPECT_EQ(outcome.text, row.why) << row.setting;
        EXPECT_EQ(planned.outcome.breaks.has_value(), row.kind == Kind::Fails) << row.setting;
        if (row.kind == Kind::Fails) {
            EXPECT_EQ(outcome.evidence.front().place, "d1:/etc/systemd/system/inn.service");
            EXPECT_EQ(outcome.evidence.front().line, 3);
        }
    }
    // Where others than files tell accounts, one that is not in them may be known.
    UnitRoot directory;
    directory.file("/etc/nsswitch.conf", "# the inn's own\npasswd: files [NOTFOUND=continue] sss\n");
    directory.wanted("inn.service", "[Service]\nType=oneshot\nUser=ret\nExecStart=/bin/true\n", "requires");
    EXPECT_EQ(Planned(directory).of("inn.service").kind, Kind::Starts);
}

/// Any failure of it but 255 passes the unit over (systemd.service(5), ExecCondition=).
TEST(UnitOutcomes, AnExecConditionThatCannotRunIsNoFailure) {
    UnitRoot root;
    root.wanted("inn.service", "[Service]\nType=oneshot\nExecCondition=/bin/none\nExecStart=/bin/true\n", "requires");
    const Planned planned(root);
    EXPECT_EQ(planned.of("inn.service").kind, UnitOutcome::Kind::Skipped);
    EXPECT_TRUE(planned.of("inn.service").text.starts_with("/bin/none cannot run: "));
    EXPECT_FALSE(planned.outcome.breaks);
    EXPECT_TRUE(planned.outcome.findings.empty());
}

/// machine-id(5), "First Boot Semantics".
TEST(UnitOutcomes, OfTheFirstStart) {
    struct Row {
        const char* id;  ///< null: no such file
        const char* words;
        bool first;
    };
    const Row rows[] = {{nullptr, "", true},
                        {"", "", false},
                        {"\n", "", false},
                        {"uninitialized\n", "", true},
                        {"0123456789abcdef0123456789abcdef\n", "", false},
                        {nullptr, "systemd.condition-first-boot=no", false},
                        {"0123456789abcdef0123456789abcdef\n", "systemd.condition-first-boot", true},
                        {"", "systemd.condition-first-boot=1", true}};
    for (const auto& row : rows) {
        UnitRoot root;
        if (row.id != nullptr) root.file("/etc/machine-id", row.id);
        root.wanted("first.service", std::string("[Unit]\nConditionFirstBoot=yes\n") + service);
        root.wanted("later.service", std::string("[Unit]\nConditionFirstBoot=!yes\n") + service);
        const Planned planned(root, "multi-user.target", row.words);
        const auto skipped = [&](const char* unit) { return planned.of(unit).kind == UnitOutcome::Kind::Skipped; };
        EXPECT_EQ(skipped("first.service"), !row.first) << (row.id != nullptr ? row.id : "none") << row.words;
        EXPECT_EQ(skipped("later.service"), row.first) << (row.id != nullptr ? row.id : "none") << row.words;
    }
}

TEST(UnitOutcomes, AFailureDragsAlongWhatRequiresIt) {
    UnitRoot root;
    root.wanted("stove.service", "[Service]\nType=oneshot\nExecStart=/bin/none\n", "requires");
    root.wanted("soup.service", std::string("[Unit]\nRequires=stove.service\nAfter=stove.service\n") + service);
    root.wanted("guest.service", std::string("[Unit]\nRequires=stove.service\n") + service);
    const Planned planned(root);
    EXPECT_EQ(planned.of("stove.service").kind, UnitOutcome::Kind::Fails);
    EXPECT_EQ(planned.of("soup.service").kind, UnitOutcome::Kind::Dragged);
    EXPECT_EQ(planned.of("guest.service").kind, UnitOutcome::Kind::Starts) << "it does not wait";
    ASSERT_TRUE(planned.outcome.breaks);
    EXPECT_EQ(planned.outcome.breaks->code, Code::ServicesRequiredFails);
    EXPECT_TRUE(planned.outcome.breaks->text.starts_with("stove.service fails (/bin/none cannot run: "))
        << planned.outcome.breaks->text;
    EXPECT_TRUE(planned.outcome.breaks->text.ends_with("and with it multi-user.target"));
    EXPECT_EQ(planned.outcome.breaks->symptom,
              "Failed to start stove.service.\nDependency failed for multi-user.target.\n");
    // One that nobody waits for does not stop anything.
    UnitRoot simple;
    simple.wanted("stove.service", "[Service]\nExecStart=/bin/none\n", "requires");
    const Planned goes_on(simple);
    EXPECT_EQ(goes_on.of("stove.service").kind, UnitOutcome::Kind::Fails);
    EXPECT_FALSE(goes_on.outcome.breaks);
    EXPECT_EQ(goes_on.outcome.findings.at(0).code, Code::ServicesUnitFails);
}

TEST(UnitOutcomes, AMountUnitWithoutItsDeviceEndsInEmergencyMode) {
    UnitRoot root;
    root.wanted("srv.mount", "[Mount]\nWhat=/dev/disk/by-uuid/57a71000-0001-4a01-8a01-0000000000ff\nWhere=/srv\n",
                "requires", "local-fs.target");
    const Planned planned(root);
    ASSERT_TRUE(planned.outcome.breaks);
    EXPECT_EQ(planned.outcome.breaks->symptom,
              "Timed out waiting for device /dev/disk/by-uuid/57a71000-0001-4a01-8a01-0000000000ff.\n"
              "Dependency failed for srv.mount.\nDependency failed for local-fs.target.\nYou are in emergency mode.");
    EXPECT_EQ(planned.of("srv.mount").kind, UnitOutcome::Kind::Dragged);
    // One that it may do without.
    UnitRoot wanted;
    wanted.wanted("srv.mount", "[Mount]\nWhat=/dev/disk/by-uuid/57a71000-0001-4a01-8a01-0000000000ff\nWhere=/srv\n",
                  "wants", "local-fs.target");
    EXPECT_FALSE(Planned(wanted).outcome.breaks);
}

/// What lies on the device of a mount unit.
TEST(UnitOutcomes, AMountFailsByWhatItsVolumeHolds) {
    struct Row {
        const char* settings;
        std::function<void(Bytes&)> change;
        const char* text;  ///< empty: it is mounted
    };
    const auto none = [](Bytes&) {};
    const Row rows[] = {
        {"", none, ""},
        {"Type=ext4\nOptions=ro,noatime\n", none, ""},
        {"Type=vfat\n", none, "d2p1 holds ext4, and vfat is asked for"},
        {"", [](Bytes& b) { std::fill_n(b.begin() + 1024, 1024, std::uint8_t{7}); },
         "d2p1 holds no file system that could be mounted"},
        {"", [](Bytes& b) { forge::put32(b, 2048 + 64 + 8, 0x7FFFFFFF); }, "d2p1 cannot be mounted: "},
        // Recognised, and not read: nothing is said.
        {"",
         [](Bytes& b) {
             std::fill_n(b.begin() + 1024, 1024, std::uint8_t{0});
             const std::string mark = "ReIsEr2Fs";
             std::copy(mark.begin(), mark.end(), b.begin() + 65536 + 52);
         },
         ""},
    };
    for (const auto& row : rows) {
        UnitRoot root;
        root.wanted("srv.mount", std::string("[Mount]\nWhat=/dev/sdb1\nWhere=/srv\n") + row.settings, "requires",
                    "local-fs.target");
        forge::ExtOptions options;
        options.metadata_csum = false;
        Bytes second = forge::make_ext({}, options);
        row.change(second);
        forge::DiskSpec disk;
        disk.partitions.push_back({2048, std::move(second), 0x83, false});
        const auto machine = support::machine_of_disks({forge::make_ext(root.files, {}), forge::make_disk(disk)});
        const auto volume = machine.volume(1, 0);
        const CommandLine line("");
        UnitStore store(*volume, line, &machine);
        const auto plan = plan_boot(store, "multi-user.target");
        const auto outcome = follow_start(machine, *volume, line, store, plan, Processor::X86);
        const auto found = std::ranges::find(outcome.units, "srv.mount", &UnitOutcome::unit);
        ASSERT_NE(found, outcome.units.end());
        EXPECT_EQ(found->kind, *row.text == 0 ? UnitOutcome::Kind::Starts : UnitOutcome::Kind::Fails)
            << row.settings << found->text;
        EXPECT_TRUE(found->text.starts_with(row.text)) << found->text;
        EXPECT_EQ(outcome.breaks.has_value(), *row.text != 0);
        if (!outcome.breaks) continue;
        EXPECT_EQ(outcome.breaks->code, Code::ServicesRequiredFails);
        EXPECT_EQ(outcome.breaks->symptom,
                  "Failed to mount srv.mount.\nDependency failed for local-fs.target.\nYou are in emergency mode.");
    }
}

/// Hostile roots: the walk ends.
TEST(UnitPlan, HasBounds) {
    UnitRoot root;
    std::string many = "[Unit]\nWants=";
    for (int i = 0; i < 6000; ++i) many += "u" + std::to_string(i) + ".service ";
    root.wanted("inn.service", many + "\n" + service);
    const Planned planned(root);
    EXPECT_EQ(planned.unit("u5999.service").load, UnitLoad::Unreadable);
    UnitRoot ring;
    ring.wanted("ring.service", "").files.link(etc + "ring.service", "ring2.service");
    ring.files.link(etc + "ring2.service", "ring.service");
    EXPECT_EQ(Planned(ring).unit("ring.service").load, UnitLoad::NotFound);
    EXPECT_TRUE(std::ranges::any_of(planned.store->findings(), [](const Finding& f) {
        return f.code == Code::ServicesUnitsUnreadable && f.text.starts_with("there are more than 5000 units");
    }));
}

}  // namespace
