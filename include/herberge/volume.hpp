// SPDX-License-Identifier: MIT
// File systems behind one interface, and the disks and volumes of a machine.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <map>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/finding.hpp>
#include <herberge/optical.hpp>
#include <herberge/partition.hpp>

namespace herberge {

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
    Swap,
    Luks,
    Bitlocker,
    Raid,
    Lvm,
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
};

/// A read-only file system. Inode-level operations only; paths are the resolver's business.
class FileSystem {
public:
    virtual ~FileSystem() = default;
    [[nodiscard]] virtual const VolumeInfo& info() const = 0;
    [[nodiscard]] virtual FileId root() const = 0;
    [[nodiscard]] virtual Result<FileInfo> stat(FileId file) const = 0;
    /// Error NotFound when the directory has no such name.
    [[nodiscard]] virtual Result<FileId> lookup(FileId directory, std::string_view name) const = 0;
    [[nodiscard]] virtual Result<std::vector<DirEntry>> list(FileId directory) const = 0;
    [[nodiscard]] virtual Result<std::string> link_target(FileId link) const = 0;
    /// The file's content; `place` names it in messages.
    [[nodiscard]] virtual Result<Source> open(FileId file, std::string place) const = 0;
    /// The file's extents in bytes of the volume, in file order; holes are left out.
    [[nodiscard]] virtual Result<std::vector<Extent>> extents(FileId file) const = 0;
    /// Names compare without case.
    [[nodiscard]] virtual bool ignores_case() const { return false; }
    /// Why the operating system's driver would refuse to mount; empty: it would mount.
    [[nodiscard]] virtual std::vector<Finding> mount_obstacles() const { return {}; }
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

/// Recognises and opens the file system that begins in the first bytes of `volume`, whatever layer lies around it.
/// Errors: NotFound (nothing known there), Unsupported (recognised, not readable; the message names it), Malformed.
[[nodiscard]] Result<std::shared_ptr<const FileSystem>> open_file_system(const Source& volume, Reader reader);

/// What a volume holds, judged by its superblock alone; Format::None when nothing is recognised.
[[nodiscard]] VolumeInfo recognise_volume(const ByteSource& volume);
/// The same for a program that does not look for layers around file systems.
[[nodiscard]] VolumeInfo recognise_plain_volume(const ByteSource& volume);

// --- the machine's disks ------------------------------------------------------------------------------------

/// A volume, shared by everything that speaks of it: results stay valid when the machine is gone.
struct Volume;
using VolumeRef = std::shared_ptr<const Volume>;

/// Programs that look at disks, each by rules of its own: which tables it accepts, whether it knows the layers that lie
/// around file systems, how strictly it reads those.
enum class Observer : std::uint8_t {
    Analyst,        ///< this program, which shows what there is
    Uefi,           ///< firmware
    Loader,         ///< GRUB Legacy, the SYSLINUX family, LILO, boot managers for UEFI
    Grub,           ///< GRUB 2
    WindowsLoader,  ///< Windows' boot code and boot manager
    Linux,          ///< the kernel, and the programs of a RAM disk
    Nt,             ///< the kernel of Windows
};
[[nodiscard]] std::string_view observer_name(Observer observer);

/// A volume: the same object for everybody who looks at it, with what each sees. Immutable once it is made; may be
/// asked from several threads. File systems are opened on first use and kept.
struct Volume : std::enable_shared_from_this<Volume> {
    int disk = 0;  ///< from 1
    int partition =
        0;  ///< as the Linux kernel counts; 0: the whole disk; negative: that boot image of its boot catalogue
    std::string place;  ///< "d1p1"; "d1c2" for a boot image
    Source source;
    VolumeInfo info;  ///< the outermost mark: of a layer, where one lies around a file system
    std::string partuuid;
    std::string partlabel;  ///< GPT; empty: none

    /// Looks at the first bytes. `place` is the source's.
    Volume(Source bytes, int on_disk, int number, std::string uuid = {}, std::string label = {});

    /// What `observer` takes it for. Who knows no layers sees a mirror's member whose metadata lies at its end as the
    /// file system that it holds.
    [[nodiscard]] const VolumeInfo& as(Observer observer) const;
    /// The files as `observer` reads them; null: it does not. The pointer lives as long as the volume.
    [[nodiscard]] const FileSystem* files(Observer observer) const;
    /// Why there are none for `observer`.
    [[nodiscard]] std::optional<Error> problem(Observer observer) const;
    /// Something is recognised here that may hold files, and they are not read: what is asked for may lie inside.
    [[nodiscard]] bool unread() const {
        return info.known() && info.content() != Content::Swap && files(Observer::Linux) == nullptr;
    }
    /// The mark could not be looked for: the medium does not give it.
    [[nodiscard]] bool mark_unreadable() const { return unreadable_mark_.has_value(); }

private:
    using Opened = Result<std::shared_ptr<const FileSystem>>;
    [[nodiscard]] const Opened& opened(Reader reader) const;

    VolumeInfo plain_;  ///< without looking for layers
    std::optional<Error> unreadable_mark_;
    mutable std::array<std::once_flag, 2> once_;
    mutable std::array<std::optional<Opened>, 2> opened_;
};

struct Disk {
    int number = 0;    ///< from 1
    std::string path;  ///< as given on the command line
    Source source;
    PartitionTable table;
    std::vector<VolumeRef> volumes;          ///< in partition order
    std::optional<Error> problem;            ///< the first sector could not be read
    std::optional<BootCatalogue> catalogue;  ///< of an optical medium, or of a disk made to serve as one, too
    /// It lies in an optical drive: the catalogue is what firmware starts. Set for media that carry a catalogue and no
    /// 55AA.
    bool optical = false;
    /// Why `observer` sees no partitions on it; none: it accepts the table. `told_gpt`: Linux' command line says "gpt".
    [[nodiscard]] std::optional<std::string> refuses_table(Observer observer, bool told_gpt = false) const;
    Emulation emulation = Emulation::None;  ///< what its boot image poses as, when this is that image
};

/// The disks of one machine, in the order in which its firmware tries them.
struct Machine {
    std::vector<Disk> disks;

    [[nodiscard]] const Disk* disk(int number) const;
    /// The disk a BIOS calls 80h + `index` when disk `first` is 80h and the others follow in order; null: none.
    /// Optical drives do not count.
    [[nodiscard]] const Disk* drive(int index, int first) const;
    /// The reverse: 0 for `first`.
    [[nodiscard]] int drive_index(int disk, int first) const;
    [[nodiscard]] VolumeRef volume(int disk, int partition) const;
    [[nodiscard]] VolumeRef at(std::string_view place) const;
    void each_volume(const std::function<void(const Volume&)>& visit) const;
    [[nodiscard]] VolumeRef by_uuid(std::string_view uuid) const;
    [[nodiscard]] VolumeRef by_label(std::string_view label) const;
    [[nodiscard]] VolumeRef by_partuuid(std::string_view partuuid) const;
    [[nodiscard]] VolumeRef by_partlabel(std::string_view partlabel) const;
    /// The volumes that `which` picks, for people: "d1p2 (lvm physical volume), d2p1 (unreadable)"; empty: none.
    [[nodiscard]] std::string places_of(const std::function<bool(const Volume&)>& which) const;
    /// Volumes that something asked for by UUID or label may belong to without being seen from outside: members,
    /// encrypted ones, and those whose mark cannot be read. "d1p2 (lvm physical volume), d2p1 (luks2)"; empty: none.
    [[nodiscard]] std::string hiding_places() const;
};

/// What different programs call the same partition.
struct PartitionNames {
    std::string linux_name;  ///< "sda1", as for a SATA or USB disk
    std::string grub;        ///< "hd0,msdos1"
    std::string legacy;      ///< GRUB Legacy, which counts from 0: "hd0,0"; empty for GPT
    std::string
        arc;  ///< "multi(0)disk(0)rdisk(0)partition(1)": primaries in use first, then logical ones; empty for GPT
};
[[nodiscard]] PartitionNames partition_names(const Disk& disk, const Partition& partition);
/// The same for a disk or disc as a whole: "sda", "hd0"; "sr0", "cd".
[[nodiscard]] PartitionNames disk_names(const Disk& disk);

/// Reads table and volumes of one disk.
[[nodiscard]] Disk inspect_disk(Source source, int number, std::string path);
/// Opens the volumes of a disk whose table is already there; without partitions, the disk as one volume.
[[nodiscard]] Disk inspect_partitions(Disk disk);
/// The machine as a BIOS presents it when discs among its media hold an image of a floppy or hard disk to start from:
/// the image takes the disc's place. Null: there is none.
[[nodiscard]] std::shared_ptr<const Machine> with_emulated_drives(const Machine& machine);
/// Puts a medium that carries a boot catalogue into an optical drive, also one that could start as a disk.
void into_optical_drive(Disk& disk);

/// A file system that begins where no partition does: a table entry that points elsewhere, or is gone. Looks at the
/// first 4 MiB and one sector around each partition's start; costs up to 4 MiB of reading.
struct MisplacedVolume {
    std::uint64_t lba = 0;  ///< its first sector
    VolumeInfo info;
};
[[nodiscard]] std::optional<MisplacedVolume> find_misplaced_volume(const Disk& disk);

}  // namespace herberge
