// SPDX-License-Identifier: MIT
// What loaders are set to do, in one form for all of them; and GRUB 2 for i386-pc.
#pragma once

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/artifact.hpp>
#include <herberge/bytes.hpp>
#include <herberge/finding.hpp>
#include <herberge/signature.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// What an entry of a loader's menu would start.
enum class EntryKind : std::uint8_t {
    Linux,      ///< a kernel by the Linux boot protocol
    Chainload,  ///< another boot sector or loader
    Multiboot,  ///< a kernel by the Multiboot protocol
    Submenu,    ///< more entries
    Windows,    ///< a Windows system, by its own loader
    Recovery,   ///< a Windows to repair another one with, that no menu shows: a loader goes there when that one fails
    Tool,       ///< a program that is no system: a memory test
    Nothing,    ///< leaves nothing to start (a reboot entry, settings, or an entry that fails)
};
[[nodiscard]] std::string_view entry_kind_name(EntryKind kind);

/// A file that an entry names, and what became of it.
struct FileReference {
    std::string written;    ///< as in the configuration
    std::string place;      ///< "d1p1:/boot/vmlinuz-6.1" after variables and device; empty if no device
    std::string real_path;  ///< with links followed; empty when not found
    VolumeRef volume;       ///< where it was looked for, found or not; null: no such device
    FileId file = 0;
    std::uint64_t size = 0;
    std::vector<std::string> links;
    std::vector<std::string> near_misses;  ///< for files that are not there
    std::optional<std::string> error;      ///< the loader's own words
    Lack lack = Lack::Absent;              ///< with `error`: in which way
    int line = 0;
    std::optional<std::pair<std::uint64_t, std::uint64_t>> part;  ///< only these bytes of the file: offset and length
    Source bytes;  ///< what a loader read straight from a medium, without a file system; null: it is a file of `volume`
    [[nodiscard]] bool found() const { return !error; }
    /// "d1p1:/boot/vmlinuz-6.1", links followed; of bytes that were read straight: "d1@1048576".
    [[nodiscard]] std::string where() const {
        return volume != nullptr && bytes == nullptr ? volume->place + ":" + real_path : place;
    }
    /// It could not be had: `words` are the loader's.
    void miss(Lack how, std::string words) {
        lack = how;
        error = std::move(words);
    }
    /// The medium does not give it: neither there nor absent.
    [[nodiscard]] bool unreadable() const { return error && lack == Lack::Unreadable; }
};

/// A message the loader would print.
struct LoaderMessage {
    enum class Kind : std::uint8_t {
        Other,
        Syntax,  ///< the configuration does not parse
        Module,  ///< a module is not there
    };
    std::string text;
    std::string place;  ///< the configuration file; empty: the loader's core
    int line = 0;
    Kind kind = Kind::Other;
};

/// What a Windows loader is told.
struct WindowsStart {
    int generation = 6;                  ///< 5: a text file names it; 6: a boot store does
    FileReference loader;                ///< 6: winload
    VolumeRef boot_volume;               ///< 6: where the boot store lies, and the boot manager beside it
    VolumeRef system;                    ///< null: nothing answers to what the entry says
    std::optional<FileReference> image;  ///< the imaging file that becomes the RAM disk which `system` then is
    std::string system_device;           ///< as the entry has it, for people
    std::string directory;               ///< "/Windows"
    std::string kernel_name;             ///< empty: ntoskrnl.exe
    std::string hal_name;                ///< empty: hal.dll
    bool safe_mode = false;
    bool test_signing = false;
    bool no_integrity_checks = false;
};

/// Where an entry that starts another loader leads.
struct ChainTarget {
    std::string place;              ///< "d1p2", "d1": the volume or disk whose code it is
    std::optional<DiskRange> code;  ///< the sector that is loaded and started; none: it is a file (MenuEntry::kernel)
};

/// One entry, as executing it would turn out.
struct MenuEntry {
    std::string title;
    std::string id;  ///< empty: none
    std::vector<std::string> classes;
    std::string place;      ///< "d1p1:/boot/grub/grub.cfg"
    int line = 0;           ///< where it begins
    int index = 0;          ///< in its menu, from 0
    std::vector<int> path;  ///< indices from the top menu down, this one last
    EntryKind kind = EntryKind::Nothing;
    bool restricted = false;              ///< asks for a user name and password
    std::vector<MenuEntry> children;      ///< of a submenu
    int default_child = 0;                ///< of a submenu: the one that starts unattended
    std::string arguments;                ///< the kernel's command line
    std::vector<FileReference> kernel;    ///< none or one; the file that is loaded or that fails
    std::vector<FileReference> ramdisks;  ///< in order
    std::vector<FileReference> devicetree;
    std::optional<Finding> stop;  ///< why the loader itself gives up on this entry; none: it does not
    /// What it needs lies in something that is recognised and not read here: whether it starts cannot be told. For
    /// people; empty: nothing of the kind.
    std::string unread;
    std::vector<LoaderMessage> messages;  ///< printed while it is executed
    bool kernel_loaded = false;
    std::optional<ChainTarget> chain;  ///< Chainload: where it leads
    KernelEntry started_by = KernelEntry::Protected;
    std::optional<WindowsStart> windows;  ///< Windows: what its loader is told
    bool windows_efi = false;             ///< … by a boot manager that runs under UEFI

    /// "0", "1>2": the notation loaders use for defaults.
    [[nodiscard]] std::string path_text() const;
};

enum class MenuStyle : std::uint8_t { Menu, Countdown, Hidden };

/// A loader's configuration after it was interpreted.
struct Menu {
    std::string loader;  ///< "GRUB 2"
    std::string remark;  ///< "which nothing starts": how it comes to be listed; empty: the walk came by
    std::string place;   ///< the configuration that was read
    std::vector<MenuEntry> entries;
    int default_entry = 0;        ///< index used unattended
    std::string default_setting;  ///< as set: "0", "saved title"; empty: unset
    bool default_matches = true;  ///< false: the setting names nothing and entry 0 is used
    std::vector<int> fallback;    ///< tried when the default cannot be started
    std::optional<int> timeout;   ///< seconds; none: waits for ever
    MenuStyle style = MenuStyle::Menu;
    std::string reveal;                   ///< which key shows a menu that is hidden
    std::string after_error;              ///< what follows on the screen when an entry fails
    std::vector<LoaderMessage> messages;  ///< printed while the configuration is read
    bool boots_without_menu = false;      ///< the configuration itself loads and starts a kernel
    std::vector<MenuEntry> direct;        ///< that start, as an entry
    /// What this loader asks for before it starts a MenuEntry::restricted one.
    std::string credential = "a password";
    bool reads_by_itself = false;    ///< a UEFI application with file systems of its own, instead of the firmware's
    bool goes_on_at_losses = false;  ///< tells which sectors of a kernel it does not get, and starts it without them

    /// The entry that starts unattended, through submenus; null when there is none.
    [[nodiscard]] const MenuEntry* unattended() const;
    /// The same with `index` of the top menu instead of the default.
    [[nodiscard]] const MenuEntry* unattended_from(int index) const;
    /// The loader's name with the remark: "GRUB 2 (not reached from the firmware)".
    [[nodiscard]] std::string title() const { return remark.empty() ? loader : loader + " (" + remark + ")"; }
};

// --- any loader --------------------------------------------------------------------------------------------------

/// A sector that is started as code: the first sector of a disk, or a volume's boot sector.
struct BootPlace {
    const Disk* disk = nullptr;
    VolumeRef volume;           ///< null: the disk's first sector
    std::uint64_t lba = 0;      ///< from the disk's start, in sectors of 512 bytes
    int first_drive = 0;        ///< number of the disk that the firmware calls 80h
    bool seen_working = false;  ///< run in an emulated PC, the code went on: damage in it does not matter
    int image = 0;  ///< not 0: a boot image of the disc's boot catalogue, which a BIOS has loaded from there

    /// "d1 first sector", "d1p2 boot sector"
    [[nodiscard]] std::string text() const;
    [[nodiscard]] Evidence evidence(std::uint64_t offset, std::uint64_t length, std::string expected = {},
                                    std::string found = {}) const;
};

/// How far a loader gets by itself, in one form for all families.
struct LoaderRun {
    std::string name;  ///< "GRUB 2"
    /// What ends the loader before it has a menu; none: it has one. It breaks, or it is unknown: from there on the
    /// loader works with something that is recognised and not read here. Its stage BootCode stands for the loader's
    /// own first sector, wherever that lies.
    std::optional<Claim> stop;
    bool returns = false;  ///< after its stop it goes back to who started it, as a UEFI application can
    /// The break that ends it; null: none does.
    [[nodiscard]] const Finding* stopped_by() const {
        return stop && stop->state == State::Breaks ? &stop->findings.front() : nullptr;
    }
    std::string first_sector_text;             ///< what the first sector does
    std::optional<std::uint64_t> next_sector;  ///< where it goes on, from the disk's start
    State loader_state = State::Holds;
    std::string loader_text;
    std::vector<Evidence> loader_evidence;
    std::string configuration_text;
    bool configuration_lost = false;  ///< it starts something usual because its own configuration is not there
    std::vector<std::string> route;
    std::vector<Finding> findings;
    /// Reading one of these (its configuration) proves that the loader works: where a rehearsal may stop.
    std::vector<DiskRange> proof;
    std::string last_words;  ///< what the parts print that are known to work; more text comes from the part in question
    bool undecoded = false;  ///< its name is known, and what it does only by running it
    bool proof_by_kernel =
        false;  ///< `proof` is the kernel that its sectors should lead to: another one means that they are stale
    /// Parts that the first code must have read before protected mode is entered.
    std::vector<DiskRange> must_load;
    /// Every part is proven by a checksum of its own, or is byte by byte a known build: running it tells nothing more.
    bool parts_proven = false;
    /// Bytes of code that nothing protects and that differ from the same part as it lies as a file.
    std::vector<Evidence> differing;
    std::shared_ptr<const std::vector<std::uint8_t>> unpacked;  ///< what its start-up code unpacks, and to where
    std::uint32_t unpacked_at = 0;
    bool needs_proof = false;  ///< nothing in its parts could tell damage: only running them does
    Menu menu;
};

/// Which loader's first part a boot sector is; empty: none that is decoded. `sector` holds at least 512 bytes.
[[nodiscard]] std::string_view identify_loader(std::span<const std::uint8_t> sector);

/// Runs the loader whose first part lies at `place`; none: no loader that is decoded.
[[nodiscard]] std::optional<LoaderRun> run_loader(const Machine& machine, const BootPlace& place);

/// What an EFI application finds when it is started.
struct EfiContext {
    EfiMachine firmware = EfiMachine::X64;
    const ImageTrust* trust =
        nullptr;  ///< Secure Boot as the firmware, or shim once it runs, enforces it; null: nobody verifies anything
    const UefiVariables* variables = nullptr;  ///< for shim's own lists; null: not looked at
    bool shim = false;                         ///< shim's protocol is there: loaders ask it
    std::string options;                       ///< the boot option's own text for the application; empty: none
    int depth = 0;                             ///< how many applications have started one another by themselves
};

/// Runs the EFI application `file` (found at `path` of `volume`) as the firmware does once it has accepted it; none: no
/// loader that is decoded.
[[nodiscard]] std::optional<LoaderRun> run_efi_loader(const Machine& machine, const Volume& volume,
                                                      const std::string& path, const EfiContext& context = {});

/// The menus of configurations on `volume` that are read as `loader` would, whether or not its code is there.
[[nodiscard]] std::vector<Menu> read_configurations(const Machine& machine, const Volume& volume);

// --- GRUB 2, i386-pc ------------------------------------------------------------------------------------------

/// What the first sector's code is, judged by its structure.
struct GrubBoot {
    std::uint64_t core_sector = 0;   ///< where it expects the core image
    std::uint8_t boot_drive = 0xFF;  ///< 0xFF: the drive the firmware names
    bool jump_lands_in_code = true;
    std::optional<Error> damage;    ///< its code cannot work
    std::uint64_t sector = 0;       ///< where this boot sector lies on its disk
    std::size_t pointer_at = 0x5C;  ///< the byte of it that holds core_sector
};

struct GrubBlock {
    std::uint64_t start = 0;  ///< sector
    std::uint32_t sectors = 0;
};

/// A core image found through a boot sector.
struct GrubCore {
    int disk = 0;  ///< number of the disk that it lies on
    std::string platform = "i386-pc";
    VolumeRef started_from;    ///< UEFI: the volume it was started from; null: it lies outside of volumes
    std::string command_path;  ///< UEFI: the directory it was started from
    std::uint64_t first_sector = 0;
    std::vector<GrubBlock> blocks;  ///< the rest, as the first sector lists it
    std::vector<DiskRange> ranges;  ///< all bytes of it
    std::uint32_t compressed_size = 0;
    std::uint32_t uncompressed_size = 0;
    std::uint32_t redundancy = 0;
    std::size_t repaired_bytes = 0;    ///< bytes the Reed-Solomon data put right
    std::string prefix;                ///< "(,msdos1)/boot/grub"
    std::string embedded_config;       ///< empty: none
    std::vector<std::string> modules;  ///< embedded, in order
    std::vector<std::string> words;    ///< of embedded modules: what may be the name of a command of theirs
    std::vector<std::uint8_t> kernel;  ///< the unpacked image
    std::vector<std::string> symbols;  ///< that embedded modules define, where they are not in the unpacked image
    /// By the name of an embedded file system driver, the bits of incompatible features that it lets pass.
    std::map<std::string, std::uint32_t, std::less<>> features;
    std::vector<std::uint8_t> memory_disk;
    std::vector<std::uint8_t> first_code;  ///< the sector that loads the rest, as it lies on the disk
    std::vector<std::uint8_t> start_up;    ///< what its redundancy does not cover: header, start-up code, decoder
    std::vector<Finding> findings;
};

/// The boot sector of GRUB 2 or nothing. `sector` holds at least 512 bytes.
[[nodiscard]] std::optional<GrubBoot> recognise_grub_boot(std::span<const std::uint8_t> sector);

/// The core image behind a boot sector, or why it cannot be loaded.
[[nodiscard]] tl::expected<GrubCore, Finding> read_grub_core(const Disk& disk, const GrubBoot& boot);

/// The boot image of GRUB on an optical disc. `image` holds at least 512 bytes.
[[nodiscard]] bool is_grub_disc_boot(std::span<const std::uint8_t> image);
/// The core image behind it; `image_at` is in bytes from the medium's start.
[[nodiscard]] tl::expected<GrubCore, Finding> read_grub_disc_core(const Disk& disk, std::uint64_t image_at);

/// The core that a GRUB for UEFI (x86_64-efi) carries in itself. Error: no such image.
[[nodiscard]] Result<GrubCore> read_grub_efi(const ByteSource& image);

/// Where on the disk a core image's first sector lies, searched in the first 2048 sectors; none: not found.
[[nodiscard]] std::optional<std::uint64_t> find_grub_core(const Disk& disk);

/// How far GRUB gets by itself.
struct GrubRun {
    /// What ends GRUB before it has a menu: a break, or something unknown; none: it has one.
    std::optional<Claim> stop;
    std::string prompt;                     ///< "grub rescue>" or "grub>" when it stops there
    std::vector<std::string> screen;        ///< messages up to the menu or the stop
    std::string prefix_place;               ///< "d1p1:/boot/grub"
    VolumeRef prefix_volume;                ///< null: none
    std::string prefix_path;                ///< "/boot/grub"
    std::vector<std::string> modules;       ///< loaded besides the embedded ones
    std::vector<Evidence> loader_evidence;  ///< for "the loader's own files are there"
    Menu menu;
    std::vector<Finding> findings;
};

/// Executes what the core does on this machine: prefix, embedded configuration, normal.mod, grub.cfg, and every
/// entry of the menu on its own.
/// `first_drive` is the disk that the firmware calls 80h; 0: the one the core lies on.
/// `verifier` decides over kernels when Secure Boot is enforced: why one is refused, or none.
using KernelVerifier = std::function<std::optional<std::string>(const ByteSource& kernel)>;
[[nodiscard]] GrubRun run_grub(const Machine& machine, const GrubCore& core, int first_drive = 0,
                               const KernelVerifier& verifier = {});

/// The menu a grub.cfg at `path` of `volume` gives when it is read directly (no core involved): for `entries`.
[[nodiscard]] GrubRun read_grub_config(const Machine& machine, const Volume& volume, const std::string& path);

}  // namespace herberge
