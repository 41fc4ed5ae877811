// SPDX-License-Identifier: MIT
// A whole disk through the walk, for either kind of firmware; nothing is rehearsed, so that a case stays short.
#include <herberge/herberge.hpp>

#include "sums.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    herberge::Machine machine;
    machine.disks.push_back(
        herberge::inspect_disk(herberge::memory_source({data, data + size}, "d1", 1), 1, "disk.img"));
    herberge::assemble_layers(machine);
    for (const auto firmware : {herberge::FirmwareKind::Bios, herberge::FirmwareKind::Uefi}) {
        herberge::CheckOptions options;
        options.firmware = firmware;
        options.rehearse = false;
        const auto verdict = herberge::check(machine, options);
        (void)herberge::check_json(machine, verdict);
        (void)herberge::graph_svg(verdict);
    }
    (void)herberge::layout_json(machine);
    return 0;
}

HERBERGE_MENDING_MUTATOR(Disk, 0)
