// SPDX-License-Identifier: MIT
#include "system/lost_root.hpp"

#include <fmt/format.h>

#include "bytes/lost.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t page = 4096;
constexpr std::uint64_t looked_at = 0x11000;  // where the last mark can end: 64 KiB and a block behind it

/// Bytes from the disk's begin on that the kernel reads of its table, in whole pages.
std::uint64_t table_bytes(const PartitionTable& table) {
    if (table.kind == TableKind::Mbr) return page;
    if (table.kind != TableKind::Gpt) return 0;
    constexpr std::uint64_t entries = std::uint64_t{128} * 128;
    return (2 * std::uint64_t{table.sector_size} + entries + page - 1) / page * page;
}

/// What is lost of the table on the way to a partition: of its begin, or of a link of the chain of logical ones.
std::optional<Error> lost_of_table(const Disk& disk, int partition) {
    if (auto lost = lost_within(*disk.source, 0, table_bytes(disk.table))) return lost;
    for (const auto& p : disk.table.partitions)
        if (p.logical && p.number <= partition)
            if (auto lost = lost_within(*disk.source, p.entry_offset / page * page, page)) return lost;
    return std::nullopt;
}

}  // namespace

std::optional<RootLoss> root_loss(const Machine& machine, const RootReference& root, bool by_program) {
    const Disk* disk = root.volume != nullptr ? machine.disk(root.volume->disk) : nullptr;
    if (disk != nullptr && root.volume->partition > 0 && !disk->optical)
        if (auto lost = lost_of_table(*disk, root.volume->partition))
            return RootLoss{
                std::move(*lost),
                fmt::format("the kernel does not see {}: it reads the table in pages of 4 KiB, and a part of "
                            "one cannot be read",
                            root.volume->place),
                true};
    using Kind = RootReference::Kind;
    if (root.volume == nullptr || !by_program || (root.kind != Kind::Uuid && root.kind != Kind::Label))
        return std::nullopt;
    const auto text = [&](std::string_view end) {
        return fmt::format("a sector at the begin of {} cannot be read, and what looks for root={} there {}",
                           root.volume->place, root.written, end);
    };
    if (auto lost = lost_within(*root.volume->source, 0, page))
        return RootLoss{std::move(*lost), text("gives up"), true};
    if (auto lost = lost_within(*root.volume->source, page, looked_at - page))
        return RootLoss{std::move(*lost), text("may give up"), false};
    return std::nullopt;
}

}  // namespace herberge
