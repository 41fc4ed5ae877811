// SPDX-License-Identifier: MIT
// Nodes of UBIFS: what the index names, and what the journal holds (Linux fs/ubifs/ubifs-media.h).
#pragma once

#include <map>
#include <memory>
#include <string>
#include <vector>

#include <herberge/bytes.hpp>

#include "ondisk/flash.hpp"

namespace herberge::ubifs {

inline constexpr std::uint32_t magic = 0x06101831;
inline constexpr std::uint64_t page = 4096;  // UBIFS_BLOCK_SIZE
inline constexpr std::uint32_t most_node = 1U << 20U;
enum Kind : std::uint8_t {
    inode_kind = 0,
    data_kind = 1,
    name_kind = 2,
    attribute_kind = 3,
    cut_kind = 4,
    padding_kind = 5,
    super_kind = 6,
    master_kind = 7,
    reference_kind = 8,
    index_kind = 9,
    commit_kind = 10
};

/// A key as one number: they sort so.
constexpr std::uint64_t key_of(std::uint64_t inode, std::uint8_t kind, std::uint32_t rest = 0) {
    return inode << 32U | (std::uint64_t{kind} << 29U | rest);
}
inline std::uint64_t key_of(const ondisk::UbifsKey& key) { return std::uint64_t{key.inode} << 32U | key.what; }
constexpr std::uint64_t inode_of(std::uint64_t key) { return key >> 32U; }
constexpr std::uint8_t kind_of(std::uint64_t key) { return static_cast<std::uint8_t>(key >> 29U & 7U); }

/// Where a node lies.
struct Place {
    std::uint64_t key = 0;
    std::uint64_t at = 0;  ///< bytes of the volume
    std::uint32_t size = 0;
};

using Bytes = std::vector<std::uint8_t>;

/// What all readers of one file system share.
struct Media {
    Source volume;
    std::uint64_t block = 0;  ///< bytes of a logical block
    bool strict = true;       ///< checksums count

    [[nodiscard]] tl::unexpected<Error> damaged(std::string what, std::uint64_t at) const;
    /// A node of this kind, checked.
    [[nodiscard]] Result<Bytes> node(std::uint64_t at, std::uint8_t kind, bool by_crc = false) const;
};

/// What the last commit does not know yet (Linux fs/ubifs/replay.c).
class Journal {
public:
    /// What a mount goes by.
    struct Start {
        std::uint64_t log_block = 0;  ///< where the log begins, in blocks
        std::uint64_t log_blocks = 0;
        std::uint64_t commit = 0;
        bool unmounted = true;  ///< else its last block may end in the midst of a write
    };
    /// Errors: Malformed (the log or a part of the journal is damaged: Linux mounts it no more), Unreadable, TooLarge.
    [[nodiscard]] static Result<Journal> read(const Media& media, const Start& start);

    /// The nodes of one inode as they are after the journal: `known` are those of the index, by key in ascending order.
    [[nodiscard]] std::vector<Place> after(const Media& media, std::uint64_t inode, std::vector<Place> known) const;
    [[nodiscard]] bool touches(std::uint64_t inode) const { return changes_.contains(inode); }
    /// A size that its last data ask for, where the machine stopped before the inode was written; 0: none.
    [[nodiscard]] std::uint64_t grown(std::uint64_t inode) const;
    [[nodiscard]] bool empty() const { return changes_.empty(); }

private:
    struct Change {
        std::uint64_t sequence = 0;
        Place place;  ///< with its key
        bool removes = false;
        std::uint64_t old_size = 0, new_size = 0;
        std::string name;
    };
    struct Part;
    static Result<std::vector<Part>> parts(const Media& media, const Start& start);
    Result<void> take_part(const Media& media, const Part& part, bool may_end_early);
    Result<void> take_node(const Media& media, const Bytes& node, std::uint64_t at);
    void accumulate_sizes();

    std::map<std::uint64_t, std::vector<Change>> changes_;  ///< by inode, in the order of their sequence numbers
    std::map<std::uint64_t, std::uint64_t> grown_;
};

}  // namespace herberge::ubifs
