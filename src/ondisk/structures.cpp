// SPDX-License-Identifier: MIT
// The table of all described structures.
#include <algorithm>
#include <array>

#include "ondisk/android.hpp"
#include "ondisk/bitlocker.hpp"
#include "ondisk/btrfs.hpp"
#include "ondisk/exfat.hpp"
#include "ondisk/ext.hpp"
#include "ondisk/f2fs.hpp"
#include "ondisk/fat.hpp"
#include "ondisk/flash.hpp"
#include "ondisk/gpt.hpp"
#include "ondisk/grub.hpp"
#include "ondisk/hive.hpp"
#include "ondisk/iso9660.hpp"
#include "ondisk/jffs2.hpp"
#include "ondisk/legacy.hpp"
#include "ondisk/lilo.hpp"
#include "ondisk/linux.hpp"
#include "ondisk/luks.hpp"
#include "ondisk/marks.hpp"
#include "ondisk/mbr.hpp"
#include "ondisk/md.hpp"
#include "ondisk/ntfs.hpp"
#include "ondisk/pe.hpp"
#include "ondisk/roms.hpp"
#include "ondisk/squashfs.hpp"
#include "ondisk/syslinux.hpp"
#include "ondisk/uboot.hpp"
#include "ondisk/uefi.hpp"
#include "ondisk/wim.hpp"
#include "ondisk/windows.hpp"
#include "ondisk/xfs.hpp"

namespace herberge {

namespace {

using namespace ondisk;
using namespace std::string_view_literals;

template <class T>
consteval StructureKind row(std::string_view name, std::string_view meaning, std::size_t mark_at = 0,
                            std::string_view mark = {}) {
    return {name, meaning, sizeof(T), mark_at, mark, [](std::span<const std::uint8_t> bytes, std::uint64_t offset) {
                return bytes.size() < sizeof(T) ? std::vector<Field>{} : annotate(from_bytes<T>(bytes), offset);
            }};
}

constexpr auto kinds = std::to_array<StructureKind>({
    // mbr.hpp
    row<Chs>("chs", "cylinder, head, sector"),
    row<MbrEntry>("mbr-entry", "entry of an MBR partition table"),
    row<Mbr>("mbr", "master boot record"),
    // gpt.hpp
    row<GptHeader>("gpt-header", "header of a GUID partition table", 0, "EFI PART"sv),
    row<GptEntry>("gpt-entry", "entry of a GUID partition table"),
    // ext.hpp
    row<ExtCheckUp>("ext-check-up", "superblock of ext: when it was to be checked"),
    row<ExtReserved>("ext-reserved", "superblock of ext: what is reserved"),
    row<ExtPerformance>("ext-performance", "superblock of ext: allocation"),
    row<ExtJournalMore>("ext-journal-more", "superblock of ext: its journal"),
    row<ExtUsage>("ext-usage", "superblock of ext: its use and its disks"),
    row<ExtEncryption>("ext-encryption", "superblock of ext: encryption and quotas"),
    row<ExtRest>("ext-rest", "superblock of ext: its end"),
    row<ExtSuper>("ext-super", "superblock of ext2, ext3, ext4", 56, "\x53\xEF"sv),
    row<ExtGroup>("ext-group", "group descriptor of ext"),
    row<ExtInode>("ext-inode", "inode of ext"),
    row<ExtInodeExtra>("ext-inode-extra", "what follows the first 128 bytes of an ext inode"),
    row<ExtExtentHeader>("ext-extent-header", "head of an extent node of ext4"),
    row<ExtExtent>("ext-extent", "extent of ext4"),
    row<ExtExtentIndex>("ext-extent-index", "index of an extent node of ext4"),
    row<ExtDirEntry>("ext-dir-entry", "directory entry of ext"),
    row<JournalSuper>("journal-super", "superblock of a journal (JBD2)", 0, "\xC0\x3B\x39\x98"sv),
    row<JournalHead>("journal-head", "head of a block of a journal (JBD2)"),
    row<JournalTag>("journal-tag", "block that a descriptor of a journal announces"),
    row<JournalTag3>("journal-tag3", "the same with checksums of the third kind"),
    row<JournalCommit>("journal-commit", "end of a transaction of a journal"),
    row<JournalRevoke>("journal-revoke", "blocks of a journal that are not to be replayed"),
    row<FastCommitHead>("fast-commit-head", "begin of a fast commit of ext4"),
    row<ExtAttribute>("ext-attribute", "extended attribute of ext"),
    row<ExtIndexCount>("ext-index-count", "how full a block of a hashed directory of ext is"),
    row<ExtIndexTail>("ext-index-tail", "end of a block of a hashed directory of ext"),
    row<ExtDirTail>("ext-dir-tail", "end of a directory block of ext"),
    // fat.hpp
    row<FatCommon>("fat-common", "parameters that all FAT boot sectors have"),
    row<FatExtended>("fat-extended", "end of the parameters of a FAT boot sector"),
    row<Fat32Part>("fat32-part", "parameters that only FAT32 has"),
    row<FatBoot16>("fat-boot16", "boot sector of FAT12 and FAT16"),
    row<FatBoot32>("fat-boot32", "boot sector of FAT32"),
    row<FatEntry>("fat-entry", "directory entry of FAT"),
    row<FatLongEntry>("fat-long-entry", "piece of a long name of FAT"),
    row<FatInfo>("fat-info", "information sector of FAT32", 0, "RRaA"sv),
    // ntfs.hpp
    row<NtfsRecord>("ntfs-record", "file record of NTFS", 0, "FILE"sv),
    row<NtfsAttribute>("ntfs-attribute", "head of an attribute of NTFS"),
    row<NtfsResident>("ntfs-resident", "rest of a resident attribute's head"),
    row<NtfsNonResident>("ntfs-non-resident", "rest of a non-resident attribute's head"),
    row<NtfsListEntry>("ntfs-list-entry", "entry of an attribute list of NTFS"),
    row<NtfsIndexHeader>("ntfs-index-header", "head of index entries of NTFS"),
    row<NtfsIndexRoot>("ntfs-index-root", "root of an index of NTFS"),
    row<NtfsIndexBlock>("ntfs-index-block", "block of an index of NTFS", 0, "INDX"sv),
    row<NtfsIndexEntry>("ntfs-index-entry", "entry of an index of NTFS"),
    row<NtfsFileName>("ntfs-file-name", "file name of NTFS"),
    row<NtfsStandardInformation>("ntfs-standard-information", "standard information of NTFS"),
    row<NtfsFixedUp>("ntfs-fixed-up", "what fixed-up blocks of NTFS begin with"),
    row<NtfsReparse>("ntfs-reparse", "head of a reparse point"),
    row<NtfsLinkNames>("ntfs-link-names", "names of a link of NTFS"),
    row<NtfsPackedFile>("ntfs-packed-file", "how a file on NTFS is packed as a whole"),
    row<NtfsVolumeInformation>("ntfs-volume-information", "volume information of NTFS"),
    // marks.hpp
    row<NtfsBoot>("ntfs-boot", "boot sector of NTFS", 3, "NTFS    "sv),
    row<ExfatBoot>("exfat-boot", "boot sector of exFAT", 3, "EXFAT   "sv),
    row<ExfatFile>("exfat-file", "first directory entry of an exFAT file"),
    row<ExfatStream>("exfat-stream", "where an exFAT file lies"),
    row<ExfatName>("exfat-name", "part of an exFAT file's name"),
    // xfs.hpp
    row<XfsSuper>("xfs-super", "superblock of XFS", 0, "XFSB"sv),
    row<XfsInode>("xfs-inode", "inode of XFS"),
    row<XfsExtent>("xfs-extent", "extent of XFS"),
    row<XfsTreeHead>("xfs-tree-head", "head of a block of a tree of XFS extents", 0, "BMA3"sv),
    row<XfsFreeSpace>("xfs-free-space", "free space of a group of XFS", 0, "XAGF"sv),
    row<XfsInodes>("xfs-inodes", "inodes of a group of XFS", 0, "XAGI"sv),
    row<XfsGroupTree>("xfs-group-tree", "head of a block of a group's tree of XFS", 0, "IAB3"sv),
    row<XfsDirectoryHead>("xfs-directory-head", "head of a directory block of XFS", 0, "XDB3"sv),
    row<XfsDirectoryTail>("xfs-directory-tail", "end of a directory of XFS that is one block"),
    row<XfsLinkHead>("xfs-link-head", "head of a block of a long link of XFS", 0, "XSLM"sv),
    row<XfsLogRecord>("xfs-log-record", "record of the log of XFS", 0, "\xFE\xED\xBA\xBE"sv),
    row<XfsLogOperation>("xfs-log-operation", "operation in the log of XFS"),
    // btrfs.hpp
    row<BtrfsKey>("btrfs-key", "key of a Btrfs tree"),
    row<BtrfsSuper>("btrfs-super", "superblock of Btrfs", 64, "_BHRfS_M"sv),
    row<BtrfsNode>("btrfs-node", "head of a node of a Btrfs tree"),
    row<BtrfsItem>("btrfs-item", "item of a leaf of a Btrfs tree"),
    row<BtrfsPointer>("btrfs-pointer", "pointer of a node of a Btrfs tree"),
    row<BtrfsChunk>("btrfs-chunk", "chunk of Btrfs"),
    row<BtrfsDevice>("btrfs-device", "device of Btrfs"),
    row<BtrfsStripe>("btrfs-stripe", "stripe of a chunk of Btrfs"),
    row<BtrfsInode>("btrfs-inode", "inode of Btrfs"),
    row<BtrfsRoot>("btrfs-root", "root of a Btrfs tree"),
    row<BtrfsDirectoryItem>("btrfs-directory-item", "entry of a Btrfs directory"),
    row<BtrfsRootReference>("btrfs-root-reference", "where a Btrfs subvolume is entered"),
    row<BtrfsExtent>("btrfs-extent", "extent of Btrfs"),
    row<F2fsSuper>("f2fs-super", "superblock of F2FS", 0, "\x10\x20\xF5\xF2"sv),
    row<F2fsCheckpoint>("f2fs-checkpoint", "head of an F2FS checkpoint"),
    row<F2fsInode>("f2fs-inode", "inode of F2FS"),
    row<F2fsNodeTail>("f2fs-node-tail", "end of an F2FS node"),
    row<F2fsNodePlace>("f2fs-node-place", "where an F2FS node lies"),
    row<F2fsName>("f2fs-name", "directory entry of F2FS"),
    // bitlocker.hpp
    row<BitlockerBlock>("bitlocker-block", "copy of the metadata of BitLocker", 0, "-FVE-FS-"sv),
    row<BitlockerHead>("bitlocker-head", "head of the metadata of BitLocker"),
    row<BitlockerEntry>("bitlocker-entry", "entry in the metadata of BitLocker"),
    row<BitlockerProtector>("bitlocker-protector", "key protector of BitLocker"),
    // luks.hpp
    row<Luks1Header>("luks1-header", "header of LUKS 1", 0, "LUKS\xBA\xBE\0\1"sv),
    row<Luks1Slot>("luks1-slot", "key slot of LUKS 1"),
    row<Luks2Header>("luks2-header", "header of LUKS 2", 0, "LUKS\xBA\xBE\0\2"sv),
    // md.hpp
    row<RaidSuper>("raid-super", "superblock of Linux RAID (version 1)", 0, "\xFC\x4E\x2B\xA9"sv),
    row<RaidSuper90>("raid-super90", "superblock of Linux RAID (version 0.90)"),
    row<RaidDevice90>("raid-device90", "device of an array of Linux RAID (version 0.90)"),
    row<NilfsSuper>("nilfs-super", "superblock of NILFS2", 6, "\x34\x34"sv),
    row<LvmLabel>("lvm-label", "label of an LVM physical volume", 0, "LABELONE"sv),
    row<LvmArea>("lvm-area", "area of an LVM physical volume"),
    row<LvmMetadataHead>("lvm-metadata-head", "head of an LVM metadata area", 4, " LVM2 x[5A%r0N*>"sv),
    row<LvmTextPlace>("lvm-text-place", "where the text of an LVM metadata area lies"),
    // squashfs.hpp
    row<SquashfsSuper>("squashfs-super", "superblock of SquashFS", 0, "hsqs"sv),
    row<SquashfsInode>("squashfs-inode", "first part of an inode of SquashFS"),
    row<SquashfsDirectory>("squashfs-directory", "directory inode of SquashFS"),
    row<SquashfsLongDirectory>("squashfs-long-directory", "extended directory inode of SquashFS"),
    row<SquashfsFile>("squashfs-file", "file inode of SquashFS"),
    row<SquashfsLongFile>("squashfs-long-file", "extended file inode of SquashFS"),
    row<SquashfsLink>("squashfs-link", "link inode of SquashFS"),
    row<SquashfsDirectoryHead>("squashfs-directory-head", "head of directory entries of SquashFS"),
    row<SquashfsEntry>("squashfs-entry", "directory entry of SquashFS"),
    row<SquashfsFragment>("squashfs-fragment", "entry of the fragment table of SquashFS"),
    // iso9660.hpp
    row<BothEndian32>("both-endian32", "number in both orders of bytes"),
    row<IsoDirectoryRecord>("iso-directory-record", "directory record of ISO 9660"),
    row<IsoVolumeDescriptor>("iso-volume-descriptor", "volume descriptor of ISO 9660", 0, "\1CD001"sv),
    row<IsoBootRecord>("iso-boot-record", "boot record of ISO 9660", 0, "\0CD001"sv),
    row<CatalogueValidation>("catalogue-validation", "validation entry of a boot catalogue"),
    row<CatalogueEntry>("catalogue-entry", "entry of a boot catalogue"),
    row<CatalogueSection>("catalogue-section", "section of a boot catalogue"),
    row<BootInformation>("boot-information", "boot information table of a boot image"),
    row<HybridBootSector>("hybrid-boot-sector", "first sector of a medium that starts as disc and disk"),
    row<IsolinuxBoot>("isolinux-boot", "boot image of ISOLINUX"),
    // grub.hpp
    row<GrubBootSector>("grub-boot-sector", "first sector of GRUB 2"),
    row<GrubBlockRun>("grub-block-run", "run of sectors of GRUB 2"),
    row<GrubCoreHeader>("grub-core-header", "head of GRUB 2's core image"),
    row<GrubModuleInfo>("grub-module-info", "head of GRUB 2's list of modules"),
    row<GrubModuleHeader>("grub-module-header", "head of a module of GRUB 2"),
    row<GrubModuleInfo64>("grub-module-info64", "head of GRUB 2's list of modules, 64 bits"),
    // legacy.hpp
    row<LegacyStage1>("legacy-stage1", "stage 1 of GRUB Legacy"),
    row<LegacyRun>("legacy-run", "run of sectors of GRUB Legacy"),
    row<LegacyStage2>("legacy-stage2", "head of stage 1.5 and 2 of GRUB Legacy"),
    // lilo.hpp
    row<LiloFirst>("lilo-first", "first sector of LILO"),
    row<LiloAddress>("lilo-address", "sector address of LILO"),
    row<LiloDescriptor>("lilo-descriptor", "image descriptor of LILO"),
    // syslinux.hpp
    row<SyslinuxPatch>("syslinux-patch", "what SYSLINUX's installer fills in"),
    row<SyslinuxExtended>("syslinux-extended", "further places that SYSLINUX's installer fills in"),
    row<SyslinuxExtent>("syslinux-extent", "run of sectors of SYSLINUX"),
    // linux.hpp
    row<LinuxSetup>("linux-setup", "set-up header of a Linux kernel"),
    row<ElfIdent>("elf-ident", "first bytes of an ELF file"),
    row<Elf32>("elf32", "head of an ELF file, 32 bits", 0,
               "\x7F"
               "ELF\1"sv),
    row<Elf64>("elf64", "head of an ELF file, 64 bits", 0,
               "\x7F"
               "ELF\2"sv),
    row<LibraryCacheHead>("library-cache-head", "head of the cache of libraries"),
    row<LibraryCacheEntry>("library-cache-entry", "entry of the cache of libraries"),
    row<Elf32Section>("elf32-section", "section of an ELF file, 32 bits"),
    row<Elf64Section>("elf64-section", "section of an ELF file, 64 bits"),
    row<Elf32Program>("elf32-program", "segment of an ELF file, 32 bits"),
    row<Elf64Program>("elf64-program", "segment of an ELF file, 64 bits"),
    row<SwapHeader>("swap-header", "head of a Linux swap area"),
    row<Elf32Symbol>("elf32-symbol", "symbol of an ELF file, 32 bits"),
    row<Elf64Symbol>("elf64-symbol", "symbol of an ELF file, 64 bits"),
    // pe.hpp
    row<PeFileHeader>("pe-file-header", "header of a PE image"),
    row<PeOptional>("pe-optional", "optional header of a PE image"),
    row<PeRelocationBlock>("pe-relocation-block", "block of base relocations"),
    row<PeSectionHeader>("pe-section-header", "section of a PE image"),
    row<PeDirectory>("pe-directory", "data directory of a PE image"),
    row<PeImport>("pe-import", "import of a PE image"),
    row<DosHead>("dos-head", "head of an MS-DOS or PE image", 0, "MZ"sv),
    row<PeOptionalTail32>("pe-optional-tail32", "end of the optional header, 32 bits"),
    row<PeOptionalTail64>("pe-optional-tail64", "end of the optional header, 64 bits"),
    row<WinCertificate>("win-certificate", "head of a certificate of a PE image"),
    row<PeResourceDirectory>("pe-resource-directory", "directory of resources"),
    row<PeResourceEntry>("pe-resource-entry", "entry of a directory of resources"),
    row<PeResourceData>("pe-resource-data", "place of a resource"),
    row<VersionBlock>("version-block", "head of a block of version information"),
    row<VersionFixed>("version-fixed", "version of a PE image"),
    // hive.hpp
    row<HiveBase>("hive-base", "base block of a registry hive", 0, "regf"sv),
    row<HiveBin>("hive-bin", "bin of a registry hive", 0, "hbin"sv),
    row<HiveKey>("hive-key", "key of a registry hive"),
    row<HiveValueCell>("hive-value-cell", "value of a registry hive"),
    row<HiveLogEntry>("hive-log-entry", "entry of a registry log", 0, "HvLE"sv),
    row<HiveList>("hive-list", "list of keys of a registry hive"),
    row<HiveHashed>("hive-hashed", "key in a list, with the hash of its name"),
    row<HiveBigData>("hive-big-data", "large value of a registry hive"),
    row<HiveLogPage>("hive-log-page", "page of a registry log"),
    // windows.hpp
    row<ShellLink>("shell-link", "head of a shell link", 0, "\x4C\0\0\0\x01\x14\x02\0"sv),
    row<ShellLinkInfo>("shell-link-info", "target of a shell link"),
    row<StoreDevice>("store-device", "device of a boot store"),
    row<StoreMbrPartition>("store-mbr-partition", "partition of a boot store, MBR"),
    row<StoreGptPartition>("store-gpt-partition", "partition of a boot store, GPT"),
    row<MountedPartition>("mounted-partition", "mounted device of an MBR disk"),
    row<BootStatus>("boot-status", "what bootstat.dat begins with"),
    // wim.hpp
    row<WimHeader>("wim-header", "header of a Windows imaging file", 0, "MSWIM\0\0\0"sv),
    row<WimResource>("wim-resource", "where a resource of an imaging file lies"),
    row<WimTableEntry>("wim-table-entry", "row of an imaging file's table of resources"),
    row<WimSecurity>("wim-security", "head of an image's access descriptors"),
    row<WimEntry>("wim-entry", "file or directory of an imaging file"),
    row<WimStream>("wim-stream", "further stream of a file of an imaging file"),
    // uboot.hpp
    row<UbootLegacyImage>("uboot-legacy-image", "head of a legacy image of U-Boot", 0, "\x27\x05\x19\x56"sv),
    row<DeviceTreeHeader>("device-tree-header", "head of a device tree, or of an image tree of U-Boot", 0,
                          "\xD0\x0D\xFE\xED"sv),
    row<EgonHeader>("egon-header", "head of the first program of an Allwinner board", 4, "eGON.BT0"sv),
    row<Arm64Image>("arm64-image", "head of a kernel for arm64", 56, "ARM\x64"sv),
    row<ArmZimage>("arm-zimage", "head of a zImage for ARM, from its byte 36 on", 0, "\x18\x28\x6F\x01"sv),
    // android.hpp
    row<AndroidBootHead>("android-boot-head", "head of an Android image, versions 0 to 2", 0, "ANDROID!"sv),
    row<AndroidBootHead3>("android-boot-head3", "head of an Android image, versions 3 and 4"),
    row<AndroidVendorHead>("android-vendor-head", "head of the board's part of an Android image", 0, "VNDRBOOT"sv),
    row<AndroidSlots>("android-slots", "which copy of a system is started, 2 KiB into the partition misc", 4,
                      "\x42\x43\x41\x42"sv),
    // flash.hpp
    row<UbiEraseHeader>("ubi-erase-header", "head of a block of UBI", 0, "UBI#"sv),
    row<UbiVolumeHeader>("ubi-volume-header", "which logical block a block of UBI holds", 0, "UBI!"sv),
    row<UbiVolumeRecord>("ubi-volume-record", "row of UBI's table of volumes"),
    row<UbifsHead>("ubifs-head", "head of a node of UBIFS", 0, "\x31\x18\x10\x06"sv),
    row<UbifsKey>("ubifs-key", "key of UBIFS"),
    row<UbifsSuper>("ubifs-super", "superblock of UBIFS"),
    row<UbifsMaster>("ubifs-master", "master node of UBIFS"),
    row<UbifsInode>("ubifs-inode", "inode of UBIFS"),
    row<UbifsName>("ubifs-name", "name in a directory of UBIFS"),
    row<UbifsData>("ubifs-data", "block of a file of UBIFS"),
    row<UbifsIndex>("ubifs-index", "index node of UBIFS"),
    row<UbifsBranch>("ubifs-branch", "branch of an index node of UBIFS"),
    row<UbifsReference>("ubifs-reference", "part of UBIFS' journal"),
    row<UbifsCommit>("ubifs-commit", "begin of UBIFS' log"),
    row<UbifsCut>("ubifs-cut", "file that was cut, in UBIFS' journal"),
    row<UbifsPadding>("ubifs-padding", "room that UBIFS left empty"),
    // jffs2.hpp
    row<Jffs2Head>("jffs2-head", "head of a node of JFFS2", 0, "\x85\x19"sv),
    row<Jffs2Name>("jffs2-name", "name in a directory of JFFS2"),
    row<Jffs2Inode>("jffs2-inode", "inode of JFFS2"),
    row<CramfsInode>("cramfs-inode", "inode of CramFS"),
    row<CramfsSuper>("cramfs-super", "superblock of CramFS", 0, "\x45\x3D\xCD\x28"sv),
    // roms.hpp
    row<RockchipHeader>("rockchip-header", "ID block of a Rockchip board, deciphered", 0, "\x55\xAA\xF0\x0F"sv),
    row<RockchipProgram>("rockchip-program", "program that an ID block names"),
    row<RockchipHeader2>("rockchip-header2", "ID block of a newer Rockchip board", 0, "RKNS"sv),
    row<ImxVectorTable>("imx-vector-table", "image vector table of an i.MX board", 0, "\xD1\x00\x20\x40"sv),
    row<ImxBootData>("imx-boot-data", "where an i.MX board's program is to be put"),
    row<TiTocItem>("ti-toc-item", "table of a raw image for TI's boards", 20, "CHSETTINGS"sv),
    row<TiImageHeader>("ti-image-header", "head of a program for TI's boards"),
    row<Stm32Header>("stm32-header", "head of the first program of an STM32MP1 board", 0, "STM2"sv),
    row<ZynqHeader>("zynq-header", "boot header of a Zynq board, from its byte 32 on", 0,
                    "\x66\x55\x99\xAA\x58\x4E\x4C\x58"sv),
    row<StarfiveHeader>("starfive-header", "head of the first program of a JH7110 board"),
    // uefi.hpp
    row<DevicePathHead>("device-path-head", "head of a device path node"),
    row<HardDriveNode>("hard-drive-node", "partition in a device path"),
    row<OpticalNode>("optical-node", "disc in a device path"),
    row<PciNode>("pci-node", "PCI function in a device path"),
    row<AcpiNode>("acpi-node", "ACPI device in a device path"),
    row<SataNode>("sata-node", "SATA port in a device path"),
    row<ScsiNode>("scsi-node", "SCSI target in a device path"),
    row<UsbNode>("usb-node", "USB port in a device path"),
    row<NvmeNode>("nvme-node", "NVMe name space in a device path"),
    row<LoadOptionHead>("load-option-head", "head of a UEFI boot option"),
    row<SignatureListHead>("signature-list-head", "head of a list of signatures"),
    row<WorkingBlockHead>("working-block-head", "head of the firmware's log of block writes"),
    row<PendingWriteHead>("pending-write-head", "block write that the firmware logged"),
    row<PendingWriteRecord>("pending-write-record", "one block of such a write"),
    row<FirmwareVolumeHead>("firmware-volume-head", "head of a firmware volume", 40, "_FVH"sv),
    row<VariableStoreHead>("variable-store-head", "head of a store of UEFI variables"),
    row<PlainVariableHead>("plain-variable-head", "head of a UEFI variable"),
    row<VariableHead>("variable-head", "head of an authenticated UEFI variable"),
    row<EfiTime>("efi-time", "time as UEFI stores it"),
    row<ShimVendorTable>("shim-vendor-table", "table of shim's own certificates"),
    row<SbatLevelHead>("sbat-level-head", "head of shim's revocation policies"),
});

}  // namespace

bool StructureKind::marks(std::span<const std::uint8_t> bytes) const {
    return !mark.empty() && bytes.size() >= size && bytes.size() >= mark_at + mark.size() &&
           std::equal(mark.begin(), mark.end(), bytes.begin() + static_cast<std::ptrdiff_t>(mark_at),
                      [](char a, std::uint8_t b) { return static_cast<std::uint8_t>(a) == b; });
}

std::span<const StructureKind> structure_kinds() { return kinds; }

const StructureKind* structure_kind(std::string_view name) {
    const auto* const found = std::ranges::find(kinds, name, &StructureKind::name);
    return found != kinds.end() ? &*found : nullptr;
}

}  // namespace herberge
