// SPDX-License-Identifier: MIT
// Systems: what root= and fstab name, which drivers are needed, which init runs, what it must start.
#include "support.hpp"

using namespace herberge;

namespace {

/// Two disks: a root with a label, a swap area, and a second disk with one volume.
struct TwoDisks {
    Machine machine;
    TwoDisks() {
        forge::Tree tree;
        tree.file("/etc/passwd", "x");
        forge::ExtOptions options;
        options.size = 2U << 20U;
        options.journal = false;
        options.uuid = forge::uuid_from("11111111-2222-4333-8444-555555555555");
        options.label = "hut one";
        forge::DiskSpec first;
        first.size = 8U << 20U;
        first.signature = 0x0BADF00D;
        first.partitions = {{2048, forge::make_ext(tree, options), 0x83, true},
                            {8192, forge::make_swap(1U << 20U, forge::uuid_from(demo::swap_uuid)), 0x82, false}};
        options.uuid = forge::uuid_from("99999999-2222-4333-8444-555555555555");
        options.label = "hut-two";
        forge::DiskSpec second;
        second.size = 8U << 20U;
        second.signature = 0x00C0FFEE;
        second.partitions = {{2048, forge::make_ext(tree, options), 0x83, false}};
        machine.disks.push_back(inspect_disk(memory_source(forge::make_disk(first), "d1", 1), 1, "a"));
        machine.disks.push_back(inspect_disk(memory_source(forge::make_disk(second), "d2", 2), 2, "b"));
    }
};

struct Named {
    const char* name;
    const char* root;
    const char* place;  ///< empty: nothing answers
    RootReference::Kind kind;
};
class RootNames : public testing::TestWithParam<Named> {};
TEST_P(RootNames, LeadToTheirVolume) {
    const TwoDisks two;
    const auto found = resolve_root(two.machine, GetParam().root);
    EXPECT_EQ(found.kind, GetParam().kind);
    EXPECT_EQ(found.volume != nullptr ? found.volume->place : "", GetParam().place);
}
using Kind = RootReference::Kind;
INSTANTIATE_TEST_SUITE_P(
    All, RootNames,
    testing::Values(
        Named{"Uuid", "UUID=11111111-2222-4333-8444-555555555555", "d1p1", Kind::Uuid},
        Named{"UuidOfTheOther", "UUID=99999999-2222-4333-8444-555555555555", "d2p1", Kind::Uuid},
        Named{"ByUuid", "/dev/disk/by-uuid/11111111-2222-4333-8444-555555555555", "d1p1", Kind::Uuid},
        Named{"Quoted", "UUID=\"11111111-2222-4333-8444-555555555555\"", "d1p1", Kind::Uuid},
        Named{"NoUuid", "UUID=11111111-2222-4333-8444-555555555556", "", Kind::Uuid},
        Named{"Label", "LABEL=hut-two", "d2p1", Kind::Label},
        Named{"LabelWithBlank", "/dev/disk/by-label/hut\\x20one", "d1p1", Kind::Label},
        Named{"LabelCase", "LABEL=HUT-TWO", "", Kind::Label},
        Named{"PartUuid", "PARTUUID=0badf00d-01", "d1p1", Kind::PartUuid},
        Named{"PartUuidCase", "PARTUUID=00C0FFEE-01", "d2p1", Kind::PartUuid},
        Named{"PartUuidOffset", "PARTUUID=0badf00d-02/PARTNROFF=-1", "d1p1", Kind::PartUuid},
        Named{"PartUuidGone", "PARTUUID=0badf00d-03", "", Kind::PartUuid},
        Named{"PartLabel", "PARTLABEL=root", "", Kind::PartLabel}, Named{"Sda", "/dev/sda1", "d1p1", Kind::Device},
        Named{"Sdb", "/dev/sdb1", "d2p1", Kind::Device}, Named{"Vda", "/dev/vda1", "d1p1", Kind::Device},
        Named{"Nvme", "/dev/nvme0n1p1", "d1p1", Kind::Device}, Named{"NvmeTwo", "/dev/nvme1n1p1", "d2p1", Kind::Device},
        Named{"Mmc", "/dev/mmcblk0p1", "d1p1", Kind::Device}, Named{"Hda", "/dev/hda1", "", Kind::Device},
        Named{"SdaNine", "/dev/sda9", "", Kind::Device}, Named{"Mapper", "/dev/mapper/vg-root", "", Kind::Device},
        Named{"Md", "/dev/md0", "", Kind::Device}, Named{"Numbers", "8:1", "d1p1", Kind::Number},
        Named{"SecondDiskByNumber", "8:17", "d2p1", Kind::Number}, Named{"Hexadecimal", "801", "d1p1", Kind::Number},
        Named{"Absent", "", "", Kind::Absent}, Named{"Nfs", "nfs:server", "", Kind::Other}),
    support::by_name);

TEST(RootNames, WhatCannotBeKnownIsNotCalledMissing) {
    const TwoDisks two;
    EXPECT_TRUE(resolve_root(two.machine, "/dev/mapper/vg-root").cannot_tell);
    EXPECT_TRUE(resolve_root(two.machine, "ZFS=pool").cannot_tell);
    EXPECT_FALSE(resolve_root(two.machine, "UUID=nope").cannot_tell);
    EXPECT_TRUE(resolve_root(two.machine, "/dev/sda1").depends_on_hardware);
    const auto near = resolve_root(two.machine, "UUID=nope").near;
    EXPECT_EQ(near.size(), 3U);
    EXPECT_NE(near.at(0).find("d1p1 has UUID=11111111"), std::string::npos);
}

TEST(Fstab, LinesAreNumberedAndShortOnesSkipped) {
    const auto lines =
        parse_fstab("# comment\n\n/dev/sda1\t/ ext4  defaults,noatime 0 1\r\nbroken line\nUUID=x none swap sw\n");
    ASSERT_EQ(lines.size(), 2U);
    EXPECT_EQ(lines[0].line, 3);
    EXPECT_EQ(lines[0].mount_point, "/");
    EXPECT_TRUE(lines[0].has_option("noatime"));
    EXPECT_FALSE(lines[0].has_option("atime"));
    EXPECT_EQ(lines[0].pass, 1);
    EXPECT_EQ(lines[1].type, "swap");
    EXPECT_EQ(lines[1].pass, 0);
}

// --- drivers --------------------------------------------------------------------------------------------------------

Ramdisk ramdisk_with(const std::vector<std::string>& modules, const std::string& release = "6.1.0") {
    forge::Tree tree;
    tree.file("/init", "#!/bin/sh\n", 0755).file("/bin/sh", forge::make_program(), 0755);
    for (const auto& name : modules)
        tree.file("/lib/modules/" + release + "/kernel/" + name + ".ko", forge::make_kernel_module(name));
    return *inspect_ramdisk(*support::source_of(forge::make_cpio(tree), "rd"));
}

struct Drivers {
    const char* name;
    std::vector<std::string> modules;
    const char* config;
    const char* builtin;
    State state;
    std::optional<Code> code;
};
class RootDrivers : public testing::TestWithParam<Drivers> {};
TEST_P(RootDrivers, AreWeighed) {
    const auto rd = ramdisk_with(GetParam().modules);
    RootDemand demand;
    demand.file_system = Format::Ext4;
    demand.kernel_release = "6.1.0";
    demand.config = GetParam().config;
    demand.builtin = GetParam().builtin;
    const auto judged = judge_root_drivers(&rd, demand);
    EXPECT_EQ(judged.state, GetParam().state) << judged.text;
    EXPECT_EQ(judged.findings.empty() ? std::nullopt : std::optional(judged.findings[0].code), GetParam().code);
}
INSTANTIATE_TEST_SUITE_P(
    All, RootDrivers,
    testing::Values(
        Drivers{"Whole", {"sd_mod", "ahci", "ext4"}, "", "", State::Holds, {}},
        Drivers{"DashedNames", {"virtio-blk", "virtio-pci", "ext4"}, "", "", State::Holds, {}},
        Drivers{"NothingKnown", {}, "", "", State::Unknown, {}},
        Drivers{"DiskWithoutController",
                {"sd_mod", "ext4"},
                "CONFIG_EXT4_FS=m\n",
                "",
                State::Breaks,
                Code::RamdiskNoDiskDriver},
        Drivers{"ControllerWithoutDisk",
                {"ahci", "ext4"},
                "CONFIG_EXT4_FS=m\n",
                "",
                State::Breaks,
                Code::RamdiskNoDiskDriver},
        Drivers{"ControllerBuiltIn", {"sd_mod", "ext4"}, "CONFIG_SATA_AHCI=y\n", "", State::Holds, {}},
        Drivers{"AllBuiltIn", {}, "CONFIG_BLK_DEV_SD=y\nCONFIG_ATA_PIIX=y\nCONFIG_EXT4_FS=y\n", "", State::Holds, {}},
        Drivers{
            "BuiltInByList", {"sd_mod"}, "", "kernel/drivers/ata/ahci.ko\nkernel/fs/ext4/ext4.ko\n", State::Holds, {}},
        Drivers{
            "FileSystemMissing", {"nvme"}, "CONFIG_EXT4_FS=m\n", "", State::Breaks, Code::RamdiskNoFileSystemDriver},
        Drivers{"FileSystemNotInList",
                {"nvme"},
                "",
                "kernel/fs/xfs/xfs.ko\n",
                State::Breaks,
                Code::RamdiskNoFileSystemDriver},
        Drivers{"FileSystemNotTold", {"nvme"}, "CONFIG_X86_64=y\n", "", State::Unknown, {}},
        Drivers{"CommentedOut",
                {"nvme"},
                "# CONFIG_EXT4_FS is not set\n",
                "",
                State::Breaks,
                Code::RamdiskNoFileSystemDriver},
        Drivers{"OptionNameInsideAnother",
                {"nvme"},
                "CONFIG_XCONFIG_EXT4_FS=y\nCONFIG_EXT4_FS=m\n",
                "",
                State::Breaks,
                Code::RamdiskNoFileSystemDriver}),
    support::by_name);

TEST(RootDrivers, ModulesOfAnotherKernelDoNotCount) {
    const auto rd = ramdisk_with({"nvme", "ext4"}, "5.10.0");
    RootDemand demand;
    demand.kernel_release = "6.1.0";
    EXPECT_EQ(judge_root_drivers(&rd, demand).findings.at(0).code, Code::RamdiskOtherKernel);
}

TEST(RamdiskInit, FollowsRdinit) {
    const auto rd = ramdisk_with({});
    EXPECT_EQ(judge_ramdisk(rd, {}, CommandLine("")).state, State::Holds);
    EXPECT_EQ(judge_ramdisk(rd, {}, CommandLine("rdinit=/bin/sh")).state, State::Holds);
    const auto missing = judge_ramdisk(rd, {}, CommandLine("rdinit=/start"));
    EXPECT_EQ(missing.state, State::Breaks);
    EXPECT_NE(missing.findings.front().symptom.find("VFS: Unable to mount root fs"), std::string::npos);
}

// --- init -----------------------------------------------------------------------------------------------------------

struct Root {
    Machine machine;
    explicit Root(const forge::Tree& tree) {
        forge::DiskSpec disk;
        disk.size = 8U << 20U;
        forge::ExtOptions options;
        options.size = 4U << 20U;
        disk.partitions = {{2048, forge::make_ext(tree, options), 0x83, true}};
        machine = support::machine_of(forge::make_disk(disk));
    }
    [[nodiscard]] const Volume& volume() const { return *machine.disks[0].volumes[0]; }
};

TEST(Init, TheKernelTriesItsListAndARamdiskDoesNot) {
    forge::Tree tree;
    tree.file("/bin/init", forge::make_program(), 0755).file("/bin/sh", forge::make_program(), 0755);
    const Root root(tree);
    const auto alone = judge_init(root.volume(), CommandLine(""), nullptr);
    EXPECT_EQ(alone.result.state, State::Doubtful);
    EXPECT_EQ(alone.program.path, "/bin/init");
    EXPECT_EQ(alone.result.findings.at(0).code, Code::InitSecondChoice);
    // init= given: nothing else is tried.
    const auto given = judge_init(root.volume(), CommandLine("init=/sbin/x"), nullptr);
    EXPECT_EQ(given.result.state, State::Breaks);
    EXPECT_NE(given.result.findings.front().symptom.find("Requested init /sbin/x failed"), std::string::npos);
    const auto rd = ramdisk_with({});
    EXPECT_EQ(judge_init(root.volume(), CommandLine(""), &rd).result.state, State::Breaks);
}

TEST(Init, FlavourIsToldByTheProgramItself) {
    forge::Tree tree;
    tree.file("/usr/lib/systemd/systemd", forge::make_program(), 0755).link("/sbin/init", "../usr/lib/systemd/systemd");
    EXPECT_EQ(judge_init(Root(tree).volume(), CommandLine(""), nullptr).flavour, "systemd");
    forge::Tree old;
    old.file("/sbin/init", forge::make_program(), 0755).file("/etc/inittab", "id:2:initdefault:\n");
    EXPECT_EQ(judge_init(Root(old).volume(), CommandLine(""), nullptr).flavour, "sysvinit");
}

struct Unit {
    const char* name;
    const char* arguments;
    State state;
    std::optional<Code> code;
    const char* screen;
};
class Targets : public testing::TestWithParam<Unit> {};
TEST_P(Targets, AreTakenFromTheCommandLine) {
    forge::Tree tree;
    tree.file("/usr/lib/systemd/systemd", forge::make_program(), 0755).link("/sbin/init", "../usr/lib/systemd/systemd");
    tree.file("/etc/machine-id", "a1b0f000000a4a018a0100000a1b0f0a\n");
    tree.file("/usr/lib/systemd/system/rescue.target", "[Unit]\n")
        .file("/usr/lib/systemd/system/multi-user.target", "[Unit]\n")
        .file("/usr/lib/systemd/system/empty.target", "")
        .file("/usr/lib/systemd/system/hut.target", "[Unit]\n")
        .link("/etc/systemd/system/hut.target", "/dev/null")
        .link("/usr/lib/systemd/system/default.target", "graphical.target");
    const Root root(tree);
    const CommandLine arguments(GetParam().arguments);
    const auto init = judge_init(root.volume(), arguments, nullptr);
    const auto judged = judge_services(root.machine, root.volume(), init, arguments);
    EXPECT_EQ(judged.state, GetParam().state) << judged.text;
    std::vector<Code> codes;
    for (const auto& f : judged.findings) codes.push_back(f.code);
    EXPECT_EQ(codes, GetParam().code ? std::vector{*GetParam().code} : std::vector<Code>{});
    const std::string screen = judged.findings.empty() ? std::string() : judged.findings.front().symptom;
    EXPECT_NE(screen.find(GetParam().screen), std::string::npos) << screen;
}
INSTANTIATE_TEST_SUITE_P(All, Targets,
                         testing::Values(Unit{"DefaultDangles", "quiet", State::Breaks, Code::ServicesTargetMissing,
                                              "Unit default.target not found.\nFalling back"},
                                         Unit{"Single", "single", State::Doubtful, Code::ServicesRescueAsked, ""},
                                         Unit{"RunLevelOne", "rw 1", State::Doubtful, Code::ServicesRescueAsked, ""},
                                         Unit{"Named", "systemd.unit=multi-user.target", State::Holds, {}, ""},
                                         Unit{"NamedMissing", "systemd.unit=kiosk.target", State::Breaks,
                                              Code::ServicesTargetMissing, "Unit kiosk.target not found."},
                                         Unit{"MaskedByALink", "systemd.unit=hut.target", State::Breaks,
                                              Code::ServicesTargetMasked,
                                              "Unit hut.target is masked.\nFalling back to rescue.target."},
                                         Unit{"MaskedByEmptiness", "systemd.unit=empty.target", State::Breaks,
                                              Code::ServicesTargetMasked, "is masked"},
                                         Unit{"Emergency", "emergency", State::Breaks, Code::ServicesTargetMissing,
                                              "Unit emergency.target not found."}),
                         support::by_name);

TEST(Services, RunLevelsDecideWhatSysvinitMustRun) {
    forge::Tree tree;
    tree.file("/sbin/init", forge::make_program(), 0755).file("/etc/init.d/rc", "#!/sbin/init\n", 0755);
    tree.file(
        "/etc/inittab",
        "id:3:initdefault:\nl2:2:wait:/etc/init.d/rc2\nl3:3:wait:/etc/init.d/rc 3\n1:2345:respawn:/sbin/nothing\n");
    const auto judge = [](const forge::Tree& t) {
        const Root root(t);
        const auto init = judge_init(root.volume(), CommandLine(""), nullptr);
        return judge_services(root.machine, root.volume(), init, CommandLine(""));
    };
    EXPECT_EQ(judge(tree).state, State::Holds)
        << "the missing rc2 belongs to another run level, the missing getty stops nothing";
    tree.remove("/etc/init.d/rc");
    EXPECT_EQ(judge(tree).findings.at(0).code, Code::ServicesProgramMissing);
    tree.remove("/etc/inittab").file("/etc/inittab.old", "");
    EXPECT_EQ(judge(tree).state, State::Unknown) << "without an inittab this is no sysvinit that is known";
}

TEST(Services, GuardedProgramsAreNotDemanded) {
    forge::Tree tree;
    tree.file("/usr/bin/busybox", forge::make_program(), 0755)
        .link("/sbin/init", "../usr/bin/busybox")
        .link("/bin/sh", "../usr/bin/busybox");
    tree.file("/etc/init.d/rcS",
              "#!/bin/sh\n[ -x /usr/sbin/lamp ] && \\\n/usr/sbin/lamp on || exit 1\n/usr/bin/gone || "
              "true\n/usr/bin/gone2\n$dir/gone3 || exit 1\n",
              0755);
    const Root root(tree);
    const auto init = judge_init(root.volume(), CommandLine(""), nullptr);
    const auto judged = judge_services(root.machine, root.volume(), init, CommandLine(""));
    EXPECT_EQ(judged.state, State::Holds) << judged.text;
    EXPECT_EQ(judged.findings.size(), 2U);
    for (const auto& f : judged.findings) EXPECT_EQ(f.code, Code::ServicesStartupProgramOptional);
}

TEST(Inventory, ListsKernelsAndSkipsWhatIsNoSystem) {
    forge::Tree tree;
    tree.file("/etc/os-release", "NAME='Hut OS'\nVERSION_ID=7\n")
        .file("/boot/vmlinuz-1", "k")
        .file("/boot/vmlinuz-2", "k")
        .link("/vmlinuz", "boot/vmlinuz-2");
    const Root root(tree);
    const auto systems = find_systems(root.machine);
    ASSERT_EQ(systems.size(), 1U);
    EXPECT_EQ(systems[0].name, "Hut OS");
    EXPECT_EQ(systems[0].version, "7");
    EXPECT_EQ(systems[0].kernels, (std::vector<std::string>{"/boot/vmlinuz-1", "/boot/vmlinuz-2"}));
    EXPECT_TRUE(find_systems(Root(forge::Tree().file("/photos/hut.jpg", "x")).machine).empty());
}

}  // namespace
