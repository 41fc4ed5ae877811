// SPDX-License-Identifier: MIT
#include "files/btrfs_trees.hpp"

#include <fmt/format.h>
#include <gcrypt.h>
#include <xxhash.h>
#include <algorithm>

#include <herberge/budget.hpp>

namespace herberge::btrfs {

namespace {

constexpr std::size_t most_chunks = 1U << 20U;
constexpr std::size_t most_kept = 128;
constexpr std::uint8_t chunk_item = 228;
constexpr std::uint64_t first_chunk = 256;

namespace kind {
constexpr std::uint64_t raid0 = 8, raid10 = 64, raid5 = 128, raid6 = 256;
}

}  // namespace

bool checksum_holds(std::span<const std::uint8_t> bytes, Sum with) {
    const auto told = bytes.first(32);
    const auto rest = bytes.subspan(32);
    const auto digest = [&](int algorithm) {
        std::array<std::uint8_t, 32> made{};
        gcry_md_hash_buffer(algorithm, made.data(), rest.data(), rest.size());
        return std::ranges::equal(made, told);
    };
    switch (with) {
        case Sum::Crc32c: return ~crc32c(~0U, rest) == ondisk::from_bytes<ondisk::little_uint32_t>(told);
        case Sum::XxHash64:
            return XXH64(rest.data(), rest.size(), 0) == ondisk::from_bytes<ondisk::little_uint64_t>(told);
        case Sum::Sha256: return digest(GCRY_MD_SHA256);
        case Sum::Blake2b: return digest(GCRY_MD_BLAKE2B_256);
    }
    return false;
}

Trees::Trees(Source volume, Devices devices, const ondisk::BtrfsSuper& super, bool strict)
    : volume_(std::move(volume)), devices_(std::move(devices)), super_(super), strict_(strict) {}

Result<void> Trees::add_chunk(std::uint64_t logical, std::span<const std::uint8_t> bytes) {
    Chunk chunk;
    chunk.logical = logical;
    if (bytes.size() < sizeof(chunk.told)) return fail(ErrorKind::Malformed, "a chunk is cut short", volume_->place());
    chunk.told = ondisk::from_bytes<ondisk::BtrfsChunk>(bytes);
    const std::size_t count = chunk.told.stripes;
    const std::uint64_t type = chunk.told.type;
    const std::size_t least = (type & kind::raid6) != 0 ? 3 : (type & (kind::raid5 | kind::raid10)) != 0 ? 2 : 1;
    if (count < least || ((type & kind::raid10) != 0 && chunk.told.sub_stripes != 2) ||
        bytes.size() < sizeof(chunk.told) + count * sizeof(ondisk::BtrfsStripe) || chunk.told.length == 0 ||
        chunk.told.stripe_length == 0 || logical > ~std::uint64_t{0} - chunk.told.length)
        return fail(ErrorKind::Malformed, "a chunk is damaged", volume_->place());
    for (std::size_t i = 0; i < count; ++i)
        chunk.stripes.push_back(
            ondisk::from_bytes<ondisk::BtrfsStripe>(bytes, sizeof(chunk.told) + i * sizeof(ondisk::BtrfsStripe)));
    if (chunks_.size() >= most_chunks) return fail(ErrorKind::TooLarge, "more chunks than are read", volume_->place());
    const auto at = std::ranges::lower_bound(chunks_, logical, {}, &Chunk::logical);
    if (at != chunks_.end() && at->logical == logical) return {};
    chunks_.insert(at, std::move(chunk));
    return {};
}

Result<void> Trees::read_chunks(std::span<const std::uint8_t> own) {
    for (std::size_t at = 0; at + sizeof(ondisk::BtrfsKey) + sizeof(ondisk::BtrfsChunk) <= own.size();) {
        const auto key = key_of(ondisk::from_bytes<ondisk::BtrfsKey>(own, at));
        at += sizeof(ondisk::BtrfsKey);
        if (key.type != chunk_item)
            return fail(ErrorKind::Malformed, "the superblock's chunks are damaged", volume_->place());
        if (auto done = add_chunk(key.offset, own.subspan(at)); !done) return done;
        at += sizeof(ondisk::BtrfsChunk) +
              ondisk::from_bytes<ondisk::BtrfsChunk>(own, at).stripes * sizeof(ondisk::BtrfsStripe);
    }
    Result<void> outcome;
    const auto walked = walk({super_.chunk_root, super_.chunk_level}, {first_chunk, chunk_item, 0},
                             [&](const Key& key, std::span<const std::uint8_t> data) {
                                 if (key.type != chunk_item) return false;
                                 outcome = add_chunk(key.offset, data);
                                 return outcome.has_value();
                             });
    return walked ? outcome : walked;
}

std::vector<std::size_t> Trees::stripes_of(const Chunk& chunk, std::uint64_t within, std::uint64_t& offset,
                                           std::uint64_t& room) {
    const std::uint64_t type = chunk.told.type;
    const std::uint64_t length = chunk.told.stripe_length;
    const std::uint64_t count = chunk.stripes.size();
    const std::uint64_t number = within / length;
    const std::uint64_t inside = within % length;
    std::vector<std::size_t> out;
    const auto striped = [&](std::uint64_t row, std::uint64_t stripe) {
        offset = row * length + inside;
        room = std::min(length - inside, chunk.told.length - within);
        out.push_back(static_cast<std::size_t>(stripe));
    };
    // kernel fs/btrfs/volumes.c, __btrfs_map_block
    if ((type & kind::raid0) != 0) {
        striped(number / count, number % count);
    } else if ((type & kind::raid10) != 0) {
        const std::uint64_t pairs = count / 2;
        striped(number / pairs, number % pairs * 2);
        out.push_back(out.front() + 1);
    } else if ((type & (kind::raid5 | kind::raid6)) != 0) {
        // The parity moves on by one device with each row.
        const std::uint64_t data = count - ((type & kind::raid6) != 0 ? 2 : 1);
        const std::uint64_t row = number / data;
        striped(row, (number % data + row) % count);
    } else {
        offset = within;
        room = chunk.told.length - within;
        for (std::size_t i = 0; i < count; ++i) out.push_back(i);
    }
    return out;
}

Result<Trees::Spot> Trees::locate(std::uint64_t logical) const {
    auto chunk = std::ranges::upper_bound(chunks_, logical, {}, &Chunk::logical);
    if (chunk == chunks_.begin() || logical - std::prev(chunk)->logical >= std::prev(chunk)->told.length)
        return fail(ErrorKind::Malformed, fmt::format("no chunk has the address {}", logical), volume_->place());
    --chunk;
    Spot out;
    std::uint64_t offset = 0;
    std::uint64_t elsewhere = 0;
    for (const auto index : stripes_of(*chunk, logical - chunk->logical, offset, out.room)) {
        const auto& stripe = chunk->stripes[index];
        const auto device = devices_.find(stripe.device);
        if (device == devices_.end()) elsewhere = stripe.device;
        else out.copies.push_back({&device->second, stripe.offset + offset});
    }
    if (out.copies.empty())
        return fail(ErrorKind::Unreadable,
                    fmt::format("a part of the Btrfs lies on its device {}, which is not there", elsewhere),
                    volume_->place());
    return out;
}

Result<void> Trees::read(std::uint64_t logical, std::span<std::uint8_t> into) const {
    while (!into.empty()) {
        const auto spot = locate(logical);
        if (!spot) return tl::unexpected(spot.error());
        const auto length = static_cast<std::size_t>(std::min<std::uint64_t>(spot->room, into.size()));
        Result<void> done;
        for (const auto& copy : spot->copies) {
            done = (*copy.device)->read(copy.at, into.first(length));
            if (done) break;
        }
        if (!done) return done;
        logical += length;
        into = into.subspan(length);
    }
    return {};
}

Result<std::vector<Trees::Absent>> Trees::absent() const {
    constexpr std::uint8_t device_item = 216;
    constexpr std::size_t most = 64;
    std::vector<Absent> out;
    const auto walked = walk({super_.chunk_root, super_.chunk_level}, {1, device_item, 0},
                             [&](const Key& key, std::span<const std::uint8_t> data) {
                                 if (key.object != 1 || key.type != device_item) return false;
                                 if (data.size() < sizeof(ondisk::BtrfsDevice)) return true;
                                 const auto told = ondisk::from_bytes<ondisk::BtrfsDevice>(data);
                                 if (!devices_.contains(told.number))
                                     out.push_back({told.number, uuid_text(told.uuid)});
                                 return out.size() < most;
                             });
    if (!walked) return tl::unexpected(walked.error());
    return out;
}

Result<Trees::Node> Trees::node(std::uint64_t logical, unsigned level) const {
    {
        const std::scoped_lock hold(lock_);
        const auto found = std::ranges::find(kept_, logical, &std::pair<std::uint64_t, Node>::first);
        if (found != kept_.end()) {
            kept_.splice(kept_.begin(), kept_, found);
            return found->second;
        }
    }
    const auto spot = locate(logical);
    if (!spot) return tl::unexpected(spot.error());
    if (spot->room < super_.node_size) return fail(ErrorKind::Malformed, "a node lies across chunks", volume_->place());
    Error first;
    for (std::size_t i = 0; i < spot->copies.size(); ++i) {
        const auto& device = **spot->copies[i].device;
        const std::uint64_t at = spot->copies[i].at;
        const std::string place = fmt::format("{}@{}+{}", device.place(), at, std::uint32_t{super_.node_size});
        auto bytes = device.bytes(at, super_.node_size);
        Error error;
        if (bytes) {
            const auto head = ondisk::from_bytes<ondisk::BtrfsNode>(*bytes);
            if (strict_ && !checksum_holds(*bytes, static_cast<Sum>(std::uint16_t{super_.checksum_type})))
                error = {ErrorKind::Checksum, "a node of a Btrfs tree fails its checksum", place, {}, {}};
            else if (head.position != logical || head.level != level)
                error = {
                    ErrorKind::Malformed, "a node of a Btrfs tree is not the one that should be there", place, {}, {}};
            else {
                auto node = std::make_shared<const std::vector<std::uint8_t>>(std::move(*bytes));
                const std::scoped_lock hold(lock_);
                kept_.emplace_front(logical, node);
                if (kept_.size() > most_kept) kept_.pop_back();
                return node;
            }
        } else {
            error = bytes.error();
        }
        // Loaders read one copy; the kernel tries the others (fs/btrfs/disk-io.c, btree_read_extent_buffer_pages).
        if (i == 0) first = std::move(error);
        if (!strict_) break;
    }
    return tl::unexpected(first);
}

Result<bool> Trees::walk_node(std::uint64_t logical, unsigned level, const Key& first, const Visit& visit) const {
    if (auto paid = charge(Cost::Steps, 1, volume_->place()); !paid) return tl::unexpected(paid.error());
    const auto held = node(logical, level);
    if (!held) return tl::unexpected(held.error());
    const std::span<const std::uint8_t> bytes(**held);
    constexpr std::size_t head = sizeof(ondisk::BtrfsNode);
    const std::size_t count = ondisk::from_bytes<ondisk::BtrfsNode>(bytes).count;
    const auto damaged = [&] {
        return fail(ErrorKind::Malformed, "a node of a Btrfs tree is damaged",
                    fmt::format("{}, node {}", volume_->place(), logical));
    };
    const std::size_t each = level == 0 ? sizeof(ondisk::BtrfsItem) : sizeof(ondisk::BtrfsPointer);
    if (count > (bytes.size() - head) / each) return damaged();
    const auto key_at = [&](std::size_t i) {
        return key_of(ondisk::from_bytes<ondisk::BtrfsKey>(bytes, head + i * each));
    };
    // The first one that may have what is looked for: in a leaf not below `first`, above it the last one not beyond it.
    std::size_t low = 0;
    for (std::size_t high = count; low < high;) {
        const std::size_t middle = low + (high - low) / 2;
        if (level == 0 ? key_at(middle) < first : !(first < key_at(middle))) low = middle + 1;
        else high = middle;
    }
    if (level != 0 && low > 0) --low;
    for (std::size_t i = low; i < count; ++i) {
        if (level == 0) {
            const auto item = ondisk::from_bytes<ondisk::BtrfsItem>(bytes, head + i * each);
            if (item.offset > bytes.size() - head || item.size > bytes.size() - head - item.offset) return damaged();
            if (!visit(key_of(item.key), bytes.subspan(head + item.offset, item.size))) return false;
            continue;
        }
        const auto pointer = ondisk::from_bytes<ondisk::BtrfsPointer>(bytes, head + i * each);
        auto more = walk_node(pointer.position, level - 1, first, visit);
        if (!more || !*more) return more;
    }
    return true;
}

Result<void> Trees::walk(const Tree& tree, const Key& first, const Visit& visit) const {
    constexpr unsigned most_level = 8;  // kernel: BTRFS_MAX_LEVEL
    if (tree.level >= most_level)
        return fail(ErrorKind::Malformed, "a Btrfs tree of an impossible height", volume_->place());
    const auto done = walk_node(tree.root, tree.level, first, visit);
    if (!done) return tl::unexpected(done.error());
    return {};
}

Result<std::vector<std::uint8_t>> Trees::item(const Tree& tree, const Key& key) const {
    std::optional<std::vector<std::uint8_t>> out;
    const auto walked = walk(tree, key, [&](const Key& found, std::span<const std::uint8_t> data) {
        if (found == key) out.emplace(data.begin(), data.end());
        return false;
    });
    if (!walked) return tl::unexpected(walked.error());
    if (!out) return fail(ErrorKind::NotFound, "no such item in a Btrfs tree", volume_->place());
    return std::move(*out);
}

}  // namespace herberge::btrfs
