// SPDX-License-Identifier: MIT
// Installed systems.
#pragma once

#include <functional>
#include <map>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include <herberge/artifact.hpp>
#include <herberge/finding.hpp>
#include <herberge/signature.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

enum class SystemKind : std::uint8_t {
    Linux,
    Windows,
    Recovery,  ///< an environment to repair a Windows with
    Medium,    ///< to install or to run a system from
    Tool,      ///< a program that is no system: a memory test
    Unknown,
};
/// "linux", "windows", "recovery", "medium", "tool", "unknown"
[[nodiscard]] std::string_view system_kind_id(SystemKind kind);

/// A system found by its real marks on a volume, whatever the loaders say.
struct InstalledSystem {
    SystemKind kind = SystemKind::Unknown;
    std::string name;     ///< "Debian GNU/Linux 12 (bookworm)"
    std::string version;  ///< "12"
    std::string mark;     ///< the file that identified it
    VolumeRef volume;
    /// The same with what the system mounts on /usr, where that has a volume of its own; null: it has none.
    VolumeRef with_programs;
    /// Its files as the running system has them.
    [[nodiscard]] const Volume& tree() const { return with_programs != nullptr ? *with_programs : *volume; }
    std::vector<std::string> kernels;  ///< "/boot/vmlinuz-6.1.0-53-cloud-amd64"
    std::int64_t last_used = 0;        ///< seconds since 1970, 0: unknown
    std::string directory;             ///< Windows: "/Windows"; a recovery environment: its imaging file
};

/// Every installed system on the machine's volumes, in disk and partition order.
[[nodiscard]] std::vector<InstalledSystem> find_systems(const Machine& machine);

/// A service or driver of Windows, in the order in which it is started.
struct WindowsService {
    std::string name;
    std::uint32_t type = 0;           ///< 1 kernel driver, 2 file system driver, 16 and 32 programs
    std::uint32_t start = 3;          ///< 0 boot, 1 system, 2 automatic, 3 on demand, 4 disabled
    std::uint32_t error_control = 1;  ///< 0 ignore, 1 normal, 2 severe, 3 critical
    std::string image_path;           ///< as written; empty: the default place
    std::string file;                 ///< on the system's volume: "/Windows/System32/drivers/disk.sys"
    std::string group;
    std::optional<std::uint32_t> tag;
    std::vector<std::string> needs;         ///< services that must run before it (DependOnService)
    std::vector<std::string> needs_groups;  ///< groups of which one must run (DependOnGroup)
    std::string account;                    ///< "LocalSystem", "NT AUTHORITY\\LocalService"; empty: the system
    std::string library;                    ///< of a service of svchost: as written
    bool delayed = false;                   ///< a while after the others
    bool triggered = false;                 ///< when what it waits for happens
};

/// A file that the session manager renames or deletes before any other program runs.
struct WindowsRename {
    std::string from, to;   ///< as written; `to` empty: it is deleted
    bool replaces = false;  ///< what lies there goes
};

/// A filter driver of a class of devices.
struct WindowsFilter {
    std::string device_class;  ///< "disk drives", "volumes", "disk controllers"
    bool upper = false;        ///< above the class' own driver; else below
    std::string service;
    std::string key;          ///< where that is said: "ControlSet001\Control\Class\{…}"
    bool on_the_way = false;  ///< every disk or volume has it, the one that the system lies on too
};

/// What a Windows installation's registry says about its start.
struct WindowsRegistry {
    std::uint32_t current = 0;  ///< the number of the control set that is used
    std::uint32_t default_set = 0, failed = 0, last_known_good = 0;
    std::string control_set;  ///< "ControlSet001"
    std::vector<WindowsService>
        services;  ///< those started at boot, system and automatic, in load order; then the others
    std::vector<WindowsFilter> filters;   ///< of disks, volumes and their controllers
    std::vector<std::string> code_pages;  ///< files the loader reads: "c_1252.nls"
    std::vector<WindowsRename> renames;   ///< put off until the next start, in order
    std::string csrss;                    ///< the subsystem program that the session manager must start
    std::vector<Finding> findings;
};

/// Reads the SYSTEM hive of an installation; errors are the loader's own reasons to stop.
[[nodiscard]] Result<WindowsRegistry> read_windows_registry(const Volume& volume, const std::string& directory);

/// Who vouches for a file of Windows.
struct FileSignature {
    enum class Kind : std::uint8_t {
        NotLooked,
        Inside,     ///< the file carries the signature
        Catalogue,  ///< a catalogue of the installation lists its digest
        Broken,     ///< signed, but for other content, or the signature is wrong
        None,       ///< neither inside nor in any catalogue of the installation
    } kind = Kind::NotLooked;
    std::string by;             ///< the signer's subject
    std::string catalogue;      ///< its path, for Kind::Catalogue
    std::size_t looked_in = 0;  ///< for Kind::None: how many catalogues do not list it
    std::optional<SigningTime> time;
    std::string chain_problem;  ///< for Kind::Inside: as ImageSignature's
};

/// The file an ImagePath leads to, in one of its several forms; empty: on another volume.
[[nodiscard]] std::string windows_image_path(std::string_view image_path, std::string_view service, std::uint32_t type,
                                             std::string_view directory);

/// A kernel command line, word by word; quotes group as the kernel groups them (lib/cmdline.c).
class CommandLine {
public:
    explicit CommandLine(std::string_view text);
    /// The last value given for `name` ("root"); none: absent.
    [[nodiscard]] std::optional<std::string> value(std::string_view name) const;
    [[nodiscard]] bool has(std::string_view word) const;
    /// Whether the root is mounted so that it can be written: the last of "ro" and "rw"; none: neither is said.
    [[nodiscard]] std::optional<bool> root_is_writable() const;
    [[nodiscard]] const std::vector<std::string>& words() const { return words_; }

private:
    std::vector<std::string> words_;
};

/// What root= names.
struct RootReference {
    enum class Kind : std::uint8_t {
        Absent,
        Uuid,
        Label,
        PartUuid,
        PartLabel,
        Device,
        Number,
        Other
    } kind = Kind::Absent;
    std::string written;               ///< "UUID=…"
    std::string value;                 ///< without the prefix
    VolumeRef volume;                  ///< null: nothing here answers to it
    bool depends_on_hardware = false;  ///< a device name that another controller would change
    bool cannot_tell = false;          ///< LVM, RAID, network …: not decided by these images alone; `note` says why
    std::string note;                  ///< for people
    std::vector<std::string> near;     ///< volumes that it may have meant
};

/// Resolves root= on this machine: UUID=, LABEL=, PARTUUID= (with /PARTNROFF=), /dev/disk/by-…, /dev/sdXN and
/// its kin, major:minor.
[[nodiscard]] RootReference resolve_root(const Machine& machine, std::string_view root);
/// The same for the first field of an fstab line.
[[nodiscard]] RootReference resolve_device(const Machine& machine, std::string_view device);

/// Whether the kernel mounts a volume of `format` when it is told `type` ("ext4", "auto", a list with commas).
[[nodiscard]] bool file_system_fits(Format format, std::string_view type);

struct FstabLine {
    int line = 0;
    std::string device, mount_point, type, options;
    int pass = 0;
    [[nodiscard]] bool has_option(std::string_view option) const;
};
/// Lines with fewer words than `fewest` are passed over: systemd takes those of two, and looks itself which type the
/// volume has (getmntent(3)); mount(8) takes none without a type.
[[nodiscard]] std::vector<FstabLine> parse_fstab(std::string_view text, std::size_t fewest = 3);

/// How a disk is attached, as far as it matters for drivers.
enum class Controller : std::uint8_t { Ata, Nvme, VirtioBlk, VirtioScsi, Scsi, Usb, Mmc, HyperV, Xen };
/// "AHCI/ATA", "NVMe" …
[[nodiscard]] std::string_view controller_name(Controller controller);

/// What the RAM disk must do for this root: drivers and its own init.
struct RootDemand {
    VolumeRef volume;
    Format file_system = Format::None;
    std::string kernel_release;
    std::string config;        ///< the kernel's configuration text; empty: not found
    std::string builtin;       ///< modules.builtin; empty: not found
    bool locked_down = false;  ///< the kernel refuses modules that carry no signature
    /// The RAM disk loads what the root needs and what it lists by name, and leaves the rest to the root's modules.
    bool loads_for_root_alone = false;
    std::set<std::string, std::less<>> loaded;  ///< the modules that it lists, with '_'
    std::map<std::string, std::string> barred;  ///< modules that are kept from being loaded, and who says so
    /// How the root's disk is attached, where something tells; and what tells it.
    std::optional<Controller> controller;
    std::string controller_told_by;
    /// Asked when no file tells: does the unpacked kernel contain these words? None: cannot be told.
    std::function<std::optional<bool>(std::string_view words)> kernel_mentions;
};

/// A kernel that could unpack this RAM disk and find an init in it?
[[nodiscard]] Claim judge_ramdisk(const Ramdisk& ramdisk, const RootDemand& demand, const CommandLine& arguments);
/// Would the drivers in the RAM disk, or in the kernel, reach and mount the root file system?
[[nodiscard]] Claim judge_root_drivers(const Ramdisk* ramdisk, const RootDemand& demand);
/// What a mount with the command line's rootflags= shows of `volume`: itself, or one of its subvolumes as the root.
/// Error NotFound: that subvolume is not there.
[[nodiscard]] Result<VolumeRef> mounted_root(const VolumeRef& volume, const CommandLine& arguments);
/// Would the RAM disk open the layers that the root `volume` lies in: an array, a group of volumes, an encrypted
/// volume? Holds too where it lies in none. `ramdisk` null: there is none.
[[nodiscard]] Claim judge_layers(const Volume& volume, const Ramdisk* ramdisk, const RootDemand& demand,
                                 const CommandLine& arguments);
/// What the RAM disk of an install or live medium goes on with.
struct PackedRoot {
    Claim result;
    /// The file systems in the files that it finds, whether or not they can be read here; several lie over each other.
    std::vector<VolumeRef> layers;
    bool unites = false;  ///< it lays a file system in memory over them, and needs a driver for that
};
/// Drivers that the root of a live medium needs: for the medium, for the file on it that is mounted, and for the layer
/// in memory that is laid over it.
struct MediumDrivers {
    std::vector<std::string> absent;  ///< neither in the RAM disk nor built in
    std::vector<std::string> untold;  ///< not in the RAM disk, and nothing tells whether they are built in
};
[[nodiscard]] MediumDrivers medium_drivers(const Ramdisk* ramdisk, const RootDemand& demand, Format medium,
                                           const PackedRoot& packed);
/// Would the RAM disk of an install or live medium find the packed root that its command line asks for?
[[nodiscard]] PackedRoot judge_medium(const Volume& volume, const CommandLine& arguments);
/// Mountable by the driver of the kernel `release` ("6.1.0-50-amd64"; empty: of any)? `options`: of the mount.
[[nodiscard]] Claim judge_root_mount(const Volume& volume, std::string_view options, std::string_view release = {});
/// Does the driver of the kernel `release` ("6.1.0-50-amd64") know all features that this ext, XFS or Btrfs needs?
/// None: it does, or there is no telling.
[[nodiscard]] std::optional<Claim> judge_kernel_features(const VolumeInfo& info, const std::string& place,
                                                         std::string_view release);
/// Has a kernel a driver, once its RAM disk is left: built in, or a module of the root that can be loaded?
struct DriverAnswer {
    std::optional<bool> there;  ///< none: no file here tells
    std::string why;            ///< it is not: "neither built in nor in /lib/modules/6.1.0-50-amd64"
    std::string place;          ///< the file or folder that lacks it
};
/// The init that would run from `root`, in the order kernel and RAM disk try.
struct InitChoice {
    Claim result;
    std::string asked;                     ///< init= or the default
    Executable program;                    ///< the one that runs, when one does
    bool from_medium = false;              ///< of a live medium: its RAM disk writes the table of file systems anew
    Processor processor = Processor::X86;  ///< that it must be made for
    std::string kernel_release;            ///< of the kernel that runs then; empty: not known
    std::optional<bool> root_checked;      ///< its RAM disk has checked the root's file system; none: not known
    bool devices_told = false;  ///< its RAM disk's udev has marked devices for systemd, which finds the marks in /run
    /// Would that kernel mount this format with these options, with the modules of the root? Empty: not asked.
    std::function<DriverAnswer(Format format, std::string_view options)> has_driver;
    /// The same of any module, and the option that builds it in.
    std::function<DriverAnswer(std::string_view module, std::string_view option)> has_module;
    std::string flavour;  ///< "systemd", "sysvinit", "busybox", "openrc", "runit", "script" (of its own), or empty
};
[[nodiscard]] InitChoice judge_init(const Volume& root, const CommandLine& arguments, const Ramdisk* ramdisk,
                                    Processor processor = Processor::X86);
/// Has the kernel that `demand` describes a driver for `wanted`, built in or among the modules of this root; and for a
/// FAT the tables of characters that a mount with these `options` asks for?
[[nodiscard]] DriverAnswer root_has_driver(const FileSystem& root, const RootDemand& demand, Format wanted,
                                           std::string_view options = {});
/// The same of `module` ("autofs4"), which `option` of the configuration builds in. A module is loaded by modprobe(8),
/// which looks into the indices that depmod(8) makes, and needs the file, those of the modules that it is built on, and
/// no rule that bars it.
[[nodiscard]] DriverAnswer root_has_module(const FileSystem& root, const RootDemand& demand, std::string_view module,
                                           std::string_view option);
/// What that init must start.
[[nodiscard]] Claim judge_services(const Machine& machine, const Volume& root, const InitChoice& init,
                                   const CommandLine& arguments);

}  // namespace herberge
