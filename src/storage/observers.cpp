// SPDX-License-Identifier: MIT
// What each program that looks at storage understands, and by which rules.
#include <fmt/format.h>
#include <algorithm>

#include <herberge/storage.hpp>

#include "storage/layers.hpp"

namespace herberge {

namespace {

struct ObserverTraits {
    Observer observer;
    std::string_view name;
    bool knows_layers;  ///< a member of an array or an encrypted volume is no file system to it
    Reader readers[2];  ///< how it reads file systems: the first way that works
};

constexpr ObserverTraits rows[] = {
    {Observer::Analyst, "this program", false, {Reader::Loader, Reader::Kernel}},
    {Observer::Uefi, "UEFI firmware", false, {Reader::Kernel, Reader::Grub}},
    {Observer::Loader, "the loader", false, {Reader::Loader, Reader::Kernel}},
    {Observer::Grub, "GRUB", false, {Reader::Grub, Reader::Grub}},
    {Observer::WindowsLoader, "the Windows loader", false, {Reader::Grub, Reader::Grub}},
    {Observer::Linux, "the Linux kernel", true, {Reader::Kernel, Reader::Kernel}},
    {Observer::Nt, "the Windows kernel", false, {Reader::Loader, Reader::Kernel}},
};

const ObserverTraits& observer_traits(Observer observer) { return rows[static_cast<std::size_t>(observer)]; }

/// Nothing is recognised: because nothing is there, or because the medium does not give the places of the marks?
std::optional<Error> unreadable_marks(const ByteSource& source) {
    // Superblocks lie in the first 4 KiB, Btrfs' and ISO 9660's further behind.
    for (const std::uint64_t at : {std::uint64_t{0}, std::uint64_t{1024}, std::uint64_t{32768}, std::uint64_t{65536}}) {
        const std::uint64_t length = std::min<std::uint64_t>(1024, source.size() - std::min(source.size(), at));
        if (const auto bytes = source.bytes(std::min(source.size(), at), length); !bytes && bytes.error().unreadable())
            return bytes.error();
    }
    return std::nullopt;
}

}  // namespace

bool knows_layers(Observer observer) { return observer_traits(observer).knows_layers; }

std::string_view node_kind_name(NodeKind kind) {
    static constexpr std::string_view names[] = {"disk",           "partition",       "boot image",  "array",
                                                 "logical volume", "unlocked volume", "packed file", "flash volume"};
    return names[static_cast<std::size_t>(kind)];
}

std::string_view observer_name(Observer observer) { return observer_traits(observer).name; }

Volume::Volume(Source bytes, int on_disk, int number, std::string uuid, std::string label)
    : disk(on_disk),
      partition(number),
      place(bytes->place()),
      source(std::move(bytes)),
      info(recognise_volume(*source)),
      partuuid(std::move(uuid)),
      partlabel(std::move(label)),
      plain_(info.content() == Content::Member ? recognise_plain_volume(*source) : info),
      unreadable_mark_(info.known() ? std::nullopt : unreadable_marks(*source)) {
    kind = number > 0 ? NodeKind::Partition : number < 0 ? NodeKind::BootImage : NodeKind::WholeDisk;
}

Volume::Volume(NodeKind of, Source bytes, std::vector<VolumeRef> members, LayerNames called, std::optional<Error> why)
    : Volume(std::move(bytes), 0, 0) {
    kind = of;
    made_of = std::move(members);
    names = std::move(called);
    not_assembled = std::move(why);
}

VolumeRef Volume::rooted(FileId root) const {
    const auto out = copied();
    out->root_ = root;
    return out;
}

VolumeRef Volume::mounted(FileId point, VolumeRef other) const {
    const auto out = copied();
    out->root_ = root_;
    out->mount_ = {point, std::move(other)};
    return out;
}

VolumeRef Volume::joined(std::vector<Source> others, std::string listed) const {
    const auto out = copied();
    out->other_devices = std::move(others);
    out->listed_at = std::move(listed);
    return out;
}

std::shared_ptr<Volume> Volume::copied() const {
    auto out = made_of.empty() ? std::make_shared<Volume>(source, disk, partition, partuuid, partlabel)
                               : std::make_shared<Volume>(kind, source, made_of, names, not_assembled);
    out->other_devices = other_devices;
    out->listed_at = listed_at;
    return out;
}

bool Volume::lies_on(int on_disk) const {
    return disk == on_disk ||
           std::ranges::any_of(made_of, [&](const VolumeRef& member) { return member->lies_on(on_disk); });
}

const VolumeInfo& Volume::as(Observer observer) const { return observer_traits(observer).knows_layers ? info : plain_; }

const Volume::Opened& Volume::opened(Reader reader) const {
    const auto which = static_cast<std::size_t>(reader);
    std::call_once(once_[which], [&] {
        opened_[which] = open_file_system(source, reader, other_devices);
        if (root_ && *opened_[which]) opened_[which] = rooted_at(**opened_[which], *root_);
        if (!mount_ || !*opened_[which]) return;
        const auto& [point, other] = *mount_;
        std::shared_ptr<const FileSystem> fs;
        if (other != nullptr)
            if (const auto& its = other->opened(reader)) fs = *its;
        opened_[which] = mounted_on(**opened_[which], point, std::move(fs));
    });
    return *opened_[which];
}

const FileSystem* Volume::files(Observer observer) const {
    const auto& seen = as(observer);
    if (!seen.known() || seen.holds_others()) return nullptr;
    for (const Reader reader : observer_traits(observer).readers)
        if (const auto& fs = opened(reader)) return fs->get();
    return nullptr;
}

std::optional<Error> Volume::problem(Observer observer) const {
    const auto& seen = as(observer);
    if (not_assembled) return not_assembled;
    if (unreadable_mark_) return unreadable_mark_;
    if (!seen.known()) return Error{ErrorKind::NotFound, "no known file system", place, {}, {}};
    if (seen.holds_others())
        return Error{
            ErrorKind::Unsupported, fmt::format("{}: what lies inside is not read here", seen.name()), place, {}, {}};
    const auto& first = opened(observer_traits(observer).readers[0]);
    if (first) return std::nullopt;
    // What was recognised and is not any more: the mark was refused since.
    if (!first.error().unreadable() && source != nullptr)
        if (auto lost = unreadable_marks(*source)) return lost;
    return first.error();
}

namespace {

/// The primary copy lies in sectors that the medium does not give.
bool gpt_unreadable(const Disk& disk) {
    constexpr std::uint64_t sectors = 33;  // header and 128 entries
    const std::uint64_t from = disk.table.sector_size;
    const auto bytes =
        disk.source->bytes(from, std::min(sectors * from, disk.source->size() - std::min(from, disk.source->size())));
    return !bytes && bytes.error().unreadable();
}

}  // namespace

std::optional<std::string> Disk::refuses_table(Observer observer, bool told_gpt) const {
    const bool gpt = table.kind == TableKind::Gpt;
    switch (observer) {
        case Observer::Grub:
            // grub-core/partmap/gpt.c wants the mark in sector 1 and checks no checksum; partmap/msdos.c looks at the
            // status bytes.
            if (gpt && !table.primary_marked) return "sector 1 carries no mark of a GPT";
            if (!gpt && table.odd_status) return "a status byte in the table is neither 00 nor 80";
            return std::nullopt;
        case Observer::Linux:
            // block/partitions/efi.c: a protective entry that starts at sector 1 and a whole primary copy, unless the
            // command line says "gpt"; block/partitions/msdos.c: the status bytes.
            if (gpt && told_gpt && (table.primary_sound || table.backup_sound)) return std::nullopt;
            if (gpt && !table.primary_sound)
                return fmt::format("the primary GPT {}, and the command line does not say gpt",
                                   gpt_unreadable(*this) ? "cannot be read" : "is not sound");
            if (gpt && !table.protective_at_one) return "no protective entry starts at sector 1";
            if (!gpt && table.odd_status) return "a status byte in the table is neither 00 nor 80";
            return std::nullopt;
        default: return std::nullopt;
    }
}

}  // namespace herberge
