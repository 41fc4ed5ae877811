// SPDX-License-Identifier: MIT
#include "files/btrfs.hpp"

#include <fmt/format.h>
#include <fmt/ranges.h>
#include <algorithm>
#include <map>

#include "bytes/listed.hpp"
#include "files/btrfs_content.hpp"
#include "files/features.hpp"
#include "files/stored.hpp"

namespace herberge {

namespace {

using stored::begins;
using stored::fixed_text;
using stored::type_in_directory;
using stored::type_of_mode;

using btrfs::Key;
using btrfs::Piece;
using btrfs::Tree;

constexpr std::uint64_t super_at = 65536;
constexpr std::size_t super_size = 4096;
constexpr std::size_t chunks_at = 811;  // in the superblock: its own chunks, at most 2048 bytes
constexpr std::uint64_t top = 5;        // the tree of the top
constexpr std::uint64_t roots_directory = 6;
constexpr std::uint64_t first_inode = 256;
constexpr std::size_t most_extents = 1U << 20U;
constexpr std::size_t most_names = 1U << 20U;
constexpr std::uint64_t most_link = 4096;

namespace item {
constexpr std::uint8_t inode = 1, directory_name = 84, directory_index = 96, extent = 108, root = 132, root_back = 144;
}

/// Files are numbered by their tree and their inode in it.
constexpr unsigned inode_bits = 44;
FileId id_of(std::uint64_t tree, std::uint64_t inode) { return tree << inode_bits | inode; }
std::uint64_t tree_of(FileId id) { return id >> inode_bits; }
std::uint64_t inode_of(FileId id) { return id & ((std::uint64_t{1} << inode_bits) - 1); }

class Btrfs final : public FileSystem {
public:
    Btrfs(std::shared_ptr<const btrfs::Trees> trees, const ondisk::BtrfsSuper& super, VolumeInfo info)
        : trees_(std::move(trees)), super_(super), info_(std::move(info)) {}

    [[nodiscard]] const VolumeInfo& info() const override { return info_; }
    [[nodiscard]] FileId root() const override { return id_of(top, first_inode); }

    [[nodiscard]] FileId usual_root() const override {
        const Tree roots{super_.root, super_.root_level};
        const std::string_view name = "default";
        const auto found = trees_->item(roots, {roots_directory, item::directory_name, hash(name)});
        if (!found || found->size() < sizeof(ondisk::BtrfsDirectoryItem)) return root();
        const auto entry = ondisk::from_bytes<ondisk::BtrfsDirectoryItem>(*found);
        const std::uint64_t tree = entry.location.object;
        return subvolume_tree(tree) ? id_of(tree, first_inode) : root();
    }

    [[nodiscard]] std::vector<Subvolume> subvolumes() const override {
        constexpr std::size_t most = 4096;
        std::map<std::uint64_t, std::pair<std::uint64_t, std::string>>
            parents;  // by tree: parent's, and the name there
        (void)trees_->walk(
            {super_.root, super_.root_level}, {first_inode, 0, 0},
            [&](const Key& key, std::span<const std::uint8_t> data) {
                if (key.type == item::root_back && data.size() >= sizeof(ondisk::BtrfsRootReference)) {
                    const auto told = ondisk::from_bytes<ondisk::BtrfsRootReference>(data);
                    const auto length = std::min<std::size_t>(told.name_length, data.size() - sizeof(told));
                    parents[key.object] = {
                        key.offset, directory_path(key.offset, told.directory) +
                                        std::string(data.begin() + sizeof(told),
                                                    data.begin() + static_cast<std::ptrdiff_t>(sizeof(told) + length))};
                }
                return parents.size() < most;
            });
        std::vector<Subvolume> out;
        for (const auto& [tree, where] : parents) {
            std::string path = where.second;
            std::uint64_t parent = where.first;
            for (int depth = 0; parent != top && depth < 32; ++depth) {
                const auto above = parents.find(parent);
                if (above == parents.end()) break;
                path.insert(0, above->second.second + "/");
                parent = above->second.first;
            }
            if (parent == top) out.push_back({tree, "/" + path, id_of(tree, first_inode)});
        }
        return out;
    }

    [[nodiscard]] Result<FileInfo> stat(FileId file) const override {
        const auto inode = read_inode(file);
        if (!inode) return tl::unexpected(inode.error());
        FileInfo out;
        out.id = file;
        out.type = type_of_mode(inode->mode);
        out.size = inode->size;
        out.permissions = inode->mode & 07777U;
        out.uid = inode->uid;
        out.gid = inode->gid;
        out.modified = static_cast<std::int64_t>(std::uint64_t{inode->modified});
        return out;
    }

    [[nodiscard]] Result<FileId> lookup(FileId directory, std::string_view name) const override {
        const auto tree = subvolume_tree(tree_of(directory));
        if (!tree) return tl::unexpected(tree.error());
        const auto found = trees_->item(*tree, {inode_of(directory), item::directory_name, hash(name)});
        if (!found && found.error().kind != ErrorKind::NotFound) return tl::unexpected(found.error());
        if (found) {
            std::optional<FileId> id;
            each_name(*found, directory, [&](const DirEntry& entry) {
                if (entry.name == name) id = entry.id;
                return !id;
            });
            if (id) return *id;
        }
        return fail(ErrorKind::NotFound, fmt::format("no “{}” in the directory", printable(name)), place_of(directory));
    }

    [[nodiscard]] Result<std::vector<DirEntry>> list(FileId directory) const override {
        const auto info = stat(directory);
        if (!info) return tl::unexpected(info.error());
        if (info->type != FileType::Directory)
            return fail(ErrorKind::WrongType, "not a directory", place_of(directory));
        const auto tree = subvolume_tree(tree_of(directory));
        if (!tree) return tl::unexpected(tree.error());
        std::vector<DirEntry> out{{".", directory, FileType::Directory}, {"..", directory, FileType::Directory}};
        const std::uint64_t number = inode_of(directory);
        const auto walked = trees_->walk(*tree, {number, item::directory_index, 0},
                                         [&](const Key& key, std::span<const std::uint8_t> data) {
                                             if (key.object != number || key.type != item::directory_index)
                                                 return false;
                                             each_name(data, directory, [&](const DirEntry& entry) {
                                                 out.push_back(entry);
                                                 return true;
                                             });
                                             return out.size() < most_names;
                                         });
        if (!walked) return tl::unexpected(walked.error());
        return out;
    }

    [[nodiscard]] Result<std::string> link_target(FileId link) const override {
        const auto info = stat(link);
        if (!info) return tl::unexpected(info.error());
        if (info->type != FileType::Symlink) return fail(ErrorKind::WrongType, "not a link", place_of(link));
        if (info->size == 0 || info->size > most_link)
            return fail(ErrorKind::Malformed, "a link's target has an impossible length", place_of(link));
        const auto content = open(link, place_of(link));
        if (!content) return tl::unexpected(content.error());
        return (*content)->text(most_link);
    }

    [[nodiscard]] Result<Source> open(FileId file, std::string place) const override {
        const auto inode = read_inode(file);
        if (!inode) return tl::unexpected(inode.error());
        auto pieces = pieces_of(file);
        if (!pieces) return tl::unexpected(pieces.error());
        return btrfs::content_of(trees_, std::move(*pieces), inode->size, super_.sector_size, std::move(place));
    }

    [[nodiscard]] Result<std::vector<Extent>> extents(FileId file) const override {
        const auto pieces = pieces_of(file);
        if (!pieces) return tl::unexpected(pieces.error());
        std::vector<Extent> out;
        for (const auto& piece : *pieces) {
            if (!piece.here.empty() || piece.told.type != 1 || piece.told.position == 0) continue;
            std::uint64_t logical =
                piece.told.position + (piece.told.compression == 0 ? std::uint64_t{piece.told.offset} : 0);
            std::uint64_t left = piece.told.compression == 0 ? piece.length : std::uint64_t{piece.told.packed};
            std::uint64_t offset = piece.offset;
            while (left != 0) {
                const auto spot = trees_->locate(logical);
                if (!spot) return tl::unexpected(spot.error());
                const std::uint64_t some = std::min(spot->room, left);
                const auto here = std::ranges::find_if(
                    spot->copies, [&](const auto& copy) { return *copy.device == trees_->volume(); });
                if (here == spot->copies.end())
                    return fail(ErrorKind::Unsupported, "a part of the file lies on another device", place_of(file));
                out.push_back({offset, some, here->at});
                logical += some;
                offset += some;
                left -= some;
            }
        }
        return out;
    }

    [[nodiscard]] std::vector<Finding> mount_obstacles(std::string_view options) const override {
        std::vector<Finding> out;
        if (super_.devices > trees_->devices().size() && !is_listed(options, "degraded"))
            out.push_back(absent_devices());
        const auto& volume = *trees_->volume();
        if (super_.device_bytes > volume.size())
            out.push_back(
                make_finding(Code::BtrfsNotMountable,
                             fmt::format("the Btrfs driver refuses {}: it is larger ({}) than the volume ({})",
                                         volume.place(), size_text(super_.device_bytes), size_text(volume.size())),
                             {evidence_bytes(volume, super_at + offsetof(ondisk::BtrfsSuper, device_bytes), 8,
                                             fmt::format("at most {}", volume.size()),
                                             fmt::format("{}", std::uint64_t{super_.device_bytes}))},
                             "BTRFS error (device …): device total_bytes should be at most …\nBTRFS error (device …): "
                             "open_ctree failed"));
        return out;
    }

    [[nodiscard]] std::optional<std::string> unreplayed() const override {
        return super_.log_root == 0 ? std::nullopt
                                    : std::optional<std::string>("the tree of its log is not replayed here");
    }

private:
    /// The driver wants all devices (kernel fs/btrfs/volumes.c, read_one_dev: btrfs_report_missing_device).
    [[nodiscard]] Finding absent_devices() const {
        const auto& volume = *trees_->volume();
        std::string which;
        std::string screen;
        if (const auto absent = trees_->absent())
            for (const auto& device : *absent) {
                which += fmt::format("{}{} ({})", which.empty() ? "" : ", ", device.number, device.uuid);
                screen +=
                    fmt::format("BTRFS error (device …): devid {} uuid {} is missing\n", device.number, device.uuid);
            }
        return make_finding(
            Code::BtrfsDeviceMissing,
            fmt::format("the Btrfs driver refuses {}: of its {} devices {} there{}, and the mount options do not say "
                        "“degraded”",
                        volume.place(), std::uint64_t{super_.devices},
                        trees_->devices().size() == 1 ? "one is" : fmt::format("{} are", trees_->devices().size()),
                        which.empty() ? "" : "; missing: " + which),
            {evidence_bytes(volume, super_at + offsetof(ondisk::BtrfsSuper, devices), 8,
                            fmt::format("at most {}", trees_->devices().size()),
                            fmt::format("{}", std::uint64_t{super_.devices}))},
            screen +
                "BTRFS error (device …): failed to read chunk tree: -2\nBTRFS error (device …): open_ctree failed");
    }

    [[nodiscard]] std::string place_of(FileId file) const {
        return fmt::format("{}, tree {}, inode {}", trees_->volume()->place(), tree_of(file), inode_of(file));
    }

    /// Names are found by CRC-32C without its last inversion (kernel: btrfs_name_hash).
    static std::uint64_t hash(std::string_view name) {
        return crc32c(~1U, std::span(reinterpret_cast<const std::uint8_t*>(name.data()), name.size()));
    }

    [[nodiscard]] Result<Tree> subvolume_tree(std::uint64_t number) const {
        if (number != top && number < first_inode)
            return fail(ErrorKind::Malformed, "a file lies in no subvolume", trees_->volume()->place());
        {
            const std::scoped_lock hold(lock_);
            if (const auto known = known_.find(number); known != known_.end()) return known->second;
        }
        std::optional<ondisk::BtrfsRoot> told;
        const auto walked = trees_->walk(
            {super_.root, super_.root_level}, {number, item::root, 0},
            [&](const Key& key, std::span<const std::uint8_t> data) {
                if (key.object == number && key.type == item::root && data.size() >= sizeof(ondisk::BtrfsRoot))
                    told = ondisk::from_bytes<ondisk::BtrfsRoot>(data);
                return false;
            });
        if (!walked) return tl::unexpected(walked.error());
        if (!told)
            return fail(ErrorKind::NotFound, fmt::format("there is no subvolume {}", number),
                        trees_->volume()->place());
        const Tree out{told->position, told->level};
        const std::scoped_lock hold(lock_);
        known_.emplace(number, out);
        return out;
    }

    [[nodiscard]] Result<ondisk::BtrfsInode> read_inode(FileId file) const {
        const auto tree = subvolume_tree(tree_of(file));
        if (!tree) return tl::unexpected(tree.error());
        const auto found = trees_->item(*tree, {inode_of(file), item::inode, 0});
        if (!found) {
            auto error = found.error();
            if (error.kind == ErrorKind::NotFound)
                error = {ErrorKind::Malformed, "no inode where one should be", place_of(file), {}, {}};
            return tl::unexpected(std::move(error));
        }
        if (found->size() < sizeof(ondisk::BtrfsInode))
            return fail(ErrorKind::Malformed, "an inode is cut short", place_of(file));
        return ondisk::from_bytes<ondisk::BtrfsInode>(*found);
    }

    template <class See>
    void each_name(std::span<const std::uint8_t> data, FileId directory, See see) const {
        while (data.size() >= sizeof(ondisk::BtrfsDirectoryItem)) {
            const auto told = ondisk::from_bytes<ondisk::BtrfsDirectoryItem>(data);
            const std::size_t name = told.name_length;
            const std::size_t whole = sizeof(told) + name + told.data_length;
            if (whole > data.size()) return;
            DirEntry entry;
            entry.name.assign(data.begin() + sizeof(told),
                              data.begin() + static_cast<std::ptrdiff_t>(sizeof(told) + name));
            entry.type = type_in_directory(told.type);
            entry.id = told.location.type == item::root ? id_of(told.location.object, first_inode)
                                                        : id_of(tree_of(directory), told.location.object);
            if (!see(entry)) return;
            data = data.subspan(whole);
        }
    }

    /// "snapshots/1/": of a directory inside a subvolume, for the names of those below it; empty: its top.
    [[nodiscard]] std::string directory_path(std::uint64_t tree_number, std::uint64_t directory) const {
        constexpr std::uint8_t inode_reference = 12;
        std::string out;
        const auto tree = subvolume_tree(tree_number);
        for (int depth = 0; tree && directory != first_inode && depth < 32; ++depth) {
            std::uint64_t parent = 0;
            std::string name;
            (void)trees_->walk(
                *tree, {directory, inode_reference, 0}, [&](const Key& key, std::span<const std::uint8_t> data) {
                    if (key.object == directory && key.type == inode_reference && data.size() > 10) {
                        parent = key.offset;
                        const std::size_t length = ondisk::from_bytes<ondisk::little_uint16_t>(data, 8);
                        name.assign(data.begin() + 10,
                                    data.begin() + static_cast<std::ptrdiff_t>(std::min(data.size(), 10 + length)));
                    }
                    return false;
                });
            if (parent == 0) break;
            out.insert(0, name + "/");
            directory = parent;
        }
        return out;
    }

    [[nodiscard]] Result<std::vector<Piece>> pieces_of(FileId file) const {
        const auto tree = subvolume_tree(tree_of(file));
        if (!tree) return tl::unexpected(tree.error());
        std::vector<Piece> out;
        std::optional<Error> problem;
        const std::uint64_t number = inode_of(file);
        const auto bad = [&](ErrorKind kind, const char* what) {
            problem = Error{kind, what, place_of(file), {}, {}};
            return false;
        };
        const auto walked =
            trees_->walk(*tree, {number, item::extent, 0}, [&](const Key& key, std::span<const std::uint8_t> data) {
                if (key.object != number || key.type != item::extent) return false;
                constexpr std::size_t head = offsetof(ondisk::BtrfsExtent, position);
                if (data.size() < head) return bad(ErrorKind::Malformed, "an extent is cut short");
                Piece piece;
                piece.offset = key.offset;
                piece.told = ondisk::from_bytes<ondisk::BtrfsExtent>(data);
                if (data.size() < sizeof(piece.told)) std::memcpy(static_cast<void*>(&piece.told), data.data(), head);
                if (piece.told.type == 0) {
                    piece.here.assign(data.begin() + head, data.end());
                    piece.length = piece.told.unpacked;
                    piece.told.position = piece.told.packed = piece.told.offset = 0;
                } else if (data.size() < sizeof(piece.told) || piece.told.type > 2) {
                    return bad(ErrorKind::Malformed, "an extent is damaged");
                } else {
                    piece.length = piece.told.length;
                }
                if (piece.told.encryption != 0) return bad(ErrorKind::Unsupported, "content that is encrypted");
                if (piece.offset > ~std::uint64_t{0} - piece.length)
                    return bad(ErrorKind::Malformed, "an extent is damaged");
                if (out.size() >= most_extents) return bad(ErrorKind::TooLarge, "more extents than are followed");
                out.push_back(std::move(piece));
                return true;
            });
        if (!walked) return tl::unexpected(walked.error());
        if (problem) return tl::unexpected(*problem);
        return out;
    }

    std::shared_ptr<const btrfs::Trees> trees_;
    ondisk::BtrfsSuper super_;
    VolumeInfo info_;
    mutable std::mutex lock_;
    mutable std::map<std::uint64_t, Tree> known_;  ///< subvolumes' trees
};

VolumeInfo info_of(const ondisk::BtrfsSuper& super) {
    VolumeInfo info;
    info.format = Format::Btrfs;
    info.uuid = uuid_text(super.uuid);
    info.label = fixed_text(super.label);
    info.block_size = super.sector_size;
    info.size = super.total_bytes;
    info.incompatible = static_cast<std::uint32_t>(super.incompatible);
    return info;
}

/// The devices that belong together, by their numbers: of two with the same number the one that was written last.
btrfs::Devices devices_of(const Source& volume, const ondisk::BtrfsSuper& super, std::span<const Source> others) {
    btrfs::Devices out{{super.device, volume}};
    std::map<std::uint64_t, std::uint64_t> generations{{super.device, super.generation}};
    for (const auto& other : others) {
        const auto its = other->load<ondisk::BtrfsSuper>(super_at);
        if (!its || !begins(its->magic, "_BHRfS_M") || its->uuid != super.uuid) continue;
        const auto known = generations.find(its->device);
        if (known != generations.end() && (its->device == super.device || known->second >= its->generation)) continue;
        generations[its->device] = its->generation;
        out[its->device] = other;
    }
    return out;
}

}  // namespace

std::optional<VolumeInfo> recognise_btrfs(const ByteSource& volume) {
    const auto super = volume.load<ondisk::BtrfsSuper>(super_at);
    if (!super || !begins(super->magic, "_BHRfS_M")) return std::nullopt;
    return info_of(*super);
}

std::optional<BtrfsDevices> btrfs_devices(const ByteSource& volume) {
    const auto super = volume.load<ondisk::BtrfsSuper>(super_at);
    if (!super || !begins(super->magic, "_BHRfS_M")) return std::nullopt;
    return BtrfsDevices{super->devices, super->device};
}

Result<std::shared_ptr<const FileSystem>> open_btrfs(const Source& volume, Reader reader,
                                                     std::span<const Source> others) {
    auto bytes = volume->bytes(super_at, super_size);
    if (!bytes) return tl::unexpected(bytes.error());
    auto super = ondisk::from_bytes<ondisk::BtrfsSuper>(*bytes);
    const bool strict = reader == Reader::Kernel;
    const auto devices = devices_of(volume, super, others);
    if (strict)
        // The driver goes by the superblock that was written last (fs/btrfs/super.c: latest_dev).
        for (const auto& [number, device] : devices)
            if (auto more = device->bytes(super_at, super_size))
                if (const auto its = ondisk::from_bytes<ondisk::BtrfsSuper>(*more); its.generation > super.generation) {
                    super = its;
                    bytes = std::move(more);
                }
    const std::string place = fmt::format("{}@{}+{}", volume->place(), super_at, super_size);
    // Simple quotas are counted in a tree that no file is found by.
    constexpr std::uint64_t known = 0x10FFF;
    if (const std::uint64_t more = super.incompatible & ~known; more != 0)
        return fail(ErrorKind::Unsupported,
                    fmt::format("Btrfs with features that are not read here: {}",
                                fmt::join(incompatible_names(Family::Btrfs, static_cast<std::uint32_t>(more)), ", ")),
                    place);
    if (super.checksum_type >= btrfs::sum_count)
        return fail(ErrorKind::Unsupported, "Btrfs with checksums that are not read here", place);
    if (strict && !btrfs::checksum_holds(*bytes, static_cast<btrfs::Sum>(std::uint16_t{super.checksum_type})))
        return fail(ErrorKind::Checksum, "the Btrfs superblock fails its checksum", place);
    const std::uint32_t node = super.node_size;
    const std::uint32_t sector = super.sector_size;
    if (node < 4096 || node > 65536 || (node & (node - 1)) != 0 || sector < 4096 || sector > 65536 ||
        (sector & (sector - 1)) != 0 || super.chunk_array_size > 2048)
        return fail(ErrorKind::Malformed, "the Btrfs superblock contradicts itself", place);
    auto trees = std::make_shared<btrfs::Trees>(volume, devices, super, strict);
    if (auto done = trees->read_chunks(std::span(*bytes).subspan(chunks_at, super.chunk_array_size)); !done)
        return tl::unexpected(done.error());
    auto out = std::make_shared<const Btrfs>(std::move(trees), super, info_of(super));
    // Without its top directory a file system is not mounted.
    const auto root = out->stat(out->root());
    if (!root) return tl::unexpected(root.error());
    if (root->type != FileType::Directory)
        return fail(ErrorKind::Malformed, "the root of the Btrfs is no directory", place);
    return out;
}

}  // namespace herberge
