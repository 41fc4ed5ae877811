// SPDX-License-Identifier: MIT
// What a loader's folder offers to the rest of the house.
#pragma once

#include <herberge/loader.hpp>

namespace herberge::loader {

struct LoaderFamily {
    std::string_view name;
    bool (*recognise)(std::span<const std::uint8_t> sector);
    LoaderRun (*run)(const Machine& machine, const BootPlace& place);
    /// Configuration files worth reading even when no code leads to them; null: none.
    std::vector<Menu> (*configurations)(const Machine& machine, const Volume& volume);
};

LoaderRun run_grub_at(const Machine& machine, const BootPlace& place);
LoaderRun run_grub_disc(const Machine& machine, const BootPlace& place);
std::vector<Menu> grub_configurations(const Machine& machine, const Volume& volume);

namespace legacy {
bool recognise(std::span<const std::uint8_t> sector);
LoaderRun run(const Machine& machine, const BootPlace& place);
std::vector<Menu> configurations(const Machine& machine, const Volume& volume);
}  // namespace legacy

namespace syslinux {
bool recognise(std::span<const std::uint8_t> sector);
LoaderRun run(const Machine& machine, const BootPlace& place);
std::vector<Menu> configurations(const Machine& machine, const Volume& volume);
/// The boot image on an optical disc; and the first sector of a medium that can start as a disk, too.
bool recognise_disc(std::span<const std::uint8_t> image);
LoaderRun run_disc(const Machine& machine, const BootPlace& place);
bool recognise_hybrid(std::span<const std::uint8_t> sector);
LoaderRun run_hybrid(const Machine& machine, const BootPlace& place);
}  // namespace syslinux

namespace lilo {
bool recognise(std::span<const std::uint8_t> sector);
LoaderRun run(const Machine& machine, const BootPlace& place);
std::vector<Menu> configurations(const Machine& machine, const Volume& volume);
}  // namespace lilo

namespace windows {
bool recognise_manager(std::span<const std::uint8_t> sector);
bool recognise_ntldr(std::span<const std::uint8_t> sector);
LoaderRun run_manager(const Machine& machine, const BootPlace& place);
LoaderRun run_ntldr(const Machine& machine, const BootPlace& place);
std::vector<Menu> configurations(const Machine& machine, const Volume& volume);
/// The boot store at `path` of `volume`, as a boot manager started from there reads it.
void read_store(const Machine& machine, const Volume& volume, const std::string& path, bool efi, LoaderRun& out);
}  // namespace windows

/// EFI applications, already accepted by the firmware: `source` is the file at `path` of `volume`.
LoaderRun run_grub_efi(const Machine& machine, const Volume& volume, const std::string& path, const ByteSource& source,
                       const EfiContext& context);
namespace systemd_boot {
LoaderRun run(const Machine& machine, const Volume& volume, const std::string& path, const EfiContext& context);
}

// --- shared by the families ---------------------------------------------------------------------------------------

/// The file system as a loader sees it that is less strict than GRUB 2: null when nothing reads it.
const FileSystem* plain_view(const Volume& volume);

/// What became of a file that an entry names. `path` is absolute; on success `error` is empty.
FileReference refer(const Volume& volume, std::string written, std::string_view path, int line, int most_links = 40);

/// The target of an entry that starts the sector which `code` begins with.
ChainTarget first_sector_of(const Source& code);
/// The file system of a disc as a whole: of the medium, or of a partition from its first sector on; null: none.
VolumeRef disc_volume(const Machine& machine, const Disk& disk);

/// The bytes of a reference that was found; null when they cannot be put together. Where it is the medium that does not
/// give what tells where they lie, each read says so.
Source open_file(const FileReference& file);

/// Where a file's bytes lie on its disk.
std::vector<DiskRange> ranges_of(const Volume& volume, FileId file);

/// A file with holes: parts of it that no sector holds.
bool has_holes(const FileReference& file);

/// ": d1p1 cannot be read" where the medium does not give what tells the volume's file system; else empty.
std::string unread_clause(const VolumeRef& volume);
/// What a loader by the real-mode Linux boot protocol refuses (Documentation/arch/x86/boot.rst): an error of the
/// medium, or Malformed; none: it starts it.
std::optional<Error> refuse_linux(const ByteSource& kernel, unsigned most_setup_sectors);

/// How the SYSLINUX family tells that the BIOS does not give the sector at `byte` of its disk: it leaves the memory as
/// it is, and goes on (core/fs/diskio_bios.c, 6.04). Ends in a new line.
std::string syslinux_disk_errors(std::uint64_t byte);

/// Sets a stop of the loader's first sector or later parts.
void stop(LoaderRun& run, Code code, std::string reason, std::vector<Evidence> evidence, std::string screen);
/// The first stop of an entry counts.
void stop(MenuEntry& entry, Code code, std::string reason);

/// What it is called that a file which an entry needs is not to be had.
struct MissingFile {
    Code absent;
    Code unreadable;
};
inline constexpr MissingFile no_kernel{Code::EntryKernelMissing, Code::EntryKernelUnreadable};
inline constexpr MissingFile no_ramdisk{Code::RamdiskMissing, Code::RamdiskUnreadable};
/// Stops the entry in the way in which `file` is lacking; where that cannot be told, the entry is unread (`reason`).
void stop_without(MenuEntry& entry, const FileReference& file, const MissingFile& codes, std::string reason);

}  // namespace herberge::loader
