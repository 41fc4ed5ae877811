// SPDX-License-Identifier: MIT
// GRUB Legacy from stage 1 to stage 2 (stage1/stage1.S, stage2/start.S, stage2/stage1_5.c of 0.97).
#include <fmt/format.h>
#include <algorithm>

#include "bytes/lost.hpp"
#include "loader/family.hpp"
#include "loader/legacy/menu.hpp"
#include "ondisk/legacy.hpp"

namespace herberge::loader::legacy {

namespace {

constexpr std::uint64_t sector_size = 512;
constexpr std::size_t most_stage2 = std::size_t{1} << 20U;
constexpr std::string_view waiting = "GRUB loading, please wait...";

bool contains(std::span<const std::uint8_t> bytes, std::string_view wanted) {
    return std::search(bytes.begin(), bytes.end(), wanted.begin(), wanted.end(),
                       [](std::uint8_t a, char b) { return a == static_cast<std::uint8_t>(b); }) != bytes.end();
}

struct Body {
    std::vector<std::uint8_t> bytes;  ///< behind the sector with the list
    std::vector<DiskRange> ranges;
};

/// What stands at the start of stage 1.5 and stage 2.
struct Head {
    ondisk::LegacyStage2 fields{};
    std::string version;
    std::uint32_t device = 0;  ///< stage 1.5: of the file below
    std::string file;          ///< stage 1.5: stage 2; stage 2: the configuration
};

std::string text_at(std::span<const std::uint8_t> bytes, std::size_t& at) {
    std::string out;
    while (at < bytes.size() && bytes[at] != 0 && out.size() < 256) out += static_cast<char>(bytes[at++]);
    ++at;
    return out;
}

std::optional<Head> read_head(std::span<const std::uint8_t> bytes) {
    if (bytes.size() < 0x80) return std::nullopt;
    Head head;
    head.fields = ondisk::from_bytes<ondisk::LegacyStage2>(bytes);
    if (head.fields.version_major != 3 || head.fields.version_minor != 2) return std::nullopt;
    std::size_t at = sizeof(ondisk::LegacyStage2);
    head.version = printable(text_at(bytes, at));
    if (head.fields.kind != 0) {
        head.device = ondisk::from_bytes<ondisk::little_uint32_t>(bytes, at);
        at += 4;
    }
    head.file = printable(text_at(bytes, at));
    // Stage 1.5 keeps the name of stage 2 and behind it the configuration's.
    if (const auto space = head.file.find(' '); space != std::string::npos) head.file.resize(space);
    return head;
}

/// What a stage 1.5 reads, by the number that it carries.
struct Reads {
    std::string_view name;
    Family family;  ///< None: of a kind that is not recognised here
};
Reads read_by(std::uint8_t kind) {
    switch (kind) {
        case 2: return {"ext", Family::Ext};
        case 3: return {"fat", Family::Fat};
        case 4: return {"minix", Family::None};
        case 5: return {"reiserfs", Family::None};
        case 7: return {"jfs", Family::None};
        case 8: return {"xfs", Family::Xfs};
        case 9: return {"iso9660", Family::Iso};
        default: return {"unknown", Family::None};
    }
}

class Start {
public:
    Start(const Machine& machine, const BootPlace& place, LoaderRun& out)
        : machine_(machine), place_(place), out_(out) {}

    void run(const ondisk::LegacyStage1& stage1) {
        const bool through = stage1.next_address == 0x2000;
        const std::uint64_t next = stage1.next_sector;
        out_.first_sector_text =
            fmt::format("GRUB Legacy stage 1, which loads stage {} from sector {}", through ? "1.5" : "2", next);
        out_.next_sector = next;
        auto body = read_body(next, through);
        if (!body) return;
        const auto head = read_head(body->bytes);
        if (!head) {
            loader::stop(out_, Code::LegacyStageDamaged, fmt::format("stage {} is overwritten", through ? "1.5" : "2"),
                         {Evidence{body->ranges.back(), {}, {}, "version 3.2 of its structures", "something else"}},
                         "GRUB Loading stage1.5.\n(nothing more)");
            return;
        }
        out_.route.push_back(fmt::format("GRUB Legacy stage {} at d{}@{}", through ? "1.5" : "2", place_.disk->number,
                                         next * sector_size));
        if (through) from_stage_1_5(*body, *head);
        else from_stage_2(*head, volume_of(head->fields.partition), body->ranges);
    }

private:
    std::optional<Body> read_body(std::uint64_t next, bool through) {
        const auto& disk = *place_.disk->source;
        const std::uint64_t all = disk.size() / sector_size;
        const auto first = next < all ? disk.bytes(next * sector_size, sector_size)
                                      : fail(ErrorKind::OutOfRange, "past the end of the disk");
        if (!first) {
            loader::stop(out_, Code::LegacyPointer,
                         fmt::format("stage 1 sends the firmware to sector {}, which cannot be read", next),
                         {place_.evidence(0x44, 4, fmt::format("a sector below {}", all), fmt::format("{}", next))},
                         "GRUB Read Error");
            return std::nullopt;
        }
        if (!contains(*first, through ? "stage1.5" : "stage2") || !contains(*first, "Geom")) {
            loader::stop(out_, Code::LegacyStageDamaged,
                         fmt::format("sector {}, where stage {} should begin, holds something else", next,
                                     through ? "1.5" : "2"),
                         {evidence_bytes(disk, next * sector_size, sector_size, "the code that loads the rest",
                                         "something else")},
                         "GRUB");
            return std::nullopt;
        }
        Body body;
        for (std::size_t at = sector_size - sizeof(ondisk::LegacyRun); at > 0x100; at -= sizeof(ondisk::LegacyRun)) {
            const auto run = ondisk::from_bytes<ondisk::LegacyRun>(*first, at);
            if (run.sectors == 0) break;
            const std::uint64_t start = run.start;
            const std::uint64_t length = run.sectors * sector_size;
            if (body.bytes.size() + length > most_stage2) break;
            const auto part = start < all ? disk.bytes(start * sector_size, length)
                                          : fail(ErrorKind::OutOfRange, "past the end of the disk");
            if (!part) {
                loader::stop(out_, Code::LegacyStageUnreadable,
                             fmt::format("a part of stage {} cannot be read", through ? "1.5" : "2"),
                             {evidence_error(part.error())},
                             through ? "GRUB Loading stage1.5Read Error" : "GRUB Loading stage2…Read Error");
                return std::nullopt;
            }
            body.bytes.insert(body.bytes.end(), part->begin(), part->end());
            body.ranges.push_back({place_.disk->number, start * sector_size, length});
        }
        if (body.ranges.empty()) body.ranges.push_back({place_.disk->number, next * sector_size, sector_size});
        return body;
    }

    /// The partition a device word names; the whole disk's volume for FF.
    [[nodiscard]] VolumeRef volume_of(std::uint32_t device) const {
        const std::uint32_t partition = device >> 16U & 0xFFU;
        const std::uint32_t drive = device >> 24U;
        const Disk* disk = drive == 0xFF || drive < 0x80
                               ? place_.disk
                               : machine_.drive(static_cast<int>(drive - 0x80), place_.first_drive);
        if (disk == nullptr) return nullptr;
        return machine_.volume(disk->number, partition == 0xFF ? 0 : static_cast<int>(partition) + 1);
    }

    void from_stage_1_5(const Body& body, const Head& head) {
        const unsigned partition = head.device >> 16U & 0xFFU;
        VolumeRef volume = volume_of(head.device);
        const std::string screen = fmt::format("GRUB Loading stage1.5.\n{}\n", waiting);
        if (volume == nullptr) {
            const auto lost = find_misplaced_volume(*place_.disk);
            std::vector<Evidence> evidence{evidence_bytes(
                *place_.disk->source, 446, 64, fmt::format("the partition (hd0,{})", partition), "not there")};
            std::string text =
                fmt::format("stage 1.5 looks for {} on (hd0,{}), which the table does not have", head.file, partition);
            if (lost) {
                text += fmt::format("; a file system ({}, UUID {}) begins at sector {}, where no partition does",
                                    lost->info.name(), lost->info.uuid, lost->lba);
                evidence.push_back(
                    {DiskRange{place_.disk->number, lost->lba * sector_size, 2048}, {}, {}, {}, lost->info.name()});
            }
            loader::stop(out_, Code::LegacyPartitionMissing, std::move(text), std::move(evidence), screen + "Error 22");
            return;
        }
        const Reads reads = read_by(head.fields.kind);
        const bool same_kind = volume->info.known() && volume->info.is(reads.family);
        if (plain_view(*volume) == nullptr && (same_kind || (!volume->info.known() && reads.family == Family::None))) {
            // It finds its file system, or may do so; this program does not look into it.
            out_.stop = untold(Stage::Loader,
                               fmt::format("stage 1.5 reads the {} file system in {}, which is not read here",
                                           reads.name, volume->place),
                               {evidence_place(volume->place, {}, volume->info.name())});
            return;
        }
        if (const auto lost =
                volume->info.is(Family::Ext) ? lost_within(*volume->source, 1024, 1024) : std::optional<Error>{}) {
            // It asks for the whole superblock (stage2/fsys_ext2fs.c).
            loader::stop(out_, Code::LegacyFileSystem,
                         fmt::format("the superblock of {} cannot be read: {}", volume->place, lost->what),
                         {evidence_error(*lost)}, screen + "Error 17");
            return;
        }
        if (!same_kind) {
            const auto lost = find_misplaced_volume(*place_.disk);
            loader::stop(
                out_, lost ? Code::PartitionEntryMisplaced : Code::LegacyFileSystem,
                lost ? fmt::format("(hd0,{}) does not begin where the file system ({}, UUID {}, from sector {}) does",
                                   partition, lost->info.name(), lost->info.uuid, lost->lba)
                     : fmt::format("stage 1.5 reads {} file systems and finds none in {}", reads.name, volume->place),
                {evidence_place(volume->place, fmt::format("a file system of kind {}", reads.name),
                                !volume->info.known() ? "none" : volume->info.name())},
                screen + "Error 17");
            return;
        }
        const auto file = refer(*volume, head.file, head.file, 0, 8);
        const auto source = open_file(file);
        if (file.unreadable() || (file.found() && !source)) {
            loader::stop(out_, Code::LegacyStageUnreadable,
                         fmt::format("whether stage 2 is there cannot be read: {}:{}", volume->place, head.file),
                         {evidence_place(fmt::format("{}:{}", volume->place, head.file), "readable sectors",
                                         file.error.value_or("it cannot be opened"))},
                         screen + "Error 25");
            return;
        }
        if (!source) {
            loader::stop(out_, Code::LegacyStage2Missing,
                         fmt::format("stage 2 is not there: {}:{}", volume->place, head.file),
                         {evidence_place(fmt::format("{}:{}", volume->place, head.file), "a file",
                                         file.error.value_or("unreadable"))},
                         screen + "Error 15");
            return;
        }
        out_.route.push_back(file.place);
        // The first sector of the file is the loader that stage 1.5 makes superfluous.
        const auto start = source->bytes(
            sector_size, std::min<std::uint64_t>(512, source->size() > sector_size ? source->size() - sector_size : 0));
        const auto stage2 = start ? read_head(*start) : std::nullopt;
        if (!stage2 || stage2->fields.kind != 0) {
            loader::stop(
                out_, Code::LegacyStageDamaged, fmt::format("{} is no stage 2", file.place),
                {evidence_bytes(*source, sector_size, 0x20, "version 3.2 of its structures", "something else")},
                screen + "(a reset, or nothing)");
            return;
        }
        auto ranges = ranges_of(*volume, file.file);
        ranges.insert(ranges.end(), body.ranges.begin(), body.ranges.end());
        from_stage_2(*stage2, volume, ranges);
    }

    /// What the ranges hold, as far as it can be read.
    [[nodiscard]] std::string program_in(const std::vector<DiskRange>& ranges) const {
        constexpr std::uint64_t most = std::uint64_t{1} << 20U;
        std::string out;
        for (const auto& range : ranges) {
            const Disk* disk = machine_.disk(range.disk);
            if (disk == nullptr || out.size() + range.length > most) continue;
            if (const auto bytes = disk->source->bytes(range.offset, range.length))
                out.append(bytes->begin(), bytes->end());
        }
        return out;
    }

    void from_stage_2(const Head& head, VolumeRef volume, const std::vector<DiskRange>& ranges) {
        out_.loader_text = fmt::format("stage 2 ({}) is found", head.version);
        out_.loader_evidence = {
            Evidence{ranges.front(), {}, {}, {}, fmt::format("version {}, configuration {}", head.version, head.file)}};
        out_.needs_proof = true;
        out_.last_words = waiting;
        std::string path = head.file;
        if (path.starts_with('(')) {
            // "(hd0,0)/grub/menu.lst"
            const auto close = path.find(')');
            const auto comma = path.find(',');
            if (close != std::string::npos && comma != std::string::npos && comma < close && path.starts_with("(hd"))
                volume = machine_.volume(place_.disk->number, std::atoi(path.substr(comma + 1).c_str()) + 1);
            path = close != std::string::npos ? path.substr(close + 1) : path;
        }
        out_.menu.loader = "GRUB Legacy";
        out_.menu.place = fmt::format("{}:{}", volume != nullptr ? volume->place : "?", path);
        const auto file = volume != nullptr ? refer(*volume, path, path, 0, 8)
                                            : FileReference{.written = path, .error = error_text(17)};
        const auto source = open_file(file);
        const auto text = source ? source->text(std::uint64_t{1} << 20U) : fail(ErrorKind::NotFound, "absent");
        if (file.unreadable() || (!text && text.error().unreadable())) {
            loader::stop(
                out_, Code::ConfigurationUnreadable,
                fmt::format("the configuration {} cannot be read: the loader shows its prompt", out_.menu.place),
                {evidence_place(out_.menu.place, "readable sectors", file.error.value_or(text.error().what))}, "grub>");
            return;
        }
        if (!text) {
            loader::stop(out_, Code::LegacyConfigMissing,
                         fmt::format("the configuration {} is not there: the loader shows its prompt", out_.menu.place),
                         {evidence_place(out_.menu.place, "a file", file.error.value_or(text.error().what))}, "grub>");
            return;
        }
        out_.proof = ranges_of(*volume, file.file);
        const std::string program = program_in(ranges);
        out_.menu = read_menu({machine_, place_.first_drive, place_.disk, volume, head.fields.saved_entry, 0, program},
                              *text, fmt::format("{}:{}", volume->place, file.real_path));
        if (out_.menu.entries.empty()) {
            loader::stop(out_, Code::LegacyConfigEmpty,
                         fmt::format("{} defines no entry: the loader shows its prompt", out_.menu.place),
                         {evidence_place(out_.menu.place, "a line title", "none")}, "grub>");
            return;
        }
        out_.configuration_text = fmt::format("{} gives {} entr{}", out_.menu.place, out_.menu.entries.size(),
                                              out_.menu.entries.size() == 1 ? "y" : "ies");
        if (!out_.menu.timeout) out_.configuration_text += "; it has no timeout: the menu waits until a key is pressed";
    }

    const Machine& machine_;
    const BootPlace& place_;
    LoaderRun& out_;
};

}  // namespace

bool recognise(std::span<const std::uint8_t> sector) {
    const auto head = ondisk::from_bytes<ondisk::LegacyStage1>(sector);
    if (head.version_major != 3 || head.version_minor > 2 || (head.jump[0] != 0xEB && head.jump[0] != 0xE9))
        return false;
    const bool target = head.next_address == 0x2000 || head.next_address == 0x8000;
    return target && contains(sector.subspan(0x40, 0x180), "Geom");
}

LoaderRun run(const Machine& machine, const BootPlace& place) {
    LoaderRun out;
    const auto sector = place.disk->source->bytes(place.lba * sector_size, sector_size);
    if (!sector) return out;
    out.route.push_back(fmt::format("{}: GRUB Legacy stage 1", place.text()));
    Start(machine, place, out).run(ondisk::from_bytes<ondisk::LegacyStage1>(*sector));
    return out;
}

}  // namespace herberge::loader::legacy
