// SPDX-License-Identifier: MIT
// Memory ends at the n-th allocation: the walk either says so by std::bad_alloc, or its answer is the one that it gives
// with all the memory it wants. A program of its own, because it replaces operator new. HERBERGE_EVERY_ALLOCATION=1
// takes each n.
#include <cstdlib>
#include <limits>
#include <new>
#include <set>

#include "cellar.hpp"
#include "help_disc.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "reception.hpp"
#include "support.hpp"
#include "weather_station.hpp"

namespace {

constexpr std::size_t never = std::numeric_limits<std::size_t>::max();
std::size_t allocations = 0, fails = never;

void* take(std::size_t size, std::size_t alignment = 0) noexcept {
    // The one that fails, and no other: what gives memory back afterwards must work.
    if (allocations++ == fails) return nullptr;
    return alignment == 0 ? std::malloc(size)
                          : std::aligned_alloc(alignment, (size + alignment - 1) / alignment * alignment);
}
void* take_or_throw(std::size_t size, std::size_t alignment = 0) {
    if (void* const memory = take(size == 0 ? 1 : size, alignment)) return memory;
    throw std::bad_alloc();
}

}  // namespace

void* operator new(std::size_t size) { return take_or_throw(size); }
void* operator new[](std::size_t size) { return take_or_throw(size); }
void* operator new(std::size_t size, const std::nothrow_t&) noexcept { return take(size); }
void* operator new[](std::size_t size, const std::nothrow_t&) noexcept { return take(size); }
void* operator new(std::size_t size, std::align_val_t to) { return take_or_throw(size, static_cast<std::size_t>(to)); }
void* operator new[](std::size_t size, std::align_val_t to) {
    return take_or_throw(size, static_cast<std::size_t>(to));
}
void operator delete(void* memory) noexcept { std::free(memory); }
void operator delete[](void* memory) noexcept { std::free(memory); }
void operator delete(void* memory, std::size_t) noexcept { std::free(memory); }
void operator delete[](void* memory, std::size_t) noexcept { std::free(memory); }
void operator delete(void* memory, const std::nothrow_t&) noexcept { std::free(memory); }
void operator delete[](void* memory, const std::nothrow_t&) noexcept { std::free(memory); }
void operator delete(void* memory, std::align_val_t) noexcept { std::free(memory); }
void operator delete[](void* memory, std::align_val_t) noexcept { std::free(memory); }
void operator delete(void* memory, std::size_t, std::align_val_t) noexcept { std::free(memory); }
void operator delete[](void* memory, std::size_t, std::align_val_t) noexcept { std::free(memory); }

namespace {

using namespace herberge;
using support::Bytes;

struct Bed {
    const char* name;
    std::function<Bytes()> build;
    std::string board = {};  ///< empty: a PC
    std::size_t tries = 300;
};

void PrintTo(const Bed& bed, std::ostream* out) { *out << bed.name; }

/// Everything that is said of a disk, start to end; not as JSON, whose library allocates in destructors.
std::string all_that_is_said(const Source& disk, const std::string& board) {
    Machine machine;
    machine.disks.push_back(inspect_disk(disk, 1, "x"));
    assemble_layers(machine);
    CheckOptions options;
    options.board = board;
    if (!board.empty()) options.firmware = FirmwareKind::Board;
    const auto verdict = check(machine, options);
    std::string out = graph_svg(verdict);
    for (const auto& system : verdict.systems) {
        out += system.symptom + "\n";
        for (const auto& rung : system.stages) {
            out += std::string(state_id(rung.state)) + rung.text + "\n";
            for (const auto& evidence : rung.evidence) out += evidence.found + "\n";
        }
    }
    for (const auto& finding : verdict.findings) {
        out += finding.text + "\n" + finding.symptom + "\n";
        for (const auto& evidence : finding.evidence) out += evidence.found + "\n";
    }
    return out;
}

/// Memory that ends within a walk.
class Within {
public:
    explicit Within(std::size_t at) {
        allocations = 0;
        fails = at;
    }
    Within(const Within&) = delete;
    Within& operator=(const Within&) = delete;
    Within(Within&&) = delete;
    Within& operator=(Within&&) = delete;
    ~Within() { fails = never; }
};

class EveryAllocation : public testing::TestWithParam<Bed> {};

TEST_P(EveryAllocation, MayFail) {
    const auto& bed = GetParam();
    const auto disk = memory_source(bed.build(), "d1", 1);
    const auto sound = all_that_is_said(disk, bed.board);  // and all that is made only once is made
    std::size_t count = 0;
    {
        const Within counting(never);
        ASSERT_EQ(all_that_is_said(disk, bed.board), sound);
        count = allocations;
    }
    ASSERT_GT(count, 1000U);
    const bool all = std::getenv("HERBERGE_EVERY_ALLOCATION") != nullptr;
    const std::size_t step = all ? 1 : std::max<std::size_t>(count / bed.tries, 1);
    std::size_t told = 0, tried = 0;
    std::set<std::string> differ;
    // Not from 0 on in even steps: the first allocations and the last ones are of their own kind.
    for (std::size_t n = 0; n < count; n += n < 10 ? 1 : step, ++tried) {
        RecordProperty("failing", std::to_string(n));
        std::string said;
        try {
            const Within failing(n);
            said = all_that_is_said(disk, bed.board);
        } catch (const std::bad_alloc&) {
            ++told;
            continue;
        }
        if (said != sound) differ.insert("allocation " + std::to_string(n) + " of " + std::to_string(count));
    }
    EXPECT_EQ(differ, std::set<std::string>{}) << "another answer instead of an error";
    EXPECT_GT(told * 10, tried * 9);
}

INSTANTIATE_TEST_SUITE_P(All, EveryAllocation,
                         testing::Values(Bed{"FrontDesk", [] { return demo::front_desk().build(); }},
                                         Bed{"Reception", [] { return demo::reception().build(); }},
                                         Bed{"Kitchen", [] { return demo::kitchen().build(); }},
                                         Bed{"OfficePc", [] { return demo::office_pc().build(); }},
                                         Bed{"Cellar", [] { return demo::cellar().build(); }},
                                         Bed{"Kiosk", [] { return demo::kiosk().build(); }},
                                         Bed{"HelpDisc", [] { return demo::help_disc().build().bytes; }},
                                         Bed{"WeatherStation", [] { return demo::weather_station().build(); },
                                             demo::station_board}),
                         support::by_name);

/// The tool itself, with less memory than it needs: status 3 and a sentence, at whichever moment.
TEST(LittleMemory, EndsTheToolWithAStatusAndASentence) {
#ifdef HERBERGE_SANITIZED
    GTEST_SKIP() << "the sanitizer itself takes more than any bound";
#else
    const support::Folder folder;
    const auto image = folder.write("a.img", demo::reception().build());
    const auto whole = support::shell(std::string(TOOL_PATH) + " check " + image);
    ASSERT_EQ(whole.status, 0) << whole.out;
    std::set<int> statuses;
    std::size_t without = 0;
    for (int kilobytes = 14000; kilobytes < 64000; kilobytes += 1500) {
        const auto ran =
            support::shell("ulimit -v " + std::to_string(kilobytes) + "; " + TOOL_PATH + " check " + image);
        if (ran.out.find("error while loading shared libraries") != std::string::npos) continue;
        statuses.insert(ran.status);
        if (ran.status == 3) {
            EXPECT_EQ(ran.out, "herberge: there is not enough memory for this\n") << kilobytes;
            ++without;
        } else {
            EXPECT_EQ(ran.out, whole.out) << kilobytes;
        }
    }
    EXPECT_GT(without, 0U);
    for (const int status : statuses) EXPECT_TRUE(status == 0 || status == 3) << status;
#endif
}

}  // namespace
