// SPDX-License-Identifier: MIT
// Longer runs in the emulated PC, for what decoding alone cannot tell.
#include <fmt/format.h>
#include <algorithm>

#include "walk/rehearsed.hpp"
#include "walk/routes.hpp"

namespace herberge::walk {

Rehearsal rehearse_from(const Machine& machine, const BootPlace& place, RehearsalOptions options) {
    if (place.image == 0) options.start_sector = place.lba;
    return rehearse(machine, place.disk->number, options);
}

bool works_all_the_same(const Machine& machine, const BootPlace& place, const LoaderRun& r, Stage own, Ladder& ladder) {
    RehearsalOptions options;
    options.most_instructions = 120'000'000;
    options.idle_instructions = 100'000'000;
    const auto rehearsal = rehearse_from(machine, place, std::move(options));
    if (rehearsal.end != RehearsalEnd::WaitsForKey && rehearsal.end != RehearsalEnd::KernelEntered &&
        rehearsal.end != RehearsalEnd::Limit)
        return false;
    const auto evidence = rehearsal_evidence(rehearsal);
    const bool told = rehearsal.end != RehearsalEnd::Limit;
    ladder.add_finding(make_finding(
        Code::RehearsalContradicts, fmt::format("{}; run in an emulated PC, it goes on all the same", r.stop->text),
        {r.stop->evidence.empty() ? place.evidence(0, 512) : r.stop->evidence.front(), evidence}));
    ladder.set(own, State::Holds, fmt::format("{}; run in an emulated PC, it starts the loader", r.first_sector_text),
               {place.evidence(0, 440), evidence});
    ladder.set(
        Stage::Loader, told ? State::Holds : State::Unknown,
        told ? fmt::format("run in an emulated PC, {} comes as far as its menu or a kernel; its layout is none "
                           "that is decoded here",
                           r.name)
             : fmt::format("the layout of {} is none that is decoded here, and running it told nothing in bounded time",
                           r.name),
        {evidence});
    ladder.set(Stage::Configuration, State::Unknown, "its configuration was not found by decoding", {evidence});
    return true;
}

void prove_start_up(const Machine& machine, const BootPlace& place, const LoaderRun& r, Ladder& ladder) {
    RehearsalOptions options;
    options.most_instructions = 150'000'000;
    options.idle_instructions = 150'000'000;
    options.unpacked = r.unpacked;
    options.unpacked_at = r.unpacked_at;
    const auto rehearsal = rehearse_from(machine, place, std::move(options));
    auto evidence = r.differing;
    evidence.resize(std::min<std::size_t>(evidence.size(), 4));
    evidence.push_back(rehearsal_evidence(rehearsal));
    const std::string text = fmt::format(
        "{} byte{} of {}'s start-up code differ{} from the same code in its file, and no installer writes there",
        r.differing.size(), r.differing.size() == 1 ? "" : "s", r.name, r.differing.size() == 1 ? "s" : "");
    if (rehearsal.end == RehearsalEnd::UntilReached) {
        ladder.support(Stage::Loader, "; " + text + "; run in an emulated PC, it works all the same", evidence.front());
        ladder.add_finding(
            make_finding(Code::LoaderCodeDiffers, text + "; run in an emulated PC, it works all the same", evidence));
        return;
    }
    if (rehearsal.end == RehearsalEnd::Limit) {
        ladder.set(Stage::Loader, State::Unknown, text + "; running it told nothing in bounded time", evidence);
        ladder.add_finding(make_finding(Code::LoaderCodeDiffers, text, evidence));
        return;
    }
    ladder.breaks(Code::LoaderDoesNotWork,
                  fmt::format("{}; run in an emulated PC, it does not work: {}", text, rehearsal.end_text), evidence,
                  rehearsal_screen(rehearsal));
}

void prove(const Machine& machine, const BootPlace& place, const LoaderRun& r, Ladder& ladder) {
    RehearsalOptions options;
    options.most_instructions = 60'000'000;
    options.idle_instructions = r.needs_proof ? 5'000'000 : 20'000'000;
    options.kernels = kernel_ranges({r.menu});
    // An entry that fails has been read; waiting for the key that nobody presses tells nothing more.
    const MenuEntry* automatic = unattended_entry(r.menu);
    if (r.needs_proof && automatic != nullptr && automatic->stop) options.until_text = r.last_words;
    // Loaders read whole sectors.
    const std::uint64_t unit =
        std::ranges::any_of(r.proof, [&](const DiskRange& p) { return p.offset % 2048 != 0; }) ? 512 : 2048;
    for (auto range : r.proof) {
        range.length = (range.length + unit - 1) / unit * unit;
        if (!r.needs_proof) options.kernels.push_back(range);
    }
    const auto rehearsal = rehearse_from(machine, place, std::move(options));
    // A menu that waits, or an entry that fails and waits, has been read, too.
    const auto spoken = r.last_words.empty() ? std::string::npos : rehearsal.text.find(r.last_words);
    const auto more =
        spoken == std::string::npos ? spoken : rehearsal.text.find_first_not_of(" \r\n", spoken + r.last_words.size());
    // An error by number alone is still the earlier stage's.
    const bool still_before = more != std::string::npos && rehearsal.text.compare(more, 6, "Error ") == 0 &&
                              rehearsal.text.find(':', more) == std::string::npos;
    const bool goes_on = more != std::string::npos && !still_before;
    const bool waits = r.needs_proof && ((rehearsal.end == RehearsalEnd::WaitsForKey && !still_before) ||
                                         rehearsal.end == RehearsalEnd::KernelEntered ||
                                         rehearsal.end == RehearsalEnd::UntilReached || goes_on);
    if (rehearsal.end == RehearsalEnd::KernelRead || waits) {
        ladder.support(
            Stage::Loader, "; run in an emulated PC, it works",
            evidence_place("run in an emulated PC", {},
                           fmt::format("it uses {} within {} instructions", r.menu.place, rehearsal.instructions)));
        return;
    }
    const auto evidence = rehearsal_evidence(rehearsal);
    if (r.proof_by_kernel && rehearsal.end == RehearsalEnd::KernelEntered) {
        // It works as long as nobody writes there: the sectors belong to no file, or to another one.
        const std::string text = fmt::format(
            "run in an emulated PC, {} starts a kernel from other sectors than those of the file that its entry "
            "names",
            r.name);
        ladder.set(Stage::Loader, State::Doubtful, text,
                   {r.loader_evidence.empty() ? evidence : r.loader_evidence.front(), evidence});
        ladder.add_finding(make_finding(Code::LoaderListsStale,
                                        text + ": its lists were not made anew after the file changed", {evidence}));
        return;
    }
    if (rehearsal.end == RehearsalEnd::Limit || rehearsal.end == RehearsalEnd::NotStarted) {
        if (r.needs_proof)
            ladder.set(Stage::Loader, State::Doubtful,
                       r.loader_text + "; its parts carry no checksum, and running it proved nothing", {evidence});
        return;
    }
    ladder.breaks(
        Code::LoaderDoesNotWork,
        fmt::format("run in an emulated PC, the loader never reads its configuration: {}", rehearsal.end_text),
        {r.loader_evidence.empty() ? evidence : r.loader_evidence.front(), evidence}, rehearsal_screen(rehearsal));
}

}  // namespace herberge::walk
