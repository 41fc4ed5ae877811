// SPDX-License-Identifier: MIT
// The walk as a whole, on machines of the inn.
#include "packers.hpp"
#include "support.hpp"
#include "told.hpp"

using namespace herberge;
using support::Checked;

namespace {

class Stories : public testing::TestWithParam<std::size_t> {};
TEST_P(Stories, StopWhereTheyShould) {
    const auto story = demo::front_desk_disks().at(GetParam());
    const Checked checked(story.make());
    ASSERT_EQ(checked.verdict.systems.size(), 1U);
    EXPECT_EQ(checked.stage(), story.stops_at.empty() ? "yes" : story.stops_at);
    const auto& system = checked.system();
    if (system.stops_at) {
        // A break has a reason, evidence, something to see, and a finding from the table; nothing behind it holds a
        // promise.
        const auto& rung = system.at(*system.stops_at);
        EXPECT_FALSE(rung.text.empty());
        EXPECT_FALSE(rung.evidence.empty());
        EXPECT_FALSE(system.symptom.empty());
        ASSERT_FALSE(rung.findings.empty());
    } else {
        for (const auto& rung : system.stages) {
            EXPECT_TRUE(rung.state == State::Holds || rung.state == State::NotNeeded || rung.state == State::Doubtful)
                << stage_id(rung.stage) << ": " << rung.text;
            if (rung.state == State::Holds) EXPECT_FALSE(rung.evidence.empty()) << stage_id(rung.stage);
        }
    }
    const auto table = finding_codes();
    for (const auto& finding : checked.verdict.findings)
        EXPECT_TRUE(std::any_of(table.begin(), table.end(), [&](const auto& row) { return row.code == finding.code; }))
            << finding.code;
}
INSTANTIATE_TEST_SUITE_P(All, Stories, testing::Range<std::size_t>(0, demo::front_desk_disks().size()),
                         [](const auto& which) {
                             std::string name = demo::front_desk_disks().at(which.param).name;
                             std::replace_if(
                                 name.begin(), name.end(),
                                 [](char c) { return std::isalnum(static_cast<unsigned char>(c)) == 0; }, '_');
                             return name;
                         });

TEST(StatusBytes, AnActiveMarkMeansNothingToGrub) {
    auto bytes = demo::front_desk().build();
    for (const std::uint8_t status : std::initializer_list<std::uint8_t>{0x80, 0x00}) {
        bytes[446] = status;
        const Checked checked(bytes);
        EXPECT_EQ(checked.stage(), "yes");
        EXPECT_EQ(checked.machine.disks[0].table.partitions.at(0).active, status == 0x80);
    }
}

TEST(StatusBytes, AnOddOneHidesAllPartitionsFromLoadersAndKernel) {
    auto bytes = demo::front_desk().build();
    bytes[446 + 16] = 0x12;  // of the second entry, which nothing needs
    const Checked checked(bytes);
    const auto& system = checked.system();
    EXPECT_EQ(checked.stage(), "partition-table");
    EXPECT_TRUE(checked.has(Code::GrubPrefixDevice));
    EXPECT_EQ(system.symptom, "error: no such partition.\nEntering rescue mode...\ngrub rescue>");
    EXPECT_EQ(system.at(Stage::BootCode).state, State::Holds);
    EXPECT_EQ(system.at(Stage::Loader).state, State::NotReached);
    const auto& findings = checked.verdict.findings;
    const auto told =
        std::find_if(findings.begin(), findings.end(), [](const Finding& f) { return f.code == Code::MbrStatusByte; });
    ASSERT_NE(told, findings.end());
    EXPECT_EQ(told->evidence.at(0).range, (DiskRange{1, 446 + 16, 1}));
    EXPECT_EQ(told->evidence.at(0).found, "12");
}

/// A change to the healthy machine, and what must come of it.
struct Change {
    const char* name;
    std::function<void(demo::FrontDesk&)> change;
    const char* stage;
    std::optional<Code> code;
};
const std::string kernel = std::string("/boot/vmlinuz-") + demo::release;
const std::string ramdisk = std::string("/boot/initrd.img-") + demo::release;

void edit(demo::FrontDesk& d, const std::string& path, const std::string& from, const std::string& to) {
    auto& bytes = d.root.at(path).content;
    std::string text(bytes.begin(), bytes.end());
    for (std::size_t at = 0; (at = text.find(from, at)) != std::string::npos; at += to.size())
        text.replace(at, from.size(), to);
    bytes = forge::to_bytes(text);
}

class Changes : public testing::TestWithParam<Change> {};
TEST_P(Changes, LeadToThisStage) {
    auto d = demo::front_desk();
    GetParam().change(d);
    const Checked checked(d.build());
    EXPECT_EQ(checked.stage(), GetParam().stage)
        << (checked.system().stops_at ? checked.system().at(*checked.system().stops_at).text : "");
    if (GetParam().code) EXPECT_TRUE(checked.has(*GetParam().code));
    support::expect_as_kept(support::told_briefly(checked.machine));
}

INSTANTIATE_TEST_SUITE_P(
    Front, Changes,
    testing::Values(
        Change{"NoBootCode", [](auto& d) { d.disk.boot_code.assign(440, 0); }, "boot-code", Code::BootCodeEmpty},
        Change{"JumpAstray", [](auto& d) { d.disk.boot_code[1] = 0xFE; }, "boot-code", Code::BootCodeDamaged},
        Change{"ForeignCode", [](auto& d) { d.disk.boot_code = forge::noise(440, 9); }, "boot-code",
               Code::BootCodeDoesNothing},
        Change{"PointerAstray", [](auto& d) { d.disk.boot_code = forge::make_grub_boot(9); }, "boot-code",
               Code::GrubCorePointer},
        Change{"PointerPastTheEnd", [](auto& d) { d.disk.boot_code = forge::make_grub_boot(1ULL << 40U); }, "boot-code",
               Code::GrubCorePointer},
        Change{"CoreElsewhere",
               [](auto& d) {
                   d.disk.boot_code = forge::make_grub_boot(100);
                   auto core = forge::make_grub_core(
                       {"(,msdos1)/boot/grub", {"fshelp", "ext2", "part_msdos", "biosdisk"}, "", 100, true});
                   d.disk.gap.assign(99 * 512, 0);
                   d.disk.gap.insert(d.disk.gap.end(), core.begin(), core.end());
               },
               "yes",
               {}},
        Change{"CoreWithoutRedundancy",
               [](auto& d) {
                   d.disk.gap = forge::make_grub_core({"(,msdos1)/boot/grub", {"ext2", "part_msdos"}, "", 1, false});
               },
               "yes",
               {}},
        Change{"CoreHeaderGone", [](auto& d) { std::fill_n(d.disk.gap.begin() + 512, 32, std::uint8_t{0}); }, "loader",
               Code::GrubCoreHeader},
        Change{"CoreHalfGone",
               [](auto& d) { std::fill_n(d.disk.gap.begin() + 2048, d.disk.gap.size() / 2, std::uint8_t{0}); },
               "loader", Code::GrubCoreBeyondRepair},
        Change{"NoFileSystemDriverInCore",
               [](auto& d) {
                   d.disk.gap = forge::make_grub_core({"(,msdos1)/boot/grub", {"part_msdos"}, "", 1, true});
               },
               "loader", Code::GrubPrefixFileSystem},
        Change{"NoTableDriverInCore",
               [](auto& d) {
                   d.disk.gap = forge::make_grub_core({"(,msdos1)/boot/grub", {"ext2"}, "", 1, true});
               },
               "partition-table", Code::GrubPrefixDevice},
        Change{"PrefixOnAMissingPartition",
               [](auto& d) {
                   d.disk.gap = forge::make_grub_core({"(,msdos3)/boot/grub", {"ext2", "part_msdos"}, "", 1, true});
               },
               "partition-table", Code::GrubPrefixDevice},
        Change{"EmbeddedSearch",
               [](auto& d) {
                   d.disk.gap = forge::make_grub_core(
                       {"/nowhere",
                        {"ext2", "part_msdos", "search_fs_uuid"},
                        std::string("search.fs_uuid ") + demo::root_uuid + " root\nset prefix=($root)/boot/grub\n",
                        1,
                        true});
               },
               "yes",
               {}},
        Change{"ModuleOfAnotherVersion",
               [](auto& d) {
                   d.root.file("/boot/grub/i386-pc/normal.mod",
                               forge::make_grub_module({"normal", {"boot"}, {"grub_new_function"}, {}}));
               },
               "loader", Code::GrubNormalModule},
        Change{"ModuleItNeedsIsGone", [](auto& d) { d.root.remove("/boot/grub/i386-pc/boot.mod"); }, "loader",
               Code::GrubNormalModule},
        Change{"LinuxModuleGone", [](auto& d) { d.root.remove("/boot/grub/i386-pc/linux.mod"); }, "loader",
               Code::GrubModuleMissing},
        // Each is loaded for the other without end; nothing is printed.
        Change{"ModulesInACircle",
               [](auto& d) {
                   d.root.file("/boot/grub/i386-pc/boot.mod", forge::make_grub_module({"boot", {"normal"}, {}, {}}));
               },
               "loader", Code::GrubNormalModule},
        // Without the list nobody tells which module has `linux'; one that was loaded by hand has it.
        Change{"CommandListGone", [](auto& d) { d.root.remove("/boot/grub/i386-pc/command.lst"); }, "loader",
               Code::GrubModuleMissing},
        Change{"CommandListGoneModuleLoadedByHand",
               [](auto& d) {
                   d.root.remove("/boot/grub/i386-pc/command.lst");
                   d.root.file("/boot/grub/i386-pc/linux.mod",
                               forge::make_grub_module({"linux", {"boot"}, {}, {"linux", "initrd"}}));
                   d.root.file("/boot/grub/grub.cfg", "insmod linux\nmenuentry 'x' {\nlinux /boot/vmlinuz-" +
                                                          std::string(demo::release) + " " +
                                                          "root=UUID=" + demo::root_uuid +
                                                          " ro\ninitrd /boot/initrd.img-" + demo::release + "\n}\n");
               },
               "yes",
               {}},
        Change{"SearchModuleGone", [](auto& d) { d.root.remove("/boot/grub/i386-pc/search.mod"); }, "yes", {}}),
    support::by_name);

INSTANTIATE_TEST_SUITE_P(
    Menu, Changes,
    testing::Values(
        Change{"EmptyConfig", [](auto& d) { d.root.file("/boot/grub/grub.cfg", "# nothing\n"); }, "configuration",
               Code::GrubConfigEmpty},
        Change{"CutConfig",
               [](auto& d) {
                   auto& c = d.root.at("/boot/grub/grub.cfg").content;
                   c.resize(c.size() / 2);
               },
               "configuration", Code::GrubConfigSyntax},
        Change{"NoEntryForTheSystem",
               [](auto& d) {
                   edit(d, "/boot/grub/grub.cfg", "linux " + kernel, "linux " + kernel + " init=/x #");
                   edit(d, "/boot/grub/grub.cfg", "linux ", "echo ");
               },
               "entry",
               {}},
        Change{"DefaultIsBrokenFallbackIsNot",
               [](auto& d) {
                   auto& c = d.root.at("/boot/grub/grub.cfg").content;
                   const auto head = forge::to_bytes("set fallback=1\nmenuentry broken {\nlinux /gone root=UUID=" +
                                                     std::string(demo::root_uuid) + "\n}\n");
                   c.insert(c.begin(), head.begin(), head.end());
               },
               "yes",
               {}},
        Change{"KernelThroughALink", [](auto& d) { edit(d, "/boot/grub/grub.cfg", kernel, "/vmlinuz"); }, "yes", {}},
        Change{"DefaultUnmatched", [](auto& d) { edit(d, "/boot/grub/grub.cfg", "default=\"0\"", "default=\"77\""); },
               "yes", Code::EntryDefaultUnmatched}),
    support::by_name);

INSTANTIATE_TEST_SUITE_P(
    KernelAndRamdisk, Changes,
    testing::Values(
        Change{"KernelCut", [](auto& d) { d.root.at(kernel).content.resize(50000); }, "kernel", Code::KernelCut},
        Change{"KernelXz",
               [](auto& d) {
                   d.root.file(kernel, forge::make_kernel({demo::release, forge::xz}));
               },
               "yes",
               {}},
        Change{"NoRamdiskLine", [](auto& d) { edit(d, "/boot/grub/grub.cfg", "initrd ", "true "); }, "ramdisk",
               Code::RamdiskNotNamed},
        Change{"RamdiskGone",
               [](auto& d) { edit(d, "/boot/grub/grub.cfg", "initrd /boot/initrd", "initrd /boot/initrb"); }, "ramdisk",
               Code::RamdiskMissing},
        Change{"RamdiskWithoutInit", [](auto& d) { d.ramdisk.remove("/init"); }, "ramdisk", Code::RamdiskNoInit},
        Change{"RamdiskInitNotExecutable", [](auto& d) { d.ramdisk.at("/init").mode = 0644; }, "ramdisk",
               Code::RamdiskInitUnusable},
        Change{"RamdiskShellGone", [](auto& d) { d.ramdisk.remove("/bin/sh"); }, "ramdisk", Code::RamdiskInitUnusable},
        Change{"RamdiskUnsupportedPacking",
               [](auto& d) {
                   d.rebuild_ramdisk = false;
                   d.root.file(ramdisk, support::lzop(forge::make_cpio(d.ramdisk)));
               },
               "ramdisk", Code::RamdiskCompressionUnsupported},
        Change{"RamdiskXz",
               [](auto& d) {
                   d.rebuild_ramdisk = false;
                   d.root.file(ramdisk, forge::xz(forge::make_cpio(d.ramdisk)));
               },
               "yes",
               {}},
        Change{"NoDiskDriver",
               [](auto& d) {
                   for (const char* name : {"drivers/scsi/sd_mod", "drivers/block/virtio_blk"})
                       d.ramdisk.remove(std::string("/lib/modules/") + demo::release + "/kernel/" + name + ".ko");
               },
               "root", Code::RamdiskNoDiskDriver},
        Change{"NoControllerDriver",
               [](auto& d) {
                   for (const char* name : {"drivers/ata/ahci", "drivers/virtio/virtio_pci"})
                       d.ramdisk.remove(std::string("/lib/modules/") + demo::release + "/kernel/" + name + ".ko");
               },
               "root", Code::RamdiskNoDiskDriver},
        Change{"DriversBarredInTheRamdisk",
               [](auto& d) {
                   d.ramdisk.file("/etc/modprobe.d/quiet.conf",
                                  "# made by hand\nblacklist ahci\ninstall virtio-blk /bin/true\n");
               },
               "root", Code::RamdiskNoDiskDriver},
        Change{"DriversBarredAndAskedFor",
               [](auto& d) {
                   d.ramdisk.file("/etc/modprobe.d/quiet.conf", "blacklist ahci\nblacklist virtio_blk\n");
                   d.ramdisk.file("/conf/modules", "ahci\n");
               },
               "yes",
               {}},
        Change{"DriversBarredByTheCommandLine",
               [](auto& d) {
                   edit(d, "/boot/grub/grub.cfg", " ro quiet",
                        " ro quiet module_blacklist=ahci modprobe.blacklist=pcspkr,virtio-blk");
               },
               "root", Code::RamdiskNoDiskDriver},
        Change{"DriversBarredByAFileThatDoesNotCount",
               [](auto& d) {
                   d.ramdisk.file("/usr/lib/modprobe.d/quiet.conf", "blacklist ahci\nblacklist virtio_blk\n");
                   d.ramdisk.file("/etc/modprobe.d/quiet.conf", "# another hand\n");
               },
               "yes",
               {}},
        Change{"OneDriverBarred",
               [](auto& d) { d.ramdisk.file("/usr/lib/modprobe.d/quiet.conf", "blacklist virtio_blk\n"); },
               "yes",
               {}},
        Change{"FileSystemIsLoadedByName",
               [](auto& d) { d.ramdisk.file("/etc/modprobe.d/quiet.conf", "blacklist ext4\n"); },
               "yes",
               {}},
        Change{"FileSystemBarred",
               [](auto& d) { d.ramdisk.file("/etc/modprobe.d/quiet.conf", "install ext4 /bin/false\n"); }, "root",
               Code::RamdiskNoFileSystemDriver},
        Change{"NoFileSystemDriver",
               [](auto& d) { d.ramdisk.remove(std::string("/lib/modules/") + demo::release + "/kernel/fs"); }, "root",
               Code::RamdiskNoFileSystemDriver},
        Change{"DriverBuiltIn",
               [](auto& d) {
                   d.ramdisk.remove(std::string("/lib/modules/") + demo::release + "/kernel/fs");
                   edit(d, std::string("/boot/config-") + demo::release, "CONFIG_EXT4_FS=m", "CONFIG_EXT4_FS=y");
               },
               "yes",
               {}},
        Change{"ModulesOfAnotherKernel", [](auto& d) { d.root.file(kernel, forge::make_kernel({"6.9.9-other"})); },
               "root", Code::RamdiskOtherKernel},
        // The kernel does not look at gzip's sum: what is in the RAM disk decides, and which of it was changed is not
        // known.
        Change{"SumOfTheRamdisk",
               [](auto& d) {
                   auto bytes = forge::gzip(forge::make_cpio(d.ramdisk));
                   bytes[bytes.size() - 8] ^= 1U;
                   d.rebuild_ramdisk = false;
                   d.root.file(ramdisk, bytes);
               },
               "unknown", Code::RamdiskPartlyDamaged},
        Change{"SumOfTheRamdiskAndNoDrivers",
               [](auto& d) {
                   d.ramdisk.remove(std::string("/lib/modules/") + demo::release + "/kernel/fs");
                   auto bytes = forge::gzip(forge::make_cpio(d.ramdisk));
                   bytes[bytes.size() - 4] ^= 1U;
                   d.rebuild_ramdisk = false;
                   d.root.file(ramdisk, bytes);
               },
               "root", Code::RamdiskPartlyDamaged},
        Change{"ModulesCutOff",
               [](auto& d) {
                   auto bytes = forge::gzip(forge::make_cpio(d.ramdisk));
                   bytes.resize(bytes.size() - 20000);
                   d.rebuild_ramdisk = false;
                   d.root.file(ramdisk, bytes);
               },
               "ramdisk", Code::RamdiskDamaged}),
    support::by_name);

const std::string root_argument = std::string("root=UUID=") + demo::root_uuid;
INSTANTIATE_TEST_SUITE_P(
    RootAndInit, Changes,
    testing::Values(
        Change{"NoRootArgument", [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, ""); }, "root",
               Code::RootNotNamed},
        Change{"PartUuid",
               [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, "root=PARTUUID=a1a10f01-01"); },
               "yes",
               {}},
        Change{"PartUuidOfTheNext",
               [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, "root=PARTUUID=a1a10f01-02/PARTNROFF=-1"); },
               "yes",
               {}},
        Change{
            "Label", [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, "root=LABEL=frontdesk"); }, "yes", {}},
        Change{"DeviceName", [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, "root=/dev/sda1"); }, "yes",
               Code::RootDeviceName},
        Change{"DeviceNumber", [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, "root=8:1"); }, "yes", {}},
        Change{"OldDeviceName", [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, "root=/dev/hda1"); },
               "root", Code::RootNotFound},
        Change{"Mapper",
               [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, "root=/dev/mapper/inn-root"); },
               "unknown",
               {}},
        Change{"WrongPartUuid",
               [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, "root=PARTUUID=a1a10f02-01"); }, "root",
               Code::RootNotFound},
        Change{"RootIsSwap", [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, "root=/dev/sda2"); }, "root",
               Code::RootNotAFileSystem},
        Change{"InitByArgument",
               [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, root_argument + " init=/usr/bin/busybox"); },
               "yes",
               {}},
        Change{"InitByArgumentMissing",
               [](auto& d) { edit(d, "/boot/grub/grub.cfg", root_argument, root_argument + " init=/sbin/nope"); },
               "yes", Code::InitSecondChoice},
        Change{"InitNotExecutable", [](auto& d) { d.root.at("/usr/bin/busybox").mode = 0644; }, "init",
               Code::ProgramNotExecutable},
        Change{"InitArchitecture", [](auto& d) { d.root.at("/usr/bin/busybox").content[18] = 183; }, "init",
               Code::ProgramArchitecture},
        Change{"InitScriptWithoutInterpreter",
               [](auto& d) { d.root.remove("/usr/sbin/init").file("/usr/sbin/init", "#!/bin/zsh\n", 0755); }, "init",
               Code::ProgramInterpreterMissing},
        Change{"DirtyJournal", [](auto& d) { d.ext.dirty_journal = true; }, "yes", Code::ExtJournalDirty}),
    support::by_name);

INSTANTIATE_TEST_SUITE_P(
    Services, Changes,
    testing::Values(
        Change{"RcSGone", [](auto& d) { d.root.remove("/etc/init.d/rcS"); }, "services", Code::ServicesProgramMissing},
        Change{"RcSNotExecutable", [](auto& d) { d.root.at("/etc/init.d/rcS").mode = 0644; }, "services",
               Code::ServicesProgramMissing},
        Change{"NoInittabUsesTheDefault", [](auto& d) { d.root.remove("/etc/inittab"); }, "yes", {}},
        Change{"OptionalProgramGone", [](auto& d) { d.root.remove("/usr/bin/welcome-lamp"); }, "yes",
               Code::ServicesStartupProgramOptional},
        Change{"FstabDemandsWhatIsGone",
               [](auto& d) {
                   edit(d, "/etc/fstab", "tmpfs /tmp tmpfs", "UUID=dead0000-0000-4000-8000-000000000000 /var/log ext4");
               },
               "services", Code::FstabDeviceMissing},
        Change{"FstabNofail",
               [](auto& d) {
                   edit(d, "/etc/fstab", "tmpfs /tmp tmpfs defaults",
                        "UUID=dead0000-0000-4000-8000-000000000000 /var/log ext4 nofail");
               },
               "yes",
               {}},
        Change{"FstabMountPointGone",
               [](auto& d) {
                   edit(d, "/etc/fstab", "tmpfs /tmp tmpfs", std::string("UUID=") + demo::root_uuid + " /srv ext4");
               },
               "services", Code::FstabMountPointMissing},
        Change{"FstabUnmountable",
               [](auto& d) { edit(d, "/etc/fstab", "tmpfs /tmp tmpfs", "/dev/sda2 /var/log ext4"); }, "services",
               Code::FstabNotMountable},
        Change{"SwapGone", [](auto& d) { d.swap_size = 0; }, "yes", Code::FstabSwapMissing},
        Change{"Systemd",
               [](auto& d) {
                   d.root.file("/usr/lib/systemd/systemd", forge::make_program(), 0755)
                       .remove("/usr/sbin/init")
                       .link("/usr/sbin/init", "../lib/systemd/systemd");
                   d.root.file("/usr/lib/systemd/system/multi-user.target", "[Unit]\n")
                       .link("/usr/lib/systemd/system/default.target", "multi-user.target");
               },
               "yes",
               {}},
        Change{"SystemdTargetDangles",
               [](auto& d) {
                   d.root.file("/usr/lib/systemd/systemd", forge::make_program(), 0755)
                       .remove("/usr/sbin/init")
                       .link("/usr/sbin/init", "../lib/systemd/systemd");
                   d.root.file("/usr/lib/systemd/system/multi-user.target", "[Unit]\n")
                       .link("/usr/lib/systemd/system/default.target", "multi-user.target");
                   d.root.link("/etc/systemd/system/default.target", "/usr/lib/systemd/system/graphical.target");
               },
               "services", Code::ServicesTargetMissing}),
    support::by_name);

TEST(GrubCommands, AreNotFoundWithoutTheirList) {
    auto d = demo::front_desk();
    d.root.remove("/boot/grub/i386-pc/command.lst");
    const Checked checked(d.build());
    const auto& system = checked.system();
    EXPECT_EQ(system.stops_at, Stage::Loader);
    EXPECT_EQ(
        system.at(Stage::Loader).text,
        "no loaded module has the command `linux', and (hd0,msdos1)/boot/grub/i386-pc/command.lst tells none that "
        "does");
    EXPECT_NE(system.symptom.find("error: can't find command `linux'."), std::string::npos) << system.symptom;
    EXPECT_EQ(system.at(Stage::Configuration).state, State::Holds);
    EXPECT_EQ(system.at(Stage::Kernel).state, State::NotReached);
    EXPECT_EQ(system.entry, "Almhof front desk");
}

TEST(Walk, BytesThatBreakTheTable) {
    auto image = demo::front_desk().build();
    image[446] = 0x12;  // neither 00 nor 80: GRUB sees no partition
    EXPECT_EQ(Checked(image).stage(), "partition-table");
    image = demo::front_desk().build();
    forge::put32(image, 446 + 12, 12U * 2048 - 64);  // shorter than its file system: the loader copes
    const Checked short_one(image);
    EXPECT_EQ(short_one.stage(), "root");
    EXPECT_NE(short_one.system().symptom.find("bad geometry"), std::string::npos);
}

// --- the same machine on a GUID table: partition 1 holds GRUB's core image, partition 2 the system -------------------

forge::Bytes gpt_desk(const std::string& more_arguments = "") {
    auto d = demo::front_desk();
    edit(d, "/boot/grub/grub.cfg", "msdos1", "gpt2");
    edit(d, "/boot/grub/grub.cfg", " ro quiet", " ro quiet" + more_arguments);
    edit(d, "/etc/fstab", std::string("UUID=") + demo::swap_uuid, "/dev/disk/by-label/none");
    d.root.file(ramdisk, forge::gzip(forge::make_cpio(d.ramdisk)));
    forge::DiskSpec spec;
    spec.gpt = true;
    spec.size = 16U << 20U;
    spec.boot_code = forge::make_grub_boot(64);
    auto core = forge::make_grub_core({"(,gpt2)/boot/grub", {"fshelp", "ext2", "part_gpt", "biosdisk"}, "", 64, true});
    core.resize((core.size() + 511) / 512 * 512);
    spec.partitions = {{64, core, 0, false}, {2048, forge::make_ext(d.root, d.ext), 0, false}};
    return forge::make_disk(spec);
}

struct Guid {
    const char* name;
    std::function<void(forge::Bytes&)> damage;
    const char* stage;
    std::optional<Code> code;
    const char* arguments = "";
};
class GuidTables : public testing::TestWithParam<Guid> {};
TEST_P(GuidTables, AreJudgedAsLoaderAndKernelDo) {
    auto image = gpt_desk(GetParam().arguments);
    GetParam().damage(image);
    const Checked checked(image);
    EXPECT_EQ(checked.stage(), GetParam().stage)
        << (checked.system().stops_at ? checked.system().at(*checked.system().stops_at).text : "");
    if (GetParam().code) EXPECT_TRUE(checked.has(*GetParam().code));
    support::expect_as_kept(support::told_briefly(checked.machine));
}
const auto wipe_sector = [](forge::Bytes& b, std::size_t lba) {
    std::fill_n(b.begin() + static_cast<std::ptrdiff_t>(lba * 512), 512, std::uint8_t{0});
};
INSTANTIATE_TEST_SUITE_P(
    All, GuidTables,
    testing::Values(
        Guid{"Sound", [](forge::Bytes&) {}, "yes", {}},
        Guid{"BackupGone", [](forge::Bytes& b) { wipe_sector(b, b.size() / 512 - 1); }, "yes", Code::GptBackupMissing},
        Guid{"PrimaryGone", [](forge::Bytes& b) { wipe_sector(b, 1); }, "partition-table", Code::GptHeaderMissing},
        Guid{"BothGone", [](forge::Bytes& b) { wipe_sector(b, 1), wipe_sector(b, b.size() / 512 - 1); },
             "partition-table", Code::GptHeaderMissing},
        // GRUB checks no checksum, the kernel does, and takes the backup only when told to.
        Guid{"HeaderChecksum", [](forge::Bytes& b) { b[512 + 16] ^= 1U; }, "root", Code::GptHeaderCrc},
        // GRUB reads the array where it should be, and finds other numbers there.
        Guid{"ArrayElsewhere",
             [](forge::Bytes& b) {
                 std::copy_backward(b.begin() + 1024, b.begin() + 1024 + 1024, b.begin() + 1024 + 1024 + 512);
                 wipe_sector(b, 2);
             },
             "partition-table", Code::GptArrayCrc},
        Guid{"ArrayChecksum", [](forge::Bytes& b) { b[1024 + 60] ^= 1U; }, "root", Code::GptArrayCrc},
        Guid{"HeaderChecksumButToldGpt", [](forge::Bytes& b) { b[512 + 16] ^= 1U; }, "yes", Code::GptHeaderCrc, " gpt"},
        Guid{"ProtectiveGone", [](forge::Bytes& b) { std::fill_n(b.begin() + 446, 64, std::uint8_t{0}); },
             "partition-table", Code::GptProtectiveMissing},
        Guid{"ProtectiveElsewhere", [](forge::Bytes& b) { b[454] = 2; }, "root", {}},
        Guid{"CoreWiped",
             [](forge::Bytes& b) { std::fill_n(b.begin() + 64 * 512, 60 * 512, std::uint8_t{0}); },
             "loader",
             {}},
        // The array would lie beyond the disk: GRUB has no partition of that number.
        Guid{"HostileHeader", [](forge::Bytes& b) { std::fill_n(b.begin() + 512 + 72, 20, std::uint8_t{0xFF}); },
             "partition-table", Code::GptHeaderCrc}),
    support::by_name);

TEST(GuidTables, NameTheirPartitions) {
    const auto machine = support::machine_of(gpt_desk());
    const auto& table = machine.disks[0].table;
    EXPECT_EQ(table.kind, TableKind::Gpt);
    ASSERT_EQ(table.partitions.size(), 2U);
    EXPECT_EQ(table.partitions[1].partuuid, "23222120-2524-2726-2829-2a2b2c2d2e2f");
    EXPECT_EQ(table.partitions[1].type_name(), "Linux data");
    EXPECT_EQ(table.partitions[1].name, "B");
    EXPECT_EQ(machine.by_partuuid("23222120-2524-2726-2829-2A2B2C2D2E2F"), machine.at("d1p2"));
}

TEST(Walk, AnEntryBesideItsFileSystemIsTold) {
    for (const std::uint32_t start : {3000U, 2049U}) {
        auto image = demo::front_desk().build();
        forge::put32(image, 446 + 8, start);
        const Checked moved(image);
        EXPECT_EQ(moved.stage(), "partition-table") << start;
        EXPECT_TRUE(moved.has(Code::PartitionEntryMisplaced));
        EXPECT_NE(moved.system().at(Stage::PartitionTable).text.find("begins at sector 2048"), std::string::npos);
    }
    auto image = demo::front_desk().build();
    std::fill_n(image.begin() + 446, 16, std::uint8_t{0});
    EXPECT_EQ(Checked(image).stage(), "partition-table");
    // A file system that is gone altogether is not the table's fault.
    image = demo::front_desk().build();
    std::fill_n(image.begin() + (2048 + 2) * 512, 1024, std::uint8_t{0});
    EXPECT_EQ(Checked(image).stage(), "loader");
}

TEST(Walk, AnotherEntryThatGetsFurtherIsOffered) {
    auto d = demo::front_desk();
    // The first entry names a kernel that is gone, the submenu's still the right one.
    auto& bytes = d.root.at("/boot/grub/grub.cfg").content;
    std::string text(bytes.begin(), bytes.end());
    text.replace(text.find("linux " + kernel), 6 + kernel.size(), "linux /boot/vmlinuz-gone");
    bytes = forge::to_bytes(text);
    const Checked checked(d.build());
    EXPECT_EQ(checked.stage(), "entry");
    ASSERT_EQ(checked.system().fallbacks.size(), 1U);
    EXPECT_EQ(checked.system().fallbacks[0].path, "1>0");
    EXPECT_EQ(checked.system().fallbacks[0].starts, Starts::Yes);
}

TEST(Walk, ASystemThatNoEntryNamesStopsAtEntry) {
    auto d = demo::front_desk();
    auto image = d.build();
    // A second system on a partition of its own.
    forge::Tree forgotten;
    forgotten.file("/etc/os-release", "PRETTY_NAME=\"Weather Station\"\n").directory("/sbin");
    forge::ExtOptions options;
    options.size = 2U << 20U;
    options.journal = false;
    options.uuid = forge::uuid_from("f0460770-0000-4000-8000-000000000001");
    auto spec = d.disk;
    spec.partitions = {{2048, forge::make_ext(d.root, d.ext), 0x83, true},
                       {2048 + 12U * 2048, forge::make_ext(forgotten, options), 0x83, false}};
    const Checked checked(forge::make_disk(spec));
    ASSERT_EQ(checked.verdict.systems.size(), 2U);
    EXPECT_EQ(checked.verdict.systems[0].starts, Starts::Yes);
    EXPECT_EQ(checked.verdict.systems[1].name, "Weather Station");
    EXPECT_EQ(checked.verdict.systems[1].stops_at, Stage::Entry);
    EXPECT_TRUE(checked.has(Code::EntryNoneForSystem));
}

TEST(Walk, WithoutAnySystemThereIsStillAVerdict) {
    const Checked nothing(forge::Bytes(1U << 20U));
    ASSERT_EQ(nothing.verdict.systems.size(), 1U);
    EXPECT_EQ(nothing.system().kind, SystemKind::Unknown);
    EXPECT_FALSE(nothing.system().place);
    EXPECT_EQ(nothing.stage(), "firmware");
    auto d = demo::front_desk();
    d.root.remove("/etc").remove("/usr");
    EXPECT_EQ(Checked(d.build()).stage(), "init");
}

TEST(Walk, IdentityFallsBackToOlderMarks) {
    auto d = demo::front_desk();
    d.root.remove("/etc/os-release").file("/etc/debian_version", "12.5\n");
    EXPECT_EQ(Checked(d.build()).system().name, "Debian 12.5");
    d.root.remove("/etc/debian_version");
    EXPECT_EQ(Checked(d.build()).system().name, "Linux system");
}

TEST(Walk, CostFollowsTheChainNotTheDisk) {
    const support::Folder folder;
    const auto image = demo::front_desk().build();
    std::uint64_t bytes[2] = {};
    for (int i = 0; i < 2; ++i) {
        const std::string path = folder.file("disk.img");
        ASSERT_TRUE(forge::write_sparse(path, image, i == 0 ? 0 : std::uint64_t{4} << 40U));
        const auto file = open_image(path, 1);
        ASSERT_TRUE(file);
        Machine machine;
        machine.disks.push_back(inspect_disk(*file, 1, path));
        EXPECT_EQ(check(machine).systems.at(0).starts, Starts::Yes);
        bytes[i] = (*file)->counters().bytes;
    }
    EXPECT_EQ(bytes[0], bytes[1]);
    EXPECT_LT(bytes[0], image.size() / 4);
}

TEST(Walk, UnreadableSectorsEndItAtTheirStage) {
    const auto image = demo::front_desk().build();
    struct Hit {
        std::uint64_t offset;
        const char* stage;
        Code code;
    };
    for (const auto& [offset, stage, code] :
         {Hit{0, "firmware", Code::FirmwareNothingToStart}, Hit{512, "loader", Code::GrubCoreUnreadable},
          Hit{2048, "loader", Code::GrubCoreUnreadable}}) {
        Machine machine;
        machine.disks.push_back(inspect_disk(with_unreadable(memory_source(image, "d1", 1), {{offset, 512}}), 1, "x"));
        const auto verdict = check(machine);
        ASSERT_TRUE(verdict.systems.at(0).stops_at) << offset;
        EXPECT_EQ(stage_id(*verdict.systems[0].stops_at), stage) << offset;
        EXPECT_NE(std::find_if(verdict.findings.begin(), verdict.findings.end(),
                               [c = code](const Finding& f) { return f.code == c; }),
                  verdict.findings.end())
            << code;
    }
}

}  // namespace
