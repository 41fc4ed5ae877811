// SPDX-License-Identifier: MIT
// A BIOS: the first medium that it would start, and that medium's first code.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "walk/step.hpp"

namespace herberge::walk {

namespace {

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

class Bios : public Firmware {
public:
    Bios(const Machine& machine, bool rehearsing) : machine_(machine), rehearsing_(rehearsing) {}

    std::optional<Start> power_on(Ladder& ladder, Surroundings& /*around*/, std::string& /*label*/) override {
        const Disk* disk = started_ ? nullptr : firmware_stage(machine_, ladder);
        if (disk == nullptr) return std::nullopt;
        started_ = true;
        BootPlace place{disk, nullptr, 0, disk->number, false, 0};
        if (disk->optical) {
            place.lba = disk->catalogue->images.front().offset / 512;
            place.image = disk->catalogue->images.front().number;
        }
        return SectorStart{place, true};
    }

    [[nodiscard]] Context context() const override {
        Context out(machine_);
        out.rehearsing = rehearsing_;
        return out;
    }

private:
    const Machine& machine_;
    bool rehearsing_;
    bool started_ = false;
};

}  // namespace

std::unique_ptr<Firmware> bios_firmware(const Machine& machine, bool rehearsing) {
    return std::make_unique<Bios>(machine, rehearsing);
}

}  // namespace herberge::walk
