// SPDX-License-Identifier: MIT
// What boot ROMs take and refuse. The first programs come from mkimage, the maker that boards' own systems use.
#include <fmt/format.h>

#include "board_support.hpp"
#include "firmware/rom.hpp"
#include "weather_station.hpp"

using namespace herberge;
using forge::Bytes;
using support::BoardVerdict;
using support::Folder;

namespace {

constexpr std::size_t mib = 1U << 20U;

void put(Bytes& disk, std::size_t at, const Bytes& bytes) {
    if (disk.size() < at + bytes.size()) disk.resize(at + bytes.size());
    std::ranges::copy(bytes, disk.begin() + static_cast<std::ptrdiff_t>(at));
}

Bytes uboot_with_its_words() {
    auto uboot = forge::make_uboot(demo::weather_station().variables);
    const auto words = forge::to_bytes("U-Boot 2023.01 (a stand-in)");
    std::ranges::copy(words, uboot.begin() + 100);
    return uboot;
}

/// U-Boot as boards' second programs are: a legacy image, for `load`.
Bytes second_program(std::uint32_t load) {
    return forge::make_legacy_image(uboot_with_its_words(),
                                    {.type = 5, .os = 17, .load = load, .entry = 0, .name = "U-Boot"});
}

/// A card with a system on it from 16 MiB on, and room before it.
Bytes card(bool gpt, const forge::Tree& boot = {}) {
    auto root = demo::weather_station().root;
    forge::FatOptions fat;
    fat.size = 4U << 20U;
    forge::ExtOptions ext;
    ext.size = 4U << 20U;
    forge::DiskSpec disk;
    disk.size = 26U << 20U;
    disk.gpt = gpt;
    disk.partitions = {{32768, forge::make_fat(boot, fat).bytes, 0x0C, true},
                       {32768 + (4U << 11U), forge::make_ext(root, ext), 0x83, false}};
    return forge::make_disk(disk);
}

const StageState& rung(const BoardVerdict& board, Stage stage) { return board.system().at(stage); }

/// One family of ROMs, and how mkimage makes its first program out of `code`.
struct Family {
    std::string name, board, make;
    std::size_t size = 20000;         ///< of the code
    std::size_t at = 0;               ///< where it is put; 0: it is the file MLO or BOOT.BIN
    std::string file;                 ///< its name, where it is one
    std::size_t next = 0;             ///< where the next program is put; 0: a file, or none
    std::uint32_t load = 0x4A000000;  ///< of the next one
    std::string words;                ///< of what holds
    bool checked = false;             ///< its content has a checksum that the ROM computes
};

const Family families[] = {
    {"Rockchip3399", "rk3399-brom", "mkimage -n rk3399 -T rksd -d code first", 20000, 32768, "", 8 * mib, 0x200000,
     "the ID block at byte 32768 deciphers, and its first program (20.0 KiB) fits into the chip's 184.0 KiB", false},
    {"Rockchip3288", "rk3288-brom", "mkimage -n rk3288 -T rksd -d code first", 20000, 32768, "", 8 * mib, 0x1000000,
     "the ID block at byte 32768 deciphers, and its first program (20.0 KiB) fits into the chip's 32.0 KiB", false},
    {"Rockchip3568", "rk3568-brom", "mkimage -n rk3568 -T rksd -d code first", 20000, 32768, "", 8 * mib, 0xA00000,
     "the ID block at byte 32768 names 2 programs (22.0 KiB), and their SHA-256 match", true},
    {"Imx6", "imx6-brom", "mkimage -n list -T imximage -e 0x00908000 -d code first", 20000, 1024, "", 69 * 1024,
     0x17800000, "the image vector table at byte 1024 leads to a program of 23.0 KiB for 0x907000", false},
    {"Am335x", "am335x-brom", "mkimage -T omapimage -a 0x402F0400 -d code first", 20000, 131072, "", 384 * 1024,
     0x80800000, "the first program at byte 131072 (19.5 KiB) fits into the chip's 109.0 KiB", false},
    {"Omap3File", "omap3-brom", "mkimage -T omapimage -a 0x40200000 -d code first", 20000, 0, "MLO", 0, 0x80100000,
     "the first program d1p1:/MLO (19.5 KiB) fits into the chip's 60.0 KiB", false},
    {"ZynqFile", "zynq7000-brom", "mkimage -T zynqimage -a 0 -e 0 -d code first", 20000, 0, "BOOT.BIN", 0, 0x4000000,
     "the boot header of d1p1:/BOOT.BIN passes its checksum, and its first program fits into the chip's 192.0 KiB",
     false},
    {"Stm32", "stm32mp1-brom", "mkimage -T stm32image -a 0x2FFC2500 -e 0x2FFC2500 -d code first", 20000, 65536, "", 0,
     0xC0100000, "the first program at byte 65536 (19.5 KiB) passes its checksum and fits into the chip's 247.0 KiB",
     true},
};

/// What mkimage makes of `code`; empty: it is not here, or does not.
Bytes image_of(const Bytes& code, const std::string& make) {
    const Folder folder;
    folder.write("code", code);
    folder.write("list", forge::to_bytes("IMAGE_VERSION 2\nBOOT_FROM sd\nDATA 4 0x020c4068 0x00C03F3F\n"));
    const auto made = support::shell("cd " + folder.file("") + " && " + make);
    return made.status == 0 ? support::file_bytes(folder.file("first")) : Bytes{};
}

/// The first program of a family; empty: mkimage is not here.
Bytes first_program(const Family& family, std::size_t size) {
    auto code = forge::noise(size, 5);
    // The names of files that it would load, as U-Boot's own first programs carry them.
    const auto words = forge::to_bytes("U-Boot SPL 2023.01 u-boot.img");
    std::ranges::copy(words, code.begin() + 4000);
    return image_of(code, family.make);
}

/// A card with this first program, and the next one behind it.
Bytes with_first(const Family& family, const Bytes& first, bool with_next = true) {
    forge::Tree boot;
    const auto next = second_program(family.load);
    if (!family.file.empty()) {
        boot.file("/" + family.file, first);
        if (with_next) boot.file("/u-boot.img", next);
    }
    auto disk = card(false, boot);
    if (family.file.empty()) put(disk, family.at, first);
    if (with_next && family.next != 0) put(disk, family.next, next);
    return disk;
}

class Rom : public testing::TestWithParam<Family> {};

TEST_P(Rom, TakesWhatTheSystemsOwnMakerWrites) {
    const auto& family = GetParam();
    const auto first = first_program(family, family.size);
    if (first.empty()) GTEST_SKIP() << "mkimage is not here, or knows no such image";
    const BoardVerdict board(with_first(family, first), family.board);
    EXPECT_EQ(rung(board, Stage::Firmware).state, State::Holds) << rung(board, Stage::Firmware).text;
    EXPECT_EQ(rung(board, Stage::BootCode).state, State::Holds) << rung(board, Stage::BootCode).text;
    EXPECT_EQ(rung(board, Stage::BootCode).text, family.words);
    EXPECT_FALSE(rung(board, Stage::BootCode).evidence.empty());
    if (family.name == "Stm32") return;  // its next program lies in a partition with a name
    EXPECT_EQ(rung(board, Stage::Loader).state, State::Holds) << rung(board, Stage::Loader).text;
    const std::string where = family.file.empty() ? fmt::format("U-Boot lies at byte {} (", family.next)
                                                  : std::string("U-Boot lies in d1p1:/u-boot.img (");
    EXPECT_TRUE(rung(board, Stage::Loader).text.starts_with(where)) << rung(board, Stage::Loader).text;
    EXPECT_NE(rung(board, Stage::Loader).text.find("built into it (7 variables)"), std::string::npos)
        << rung(board, Stage::Loader).text;
    const auto fitting = fitting_boards(board.machine);
    EXPECT_TRUE(std::ranges::any_of(fitting, [&](const auto* b) { return b->name == family.board; })) << family.board;
}

TEST_P(Rom, FindsNothingWithoutItsMark) {
    const auto& family = GetParam();
    auto first = first_program(family, family.size);
    if (first.empty()) GTEST_SKIP() << "mkimage is not here, or knows no such image";
    // Every family's mark lies in its first 64 bytes.
    std::fill_n(first.begin(), 64, std::uint8_t{0x11});
    const BoardVerdict board(with_first(family, first), family.board);
    ASSERT_TRUE(board.system().stops_at) << starts_id(board.system().starts);
    EXPECT_LE(*board.system().stops_at, Stage::BootCode);
    EXPECT_TRUE(board.why() == Code::BoardNothingToStart || board.why() == Code::BoardProgramDamaged)
        << code_id(board.why());
    EXPECT_EQ(board.system().symptom, "(nothing)");
    EXPECT_FALSE(board.system().at(*board.system().stops_at).evidence.empty());
    EXPECT_EQ(rung(board, Stage::Kernel).state, State::NotReached);
}

TEST_P(Rom, DoesNotTakeMoreThanItsMemory) {
    const auto& family = GetParam();
    const auto* row = find_board(family.board);
    ASSERT_NE(row, nullptr);
    const auto first = first_program(family, row->most_first + 4096);
    if (first.empty()) GTEST_SKIP() << "mkimage is not here, or makes none of that size";
    auto disk = with_first(family, first);
    if (disk.size() > 40 * mib) GTEST_SKIP();
    const BoardVerdict board(std::move(disk), family.board);
    ASSERT_TRUE(board.system().stops_at) << rung(board, Stage::BootCode).text;
    EXPECT_EQ(board.why(), Code::BoardProgramTooLarge) << board.system().at(*board.system().stops_at).text;
    EXPECT_EQ(*board.system().stops_at, Stage::BootCode);
    EXPECT_NE(rung(board, Stage::BootCode).text.find("the memory on the chip takes " + size_text(row->most_first)),
              std::string::npos)
        << rung(board, Stage::BootCode).text;
}

TEST_P(Rom, ComputesTheSumThatItComputes) {
    const auto& family = GetParam();
    auto first = first_program(family, family.size);
    if (first.empty()) GTEST_SKIP() << "mkimage is not here, or knows no such image";
    first[first.size() - 4000] ^= 1U;
    const BoardVerdict board(with_first(family, first), family.board);
    if (family.checked) {
        ASSERT_TRUE(board.system().stops_at);
        EXPECT_EQ(board.why(), Code::BoardProgramDamaged);
        EXPECT_NE(rung(board, Stage::BootCode).text.find("the ROM does not start it"), std::string::npos)
            << rung(board, Stage::BootCode).text;
    } else {
        EXPECT_EQ(rung(board, Stage::BootCode).state, State::Holds) << "nothing computes it";
    }
}

TEST_P(Rom, SaysWhereTheNextProgramShouldBe) {
    const auto& family = GetParam();
    if (family.name == "Stm32") GTEST_SKIP() << "without a GPT there is no partition to look for";
    const auto first = first_program(family, family.size);
    if (first.empty()) GTEST_SKIP() << "mkimage is not here, or knows no such image";
    const BoardVerdict board(with_first(family, first, false), family.board);
    ASSERT_TRUE(board.system().stops_at);
    EXPECT_EQ(*board.system().stops_at, Stage::Loader);
    EXPECT_EQ(board.why(), Code::BoardNextMissing);
    EXPECT_EQ(board.system().symptom, "Trying to boot from MMC1");
    const std::string wanted = family.file.empty() ? fmt::format("{}", family.next) : std::string("d1p1:/u-boot.img");
    EXPECT_NE(rung(board, Stage::Loader).text.find(wanted), std::string::npos) << rung(board, Stage::Loader).text;
}

INSTANTIATE_TEST_SUITE_P(Families, Rom, testing::ValuesIn(families), support::by_name);

/// The bytes in which one family says what is wrong.
TEST(RomImx, JudgesTheAddressesOfItsTable) {
    const auto& family = families[3];
    const auto good = first_program(family, family.size);
    if (good.empty()) GTEST_SKIP() << "mkimage is not here";
    struct Row {
        std::size_t at;
        std::uint32_t value;
        const char* text;
    };
    const std::uint32_t self = forge::get32(good, 20);
    const std::uint32_t boot_data = forge::get32(good, 16) - self;
    const std::string list = "the list that sets up memory is not where the image vector table says: memory stays off";
    // Anything else but a list: its first bytes are shown.
    auto other = good;
    forge::put32(other, 12, self);
    const BoardVerdict shown(with_first(family, other), family.board);
    EXPECT_EQ(rung(shown, Stage::BootCode).text, list);
    EXPECT_EQ(rung(shown, Stage::BootCode).evidence.at(0).found, fmt::format("{:#x}", self)) << "none before the list";
    forge::put32(other, 12, self + boot_data);
    EXPECT_EQ(rung(BoardVerdict(with_first(family, other), family.board), Stage::BootCode).evidence.at(0).found,
              hex(std::span(good).subspan(boot_data, 4)));
    for (const auto& [at, value, text] : std::initializer_list<Row>{
             {4, 0x00100000, "the image is entered where it does not lie"},
             {16, 0x00100000, "the image vector table's pointer to its boot data leads elsewhere"},
             {12, 0x00100000,
              "the list that sets up memory is not where the image vector table says: memory stays off"},
             {boot_data, 0x00A00000, "the boot data let the image begin where it does not"},
         }) {
        auto first = good;
        forge::put32(first, at, value);
        const BoardVerdict board(with_first(family, first), family.board);
        ASSERT_TRUE(board.system().stops_at) << text;
        EXPECT_EQ(*board.system().stops_at, Stage::BootCode) << text;
        EXPECT_EQ(rung(board, Stage::BootCode).text, text);
        ASSERT_TRUE(rung(board, Stage::BootCode).evidence.at(0).range) << text;
        EXPECT_EQ(rung(board, Stage::BootCode).evidence[0].range->offset, 1024 + at) << text;
    }
}

/// An image for memory outside the chip is U-Boot as a whole: nothing further is looked for.
TEST(RomImx, TakesUBootAsAWhole) {
    const auto first = image_of(uboot_with_its_words(), "mkimage -n list -T imximage -e 0x17800000 -d code first");
    if (first.empty()) GTEST_SKIP() << "mkimage is not here";
    auto disk = card(false);
    put(disk, 1024, first);
    const BoardVerdict board(disk, "imx6-brom");
    EXPECT_EQ(rung(board, Stage::BootCode).state, State::Holds) << rung(board, Stage::BootCode).text;
    EXPECT_NE(rung(board, Stage::BootCode).text.find(" for 0x177ff000"), std::string::npos)
        << rung(board, Stage::BootCode).text;
    EXPECT_EQ(rung(board, Stage::Loader).state, State::Holds);
    EXPECT_EQ(rung(board, Stage::Loader).text,
              "the first program holds U-Boot itself; then its environment is the one built into it (7 variables)");
    EXPECT_FALSE(board.has(Code::BoardNextMissing));
}

TEST(RomRockchip, WantsAProgramInItsList) {
    const auto& family = families[2];
    const auto good = first_program(family, family.size);
    if (good.empty()) GTEST_SKIP() << "mkimage is not here";
    // How many there are: bytes 10 and 11; the list from byte 120 on, each with 88 bytes: where, how long, its SHA-256
    // at 24.
    struct Row {
        std::size_t at;
        std::uint8_t value;
        std::string text;
        std::uint64_t place, length;
    };
    for (const auto& [at, value, text, place, length] : std::initializer_list<Row>{
             {10, 0, "the ID block names no first program", 10, 2},
             {120 + 24, static_cast<std::uint8_t>(good[120 + 24] ^ 1U),
              "the first program fails its SHA-256: the ROM does not start it", 120 + 24, 32},
         }) {
        auto first = good;
        first[at] = value;
        const BoardVerdict board(with_first(family, first), family.board);
        ASSERT_TRUE(board.system().stops_at) << text;
        EXPECT_EQ(*board.system().stops_at, Stage::BootCode) << text;
        EXPECT_EQ(board.why(), Code::BoardProgramDamaged) << text;
        EXPECT_EQ(rung(board, Stage::BootCode).text, text);
        const auto& range = rung(board, Stage::BootCode).evidence.at(0).range;
        ASSERT_TRUE(range) << text;
        EXPECT_EQ(range->offset, 32768 + place) << text;
        EXPECT_EQ(range->length, length) << text;
    }
    // One program is taken as well as two.
    auto first = good;
    first[10] = 1;
    const BoardVerdict board(with_first(family, first), family.board);
    EXPECT_EQ(rung(board, Stage::BootCode).state, State::Holds);
    EXPECT_NE(rung(board, Stage::BootCode).text.find(" names 1 program ("), std::string::npos)
        << rung(board, Stage::BootCode).text;
}

TEST(RomStm32, TakesTheSecondCopyWhereTheFirstIsDamaged) {
    const auto& family = families[7];
    const auto good = first_program(family, family.size);
    if (good.empty()) GTEST_SKIP() << "mkimage is not here";
    auto bad = good;
    bad[5000] ^= 1U;
    auto disk = card(false);
    put(disk, 65536, bad);
    put(disk, 327680, good);
    const auto machine = support::machine_of(disk);
    const auto found = search_rom(machine, *find_board(family.board));
    ASSERT_TRUE(found.program);
    EXPECT_FALSE(found.program->refused);
    EXPECT_EQ(found.program->where, "byte 327680");
    ASSERT_EQ(found.passed.size(), 1U);
    EXPECT_EQ(found.passed[0].code, Code::BoardProgramDamaged);
}

TEST(RomTi, WantsAnActivePartition) {
    const auto& family = families[5];
    const auto first = first_program(family, family.size);
    if (first.empty()) GTEST_SKIP() << "mkimage is not here";
    auto disk = with_first(family, first);
    EXPECT_EQ(BoardVerdict(disk, family.board).has(Code::BoardNothingToStart), false);
    disk[446] = 0;
    const BoardVerdict board(disk, family.board);
    EXPECT_EQ(board.why(), Code::BoardNothingToStart);
    EXPECT_EQ(*board.system().stops_at, Stage::Firmware);
    const auto& evidence = rung(board, Stage::Firmware).evidence;
    EXPECT_TRUE(
        std::ranges::any_of(evidence, [](const Evidence& e) { return e.expected == "an active partition with FAT"; }));
}

/// Code that is none, and what lies behind the end of the card.
TEST(RomRockchip, StartsNoZeros) {
    const auto& family = families[0];
    auto first = first_program(family, family.size);
    if (first.empty()) GTEST_SKIP() << "mkimage is not here";
    std::fill(first.begin() + 2048 + 4, first.end(), std::uint8_t{0});
    const BoardVerdict board(with_first(family, first), family.board);
    EXPECT_EQ(board.why(), Code::BoardProgramDamaged);
    EXPECT_EQ(rung(board, Stage::BootCode).text,
              "where the first program's code should begin there is none: the ROM starts into nothing");
    EXPECT_EQ(rung(board, Stage::BootCode).evidence.at(0).range->offset, 32768U + 2052U);
    // The tag before the code is looked for, by some of these ROMs.
    first = first_program(family, family.size);
    first[2048] = 'X';
    EXPECT_EQ(rung(BoardVerdict(with_first(family, first), family.board), Stage::BootCode).state, State::Doubtful);
}

TEST(RomRockchip, FollowsAnImageTree) {
    const auto& family = families[0];
    const auto first = first_program(family, family.size);
    if (first.empty()) GTEST_SKIP() << "mkimage is not here";
    auto disk = with_first(family, first, false);
    auto uboot = forge::make_uboot(demo::weather_station().variables);
    const auto tree = forge::make_fit({{"uboot", "kernel", uboot, 0x200000, 0x200000, "arm64"},
                                       {"tree", "flat_dt", forge::make_device_tree({"", {}, {}}), 0, 0, "arm64"}},
                                      "U-Boot");
    put(disk, 8 * mib, tree);
    const BoardVerdict board(disk, family.board);
    EXPECT_EQ(rung(board, Stage::Loader).state, State::Holds);
    EXPECT_TRUE(rung(board, Stage::Loader).text.starts_with("U-Boot lies at byte 8388608, in an image tree of 2 parts"))
        << rung(board, Stage::Loader).text;
    EXPECT_NE(rung(board, Stage::Loader).text.find("(7 variables)"), std::string::npos);
    // A part with another hash: not every first program looks.
    const auto inside = std::search(disk.begin() + 8 * mib, disk.end(), uboot.begin(), uboot.begin() + 64);
    ASSERT_NE(inside, disk.end());
    *(inside + 10) ^= 1U;
    const BoardVerdict changed(disk, family.board);
    EXPECT_EQ(rung(changed, Stage::Loader).state, State::Doubtful);
    EXPECT_NE(rung(changed, Stage::Loader).text.find("uboot fails its hash, which not every first program looks at"),
              std::string::npos)
        << rung(changed, Stage::Loader).text;
}

TEST(RomTypes, PartitionsOfTheirOwnType) {
    const auto* board = find_board("fu740-rom");
    ASSERT_NE(board, nullptr);
    auto disk = card(true);
    const auto without = search_rom(support::machine_of(disk), *board);
    EXPECT_FALSE(without.program);
    ASSERT_EQ(without.looked.size(), 1U);
    EXPECT_EQ(without.looked[0].expected, "a GPT partition of type 5b193300-fc78-40cd-8002-e86c45580b47");
    EXPECT_FALSE(search_rom(support::machine_of(card(false)), *board).program);
    EXPECT_FALSE(search_rom(Machine{}, *board).program);
}

/// A partition of 256 KiB that the system's partitioner makes, and what lies in it.
struct Part {
    std::string words;  ///< "name=fsbl1", "type=..."
    Bytes content;
};

constexpr std::size_t part_size = 256U << 10U;
constexpr std::size_t part_at(std::size_t number) { return mib + (number - 1) * part_size; }

/// A card with a GPT by sfdisk; empty: it is not here.
Bytes partitioned(const std::vector<Part>& parts) {
    const Folder folder;
    Bytes disk(4 * mib);
    for (std::size_t i = 0; i < parts.size(); ++i) put(disk, part_at(i + 1), parts[i].content);
    folder.write("card", disk);
    std::string script = "label: gpt\n";
    for (std::size_t i = 0; i < parts.size(); ++i)
        script += fmt::format("start={}, size={}, {}\n", part_at(i + 1) / 512, part_size / 512, parts[i].words);
    folder.write("script", forge::to_bytes(script));
    const auto made = support::shell("cd " + folder.file("") + " && sfdisk -q card < script");
    return made.status == 0 ? support::file_bytes(folder.file("card")) : Bytes{};
}

RomSearch searched(const Bytes& disk, const std::string& board) {
    return search_rom(support::machine_of(disk), *find_board(board));
}

TEST(RomStm32, LooksInTheFirstTwoPartitionsByTheirNames) {
    const auto& family = families[7];
    const auto good = first_program(family, family.size);
    auto bad = good;
    if (good.empty()) GTEST_SKIP() << "mkimage is not here";
    bad[5000] ^= 1U;
    struct Row {
        std::vector<Part> parts;
        std::string where;  ///< of the program; empty: none
        bool starts;
        std::size_t passed;
    };
    const Row rows[] = {
        {{{"name=fsbl1", good}, {"name=fsbl2", good}}, "d1p1", true, 0},
        {{{"name=other", good}, {"name=FSBL-a", good}}, "d1p2", true, 0},
        {{{"name=fsbl1", bad}, {"name=fsbl2", good}}, "d1p2", true, 1},
        {{{"name=fsbl1", bad}, {"name=fsbl2", bad}}, "d1p1", false, 0},
        {{{"name=fsbl1", bad}, {"name=fsbl2", {}}, {"name=fsbl3", good}}, "d1p1", false, 0},
        {{{"name=fsb", good}, {"name=a-fsbl", good}}, "", false, 0},
    };
    for (const auto& row : rows) {
        const auto disk = partitioned(row.parts);
        if (disk.empty()) GTEST_SKIP() << "sfdisk is not here";
        const auto found = searched(disk, family.board);
        const std::string told = row.parts[0].words + " " + row.where;
        ASSERT_EQ(found.program.has_value(), !row.where.empty()) << told;
        EXPECT_EQ(found.passed.size(), row.passed) << told;
        if (row.where.empty()) {
            ASSERT_EQ(found.looked.size(), 1U) << told;
            EXPECT_EQ(found.looked[0].expected, "a GPT partition named fsbl1 or fsbl2");
            EXPECT_EQ(found.looked[0].place, "d1");
            continue;
        }
        EXPECT_TRUE(found.looked.empty()) << told;
        EXPECT_EQ(found.program->where, row.where);
        EXPECT_EQ(!found.program->refused, row.starts) << told;
        EXPECT_EQ(
            found.program->text,
            fmt::format("the first program in {} (19.5 KiB) passes its checksum and fits into the chip's 247.0 KiB",
                        row.where));
    }
    const BoardVerdict broken(partitioned(rows[3].parts), family.board);
    EXPECT_EQ(*broken.system().stops_at, Stage::BootCode);
    EXPECT_EQ(broken.why(), Code::BoardProgramDamaged);
    EXPECT_EQ(rung(broken, Stage::BootCode).text, "the first program fails its checksum: the ROM does not start it");
    EXPECT_EQ(rung(broken, Stage::BootCode).evidence.at(0).range->offset, part_at(1) + 68);
    EXPECT_EQ(rung(broken, Stage::Loader).state, State::NotReached);
    const BoardVerdict none(partitioned(rows[5].parts), family.board);
    EXPECT_EQ(*none.system().stops_at, Stage::Firmware);
    EXPECT_EQ(none.why(), Code::BoardNothingToStart);
    // Its next program lies in a partition with a name, too; the first of the two that there is.
    for (const std::string name : {"fip", "ssbl"}) {
        const BoardVerdict whole(partitioned({{"name=fsbl1", good}, {"name=" + name, second_program(0xC0100000)}}),
                                 family.board);
        EXPECT_EQ(rung(whole, Stage::Loader).state, State::Holds) << rung(whole, Stage::Loader).text;
        EXPECT_TRUE(rung(whole, Stage::Loader).text.starts_with("U-Boot lies in d1p2 ("))
            << rung(whole, Stage::Loader).text;
    }
}

/// A field of a first program's head, with its edge; where it is refused, the words and the bytes that say so.
struct HeadRow {
    std::size_t at;
    std::uint32_t value;
    std::string refused;  ///< empty: it is not
    std::uint64_t place = 0, length = 0;
    std::string expected, found;
};

void expect_refusal(const std::optional<Finding>& refused, const HeadRow& row, std::uint64_t head) {
    const auto told = fmt::format("{} at {}", row.value, row.at);
    ASSERT_EQ(refused.has_value(), !row.refused.empty()) << told << (refused ? ": " + refused->text : "");
    if (!refused) return;
    EXPECT_EQ(refused->text, row.refused) << told;
    EXPECT_EQ(refused->symptom, "(nothing)") << told;
    const auto& evidence = refused->evidence.at(0);
    EXPECT_EQ(evidence.expected, row.expected) << told;
    EXPECT_EQ(evidence.found, row.found) << told;
    ASSERT_EQ(evidence.range.has_value(), row.length != 0) << told;
    if (!evidence.range) return;
    EXPECT_EQ(evidence.range->offset, head + row.place) << told;
    EXPECT_EQ(evidence.range->length, row.length) << told;
}

TEST(RomStm32, JudgesEachFieldOfItsHead) {
    const auto& family = families[7];
    const auto good = first_program(family, family.size);
    if (good.empty()) GTEST_SKIP() << "mkimage is not here";
    const std::uint32_t most = 247U << 10U;
    const std::uint32_t sum = forge::get32(good, 68);
    // What lies behind a shorter program is not summed, what lies behind a longer one is zero here.
    const std::uint32_t length = forge::get32(good, 76);
    const std::string fails = "the first program fails its checksum: the ROM does not start it";
    const HeadRow rows[] = {
        {0, 0x334D5453, "d1p1 does not begin with the mark of a first program", 0, 4, "STM2", "53 54 4d 33"},
        {72, 0x00020000, "the head of the first program has a version that this ROM does not take", 72, 4, "00010000",
         "00020000"},
        {76, most + 1, "the first program has 247.0 KiB, and the memory on the chip takes 247.0 KiB", 76, 4,
         "at most 252928", "252929"},
        {76, most, ""},
        {76, length + 1, ""},
        {68, sum + 1, fails, 68, 4, fmt::format("{:08x}", sum), fmt::format("{:08x}", sum + 1)},
    };
    for (const auto& row : rows) {
        auto first = good;
        forge::put32(first, row.at, row.value);
        const auto disk = partitioned({{"name=fsbl1", first}});
        if (disk.empty()) GTEST_SKIP() << "sfdisk is not here";
        expect_refusal(searched(disk, family.board).program->refused, row, part_at(1));
    }
    // At a byte of a card that ends behind it: the last byte may be the program's last.
    for (const std::size_t missing : {0U, 1U}) {
        auto disk = card(false);
        disk.resize(327680);
        put(disk, 327680, good);
        disk.resize(327680 + 256 + length - missing);
        const auto program = searched(disk, family.board).program;
        ASSERT_TRUE(program);
        EXPECT_EQ(program->refused.has_value(), missing == 1);
        if (missing == 1)
            EXPECT_EQ(program->refused->text,
                      "the first program is cut short: its head promises 19.8 KiB, and 19.8 KiB are there");
    }
}

TEST(RomZynq, JudgesEachFieldOfItsHead) {
    const auto& family = families[6];
    const auto good = first_program(family, family.size);
    if (good.empty()) GTEST_SKIP() << "mkimage is not here";
    const auto with = [&](const HeadRow& row, bool sum) {
        auto first = good;
        forge::put32(first, row.at, row.value);
        std::uint32_t all = 0;
        for (std::size_t at = 32; at < 72; at += 4) all += forge::get32(first, at);
        if (sum) forge::put32(first, 72, ~all);
        return searched(with_first(family, first), family.board).program;
    };
    const std::uint32_t size = forge::get32(good, 52), most = 192U << 10U;
    const auto whole = static_cast<std::uint32_t>(good.size());
    const std::uint32_t sum = forge::get32(good, 72);
    const std::string none = "d1p1:/BOOT.BIN carries no boot header";
    const std::string marks = "66 55 99 aa 58 4e 4c 58";
    const HeadRow rows[] = {
        {32, 0xAA995567, none, 32, 8, marks, "67 55 99 aa 58 4e 4c 58"},
        {36, 0x584C4E59, none, 32, 8, marks, "66 55 99 aa 59 4e 4c 58"},
        {52, most + 1, "the first program has 192.0 KiB, and the memory on the chip takes 192.0 KiB", 52, 4,
         "at most 196608", "196609"},
        {52, most,
         "the first program is cut short: its head promises 192.0 KiB, and " + size_text(whole) + " are there", 0, 0,
         "196608 bytes", fmt::format("{} bytes", whole)},
        {52, whole, ""},
        {52, size, ""},
        {48, whole, "the first program begins behind its own end"},
        {48, whole - 1, ""},
    };
    for (const auto& row : rows) {
        const auto program = with(row, true);
        ASSERT_TRUE(program);
        EXPECT_EQ(program->length, whole);
        EXPECT_EQ(program->state, State::Holds);
        expect_refusal(program->refused, row, program->at);
    }
    const auto wrong = with({72, sum ^ 1U}, false);
    expect_refusal(wrong->refused,
                   {72, sum ^ 1U, "the boot header fails its checksum: the ROM does not start it", 72, 4,
                    fmt::format("{:08x}", sum), fmt::format("{:08x}", sum ^ 1U)},
                   wrong->at);
    // Enciphered, it may be anything: neither what it is nor what it loads next is known.
    const auto enciphered = with({40, 0xA5C3C5A3}, true);
    EXPECT_EQ(enciphered->state, State::Unknown);
    EXPECT_TRUE(enciphered->whole);
    EXPECT_FALSE(enciphered->refused);
    EXPECT_EQ(enciphered->text, "d1p1:/BOOT.BIN is enciphered with a key that the chip holds");
    for (const std::size_t length : {75U, 76U}) {
        auto first = good;
        first.resize(length);
        const auto program = searched(with_first(family, first), family.board).program;
        EXPECT_EQ(program->refused->text, length == 75 ? "d1p1:/BOOT.BIN is too short for a boot header"
                                                       : "the first program is cut short: its head promises " +
                                                             size_text(size) + ", and 76 B are there");
    }
}

/// JH7110: a head of its own, in a partition of a type of its own.
TEST(RomTypes, JudgesEachFieldOfTheHead) {
    const std::string type = "type=2E54B353-1271-4842-806F-E436D6AF6985";
    Bytes good = forge::noise(8192, 9);
    std::fill_n(good.begin(), 1024, std::uint8_t{0});
    forge::put32(good, 644, 0x01010101);
    forge::put32(good, 648, 8192 - 1024);
    forge::put32(good, 652, 1024);
    const std::uint32_t most = 2U << 20U;
    const HeadRow rows[] = {
        {644, 0x01010101, ""},
        {644, 0x01010100, "d1p1 does not begin with the head of a first program", 644, 4, "01 01 01 01", "01010100"},
        {648, most + 1, "the first program has 2.0 MiB, and the memory on the chip takes 2.0 MiB", 648, 4, "", ""},
        {648, most, "the first program is cut short: its head promises 2.0 MiB, and 256.0 KiB are there", 0, 0,
         fmt::format("{} bytes", most + 1024), "262144 bytes"},
        {648, part_size - 1024, ""},
        {652, 8192, "where the first program's code should begin there is none: the ROM starts into nothing", 8192, 64,
         "instructions", "00 throughout"},
    };
    for (const auto& row : rows) {
        auto first = good;
        forge::put32(first, row.at, row.value);
        const auto disk = partitioned({{type, first}});
        if (disk.empty()) GTEST_SKIP() << "sfdisk is not here";
        const auto found = searched(disk, "jh7110-rom");
        ASSERT_TRUE(found.program);
        EXPECT_EQ(found.program->where, "d1p1");
        EXPECT_EQ(found.program->text, "the first program lies in d1p1, by that partition's type");
        EXPECT_EQ(found.program->evidence.at(0).range->offset, 1024U);
        expect_refusal(found.program->refused, row, part_at(1));
    }
    // The other family takes the partition's bytes as they are.
    const std::string other = "type=5B193300-FC78-40CD-8002-E86C45580B47";
    const auto plain = searched(partitioned({{other, forge::noise(4096, 9)}}), "fu740-rom").program;
    ASSERT_TRUE(plain);
    EXPECT_FALSE(plain->refused);
    EXPECT_EQ(plain->length, part_size);
    EXPECT_EQ(searched(partitioned({{other, {}}}), "fu740-rom").program->refused->evidence.at(0).range->offset,
              part_at(1));
}

}  // namespace
