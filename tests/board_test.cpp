// SPDX-License-Identifier: MIT
// Boards: what their ROM starts, U-Boot's environment, commands and images, and the weather station of the demo.
#include <algorithm>
#include <fstream>

#include <fmt/format.h>
#include <zlib.h>

#include "artifact/boot_image.hpp"
#include "board_support.hpp"
#include "firmware/egon.hpp"
#include "loader/uboot/console.hpp"
#include "weather_station.hpp"

using namespace herberge;
using forge::Bytes;
using support::Folder;
namespace uboot = loader::uboot;

namespace {

using Board = support::BoardVerdict;
using support::Card;
using support::load_both;
using support::ScriptCard;
using support::Typed;

// --- the demo's weather station -------------------------------------------------------------------------------------

TEST(WeatherStation, StopsWhereItsStoriesSay) {
    for (const auto& story : demo::station_stories()) {
        const Board board(story.card(), demo::station_board, story.flash ? story.flash() : Bytes{},
                          story.second ? story.second() : Bytes{});
        ASSERT_EQ(board.verdict.systems.size(), 1U) << story.name;
        const auto& system = board.system();
        EXPECT_EQ(board.stage(), story.stops_at.empty() ? "yes" : story.stops_at)
            << story.name << ": " << (system.stops_at ? system.at(*system.stops_at).text : system.at(Stage::Root).text);
        if (story.name != "station-vane-lost.img") {
            EXPECT_EQ(system.name, "Almhof Weather 2 (Arnika)") << story.name;
            EXPECT_EQ(system.place, story.second ? "ubi0/vane" : "d1p2") << story.name;
        }
        EXPECT_EQ(board.verdict.firmware, FirmwareKind::Board);
        EXPECT_EQ(board.verdict.board, demo::station_board);
        if (!system.stops_at) continue;
        EXPECT_FALSE(system.symptom.empty()) << story.name;
        EXPECT_FALSE(system.at(*system.stops_at).evidence.empty()) << story.name;
        for (const Stage stage : all_stages()) {
            if (stage < *system.stops_at)
                EXPECT_TRUE(system.at(stage).state == State::Holds || system.at(stage).state == State::NotNeeded ||
                            system.at(stage).state == State::Doubtful)
                    << story.name << " " << stage_id(stage);
            if (stage > *system.stops_at) EXPECT_EQ(system.at(stage).state, State::NotReached) << story.name;
        }
    }
}

TEST(WeatherStation, WholeItIsFollowedFromItsRomToItsServices) {
    const Board board(demo::weather_station().build(), demo::station_board);
    const auto& system = board.system();
    EXPECT_EQ(system.at(Stage::Firmware).text, "the ROM of Allwinner H3, H2+ finds a first program at byte 8192");
    EXPECT_EQ(system.at(Stage::BootCode).text,
              "the first program (23.5 KiB) passes its checksum and fits into the chip's 32.0 KiB");
    EXPECT_EQ(system.at(Stage::BootSector).state, State::NotNeeded);
    EXPECT_TRUE(system.at(Stage::Loader).text.starts_with("U-Boot lies at byte 40960"))
        << system.at(Stage::Loader).text;
    EXPECT_NE(system.at(Stage::Loader).text.find("built into it (7 variables)"), std::string::npos);
    EXPECT_EQ(system.at(Stage::Configuration).text, "U-Boot starts from d1p1:/station.scr");
    EXPECT_EQ(system.entry, "Weather station");
    EXPECT_EQ(system.at(Stage::Kernel).state, State::Holds) << system.at(Stage::Kernel).text;
    EXPECT_NE(system.at(Stage::Kernel).text.find("xz payload"), std::string::npos);
    EXPECT_NE(system.at(Stage::Root).text.find("d1p2"), std::string::npos);
    EXPECT_EQ(system.at(Stage::Services).state, State::Holds);
    const auto& menu = board.verdict.menus.at(0);
    EXPECT_EQ(menu.loader, "U-Boot");
    ASSERT_EQ(menu.direct.size(), 1U);
    EXPECT_EQ(menu.direct[0].arguments,
              std::string("root=UUID=") + demo::station_root_uuid + " ro console=ttyS0,115200");
    EXPECT_EQ(menu.direct[0].line, 5);
    ASSERT_EQ(menu.direct[0].kernel.size(), 1U);
    EXPECT_TRUE(menu.direct[0].kernel[0].part.has_value());
    EXPECT_EQ(menu.direct[0].kernel[0].place, "d1p1:/station.itb");
    // Who starts whom, from the ROM on.
    std::vector<std::string> way = {"firmware"};
    for (const auto& step : board.verdict.graph)
        if (step.from == way.back()) way.push_back(step.to);
    EXPECT_EQ(way,
              (std::vector<std::string>{"firmware", "ROM of Allwinner H3, H2+", "first program (byte 8192)", "U-Boot",
                                        "U-Boot (d1p1:/station.scr)", "Almhof Weather 2 (Arnika) (d1p2)"}));
}

/// What is wrong, by code, words and bytes.
TEST(WeatherStation, SaysWhatIsWrong) {
    struct Row {
        std::string name;
        Code code;
        std::string text;
        std::uint64_t at;  ///< byte of the disk that the first evidence begins at; 0: not by bytes
    };
    const Row rows[] = {
        {"station-large.img", Code::BoardProgramTooLarge,
         "the first program has 39.5 KiB, and the memory on the chip takes 32.0 KiB", 8192 + 16},
        {"station-sum.img", Code::BoardProgramDamaged,
         "the first program fails its checksum: the ROM does not start it", 8192 + 12},
        {"station-mark.img", Code::BoardNothingToStart, "the ROM of Allwinner H3, H2+ finds no first program on d1",
         8192 + 4},
        {"station-loader.img", Code::BoardNextMissing,
         "at byte 40960, where the first program looks, there is no image of U-Boot: it takes what lies there for code",
         40960},
        {"station-tree.img", Code::UbootFileMissing, "d1p1:/ridge.dtb is not there: File not found", 0},
        {"station-hash.img", Code::UbootImageRefused, "the kernel kernel-1 of d1p1:/station.itb fails its sha256", 1},
        {"station-flash.img", Code::UbootCommandsEnd, "the variable from_net that it is to run is not defined", 0},
        {"station-root.img", Code::RootNotFound, "", 0},
    };
    for (const auto& row : rows) {
        const auto all = demo::station_stories();
        const auto story = std::ranges::find(all, row.name, &demo::StationStory::name);
        ASSERT_NE(story, all.end()) << row.name;
        const Board board(story->card(), demo::station_board, story->flash ? story->flash() : Bytes{});
        const auto& rung = board.system().at(*board.system().stops_at);
        EXPECT_EQ(board.why(), row.code) << row.name << ": " << rung.text;
        if (!row.text.empty()) EXPECT_EQ(rung.text, row.text) << row.name;
        if (row.at == 0) continue;
        ASSERT_TRUE(rung.evidence.at(0).range) << row.name;
        if (row.at > 1) EXPECT_EQ(rung.evidence[0].range->offset, row.at) << row.name;
    }
}

// --- first programs -------------------------------------------------------------------------------------------------

TEST(Egon, BoundsOfWhatTheRomStarts) {
    const auto* h3 = find_board("sunxi-h3-brom");
    const auto* a20 = find_board("sunxi-a20-brom");
    ASSERT_TRUE(h3 != nullptr && a20 != nullptr);
    EXPECT_EQ(find_board("sunxi-none"), nullptr);
    Bytes card(1U << 20U);
    const auto place = [&](std::size_t at, const Bytes& program) {
        std::ranges::fill(card, std::uint8_t{0});
        std::ranges::copy(program, card.begin() + static_cast<std::ptrdiff_t>(at));
    };
    const auto found = [&](const herberge::Board& board) { return find_egon(*memory_source(card, "d1", 1), board); };
    place(8192, forge::make_egon(32768));
    ASSERT_TRUE(found(*h3));
    EXPECT_TRUE(found(*h3)->sound());
    EXPECT_EQ(found(*h3)->length, 32768U);
    EXPECT_EQ(found(*h3)->branch_to, 0x60U);
    // By hand: the sum over all words, with the stamp in place of the sum.
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < 32768; i += 4) sum += i == 12 ? 0x5F0A6C39U : forge::get32(card, 8192 + i);
    EXPECT_EQ(sum, forge::get32(card, 8192 + 12));
    place(131072, forge::make_egon(1024));
    EXPECT_TRUE(found(*h3)) << "the second place";
    EXPECT_FALSE(found(*a20)) << "an older chip has no second place";
    place(8192, forge::make_egon(1024));
    forge::put32(card, 8192 + 16, 0xFFFFFFFC);
    EXPECT_FALSE(found(*h3)->whole);
    forge::put32(card, 8192 + 16, 1022);
    EXPECT_FALSE(found(*h3)->whole);
    forge::put32(card, 8192, 0xEAFFFFFE);
    EXPECT_EQ(found(*h3)->branch_to, 0U) << "a jump to itself";
    forge::put32(card, 8192, 0xE3A00000);
    EXPECT_EQ(found(*h3)->branch_to, std::nullopt);
}

/// The first instruction is a branch over the header: to its end at least, and to somewhere within the program.
TEST(Egon, WhereItsFirstInstructionMayLead) {
    const auto with_branch = [](std::uint32_t to) {
        auto card = demo::weather_station().build();
        const std::uint32_t old = forge::get32(card, 8192);
        // ARM's B: (target - address - 8) / 4, in 24 bits.
        const std::uint32_t now = 0xEA000000U | (((to - 8) >> 2U) & 0xFFFFFFU);
        forge::put32(card, 8192, now);
        forge::put32(card, 8192 + 12, forge::get32(card, 8192 + 12) + now - old);
        return Board(card, demo::station_board);
    };
    const auto length = forge::get32(demo::weather_station().build(), 8192 + 16);
    for (const std::uint32_t to : {16U, 0x60U, length - 4}) EXPECT_EQ(with_branch(to).stage(), "yes") << to;
    for (const std::uint32_t to : {12U, 0U, length, length + 4}) {
        const auto board = with_branch(to);
        EXPECT_EQ(board.stage(), "boot-code") << to;
        EXPECT_EQ(board.why(), Code::BoardProgramDamaged);
        const auto& rung = board.system().at(Stage::BootCode);
        EXPECT_EQ(rung.text,
                  "the first program's checksum holds, but its first instruction does not lead over its header");
        ASSERT_TRUE(rung.evidence.at(0).range);
        EXPECT_EQ(*rung.evidence[0].range, (DiskRange{1, 8192, 4}));
        EXPECT_EQ(rung.evidence[0].expected, "a jump into its code");
        EXPECT_EQ(rung.evidence[0].found, "a jump to byte " + std::to_string(to));
    }
}

TEST(Egon, AsTheSystemsOwnMakerWritesIt) {
    const Folder folder;
    folder.write("code", forge::noise(5000, 3));
    const auto made = support::shell("cd " + folder.file("") + " && mkimage -T sunxi_egon -d code first");
    if (made.status != 0) GTEST_SKIP() << "mkimage is not here: " << made.out;
    Bytes card(8192);
    const auto first = support::file_bytes(folder.file("first"));
    card.insert(card.end(), first.begin(), first.end());
    const auto found = find_egon(*memory_source(card, "d1", 1), *find_board("sunxi-h3-brom"));
    ASSERT_TRUE(found);
    EXPECT_TRUE(found->sound());
    EXPECT_TRUE(found->branch_to && *found->branch_to >= 96);
}

/// The first program does what the next one's head says, whatever that is.
TEST(Boards, WhereTheNextProgramIsPut) {
    const auto of = [](std::size_t at, std::uint32_t value) {
        auto card = demo::weather_station().build();
        for (std::size_t i = 0; i < 4; ++i)
            card[demo::station_loader_at + at + i] = static_cast<std::uint8_t>(value >> (24 - 8 * i));
        return Board(card, demo::station_board);
    };
    EXPECT_EQ(of(16, 0x4A000000).stage(), "yes");
    for (const auto& [at, value] : std::initializer_list<std::pair<std::size_t, std::uint32_t>>{
             {16, 0x1000}, {20, 0x49FFFFFF}, {20, 0x5A000000}, {12, 0x7FFFFFFF}}) {
        const auto board = of(at, value);
        EXPECT_EQ(board.stage(), "loader") << at;
        EXPECT_EQ(board.why(), Code::BoardNextMissing) << at;
        EXPECT_EQ(board.system().symptom, "Trying to boot from MMC1") << at;
    }
    // Neither checksum is looked at.
    const auto board = of(24, 0x12345678);
    EXPECT_EQ(board.stage(), "yes");
    EXPECT_EQ(board.system().at(Stage::Loader).state, State::Doubtful);
}

TEST(Boards, AMediumTellsWhichItFits) {
    const auto machine = support::machine_of(demo::weather_station().build());
    std::vector<std::string_view> names;
    for (const auto* board : fitting_boards(machine)) names.push_back(board->name);
    EXPECT_EQ(names, (std::vector<std::string_view>{"sunxi-a10-brom", "sunxi-a20-brom", "sunxi-a80-brom",
                                                    "sunxi-h3-brom", "sunxi-a64-brom", "sunxi-h5-brom"}));
    EXPECT_TRUE(fitting_boards(support::machine_of(demo::front_desk().build())).empty());
    EXPECT_TRUE(fitting_boards(Machine{}).empty());
}

// --- the environment ------------------------------------------------------------------------------------------------

TEST(UbootEnvironment, IsReadWithItsChecksum) {
    const std::vector<std::pair<std::string, std::string>> variables = {{"bootcmd", "run a; run b"}, {"empty", ""}};
    auto bytes = forge::make_uboot_environment(variables, 4096);
    const auto stored = uboot::read_stored(*memory_source(bytes, "env"));
    ASSERT_TRUE(stored);
    EXPECT_TRUE(stored->sound);
    EXPECT_EQ(stored->variables.at("bootcmd"), "run a; run b");
    EXPECT_EQ(stored->variables.at("empty"), "");
    bytes[4000] = 1;
    EXPECT_FALSE(uboot::read_stored(*memory_source(bytes, "env"))->sound);
    EXPECT_FALSE(uboot::read_stored(*memory_source(Bytes(4096, 0xFF), "env")));
    EXPECT_FALSE(uboot::read_stored(*memory_source(Bytes(6), "env")));
}

TEST(UbootEnvironment, ACounterOfStartsChoosesTheCommand) {
    const auto with = [](std::vector<std::pair<std::string, std::string>> more) {
        auto variables = demo::weather_station().variables;
        variables.emplace_back("altbootcmd", "run from_net");
        variables.insert(variables.end(), more.begin(), more.end());
        return Board(demo::weather_station().build(), demo::station_board,
                     forge::make_uboot_environment(variables, 65536));
    };
    const auto within = with({{"bootlimit", "3"}, {"bootcount", "2"}, {"upgrade_available", "1"}});
    EXPECT_EQ(within.stage(), "yes");
    EXPECT_NE(within.system()
                  .at(Stage::Loader)
                  .text.find("this is start 3 of at most 3 since an update that nobody called good: bootcmd runs"),
              std::string::npos)
        << within.system().at(Stage::Loader).text;
    const auto through = with({{"bootlimit", "3"}, {"bootcount", "3"}, {"upgrade_available", "1"}});
    EXPECT_EQ(through.stage(), "configuration");
    EXPECT_NE(through.system().at(Stage::Loader).text.find("altbootcmd runs in bootcmd's place"), std::string::npos);
    EXPECT_NE(through.system().at(Stage::Configuration).text.find("from_net"), std::string::npos);
    // Without a limit, or an update under way, nothing counts.
    EXPECT_EQ(with({{"bootcount", "9"}, {"upgrade_available", "1"}}).stage(), "yes");
    EXPECT_EQ(with({{"bootlimit", "3"}, {"bootcount", "9"}, {"upgrade_available", "0"}}).stage(), "yes");
}

TEST(UbootEnvironment, IsFoundInADump) {
    const auto one = [](const std::string& command, std::optional<std::uint8_t> flag) {
        Bytes body = forge::to_bytes("bootcmd=" + command);
        body.resize(8192 - (flag ? 5U : 4U));
        Bytes out;
        forge::put32(out, 0, static_cast<std::uint32_t>(crc32(0, body.data(), static_cast<unsigned>(body.size()))));
        if (flag) out.push_back(*flag);
        out.insert(out.end(), body.begin(), body.end());
        return out;
    };
    const auto found = [](const std::vector<std::pair<std::size_t, Bytes>>& parts) {
        Bytes dump(256 * 1024, 0xFF);
        for (const auto& [at, bytes] : parts) std::ranges::copy(bytes, dump.begin() + static_cast<std::ptrdiff_t>(at));
        return uboot::find_stored(*memory_source(dump, "flash"));
    };
    EXPECT_FALSE(found({}));
    EXPECT_EQ(found({{0x20000, one("plain", {})}})->at, 0x20000U);
    EXPECT_EQ(found({{0x20000, one("plain", {})}})->size, 8192U);
    // Of two copies the one in use; counters go on with 0 behind 255.
    EXPECT_EQ(found({{0x10000, one("a", 0)}, {0x20000, one("b", 1)}})->variables.at("bootcmd"), "b");
    EXPECT_EQ(found({{0x10000, one("a", 7)}, {0x20000, one("b", 6)}})->variables.at("bootcmd"), "a");
    EXPECT_EQ(found({{0x10000, one("a", 255)}, {0x20000, one("b", 0)}})->variables.at("bootcmd"), "b");
    // A damaged copy counts only where there is no other.
    auto damaged = one("a", 9);
    damaged[300] = 1;
    EXPECT_EQ(found({{0x10000, damaged}, {0x20000, one("b", 1)}})->variables.at("bootcmd"), "b");
    EXPECT_FALSE(found({{0x10000, damaged}})->sound);
}

/// What an environment is told by: a name of up to 64 characters, of those that names are made of, and an equals sign.
TEST(UbootEnvironment, BeginsWithAName) {
    const auto read = [](const std::string& text) {
        Bytes body = forge::to_bytes(text);
        body.resize(4096 - 4);
        Bytes out;
        forge::put32(out, 0, static_cast<std::uint32_t>(crc32(0, body.data(), static_cast<unsigned>(body.size()))));
        out.insert(out.end(), body.begin(), body.end());
        return uboot::read_stored(*memory_source(out, "flash")).has_value();
    };
    for (const std::string name : {"a", "z", "A", "Z", "0", "9", "_", ".", "-", "+", ",", "#", "bed0.Z_9"})
        EXPECT_TRUE(read(name + "=1")) << name;
    for (const std::string name : {"", "`", "{", "@", "[", "/", ":", " ", "b d", "\x7F", "\xC3\xA4"})
        EXPECT_FALSE(read(name + "=1")) << name;
    EXPECT_TRUE(read(std::string(63, 'x') + "=1"));
    EXPECT_TRUE(read(std::string(64, 'x') + "=1"));
    EXPECT_TRUE(read(std::string(65, 'x') + "=1")) << "its first letter is taken for a counter";
    EXPECT_FALSE(read(std::string(66, 'x') + "=1"));
    EXPECT_FALSE(read("inn"));
}

TEST(UbootEnvironment, AsTheSystemsOwnMakerWritesIt) {
    const Folder folder;
    folder.write("text", forge::to_bytes("bootcmd=run start\nbootdelay=3\n"));
    const auto made = support::shell("cd " + folder.file("") +
                                     " && mkenvimage -s 16384 -o plain text && mkenvimage -r "
                                     "-s 16384 -o redundant text");
    if (made.status != 0) GTEST_SKIP() << "mkenvimage is not here: " << made.out;
    for (const char* name : {"plain", "redundant"}) {
        const auto stored = uboot::read_stored(*memory_source(support::file_bytes(folder.file(name)), name));
        ASSERT_TRUE(stored) << name;
        EXPECT_TRUE(stored->sound) << name;
        EXPECT_EQ(stored->flag.has_value(), std::string(name) == "redundant");
        EXPECT_EQ(stored->variables, (uboot::Variables{{"bootcmd", "run start"}, {"bootdelay", "3"}})) << name;
    }
}

TEST(UbootEnvironment, IsFoundInTheProgramItself) {
    const auto program =
        forge::make_uboot({{"arch", "arm"}, {"bootcmd", "run x"}, {"bootdelay", "1"}, {"x", "echo a=b"}});
    const auto variables = uboot::find_built_in(*memory_source(program, "d1"), 0, program.size());
    EXPECT_EQ(variables.size(), 4U);
    EXPECT_EQ(variables.at("arch"), "arm");
    EXPECT_EQ(variables.at("x"), "echo a=b");
    EXPECT_TRUE(uboot::find_built_in(*memory_source(forge::noise(50000, 1), "d1"), 0, 50000).empty());
    EXPECT_TRUE(uboot::find_built_in(*memory_source(program, "d1"), program.size() + 5, 100).empty());
}

/// As it is on the card, behind U-Boot: where that names no file for it.
TEST(UbootEnvironment, OnTheCardItself) {
    auto variables = demo::weather_station().variables;
    variables[0].second = "run from_net";
    const auto stored = forge::make_uboot_environment(variables, 131072);
    auto card = demo::weather_station().build();
    std::ranges::copy(stored, card.begin() + 0x88000);
    const Board used(card, demo::station_board);
    EXPECT_EQ(used.stage(), "configuration");
    EXPECT_NE(used.system().at(Stage::Loader).text.find("its environment is stored at byte 557056 of d1 (7 variables)"),
              std::string::npos)
        << used.system().at(Stage::Loader).text;
    card[0x88000 + 900] = 'x';
    const Board unsound(card, demo::station_board);
    EXPECT_EQ(unsound.stage(), "yes");
    EXPECT_TRUE(unsound.has(Code::UbootEnvironmentUnused));
    // One that keeps it in a file does not look there.
    auto station = demo::weather_station();
    station.variables.emplace_back("env_file", "uboot.env");
    auto filed = station.build();
    std::ranges::copy(stored, filed.begin() + 0x88000);
    EXPECT_EQ(Board(filed, demo::station_board).stage(), "yes");
    station.boot.file("/uboot.env", stored);
    const Board from_file(station.build(), demo::station_board);
    EXPECT_EQ(from_file.stage(), "configuration");
    EXPECT_NE(from_file.system().at(Stage::Loader).text.find("its environment is stored in d1p1:/uboot.env"),
              std::string::npos)
        << from_file.system().at(Stage::Loader).text;
}

// --- commands -------------------------------------------------------------------------------------------------------

TEST(UbootCommands, AreCarriedOutAsItsShellDoes) {
    const std::pair<const char*, const char*> rows[] = {
        {"echo a  b; echo 'c  d'", "a b|c  d|"},
        {"setenv x 1 2; echo $x ${x}y \"$x\" '$x'", "1 2 1 2y 1 2 $x|"},
        {"a=5; echo ${a}; env exists a || echo local", "5|local|"},
        {"if true; then echo yes; else echo no; fi", "yes|"},
        {"if false; then echo 1; elif true; then echo 2; else echo 3; fi", "2|"},
        {"if false\nthen echo 1\nelse\necho 2\nfi", "2|"},
        {"true && echo a; false && echo b; false || echo c; true || echo d", "a|c|"},
        {"for i in x y 'z w'; do echo $i; done", "x|y|z|w|"},
        {"setenv x 'a b'; for i in \"$x\" c; do echo $i; done; echo \"$x\"", "a|b|c|a b|"},
        // The rest of such a list is passed over as a whole.
        {"false && echo a || echo b; echo c", "c|"},
        {"true || echo a && echo b; echo c", "c|"},
        {"false || false && echo b || echo c; echo d", "d|"},
        {"setenv list a b; for i in ${list} c; do echo $i; done", "a|b|c|"},
        {"setenv n 3; while itest $n > 0; do echo $n; setexpr n $n - 1; done", "3|2|1|"},
        // Every comparison of itest's, on both sides of its bound; .s compares words.
        {"for i in 9 a b; do itest $i < a && echo $i; itest $i -lt 0xa && echo $i; done", "9|9|"},
        {"for i in 9 a b; do itest $i > a && echo $i; itest $i -gt a && echo $i; done", "b|b|"},
        {"for i in 9 a b; do itest $i <= a && echo $i; itest $i -le a && echo $i; done", "9|9|a|a|"},
        {"for i in 9 a b; do itest $i >= a && echo $i; itest $i -ge a && echo $i; done", "a|a|b|b|"},
        {"for i in 9 a; do itest $i == a && echo e$i; itest $i -eq a && echo e$i; done", "ea|ea|"},
        {"for i in 9 a; do itest $i != a && echo $i; itest $i -ne a && echo $i; itest $i <> a && echo $i; done",
         "9|9|9|"},
        {"itest.s a == a && echo 1; itest.s a == 0xa || echo 2; itest.s a != b && echo 3; itest.s a < b && echo 4",
         "1|2|3|4|"},
        {"fdt resize 100 || echo no tree", "no tree|"},
        {"itest a ~ a || echo no; itest a == || echo short", "no|short|"},
        {"until true; do echo never; done; echo after", "after|"},
        {"setenv x 'echo inner'; run x; echo $?", "inner|0|"},
        {"false; echo $?; true; echo $?", "1|0|"},
        {"# nothing\necho a # b\necho a#b", "a|a#b|"},
        // An escape within quotes keeps its backslash; the next time that the value is read it goes.
        {"echo a\\ b \\$x \"a\\\"b\"; setenv x \"a\\\"b\"; echo \"$x\"", "a b $x a\\\"b|a\"b|"},
        {"setenv x; echo -${x}-; test -n \"$x\" || echo empty", "--|empty|"},
        {"test -n ${gone} || echo absent", "absent|"},
        {"test 5 -lt 10 && test 0x10 -eq 16 && test a = a && test a != b && echo all", "all|"},
        {"test 1 = 2 -o 3 = 3 && echo or; test 1 = 1 -a 2 = 3 || echo and; test ! 1 = 2 && echo not", "or|and|not|"},
        {"test -e mmc 0:1 a.txt && echo there; test -e mmc 0:1 /b || echo gone; test -e usb 0:1 a || echo no",
         "there|gone|no|"},
        {"load mmc 0:1 1000 a.txt; echo $filesize; load mmc 0:1 2000 b.txt || echo $filesize",
         "1c|Failed to load 'b.txt'|1c|"},
        {"load mmc 0:1 1000 a.txt; env import -t 1000 $filesize; echo $one; printenv", "1|"},
        {"part list mmc 0 -bootable x; echo $x; part number mmc 0 1 y; echo $y; part start mmc 0 1 z; echo $z",
         "1|0x1|800|"},
        {"fstype mmc 0:1 t; echo $t; fstype mmc 0:2 || echo none", "fat|** Invalid partition 2 **|none|"},
        {"mmc dev 0 && echo first; mmc dev 1 || echo second; dhcp || echo net",
         "first|MMC: no card present|second|No ethernet found.|net|"},
        {"setexpr x 10 + f; echo $x; setexpr y 0x20 * 2; echo $y; setexpr z 1 / 0 || echo no", "1f|40|no|"},
        {"load mmc 0:1 200 leave.scr; source 200; echo on", "in|on|"},
        {"setenv ver U-Boot 2023.01+x; load mmc 0:1 200 leave.scr; source 200; echo on", "in|never|on|"},
        {"setenv ver U-Boot 2024.01; load mmc 0:1 200 leave.scr; source 200; echo on", "in|on|"},
        {"for i in 1 2; do for j in a b; do echo $i$j; done; done", "1a|1b|2a|2b|"},
        {"echo ${a:-b}$", "b$|"},
    };
    for (const auto& [commands, expected] : rows) EXPECT_EQ(Typed(commands).printed(), expected) << commands;
}

TEST(UbootCommands, HaveBounds) {
    const auto of = [](const std::string& commands, const uboot::Variables& more = {}) {
        const Typed typed(commands, more);
        EXPECT_FALSE(typed.outcome.started);
        return typed.outcome.troubles.empty() ? std::string("none") : typed.outcome.troubles.front().why.text;
    };
    EXPECT_EQ(of("while true; do true; done"), "its commands go on longer than is followed");
    EXPECT_EQ(of("run typed"), "its scripts and variables run each other without an end");
    EXPECT_EQ(of("load mmc 0:1 200 loop.scr; source 200"), "its scripts and variables run each other without an end");
    EXPECT_EQ(of("if true; then echo"), "its commands cannot be read on: \"fi\" is missing");
    EXPECT_EQ(of("fi"), "its commands cannot be read on: \"fi\" stands where it may not");
    EXPECT_EQ(of("echo 'open"), "its commands cannot be read on: a quote is not closed");
    EXPECT_EQ(of("echo ${open"), "its commands cannot be read on: a variable's name is not closed");
    EXPECT_EQ(of("run gone"), "the variable gone that it is to run is not defined");
    std::string deep;
    for (int i = 0; i < 40; ++i) deep += "if true; then ";
    EXPECT_EQ(of(deep), "its commands cannot be read on: more commands than are read");
    EXPECT_EQ(Typed("frobnicate 1").outcome.unfollowed, std::vector<std::string>{"frobnicate"});
    EXPECT_EQ(of("reset"), "its commands end with “reset”: nothing was started");
    EXPECT_LE(Typed("while true; do echo x; done").outcome.screen.size(), 400U);
}

// --- images ---------------------------------------------------------------------------------------------------------

TEST(LegacyImages, AsTheSystemsOwnMakerWritesThem) {
    const Folder folder;
    folder.write("kernel", forge::noise(3000, 4));
    folder.write("disk", forge::noise(1001, 5));
    folder.write("text", forge::to_bytes("echo hello\n"));
    const auto made = support::shell(
        "cd " + folder.file("") +
        " && mkimage -A arm64 -O linux -T kernel -C gzip -a 0x40080000 -e 0x40080040 -n 'a kernel' -d kernel one && "
        "mkimage -A arm -O linux -T multi -C none -d kernel:disk two && mkimage -A arm -T script -d text three");
    if (made.status != 0) GTEST_SKIP() << "mkimage is not here: " << made.out;
    const auto one = inspect_legacy_image(*memory_source(support::file_bytes(folder.file("one")), "one"));
    ASSERT_TRUE(one);
    EXPECT_TRUE(one->header_sound && one->data_sound && one->whole);
    EXPECT_EQ(one->header.arch, 22);
    EXPECT_EQ(one->header.type, 2);
    EXPECT_EQ(one->header.load, 0x40080000U);
    EXPECT_EQ(one->header.entry, 0x40080040U);
    EXPECT_EQ(legacy_compression(one->header.compression), Compression::Gzip);
    const auto two = inspect_legacy_image(*memory_source(support::file_bytes(folder.file("two")), "two"));
    ASSERT_TRUE(two);
    ASSERT_EQ(two->parts.size(), 2U);
    EXPECT_EQ(two->parts[0], (std::pair<std::uint64_t, std::uint64_t>{64 + 12, 3000}));
    EXPECT_EQ(two->parts[1], (std::pair<std::uint64_t, std::uint64_t>{64 + 12 + 3000, 1001}));
    const auto bytes = support::file_bytes(folder.file("three"));
    const auto three = inspect_legacy_image(*memory_source(bytes, "three"));
    ASSERT_TRUE(three);
    ASSERT_EQ(three->parts.size(), 1U);
    EXPECT_EQ(
        std::string(bytes.begin() + static_cast<std::ptrdiff_t>(three->parts[0].first), bytes.end()).substr(0, 10),
        "echo hello");
    // Each kind of damage is told by itself.
    auto cut = bytes;
    cut.resize(cut.size() - 1);
    EXPECT_FALSE(inspect_legacy_image(*memory_source(cut, "cut"))->whole);
    auto changed = bytes;
    changed[70] ^= 1;
    EXPECT_TRUE(inspect_legacy_image(*memory_source(changed, "changed"))->header_sound);
    EXPECT_FALSE(inspect_legacy_image(*memory_source(changed, "changed"))->data_sound);
    changed = bytes;
    changed[33] ^= 1;
    EXPECT_FALSE(inspect_legacy_image(*memory_source(changed, "changed"))->header_sound);
    changed[0] = 0;
    EXPECT_FALSE(inspect_legacy_image(*memory_source(changed, "changed")));
}

TEST(ImageTrees, AsTheSystemsOwnMakersWriteThem) {
    const Folder folder;
    folder.write("kernel", forge::noise(3000, 4));
    folder.write("tree", forge::make_device_tree(forge::TreeNode{"", {}, {}}.text("compatible", "almhof,two")));
    folder.write("image.its", forge::to_bytes(R"(/dts-v1/; / { description = "two"; #address-cells = <1>;
images { k { description = "k"; data = /incbin/("kernel"); type = "kernel"; arch = "arm"; os = "linux"; compression = "none";
load = <0x42000000>; entry = <0x42000000>; hash-1 { algo = "crc32"; }; hash-2 { algo = "sha1"; }; hash-3 { algo = "md5"; }; };
t { description = "t"; data = /incbin/("tree"); type = "flat_dt"; arch = "arm"; compression = "none"; hash { algo = "sha256"; }; }; };
configurations { default = "a"; a { description = "A"; kernel = "k"; }; b { description = "B"; kernel = "k"; fdt = "t"; }; }; };)"));
    const auto made =
        support::shell("cd " + folder.file("") + " && mkimage -f image.its inside && mkimage -E -f image.its outside");
    if (made.status != 0) GTEST_SKIP() << "mkimage or dtc is not here: " << made.out;
    for (const char* name : {"inside", "outside"}) {
        auto bytes = support::file_bytes(folder.file(name));
        const auto fit = Fit::open(memory_source(bytes, name));
        ASSERT_TRUE(fit) << name << fit.error().text();
        EXPECT_EQ(fit->images(), (std::vector<std::string>{"k", "t"})) << name;
        EXPECT_EQ(fit->default_configuration(), "a");
        ASSERT_EQ(fit->configurations().size(), 2U);
        EXPECT_EQ(fit->best_match({"almhof,one", "almhof,two"}), fit->find("b"));
        EXPECT_EQ(fit->best_match({"almhof,one"}), nullptr);
        const auto kernel = fit->image("k");
        ASSERT_TRUE(kernel && kernel->data_there) << name;
        EXPECT_EQ(kernel->length, 3000U);
        EXPECT_EQ(kernel->load, 0x42000000U);
        ASSERT_EQ(kernel->hashes.size(), 3U);
        for (const auto& hash : kernel->hashes) EXPECT_TRUE(hash.known && hash.matches) << name << hash.algorithm;
        bytes[static_cast<std::size_t>(kernel->offset) + 5] ^= 1;
        const auto broken = Fit::open(memory_source(bytes, name))->image("k");
        for (const auto& hash : broken->hashes) EXPECT_FALSE(hash.matches) << name << hash.algorithm;
        EXPECT_FALSE(fit->image("gone"));
        EXPECT_FALSE(fit->image("../k"));
    }
}

TEST(ImageTrees, HostileOnesAreRefused) {
    const auto fit = forge::make_fit({{"kernel-1", "kernel", Bytes(100)}}, "x");
    const auto error = [](const Bytes& bytes) {
        const auto opened = Fit::open(memory_source(bytes, "fit"));
        return opened ? std::string("none") : opened.error().what;
    };
    EXPECT_EQ(error(fit), "none");
    auto bytes = fit;
    bytes.resize(bytes.size() - 1);
    EXPECT_EQ(error(bytes), "it ends before the size that its header gives");
    bytes = fit;
    bytes[7] = 8;
    bytes[6] = bytes[5] = bytes[4] = 0;
    EXPECT_EQ(error(bytes), "its header gives a size that it cannot have");
    bytes = fit;
    bytes[0] = 0;
    EXPECT_EQ(error(bytes), "it does not begin with the mark of a device tree");
    for (std::size_t at = 8; at < 40; ++at)
        for (const int value : {0x00, 0x7F, 0xFF}) {
            bytes = fit;
            bytes[at] = static_cast<std::uint8_t>(value);
            static_cast<void>(error(bytes));  // any answer, but no reading outside
        }
    Bytes deep;
    forge::TreeNode node{"n", {}, {}};
    for (int i = 0; i < 200; ++i) node = {"n", {}, {node}};
    EXPECT_NE(error(forge::make_device_tree({"", {}, {node}})), "none");
    EXPECT_EQ(error(forge::make_device_tree({"", {}, {}})), "it is a device tree without images");
}

/// A modular kernel for cards: the driver of the host comes in the RAM disk, that of the cards is built in.
TEST(BoardKernels, TellOfTheCardsThatTheyDrive) {
    for (const bool inside : {true, false}) {
        auto station = demo::weather_station();
        const std::string modules = "/lib/modules/6.1.0-almhof-armmp/kernel/drivers/mmc/";
        station.ramdisk.remove(modules + "core/mmc_block.ko");
        auto kernel = forge::noise(200000, 21);
        const auto banner = forge::to_bytes("Linux version 6.1.0-almhof-armmp (x) #1\n");
        std::ranges::copy(banner, kernel.begin() + 5000);
        const auto words = forge::to_bytes("mmcblk%u%s%s");
        if (inside) std::ranges::copy(words, kernel.begin() + 9000);
        station.parts[0].data = forge::make_zimage(kernel);
        const Board board(station.build(), demo::station_board);
        EXPECT_EQ(board.stage(), inside ? "yes" : "root") << board.system().at(Stage::Root).text;
        if (inside)
            EXPECT_NE(board.system().at(Stage::Root).text.find("drivers for eMMC and SD (sunxi_mmc)"),
                      std::string::npos)
                << board.system().at(Stage::Root).text;
        else EXPECT_EQ(board.why(), Code::RamdiskNoDiskDriver);
    }
}

TEST(BoardKernels, AreJudgedAsTheBoardStartsThem) {
    const auto of = [](const Bytes& bytes, Processor processor) {
        return *inspect_kernel(*memory_source(bytes, "kernel"), KernelEntry::Board, processor);
    };
    auto zimage = forge::make_zimage("6.1.0-a");
    EXPECT_EQ(of(zimage, Processor::Arm).soundness, Soundness::Sound);
    EXPECT_EQ(of(zimage, Processor::Arm).release, "6.1.0-a");
    EXPECT_TRUE(*kernel_mentions(*memory_source(zimage, "k"), of(zimage, Processor::Arm), "builder@almhof"));
    EXPECT_FALSE(*kernel_mentions(*memory_source(zimage, "k"), of(zimage, Processor::Arm), "no such words"));
    auto cut = zimage;
    cut.resize(cut.size() - 8);
    EXPECT_EQ(of(cut, Processor::Arm).soundness, Soundness::Cut);
    zimage[60000] ^= 1;
    EXPECT_EQ(of(zimage, Processor::Arm).soundness, Soundness::Damaged);
    auto image = forge::make_arm64_image("6.1.0-b");
    EXPECT_EQ(of(image, Processor::Arm64).soundness, Soundness::Unknown);
    EXPECT_EQ(of(image, Processor::Arm64).release, "6.1.0-b");
    EXPECT_TRUE(*kernel_mentions(*memory_source(image, "k"), of(image, Processor::Arm64), "builder@almhof"));
    EXPECT_EQ(of(image, Processor::Arm).soundness, Soundness::Damaged) << "another processor";
    EXPECT_EQ(of(forge::make_kernel(), Processor::Arm64).soundness, Soundness::Damaged) << "a PC's";
    EXPECT_EQ(inspect_kernel(*memory_source(image, "k"))->soundness, Soundness::Damaged) << "on a PC";
    // Packed by itself: unpacked first.
    auto packed = forge::gzip(image);
    EXPECT_EQ(of(packed, Processor::Arm64).soundness, Soundness::Sound);
    const auto inside = of(packed, Processor::Arm64);
    EXPECT_TRUE(*kernel_mentions(*memory_source(packed, "k"), inside, "builder@almhof"));
    EXPECT_FALSE(*kernel_mentions(*memory_source(packed, "k"), inside, "no such words"));
    EXPECT_FALSE(
        kernel_mentions(*memory_source(Bytes(packed.begin(), packed.begin() + 5000), "k"), inside, "no such words"));
    EXPECT_EQ(of(packed, Processor::Arm64).release, "6.1.0-b");
    packed[packed.size() / 2] ^= 0x40;
    EXPECT_EQ(of(packed, Processor::Arm64).soundness, Soundness::Damaged);
    EXPECT_EQ(of(Bytes(5000, 7), Processor::Arm64).soundness_text,
              "it carries no mark by which it could be told what it is");
    // One page of zeros may be a gap; two are no code.
    std::fill_n(image.begin() + 0x11000, 4096, std::uint8_t{0});
    EXPECT_EQ(of(image, Processor::Arm64).soundness, Soundness::Unknown);
    std::fill_n(image.begin() + 0x12000, 4096, std::uint8_t{0});
    EXPECT_EQ(of(image, Processor::Arm64).soundness, Soundness::Damaged);
    EXPECT_EQ(of(image, Processor::Arm64).soundness_text, "its code was overwritten with zeros from byte 69632 on");
}

// --- extlinux.conf, and what U-Boot looks for -----------------------------------------------------------------------

TEST(Extlinux, IsFollowedAsUbootReadsIt) {
    struct Row {
        const char* name;
        std::function<void(Card&)> change;
        std::string stage;
        std::string entry;
        std::optional<Code> why;
    };
    const auto replaced = [](const char* from, const char* to) {
        return
            [from, to](Card& c) { c.configuration.replace(c.configuration.find(from), std::string(from).size(), to); };
    };
    const Row rows[] = {
        {"as it is", [](Card&) {}, "yes", "Station", {}},
        {"below /boot", [](Card& c) { c.where = "/boot/extlinux/extlinux.conf"; }, "yes", "Station", {}},
        {"no partition is active: the first", [](Card& c) { c.active = false; }, "yes", "Station", {}},
        {"a default that is not there: the first label",
         replaced("DEFAULT station", "DEFAULT gone"),
         "yes",
         "Station",
         {}},
        {"a RAM disk that is not there", [](Card& c) { c.files.remove("/disk.img"); }, "entry", "Station",
         Code::UbootFileMissing},
        {"a carriage return belongs to the name", replaced("/Image\n", "/Image\r\n"), "entry", "Station",
         Code::UbootFileMissing},
        {"keywords in any case", replaced("linux", "LINUX"), "yes", "Station", {}},
        {"a word of a label that is not followed",
         [](Card& c) {
             const auto at = c.configuration.find("linux");
             c.configuration.insert(at, "kaslrseed\nipappend 2\nfdtoverlays /none.dtbo\n");
         },
         "yes",
         "Station",
         {}},
        {"unknown keywords", replaced("TIMEOUT 20", "ui menu.c32\nTIMEOUT 20"), "yes", "Station", {}},
        {"a path beside the configuration", replaced("/disk.img", "disk.img"), "entry", "Station",
         Code::UbootFileMissing},
        {"a kernel without its mark",
         [](Card& c) {
             c.files.at("/Image").content[56] = 0;
             c.files.at("/Image.old").content[56] = 0;
         },
         "kernel", "Station", Code::UbootImageRefused},
        {"an included file that is not there",
         [](Card& c) { c.configuration = "include gone.conf\n" + c.configuration; }, "configuration", "",
         Code::UbootMenuRefused},
        {"no label", [](Card& c) { c.configuration = "timeout 3\n"; }, "configuration", "", Code::UbootNothingFound},
        {"no configuration", [](Card& c) { c.configuration.clear(); }, "configuration", "", Code::UbootNothingFound},
        {"a word that is none of a label's ends it", replaced("\tlinux /Image\n", "\ttext help\n\tlinux /Image\n"),
         "entry", "", Code::EntryNoneForSystem},
        {"another root", replaced("57a71000", "57ff1000"), "root", "Station", Code::RootNotFound},
    };
    for (const auto& row : rows) {
        Card card;
        row.change(card);
        // Alone, so that there is no other to go on with.
        if (row.stage == "entry") card.configuration.erase(card.configuration.find("label older"));
        const Board board(card.build(), "uboot-arm64");
        ASSERT_FALSE(board.verdict.systems.empty()) << row.name;
        EXPECT_EQ(board.stage(), row.stage) << row.name << ": " << board.system().at(Stage::Entry).text;
        if (!row.entry.empty()) EXPECT_EQ(board.system().entry, row.entry) << row.name;
        if (row.why && board.system().stops_at) EXPECT_EQ(board.why(), *row.why) << row.name;
    }
}

/// Tenths of a second, told in whole ones; a menu stays where no time is set, and none is shown without a prompt.
TEST(Extlinux, MenusWaitAsTheySay) {
    struct Row {
        const char* head;
        std::optional<int> seconds;
        MenuStyle style;
    };
    for (const auto& row : std::initializer_list<Row>{{"PROMPT 1\nTIMEOUT 30\n", 3, MenuStyle::Menu},
                                                      {"PROMPT 1\nTIMEOUT 31\n", 4, MenuStyle::Menu},
                                                      {"PROMPT 1\nTIMEOUT 1\n", 1, MenuStyle::Menu},
                                                      {"PROMPT 1\nTIMEOUT 0\n", std::nullopt, MenuStyle::Menu},
                                                      {"PROMPT 1\n", std::nullopt, MenuStyle::Menu},
                                                      {"TIMEOUT 30\n", 0, MenuStyle::Hidden},
                                                      {"PROMPT 0\nTIMEOUT 30\n", 0, MenuStyle::Hidden}}) {
        Card card;
        card.configuration.erase(0, card.configuration.find("label"));
        card.configuration = row.head + card.configuration;
        const Board board(card.build(), "uboot-arm64");
        ASSERT_EQ(board.verdict.menus.size(), 1U) << row.head;
        EXPECT_EQ(board.verdict.menus[0].timeout, row.seconds) << row.head;
        EXPECT_EQ(board.verdict.menus[0].style, row.style) << row.head;
        EXPECT_EQ(board.stage(), "yes") << row.head;
    }
}

TEST(Extlinux, TheNextLabelIsTriedWhereTheDefaultCannotBeStarted) {
    Card card;
    card.files.remove("/Image");
    const Board board(card.build(), "uboot-arm64");
    ASSERT_EQ(board.verdict.menus.size(), 1U);
    const auto& menu = board.verdict.menus[0];
    ASSERT_EQ(menu.entries.size(), 2U);
    EXPECT_FALSE(menu.entries[0].kernel_loaded);
    EXPECT_TRUE(menu.entries[1].kernel_loaded);
    ASSERT_TRUE(menu.entries[0].stop);
    EXPECT_EQ(menu.entries[0].stop->symptom,
              "** File not found /Image **\nSkipping station for failure retrieving kernel");
    EXPECT_EQ(menu.fallback, std::vector<int>{1});
    EXPECT_EQ(board.system().entry, "older");
    EXPECT_EQ(board.stage(), "ramdisk") << "the older label has no RAM disk, and the root is named by its UUID";
}

TEST(Partitions, AreTriedAsUbootTriesThem) {
    Card card;
    {
        auto image = card.build();
        std::swap(image[446], image[462]);  // the second partition is active instead
        const Board board(image, "uboot-arm64");
        EXPECT_EQ(board.stage(), "partition-table");
        EXPECT_EQ(board.why(), Code::UbootNotMarked);
        EXPECT_EQ(board.system().at(Stage::PartitionTable).text,
                  "d1p1:/extlinux/extlinux.conf is there, but U-Boot looks at d1p2 only: those are marked bootable");
    }
    {
        auto image = card.build();
        std::fill_n(image.begin() + 446, 66, std::uint8_t{0});
        const Board board(image, "uboot-arm64");
        EXPECT_EQ(board.stage(), "partition-table");
        EXPECT_EQ(board.why(), Code::UbootNoPartition);
    }
    {
        auto image = card.build();
        image[2048 * 512 + 0x36] = 'f';  // Linux mounts it all the same
        const Board board(image, "uboot-arm64");
        EXPECT_EQ(board.stage(), "configuration");
        EXPECT_EQ(board.system().at(Stage::Configuration).text,
                  "U-Boot looks at d1p1, and recognises no file system there");
    }
}

// --- scripts and images on a card -----------------------------------------------------------------------------------

TEST(UbootScripts, StartOrSayWhy) {
    struct Row {
        std::string script;
        std::function<void(ScriptCard&)> change;
        std::string stage;
        std::optional<Code> why;
    };
    const auto nothing = [](ScriptCard&) {};
    const Row rows[] = {
        {load_both + "booti 0x42000000 0x48000000:${filesize}", nothing, "yes", {}},
        {load_both + "booti 0x42000000 0x48000000", nothing, "ramdisk", Code::UbootRamdiskRefused},
        {"load mmc 0:1 0x42000000 /gone\nbooti 0x42000000", nothing, "entry", Code::UbootFileMissing},
        {"booti 0x42000000", nothing, "configuration", Code::UbootCommandsEnd},
        {"echo nothing", nothing, "configuration", Code::UbootNothingFound},
        {"run gone", nothing, "configuration", Code::UbootCommandsEnd},
        {"load mmc 0:1 0x42000000 /Image\nload mmc 0:1 0x42010000 /disk.img\nbooti 0x42000000 0x42010000:${filesize}",
         nothing, "kernel", Code::UbootOverwritten},
        {load_both + "load mmc 0:1 0x43000000 /tree.dtb\nbooti 0x42000000 0x48000000:${filesize} 0x43000000",
         [](ScriptCard& c) { c.files.file("/tree.dtb", std::string("no tree")); }, "kernel", Code::UbootTreeRefused},
        {load_both + "load mmc 0:1 0x43000000 /tree.dtb\nbooti 0x42000000 0x48000000:${filesize} 0x43000000", nothing,
         "entry", Code::UbootFileMissing},
        // The size of the tree, which was loaded last, cuts the RAM disk.
        {load_both + "load mmc 0:1 0x4a000000 /tree.dtb\nbooti 0x42000000 0x48000000:${filesize}",
         [](ScriptCard& c) {
             c.files.file("/tree.dtb", forge::make_device_tree({"", {}, {}}));
         },
         "ramdisk", Code::RamdiskDamaged},
        {"load mmc 0:1 0x42000000 /Image\nload mmc 0:1 0x48000000 /gone.img\nbooti 0x42000000 0x48000000:${filesize}",
         nothing, "ramdisk", Code::RamdiskMissing},
    };
    for (const auto& row : rows) {
        ScriptCard card(row.script);
        row.change(card);
        const auto board = card.board();
        EXPECT_EQ(board.stage(), row.stage) << row.script << ": " << board.system().at(Stage::Configuration).text
                                            << board.system().at(Stage::Entry).text;
        if (row.why && board.system().stops_at) EXPECT_EQ(board.why(), *row.why) << row.script;
    }
}

TEST(UbootScripts, AreRefusedByTheirChecksums) {
    const auto of = [](auto change) {
        ScriptCard card("");
        auto image = forge::make_legacy_image(forge::to_bytes("echo x\n"), {.type = 6});
        change(image);
        card.files.file("/boot/boot.scr.uimg", image);
        return Board(card.build(), "uboot-arm64");
    };
    const auto data = of([](Bytes& b) { b[75] ^= 1; });
    EXPECT_EQ(data.why(), Code::UbootScriptRefused);
    EXPECT_EQ(data.system().symptom, "Bad data crc");
    EXPECT_EQ(data.system().at(Stage::Configuration).text,
              "U-Boot refuses the script d1p1:/boot/boot.scr.uimg: its content fails its checksum");
    EXPECT_EQ(of([](Bytes& b) { b[35] ^= 1; }).system().symptom, "Bad header crc");
    EXPECT_EQ(of([](Bytes& b) { b[0] ^= 1; }).system().symptom, "Wrong image format for \"source\" command");
    EXPECT_EQ(of([](Bytes& b) { b = forge::make_legacy_image(b, {.type = 2}); }).system().symptom, "Bad image type");
    // Its processor is not looked at.
    EXPECT_EQ(
        of([](Bytes& b) { b = forge::make_legacy_image(forge::to_bytes("echo\n"), {.type = 6, .arch = 8}); }).why(),
        Code::UbootNothingFound);
}

TEST(UbootImages, OfATreeAreCheckedPartByPart) {
    struct Row {
        const char* name;
        std::function<void(std::vector<forge::FitPart>&)> parts;
        std::function<void(Bytes&)> bytes;
        std::string command, stage;
        std::optional<Code> why;
    };
    const auto same = [](std::vector<forge::FitPart>&) {};
    const auto whole = [](Bytes&) {};
    const Row rows[] = {
        {"as it is", same, whole, "bootm 0x50000000", "yes", {}},
        {"its configuration by name", same, whole, "bootm 0x50000000#conf-1", "yes", {}},
        {"another configuration", same, whole, "bootm 0x50000000#conf-9", "entry", Code::UbootPartMissing},
        {"no kernel of that name",
         [](auto& p) {
             p[0].name = "kernel-2";
             p[0].type = "standalone";
         },
         whole, "bootm 0x50000000", "entry", Code::UbootPartMissing},
        {"put where no memory is",
         [](auto& p) { p[0].load = p[0].entry = 0x10000000; },
         whole,
         "bootm 0x50000000",
         "yes",
         {}},
        {"entered where it does not lie", [](auto& p) { p[0].entry = 0x4F000000; }, whole, "bootm 0x50000000", "kernel",
         Code::UbootImageRefused},
        {"a byte changed", same, [](Bytes& b) { b[3000] ^= 1; }, "bootm 0x50000000", "kernel", Code::UbootImageRefused},
        {"a byte changed, and nothing verified",
         same,
         [](Bytes& b) { b[3000] ^= 1; },
         "setenv verify no\nbootm 0x50000000",
         "yes",
         {}},
        {"the mark gone", same, [](Bytes& b) { b[0] = 0; }, "bootm 0x50000000", "kernel", Code::UbootImageRefused},
    };
    for (const auto& row : rows) {
        ScriptCard card("load mmc 0:1 0x50000000 /image.itb\n" + row.command);
        std::vector<forge::FitPart> parts = {
            {"kernel-1", "kernel", card.files.at("/Image").content, 0x42000000, 0x42000000, "arm64"},
            {"ramdisk-1", "ramdisk", card.files.at("/disk.img").content, 0, 0, "arm64"}};
        row.parts(parts);
        auto image = forge::make_fit(parts, "Station");
        row.bytes(image);
        card.files.remove("/Image").remove("/disk.img").remove("/Image.old");
        card.files.file("/image.itb", image);
        const auto board = card.board();
        EXPECT_EQ(board.stage(), row.stage) << row.name << ": " << board.system().at(Stage::Entry).text;
        if (row.why && board.system().stops_at) EXPECT_EQ(board.why(), *row.why) << row.name;
    }
}

/// What each component must say of itself; compared with a real U-Boot (conformance/boards-against-uboot.py).
TEST(UbootImages, OfATreeMustSayWhatTheyAre) {
    const auto of = [](auto change) {
        ScriptCard card("load mmc 0:1 0x50000000 /image.itb\nbootm 0x50000000");
        std::vector<forge::FitPart> parts = {
            {"kernel-1", "kernel", card.files.at("/Image").content, 0x42000000, 0x42000000, "arm64"},
            {"ramdisk-1", "ramdisk", card.files.at("/disk.img").content, 0, 0, "arm64"},
            {"tree-1", "flat_dt", forge::make_device_tree({"", {}, {}}), 0, 0, "arm64"}};
        auto image = forge::make_fit(parts, "Station");
        change(image);
        card.files.file("/image.itb", image);
        const auto board = card.board();
        return board.system().stops_at ? board.system().at(*board.system().stops_at).text : std::string("starts");
    };
    // In place: the last occurrence of some bytes becomes another of the same length.
    const auto swap = [](std::string_view from, std::string_view to, bool last = false) {
        return [=](Bytes& image) {
            auto at = last ? std::find_end(image.begin(), image.end(), from.begin(), from.end())
                           : std::search(image.begin(), image.end(), from.begin(), from.end());
            ASSERT_NE(at, image.end()) << from;
            std::ranges::copy(to, at);
        };
    };
    using namespace std::string_view_literals;
    EXPECT_EQ(of([](Bytes&) {}), "starts");
    EXPECT_EQ(of(swap("timestamp"sv, "timestomp"sv)), "the image tree d1p1:/image.itb is refused: it has no timestamp");
    EXPECT_EQ(of(swap("\0description\0"sv, "\0descriptoon\0"sv, true)),
              "the image tree d1p1:/image.itb is refused: it has no description");
    EXPECT_EQ(of(swap("ramdisk\0"sv, "ramdask\0"sv)), "the RAM disk ramdisk-1 of d1p1:/image.itb is of another kind");
    EXPECT_EQ(of(swap("flat_dt\0"sv, "flet_dt\0"sv)), "the device tree tree-1 of d1p1:/image.itb is of another kind");
    EXPECT_EQ(of(swap("sha256\0"sv, "sha257\0"sv)),
              "the kernel kernel-1 of d1p1:/image.itb has a hash that U-Boot does not compute (sha257)");
    EXPECT_EQ(of(swap("algo\0"sv, "olgo\0"sv, true)),
              "the kernel kernel-1 of d1p1:/image.itb has a hash that U-Boot does not compute (none named)");
}

/// A U-Boot that goes by the best match goes by nothing else; before 2023.07 it starts no kernel without a tree.
TEST(UbootImages, AreChosenByTheBoard) {
    const auto of = [](const std::string& compatible, const std::string& command) {
        ScriptCard card("load virtio 0:1 0x50000000 /image.itb\n" + command);
        std::vector<forge::FitPart> parts = {
            {"kernel-1", "kernel", card.files.at("/Image").content, 0x42000000, 0x42000000, "arm64"},
            {"ramdisk-1", "ramdisk", card.files.at("/disk.img").content, 0, 0, "arm64"}};
        if (!compatible.empty())
            parts.push_back({"tree-1", "flat_dt",
                             forge::make_device_tree(forge::TreeNode{"", {}, {}}.text("compatible", compatible)), 0, 0,
                             "arm64"});
        card.files.file("/image.itb", forge::make_fit(parts, "Station"));
        card.files.file("/boot.scr", forge::make_legacy_image(
                                         forge::to_bytes("setenv bootargs root=UUID=" +
                                                         std::string(demo::station_root_uuid) + "\n" + card.script),
                                         {.type = 6}));
        const Board board(card.build(), "uboot-qemu-arm64");
        return board.stage() == "yes" || board.stage() == "root" ? std::string("started")
                                                                 : board.system().at(*board.system().stops_at).text;
    };
    EXPECT_EQ(of("linux,dummy-virt", "bootm 0x50000000"), "started");
    EXPECT_EQ(of("almhof,other", "bootm 0x50000000"),
              "d1p1:/image.itb has no configuration for this board (linux,dummy-virt)");
    EXPECT_EQ(of("almhof,other", "bootm 0x50000000#conf-1"), "started");
    EXPECT_EQ(of("", "bootm 0x50000000#conf-1"),
              "no device tree is named for the kernel, and this U-Boot starts none without");
    EXPECT_EQ(of("", "bootm 0x50000000#conf-1 - ${fdt_addr}"),
              "the entry names no RAM disk; without one the kernel cannot resolve root=UUID=" +
                  std::string(demo::station_root_uuid))
        << "where \"-\" stands for a RAM disk, that of the image is not taken";
}

/// extlinux.conf without a tree: the board's own is handed over to whatever kind of image the kernel is
/// (boot/pxe_utils.c, label_boot).
TEST(UbootImages, OfAMenuGetTheBoardsOwnTree) {
    const auto kernel = forge::make_arm64_image("6.1.0-almhof-armmp");
    const forge::LegacyOptions legacy{.arch = 22, .load = 0x48000000, .entry = 0x48000000};
    for (const auto& [what, image] : std::initializer_list<std::pair<const char*, Bytes>>{
             {"flat", kernel},
             {"legacy", forge::make_legacy_image(kernel, legacy)},
             {"tree", forge::make_fit({{"kernel-1", "kernel", kernel, 0x48000000, 0x48000000, "arm64"}}, "Station")}}) {
        Card card;
        card.files.file("/Image", image);
        const Board board(card.build(), "uboot-qemu-arm64");
        EXPECT_EQ(board.system().at(Stage::Entry).state, State::Holds) << what;
        EXPECT_NE(board.system().at(Stage::Kernel).state, State::Breaks)
            << what << ": " << board.system().at(Stage::Kernel).text;
        EXPECT_NE(board.stage(), "kernel") << what;
        EXPECT_FALSE(board.has(Code::UbootTreeRefused)) << what;
    }
}

TEST(UbootImages, LegacyOnesAreChecked) {
    const auto of = [](forge::LegacyOptions options, auto change) {
        ScriptCard card("load mmc 0:1 0x50000000 /uImage\nbootm 0x50000000 - -");
        auto image = forge::make_legacy_image(card.files.at("/Image").content, options);
        change(image);
        card.files.file("/uImage", image);
        const auto board = card.board();
        return std::pair(board.stage(), board.system().symptom.substr(0, board.system().symptom.find('\n')));
    };
    const auto whole = [](Bytes&) {};
    const forge::LegacyOptions sound{.arch = 22};
    EXPECT_EQ(of(sound, whole).first, "ramdisk") << "the kernel is taken, and has no RAM disk";
    using Pair = std::pair<std::string, std::string>;
    EXPECT_EQ(of(sound, [](Bytes& b) { b[100] ^= 1; }), Pair("kernel", "Verifying Checksum ... Bad Data CRC"));
    EXPECT_EQ(of(sound, [](Bytes& b) { b[40] ^= 1; }), Pair("kernel", "Bad Header Checksum"));
    EXPECT_EQ(of({.arch = 2}, whole), Pair("kernel", "Unsupported Architecture 0x2"));
    EXPECT_EQ(of({.type = 5, .arch = 22}, whole), Pair("kernel", "Wrong Image Type for bootm command"));
    EXPECT_EQ(of({.arch = 22, .os = 2}, whole), Pair("kernel", "## Transferring control to NetBSD stage-2 loader"));
    EXPECT_EQ(of({.arch = 22, .os = 8}, whole), Pair("kernel", "ERROR: booting os … (8) is not supported"));
    EXPECT_EQ(of({.arch = 22, .compression = 1}, whole), Pair("kernel", "gzip compressed: uncompress error -1"));
    EXPECT_EQ(of({.arch = 22, .compression = 77}, whole), Pair("kernel", "unknown compressed: uncompress error -1"));
    EXPECT_EQ(of({.arch = 22, .entry = 0x4F000000}, whole), Pair("kernel", "\"Synchronous Abort\" handler"));
}

/// Kernel and RAM disk in one file: sizes up to a zero, then each part filled up to four bytes.
TEST(UbootImages, OfSeveralPartsBringTheRamdisk) {
    const auto start = [](auto change) {
        ScriptCard card("load mmc 0:1 0x50000000 /uImage\nbootm 0x50000000");
        auto kernel = card.files.at("/Image").content, disk = card.files.at("/disk.img").content;
        change(kernel, disk);
        Bytes content;
        for (const std::size_t size : {kernel.size(), disk.size(), std::size_t{0}})
            for (const unsigned shift : {24U, 16U, 8U, 0U}) content.push_back(static_cast<std::uint8_t>(size >> shift));
        content.insert(content.end(), kernel.begin(), kernel.end());
        content.resize((content.size() + 3) / 4 * 4);
        content.insert(content.end(), disk.begin(), disk.end());
        card.files.file("/uImage", forge::make_legacy_image(content, {.type = 4, .arch = 22}));
        return card.board();
    };
    const auto whole = start([](Bytes&, Bytes&) {});
    EXPECT_EQ(whole.stage(), "yes") << whole.system().at(Stage::Ramdisk).text;
    EXPECT_EQ(start([](Bytes& kernel, Bytes&) { kernel.resize(kernel.size() - 3); }).stage(), "yes") << "filled up";
    EXPECT_EQ(start([](Bytes&, Bytes& disk) { std::ranges::fill(disk, std::uint8_t{0x11}); }).stage(), "ramdisk");
}

/// The newer search looks at the media by their names alone; a variable of a medium goes before its files.
TEST(UbootSearch, GoesOverTheMediaInTheirOrder) {
    using loader::uboot::Variables;
    const auto printed = [](const Variables& variables) { return Typed("bootflow scan -b", variables).printed(); };
    const Variables usual{{"boot_prefixes", "/ /boot/"},
                          {"boot_syslinux_conf", "extlinux/extlinux.conf"},
                          {"boot_scripts", "loop.scr"},
                          {"scriptaddr", "0x200"}};
    const auto with = [&](Variables more) {
        for (const auto& [name, value] : usual) more.emplace(name, value);
        return printed(more);
    };
    const std::string script = "Scanning mmc 0:1...|Found U-Boot script /loop.scr|";
    EXPECT_EQ(with({{"boot_targets", "mmc0"}}).find(script), 0U) << with({{"boot_targets", "mmc0"}});
    EXPECT_EQ(with({{"boot_targets", "mmc"}}).find(script), 0U) << with({{"boot_targets", "mmc"}});
    EXPECT_EQ(with({{"boot_targets", "pxe dhcp mmc0"}}).find(script), 0U) << "a network is passed over";
    EXPECT_EQ(with({{"boot_targets", "usb7 mmc0"}}).find("Device 7: unknown device|" + script), 0U)
        << with({{"boot_targets", "usb7 mmc0"}});
    const auto own = with({{"boot_targets", "mmc0 mmc0"}, {"bootcmd_mmc0", "echo own"}});
    EXPECT_EQ(own.find("own|own|"), 0U) << own;
    EXPECT_EQ(with({}).find("Scanning"), std::string::npos);
    EXPECT_EQ(Typed("bootflow list", usual).printed(), "");
}

// --- what mends it ---------------------------------------------------------------------------------------------------

/// The titles of what is proposed; each proposal is applied and walked again: the system starts.
std::vector<std::string> mended(const Bytes& card, const std::string& name) {
    const Machine machine = support::machine_of(card);
    CheckOptions options;
    options.firmware = FirmwareKind::Board;
    options.board = name;
    std::vector<std::string> out;
    for (const auto& one : mend(machine, check(machine, options), options)) {
        for (const auto& proposal : one.proposals) {
            Workshop shop(machine);
            EXPECT_TRUE(shop.apply(proposal.patch)) << proposal.title;
            EXPECT_TRUE(check(shop.machine(), options).all_start()) << proposal.title;
            out.push_back(proposal.title);
        }
        if (one.proposals.empty()) out.push_back(one.bring);
    }
    return out;
}
::testing::AssertionResult any_begins(const std::vector<std::string>& all, std::string_view begin) {
    if (std::ranges::any_of(all, [&](const std::string& one) { return one.starts_with(begin); }))
        return ::testing::AssertionSuccess();
    auto out = ::testing::AssertionFailure() << "none of these begins with “" << begin << "”:";
    for (const auto& one : all) out << "\n  " << one;
    return out;
}

TEST(MendBoards, WhatUbootLooksAt) {
    auto image = Card().build();
    std::swap(image[446], image[462]);
    EXPECT_TRUE(any_begins(mended(image, "uboot-arm64"), "mark d1p1 as the partition that U-Boot looks at"));
    image = Card().build();
    image[2048 * 512 + 0x36] = 'f';
    EXPECT_TRUE(
        any_begins(mended(image, "uboot-arm64"),
                   "write the marks by which U-Boot knows a FAT into the boot sector of d1p1: 55 AA, and FAT12"));
    Card without;
    without.configuration.clear();
    without.files.file("/initrd.img", without.files.at("/disk.img").content);
    const auto all = mended(without.build(), "uboot-arm64");
    EXPECT_TRUE(any_begins(all, "write d1p1:/extlinux/extlinux.conf anew, with one entry for Almhof Weather 2"));
}

TEST(MendBoards, MarksAndChecksumsOfWhatIsLoaded) {
    Card card;
    card.configuration.erase(card.configuration.find("label older"));
    card.files.at("/Image").content[56] = 0;
    EXPECT_TRUE(any_begins(mended(card.build(), "uboot-arm64"),
                           "write the mark of an arm64 kernel (“ARMd”) back into d1p1:/Image, at byte 56"));
    ScriptCard script(load_both + "booti 0x42000000 0x48000000:${filesize}");
    EXPECT_EQ(script.board().stage(), "yes");
    auto& content = script.files.at("/boot.scr").content;
    const std::string_view option = " ro\n";
    *(std::search(content.begin(), content.end(), option.begin(), option.end()) + 2) = 'w';  // "rw"
    const auto all = mended(script.build(), "uboot-arm64");
    EXPECT_TRUE(any_begins(all, "make the checksums of d1p1:/boot.scr anew for what it holds now"));
    const auto stories = demo::station_stories();
    const auto mark = std::ranges::find(stories, std::string("station-mark.img"), &demo::StationStory::name);
    EXPECT_TRUE(any_begins(mended(mark->card(), demo::station_board), "a loader for this firmware"))
        << "what must be brought";
}

TEST(MendBoards, TheTypeThatProtectsAGpt) {
    forge::DiskSpec disk;
    disk.gpt = true;
    disk.size = 20U << 20U;
    Card card;
    auto tree = card.files;
    tree.file(card.where, card.configuration);
    forge::FatOptions fat;
    fat.size = 8U << 20U;
    forge::ExtOptions ext;
    ext.size = 8U << 20U;
    ext.uuid = forge::uuid_from(demo::station_root_uuid);
    disk.partitions = {{2048, forge::make_fat(tree, fat).bytes, 0xEF, false},
                       {2048 + 16384, forge::make_ext(demo::weather_station().root, ext), 0x83, false}};
    auto image = forge::make_disk(disk);
    EXPECT_EQ(Board(image, "uboot-arm64").stage(), "yes");
    image[446 + 4] = 0x83;
    EXPECT_EQ(Board(image, "uboot-arm64").why(), Code::UbootNoPartition);
    EXPECT_TRUE(
        any_begins(mended(image, "uboot-arm64"), "set the type of d1's only entry, which begins at sector 1, to EE"));
}

// --- the tool -------------------------------------------------------------------------------------------------------

TEST(Boards, AreGuessedWhereNothingIsThereForABios) {
    const auto guess = [](const Bytes& card) {
        return std::string(settled_options(support::machine_of(card), {}).board);
    };
    auto card = demo::weather_station().build();
    EXPECT_EQ(guess(card), "sunxi-a10-brom");
    // Code for a BIOS: a PC's disk, whatever else lies on it.
    card[0] = 0xFA;
    EXPECT_EQ(guess(card), "");
    EXPECT_EQ(settled_options(support::machine_of(card), {}).firmware, FirmwareKind::Bios);
    card[0] = 0;
    card[8192 + 4] ^= 1;
    EXPECT_EQ(guess(card), "") << "no first program";
    EXPECT_EQ(guess(Bytes(1U << 20U)), "");
    CheckOptions bios;
    bios.firmware = FirmwareKind::Bios;
    EXPECT_EQ(settled_options(support::machine_of(demo::weather_station().build()), bios).board, "");
}

TEST(BoardTool, ListsBoardsAndFollowsThem) {
    const Folder folder;
    const auto card = folder.write("station.img", demo::weather_station().build());
    const auto all = support::shell(TOOL_PATH " boards");
    EXPECT_EQ(all.status, 0);
    EXPECT_NE(
        all.out.find(
            "board:sunxi-h3-brom  Allwinner H3, H2+\n    starts   a program with the mark eGON.BT0 and a "
            "checksum, at byte 8192 (some also 131072)\n    at       byte 8192, then 131072; at most 32.0 KiB "
            "in its first program\n             in a boot area of an eMMC (--boot-area): byte 0\n    console  ttyS0\n"),
        std::string::npos)
        << all.out;
    const auto fitting = support::shell(TOOL_PATH " boards --format json " + card);
    EXPECT_EQ(fitting.status, 0);
    EXPECT_NE(fitting.out.find("\"name\": \"sunxi-h3-brom\""), std::string::npos);
    EXPECT_EQ(fitting.out.find("uboot-qemu"), std::string::npos);
    const auto desk = folder.write("desk.img", demo::front_desk().build());
    EXPECT_EQ(support::shell(TOOL_PATH " boards " + desk).status, 1);
    const auto checked = support::shell(TOOL_PATH " check --firmware board:sunxi-h3-brom " + card);
    EXPECT_EQ(checked.status, 0);
    EXPECT_NE(checked.out.find("started by the board sunxi-h3-brom (Allwinner H3, H2+)"), std::string::npos)
        << checked.out;
    EXPECT_NE(checked.out.find("Almhof Weather 2 (Arnika)  starts"), std::string::npos) << checked.out;
    const auto json = support::shell(TOOL_PATH " check --format json --firmware board:sunxi-h3-brom " + card);
    EXPECT_NE(json.out.find("\"firmware\": \"board\",\n  \"board\": \"sunxi-h3-brom\""), std::string::npos) << json.out;
    const auto entries = support::shell(TOOL_PATH " entries --firmware board:sunxi-h3-brom " + card);
    EXPECT_NE(entries.out.find("d1p1:/station.scr  U-Boot"), std::string::npos) << entries.out;
    EXPECT_NE(entries.out.find("d1p1:/station.scr:5"), std::string::npos) << entries.out;
    EXPECT_NE(entries.out.find("root=UUID=57a71000-0001-4a01-8a01-00000057a701"), std::string::npos) << entries.out;
    const auto layout = support::shell(TOOL_PATH " layout " + card);
    EXPECT_NE(layout.out.find("a board's first program (eGON) from sector 16, U-Boot from sector 80 to 236"),
              std::string::npos)
        << layout.out;
    // A partition that begins in the midst of U-Boot.
    auto covered = demo::weather_station().build();
    forge::put32(covered, 446 + 8, 100);
    folder.write("covered.img", covered);
    EXPECT_NE(support::shell(TOOL_PATH " layout " + folder.file("covered.img"))
                  .out.find("U-Boot from sector 80 to 236; d1p1 lies over it from sector 100 on"),
              std::string::npos);
    const auto sector = support::shell(TOOL_PATH " sector " + card + " --at d1@8192");
    EXPECT_NE(sector.out.find("head of the first program of an Allwinner board"), std::string::npos) << sector.out;
    EXPECT_NE(
        support::shell(TOOL_PATH " sector " + card + " --at d1@40960").out.find("head of a legacy image of U-Boot"),
        std::string::npos);
    const auto guessed = support::shell(TOOL_PATH " check " + card);
    EXPECT_EQ(guessed.status, 0) << guessed.out;
    EXPECT_NE(guessed.out.find("They are taken for Allwinner A10"), std::string::npos) << guessed.out;
    EXPECT_NE(guessed.out.find("Other boards would take that program, too: with --firmware and one of "
                               "board:sunxi-a20-brom"),
              std::string::npos)
        << guessed.out;
    EXPECT_EQ(checked.out.find("Nobody said"), std::string::npos) << checked.out;
    const auto as_pc = support::shell(TOOL_PATH " check --firmware bios " + card);
    EXPECT_EQ(as_pc.status, 1);
    EXPECT_NE(as_pc.out.find("stops at boot-code"), std::string::npos) << as_pc.out;
    EXPECT_EQ(support::shell(TOOL_PATH " check " + desk).out.find("What a board starts"), std::string::npos);
    const auto unknown = support::shell(TOOL_PATH " check --firmware board:sunxi-h33 " + card);
    EXPECT_EQ(unknown.status, 2);
    EXPECT_NE(unknown.out.find("there is no board sunxi-h33; `herberge boards` lists those that are known"),
              std::string::npos);
    EXPECT_EQ(support::shell(TOOL_PATH " check --firmware bios2 " + card).status, 2);
    const auto flash = support::shell(TOOL_PATH " check --firmware board:sunxi-h3-brom --variables /gone " + card);
    EXPECT_EQ(flash.status, 3) << flash.out;
}

}  // namespace
