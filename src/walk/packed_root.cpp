// SPDX-License-Identifier: MIT
#include "walk/packed_root.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "system/medium.hpp"

namespace herberge::walk {

void walk_packed_root(PackedRoot packed, const RootDemand& demand, const PackedStart& start) {
    if (!packed.layers.empty() && packed.result.state == State::Holds) {
        const auto drivers = medium_drivers(&start.ramdisk, demand, start.medium.info.format, packed);
        if (!drivers.absent.empty()) {
            packed.result.break_with(make_finding(
                Code::RamdiskNoFileSystemDriver,
                fmt::format("to mount the packed root the kernel needs {}, and the RAM disk does not bring {}",
                            fmt::join(drivers.absent, ", "), drivers.absent.size() == 1 ? "it" : "them"),
                {evidence_place("RAM disk:/lib/modules", fmt::format("{}", fmt::join(drivers.absent, ", ")), "absent")},
                no_medium));
        } else if (!drivers.untold.empty()) {
            packed.result.state = State::Unknown;
            packed.result.text += fmt::format("; whether the kernel has {} built in is not told by any file here",
                                              fmt::join(drivers.untold, ", "));
        } else {
            packed.result.text += ", and all drivers to mount it";
        }
    }
    start.ladder.set(Stage::Root, packed.result);
    if (packed.result.state == State::Breaks) return;
    if (packed.result.state == State::NotNeeded) {
        start.ladder.set(Stage::Init, State::Unknown, "the RAM disk's own programs go on, which is not followed");
        return;
    }
    if (packed.layers.size() != 1) {
        start.ladder.set(Stage::Init, State::Unknown,
                         "the packed root is in several files that lie over each other, which is not followed");
        return;
    }
    const Volume& root = *packed.layers.front();
    if (root.files(Observer::Linux) == nullptr) {
        const auto problem = root.problem(Observer::Linux);
        const bool unread = !problem || problem->kind == ErrorKind::Unsupported;
        if (unread) {
            start.ladder.set(
                Stage::Init, State::Unknown,
                fmt::format("it lies in the packed root, which is {} and not read here", root.info.name()));
            return;
        }
        start.ladder.breaks(Code::MediumRootDamaged, fmt::format("{} cannot be mounted: {}", root.place, problem->what),
                            {evidence_error(*problem)}, no_medium);
        return;
    }
    auto init = judge_init(root, start.arguments, &start.ramdisk, start.processor);
    init.from_medium = true;
    start.ladder.set(Stage::Init, init.result);
    if (init.result.state == State::Breaks) return;
    start.ladder.set(Stage::Services, judge_services(start.machine, root, init, start.arguments));
}

}  // namespace herberge::walk
