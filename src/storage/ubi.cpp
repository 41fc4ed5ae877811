// SPDX-License-Identifier: MIT
// UBI: volumes whose logical blocks lie anywhere on a flash (Linux drivers/mtd/ubi/attach.c, vtbl.c).
#include <fmt/format.h>
#include <algorithm>
#include <map>
#include <numeric>

#include "ondisk/flash.hpp"
#include "storage/layers.hpp"
#include "storage/pieces.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t smallest_block = 4096;
constexpr std::uint64_t largest_block = std::uint64_t{4} << 20U;
constexpr std::uint64_t most_blocks = std::uint64_t{1} << 20U;
constexpr std::uint32_t table_volume = 0x7FFFEFFF;
constexpr std::size_t most_volumes = 128;
constexpr std::uint64_t most_volume = std::uint64_t{1} << 40U;

/// The kernel's crc32 without its last step (UBI_CRC32_INIT).
std::uint32_t flash_crc(std::span<const std::uint8_t> bytes) { return ~crc32(0, bytes); }

template <class Header>
bool sound(const Header& header, std::string_view magic) {
    const std::span bytes(reinterpret_cast<const std::uint8_t*>(&header), sizeof(header));
    return std::equal(magic.begin(), magic.end(), header.magic.begin()) &&
           flash_crc(bytes.first(sizeof(header) - 4)) == header.crc;
}

/// Where a logical block lies.
struct Place {
    std::uint64_t at = 0;  ///< its content, in bytes of the member
    std::uint64_t sequence = 0;
    std::uint64_t size = 0;  ///< that the CRC covers
    std::uint32_t crc = 0;
    bool copy = false;
};

/// A volume's blocks in their order; those that nobody wrote read as erased flash.
class BlocksSource : public ChunkedSource {
public:
    BlocksSource(Source member, std::map<std::uint32_t, std::uint64_t> blocks, std::uint64_t block, std::uint64_t size,
                 std::string place)
        : ChunkedSource(std::move(place)), member_(std::move(member)), blocks_(std::move(blocks)), block_(block) {
        set_size(size);
    }

private:
    [[nodiscard]] Piece piece(std::uint64_t offset) const override {
        const std::uint64_t within = offset % block_;
        const auto found = blocks_.find(static_cast<std::uint32_t>(offset / block_));
        if (found == blocks_.end()) return {nullptr, 0, block_ - within};
        return {member_.get(), found->second + within, block_ - within};
    }
    Result<std::size_t> made_up(std::uint64_t offset, std::span<std::uint8_t> into) const override {
        const auto count = static_cast<std::size_t>(std::min<std::uint64_t>(into.size(), block_ - offset % block_));
        std::fill_n(into.begin(), count, std::uint8_t{0xFF});
        return count;
    }

    Source member_;
    std::map<std::uint32_t, std::uint64_t> blocks_;
    std::uint64_t block_;
};

/// One flash that is divided by UBI.
class Flash {
public:
    Flash(VolumeRef member, std::size_t number) : member_(std::move(member)), number_(number) {}

    void assemble(Assembly& out) {
        block_ = size_of_blocks();
        if (block_ == 0)
            return damaged(out, "no two blocks with UBI's mark lie in it: the size of its blocks is not told");
        scan();
        const auto records = table();
        if (records.empty())
            return damaged(out, "neither copy of UBI's table of volumes can be used: Linux does not attach it");
        for (const auto& [id, record] : records) out.made.push_back(make(id, record));
        out.understood.push_back(member_);
    }

private:
    [[nodiscard]] const ByteSource& bytes() const { return *member_->source; }

    void damaged(Assembly& out, std::string why) const {
        out.findings.push_back(make_finding(Code::LayerMetadataDamaged, fmt::format("on {}: {}", member_->place, why),
                                            {evidence_bytes(bytes(), 0, sizeof(ondisk::UbiEraseHeader))}));
    }

    /// Every block begins with the mark, but for bad ones: what all distances have in common.
    [[nodiscard]] std::uint64_t size_of_blocks() const {
        constexpr int enough = 64;
        std::uint64_t out = 0;
        int found = 0;
        const std::uint64_t end = std::min(bytes().size(), smallest_block * most_blocks);
        for (std::uint64_t at = smallest_block; at + sizeof(ondisk::UbiEraseHeader) <= end && found < enough;
             at += smallest_block) {
            const auto header = bytes().load<ondisk::UbiEraseHeader>(at);
            if (!header || !sound(*header, "UBI#")) continue;
            out = std::gcd(out, at);
            ++found;
        }
        return out <= largest_block ? out : 0;
    }

    void scan() {
        const std::uint64_t count = std::min(bytes().size() / block_, most_blocks);
        for (std::uint64_t i = 0; i < count; ++i) {
            const std::uint64_t at = i * block_;
            const auto erase = bytes().load<ondisk::UbiEraseHeader>(at);
            if (!erase || !sound(*erase, "UBI#")) continue;
            if (erase->volume_at > block_ - sizeof(ondisk::UbiVolumeHeader) || erase->content_at >= block_) continue;
            const auto header = bytes().load<ondisk::UbiVolumeHeader>(at + erase->volume_at);
            if (!header || !sound(*header, "UBI!")) continue;
            logical_ = block_ - erase->content_at;
            Place place{at + erase->content_at, header->sequence, std::min<std::uint64_t>(header->size, logical_),
                        header->content_crc, header->copy != 0};
            auto& held = volumes_[header->volume];
            const auto [found, fresh] = held.try_emplace(header->number, place);
            if (!fresh && better(place, found->second)) found->second = place;
        }
    }

    /// The later one, unless it is a copy that was not finished (attach.c, ubi_compare_lebs).
    [[nodiscard]] bool better(const Place& one, const Place& other) const {
        const Place& later = one.sequence > other.sequence ? one : other;
        const bool whole = !later.copy || content_sound(later);
        return (&later == &one) == whole;
    }
    [[nodiscard]] bool content_sound(const Place& place) const {
        const auto content = bytes().bytes(place.at, place.size);
        return content && flash_crc(*content) == place.crc;
    }

    /// From the first copy of the table that is sound.
    [[nodiscard]] std::vector<std::pair<std::uint32_t, ondisk::UbiVolumeRecord>> table() const {
        std::vector<std::pair<std::uint32_t, ondisk::UbiVolumeRecord>> out;
        const auto found = volumes_.find(table_volume);
        if (found == volumes_.end()) return out;
        for (const auto& [number, place] : found->second) {
            out.clear();
            bool good = true;
            for (std::uint32_t i = 0; i < most_volumes && good; ++i) {
                if ((i + 1) * sizeof(ondisk::UbiVolumeRecord) > logical_) break;
                const auto record =
                    bytes().load<ondisk::UbiVolumeRecord>(place.at + i * sizeof(ondisk::UbiVolumeRecord));
                good = record && flash_crc(std::span(reinterpret_cast<const std::uint8_t*>(&*record),
                                                     sizeof(*record) - 4)) == record->crc;
                if (good && record->blocks != 0) out.emplace_back(i, *record);
            }
            if (good) return out;
        }
        out.clear();
        return out;
    }

    [[nodiscard]] VolumeRef make(std::uint32_t id, const ondisk::UbiVolumeRecord& record) const {
        const std::size_t length = std::min<std::size_t>(record.name_size, record.name.size());
        const std::string name =
            printable(std::string(record.name.begin(), record.name.begin() + static_cast<std::ptrdiff_t>(length)));
        LayerNames names;
        names.linux_names = {fmt::format("ubi{}_{}", number_, id), fmt::format("ubi{}:{}", number_, name),
                             fmt::format("ubiblock{}_{}", number_, id)};
        const std::string place = fmt::format("ubi{}/{}", number_, name);
        const auto refused = [&](Error why) {
            return std::make_shared<const Volume>(NodeKind::FlashVolume, memory_source({}, place), std::vector{member_},
                                                  std::move(names), std::move(why));
        };
        if (record.updating != 0)
            return refused({ErrorKind::Malformed, "an update of it was interrupted: Linux does not open it", place});
        const std::uint64_t logical = logical_ - std::min<std::uint64_t>(record.padding, logical_ - 1);
        const std::uint64_t reserved = record.blocks * logical;
        if (reserved > most_volume) return refused({ErrorKind::TooLarge, "it claims more than a flash has", place});
        std::map<std::uint32_t, std::uint64_t> blocks;
        std::uint64_t last = 0;
        constexpr std::uint8_t is_static = 2;
        if (const auto found = volumes_.find(id); found != volumes_.end())
            for (const auto& [number, one] : found->second) {
                if (number >= record.blocks) continue;
                if (record.type == is_static && !content_sound(one))
                    return refused({ErrorKind::Malformed, fmt::format("its block {} fails its CRC", number), place});
                blocks[number] = one.at;
                last = number * logical + one.size;
            }
        // A static volume ends where its content does.
        const std::uint64_t size = record.type == is_static ? last : reserved;
        return std::make_shared<const Volume>(
            NodeKind::FlashVolume,
            std::make_shared<const BlocksSource>(member_->source, std::move(blocks), logical, size, place),
            std::vector{member_}, std::move(names));
    }

    VolumeRef member_;
    std::size_t number_;
    std::uint64_t block_ = 0;    ///< bytes of an erase block
    std::uint64_t logical_ = 0;  ///< … of its content
    std::map<std::uint32_t, std::map<std::uint32_t, Place>> volumes_;
};

}  // namespace

Assembly assemble_ubi(std::span<const VolumeRef> members) {
    Assembly out;
    for (std::size_t i = 0; i < members.size(); ++i) Flash(members[i], i).assemble(out);
    return out;
}

}  // namespace herberge
