// SPDX-License-Identifier: MIT
#include "files/ext_journal.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <map>
#include <vector>

#include <herberge/budget.hpp>

#include "ondisk/ext.hpp"

namespace herberge::ext {

namespace {

constexpr std::uint32_t journal_magic = 0xC03B3998;

namespace feature {
constexpr std::uint32_t bit64 = 2, checksum2 = 8, checksum3 = 16, fast_commit = 32;
}
namespace kind {
constexpr std::uint32_t descriptor = 1, commit = 2, revoke = 5;
}
namespace tag_flag {
constexpr std::uint32_t escaped = 1, same_uuid = 2, last = 8;
}

/// Where a block of the volume stands in the journal.
struct Logged {
    std::uint64_t at = 0;  ///< bytes
    bool escaped = false;  ///< its first four bytes are the journal's magic number
};

/// A volume with blocks taken from its journal.
class ReplayedVolume final : public ByteSource {
public:
    ReplayedVolume(Source volume, Source journal, std::map<std::uint64_t, Logged> blocks, std::uint32_t block_size)
        : volume_(std::move(volume)),
          journal_(std::move(journal)),
          blocks_(std::move(blocks)),
          block_size_(block_size) {}
    [[nodiscard]] std::uint64_t size() const noexcept override { return volume_->size(); }
    [[nodiscard]] std::string place() const override { return volume_->place(); }

    [[nodiscard]] Result<void> read(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        Result<void> outcome;
        if (offset > size() || into.size() > size() - offset)
            return volume_->read(offset, into);  // which tells where it ends
        each_piece(offset, into.size(), [&](std::uint64_t at, std::uint64_t length, const Logged* logged) {
            const auto part = into.subspan(at - offset, length);
            if (logged == nullptr) {
                outcome = volume_->read(at, part);
                return outcome.has_value();
            }
            const std::uint64_t within = at % block_size_;
            outcome = journal_->read(logged->at + within, part);
            if (outcome && logged->escaped)
                for (std::uint64_t i = within; i < 4 && i - within < length; ++i)
                    part[i - within] = static_cast<std::uint8_t>(journal_magic >> (24U - 8U * i));
            return outcome.has_value();
        });
        return outcome;
    }

    [[nodiscard]] std::vector<DiskRange> locate(std::uint64_t offset, std::uint64_t length) const override {
        std::vector<DiskRange> out;
        const std::uint64_t end = std::min(size(), offset + length);
        if (offset >= end) return out;
        each_piece(offset, end - offset, [&](std::uint64_t at, std::uint64_t size_here, const Logged* logged) {
            const auto found = logged == nullptr ? volume_->locate(at, size_here)
                                                 : journal_->locate(logged->at + at % block_size_, size_here);
            out.insert(out.end(), found.begin(), found.end());
            return true;
        });
        return out;
    }

private:
    template <class Visit>
    void each_piece(std::uint64_t offset, std::uint64_t length, Visit visit) const {
        while (length != 0) {
            const auto next = blocks_.lower_bound(offset / block_size_);
            std::uint64_t some = length;
            const Logged* logged = nullptr;
            if (next != blocks_.end() && next->first == offset / block_size_) {
                logged = &next->second;
                some = std::min(length, block_size_ - offset % block_size_);
            } else if (next != blocks_.end()) {
                some = std::min(length, next->first * block_size_ - offset);
            }
            if (!visit(offset, some, logged)) return;
            offset += some;
            length -= some;
        }
    }

    Source volume_;
    Source journal_;
    std::map<std::uint64_t, Logged> blocks_;
    std::uint64_t block_size_;
};

/// The log, read from its begin to the last whole transaction.
class Log {
public:
    Log(const Source& journal, std::uint32_t block_size) : journal_(journal), block_size_(block_size) {}

    Replayed replay(const Source& volume) {
        Replayed out;
        out.volume = volume;
        out.problem = read(out);
        if (out.problem || logged_.empty()) return out;
        out.volume = std::make_shared<const ReplayedVolume>(volume, journal_, std::move(logged_), block_size_);
        return out;
    }

private:
    using Bytes = std::vector<std::uint8_t>;
    struct Held {
        std::uint64_t block = 0;  ///< of the log
        std::uint32_t sequence = 0;
        Bytes bytes;
    };
    struct Tag {
        std::uint64_t block = 0;  ///< of the volume
        std::uint32_t flags = 0;
        std::uint32_t checksum = 0;
    };

    [[nodiscard]] bool sums() const { return (features_ & (feature::checksum2 | feature::checksum3)) != 0; }
    [[nodiscard]] Error corrupt(std::uint64_t block, std::string what) const {
        return {ErrorKind::Checksum,
                std::move(what),
                fmt::format("{}@{}+{}", journal_->place(), block * block_size_, block_size_),
                {},
                {}};
    }
    [[nodiscard]] std::uint64_t behind(std::uint64_t block, std::uint64_t more) const {
        block += more;
        return block < last_ ? block : block - (last_ - first_);
    }

    /// Null: there is nothing to replay.
    std::optional<Error> read(Replayed& out) {
        const auto super = journal_->load<ondisk::JournalSuper>(0);
        if (!super) return super.error();
        if (super->magic != journal_magic || super->start == 0) return std::nullopt;
        features_ = super->block_type == 4 ? std::uint32_t{super->incompatible} : 0;
        first_ = super->first_block;
        last_ = super->max_blocks;
        if (super->block_size != block_size_ || first_ == 0 || last_ <= first_ || super->start >= last_ ||
            last_ > journal_->size() / block_size_)
            return Error{
                ErrorKind::Malformed, "the journal's superblock contradicts itself", journal_->place(), {}, {}};
        if ((features_ & feature::fast_commit) != 0) {
            constexpr std::uint32_t usual = 256;  // JBD2_DEFAULT_FAST_COMMIT_BLOCKS
            const std::uint32_t kept =
                super->fast_commit_blocks == 0 ? usual : std::uint32_t{super->fast_commit_blocks};
            if (kept >= last_ - first_)
                return Error{
                    ErrorKind::Malformed, "the journal's superblock contradicts itself", journal_->place(), {}, {}};
            last_ -= kept;
        }
        seed_ = crc32c(~0U, super->uuid);
        next_ = super->first_sequence;
        if (auto problem = scan(super->start)) return problem;
        for (const auto& revoke : revokes_) take_revoke(revoke);
        for (const auto& descriptor : descriptors_)
            if (auto problem = take_blocks(descriptor)) return problem;
        out.fast_commits = (features_ & feature::fast_commit) != 0 && fast_commits_follow();
        return std::nullopt;
    }

    /// Finds the whole transactions (do_one_pass, PASS_SCAN).
    std::optional<Error> scan(std::uint64_t block) {
        std::vector<Held> descriptors;
        std::vector<Held> revokes;
        bool suspicious = false;  // a block of the transaction fails its checksum
        std::uint64_t committed = 0;
        for (std::uint64_t count = 0; count < last_; ++count) {
            if (auto paid = charge(Cost::Steps, 1, journal_->place()); !paid) return paid.error();
            auto bytes = journal_->bytes(block * block_size_, block_size_);
            if (!bytes) return bytes.error();
            const auto head = ondisk::from_bytes<ondisk::JournalHead>(*bytes);
            if (head.magic != journal_magic || head.sequence != next_) return std::nullopt;
            const std::uint64_t here = block;
            block = behind(block, 1);
            if (head.type == kind::descriptor || head.type == kind::revoke) {
                if (auto paid = charge(Cost::Kept, bytes->size(), journal_->place()); !paid) return paid.error();
                suspicious = suspicious || !tail_holds(*bytes);
                auto& list = head.type == kind::descriptor ? descriptors : revokes;
                list.push_back({here, next_, std::move(*bytes)});
                if (head.type == kind::descriptor) {
                    const std::uint64_t tags = tags_of(list.back().bytes).size();
                    if (tags >= last_ - first_) return std::nullopt;
                    count += tags;
                    block = behind(block, tags);
                }
            } else if (head.type == kind::commit) {
                const auto time = ondisk::from_bytes<ondisk::JournalCommit>(*bytes).seconds;
                if (suspicious || !commit_holds(*bytes)) {
                    // What a former round of the log left behind is its end; anything newer is damage.
                    if (time < committed) return std::nullopt;
                    return corrupt(here, fmt::format("transaction {} of the journal fails its checksum", next_));
                }
                committed = time;
                std::ranges::move(descriptors, std::back_inserter(descriptors_));
                std::ranges::move(revokes, std::back_inserter(revokes_));
                descriptors.clear();
                revokes.clear();
                ++next_;
            } else {
                return std::nullopt;
            }
        }
        return std::nullopt;
    }

    [[nodiscard]] bool tail_holds(const Bytes& bytes) const {
        if (!sums()) return true;
        static constexpr std::array<std::uint8_t, 4> zeros{};
        const std::size_t at = bytes.size() - 4;
        return crc32c(crc32c(seed_, std::span(bytes).first(at)), zeros) ==
               ondisk::from_bytes<ondisk::big_uint32_t>(bytes, at);
    }
    [[nodiscard]] bool commit_holds(const Bytes& bytes) const {
        if (!sums()) return true;
        static constexpr std::array<std::uint8_t, 4> zeros{};
        constexpr std::size_t at = offsetof(ondisk::JournalCommit, checksum);
        const auto sum = crc32c(crc32c(crc32c(seed_, std::span(bytes).first(at)), zeros),
                                std::span(bytes).subspan(at + zeros.size()));
        return sum == ondisk::from_bytes<ondisk::big_uint32_t>(bytes, at);
    }

    /// The blocks that a descriptor announces, in their order.
    [[nodiscard]] std::vector<Tag> tags_of(const Bytes& bytes) const {
        const bool third = (features_ & feature::checksum3) != 0;
        // include/linux/jbd2.h: journal_tag_bytes
        const std::size_t size = third ? 16
                                       : 8U + ((features_ & feature::checksum2) != 0 ? 2U : 0U) +
                                             ((features_ & feature::bit64) != 0 ? 4U : 0U);
        const std::size_t end = bytes.size() - (sums() ? 4 : 0);
        std::vector<Tag> out;
        std::size_t at = sizeof(ondisk::JournalHead);
        while (at + size <= end) {
            Tag tag;
            if (third) {
                const auto told = ondisk::from_bytes<ondisk::JournalTag3>(bytes, at);
                tag = {std::uint64_t{told.block} | std::uint64_t{told.block_high} << 32U, told.flags, told.checksum};
            } else {
                const auto told = ondisk::from_bytes<ondisk::JournalTag>(bytes, at);
                tag = {told.block, told.flags, told.checksum};
                if ((features_ & feature::bit64) != 0)
                    tag.block |= std::uint64_t{ondisk::from_bytes<ondisk::big_uint32_t>(bytes, at + sizeof(told))}
                                 << 32U;
            }
            if (third && (features_ & feature::bit64) == 0) tag.block &= 0xFFFFFFFFU;
            out.push_back(tag);
            at += size + ((tag.flags & tag_flag::same_uuid) != 0 ? 0 : 16);
            if ((tag.flags & tag_flag::last) != 0) break;
        }
        return out;
    }

    void take_revoke(const Held& held) {
        const std::size_t size = (features_ & feature::bit64) != 0 ? 8 : 4;
        const std::size_t end =
            std::min<std::size_t>(ondisk::from_bytes<ondisk::JournalRevoke>(held.bytes).bytes, held.bytes.size());
        for (std::size_t at = sizeof(ondisk::JournalRevoke); at + size <= end; at += size) {
            const std::uint64_t block = size == 8
                                            ? std::uint64_t{ondisk::from_bytes<ondisk::big_uint64_t>(held.bytes, at)}
                                            : std::uint64_t{ondisk::from_bytes<ondisk::big_uint32_t>(held.bytes, at)};
            auto [known, fresh] = revoked_.emplace(block, held.sequence);
            if (!fresh && static_cast<std::int32_t>(held.sequence - known->second) > 0) known->second = held.sequence;
        }
    }

    std::optional<Error> take_blocks(const Held& held) {
        std::uint64_t block = held.block;
        for (const auto& tag : tags_of(held.bytes)) {
            block = behind(block, 1);
            const auto revoked = revoked_.find(tag.block);
            if (revoked != revoked_.end() && static_cast<std::int32_t>(revoked->second - held.sequence) >= 0) continue;
            if (sums()) {
                if (auto paid = charge(Cost::Steps, 1, journal_->place()); !paid) return paid.error();
                const auto bytes = journal_->bytes(block * block_size_, block_size_);
                if (!bytes) return bytes.error();
                const ondisk::big_uint32_t sequence(held.sequence);
                const std::uint32_t sum =
                    crc32c(crc32c(seed_, std::span(reinterpret_cast<const std::uint8_t*>(&sequence), sizeof(sequence))),
                           *bytes);
                const bool third = (features_ & feature::checksum3) != 0;
                if (third ? sum != tag.checksum : (sum & 0xFFFFU) != tag.checksum)
                    return corrupt(block, fmt::format("a block of transaction {} of the journal fails its checksum",
                                                      held.sequence));
            }
            logged_[tag.block] = {block * block_size_, (tag.flags & tag_flag::escaped) != 0};
        }
        return std::nullopt;
    }

    /// fs/ext4/fast_commit.c: the first one begins with a head that carries the number of the next transaction.
    [[nodiscard]] bool fast_commits_follow() const {
        constexpr std::uint16_t head = 9;
        const auto first = journal_->load<ondisk::FastCommitHead>(last_ * block_size_);
        return first && first->tag == head && first->transaction == next_;
    }

    Source journal_;
    std::uint64_t block_size_;
    std::uint32_t features_ = 0;
    std::uint64_t first_ = 0;
    std::uint64_t last_ = 0;  ///< the first block behind the log
    std::uint32_t seed_ = 0;
    std::uint32_t next_ = 0;  ///< the number of the next transaction
    std::vector<Held> descriptors_;
    std::vector<Held> revokes_;
    std::map<std::uint64_t, std::uint32_t> revoked_;  ///< until this transaction
    std::map<std::uint64_t, Logged> logged_;
};

}  // namespace

Replayed replay_journal(const Source& volume, const Source& journal, std::uint32_t block_size) {
    return Log(journal, block_size).replay(volume);
}

}  // namespace herberge::ext
