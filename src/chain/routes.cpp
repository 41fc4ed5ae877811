// SPDX-License-Identifier: MIT
#include "chain/routes.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "chain/rehearsed.hpp"

namespace herberge::chain {

namespace {

constexpr std::size_t most_depth = 8;
constexpr std::size_t most_routes = 2000;
constexpr std::string_view silent = "(nothing: the screen stays as the firmware left it)";

/// What a BIOS says of a disc that it does not start.
std::string disc_refused(int code) {
    return fmt::format("Boot failed: Could not read from CDROM (code {:04x})", static_cast<unsigned>(code));
}

/// A disc in an optical drive: true when the firmware starts it.
bool disc_starts(const Disk& disk, Ladder& ladder, std::vector<Evidence>& refused, std::vector<std::string>& said) {
    const auto& catalogue = *disk.catalogue;
    if (catalogue.refused) {
        refused.push_back(evidence_error(*catalogue.refused));
        said.push_back(disc_refused(catalogue.refusal_code));
        return false;
    }
    const auto& image = catalogue.images.front();
    if (!disk.source->bytes(image.offset, std::max<std::uint64_t>(image.sectors, 1) * 512)) {
        refused.push_back(evidence_bytes(*disk.source, image.entry_at + 8, 4, "a boot image on the medium",
                                         fmt::format("block {}", image.offset / 2048)));
        said.push_back(disc_refused(12));
        return false;
    }
    std::vector<Evidence> evidence{evidence_bytes(*disk.source, image.entry_at, 32, {},
                                                  fmt::format("{} sectors from byte {}", image.sectors, image.offset))};
    evidence.insert(evidence.end(), refused.begin(), refused.end());
    ladder.set(Stage::Firmware, State::Holds,
               fmt::format("a BIOS starts the disc d{}: its boot catalogue names a boot image ({})", disk.number,
                           emulation_name(image.emulation)),
               evidence);
    if (!catalogue.checksum_holds)
        ladder.add_finding(make_finding(
            Code::DiscCatalogueChecksum,
            fmt::format("the validation entry of d{}'s boot catalogue fails its checksum; some firmware refuses it",
                        disk.number),
            {evidence_bytes(*disk.source, catalogue.offset, 32, "words that add up to 0", "another sum")}));
    return true;
}

const Disk* firmware_stage(const Machine& machine, Ladder& ladder) {
    std::vector<Evidence> refused;
    std::vector<std::string> said;
    for (const auto& disk : machine.disks) {
        if (disk.optical && !disk.problem) {
            if (disc_starts(disk, ladder, refused, said)) return &disk;
            continue;
        }
        if (disk.emulation != Emulation::None && !disk.problem) {
            ladder.set(Stage::Firmware, State::Holds,
                       fmt::format("a BIOS starts the disc d{} {}: its boot catalogue names the image", disk.number,
                                   emulation_name(disk.emulation)),
                       {evidence_bytes(*disk.source, 0, 512)});
            return &disk;
        }
        if (disk.problem) {
            refused.push_back(evidence_error(*disk.problem));
            continue;
        }
        if (disk.source->size() < 512) {
            refused.push_back(
                evidence_place(fmt::format("d{}", disk.number), "at least one sector", size_text(disk.source->size())));
            continue;
        }
        const auto mark = disk.source->bytes(510, 2);
        if (!mark) {
            refused.push_back(evidence_error(mark.error()));
            continue;
        }
        if ((*mark)[0] != 0x55 || (*mark)[1] != 0xAA) {
            refused.push_back(evidence_bytes(*disk.source, 510, 2, "55 aa", hex(*mark)));
            continue;
        }
        std::vector<Evidence> evidence{evidence_bytes(*disk.source, 510, 2, "55 aa", "55 aa")};
        evidence.insert(evidence.end(), refused.begin(), refused.end());
        ladder.set(Stage::Firmware, State::Holds,
                   fmt::format("a BIOS starts d{}: its first sector carries the signature 55AA", disk.number),
                   evidence);
        return &disk;
    }
    if (said.size() < machine.disks.size()) said.emplace_back("Boot failed: not a bootable disk");
    said.emplace_back("No bootable device.");
    std::string why = "no disk has a first sector that a BIOS would start";
    if (std::ranges::any_of(machine.disks, &Disk::optical)) why = "no medium is one that a BIOS would start";
    if (machine.disks.size() == 1 && machine.disks.front().optical)
        why += ": " + (machine.disks.front().catalogue->refused ? machine.disks.front().catalogue->refused->what
                                                                : std::string("its boot image lies past its end"));
    ladder.breaks(Code::FirmwareNothingToStart, why, refused, fmt::format("{}", fmt::join(said, "\n")));
    return nullptr;
}

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

VolumeRef volume_starting_at(const Machine& machine, int disk, std::uint64_t lba) {
    VolumeRef out;
    machine.each_volume([&](const Volume& v) {
        const auto where = v.source->locate(0, std::min<std::uint64_t>(v.source->size(), 512));
        if (v.partition != 0 && !where.empty() && where[0].disk == disk && where[0].offset == lba * 512)
            out = v.shared_from_this();
    });
    return out;
}

bool all_zero(std::span<const std::uint8_t> bytes) {
    return std::ranges::all_of(bytes, [](auto b) { return b == 0; });
}

/// The code of a boot sector without its parameter block: that block survives what wipes the code.
std::span<const std::uint8_t> code_of(std::span<const std::uint8_t> sector, bool volume) {
    return volume ? sector.subspan(90, 420 - 0) : sector.first(440);
}

class Finder {
public:
    Finder(const Machine& machine, bool rehearsing) : machine_(machine), rehearsing_(rehearsing) {}

    Routes run() {
        Route route;
        if (const Disk* disk = firmware_stage(machine_, route.ladder)) {
            out_.first_drive = disk->number;
            BootPlace place{disk, nullptr, 0, disk->number, false, 0};
            if (disk->optical) {
                place.lba = disk->catalogue->images.front().offset / 512;
                place.image = disk->catalogue->images.front().number;
            }
            step("firmware", place.text(), {}, true, false);
            first_sector(place, std::move(route), true);
        } else {
            out_.list.push_back(std::move(route));
        }
        return std::move(out_);
    }

private:
    using Path = std::vector<std::pair<int, std::uint64_t>>;

    void end(Route route) {
        if (out_.list.size() < most_routes) out_.list.push_back(std::move(route));
    }

    void step(std::string from, std::string to, std::string label, bool unattended, bool broken) {
        const bool known = std::ranges::any_of(
            out_.steps, [&](const StartEdge& s) { return s.from == from && s.to == to && s.label == label; });
        if (!known) out_.steps.push_back({std::move(from), std::move(to), std::move(label), unattended, broken});
    }

    /// A disk's first sector, started by the firmware or by another loader.
    void first_sector(const BootPlace& place, Route route, bool by_firmware) {
        if (place.image != 0)
            route.ladder.set(Stage::PartitionTable, State::NotNeeded,
                             "a disc is started by its boot catalogue; no partition table is looked at");
        else if (by_firmware || route.ladder.at(Stage::PartitionTable).state != State::Holds)
            table_holds(*place.disk, route.ladder);
        started(place, std::move(route), by_firmware);
    }

    /// Code at `place` begins to run.
    void started(const BootPlace& place, Route route, bool by_firmware) {
        const Stage own = place.volume != nullptr ? Stage::BootSector : Stage::BootCode;
        const std::pair here{place.disk->number, place.lba};
        if (std::ranges::find(path_, here) != path_.end()) {
            route.ladder.breaks(
                Code::ChainLoop,
                fmt::format("{} is started again: the loaders start each other in a circle{}", place.text(),
                            route.chosen.empty() ? "" : fmt::format(" ({})", fmt::join(route.chosen, " → "))),
                {place.evidence(0, 512)}, "(the same menu comes again and again)");
            end(std::move(route));
            return;
        }
        if (path_.size() >= most_depth) {
            route.ladder.set(Stage::Entry, State::Unknown, "more loaders follow each other than are followed here");
            end(std::move(route));
            return;
        }
        path_.push_back(here);
        look_at(place, std::move(route), own, by_firmware);
        path_.pop_back();
    }

    /// What stands at `place`, run in the emulated PC.
    [[nodiscard]] Rehearsal rehearse_from(const BootPlace& place, RehearsalOptions options) const {
        if (place.image == 0) options.start_sector = place.lba;
        return rehearse(machine_, place.disk->number, options);
    }

    void look_at(BootPlace place, Route route, Stage own, bool by_firmware) {
        if (place.volume != nullptr) route.passed.push_back(place.volume);
        const auto sector = place.disk->source->bytes(place.lba * 512, 512);
        if (!sector) {
            route.ladder.set(
                broken(make_finding(Code::BootCodeUnreadable, fmt::format("{} cannot be read", place.text()),
                                    {evidence_error(sector.error())}),
                       own));
            end(std::move(route));
            return;
        }
        std::optional<Rehearsal> rehearsal;
        if (rehearsing_) {
            rehearsal = rehearse_from(place, RehearsalOptions::brief());
        }
        auto run = run_loader(machine_, place);
        if (run && run->stopped_by() != nullptr && run->stopped_by()->code == Code::BootCodeDamaged && rehearsal &&
            run->next_sector && reaches_sector(*rehearsal, place.disk->number, *run->next_sector)) {
            // What the bytes are, and what they do: where the two disagree, the running code is what the machine has.
            route.ladder.add_finding(
                make_finding(Code::RehearsalContradicts,
                             fmt::format("{}; run in an emulated PC, the code goes on all the same", run->stop->text),
                             {run->stop->evidence.empty() ? place.evidence(0, 3) : run->stop->evidence.front(),
                              rehearsal_evidence(*rehearsal)}));
            place.seen_working = true;
            run = run_loader(machine_, place);
        }
        if (run && !run->undecoded) {
            loader(place, std::move(*run), std::move(route), own, by_firmware, rehearsal);
            return;
        }
        if (all_zero(code_of(*sector, place.volume != nullptr))) {
            route.ladder.breaks(own == Stage::BootCode ? Code::BootCodeEmpty : Code::BootSectorEmpty,
                                fmt::format("the code area of {} is empty", place.text()),
                                {place.evidence(place.volume != nullptr ? 90 : 0, place.volume != nullptr ? 420 : 440,
                                                "boot code", "zeros")},
                                std::string(silent));
            end(std::move(route));
            return;
        }
        unnamed(place, std::move(route), own, rehearsal);
    }

    /// Code of no loader that is decoded: what it does when it runs is what counts.
    void unnamed(const BootPlace& place, Route route, Stage own, const std::optional<Rehearsal>& rehearsal) {
        route.hops.push_back(fmt::format("{}: code", place.text()));
        if (own == Stage::BootCode) {
            VolumeRef next = rehearsal ? started_volume(*rehearsal) : only_active(*place.disk);
            if (next != nullptr) {
                route.ladder.set(
                    Stage::BootCode, State::Holds,
                    rehearsal ? fmt::format("run in an emulated PC, it starts the {} boot sector", next->place)
                              : fmt::format("its code is not decoded; if it starts the active partition, that is {}",
                                            next->place),
                    {evidence_bytes(*place.disk->source, 0, 440),
                     rehearsal ? rehearsal_evidence(*rehearsal) : evidence_bytes(*place.disk->source, 446, 64)});
                route.ladder.support(Stage::PartitionTable, fmt::format("; {} is the active one", next->place),
                                     evidence_bytes(*place.disk->source, 446, 64));
                step(place.text(), fmt::format("{} boot sector", next->place), {}, route.unattended, false);
                const auto where = next->source->locate(0, 512);
                const BootPlace sector{place.disk,        next,  where.empty() ? 0 : where.front().offset / 512,
                                       place.first_drive, false, 0};
                const auto code = next->source->bytes(0, 512);
                // A boot sector with a loader's name is decoded; others are judged by the same rehearsal.
                if (code && !identify_loader(*code).empty()) {
                    started(sector, std::move(route), false);
                    return;
                }
                route.passed.push_back(next);
            }
        }
        if (!rehearsal) {
            if (route.ladder.at(own).state == State::NotReached)
                route.ladder.set(own, State::Unknown,
                                 fmt::format("the code of {} is none that is decoded here", place.text()),
                                 {place.evidence(0, 440)});
            end(std::move(route));
            return;
        }
        if (own == Stage::BootCode) judge_by_rehearsal(machine_, *place.disk, *rehearsal, route.ladder);
        else judge_boot_sector_by_rehearsal(place, *rehearsal, route.ladder);
        end(std::move(route));
    }

    [[nodiscard]] VolumeRef started_volume(const Rehearsal& rehearsal) const {
        for (const auto& e : rehearsal.events)
            if (e.kind == RehearsalEventKind::Transfer && e.stage == Stage::BootSector && e.range &&
                e.range->offset % 512 == 0)
                return volume_starting_at(machine_, e.range->disk, e.range->offset / 512);
        return nullptr;
    }

    [[nodiscard]] VolumeRef only_active(const Disk& disk) const {
        if (disk.table.active_count() != 1) return nullptr;
        return machine_.volume(disk.number, disk.table.first_active()->number);
    }

    void loader(const BootPlace& place, LoaderRun run, Route route, Stage own, bool by_firmware,
                const std::optional<Rehearsal>& rehearsal) {
        out_.loaders.push_back(std::move(run));
        const LoaderRun& r = out_.loaders.back();
        auto& ladder = route.ladder;
        route.hops.insert(route.hops.end(), r.route.begin(), r.route.end());
        for (const auto& finding : r.findings) ladder.add_finding(finding);
        step(place.text(), loader_node(r, place), {}, route.unattended, r.stop.has_value());
        std::optional<Claim> stop = r.stop;
        if (stop && stop->stage == Stage::BootCode) stop->stage = own;
        if (own == Stage::BootCode && by_firmware)
            ladder.set(Stage::BootSector, State::NotNeeded,
                       place.image != 0 ? std::string("a disc's boot image is the loader itself")
                                        : fmt::format("{}'s first sector loads the loader directly", r.name));
        if (!stop || stop->stage != own) ladder.go_on(own, State::Holds, r.first_sector_text, {place.evidence(0, 440)});
        if (!stop || stop->stage > Stage::Loader)
            ladder.go_on(Stage::Loader, r.loader_state, r.loader_text, r.loader_evidence);
        if (stop && stop->state == State::Unknown) {
            ladder.set(*stop);
            if (rehearsal) compare_with_loader(place, r, own, *rehearsal, ladder);
            end(std::move(route));
            return;
        }
        if (stop && stop->stage <= Stage::Loader && rehearsal && of_layout(stop->findings.front().code) &&
            rehearsal->end == RehearsalEnd::UntilReached && works_all_the_same(place, r, own, ladder)) {
            end(std::move(route));
            return;
        }
        if (stop) {
            if (stop->stage == own && rehearsal && !rehearsal->text.empty())
                stop->findings.front().symptom = rehearsal_screen(*rehearsal);
            ladder.set(*stop);
            if (rehearsal) compare_with_loader(place, r, own, *rehearsal, ladder);
            // A rung that holds behind the break would be a promise nobody keeps.
            end(std::move(route));
            return;
        }
        if (rehearsal) {
            compare_with_loader(place, r, own, *rehearsal, ladder);
            parts_loaded(place, r, own, *rehearsal, ladder);
        }
        if (rehearsing_ && !r.differing.empty() && r.unpacked != nullptr && !ladder.first_break())
            prove_start_up(place, r, ladder);
        if (rehearsing_ && path_.size() <= 2 && route.chosen.empty() && !r.proof.empty() && !r.parts_proven &&
            !ladder.first_break())
            prove(place, r, ladder);
        if (ladder.first_break()) {
            end(std::move(route));
            return;
        }
        ladder.go_on(Stage::Configuration, State::Holds, r.configuration_text, {evidence_place(r.menu.place)});
        route.hops.push_back(r.menu.place);
        route.menu = &r.menu;
        follow_menu(place, r, route);
    }

    /// Statements about where a loader's parts lie: wrong where the layout is one that the decoder does not know.
    static bool of_layout(Code code) {
        return code == Code::GrubCorePointer || code == Code::GrubCoreFirstSector || code == Code::GrubCoreHeader ||
               code == Code::GrubDiscNoTable || code == Code::IsolinuxPointer;
    }

    /// What was decoded says that it cannot work; run, it went on. How far? A menu, or a kernel, outranks the decoder.
    bool works_all_the_same(const BootPlace& place, const LoaderRun& r, Stage own, Ladder& ladder) {
        RehearsalOptions options;
        options.most_instructions = 120'000'000;
        options.idle_instructions = 100'000'000;
        const auto rehearsal = rehearse_from(place, std::move(options));
        if (rehearsal.end != RehearsalEnd::WaitsForKey && rehearsal.end != RehearsalEnd::KernelEntered &&
            rehearsal.end != RehearsalEnd::Limit)
            return false;
        const auto evidence = rehearsal_evidence(rehearsal);
        const bool told = rehearsal.end != RehearsalEnd::Limit;
        ladder.add_finding(make_finding(
            Code::RehearsalContradicts, fmt::format("{}; run in an emulated PC, it goes on all the same", r.stop->text),
            {r.stop->evidence.empty() ? place.evidence(0, 512) : r.stop->evidence.front(), evidence}));
        ladder.set(own, State::Holds,
                   fmt::format("{}; run in an emulated PC, it starts the loader", r.first_sector_text),
                   {place.evidence(0, 440), evidence});
        ladder.set(
            Stage::Loader, told ? State::Holds : State::Unknown,
            told ? fmt::format("run in an emulated PC, {} comes as far as its menu or a kernel; its layout is none "
                               "that is decoded here",
                               r.name)
                 : fmt::format(
                       "the layout of {} is none that is decoded here, and running it told nothing in bounded time",
                       r.name),
            {evidence});
        ladder.set(Stage::Configuration, State::Unknown, "its configuration was not found by decoding", {evidence});
        return true;
    }

    /// Code that nothing protects differs from the same code in a file: does it unpack what it should all the same?
    void prove_start_up(const BootPlace& place, const LoaderRun& r, Ladder& ladder) {
        RehearsalOptions options;
        options.most_instructions = 150'000'000;
        options.idle_instructions = 150'000'000;
        options.unpacked = r.unpacked;
        options.unpacked_at = r.unpacked_at;
        const auto rehearsal = rehearse_from(place, std::move(options));
        auto evidence = r.differing;
        evidence.resize(std::min<std::size_t>(evidence.size(), 4));
        evidence.push_back(rehearsal_evidence(rehearsal));
        const std::string text = fmt::format(
            "{} byte{} of {}'s start-up code differ{} from the same code in its file, and no installer writes there",
            r.differing.size(), r.differing.size() == 1 ? "" : "s", r.name, r.differing.size() == 1 ? "s" : "");
        if (rehearsal.end == RehearsalEnd::UntilReached) {
            ladder.support(Stage::Loader, "; " + text + "; run in an emulated PC, it works all the same",
                           evidence.front());
            ladder.add_finding(make_finding(Code::LoaderCodeDiffers,
                                            text + "; run in an emulated PC, it works all the same", evidence));
            return;
        }
        if (rehearsal.end == RehearsalEnd::Limit) {
            ladder.set(Stage::Loader, State::Unknown, text + "; running it told nothing in bounded time", evidence);
            ladder.add_finding(make_finding(Code::LoaderCodeDiffers, text, evidence));
            return;
        }
        ladder.breaks(Code::LoaderDoesNotWork,
                      fmt::format("{}; run in an emulated PC, it does not work: {}", text, rehearsal.end_text),
                      evidence, rehearsal_screen(rehearsal));
    }

    /// Runs the loader in the emulated PC until it reads its configuration: the only proof for parts without checksums.
    void prove(const BootPlace& place, const LoaderRun& r, Ladder& ladder) {
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
        const auto rehearsal = rehearse_from(place, std::move(options));
        // A menu that waits, or an entry that fails and waits, has been read, too.
        const auto spoken = r.last_words.empty() ? std::string::npos : rehearsal.text.find(r.last_words);
        const auto more = spoken == std::string::npos
                              ? spoken
                              : rehearsal.text.find_first_not_of(" \r\n", spoken + r.last_words.size());
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
            ladder.add_finding(make_finding(
                Code::LoaderListsStale, text + ": its lists were not made anew after the file changed", {evidence}));
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

    void follow_menu(const BootPlace& place, const LoaderRun& r, const Route& route) {
        const MenuEntry* automatic = unattended_entry(r.menu);
        std::vector<const MenuEntry*> all;
        collect_leaves(r.menu.entries, all);
        for (const auto& entry : r.menu.direct) all.push_back(&entry);
        // What starts by itself comes first, so that it is what a system's verdict is about.
        std::stable_partition(all.begin(), all.end(), [&](const MenuEntry* e) { return e == automatic; });
        for (const auto* entry : all) {
            Route next = route;
            next.entry = entry;
            next.unattended = route.unattended && entry == automatic && (r.menu.timeout || r.menu.boots_without_menu);
            if (entry->kind != EntryKind::Chainload || entry->stop || !entry->chain_code || !entry->unread.empty()) {
                end(std::move(next));
                continue;
            }
            chain(place, r, *entry, std::move(next));
        }
    }

    void chain(const BootPlace& from, const LoaderRun& r, const MenuEntry& entry, Route route) {
        const Disk* disk = machine_.disk(entry.chain_code->disk);
        const std::uint64_t lba = entry.chain_code->offset / 512;
        VolumeRef volume = disk != nullptr && lba != 0 ? volume_starting_at(machine_, disk->number, lba) : nullptr;
        if (disk == nullptr || (lba != 0 && volume == nullptr)) {
            route.ladder.set(Stage::Entry, State::Unknown,
                             fmt::format("“{}” starts code from a file, which is not followed", entry.title),
                             {evidence_line(entry.place, entry.line)});
            end(std::move(route));
            return;
        }
        const BootPlace place{disk, volume, lba, from.first_drive, false, 0};
        route.ladder.set(Stage::Entry, State::Holds,
                         fmt::format("“{}” of {} starts the {}", entry.title, r.menu.place, place.text()),
                         {evidence_line(entry.place, entry.line, {}, entry.title)});
        route.chosen.push_back(entry.title);
        route.entry = nullptr;
        route.hops.back() = fmt::format("{}:{}", entry.place, entry.line);
        step(menu_node(r.menu), place.text(), entry.title, route.unattended, false);
        if (volume == nullptr) {
            route.disks.push_back(disk->number);
            first_sector(place, std::move(route), false);
            return;
        }
        started(place, std::move(route), false);
    }

    const Machine& machine_;
    bool rehearsing_;
    Routes out_;
    Path path_;
};

}  // namespace

void collect_leaves(const std::vector<MenuEntry>& entries, std::vector<const MenuEntry*>& out) {
    for (const auto& entry : entries) {
        if (entry.kind == EntryKind::Submenu) collect_leaves(entry.children, out);
        else out.push_back(&entry);
    }
}

const MenuEntry* unattended_entry(const Menu& menu) {
    const MenuEntry* first = menu.unattended();
    if (first == nullptr || first->kernel_loaded) return first;
    for (const int index : menu.fallback) {
        const MenuEntry* candidate = menu.unattended_from(index);
        if (candidate != nullptr && candidate->kernel_loaded) return candidate;
    }
    return first;
}

std::string menu_node(const Menu& menu) { return fmt::format("{} ({})", menu.loader, menu.place); }

std::string loader_node(const LoaderRun& run, const BootPlace& place) {
    return run.menu.place.empty() ? fmt::format("{} (from {})", run.name, place.text()) : menu_node(run.menu);
}

Routes find_routes(const Machine& machine, bool rehearsing) { return Finder(machine, rehearsing).run(); }

}  // namespace herberge::chain
