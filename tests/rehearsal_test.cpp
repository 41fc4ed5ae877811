// SPDX-License-Identifier: MIT
// Boot code that runs: well-behaved, wrong, and wild.
#include <nlohmann/json.hpp>

#include "support.hpp"

using namespace herberge;
using forge::Bytes;

namespace {

/// A disk of 1 MiB whose first sector begins with this code.
Bytes disk_with(Bytes code) {
    Bytes out(1U << 20U);
    std::copy(code.begin(), code.end(), out.begin());
    forge::put16(out, 510, 0xAA55);
    return out;
}

RehearsalOptions small() {
    auto options = RehearsalOptions::brief();
    options.most_instructions = 3'000'000;
    return options;
}

Rehearsal run(Bytes image, const RehearsalOptions& options = small()) {
    const auto machine = support::machine_of(std::move(image));
    return rehearse(machine, 1, options);
}

std::string printed(const Rehearsal& r) { return r.screen.empty() ? "" : r.screen.front(); }

// --- code that loads other code -------------------------------------------------------------------------------------

struct Plain {
    const char* name;
    std::vector<std::uint8_t> status;  ///< of the four entries
    bool signature;                    ///< of the volume's boot sector
    RehearsalEnd end;
    const char* text;
    const char* stage;  ///< the verdict of `check`
};
class PlainBoot : public testing::TestWithParam<Plain> {};

Bytes plain_disk(const Plain& c) {
    forge::Tree tree;
    tree.file("/etc/os-release", "PRETTY_NAME=\"Weather Station\"\n").directory("/sbin");
    forge::ExtOptions options;
    options.size = 2U << 20U;
    options.journal = false;
    forge::DiskSpec spec;
    spec.size = 8U << 20U;
    spec.boot_code = forge::make_plain_boot();
    for (std::size_t i = 0; i < c.status.size(); ++i) {
        auto volume = forge::make_ext(tree, options);
        if (c.signature) {
            const auto boot = forge::make_volume_boot();
            std::copy(boot.begin(), boot.end(), volume.begin());
        }
        spec.partitions.push_back({2048 + i * 4096, std::move(volume), 0x83, false});
    }
    auto image = forge::make_disk(spec);
    for (std::size_t i = 0; i < c.status.size(); ++i) image[446 + 16 * i] = c.status[i];
    return image;
}

TEST_P(PlainBoot, DoesWhatItsTableSays) {
    const auto image = plain_disk(GetParam());
    const auto r = run(image);
    EXPECT_EQ(r.end, GetParam().end) << r.end_text;
    EXPECT_EQ(printed(r), GetParam().text);
    const support::Checked checked(image);
    EXPECT_EQ(checked.stage(), GetParam().stage);
    if (checked.stage() == "boot-sector")
        EXPECT_TRUE(checked.has(GetParam().signature ? Code::BootSectorGivesUp : Code::BootSectorNotStartable));
    if (checked.system().stops_at) EXPECT_NE(checked.system().symptom.find(GetParam().text), std::string::npos);
}
INSTANTIATE_TEST_SUITE_P(
    All, PlainBoot,
    testing::Values(
        Plain{"NoneActive", {0, 0}, true, RehearsalEnd::Int18, "No door stands open", "partition-table"},
        Plain{"TwoActive", {0x80, 0x80}, true, RehearsalEnd::Int18, "Two doors stand open", "partition-table"},
        Plain{"OddStatus", {0x80, 0x12}, true, RehearsalEnd::Int18, "A door is marked oddly", "partition-table"},
        Plain{"NoSignature", {0x80}, false, RehearsalEnd::Int18, "Nothing behind the door", "boot-sector"},
        Plain{
            "First", {0x80, 0}, true, RehearsalEnd::WaitsForKey, "No system in this room, press a key", "boot-sector"},
        Plain{"Second",
              {0, 0x80},
              true,
              RehearsalEnd::WaitsForKey,
              "No system in this room, press a key",
              "boot-sector"}),
    support::by_name);

TEST(PlainBoot, SilentCodeThatWantsAnActiveEntryIsProvenToLackIt) {
    // Copies itself to 0600, starts the active entry's sector, and gives up with INT 18h without a word.
    const Bytes code = {0x31, 0xC0, 0x8E, 0xD8, 0x8E, 0xC0, 0x8E, 0xD0, 0xBC, 0x00, 0x7C, 0xBE, 0x00, 0x7C, 0xBF, 0x00,
                        0x06, 0xB9, 0x00, 0x01, 0xF3, 0xA5, 0xEA, 0x1B, 0x06, 0x00, 0x00, 0xBE, 0xBE, 0x07, 0xB9, 0x04,
                        0x00, 0x80, 0x3C, 0x80, 0x74, 0x07, 0x83, 0xC6, 0x10, 0xE2, 0xF6, 0xCD, 0x18, 0x66, 0x6A, 0x00,
                        0x66, 0xFF, 0x74, 0x08, 0x6A, 0x00, 0x68, 0x00, 0x7C, 0x6A, 0x01, 0x6A, 0x10, 0x89, 0xF5, 0x89,
                        0xE6, 0xB4, 0x42, 0xB2, 0x80, 0xCD, 0x13, 0x89, 0xEE, 0xEA, 0x00, 0x7C, 0x00, 0x00};
    auto image = plain_disk({"", {0, 0}, true, RehearsalEnd::Int18, "", ""});
    std::fill_n(image.begin(), 440, std::uint8_t{0});
    std::copy(code.begin(), code.end(), image.begin());
    EXPECT_EQ(run(image).end, RehearsalEnd::Int18);
    EXPECT_EQ(run(image).text, "");
    const support::Checked checked(image);
    EXPECT_EQ(checked.stage(), "partition-table");
    EXPECT_TRUE(checked.has(Code::BootCodeFindsNoPartition));
    const auto& rung = checked.system().at(Stage::PartitionTable);
    EXPECT_NE(rung.text.find("none is; with entry 1 marked, it goes on"), std::string::npos) << rung.text;
    EXPECT_EQ(rung.evidence.front().range, (DiskRange{1, 446, 64}));
    EXPECT_EQ(checked.system().at(Stage::BootCode).state, State::Holds);
    // Code that gives up whatever is marked lacks something else.
    std::fill_n(image.begin() + 0x21, 0x2B - 0x21, std::uint8_t{0x90});
    EXPECT_EQ(support::Checked(image).system().at(Stage::PartitionTable).text.find("with entry"), std::string::npos);
}

TEST(Rehearsal, RecordsWhoStartsWhomAndWhereItLies) {
    const auto r = run(plain_disk({"", {0, 0x80}, true, RehearsalEnd::Int18, "", ""}));
    std::vector<std::string> steps;
    for (const auto& e : r.events) steps.push_back(std::string(rehearsal_event_id(e.kind)) + " " + e.lies_in);
    EXPECT_EQ(steps, (std::vector<std::string>{"transfer d1 first sector", "read d1p2 boot sector",
                                               "transfer d1p2 boot sector", "text ", "end "}));
    EXPECT_EQ(r.events[1].range, (DiskRange{1, (2048U + 4096U) * 512U, 512}));
    EXPECT_EQ(r.events[2].stage, Stage::BootSector);
    EXPECT_EQ(r.events[2].address, 0x7C00U);
}

TEST(Rehearsal, AKeyMovesItOn) {
    auto options = small();
    options.keys = {{2.0, *key_code("enter")}};
    const auto r = run(plain_disk({"", {0x80}, true, RehearsalEnd::Int18, "", ""}), options);
    EXPECT_EQ(r.end, RehearsalEnd::Int19);
    EXPECT_GE(r.events.back().seconds, 2.0);
    EXPECT_FALSE(key_code("doorbell"));
}

TEST(Rehearsal, IsTheSameEveryTime) {
    const auto image = demo::front_desk().build();
    EXPECT_EQ(rehearsal_json(run(image)), rehearsal_json(run(image)));
}

TEST(Rehearsal, FollowsTheFrontDeskIntoItsLoader) {
    const auto r = run(demo::front_desk().build());
    EXPECT_EQ(printed(r), "GRUB loading..");
    EXPECT_EQ(r.screen.at(1), "This is a stand-in for a loader: it ends here.");
    ASSERT_NE(r.last_transfer(), nullptr);
    EXPECT_EQ(r.last_transfer()->address, 0x8200U);
    EXPECT_LT(r.instructions, 20000U);
    auto options = small();
    options.until = Stage::Loader;
    const auto stopped = run(demo::front_desk().build(), options);
    EXPECT_EQ(stopped.end, RehearsalEnd::UntilReached);
    EXPECT_EQ(stopped.last_transfer()->address, 0x8000U);
}

TEST(Rehearsal, OldInterfaceGivesTheSameSectors) {
    // mov ax,0201; mov bx,7E00; mov cx,0003; mov dx,0080; int 13; jc $+..; print the first byte; int 18
    const Bytes code = {0xB8, 0x01, 0x02, 0xBB, 0x00, 0x7E, 0xB9, 0x03, 0x00, 0xBA, 0x80, 0x00,
                        0xCD, 0x13, 0xA0, 0x00, 0x7E, 0xB4, 0x0E, 0xCD, 0x10, 0xCD, 0x18};
    auto image = disk_with(code);
    image[1024] = 'K';
    auto options = small();
    options.extensions = false;
    EXPECT_EQ(printed(run(image, options)), "K");
}

TEST(Rehearsal, TheSecondDiskIsThereToo) {
    // read sector 0 of drive 81h to 7E00 and print its first byte
    const Bytes code = {0xB8, 0x01, 0x02, 0xBB, 0x00, 0x7E, 0xB9, 0x01, 0x00, 0xBA, 0x81, 0x00,
                        0xCD, 0x13, 0xA0, 0x00, 0x7E, 0xB4, 0x0E, 0xCD, 0x10, 0xCD, 0x18};
    Machine machine;
    machine.disks.push_back(inspect_disk(memory_source(disk_with(code), "d1", 1), 1, "a"));
    machine.disks.push_back(inspect_disk(memory_source(Bytes(4096, 'S'), "d2", 2), 2, "b"));
    const auto r = rehearse(machine, 1, small());
    EXPECT_EQ(printed(r), "S");
    EXPECT_EQ(r.events.at(1).range, (DiskRange{2, 0, 512}));
}

TEST(Rehearsal, AKernelsEntryIsRecognised) {
    // Loads the kernel's set-up part from sector 1 on to 9000:0000 and enters it at 9020:0000.
    Bytes code = {0xB8, 0x00, 0x90, 0x8E, 0xC0, 0xB8, 0x04, 0x02, 0x31, 0xDB, 0xB9, 0x02,
                  0x00, 0xBA, 0x80, 0x00, 0xCD, 0x13, 0xEA, 0x00, 0x00, 0x20, 0x90};
    auto image = disk_with(code);
    const auto kernel = forge::make_kernel();
    std::copy_n(kernel.begin(), 2048, image.begin() + 512);
    const auto r = run(image);
    EXPECT_EQ(r.end, RehearsalEnd::KernelEntered) << r.end_text;
    EXPECT_EQ(r.last_transfer()->stage, Stage::Kernel);
}

TEST(Rehearsal, WritesStayInMemory) {
    // write 7C00 to sector 5, read it back to 7E00, print its first byte's code as a letter
    const Bytes code = {0xB8, 0x01, 0x03, 0xBB, 0x00, 0x7C, 0xB9, 0x06, 0x00, 0xBA, 0x80, 0x00, 0xCD,
                        0x13, 0xB8, 0x01, 0x02, 0xBB, 0x00, 0x7E, 0xCD, 0x13, 0x80, 0x3E, 0x00, 0x7E,
                        0xB8, 0x75, 0x06, 0xB8, 0x4F, 0x0E, 0xCD, 0x10, 0xF4, 0xCD, 0x18};
    const auto image = disk_with(code);
    const auto machine = support::machine_of(image);
    const auto r = rehearse(machine, 1, small());
    EXPECT_EQ(printed(r), "O");
    EXPECT_EQ(r.writes, 1U);
    EXPECT_EQ(*machine.disks[0].source->bytes(0, image.size()), image);
}

// --- code that goes wrong -------------------------------------------------------------------------------------------

struct Wild {
    const char* name;
    Bytes code;
    RehearsalEnd end;
};
class WildCode : public testing::TestWithParam<Wild> {};
TEST_P(WildCode, IsBoundedAndTold) {
    const auto r = run(disk_with(GetParam().code));
    EXPECT_EQ(r.end, GetParam().end) << r.end_text;
    EXPECT_FALSE(r.end_text.empty());
    EXPECT_LE(r.instructions, 3'000'001U);
    EXPECT_LE(r.memory_touched, 16U << 20U);
    // Whatever it does, `check` has an answer.
    const support::Checked checked(disk_with(GetParam().code));
    EXPECT_NE(checked.stage(), "yes");
}
INSTANTIATE_TEST_SUITE_P(
    All, WildCode,
    testing::Values(
        Wild{"LoopsForEver", {0xEB, 0xFE}, RehearsalEnd::Loops}, Wild{"Halts", {0xFA, 0xF4}, RehearsalEnd::Halted},
        Wild{"HaltsAwake", {0xFB, 0xF4, 0xEB, 0xFD}, RehearsalEnd::Halted},
        Wild{"JumpsIntoNothing", {0xEA, 0x00, 0x00, 0x00, 0x50}, RehearsalEnd::EmptyMemory},
        Wild{"FallsOffItsEnd", {0x90, 0x90}, RehearsalEnd::EmptyMemory},
        Wild{"UndefinedInstruction", {0x0F, 0xFF, 0x90}, RehearsalEnd::Fault},
        Wild{"DividesByZero", {0x31, 0xC9, 0xF7, 0xF1}, RehearsalEnd::Fault},
        Wild{"OverwritesTheInterruptTable",
             {0x31, 0xFF, 0x8E, 0xC7, 0xB9, 0x00, 0x02, 0xB8, 0xAD, 0xDE, 0xF3, 0xAB, 0xCD, 0x10},
             RehearsalEnd::EmptyMemory},
        // mov ecx,-1; xor edi,edi; a32 rep stosb: to the segment's end, and by a table of zeros to nothing.
        Wild{"RepeatsOverItself",
             {0x66, 0xB9, 0xFF, 0xFF, 0xFF, 0xFF, 0x66, 0x31, 0xFF, 0x67, 0xF3, 0xAA},
             RehearsalEnd::EmptyMemory},
        Wild{"PrintsWithoutEnd", {0xB8, 0x41, 0x0E, 0xCD, 0x10, 0xEB, 0xF9}, RehearsalEnd::Limit},
        Wild{"ReadsWithoutEnd",
             {0xB8, 0x01, 0x02, 0xBB, 0x00, 0x7E, 0xB9, 0x01, 0x00, 0xBA, 0x80, 0x00, 0xCD, 0x13, 0xEB, 0xF0},
             RehearsalEnd::Limit},
        Wild{"StartsItselfAgain", {0xEA, 0x05, 0x7C, 0x00, 0x00, 0xEA, 0x00, 0x7C, 0x00, 0x00}, RehearsalEnd::Loops},
        // stosb over its own next instructions: inc byte [7C10]; jmp 7C10
        Wild{"RewritesItself", {0xC6, 0x06, 0x05, 0x7C, 0xF4, 0x90, 0xEB, 0xF8}, RehearsalEnd::Halted},
        Wild{"FarJumpByRegister", {0xFF, 0xEC}, RehearsalEnd::Fault},
        Wild{"PollsTheKeyboard", {0xB4, 0x01, 0xCD, 0x16, 0xEB, 0xFA}, RehearsalEnd::WaitsForKey}),
    support::by_name);

// --- what must not reach the CPU library, and one budget for everything ---------------------------------------------

Bytes prefixes(std::size_t count, const Bytes& after, std::uint8_t prefix = 0xF3) {
    Bytes out(count + after.size(), prefix);
    std::copy(after.begin(), after.end(), out.begin() + static_cast<std::ptrdiff_t>(count));
    return out;
}

TEST(Rehearsal, InstructionsOfMoreThanFifteenBytesAreExceptions) {
    // Fourteen prefixes and an opcode are fifteen bytes: they run, and the loop behind them is what ends the run.
    for (const std::uint8_t prefix : Bytes{0x26, 0x2E, 0x36, 0x3E, 0x64, 0x65, 0xF2, 0xF3})
        EXPECT_EQ(run(disk_with(prefixes(14, {0x90, 0xEB, 0xFE}, prefix))).end, RehearsalEnd::Loops)
            << static_cast<int>(prefix);
    for (const std::size_t count : {15U, 16U, 52U, 60U, 400U})
        for (const std::uint8_t prefix : Bytes{0x26, 0x66, 0xF0, 0xF2, 0xF3}) {
            const auto r = run(disk_with(prefixes(count, {0xA4}, prefix)));
            EXPECT_EQ(r.end, RehearsalEnd::Fault) << count;
            EXPECT_EQ(r.end_text, "CPU exception 13 that nobody handles, at 0000:7c00");
        }
}

TEST(Rehearsal, AHandlerThatIsTooLongItselfEnds) {
    // The vector of exception 13 leads to prefixes, and so does the code.
    Bytes code = {0xC7, 0x06, 0x34, 0x00, 0x20, 0x7C, 0xC7, 0x06, 0x36, 0x00, 0x00, 0x00, 0xEB, 0x12};
    code.resize(0x20);
    code.resize(0x60, 0xF3);
    EXPECT_EQ(run(disk_with(code)).end, RehearsalEnd::Loops);
    // A firmware stub overwritten with prefixes, and one that the timer's handler leads to.
    EXPECT_EQ(run(disk_with({0xB8, 0x00, 0xF0, 0x8E, 0xC0, 0xBF, 0x40, 0xE0, 0xB0, 0xF3,
                             0xB9, 0x40, 0x00, 0xF3, 0xAA, 0xB8, 0x41, 0x0E, 0xCD, 0x10}))
                  .end,
              RehearsalEnd::Fault);
    Bytes timer = {0xC7, 0x06, 0x70, 0x00, 0x20, 0x7C, 0xC7, 0x06, 0x72, 0x00, 0x00, 0x00, 0xFB, 0xF4, 0xEB, 0xFD};
    timer.resize(0x20);
    timer.resize(0x60, 0xF3);
    EXPECT_EQ(run(disk_with(timer)).end, RehearsalEnd::Fault);
}

TEST(Rehearsal, AReadOfNoSectorsLeavesNothingBehind) {
    // INT 13h/42h of no sectors, then a jump to 0000:0600, where nothing was put.
    Bytes code = {0xBE, 0x40, 0x7C, 0xB4, 0x42, 0xB2, 0x80, 0xCD, 0x13, 0xE9, 0xF4, 0x89};
    code.resize(0x40);
    code.insert(code.end(), {0x10, 0, 0, 0, 0, 0x80, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0});
    const auto r = run(disk_with(code));
    EXPECT_EQ(r.end, RehearsalEnd::EmptyMemory) << r.end_text;
    EXPECT_EQ(r.end_text, "execution reaches empty memory at 0000:0600");
}

TEST(Rehearsal, RepeatedInstructionsCountWhatTheyDo) {
    // mov cx,FFFF; rep lodsb; jmp
    const auto r = run(disk_with({0xB9, 0xFF, 0xFF, 0xF3, 0xAC, 0xEB, 0xF9}));
    EXPECT_EQ(r.end, RehearsalEnd::Limit) << r.end_text;
    EXPECT_LT(r.instructions, 2000U);
    EXPECT_NE(r.end_text.find("accesses to memory"), std::string::npos) << r.end_text;
}

TEST(Rehearsal, ServicesCountWhatTheyDo) {
    // INT 15h/87h moving 64 KiB, INT 10h/06h scrolling the whole screen, again and again.
    const auto move = run(disk_with({0xBE, 0x00, 0x7D, 0xB9, 0x00, 0x80, 0xB4, 0x87, 0xCD, 0x15, 0xEB, 0xF4}));
    EXPECT_EQ(move.end, RehearsalEnd::Limit) << move.end_text;
    EXPECT_LT(move.instructions, 2000U);
    const auto scroll = run(disk_with({0xB8, 0x00, 0x06, 0xB9, 0x00, 0x00, 0xBA, 0x4F, 0x18, 0xCD, 0x10, 0xEB, 0xF3}));
    EXPECT_EQ(scroll.end, RehearsalEnd::Limit) << scroll.end_text;
    EXPECT_LT(scroll.instructions, 100'000U);
}

TEST(Rehearsal, JumpsThroughBlocksThatAlwaysChangeAreBounded) {
    // 128 blocks of memory that each jump to the next; the last one reads a sector and writes a new number into each,
    // so that each block is looked for anew in what was read.
    const auto r =
        run(disk_with({0xB8, 0x00, 0x10, 0x8E, 0xC0, 0x31, 0xFF, 0x26, 0xC6, 0x05, 0xE9, 0x26, 0xC7, 0x45, 0x01,
                       0xFD, 0x01, 0x26, 0x89, 0x6D, 0x03, 0x45, 0x81, 0xC7, 0x00, 0x02, 0x75, 0xEB, 0x26, 0xC6,
                       0x06, 0x00, 0xFE, 0xEA, 0x26, 0xC7, 0x06, 0x01, 0xFE, 0x35, 0x7C, 0x26, 0xC7, 0x06, 0x03,
                       0xFE, 0x00, 0x00, 0xEA, 0x00, 0x00, 0x00, 0x10, 0x31, 0xC0, 0x8E, 0xC0, 0xB8, 0x01, 0x02,
                       0xBB, 0x00, 0x7E, 0xB9, 0x01, 0x00, 0xBA, 0x80, 0x00, 0xCD, 0x13, 0xEB, 0xB7}));
    EXPECT_EQ(r.end, RehearsalEnd::Limit) << r.end_text;
    EXPECT_GT(r.reads, 5U);
    EXPECT_LT(r.reads, 1000U) << r.end_text;
}

TEST(Rehearsal, CodeThatAReadLeavesAsItWasIsNotLookedForAgain) {
    // The same blocks, written once.
    const auto r = run(disk_with(
        {0xB8, 0x00, 0x10, 0x8E, 0xC0, 0x31, 0xFF, 0x26, 0xC6, 0x05, 0xE9, 0x26, 0xC7, 0x45, 0x01, 0xFD, 0x01, 0x81,
         0xC7, 0x00, 0x02, 0x75, 0xF0, 0x26, 0xC6, 0x06, 0x00, 0xFE, 0xEA, 0x26, 0xC7, 0x06, 0x01, 0xFE, 0x30, 0x7C,
         0x26, 0xC7, 0x06, 0x03, 0xFE, 0x00, 0x00, 0xEB, 0x03, 0x90, 0x90, 0x90, 0x31, 0xC0, 0x8E, 0xC0, 0xB8, 0x01,
         0x02, 0xBB, 0x00, 0x7E, 0xB9, 0x01, 0x00, 0xBA, 0x80, 0x00, 0xCD, 0x13, 0xEA, 0x00, 0x00, 0x00, 0x10}));
    EXPECT_EQ(r.end, RehearsalEnd::Limit) << r.end_text;
    EXPECT_EQ(r.end_text, "the code asks for more than 4000 reads");
}

TEST(Rehearsal, ScatteredWritesToADiskAreBounded) {
    // Writes one sector with a packet at 7C40, steps its number by 2, again.
    Bytes code = {0xBE, 0x40, 0x7C, 0xB8, 0x00, 0x43, 0xB2, 0x80, 0xCD, 0x13, 0x83, 0x06, 0x48, 0x7C, 0x02, 0xEB, 0xEF};
    code.resize(0x40);
    const Bytes packet = {0x10, 0, 1, 0, 0x00, 0x7E, 0, 0, 2, 0, 0, 0, 0, 0, 0, 0};
    code.insert(code.end(), packet.begin(), packet.end());
    auto disk = disk_with(code);
    disk.resize(32U << 20U);
    const auto r = run(disk);
    EXPECT_EQ(r.end, RehearsalEnd::Limit);
    EXPECT_NE(r.end_text.find("writes more to its disks"), std::string::npos) << r.end_text;
    EXPECT_EQ(r.writes, 8192U);
    // The events' own limit keeps the places of those that were recorded.
    const auto last = std::ranges::find_if(r.events.rbegin(), r.events.rend(),
                                           [](const auto& e) { return e.kind == RehearsalEventKind::Write; });
    ASSERT_NE(last, r.events.rend());
    const auto before = std::next(last);
    EXPECT_EQ(last->range->offset, before->range->offset + 1024);
}

TEST(Rehearsal, ReadsBeyondTheDiskFailAndAreTold) {
    // extended read of sector FFFFFFFF with a packet at 7C20; print 'E' on carry
    Bytes code = {0xBE, 0x20, 0x7C, 0xB4, 0x42, 0xB2, 0x80, 0xCD, 0x13,
                  0x73, 0x05, 0xB8, 0x45, 0x0E, 0xCD, 0x10, 0xCD, 0x18};
    code.resize(0x20);
    const Bytes packet = {0x10, 0, 1, 0, 0x00, 0x7E, 0, 0, 0xFF, 0xFF, 0xFF, 0xFF, 0, 0, 0, 0};
    code.insert(code.end(), packet.begin(), packet.end());
    const auto r = run(disk_with(code));
    EXPECT_EQ(printed(r), "E");
    EXPECT_NE(r.events.at(1).text.find("fails"), std::string::npos);
}

TEST(Rehearsal, RandomSectorsNeverBreakIt) {
    auto options = small();
    options.most_instructions = 60000;
    options.idle_instructions = 20000;
    for (std::uint32_t seed = 0; seed < 400; ++seed) {
        const auto r = run(disk_with(forge::noise(446, seed)), options);
        EXPECT_NE(r.end, RehearsalEnd::KernelEntered);
    }
}

TEST(Rehearsal, AnUnreadableSectorIsAReadError) {
    const auto image = demo::front_desk().build();
    Machine machine;
    machine.disks.push_back(inspect_disk(with_unreadable(memory_source(image, "d1", 1), {{512, 512}}), 1, "x"));
    const auto r = rehearse(machine, 1, small());
    EXPECT_EQ(r.end, RehearsalEnd::Int18);
    EXPECT_EQ(printed(r), "GRUB Read Error");
}

TEST(Rehearsal, WithoutSignatureNothingStarts) {
    EXPECT_EQ(run(Bytes(1U << 20U)).end, RehearsalEnd::NotStarted);
    EXPECT_EQ(rehearse(Machine{}, 1, small()).end, RehearsalEnd::NotStarted);
}

// --- both lines of evidence -----------------------------------------------------------------------------------------

TEST(TwoLines, CodeThatLooksRightAndDoesNothingIsFound) {
    auto d = demo::front_desk();
    // Everything that recognition looks at stays; the code behind the fields only halts.
    d.disk.boot_code[0x68] = 0xFA;
    d.disk.boot_code[0x69] = 0xF4;
    const support::Checked checked(d.build());
    EXPECT_EQ(checked.stage(), "boot-code");
    EXPECT_TRUE(checked.has(Code::RehearsalContradicts));
    EXPECT_TRUE(checked.has(Code::BootCodeDoesNothing));
}

TEST(TwoLines, CodeThatLooksWrongAndWorksIsLetThrough) {
    auto d = demo::front_desk();
    // Not the usual jump: nop; jmp +62h lands on the same code.
    d.disk.boot_code[0] = 0x90;
    d.disk.boot_code[1] = 0xEB;
    d.disk.boot_code[2] = 0x62;
    const support::Checked checked(d.build());
    EXPECT_EQ(checked.stage(), "yes");
    EXPECT_TRUE(checked.has(Code::RehearsalContradicts));
}

TEST(TwoLines, TheRehearsalCanBeLeftOut) {
    const auto machine = support::machine_of(plain_disk({"", {0, 0}, true, RehearsalEnd::Int18, "", ""}));
    CheckOptions options;
    options.rehearse = false;
    EXPECT_EQ(check(machine, options).systems.at(0).starts, Starts::Unknown);
}

TEST(Documents, RehearsalsParse) {
    const auto document = nlohmann::json::parse(rehearsal_json(run(demo::front_desk().build())));
    EXPECT_EQ(document.at("schema"), "herberge/rehearsal/1");
    EXPECT_EQ(document.at("events").at(0).at("kind"), "transfer");
    EXPECT_EQ(document.at("screen").at(0), "GRUB loading..");
}

}  // namespace
