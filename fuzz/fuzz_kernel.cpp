// SPDX-License-Identifier: MIT
// A kernel, an ELF program, and a disk's first sectors, by the first byte.
#include <herberge/herberge.hpp>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    if (size == 0) return 0;
    const auto source = herberge::memory_source({data + 1, data + size}, "d1", 1);
    switch (data[0] % 3) {
        case 0: (void)herberge::inspect_kernel(*source); break;
        case 1: (void)herberge::inspect_elf(*source); break;
        default: {
            herberge::Machine machine;
            machine.disks.push_back(herberge::inspect_disk(source, 1, "x"));
            const auto verdict = herberge::check(machine);
            (void)herberge::check_json(machine, verdict);
            (void)herberge::view_sector(machine.disks[0], 0);
        }
    }
    return 0;
}
