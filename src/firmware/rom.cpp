// SPDX-License-Identifier: MIT
#include "firmware/rom.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "bytes/uniform.hpp"

namespace herberge {

namespace rom {

namespace {
constexpr const char* silence = "(nothing)";
}

Finding too_large(const Board& board, std::uint64_t size, Evidence evidence) {
    return make_finding(Code::BoardProgramTooLarge,
                        fmt::format("the first program has {}, and the memory on the chip takes {}", size_text(size),
                                    size_text(board.most_first)),
                        {std::move(evidence)}, silence);
}

Finding damaged(std::string text, std::vector<Evidence> evidence) {
    return make_finding(Code::BoardProgramDamaged, std::move(text), std::move(evidence), silence);
}

std::optional<Finding> no_code(const ByteSource& source, std::uint64_t at) {
    constexpr std::uint64_t enough = 64;
    if (at >= source.size())
        return damaged("the first program begins behind its own end", {evidence_place(source.place())});
    const std::uint64_t length = std::min(enough, source.size() - at);
    const auto bytes = source.bytes(at, length);
    if (!bytes) return damaged("the first program cannot be read", {evidence_error(bytes.error())});
    const auto first = bytes->front();
    if ((first != 0 && first != 0xFF) || !holds_only(*bytes, first)) return std::nullopt;
    return damaged("where the first program's code should begin there is none: the ROM starts into nothing",
                   {evidence_bytes(source, at, length, "instructions", fmt::format("{:02x} throughout", first))});
}

std::optional<Finding> cut(const ByteSource& source, std::uint64_t length) {
    if (length <= source.size()) return std::nullopt;
    return damaged(
        fmt::format("the first program is cut short: its head promises {}, and {} are there", size_text(length),
                    size_text(source.size())),
        {evidence_place(source.place(), fmt::format("{} bytes", length), fmt::format("{} bytes", source.size()))});
}

void take(RomSearch& out, RomProgram program) {
    if (out.program && !out.program->refused) return;
    if (!out.program) {
        out.program = std::move(program);
        return;
    }
    if (program.refused) return;
    out.passed.push_back(*out.program->refused);
    out.program = std::move(program);
}

bool says(const ByteSource& source, std::uint64_t length, std::string_view words) {
    constexpr std::uint64_t most = std::uint64_t{4} << 20U;
    const auto bytes = source.bytes(0, std::min({length, most, source.size()}));
    return bytes && std::string_view(reinterpret_cast<const char*>(bytes->data()), bytes->size()).find(words) !=
                        std::string_view::npos;
}

}  // namespace rom

namespace {

RomSearch search(const Machine& machine, const Board& board) {
    static constexpr std::pair<BoardRom, rom::Search> families[] = {
        {BoardRom::Egon, rom::egon},       {BoardRom::Rockchip, rom::rockchip},     {BoardRom::Imx, rom::imx},
        {BoardRom::Ti, rom::ti},           {BoardRom::Stm32mp, rom::stm32},         {BoardRom::Zynq, rom::zynq},
        {BoardRom::Amlogic, rom::amlogic}, {BoardRom::PartitionType, rom::by_type},
    };
    const auto* family = std::ranges::find(families, board.rom, &std::pair<BoardRom, rom::Search>::first);
    return family != std::end(families) ? family->second(machine, board) : RomSearch{};
}

/// What the ROM finds in the boot area partitions of the first disk. Which of them it looks at, if any, a register of
/// the eMMC says (EXT_CSD[179], PARTITION_CONFIG), which no image holds: the first with a first program is taken.
RomSearch search_areas(const Disk& disk, const Board& board) {
    RomSearch out;
    if (board.area_at == no_place) return out;
    Board in_area = board;
    in_area.places = {board.area_at, no_place};
    for (std::size_t i = 0; i < disk.boot_areas.size(); ++i) {
        Machine alone;
        alone.disks.emplace_back();
        alone.disks.front().number = disk.number;
        alone.disks.front().source = disk.boot_areas[i];
        auto here = search(alone, in_area);
        out.looked.insert(out.looked.end(), here.looked.begin(), here.looked.end());
        if (!here.program) continue;
        here.program->area = disk.boot_areas[i];
        const std::string area = fmt::format("{} of boot area {}", here.program->where, i + 1);
        for (auto at = here.program->text.find(here.program->where); at != std::string::npos;
             at = here.program->text.find(here.program->where, at + area.size()))
            here.program->text.replace(at, here.program->where.size(), area);
        here.program->where = area;
        rom::take(out, std::move(*here.program));
    }
    return out;
}

}  // namespace

RomSearch search_rom(const Machine& machine, const Board& board) {
    if (machine.disks.empty() || machine.disks.front().problem) return {};
    auto out = search_areas(machine.disks.front(), board);
    if (out.program && !out.program->refused) return out;
    auto rest = search(machine, board);
    out.looked.insert(out.looked.end(), rest.looked.begin(), rest.looked.end());
    if (!rest.program) return out;
    out.passed.insert(out.passed.end(), rest.passed.begin(), rest.passed.end());
    rom::take(out, std::move(*rest.program));
    return out;
}

}  // namespace herberge
