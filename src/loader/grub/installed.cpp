// SPDX-License-Identifier: MIT
#include "loader/grub/installed.hpp"

#include <fmt/format.h>
#include <algorithm>
#include <array>

#include "artifact/pkcs7.hpp"
#include "ondisk/grub.hpp"

namespace herberge::grub {

namespace {

constexpr std::size_t sector = 512;
constexpr std::uint64_t most_file = std::uint64_t{4} << 20U;
/// A different version differs nearly everywhere: it tells nothing about damage.
constexpr std::size_t most_differing = 64;

/// Builds by the digests of their parts: the first sector without its list, and the start-up code without the fields of
/// its header that are filled in.
struct Build {
    std::string_view name, first_code, start_up;
};
constexpr Build builds[] = {
    {"GRUB 2.06 as Debian 12 packages it", "b409fde704d4064922f37a8c44d264cd64adf37f678ca021272502d64cb59a15",
     "0d2eff2df468c45194f286229ce373207eb22616ea1896b63fd4eb11f76ed040"},
};

/// Where the list of runs ends, growing downwards from the sector's end.
std::size_t code_end(std::span<const std::uint8_t> first) {
    std::size_t at = sector - sizeof(ondisk::GrubBlockRun);
    while (at > 0x100 && ondisk::from_bytes<ondisk::GrubBlockRun>(first, at).sectors != 0)
        at -= sizeof(ondisk::GrubBlockRun);
    return at;
}

/// The header's fields that makers and installers of images fill in.
std::vector<std::uint8_t> without_fields(std::span<const std::uint8_t> start_up) {
    std::vector<std::uint8_t> out(start_up.begin(), start_up.end());
    constexpr std::size_t from = offsetof(ondisk::GrubCoreHeader, compressed_size);
    const std::size_t to = std::min(out.size(), sizeof(ondisk::GrubCoreHeader));
    for (std::size_t i = from; i < to; ++i) out[i] = 0;
    return out;
}

std::optional<std::vector<std::uint8_t>> file_on(const Volume& volume, const std::string& path) {
    const FileSystem* fs = volume.files(Observer::Grub);
    if (fs == nullptr) return std::nullopt;
    const auto found = resolve(*fs, path);
    const auto file =
        found && found->file.type == FileType::Regular ? fs->open(found->file.id, path) : fail(ErrorKind::NotFound, {});
    const auto bytes = file ? (*file)->bytes(0, (*file)->size(), most_file) : tl::unexpected(file.error());
    if (!bytes) return std::nullopt;
    return *bytes;
}

/// Adds the bytes that differ; false: so many that it is another version.
bool differences(std::span<const std::uint8_t> installed, std::span<const std::uint8_t> file, const DiskRange& where,
                 const std::string& place, std::vector<Evidence>& out) {
    if (file.size() < installed.size()) return false;
    std::vector<std::size_t> all;
    for (std::size_t i = 0; i < installed.size() && all.size() <= most_differing; ++i)
        if (installed[i] != file[i]) all.push_back(i);
    if (all.size() > most_differing) return false;
    for (const auto i : all)
        out.push_back({DiskRange{where.disk, where.offset + i, 1},
                       {},
                       {},
                       fmt::format("{:02x}, as in {}", file[i], place),
                       fmt::format("{:02x}", installed[i])});
    return true;
}

}  // namespace

Compared compare_installed(const Machine& machine, const GrubCore& core, const VolumeRef& volume,
                           const std::string& prefix_path) {
    Compared out;
    if (core.first_code.size() < sector || core.start_up.size() < sizeof(ondisk::GrubCoreHeader) ||
        core.ranges.size() < 2)
        return out;
    const auto first = std::span(core.first_code).first(code_end(core.first_code));
    const auto start_up = without_fields(core.start_up);
    const DiskRange start_range = core.ranges[1];
    auto compare = [&](std::span<const std::uint8_t> first_file, const std::string& first_place,
                       std::span<const std::uint8_t> start_file, const std::string& start_place) {
        std::vector<Evidence> found;
        const auto plain = without_fields(start_file);
        if (!differences(first, first_file, core.ranges[0], first_place, found) ||
            !differences(start_up, plain, start_range, start_place, found))
            return false;
        out.with = first_place == start_place ? first_place : fmt::format("{} and {}", first_place, start_place);
        out.differing = std::move(found);
        return true;
    };
    if (volume != nullptr) {
        const std::string path = prefix_path + "/i386-pc/core.img";
        const std::string place = fmt::format("{}:{}", volume->place, path);
        if (const auto file = file_on(*volume, path); file && file->size() > sector + start_up.size())
            if (compare(std::span(*file).first(sector), place, std::span(*file).subspan(sector), place)) return out;
    }
    for (const auto& build : builds)
        if (pkcs7::sha256_of(first) == build.first_code && pkcs7::sha256_of(start_up) == build.start_up) {
            out.with = build.name;
            return out;
        }
    for (const auto& disk : machine.disks)
        for (const auto& held : disk.volumes) {
            const Volume& other = *held;
            const auto first_file = file_on(other, "/usr/lib/grub/i386-pc/diskboot.img");
            const auto start_file =
                first_file ? file_on(other, "/usr/lib/grub/i386-pc/lzma_decompress.img") : std::nullopt;
            if (start_file && compare(*first_file, other.place + ":/usr/lib/grub/i386-pc/diskboot.img", *start_file,
                                      other.place + ":/usr/lib/grub/i386-pc/lzma_decompress.img"))
                return out;
        }
    return out;
}

}  // namespace herberge::grub
