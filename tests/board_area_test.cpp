// SPDX-License-Identifier: MIT
// What lies beside a card's partitions: boot areas of an eMMC, and first programs that start the kernel themselves.
#include <zlib.h>
#include "board_support.hpp"
#include "firmware/rom.hpp"
#include "weather_station.hpp"

using namespace herberge;
using forge::Bytes;
using support::Folder;

namespace {

constexpr const char* chip = "sunxi-h3-brom";

Bytes loader_image() {
    return forge::make_legacy_image(forge::make_uboot(demo::weather_station().variables),
                                    {.type = 5, .os = 17, .load = 0x4A000000, .entry = 0x4A000000, .name = "loader"});
}

/// A first program at `at`, and U-Boot 32 KiB behind.
Bytes boot_area(std::size_t at = 0, bool with_loader = true) {
    Bytes out(4U << 20U);
    std::ranges::copy(forge::make_egon(20000), out.begin() + static_cast<std::ptrdiff_t>(at));
    if (with_loader) std::ranges::copy(loader_image(), out.begin() + static_cast<std::ptrdiff_t>(at + 32768));
    return out;
}

/// The station's card, without a first program and a loader of its own.
Bytes bare_card() {
    auto out = demo::weather_station().build();
    std::fill(out.begin() + 8192, out.begin() + (1U << 20U), std::uint8_t{0});
    return out;
}

Verdict with_areas(Bytes card, std::vector<Bytes> areas, const std::string& board = chip) {
    auto machine = support::machine_of(std::move(card));
    for (std::size_t i = 0; i < areas.size(); ++i)
        machine.disks[0].boot_areas.push_back(memory_source(std::move(areas[i]), "area" + std::to_string(i + 1)));
    CheckOptions options;
    options.firmware = FirmwareKind::Board;
    options.board = board;
    return check(machine, options);
}

TEST(BootAreas, HoldTheFirstProgramAndTheLoader) {
    const auto alone = with_areas(bare_card(), {});
    ASSERT_EQ(alone.systems.at(0).stops_at, Stage::Firmware);
    EXPECT_EQ(alone.systems[0].at(Stage::Firmware).findings.at(0), Code::BoardNothingToStart);

    const auto verdict = with_areas(bare_card(), {boot_area()});
    const auto& system = verdict.systems.at(0);
    EXPECT_EQ(system.starts, Starts::Yes) << (system.stops_at ? system.at(*system.stops_at).text : "");
    EXPECT_TRUE(system.at(Stage::Firmware).text.ends_with("finds a first program at byte 0 of boot area 1"))
        << system.at(Stage::Firmware).text;
    EXPECT_EQ(system.at(Stage::Firmware).evidence.at(0).place, "area1");
    EXPECT_TRUE(system.at(Stage::Loader).text.starts_with("U-Boot lies at byte 32768 of that boot area ("))
        << system.at(Stage::Loader).text;
    EXPECT_FALSE(
        std::ranges::any_of(verdict.findings, [](const Finding& f) { return f.code == Code::PartitionsOverlap; }));
}

TEST(BootAreas, AreLookedAtBeforeTheCardAndInTheirOrder) {
    // The second one, where the first holds nothing.
    const auto second = with_areas(bare_card(), {Bytes(65536), boot_area()});
    EXPECT_TRUE(second.systems.at(0).at(Stage::Firmware).text.ends_with("at byte 0 of boot area 2"));
    EXPECT_EQ(second.systems[0].starts, Starts::Yes);
    // A damaged one is passed over for the other, and for the card.
    auto damaged = boot_area();
    damaged[5000] ^= 1U;
    const auto over = with_areas(bare_card(), {damaged, boot_area()});
    EXPECT_TRUE(over.systems.at(0).at(Stage::Firmware).text.ends_with("at byte 0 of boot area 2"));
    EXPECT_NE(over.systems[0]
                  .at(Stage::BootCode)
                  .text.find("an earlier one was passed over: the first program fails its checksum"),
              std::string::npos)
        << over.systems[0].at(Stage::BootCode).text;
    const auto card = with_areas(demo::weather_station().build(), {damaged});
    EXPECT_TRUE(card.systems.at(0).at(Stage::Firmware).text.ends_with("at byte 8192"));
    EXPECT_EQ(card.systems[0].starts, Starts::Yes);
    // Alone it is what stops.
    const auto stops = with_areas(bare_card(), {damaged});
    EXPECT_EQ(stops.systems.at(0).stops_at, Stage::BootCode);
    EXPECT_EQ(stops.systems[0].at(Stage::BootCode).findings.at(0), Code::BoardProgramDamaged);
    EXPECT_EQ(stops.systems[0].at(Stage::Kernel).state, State::NotReached);
}

TEST(BootAreas, KeepTheLoaderBesideTheFirstProgram) {
    // The card's own loader is not looked for behind a first program in the area.
    const auto verdict = with_areas(demo::weather_station().build(), {boot_area(0, false)});
    const auto& system = verdict.systems.at(0);
    ASSERT_EQ(system.stops_at, Stage::Loader);
    EXPECT_EQ(system.at(Stage::Loader).findings.at(0), Code::BoardNextMissing);
    EXPECT_NE(system.at(Stage::Loader).text.find("at byte 32768 of that boot area, where the first program looks"),
              std::string::npos)
        << system.at(Stage::Loader).text;
    EXPECT_EQ(system.symptom, "Trying to boot from MMC1");
}

TEST(BootAreas, StartNothingOnChipsThatDoNotLookThere) {
    const auto verdict = with_areas(bare_card(), {boot_area()}, "sunxi-a20-brom");
    EXPECT_EQ(verdict.systems.at(0).stops_at, Stage::Firmware);
    // At another byte there is none, either.
    EXPECT_EQ(with_areas(bare_card(), {boot_area(8192)}).systems.at(0).stops_at, Stage::Firmware);
}

TEST(BootAreas, AreReadByTheLoadersCommands) {
    const auto machine_with = [](std::size_t areas) {
        auto machine = support::machine_of(forge::Bytes(1U << 20U));
        for (std::size_t i = 0; i < areas; ++i) {
            Bytes area(4096, static_cast<std::uint8_t>(0xA1 + i));
            area[512] = 0x55;
            machine.disks[0].boot_areas.push_back(memory_source(area, "area" + std::to_string(i + 1)));
        }
        return machine;
    };
    const std::string commands =
        "mmc dev 0 2 && mmc read 1000 1 1 && setexpr.w x *1000 && echo $x; "
        "mmc dev 0 1; mmc read 1000 0 1; setexpr.b y *1000; echo $y; "
        "mmc read 1000 7 1 && echo last; mmc read 1000 8 1 || echo behind; "
        "mmc dev 0; mmc read 1000 0 1; setexpr.b z *1000; echo $z";
    const auto printed = [&](std::size_t areas) {
        const auto machine = machine_with(areas);
        const auto outcome =
            loader::uboot::Console(machine, *find_board("uboot-arm"), {{"typed", commands}}, false).boot("typed");
        std::string out;
        for (const auto& line : outcome.screen) out += line + "|";
        return out;
    };
    EXPECT_EQ(printed(2), "a255|a1|last|behind|0|");
    // What is not at hand is not made up.
    EXPECT_EQ(printed(1).find("a255"), std::string::npos) << printed(1);
}

support::Ran run(const std::string& arguments) { return support::shell(std::string(TOOL_PATH) + " " + arguments); }

TEST(BootAreas, AreGivenOnTheCommandLine) {
    const Folder folder;
    folder.write("card.img", bare_card());
    folder.write("area.bin", boot_area());
    const std::string card = folder.file("card.img");
    const std::string one = " --boot-area d1=" + folder.file("area.bin");
    const auto without = run("check " + card + " --firmware board:" + chip);
    EXPECT_EQ(without.status, 1);
    const auto with = run("check " + card + one + " --firmware board:" + chip);
    EXPECT_EQ(with.status, 0) << with.out;
    EXPECT_NE(with.out.find("boot area 1"), std::string::npos) << with.out;
    EXPECT_EQ(run("check " + card + one + one + " --firmware board:" + chip).status, 0);
    const auto three = run("check " + card + one + one + one + " --firmware board:" + chip + " 2>&1");
    EXPECT_EQ(three.status, 2);
    EXPECT_NE(three.out.find("an eMMC has two"), std::string::npos) << three.out;
    EXPECT_EQ(run("check " + card + " --boot-area d2=" + folder.file("area.bin") + " 2>&1").status, 2);
    EXPECT_EQ(run("check " + card + " --boot-area d1=" + folder.file("none.bin") + " 2>&1").status, 3);
    const auto listed = run("boards");
    EXPECT_NE(listed.out.find("in a boot area of an eMMC (--boot-area): byte 33792"), std::string::npos) << listed.out;
}

// --- falcon mode ----------------------------------------------------------------------------------------------------

/// The station with a first program that may start a kernel itself.
struct Falcon {
    demo::WeatherStation station = demo::weather_station();
    std::string asked = "1";
    bool built_so = true;
    std::vector<std::pair<std::string, std::string>> more;
    Bytes kernel = forge::make_legacy_image(forge::make_zimage("6.1.0-almhof-armmp"),
                                            {.load = 0x42000000, .entry = 0x42000000, .name = "kernel"});
    std::string root = "UUID=" + std::string(demo::station_root_uuid);

    [[nodiscard]] Bytes arguments() const {
        forge::TreeNode chosen{"chosen", {}, {}};
        chosen.text("bootargs", "root=" + root + " ro console=ttyS0,115200 rootwait");
        forge::TreeNode tree{"", {}, {chosen, {"memory@40000000", {}, {}}}};
        tree.text("compatible", "almhof,weather-station").text("model", "Almhof weather station");
        return forge::make_device_tree(tree);
    }
    [[nodiscard]] support::BoardVerdict board() {
        station.variables.emplace_back("boot_os", asked);
        for (const auto& one : more) station.variables.push_back(one);
        auto card = station.build();
        auto first = forge::make_egon(20000);
        if (built_so) {
            const auto words = forge::to_bytes(std::string("\0boot_os\0falcon_args_file\0falcon_image_file\0", 45));
            std::ranges::copy(words, first.begin() + 6000);
            // Its sum again.
            forge::put32(first, 12, 0x5F0A6C39);
            std::uint32_t sum = 0;
            for (std::size_t i = 0; i < first.size(); i += 4) sum += forge::get32(first, i);
            forge::put32(first, 12, sum);
        }
        std::ranges::copy(first, card.begin() + 8192);
        return support::BoardVerdict(card, demo::station_board);
    }
};

TEST(FalconMode, StartsTheKernelPastTheLoader) {
    Falcon falcon;
    falcon.station.boot.file("/args", falcon.arguments()).file("/uImage", falcon.kernel);
    // No RAM disk is loaded: the kernel reaches the card itself, or does not.
    const auto board = falcon.board();
    const auto& system = board.system();
    EXPECT_TRUE(system.at(Stage::Loader)
                    .text.ends_with("; then it starts uImage itself, past U-Boot: boot_os says so (falcon mode)"))
        << system.at(Stage::Loader).text;
    EXPECT_EQ(system.at(Stage::Configuration).text, "what the kernel is told lies in d1p1:/args");
    EXPECT_EQ(system.at(Stage::Kernel).state, State::Holds) << system.at(Stage::Kernel).text;
    EXPECT_NE(system.at(Stage::Root).state, State::Breaks) << system.at(Stage::Root).text;
}

/// Its own loader of images looks at no checksum.
TEST(FalconMode, LooksAtNoChecksum) {
    Falcon falcon;
    // The sum of its data is another, and that of its head right again (include/image.h, both with the high byte
    // first).
    const auto put = [&](std::size_t at, std::uint32_t value) {
        for (unsigned i = 0; i < 4; ++i) falcon.kernel[at + i] = static_cast<std::uint8_t>(value >> (24 - 8 * i));
    };
    put(24, 0x0DDBA11);
    put(4, 0);
    put(4, static_cast<std::uint32_t>(crc32(0, falcon.kernel.data(), 64)));
    falcon.station.boot.file("/args", falcon.arguments()).file("/uImage", falcon.kernel);
    const auto board = falcon.board();
    EXPECT_NE(board.system().at(Stage::Kernel).state, State::Breaks) << board.system().at(Stage::Kernel).text;
    EXPECT_NE(board.why(), Code::UbootImageRefused);
}

TEST(FalconMode, GoesOnWithTheLoader) {
    // Not built so, not asked for, or without one of the files.
    Falcon plain;
    plain.built_so = false;
    plain.station.boot.file("/args", plain.arguments()).file("/uImage", plain.kernel);
    EXPECT_EQ(plain.board().system().at(Stage::Loader).text.find("boot_os"), std::string::npos);
    for (const char* no : {"0", "no", "false", ""}) {
        Falcon off;
        off.asked = no;
        off.station.boot.file("/args", off.arguments()).file("/uImage", off.kernel);
        EXPECT_EQ(off.board().system().at(Stage::Loader).text.find("itself"), std::string::npos) << no;
    }
    Falcon missing;
    missing.station.boot.file("/args", missing.arguments());
    const auto board = missing.board();
    EXPECT_EQ(board.stage(), "yes");
    EXPECT_NE(
        board.system()
            .at(Stage::Loader)
            .text.find(
                "the first program may start a kernel itself (boot_os), finds no uImage on the first partition, and "
                "goes on with U-Boot"),
        std::string::npos)
        << board.system().at(Stage::Loader).text;
}

TEST(FalconMode, TakesTheFilesThatTheEnvironmentNames) {
    Falcon falcon;
    falcon.asked = "yes";
    falcon.more = {{"falcon_args_file", "ridge.dtb"}, {"falcon_image_file", "ridge.img"}};
    falcon.root = "/dev/mmcblk0p9";
    falcon.station.boot.file("/ridge.dtb", falcon.arguments()).file("/ridge.img", falcon.kernel);
    const auto board = falcon.board();
    EXPECT_TRUE(board.system()
                    .at(Stage::Loader)
                    .text.ends_with("it starts ridge.img itself, past U-Boot: boot_os says so (falcon mode)"))
        << board.system().at(Stage::Loader).text;
    // Without a variable "bootargs" the kernel is told what its tree says.
    EXPECT_EQ(board.stage(), "root");
    EXPECT_NE(board.system().at(Stage::Root).text.find("/dev/mmcblk0p9"), std::string::npos)
        << board.system().at(Stage::Root).text;
}

}  // namespace
