// SPDX-License-Identifier: MIT
// Findings that need a rare disk: each with the stage, the words and the bytes that it names.
#include <algorithm>

#include "help_disc.hpp"
#include "office_pc.hpp"
#include "support.hpp"
#include "system/start_scripts.hpp"

using namespace herberge;
using forge::Bytes;
using support::edit;

namespace {

constexpr std::uint64_t sector = 512;
const std::string kernel = std::string("/boot/vmlinuz-") + demo::release;
const std::string ramdisk = std::string("/boot/initrd.img-") + demo::release;

/// The back office's two disks, changed once they are written, and what of the second one cannot be read.
struct Office {
    demo::BackOffice parts = demo::back_office();
    Bytes first, second;
    std::vector<std::pair<std::uint64_t, std::uint64_t>> lost;
    Machine machine;
    Verdict verdict;

    Office() : first(parts.first()), second(parts.second()) {}
    /// Byte of the second disk at which partition `number` begins.
    [[nodiscard]] std::uint64_t start_of(int number) const {
        const auto made = support::machine_of(second);
        return made.volume(1, number)->source->locate(0, 1).front().offset;
    }
    void walk() {
        machine.disks.push_back(inspect_disk(memory_source(first, "d1", 1), 1, "first.img"));
        Source source = memory_source(second, "d2", 2);
        if (!lost.empty()) source = with_unreadable(source, lost);
        machine.disks.push_back(inspect_disk(source, 2, "second.img"));
        verdict = check(machine);
    }
    [[nodiscard]] const SystemVerdict* system(const std::string& place) const {
        const auto found = std::ranges::find(verdict.systems, std::optional<std::string>(place), &SystemVerdict::place);
        return found != verdict.systems.end() ? &*found : nullptr;
    }
    [[nodiscard]] const Finding* finding(Code code) const {
        const auto found = std::ranges::find(verdict.findings, code, &Finding::code);
        return found != verdict.findings.end() ? &*found : nullptr;
    }
    void expect_stop(const std::string& place, Stage stage, Code code, const std::string& words) const {
        const auto* one = system(place);
        ASSERT_NE(one, nullptr) << place;
        EXPECT_EQ(one->stops_at, stage) << place;
        const auto& rung = one->at(stage);
        ASSERT_FALSE(rung.findings.empty()) << rung.text;
        EXPECT_EQ(rung.findings.front(), code) << rung.text;
        EXPECT_NE(rung.text.find(words), std::string::npos) << rung.text;
        EXPECT_FALSE(rung.evidence.empty());
    }
};

TEST(RareDisks, ASectorToChainToThatCannotBeReadStopsTheEntry) {
    Office office;
    office.lost = {{office.start_of(2), sector}};
    office.walk();
    const auto menu = std::ranges::find(office.verdict.menus, std::string("GRUB Legacy"), &Menu::loader);
    ASSERT_NE(menu, office.verdict.menus.end());
    ASSERT_TRUE(menu->entries.at(1).stop);
    EXPECT_EQ(menu->entries[1].stop->code, Code::ChainUnreadable);
    EXPECT_EQ(menu->entries[1].stop->text, "the sector to chain to cannot be read");
    EXPECT_EQ(office.system("d2p1")->starts, Starts::Yes);
    // What the machine does not get it does not start: whatever may be in that sector.
    office.expect_stop("d2p3", Stage::Entry, Code::EntryNoneForSystem,
                       "; but d2 does not give all that was asked for: what is missed may lie there");
}

TEST(RareDisks, SyslinuxSecondStageOverwrittenInItsSectors) {
    Office office;
    const auto made = support::machine_of(office.second);
    const auto volume = made.volume(1, 2);
    const auto file = resolve(*volume->files(Observer::Loader), "/SYSLINUX/ldlinux.sys");
    ASSERT_TRUE(file);
    const auto extents = volume->files(Observer::Loader)->extents(file->file.id);
    const auto at = volume->source->locate(extents->front().base_offset, 1).front().offset;
    std::fill_n(office.second.begin() + static_cast<std::ptrdiff_t>(at), sector, std::uint8_t{0x20});
    office.walk();
    office.expect_stop("d2p3", Stage::Loader, Code::SyslinuxSecondStageGone, "holds something else");
    const auto& evidence = office.system("d2p3")->at(Stage::Loader).evidence;
    EXPECT_TRUE(std::ranges::any_of(evidence, [&](const Evidence& e) { return e.range && e.range->offset == at; }));
}

TEST(RareDisks, SyslinuxStartsFromSectorsThatAreFreeNow) {
    Office office;
    // The file has another name now: the second part of its long one.
    const std::string was("u\0x\0.\0s\0y\0s\0", 12);
    const auto name = std::search(office.second.begin(), office.second.end(), was.begin(), was.end());
    ASSERT_NE(name, office.second.end());
    *(name + 6) = 'o';
    office.walk();
    ASSERT_NE(office.finding(Code::SyslinuxFileMoved), nullptr);
    EXPECT_EQ(office.finding(Code::SyslinuxFileMoved)->text,
              "d2p2:/SYSLINUX/ldlinux.sys is gone; the loader still starts from sectors that are free now");
    EXPECT_EQ(office.system("d2p3")->starts, Starts::Yes);
}

TEST(RareDisks, SyslinuxWithoutAFileSystemAroundIt) {
    Office office;
    const auto at = static_cast<std::ptrdiff_t>(office.start_of(2));
    // The parameter block is what makes it a FAT; code and pointers stay.
    std::fill_n(office.second.begin() + at + 11, 14, std::uint8_t{0});
    office.walk();
    office.expect_stop("d2p3", Stage::Loader, Code::SyslinuxNoFileSystem, "finds no file system that it can read");
    const std::string screen = office.system("d2p3")->symptom;
    EXPECT_TRUE(screen.starts_with("SYSLINUX stand-in EDD\n") && screen.ends_with("\n(nothing more is shown)"))
        << screen;
}

TEST(RareDisks, AStatusByteThatOnlyTheKernelMinds) {
    Office office;
    office.second[446 + 2 * 16] = 0x11;  // GRUB Legacy does not look at it
    office.walk();
    office.expect_stop("d2p1", Stage::Root, Code::RootTableRefused, "a status byte in the table is neither 00 nor 80");
}

TEST(RareDisks, AnotherLoadersCodeInFrontOfGrubsCore) {
    // The first disk's code starts the active partition, where the guests' loader stands; GRUB's core and menu are
    // still there.
    auto desk = demo::front_desk();
    forge::FatOptions fat;
    const auto parts = demo::back_office();
    auto notice = parts.notice;
    notice.file("/SYSLINUX/syslinux.cfg", "DEFAULT away\nLABEL away\n LOCALBOOT -1\n");
    auto first = desk.build();
    const std::uint64_t end = first.size() / sector;
    fat.hidden_sectors = static_cast<std::uint32_t>(end);
    auto volume = forge::make_fat(notice, fat);
    forge::install_syslinux(volume, "/SYSLINUX");
    first.insert(first.end(), volume.bytes.begin(), volume.bytes.end());
    const auto plain = forge::make_plain_boot();
    std::copy(plain.begin(), plain.end(), first.begin());
    for (int i = 0; i < 3; ++i) first[446 + static_cast<std::size_t>(i) * 16] = 0;
    const std::size_t entry = 446 + 3 * 16;
    first[entry] = 0x80;
    first[entry + 4] = 0x06;
    forge::put32(first, entry + 8, static_cast<std::uint32_t>(end));
    forge::put32(first, entry + 12, static_cast<std::uint32_t>(volume.bytes.size() / sector));
    const support::Checked checked(first);
    const auto system =
        std::ranges::find(checked.verdict.systems, std::optional<std::string>("d1p1"), &SystemVerdict::place);
    ASSERT_NE(system, checked.verdict.systems.end());
    ASSERT_EQ(system->stops_at, Stage::BootCode);
    EXPECT_EQ(system->at(Stage::BootCode).findings.front(), Code::BootCodeOfAnotherLoader);
    EXPECT_NE(system->at(Stage::BootCode).text.find("GRUB's core image lies at sector 1"), std::string::npos)
        << system->at(Stage::BootCode).text;
}

TEST(RareDisks, GrubOnADiskThatIsNotThere) {
    auto desk = demo::front_desk();
    desk.disk.gap = forge::make_grub_core({.prefix = "(hd3)/boot/grub"});
    const support::Checked checked(desk.build());
    EXPECT_EQ(checked.system().stops_at, Stage::Loader);
    EXPECT_EQ(checked.system().at(Stage::Loader).findings.front(), Code::GrubPrefixDisk);
    EXPECT_NE(checked.system().symptom.find("grub rescue>"), std::string::npos);
}

TEST(RareDisks, LiloLoadsSectorsOfARamDiskThatIsGone) {
    auto desk = demo::front_desk();
    desk.root.file("/etc/lilo.conf", "boot=/dev/sda\ndelay=20\nimage=" + kernel +
                                         "\n label=desk\n root=/dev/sda1\n initrd=/boot/initrd.old\n");
    desk.disk.boot_code = forge::make_lilo_boot(1);
    desk.disk.gap = Bytes(512);
    const support::Checked checked(desk.build());
    const auto& menus = checked.verdict.menus;
    ASSERT_FALSE(menus.empty());
    ASSERT_TRUE(menus[0].entries.at(0).stop);
    EXPECT_EQ(menus[0].entries[0].stop->code, Code::LiloRamdiskGone);
    EXPECT_EQ(menus[0].entries[0].stop->text,
              "d1p1:/boot/initrd.old is gone: LILO loads the sectors that it had when LILO was installed, and they are "
              "free now");
}

struct Closed {
    const char* name;
    std::function<void(demo::FrontDesk&)> change;
    std::string starts;
    Code code;
    const char* text;
};
class Doors : public testing::TestWithParam<Closed> {};
TEST_P(Doors, AreTold) {
    auto desk = demo::front_desk();
    GetParam().change(desk);
    const support::Checked checked(desk.build());
    EXPECT_EQ(checked.stage(), GetParam().starts);
    const auto found = std::ranges::find(checked.verdict.findings, GetParam().code, &Finding::code);
    ASSERT_NE(found, checked.verdict.findings.end());
    EXPECT_EQ(found->text, GetParam().text);
    EXPECT_FALSE(found->evidence.empty());
}
INSTANTIATE_TEST_SUITE_P(
    Services, Doors,
    testing::Values(
        Closed{"NoGetty", [](auto& d) { d.root.remove("/usr/sbin/getty"); }, "yes", Code::ServicesNoLogin,
               "no program that asks for a login can run (/sbin/getty): nobody can log in at the screen"},
        Closed{"FstabOfAKindThatIsNotKnown",
               [](auto& d) {
                   edit(d.root, "/etc/fstab", "tmpfs /tmp",
                        "UUID=0badc0de-0000-4a01-8a01-000000000001 /srv bcachefs defaults 0 0\ntmpfs /tmp");
               },
               "yes", Code::FstabDeviceNotFound,
               "UUID=0badc0de-0000-4a01-8a01-000000000001 for /srv was not found here; bcachefs volumes may not be "
               "recognised"}),
    support::by_name);

TEST(RareDisks, AnInitThatNeedsItsTableOfRunLevels) {
    auto desk = demo::front_desk();
    auto program = forge::make_program();
    const auto words = forge::to_bytes(std::string("/etc/inittab\0runlevel", 21));
    program.insert(program.end(), words.begin(), words.end());
    desk.root.remove("/usr/sbin/init");
    desk.root.file("/usr/sbin/init", program, 0755);
    desk.root.remove("/etc/inittab");
    const support::Checked checked(desk.build());
    const auto found = std::ranges::find(checked.verdict.findings, Code::ServicesInittabMissing, &Finding::code);
    ASSERT_NE(found, checked.verdict.findings.end()) << checked.stage();
    EXPECT_EQ(checked.stage(), "services");
    EXPECT_EQ(checked.system().symptom, "INIT: No inittab file found\nEnter runlevel:");
}

// --- programs of an inittab ------------------------------------------------------------------------------------------

/// The script of the first line of the table, of these bytes; `init`: who reads the table.
enum class Reads : std::uint8_t { Busybox, BusyboxOfMusl, Sysvinit };
support::Checked desk_with_script(const Bytes& script, unsigned mode, Reads init = Reads::Busybox) {
    auto desk = demo::front_desk();
    if (init == Reads::Sysvinit) {
        auto program = forge::make_program();
        const auto words = forge::to_bytes(std::string("/etc/inittab\0runlevel", 21));
        program.insert(program.end(), words.begin(), words.end());
        desk.root.remove("/usr/sbin/init");
        desk.root.file("/usr/sbin/init", program, 0755);
        desk.root.file("/etc/inittab",
                       "id:2:initdefault:\nsi::sysinit:/etc/init.d/rcS\n1:2345:respawn:/sbin/getty tty1\n");
    }
    if (init == Reads::BusyboxOfMusl) {
        desk.root.file("/usr/bin/busybox", forge::make_dynamic({"/lib/ld-musl-x86_64.so.1", {}, "", "", ""}), 0755);
        desk.root.file("/usr/lib/ld-musl-x86_64.so.1", forge::make_program(), 0755);
    }
    desk.root.file("/etc/init.d/rcS", script, mode);
    return support::Checked(desk.build());
}
Bytes words(const char* text) { return forge::to_bytes(text); }

TEST(InittabProgram, TextWithoutAMarkIsGivenToTheShell) {
    for (const auto& script :
         {words("mount -a\n/etc/init.d/guestbook start\n"), words("# opens the desk\n"), Bytes{}}) {
        const auto checked = desk_with_script(script, 0755);
        EXPECT_EQ(checked.stage(), "yes") << checked.system().at(Stage::Services).text;
        EXPECT_FALSE(checked.has(Code::ServicesProgramMissing));
        const auto& evidence = checked.system().at(Stage::Services).evidence;
        EXPECT_EQ(std::ranges::count(evidence, "no \"#!\": /bin/sh runs it", &Evidence::found), 1);
    }
    EXPECT_EQ(desk_with_script(words("mount -a\n"), 0755, Reads::Sysvinit).stage(), "yes");
}

TEST(InittabProgram, WhatItNeedsIsLookedForThereToo) {
    const auto checked = desk_with_script(words("/usr/bin/no-such-bell || exit 1\n"), 0755);
    EXPECT_EQ(checked.stage(), "services");
    EXPECT_TRUE(checked.has(Code::ServicesStartupProgram));
}

struct Refused {
    const char* name;
    Bytes script;
    unsigned mode;
    Reads init;
    const char* symptom;
};
class InittabProgramRefused : public testing::TestWithParam<Refused> {};
TEST_P(InittabProgramRefused, InItsOwnWords) {
    const auto checked = desk_with_script(GetParam().script, GetParam().mode, GetParam().init);
    EXPECT_EQ(checked.stage(), "services");
    EXPECT_EQ(checked.system().symptom, GetParam().symptom);
    EXPECT_EQ(checked.system().at(Stage::Services).findings, std::vector<Code>{Code::ServicesProgramMissing});
    EXPECT_EQ(checked.system().at(Stage::Init).state, State::Holds);
}
INSTANTIATE_TEST_SUITE_P(All, InittabProgramRefused,
                         testing::Values(Refused{"NotExecutable", words("#!/bin/sh\n"), 0644, Reads::Busybox,
                                                 "can't run '/etc/init.d/rcS': Permission denied"},
                                         Refused{"NotExecutableOfSysvinit", words("#!/bin/sh\n"), 0644, Reads::Sysvinit,
                                                 "INIT: cannot execute \"/etc/init.d/rcS\""},
                                         Refused{"NoInterpreter", words("#!/bin/zsh\n"), 0755, Reads::Busybox,
                                                 "can't run '/etc/init.d/rcS': No such file or directory"},
                                         // The shell speaks, or nobody does.
                                         Refused{"Zeros", Bytes(512), 0755, Reads::Busybox, ""},
                                         Refused{"ZerosOfSysvinit", Bytes(512), 0755, Reads::Sysvinit, ""},
                                         Refused{"TextOfMusl", words("mount -a\n"), 0755, Reads::BusyboxOfMusl,
                                                 "can't run '/etc/init.d/rcS': Exec format error"}),
                         support::by_name);

/// The folder of the script fails its checksum (not the name of the script: a byte in the room behind the last entry).
TEST(InittabProgram, InAFolderThatFailsItsChecksum) {
    auto image = demo::front_desk().build();
    const auto name = forge::to_bytes("rcS");
    auto at = std::search(image.begin(), image.end(), name.begin(), name.end());
    // An entry of a directory (Linux fs/ext4/ext4.h, ext4_dir_entry_2): its name's length and a regular file before it.
    while (at != image.end() && !(*(at - 2) == 3 && *(at - 1) == 1))
        at = std::search(at + 1, image.end(), name.begin(), name.end());
    ASSERT_NE(at, image.end());
    ASSERT_EQ(*(at + 64), 0) << "there is room behind it";
    *(at + 64) = 1;
    const support::Checked checked(image);
    EXPECT_EQ(checked.stage(), "services");
    const auto& rung = checked.system().at(Stage::Services);
    EXPECT_EQ(rung.findings, std::vector<Code>{Code::ServicesProgramMissing});
    EXPECT_NE(rung.text.find("fails its checksum"), std::string::npos) << rung.text;
    EXPECT_EQ(rung.text.find("not there"), std::string::npos) << rung.text;
    EXPECT_EQ(checked.system().symptom, "can't run '/etc/init.d/rcS': Bad message");
    EXPECT_EQ(checked.system().at(Stage::Init).state, State::Holds);
}

// --- what start-up scripts do about mounts ---------------------------------------------------------------------------

TEST(StartScripts, WhetherAMountThatFailsMatters) {
    const struct {
        const char* script;
        MountsAll is;
    } cases[] = {
        {"", MountsAll::No},
        {"#!/bin/sh\nmount /srv\n", MountsAll::No},
        {"#!/bin/sh\n# mount -a || exit 1\n", MountsAll::No},
        {"mount -a\n", MountsAll::GoesOnWithout},
        {"  mount -a; swapon -a\n", MountsAll::GoesOnWithout},
        {"mount -t nonfs -a 2>/dev/null\necho on\n", MountsAll::GoesOnWithout},
        {"/bin/mount --all || true\n", MountsAll::GoesOnWithout},
        {"mount -a || :\n", MountsAll::GoesOnWithout},
        {"mount -a || echo 'not all'\n", MountsAll::GoesOnWithout},
        {"mountall\n", MountsAll::GoesOnWithout},
        {"mount -a || exit 1\n", MountsAll::StopsWithout},
        {"mount -a || { sulogin; }\n", MountsAll::StopsWithout},
        {"if ! mount -a -O no_netdev; then\n sulogin\nfi\n", MountsAll::StopsWithout},
        {"mount -a && exec /sbin/desk\n", MountsAll::StopsWithout},
        {"mount -a\n[ $? = 0 ] || reboot\n", MountsAll::StopsWithout},
        {"mount -a; [ $? = 0 ] || reboot\n", MountsAll::StopsWithout},
        {"#!/bin/sh\nset -e\nmount -a\n", MountsAll::StopsWithout},
        {"#!/bin/sh -e\nmount -a\n", MountsAll::StopsWithout},
        // One of several that stops is enough.
        {"mount -a\nmount -a -t nfs || exit 1\n", MountsAll::StopsWithout},
    };
    for (const auto& one : cases) EXPECT_EQ(mounts_everything(one.script), one.is) << one.script;
}

constexpr const char* lost_home = "UUID=dead0000-0000-4000-8000-000000000000 /var/log ext4 defaults 0 2\n";
support::Checked desk_with_mounts(const std::string& script, const std::string& fstab, bool with_fstab = true) {
    auto desk = demo::front_desk();
    desk.root.file("/etc/init.d/rcS", script, 0755);
    if (with_fstab) desk.root.file("/etc/fstab", fstab);
    else desk.root.remove("/etc/fstab");
    return support::Checked(desk.build());
}

TEST(StartScripts, OneThatGoesOnWithoutAMountStarts) {
    const auto checked = desk_with_mounts("#!/bin/sh\nmount -a\n", lost_home);
    EXPECT_EQ(checked.stage(), "yes");
    const auto found = std::ranges::find(checked.verdict.findings, Code::FstabDeviceMissing, &Finding::code);
    ASSERT_NE(found, checked.verdict.findings.end());
    EXPECT_EQ(found->severity, Severity::Risk);
    EXPECT_TRUE(found->text.ends_with("; the script that mounts it goes on without it")) << found->text;
    const auto stops = desk_with_mounts("#!/bin/sh\nmount -a || exit 1\n", lost_home);
    EXPECT_EQ(stops.stage(), "services");
    EXPECT_EQ(
        stops.system().symptom,
        "mount: mounting UUID=dead0000-0000-4000-8000-000000000000 on /var/log failed: No such file or directory");
}

TEST(StartScripts, AListThatIsNotThere) {
    const auto stops = desk_with_mounts("#!/bin/sh\nmount -a || exit 1\n", "", false);
    EXPECT_EQ(stops.stage(), "services");
    EXPECT_EQ(stops.system().at(Stage::Services).findings, std::vector<Code>{Code::FstabMissing});
    EXPECT_EQ(stops.system().symptom, "mount: can't read '/etc/fstab': No such file or directory");
    EXPECT_EQ(desk_with_mounts("#!/bin/sh\nmount -a\n", "", false).stage(), "yes");
    EXPECT_EQ(desk_with_mounts("#!/bin/sh\n:\n", "", false).stage(), "yes");
}

TEST(StartScripts, LinesThatAreTooShort) {
    const struct {
        const char* line;
        const char* stage;
        const char* symptom;
    } cases[] = {
        {"UUID=b0a7d000-0001\n", "services",
         "mount: mounting UUID=b0a7d000-0001 on  failed: No such file or directory"},
        {"\t xxxxxxxx", "services", "mount: mounting xxxxxxxx on  failed: No such file or directory"},
        {"/dev/sda7 /var/log\n", "services", "mount: mounting /dev/sda7 on /var/log failed: No such device"},
        {"/dev/sda7 /cellar\n", "services", "mount: mounting /dev/sda7 on /cellar failed: No such file or directory"},
        {"/dev/sda1 /\n", "yes", ""},
        {"#UUID=b0a7d000-0001\n", "yes", ""},
        {"   \n", "yes", ""},
    };
    for (const auto& one : cases) {
        const auto checked =
            desk_with_mounts("#!/bin/sh\nmount -a || exit 1\n", std::string("tmpfs /tmp tmpfs\n") + one.line);
        EXPECT_EQ(checked.stage(), one.stage) << one.line;
        EXPECT_EQ(checked.system().symptom, one.symptom) << one.line;
    }
    // Another mount passes over what it cannot read.
    auto desk = demo::front_desk();
    desk.root.file("/etc/fstab", "UUID=b0a7d000-0001\n").file("/usr/bin/mount", forge::make_program(), 0755);
    EXPECT_EQ(support::Checked(desk.build()).stage(), "yes");
}

}  // namespace
