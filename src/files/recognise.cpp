// SPDX-License-Identifier: MIT
// Which reader a volume belongs to: each bids by the volume's own structures.
#include <fmt/format.h>

#include <herberge/files.hpp>

#include "files/btrfs.hpp"
#include "files/cramfs.hpp"
#include "files/exfat.hpp"
#include "files/ext.hpp"
#include "files/f2fs.hpp"
#include "files/fat.hpp"
#include "files/iso9660.hpp"
#include "files/jffs2.hpp"
#include "files/marks.hpp"
#include "files/ntfs.hpp"
#include "files/squashfs.hpp"
#include "files/ubifs.hpp"
#include "files/wim.hpp"
#include "files/xfs.hpp"

namespace herberge {

namespace {

using Opened = Result<std::shared_ptr<const FileSystem>>;

struct Bidder {
    std::optional<VolumeInfo> (*recognise)(const ByteSource&);
    Opened (*open)(const Source&, Reader, std::span<const Source>);  ///< null: recognised only
};

/// Of a file system that lies on one device.
template <Opened (*open)(const Source&, Reader)>
Opened alone(const Source& volume, Reader reader, std::span<const Source> /*others*/) {
    return open(volume, reader);
}

/// A FAT's parameter block is the weakest mark of all: it comes last.
constexpr Bidder bidders[] = {{recognise_ext, alone<open_ext>},
                              {recognise_ntfs, alone<open_ntfs>},
                              {recognise_squashfs, alone<open_squashfs>},
                              {recognise_xfs, alone<open_xfs>},
                              {recognise_btrfs, open_btrfs},
                              {recognise_ubifs, alone<open_ubifs>},
                              {recognise_jffs2, alone<open_jffs2>},
                              {recognise_cramfs, alone<open_cramfs>},
                              {recognise_wim, alone<open_wim_to_start>},
                              {recognise_f2fs, alone<open_f2fs>},
                              {recognise_exfat, alone<open_exfat>},
                              {recognise_by_mark, nullptr},
                              {recognise_iso9660, alone<open_iso9660>},
                              {recognise_fat, alone<open_fat>}};

class Rooted final : public FileSystem {
public:
    Rooted(std::shared_ptr<const FileSystem> fs, FileId root) : fs_(std::move(fs)), root_(root) {}
    [[nodiscard]] const VolumeInfo& info() const override { return fs_->info(); }
    [[nodiscard]] FileId root() const override { return root_; }
    [[nodiscard]] Result<FileInfo> stat(FileId file) const override { return fs_->stat(file); }
    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        return fs_->lookup(directory, name);
    }
    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override { return fs_->list(directory); }
    [[nodiscard]] Result<std::string> link_target(FileId link) const override { return fs_->link_target(link); }
    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        return fs_->open(file, std::move(place));
    }
    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override { return fs_->extents(file); }
    [[nodiscard]] bool ignores_case() const override { return fs_->ignores_case(); }
    [[nodiscard]] std::vector<Finding> mount_obstacles(std::string_view options) const override {
        return fs_->mount_obstacles(options);
    }
    [[nodiscard]] std::optional<std::string> unreplayed() const override { return fs_->unreplayed(); }
    [[nodiscard]] std::vector<Finding> remarks() const override { return fs_->remarks(); }

private:
    std::shared_ptr<const FileSystem> fs_;
    FileId root_;
};

}  // namespace

std::shared_ptr<const FileSystem> rooted_at(std::shared_ptr<const FileSystem> fs, FileId root) {
    return std::make_shared<const Rooted>(std::move(fs), root);
}

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

Result<std::shared_ptr<const FileSystem>> open_file_system(const Source& volume, Reader reader,
                                                           std::span<const Source> others) {
    for (const auto& bidder : bidders) {
        const auto info = bidder.recognise(*volume);
        if (!info) continue;
        const bool strict_fat = reader == Reader::Grub && info->is(Family::Fat);
        if (bidder.open != nullptr)
            return bidder.open(volume, reader == Reader::Grub && !strict_fat ? Reader::Loader : reader, others);
        return fail(ErrorKind::Unsupported, fmt::format("{}: its files are not read here", info->name()),
                    volume->place());
    }
    return fail(ErrorKind::NotFound, "no known file system", volume->place());
}

}  // namespace herberge
