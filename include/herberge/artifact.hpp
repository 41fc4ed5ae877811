// SPDX-License-Identifier: MIT
// Files as things: programs, kernels, RAM disks.
#pragma once

#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <set>
#include <string>
#include <string_view>
#include <vector>

#include <herberge/bytes.hpp>
#include <herberge/fields.hpp>
#include <herberge/finding.hpp>
#include <herberge/storage.hpp>
#include <herberge/visibility.hpp>

namespace HERBERGE_PUBLIC herberge {

/// What a machine's programs are made for.
enum class Processor : std::uint8_t {
    X86,  ///< i386 and x86-64
    Arm,  ///< 32 bits, little-endian
    Arm64,
    Riscv64,
};
/// "x86-64 or i386", "AArch64" …
[[nodiscard]] std::string_view processor_name(Processor processor);
/// Whether such a machine runs ELF programs of this e_machine; an arm64 one those of 32 bits, too.
[[nodiscard]] bool runs_programs_of(Processor processor, std::uint16_t elf_machine);

// --- ELF ------------------------------------------------------------------------------------------------------

struct ElfInfo {
    unsigned bits = 0;          ///< 32 or 64
    std::uint16_t type = 0;     ///< e_type: 1 relocatable, 2 executable, 3 shared
    std::uint16_t machine = 0;  ///< e_machine: 3 i386, 62 x86-64, 183 AArch64 …
    std::string interpreter;    ///< PT_INTERP; empty: none
    bool complete = true;       ///< headers and segments lie inside the file
    std::string soname;
    std::vector<std::string> needed;  ///< DT_NEEDED, in order
    std::string rpath;                ///< DT_RPATH, as written
    std::string runpath;              ///< DT_RUNPATH, as written
    /// What is run and not written, without the headers (PT_LOAD with PF_X): offset and length.
    std::vector<std::pair<std::uint64_t, std::uint64_t>> code;
};
[[nodiscard]] bool looks_like_elf(std::span<const std::uint8_t> start);
/// Errors: Malformed (not ELF, or a header that cannot be).
[[nodiscard]] Result<ElfInfo> inspect_elf(const ByteSource& file);
[[nodiscard]] std::string elf_machine_name(std::uint16_t machine);

// --- Linux kernels ----------------------------------------------------------------------------------------------

enum class Soundness : std::uint8_t {
    Sound,    ///< checked to the last byte
    Cut,      ///< the file ends too early
    Damaged,  ///< a check failed
    Unknown,  ///< could not be checked
};

/// Where a loader enters a kernel; what it does not run need not be sound.
enum class KernelEntry : std::uint8_t {
    RealMode,   ///< its set-up code
    Protected,  ///< its 32-bit or 64-bit part, with the header of the set-up code looked at
    Efi,        ///< its EFI stub, which does not look at that header
    Board,      ///< its first instruction, by a board's loader: arm, arm64, riscv64
};

/// A kernel as its header and payload describe it: a bzImage (Linux Documentation/arch/x86/boot.rst), an arm64 or
/// RISC-V Image, a zImage.
struct KernelImage {
    Processor processor = Processor::X86;
    /// It only comes in a Linux kernel's format: a memory test, a network boot program. No RAM disk, no root to miss.
    bool other_program = false;
    std::uint64_t file_size = 0;
    bool boot_flag = false;      ///< 55AA at 0x1FE
    bool setup_header = false;   ///< "HdrS" at 0x202
    std::uint16_t protocol = 0;  ///< 0x020F = 2.15
    unsigned setup_sectors = 0;  ///< as used: 4 where the header says 0
    bool loads_high = false;     ///< the protected-mode part goes to 1 MiB
    bool relocatable = false;
    bool entry64 = false;             ///< a 64-bit kernel
    bool efi_stub = false;            ///< a PE header with an EFI entry
    std::uint64_t expected_size = 0;  ///< bytes of set-up and protected-mode part
    std::string version;              ///< "6.1.0-53-cloud-amd64 (…) #1 SMP …"
    std::string release;              ///< the version's first word
    Compression payload = Compression::None;
    Soundness soundness = Soundness::Unknown;
    std::string soundness_text;  ///< how the soundness was judged
    std::vector<Evidence> evidence;
    bool crc_matches = false;  ///< the build's CRC-32 over the whole image holds
    /// Builds of this version end in a CRC-32 (Linux up to 6.14), and here it does not match: something was changed
    /// since.
    bool changed_since_build = false;
    bool relocations_bad = false;  ///< the list behind the unpacked kernel leads outside it: it stops with a message
    /// Why the set-up code, which real-mode loaders run, cannot work; none: it looks whole.
    std::optional<Error> setup_damage;
};

/// Errors only when the file cannot be read at all; everything else is told in the result.
/// The payload is unpacked (and thrown away) unless the image's own CRC-32 already proves it sound.
/// A kernel in a format of another processor is damaged as far as this machine is concerned, and told by its name.
[[nodiscard]] Result<KernelImage> inspect_kernel(const ByteSource& file, KernelEntry entry = KernelEntry::Protected,
                                                 Processor processor = Processor::X86);

/// A file in a Linux kernel's format that is none: its version is not that of a Linux, and it has no compressed kernel.
[[nodiscard]] bool is_other_program(const ByteSource& file);

/// Whether the unpacked kernel contains `words`, such as a driver's own messages. Unpacks until they are found.
[[nodiscard]] Result<bool> kernel_mentions(const ByteSource& file, const KernelImage& image, std::string_view words);

// --- RAM disks ---------------------------------------------------------------------------------------------------

struct RamdiskFile {
    std::uint32_t mode = 0;              ///< POSIX mode with type bits
    std::uint64_t size = 0;              ///< bytes
    std::string target;                  ///< of a symbolic link
    std::string content;                 ///< kept for small files that steer the start; else empty
    bool complete = true;                ///< false: the archive ended inside this file
    bool ends_signed = false;            ///< its last bytes are those of a signed kernel module
    std::shared_ptr<const ElfInfo> elf;  ///< of programs and libraries; null: no ELF file, or too large to be kept
    [[nodiscard]] bool executable() const { return (mode & 0111U) != 0; }
    [[nodiscard]] bool is_directory() const { return (mode & 0170000U) == 0040000U; }
};

/// One archive of the several that may follow each other.
struct RamdiskMember {
    std::uint64_t offset = 0;    ///< bytes from the RAM disk's start
    std::uint64_t length = 0;    ///< bytes used there
    std::uint64_t unpacked = 0;  ///< bytes of the archive
    Compression compression = Compression::None;
    std::size_t files = 0;
    bool early = false;  ///< holds only microcode or ACPI tables
};

struct Ramdisk {
    std::uint64_t size = 0;
    std::vector<RamdiskMember> members;
    std::map<std::string, RamdiskFile, std::less<>> files;  ///< by path without a leading slash
    std::optional<Error> damage;                            ///< where the kernel's unpacking would stop
    bool too_large = false;                                 ///< … or where ours did: no fault of the RAM disk
    std::string kernel_message;                             ///< what the kernel prints then, empty when nothing
    std::vector<std::string> modules;                       ///< file stems with '-' as '_': "virtio_blk"
    std::set<std::string, std::less<>> unsigned_modules;    ///< of these, the ones that carry no signature
    std::vector<std::string> module_releases;               ///< kernel releases below lib/modules
    std::string builder;                                    ///< "initramfs-tools", "dracut", "mkinitcpio", or empty

    /// Follows links inside the RAM disk.
    [[nodiscard]] const RamdiskFile* find(std::string_view path) const;
    [[nodiscard]] bool has_module(std::string_view name) const;
};

/// Unpacks what a loader would hand to the kernel, as the kernel does (init/initramfs.c): plain and compressed
/// archives in any order, zero bytes between them. Memory: names and a few small files only.
[[nodiscard]] Result<Ramdisk> inspect_ramdisk(const ByteSource& file);

// --- programs on a root file system --------------------------------------------------------------------------------

/// Whether the kernel could execute a file, followed through links and interpreters.
struct Executable {
    bool runs = false;
    std::string path;                ///< the real file
    std::string why;                 ///< when it does not run: the obstacle
    std::optional<Code> code;        ///< when it does not run: the finding's code
    std::optional<ErrorKind> error;  ///< when it could not be looked up or read: what stood in the way
    std::vector<std::string> links;
    std::vector<Evidence> evidence;
    std::string interpreter;             ///< of a script or a dynamic program
    bool script = false;                 ///< it begins with "#!"
    std::vector<std::string> libraries;  ///< of a dynamic program that runs: the real paths of all it needs
    std::string
        missing_library;  ///< a dynamic program that its loader gives up on: "libc.so.6: cannot open …"; else empty
};

/// Judges `path` on `fs` as execve would on such a machine: existence, type, permission, format, interpreter.
[[nodiscard]] Executable judge_executable(const FileSystem& fs, std::string_view place, std::string_view path,
                                          Processor processor = Processor::X86);

}  // namespace herberge
