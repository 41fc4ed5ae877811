// SPDX-License-Identifier: MIT
// ROMs that look for their first program as a file, or in a partition with a name or type of its own.
#include <fmt/format.h>
#include <algorithm>

#include "firmware/rom.hpp"
#include "ondisk/roms.hpp"

namespace herberge::rom {

namespace {

/// A file in the top folder of a FAT volume, as a program; none: it is not there, and `looked` says so.
std::optional<RomProgram> file_on(const VolumeRef& volume, const std::string& name, std::vector<Evidence>& looked) {
    const std::string place = fmt::format("{}:/{}", volume->place, name);
    const bool fat = volume->as(Observer::Loader).is(Family::Fat);
    const FileSystem* fs = fat ? volume->files(Observer::Loader) : nullptr;
    const auto found = fs != nullptr ? resolve(*fs, "/" + name) : fail(ErrorKind::NotFound, "no FAT");
    if (!found) {
        looked.push_back(
            evidence_place(place, "a first program", fs != nullptr ? "absent" : "no FAT that can be read"));
        return std::nullopt;
    }
    RomProgram out;
    out.where = place;
    out.volume = volume;
    auto source = fs->open(found->file.id, place);
    if (!source) {
        out.refused = damaged(fmt::format("{} cannot be read", place), {evidence_error(source.error())});
        return out;
    }
    out.source = *source;
    out.length = out.source->size();
    const auto ranges = out.source->locate(0, std::min<std::uint64_t>(out.source->size(), 1));
    if (!ranges.empty()) out.at = ranges.front().offset;
    return out;
}

/// The partition as a program.
RomProgram partition_as_program(const Disk& disk, const Partition& partition) {
    RomProgram out;
    out.where = fmt::format("d{}p{}", disk.number, partition.number);
    out.at = partition.first_lba * disk.table.sector_size;
    const std::uint64_t size = disk.source->size();
    out.source = slice(disk.source, std::min(out.at, size),
                       std::min(partition.sectors * disk.table.sector_size, size - std::min(out.at, size)),
                       disk.source->place());
    return out;
}

}  // namespace

// --- TI -------------------------------------------------------------------------------------------------------------

namespace {

bool has_settings(const Result<ondisk::TiTocItem>& item) {
    return item && std::string_view(reinterpret_cast<const char*>(item->name.data()), 10) == "CHSETTINGS";
}

/// Behind the table that a raw image begins with, or at once: size, address, code.
RomProgram judge_ti(const Board& board, RomProgram out, bool raw) {
    const auto& source = *out.source;
    const auto item = source.load<ondisk::TiTocItem>(0);
    const std::uint64_t head_at = has_settings(item) ? sector : 0;
    const auto head = source.load<ondisk::TiImageHeader>(head_at);
    if (!head) {
        out.refused = damaged("the first program is too short for its head", {evidence_error(head.error())});
        return out;
    }
    const std::uint64_t size = head->size, address = head->address;
    const auto told = [&](std::string expected, std::string found) {
        return evidence_bytes(source, head_at, sizeof(*head), std::move(expected), std::move(found));
    };
    out.length = head_at + size;
    if (size == 0 || size == 0xFFFFFFFF || address < board.chip_ram_at ||
        address >= board.chip_ram_at + board.most_first)
        out.refused = damaged("the first program's head names no place in the chip's memory",
                              {told(fmt::format("a size, and an address from {:#x} to {:#x}", board.chip_ram_at,
                                                board.chip_ram_at + board.most_first),
                                    fmt::format("{} bytes for {:#x}", size, address))});
    else if (address + size > board.chip_ram_at + board.most_first)
        out.refused = too_large(
            board, size,
            told(fmt::format("at most {}", board.chip_ram_at + board.most_first - address), fmt::format("{}", size)));
    // The tool that makes it counts its head in.
    else if (head_at + size > source.size() + sector) out.refused = cut(source, head_at + size);
    else out.refused = no_code(source, head_at + sizeof(*head));
    out.text = fmt::format("the first program {} ({}) fits into the chip's {}", raw ? "at " + out.where : out.where,
                           size_text(size), size_text(board.most_first));
    out.evidence = {evidence_bytes(source, head_at, sizeof(*head))};
    return out;
}

}  // namespace

RomSearch ti(const Machine& machine, const Board& board) {
    RomSearch out;
    const Disk& disk = machine.disks.front();
    // Raw: a table with CHSETTINGS at one of four places (AM335x reference manual, 26.1.8.5.5).
    for (const std::uint64_t at : {0ULL, 0x20000ULL, 0x40000ULL, 0x60000ULL}) {
        const auto item = disk.source->load<ondisk::TiTocItem>(at);
        if (!has_settings(item)) {
            if (at + sizeof(*item) <= disk.source->size())
                out.looked.push_back(
                    evidence_bytes(*disk.source, at + 20, 12, "CHSETTINGS", item ? hex(item->name) : "unreadable"));
            continue;
        }
        RomProgram program;
        program.where = fmt::format("byte {}", at);
        program.at = at;
        program.source = slice(disk.source, at, disk.source->size() - at, disk.source->place());
        program = judge_ti(board, std::move(program), true);
        if (program.refused) out.passed.push_back(*program.refused);
        out.program = std::move(program);
        if (!out.program->refused) return out;
    }
    // Else the file MLO on the active partition of an MBR (26.1.8.5.6), or on a disk that is one FAT volume.
    const Partition* active = disk.table.first_active();
    const auto volume = disk.table.kind == TableKind::None ? machine.volume(disk.number, 0)
                        : active != nullptr                ? machine.volume(disk.number, active->number)
                                                           : nullptr;
    if (volume == nullptr) {
        out.looked.push_back(evidence_bytes(*disk.source, 446, 64, "an active partition with FAT", "none"));
        return out;
    }
    auto program = file_on(volume, "MLO", out.looked);
    if (!program) return out;
    if (!program->refused) program = judge_ti(board, std::move(*program), false);
    out.program = std::move(program);
    out.passed.clear();
    return out;
}

// --- Xilinx Zynq ----------------------------------------------------------------------------------------------------

RomSearch zynq(const Machine& machine, const Board& board) {
    RomSearch out;
    const Disk& disk = machine.disks.front();
    const auto volume = machine.volume(disk.number, disk.table.kind == TableKind::None ? 0 : 1);
    if (volume == nullptr) {
        out.looked.push_back(evidence_bytes(*disk.source, 446, 64, "a first partition with FAT", "none"));
        return out;
    }
    auto program = file_on(volume, "BOOT.BIN", out.looked);
    if (!program || program->refused) {
        out.program = std::move(program);
        return out;
    }
    constexpr std::uint64_t head_at = 32;
    constexpr std::uint64_t fields = 40;  // of the head, that its sum covers
    const auto& source = *program->source;
    const auto head = source.load<ondisk::ZynqHeader>(head_at);
    const auto words = source.bytes(head_at, fields);
    const auto bytes = [&](std::uint64_t at, std::uint64_t length, std::string expected, std::string found) {
        return evidence_bytes(source, head_at + at, length, std::move(expected), std::move(found));
    };
    if (!head || !words) {
        program->refused =
            damaged(fmt::format("{} is too short for a boot header", program->where), {evidence_place(program->where)});
    } else if (head->width != 0xAA995566 || hex(head->identity, "") != "584e4c58") {
        program->refused = damaged(fmt::format("{} carries no boot header", program->where),
                                   {bytes(0, 8, "66 55 99 aa 58 4e 4c 58", hex(std::span(*words).first(8)))});
    } else {
        std::uint32_t sum = 0;
        for (std::size_t i = 0; i < fields; i += 4) sum += ondisk::from_bytes<ondisk::little_uint32_t>(*words, i);
        const std::uint64_t at = head->program_at, size = head->program_size;
        program->length = source.size();
        if (~sum != head->checksum)
            program->refused = damaged("the boot header fails its checksum: the ROM does not start it",
                                       {bytes(40, 4, fmt::format("{:08x}", ~sum),
                                              fmt::format("{:08x}", static_cast<std::uint32_t>(head->checksum)))});
        else if (head->encryption != 0) {
            program->state = State::Unknown;
            program->whole = true;
        } else if (size > board.most_first)
            program->refused = too_large(
                board, size, bytes(20, 4, fmt::format("at most {}", board.most_first), fmt::format("{}", size)));
        // The size counts what stands before the program, too.
        else if (size > source.size()) program->refused = cut(source, size);
        else program->refused = no_code(source, at);
    }
    program->whole = program->whole || !says(source, source.size(), "U-Boot SPL");
    program->text =
        program->state == State::Unknown
            ? fmt::format("{} is enciphered with a key that the chip holds", program->where)
            : fmt::format("the boot header of {} passes its checksum, and its first program fits into the chip's {}",
                          program->where, size_text(board.most_first));
    program->evidence = {
        evidence_bytes(source, 0, std::min<std::uint64_t>(source.size(), head_at + sizeof(ondisk::ZynqHeader)))};
    out.program = std::move(program);
    return out;
}

// --- STM32MP --------------------------------------------------------------------------------------------------------

namespace {

RomProgram judge_stm32(const Board& board, RomProgram out) {
    const auto& source = *out.source;
    const auto head = source.load<ondisk::Stm32Header>(0);
    const auto bytes = [&](std::uint64_t at, std::uint64_t length, std::string expected, std::string found) {
        return evidence_bytes(source, at, length, std::move(expected), std::move(found));
    };
    if (!head || std::string_view(reinterpret_cast<const char*>(head->magic.data()), 4) != "STM2") {
        out.refused = damaged(fmt::format("{} does not begin with the mark of a first program", out.where),
                              {bytes(0, 4, "STM2", head ? hex(head->magic) : std::string("unreadable"))});
        return out;
    }
    const std::uint64_t length = head->length;
    out.length = sizeof(*head) + length;
    const auto content = out.length <= source.size() ? source.bytes(sizeof(*head), length)
                                                     : fail(ErrorKind::OutOfRange, "behind the end");
    std::uint32_t sum = 0;
    if (content)
        for (const auto byte : *content) sum += byte;
    if (head->version != 0x00010000)
        out.refused =
            damaged("the head of the first program has a version that this ROM does not take",
                    {bytes(72, 4, "00010000", fmt::format("{:08x}", static_cast<std::uint32_t>(head->version)))});
    else if (length > board.most_first)
        out.refused = too_large(board, length,
                                bytes(76, 4, fmt::format("at most {}", board.most_first), fmt::format("{}", length)));
    else if (!content) out.refused = cut(source, out.length);
    else if (sum != head->checksum)
        out.refused = damaged("the first program fails its checksum: the ROM does not start it",
                              {bytes(68, 4, fmt::format("{:08x}", sum),
                                     fmt::format("{:08x}", static_cast<std::uint32_t>(head->checksum))),
                               evidence_bytes(source, sizeof(*head), length)});
    out.text = fmt::format("the first program {} {} ({}) passes its checksum and fits into the chip's {}",
                           out.where.starts_with("byte") ? "at" : "in", out.where, size_text(length),
                           size_text(board.most_first));
    out.evidence = {evidence_bytes(source, 0, sizeof(*head))};
    return out;
}

}  // namespace

RomSearch stm32(const Machine& machine, const Board& board) {
    RomSearch out;
    const Disk& disk = machine.disks.front();
    std::vector<RomProgram> copies;
    if (disk.table.kind == TableKind::Gpt) {
        // The first two partitions whose names begin with "fsbl".
        for (const auto& p : disk.table.partitions)
            if (lower_text(p.name).starts_with("fsbl") && copies.size() < 2)
                copies.push_back(partition_as_program(disk, p));
        if (copies.empty())
            out.looked.push_back(
                evidence_place(fmt::format("d{}", disk.number), "a GPT partition named fsbl1 or fsbl2", "none"));
    } else {
        // Without a GPT the ROM looks at fixed bytes.
        for (const std::uint64_t at : board.places) {
            if (at == no_place) continue;
            RomProgram raw;
            raw.where = fmt::format("byte {}", at);
            raw.at = at;
            if (raw.at >= disk.source->size()) continue;
            raw.source = slice(disk.source, raw.at, disk.source->size() - raw.at, disk.source->place());
            const auto mark = raw.source->bytes(0, 4);
            if (mark && hex(*mark, "") == "53544d32") copies.push_back(std::move(raw));
            else out.looked.push_back(evidence_bytes(*disk.source, at, 4, "STM2", mark ? hex(*mark) : "unreadable"));
        }
    }
    for (auto& copy : copies) take(out, judge_stm32(board, std::move(copy)));
    return out;
}

// --- RISC-V: partitions by type -------------------------------------------------------------------------------------

RomSearch by_type(const Machine& machine, const Board& board) {
    RomSearch out;
    const Disk& disk = machine.disks.front();
    const auto found =
        disk.table.kind == TableKind::Gpt
            ? std::ranges::find_if(disk.table.partitions,
                                   [&](const Partition& p) { return lower_text(p.type_guid) == board.first_type; })
            : disk.table.partitions.end();
    if (found == disk.table.partitions.end()) {
        out.looked.push_back(evidence_place(fmt::format("d{}", disk.number),
                                            fmt::format("a GPT partition of type {}", board.first_type),
                                            disk.table.kind == TableKind::Gpt ? "none" : "no GPT"));
        return out;
    }
    auto program = partition_as_program(disk, *found);
    program.length = program.source->size();
    std::uint64_t code_at = 0;
    const auto head = program.source->load<ondisk::StarfiveHeader>(0);
    if (board.rom_head == RomHead::Starfive) {
        if (!head || head->version != 0x01010101) {
            program.refused =
                damaged(fmt::format("{} does not begin with the head of a first program", program.where),
                        {evidence_bytes(
                            *program.source, 644, 4, "01 01 01 01",
                            head ? fmt::format("{:08x}", static_cast<std::uint32_t>(head->version)) : "unreadable")});
        } else {
            code_at = head->program_at;
            program.length = code_at + head->size;
            if (head->size > board.most_first)
                program.refused = too_large(board, head->size, evidence_bytes(*program.source, 648, 4));
            else program.refused = cut(*program.source, program.length);
        }
    }
    if (!program.refused) program.refused = no_code(*program.source, code_at);
    program.text = fmt::format("the first program lies in {}, by that partition's type", program.where);
    program.evidence = {evidence_bytes(*disk.source, found->entry_offset, 128)};
    out.program = std::move(program);
    return out;
}

}  // namespace herberge::rom
