// SPDX-License-Identifier: MIT
#include "remedy/edits.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <cstring>
#include <optional>

#include "ondisk/ext.hpp"
#include "ondisk/fat.hpp"
#include "ondisk/linux.hpp"
#include "ondisk/marks.hpp"
#include "ondisk/mbr.hpp"

namespace herberge::remedy {

namespace {

std::optional<std::vector<std::uint8_t>> hex_digits(std::string_view text, std::size_t bytes) {
    std::string digits;
    for (const char c : text)
        if (c != '-') digits += c;
    if (digits.size() != 2 * bytes) return std::nullopt;
    std::vector<std::uint8_t> out(bytes);
    for (std::size_t i = 0; i < digits.size(); ++i) {
        const char c = digits[i];
        int value = 0;
        if (c >= '0' && c <= '9') value = c - '0';
        else if (c >= 'a' && c <= 'f') value = c - 'a' + 10;
        else if (c >= 'A' && c <= 'F') value = c - 'A' + 10;
        else return std::nullopt;
        out[i / 2] = static_cast<std::uint8_t>(out[i / 2] * 16 + value);
    }
    return out;
}

Error not_an_identifier(std::string_view text, std::string expected) {
    return {ErrorKind::Malformed, "not an identifier of this file system", {}, std::move(expected), std::string(text)};
}

Result<void> set_ext_uuid(Workshop& shop, const Volume& volume, std::string_view text) {
    constexpr std::uint64_t at = 1024;
    constexpr std::uint32_t seed_stored = 0x2000, group_checksums = 0x10, metadata_checksums = 0x400;
    const auto uuid = hex_digits(text, 16);
    if (!uuid) return tl::unexpected(not_an_identifier(text, "a UUID"));
    auto super = volume.source->load<ondisk::ExtSuper>(at);
    if (!super) return tl::unexpected(super.error());
    if ((super->feature_ro_compat & group_checksums) != 0)
        return fail(ErrorKind::Unsupported, "every block group's checksum would change with the UUID", volume.place);
    if ((super->feature_ro_compat & metadata_checksums) != 0 && (super->feature_incompat & seed_stored) == 0) {
        // All checksums begin with the UUID's: the old one is kept as their seed.
        super->checksum_seed = crc32c(0xFFFFFFFFU, super->uuid);
        super->feature_incompat = super->feature_incompat | seed_stored;
    }
    std::ranges::copy(*uuid, super->uuid.begin());
    if ((super->feature_ro_compat & metadata_checksums) != 0)
        super->checksum = crc32c(0xFFFFFFFFU, ondisk::stored_bytes(*super).first(offsetof(ondisk::ExtSuper, checksum)));
    return shop.write(*volume.source, at, ondisk::stored_bytes(*super));
}

Result<void> set_serial(Workshop& shop, const Volume& volume, std::string_view text, std::uint64_t at,
                        std::size_t bytes) {
    auto serial = hex_digits(text, bytes);
    if (!serial) return tl::unexpected(not_an_identifier(text, fmt::format("{} hexadecimal digits", 2 * bytes)));
    std::ranges::reverse(*serial);
    return shop.write(*volume.source, at, *serial);
}

/// A file as it is read now, and the directory that has its name.
struct Found {
    VolumeRef volume;
    const FileSystem* files = nullptr;
    Resolved file;
};
Result<Found> find(const Machine& machine, std::string_view place, const std::string& path) {
    Found out;
    out.volume = machine.at(place);
    if (out.volume == nullptr) return fail(ErrorKind::NotFound, "there is no such volume", std::string(place));
    out.files = out.volume->files(Observer::Loader);
    if (out.files == nullptr) out.files = out.volume->files(Observer::Linux);
    if (out.files == nullptr)
        return tl::unexpected(
            out.volume->problem(Observer::Linux)
                .value_or(Error{ErrorKind::Unsupported, "no files are read here", out.volume->place, {}, {}}));
    auto file = resolve(*out.files, path);
    if (!file) return tl::unexpected(file.error());
    out.file = std::move(*file);
    return out;
}

Result<void> lay(Workshop& shop, const Volume& volume, const std::vector<VolumeEdit>& edits) {
    for (const auto& edit : edits)
        if (auto wrote = shop.write(*volume.source, edit.offset, edit.bytes); !wrote) return wrote;
    return {};
}

}  // namespace

Result<void> make_active(Workshop& shop, const Disk& disk, const Partition& partition) {
    if (disk.table.kind != TableKind::Mbr || partition.logical)
        return fail(ErrorKind::Unsupported, "only a primary partition of an MBR disk can be the active one",
                    fmt::format("d{}p{}", disk.number, partition.number));
    for (int slot = 0; slot < 4; ++slot) {
        const std::uint64_t at =
            offsetof(ondisk::Mbr, entries) + static_cast<unsigned>(slot) * sizeof(ondisk::MbrEntry);
        const std::uint8_t status = slot == partition.slot ? 0x80 : 0;
        if (auto wrote = shop.write(disk.number, at, {&status, 1}); !wrote) return wrote;
    }
    return {};
}

Result<void> set_identifier(Workshop& shop, const Volume& volume, std::string_view identifier) {
    switch (traits_of(volume.info.format).family) {
        case Family::Ext: return set_ext_uuid(shop, volume, identifier);
        case Family::Fat: {
            constexpr std::uint64_t wide =
                offsetof(ondisk::FatBoot32, extended) + offsetof(ondisk::FatExtended, serial);
            constexpr std::uint64_t narrow =
                offsetof(ondisk::FatBoot16, extended) + offsetof(ondisk::FatExtended, serial);
            return set_serial(shop, volume, identifier, volume.info.format == Format::Fat32 ? wide : narrow, 4);
        }
        case Family::Ntfs: return set_serial(shop, volume, identifier, offsetof(ondisk::NtfsBoot, serial), 8);
        case Family::Swap: {
            const auto uuid = hex_digits(identifier, 16);
            if (!uuid) return tl::unexpected(not_an_identifier(identifier, "a UUID"));
            return shop.write(*volume.source, offsetof(ondisk::SwapHeader, uuid), *uuid);
        }
        default: break;
    }
    return fail(ErrorKind::Unsupported, "the identifier of this kind of volume is not changed here", volume.place, {},
                volume.info.name());
}

Result<void> set_content(Workshop& shop, std::string_view volume, const std::string& path,
                         std::span<const std::uint8_t> content) {
    const Machine before = shop.machine();
    const auto found = find(before, volume, path);
    if (!found) return tl::unexpected(found.error());
    if (found->volume->info.is(Family::Btrfs))
        return fail(ErrorKind::Unsupported, "Btrfs guards the content of files by checksums", found->volume->place);
    const auto write = [&](const Found& file) -> Result<void> {
        const auto source = file.files->open(file.file.file.id, fmt::format("{}:{}", volume, file.file.path));
        return source ? shop.write(**source, 0, content) : tl::unexpected(source.error());
    };
    if (found->file.file.size == content.size()) return write(*found);
    const auto edits = found->files->resized(found->file.file.id, content.size());
    if (!edits) return tl::unexpected(edits.error());
    if (auto laid = lay(shop, *found->volume, *edits); !laid) return laid;
    // With its new size the file is where it was; its blocks are found anew.
    const Machine after = shop.machine();
    const auto again = find(after, volume, path);
    return again ? write(*again) : tl::unexpected(again.error());
}

Result<void> put_file(Workshop& shop, std::string_view volume, const std::string& path,
                      std::span<const std::uint8_t> content) {
    if (!path.starts_with('/')) return fail(ErrorKind::Malformed, "not the path of a file", path);
    for (std::size_t at = 0;;) {
        const Machine machine = shop.machine();
        const auto folder = find(machine, volume, at == 0 ? "/" : path.substr(0, at));
        if (!folder) return tl::unexpected(folder.error());
        const auto next = path.find('/', at + 1);
        const std::string name = path.substr(at + 1, next == std::string::npos ? next : next - at - 1);
        const auto there = folder->files->lookup(folder->file.file.id, name);
        if (next == std::string::npos) {
            const auto edits = folder->files->with_file(folder->file.file.id, name, content);
            return edits ? lay(shop, *folder->volume, *edits) : tl::unexpected(edits.error());
        }
        if (!there) {
            const auto edits = folder->files->with_directory(folder->file.file.id, name);
            if (!edits) return tl::unexpected(edits.error());
            if (auto laid = lay(shop, *folder->volume, *edits); !laid) return laid;
        }
        at = next;
    }
}

namespace {

/// The folder of a path and the last name in it.
struct InFolder {
    Found folder;
    std::string name;
};
Result<InFolder> in_folder(const Machine& machine, std::string_view volume, const std::string& path) {
    const auto slash = path.rfind('/');
    if (slash == std::string::npos || slash + 1 == path.size())
        return fail(ErrorKind::Malformed, "not the path of a file", path);
    auto folder = find(machine, volume, slash == 0 ? "/" : path.substr(0, slash));
    if (!folder) return tl::unexpected(folder.error());
    return InFolder{std::move(*folder), path.substr(slash + 1)};
}

Result<void> lay_all(Workshop& shop, const Volume& volume, const Result<std::vector<VolumeEdit>>& edits) {
    return edits ? lay(shop, volume, *edits) : tl::unexpected(edits.error());
}

}  // namespace

Result<void> put_folder(Workshop& shop, std::string_view volume, const std::string& path) {
    const Machine machine = shop.machine();
    const auto place = in_folder(machine, volume, path);
    if (!place) return tl::unexpected(place.error());
    const auto& folder = place->folder;
    return lay_all(shop, *folder.volume, folder.files->with_directory(folder.file.file.id, place->name));
}

Result<void> put_link(Workshop& shop, std::string_view volume, const std::string& path, std::string_view target) {
    const Machine machine = shop.machine();
    const auto place = in_folder(machine, volume, path);
    if (!place) return tl::unexpected(place.error());
    const auto& folder = place->folder;
    return lay_all(shop, *folder.volume, folder.files->with_link(folder.file.file.id, place->name, target));
}

Result<void> rename_file(Workshop& shop, std::string_view volume, const std::string& path, const std::string& name) {
    const Machine machine = shop.machine();
    const auto place = in_folder(machine, volume, path);
    if (!place) return tl::unexpected(place.error());
    const auto id = place->folder.file.file.id;
    const auto file = place->folder.files->lookup(id, place->name);
    if (!file) return tl::unexpected(file.error());
    if (place->folder.files->lookup(id, name))
        return fail(ErrorKind::WrongType, "this name is taken", std::string(volume), {}, name);
    if (auto done = lay_all(shop, *place->folder.volume, place->folder.files->without_name(id, place->name)); !done)
        return done;
    // The folder's block is read again as it is now.
    const Machine now = shop.machine();
    const auto again = in_folder(now, volume, path);
    if (!again) return tl::unexpected(again.error());
    return lay_all(shop, *again->folder.volume, again->folder.files->with_name(id, name, *file));
}

Result<void> set_permissions(Workshop& shop, std::string_view volume, const std::string& path,
                             std::uint32_t permissions) {
    const Machine machine = shop.machine();
    const auto file = find(machine, volume, path);
    if (!file) return tl::unexpected(file.error());
    const auto edits = file->files->with_permissions(file->file.file.id, permissions);
    return edits ? lay(shop, *file->volume, *edits) : tl::unexpected(edits.error());
}

Result<void> hide_file(Workshop& shop, std::string_view volume, const std::string& path) {
    const Machine machine = shop.machine();
    const auto place = in_folder(machine, volume, path);
    if (!place) return tl::unexpected(place.error());
    const auto& folder = place->folder;
    return lay_all(shop, *folder.volume, folder.files->without_name(folder.file.file.id, place->name));
}

}  // namespace herberge::remedy
