// SPDX-License-Identifier: MIT
// Many machines at the same time, and one machine asked by many: the same is said as by one thread alone. A program of
// its own, which scripts/threads.sh also builds under the thread sanitizer.
#include <atomic>
#include <thread>

#include "cellar.hpp"
#include "help_disc.hpp"
#include "kiosk.hpp"
#include "office_pc.hpp"
#include "reception.hpp"
#include "support.hpp"
#include "weather_station.hpp"

using namespace herberge;
using support::Bytes;

namespace {

struct Disk {
    std::string name;
    Bytes bytes;
    std::string board = {};
};

std::vector<Disk> disks() {
    std::vector<Disk> out;
    // Healthy ones, and stories of each kind of harm.
    const auto stories = demo::front_desk_disks();
    for (std::size_t i = 0; i < stories.size(); i += 2) out.push_back({stories[i].name, stories[i].make()});
    for (const auto& story : demo::office_pc_disks())
        if (out.size() < 20) out.push_back({story.name, story.make()});
    out.push_back({"kiosk", demo::kiosk().build()});
    out.push_back({"cellar", demo::cellar().build()});
    out.push_back({"help-disc", demo::help_disc().build().bytes});
    out.push_back({"reception", demo::reception().build()});
    out.push_back({"station", demo::weather_station().build(), demo::station_board});
    return out;
}

Machine machine_of(const Disk& disk) {
    Machine machine;
    machine.disks.push_back(inspect_disk(memory_source(disk.bytes, "d1", 1), 1, disk.name));
    assemble_layers(machine);
    return machine;
}
CheckOptions options_of(const Disk& disk) {
    CheckOptions options;
    options.board = disk.board;
    if (!disk.board.empty()) options.firmware = FirmwareKind::Board;
    return options;
}
std::string said_of(const Machine& machine, const Disk& disk) { return graph_svg(check(machine, options_of(disk))); }

/// Runs `work` for each number below `count`, in eight threads that each take the next one.
void in_threads(std::size_t count, const std::function<void(std::size_t)>& work) {
    std::atomic<std::size_t> next{0};
    std::vector<std::thread> threads;
    for (int i = 0; i < 8; ++i)
        threads.emplace_back([&] {
            for (std::size_t at = next++; at < count; at = next++) work(at);
        });
    for (auto& thread : threads) thread.join();
}

TEST(Threads, ManyMachinesAtOnce) {
    const auto all = disks();
    ASSERT_GT(all.size(), 12U);
    std::vector<std::string> alone, together(all.size());
    for (const auto& disk : all) alone.push_back(said_of(machine_of(disk), disk));
    in_threads(all.size(), [&](std::size_t i) { together[i] = said_of(machine_of(all[i]), all[i]); });
    for (std::size_t i = 0; i < all.size(); ++i) EXPECT_EQ(together[i], alone[i]) << all[i].name;
}

TEST(Threads, OneMachineAskedByMany) {
    for (const auto& disk : disks()) {
        if (disk.name.find("front-desk.img") == disk.name.npos && disk.name.find("kiosk") == disk.name.npos &&
            disk.name.find("office-pc.img") == disk.name.npos && disk.name != "cellar" && disk.name != "station")
            continue;
        const auto alone = said_of(machine_of(disk), disk);
        // Nothing of it was looked at before the threads do.
        const auto machine = machine_of(disk);
        std::vector<std::string> said(8);
        in_threads(said.size(), [&](std::size_t i) { said[i] = said_of(machine, disk); });
        for (const auto& one : said) EXPECT_EQ(one, alone) << disk.name;
    }
}

}  // namespace
