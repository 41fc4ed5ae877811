// SPDX-License-Identifier: MIT
// File systems behind one interface.
#pragma once

#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/finding.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

enum class FileType : std::uint8_t { Regular, Directory, Symlink, CharDevice, BlockDevice, Fifo, Socket, Unknown };
[[nodiscard]] std::string_view file_type_name(FileType type);

/// A file as its file system numbers it. For ext: the inode number.
using FileId = std::uint64_t;

/// What a file system says about one file.
struct FileInfo {
    FileId id = 0;
    FileType type = FileType::Unknown;
    std::uint64_t size = 0;         ///< bytes
    std::uint32_t permissions = 0;  ///< the POSIX mode's lower 12 bits
    std::uint32_t uid = 0;
    std::uint32_t gid = 0;
    std::int64_t modified = 0;      ///< seconds since 1970-01-01 UTC
    std::uint32_t attributes = 0;   ///< DOS attributes where the file system has them: 1 read-only, 2 hidden, 4 system
    bool packed_elsewhere = false;  ///< its content lies compressed behind a reparse point: the plain stream is a hole
    [[nodiscard]] bool executable() const { return (permissions & 0111U) != 0; }
};

struct DirEntry {
    std::string name;
    FileId id = 0;
    FileType type = FileType::Unknown;  ///< Unknown where the directory does not say
};

/// What a volume's mark stands for.
enum class Content : std::uint8_t {
    Files,      ///< a file system
    Swap,       ///< an area for paging
    Member,     ///< a part of an array or a group of volumes: what lies inside has marks of its own
    Encrypted,  ///< the same, behind a key
};

/// What a volume was recognised as; formats.def has them all.
enum class Format : std::uint8_t {
#define HERBERGE_FORMAT(name, text, family, content, linux, option, words, grub, mounts) name,
#include <herberge/formats.def>
#undef HERBERGE_FORMAT
};
/// Formats that one driver reads.
enum class Family : std::uint8_t {
    None,
    Ext,
    Fat,
    Exfat,
    Ntfs,
    Iso,
    Xfs,
    Btrfs,
    F2fs,
    Squashfs,
    Ubifs,
    Swap,
    Luks,
    Bitlocker,
    Raid,
    Lvm,
    Ubi,
    Named,  ///< recognised, and not read by anything here
};

/// One row of the table of formats.
struct FormatTraits {
    Format format;
    std::string_view name;  ///< "ext4", "lvm physical volume"; empty: nothing is recognised
    Family family;
    Content content;
    std::string_view linux_module;   ///< the kernel's driver; empty: none
    std::string_view kernel_option;  ///< that builds it into the kernel; empty: not known
    std::string_view driver_words;   ///< a message that only a kernel with the driver has; empty: not known
    std::string_view grub_module;    ///< GRUB's driver, and its word for the file system; empty: none
    std::string_view mount_names;    ///< what mount calls it besides its name, separated by commas
};
[[nodiscard]] const FormatTraits& traits_of(Format format);

/// What can be told of a volume without opening a file.
struct VolumeInfo {
    Format format = Format::None;
    std::string label;             ///< empty: none
    std::string uuid;              ///< as blkid-style tools and loaders write it; empty: none
    std::uint64_t size = 0;        ///< bytes the file system claims
    std::uint32_t block_size = 0;  ///< bytes
    std::vector<std::string> features;
    /// Bits of the features without which a driver must not read it, as its superblock has them (ext, XFS, Btrfs).
    std::uint32_t incompatible = 0;
    std::string last_mounted;       ///< where, if recorded
    std::int64_t last_written = 0;  ///< seconds since 1970, 0: unknown
    /// Something is recognised.
    [[nodiscard]] bool known() const { return format != Format::None; }
    /// "ext4", "swap" …; empty: nothing is recognised.
    [[nodiscard]] std::string name() const { return std::string(traits_of(format).name); }
    [[nodiscard]] bool is(Family family) const { return traits_of(format).family == family; }
    [[nodiscard]] Content content() const { return traits_of(format).content; }
    /// Other volumes may lie inside, which are found by identifiers that cannot be seen from outside.
    [[nodiscard]] bool holds_others() const { return content() == Content::Member || content() == Content::Encrypted; }
};

/// How strictly a file system is read.
enum class Reader : std::uint8_t {
    Loader,  ///< like boot loaders: no checksums
    Kernel,  ///< like the operating system: metadata checksums count
    Grub,  ///< as `Loader`, and what GRUB 2 and Windows' loaders do not mount is not opened: FAT without its media byte
};

/// A part of a file system that can be mounted by itself.
struct Subvolume {
    std::uint64_t number = 0;
    std::string path;  ///< from the top: "/@rootfs"
    FileId root = 0;
};

/// Bytes of a volume that would become others.
struct VolumeEdit {
    std::uint64_t offset = 0;
    std::vector<std::uint8_t> bytes;
};

/// A read-only file system. Inode-level operations only; paths are the resolver's business.
class FileSystem {
public:
    virtual ~FileSystem() = default;
    [[nodiscard]] virtual const VolumeInfo& info() const = 0;
    [[nodiscard]] virtual FileId root() const = 0;
    /// What a mount without options shows; for most the same as root().
    [[nodiscard]] virtual FileId usual_root() const { return root(); }
    /// Those below the top, at most 4096.
    [[nodiscard]] virtual std::vector<Subvolume> subvolumes() const { return {}; }
    [[nodiscard]] virtual Result<FileInfo> stat(FileId file) const = 0;
    /// Error NotFound when the directory has no such name.
    [[nodiscard]] virtual Result<FileId> lookup(FileId directory, std::string_view name) const = 0;
    [[nodiscard]] virtual Result<std::vector<DirEntry>> list(FileId directory) const = 0;
    [[nodiscard]] virtual Result<std::string> link_target(FileId link) const = 0;
    /// The file's content; `place` names it in messages.
    [[nodiscard]] virtual Result<Source> open(FileId file, std::string place) const = 0;
    /// The file's extents in bytes of the volume, in file order; holes are left out.
    [[nodiscard]] virtual Result<std::vector<Extent>> extents(FileId file) const = 0;
    /// What would have to change on the volume for `file` to have `size` bytes, in the blocks that it has: its content
    /// is not touched. Errors: Unsupported (this reader cannot tell), TooLarge (it has no room for so many, or would
    /// have blocks left over).
    [[nodiscard]] virtual Result<std::vector<VolumeEdit>> resized(FileId /*file*/, std::uint64_t /*size*/) const {
        return fail(ErrorKind::Unsupported, "files of this file system keep their size here");
    }
    /// … for `file` to have these permissions (the POSIX mode's lower 12 bits).
    [[nodiscard]] virtual Result<std::vector<VolumeEdit>> with_permissions(FileId /*file*/,
                                                                           std::uint32_t /*permissions*/) const {
        return fail(ErrorKind::Unsupported, "permissions are not changed on this file system here");
    }
    /// What would have to change on the volume for `directory` to have a file of this name and content, or an empty
    /// directory: in free blocks; a file of this name that is there is replaced. Errors: TooLarge (no room),
    /// Unsupported, Malformed (not a name).
    [[nodiscard]] virtual Result<std::vector<VolumeEdit>> with_file(FileId /*directory*/, std::string_view /*name*/,
                                                                    std::span<const std::uint8_t> /*content*/) const {
        return fail(ErrorKind::Unsupported, "files are not added to this file system here");
    }
    [[nodiscard]] virtual Result<std::vector<VolumeEdit>> with_directory(FileId /*directory*/,
                                                                         std::string_view /*name*/) const {
        return fail(ErrorKind::Unsupported, "directories are not added to this file system here");
    }
    /// … for `directory` to have a symbolic link of this name. Errors: as with_file; a name that is there is not
    /// replaced (WrongType).
    [[nodiscard]] virtual Result<std::vector<VolumeEdit>> with_link(FileId /*directory*/, std::string_view /*name*/,
                                                                    std::string_view /*target*/) const {
        return fail(ErrorKind::Unsupported, "links are not added to this file system here");
    }
    /// … for `directory` to have `name` for `file`, which is there under another name that goes: the count of its names
    /// stays. Errors: as with_file.
    [[nodiscard]] virtual Result<std::vector<VolumeEdit>> with_name(FileId /*directory*/, std::string_view /*name*/,
                                                                    FileId /*file*/) const {
        return fail(ErrorKind::Unsupported, "names are not added to this file system here");
    }
    /// What would have to change on the volume for `directory` not to have `name` any more; the file itself and its
    /// blocks stay. Errors: NotFound, Unsupported.
    [[nodiscard]] virtual Result<std::vector<VolumeEdit>> without_name(FileId /*directory*/,
                                                                       std::string_view /*name*/) const {
        return fail(ErrorKind::Unsupported, "names are not taken out of this file system here");
    }
    /// Names compare without case.
    [[nodiscard]] virtual bool ignores_case() const { return false; }
    /// Why the operating system's driver would refuse to mount with these options ("ro,degraded"); empty: it would
    /// mount.
    [[nodiscard]] virtual std::vector<Finding> mount_obstacles(std::string_view /*options*/) const { return {}; }
    /// What the operating system's driver would still change while it mounts, and is not looked at here: "its log is
    /// not replayed here"; none: what is read is what it will see.
    [[nodiscard]] virtual std::optional<std::string> unreplayed() const { return std::nullopt; }
    /// Oddities that do not stop anything by themselves: a dirty journal, a differing backup superblock.
    [[nodiscard]] virtual std::vector<Finding> remarks() const { return {}; }
};

/// A path that was followed to its end.
struct Resolved {
    FileInfo file;
    std::string path;                ///< the real path, without links
    std::vector<std::string> links;  ///< the links passed on the way, as "/vmlinuz -> boot/vmlinuz-6.1"
};

struct ResolveOptions {
    int most_links = 40;      ///< Linux MAXSYMLINKS; GRUB gives up at 8
    bool follow_last = true;  ///< false: a link at the end is itself the result
};

/// Follows `path` from the root of `fs`; ".", ".." and links as POSIX has them, absolute links from the same root.
/// Errors: NotFound (the message names the component that is missing; `found`
/// is set when it is a link that leads to nothing), WrongType, LinkLoop, and the reader's.
[[nodiscard]] Result<Resolved> resolve(const FileSystem& fs, std::string_view path, const ResolveOptions& options = {});

/// A small text file, links followed; Error WrongType when it is no regular file, TooLarge beyond `most` bytes.
[[nodiscard]] Result<std::string> read_text_file(const FileSystem& fs, std::string_view path,
                                                 std::uint64_t most = std::uint64_t{1} << 20U);

/// Names in the directory of `path` that resemble its last component, best first, at most three.
[[nodiscard]] std::vector<std::string> near_misses(const FileSystem& fs, std::string_view path);

/// `fs` with another directory as its root, as after mounting a subvolume.
[[nodiscard]] std::shared_ptr<const FileSystem> rooted_at(std::shared_ptr<const FileSystem> fs, FileId root);

/// `base` with `other` mounted on its folder `point`; null: an empty file system in memory. Where a file's bytes lie is
/// told of those of `base` alone.
[[nodiscard]] std::shared_ptr<const FileSystem> mounted_on(std::shared_ptr<const FileSystem> base, FileId point,
                                                           std::shared_ptr<const FileSystem> other);

/// Recognises and opens the file system that begins in the first bytes of `volume`, whatever layer lies around it.
/// `others`: further devices of the same file system (Btrfs).
/// Errors: NotFound (nothing known there), Unsupported (recognised, not readable; the message names it), Malformed,
/// Unreadable (also: what is needed lies on a device that is not there).
[[nodiscard]] Result<std::shared_ptr<const FileSystem>> open_file_system(const Source& volume, Reader reader,
                                                                         std::span<const Source> others = {});

/// What a volume holds, judged by its superblock alone; Format::None when nothing is recognised.
[[nodiscard]] VolumeInfo recognise_volume(const ByteSource& volume);
/// The same for a program that does not look for layers around file systems.
[[nodiscard]] VolumeInfo recognise_plain_volume(const ByteSource& volume);

}  // namespace herberge
