// SPDX-License-Identifier: MIT
// What describes layers around file systems: three members of arrays, groups, a Btrfs, or encrypted volumes.
#include <herberge/herberge.hpp>

#include "sums.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    herberge::Machine machine;
    constexpr std::size_t most = 3;
    const std::size_t each = size / most;
    for (std::size_t i = 0; i < most; ++i) {
        const int number = static_cast<int>(i) + 1;
        auto bytes = std::vector<std::uint8_t>(data + i * each, data + (i + 1) * each);
        machine.disks.push_back(herberge::inspect_disk(
            herberge::memory_source(std::move(bytes), "d" + std::to_string(number), number), number, "disk.img"));
    }
    herberge::assemble_layers(machine);
    machine.each_volume(herberge::Observer::Linux, [](const herberge::Volume& volume) {
        (void)herberge::describe_luks(*volume.source);
        (void)herberge::describe_bitlocker(*volume.source);
        if (!volume.not_assembled)
            (void)volume.source->bytes(0, std::min<std::uint64_t>(volume.source->size(), 1U << 16U));
        if (const auto* files = volume.files(herberge::Observer::Linux)) (void)files->list(files->root());
    });
    (void)herberge::layout_json(machine);
    return 0;
}

HERBERGE_MENDING_MUTATOR(Layers, 0)
