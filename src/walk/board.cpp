// SPDX-License-Identifier: MIT
// A board: its ROM, the first program that this loads, and U-Boot.
#include <fmt/format.h>
#include <algorithm>

#include "artifact/boot_image.hpp"
#include "firmware/egon.hpp"
#include "loader/family.hpp"
#include "walk/routes.hpp"
#include "walk/step.hpp"

namespace herberge::walk {

namespace {

constexpr std::string_view silence = "(nothing)";

class BoardFirmware : public Firmware {
public:
    BoardFirmware(const Machine& machine, const Board& board, Source flash)
        : machine_(machine), board_(board), flash_(std::move(flash)) {}

    std::optional<Start> power_on(Ladder& ladder, Surroundings& around, std::string& /*label*/) override {
        if (started_) return std::nullopt;
        started_ = true;
        around.processor = board_.processor;
        auto start = std::make_shared<loader::uboot::Start>();
        start->board = &board_;
        start->flash = flash_;
        if (machine_.disks.empty() || machine_.disks.front().problem) {
            ladder.breaks(Code::BoardNothingToStart, "the board's first disk cannot be read",
                          {machine_.disks.empty() ? evidence_place("d1", "a disk", "none")
                                                  : evidence_error(*machine_.disks.front().problem)},
                          std::string(silence));
            return std::nullopt;
        }
        ladder.set(Stage::PartitionTable, State::NotNeeded, "the board's ROM looks at no partition");
        ladder.set(Stage::BootSector, State::NotNeeded, "the board's ROM and U-Boot start no boot sectors");
        switch (board_.rom) {
            case BoardRom::Uboot:
                ladder.set(Stage::Firmware, State::Holds,
                           fmt::format("{}: it runs at once, from outside the disks", board_.title),
                           {evidence_place(std::string(board_.source))});
                ladder.set(Stage::BootCode, State::NotNeeded, "U-Boot is the board's own first program");
                break;
            case BoardRom::Egon:
                if (!first_program(ladder) || !next_program(ladder, *start)) return std::nullopt;
                break;
        }
        return FlatStart{"U-Boot", machine_.disks.front().number, std::move(start)};
    }

    [[nodiscard]] Context context() const override { return Context(machine_); }

private:
    [[nodiscard]] const Disk& disk() const { return machine_.disks.front(); }
    [[nodiscard]] Evidence bytes(std::uint64_t at, std::uint64_t length, std::string expected = {},
                                 std::string found = {}) const {
        return evidence_bytes(*disk().source, at, length, std::move(expected), std::move(found));
    }

    /// What the ROM checks, and what shows that it then runs into nothing.
    bool first_program(Ladder& ladder) {
        const auto program = find_egon(*disk().source, board_);
        if (!program) {
            std::vector<Evidence> looked;
            for (const std::uint64_t at : board_.places)
                if (at != 0 && at + 12 <= disk().source->size())
                    looked.push_back(bytes(at + 4, 8, "eGON.BT0",
                                           hex(disk().source->bytes(at + 4, 8).value_or(std::vector<std::uint8_t>{}))));
            if (looked.empty())
                looked.push_back(evidence_place(disk().source->place(), "a first program", "too short"));
            ladder.breaks(Code::BoardNothingToStart,
                          fmt::format("the ROM of {} finds no first program on d{}", board_.title, disk().number),
                          std::move(looked), std::string(silence));
            return false;
        }
        ladder.set(Stage::Firmware, State::Holds,
                   fmt::format("the ROM of {} finds a first program at byte {}", board_.title, program->at),
                   {bytes(program->at + 4, 8, "eGON.BT0", "eGON.BT0")});
        if (program->length > board_.most_first) {
            ladder.breaks(Code::BoardProgramTooLarge,
                          fmt::format("the first program has {}, and the memory on the chip takes {}",
                                      size_text(program->length), size_text(board_.most_first)),
                          {bytes(program->at + 16, 4, fmt::format("at most {}", board_.most_first),
                                 fmt::format("{}", program->length))},
                          std::string(silence));
            return false;
        }
        if (!program->sound()) {
            ladder.breaks(Code::BoardProgramDamaged,
                          program->whole ? "the first program fails its checksum: the ROM does not start it"
                                         : "the first program's length cannot be right: the ROM does not start it",
                          {bytes(program->at + 12, 4, fmt::format("{:08x}", program->sum),
                                 fmt::format("{:08x}", static_cast<std::uint32_t>(program->header.checksum))),
                           bytes(program->at, std::max<std::uint64_t>(program->length, 32))},
                          std::string(silence));
            return false;
        }
        const bool leads_on = program->branch_to && *program->branch_to >= 16 && *program->branch_to < program->length;
        if (!leads_on) {
            ladder.breaks(
                Code::BoardProgramDamaged,
                "the first program's checksum holds, but its first instruction does not lead over its header",
                {bytes(program->at, 4, "a jump into its code",
                       program->branch_to ? fmt::format("a jump to byte {}", *program->branch_to)
                                          : fmt::format("{:08x}", static_cast<std::uint32_t>(program->header.branch)))},
                std::string(silence));
            return false;
        }
        ladder.set(Stage::BootCode, State::Holds,
                   fmt::format("the first program ({}) passes its checksum and fits into the chip's {}",
                               size_text(program->length), size_text(board_.most_first)),
                   {bytes(program->at, program->length)});
        next_at_ = program->at + std::max<std::uint64_t>(program->length, next_distance);
        return true;
    }

    /// U-Boot's own SPL (common/spl, CONFIG_SYS_MMCSD_RAW_MODE_U_BOOT_SECTOR): 32 KiB behind the place of the first
    /// program; a legacy image, an image tree, or else it takes what lies there for code.
    bool next_program(Ladder& ladder, loader::uboot::Start& start) {
        const auto source =
            slice(disk().source, next_at_, disk().source->size() - std::min(next_at_, disk().source->size()),
                  disk().source->place());
        const std::string screen = "Trying to boot from MMC1";
        if (const auto image = inspect_legacy_image(*source)) {
            if (!image->whole) {
                ladder.breaks(Code::BoardNextMissing, "U-Boot's image is longer than the disk",
                              {bytes(next_at_, 64, "its content on the disk",
                                     fmt::format("{} bytes", static_cast<std::uint32_t>(image->header.size)))},
                              screen);
                return false;
            }
            const std::uint64_t load = image->header.load;
            const std::uint64_t entry = image->header.entry;
            if (load < board_.ram_at || entry < load ||
                entry - load >= std::max<std::uint64_t>(image->header.size, 1)) {
                ladder.breaks(
                    Code::BoardNextMissing,
                    "U-Boot's image says that it is to be put where the board has no memory, or entered where it "
                    "does not lie: the first program jumps into nothing",
                    {bytes(next_at_ + 16, 8, fmt::format("memory from {:#x} on", board_.ram_at),
                           fmt::format("load {:#x}, entry {:#x}", load, entry))},
                    screen);
                return false;
            }
            start.program = slice(source, LegacyImage::data_at, image->header.size, source->place());
            std::vector<Evidence> evidence{bytes(next_at_, 64)};
            State state = State::Holds;
            std::string text = fmt::format("U-Boot lies at byte {} ({})", next_at_, size_text(image->header.size));
            if (!image->header_sound || !image->data_sound) {
                // The first program looks at neither: it may run all the same.
                state = State::Doubtful;
                text += "; its checksum does not match, which the first program does not look at";
                evidence.push_back(bytes(next_at_ + 24, 4, "the CRC-32 of its content", "another"));
            }
            ladder.set(Stage::Loader, state, std::move(text), std::move(evidence));
            overlap(ladder, next_at_ + LegacyImage::data_at + image->header.size);
            return true;
        }
        if (const auto fit = Fit::open(source)) {
            std::uint64_t end = 0;
            for (const auto& name : fit->images())
                if (const auto part = fit->image(name)) end = std::max(end, part->offset + part->length);
            start.program = slice(source, 0, end, source->place());
            ladder.set(
                Stage::Loader, State::Holds,
                fmt::format("U-Boot lies at byte {}, in an image tree of {} parts", next_at_, fit->images().size()),
                {bytes(next_at_, 40)});
            overlap(ladder, next_at_ + end);
            return true;
        }
        const auto head = source->bytes(0, std::min<std::uint64_t>(4, source->size()));
        ladder.breaks(
            Code::BoardNextMissing,
            fmt::format("at byte {}, where the first program looks, there is no image of U-Boot: it takes what "
                        "lies there for code",
                        next_at_),
            {bytes(next_at_, 4, "27 05 19 56 or d0 0d fe ed", head ? hex(*head) : std::string("unreadable"))}, screen);
        return false;
    }

    void overlap(Ladder& ladder, std::uint64_t end) const {
        for (const auto& p : disk().table.partitions) {
            const std::uint64_t begin = p.first_lba * disk().table.sector_size;
            if (p.extended() || begin >= end || begin + p.sectors * disk().table.sector_size <= next_at_) continue;
            ladder.add_finding(make_finding(
                Code::PartitionsOverlap,
                fmt::format("d{}p{} begins at byte {}, inside U-Boot, which ends at byte {}", disk().number, p.number,
                            begin, end),
                {bytes(p.entry_offset, 16, fmt::format("a begin behind byte {}", end), fmt::format("{}", begin))}));
        }
    }

    static constexpr std::uint64_t next_distance = std::uint64_t{32} << 10U;

    const Machine& machine_;
    const Board& board_;
    Source flash_;
    std::uint64_t next_at_ = 0;
    bool started_ = false;
};

}  // namespace

std::unique_ptr<Firmware> board_firmware(const Machine& machine, const Board& board, Source flash) {
    return std::make_unique<BoardFirmware>(machine, board, std::move(flash));
}

bool is_flat(const Start& start) { return std::holds_alternative<FlatStart>(start); }

Step run_flat(const Start& start, const Before& /*before*/, Context& context, Ladder& ladder) {
    const auto& own = std::get<FlatStart>(start);
    Step step;
    step.run = std::make_shared<const LoaderRun>(loader::uboot::run(context.machine, *own.uboot));
    const LoaderRun& r = *step.run;
    step.hops.push_back(own.name);
    for (const auto& finding : r.findings) ladder.add_finding(finding);
    ladder.go_on(Stage::Loader, r.loader_state, r.loader_text, r.loader_evidence);
    step.edges.push_back({own.name, loader_node(r, own.name), r.stop.has_value()});
    if (!r.stop || r.stop->stage > Stage::PartitionTable) {
        const Disk& disk = context.machine.disks.front();
        ladder.set(Stage::PartitionTable, State::Holds,
                   fmt::format("U-Boot sees {} partition{} on d{}", disk.table.partitions.size(),
                               disk.table.partitions.size() == 1 ? "" : "s", disk.number),
                   {evidence_bytes(*disk.source, 446, 64)});
    }
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
