// SPDX-License-Identifier: MIT
// Which reader a volume belongs to: each bids by the volume's own structures.
#include <fmt/format.h>

#include <herberge/files.hpp>

#include "files/ext.hpp"
#include "files/fat.hpp"
#include "files/iso9660.hpp"
#include "files/marks.hpp"
#include "files/ntfs.hpp"
#include "files/squashfs.hpp"
#include "files/xfs.hpp"

namespace herberge {

namespace {

struct Bidder {
    std::optional<VolumeInfo> (*recognise)(const ByteSource&);
    Result<std::shared_ptr<const FileSystem>> (*open)(const Source&, Reader);  ///< null: recognised only
};

/// A FAT's parameter block is the weakest mark of all: it comes last.
constexpr Bidder bidders[] = {
    {recognise_ext, open_ext}, {recognise_ntfs, open_ntfs},  {recognise_squashfs, open_squashfs},
    {recognise_xfs, open_xfs}, {recognise_by_mark, nullptr}, {recognise_iso9660, open_iso9660},
    {recognise_fat, open_fat}};

}  // namespace

VolumeInfo recognise_volume(const ByteSource& volume) {
    // What lies around other things comes first, as for the operating system: an encrypted volume's or a member's
    // content may look like a file system of its own.
    if (auto info = recognise_layer(volume)) return *info;
    return recognise_plain_volume(volume);
}

VolumeInfo recognise_plain_volume(const ByteSource& volume) {
    for (const auto& bidder : bidders)
        if (auto info = bidder.recognise(volume)) return *info;
    return {};
}

Result<std::shared_ptr<const FileSystem>> open_file_system(const Source& volume, Reader reader) {
    for (const auto& bidder : bidders) {
        const auto info = bidder.recognise(*volume);
        if (!info) continue;
        if (bidder.open != nullptr) return bidder.open(volume, reader);
        return fail(ErrorKind::Unsupported, fmt::format("{}: its files are not read here", info->name()),
                    volume->place());
    }
    return fail(ErrorKind::NotFound, "no known file system", volume->place());
}

}  // namespace herberge
