// SPDX-License-Identifier: MIT
#include "walk/rehearsed.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <array>

namespace herberge::walk {

namespace {

/// Ends after which the code will not go on by itself.
bool gave_up(RehearsalEnd end) {
    switch (end) {
        case RehearsalEnd::WaitsForKey:
        case RehearsalEnd::Halted:
        case RehearsalEnd::Int18:
        case RehearsalEnd::Int19:
        case RehearsalEnd::EmptyMemory:
        case RehearsalEnd::Fault:
        case RehearsalEnd::Loops: return true;
        default: return false;
    }
}

const RehearsalEvent* entered(const Rehearsal& rehearsal, Stage stage) {
    for (const auto& e : rehearsal.events)
        if (e.kind == RehearsalEventKind::Transfer && e.stage == stage) return &e;
    return nullptr;
}

/// The last boot sector of a volume that was read.
const RehearsalEvent* boot_sector_read(const Rehearsal& rehearsal) {
    const RehearsalEvent* out = nullptr;
    for (const auto& e : rehearsal.events)
        if (e.kind == RehearsalEventKind::Read && e.lies_in_kind == PlaceKind::BootSector) out = &e;
    return out;
}

VolumeRef volume_at(const Machine& machine, const DiskRange& range) {
    VolumeRef out;
    machine.each_volume([&](const Volume& v) {
        const auto where = v.source->locate(0, std::min<std::uint64_t>(v.source->size(), 512));
        if (!where.empty() && where[0].disk == range.disk && where[0].offset == range.offset)
            out = v.shared_from_this();
    });
    return out;
}

/// Nothing is marked active: would the code go on if something were? The slot of an entry with which it starts a boot
/// sector; none: that is not what it lacks. The mark is set in a layer over the disk.
std::optional<int> wants_an_active_entry(const Machine& machine, const Disk& disk) {
    if (disk.table.kind != TableKind::Mbr || disk.table.active_count() != 0) return std::nullopt;
    for (const auto& partition : disk.table.partitions) {
        if (partition.logical || partition.extended() || partition.slot > 3) continue;
        Machine marked = machine;
        const auto layer = overlay(disk.source);
        const std::array<std::uint8_t, 1> active = {0x80};
        if (!layer->write(446 + 16 * static_cast<std::uint64_t>(partition.slot), active)) return std::nullopt;
        for (auto& other : marked.disks)
            if (other.number == disk.number) other.source = layer;
        if (entered(rehearse(marked, disk.number, RehearsalOptions::brief()), Stage::BootSector) != nullptr)
            return partition.slot;
    }
    return std::nullopt;
}

/// Sector 0 and the gap: nothing that a table entry leads to.
bool in_a_partition(const RehearsalEvent& e) {
    return e.lies_in_kind != PlaceKind::Gap && e.lies_in_kind != PlaceKind::FirstSector;
}

}  // namespace

Evidence rehearsal_evidence(const Rehearsal& rehearsal) {
    std::string found = fmt::format("{} after {} instructions and {} reads", rehearsal.end_text, rehearsal.instructions,
                                    rehearsal.reads);
    return evidence_place("run in an emulated PC", {}, std::move(found));
}

std::string rehearsal_screen(const Rehearsal& rehearsal) {
    std::string out;
    for (const char c : rehearsal.text)
        if (c == '\n' || (c >= 0x20 && c < 0x7F)) out += c;
    while (out.ends_with('\n')) out.pop_back();
    while (out.starts_with('\n')) out.erase(out.begin());
    return out.empty() ? "(nothing: the screen stays as the firmware left it)" : out;
}

bool reaches_sector(const Rehearsal& rehearsal, int disk, std::uint64_t lba) {
    return std::ranges::any_of(rehearsal.events, [&](const RehearsalEvent& e) {
        return e.kind == RehearsalEventKind::Transfer && e.range && e.range->disk == disk &&
               e.range->offset <= lba * 512 && lba * 512 < e.range->offset + e.range->length;
    });
}

void compare_with_loader(const BootPlace& place, const LoaderRun& run, Stage own, const Rehearsal& rehearsal,
                         Ladder& ladder) {
    const auto evidence = rehearsal_evidence(rehearsal);
    if (!run.next_sector || ladder.at(own).state == State::Breaks) {
        ladder.support(own, "", evidence);
        return;
    }
    if (reaches_sector(rehearsal, place.disk->number, *run.next_sector)) {
        ladder.support(own, "; run in an emulated PC, it does so",
                       evidence_place("run in an emulated PC", {},
                                      fmt::format("code from sector {} is entered", *run.next_sector)));
        if (rehearsal.end == RehearsalEnd::UntilReached && ladder.at(Stage::Loader).state != State::NotReached)
            ladder.support(Stage::Loader, "", evidence_place("run in an emulated PC", {}, rehearsal.end_text));
        return;
    }
    // The next part's first sector may be empty: then reading it is all that can be seen.
    const bool reads = std::ranges::any_of(rehearsal.events, [&](const RehearsalEvent& e) {
        return e.kind == RehearsalEventKind::Read && e.range && e.range->disk == place.disk->number &&
               e.range->offset <= *run.next_sector * 512 && *run.next_sector * 512 < e.range->offset + e.range->length;
    });
    if (reads || !gave_up(rehearsal.end)) {
        ladder.support(own, "", evidence);
        return;
    }
    ladder.add_finding(
        make_finding(Code::RehearsalContradicts,
                     fmt::format("{} looks like {}'s, but run in an emulated PC it never asks for sector {}",
                                 place.text(), run.name, *run.next_sector),
                     {evidence}));
    ladder.set(broken(make_finding(Code::BootCodeDoesNothing,
                                   fmt::format("{} looks like {}'s, but its code does not work: {}", place.text(),
                                               run.name, rehearsal.end_text),
                                   {place.evidence(0, 440), evidence}, rehearsal_screen(rehearsal)),
                      own));
}

void parts_loaded(const BootPlace& place, const LoaderRun& run, Stage own, const Rehearsal& rehearsal, Ladder& ladder) {
    const bool left_real_mode = rehearsal.end == RehearsalEnd::UntilReached;
    if (run.must_load.empty() || ladder.first_break() || !run.next_sector ||
        !reaches_sector(rehearsal, place.disk->number, *run.next_sector) ||
        (!left_real_mode && !gave_up(rehearsal.end)))
        return;
    const auto read = [&](std::uint64_t at) {
        return std::ranges::any_of(rehearsal.events, [&](const RehearsalEvent& e) {
            return e.kind == RehearsalEventKind::Read && e.range && !e.failed && e.range->disk == place.disk->number &&
                   e.range->offset <= at && at < e.range->offset + e.range->length;
        });
    };
    for (const auto& part : run.must_load)
        for (std::uint64_t at = part.offset; at < part.offset + part.length; at += 512) {
            if (read(at)) continue;
            ladder.breaks(
                Code::LoaderNotLoaded,
                fmt::format(
                    "run in an emulated PC, {}'s first part does not load the rest of it (sector {} is never read): {}",
                    run.name, at / 512, rehearsal.end_text),
                {run.differing.empty() ? place.evidence(0, 512) : run.differing.front(),
                 Evidence{DiskRange{part.disk, at, 512}, {}, {}, "read", "never asked for"},
                 rehearsal_evidence(rehearsal)},
                rehearsal_screen(rehearsal));
            return;
        }
    if (left_real_mode) return;
    // All of it is there, and it goes no further.
    if (run.unpacked != nullptr && own != Stage::Loader && rehearsal.end != RehearsalEnd::WaitsForKey)
        ladder.breaks(
            Code::LoaderDoesNotWork,
            fmt::format("run in an emulated PC, {} is loaded and does not work: {}", run.name, rehearsal.end_text),
            {run.differing.empty() ? place.evidence(0, 512) : run.differing.front(), rehearsal_evidence(rehearsal)},
            rehearsal_screen(rehearsal));
}

void judge_boot_sector_by_rehearsal(const BootPlace& place, const Rehearsal& rehearsal, Ladder& ladder) {
    const auto evidence = rehearsal_evidence(rehearsal);
    const auto* loader = entered(rehearsal, Stage::Loader);
    if (loader == nullptr && gave_up(rehearsal.end)) {
        ladder.breaks(Code::BootSectorGivesUp,
                      fmt::format("run in an emulated PC, the {} starts nothing: {}", place.text(), rehearsal.end_text),
                      {place.evidence(0, 512), evidence}, rehearsal_screen(rehearsal));
        return;
    }
    if (loader == nullptr) {
        ladder.set(Stage::BootSector, State::Unknown,
                   fmt::format("the code of the {} is none that is decoded here", place.text()),
                   {place.evidence(0, 512), evidence});
        return;
    }
    ladder.go_on(Stage::BootSector, State::Holds,
                 fmt::format("run in an emulated PC, the {} starts code from {}", place.text(), loader->lies_in),
                 {place.evidence(0, 512), evidence});
    ladder.set(Stage::Loader, State::Unknown, "a loader runs that is not decoded here",
               {Evidence{loader->range, loader->lies_in, {}, {}, {}}, evidence});
}

void judge_by_rehearsal(const Machine& machine, const Disk& disk, const Rehearsal& rehearsal, Ladder& ladder) {
    const auto evidence = rehearsal_evidence(rehearsal);
    const auto code = evidence_bytes(*disk.source, 0, 440);
    const std::string screen = rehearsal_screen(rehearsal);
    const auto* sector = entered(rehearsal, Stage::BootSector);
    const auto* loader = entered(rehearsal, Stage::Loader);
    const auto* read = boot_sector_read(rehearsal);
    if (sector == nullptr && loader == nullptr) {
        if (!gave_up(rehearsal.end)) {
            ladder.support(Stage::BootCode, "", evidence);
            return;
        }
        if (const auto slot = wants_an_active_entry(machine, disk)) {
            ladder.set(Stage::BootCode, State::Holds,
                       "run in an emulated PC, the first sector's code works as far as it gets", {code, evidence});
            ladder.breaks(Code::BootCodeFindsNoPartition,
                          fmt::format("the first sector's code starts the partition that is marked active, and none "
                                      "is; with entry {} marked, it goes on",
                                      *slot + 1),
                          {evidence_bytes(*disk.source, 446, 64, "an active entry", "none"), evidence}, screen);
            return;
        }
        if (rehearsal.end == RehearsalEnd::EmptyMemory || rehearsal.end == RehearsalEnd::Fault ||
            rehearsal.end == RehearsalEnd::Loops || (rehearsal.text.empty() && rehearsal.end != RehearsalEnd::Int18)) {
            ladder.breaks(Code::BootCodeDoesNothing,
                          "run in an emulated PC, the first sector's code starts nothing: " + rehearsal.end_text,
                          {code, evidence}, screen);
            return;
        }
        ladder.set(Stage::BootCode, State::Holds,
                   "run in an emulated PC, the first sector's code works as far as it gets", {code, evidence});
        VolumeRef volume = read != nullptr && read->range ? volume_at(machine, *read->range) : nullptr;
        // A boot sector that is gone takes the file system's mark along; an entry that misses its volume shows it
        // elsewhere.
        const bool sector_lost = volume != nullptr && (volume->info.known() || !find_misplaced_volume(disk));
        const auto first = volume != nullptr ? volume->source->bytes(0, 512) : fail(ErrorKind::NotFound, "none");
        if (!first && first.error().unreadable()) {
            ladder.set(
                broken(make_finding(
                           Code::BootCodeUnreadable,
                           fmt::format("the boot sector of {}, which the first sector's code asks for, cannot be read",
                                       volume->place),
                           {evidence_error(first.error()), evidence}, screen),
                       Stage::BootSector));
            return;
        }
        if (sector_lost) {
            ladder.breaks(
                Code::BootSectorNotStartable,
                fmt::format("the first sector's code reads the boot sector of {} and does not start it", volume->place),
                {evidence_bytes(*volume->source, 510, 2, "55 aa"), evidence}, screen);
            return;
        }
        ladder.breaks(Code::BootCodeFindsNoPartition,
                      fmt::format("the first sector's code finds no partition it would start ({} marked active)",
                                  disk.table.active_count()),
                      {evidence_bytes(*disk.source, 446, 64), evidence}, screen);
        return;
    }
    if (sector == nullptr) {
        // A loader in the gap, started by the first sector directly.
        ladder.set(Stage::BootCode, State::Holds,
                   fmt::format("run in an emulated PC, it starts code from {}", loader->lies_in), {code, evidence});
        ladder.set(Stage::BootSector, in_a_partition(*loader) ? State::Unknown : State::NotNeeded,
                   in_a_partition(*loader) ? "not told apart" : "the first sector loads the loader directly");
    } else {
        ladder.set(Stage::BootCode, State::Holds,
                   fmt::format("run in an emulated PC, it starts the {}", sector->lies_in), {code, evidence});
        if (loader == nullptr && gave_up(rehearsal.end)) {
            ladder.breaks(
                Code::BootSectorGivesUp,
                fmt::format("run in an emulated PC, the {} starts nothing: {}", sector->lies_in, rehearsal.end_text),
                {Evidence{sector->range, {}, {}, {}, {}}, evidence}, screen);
            return;
        }
        ladder.set(Stage::BootSector, loader != nullptr ? State::Holds : State::Unknown,
                   loader != nullptr ? fmt::format("run in an emulated PC, the {} starts code from {}", sector->lies_in,
                                                   loader->lies_in)
                                     : fmt::format("run in an emulated PC, the {} is started", sector->lies_in),
                   {Evidence{sector->range, {}, {}, {}, {}}, evidence});
    }
    // A loader that prints and halts has run: what it missed is its own business. Only these two ends prove that it did
    // not.
    if (loader != nullptr && (rehearsal.end == RehearsalEnd::EmptyMemory || rehearsal.end == RehearsalEnd::Fault))
        ladder.breaks(Code::LoaderNotLoaded,
                      fmt::format("run in an emulated PC, the loader does not get its further parts to run: {}",
                                  rehearsal.end_text),
                      {Evidence{loader->range, loader->lies_in, {}, {}, {}}, evidence}, screen);
    else if (loader != nullptr)
        ladder.set(Stage::Loader, State::Unknown, "a loader runs that is not decoded here",
                   {Evidence{loader->range, loader->lies_in, {}, {}, {}}, evidence});
}

}  // namespace herberge::walk
