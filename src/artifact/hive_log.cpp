// SPDX-License-Identifier: MIT
#include "artifact/hive_log.hpp"

#include <algorithm>
#include <bit>
#include <map>
#include <optional>

namespace herberge::hive {

namespace {

constexpr std::uint64_t bins_at = 4096;
constexpr std::uint64_t first_entry = 512;
constexpr std::uint64_t most_log = std::uint64_t{512} << 20U;
constexpr std::uint32_t newer_kind = 6;

bool marked(std::span<const std::uint8_t> bytes, std::string_view mark) {
    return bytes.size() >= mark.size() &&
           std::equal(mark.begin(), mark.end(), bytes.begin(),
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

struct Entry {
    ondisk::HiveLogEntry head{};
    std::vector<std::pair<std::uint32_t, std::vector<std::uint8_t>>> pages;  ///< offset in the bins, content
};

/// The sound entries of one log, in stored order; the first that fails its hashes ends it.
std::vector<Entry> entries_of(const ByteSource& log) {
    std::vector<Entry> out;
    if (log.size() > most_log) return out;
    for (std::uint64_t at = first_entry; at + sizeof(ondisk::HiveLogEntry) <= log.size();) {
        const auto head = log.load<ondisk::HiveLogEntry>(at);
        if (!head || !marked(head->mark, "HvLE") || head->size < sizeof(*head) || head->size % 512 != 0 ||
            head->size > log.size() - at)
            break;
        const auto bytes = log.bytes(at, head->size);
        if (!bytes || marvin32(std::span(*bytes).subspan(40)) != head->hash1 ||
            marvin32(std::span(*bytes).first(32)) != head->hash2)
            break;
        Entry entry;
        entry.head = *head;
        std::size_t data = sizeof(*head) + std::size_t{head->pages} * sizeof(ondisk::HiveLogPage);
        bool fits = head->pages <= head->size / 8 && data <= bytes->size();
        for (std::uint32_t i = 0; fits && i < head->pages; ++i) {
            const auto page =
                ondisk::from_bytes<ondisk::HiveLogPage>(*bytes, sizeof(*head) + i * sizeof(ondisk::HiveLogPage));
            const std::uint32_t offset = page.offset;
            const std::uint32_t size = page.size;
            fits = size <= bytes->size() - data && std::uint64_t{offset} + size <= head->bins_size;
            if (!fits) break;
            const auto begin = bytes->begin() + static_cast<std::ptrdiff_t>(data);
            entry.pages.emplace_back(offset,
                                     std::vector<std::uint8_t>(begin, begin + static_cast<std::ptrdiff_t>(size)));
            data += size;
        }
        if (!fits) break;
        at += head->size;
        out.push_back(std::move(entry));
    }
    return out;
}

/// A hive may grow by its log: the file, made longer by zeros.
Source grown(const Source& file, std::uint64_t size) {
    if (file->size() >= size) return file;
    return extent_source(file, {{0, file->size(), 0}}, size, file->place());
}

Result<Replayed> replay_newer(const Source& file, const ondisk::HiveBase& base, std::uint32_t from,
                              const std::vector<Source>& logs) {
    // Both logs take turns: their entries belong together by number.
    std::map<std::uint32_t, Entry> by_number;
    for (const auto& log : logs)
        for (auto& entry : entries_of(*log)) by_number.emplace(entry.head.sequence, std::move(entry));
    auto at = by_number.lower_bound(from);
    Replayed out;
    out.base = base;
    std::shared_ptr<Overlay> laid;
    std::uint32_t expected = at != by_number.end() ? at->first : 0;
    for (; at != by_number.end() && at->first == expected; ++at, ++expected) {
        const auto& entry = at->second;
        const auto target = laid ? Source(laid) : file;
        if (!laid || target->size() < bins_at + entry.head.bins_size)
            laid = overlay(grown(target, bins_at + entry.head.bins_size));
        for (const auto& [offset, bytes] : entry.pages) {
            if (auto done = laid->write(bins_at + offset, bytes); !done) return tl::unexpected(done.error());
            ++out.pages;
        }
        out.base.bins_size = entry.head.bins_size;
        out.base.primary_sequence = entry.head.sequence;
        out.base.secondary_sequence = entry.head.sequence;
    }
    if (!laid) return fail(ErrorKind::NotFound, "no entry of the logs follows the hive", file->place());
    out.source = laid;
    return out;
}

/// The older kind: a vector with a bit per 512 bytes of the bins behind "DIRT", then the dirty pieces one after
/// another.
Result<Replayed> replay_older(const Source& file, const ondisk::HiveBase& log_base, const ByteSource& log) {
    const auto mark = log.bytes(first_entry, 4);
    if (!mark || !marked(*mark, "DIRT")) return fail(ErrorKind::NotFound, "no dirty vector", log.place());
    const std::uint64_t bits = log_base.bins_size / 512;
    const auto vector = log.bytes(first_entry + 4, (bits + 7) / 8, std::uint64_t{1} << 22U);
    if (!vector) return tl::unexpected(vector.error());
    std::uint64_t data = (first_entry + 4 + vector->size() + 511) / 512 * 512;
    auto laid = overlay(grown(file, bins_at + log_base.bins_size));
    Replayed out;
    out.base = log_base;
    for (std::uint64_t i = 0; i < bits; ++i) {
        if (((*vector)[static_cast<std::size_t>(i / 8)] >> (i % 8) & 1U) == 0) continue;
        const auto piece = log.bytes(data, 512);
        if (!piece) return tl::unexpected(piece.error());
        if (auto done = laid->write(bins_at + i * 512, *piece); !done) return tl::unexpected(done.error());
        data += 512;
        ++out.pages;
    }
    out.base.type = 0;
    out.source = laid;
    return out;
}

}  // namespace

bool checksum_holds(const ondisk::HiveBase& base) {
    std::array<std::uint8_t, sizeof(base)> raw{};
    std::memcpy(raw.data(), &base, sizeof(base));
    std::uint32_t sum = 0;
    for (std::size_t i = 0; i < 508; i += 4) sum ^= ondisk::from_bytes<ondisk::little_uint32_t>(raw, i);
    // All ones and zero are reserved.
    if (sum == 0xFFFFFFFFU) sum = 0xFFFFFFFEU;
    if (sum == 0) sum = 1;
    return sum == base.checksum;
}

std::uint64_t marvin32(std::span<const std::uint8_t> bytes) {
    std::uint32_t low = 0x7A4E55C5;
    std::uint32_t high = 0x82EF4D88;
    auto mix = [&](std::uint32_t block) {
        low += block;
        high ^= low;
        low = std::rotl(low, 20) + high;
        high = std::rotl(high, 9) ^ low;
        low = std::rotl(low, 27) + high;
        high = std::rotl(high, 19);
    };
    std::size_t at = 0;
    for (; at + 4 <= bytes.size(); at += 4) mix(ondisk::from_bytes<ondisk::little_uint32_t>(bytes, at));
    std::uint32_t last = 0x80;
    for (std::size_t i = bytes.size(); i > at; --i) last = last << 8U | bytes[i - 1];
    mix(last);
    mix(0);
    return std::uint64_t{high} << 32U | low;
}

Result<Replayed> replay(const Source& file, const ondisk::HiveBase& base, bool head_good,
                        const std::vector<Source>& logs) {
    std::vector<Source> newer;
    std::optional<ondisk::HiveBase> newest;
    for (const auto& log : logs) {
        if (log == nullptr || log->size() < first_entry) continue;
        const auto head = log->load<ondisk::HiveBase>(0);
        if (!head || !marked(head->mark, "regf") || !checksum_holds(*head)) continue;
        if (head->type == newer_kind) {
            newer.push_back(log);
            if (!newest || head->primary_sequence > newest->primary_sequence) newest = *head;
        } else {
            if (head_good && head->primary_sequence != base.primary_sequence) continue;
            auto done = replay_older(file, *head, *log);
            if (done) return done;
        }
    }
    if (newer.empty()) return fail(ErrorKind::NotFound, "no log that could be used", file->place());
    // With a sound base block the changes behind its second number are missing; else the log's own head says where it
    // stands.
    return replay_newer(file, head_good ? base : *newest, head_good ? std::uint32_t{base.secondary_sequence} : 0,
                        newer);
}

}  // namespace herberge::hive
