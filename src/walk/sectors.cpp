// SPDX-License-Identifier: MIT
// Code in a sector: what it is by its bytes, what it does when it runs, and where it goes on.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "bytes/uniform.hpp"
#include "walk/rehearsed.hpp"
#include "walk/routes.hpp"

namespace herberge::walk {

namespace {

constexpr std::string_view silent = "(nothing: the screen stays as the firmware left it)";

void table_holds(const Disk& disk, Ladder& ladder) {
    if (disk.table.kind == TableKind::None || disk.table.partitions.empty())
        ladder.set(Stage::PartitionTable, State::Holds, "no partition was needed so far",
                   {evidence_bytes(*disk.source, 446, 64)});
    else
        ladder.set(Stage::PartitionTable, State::Holds,
                   fmt::format("the {} names {} partition{}", disk.table.kind == TableKind::Gpt ? "GPT" : "MBR",
                               disk.table.partitions.size(), disk.table.partitions.size() == 1 ? "" : "s"),
                   {evidence_bytes(*disk.source, 446, 64)});
}

/// The code of a boot sector without its parameter block: that block survives what wipes the code.
std::span<const std::uint8_t> code_of(std::span<const std::uint8_t> sector, bool volume) {
    return volume ? sector.subspan(90, 420 - 0) : sector.first(440);
}

/// Statements about where a loader's parts lie: wrong where the layout is one that the decoder does not know.
bool of_layout(Code code) {
    return code == Code::GrubCorePointer || code == Code::GrubCoreFirstSector || code == Code::GrubCoreHeader ||
           code == Code::GrubDiscNoTable || code == Code::IsolinuxPointer;
}

class Sector {
public:
    Sector(const SectorStart& start, const Before& before, Context& context, Ladder& ladder)
        : place_(start.place),
          by_firmware_(start.by_firmware),
          own_(start.place.volume != nullptr ? Stage::BootSector : Stage::BootCode),
          before_(before),
          machine_(context.machine),
          rehearsing_(context.rehearsing),
          ladder_(ladder) {}

    Step run() {
        if (place_.image != 0)
            ladder_.set(Stage::PartitionTable, State::NotNeeded,
                        "a disc is started by its boot catalogue; no partition table is looked at");
        else if (place_.volume == nullptr && (by_firmware_ || ladder_.at(Stage::PartitionTable).state != State::Holds))
            table_holds(*place_.disk, ladder_);
        if (place_.volume != nullptr) step_.passed.push_back(place_.volume);
        look();
        return std::move(step_);
    }

private:
    void look() {
        const auto sector = place_.disk->source->bytes(place_.lba * 512, 512);
        if (!sector) {
            ladder_.set(broken(make_finding(Code::BootCodeUnreadable, fmt::format("{} cannot be read", place_.text()),
                                            {evidence_error(sector.error())}),
                               own_));
            return;
        }
        if (auto misloaded = place_.image != 0 ? misloaded_image(*sector) : std::nullopt) {
            ladder_.set(broken(std::move(*misloaded), own_));
            return;
        }
        if (rehearsing_) rehearsal_ = rehearse_from(machine_, place_, RehearsalOptions::brief());
        auto run = run_loader(machine_, place_);
        if (run && run->stopped_by() != nullptr && run->stopped_by()->code == Code::BootCodeDamaged && rehearsal_ &&
            run->next_sector && reaches_sector(*rehearsal_, place_.disk->number, *run->next_sector)) {
            // What the bytes are, and what they do: where the two disagree, the running code is what the machine has.
            ladder_.add_finding(
                make_finding(Code::RehearsalContradicts,
                             fmt::format("{}; run in an emulated PC, the code goes on all the same", run->stop->text),
                             {run->stop->evidence.empty() ? place_.evidence(0, 3) : run->stop->evidence.front(),
                              rehearsal_evidence(*rehearsal_)}));
            place_.seen_working = true;
            run = run_loader(machine_, place_);
        }
        if (run && !run->undecoded) {
            step_.run = std::make_shared<const LoaderRun>(std::move(*run));
            loader(*step_.run);
            return;
        }
        const bool volume = place_.volume != nullptr;
        if (holds_only(code_of(*sector, volume), 0)) {
            ladder_.breaks(own_ == Stage::BootCode ? Code::BootCodeEmpty : Code::BootSectorEmpty,
                           fmt::format("the code area of {} is empty", place_.text()),
                           {place_.evidence(volume ? 90 : 0, volume ? 420 : 440, "boot code", "zeros")},
                           std::string(silent));
            return;
        }
        unnamed();
    }

    /// What the catalogue says of how the boot image is loaded makes it useless.
    [[nodiscard]] std::optional<Finding> misloaded_image(std::span<const std::uint8_t> head) const {
        const auto& image = place_.disk->catalogue->images.at(static_cast<std::size_t>(place_.image) - 1);
        const auto& source = *place_.disk->source;
        if (image.sectors == 0)
            return make_finding(Code::DiscImageMisloaded,
                                fmt::format("the boot catalogue has the firmware load no sector of {}", place_.text()),
                                {evidence_bytes(source, image.entry_at + 6, 2, "4 sectors, as usual", "0")},
                                std::string(silent));
        // ISOLINUX begins with a jump to its own address (core/isolinux.asm, _start).
        constexpr std::uint16_t usual_segment = 0x07C0;
        if (image.segment != usual_segment && identify_loader(head) == "ISOLINUX")
            return make_finding(
                Code::DiscImageMisloaded,
                fmt::format("the boot catalogue has ISOLINUX put to segment {:04x}, and its code is made for 07c0: it "
                            "jumps to where nothing lies",
                            image.segment),
                {evidence_bytes(source, image.entry_at + 2, 2, "0000 or 07c0", fmt::format("{:04x}", image.segment))},
                std::string(silent));
        return std::nullopt;
    }

    /// Code of no loader that is decoded: what it does when it runs is what counts.
    void unnamed() {
        step_.hops.push_back(fmt::format("{}: code", place_.text()));
        if (own_ == Stage::BootCode) {
            const VolumeRef next = rehearsal_ ? started_volume() : only_active();
            if (next != nullptr) {
                ladder_.set(
                    Stage::BootCode, State::Holds,
                    rehearsal_ ? fmt::format("run in an emulated PC, it starts the {} boot sector", next->place)
                               : fmt::format("its code is not decoded; if it starts the active partition, that is {}",
                                             next->place),
                    {evidence_bytes(*place_.disk->source, 0, 440),
                     rehearsal_ ? rehearsal_evidence(*rehearsal_) : evidence_bytes(*place_.disk->source, 446, 64)});
                ladder_.support(Stage::PartitionTable, fmt::format("; {} is the active one", next->place),
                                evidence_bytes(*place_.disk->source, 446, 64));
                step_.edges.push_back(
                    {place_.text(), fmt::format("{} boot sector", next->place), false, place_.image == 0, true});
                const auto where = next->source->locate(0, 512);
                const auto code = next->source->bytes(0, 512);
                // A boot sector with a loader's name is decoded; others are judged by the same rehearsal.
                if (code && !identify_loader(*code).empty()) {
                    const std::uint64_t lba = where.empty() ? 0 : where.front().offset / 512;
                    step_.next = SectorStart{{place_.disk, next, lba, place_.first_drive, false, 0}, false};
                    return;
                }
                step_.passed.push_back(next);
            }
        }
        if (!rehearsal_) {
            if (ladder_.at(own_).state == State::NotReached)
                ladder_.set(own_, State::Unknown,
                            fmt::format("the code of {} is none that is decoded here", place_.text()),
                            {place_.evidence(0, 440)});
            return;
        }
        if (own_ == Stage::BootCode) judge_by_rehearsal(machine_, *place_.disk, *rehearsal_, ladder_);
        else judge_boot_sector_by_rehearsal(place_, *rehearsal_, ladder_);
    }

    [[nodiscard]] VolumeRef started_volume() const {
        for (const auto& e : rehearsal_->events)
            if (e.kind == RehearsalEventKind::Transfer && e.stage == Stage::BootSector && e.range &&
                e.range->offset % 512 == 0)
                return volume_starting_at(machine_, e.range->disk, e.range->offset / 512);
        return nullptr;
    }

    [[nodiscard]] VolumeRef only_active() const {
        const Disk& disk = *place_.disk;
        if (disk.table.active_count() != 1) return nullptr;
        return machine_.volume(disk.number, disk.table.first_active()->number);
    }

    void loader(const LoaderRun& r) {
        step_.hops.insert(step_.hops.end(), r.route.begin(), r.route.end());
        for (const auto& finding : r.findings) ladder_.add_finding(finding);
        step_.edges.push_back(
            {place_.text(), loader_node(r, place_.text()), r.stop.has_value(), place_.image == 0, false});
        std::optional<Claim> stop = r.stop;
        if (stop && stop->stage == Stage::BootCode) stop->stage = own_;
        if (own_ == Stage::BootCode && by_firmware_)
            ladder_.set(Stage::BootSector, State::NotNeeded,
                        place_.image != 0 ? std::string("a disc's boot image is the loader itself")
                                          : fmt::format("{}'s first sector loads the loader directly", r.name));
        if (!stop || stop->stage != own_)
            ladder_.go_on(own_, State::Holds, r.first_sector_text, {place_.evidence(0, 440)});
        if (!stop || stop->stage > Stage::Loader)
            ladder_.go_on(Stage::Loader, r.loader_state, r.loader_text, r.loader_evidence);
        if (stop) {
            stops(r, std::move(*stop));
            return;
        }
        proven(r);
        if (ladder_.first_break()) return;
        ladder_.go_on(Stage::Configuration, State::Holds, r.configuration_text, {evidence_place(r.menu.place)});
        step_.hops.push_back(r.menu.place);
        step_.offers = true;
    }

    void stops(const LoaderRun& r, Claim stop) {
        const bool breaks = stop.state == State::Breaks;
        if (breaks && stop.stage <= Stage::Loader && rehearsal_ && of_layout(stop.findings.front().code) &&
            rehearsal_->end == RehearsalEnd::UntilReached && works_all_the_same(machine_, place_, r, own_, ladder_))
            return;
        if (breaks && stop.stage == own_ && rehearsal_ && !rehearsal_->text.empty())
            stop.findings.front().symptom = rehearsal_screen(*rehearsal_);
        ladder_.set(stop);
        if (rehearsal_) compare_with_loader(place_, r, own_, *rehearsal_, ladder_);
    }

    /// Runs what bytes alone do not prove.
    void proven(const LoaderRun& r) {
        if (rehearsal_) {
            compare_with_loader(place_, r, own_, *rehearsal_, ladder_);
            parts_loaded(place_, r, own_, *rehearsal_, ladder_);
        }
        if (rehearsing_ && !r.differing.empty() && r.unpacked != nullptr && !ladder_.first_break())
            prove_start_up(machine_, place_, r, ladder_);
        if (rehearsing_ && before_.depth <= 1 && !before_.chosen && !r.proof.empty() && !r.parts_proven &&
            !ladder_.first_break())
            prove(machine_, place_, r, ladder_);
    }

    BootPlace place_;
    bool by_firmware_;
    Stage own_;
    Before before_;
    const Machine& machine_;
    bool rehearsing_;
    Ladder& ladder_;
    std::optional<Rehearsal> rehearsal_;
    Step step_;
};

}  // namespace

VolumeRef volume_starting_at(const Machine& machine, int disk, std::uint64_t lba) {
    VolumeRef out;
    machine.each_volume([&](const Volume& v) {
        const auto where = v.source->locate(0, std::min<std::uint64_t>(v.source->size(), 512));
        if (v.partition != 0 && !where.empty() && where[0].disk == disk && where[0].offset == lba * 512)
            out = v.shared_from_this();
    });
    return out;
}

bool is_sector(const Start& start) { return std::holds_alternative<SectorStart>(start); }

Step run_sector(const Start& start, const Before& before, Context& context, Ladder& ladder) {
    return Sector(std::get<SectorStart>(start), before, context, ladder).run();
}

}  // namespace herberge::walk
