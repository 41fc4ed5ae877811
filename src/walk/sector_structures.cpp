// SPDX-License-Identifier: MIT
// Sectors that are known by the structures in them.
#include "walk/sector_structures.hpp"

#include <fmt/format.h>
#include <algorithm>

#include "bytes/text16.hpp"
#include "bytes/uniform.hpp"
#include "ondisk/fat.hpp"
#include "ondisk/gpt.hpp"
#include "ondisk/hive.hpp"
#include "ondisk/ntfs.hpp"
#include "ondisk/pe.hpp"
#include "ondisk/uefi.hpp"

namespace herberge::walk {

// What of a structure can be read as text is no message that code would show.

namespace {

constexpr std::uint64_t sector = 512;

/// Adds the fields of the `T` at byte `at` of the sector, as far as it lies in it; false: it does not.
template <class T>
bool add(SectorView& view, std::uint64_t at, const std::string& prefix = {}) {
    if (at > view.bytes.size() || sizeof(T) > view.bytes.size() - at) return false;
    auto fields = ondisk::annotate(ondisk::from_bytes<T>(view.bytes, static_cast<std::size_t>(at)), at, prefix);
    view.fields.insert(view.fields.end(), fields.begin(), fields.end());
    return true;
}

void explain(SectorView& view, std::string_view name, std::string meaning) {
    const auto field = std::ranges::find(view.fields, name, &Field::name);
    if (field != view.fields.end()) field->meaning = std::move(meaning);
}

/// Entries of either copy of the GUID partition table.
bool gpt_entries(SectorView& view, const Disk& disk, std::uint64_t lba) {
    const std::uint64_t last = disk.source->size() / sector - 1;
    for (const std::uint64_t place : {std::uint64_t{1}, last}) {
        const auto head = disk.source->load<ondisk::GptHeader>(place * sector);
        if (!head || !std::ranges::equal(head->signature, std::string_view("EFI PART"), {}, {},
                                         [](char c) { return static_cast<std::uint8_t>(c); }))
            continue;
        const std::uint64_t size = head->entry_size;
        if (size < sizeof(ondisk::GptEntry) || size > sector || lba < head->entries_lba) continue;
        const std::uint64_t first = (lba - head->entries_lba) * sector;
        if (first / size >= head->entries) continue;
        view.kind = fmt::format("entries of the {} GUID partition table, from number {} on",
                                place == 1 ? "primary" : "backup", (first + size - 1) / size + 1);
        view.messages.clear();
        for (std::uint64_t at = (size - first % size) % size; at + size <= sector; at += size) {
            const auto entry = ondisk::from_bytes<ondisk::GptEntry>(view.bytes, static_cast<std::size_t>(at));
            if (holds_only(entry.type, 0)) continue;
            const std::string prefix = fmt::format("entry {}.", (first + at) / size + 1);
            auto fields = ondisk::annotate(entry, at, prefix);
            for (auto& field : fields) {
                if (field.name == prefix + "type") {
                    field.value = ondisk::guid_at(entry.type, 0);
                    field.meaning = std::string(gpt_type_name(field.value));
                }
                if (field.name == prefix + "id") field.value = ondisk::guid_at(entry.id, 0);
                if (field.name == prefix + "name")
                    field.value = "“" + printable(utf8_from(units_from(entry.name, false, true))) + "”";
            }
            view.fields.insert(view.fields.end(), fields.begin(), fields.end());
        }
        if (view.fields.empty()) view.next = "none of them is in use";
        return true;
    }
    return false;
}

/// The directory of a FAT volume that the sector belongs to; looks at 4096 directories at most.
std::optional<std::string> fat_directory_at(const Volume& volume, std::uint64_t byte) {
    const auto* fs = volume.files(Observer::Analyst);
    if (fs == nullptr) return std::nullopt;
    struct Open {
        FileId id;
        std::string path;
    };
    std::vector<Open> open{{fs->root(), "/"}};
    for (std::size_t i = 0; i < open.size() && i < 4096; ++i) {
        if (const auto pieces = fs->extents(open[i].id))
            for (const auto& piece : *pieces)
                if (byte >= piece.base_offset && byte - piece.base_offset < piece.length) return open[i].path;
        const auto names = fs->list(open[i].id);
        if (!names) continue;
        for (const auto& entry : *names)
            if (entry.type == FileType::Directory && entry.name != "." && entry.name != "..")
                open.push_back({entry.id, (i == 0 ? "/" : open[i].path + "/") + entry.name});
    }
    return std::nullopt;
}

bool fat_entries(SectorView& view, const Volume& volume, std::uint64_t offset) {
    const auto path = fat_directory_at(volume, offset);
    if (!path) return false;
    view.kind = fmt::format("directory entries of {}:{}", volume.place, *path);
    view.messages.clear();
    for (std::size_t at = 0; at < sector && view.bytes[at] != 0; at += sizeof(ondisk::FatEntry)) {
        constexpr std::uint8_t deleted = 0xE5;
        constexpr std::uint8_t long_name = 0x0F;
        const auto entry = ondisk::from_bytes<ondisk::FatEntry>(view.bytes, at);
        const std::string prefix = fmt::format("entry {}.", at / sizeof(entry));
        if ((entry.attributes & 0x3FU) == long_name) add<ondisk::FatLongEntry>(view, at, prefix);
        else add<ondisk::FatEntry>(view, at, prefix);
        if (view.bytes[at] == deleted) view.fields[view.fields.size() - 1].meaning = "of a deleted file";
    }
    return true;
}

bool fat_entries(SectorView& view, const Disk& disk, std::uint64_t lba) {
    for (const auto& volume : disk.volumes) {
        if (!volume->info.is(Family::Fat)) continue;
        const auto where = volume->source->locate(0, volume->source->size());
        if (where.size() != 1 || lba * sector < where[0].offset || lba * sector - where[0].offset >= where[0].length)
            continue;
        return fat_entries(view, *volume, lba * sector - where[0].offset);
    }
    return false;
}

void ntfs_record(SectorView& view) {
    add<ondisk::NtfsRecord>(view, 0);
    const auto record = ondisk::from_bytes<ondisk::NtfsRecord>(view.bytes);
    explain(view, "flags",
            fmt::format("{}{}", (record.flags & 1U) != 0 ? "in use" : "not in use",
                        (record.flags & 2U) != 0 ? ", a directory" : ""));
    std::size_t number = 0;
    for (std::uint64_t at = record.first_attribute;
         add<ondisk::NtfsAttribute>(view, at, fmt::format("attribute {}.", number)); ++number) {
        const auto head = ondisk::from_bytes<ondisk::NtfsAttribute>(view.bytes, static_cast<std::size_t>(at));
        const std::string prefix = fmt::format("attribute {}.", number);
        if (head.type == 0xFFFFFFFFU) {
            // The mark of the end is no attribute.
            std::erase_if(view.fields, [&](const Field& f) { return f.name.starts_with(prefix); });
            return;
        }
        if (head.non_resident != 0) add<ondisk::NtfsNonResident>(view, at + sizeof(head), prefix);
        else add<ondisk::NtfsResident>(view, at + sizeof(head), prefix);
        if (head.length < sizeof(head)) return;
        at += head.length;
    }
}

void pe_headers(SectorView& view) {
    add<ondisk::DosHead>(view, 0);
    std::erase_if(view.fields, [](const Field& f) { return f.name == "rest"; });
    std::uint64_t at = ondisk::from_bytes<ondisk::DosHead>(view.bytes).pe_at;
    if (!add<ondisk::PeFileHeader>(view, at, "file.")) return;
    const auto file = ondisk::from_bytes<ondisk::PeFileHeader>(view.bytes, static_cast<std::size_t>(at));
    if (file.mark[0] != 'P' || file.mark[1] != 'E') {
        view.fields.resize(2);
        return;
    }
    view.kind = "headers of a PE image";
    at += sizeof(file);
    const std::uint64_t sections = at + file.optional_size;
    const auto optional = ondisk::from_bytes<ondisk::PeOptional>(view.bytes, static_cast<std::size_t>(at));
    if (!add<ondisk::PeOptional>(view, at, "optional.")) return;
    at += sizeof(optional);
    if (optional.magic == 0x20B)
        at += add<ondisk::PeOptionalTail64>(view, at, "optional.") ? sizeof(ondisk::PeOptionalTail64) : 0;
    else at += add<ondisk::PeOptionalTail32>(view, at, "optional.") ? sizeof(ondisk::PeOptionalTail32) : 0;
    for (unsigned i = 0; at + sizeof(ondisk::PeDirectory) <= sections && i < 16; ++i, at += sizeof(ondisk::PeDirectory))
        if (!add<ondisk::PeDirectory>(view, at, fmt::format("directory {}.", i))) return;
    for (unsigned i = 0; i < file.sections; ++i)
        if (!add<ondisk::PeSectionHeader>(view, sections + i * sizeof(ondisk::PeSectionHeader),
                                          fmt::format("section {}.", i)))
            return;
}

/// As many variables as begin and end their heads in the sector.
template <class Head>
void variables(SectorView& view, std::uint64_t at) {
    for (unsigned i = 0; at < sector; ++i) {
        const auto head = ondisk::from_bytes<Head>(view.bytes, static_cast<std::size_t>(at));
        const std::string prefix = fmt::format("variable {}.", i);
        if (head.mark != 0x55AA || !add<Head>(view, at, prefix)) return;
        if (at + sizeof(head) + head.name_size <= sector)
            explain(view, prefix + "name_size",
                    printable(utf8_from(units_from(
                        std::span(view.bytes).subspan(static_cast<std::size_t>(at) + sizeof(head), head.name_size),
                        false, true))));
        at += (sizeof(head) + std::uint64_t{head.name_size} + head.data_size + 3) / 4 * 4;
    }
}

/// A firmware volume that holds a store of variables: its head, the store's, and the first variables'.
void variable_store(SectorView& view) {
    add<ondisk::FirmwareVolumeHead>(view, 0, "volume.");
    // The map of blocks behind the volume's head has any length: the store is known by its own GUID.
    for (std::size_t at = sizeof(ondisk::FirmwareVolumeHead); at < sector; at += 8) {
        const std::string guid = ondisk::guid_at(view.bytes, at);
        if (guid != ondisk::authenticated_store && guid != ondisk::plain_store) continue;
        if (!add<ondisk::VariableStoreHead>(view, at, "store.")) return;
        explain(view, "store.signature", guid == ondisk::plain_store ? "variables" : "authenticated variables");
        if (guid == ondisk::plain_store)
            variables<ondisk::PlainVariableHead>(view, at + sizeof(ondisk::VariableStoreHead));
        else variables<ondisk::VariableHead>(view, at + sizeof(ondisk::VariableStoreHead));
        return;
    }
}

void gpt_header(SectorView& view) {
    add<ondisk::GptHeader>(view, 0);
    for (auto& field : view.fields)
        if (field.name == "disk_guid") field.value = ondisk::guid_at(field.raw, 0);
}

void hive_bin(SectorView& view) {
    add<ondisk::HiveBin>(view, 0);
    std::uint64_t at = sizeof(ondisk::HiveBin);
    for (unsigned i = 0; at + 8 <= sector; ++i) {
        const std::int32_t told = ondisk::from_bytes<ondisk::little_int32_t>(view.bytes, static_cast<std::size_t>(at));
        const std::uint64_t length =
            told < 0 ? 0U - static_cast<std::uint32_t>(told) : static_cast<std::uint32_t>(told);
        const std::string prefix = fmt::format("cell {}.", i);
        if (told < 0 && view.bytes[at + 4] == 'n' && view.bytes[at + 5] == 'k')
            add<ondisk::HiveKey>(view, at + 4, prefix);
        if (told < 0 && view.bytes[at + 4] == 'v' && view.bytes[at + 5] == 'k')
            add<ondisk::HiveValueCell>(view, at + 4, prefix);
        if (length < 8 || length % 8 != 0) return;
        at += length;
    }
}

struct Detail {
    std::string_view kind;
    void (*fill)(SectorView& view);
};
/// Structures behind which others follow in the same sector.
constexpr Detail details[] = {{"ntfs-record", ntfs_record},
                              {"dos-head", pe_headers},
                              {"firmware-volume-head", variable_store},
                              {"hive-bin", hive_bin}};

}  // namespace

bool view_gpt(SectorView& view, const Disk& disk, std::uint64_t lba) {
    if (!structure_kind("gpt-header")->marks(view.bytes)) return gpt_entries(view, disk, lba);
    view.kind = structure_kind("gpt-header")->meaning;
    view.messages.clear();
    gpt_header(view);
    return true;
}

bool view_structures(SectorView& view, const Disk& disk, std::uint64_t lba) {
    return view_gpt(view, disk, lba) || fat_entries(view, disk, lba) || view_marked(view);
}

bool view_structures(SectorView& view, const Volume& volume, std::uint64_t offset) {
    return (volume.info.is(Family::Fat) && fat_entries(view, volume, offset)) || view_marked(view);
}

bool view_marked(SectorView& view) {
    const auto all = structure_kinds();
    const auto kind = std::ranges::find_if(all, [&](const StructureKind& k) { return k.marks(view.bytes); });
    if (kind == all.end()) return false;
    view.kind = std::string(kind->meaning);
    view.messages.clear();
    const auto* const more = std::ranges::find(details, kind->name, &Detail::kind);
    if (more != std::end(details)) more->fill(view);
    else view.fields = kind->fields(view.bytes, 0);
    return true;
}

}  // namespace herberge::walk

namespace herberge {

Result<SectorView> view_structure(const ByteSource& source, std::uint64_t offset, const StructureKind& kind,
                                  std::uint64_t count) {
    constexpr std::uint64_t most = std::uint64_t{1} << 20U;
    count = std::max<std::uint64_t>(count, 1);
    if (count > most / kind.size)
        return fail(ErrorKind::TooLarge, "too many of them to show", source.place(),
                    fmt::format("at most {}", most / kind.size), fmt::format("{}", count));
    const std::uint64_t length = kind.size * count;
    SectorView view;
    auto bytes = source.bytes(offset, length);
    if (!bytes) return tl::unexpected(bytes.error());
    view.bytes = std::move(*bytes);
    view.place = fmt::format("{}@{}+{}", source.place(), offset, length);
    view.kind = count == 1 ? std::string(kind.meaning) : fmt::format("{} times: {}", count, kind.meaning);
    if (!kind.mark.empty() && !kind.marks(view.bytes)) view.kind += ", whose mark is not there";
    for (std::uint64_t i = 0; i < count; ++i)
        for (auto& field :
             kind.fields(std::span(view.bytes).subspan(static_cast<std::size_t>(i * kind.size)), i * kind.size)) {
            if (count > 1) field.name = fmt::format("[{}].{}", i, field.name);
            view.fields.push_back(std::move(field));
        }
    return view;
}

}  // namespace herberge
