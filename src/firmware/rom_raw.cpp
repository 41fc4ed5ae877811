// SPDX-License-Identifier: MIT
// ROMs that look for their first program at fixed bytes of the disk.
#include <fmt/format.h>
#include <algorithm>
#include <numeric>

#include <herberge/digest.hpp>

#include "firmware/egon.hpp"
#include "firmware/rom.hpp"
#include "ondisk/roms.hpp"

namespace herberge::rom {

namespace {

/// The rest of the disk from `at` on; null: it ends before.
Source rest_of(const Machine& machine, std::uint64_t at) {
    const auto& disk = machine.disks.front().source;
    return at < disk->size() ? slice(disk, at, disk->size() - at, disk->place()) : nullptr;
}

Evidence looked_at(const ByteSource& disk, std::uint64_t at, std::uint64_t length, std::string expected) {
    if (at >= disk.size() || length > disk.size() - at)
        return evidence_place(disk.place(), std::move(expected), "the disk ends before");
    const auto bytes = disk.bytes(at, length);
    return evidence_bytes(disk, at, length, std::move(expected), bytes ? hex(*bytes) : std::string("unreadable"));
}

RomProgram begun(const Machine& machine, std::uint64_t at) {
    RomProgram out;
    out.where = fmt::format("byte {}", at);
    out.at = at;
    out.source = rest_of(machine, at);
    return out;
}

}  // namespace

RomSearch egon(const Machine& machine, const Board& board) {
    RomSearch out;
    const auto& disk = *machine.disks.front().source;
    const auto found = find_egon(disk, board);
    if (!found) {
        for (const std::uint64_t at : board.places)
            if (at != no_place && at + 12 <= disk.size()) out.looked.push_back(looked_at(disk, at + 4, 8, "eGON.BT0"));
        return out;
    }
    auto program = begun(machine, found->at);
    program.length = found->length;
    const auto bytes = [&](std::uint64_t at, std::uint64_t length, std::string expected, std::string is) {
        return evidence_bytes(disk, found->at + at, length, std::move(expected), std::move(is));
    };
    const bool leads_on = found->branch_to && *found->branch_to >= 16 && *found->branch_to < found->length;
    if (found->length > board.most_first)
        program.refused =
            too_large(board, found->length,
                      bytes(16, 4, fmt::format("at most {}", board.most_first), fmt::format("{}", found->length)));
    else if (!found->sound())
        program.refused =
            damaged(found->whole ? "the first program fails its checksum: the ROM does not start it"
                                 : "the first program's length cannot be right: the ROM does not start it",
                    {bytes(12, 4, fmt::format("{:08x}", found->sum),
                           fmt::format("{:08x}", static_cast<std::uint32_t>(found->header.checksum))),
                     bytes(0, std::max<std::uint64_t>(found->length, 32), {}, {})});
    else if (!leads_on)
        program.refused = damaged(
            "the first program's checksum holds, but its first instruction does not lead over its header",
            {bytes(0, 4, "a jump into its code",
                   found->branch_to ? fmt::format("a jump to byte {}", *found->branch_to)
                                    : fmt::format("{:08x}", static_cast<std::uint32_t>(found->header.branch)))});
    program.text = fmt::format("the first program ({}) passes its checksum and fits into the chip's {}",
                               size_text(found->length), size_text(board.most_first));
    program.evidence = {evidence_bytes(disk, found->at, found->length)};
    take(out, std::move(program));
    return out;
}

// --- Rockchip -------------------------------------------------------------------------------------------------------

namespace {

/// The head as the ROM deciphers it (RC4; the key stands in U-Boot's tools/rkcommon.c).
std::optional<ondisk::RockchipHeader> deciphered(const ByteSource& source) {
    constexpr std::array<std::uint8_t, 16> key = {124, 78, 3, 4, 85, 5, 9, 7, 45, 44, 123, 56, 23, 13, 23, 17};
    auto bytes = source.bytes(0, std::min<std::uint64_t>(sector, source.size()));
    if (!bytes || bytes->size() < sector) return std::nullopt;
    std::array<std::uint8_t, 256> state{};
    std::iota(state.begin(), state.end(), std::uint8_t{0});
    for (std::size_t i = 0, j = 0; i < state.size(); ++i) {
        j = (j + state[i] + key[i % key.size()]) % state.size();
        std::swap(state[i], state[j]);
    }
    std::size_t i = 0, j = 0;
    for (auto& byte : *bytes) {
        i = (i + 1) % state.size();
        j = (j + state[i]) % state.size();
        std::swap(state[i], state[j]);
        byte ^= state[(std::size_t{state[i]} + state[j]) % state.size()];
    }
    const auto out = ondisk::from_bytes<ondisk::RockchipHeader>(*bytes);
    return out.magic == 0x0FF0AA55 ? std::optional(out) : std::nullopt;
}

/// Size and code of a program inside an ID block; numbers in sectors.
std::optional<Finding> judge_rockchip(const Board& board, const ByteSource& source, std::uint64_t at,
                                      std::uint64_t size, Evidence told) {
    if (size == 0 || at == 0) return damaged("the ID block names no first program", {std::move(told)});
    if (size * sector > board.most_first) return too_large(board, size * sector, std::move(told));
    if (auto why = cut(source, (at + size) * sector)) return why;
    return no_code(source, at * sector + 4);
}

RomProgram old_rockchip(const Machine& machine, const Board& board, RomProgram out,
                        const ondisk::RockchipHeader& head) {
    const auto& disk = *machine.disks.front().source;
    const std::uint64_t begin = head.program_at;
    const std::uint64_t size = head.program_size;
    out.length = (begin + std::max<std::uint64_t>(head.whole_size, size)) * sector;
    // Rockchip's chips of this generation want their own tag before the code; the plain one shows it.
    out.refused = judge_rockchip(
        board, *out.source, begin, size,
        evidence_bytes(disk, out.at + 506, 2, fmt::format("at most {} sectors", board.most_first / sector),
                       fmt::format("{} sectors", size)));
    if (!out.refused) out.refused = cut(*out.source, out.length);
    const auto tag =
        head.plain == 1 && !out.refused ? out.source->bytes(begin * sector, 4) : fail(ErrorKind::NotFound, "none");
    if (tag && ((*tag)[0] != 'R' || (*tag)[1] != 'K')) {
        out.state = State::Doubtful;
        out.evidence.push_back(evidence_bytes(disk, out.at + begin * sector, 4, "a tag: RK and two digits", hex(*tag)));
    }
    out.text =
        fmt::format("the ID block at {} deciphers, and its first program ({}) fits into the chip's {}{}", out.where,
                    size_text(size * sector), size_text(board.most_first),
                    out.state == State::Doubtful ? "; but it lacks the tag that ROMs of this family look for" : "");
    out.evidence.insert(out.evidence.begin(), evidence_bytes(disk, out.at, sector));
    return out;
}

RomProgram new_rockchip(const Machine& machine, const Board& board, RomProgram out,
                        const ondisk::RockchipHeader2& head) {
    const auto& disk = *machine.disks.front().source;
    constexpr std::size_t most_programs = 4;
    const std::size_t programs = std::min<std::size_t>(head.programs, most_programs);
    const auto program = [&](std::size_t i) {
        return ondisk::from_bytes<ondisk::RockchipProgram>(head.table, i * sizeof(ondisk::RockchipProgram));
    };
    constexpr std::uint32_t by_sha256 = 1;
    const auto kind = head.flags & 0xFU;
    bool checked = kind == by_sha256 && programs > 0;
    for (std::size_t i = 0; i < programs && !out.refused; ++i) {
        const auto one = program(i);
        const std::uint64_t told_at = out.at + 120 + i * sizeof(one);
        const std::uint64_t most = i == 0 ? board.most_first : ~std::uint64_t{0};
        const std::uint64_t begin = one.at, size = one.size;
        out.length = std::max(out.length, (begin + size) * sector);
        if (size * sector > most) out.refused = too_large(board, size * sector, evidence_bytes(disk, told_at + 2, 2));
        else out.refused = cut(*out.source, (begin + size) * sector);
        if (out.refused || kind != by_sha256) continue;
        const auto digest = sha256_of(*slice(out.source, begin * sector, size * sector, out.source->place()));
        const std::string told = hex(std::span(one.hash).first(32), "");
        if (digest.empty())
            out.refused = damaged("the first program cannot be read",
                                  {evidence_bytes(*out.source, begin * sector, size * sector)});
        else if (digest != told)
            out.refused = damaged("the first program fails its SHA-256: the ROM does not start it",
                                  {evidence_bytes(disk, told_at + 24, 32, digest, told),
                                   evidence_bytes(*out.source, begin * sector, size * sector)});
    }
    if (programs == 0)
        out.refused =
            damaged("the ID block names no first program", {evidence_bytes(disk, out.at + 10, 2, "1 to 4", "0")});
    if (!out.refused) out.refused = no_code(*out.source, program(0).at * sector);
    out.text = fmt::format("the ID block at {} names {} program{} ({}){}", out.where, programs,
                           programs == 1 ? "" : "s", size_text(out.length), checked ? ", and their SHA-256 match" : "");
    out.evidence = {evidence_bytes(disk, out.at, sizeof(head))};
    return out;
}

}  // namespace

RomSearch rockchip(const Machine& machine, const Board& board) {
    RomSearch out;
    const auto& disk = *machine.disks.front().source;
    for (const std::uint64_t at : board.places) {
        if (at == no_place) continue;
        auto program = begun(machine, at);
        if (program.source == nullptr) continue;
        const auto newer = program.source->load<ondisk::RockchipHeader2>(0);
        const bool is_newer =
            newer && std::string_view(reinterpret_cast<const char*>(newer->magic.data()), 4) == "RKNS";
        if (is_newer) take(out, new_rockchip(machine, board, std::move(program), *newer));
        else if (const auto head = deciphered(*program.source))
            take(out, old_rockchip(machine, board, std::move(program), *head));
        else out.looked.push_back(looked_at(disk, at, 4, "an ID block: 3b 8c dc fc or RKNS"));
    }
    return out;
}

// --- NXP i.MX -------------------------------------------------------------------------------------------------------

namespace {

RomProgram judge_imx(const Machine& machine, const Board& board, RomProgram out, const ondisk::ImxVectorTable& table) {
    const auto& disk = *machine.disks.front().source;
    const std::uint64_t self = table.self, boot = table.boot_data, entry = table.entry;
    const auto wrong = [&](std::string text, std::uint64_t at, std::uint64_t length, std::string expected,
                           std::string found) {
        out.refused = damaged(std::move(text),
                              {evidence_bytes(disk, out.at + at, length, std::move(expected), std::move(found))});
        return out;
    };
    if (boot <= self || boot - self > 4096)
        return wrong("the image vector table's pointer to its boot data leads elsewhere", 16, 4,
                     fmt::format("a little above {:#x}", self), fmt::format("{:#x}", boot));
    const auto data = out.source->load<ondisk::ImxBootData>(boot - self);
    if (!data) {
        out.refused = damaged("the boot data of the image vector table cannot be read", {evidence_error(data.error())});
        return out;
    }
    const std::uint64_t start = data->start, length = data->length;
    const std::uint64_t data_at = boot - self;
    // What lies before the table is loaded with it (reference manual, 8.7.1.2).
    if (start > self || self - start > out.at)
        return wrong("the boot data let the image begin where it does not", data_at, 4,
                     fmt::format("{:#x} or up to {} bytes less", self, out.at), fmt::format("{:#x}", start));
    const std::uint64_t before = self - start;
    if (length <= before || entry < start || entry - start >= length)
        return wrong("the image is entered where it does not lie", 4, 4,
                     fmt::format("{:#x} to {:#x}", start, start + length), fmt::format("{:#x}", entry));
    out.length = length - before;
    const bool on_chip = start >= board.chip_ram_at && start - board.chip_ram_at < board.most_first + before;
    const bool in_ram = start >= board.ram_at;
    if (!on_chip && !in_ram)
        return wrong("the image is to be put where this chip has no memory", data_at, 4,
                     fmt::format("{:#x} on, or {:#x} on", board.chip_ram_at, board.ram_at),
                     fmt::format("{:#x}", start));
    if (on_chip && start + length > board.chip_ram_at + board.most_first) {
        out.refused =
            too_large(board, start + length - board.chip_ram_at, evidence_bytes(disk, out.at + data_at + 4, 4));
        return out;
    }
    // Lengths are rounded up: the last block may lie beyond the medium.
    constexpr std::uint64_t slack = 4096;
    if (out.length > out.source->size() + slack) {
        out.refused = cut(*out.source, out.length);
        return out;
    }
    if (table.device_data != 0) {
        const std::uint64_t list = table.device_data;
        const auto tag = list > self && list - self < out.length ? out.source->bytes(list - self, 4)
                                                                 : fail(ErrorKind::NotFound, "none");
        if (!tag || (*tag)[0] != 0xD2)
            return wrong("the list that sets up memory is not where the image vector table says: memory stays off", 12,
                         4, "a list that begins with d2", tag ? hex(*tag) : fmt::format("{:#x}", list));
    }
    if (entry >= self) out.refused = no_code(*out.source, entry - self);
    out.whole = in_ram;
    out.text = fmt::format("the image vector table at {} leads to a program of {} for {:#x}{}", out.where,
                           size_text(out.length), start,
                           table.signature != 0 ? "; it carries a signature, which only a closed chip looks at" : "");
    out.evidence = {evidence_bytes(disk, out.at, sizeof(table)), evidence_bytes(disk, out.at + data_at, sizeof(*data))};
    return out;
}

}  // namespace

RomSearch imx(const Machine& machine, const Board& board) {
    RomSearch out;
    const auto& disk = *machine.disks.front().source;
    for (const std::uint64_t at : board.places) {
        if (at == no_place) continue;
        auto program = begun(machine, at);
        const auto table = program.source != nullptr ? program.source->load<ondisk::ImxVectorTable>(0)
                                                     : fail(ErrorKind::OutOfRange, "behind the end");
        if (!table || table->tag != 0xD1 || table->length != sizeof(*table) || (table->version & 0xF0U) != 0x40) {
            out.looked.push_back(looked_at(disk, at, 4, "d1 00 20 40 (an image vector table)"));
            continue;
        }
        take(out, judge_imx(machine, board, std::move(program), *table));
    }
    return out;
}

// --- Amlogic --------------------------------------------------------------------------------------------------------

RomSearch amlogic(const Machine& machine, const Board& board) {
    constexpr std::uint64_t mark_at = 16;
    constexpr std::uint64_t second_stage = std::uint64_t{48} << 10U;
    RomSearch out;
    const auto& disk = *machine.disks.front().source;
    for (const std::uint64_t at : board.places) {
        if (at == no_place) continue;
        auto program = begun(machine, at);
        const auto mark = program.source != nullptr && program.source->size() >= mark_at + 4
                              ? program.source->bytes(mark_at, 4)
                              : fail(ErrorKind::OutOfRange, "behind the end");
        if (!mark || hex(*mark, "") != "40414d4c") {
            out.looked.push_back(looked_at(disk, at + mark_at, 4, "@AML"));
            continue;
        }
        program.length = second_stage;
        program.whole = true;
        program.refused = cut(*program.source, program.length);
        program.state = State::Doubtful;
        program.text = fmt::format(
            "a package with the mark @AML begins at {}; what is in it is enciphered, and not judged", program.where);
        program.evidence = {evidence_bytes(disk, at, 64)};
        take(out, std::move(program));
    }
    return out;
}

}  // namespace herberge::rom
