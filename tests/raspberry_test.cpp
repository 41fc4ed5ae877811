// SPDX-License-Identifier: MIT
// The Raspberry Pi's firmware: its configuration by model, the files it needs, what it starts.
#include "board_support.hpp"
#include "loader/videocore/config.hpp"
#include "loader/videocore/videocore.hpp"
#include "weather_station.hpp"

using namespace herberge;
using forge::Bytes;
using support::BoardVerdict;
namespace videocore = loader::videocore;

namespace {

const char* const root_uuid = "ba5e0000-0004-4a01-8a01-0000000ba5e4";

/// A hut's counter of guests: a card as the system of such boards lays it out.
struct Counter {
    forge::Tree boot, root;
    bool wide = true;
    std::string board = "rpi-4";

    Counter() {
        boot.file("/config.txt",
                  "# the counter of guests\narm_64bit=1\n[pi3]\nkernel=none.img\n[all]\nauto_initramfs=1\n");
        boot.file("/cmdline.txt",
                  std::string("console=serial0,115200 root=UUID=") + root_uuid + " rootwait\nnot read\n");
        boot.file("/start4.elf", forge::noise(2000, 1)).file("/fixup4.dat", forge::noise(500, 2));
        boot.file("/kernel8.img", forge::make_arm64_image("6.1.0-almhof-v8"));
        boot.file("/bcm2711-rpi-4-b.dtb", forge::make_device_tree({"", {}, {{"chosen", {}, {}}}}));
        root = demo::weather_station().root;
        const std::string modules = "/lib/modules/6.1.0-almhof-v8/";
        forge::Tree ramdisk;
        ramdisk.file("/init", "#!/bin/sh\nexec switch_root /root /sbin/init\n", 0755);
        ramdisk.file("/bin/busybox", forge::make_arm_program(), 0755).link("/bin/sh", "busybox");
        for (const std::string name : {"drivers/mmc/core/mmc_block", "drivers/mmc/host/sdhci-iproc", "fs/ext4/ext4"})
            ramdisk.file(modules + "kernel/" + name + ".ko",
                         forge::make_kernel_module(name.substr(name.rfind('/') + 1)));
        boot.file("/initramfs8", forge::gzip(forge::make_cpio(ramdisk)));
    }
    [[nodiscard]] BoardVerdict check() const {
        forge::FatOptions fat;
        fat.size = 4U << 20U;
        forge::ExtOptions ext;
        ext.size = 4U << 20U;
        ext.uuid = forge::uuid_from(root_uuid);
        forge::DiskSpec disk;
        disk.partitions = {{2048, forge::make_fat(boot, fat).bytes, 0x0C, false},
                           {2048 + (4U << 11U), forge::make_ext(root, ext), 0x83, false}};
        return BoardVerdict(forge::make_disk(disk), board);
    }
};

TEST(Raspberry, WholeItIsFollowed) {
    const auto board = Counter().check();
    const auto& system = board.system();
    EXPECT_FALSE(system.stops_at) << system.at(*system.stops_at).text;
    EXPECT_EQ(system.at(Stage::Firmware).text, "Raspberry Pi 4, 400 takes d1p1");
    EXPECT_EQ(system.at(Stage::BootCode).text, "the firmware's own files are on d1p1");
    EXPECT_EQ(system.at(Stage::BootSector).state, State::NotNeeded);
    EXPECT_EQ(system.at(Stage::Configuration).text,
              "d1p1:/config.txt is read: 2 settings count for Raspberry Pi 4, 400");
    const auto& menu = board.verdict.menus.at(0);
    ASSERT_EQ(menu.direct.size(), 1U);
    EXPECT_EQ(menu.direct[0].kernel.at(0).place, "d1p1:/kernel8.img");
    EXPECT_EQ(menu.direct[0].arguments, std::string("console=serial0,115200 root=UUID=") + root_uuid + " rootwait");
    EXPECT_EQ(menu.direct[0].devicetree.at(0).place, "d1p1:/bcm2711-rpi-4-b.dtb");
    ASSERT_EQ(menu.direct[0].ramdisks.size(), 1U) << "auto_initramfs takes it by the kernel's name";
    EXPECT_EQ(menu.direct[0].ramdisks[0].place, "d1p1:/initramfs8");
    EXPECT_EQ(system.place, "d1p2");
}

TEST(Raspberry, FilesThatAreNotThere) {
    struct Row {
        const char* file;
        const char* stage;
        Code code;
        const char* text;
        const char* screen;
    };
    for (const auto& row : std::initializer_list<Row>{
             {"/start4.elf", "loader", Code::BoardNextMissing,
              "Raspberry Pi 4, 400 needs d1p1:/start4.elf, which is not there",
              "(the green light blinks four times, again and again)"},
             {"/kernel8.img", "entry", Code::EntryKernelMissing,
              "Raspberry Pi 4, 400 takes kernel8.img, and d1p1 has no such file",
              "(the green light blinks seven times, again and again)"},
             {"/bcm2711-rpi-4-b.dtb", "entry", Code::BoardTreeMissing,
              "d1p1 has no device tree for Raspberry Pi 4, 400", "(a rainbow on the screen, and nothing more)"},
         }) {
        Counter counter;
        counter.boot.remove(row.file);
        const auto board = counter.check();
        EXPECT_EQ(board.stage(), row.stage) << row.file;
        ASSERT_TRUE(board.system().stops_at);
        EXPECT_EQ(board.why(), row.code);
        EXPECT_EQ(board.system().at(*board.system().stops_at).text, row.text);
        EXPECT_EQ(board.system().symptom, row.screen);
        EXPECT_FALSE(board.system().at(*board.system().stops_at).evidence.empty());
    }
}

TEST(Raspberry, OlderModelsBringTheirFirstProgramOnTheCard) {
    Counter counter;
    counter.board = "rpi-3";
    auto board = counter.check();
    EXPECT_EQ(board.stage(), "firmware");
    EXPECT_EQ(board.why(), Code::BoardNothingToStart);
    EXPECT_EQ(board.system().symptom, "(nothing)");
    counter.boot.file("/bootcode.bin", forge::noise(300, 3)).file("/start.elf", forge::noise(300, 4));
    board = counter.check();
    EXPECT_EQ(board.why(), Code::EntryKernelMissing) << "its section names a kernel that is not there";
    EXPECT_NE(board.system().at(Stage::Entry).text.find("none.img"), std::string::npos);
}

TEST(Raspberry, AnOverlayThatIsMissingIsToldAndStopsNothing) {
    Counter counter;
    counter.boot.file("/config.txt", "arm_64bit=1\nauto_initramfs=1\ndtoverlay=almhof-bell,pin=4\ndtoverlay=\n");
    const auto board = counter.check();
    EXPECT_FALSE(board.system().stops_at);
    EXPECT_TRUE(board.has(Code::BoardOverlayMissing));
}

TEST(Raspberry, UbootInTheKernelsPlace) {
    Counter counter;
    auto uboot = forge::make_uboot({{"bootcmd", "run distro_bootcmd"}, {"bootdelay", "2"}, {"loaded", "yes"}});
    const auto words = forge::to_bytes("U-Boot 2023.01");
    std::ranges::copy(words, uboot.begin() + 64);
    counter.boot.file("/kernel8.img", uboot);
    const auto board = counter.check();
    EXPECT_NE(board.system().at(Stage::Loader).text.find("the firmware starts d1p1:/kernel8.img, which is U-Boot"),
              std::string::npos)
        << board.system().at(Stage::Loader).text;
}

// --- the configuration ----------------------------------------------------------------------------------------------

videocore::Config read(const std::string& text, const char* board) {
    videocore::Config out;
    videocore::read_config(text, "d1p1:/config.txt", *videocore::find_model(board), out, nullptr, nullptr);
    return out;
}

TEST(RaspberryConfig, SectionsCountByModel) {
    const std::string text =
        "a=1\n[pi4]\na=2\n[pi3]\na=3\n[all]\nb=1\n[none]\nb=2\n[0x12345678]\nb=3\n[all]\n c = 4 # d\n[pi5]\nc=5\n"
        "[gpio4=1]\nc=6\n";
    EXPECT_EQ(read(text, "rpi-4").value("a"), "2");
    EXPECT_EQ(read(text, "rpi-3").value("a"), "3");
    EXPECT_EQ(read(text, "rpi-1").value("a"), "1");
    for (const char* board : {"rpi-1", "rpi-3", "rpi-4"}) {
        EXPECT_EQ(read(text, board).value("b"), "1") << board;
        EXPECT_EQ(read(text, board).value("c"), "4 # d") << board;
    }
    EXPECT_EQ(read(text, "rpi-5").value("c"), "5") << "nothing tells that the pin is set";
    EXPECT_EQ(read(text, "rpi-4").line("a"), 3);
    EXPECT_EQ(read(text, "rpi-4").value("none", "otherwise"), "otherwise");
}

TEST(RaspberryConfig, LinesAreCutAndFilesAreIncluded) {
    const std::string longest = "kernel=" + std::string(120, 'k');
    EXPECT_EQ(read(longest, "rpi-4").value("kernel").size(), 98U - 7U);
    const auto config = read("initramfs initrd.img followkernel\ndtoverlay=one,x=1\ndtoverlay=two\n", "rpi-4");
    ASSERT_TRUE(config.ramdisk);
    EXPECT_EQ(config.ramdisk->value, "initrd.img followkernel");
    ASSERT_EQ(config.overlays.size(), 2U);
    EXPECT_EQ(config.overlays[0].value, "one");
    EXPECT_EQ(config.overlays[1].line, 3);
    // A file that includes itself ends.
    videocore::Config out;
    int reads = 0;
    const auto include = [](const void* count, std::string_view name) -> std::optional<std::string> {
        ++*static_cast<int*>(const_cast<void*>(count));
        if (name == "gone.txt") return std::nullopt;
        return "deep=1\ninclude self.txt\n";
    };
    videocore::read_config("include self.txt\ninclude gone.txt\nlast=1\n", "config.txt",
                           *videocore::find_model("rpi-4"), out, include, &reads);
    EXPECT_EQ(out.value("deep"), "1");
    EXPECT_EQ(out.value("last"), "1");
    EXPECT_EQ(reads, 9);
    EXPECT_EQ(videocore::find_model("sunxi-h3-brom"), nullptr);
}

TEST(RaspberryConfig, AutobootNamesAPartition) {
    EXPECT_EQ(videocore::autoboot_partition("[all]\ntryboot_a_b=1\nboot_partition=2\n[tryboot]\nboot_partition=3\n"),
              2);
    EXPECT_EQ(videocore::autoboot_partition("boot_partition=x\n"), std::nullopt);
    EXPECT_EQ(videocore::autoboot_partition(""), std::nullopt);
    EXPECT_EQ(videocore::autoboot_partition("[all]\nboot_partition=2\n[tryboot]\nboot_partition=3\n", true), 3);
    EXPECT_EQ(videocore::autoboot_partition("boot_partition=2\n", true), 2);
}

/// What the system can ask for once is told, and does not count.
TEST(Raspberry, ATrialStartIsTold) {
    const auto text = [](const char* file, const char* content) {
        Counter counter;
        if (file != nullptr) counter.boot.file(file, std::string_view(content));
        const auto board = counter.check();
        EXPECT_EQ(board.stage(), "yes");
        const auto said = board.system().at(Stage::Loader).text;
        const auto at = said.find("; a trial");
        return at == std::string::npos ? std::string{} : said.substr(at + 2);
    };
    EXPECT_EQ(text(nullptr, ""), "");
    EXPECT_EQ(text("/tryboot.txt", "kernel=gone.img\n"),
              "a trial start (tryboot) reads tryboot.txt in config.txt's place");
    EXPECT_EQ(text("/autoboot.txt", "[all]\nboot_partition=1\n[tryboot]\nboot_partition=3\n"),
              "a trial start (tryboot) takes d1p3");
}

TEST(Raspberry, AKernelOfThirtyTwoBitsRunsNoProgramsOfSixtyFour) {
    Counter counter;
    counter.boot.remove("/kernel8.img");
    counter.boot.file("/config.txt", "initramfs initramfs8 followkernel\n");
    counter.boot.file("/kernel7l.img", forge::make_zimage("6.1.0-almhof-v8"));
    auto arm = counter.check();
    EXPECT_FALSE(arm.system().stops_at) << arm.stage();
    auto program = forge::make_arm_program();
    program[18] = 0xB7;  // AArch64
    counter.root.file("/usr/bin/busybox", program, 0755);
    const auto wide = counter.check();
    ASSERT_TRUE(wide.system().stops_at);
    EXPECT_EQ(*wide.system().stops_at, Stage::Init);
}

}  // namespace
