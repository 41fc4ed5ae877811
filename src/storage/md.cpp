// SPDX-License-Identifier: MIT
// Arrays of Linux software RAID from what their members say about themselves.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <map>

#include "files/marks.hpp"
#include "ondisk/md.hpp"
#include "storage/layers.hpp"
#include "storage/pieces.hpp"
#include "storage/raid_source.hpp"

namespace herberge {

namespace {

constexpr std::uint64_t sector = 512;
constexpr std::uint32_t spare = 0xFFFFU, faulty = 0xFFFEU, journal = 0xFFFDU;
constexpr std::uint32_t most_roles = 1920;  // what fits into 4 KiB

/// What one member says of itself and its array.
struct Member {
    VolumeRef volume;
    std::string array;  ///< UUID
    std::string name;
    int level = 0;
    std::uint32_t layout = 0;
    std::uint64_t chunk = 0;      ///< bytes
    std::uint64_t used = 0;       ///< bytes of each member
    std::uint64_t data_at = 0;    ///< byte
    std::uint64_t data_size = 0;  ///< bytes
    std::uint32_t count = 0;      ///< members that the array has
    std::uint32_t role = spare;
    std::uint64_t events = 0;
    bool clean = true;
    bool reshaping = false;
    bool old = false;  ///< metadata 0.90
    std::uint32_t minor = 0;
    std::optional<Error>
        refused;  ///< why Linux does not take it; a loader looks at less (grub-core/disk/mdraid1x_linux.c)
    std::uint32_t unknown_features = 0;  ///< bits that the kernel refuses that does not know them
};

std::uint32_t folded(std::uint64_t sum) {
    return static_cast<std::uint32_t>(sum) + static_cast<std::uint32_t>(sum >> 32U);
}

/// The sum of 32-bit words, the word at `skipped` taken as 0.
std::uint32_t sum_of(std::span<const std::uint8_t> bytes, std::size_t skipped) {
    std::uint64_t sum = 0;
    std::size_t at = 0;
    for (; at + 4 <= bytes.size(); at += 4)
        if (at != skipped) sum += ondisk::from_bytes<ondisk::little_uint32_t>(bytes, at);
    if (at + 2 <= bytes.size()) sum += ondisk::from_bytes<ondisk::little_uint16_t>(bytes, at);
    return folded(sum);
}

std::string place_at(const Volume& volume, std::uint64_t at) { return fmt::format("{}@{}+256", volume.place, at); }

Result<Member> read_new(const VolumeRef& volume, std::uint64_t at) {
    const auto& source = *volume->source;
    const auto super = source.load<ondisk::RaidSuper>(at);
    if (!super) return tl::unexpected(super.error());
    const std::uint32_t roles = super->roles;
    if (roles > most_roles)
        return fail(ErrorKind::Malformed, "the superblock of an array's member lists too many devices",
                    place_at(*volume, at));
    const auto whole = source.bytes(at, sizeof(*super) + std::uint64_t{roles} * 2);
    if (!whole) return tl::unexpected(whole.error());
    const auto sum = sum_of(*whole, offsetof(ondisk::RaidSuper, checksum));
    Member out;
    if (sum != super->checksum)
        out.refused =
            Error{ErrorKind::Checksum, "the superblock of an array's member fails its checksum", place_at(*volume, at),
                  fmt::format("{:08x}", std::uint32_t{super->checksum}), fmt::format("{:08x}", sum)};
    // linux/raid/md_p.h, MD_FEATURE_ALL of Linux 6.1: up to RAID0_LAYOUT.
    constexpr std::uint32_t known_features = 0x1FFF;
    out.unknown_features = super->features & ~known_features;
    out.volume = volume;
    out.array = uuid_text(super->array_uuid);
    out.name.assign(super->name.begin(), std::ranges::find(super->name, std::uint8_t{0}));
    out.level = static_cast<int>(std::uint32_t{super->level});
    out.layout = super->layout;
    out.chunk = std::uint64_t{super->chunk} * sector;
    out.used = super->size * sector;
    out.data_at = super->data_offset * sector;
    out.data_size = super->data_size * sector;
    out.count = super->members;
    const std::uint32_t number = super->device_number;
    if (number < roles)
        out.role = ondisk::from_bytes<ondisk::little_uint16_t>(*whole, sizeof(*super) + number * std::size_t{2});
    out.events = super->events;
    out.clean = super->resync_offset == ~std::uint64_t{0};
    out.reshaping = (super->features & 4U) != 0;
    // A member that is still being rebuilt has not all of the data.
    if ((super->features & 2U) != 0 && super->recovery_offset != ~std::uint64_t{0}) out.role = spare;
    return out;
}

Result<Member> read_old(const VolumeRef& volume, std::uint64_t at) {
    constexpr std::uint64_t size = 4096;
    constexpr std::size_t own = 3968;
    const auto whole = volume->source->bytes(at, size);
    if (!whole) return tl::unexpected(whole.error());
    const auto super = ondisk::from_bytes<ondisk::RaidSuper90>(*whole);
    const auto sum = sum_of(*whole, offsetof(ondisk::RaidSuper90, checksum));
    if (sum != super.checksum)
        return fail(ErrorKind::Checksum, "the superblock of an array's member fails its checksum",
                    place_at(*volume, at), fmt::format("{:08x}", std::uint32_t{super.checksum}),
                    fmt::format("{:08x}", sum));
    const auto device = ondisk::from_bytes<ondisk::RaidDevice90>(*whole, own);
    Member out;
    out.volume = volume;
    out.array = fmt::format("{:08x}:{:08x}:{:08x}:{:08x}", std::uint32_t{super.uuid0}, std::uint32_t{super.uuid1},
                            std::uint32_t{super.uuid2}, std::uint32_t{super.uuid3});
    out.name = fmt::format("{}", std::uint32_t{super.minor_number});
    out.level = static_cast<int>(std::uint32_t{super.level});
    out.layout = super.layout;
    out.chunk = super.chunk;
    out.used = std::uint64_t{super.size} * 1024;
    out.data_size = at;
    out.count = super.members;
    constexpr std::uint32_t in_sync = 4, broken = 1;
    if ((device.state & in_sync) != 0 && (device.state & broken) == 0) out.role = device.role;
    out.events = super.events;
    out.clean = (super.state & 1U) != 0;
    out.reshaping = super.minor > 90;
    out.old = true;
    out.minor = super.minor_number;
    return out;
}

/// Looks where each version keeps its superblock. Error NotFound: at none of them (BIOS RAID, damage).
Result<Member> read_member(const VolumeRef& volume) {
    const auto& source = *volume->source;
    const auto places = raid_super_places(source.size());
    for (const std::uint64_t at : places) {
        const auto super = source.load<ondisk::RaidSuper>(at);
        if (!super || super->magic != raid_magic) continue;
        if (super->major == 1 && super->super_offset == at / sector) return read_new(volume, at);
        if (super->major == 0 && places.size() == 4 && at == places[3]) return read_old(volume, at);
    }
    return fail(ErrorKind::NotFound, "no superblock of Linux RAID", volume->place);
}

class Array {
public:
    Array(std::vector<Member> members, bool name_twice) : all_(std::move(members)), name_twice_(name_twice) {}

    void assemble(Assembly& out) {
        const auto newest = std::ranges::max_element(all_, {}, &Member::events);
        told_ = *newest;
        const std::string place = name();
        roles_.assign(std::min<std::size_t>(told_.count, most_raid_members), nullptr);
        for (const auto& member : all_) place_member(member, place, out);
        auto made = content(place);
        std::vector<VolumeRef> used;
        for (const auto* member : roles_)
            if (member != nullptr) used.push_back(member->volume);
        for (const auto& member : all_) out.understood.push_back(member.volume);
        const auto missing = static_cast<std::size_t>(std::ranges::count(roles_, nullptr));
        if (missing != 0)
            out.findings.push_back(
                make_finding(Code::LayerMemberMissing,
                             fmt::format("the array {} runs with {} of its {} members", place, roles_.size() - missing,
                                         roles_.size()),
                             {evidence_place(told_.volume->place, fmt::format("{} members", roles_.size()),
                                             fmt::format("{} of them", roles_.size() - missing))}));
        if (!made) {
            out.made.push_back(std::make_shared<const Volume>(NodeKind::Array, memory_source({}, place), used,
                                                              names(place), made.error()));
            return;
        }
        const auto array = std::make_shared<const Volume>(NodeKind::Array, *made, used, names(place));
        out.made.push_back(array);
        partitions(array, out);
    }

private:
    /// "frontdesk:0" is called "0"; without a name the UUID's beginning stands for it.
    [[nodiscard]] std::string name() const {
        std::string text = told_.name;
        if (const auto colon = text.rfind(':'); colon != std::string::npos) text.erase(0, colon + 1);
        if (text.empty()) text = told_.array.substr(0, 8);
        else if (name_twice_) text += "-" + told_.array.substr(0, 8);
        return "md/" + printable(text);
    }

    [[nodiscard]] LayerNames names(const std::string& place) const {
        LayerNames out;
        const std::string last = place.substr(3);
        out.linux_names.push_back(place);
        if (told_.old) out.linux_names.push_back(fmt::format("md{}", told_.minor));
        else if (!last.empty() && std::ranges::all_of(last, [](char c) { return c >= '0' && c <= '9'; }))
            out.linux_names.push_back("md" + last);
        out.linux_names.push_back("disk/by-id/md-uuid-" + mdadm_uuid());
        if (std::ranges::all_of(all_, [](const Member& m) { return m.refused.has_value(); }))
            out.held_back = fmt::format("{}its members: {}", linux_refuses, told_.refused->what);
        else if (told_.unknown_features != 0)
            out.held_back = fmt::format("its members name features that not every kernel knows (bits {:x})",
                                        told_.unknown_features);
        out.grub = {place};
        out.grub.push_back("mduuid/" + uuid_digits());
        out.drivers = {told_.level < 0                       ? "linear"
                       : told_.level == 0                    ? "raid0"
                       : told_.level == 1                    ? "raid1"
                       : told_.level >= 4 && told_.level < 7 ? "raid456"
                                                             : "raid10"};
        return out;
    }

    [[nodiscard]] std::string uuid_digits() const {
        std::string digits = told_.array;
        std::erase_if(digits, [](char c) { return c == '-' || c == ':'; });
        return digits;
    }

    /// As its tools write it: four groups of eight digits.
    [[nodiscard]] std::string mdadm_uuid() const {
        const auto digits = uuid_digits();
        return fmt::format("{}:{}:{}:{}", digits.substr(0, 8), digits.substr(8, 8), digits.substr(16, 8),
                           digits.substr(24));
    }

    /// Members that are behind are left out (kernel drivers/md/md.c, analyze_sbs: one event is forgiven).
    void place_member(const Member& member, const std::string& place, Assembly& out) {
        if (member.role == spare || member.role == journal || member.role == faulty) return;
        if (member.events + 1 < told_.events) {
            out.findings.push_back(
                make_finding(Code::LayerMemberMissing,
                             fmt::format("{} is out of date and left out of the array {}", member.volume->place, place),
                             {evidence_place(member.volume->place, fmt::format("{} events", told_.events),
                                             fmt::format("{} events", member.events))}));
            return;
        }
        if (member.role >= roles_.size()) return;
        auto& slot = roles_[member.role];
        if (slot != nullptr) {
            out.findings.push_back(make_finding(
                Code::LayerDuplicate,
                fmt::format("{} and {} are the same member of the array {}: one is a copy of the other; the first is "
                            "used here",
                            slot->volume->place, member.volume->place, place),
                {evidence_place(slot->volume->place), evidence_place(member.volume->place)}));
            return;
        }
        slot = &member;
    }

    [[nodiscard]] Result<Source> content(const std::string& place) const {
        if (told_.reshaping)
            return fail(ErrorKind::Unsupported, "an array that is being reshaped, which is not read here", place);
        if (roles_.empty()) return fail(ErrorKind::Malformed, "an array of no members", place);
        std::vector<Source> parts;
        bool missing = false;
        for (const auto* member : roles_) {
            if (member == nullptr) {
                missing = true;
                parts.push_back(nullptr);
                continue;
            }
            const auto& source = member->volume->source;
            // Levels that repeat use the same amount of each; the others all that a member has.
            const std::uint64_t length = told_.level >= 1 ? told_.used : member->data_size;
            const std::uint64_t room = source->size() - std::min(source->size(), member->data_at);
            if (length <= room) {
                parts.push_back(slice(source, member->data_at, length, place));
                continue;
            }
            const Error why{ErrorKind::OutOfRange,
                            fmt::format("{} is smaller than its superblock says", member->volume->place), place,
                            size_text(member->data_at + length), size_text(source->size())};
            // The kernel asks whether a member has room for its own data, and not whether that is what a mirror says to
            // have (drivers/md/md.c, super_1_load).
            if (told_.level != 1 || told_.old || room == 0 || member->data_size > room) return tl::unexpected(why);
            parts.push_back(concatenate(
                {slice(source, member->data_at, room, place), absent_source(length - room, why, place)}, 0, place));
        }
        // drivers/md/raid5.c: what was being written when it stopped cannot be told from the rest of a stripe.
        if (missing && !told_.clean && told_.level >= 4 && told_.level <= 6)
            return fail(ErrorKind::Malformed, "cannot start dirty degraded array", place);
        return raid_source({told_.level, told_.layout, told_.chunk, told_.used}, std::move(parts), place);
    }

    static void partitions(const VolumeRef& array, Assembly& out) {
        const auto table = read_partition_table(*array->source);
        if (!table || array->info.known()) return;
        for (const auto& p : table->partitions) {
            if (p.extended()) continue;
            const std::string place = fmt::format("{}p{}", array->place, p.number);
            LayerNames names;
            for (const auto& name : array->names.linux_names)
                names.linux_names.push_back(fmt::format("{}p{}", name, p.number));
            for (const auto& name : array->names.grub)
                names.grub.push_back(
                    fmt::format("{},{}{}", name, table->kind == TableKind::Gpt ? "gpt" : "msdos", p.number));
            auto made = std::make_shared<Volume>(
                NodeKind::Partition,
                slice(array->source, p.first_lba * table->sector_size, p.sectors * table->sector_size, place),
                std::vector{array}, std::move(names));
            made->partuuid = p.partuuid;
            made->partlabel = p.name;
            out.made.push_back(std::move(made));
        }
    }

    std::vector<Member> all_;
    bool name_twice_;
    Member told_;                       ///< the newest member's words
    std::vector<const Member*> roles_;  ///< by role
};

}  // namespace

Assembly assemble_md(std::span<const VolumeRef> members) {
    Assembly out;
    std::map<std::string, std::vector<Member>> arrays, refused;
    for (const auto& volume : members) {
        auto member = read_member(volume);
        if (!member && member.error().kind == ErrorKind::NotFound) continue;
        if (!member || member->refused) {
            const Error& why = member ? *member->refused : member.error();
            out.findings.push_back(make_finding(
                Code::LayerMetadataDamaged, fmt::format("on {}: {}", volume->place, why.what), {evidence_error(why)}));
        }
        if (member) (member->refused ? refused : arrays)[member->array].push_back(std::move(*member));
    }
    std::map<std::string, int> named;
    for (const auto& [uuid, list] : arrays) ++named[list.front().name];
    for (auto& [uuid, list] : arrays) {
        const bool twice = named[list.front().name] > 1;
        Array(std::move(list), twice).assemble(out);
    }
    // Where no member is sound a loader makes the array all the same, if what they say can be followed.
    for (auto& [uuid, list] : refused) {
        if (arrays.contains(uuid)) continue;
        Assembly made;
        const bool twice = named.contains(list.front().name);
        Array(std::move(list), twice).assemble(made);
        if (std::ranges::any_of(made.made, [](const VolumeRef& v) { return v->not_assembled.has_value(); })) continue;
        out.made.insert(out.made.end(), made.made.begin(), made.made.end());
        out.understood.insert(out.understood.end(), made.understood.begin(), made.understood.end());
        out.findings.insert(out.findings.end(), made.findings.begin(), made.findings.end());
    }
    return out;
}

}  // namespace herberge
