// SPDX-License-Identifier: MIT
// The generator of demo and test disks: file systems, archives, kernels and loaders in their true formats, made by
// our own code. It depends on nothing of the library but its checksums, so that it can be its counterpart in tests.
#pragma once

#include <array>
#include <cstdint>
#include <map>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace forge {

using Bytes = std::vector<std::uint8_t>;

Bytes to_bytes(std::string_view text);
/// Little-endian stores; the buffer grows when needed.
void put16(Bytes& out, std::size_t at, std::uint16_t value);
void put32(Bytes& out, std::size_t at, std::uint32_t value);
void put64(Bytes& out, std::size_t at, std::uint64_t value);
/// Fills up with zeros to at least `size` bytes.
void grow(Bytes& out, std::size_t size);
std::uint32_t get32(std::span<const std::uint8_t> bytes, std::size_t at);
/// Bytes that look random and are the same every time.
Bytes noise(std::size_t size, std::uint32_t seed);

// --- a tree of files -------------------------------------------------------------------------------------------

struct Node {
    enum class Kind { File, Directory, Link, Device } kind = Kind::File;
    std::uint32_t mode = 0644;                                   ///< permissions
    Bytes content;                                               ///< of a file
    std::string target;                                          ///< of a link
    std::vector<std::pair<std::uint64_t, std::uint64_t>> holes;  ///< of a file: offset and length, whole blocks
};

/// Absolute paths to nodes; directories on the way are made as needed.
class Tree {
public:
    Tree& file(std::string path, Bytes content, std::uint32_t mode = 0644);
    Tree& file(std::string path, std::string_view text, std::uint32_t mode = 0644);
    Tree& link(std::string path, std::string target);
    Tree& directory(std::string path, std::uint32_t mode = 0755);
    Tree& remove(const std::string& path);
    [[nodiscard]] const std::map<std::string, Node>& nodes() const { return nodes_; }
    Node& at(const std::string& path) { return nodes_.at(path); }

private:
    void parents(const std::string& path);
    std::map<std::string, Node> nodes_;
};

// --- file systems ----------------------------------------------------------------------------------------------

struct ExtOptions {
    std::uint64_t size = 16U << 20U;  ///< bytes
    std::uint32_t block_size = 1024;
    std::uint32_t inode_size = 256;
    bool extents = true;
    bool metadata_csum = true;
    bool bit64 = true;
    bool meta_bg = false;
    bool sparse_super = true;
    bool inline_data = false;  ///< small files inside their inodes
    bool journal = true;
    bool dirty_journal = false;
    std::uint32_t extra_incompat = 0;  ///< bits set on top
    std::string label;
    std::array<std::uint8_t, 16> uuid{};
    std::size_t scatter = 0;  ///< > 0: leave a gap after that many blocks, so that files have many extents
};
/// A whole ext2/3/4 file system with the tree in it. Throws std::runtime_error if it does not fit: a mistake of the
/// caller.
Bytes make_ext(const Tree& tree, const ExtOptions& options);

struct FatOptions {
    std::uint64_t size = 8U << 20U;  ///< bytes; FAT16 below 512 MiB with clusters of 2 KiB, FAT12 below some 8 MiB
    std::uint32_t sectors_per_cluster = 4;
    std::uint32_t hidden_sectors = 2048;
    std::uint32_t serial = 0xA1B0F00A;
    std::string label;
    Bytes boot_code;  ///< from byte 0x5A of the boot sector on
};
/// A FAT with long names; and the first sector of each file, from the volume's start.
struct FatImage {
    Bytes bytes;
    std::map<std::string, std::uint32_t> first_sector;
};
FatImage make_fat(const Tree& tree, const FatOptions& options = {});

/// A whole SquashFS, packed with zlib.
Bytes make_squashfs(const Tree& tree);

/// A physical volume of LVM 2 with a group of its own: each volume in one piece, behind the others.
struct LvmVolume {
    std::string name;
    Bytes content;
};
/// What a group or its volumes say of who may open them.
struct LvmMarks {
    std::string system_id;     ///< of the group; empty: any host
    std::string group_status;  ///< one more word: "EXPORTED"
    std::string volume_flag;   ///< of every volume: "ACTIVATION_SKIP"
    std::string group_flag;    ///< "NOAUTOACTIVATE"
};
Bytes make_lvm(const std::string& group, const std::vector<LvmVolume>& volumes, const LvmMarks& marks = {});

/// An encrypted volume with one key slot (number 0): AES-XTS, PBKDF2.
struct LuksOptions {
    int version = 2;
    std::string uuid = "0c4e5700-0001-4a01-8a01-000000c4e571";
    std::string label;  ///< version 2
};
/// Byte of the volume where the enciphered content begins.
inline constexpr std::size_t luks_data_at = std::size_t{4} << 20U;
Bytes make_luks(const Bytes& content, const std::string& passphrase, const LuksOptions& options = {});
Bytes make_swap(std::uint64_t size, std::array<std::uint8_t, 16> uuid);
std::array<std::uint8_t, 16> uuid_from(std::string_view text);

// --- archives and kernels ------------------------------------------------------------------------------------------

Bytes make_cpio(const Tree& tree);
Bytes gzip(const Bytes& plain);
Bytes xz(const Bytes& plain);
Bytes zstd(const Bytes& plain);
Bytes bzip2(const Bytes& plain);
Bytes lz4_legacy(const Bytes& plain);
/// In the frame format, with a checksum of all behind it.
Bytes lz4_frame(const Bytes& plain);
Bytes raw_lzma(const Bytes& plain);

struct KernelOptions {
    std::string release = "6.1.0-almhof";
    Bytes (*compress)(const Bytes&) = nullptr;  ///< null: gzip
    bool with_crc = true;
    std::size_t payload_size = 300000;  ///< bytes of the unpacked kernel
    Bytes payload;                      ///< the unpacked kernel itself; empty: one is made
};
Bytes make_kernel(const KernelOptions& options = {});

/// A static x86-64 program that exits at once.
Bytes make_program();
/// A dynamic x86-64 program or library.
struct DynamicOptions {
    std::string interpreter = "/lib64/ld-linux-x86-64.so.2";  ///< empty: a library
    std::vector<std::string> needed;
    std::string soname, rpath, runpath;
    std::uint16_t machine = 62;
};
Bytes make_dynamic(const DynamicOptions& options);
/// /etc/ld.so.cache: a name and the path it has.
Bytes make_library_cache(const std::vector<std::pair<std::string, std::string>>& entries);
/// A relocatable ELF file like a kernel module.
Bytes make_kernel_module(std::string_view name);

// --- GRUB ------------------------------------------------------------------------------------------------------------

struct ModuleOptions {
    std::string name;
    std::vector<std::string> depends;
    std::vector<std::string> needs = {"grub_malloc"};
    std::vector<std::string> defines;
    bool symbols = true;  ///< false: no symbol table, as a module has that only pulls in others
    Bytes code;           ///< what it executes
};
Bytes make_grub_module(const ModuleOptions& options);

struct CoreOptions {
    std::string prefix = "(,msdos1)/boot/grub";
    std::vector<std::string> modules = {"fshelp", "ext2", "part_msdos", "biosdisk"};
    std::string embedded_config;
    std::uint64_t first_sector = 1;
    bool redundancy = true;
    std::map<std::string, Bytes> code;  ///< of its modules
};
/// The core image from its first sector on, its list of runs filled in.
Bytes make_grub_core(const CoreOptions& options = {});
/// The first sector's 440 bytes of code.
Bytes make_grub_boot(std::uint64_t core_sector = 1);

/// GRUB Legacy: the first sector's 440 bytes, and what follows it in the gap (stage 1.5, which looks for stage 2 on
/// partition `partition`, counted from 0).
Bytes make_legacy_boot();
Bytes make_legacy_gap(unsigned partition = 0, std::string_view stage2 = "/boot/grub/stage2");
/// The file stage 2, whose configuration is `config`.
Bytes make_legacy_stage2(std::string_view config = "/boot/grub/menu.lst");

/// A stand-in for LILO's first part: loads what the list in that sector names, and starts it as a kernel.
Bytes make_lilo_boot(std::uint32_t list_sector);
/// A run of sectors by number, as LILO's map has it.
using SectorRun = std::pair<std::uint32_t, std::uint16_t>;
struct LiloImage {
    std::string label;
    std::vector<SectorRun> kernel, ramdisk;
    std::uint32_t ramdisk_size = 0;
};
/// LILO's map: the descriptors of its images, and each one's lists; the map's own sectors lie from `first` on without
/// gaps. `linear`: plain numbers of 24 bits; otherwise cylinders, heads and sectors.
Bytes make_lilo_map(const std::vector<LiloImage>& images, std::uint32_t first, bool linear = true);
Bytes make_sector_list(const std::vector<std::pair<std::uint32_t, std::uint16_t>>& runs);

/// The file ldlinux.sys as it is before it is installed.
Bytes make_syslinux_stage2(std::string_view directory);
Bytes make_syslinux_module();
/// Installs a SYSLINUX in a FAT that holds `directory`/ldlinux.sys and a configuration: boot code, list of sectors,
/// checksum.
void install_syslinux(FatImage& volume, const std::string& directory);

/// A first sector's code that starts the one active partition, and refuses none, several, or an odd status byte.
Bytes make_plain_boot();
/// A volume's boot sector (512 bytes) that says there is no system and waits for a key.
Bytes make_volume_boot();

// --- optical media
// -----------------------------------------------------------------------------------------------------

struct DiscOptions {
    std::string label = "ALMHOF_HELP";
    bool rock_ridge = true;
    bool joliet = true;
    std::size_t most_piece = 0;    ///< not 0: longer files take several directory records, bytes
    std::string boot_image;        ///< path of what a BIOS starts; empty: nothing
    std::uint8_t emulation = 0;    ///< 0: none, 2: a 1.44 MB floppy disk, 4: a hard disk
    std::string efi_image;         ///< path of the FAT that UEFI firmware looks into; empty: none
    bool boot_information = true;  ///< the boot image's table and checksum are filled in
    std::string configuration;     ///< path of what the stand-in boot image reads
    bool hybrid = false;           ///< a first sector that starts the boot image, too, and a partition over all
};
/// A disc; and the first block (of 2048 bytes) of each file.
struct DiscImage {
    Bytes bytes;
    std::map<std::string, std::uint32_t> first_block;
};
DiscImage make_disc(const Tree& tree, const DiscOptions& options = {});
/// A stand-in for the boot image of the SYSLINUX family: reads its configuration and waits.
Bytes make_disc_boot();

// --- disks
// -------------------------------------------------------------------------------------------------------------

struct PartitionSpec {
    std::uint64_t first_lba = 2048;
    Bytes content;
    std::uint8_t type = 0x83;
    bool active = false;
};
struct DiskSpec {
    std::uint64_t size = 24U << 20U;
    std::uint32_t signature = 0xA1A10F01;
    bool gpt = false;  ///< a GUID table with a protective first sector; type 0xEF becomes an EFI system partition, all
                       ///< else Linux data
    Bytes boot_code;   ///< at most 440 bytes
    Bytes gap;         ///< from sector 1 on
    std::vector<PartitionSpec> partitions;
};
Bytes make_disk(const DiskSpec& spec);

/// Writes bytes as a sparse file of at least `size` bytes: 4 KiB blocks of zeros are left out. False on failure.
bool write_sparse(const std::string& path, std::span<const std::uint8_t> bytes, std::uint64_t size = 0);

}  // namespace forge
