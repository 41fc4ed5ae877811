// SPDX-License-Identifier: MIT
// Two machines beside each other, along the way of a start.
#include <algorithm>
#include <nlohmann/json.hpp>

#include "cellar.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "reception.hpp"
#include "remedy/differences.hpp"
#include "support.hpp"

using namespace herberge;
using forge::Bytes;
using support::Folder;
using support::machine_of;

namespace {

Bytes front_desk(const std::string& name) {
    for (const auto& story : demo::front_desk_disks())
        if (story.name == name) return story.make();
    return {};
}
Bytes office_pc(const std::string& name) {
    for (const auto& story : demo::office_pc_disks())
        if (story.name == name) return story.make();
    return {};
}
Comparison compared(Bytes before, Bytes after) {
    return compare_machines(machine_of(std::move(before)), {}, machine_of(std::move(after)), {});
}
/// "partition-table changed d1p1 table entry [decides]" for each, in order.
std::vector<std::string> told(const Comparison& all) {
    std::vector<std::string> out;
    for (const auto& one : all.differences)
        out.push_back(std::string(stage_id(one.stage)) + " " + std::string(difference_id(one.kind)) + " " + one.place +
                      " " + one.what +
                      (one.decides    ? " [decides]"
                       : one.explains ? " [explains]"
                                      : ""));
    return out;
}
const Difference* find(const Comparison& all, const std::string& what) {
    const auto found = std::ranges::find(all.differences, what, &Difference::what);
    return found == all.differences.end() ? nullptr : &*found;
}
using Told = std::vector<std::string>;

TEST(Compare, AMachineIsAsItself) {
    const auto all = compared(front_desk("healthy.img"), front_desk("healthy.img"));
    EXPECT_TRUE(all.alike());
    EXPECT_EQ(told(all), Told{});
}

TEST(Compare, WhatNoStartLooksAtIsNoDifference) {
    auto desk = demo::front_desk();
    desk.root.file("/srv/guest-list.txt", forge::to_bytes("nobody yet\n"));
    const auto one = desk.build();
    desk.root.file("/srv/guest-list.txt", forge::to_bytes("Frau Amsel\n"));
    EXPECT_TRUE(compared(one, desk.build()).alike());
}

struct Harm {
    const char* name;
    void (*change)(Bytes&);
    Told told;
    const char* before;  ///< of the first difference
    const char* after;
};
std::ostream& operator<<(std::ostream& out, const Harm& harm) { return out << harm.name; }

class Harmed : public testing::TestWithParam<Harm> {};

TEST_P(Harmed, IsToldWithWhatDecidesFirst) {
    auto image = front_desk("healthy.img");
    GetParam().change(image);
    const auto all = compared(front_desk("healthy.img"), image);
    EXPECT_EQ(told(all), GetParam().told);
    ASSERT_FALSE(all.differences.empty());
    EXPECT_EQ(all.differences.front().before, GetParam().before);
    EXPECT_EQ(all.differences.front().after, GetParam().after);
    // The other way round the same things differ, with the values exchanged.
    const auto back = compared(image, front_desk("healthy.img"));
    ASSERT_FALSE(back.differences.empty());
    const auto* same = find(back, all.differences.front().what);
    ASSERT_NE(same, nullptr);
    if (all.differences.front().after.find("other bytes") == std::string::npos) {
        EXPECT_EQ(same->before, GetParam().after);
        EXPECT_EQ(same->after, GetParam().before);
    }
}

INSTANTIATE_TEST_SUITE_P(Tables, Harmed,
                         testing::Values(Harm{"signature",
                                              [](Bytes& b) { b[511] = 0; },
                                              {"firmware changed d1 boot signature (byte 510) [decides]",
                                               "partition-table changed d1 kind of table [decides]"},
                                              "55 aa",
                                              "not there"},
                                         Harm{"moved",
                                              [](Bytes& b) { b[446 + 8] = 1; },
                                              {"partition-table changed d1p1 table entry [decides]",
                                               "root changed d1p1 holds"},
                                              "sectors 2048 to 26623 (12.0 MiB), type 83, active",
                                              "sectors 2049 to 26624 (12.0 MiB), type 83, active"},
                                         Harm{"status",
                                              [](Bytes& b) { b[446] = 0x42; },
                                              {"partition-table changed d1p1 table entry [decides]"},
                                              "sectors 2048 to 26623 (12.0 MiB), type 83, active",
                                              "sectors 2048 to 26623 (12.0 MiB), type 83, status 42"},
                                         Harm{"disk_signature",
                                              [](Bytes& b) { b[440] ^= 0xFFU; },
                                              {"partition-table changed d1 disk signature"},
                                              "a1a10f01",
                                              "a1a10ffe"},
                                         Harm{"code",
                                              [](Bytes& b) { std::fill_n(b.begin(), 440, std::uint8_t{0}); },
                                              {"boot-code changed d1 code in the first sector [decides]"},
                                              "first sector with a partition table and GRUB 2 boot code",
                                              "first sector with a partition table"},
                                         Harm{"core",
                                              [](Bytes& b) { std::fill_n(b.begin() + 512, 512, std::uint8_t{0}); },
                                              {"loader changed d1@512+512 sectors that the start reads [decides]"},
                                              "first sector of GRUB 2's core image",
                                              "zeros"}),
                         support::by_name);

TEST(Compare, AMissingKernelIsWhatDecides) {
    const auto all = compared(front_desk("healthy.img"), front_desk("wrong-kernel.img"));
    EXPECT_EQ(
        told(all),
        (Told{"kernel removed d1p1:/boot/vmlinuz-6.1.0-almhof file [decides]",
              "entry changed d1p1:/boot/grub/grub.cfg entry “Almhof front desk”: state [explains]",
              "entry changed d1p1:/boot/grub/grub.cfg entry “Almhof front desk, single user”: state [explains]"}));
    ASSERT_EQ(all.systems.size(), 1U);
    EXPECT_EQ(all.systems.front().turn, Turn::Worse);
}

TEST(Compare, AProgramIsPutBackWithItsPermissions) {
    const auto all = compared(front_desk("healthy.img"), front_desk("no-init.img"));
    EXPECT_EQ(told(all), Told{"init removed d1p1:/sbin/init file [decides]"});
}

TEST(Compare, PermissionsAloneAreADifference) {
    auto desk = demo::front_desk();
    desk.root.at("/usr/bin/busybox").mode = 0100644;
    const auto all = compared(front_desk("healthy.img"), desk.build());
    ASSERT_FALSE(all.differences.empty());
    EXPECT_EQ(told(all).front(), "init changed d1p1:/usr/bin/busybox permissions [decides]");
    EXPECT_EQ(all.differences.front().before, "0755");
    EXPECT_EQ(all.differences.front().after, "0644");
}

TEST(Compare, ConfigurationsByTheirLinesAndTheirMeaning) {
    auto desk = demo::front_desk();
    support::edit(desk.root, "/boot/grub/grub.cfg", "set timeout=3", "set timeout=9");
    support::edit(desk.root, "/boot/grub/grub.cfg", " ro quiet", " ro quiet single");
    const auto all = compared(front_desk("healthy.img"), desk.build());
    EXPECT_TRUE(std::ranges::all_of(all.systems, [](const SystemTurn& one) { return one.turn == Turn::Same; }));
    EXPECT_FALSE(all.alike());
    const auto* content = find(all, "content");
    ASSERT_NE(content, nullptr);
    EXPECT_EQ(content->place, "d1p1:/boot/grub/grub.cfg");
    EXPECT_NE(std::ranges::find(content->details, "- set timeout=3"), content->details.end());
    EXPECT_NE(std::ranges::find(content->details, "+ set timeout=9"), content->details.end());
    const auto* wait = find(all, "time-out");
    ASSERT_NE(wait, nullptr);
    EXPECT_EQ(wait->before + "|" + wait->after, "3 s|9 s");
    const auto* arguments = find(all, "entry “Almhof front desk”: arguments");
    ASSERT_NE(arguments, nullptr);
    EXPECT_TRUE(arguments->after.ends_with(" ro quiet single"));
}

TEST(Compare, RamDisksByTheirMembers) {
    const auto all = compared(front_desk("healthy.img"), front_desk("cut-ramdisk.img"));
    ASSERT_EQ(all.differences.size(), 1U);
    const auto& one = all.differences.front();
    EXPECT_EQ(told(all).front(), "ramdisk changed d1p1:/boot/initrd.img-6.1.0-almhof content [decides]");
    EXPECT_EQ(one.before, "27 files, 6 modules, made by initramfs-tools");
    EXPECT_EQ(one.after, "2 files, 0 modules, damaged: the gzip data is cut off");
    EXPECT_EQ(one.details.front(), "- module ahci");
    EXPECT_EQ(one.details.size(), 24U);
    EXPECT_EQ(one.details.back(), "and 9 more");
}

TEST(Compare, WindowsByItsRegistryItsStoreAndWhatItStarts) {
    auto all = compared(office_pc("office-pc.img"), office_pc("office-pc-ahci-off.img"));
    EXPECT_EQ(told(all), (Told{"kernel changed d1p2:/Windows/System32/config/SYSTEM content [decides]",
                               "services removed d1p2:/Windows boot driver storahci"}));
    EXPECT_EQ(all.differences.front().details, (Told{"- ControlSet001\\Services\\storahci\\Start = 0",
                                                     "+ ControlSet001\\Services\\storahci\\Start = 4"}));
    all = compared(office_pc("office-pc.img"), office_pc("office-pc-cloned.img"));
    EXPECT_EQ(told(all).front(), "partition-table changed d1 disk signature [decides]");
    all = compared(office_pc("office-pc.img"), office_pc("office-pc-no-store.img"));
    EXPECT_EQ(told(all), (Told{"configuration removed d1p1:/Boot/BCD file [decides]",
                               "configuration removed d1p1:/Boot/BCD menu [decides]"}));
}

/// Values of the registry as texts, numbers or bytes, by their type; long ones are cut.
TEST(Compare, ValuesOfTheRegistryByTheirType) {
    auto other = demo::office_pc();
    const std::string bell = "ControlSet001\\Services\\bell\\";
    auto& key = other.system_hive.child("ControlSet001\\Services\\bell");
    key.text("Plain", "rings", 1).text("Expanded", "%SystemRoot%\\bell", 2).number("Count", 3);
    key.bytes("Raw", {0xA1, 0xB0}).text("Whole", std::string(120, 'w')).text("Long", std::string(121, 'w'));
    const auto all = compared(demo::office_pc().build(), other.build());
    const auto* content = find(all, "content");
    ASSERT_NE(content, nullptr);
    auto lines = content->details;
    std::ranges::sort(lines);
    EXPECT_EQ(lines, (Told{"+ " + bell + "Count = 3", "+ " + bell + "Expanded = %SystemRoot%\\bell",
                           "+ " + bell + "Long = " + std::string(120, 'w') + "…", "+ " + bell + "Plain = rings",
                           "+ " + bell + "Raw = a1b0", "+ " + bell + "Whole = " + std::string(120, 'w')}));
}

/// What an entry of the boot store starts, and from where.
TEST(Compare, AWindowsEntryByItsDeviceAndItsDirectory) {
    const std::string elements = "Objects\\{0a1b0f00-0000-4000-8000-00000000c001}\\Elements\\";
    auto moved = demo::office_pc();
    moved.store.child(elements + "22000002").text("Element", "\\Winter");
    auto all = compared(demo::office_pc().build(), moved.build());
    const auto* directory = find(all, "entry “Almhof Window Workplace”: system's directory");
    ASSERT_NE(directory, nullptr);
    EXPECT_EQ(directory->stage, Stage::Entry);
    EXPECT_EQ(directory->before, "/Windows");
    EXPECT_EQ(directory->after, "/Winter");
    EXPECT_EQ(find(all, "entry “Almhof Window Workplace”: system's device"), nullptr);
    auto elsewhere = demo::office_pc();
    elsewhere.store.child(elements + "21000001")
        .bytes("Element", forge::partition_device(63 * 512, elsewhere.disk_signature));
    all = compared(demo::office_pc().build(), elsewhere.build());
    const auto* device = find(all, "entry “Almhof Window Workplace”: system's device");
    ASSERT_NE(device, nullptr);
    EXPECT_NE(device->before, device->after);
    EXPECT_EQ(find(all, "entry “Almhof Window Workplace”: system's directory"), nullptr);
}

/// A change to what a Linux starts, with which every verdict stays as it was.
struct OtherStart {
    const char* name;
    demo::FrontDesk (*machine)();
    void (*change)(demo::FrontDesk&);
    Told told;
    Told values;  ///< "was|is" of each, of contents without their digests
};
std::ostream& operator<<(std::ostream& out, const OtherStart& one) { return out << one.name; }

class StartsOtherwise : public testing::TestWithParam<OtherStart> {};

TEST_P(StartsOtherwise, IsTold) {
    const auto& row = GetParam();
    auto desk = row.machine();
    row.change(desk);
    const auto all = compared(row.machine().build(), desk.build());
    EXPECT_TRUE(std::ranges::all_of(all.systems, [](const SystemTurn& one) { return one.turn == Turn::Same; }));
    EXPECT_FALSE(all.alike());
    EXPECT_EQ(told(all), row.told);
    Told values;
    for (const auto& one : all.differences)
        values.push_back(one.before.substr(0, one.before.find(", SHA")) + "|" +
                         one.after.substr(0, one.after.find(", SHA")));
    EXPECT_EQ(values, row.values);
    for (const auto& one : all.differences)
        if (one.what == "file") {
            const auto* sign = one.kind == DifferenceKind::Added ? "+ " : "- ";
            EXPECT_FALSE(one.details.empty());
            EXPECT_TRUE(std::ranges::all_of(one.details, [&](const auto& line) { return line.starts_with(sign); }));
        }
    // The other way round: the same, with the values exchanged.
    const auto back = compared(desk.build(), row.machine().build());
    ASSERT_EQ(back.differences.size(), all.differences.size());
    for (std::size_t i = 0; i < all.differences.size(); ++i) {
        EXPECT_EQ(back.differences[i].what, all.differences[i].what);
        EXPECT_EQ(back.differences[i].before, all.differences[i].after);
        EXPECT_EQ(back.differences[i].after, all.differences[i].before);
    }
}

const std::string units = "/usr/lib/systemd/system/";
const std::string own_units = "/etc/systemd/system/";

INSTANTIATE_TEST_SUITE_P(
    Linux, StartsOtherwise,
    testing::Values(
        OtherStart{
            "remark",
            demo::reception,
            [](demo::FrontDesk& d) { support::edit(d.root, units + "bell.service", "[Unit]", "# rings\n[Unit]"); },
            {"services changed d1p1:/usr/lib/systemd/system/bell.service content"},
            {"7 lines|8 lines"}},
        OtherStart{"command",
                   demo::reception,
                   [](demo::FrontDesk& d) {
                       support::edit(d.root, units + "bell.service", "/usr/bin/bell", "/usr/bin/bell --twice");
                   },
                   {"services changed d1p1:/usr/lib/systemd/system/bell.service content",
                    "services changed d1p1 bell.service"},
                   {"120 bytes|128 bytes", "/usr/bin/bell|/usr/bin/bell --twice"}},
        OtherStart{"drop_in",
                   demo::reception,
                   [](demo::FrontDesk& d) {
                       d.root.file(own_units + "bell.service.d/quiet.conf",
                                   "[Service]\nExecStart=\nExecStart=/usr/bin/lamps off\n");
                   },
                   {"services added d1p1:/etc/systemd/system/bell.service.d/quiet.conf file",
                    "services changed d1p1 bell.service"},
                   {"|50 bytes", "/usr/bin/bell|/usr/bin/lamps off"}},
        OtherStart{"condition",
                   demo::reception,
                   [](demo::FrontDesk& d) { d.root.file("/etc/ski-pass.conf", "lift=yes\n"); },
                   {"services changed d1p1 ski-pass.service"},
                   {"/usr/bin/ski-pass, passed over: ConditionPathExists=/etc/ski-pass.conf|/usr/bin/ski-pass"}},
        OtherStart{"masked",
                   demo::reception,
                   [](demo::FrontDesk& d) { d.root.link(own_units + "bell.service", "/dev/null"); },
                   {"services removed d1p1 bell.service"},
                   {"/usr/bin/bell|"}},
        OtherStart{"program",
                   demo::reception,
                   [](demo::FrontDesk& d) {
                       auto program = forge::make_program();
                       program.push_back(0);
                       d.root.file("/usr/bin/bell", program, 0755);
                   },
                   {"services changed d1p1:/usr/bin/bell content"},
                   {"129 bytes|130 bytes"}},
        OtherStart{"mounts",
                   demo::reception,
                   [](demo::FrontDesk& d) { support::edit(d.root, "/etc/fstab", "UUID", "# by hand\nUUID"); },
                   {"services changed d1p1:/etc/fstab content"},
                   {"3 lines|5 lines"}},
        OtherStart{"target",
                   demo::reception,
                   [](demo::FrontDesk& d) { d.root.link(own_units + "default.target", units + "multi-user.target"); },
                   {"services changed d1p1 target", "services removed d1p1 graphical.target",
                    "services added d1p1 multi-user.target"},
                   {"graphical.target (default.target)|multi-user.target (default.target)", "started|", "|started"}},
        OtherStart{"level",
                   demo::kitchen,
                   [](demo::FrontDesk& d) { support::edit(d.root, "/etc/inittab", "id:2:", "id:3:"); },
                   {"services changed d1p1:/etc/inittab content", "services changed d1p1 run level",
                    "services removed d1p1 run level 2: S01wood", "services removed d1p1 run level 2: S02stove",
                    "services removed d1p1 run level 2: S03dishes", "services removed d1p1 run level 2: l2",
                    "services added d1p1 run level 3: S01wood", "services added d1p1 run level 3: S02oven-timer",
                    "services added d1p1 run level 3: S02stove", "services added d1p1 run level 3: S03dishes",
                    "services added d1p1 run level 3: S04dinner", "services added d1p1 run level 3: l3"},
                   {"268 bytes|268 bytes", "2|3", "/etc/rc2.d/S01wood start|", "/etc/rc2.d/S02stove start|",
                    "/etc/rc2.d/S03dishes start|", "/etc/init.d/rc 2|", "|/etc/rc3.d/S01wood start",
                    "|/etc/rc3.d/S02oven-timer start", "|/etc/rc3.d/S02stove start", "|/etc/rc3.d/S03dishes start",
                    "|/etc/rc3.d/S04dinner start", "|/etc/init.d/rc 3"}},
        OtherStart{"script",
                   demo::kitchen,
                   [](demo::FrontDesk& d) { d.root.remove("/etc/rc2.d/S03dishes"); },
                   {"services removed d1p1:/etc/rc2.d/S03dishes file", "services removed d1p1 run level 2: S03dishes"},
                   {"19 bytes|", "/etc/rc2.d/S03dishes start|"}},
        OtherStart{"scripts_text",
                   demo::kitchen,
                   [](demo::FrontDesk& d) { d.root.file("/etc/init.d/stove", "#!/bin/sh\nlight\n", 0755); },
                   {"services changed d1p1:/etc/rc2.d/S02stove content"},
                   {"18 bytes|16 bytes"}}),
    support::by_name);

TEST(Compare, AnInitThatIsGoneIsNotToldAgainByAllThatItStarts) {
    auto desk = demo::reception();
    desk.root.remove("/usr/lib/systemd/systemd");
    EXPECT_EQ(told(compared(demo::reception().build(), desk.build())),
              (Told{"init removed d1p1:/usr/lib/systemd/systemd file [decides]",
                    "init removed d1p1:/sbin/init file [explains]"}));
}

TEST(Compare, VariablesOfTheFirmware) {
    const auto stories = demo::kiosk_stories();
    const auto sound = std::ranges::find(stories, std::string("kiosk"), &demo::KioskStory::name);
    const auto gone = std::ranges::find(stories, std::string("kiosk-gone"), &demo::KioskStory::name);
    ASSERT_TRUE(sound != stories.end() && gone != stories.end());
    const auto options = [](const demo::KioskStory& story) {
        CheckOptions out;
        out.firmware = FirmwareKind::Uefi;
        out.variables = *parse_uefi_flash(story.variables(story.disk()));
        out.variables.source = "kiosk.fd";
        return out;
    };
    const auto all =
        compare_machines(machine_of(sound->disk()), options(*sound), machine_of(gone->disk()), options(*gone));
    EXPECT_EQ(told(all), (Told{"firmware removed d1p1:/EFI/BOOT/BOOTX64.EFI file [decides]",
                               "firmware changed  variable Boot0004 [decides]"}));
    EXPECT_TRUE(all.differences[1].after.find("0ff1ce00-dead-4000-8000-000000000001") != std::string::npos);
}

TEST(Compare, ALayersNameAndADiskLess) {
    const auto cellars = demo::cellar_disks();
    const auto named = [&](const std::string& name) {
        return std::ranges::find(cellars, name, &demo::Story::name)->make();
    };
    auto all = compared(named("cellar.img"), named("cellar-renamed.img"));
    const auto lines = told(all);
    EXPECT_NE(std::ranges::find(lines, "root removed lvm/inn/root holds [explains]"), lines.end());
    const auto one = support::machine_of_disks({front_desk("healthy.img"), front_desk("healthy.img")});
    all = compare_machines(one, {}, machine_of(front_desk("healthy.img")), {});
    EXPECT_EQ(told(all).size(), 1U);
    EXPECT_EQ(all.differences.front().what, "disk");
    EXPECT_EQ(all.differences.front().place, "d2");
    EXPECT_EQ(all.differences.front().before, "16.0 MiB, first sector with a partition table and GRUB 2 boot code");
}

TEST(DifferingLines, TheFewestInTheirOrder) {
    using remedy::differing_lines;
    EXPECT_EQ(differing_lines({"a", "b", "c"}, {"a", "b", "c"}), Told{});
    EXPECT_EQ(differing_lines({"a", "b", "c"}, {"a", "c"}), Told{"- b"});
    EXPECT_EQ(differing_lines({}, {"a"}), Told{"+ a"});
    EXPECT_EQ(differing_lines({"a", "x", "b", "y", "c"}, {"a", "b", "z", "c"}), (Told{"- x", "- y", "+ z"}));
    const Told many(24, "q");
    EXPECT_EQ(differing_lines({}, many).size(), 24U);
    const Told more(25, "q");
    EXPECT_EQ(differing_lines({}, more).back(), "and 2 more");
    EXPECT_EQ(differing_lines(Told(1501, "a"), Told(1501, "b")), Told{"more than 1500 lines differ"});
}

TEST(LinesOfShort, AreThoseOfATextWithinItsBounds) {
    using remedy::lines_of_short;
    const auto of = [](const std::string& text) {
        return lines_of_short(*support::source_of(forge::to_bytes(text)), "+");
    };
    EXPECT_EQ(of("[Unit]\r\n\tAfter=bell\n"), (Told{"+ [Unit]", "+     After=bell"}));
    EXPECT_EQ(of(""), Told{});
    EXPECT_EQ(of(std::string("a\0b", 3)), Told{});
    EXPECT_EQ(of(std::string(2048, 'q')), Told{"+ " + std::string(2048, 'q')});
    EXPECT_EQ(of(std::string(2049, 'q')), Told{});
    std::string lines;
    for (int i = 0; i < 24; ++i) lines += "q\n";
    EXPECT_EQ(of(lines), Told(24, "+ q"));
    EXPECT_EQ(of(lines + "q\n").back(), "and 2 more");
    EXPECT_EQ(of(lines + "q\n").size(), 24U);
}

TEST(CompareCommand, SaysWhatDecidesAndEndsByIt) {
    const Folder folder;
    const auto good = folder.write("good.img", front_desk("healthy.img"));
    const auto bad = folder.write("bad.img", front_desk("wrong-kernel.img"));
    const auto run = [](const std::string& arguments) {
        return support::shell("NO_COLOR=1 " TOOL_PATH " compare " + arguments);
    };
    const auto differ = run(good + " " + bad);
    EXPECT_EQ(differ.status, 1);
    EXPECT_LT(differ.out.find("WORSE      Almhof Desk 4 (Enzian) (d1p1)"), differ.out.find("What explains it"));
    EXPECT_NE(differ.out.find("put back alone (on an overlay)"), std::string::npos);
    // Each list has its head once.
    const auto times = [](const std::string& text, const std::string& word) {
        std::size_t count = 0;
        for (auto at = text.find(word); at != std::string::npos; at = text.find(word, at + 1)) ++count;
        return count;
    };
    EXPECT_EQ(times(differ.out, "What explains it"), 1U);
    const auto another = run(good + " " + folder.write("office.img", office_pc("office-pc.img")));
    EXPECT_GE(times(another.out, "  changed  d1"), 5U) << another.out;
    EXPECT_EQ(times(another.out, "What differs on the way"), 1U) << another.out;
    const auto same = run(good + " --with " + good);
    EXPECT_EQ(same.status, 0);
    EXPECT_NE(same.out.find("Alike: nothing that a start looks at differs"), std::string::npos);
    const auto json = run(good + " " + bad + " --format json");
    EXPECT_EQ(nlohmann::json::parse(json.out).at("alike"), false);
    // The second machine may be the first one with a patch.
    const auto patch = folder.file("mend.json");
    ASSERT_EQ(support::shell(std::string(TOOL_PATH) + " mend " + bad + " --patch-to " + patch).status, 0);
    const auto mended = run(bad + " --patch " + patch);
    EXPECT_EQ(mended.status, 1);
    EXPECT_NE(mended.out.find("BETTER     Almhof Desk 4"), std::string::npos);
    EXPECT_EQ(run(good).status, 2);
    EXPECT_EQ(run(good + " --with " + bad + " --patch " + patch).status, 2);
    const auto other = folder.write("other.img", office_pc("office-pc.img"));
    EXPECT_EQ(run(other + " --patch " + patch).status, 3) << "the patch is not for this disk";
    EXPECT_EQ(run(good + " " + folder.file("none.img")).status, 3);
}

}  // namespace
