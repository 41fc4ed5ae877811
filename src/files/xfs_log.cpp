// SPDX-License-Identifier: MIT
#include "files/xfs_log.hpp"

#include <algorithm>

#include "ondisk/xfs.hpp"

namespace herberge::xfs {

namespace {

constexpr std::uint64_t sector = 512;  // the log counts in these, whatever the disk has
constexpr std::uint32_t record_magic = 0xFEEDBABE;

/// The round of the log in which a sector was written: its first word, or its second where a record begins.
Result<std::uint32_t> cycle_of(const ByteSource& volume, std::uint64_t at) {
    const auto head = volume.load<ondisk::XfsLogRecord>(at);
    if (!head) return tl::unexpected(head.error());
    return head->magic == record_magic ? std::uint32_t{head->cycle} : std::uint32_t{head->magic};
}

}  // namespace

Result<bool> log_is_clean(const ByteSource& volume, std::uint64_t offset, std::uint64_t size) {
    const std::uint64_t count = size / sector;
    if (count < 4 || offset > volume.size() || size > volume.size() - offset)
        return fail(ErrorKind::Malformed, "the log lies outside the volume", volume.place());
    // The head is the first sector of a former round; what lies before it was written in this one.
    const auto first = cycle_of(volume, offset);
    if (!first) return tl::unexpected(first.error());
    std::uint64_t low = 1;
    for (std::uint64_t high = count; low < high;) {
        const std::uint64_t middle = low + (high - low) / 2;
        const auto cycle = cycle_of(volume, offset + middle * sector);
        if (!cycle) return tl::unexpected(cycle.error());
        if (*cycle == *first) low = middle + 1;
        else high = middle;
    }
    const std::uint64_t head = low;
    // The last record before it, perhaps at the log's end. The largest one has 256 KiB and eight sectors of its own.
    constexpr std::uint64_t most_back = 520;
    for (std::uint64_t back = 1; back <= std::min(most_back, count - 1); ++back) {
        const std::uint64_t at = (head + count - back) % count;
        const auto record = volume.load<ondisk::XfsLogRecord>(offset + at * sector);
        if (!record) return tl::unexpected(record.error());
        if (record->magic != record_magic) continue;
        constexpr std::uint32_t usual = 32768;
        const std::uint64_t own =
            (record->version & 2U) != 0 && record->size > usual ? (std::uint64_t{record->size} + usual - 1) / usual : 1;
        const std::uint64_t behind = own + (std::uint64_t{record->length} + sector - 1) / sector;
        if (record->operations != 1 || (at + behind) % count != head % count) return false;
        const auto operation = volume.load<ondisk::XfsLogOperation>(offset + (at + own) % count * sector);
        if (!operation) return tl::unexpected(operation.error());
        constexpr std::uint8_t unmount = 0x20;
        return (operation->flags & unmount) != 0;
    }
    return fail(ErrorKind::Malformed, "the log has no record where one should be", volume.place());
}

}  // namespace herberge::xfs
