// SPDX-License-Identifier: MIT
// What holds bytes: the disks of a machine, their volumes, and what each program sees of them.
#pragma once

#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/files.hpp>
#include <herberge/finding.hpp>
#include <herberge/optical.hpp>
#include <herberge/partition.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

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

/// What holds bytes.
enum class NodeKind : std::uint8_t {
    WholeDisk,      ///< a disk without partitions, or a disc
    Partition,      ///< of a disk, or of an array
    BootImage,      ///< of a boot catalogue
    Array,          ///< made of members by RAID
    LogicalVolume,  ///< a part of a group of volumes
    Unlocked,       ///< what an encrypted volume holds
    PackedFile,     ///< a file that holds a file system
    FlashVolume,    ///< a volume of UBI, on raw flash
};
[[nodiscard]] std::string_view node_kind_name(NodeKind kind);

/// What other programs call a volume that a layer makes, and need for it.
struct LayerNames {
    std::vector<std::string> linux_names;  ///< below /dev: "mapper/inn-root", "inn/root", "dm-0", "md127"
    std::vector<std::string> grub;         ///< "lvm/inn-root", "lvmid/…", "md/inn"
    std::vector<std::string> drivers;      ///< modules of Linux besides the layer's own: "raid1", "dm_raid"
    /// Why Linux does not open it unless it is told to: "its group is exported"; empty: nothing keeps it from that.
    std::string held_back;
    /// Why it is opened only by who asks for it, or its group, by name; empty: nothing says so.
    std::string waits_to_be_asked;
    /// The only host that opens it (lvmsystemid(7)); empty: any.
    std::string system_id;
};

/// A volume: the same object for everybody who looks at it, with what each sees. Immutable once it is made; may be
/// asked from several threads. File systems are opened on first use and kept.
struct Volume : std::enable_shared_from_this<Volume> {
    NodeKind kind = NodeKind::Partition;
    int disk = 0;       ///< from 1; 0: it is made of others, which may lie on several
    int partition = 0;  ///< as the Linux kernel counts; 0: it is none; negative: that boot image of the boot catalogue
    std::string place;  ///< its name on this machine, unlike any other: "d1p1", "d1c2", "lvm/inn/root"
    Source source;
    VolumeInfo info;  ///< the outermost mark: of a layer, where one lies around a file system
    std::string partuuid;
    std::string partlabel;               ///< GPT; empty: none
    std::vector<VolumeRef> made_of;      ///< of a layer: the members in use, in the layer's own order
    LayerNames names;                    ///< of a layer
    std::optional<Error> not_assembled;  ///< of a layer: why its bytes cannot be had; `source` is empty then
    std::vector<Source> other_devices;   ///< of a file system that lies on several: the others that are there
    /// The place of another of its devices, at which it is listed; empty: here.
    std::string listed_at;

    /// Looks at the first bytes. `place` is the source's.
    Volume(Source bytes, int on_disk, int number, std::string uuid = {}, std::string label = {});
    /// One that a layer makes of others, or that cannot be made (`why`, with an empty source).
    Volume(NodeKind of, Source bytes, std::vector<VolumeRef> members, LayerNames called,
           std::optional<Error> why = std::nullopt);

    /// The same volume with one of its subvolumes as the root: `root` is that directory. Its place is the volume's own.
    [[nodiscard]] VolumeRef rooted(FileId root) const;

    /// The same volume with another one mounted on its folder `point`; null: with an empty file system in memory.
    [[nodiscard]] VolumeRef mounted(FileId point, VolumeRef other) const;

    /// The same volume as one device of a file system that has several: `others` are the further ones.
    [[nodiscard]] VolumeRef joined(std::vector<Source> others, std::string listed) const;

    /// What `observer` takes it for. Who knows no layers sees a mirror's member whose metadata lies at its end as the
    /// file system that it holds.
    [[nodiscard]] const VolumeInfo& as(Observer observer) const;
    /// The files as `observer` reads them; null: it does not. The pointer lives as long as the volume.
    [[nodiscard]] const FileSystem* files(Observer observer) const;
    /// Why there are none for `observer`.
    [[nodiscard]] std::optional<Error> problem(Observer observer) const;
    /// Something is recognised here that may hold files, and they are not read: what is asked for may lie inside.
    [[nodiscard]] bool unread() const {
        if (not_assembled) return not_assembled->kind == ErrorKind::Unsupported;
        return info.known() && info.content() != Content::Swap && files(Observer::Linux) == nullptr;
    }
    /// It lies on this disk, or is made of something that does.
    [[nodiscard]] bool lies_on(int on_disk) const;
    /// The mark could not be looked for: the medium does not give it.
    [[nodiscard]] bool mark_unreadable() const { return unreadable_mark_.has_value(); }

private:
    using Opened = Result<std::shared_ptr<const FileSystem>>;
    [[nodiscard]] const Opened& opened(Reader reader) const;
    [[nodiscard]] std::shared_ptr<Volume> copied() const;

    VolumeInfo plain_;            ///< without looking for layers
    std::optional<FileId> root_;  ///< none: the file system's own
    std::optional<std::pair<FileId, VolumeRef>> mount_;
    std::optional<Error> unreadable_mark_;
    mutable std::array<std::once_flag, 3> once_;
    mutable std::array<std::optional<Opened>, 3> opened_;
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
    std::vector<std::uint64_t> bad_blocks;  ///< of NAND flash: where each begins, in bytes
    std::uint64_t erase_block = 0;          ///< of NAND flash: bytes of a block; 0: not known
    std::vector<Source> boot_areas;         ///< of an eMMC: its boot area partitions 1 and 2, as far as they are given
};

/// What a layer made of its members.
struct Assembly {
    std::vector<VolumeRef> made;  ///< also those that it names and cannot make (Volume::not_assembled)
    /// Members of which all is known that lies inside: nothing can be hidden there.
    std::vector<VolumeRef> understood;
    std::vector<Finding> findings;
};

/// A row of the table of layers: what makes volumes of others.
struct Layer {
    std::string_view name;
    Family family;  ///< what its members are recognised as
    /// Called with all members on the machine, those inside other layers' volumes included; again when there are more.
    /// Costs what the members' descriptions have in bytes; what is in the volumes is not read.
    std::function<Assembly(std::span<const VolumeRef> members)> assemble;
};

/// The disks of one machine, in the order in which its firmware tries them.
struct Machine {
    std::vector<Disk> disks;
    std::vector<Layer> more_layers;       ///< besides RAID and LVM: luks_layer (set before assemble_layers)
    std::vector<VolumeRef> layered;       ///< what layers make of the disks' volumes (assemble_layers)
    std::vector<VolumeRef> understood;    ///< members of which all is known that lies inside
    std::vector<Finding> layer_findings;  ///< what assembling them showed

    [[nodiscard]] const Disk* disk(int number) const;
    /// The disk a BIOS calls 80h + `index` when disk `first` is 80h and the others follow in order; null: none.
    /// Optical drives do not count.
    [[nodiscard]] const Disk* drive(int index, int first) const;
    /// The reverse: 0 for `first`.
    [[nodiscard]] int drive_index(int disk, int first) const;
    [[nodiscard]] VolumeRef volume(int disk, int partition) const;
    [[nodiscard]] VolumeRef at(std::string_view place) const;
    /// Those that lie on a disk as they are: partitions, whole disks, boot images.
    void each_volume(const std::function<void(const Volume&)>& visit) const;
    /// All that `observer` knows of: those on disks, then what it makes of them.
    void each_volume(Observer observer, const std::function<void(const Volume&)>& visit) const;
    [[nodiscard]] VolumeRef by_uuid(std::string_view uuid, Observer observer = Observer::Linux) const;
    [[nodiscard]] VolumeRef by_label(std::string_view label, Observer observer = Observer::Linux) const;
    /// The volume with this name below /dev ("mapper/inn-root") that a layer makes; null: none.
    [[nodiscard]] VolumeRef by_linux_name(std::string_view name) const;
    [[nodiscard]] VolumeRef by_partuuid(std::string_view partuuid) const;
    [[nodiscard]] VolumeRef by_partlabel(std::string_view partlabel) const;
    /// The volumes that `which` picks, for people: "d1p2 (lvm physical volume), d2p1 (unreadable)"; empty: none.
    [[nodiscard]] std::string places_of(const std::function<bool(const Volume&)>& which) const;
    /// Volumes in which something asked for by UUID or label may lie without being seen from outside: members that are
    /// not understood, and encrypted ones; not what cannot be read, into which the machine cannot look either.
    /// "d1p2 (lvm physical volume), d2p1 (luks2)"; empty: none.
    [[nodiscard]] std::string hiding_places() const;
    /// All that lies inside this member is known.
    [[nodiscard]] bool understands(const Volume& member) const;
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

/// Makes arrays, logical volumes and their kin of the volumes on the machine's disks, and of each other
/// (Machine::layered), and tells the devices of one file system of each other (Volume::other_devices). Call it once all
/// disks are there; what it made before is dropped.
void assemble_layers(Machine& machine);

/// The description of a BIOS RAID at the disk's end (Intel, DDF): what its controller shows may be something else than
/// this disk. None: there is none, or the end cannot be read.
[[nodiscard]] std::optional<Finding> bios_raid(const Disk& disk);

/// Reads table and volumes of one disk.
[[nodiscard]] Disk inspect_disk(Source source, int number, std::string path);
/// Opens the volumes of a disk whose table is already there; without partitions, the disk as one volume.
[[nodiscard]] Disk inspect_partitions(Disk disk);
/// The machine as a BIOS presents it when discs among its media hold an image of a floppy or hard disk to start from:
/// the image takes the disc's place. Null: there is none.
[[nodiscard]] std::shared_ptr<const Machine> with_emulated_drives(const Machine& machine);
/// Puts a disc (a medium with ISO 9660 or a boot catalogue) into an optical drive, also one that could start as a disk;
/// other media stay as they are.
void into_optical_drive(Disk& disk);

/// A file system that begins where no partition does: a table entry that points elsewhere, or is gone. Looks at the
/// first 4 MiB and one sector around each partition's start; costs up to 4 MiB of reading.
struct MisplacedVolume {
    std::uint64_t lba = 0;  ///< its first sector
    VolumeInfo info;
};
[[nodiscard]] std::optional<MisplacedVolume> find_misplaced_volume(const Disk& disk);

}  // namespace herberge
