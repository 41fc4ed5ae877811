// SPDX-License-Identifier: MIT
// Logical volumes of LVM 2 from the text that describes their group.
#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <map>
#include <set>

#include "storage/layers.hpp"
#include "storage/lvm_metadata.hpp"
#include "storage/pieces.hpp"
#include "storage/raid_source.hpp"

namespace herberge {

namespace {

using lvm::Description;
using lvm::Item;
using lvm::Physical;

constexpr std::uint64_t sector = 512;
constexpr int most_depth = 16;
constexpr std::size_t most_segments = 100'000;

/// A group: its newest description, and the members that are there.
struct Group {
    Description text;
    std::string id;
    bool name_twice = false;
    std::map<std::string, const Physical*> members;  ///< by id
};

/// Device mapper doubles the hyphens inside names (libdm, dm_build_dm_name).
std::string mapper_name(std::string_view group, std::string_view volume) {
    std::string out;
    for (const char c : group) out += c == '-' ? std::string("--") : std::string(1, c);
    out += '-';
    for (const char c : volume) out += c == '-' ? std::string("--") : std::string(1, c);
    return out;
}

class GroupReader {
public:
    GroupReader(const Group& group, const Machine& machine)
        : group_(group), machine_(machine), extent_(sector_bytes(group.text.root, "extent_size")) {
        if (const auto* volumes = group.text.root.find("physical_volumes"))
            for (const auto& pv : volumes->items()) physical_.emplace(pv.name, &pv);
        if (const auto* volumes = group.text.root.find("logical_volumes")) logical_ = &volumes->items();
    }

    Assembly run() {
        Assembly out;
        missing(out);
        for (const auto& volume : *logical_)
            for (const auto& segment : segments(volume))
                if (segment->text("type") == "snapshot") {
                    copies_.emplace(segment->text("cow_store"), segment->text("origin"));
                    copies_.emplace(segment->text("merging_store"), segment->text("origin"));
                }
        refused_ = refusal();
        const auto parts = parts_of_others();
        for (const auto& volume : *logical_)
            if (volume.section() && shown(volume) && (visible(volume) || !parts.contains(volume.name)))
                out.made.push_back(make(volume));
        return out;
    }

private:
    static std::uint64_t sector_bytes(const Item& item, std::string_view name) {
        const auto sectors = item.number(name);
        return sectors > 0 && sectors < (std::int64_t{1} << 50) ? static_cast<std::uint64_t>(sectors) * sector : 0;
    }

    /// Its segments in the order of their extents.
    static std::vector<const Item*> segments(const Item& volume) {
        std::vector<const Item*> out;
        for (const auto& item : volume.items())
            if (item.section() && item.name.starts_with("segment")) out.push_back(&item);
        std::ranges::sort(out, {}, [](const Item* s) { return s->number("start_extent"); });
        return out;
    }

    /// What the system makes a device of for everybody: not the parts of other volumes, not the pools of thin ones.
    static bool shown(const Item& volume) {
        const auto parts = segments(volume);
        return std::ranges::none_of(parts, [](const Item* s) {
            const auto type = s->text("type");
            return type == "thin-pool" || type == "cache-pool" || type == "vdo-pool" || type == "snapshot";
        });
    }

    static bool visible(const Item& volume) { return volume.has_word("status", "VISIBLE"); }

    /// What the segments name: physical volumes, and the logical ones that are parts of others.
    [[nodiscard]] std::set<std::string> parts_of_others() const {
        std::set<std::string> out;
        for (const auto& volume : *logical_)
            for (const auto* segment : segments(volume))
                for (const auto& item : segment->items()) {
                    if (const auto* text = item.as_text()) out.insert(*text);
                    for (const auto& one : item.items())
                        if (const auto* text = one.as_text()) out.insert(*text);
                }
        return out;
    }

    /// Why LVM does not take the whole group, though its description can be read; empty: it does. A loader's reader
    /// asks for none of this (grub-core/disk/lvm.c).
    [[nodiscard]] std::string refusal() const {
        if (!group_.text.refused.empty()) return group_.text.refused;
        for (const auto& volume : *logical_)
            for (const auto* segment : segments(volume)) {
                if (segment->text("type") != "striped") continue;
                const auto stripes = pairs(*segment, "stripes");
                for (const auto& [name, from] : stripes) {
                    const auto pv = physical_.find(name);
                    if (pv == physical_.end()) continue;
                    const auto there = pv->second->number("pe_count");
                    const auto each = segment->number("extent_count") / static_cast<std::int64_t>(stripes.size());
                    // lib/metadata/pv_manip.c, assign_peg_to_lvseg().
                    if (there > 0 && each > 0 && from >= 0 && (from > there || each > there - from))
                        return fmt::format("{} lies on extents {} to {} of {}, which has {}", printable(volume.name),
                                           from, from + each - 1, printable(name), there);
                }
            }
        return {};
    }

    void missing(Assembly& out) {
        std::vector<std::string> gone;
        for (const auto& [name, pv] : physical_) {
            const auto id = pv->text("id");
            if (pv->has_word("flags", "MISSING") || !group_.members.contains(lvm::plain_id(id)))
                gone.push_back(fmt::format("{} ({})", id, pv->text("device")));
        }
        if (gone.empty() || group_.members.empty()) return;
        out.findings.push_back(make_finding(
            Code::LayerMemberMissing,
            fmt::format("the volume group {} lacks {} of its {} physical volumes: {}", printable(group_.text.group),
                        gone.size(), physical_.size(), printable(fmt::format("{}", fmt::join(gone, ", ")))),
            {evidence_place(group_.members.begin()->second->volume->place,
                            fmt::format("{} physical volumes", physical_.size()),
                            fmt::format("{} of them", physical_.size() - gone.size()))}));
    }

    VolumeRef make(const Item& volume) {
        const std::string group = printable(group_.text.group);
        const std::string name = printable(volume.name);
        const std::string place = group_.name_twice ? fmt::format("lvm/{}-{}/{}", group, group_.id.substr(0, 6), name)
                                                    : fmt::format("lvm/{}/{}", group, name);
        LayerNames names;
        const std::string mapper = mapper_name(group_.text.group, volume.name);
        names.linux_names = {"mapper/" + mapper, group_.text.group + "/" + volume.name};
        names.grub = {"lvm/" + mapper, fmt::format("lvmid/{}/{}", group_.text.root.text("id"), volume.text("id"))};
        names.system_id = group_.text.root.text("system_id");
        if (group_.text.root.has_word("status", "EXPORTED")) names.held_back = "its group is exported";
        else if (volume.has_word("flags", "ACTIVATION_SKIP"))
            names.held_back = "it is marked to be skipped when volumes are opened";
        else if (!visible(volume)) names.held_back = fmt::format("{}it: it is not marked as visible", linux_refuses);
        if (!refused_.empty()) names.held_back = fmt::format("{}its group: {}", linux_refuses, refused_);
        // "vgchange --setautoactivation n" (lib/format_text/flags.c: NOAUTOACTIVATE, of either).
        if (group_.text.root.has_word("flags", "NOAUTOACTIVATE"))
            names.waits_to_be_asked = "its group is marked not to be opened by itself";
        else if (volume.has_word("flags", "NOAUTOACTIVATE"))
            names.waits_to_be_asked = "it is marked not to be opened by itself";
        used_.clear();
        drivers_.clear();
        too_small_.clear();
        auto source = content(volume, place, 0);
        for (const auto& [id, member] : group_.members)
            if (!member->refused.empty() && used_.contains(member->volume))
                names.held_back = fmt::format("{}{}", linux_refuses, member->refused);
        if (names.held_back.empty() && !too_small_.empty())
            names.held_back = fmt::format("{}it: {}", linux_refuses, too_small_);
        names.drivers.assign(drivers_.begin(), drivers_.end());
        std::vector<VolumeRef> members(used_.begin(), used_.end());
        std::ranges::sort(members, {}, [](const VolumeRef& v) { return v->place; });
        if (!source)
            return std::make_shared<const Volume>(NodeKind::LogicalVolume, memory_source({}, place), std::move(members),
                                                  std::move(names), source.error());
        return std::make_shared<const Volume>(NodeKind::LogicalVolume, renamed(std::move(*source), place),
                                              std::move(members), std::move(names));
    }

    /// What device mapper runs such a segment with (kernel drivers/md: dm-raid1.c, dm-raid.c).
    void needs(std::string_view type) {
        if (type == "mirror") drivers_.insert("dm_mirror");
        if (!type.starts_with("raid")) return;
        drivers_.insert("dm_raid");
        const char level = type.size() > 4 ? type[4] : '0';
        drivers_.insert(type.starts_with("raid10") ? "raid10"
                        : level == '1'             ? "raid1"
                        : level == '0'             ? "raid0"
                                                   : "raid456");
    }

    tl::unexpected<Error> unsupported(std::string what, const std::string& place) const {
        return fail(ErrorKind::Unsupported, std::move(what), place);
    }

    /// The bytes of a logical volume, or of a part of one.
    Result<Source> content(const Item& volume, const std::string& place, int depth) {
        if (depth > most_depth) return fail(ErrorKind::Malformed, "its logical volumes are parts of each other", place);
        if (const auto copy = copies_.find(volume.name); copy != copies_.end())
            return unsupported(fmt::format("a snapshot of {}, which is not read here", printable(copy->second)), place);
        std::vector<Source> parts;
        std::int64_t next = 0;
        for (const auto* segment : segments(volume)) {
            if (++segments_read_ > most_segments)
                return fail(ErrorKind::TooLarge, "the group has more segments than are read", place);
            const auto count = segment->number("extent_count");
            if (segment->number("start_extent") != next || count <= 0 || count > (std::int64_t{1} << 40) ||
                extent_ == 0)
                return fail(ErrorKind::Malformed, "its segments do not follow each other", place);
            auto part = segment_content(*segment, static_cast<std::uint64_t>(count), place, depth);
            if (!part) return part;
            parts.push_back(std::move(*part));
            next += count;
        }
        if (parts.empty()) return fail(ErrorKind::Malformed, "it has no segments", place);
        return concatenate(std::move(parts), 0, place);
    }

    Result<Source> segment_content(const Item& segment, std::uint64_t extents, const std::string& place, int depth) {
        const std::string type = segment.text("type");
        needs(type);
        if (type == "striped") return striped(segment, extents, place, depth);
        if (type == "zero") return zero_source(extents * extent_, place);
        if (type == "mirror") return one_of(segment, "mirrors", 0, extents, place, depth);
        // Each image has metadata of its own in front of it.
        if (type == "raid1") return one_of(segment, "raids", 1, extents, place, depth);
        if (type.starts_with("raid")) return raid(segment, type, extents, place, depth);
        if (type == "error") return fail(ErrorKind::NotFound, "a part of it is gone for good", place);
        if (type == "thin") return unsupported("a thin volume, which is not read here", place);
        return unsupported(fmt::format("a volume of type {}, which is not read here", printable(type)), place);
    }

    /// Bytes counted from a partition's start, wherever it ends; null: it is none, or the disk ends before them.
    [[nodiscard]] Source on_disk(const Volume& partition, std::uint64_t begin, std::uint64_t length,
                                 const std::string& place) const {
        const auto disk = std::ranges::find(machine_.disks, partition.disk, &Disk::number);
        const auto start = partition.source->locate(0, 1);
        if (partition.partition <= 0 || disk == machine_.disks.end() || start.size() != 1) return nullptr;
        const std::uint64_t size = disk->source->size(), from = start.front().offset + begin;
        return from <= size && length <= size - from ? slice(disk->source, from, length, place) : nullptr;
    }

    /// `extents` of what `name` means, from its extent `from` on.
    Result<Source> area(const std::string& name, std::int64_t from, std::uint64_t extents, const std::string& place,
                        int depth) {
        if (from < 0 || from > (std::int64_t{1} << 40)) return fail(ErrorKind::Malformed, "an extent below 0", place);
        const std::uint64_t start = static_cast<std::uint64_t>(from) * extent_;
        const std::uint64_t length = extents * extent_;
        if (const auto pv = physical_.find(name); pv != physical_.end()) {
            const auto id = pv->second->text("id");
            const auto member = group_.members.find(lvm::plain_id(id));
            if (member == group_.members.end())
                return fail(ErrorKind::NotFound, fmt::format("the physical volume {} is not there", printable(id)),
                            place, printable(pv->second->text("device")), "absent");
            const auto& volume = member->second->volume;
            used_.insert(volume);
            const std::uint64_t begin = sector_bytes(*pv->second, "pe_start") + start;
            const std::uint64_t there = volume->source->size();
            if (begin <= there && length <= there - begin) return slice(volume->source, begin, length, place);
            const Error why{ErrorKind::OutOfRange, fmt::format("it goes on past the end of {}", volume->place), place,
                            size_text(begin + length), size_text(there)};
            if (begin >= there) return tl::unexpected(why);
            // Device mapper takes no table that goes on past a device's end (kernel drivers/md/dm-table.c). GRUB counts
            // from the start of the whole disk (grub-core/disk/diskfilter.c), and reads on behind a partition's end.
            too_small_ = why.what;
            if (auto on = on_disk(*volume, begin, length, place)) return on;
            return concatenate({slice(volume->source, begin, there - begin, place),
                                absent_source(length - (there - begin), why, place)},
                               0, place);
        }
        const auto lv = std::ranges::find(*logical_, name, &Item::name);
        if (lv == logical_->end())
            return fail(ErrorKind::Malformed, fmt::format("its part {} is described nowhere", printable(name)), place);
        auto whole = content(*lv, place, depth + 1);
        if (!whole) return whole;
        if (start > (*whole)->size() || length > (*whole)->size() - start)
            return fail(ErrorKind::Malformed, fmt::format("its part {} is too short", printable(name)), place);
        return slice(std::move(*whole), start, length, place);
    }

    /// A list of names and extents, one behind the other.
    static std::vector<std::pair<std::string, std::int64_t>> pairs(const Item& segment, std::string_view list) {
        std::vector<std::pair<std::string, std::int64_t>> out;
        const auto* item = segment.find(list);
        if (item == nullptr) return out;
        const auto& all = item->items();
        for (std::size_t i = 0; i < all.size(); ++i) {
            const auto* name = all[i].as_text();
            if (name == nullptr) continue;
            const auto* extent = i + 1 < all.size() ? all[i + 1].as_number() : nullptr;
            out.emplace_back(*name, extent != nullptr ? *extent : 0);
        }
        return out;
    }

    Result<Source> striped(const Item& segment, std::uint64_t extents, const std::string& place, int depth) {
        const auto stripes = pairs(segment, "stripes");
        if (stripes.empty() || extents % stripes.size() != 0)
            return fail(ErrorKind::Malformed, "a segment's stripes do not fit its extents", place);
        std::vector<Source> parts;
        for (const auto& [name, from] : stripes) {
            auto part = area(name, from, extents / stripes.size(), place, depth);
            if (!part) return part;
            parts.push_back(std::move(*part));
        }
        if (parts.size() == 1) return std::move(parts.front());
        const std::uint64_t chunk = sector_bytes(segment, "stripe_size");
        if (chunk == 0) return fail(ErrorKind::Malformed, "a segment's stripes have no size", place);
        return striped_source(std::move(parts), chunk, extents * extent_, place);
    }

    /// The first copy of a mirror that is there; what it does not give is read from the others. `skip`: how many names
    /// before each image are its metadata.
    Result<Source> one_of(const Item& segment, std::string_view list, std::size_t skip, std::uint64_t extents,
                          const std::string& place, int depth) {
        const auto all = pairs(segment, list);
        Result<Source> last = fail(ErrorKind::Malformed, "a mirror without copies", place);
        std::vector<Source> copies;
        for (std::size_t i = skip; i < all.size(); i += skip + 1) {
            const auto used = used_;
            last = area(all[i].first, all[i].second, extents, place, depth);
            if (last) copies.push_back(std::move(*last));
            // It is the first one's members that the volume is made of.
            if (!last || copies.size() > 1) used_ = used;
        }
        if (copies.empty()) return last;
        if (copies.size() == 1) return copies.front();
        return raid_source({1, 0, 0, extents * extent_}, std::move(copies), place);
    }

    /// Levels with parity, and 10, by names of their own (device mapper's target "raid").
    Result<Source> raid(const Item& segment, const std::string& type, std::uint64_t extents, const std::string& place,
                        int depth) {
        struct Kind {
            std::string_view name;
            int level;
            std::uint32_t layout;
            std::size_t checks;
        };
        static constexpr Kind kinds[] = {{"raid0", 0, 0, 0},       {"raid0_meta", 0, 0, 0},      {"raid4", 4, 0, 1},
                                         {"raid5", 5, 2, 1},       {"raid5_ls", 5, 2, 1},        {"raid5_la", 5, 0, 1},
                                         {"raid5_rs", 5, 3, 1},    {"raid5_ra", 5, 1, 1},        {"raid6", 6, 8, 2},
                                         {"raid6_zr", 6, 8, 2},    {"raid6_nr", 6, 9, 2},        {"raid6_nc", 6, 10, 2},
                                         {"raid10", 10, 0x102, 0}, {"raid10_near", 10, 0x102, 0}};
        const auto* kind = std::ranges::find(kinds, type, &Kind::name);
        if (kind == std::end(kinds))
            return unsupported(fmt::format("a volume of type {}, which is not read here", printable(type)), place);
        const auto all = pairs(segment, type == "raid0" ? "raid0_lvs" : "raids");
        const std::size_t skip = kind->name == "raid0" ? 0 : 1;
        const std::size_t count = all.size() / (skip + 1);
        const std::size_t data = kind->level == 10 ? count / 2 : count > kind->checks ? count - kind->checks : 0;
        if (data == 0 || extents % data != 0)
            return fail(ErrorKind::Malformed, "a segment's images do not fit its extents", place);
        std::vector<Source> parts;
        std::optional<Error> lacking;
        for (std::size_t i = skip; i < all.size(); i += skip + 1) {
            auto part = area(all[i].first, all[i].second, extents / data, place, depth);
            if (!part && part.error().lack() != Lack::Absent) return part;
            if (!part) lacking = part.error();
            parts.push_back(part ? std::move(*part) : nullptr);
        }
        const RaidShape shape{kind->level, kind->layout, sector_bytes(segment, "stripe_size"),
                              extents / data * extent_};
        auto made = raid_source(shape, std::move(parts), place);
        if (!made && lacking) return tl::unexpected(*lacking);
        return made;
    }

    const Group& group_;
    const Machine& machine_;
    std::uint64_t extent_;  ///< bytes
    std::map<std::string, const Item*> physical_;
    inline static const std::vector<Item> nothing_;
    const std::vector<Item>* logical_ = &nothing_;
    std::map<std::string, std::string> copies_;  ///< volumes that hold what a snapshot has kept, and their origin
    std::string refused_;                        ///< why LVM does not take the group
    std::string too_small_;                      ///< why device mapper does not take the volume that is made
    std::set<VolumeRef> used_;
    std::set<std::string> drivers_;
    std::size_t segments_read_ = 0;
};

/// Members by id; of two with the same one, as after a copy of a disk, LVM uses neither without being told.
std::map<std::string, const Physical*> unlike(const std::vector<Physical>& all, Assembly& out) {
    std::map<std::string, const Physical*> members;
    for (const auto& one : all) {
        if (one.id.empty()) continue;
        const auto [known, added] = members.emplace(one.id, &one);
        if (added) continue;
        out.findings.push_back(make_finding(
            Code::LayerDuplicate,
            fmt::format(
                "{} and {} are the same physical volume ({}): one is a copy of the other; the first is used here",
                known->second->volume->place, one.volume->place, one.id),
            {evidence_place(known->second->volume->place), evidence_place(one.volume->place)}));
    }
    return members;
}

}  // namespace

Assembly assemble_lvm(std::span<const VolumeRef> members, const Machine& machine) {
    Assembly out;
    std::vector<Physical> all;
    for (const auto& volume : members) {
        all.push_back(lvm::read_physical(volume));
        out.findings.insert(out.findings.end(), all.back().findings.begin(), all.back().findings.end());
        if (all.back().unused) out.understood.push_back(volume);
    }
    const auto by_id = unlike(all, out);
    std::map<std::string, Group> groups;  // by the group's id
    for (const auto& one : all)
        for (const auto& description : one.descriptions) {
            const auto id = lvm::plain_id(description.root.text("id"));
            auto& group = groups[id];
            group.id = id;
            const auto worth = [](const Description& d) { return std::pair(d.refused.empty(), d.sequence); };
            if (group.text.group.empty() || worth(description) > worth(group.text)) group.text = description;
        }
    for (auto& [id, group] : groups) {
        const std::string& name = group.text.group;
        group.name_twice =
            std::ranges::count_if(groups, [&name](const auto& other) { return other.second.text.group == name; }) > 1;
        if (const auto* volumes = group.text.root.find("physical_volumes"))
            for (const auto& pv : volumes->items())
                if (const auto found = by_id.find(lvm::plain_id(pv.text("id"))); found != by_id.end())
                    group.members.insert(*found);
        for (const auto& [pv, member] : group.members) out.understood.push_back(member->volume);
        auto made = GroupReader(group, machine).run();
        out.made.insert(out.made.end(), made.made.begin(), made.made.end());
        out.findings.insert(out.findings.end(), made.findings.begin(), made.findings.end());
    }
    return out;
}

}  // namespace herberge
