# SPDX-License-Identifier: MIT
"""Where a start ended, by what its console showed."""
import re

# A system whose own mark is gone with its settings still tells that it reached what it starts for.
UP = r"(?m)^USERSPACE-UP|^(?!.*echo)[^\n]*THE-INN-IS-OPEN|Reached target multi-user\.target"

# What nothing follows: the console is not read on.
DECISIVE = (UP, r"HALT-MARK\n", r"---\[ end Kernel panic[^\n]*\n", r"grub rescue> ?$", r"\n *grub> ?$", r"No bootable device\.", r"No bootable option or device was found", r"UEFI Interactive Shell",
            r"Please press Enter to activate this console", r"X64 Exception Type[^\n]*\n", r"Failed to boot both default and fallback entries",
            r"\(initramfs\) ?$", r"Freezing execution", r"Press Enter for maintenance|Give root password for maintenance|root account is locked|Press Enter to continue\.\s*$",
            r"(?s)Loading [^\n]*\.\.\. ?failed[^\n]*\n.*boot: ?$", r"(?s)Error \d+: .*Press any key to continue\.\.\..*for a command-line", r"GRUB loading, please wait\.\.\.\s*Error \d+\n")


def decided(text):
    return any(re.search(d, text) for d in DECISIVE)


# What something may follow, by itself after some seconds: a menu with a time, a prompt with one.
LINGERS = r"(?s)error: .*Use the .{1,20} keys to select which|\nboot: ?$|\nPassword: *$"
# A person is waited for, who can go on from there.
WAITS = r"(?s)\A(?!.*Booting `).*keys to select which entry is highlighted|Reboot Into Firmware Interface|\nboot: ?$|\nPassword: *$|Enter username:\s*$|Error 32: Must be authenticated|You are in (?:rescue|emergency) mode|Spawning shell within the initramfs[^.]*\(initramfs\) ?$"


def lingers(text):
    return re.search(LINGERS, text) is not None


def waits(text):
    return re.search(WAITS, text) is not None


class End:
    """`starts`, or the stages that a stop as the console shows it can be meant by; `entry`: the entry that ran, by its own word;
    `waits`: for somebody who chooses or knows a password."""

    def __init__(self, starts, stages=(), why="", entry=None, waits=False):
        self.starts, self.stages, self.why, self.entry, self.waits = starts, tuple(stages), why, entry, waits

    def __str__(self):
        return "starts" if self.starts else "stops at " + " or ".join(self.stages)


# The first that fits, from the end of a chain to its beginning: (pattern, stages). A stage is told from another only where the
# console tells them apart; where it does not, all that show the same are named.
RULES = (
    # A distribution's own RAM disk and its first program
    (r"You are in (?:emergency|rescue) mode|Give root password|Press Enter for maintenance|root account is locked", ("services",)),
    (r"Target filesystem doesn't have|No init found|run-init: ", ("init",)),
    (r"(?s)(?:Begin: Running /scripts/init-bottom|Welcome to .{0,9}(?:Debian|Almhof)|systemd\[1\]).*(?:Attempted to kill init|Freezing execution)", ("init", "services")),
    (r"Freezing execution", ("init", "services")),
    (r"Welcome to .{0,9}(?:Debian|Almhof)|systemd\[1\]: |\[  OK  \]|\[FAILED\]", ("services", "init")),
    (r"(?s)Begin: Running /scripts/init-bottom.*", ("init", "services")),
    (r"ALERT! |Gave up waiting|\(initramfs\)|mount: mounting [^\n]* on /root failed", ("root",)),
    (r"Loading, please wait|Begin: ", ("ramdisk", "root")),
    (r"Failed to execute /init", ("ramdisk",)),
    (r"EMERGENCY-MODE|can't run '/etc/init\.d/rcS'|Please press Enter to activate", ("services",)),
    (r"NO-INIT|switch_root: can't execute|Requested init [^\n]* failed|No working init found", ("init",)),
    (r"(?s)ROOT-MOUNTED.*Attempted to kill init", ("init",)),
    (r"ROOT-MOUNTED", ("init", "services")),
    (r"ROOT-NOT-FOUND", ("root",)),
    (r"RAMDISK-RUNS", ("ramdisk", "root")),
    (r"Unable to mount root fs|Attempted to kill init|No working init|Failed to execute /init", ("ramdisk", "root")),
    (r"Linux version \d", ("kernel", "ramdisk")),
    (r"Probing EDD", ("kernel", "ramdisk")),
    # GRUB Legacy
    (r"Error 32: ", ("entry",)),
    (r"(?s)\nchainloader [^\n]*\n(?:[^\n]*\n){0,2}Error \d+: ", ("entry", "boot-sector", "kernel")),
    (r"(?s)GRUB loading, please wait\.\.\.\s*Error \d+", ("loader", "partition-table")),
    (r"(?s)\ninitrd [^\n]*\n(?:[^\n]*\n){0,2}Error (?!19)\d+: ", ("ramdisk", "entry")),
    (r"Error (?:13|7|28): ", ("kernel",)),
    (r"Error (?:15|6|8|19|21|22|23|27): ", ("entry", "kernel")),
    (r"Error \d+: ", ("entry", "kernel", "ramdisk")),
    (r"(?s)GRUB  version 0\.97.*grub> ?$", ("configuration",)),
    # GRUB 2
    (r"(?s)\n *grub> ?$", ("configuration", "entry")),
    (r"fatal error: token too large", ("configuration",)),
    (r"bad shim signature|invalid magic number|version too old|premature end of file|kernel too old|invalid or unsupported|couldn't load|cannot load image|plain image kernel not supported|invalid EFI file path|cannot start_image|only loading from", ("kernel",)),
    (r"error: (?:[^\n]*initrd[^\n]*not found|[^\n]*ramdisk)", ("ramdisk", "kernel", "entry")),
    (r"you need to load the kernel first|error: file `[^\n]*vmlinuz[^\n]*' not found|error: no such device|error: disk `[^\n]*' not found|error: no such partition(?=.*menu)", ("entry", "partition-table", "kernel", "loader", "configuration")),
    (r"Failed to boot both default and fallback|error: can't find command|Booting `", ("entry", "kernel", "loader")),
    (r"(?s)grub rescue> ?$", ("loader", "partition-table")),
    (r"Welcome to\s+GRUB", ("loader", "configuration", "kernel", "entry")),
    (r"\n *Booting '", ("entry", "kernel")),
    (r"GRUB loading|GRUB Loading stage|Geom Error|Read Error|Hard Disk Error|GRUB GRUB|GRUB", ("loader", "boot-code")),
    # SYSLINUX
    (r"(?i)Loading [^\n]*initrd[^\n]*failed", ("ramdisk",)),
    (r"(?i)Loading [^\n]*vmlinuz[^\n]*ok", ("kernel", "ramdisk")),
    (r"(?s)Loading [^\n]*vmlinuz[^\n]*(?:CHS|EDD): Error (?:(?!Loading ).)*failed", ("entry", "kernel")),
    (r"Loading [^\n]*vmlinuz\.\.\. ?$", ("entry", "kernel")),
    (r"(?i)Loading [^\n]*vmlinuz[^\n]*failed|Could not find kernel image|Invalid or corrupt kernel image|Booting kernel failed", ("entry", "kernel")),
    (r"Booting from local disk", ("entry", "configuration")),
    (r"Failed to load COM32 file (?!ldlinux)", ("loader", "configuration", "entry")),
    (r"No configuration file found|No DEFAULT or UI|Loading [^\n]*failed|\nboot: ?$", ("configuration", "entry")),
    (r"isolinux: (?:Image checksum error|Disk error)", ("loader",)),
    (r"Failed to load (?:COM32 file )?ldlinux\.c32|Failed to load libcom32|not a COM32R|Load error|Boot error|checksum error", ("loader", "boot-sector")),
    (r"(?:SYS|ISO)LINUX \d", ("loader", "configuration", "kernel")),
    (r"isolinux\.bin missing or corrupt", ("boot-code", "loader")),
    (r"Missing operating system|Operating system load error|Multiple active partitions|Invalid partition table|Error loading operating system", ("partition-table", "boot-sector", "boot-code")),
    (r"This is not a bootable disk", ("boot-sector", "partition-table")),
    # systemd-boot, unified images
    (r"Boot in \d+ s\.|Reboot Into Firmware Interface", ("configuration", "entry")),
    (r"Error loading [^\n]*\.dtb: ", ("entry",)),
    (r"Error preparing initrd: Device Error", ("ramdisk", "kernel")),  # which of two neighbours is lost is not shown
    (r"Error loading [^\n]*initrd|initrd[^\n]*(?:Not Found|not found)|Error (?:preparing|opening|reading) initrd", ("ramdisk",)),
    (r"Error loading [^\n]*(?:vmlinuz|linux)|Failed to execute|Error registering|Kernel [^\n]*not|Bad kernel image", ("kernel", "entry")),
    (r"Unable to locate kernel|No loader found|No configuration file", ("configuration", "entry")),
    # shim
    (r"Verification failed|Failed to open [^\n]*grub|Failed to load image|start_image\(\) returned", ("loader",)),
    # The firmware itself
    (r"X64 Exception Type", ("boot-code", "loader", "kernel")),
    (r"BdsDxe: failed to (?:load|start) Boot0001[^\n]*(?:Unsupported|Access Denied|Security Violation|Load Error)", ("boot-code",)),
    (r"BdsDxe: starting Boot0001", ("boot-code", "loader", "configuration", "kernel")),
    (r"BdsDxe: failed to load Boot0001[^\n]*Not Found|UEFI Interactive Shell|No bootable option", ("firmware", "partition-table", "boot-code")),
    (r"not a bootable disk|No bootable device", ("firmware", "partition-table", "boot-sector")),
    (r"Booting from Hard Disk", ("boot-code", "partition-table", "boot-sector", "loader")),
)


def of(text):
    """The end of a start whose console showed `text`."""
    if re.search(UP, text):
        word = re.search(r"ENTRY [^\n]*inn=(\w+)", text)
        return End(True, entry=word.group(1) if word else None)
    # A cursor that is placed anew within a word, or between three dots, begins no line.
    text = re.sub(r"(?<=[a-z])\n(?!boot:)(?=[a-z])|(?<=\.)\n(?=\.)", "", text)
    for pattern, stages in RULES:
        found = re.search(pattern, text)
        if found:
            return End(False, stages, " ".join(found.group(0).split())[-120:], waits=waits(text))
    return End(False, ("firmware", "boot-code", "loader"), "nothing")
