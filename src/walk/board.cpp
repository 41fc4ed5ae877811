// SPDX-License-Identifier: MIT
// A board: its ROM, the first program that this loads, and U-Boot.
#include <fmt/format.h>
#include <algorithm>

#include "firmware/rom.hpp"
#include "loader/uboot/uboot.hpp"
#include "loader/videocore/videocore.hpp"
#include "walk/board_next.hpp"
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
        if (machine_.disks.empty() || machine_.disks.front().problem) {
            ladder.breaks(Code::BoardNothingToStart, "the board's first disk cannot be read",
                          {machine_.disks.empty() ? evidence_place("d1", "a disk", "none")
                                                  : evidence_error(*machine_.disks.front().problem)},
                          std::string(silence));
            return std::nullopt;
        }
        if (board_.rom == BoardRom::VideoCore) return raspberry(ladder);
        ladder.set(Stage::PartitionTable, State::NotNeeded, "the board's ROM looks at no partition");
        ladder.set(Stage::BootSector, State::NotNeeded, "the board's ROM and U-Boot start no boot sectors");
        auto start = std::make_shared<loader::uboot::Start>();
        start->board = &board_;
        start->flash = flash_;
        std::vector<std::string> before;
        if (board_.rom == BoardRom::Uboot) {
            ladder.set(Stage::Firmware, State::Holds,
                       fmt::format("{}: it runs at once, from outside the disks", board_.title),
                       {evidence_place(std::string(board_.source))});
            ladder.set(Stage::BootCode, State::NotNeeded, "U-Boot is the board's own first program");
        } else {
            const auto program = first_program(ladder);
            if (!program || !find_next(machine_, board_, *program, ladder, *start)) return std::nullopt;
            start->first =
                slice(program->source, 0, std::min(program->length, program->source->size()), program->source->place());
            before = {fmt::format("ROM of {}", board_.title), fmt::format("first program ({})", program->where)};
        }
        return FlatStart{"U-Boot", disk().number,
                         [start](const Machine& machine) { return loader::uboot::run(machine, *start); },
                         std::move(before)};
    }

    [[nodiscard]] Context context() const override {
        Context out(machine_);
        out.efi.firmware = efi_machine_for(board_.processor).machine;
        return out;
    }

private:
    [[nodiscard]] const Disk& disk() const { return machine_.disks.front(); }

    /// What the ROM checks, and what shows that it then runs into nothing.
    std::optional<RomProgram> first_program(Ladder& ladder) const {
        auto search = search_rom(machine_, board_);
        if (!search.program) {
            if (search.looked.empty())
                search.looked.push_back(evidence_place(disk().source->place(), "a first program", "too short"));
            ladder.breaks(Code::BoardNothingToStart,
                          fmt::format("the ROM of {} finds no first program on d{}", board_.title, disk().number),
                          std::move(search.looked), std::string(silence));
            return std::nullopt;
        }
        auto& program = *search.program;
        ladder.set(
            Stage::Firmware, State::Holds,
            fmt::format("the ROM of {} finds a first program {} {}", board_.title,
                        program.volume != nullptr || program.where.starts_with('d') ? "in" : "at", program.where),
            program.evidence.empty() ? std::vector{evidence_place(program.where)} : program.evidence);
        if (program.refused) {
            ladder.set(broken(*program.refused));
            return std::nullopt;
        }
        std::string text = program.text;
        for (const auto& passed : search.passed)
            text += fmt::format("; an earlier one was passed over: {}", passed.text);
        ladder.set(Stage::BootCode, program.state, std::move(text), program.evidence);
        return std::move(program);
    }

    /// The Raspberry Pi's ROM or EEPROM: files on a FAT volume.
    std::optional<Start> raspberry(Ladder& ladder) const {
        constexpr const char* no_file = "(the green light blinks four times, again and again)";
        namespace videocore = loader::videocore;
        ladder.set(Stage::BootSector, State::NotNeeded, "the board's firmware starts no boot sectors");
        const auto volume = videocore::boot_volume(machine_);
        if (volume == nullptr) {
            ladder.breaks(
                Code::BoardNothingToStart, fmt::format("{} finds no FAT volume on d{}", board_.title, disk().number),
                {evidence_bytes(*disk().source, 446, 64, "a partition with FAT", "none")}, std::string(silence));
            return std::nullopt;
        }
        ladder.set(Stage::PartitionTable, State::Holds, fmt::format("the first volume with FAT is {}", volume->place),
                   {evidence_bytes(*disk().source, 446, 64)});
        std::vector<Evidence> there;
        for (const auto& file : videocore::firmware_files(*volume, board_)) {
            if (file.found()) {
                there.push_back(evidence_place(file.place, {}, size_text(file.size)));
                continue;
            }
            const bool first = file.written == "bootcode.bin";
            auto why = make_finding(first ? Code::BoardNothingToStart : Code::BoardNextMissing,
                                    fmt::format("{} needs {}, which is not there", board_.title, file.place),
                                    {evidence_place(file.place, "a file", *file.error)},
                                    first ? std::string(silence) : no_file);
            if (!first)
                ladder.set(Stage::Firmware, State::Holds, fmt::format("{} takes {}", board_.title, volume->place),
                           {evidence_place(volume->place)});
            ladder.set(broken(std::move(why)));
            return std::nullopt;
        }
        ladder.set(Stage::Firmware, State::Holds, fmt::format("{} takes {}", board_.title, volume->place),
                   {evidence_place(volume->place)});
        if (there.empty())
            ladder.set(Stage::BootCode, State::Holds, "the firmware itself lies in the board's EEPROM",
                       {evidence_place(volume->place)});
        else
            ladder.set(Stage::BootCode, State::Holds, fmt::format("the firmware's own files are on {}", volume->place),
                       std::move(there));
        return FlatStart{
            "the Raspberry Pi's firmware",
            disk().number,
            [volume, board = &board_](const Machine& machine) { return videocore::run(machine, *volume, *board); },
            {}};
    }

    const Machine& machine_;
    const Board& board_;
    Source flash_;
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
    step.run = std::make_shared<const LoaderRun>(own.run(context.machine));
    const LoaderRun& r = *step.run;
    step.hops.push_back(own.name);
    for (const auto& finding : r.findings) ladder.add_finding(finding);
    ladder.go_on(Stage::Loader, r.loader_state, r.loader_text, r.loader_evidence);
    step.edges.push_back({own.name, loader_node(r, own.name), r.stop.has_value()});
    if (!r.stop || r.stop->stage > Stage::PartitionTable) {
        const Disk& disk = context.machine.disks.front();
        ladder.set(Stage::PartitionTable, State::Holds,
                   fmt::format("{} sees {} partition{} on d{}", r.name, disk.table.partitions.size(),
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
