// SPDX-License-Identifier: MIT
#include <herberge/finding.hpp>

#include <algorithm>

namespace herberge {

namespace {

struct StageRow {
    Stage stage;
    std::string_view id;
    std::string_view meaning;
};

constexpr std::array<StageRow, stage_count> stage_rows = {{
    {Stage::Firmware, "firmware", "the firmware finds something to start on the disk"},
    {Stage::PartitionTable, "partition-table", "the table the next step needs is readable and leads to the partition needed"},
    {Stage::BootCode, "boot-code", "the first code the firmware starts is sound and may run"},
    {Stage::BootSector, "boot-sector", "the volume boot sector that the previous code starts is sound"},
    {Stage::Loader, "loader", "the loader's further parts and own files are there and sound"},
    {Stage::Configuration, "configuration", "the loader reads a configuration that leaves something to start"},
    {Stage::Entry, "entry", "the entry it would start resolves"},
    {Stage::Kernel, "kernel", "the kernel is startable"},
    {Stage::Ramdisk, "ramdisk", "the initial RAM disk is there if needed, and sound"},
    {Stage::Root, "root", "the root file system is found and mountable"},
    {Stage::Init, "init", "an init can be executed"},
    {Stage::Services, "services", "what init must start is there"},
}};

constexpr std::array<Stage, stage_count> stages = {Stage::Firmware, Stage::PartitionTable, Stage::BootCode, Stage::BootSector,
                                                   Stage::Loader,   Stage::Configuration,  Stage::Entry,    Stage::Kernel,
                                                   Stage::Ramdisk,  Stage::Root,           Stage::Init,     Stage::Services};

constexpr auto breaks = Severity::Breaks;
constexpr auto risk = Severity::Risk;
constexpr auto note = Severity::Note;

constexpr FindingCode codes[] = {
    {"firmware-nothing-to-start", Stage::Firmware, breaks, "No disk has a first sector that the firmware would start.", "No bootable device."},
    {"disc-catalogue-checksum", Stage::Firmware, risk, "The boot catalogue's validation entry fails its checksum: some firmware refuses the disc.", ""},
    {"isolinux-pointer", Stage::BootCode, breaks, "The first sector of a hybrid medium does not lead to ISOLINUX's boot image.",
     "isolinux.bin missing or corrupt."},
    {"isolinux-image-unreadable", Stage::Loader, breaks, "ISOLINUX's boot image cannot be loaded as a whole.", "isolinux: Disk error"},
    {"isolinux-image-damaged", Stage::Loader, breaks, "ISOLINUX's boot image fails its own checksum.", "isolinux: Image checksum error, sorry..."},
    {"grub-disc-no-table", Stage::Loader, breaks, "GRUB's boot image on a disc carries no boot information table.", "no boot info"},
    {"iso-cut-short", Stage::Root, risk, "An ISO 9660 file system is longer than the medium: its copy is incomplete.", ""},
    {"medium-root-missing", Stage::Root, breaks, "The packed root file system of a live medium is not where its RAM disk looks.",
     "Unable to find a medium containing a live file system"},
    {"medium-root-damaged", Stage::Root, breaks, "The packed root file system of a live medium is cut short or holds nothing.",
     "Unable to find a medium containing a live file system"},
    {"lilo-list-stale", Stage::Entry, risk, "LILO's map lists other sectors for an entry than its file has: it was not installed anew after the file changed.",
     ""},
    {"loader-lists-stale", Stage::Loader, risk,
     "A loader's lists of sectors lead to another kernel than the file that its entry names: they were not made anew.", ""},
    {"lilo-file-gone", Stage::Kernel, breaks, "A file that LILO's lists were made for is gone; its sectors are free and may be overwritten.",
     "(nothing, or garbage)"},
    {"shim-revoked", Stage::Loader, breaks, "shim's own SBAT generation is revoked by the machine's policy.",
     "SBAT self-check failed: Security Policy Violation"},
    {"root-unreadable", Stage::Root, breaks, "The superblock of the root file system lies in sectors that cannot be read.",
     "mount: mounting … on /root failed: Input/output error"},
    {"root-type-wrong", Stage::Root, breaks, "rootfstype= names another file system than the root has.", "mount: mounting … on /root failed: Invalid argument"},
    {"grub-files-unreadable", Stage::Loader, breaks, "GRUB's own files lie in sectors that cannot be read.", "error: failure reading sector …"},
    {"grub-config-unreadable", Stage::Configuration, breaks, "GRUB's configuration lies in sectors that cannot be read.", "error: failure reading sector …"},
    {"ramdisk-library-missing", Stage::Ramdisk, breaks, "The RAM disk's init, or the shell that reads it, needs a library that its loader does not get.",
     "error while loading shared libraries: …"},
    {"program-library-missing", Stage::Init, breaks, "A program needs a library that is missing, empty, or built for another processor.",
     "error while loading shared libraries: …"},
    {"services-target-masked", Stage::Services, breaks, "systemd's default target is masked: it goes into rescue mode.", "You are in rescue mode."},
    {"services-rescue-asked", Stage::Services, risk, "Rescue or emergency mode is asked for: a shell, not the usual system.", "You are in rescue mode."},
    {"services-no-login", Stage::Services, risk, "Nothing that asks for a login can run, or there are no accounts: nobody can log in.", ""},
    {"services-no-device-manager", Stage::Services, risk, "The device manager cannot run: devices are not announced.", ""},
    {"entry-kernel-unreadable", Stage::Entry, breaks, "The file that an entry starts lies where the medium gives nothing.", ""},
    {"windows-directory-unreadable", Stage::Entry, breaks, "The directory of a Windows system lies where the medium gives nothing.", "Status: 0xc0000185"},
    {"windows-code-page-unreadable", Stage::Kernel, breaks, "A language file lies where the medium gives nothing.", "Status: 0xc0000185"},
    {"windows-loader-unreadable", Stage::Loader, breaks, "The directory with the boot manager or NTLDR lies where the medium gives nothing.",
     "A disk read error occurred"},
    {"store-unreadable", Stage::Configuration, breaks, "The boot store lies where the medium gives nothing.", "Status: 0xc0000185"},
    {"loader-code-differs", Stage::Loader, risk, "Start-up code of a loader differs from the same code as it lies in a file, where no installer writes.", ""},
    {"file-differs-from-package", Stage::Init, risk, "A file of the boot chain is not the one that its package brought.", ""},
    {"ramdisk-no-controller-driver", Stage::Root, breaks, "The disk is attached in a way that neither the RAM disk nor the kernel has a driver for.",
     "ALERT! … does not exist. Dropping to a shell!"},
    {"disk-too-small", Stage::Firmware, breaks, "The image is smaller than one sector.", "No bootable device."},
    {"mbr-no-signature", Stage::Firmware, risk, "Sector 0 does not end with 55AA: a BIOS does not start the disk, and nobody reads a partition table from it.",
     "No bootable device."},
    {"mbr-status-byte", Stage::PartitionTable, risk, "A status byte of the table is neither 00 nor 80: Linux and GRUB then see no partitions.", ""},
    {"mbr-entry-past-end", Stage::PartitionTable, risk, "A partition starts or ends past the end of the disk.", ""},
    {"mbr-entry-at-zero", Stage::PartitionTable, risk, "A partition starts at sector 0, on top of the table.", ""},
    {"mbr-several-active", Stage::PartitionTable, risk, "More than one partition is marked active; some boot code refuses that.", ""},
    {"mbr-chs-differs", Stage::PartitionTable, note, "The CHS and LBA starts of a partition disagree; only code that still uses CHS is misled.", ""},
    {"partitions-overlap", Stage::PartitionTable, risk, "Two partitions share sectors.", ""},
    {"mbr-chain-broken", Stage::PartitionTable, risk, "The chain of logical partitions breaks: those behind the break are not seen.", ""},
    {"mbr-chain-cycle", Stage::PartitionTable, risk, "The chain of logical partitions comes back to itself: those behind it are not seen.", ""},
    {"gpt-header-missing", Stage::PartitionTable, risk, "A copy of the GPT header that should be there is not.", ""},
    {"gpt-header-crc", Stage::PartitionTable, risk, "The primary GPT header fails its checksum: GRUB does not care, Linux sees no partitions unless told gpt.",
     ""},
    {"gpt-array-crc", Stage::PartitionTable, risk, "The primary GPT's array fails its checksum: GRUB does not care, Linux sees no partitions unless told gpt.",
     ""},
    {"gpt-backup-missing", Stage::PartitionTable, note, "The backup GPT header is not there.", ""},
    {"gpt-backup-bad", Stage::PartitionTable, note, "The backup GPT fails a checksum.", ""},
    {"gpt-backup-not-at-end", Stage::PartitionTable, note, "The backup GPT is not at the end of the disk.", ""},
    {"gpt-hybrid", Stage::PartitionTable, note, "A GPT's protective MBR has further entries: two tables that need not agree.", ""},
    {"gpt-protective-missing", Stage::PartitionTable, risk, "There is a GPT without a protective entry in sector 0.", ""},
    {"gpt-entry-past-end", Stage::PartitionTable, risk, "A partition of the GPT lies outside the disk.", ""},
    {"partition-entry-misplaced", Stage::PartitionTable, breaks, "The partition that is needed does not begin where its file system begins.",
     "error: unknown filesystem.\nEntering rescue mode...\ngrub rescue>"},
    {"boot-code-empty", Stage::BootCode, breaks, "The code area of the first sector is empty.", "nothing; the screen stays as the firmware left it"},
    {"boot-code-damaged", Stage::BootCode, breaks, "The code of the first sector cannot work.", "nothing; the screen stays as the firmware left it"},
    {"boot-code-does-nothing", Stage::BootCode, breaks, "Run in an emulated PC, the first sector's code starts nothing.", ""},
    {"boot-code-finds-no-partition", Stage::PartitionTable, breaks, "Run in an emulated PC, the first sector's code finds no partition it would start.",
     "Missing operating system."},
    {"boot-sector-not-startable", Stage::BootSector, breaks, "The first sector's code reads the volume's boot sector and does not start it.",
     "Missing operating system."},
    {"boot-sector-gives-up", Stage::BootSector, breaks, "Run in an emulated PC, the volume's boot sector starts nothing.", "This is not a bootable disk."},
    {"loader-not-loaded", Stage::Loader, breaks, "Run in an emulated PC, the loader's first part does not get its second part to run.", ""},
    {"rehearsal-contradicts", Stage::BootCode, risk, "What the boot code does in an emulated PC contradicts what was decoded.", ""},
    {"boot-code-unreadable", Stage::BootCode, breaks, "The first sector cannot be read.", "a read error of the firmware"},
    {"chain-no-signature", Stage::BootSector, breaks, "The boot sector to chain to does not end with 55AA.", "error: invalid signature."},
    {"chain-unreadable", Stage::BootSector, breaks, "The boot sector to chain to cannot be read.", ""},
    {"grub-core-pointer", Stage::BootCode, breaks, "GRUB's first sector looks for the core image in the wrong place.", "GRUB"},
    {"grub-core-unreadable", Stage::Loader, breaks, "A sector of GRUB's core image cannot be read.", "GRUB … Read Error"},
    {"grub-core-first-sector", Stage::Loader, breaks, "The first sector of GRUB's core image is overwritten.", "GRUB, once or repeated without end"},
    {"grub-core-header", Stage::Loader, breaks, "The unprotected start of GRUB's core image is damaged.", "GRUB loading."},
    {"grub-core-beyond-repair", Stage::Loader, breaks, "GRUB's core image is damaged beyond its own error correction.", "GRUB loading."},
    {"grub-core-damaged", Stage::Loader, breaks, "GRUB's core image cannot be unpacked.", "GRUB loading."},
    {"grub-core-repaired", Stage::Loader, risk, "GRUB's core image is damaged but repairs itself at every start; further damage may be too much.", ""},
    {"grub-prefix-device", Stage::PartitionTable, breaks, "The partition on which GRUB looks for its files does not exist.",
     "error: no such partition.\nEntering rescue mode...\ngrub rescue>"},
    {"grub-prefix-file-system", Stage::Loader, breaks, "GRUB cannot read the file system that holds its files.",
     "error: unknown filesystem.\nEntering rescue mode...\ngrub rescue>"},
    {"grub-normal-module", Stage::Loader, breaks, "GRUB's module normal, or one it needs, is missing or unsound.",
     "error: file `…/normal.mod' not found.\nEntering rescue mode...\ngrub rescue>"},
    {"grub-module-missing", Stage::Loader, breaks, "The module that provides a command the entry needs cannot be loaded.", "error: file `….mod' not found."},
    {"grub-config-missing", Stage::Configuration, breaks, "GRUB finds no grub.cfg.", "grub>"},
    {"grub-config-empty", Stage::Configuration, breaks, "grub.cfg defines no entry and starts nothing.", "grub>"},
    {"grub-config-syntax", Stage::Configuration, breaks, "grub.cfg does not parse and leaves no entry.", "error: syntax error.\ngrub>"},
    {"grub-config-partly-lost", Stage::Configuration, note, "A syntax error in grub.cfg drops the command or block around it; the rest works.",
     "error: syntax error."},
    {"entry-none-for-system", Stage::Entry, breaks, "No entry of the loader starts this system.", "the system is missing from the menu"},
    {"entry-kernel-missing", Stage::Entry, breaks, "The kernel that the entry names is not there.", "error: file `…' not found."},
    {"entry-device-missing", Stage::Entry, breaks, "The device that the entry names does not exist or cannot be read.", "error: disk `…' not found."},
    {"entry-loads-nothing", Stage::Entry, breaks, "The entry loads nothing that could be started.", ""},
    {"entry-password", Stage::Entry, risk, "The entry asks for a user name and password.", "Enter username:"},
    {"entry-default-unmatched", Stage::Entry, note, "The default names no entry; the first one is used.", ""},
    {"kernel-refused-by-loader", Stage::Kernel, breaks, "The loader refuses the kernel's header.", "error: invalid magic number."},
    {"kernel-unreadable", Stage::Kernel, breaks, "The kernel file cannot be read.", ""},
    {"kernel-cut", Stage::Kernel, breaks, "The kernel file ends too early.", "nothing: the machine resets"},
    {"kernel-damaged", Stage::Kernel, breaks, "The compressed kernel is damaged.", "XZ-compressed data is corrupt\n -- System halted"},
    {"kernel-not-verified", Stage::Kernel, risk, "The kernel carries no check that holds; it may or may not be damaged.", ""},
    {"ramdisk-missing", Stage::Ramdisk, breaks, "The RAM disk is not there, and the kernel cannot mount its root without one.",
     "Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0)"},
    {"ramdisk-not-named", Stage::Ramdisk, breaks, "The entry names no RAM disk, and the kernel cannot mount its root without one.",
     "Kernel panic - not syncing: VFS: Unable to mount root fs on unknown-block(0,0)"},
    {"ramdisk-unreadable", Stage::Ramdisk, breaks, "The RAM disk file cannot be read.", ""},
    {"ramdisk-damaged", Stage::Ramdisk, breaks, "The RAM disk is damaged or cut before its init is unpacked.",
     "Initramfs unpacking failed: …\nKernel panic - not syncing: VFS: Unable to mount root fs"},
    {"ramdisk-partly-damaged", Stage::Ramdisk, risk, "The RAM disk is damaged behind its init.", "Initramfs unpacking failed: …"},
    {"ramdisk-only-early", Stage::Ramdisk, breaks, "The RAM disk holds only early microcode.", "Kernel panic - not syncing: VFS: Unable to mount root fs"},
    {"ramdisk-no-init", Stage::Ramdisk, breaks, "The RAM disk holds no init.", "Kernel panic - not syncing: VFS: Unable to mount root fs"},
    {"ramdisk-init-unusable", Stage::Ramdisk, breaks, "The RAM disk's init cannot be executed.", "Kernel panic - not syncing: No working init found."},
    {"ramdisk-compression-unsupported", Stage::Ramdisk, breaks, "The kernel cannot unpack this RAM disk's compression.",
     "Initramfs unpacking failed: compression method … not configured"},
    {"ramdisk-no-disk-driver", Stage::Root, breaks, "No disk driver is in the RAM disk or built into the kernel.",
     "ALERT! … does not exist. Dropping to a shell!"},
    {"ramdisk-no-file-system-driver", Stage::Root, breaks, "The driver for the root file system is neither in the RAM disk nor built in.",
     "mount: unknown filesystem type"},
    {"ramdisk-other-kernel", Stage::Root, breaks, "The RAM disk's modules belong to another kernel.", "ALERT! … does not exist. Dropping to a shell!"},
    {"root-not-named", Stage::Root, breaks, "The command line has no root=.", "No root device specified."},
    {"root-not-found", Stage::Root, breaks, "Nothing on the machine answers to root=.", "ALERT! … does not exist. Dropping to a shell!"},
    {"root-table-refused", Stage::Root, breaks, "The kernel sees no partitions because of a wrong status byte.",
     "ALERT! … does not exist. Dropping to a shell!"},
    {"root-no-file-system", Stage::Root, breaks, "The root volume holds no mountable file system.", "mount: … Invalid argument"},
    {"root-not-a-file-system", Stage::Root, breaks, "The root volume holds something that is not a file system.", "mount: … Invalid argument"},
    {"root-device-name-wrong", Stage::Root, breaks, "root= names a device of a kind that none of the drivers at hand gives.",
     "ALERT! /dev/sda2 does not exist."},
    {"root-device-name", Stage::Root, note, "root= names a device whose name depends on the hardware.", ""},
    {"ext-larger-than-partition", Stage::Root, breaks, "The file system is larger than its partition: loaders read it, the kernel refuses it.",
     "EXT4-fs: bad geometry: block count … exceeds size of device"},
    {"ext-unknown-feature", Stage::Root, breaks, "The file system uses features that are not known.",
     "EXT4-fs: Couldn't mount because of unsupported optional features"},
    {"ext-super-checksum", Stage::Root, breaks, "The superblock fails its checksum.", "EXT4-fs: VFS: Found ext4 filesystem with invalid superblock checksum."},
    {"ext-group-unreadable", Stage::Root, breaks, "A group descriptor cannot be read.", "EXT4-fs: can't read group descriptor"},
    {"ext-group-invalid", Stage::Root, breaks, "A group descriptor points outside the file system.", "EXT4-fs: group descriptors corrupted!"},
    {"ext-group-checksum", Stage::Root, risk, "A group descriptor fails its checksum; a read-only mount tolerates that.",
     "EXT4-fs: ext4_check_descriptors: Checksum for group … failed"},
    {"ext-root-inode", Stage::Root, breaks, "The root directory's inode is damaged.", "EXT4-fs: get root inode failed"},
    {"ext-journal-bad", Stage::Root, breaks, "The journal cannot be read.", "EXT4-fs: error loading journal"},
    {"ext-journal-dirty", Stage::Root, note, "The file system was not unmounted cleanly; loaders may see older contents than the system.",
     "EXT4-fs: recovery complete"},
    {"boot-code-of-another-loader", Stage::BootCode, breaks, "A loader's core lies on the disk, and the first sector's code is not the one that starts it.",
     "(another system starts)"},
    {"boot-sector-empty", Stage::BootSector, breaks, "The code area of a volume's boot sector that is started is empty.", "(nothing)"},
    {"chain-loop", Stage::Entry, breaks, "Loaders start each other in a circle.", "(the same menu comes again and again)"},
    {"loader-does-not-work", Stage::Loader, breaks, "Run in an emulated PC, the loader never gets as far as its configuration.", ""},
    {"partition-lost", Stage::PartitionTable, breaks, "An entry starts a system whose volume lies where no partition leads.", "error: no such device"},
    {"entry-stale", Stage::Entry, note, "An entry names a volume that is not on this machine.", ""},
    {"kernel-has-holes", Stage::Kernel, breaks, "A kernel is stored with holes, which the loader cannot read.", "Loading /vmlinuz... failed: I/O error"},
    {"kernel-setup-damaged", Stage::Kernel, breaks, "The kernel's set-up code, which this loader runs, is damaged.", "(nothing)"},
    {"syslinux-unreadable", Stage::Loader, breaks, "The sector where ldlinux.sys should begin cannot be read.", "Boot error"},
    {"syslinux-second-stage-gone", Stage::Loader, breaks, "The sectors where the boot sector looks for ldlinux.sys hold something else.", "Boot error"},
    {"syslinux-second-stage-damaged", Stage::Loader, breaks, "ldlinux.sys fails the checksum that it computes itself.", "Load error - Boot error"},
    {"syslinux-file-moved", Stage::Loader, risk,
     "ldlinux.sys was moved or replaced; the boot sector still starts the old sectors, for as long as nothing reuses them.", ""},
    {"syslinux-no-file-system", Stage::Loader, breaks, "ldlinux.sys finds no file system it can read.", "No valid file system found!"},
    {"syslinux-core-module-missing", Stage::Loader, breaks, "ldlinux.c32 is not there.", "Failed to load ldlinux.c32"},
    {"syslinux-core-module-damaged", Stage::Loader, breaks, "ldlinux.c32 cannot be loaded.", "Failed to load ldlinux.c32"},
    {"syslinux-menu-module-missing", Stage::Loader, breaks, "The module that UI or DEFAULT names is not there.", "Failed to load COM32 file vesamenu.c32"},
    {"syslinux-config-missing", Stage::Configuration, breaks, "No extlinux.conf or syslinux.cfg is found.", "WARNING: No configuration file found"},
    {"syslinux-config-empty", Stage::Configuration, breaks, "The configuration defines no label.", ""},
    {"syslinux-no-default", Stage::Configuration, breaks, "The configuration has neither DEFAULT nor UI.", "No DEFAULT or UI configuration directive found!"},
    {"syslinux-default-unknown", Stage::Configuration, breaks, "DEFAULT names neither a label nor a file that could be started.",
     "Loading linux... failed: No such file or directory"},
    {"legacy-pointer", Stage::BootCode, breaks, "Stage 1 of GRUB Legacy leads to a sector that cannot be read.", "GRUB Read Error"},
    {"legacy-stage-damaged", Stage::Loader, breaks, "A further stage of GRUB Legacy is overwritten.", "GRUB"},
    {"legacy-stage-unreadable", Stage::Loader, breaks, "A further stage of GRUB Legacy cannot be read.", "GRUB Loading stage1.5. Read Error"},
    {"legacy-partition-missing", Stage::PartitionTable, breaks, "The partition on which stage 1.5 looks for stage 2 is not in the table.", "Error 22"},
    {"legacy-file-system", Stage::Loader, breaks, "Stage 1.5 finds no file system of its kind.", "Error 17"},
    {"legacy-stage2-missing", Stage::Loader, breaks, "Stage 2 of GRUB Legacy is not there.", "Error 15"},
    {"legacy-config-missing", Stage::Configuration, breaks, "The configuration of GRUB Legacy is not there.", "grub>"},
    {"legacy-config-empty", Stage::Configuration, breaks, "The configuration of GRUB Legacy defines no entry.", "grub>"},
    {"ntfs-dirty", Stage::Root, note, "An NTFS volume is marked dirty: Windows checks it when it starts.", ""},
    {"ntfs-mirror-differs", Stage::Root, note, "The first records of the MFT and of its mirror differ.", ""},
    {"ntfs-hibernated", Stage::Root, note, "The volume holds a hibernated system: nothing on it should be changed.", ""},
    {"boot-sector-geometry", Stage::BootSector, breaks, "A boot sector does not lead to its volume's files.", "A disk read error occurred"},
    {"windows-loader-missing", Stage::Loader, breaks, "The file the Windows boot code asks for is not in the root of its volume.", "BOOTMGR is missing"},
    {"windows-loader-compressed", Stage::Loader, breaks, "The file the Windows boot code asks for is stored compressed.", "BOOTMGR is compressed"},
    {"windows-loader-damaged", Stage::Loader, breaks, "The boot manager, or NTLDR, is cut short or damaged.",
     "BOOTMGR image is corrupt.  The system cannot boot."},
    {"windows-detect-missing", Stage::Loader, breaks, "NTDETECT.COM is not there.", "NTDETECT failed"},
    {"configuration-lost", Stage::Configuration, breaks, "A loader's configuration is not there; it starts what is usual, and this system is not that.", ""},
    {"store-missing", Stage::Configuration, breaks, "The boot store is not there.", "Status: 0xc000000f"},
    {"store-damaged", Stage::Configuration, breaks, "The boot store is no sound hive.", "Status: 0xc000014c"},
    {"store-no-entry", Stage::Configuration, breaks, "The boot store names no system.", "Status: 0xc0000098"},
    {"store-no-path", Stage::Entry, breaks, "An entry of the boot store has no path to a loader.", "Status: 0xc000000d"},
    {"store-device-gone", Stage::Entry, breaks, "An entry of the boot store names a partition that is not here.", "Status: 0xc000000e"},
    {"store-device-unreadable", Stage::Entry, breaks, "An entry of the boot store names a volume that cannot be read.", "Status: 0xc000000e"},
    {"boot-ini-missing", Stage::Configuration, risk, "boot.ini is not there or names no system.", "Invalid BOOT.INI file"},
    {"windows-directory-missing", Stage::Entry, breaks, "An entry names a Windows directory that is not there.", "Status: 0xc000000f"},
    {"windows-tool-damaged", Stage::Kernel, breaks, "A tool on the boot manager's menu cannot be loaded.", "Status: 0xc000007b or 0xc0000185"},
    {"windows-safe-mode", Stage::Entry, note, "An entry starts Windows in safe mode.", ""},
    {"windows-os-loader", Stage::Kernel, breaks, "The system's own loader (winload) cannot be started.", "Status: 0xc000007b, 0xc0000221 or 0xc0000428"},
    {"windows-system-hive", Stage::Kernel, breaks, "The SYSTEM hive cannot be used.", "Status: 0xc000014c"},
    {"windows-kernel-missing", Stage::Kernel, breaks, "Kernel or HAL are not there.", "Status: 0xc000000f"},
    {"windows-kernel-damaged", Stage::Kernel, breaks, "Kernel or HAL are damaged.", "Status: 0xc0000221"},
    {"windows-import-missing", Stage::Kernel, breaks, "Something that the kernel, the HAL or a boot driver imports is not there.", "Status: 0xc000000f"},
    {"windows-import-damaged", Stage::Kernel, breaks, "Something that the kernel, the HAL or a boot driver imports is damaged.", "Status: 0xc0000221"},
    {"windows-code-page-missing", Stage::Kernel, breaks, "A language file that the loader hands to the kernel is not there.", "Status: 0xc000000f"},
    {"windows-boot-driver-missing", Stage::Kernel, breaks, "A driver that starts at boot is not there.", "Status: 0xc000000f"},
    {"windows-boot-driver-damaged", Stage::Kernel, breaks, "A driver that starts at boot is damaged.", "Status: 0xc0000221 or 0xc0000428"},
    {"windows-driver-skipped", Stage::Kernel, risk, "A driver that starts at boot cannot be loaded, and its ErrorControl lets the start go on.", ""},
    {"windows-storage-driver", Stage::Root, breaks, "A driver between the kernel and its volume does not start at boot.",
     "STOP 0x0000007B INACCESSIBLE_BOOT_DEVICE"},
    {"windows-no-disk-controller", Stage::Root, breaks, "No driver for a disk controller starts at boot.", "STOP 0x0000007B INACCESSIBLE_BOOT_DEVICE"},
    {"windows-file-system-driver", Stage::Root, breaks, "The driver of the system volume's file system is not there.",
     "STOP 0x0000007B INACCESSIBLE_BOOT_DEVICE"},
    {"windows-volume", Stage::Root, breaks, "The system's volume cannot be mounted.", "STOP 0x0000007B INACCESSIBLE_BOOT_DEVICE"},
    {"windows-program-missing", Stage::Init, breaks, "A program that Windows must start is missing or damaged.", "STOP 0xC000021A"},
    {"windows-software-hive", Stage::Services, breaks, "The SOFTWARE hive cannot be used.", "STOP 0xC0000218"},
    {"windows-service-missing", Stage::Services, note, "Files of services are not there; each is logged, and the start goes on.", ""},
    {"uefi-nothing-to-start", Stage::Firmware, breaks, "No boot option leads to a file that is there, and no FAT volume has the fallback file.",
     "BdsDxe: failed to load Boot0001: Not Found"},
    {"uefi-variable-cut", Stage::Firmware, note, "A variable of the store claims more bytes than there are.", ""},
    {"uefi-variables-rewritten", Stage::Firmware, note, "The firmware was interrupted while it rewrote its variables, and will finish at its next start.", ""},
    {"uefi-no-protective-entry", Stage::PartitionTable, risk, "Sector 0 has no protective entry: UEFI firmware does not look for the GPT.", ""},
    {"uefi-gpt-refused", Stage::PartitionTable, risk, "Neither copy of the GPT passes its checksums.", ""},
    {"uefi-mbr-refused", Stage::PartitionTable, risk, "UEFI firmware refuses an MBR whose entries overlap or leave the disk.", ""},
    {"uefi-partition-ignored", Stage::PartitionTable, risk, "A partition carries the attribute by which firmware ignores it.", ""},
    {"efi-image-refused", Stage::BootCode, breaks, "The firmware does not start the EFI application it finds.", "BdsDxe: failed to load Boot0001: Unsupported"},
    {"shim-second-stage-missing", Stage::Loader, breaks, "shim's second stage is not there.", "Failed to open \\EFI\\BOOT\\grubx64.efi - Not Found"},
    {"grub-efi-image", Stage::Loader, breaks, "A GRUB image carries no modules that could be read.", ""},
    {"boot-entry-dropped", Stage::Configuration, note, "An entry does not appear in the boot manager's list.", ""},
    {"boot-entries-missing", Stage::Configuration, breaks, "The boot manager finds no entry.", "No loader found."},
    {"ramdisk-modules-unsigned", Stage::Root, breaks, "Under Secure Boot the kernel refuses the RAM disk's modules: they carry no signature.",
     "ALERT! root device does not exist"},
    {"kernel-signature-refused", Stage::Kernel, breaks, "Secure Boot does not let the kernel start.", "error: bad shim signature."},
    {"shim-fallback", Stage::Loader, note, "A program beside shim makes boot options from the lists that installed systems left on the EFI system partition.",
     ""},
    {"shim-default-instead", Stage::Loader, note, "shim is told to start a file that is not there, and falls back to its built-in name.",
     "start_image() returned Not Found, falling back to default loader"},
    {"shim-fallback-nothing", Stage::Loader, breaks, "The program beside shim that makes boot options finds no list that leads to a file.", "Reset System"},
    {"shim-second-stage-refused", Stage::Loader, breaks, "shim refuses its second stage.", "Verification failed: (0x1A) Security Violation"},
    {"hive-recovered", Stage::Kernel, note, "A registry hive was not written to its end; its log makes it whole.", ""},
    {"hive-dirty", Stage::Kernel, risk, "A registry hive was not written to its end, and no log fits it.", ""},
    {"fat-larger-than-partition", Stage::Root, note, "A FAT claims more sectors than its partition has.", ""},
    {"fat-copies-differ", Stage::Root, note, "The two allocation tables of a FAT differ: firmware and loaders read the first one only.", ""},
    {"fat-info-sector", Stage::Root, note, "The FSInfo sector of a FAT32 carries no mark; it holds hints only.", ""},
    {"boot-sector-hidden", Stage::BootSector, note, "A boot sector's count of hidden sectors does not match where its partition begins.", ""},
    {"boot-sector-size", Stage::BootSector, note, "A boot sector claims more sectors than its partition has.", ""},
    {"boot-sector-backup-differs", Stage::BootSector, note, "A volume's boot sector and its backup copy differ.", ""},
    {"ext-errors-recorded", Stage::Root, note, "The file system is marked as having errors.", ""},
    {"ext-backup-super-differs", Stage::Root, note, "The first backup superblock does not match the primary one.", ""},
    {"program-missing", Stage::Init, breaks, "A program that must run is not there.", "No init found."},
    {"program-link-dangling", Stage::Init, breaks, "A program that must run is a link to nothing.", "No init found."},
    {"program-not-a-file", Stage::Init, breaks, "A program that must run is not a regular file.", "No init found."},
    {"program-not-executable", Stage::Init, breaks, "A program that must run has no execute permission.", "No init found."},
    {"program-unreadable", Stage::Init, breaks, "A program that must run cannot be read.", ""},
    {"program-format", Stage::Init, breaks, "A program that must run is in no executable format.", "Exec format error"},
    {"program-architecture", Stage::Init, breaks, "A program that must run is built for another machine.", "Exec format error"},
    {"program-cut", Stage::Init, breaks, "A program that must run is cut short.", ""},
    {"program-interpreter-missing", Stage::Init, breaks, "The interpreter of a script or the loader of a program is missing.", "No such file or directory"},
    {"init-second-choice", Stage::Init, risk, "The init asked for cannot run, and another one is tried and can.", ""},
    {"services-target-missing", Stage::Services, breaks, "systemd's target cannot be loaded.", "Failed to load default.target"},
    {"services-inittab-missing", Stage::Services, breaks, "/etc/inittab is missing.", "INIT: No inittab file found"},
    {"services-program-missing", Stage::Services, breaks, "A program that init must run cannot run.", "can't run '…': No such file or directory"},
    {"services-startup-program", Stage::Services, breaks, "A start-up script needs a program that cannot run.", ""},
    {"services-startup-program-optional", Stage::Services, risk, "A start-up script calls a program that cannot run, and goes on without it.", ""},
    {"fstab-device-missing", Stage::Services, breaks, "/etc/fstab demands a file system that is not there.", "You are in emergency mode."},
    {"fstab-device-not-found", Stage::Services, risk, "A file system of /etc/fstab was not found, but may be of a kind not recognised.", ""},
    {"fstab-not-mountable", Stage::Services, breaks, "/etc/fstab demands a file system that cannot be mounted.", "mount: … Invalid argument"},
    {"fstab-mount-point-missing", Stage::Services, breaks, "A mount point of /etc/fstab does not exist.", "mount: … No such file or directory"},
    {"fstab-root-differs", Stage::Services, risk, "/etc/fstab and the kernel's command line name different roots.", ""},
    {"fstab-swap-missing", Stage::Services, note, "A swap area of /etc/fstab is not there; the system starts without it.", ""},
};

}  // namespace

std::string_view stage_id(Stage stage) { return stage_rows[static_cast<std::size_t>(stage)].id; }
std::string_view stage_meaning(Stage stage) { return stage_rows[static_cast<std::size_t>(stage)].meaning; }

std::optional<Stage> stage_from_id(std::string_view id) {
    const auto found = std::ranges::find(stage_rows, id, &StageRow::id);
    return found != stage_rows.end() ? std::optional(found->stage) : std::nullopt;
}

std::span<const Stage, stage_count> all_stages() { return stages; }

std::string_view state_id(State state) {
    switch (state) {
        case State::Holds: return "holds";
        case State::Breaks: return "breaks";
        case State::Doubtful: return "doubtful";
        case State::Unknown: return "unknown";
        case State::NotReached: return "not-reached";
        case State::NotNeeded: return "not-needed";
    }
    return "unknown";
}

std::string_view severity_id(Severity severity) {
    switch (severity) {
        case Severity::Breaks: return "breaks";
        case Severity::Risk: return "risk";
        case Severity::Note: break;
    }
    return "note";
}

std::span<const FindingCode> finding_codes() { return codes; }

Finding make_finding(std::string_view code, std::string text, std::vector<Evidence> evidence, std::string symptom) {
    Finding out;
    out.code = code;
    const auto* row = std::ranges::find(codes, code, &FindingCode::code);
    if (row != std::end(codes)) {
        out.stage = row->stage;
        out.severity = row->severity;
    }
    out.text = std::move(text);
    out.evidence = std::move(evidence);
    out.symptom = std::move(symptom);
    return out;
}

Evidence evidence_bytes(const ByteSource& source, std::uint64_t offset, std::uint64_t length, std::string expected, std::string found) {
    Evidence out;
    const auto ranges = source.locate(offset, length);
    if (!ranges.empty()) out.range = ranges.front();
    out.place = source.place();
    out.expected = std::move(expected);
    out.found = std::move(found);
    return out;
}

Evidence evidence_place(std::string place, std::string expected, std::string found) {
    return Evidence{std::nullopt, std::move(place), std::nullopt, std::move(expected), std::move(found)};
}

Evidence evidence_line(std::string place, int line, std::string expected, std::string found) {
    Evidence out = evidence_place(std::move(place), std::move(expected), std::move(found));
    if (line > 0) out.line = line;
    return out;
}

Evidence evidence_error(const Error& error) {
    return evidence_place(error.place, error.expected, error.found.empty() ? error.what : error.what + " (" + error.found + ")");
}

}  // namespace herberge
