// SPDX-License-Identifier: MIT
// UEFI firmware: boot options, the fallback file on each volume.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "bytes/lost.hpp"
#include "firmware/fat_blocks.hpp"
#include "walk/efi_options.hpp"
#include "walk/routes.hpp"

namespace herberge::walk {

namespace {

/// The option that the firmware makes by itself for a disk: its number, its name and the disk's path are the machine's.
constexpr std::string_view own_option = "Boot… \"…\" from …";

/// A file the firmware tries, and by whose word.
struct Candidate {
    VolumeRef volume;                      ///< in the firmware's view
    std::string path;                      ///< with slashes
    std::string by;                        ///< "Boot0010 “Almhof”", "the fallback file"
    std::string option;                    ///< for its message: Boot0010 "Almhof" from HD(…)
    std::string text;                      ///< handed to it by the option
    std::string label;                     ///< of its step in the graph: the option's title; empty: nobody named it
    std::optional<Controller> controller;  ///< how its disk is attached, when the option's path says so
};

/// The messaging node that stands before the drive (UEFI specification 2.10, section 10.3.4). SCSI says nothing:
/// adapters of every kind, those of virtual machines too, look the same.
std::optional<Controller> controller_of(const DevicePath& path) {
    constexpr std::uint8_t messaging = 3;
    for (const auto& node : path.nodes) {
        if (node.type != messaging) continue;
        switch (node.subtype) {
            case 1:   // ATAPI
            case 18:  // SATA
                return Controller::Ata;
            case 5:   // USB
            case 16:  // USB WWID
                return Controller::Usb;
            case 23: return Controller::Nvme;
            case 26:  // SD
            case 29:  // eMMC
                return Controller::Mmc;
            default: break;
        }
    }
    return std::nullopt;
}

class Uefi : public Firmware {
public:
    Uefi(const Machine& machine, const UefiVariables& variables, SecureBoot secure_boot, EfiMachine kind)
        : machine_(machine),
          kind_(kind),
          variables_(variables),
          secure_(secure_boot_policy(variables, secure_boot)),
          seen_(uefi_volumes(machine)) {}

    std::optional<Start> power_on(Ladder& ladder, Surroundings& around, std::string& label) override {
        const bool again = next_ > 0;
        if (!again) collect();
        else skipped_.push_back(fmt::format("{} came back", candidates_[next_ - 1].by));
        while (next_ < candidates_.size()) {
            const auto& candidate = candidates_[next_++];
            if (!try_one(candidate, ladder, around)) continue;
            label = candidate.label;
            return start_of(candidate);
        }
        if (!again) nothing_starts(ladder);
        return std::nullopt;
    }

    [[nodiscard]] std::vector<RefusedStart> refused() const override { return refused_; }

    [[nodiscard]] Context context() const override {
        Context out(machine_);
        out.efi.firmware = kind_;
        out.efi.trust = secure_.enforcing ? &secure_.trust : nullptr;
        out.efi.variables = &variables_;
        return out;
    }

private:
    /// Loaders read the disks by their own rules: what they start from is the machine as they see it, where they do.
    [[nodiscard]] VolumeRef as_loaders_see(const VolumeRef& volume) const {
        auto same = machine_.volume(volume->disk, volume->partition);
        return same != nullptr && same->files(Observer::Loader) != nullptr ? same : volume;
    }

    [[nodiscard]] EfiStart start_of(const Candidate& c) const { return {as_loaders_see(c.volume), c.path, c.text}; }

    void collect() {
        std::vector<std::string> skipped;
        for (const auto& option : boot_options(variables_)) {
            const std::string name = option_name(option);
            if (!option.active) {
                skipped.push_back(name + " is not active");
                continue;
            }
            const std::string shown =
                fmt::format("Boot{:04X} \"{}\" from {}", option.number, option.description, option.path.text());
            const auto files = files_of_option(option, seen_, kind_);
            for (const auto& volume : files.volumes)
                candidates_.push_back({volume, files.path, name, shown, load_option_text(option.optional_data),
                                       option.description, controller_of(option.path)});
            if (files.problem.empty()) continue;
            skipped.push_back(files.problem);
            if (option.whole && option.path.whole)
                failed_.push_back(fmt::format("BdsDxe: failed to load {}: Not Found", shown));
        }
        skipped_ = std::move(skipped);
        for (const auto& volume : seen_.volumes)
            candidates_.push_back(
                {volume, std::string(efi_fallback_path(kind_)), "the fallback file", std::string(own_option)});
    }

    /// True when the firmware stays with it: it is started.
    bool try_one(const Candidate& c, Ladder& ladder, Surroundings& around) {
        const FileSystem* fs = c.volume->files(Observer::Uefi);
        const auto found = fs != nullptr ? resolve(*fs, c.path) : fail(ErrorKind::NotFound, "no file system");
        const std::string place = fmt::format("{}:{}", c.volume->place, c.path);
        if (!found) {
            missed_.push_back(evidence_place(
                place, fmt::format("{} ({})", "an EFI application", c.by),
                found.error().unreadable() ? "unreadable: " + found.error().what : std::string("absent")));
            if (!c.label.empty())
                refused_.push_back(
                    {start_of(c),
                     make_finding(Code::UefiOptionFileMissing,
                                  fmt::format("{} names {}, which is not there", c.by, place), {missed_.back()},
                                  fmt::format("BdsDxe: failed to load {}: Not Found", c.option))});
            return false;
        }
        const auto source = fs->open(found->file.id, place);
        std::optional<ImageRefusal> refused;
        // It reads the whole file before it looks at it.
        const auto lost = source ? lost_within(**source) : std::nullopt;
        if (!source) refused = ImageRefusal{source.error().what, "Not Found"};
        else if (lost) refused = ImageRefusal{"it cannot be read: " + lost->what, "Not Found"};
        else refused = refuse_efi_image(**source, kind_);
        // Its boot menu looks for an image's marks first; who signed it is asked before the image is loaded.
        if (secure_.enforcing && source && (!refused || refused->screen != "Not Found"))
            if (const auto why = secure_.trust.refuse(**source))
                refused = ImageRefusal{"Secure Boot refuses it: " + *why, "Access Denied"};
        if (refused) {
            Refusal refusal = {
                fmt::format("{} ({}) cannot be started: {}", place, c.by, refused->why),
                lost ? evidence_error(*lost)
                     : evidence_place(
                           place, fmt::format("an EFI application for {}", pe_machine_name(efi_machine(kind_).image)),
                           refused->why),
                refused->crashes ? "!!!! " + refused->screen + " !!!!"
                                 : fmt::format("BdsDxe: failed to load {}: {}", c.option, refused->screen)};
            if (!c.label.empty())
                refused_.push_back({start_of(c), make_finding(Code::EfiImageRefused, refusal.text, {refusal.evidence},
                                                              refusal.screen)});
            if (!refusal_) refusal_ = std::move(refusal);
            return false;
        }
        around.controller = c.controller;
        around.controller_disk = c.volume->disk;
        around.controller_told_by = fmt::format("the path of {}", c.by);
        around.locked_down = secure_.enforcing;
        around.processor = efi_machine(kind_).processor;
        std::vector<Evidence> evidence = missed_;
        evidence.insert(evidence.begin(), evidence_place(place));
        std::string text = fmt::format("the firmware starts {} ({})", place, c.by);
        text += "; " + secure_.why;
        if (!variables_.given()) text += "; no variables were given: boot options of its own could lead elsewhere";
        if (!skipped_.empty()) text += fmt::format("; before it: {}", fmt::join(skipped_, ", "));
        ladder.set(Stage::Firmware, State::Holds, text, evidence);
        const Disk* disk = seen_.view.disk(c.volume->disk);
        ladder.set(Stage::PartitionTable, State::Holds,
                   c.volume->partition < 0 ? fmt::format("the boot catalogue leads to {}", c.volume->place)
                   : disk->table.kind == TableKind::None
                       ? std::string("the disk is one volume without a table")
                       : fmt::format("the {} leads to {}", disk->table.kind == TableKind::Gpt ? "GPT" : "MBR",
                                     c.volume->place),
                   {evidence_bytes(*disk->source, 446, 64)});
        return true;
    }

    void nothing_starts(Ladder& ladder) {
        if (refusal_) {
            ladder.set(Stage::Firmware, State::Holds, "the firmware finds a file to start", {refusal_->evidence});
            ladder.set(Stage::PartitionTable, State::Holds, "the table leads to the volume that has it",
                       {refusal_->evidence});
            ladder.breaks(Code::EfiImageRefused, refusal_->text, {refusal_->evidence}, refusal_->screen);
            return;
        }
        // A volume with the file that only others than the firmware see: the table is what stops it.
        VolumeRef hidden;
        machine_.each_volume([&](const Volume& v) {
            if (hidden == nullptr && v.as(Observer::Uefi).is(Family::Fat) && v.files(Observer::Uefi) != nullptr &&
                resolve(*v.files(Observer::Uefi), efi_fallback_path(kind_)))
                hidden = v.shared_from_this();
        });
        if (hidden != nullptr && !seen_.findings.empty()) {
            ladder.set(Stage::Firmware, State::Holds, "the firmware reads the disk", {});
            std::vector<Evidence> evidence;
            std::vector<std::string> texts;
            for (const auto& finding : seen_.findings) {
                texts.push_back(finding.text);
                evidence.insert(evidence.end(), finding.evidence.begin(), finding.evidence.end());
            }
            ladder.breaks(
                seen_.findings.front().code,
                fmt::format("{}; {} would have {}", fmt::join(texts, "; "), hidden->place, efi_fallback_path(kind_)),
                evidence, fmt::format("BdsDxe: failed to load {}: Not Found", own_option));
            return;
        }
        std::string text = seen_.volumes.empty()
                               ? "the firmware finds no FAT volume on any disk"
                               : fmt::format("no boot option leads to a file that is there, and no FAT volume has {}",
                                             efi_fallback_path(kind_));
        std::vector<std::string> unread;
        machine_.each_volume([&](const Volume& v) {
            const auto problem = v.problem(Observer::Uefi);
            if (problem && problem->unreadable()) unread.push_back(v.place);
        });
        if (!unread.empty()) text += fmt::format("; {} cannot be read", fmt::join(unread, ", "));
        if (!skipped_.empty()) text += fmt::format(" ({})", fmt::join(skipped_, ", "));
        // The usual mistake with downloaded images: made for another machine.
        std::vector<std::pair<std::string_view, std::string_view>> others(other_fallback_names().begin(),
                                                                          other_fallback_names().end());
        for (const auto& row : efi_machines())
            if (row.machine != kind_) others.emplace_back(row.fallback, row.words);
        for (const auto& volume : seen_.volumes)
            for (const auto& [name, machine] : others)
                if (volume->files(Observer::Uefi) != nullptr && resolve(*volume->files(Observer::Uefi), name))
                    text += fmt::format("; {}:{} is there, for {} firmware", volume->place, name, machine);
        text += "; " + secure_.why;
        if (!variables_.given()) text += "; boot options were not given";
        std::vector<Evidence> evidence = missed_;
        for (const auto& finding : seen_.findings) {
            if (finding.code != Code::UefiCatalogueRefused) continue;
            text += "; " + finding.text;
            evidence.insert(evidence.end(), finding.evidence.begin(), finding.evidence.end());
        }
        if (evidence.empty())
            for (const auto& disk : machine_.disks)
                evidence.push_back(
                    evidence_place(fmt::format("d{}", disk.number), "a FAT volume", "none that the firmware opens"));
        failed_.push_back(fmt::format("BdsDxe: failed to load {}: Not Found", own_option));
        failed_.emplace_back("(then its own shell or settings, or: BdsDxe: No bootable option or device was found.)");
        ladder.breaks(Code::UefiNothingToStart, text, evidence, fmt::format("{}", fmt::join(failed_, "\n")));
    }

    struct Refusal {
        std::string text;
        Evidence evidence;
        std::string screen;
    };

    const Machine& machine_;
    EfiMachine kind_;
    const UefiVariables& variables_;
    SecureBootPolicy secure_;
    UefiVolumes seen_;
    std::vector<Candidate> candidates_;
    std::vector<std::string> skipped_;
    std::vector<std::string> failed_;  ///< messages for options that lead nowhere
    std::vector<Evidence> missed_;
    std::optional<Refusal> refusal_;
    std::vector<RefusedStart> refused_;
    std::size_t next_ = 0;  ///< candidate
};

}  // namespace

std::unique_ptr<Firmware> uefi_firmware(const Machine& machine, const UefiVariables& variables, SecureBoot secure_boot,
                                        EfiMachine kind) {
    return std::make_unique<Uefi>(machine, variables, secure_boot, kind);
}

bool is_application(const Start& start) { return std::holds_alternative<EfiStart>(start); }

Step run_application(const Start& start, const Before& /*before*/, Context& context, Ladder& ladder) {
    const auto& own = std::get<EfiStart>(start);
    const std::string place = start_text(start);
    Step step;
    ladder.go_on(Stage::BootCode, State::Holds,
                 fmt::format("{} is an EFI application that this firmware starts", place), {evidence_place(place)});
    if (const auto lost = lost_beside(*own.volume, own.path))
        ladder.set(Stage::BootCode, State::Unknown, ladder.at(Stage::BootCode).text + lost_beside_text(own.path),
                   {evidence_error(*lost)});
    ladder.set(Stage::BootSector, State::NotNeeded, "UEFI starts files, not boot sectors");
    step.passed.push_back(own.volume);
    EfiContext efi = context.efi;
    efi.options = own.options;
    auto run = run_efi_loader(context.machine, *own.volume, own.path, efi);
    if (!run) {
        step.hops.push_back(place);
        ladder.set(Stage::Loader, State::Unknown, fmt::format("{} is no loader that is decoded here", place),
                   {evidence_place(place)});
        return step;
    }
    step.run = std::make_shared<const LoaderRun>(std::move(*run));
    const LoaderRun& r = *step.run;
    step.hops = r.route;
    if (r.undecoded) {
        step.edges.push_back({place, r.name, true});
        ladder.set(Stage::Loader, State::Unknown, r.loader_text, r.loader_evidence);
        return step;
    }
    for (const auto& finding : r.findings) ladder.add_finding(finding);
    step.edges.push_back({place, loader_node(r, place), r.stop.has_value()});
    if (!r.stop || r.stop->stage > Stage::Loader)
        ladder.go_on(Stage::Loader, r.loader_state, r.loader_text, r.loader_evidence);
    if (r.stop) {
        ladder.set(*r.stop);
        return step;
    }
    ladder.go_on(Stage::Configuration, State::Holds, r.configuration_text, {evidence_place(r.menu.place)});
    step.hops.push_back(r.menu.place);
    step.offers = true;
    return step;
}

}  // namespace herberge::walk
