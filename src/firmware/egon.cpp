// SPDX-License-Identifier: MIT
#include "firmware/egon.hpp"

#include <algorithm>

namespace herberge {

namespace {

constexpr std::string_view mark = "eGON.BT0";
constexpr std::uint32_t stamp = 0x5F0A6C39;
constexpr std::uint64_t most = std::uint64_t{1} << 20U;

/// The target of a branch of 32-bit ARM ("b", condition always), counted from the instruction.
std::optional<std::uint32_t> branch_target(std::uint32_t instruction) {
    if ((instruction & 0xFF000000U) != 0xEA000000U) return std::nullopt;
    std::int64_t words = instruction & 0xFFFFFFU;
    if (words >= 0x800000) words -= 0x1000000;
    return static_cast<std::uint32_t>(8 + words * 4);
}

}  // namespace

std::optional<EgonProgram> find_egon(const ByteSource& disk, const Board& board) {
    for (const std::uint64_t at : board.places) {
        if (at == no_place) continue;
        const auto header = disk.load<ondisk::EgonHeader>(at);
        if (!header || !std::equal(mark.begin(), mark.end(), header->magic.begin())) continue;
        EgonProgram out;
        out.at = at;
        out.header = *header;
        out.length = header->length;
        out.branch_to = branch_target(header->branch);
        if (out.length < sizeof(*header) || out.length % 4 != 0 || out.length > most) return out;
        const auto bytes = disk.bytes(at, out.length);
        if (!bytes) return out;
        out.whole = true;
        out.sum = stamp - header->checksum;
        for (std::size_t i = 0; i < bytes->size(); i += 4)
            out.sum += ondisk::from_bytes<ondisk::little_uint32_t>(*bytes, i);
        return out;
    }
    return std::nullopt;
}

}  // namespace herberge
