// SPDX-License-Identifier: MIT
// UBIFS' journal as a mount replays it (Linux fs/ubifs/replay.c, log.c, recovery.c).
#include <fmt/format.h>
#include <algorithm>
#include <optional>

#include <herberge/budget.hpp>

#include "bytes/uniform.hpp"
#include "files/ubifs_nodes.hpp"

namespace herberge::ubifs {

namespace {

constexpr std::uint64_t first_log_block = 3;
constexpr std::uint64_t most_changes = std::uint64_t{4} << 20U;

constexpr std::uint64_t up8(std::uint64_t size) { return (size + 7) / 8 * 8; }

}  // namespace

tl::unexpected<Error> Media::damaged(std::string what, std::uint64_t at) const {
    return fail(ErrorKind::Malformed, std::move(what), fmt::format("{}, byte {}", volume->place(), at));
}

Result<Bytes> Media::node(std::uint64_t at, std::uint8_t kind, bool by_crc) const {
    const auto head = volume->load<ondisk::UbifsHead>(at);
    if (!head) return tl::unexpected(head.error());
    if (head->magic != magic || head->type != kind) return damaged("no node of the kind that is expected", at);
    if (head->size < sizeof(*head) || head->size > most_node) return damaged("a node of an impossible size", at);
    auto bytes = volume->bytes(at, head->size);
    if (bytes && (strict || by_crc) && ~crc32(0, std::span(*bytes).subspan(8)) != head->crc)
        return damaged("a node that fails its CRC", at);
    return bytes;
}

namespace {

/// The next node of a block from `at` on, which is moved to it over what only fills (scan.c, ubifs_scan_a_node); none:
/// nothing was written from there on. `torn`: what is no whole node ends the block, too.
Result<std::optional<Bytes>> next_node(const Media& media, std::uint64_t begin, std::uint64_t& at, bool torn) {
    constexpr std::uint8_t filling = 0xCE;
    using Found = std::optional<Bytes>;
    while (at + 8 <= media.block) {
        if (!charge(Cost::Steps, 1)) return fail(ErrorKind::TooLarge, "its journal is longer than is read");
        const auto room = std::min<std::uint64_t>(sizeof(ondisk::UbifsHead), media.block - at);
        const auto start = media.volume->bytes(begin + at, room);
        if (!start) return tl::unexpected(start.error());
        if (std::ranges::all_of(std::span(*start).first(8), [](auto b) { return b == filling; })) {
            at += 8;
            continue;
        }
        const auto head = ondisk::from_bytes<ondisk::UbifsHead>(*start);
        if (room < sizeof(head) || head.magic != magic) {
            if (torn || holds_only(*start, 0xFF)) return Found{};
            return media.damaged("its journal holds something that is no node", begin + at);
        }
        // What was torn tells itself by its CRC alone: no reader replays it unchecked.
        auto node = media.node(begin + at, head.type, true);
        if (!node || head.size > media.block - at) {
            if (!node && node.error().unreadable()) return tl::unexpected(node.error());
            if (torn) return Found{};
            if (!node) return tl::unexpected(node.error());
            return media.damaged("a node of its journal that is too long", begin + at);
        }
        if (head.type != padding_kind) return Found{std::move(*node)};
        const auto padding = ondisk::from_bytes<ondisk::UbifsPadding>(*node);
        if (node->size() < sizeof(padding) || padding.size > media.block)
            return media.damaged("padding of an impossible size", begin + at);
        at += std::uint64_t{head.size} + padding.size;
    }
    return Found{};
}

}  // namespace

/// A part of the journal: from a place in a block to the block's end.
struct Journal::Part {
    std::uint64_t block = 0, at = 0;
    std::uint32_t head = 0;  ///< which of the journal's heads wrote it: 0 cleaning, 1 names and inodes, 2 data
    std::uint64_t sequence = 0;
};

Result<std::vector<Journal::Part>> Journal::parts(const Media& media, const Start& start) {
    std::vector<Part> out;
    std::uint64_t since = 0;
    std::uint64_t block = start.log_block;
    for (std::uint64_t done = 0; done < start.log_blocks; ++done) {
        const std::uint64_t begin = block * media.block;
        std::uint64_t at = 0;
        while (true) {
            // The log's end may have been written in part.
            const auto node = next_node(media, begin, at, !start.unmounted);
            if (!node) return tl::unexpected(node.error());
            if (!*node) {
                if (at == 0) return out;
                break;
            }
            const auto head = ondisk::from_bytes<ondisk::UbifsHead>(**node);
            if (since == 0) {
                const auto commit = ondisk::from_bytes<ondisk::UbifsCommit>(**node);
                if (head.type != commit_kind || (*node)->size() < sizeof(commit) || commit.number != start.commit)
                    return media.damaged("the log does not begin with the last commit", begin + at);
                since = head.sequence;
            }
            // What follows is older: blocks of the log that nobody erased yet.
            if (head.sequence < since) return out;
            if (head.type == reference_kind && (*node)->size() >= sizeof(ondisk::UbifsReference)) {
                const auto told = ondisk::from_bytes<ondisk::UbifsReference>(**node);
                const Part part{told.block, told.at, told.journal_head, head.sequence};
                if (part.at >= media.block || part.block >= media.volume->size() / media.block)
                    return media.damaged("the log names a place that is not on the volume", begin + at);
                if (std::ranges::none_of(out, [&](const Part& p) { return p.block == part.block; }))
                    out.push_back(part);
            }
            at += up8(head.size);
        }
        block = block + 1 >= first_log_block + start.log_blocks ? first_log_block : block + 1;
    }
    return out;
}

Result<Journal> Journal::read(const Media& media, const Start& start) {
    Journal out;
    auto all = parts(media, start);
    if (!all) return tl::unexpected(all.error());
    std::ranges::sort(*all, {}, &Part::sequence);
    for (auto part = all->begin(); part != all->end(); ++part) {
        // The last that a head wrote may end in the midst of a write.
        const bool last =
            std::none_of(part + 1, all->end(), [&](const Part& later) { return later.head == part->head; });
        if (auto done = out.take_part(media, *part, last && !start.unmounted); !done)
            return tl::unexpected(done.error());
    }
    for (auto& [inode, changes] : out.changes_) std::ranges::stable_sort(changes, {}, &Change::sequence);
    if (!start.unmounted) out.accumulate_sizes();
    return out;
}

Result<void> Journal::take_part(const Media& media, const Part& part, bool may_end_early) {
    const std::uint64_t begin = part.block * media.block;
    struct Found {
        Bytes node;
        std::uint64_t at;
        [[nodiscard]] ondisk::UbifsHead head() const { return ondisk::from_bytes<ondisk::UbifsHead>(node); }
    };
    std::vector<Found> nodes;
    std::uint64_t at = part.at;
    while (true) {
        auto node = next_node(media, begin, at, may_end_early);
        if (!node) return tl::unexpected(node.error());
        if (!*node) break;
        const std::uint64_t place = begin + at;
        at += up8((*node)->size());
        nodes.push_back({std::move(**node), place});
    }
    // Nodes that belong together count together.
    constexpr std::uint32_t names_head = 1;
    constexpr std::uint8_t in_group = 1;
    if (may_end_early && part.head == names_head)
        while (!nodes.empty() && nodes.back().head().group == in_group) nodes.pop_back();
    for (const auto& [node, place] : nodes)
        if (auto done = take_node(media, node, place); !done) return done;
    return {};
}

Result<void> Journal::take_node(const Media& media, const Bytes& node, std::uint64_t at) {
    const auto head = ondisk::from_bytes<ondisk::UbifsHead>(node);
    Change change;
    change.sequence = head.sequence;
    change.place = {0, at, head.size};
    const auto too_short = [&] { return media.damaged("a node of its journal that is too short", at); };
    switch (head.type) {
        case inode_kind: {
            if (node.size() < sizeof(ondisk::UbifsInode)) return too_short();
            const auto inode = ondisk::from_bytes<ondisk::UbifsInode>(node);
            change.place.key = key_of(inode.key);
            change.removes = inode.links == 0;
            change.new_size = inode.size;
            break;
        }
        case data_kind: {
            if (node.size() < sizeof(ondisk::UbifsData)) return too_short();
            const auto data = ondisk::from_bytes<ondisk::UbifsData>(node);
            change.place.key = key_of(data.key);
            change.new_size = (change.place.key & 0x1FFFFFFFU) * page + data.size;
            break;
        }
        case name_kind:
        case attribute_kind: {
            if (node.size() < sizeof(ondisk::UbifsName)) return too_short();
            const auto name = ondisk::from_bytes<ondisk::UbifsName>(node);
            const auto text = std::span(node).subspan(sizeof(name));
            change.place.key = key_of(name.key);
            change.removes = name.inode == 0;
            change.name.assign(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(
                                                                std::min<std::size_t>(name.name_size, text.size())));
            break;
        }
        case cut_kind: {
            if (node.size() < sizeof(ondisk::UbifsCut)) return too_short();
            const auto cut = ondisk::from_bytes<ondisk::UbifsCut>(node);
            change.place.key = key_of(cut.inode, cut_kind);
            change.removes = true;
            change.old_size = cut.old_size;
            change.new_size = cut.new_size;
            break;
        }
        default: return {};
    }
    constexpr std::uint64_t cost = 128;
    if (auto charged = charge(Cost::Kept, cost + change.name.size(), media.volume->place()); !charged)
        return tl::unexpected(charged.error());
    auto& of_inode = changes_[inode_of(change.place.key)];
    if (of_inode.size() >= most_changes) return fail(ErrorKind::TooLarge, "its journal is longer than is read");
    of_inode.push_back(std::move(change));
    return {};
}

/// ubifs_recover_size_accum: data that reach behind the size of an inode which the machine did not come to write.
void Journal::accumulate_sizes() {
    for (const auto& [inode, changes] : changes_) {
        std::uint64_t data = 0;
        for (const auto& change : changes) {
            if (kind_of(change.place.key) == data_kind) data = std::max(data, change.new_size);
            else if (kind_of(change.place.key) == cut_kind) data = std::min(data, change.new_size);
            else if (kind_of(change.place.key) == inode_kind && change.removes) data = 0;
        }
        if (data != 0) grown_[inode] = data;
    }
}

std::uint64_t Journal::grown(std::uint64_t inode) const {
    const auto found = grown_.find(inode);
    return found != grown_.end() ? found->second : 0;
}

std::vector<Place> Journal::after(const Media& media, std::uint64_t inode, std::vector<Place> known) const {
    const auto found = changes_.find(inode);
    if (found == changes_.end()) return known;
    const auto& changes = found->second;
    std::multimap<std::uint64_t, Place> out;
    for (const auto& place : known) out.emplace(place.key, place);
    const auto drop = [&](std::uint64_t from, std::uint64_t to) {
        out.erase(out.lower_bound(from), out.upper_bound(to));
    };
    const auto drop_name = [&](std::uint64_t key, const std::string& name) {
        const auto [begin, end] = out.equal_range(key);
        for (auto one = begin; one != end; ++one) {
            const auto node = media.node(one->second.at, kind_of(key));
            if (!node || node->size() < sizeof(ondisk::UbifsName)) continue;
            const auto text = std::span(*node).subspan(sizeof(ondisk::UbifsName));
            const auto size = ondisk::from_bytes<ondisk::UbifsName>(*node).name_size;
            if (size == name.size() && size <= text.size() &&
                std::equal(name.begin(), name.end(), text.begin(),
                           [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; })) {
                out.erase(one);
                return;
            }
        }
    };
    for (auto change = changes.begin(); change != changes.end(); ++change) {
        const auto key = change->place.key;
        switch (kind_of(key)) {
            case name_kind:
            case attribute_kind:
                drop_name(key, change->name);
                if (!change->removes) out.emplace(key, change->place);
                break;
            case cut_kind: {
                const std::uint64_t first = (change->new_size + page - 1) / page;
                const std::uint64_t last = (change->old_size + page - 1) / page;
                if (last > first)
                    drop(key_of(inode, data_kind) + first,
                         key_of(inode, data_kind) + std::min<std::uint64_t>(last - 1, 0x1FFFFFFFU));
                break;
            }
            case inode_kind: {
                // An inode without links whose last node has some was linked again (inode_still_linked).
                const auto newest = std::find_if(changes.rbegin(), changes.rend(), [](const Change& one) {
                    return kind_of(one.place.key) == inode_kind;
                });
                const bool again = newest != changes.rend() && !newest->removes;
                if (change->removes && again) break;
                if (change->removes) {
                    drop(key_of(inode, 0), key_of(inode, 7, 0x1FFFFFFFU));
                    break;
                }
                [[fallthrough]];
            }
            default:
                drop(key, key);
                out.emplace(key, change->place);
                break;
        }
    }
    std::vector<Place> all;
    all.reserve(out.size());
    for (const auto& [key, place] : out) all.push_back(place);
    return all;
}

}  // namespace herberge::ubifs
