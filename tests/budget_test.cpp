// SPDX-License-Identifier: MIT
// Hostile images: what goes on without end, nests without end, or leads to what is gone. Each of them ends, and is
// told.
#include <algorithm>

#include "kiosk.hpp"
#include "office_pc.hpp"
#include "support.hpp"

using namespace herberge;
using support::Bytes;

namespace {

support::Checked with_config(const std::string& config) {
    auto d = demo::front_desk();
    d.ext.size = 14U << 20U;
    d.disk.size = 20U << 20U;
    d.root.file("/boot/grub/grub.cfg", config);
    return support::Checked(d.build());
}

std::string repeated(std::string_view piece, std::size_t count) {
    std::string out;
    out.reserve(piece.size() * count);
    for (std::size_t i = 0; i < count; ++i) out += piece;
    return out;
}

const std::string good_entry = std::string("menuentry 'Front desk' {\n linux /boot/vmlinuz-") + demo::release +
                               " root=UUID=" + demo::root_uuid + "\n initrd /boot/initrd.img-" + demo::release +
                               "\n}\n";

TEST(Scripts, TestsThatNestWithoutEndAreFalse) {
    for (const char* word : {"( ", "! ", "! ( "}) {
        const auto checked =
            with_config("set timeout=1\nif [ " + repeated(word, 50'000) + "]; then set timeout=2; fi\n" + good_entry);
        EXPECT_EQ(checked.stage(), "yes") << word;
    }
    // What nests within reason is evaluated.
    const auto menu = with_config("if [ " + repeated("( ", 20) + "! ! x = x " + repeated(") ", 20) +
                                  "]; then set timeout=7; fi\n" + good_entry)
                          .verdict.menus;
    ASSERT_EQ(menu.size(), 1U);
    EXPECT_EQ(menu[0].timeout, 7);
}

TEST(Scripts, VariablesThatDoubleRunOutOfMemory) {
    const auto checked = with_config("set timeout=1\nset a=x\n" + repeated("set a=$a$a\n", 40) + good_entry);
    EXPECT_EQ(checked.stage(), "yes");
    ASSERT_FALSE(checked.verdict.menus.empty());
    EXPECT_TRUE(std::ranges::any_of(checked.verdict.menus[0].messages,
                                    [](const auto& m) { return m.text == "error: out of memory."; }));
    // One word that is a thousand times a large value.
    const auto wide = with_config("set timeout=1\nset a=x\n" + repeated("set a=$a$a\n", 19) + "echo " +
                                  repeated("$a", 1000) + "\n" + good_entry);
    EXPECT_NE(wide.stage(), "");
}

TEST(Scripts, AllEntriesHaveOneBudget) {
    std::string config = "set timeout=1\n" + good_entry;
    for (int i = 0; i < 400; ++i)
        config += "menuentry 'Endless " + std::to_string(i) + "' {\n while [ x = x ]; do set a=b; done\n}\n";
    const auto checked = with_config(config);
    EXPECT_EQ(checked.stage(), "yes") << "what comes first is judged before the budget is gone";
    ASSERT_FALSE(checked.verdict.menus.empty());
    const auto& entries = checked.verdict.menus[0].entries;
    ASSERT_EQ(entries.size(), 401U);
    EXPECT_EQ(entries[0].unread, "");
    // Of the others nothing is told, whether or not one was begun.
    for (std::size_t i = 1; i < entries.size(); ++i) {
        EXPECT_TRUE(entries[i].unread.find("run on for longer") != std::string::npos ||
                    entries[i].unread.find("none of the 500") != std::string::npos)
            << i << entries[i].unread;
        EXPECT_FALSE(entries[i].stop) << i;
    }
}

TEST(Scripts, ManyBrokenEntriesAreNotAllKept) {
    const auto checked = with_config("set timeout=1\n" + good_entry + repeated("menuentry a {\n}\n", 60'000));
    EXPECT_EQ(checked.stage(), "yes");
    EXPECT_LE(checked.verdict.menus.at(0).entries.size(), 500U);
}

TEST(Scripts, AConfigurationBeyondWhatIsReadIsNotBroken) {
    const auto checked =
        with_config("set timeout=1\n" + good_entry + repeated("# the same line again and again\n", 270'000));
    EXPECT_EQ(checked.stage(), "unknown");
    EXPECT_EQ(checked.system().at(Stage::Configuration).state, State::Unknown);
}

// --- the one budget of a walk --------------------------------------------------------------------------------------

TEST(WalkBudget, EndsInUnknownWithWhatRanOut) {
    const auto machine = support::machine_of(demo::front_desk().build());
    ASSERT_EQ(check(machine).systems.at(0).starts, Starts::Yes);
    const struct {
        BudgetLimits limits;
        const char* told;
    } cases[] = {{{.read = 100'000}, "bytes read"},
                 {{.unpacked = 5'000}, "bytes unpacked"},
                 {{.steps = 3}, "steps"},
                 {{.kept = 1000}, "bytes kept"}};
    for (const auto& one : cases) {
        CheckOptions options;
        options.limits = one.limits;
        const auto verdict = check(machine, options);
        ASSERT_FALSE(verdict.systems.empty()) << one.told;
        for (const auto& system : verdict.systems) {
            EXPECT_EQ(system.starts, Starts::Unknown) << one.told;
            EXPECT_EQ(system.stops_at, std::nullopt) << one.told;
        }
        const auto told = std::ranges::any_of(verdict.systems.front().stages, [&](const StageState& s) {
            return s.state == State::Unknown && s.text.find(std::string("used up")) != std::string::npos &&
                   s.text.find(one.told) != std::string::npos;
        });
        EXPECT_TRUE(told) << one.told;
    }
    // Nothing of it is left for the next walk.
    EXPECT_EQ(check(machine).systems.at(0).starts, Starts::Yes);
}

TEST(WalkBudget, TheLastUnitIsStillThere) {
    Budget budget({.read = 10});
    EXPECT_TRUE(budget.spend(Cost::Read, 10));
    EXPECT_EQ(budget.spent(), std::nullopt);
    EXPECT_FALSE(budget.spend(Cost::Read, 1));
    EXPECT_EQ(budget.spent(), Cost::Read);
    EXPECT_FALSE(budget.spend(Cost::Steps, 1)) << "what is used up stays so";
    Budget large({.read = 10});
    EXPECT_FALSE(large.spend(Cost::Read, ~std::uint64_t{0}));
    EXPECT_TRUE(charge(Cost::Read, 1'000)) << "nobody counts";
    const BudgetScope counting(budget);
    const auto refused = support::source_of(Bytes(4))->bytes(0, 4);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::Exhausted);
    EXPECT_EQ(refused.error().what, "what this walk may cost is used up (bytes read)");
}

TEST(WalkBudget, TimeRunsOut) {
    Budget budget({.time = std::chrono::milliseconds(0)});
    const auto until = std::chrono::steady_clock::now() + std::chrono::milliseconds(5);
    while (std::chrono::steady_clock::now() < until) {
    }
    for (int i = 0; i < 1000; ++i) budget.spend(Cost::Read, 1);
    EXPECT_EQ(budget.spent(), Cost::Time);
}

TEST(Errors, EachKindSaysWhatIsLacking) {
    const auto lack = [](ErrorKind kind) { return Error{kind, {}, {}, {}, {}}.lack(); };
    EXPECT_EQ(lack(ErrorKind::NotFound), Lack::Absent);
    EXPECT_EQ(lack(ErrorKind::WrongType), Lack::Absent);
    EXPECT_EQ(lack(ErrorKind::Io), Lack::Unreadable);
    EXPECT_EQ(lack(ErrorKind::Unreadable), Lack::Unreadable);
    EXPECT_EQ(lack(ErrorKind::Unsupported), Lack::Unsupported);
    EXPECT_EQ(lack(ErrorKind::Exhausted), Lack::Exhausted);
    for (const auto kind :
         {ErrorKind::OutOfRange, ErrorKind::Malformed, ErrorKind::Checksum, ErrorKind::LinkLoop, ErrorKind::TooLarge})
        EXPECT_EQ(lack(kind), Lack::Damaged);
}

// --- RAM disks -----------------------------------------------------------------------------------------------------

TEST(RamdiskBudget, HoldsForAllArchivesTogether) {
    const auto one = forge::gzip(forge::make_cpio(forge::Tree().file("/zeros", Bytes(8U << 20U))));
    Bytes all;
    for (int i = 0; i < 100; ++i) all.insert(all.end(), one.begin(), one.end());
    const auto ramdisk = inspect_ramdisk(*support::source_of(all));
    ASSERT_TRUE(ramdisk);
    EXPECT_TRUE(ramdisk->too_large);
    std::uint64_t unpacked = 0;
    for (const auto& member : ramdisk->members) unpacked += member.unpacked;
    EXPECT_LE(unpacked, 256U << 20U);
    const auto judged = judge_ramdisk(*ramdisk, {}, CommandLine(""));
    EXPECT_EQ(judged.state, State::Unknown) << "a limit of this program is no fault of the RAM disk";
    EXPECT_TRUE(judged.findings.empty());
    // Twenty thousand archives of nothing.
    const auto nothing = forge::make_cpio(forge::Tree());
    Bytes many;
    for (int i = 0; i < 20'000; ++i) many.insert(many.end(), nothing.begin(), nothing.end());
    const auto crowd = inspect_ramdisk(*support::source_of(many));
    ASSERT_TRUE(crowd);
    EXPECT_LE(crowd->members.size(), 10'000U);
}

// --- hives ---------------------------------------------------------------------------------------------------------

TEST(HiveBudget, ListsThatNameOneCellAgainAndAgainEnd) {
    // A hive by hand: the root's list of lists names the same long list 60,000 times, and the list its root.
    constexpr std::size_t bins = 4096;
    constexpr std::size_t count = 60'000;
    Bytes hive(bins + (1U << 20U));
    auto text = [&](std::size_t at, std::string_view t) {
        std::copy(t.begin(), t.end(), hive.begin() + static_cast<std::ptrdiff_t>(at));
    };
    auto cell = [&](std::size_t at, std::size_t size) {
        forge::put32(hive, bins + at, static_cast<std::uint32_t>(-static_cast<std::int32_t>(size)));
    };
    text(0, "regf");
    forge::put32(hive, 4, 1);
    forge::put32(hive, 8, 1);
    forge::put32(hive, 20, 1);
    forge::put32(hive, 24, 5);
    forge::put32(hive, 32, 1);
    forge::put32(hive, 36, 32);
    forge::put32(hive, 40, 1U << 20U);
    forge::put32(hive, 44, 1);
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < 508; i += 4) sum ^= forge::get32(hive, i);
    forge::put32(hive, 508, sum);
    text(bins, "hbin");
    forge::put32(hive, bins + 8, 1U << 20U);
    cell(32, 96);
    text(bins + 36, "nk");
    forge::put16(hive, bins + 38, 0x24);
    forge::put32(hive, bins + 36 + 20, count);  // subkeys
    forge::put32(hive, bins + 36 + 28, 128);    // their list
    cell(128, 8 + count * 4);
    text(bins + 132, "ri");
    forge::put16(hive, bins + 134, count);
    const std::size_t list = 128 + 16 + count * 4;
    for (std::size_t i = 0; i < count; ++i) forge::put32(hive, bins + 136 + i * 4, static_cast<std::uint32_t>(list));
    cell(list, 8 + count * 8);
    text(bins + list + 4, "lf");
    forge::put16(hive, bins + list + 6, 3);
    for (std::size_t i = 0; i < 3; ++i) forge::put32(hive, bins + list + 8 + i * 8, 32);
    const auto opened = open_hive(support::source_of(hive), {});
    ASSERT_TRUE(opened) << opened.error().text();
    const auto keys = (*opened)->subkeys((*opened)->root());
    ASSERT_FALSE(keys);
    EXPECT_EQ(keys.error().kind, ErrorKind::TooLarge) << keys.error().text();
}

// --- what is gone ----------------------------------------------------------------------------------------------------

/// UEFI with a first sector that only the firmware still reads: its volumes are seen by the firmware alone.
TEST(Lifetimes, MenusOutliveTheFirmwaresView) {
    const auto story = demo::kiosk_stories().front();
    auto disk = story.disk();
    disk[510] = disk[511] = 0;
    CheckOptions options;
    options.firmware = FirmwareKind::Uefi;
    Verdict verdict;
    std::vector<Menu> menus;
    {
        const auto machine = support::machine_of(disk);
        verdict = check(machine, options);
        menus = read_menus(machine);
    }
    EXPECT_FALSE(verdict.systems.empty());
    for (const auto* all : {&verdict.menus, &menus})
        for (const auto& menu : *all)
            for (const auto& entry : menu.entries)
                for (const auto& kernel : entry.kernel)
                    if (kernel.volume != nullptr) EXPECT_TRUE(kernel.volume->place.starts_with("d1"));
}

}  // namespace
