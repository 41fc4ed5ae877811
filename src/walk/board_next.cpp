// SPDX-License-Identifier: MIT
// From a board's first program to the one that it loads: U-Boot itself, alone or in a container (U-Boot common/spl).
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>

#include "artifact/boot_image.hpp"
#include "walk/board_next.hpp"

namespace herberge::walk {

namespace {

constexpr const char* trying = "Trying to boot from MMC1";

/// A place at which the first program looks.
struct Candidate {
    Source source;
    std::string where;                ///< "at byte 40960", "in d1p1:/u-boot.img"
    std::optional<std::uint64_t> at;  ///< of the disk; none: a file or a whole partition
};

class Next {
public:
    Next(const Machine& machine, const Board& board, const RomProgram& first, Ladder& ladder,
         loader::uboot::Start& start)
        : machine_(machine), board_(board), first_(first), ladder_(ladder), start_(start) {}

    bool find() {
        if (first_.whole) return itself();
        for (const auto& place : board_.next) {
            const auto candidate = candidate_of(place);
            if (!candidate) continue;
            if (const auto taken = judge(*candidate)) return *taken;
        }
        std::vector<std::string> places;
        for (const auto& one : tried_) places.push_back(one.where);
        const bool one = places.size() == 1;
        ladder_.breaks(
            Code::BoardNextMissing,
            places.empty() ? std::string("the first program finds none of the places at which it looks for U-Boot")
            : one          ? fmt::format(
                                 "{}, where the first program looks, there is no image of U-Boot: it takes what lies there for "
                                          "code",
                                 places.front())
                  : fmt::format("neither {} is there an image of U-Boot, where the first program looks",
                                fmt::join(places, " nor ")),
            looked_, trying);
        return false;
    }

private:
    [[nodiscard]] const Disk& disk() const { return machine_.disks.front(); }

    /// No further program is looked for.
    bool itself() {
        const bool known = rom::says(*first_.source, first_.length, "U-Boot");
        if (known)
            start_.program =
                slice(first_.source, 0, std::min(first_.length, first_.source->size()), first_.source->place());
        ladder_.set(
            Stage::Loader, known ? State::Holds : State::Doubtful,
            known ? std::string("the first program holds U-Boot itself")
                  : std::string("the first program holds what comes next, in a form that is not read here: it is taken "
                                "for U-Boot as it usually is"),
            {evidence_place(first_.where)});
        return true;
    }

    std::optional<Candidate> candidate_of(const NextPlace& place) {
        switch (place.by) {
            case NextPlace::By::Nothing: return std::nullopt;
            case NextPlace::By::Behind: return at_byte(first_.at + std::max(first_.length, place.byte));
            case NextPlace::By::Byte: return at_byte(place.byte);
            case NextPlace::By::File: return file(std::string(place.name));
            case NextPlace::By::Name:
            case NextPlace::By::Type: return partition(place);
        }
        return std::nullopt;
    }

    std::optional<Candidate> at_byte(std::uint64_t at) {
        // Behind a first program in a boot area, the next one lies there, too (common/spl/spl_mmc.c).
        const auto& source = first_.area != nullptr ? first_.area : disk().source;
        if (at >= source->size()) {
            looked_.push_back(evidence_place(source->place(), "a medium that reaches further", "it ends before"));
            return std::nullopt;
        }
        return Candidate{slice(source, at, source->size() - at, source->place()),
                         fmt::format("at byte {}{}", at, first_.area != nullptr ? " of that boot area" : ""),
                         first_.area != nullptr ? std::nullopt : std::optional(at)};
    }

    /// A file in the top folder of the volume that the first program came from, or of the first partition; only where
    /// its own words name it.
    std::optional<Candidate> file(const std::string& name) {
        if (!rom::says(*first_.source, first_.length, name)) return std::nullopt;
        const auto volume = first_.volume != nullptr ? first_.volume : machine_.volume(disk().number, 1);
        const FileSystem* fs = volume != nullptr ? volume->files(Observer::Loader) : nullptr;
        const std::string place = fmt::format("{}:/{}", volume != nullptr ? volume->place : "d1p1", name);
        const auto found = fs != nullptr ? resolve(*fs, "/" + name) : fail(ErrorKind::NotFound, "no file system");
        const auto source = found ? fs->open(found->file.id, place) : tl::unexpected(found.error());
        if (!source) {
            looked_.push_back(
                evidence_place(place, "U-Boot", source.error().unreadable() ? source.error().what : "absent"));
            tried_.push_back({nullptr, "in " + place, {}});
            return std::nullopt;
        }
        return Candidate{*source, "in " + place, {}};
    }

    std::optional<Candidate> partition(const NextPlace& place) {
        const bool by_name = place.by == NextPlace::By::Name;
        const auto& all = disk().table.partitions;
        const auto found = std::ranges::find_if(all, [&](const Partition& p) {
            return by_name ? p.name == place.name : lower_text(p.type_guid) == place.name;
        });
        if (found == all.end()) {
            looked_.push_back(evidence_place(fmt::format("d{}", disk().number),
                                             by_name ? fmt::format("a partition named {}", place.name)
                                                     : fmt::format("a partition of type {}", place.name),
                                             "none"));
            return std::nullopt;
        }
        const std::uint64_t unit = disk().table.sector_size;
        const std::uint64_t size = disk().source->size();
        const std::uint64_t at = std::min(found->first_lba * unit, size);
        return Candidate{slice(disk().source, at, std::min(found->sectors * unit, size - at), disk().source->place()),
                         fmt::format("in d{}p{}", disk().number, found->number), at};
    }

    /// None: nothing here that the first program knows.
    std::optional<bool> judge(const Candidate& candidate) {
        const auto& source = candidate.source;
        if (const auto image = inspect_legacy_image(*source)) return legacy(candidate, *image);
        if (const auto fit = Fit::open(source)) return tree(candidate, *fit);
        const auto head = source->bytes(0, std::min<std::uint64_t>(4, source->size()));
        const std::string found = head ? hex(*head) : std::string("unreadable");
        // Trusted Firmware's own container (its include/tools_share/firmware_image_package.h).
        if (found == "01 00 64 aa") return package(candidate);
        tried_.push_back(candidate);
        looked_.push_back(evidence_bytes(*source, 0, 4, "27 05 19 56 or d0 0d fe ed", found));
        return std::nullopt;
    }

    bool legacy(const Candidate& candidate, const LegacyImage& image) {
        const auto& source = candidate.source;
        if (!image.whole) {
            ladder_.breaks(Code::BoardNextMissing, "U-Boot's image is longer than the disk",
                           {evidence_bytes(*source, 0, 64, "its content on the disk",
                                           fmt::format("{} bytes", static_cast<std::uint32_t>(image.header.size)))},
                           trying);
            return false;
        }
        const std::uint64_t load = image.header.load;
        const std::uint64_t entry = image.header.entry;
        // Images of U-Boot alone leave the entry to SPL.
        const bool enters =
            entry == 0 || (entry >= load && entry - load < std::max<std::uint64_t>(image.header.size, 1));
        if (load < board_.ram_at || !enters) {
            ladder_.breaks(
                Code::BoardNextMissing,
                "U-Boot's image says that it is to be put where the board has no memory, or entered where it "
                "does not lie: the first program jumps into nothing",
                {evidence_bytes(*source, 16, 8, fmt::format("memory from {:#x} on", board_.ram_at),
                                fmt::format("load {:#x}, entry {:#x}", load, entry))},
                trying);
            return false;
        }
        start_.program = slice(source, LegacyImage::data_at, image.header.size, source->place());
        std::vector<Evidence> evidence{evidence_bytes(*source, 0, 64)};
        State state = State::Holds;
        std::string text = fmt::format("U-Boot lies {} ({})", candidate.where, size_text(image.header.size));
        if (!image.header_sound || !image.data_sound) {
            // The first program looks at neither: it may run all the same.
            state = State::Doubtful;
            text += "; its checksum does not match, which the first program does not look at";
            evidence.push_back(evidence_bytes(*source, 24, 4, "the CRC-32 of its content", "another"));
        }
        ladder_.set(Stage::Loader, state, std::move(text), std::move(evidence));
        overlap(candidate, LegacyImage::data_at + image.header.size);
        return true;
    }

    /// What SPL loads of an image tree (common/spl/spl_fit.c): the configuration's firmware, loadables and device tree.
    bool tree(const Candidate& candidate, const Fit& fit) {
        const auto& source = candidate.source;
        const auto* configuration = fit.find(fit.default_configuration());
        if (configuration == nullptr && !fit.configurations().empty()) configuration = &fit.configurations().front();
        std::vector<std::string> wanted;
        if (configuration != nullptr) {
            if (!configuration->firmware.empty()) wanted.push_back(configuration->firmware);
            wanted.insert(wanted.end(), configuration->loadables.begin(), configuration->loadables.end());
            // Shown only where nothing else is: the one for a kernel.
            if (wanted.empty() && !configuration->kernel.empty()) wanted.push_back(configuration->kernel);
            if (!configuration->trees.empty()) wanted.push_back(configuration->trees.front());
        } else {
            wanted = fit.images();
        }
        std::vector<std::string> names, differing;
        std::uint64_t end = 0;
        for (const auto& name : wanted) {
            const auto part = fit.image(name);
            if (!part || !part->data_there) {
                ladder_.breaks(Code::BoardNextMissing,
                               fmt::format("the image tree {} names the part {}, and {}", candidate.where, name,
                                           part ? "its content is not there" : "has none of that name"),
                               {evidence_bytes(*source, 0, 40, name, part ? "without content" : "absent")},
                               fmt::format("Cannot find image node '{}'", name));
                return false;
            }
            end = std::max(end, part->offset + part->length);
            names.push_back(part->description.empty() ? name : part->description);
            for (const auto& hash : part->hashes)
                if (hash.known && !hash.matches) differing.push_back(name);
        }
        start_.program = slice(source, 0, std::min(end, source->size()), source->place());
        std::string text = fmt::format("U-Boot lies {}, in an image tree of {} parts ({})", candidate.where,
                                       fit.images().size(), fmt::join(names, ", "));
        if (!differing.empty())
            text += fmt::format("; {} {} its hash, which not every first program looks at", fmt::join(differing, ", "),
                                differing.size() == 1 ? "fails" : "fail");
        ladder_.set(Stage::Loader, differing.empty() ? State::Holds : State::Doubtful, std::move(text),
                    {evidence_bytes(*source, 0, 40)});
        overlap(candidate, end);
        return true;
    }

    bool package(const Candidate& candidate) {
        start_.program = candidate.source;
        ladder_.set(Stage::Loader, State::Holds,
                    fmt::format("U-Boot lies {}, in a package of Trusted Firmware", candidate.where),
                    {evidence_bytes(*candidate.source, 0, 16)});
        return true;
    }

    /// A partition that begins inside what lies outside of all.
    void overlap(const Candidate& candidate, std::uint64_t length) const {
        if (!candidate.at || candidate.where.find("byte") == std::string::npos) return;
        const std::uint64_t unit = disk().table.sector_size;
        const std::uint64_t end = *candidate.at + length;
        for (const auto& p : disk().table.partitions) {
            const std::uint64_t begin = p.first_lba * unit;
            if (p.extended() || begin >= end || begin + p.sectors * unit <= *candidate.at) continue;
            ladder_.add_finding(
                make_finding(Code::PartitionsOverlap,
                             fmt::format("d{}p{} begins at byte {}, inside U-Boot, which ends at byte {}",
                                         disk().number, p.number, begin, end),
                             {evidence_bytes(*disk().source, p.entry_offset, 16,
                                             fmt::format("a begin behind byte {}", end), fmt::format("{}", begin))}));
        }
    }

    const Machine& machine_;
    const Board& board_;
    const RomProgram& first_;
    Ladder& ladder_;
    loader::uboot::Start& start_;
    std::vector<Candidate> tried_;
    std::vector<Evidence> looked_;
};

}  // namespace

bool find_next(const Machine& machine, const Board& board, const RomProgram& first, Ladder& ladder,
               loader::uboot::Start& start) {
    return Next(machine, board, first, ladder, start).find();
}

}  // namespace herberge::walk
