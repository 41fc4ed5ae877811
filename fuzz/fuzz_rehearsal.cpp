// SPDX-License-Identifier: MIT
// Any boot code, on a small disk made of the input.
#include <herberge/herberge.hpp>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    std::vector<std::uint8_t> disk(data, data + size);
    disk.resize(std::max<std::size_t>(size, 8192));
    disk[510] = 0x55;
    disk[511] = 0xAA;
    herberge::Machine machine;
    machine.disks.push_back(herberge::inspect_disk(herberge::memory_source(std::move(disk), "d1", 1), 1, "x"));
    auto options = herberge::RehearsalOptions::brief();
    options.most_instructions = 50000;
    options.idle_instructions = 5000;
    (void)herberge::rehearse(machine, 1, options);
    return 0;
}
