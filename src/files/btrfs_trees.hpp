// SPDX-License-Identifier: MIT
// Btrfs below its files: logical addresses, and the trees that keep everything.
#pragma once

#include <functional>
#include <list>
#include <map>
#include <memory>
#include <mutex>
#include <tuple>
#include <vector>

#include <herberge/files.hpp>

#include "ondisk/btrfs.hpp"

namespace herberge::btrfs {

struct Key {
    std::uint64_t object = 0;
    std::uint8_t type = 0;
    std::uint64_t offset = 0;
    friend bool operator==(const Key&, const Key&) = default;
    friend bool operator<(const Key& a, const Key& b) {
        return std::tie(a.object, a.type, a.offset) < std::tie(b.object, b.type, b.offset);
    }
};
inline Key key_of(const ondisk::BtrfsKey& key) { return {key.object, key.type, key.offset}; }

/// Where a tree begins.
struct Tree {
    std::uint64_t root = 0;  ///< logical
    std::uint8_t level = 0;
};

/// An item of a leaf: its key and its data. The data lives as long as the call.
using Visit = std::function<bool(const Key&, std::span<const std::uint8_t>)>;  ///< false: enough

/// The devices of a file system that are there, by their numbers.
using Devices = std::map<std::uint64_t, Source>;

class Trees {
public:
    /// `strict`: checksums count. `volume` is the device that is asked, and one of `devices`.
    Trees(Source volume, Devices devices, const ondisk::BtrfsSuper& super, bool strict);
    /// Reads where everything lies: the superblock's own chunks, then the tree of chunks.
    Result<void> read_chunks(std::span<const std::uint8_t> own);

    /// Visits the items from `first` on in ascending order.
    Result<void> walk(const Tree& tree, const Key& first, const Visit& visit) const;
    /// The item with this key; Error NotFound.
    [[nodiscard]] Result<std::vector<std::uint8_t>> item(const Tree& tree, const Key& key) const;

    /// A place on a device.
    struct Place {
        const Source* device = nullptr;  ///< lives as long as the trees
        std::uint64_t at = 0;
    };
    /// Where a logical address lies, and how many bytes follow in one piece.
    struct Spot {
        std::vector<Place> copies;  ///< at least one; those on devices that are not there are left out
        std::uint64_t room = 0;
    };
    /// Errors: Unreadable (on no device that is there), Malformed (no chunk has it).
    [[nodiscard]] Result<Spot> locate(std::uint64_t logical) const;
    [[nodiscard]] Result<void> read(std::uint64_t logical, std::span<std::uint8_t> into) const;
    [[nodiscard]] const Source& volume() const { return volume_; }
    [[nodiscard]] const Devices& devices() const { return devices_; }
    /// The device's number and UUID, as the tree of chunks has them; those that are not there. At most 64.
    struct Absent {
        std::uint64_t number = 0;
        std::string uuid;
    };
    [[nodiscard]] Result<std::vector<Absent>> absent() const;

private:
    struct Chunk {
        std::uint64_t logical = 0;
        ondisk::BtrfsChunk told{};
        std::vector<ondisk::BtrfsStripe> stripes;
    };
    using Node = std::shared_ptr<const std::vector<std::uint8_t>>;
    Result<void> add_chunk(std::uint64_t logical, std::span<const std::uint8_t> bytes);
    [[nodiscard]] Result<Node> node(std::uint64_t logical, unsigned level) const;
    /// False: the visitor has enough.
    Result<bool> walk_node(std::uint64_t logical, unsigned level, const Key& first, const Visit& visit) const;

    /// The places of `within` a chunk, by the chunk's profile; and how far they go.
    [[nodiscard]] static std::vector<std::size_t> stripes_of(const Chunk& chunk, std::uint64_t within,
                                                             std::uint64_t& offset, std::uint64_t& room);

    Source volume_;
    Devices devices_;
    ondisk::BtrfsSuper super_;
    bool strict_;
    std::vector<Chunk> chunks_;  ///< ascending
    mutable std::mutex lock_;
    mutable std::list<std::pair<std::uint64_t, Node>> kept_;  ///< nodes read last, by logical address
};

/// What checksums are made with.
enum class Sum : std::uint16_t { Crc32c, XxHash64, Sha256, Blake2b };
constexpr std::uint16_t sum_count = 4;
/// The checksum of a node or superblock: over what follows its 32 bytes, which it begins with.
[[nodiscard]] bool checksum_holds(std::span<const std::uint8_t> bytes, Sum with);

}  // namespace herberge::btrfs
