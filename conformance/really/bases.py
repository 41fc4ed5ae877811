# SPDX-License-Identifier: MIT
"""The whole disks that faults are made in: each is put together by the partitioner, the makers of file systems and the loaders'
own tools, without root's rights, and comes out the same bytes each time from the same packages."""
import hashlib, os, pathlib, re, shutil, struct, subprocess
from . import packages
from .packages import output

MIB = 1 << 20
ROOT = "b0a7d000-0001-4a01-8a01-0000000000a1"
BOOT = "b0a7d000-0001-4a01-8a01-0000000000a2"
DISK = "B0A7D000-0001-4A01-8A01-0000000000D1"
PART = "B0A7D000-0001-4A01-8A01-0000000000E{}"
FAT = "a1b20c3d"
TYPES = {"esp": "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", "linux": "0FC63DAF-8483-4772-8E79-3D69D8477DE4", "bios": "21686148-6449-6E6F-744E-656564454649"}
EPOCH = "1700000000"

INIT = """#!/bin/sh
# Finds the root file system and hands over to its init.
export PATH=/bin
/bin/busybox mkdir -p /proc /sys /dev /root
/bin/busybox --install -s /bin
mount -t devtmpfs devtmpfs /dev; mount -t proc proc /proc; mount -t sysfs sysfs /sys
echo RAMDISK-RUNS
stop() { echo "$*"; echo HALT-MARK; while :; do sleep 3600; done; }
ROOT=; INIT=/sbin/init; MODE=ro
for a in $(cat /proc/cmdline); do case "$a" in root=*) ROOT="${a#root=}";; init=*) INIT="${a#init=}";; rw) MODE=rw;; esac; done
while read m; do insmod "/lib/modules/$m" || echo "insmod $m failed"; done < /etc/modules
[ -n "$ROOT" ] || stop "ROOT-NOT-FOUND no root= was given"
i=0
while :; do
  case "$ROOT" in UUID=*|LABEL=*) DEV=$(findfs "$ROOT" 2>/dev/null);; *) DEV=; [ -b "$ROOT" ] && DEV=$ROOT;; esac
  [ -n "$DEV" ] && break
  i=$((i+1)); [ $i -gt 4 ] && break; sleep 0.5
done
[ -n "$DEV" ] || stop "ROOT-NOT-FOUND $ROOT does not exist"
mount -o $MODE "$DEV" /root || stop "ROOT-NOT-FOUND $DEV cannot be mounted"
echo "ROOT-MOUNTED $DEV"
p="$INIT"; n=0
while [ -L "/root$p" ] && [ $n -lt 8 ]; do n=$((n+1)); l=$(readlink "/root$p"); case "$l" in /*) p="$l";; *) p="${p%/*}/$l";; esac; done
[ -x "/root$p" ] && [ ! -d "/root$p" ] || stop "NO-INIT $INIT"
for d in dev proc sys; do mount --move /$d /root/$d; done
exec switch_root /root "$INIT"
"""

SYSTEM = {
    "etc/inittab": "::sysinit:/etc/init.d/rcS\nttyS0::askfirst:-/bin/sh\n",
    "etc/fstab": f"UUID={ROOT} / ext4 errors=remount-ro 0 1\n",
    "etc/hostname": "inn\n",
    "etc/passwd": "root:x:0:0:root:/root:/bin/sh\n",
    "etc/os-release": 'PRETTY_NAME="Almhof 3"\nNAME="Almhof"\nID=almhof\nVERSION_ID="3"\n',
    "etc/init.d/rcS": """#!/bin/sh
export PATH=/sbin:/bin:/usr/sbin:/usr/bin
mount -o remount,rw /
if ! mount -a; then
  echo "EMERGENCY-MODE a file system could not be mounted"
  echo HALT-MARK; while :; do sleep 3600; done
fi
echo "ENTRY $(cat /proc/cmdline)"
echo USERSPACE-UP
""",
}


# What LVM is told where no udev makes its nodes.
LVM = "--config 'activation{udev_sync=0 udev_rules=0 monitoring=0} backup{backup=0 archive=0} devices{scan=\"/dev\" use_devicesfile=0}'"
# The same RAM disk, which starts arrays and groups of volumes before it looks for the root.
LAYERED = INIT.replace('[ -n "$ROOT" ] ||', f'mdadm --assemble --scan --run\nlvm vgchange {LVM} --sysinit -ay\n[ -n "$ROOT" ] ||', 1)

# A machine that lets programs work, and is switched off.
WORK = """#!/bin/busybox sh
export PATH=/bin
/bin/busybox mkdir -p /proc /sys /dev /work /run /tmp
/bin/busybox --install -s /bin
mount -t devtmpfs devtmpfs /dev; mount -t proc proc /proc; mount -t sysfs sysfs /sys
while read m; do insmod "/lib/modules/$m"; done < /etc/modules
{work} && echo WORK-DONE
reboot -f
"""
MOUNTED = "mount -t ext4 -o noatime /dev/vda1 /work && {} && umount /work"

# A group of one physical volume with one logical volume, as vgcfgrestore takes it.
GROUP_ID, PHYSICAL_ID, LOGICAL_ID = (f"Almhof-0000-0000-0000-0000-0000-00000{n}" for n in (1, 2, 3))
GROUP = f"""contents = "Text Format Volume Group"
version = 1
inn {{
id = "{GROUP_ID}"
seqno = 1
status = ["RESIZEABLE", "READ", "WRITE"]
extent_size = 2048
max_lv = 0
max_pv = 0
physical_volumes {{
pv0 {{
id = "{PHYSICAL_ID}"
device = "/dev/vda1"
status = ["ALLOCATABLE"]
pe_start = 2048
pe_count = 44
}}
}}
logical_volumes {{
root {{
id = "{LOGICAL_ID}"
status = ["READ", "WRITE", "VISIBLE"]
segment_count = 1
segment1 {{
start_extent = 0
extent_count = 42
type = "striped"
stripe_count = 1
stripes = ["pv0", 0]
}}
}}
}}
}}
"""


class Base:
    """A disk that starts: how it is made and started, where its system is, what its entries are called (and by which word of the command line each is
    known), where its volumes begin (kind, sector), and the parts of its chain."""
    release = ""  # of its kernel, where its own modules lie in its root

    def __init__(self, name, firmware, place, make, entries, volumes, parts, mirrored=None):
        """`mirrored`: puts what changed in files where it lies a second time."""
        self.name, self.firmware, self.place, self.make = name, firmware, place, make
        self.entries, self.volumes, self.parts, self.mirrored = entries, volumes, parts, mirrored


class Found:
    """A place of so many bytes whose beginning a disk tells itself."""

    def __init__(self, length, find):
        self.length, self.find = length, find


class Maker:
    """Makes the bases in a folder; what they share (kernel, RAM disk, system) is made once."""

    def __init__(self, tree, release, folder):
        self.tree, self.release, self.folder = pathlib.Path(tree), release, pathlib.Path(folder)
        self.folder.mkdir(parents=True, exist_ok=True)
        os.environ.update(SOURCE_DATE_EPOCH=EPOCH, E2FSPROGS_FAKE_TIME=EPOCH, TZ="UTC", LC_ALL="C")
        self.kernel = self.tree / f"boot/vmlinuz-{release}"
        self.ramdisk, self.disc_ramdisk, self.layers_ramdisk = (self.folder / f"initrd{which}.img" for which in ("", "-disc", "-layers"))
        # What is made here counts for the images as much as the packages do.
        seed = hashlib.sha256(pathlib.Path(__file__).read_bytes() + release.encode()).hexdigest()
        stamp = self.folder / "made-of"
        if not stamp.exists() or stamp.read_text() != seed:
            for old in self.folder.glob("*.img"):
                old.unlink()
            self.pack_ramdisk(self.ramdisk, INIT)
            self.pack_ramdisk(self.disc_ramdisk, INIT, drivers=("virtio_pci", "virtio_blk", "ata_piix", "sr_mod", "isofs"))
            self.pack_ramdisk(self.layers_ramdisk, LAYERED, [shutil.which("lvm"), shutil.which("mdadm")], ("virtio_pci", "virtio_blk", "dm_mod", "raid1"))
            stamp.write_text(seed)

    def temporary(self, name):
        path = self.folder / ("tmp-" + name)
        shutil.rmtree(path, ignore_errors=True)
        path.mkdir()
        return path

    def stamp_times(self, folder):
        os.utime(folder, (int(EPOCH), int(EPOCH)))
        for base, folders, files in os.walk(folder):
            for name in folders + files:
                os.utime(os.path.join(base, name), (int(EPOCH), int(EPOCH)), follow_symlinks=False)

    def pack_ramdisk(self, to, init, more=(), drivers=("virtio_pci", "virtio_blk"), files=()):
        """Packs a RAM disk with drivers and with that init; `more`: further programs, whose libraries come along; `files`: (name,
        text) in /etc."""
        root = self.temporary("ramdisk")
        for d in ("bin", "etc", "lib/modules"):
            (root / d).mkdir(parents=True)
        for program in more:
            shutil.copy(program, root / "bin")
            for library in re.findall(r"(/\S+) \(0x", output("ldd", program)):
                (root / library[1:]).parent.mkdir(parents=True, exist_ok=True)
                shutil.copy(library, root / library[1:])
        shutil.copy(self.tree / "bin/busybox", root / "bin/busybox")
        os.symlink("busybox", root / "bin/sh")
        order = []
        for wanted in drivers:
            for line in output("modprobe", "-d", self.tree, "-S", self.release, "--show-depends", wanted).splitlines():
                if line.startswith("insmod"):
                    path = line.split()[1]
                    name = os.path.basename(path)
                    if name not in order:
                        order.append(name)
                        shutil.copy(path, root / "lib/modules" / name)
        (root / "etc/modules").write_text("".join(n + "\n" for n in order))
        for name, text in files:
            (root / "etc" / name).write_text(text)
        (root / "init").write_text(init)
        os.chmod(root / "init", 0o755)
        self.stamp_times(root)
        with open(to, "wb") as out:
            names = sorted(str(p.relative_to(root)) for p in root.rglob("*"))
            archive = subprocess.run(["cpio", "-o", "-H", "newc", "--reproducible", "--quiet", "-R", "0:0"], cwd=root, input="\n".join([".", *names]).encode(), stdout=subprocess.PIPE, check=True).stdout
            out.write(subprocess.run(["gzip", "-9n"], input=archive, stdout=subprocess.PIPE, check=True).stdout)
        shutil.rmtree(root)

    # --- pieces of disks ---

    def system(self, name, more=()):
        """A folder with the installed system; `more`: further files as (path, text or file)."""
        root = self.temporary(name)
        for d in ("bin", "sbin", "boot", "dev", "proc", "sys", "tmp", "run", "srv", "root", "etc/init.d", "usr/bin"):
            (root / d).mkdir(parents=True, exist_ok=True)
        shutil.copy(self.tree / "bin/busybox", root / "bin/busybox")
        for applet in ("sh", "mount", "cat", "sleep", "echo", "ls"):
            os.symlink("busybox", root / "bin" / applet)
        os.symlink("../bin/busybox", root / "sbin/init")
        for path, text in SYSTEM.items():
            (root / path).write_text(text)
        os.chmod(root / "etc/init.d/rcS", 0o755)
        for path, what in more:
            to = root / path.lstrip("/")
            to.parent.mkdir(parents=True, exist_ok=True)
            if isinstance(what, pathlib.Path):
                shutil.copy(what, to)
            else:
                to.write_text(what)
        self.stamp_times(root)
        return root

    def ext(self, disk, sector, sectors, folder, uuid, kind="ext4", without=(), more=()):
        """Makes a file system of a folder's content in sectors of the disk; `without`: further features that it does not have."""
        output("mke2fs", "-q", "-F", "-t", kind, "-O", ",".join("^" + f for f in ("metadata_csum_seed", "huge_file", *without)), "-U", uuid, "-E", f"offset={sector * 512},hash_seed={uuid},root_owner=0:0,lazy_itable_init=0,lazy_journal_init=0", "-d", folder, *more,
               disk, f"{sectors // 2}k")
        # The times of access and change are those of the folder here, which no program sets.
        paths = ["/"] + ["/" + str(p.relative_to(folder)) for p in pathlib.Path(folder).rglob("*")]
        output("debugfs", "-w", "-f", "-", f"{disk}?offset={sector * 512}", text="".join(f'sif "{p}" {field} @{EPOCH}\n' for p in paths for field in ("atime", "ctime")))
        shutil.rmtree(folder)

    def fat(self, disk, sector, sectors, files, bits=32):
        """Makes a FAT volume in sectors of the disk; `files`: (path, text or file)."""
        piece = self.folder / "tmp-fat.part"
        piece.unlink(missing_ok=True)
        with open(piece, "wb") as out:
            out.truncate(sectors * 512)
        output("mkfs.vfat", "-F", bits, "-i", FAT, "-h", sector, "--invariant", piece)
        made = set()
        for path, what in files:
            parts = path.strip("/").split("/")
            for i in range(1, len(parts)):
                folder = "/".join(parts[:i])
                if folder.lower() not in made:
                    output("mmd", "-i", piece, "::/" + folder)
                    made.add(folder.lower())
            source = what
            if not isinstance(what, pathlib.Path):
                source = self.folder / "tmp-text.part"
                source.write_text(what)
            stamped = self.folder / "tmp-stamped.part"
            shutil.copy(source, stamped)
            os.utime(stamped, (int(EPOCH), int(EPOCH)))
            output("mcopy", "-m", "-i", piece, stamped, "::/" + path.strip("/"))
        put(disk, sector * 512, piece.read_bytes())
        for left in self.folder.glob("tmp-*.part"):
            left.unlink()

    def empty(self, path, mib):
        with open(path, "wb") as out:
            out.truncate(mib * MIB)

    def table(self, path, script):
        output("sfdisk", "-q", "--no-reread", "--no-tell-kernel", path, text=script)

    def grub_core(self, target, prefix, modules, out, early=None):
        command = ["grub-mkimage", "-O", target, "-d", self.tree / f"usr/lib/grub/{target}", "-p", prefix, "-o", out]
        if early is not None:
            text = self.folder / "tmp-early.cfg"
            text.write_text(early)
            command += ["-c", text]
        output(*command, *modules)

    def grub_files(self, target, menu):
        """The loader's own files for /boot/grub, as its installer copies them: all modules and lists, and the menu."""
        folder = self.tree / f"usr/lib/grub/{target}"
        return [(f"/boot/grub/{target}/{f.name}", f) for f in sorted(folder.iterdir()) if f.suffix in (".mod", ".lst")] + [("/boot/grub/grub.cfg", menu)]

    def install_grub(self, disk, core, at):
        """What the loader's own installer writes: its first sector over the code of the first one, the core where it is said, and the
        list of the core's sectors in both (grub-core/boot/i386/pc/boot.S and diskboot.S; util/setup.c)."""
        boot = bytearray((self.tree / "usr/lib/grub/i386-pc/boot.img").read_bytes())
        image = bytearray(core.read_bytes())
        image += bytes(-len(image) % 512)
        old = get(disk, 0, 512)
        struct.pack_into("<Q", boot, 0x5C, at)
        boot[0x66:0x68] = b"\x90\x90"  # the drive that the firmware names is the one
        boot[440:512] = old[440:512]
        # The last entry of diskboot.S's own list: where the rest of the core goes on, in how many sectors, to which segment.
        struct.pack_into("<QHH", image, 500, at + 1, len(image) // 512 - 1, 0x820)
        put(disk, 0, bytes(boot[:446]))
        put(disk, at * 512, bytes(image))

    def work_on(self, disk, work, programs, files=(), drivers=("virtio_pci", "virtio_blk")):
        """Has a command line work on the disk in a virtual PC: what an installer needs that asks the running system where a file
        lies, and what is made by programs that want devices. `files`: (name, text), which it finds in /etc."""
        ramdisk = self.folder / "tmp-work.part"
        self.pack_ramdisk(ramdisk, WORK.format(work=work), programs, drivers, files)
        said = output("qemu-system-x86_64", "-accel", "tcg", "-m", 512, "-display", "none", "-vga", "none", "-monitor", "none", "-serial", "stdio", "-net", "none", "-no-reboot", "-rtc", "base=2023-11-14T22:13:20",
                      "-kernel", self.kernel, "-initrd", ramdisk, "-append", "console=ttyS0 panic=-1 quiet", "-drive", f"file={disk},format=raw,if=virtio", timeout=600)
        ramdisk.unlink()
        if "WORK-DONE" not in said:
            raise RuntimeError(f"{work}: {said[-2000:]}")

    def image(self, base):
        """The base's image, made if it is not there."""
        path = self.folder / (base.name + ".img")
        if not path.exists():
            part = self.folder / (base.name + ".part")
            base.make(self, part)
            part.rename(path)
        return path


def put(path, offset, data):
    with open(path, "r+b") as file:
        file.seek(offset)
        file.write(data)


def get(path, offset, length):
    with open(path, "rb") as file:
        file.seek(offset)
        return file.read(length)


MENU = """set timeout=0
set default=0
insmod part_msdos
insmod part_gpt
insmod ext2
search --no-floppy --fs-uuid --set=root {boot}
menuentry 'Almhof' {{
  linux {path}/vmlinuz root=UUID={root} ro console=ttyS0 panic=-1 inn=first
  initrd {path}/initrd.img
}}
menuentry 'Almhof, for repairs' {{
  linux {path}/vmlinuz root=UUID={root} ro console=ttyS0 panic=-1 inn=second
  initrd {path}/initrd.img
}}
"""
ENTRIES = {"Almhof": "first", "Almhof, for repairs": "second"}


def grub_menu(separate=False):
    return MENU.format(boot=BOOT if separate else ROOT, root=ROOT, path="" if separate else "/boot")


def grub_on_mbr(maker, disk, mib, table, sector, number):
    """GRUB behind the first sector, and all else on the partition of that number, which begins at the sector and goes to the end."""
    maker.empty(disk, mib)
    maker.table(disk, table)
    core = maker.folder / "tmp-core.img.part"
    maker.grub_core("i386-pc", f"(,msdos{number})/boot/grub", ["biosdisk", "part_msdos", "ext2"], core)
    files = [("/boot/vmlinuz", maker.kernel), ("/boot/initrd.img", maker.ramdisk), *maker.grub_files("i386-pc", grub_menu())]
    maker.ext(disk, sector, mib * 2048 - sector, maker.system("system", files), ROOT)
    maker.install_grub(disk, core, 1)
    core.unlink()


def bios_grub(maker, disk):
    grub_on_mbr(maker, disk, 44, "label: dos\nlabel-id: 0xb0a7d001\nstart=2048, type=83, bootable\n", 2048, 1)


def bios_grub_logical(maker, disk):
    grub_on_mbr(maker, disk, 48, "label: dos\nlabel-id: 0xb0a7d002\nstart=2048, size=2048, type=da\nstart=4096, type=5\nstart=6144, size=2048, type=83\nstart=10240, type=83\n", 10240, 6)


def bios_grub_lvm(maker, disk):
    """The loader's files, the kernel and the root on a logical volume."""
    maker.empty(disk, 46)
    maker.table(disk, "label: dos\nlabel-id: 0xb0a7d006\nstart=2048, type=8e, bootable\n")
    maker.work_on(disk, f"lvm pvcreate {LVM} -u {PHYSICAL_ID} --restorefile /etc/group /dev/vda1 && date -s @{EPOCH} && lvm vgcfgrestore {LVM} -f /etc/group inn", [shutil.which("lvm")],
                  [("group", GROUP)], ("virtio_pci", "virtio_blk", "dm_mod"))
    core = maker.folder / "tmp-core.img.part"
    maker.grub_core("i386-pc", "(lvm/inn-root)/boot/grub", ["biosdisk", "part_msdos", "lvm", "ext2"], core)
    menu = grub_menu().replace("insmod ext2", "insmod lvm\ninsmod ext2").replace(f"root=UUID={ROOT}", "root=/dev/mapper/inn-root", 1)
    maker.ext(disk, 4096, 84 * 1024, maker.system("system", [("/boot/vmlinuz", maker.kernel), ("/boot/initrd.img", maker.layers_ramdisk), ("/boot/initrd-plain.img", maker.ramdisk), *maker.grub_files("i386-pc", menu)]), ROOT)
    maker.install_grub(disk, core, 1)
    core.unlink()


# Where the data of a member begins (mdadm --data-offset), and how long it is.
MEMBERS, ARRAY_DATA, ARRAY_SECTORS = (2048, 2048 + 43 * 2048), 2048, 42 * 2048


def bios_grub_mirror(maker, disk):
    """The loader's files, the kernel and the root on a mirror of two partitions."""
    maker.empty(disk, 90)
    maker.table(disk, "label: dos\nlabel-id: 0xb0a7d007\n" + "".join(f"start={first}, size={43 * 2048}, type=fd\n" for first in MEMBERS))
    maker.work_on(disk, f"date -s @{EPOCH} && mdadm --create /dev/md0 --run --assume-clean --homehost=inn --name=rooms --uuid=a1b0f000:00000000:00000000:00000001 --metadata=1.2 --level=1 --raid-devices=2 "
                  "--bitmap=none --data-offset=1024K /dev/vda1 /dev/vda2 && mdadm --stop /dev/md0", [shutil.which("mdadm")], drivers=("virtio_pci", "virtio_blk", "raid1"))
    for number, first in enumerate(MEMBERS):
        # What is drawn by lot or told by the clock (linux/raid/md_p.h): the device's own identifier, times; and the sum over it all.
        at = (first + 8) * 512
        head = bytearray(get(disk, at, 256 + 2 * 128))
        head[168:184] = bytes([number + 1]) * 16
        for time in (64, 192):
            head[time:time + 8] = struct.pack("<Q", int(EPOCH))
        put(disk, at, array_summed(head))
    core = maker.folder / "tmp-core.img.part"
    maker.grub_core("i386-pc", "(mduuid/a1b0f000000000000000000000000001)/boot/grub", ["biosdisk", "part_msdos", "mdraid1x", "ext2"], core)
    menu = grub_menu().replace("insmod ext2", "insmod mdraid1x\ninsmod ext2")
    maker.ext(disk, MEMBERS[0] + ARRAY_DATA, ARRAY_SECTORS, maker.system("system", [("/boot/vmlinuz", maker.kernel), ("/boot/initrd.img", maker.layers_ramdisk), ("/boot/initrd-plain.img", maker.ramdisk),
                                                                               *maker.grub_files("i386-pc", menu)]), ROOT)
    mirror(disk)
    maker.install_grub(disk, core, 1)
    core.unlink()


def mirror(disk):
    """The first member's data on the second."""
    put(disk, (MEMBERS[1] + ARRAY_DATA) * 512, get(disk, (MEMBERS[0] + ARRAY_DATA) * 512, ARRAY_SECTORS * 512))


def array_summed(head):
    """An array's superblock of version 1 with its sum: words added, the carries again (md.c, calc_sb_1_csum)."""
    head = bytearray(head)
    length = 256 + 2 * struct.unpack_from("<I", head, 220)[0]
    head[216:220] = bytes(4)
    total = sum(struct.unpack_from("<I", head, i)[0] for i in range(0, length - 3, 4))
    if length % 4 == 2:
        total += struct.unpack_from("<H", head, length - 2)[0]
    struct.pack_into("<I", head, 216, ((total & 0xFFFFFFFF) + (total >> 32)) & 0xFFFFFFFF)
    return bytes(head)


def bios_grub_gpt(maker, disk):
    maker.empty(disk, 64)
    maker.table(disk, f"label: gpt\nlabel-id: {DISK}\nfirst-lba: 34\nstart=2048, size=2048, type={TYPES['bios']}, uuid={PART.format(1)}\n"
                      f"start=4096, size=65536, type={TYPES['linux']}, uuid={PART.format(2)}\nstart=69632, size=57344, type={TYPES['linux']}, uuid={PART.format(3)}\n")
    core = maker.folder / "tmp-core.img.part"
    maker.grub_core("i386-pc", "(,gpt2)/grub", ["biosdisk", "part_gpt", "ext2"], core)
    boot = maker.temporary("boot")
    for path, what in [("vmlinuz", maker.kernel), ("initrd.img", maker.ramdisk)] + [(p[len("/boot/"):], w) for p, w in maker.grub_files("i386-pc", grub_menu(True))]:
        (boot / path).parent.mkdir(parents=True, exist_ok=True)
        shutil.copy(what, boot / path) if isinstance(what, pathlib.Path) else (boot / path).write_text(what)
    maker.stamp_times(boot)
    maker.ext(disk, 4096, 65536, boot, BOOT, "ext2")
    maker.ext(disk, 69632, 57344, maker.system("system", [("/etc/fstab", SYSTEM["etc/fstab"] + f"UUID={BOOT} /boot ext2 defaults 0 2\n")]), ROOT)
    maker.install_grub(disk, core, 2048)
    core.unlink()


SYSLINUX = f"""DEFAULT almhof
PROMPT 0
TIMEOUT 5
LABEL almhof
  LINUX /vmlinuz
  APPEND root=UUID={ROOT} ro console=ttyS0 panic=-1 inn=first
  INITRD /initrd.img
LABEL repairs
  LINUX /vmlinuz
  APPEND root=UUID={ROOT} ro console=ttyS0 panic=-1 inn=second
  INITRD /initrd.img
"""


def bios_syslinux(maker, disk):
    maker.empty(disk, 64)
    maker.table(disk, "label: dos\nlabel-id: 0xb0a7d003\nstart=2048, size=69632, type=c, bootable\nstart=71680, type=83\n")
    maker.fat(disk, 2048, 69632, [("/vmlinuz", maker.kernel), ("/initrd.img", maker.ramdisk), ("/syslinux.cfg", SYSLINUX)])
    output(maker.tree / "usr/bin/syslinux", "--install", "--offset", 2048 * 512, disk)
    put(disk, 0, (maker.tree / "usr/lib/syslinux/mbr/mbr.bin").read_bytes()[:440])
    maker.ext(disk, 71680, 64 * 2048 - 71680, maker.system("system"), ROOT)


EXTLINUX = SYSLINUX.replace("/vmlinuz", "/boot/vmlinuz").replace("/initrd.img", "/boot/initrd.img")


def bios_extlinux(maker, disk):
    maker.empty(disk, 44)
    maker.table(disk, "label: dos\nlabel-id: 0xb0a7d004\nstart=2048, type=83, bootable\n")
    files = [("/boot/vmlinuz", maker.kernel), ("/boot/initrd.img", maker.ramdisk), ("/boot/extlinux/extlinux.conf", EXTLINUX)]
    maker.ext(disk, 2048, 42 * 2048, maker.system("system", files), ROOT, without=("64bit", "metadata_csum"))
    # The loader cannot read files with holes, which those of mke2fs have.
    maker.work_on(disk, MOUNTED.format("cp /work/boot/vmlinuz /work/boot/whole && mv /work/boot/whole /work/boot/vmlinuz && extlinux --install /work/boot/extlinux"), [maker.tree / "usr/bin/extlinux"])
    put(disk, 0, (maker.tree / "usr/lib/syslinux/mbr/mbr.bin").read_bytes()[:440])


GRUB_LEGACY = f"""default 0
timeout 0
title Almhof
root (hd0,0)
kernel /boot/vmlinuz root=UUID={ROOT} ro console=ttyS0 panic=-1 inn=first
initrd /boot/initrd.img
title Almhof, for repairs
root (hd0,0)
kernel /boot/vmlinuz root=UUID={ROOT} ro console=ttyS0 panic=-1 inn=second
initrd /boot/initrd.img
"""


def bios_grub_legacy(maker, disk):
    maker.empty(disk, 44)
    maker.table(disk, "label: dos\nlabel-id: 0xb0a7d005\nstart=2048, type=83, bootable\n")
    stages = maker.tree / "usr/lib/grub/x86_64-pc"
    files = [("/boot/vmlinuz", maker.kernel), ("/boot/initrd.img", maker.ramdisk), ("/boot/grub/menu.lst", GRUB_LEGACY), *((f"/boot/grub/{n}", stages / n) for n in ("stage1", "e2fs_stage1_5", "stage2"))]
    maker.ext(disk, 2048, 42 * 2048, maker.system("system", files), ROOT, "ext2", more=("-I", "128"))
    libraries = maker.tree / "lib32"
    # Its own shell writes the stages; it is a program of 32 bits, with a C library unpacked beside it.
    said = output(libraries / "ld-linux.so.2", "--library-path", libraries, maker.tree / "usr/sbin/grub", "--batch", "--no-floppy", "--device-map=/dev/null",
                  text=f"device (hd0) {disk}\ngeometry (hd0) 5 255 63\nroot (hd0,0)\nsetup (hd0)\nquit\n")
    if "succeeded" not in said or "failed" in said.split("setup (hd0)")[-1]:
        raise RuntimeError(said[-2000:])


def esp_and_root(maker, disk, esp, root_files=(), esp_mib=34):
    """A GPT disk with an ESP and a root behind it."""
    size = esp_mib * 2048
    maker.empty(disk, esp_mib + 32)
    maker.table(disk, f"label: gpt\nlabel-id: {DISK}\nfirst-lba: 34\nstart=2048, size={size}, type={TYPES['esp']}, uuid={PART.format(1)}\n"
                      f"start={2048 + size}, size={28 * 2048}, type={TYPES['linux']}, uuid={PART.format(2)}\n")
    maker.fat(disk, 2048, size, esp)
    maker.ext(disk, 2048 + size, 28 * 2048, maker.system("system", root_files), ROOT)


def uefi_grub(maker, disk):
    image = maker.folder / "tmp-grub.efi"
    maker.grub_core("x86_64-efi", "/boot/grub", ["part_gpt", "fat", "ext2", "search_fs_uuid"], image, f"search.fs_uuid {ROOT} root\nset prefix=($root)/boot/grub\n")
    esp_and_root(maker, disk, [("/EFI/BOOT/BOOTX64.EFI", image)],
                 [("/boot/vmlinuz", maker.kernel), ("/boot/initrd.img", maker.ramdisk), *maker.grub_files("x86_64-efi", grub_menu())])
    image.unlink()


def uefi_shim(maker, disk):
    stub = f"search.fs_uuid {ROOT} root\nset prefix=($root)/boot/grub\nconfigfile $prefix/grub.cfg\n"
    esp_and_root(maker, disk, [("/EFI/BOOT/BOOTX64.EFI", maker.tree / "usr/lib/shim/shimx64.efi.signed"), ("/EFI/BOOT/grubx64.efi", maker.tree / "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"),
                               ("/EFI/debian/grub.cfg", stub)],
                 [("/boot/vmlinuz", maker.kernel), ("/boot/initrd.img", maker.ramdisk), ("/boot/grub/grub.cfg", grub_menu())])


def loader_entry(name, word):
    return f"title {name}\nlinux /almhof/vmlinuz\ninitrd /almhof/initrd.img\noptions root=UUID={ROOT} ro console=ttyS0 panic=-1 inn={word}\n"


def uefi_systemd_boot(maker, disk):
    esp_and_root(maker, disk, [("/EFI/BOOT/BOOTX64.EFI", maker.tree / "usr/lib/systemd/boot/efi/systemd-bootx64.efi"), ("/loader/loader.conf", "timeout 0\ndefault almhof.conf\n"),
                               ("/loader/entries/almhof.conf", loader_entry("Almhof", "first")), ("/loader/entries/repairs.conf", loader_entry("Almhof, for repairs", "second")),
                               ("/almhof/vmlinuz", maker.kernel), ("/almhof/initrd.img", maker.ramdisk)], esp_mib=40)


def uefi_unified(maker, disk):
    image, words, release = (maker.folder / f"tmp-{n}" for n in ("unified.efi", "words", "release"))
    words.write_text(f"root=UUID={ROOT} ro console=ttyS0 panic=-1 inn=first")
    release.write_text(SYSTEM["etc/os-release"])
    stub = maker.tree / "usr/lib/systemd/boot/efi/linuxx64.efi.stub"
    sections = [(".osrel", release, 0x20000), (".cmdline", words, 0x30000), (".linux", maker.kernel, 0x2000000), (".initrd", maker.ramdisk, 0x3000000)]
    command = ["objcopy", "--preserve-dates"]
    for name, file, address in sections:
        command += ["--add-section", f"{name}={file}", "--change-section-vma", f"{name}={address:#x}"]
    output(*command, stub, image)
    esp_and_root(maker, disk, [("/EFI/BOOT/BOOTX64.EFI", image)], esp_mib=40)
    for left in (image, words, release):
        left.unlink()


DISC = SYSLINUX.replace(f"UUID={ROOT}", "LABEL=ALMHOF")
DISC_MENU = """set timeout=0
set default=0
menuentry 'Almhof' {
  linux /vmlinuz root=LABEL=ALMHOF ro console=ttyS0 panic=-1 inn=first
  initrd /initrd.img
}
menuentry 'Almhof, for repairs' {
  linux /vmlinuz root=LABEL=ALMHOF ro console=ttyS0 panic=-1 inn=second
  initrd /initrd.img
}
"""


def medium(maker, disc):
    """A disc whose root is the disc: ISOLINUX for a BIOS, GRUB in an image of the ESP for UEFI, and a first sector for who starts it as a disk."""
    root = maker.system("disc", [("/vmlinuz", maker.kernel), ("/initrd.img", maker.disc_ramdisk), ("/isolinux/isolinux.bin", maker.tree / "usr/lib/ISOLINUX/isolinux.bin"),
                                 ("/isolinux/ldlinux.c32", maker.tree / "usr/lib/syslinux/modules/bios/ldlinux.c32"), ("/isolinux/isolinux.cfg", DISC),
                                 ("/etc/fstab", "LABEL=ALMHOF / iso9660 ro 0 0\n"), *maker.grub_files("x86_64-efi", DISC_MENU)])
    program, esp = maker.folder / "tmp-grub.efi", root / "boot/esp.img"
    maker.grub_core("x86_64-efi", "/boot/grub", ["iso9660", "fat", "part_msdos", "search_fs_file"], program, "search.file /boot/grub/x86_64-efi/normal.mod root\nset prefix=($root)/boot/grub\n")
    maker.empty(esp, 4)
    maker.fat(esp, 0, 4 * 2048, [("/EFI/BOOT/BOOTX64.EFI", program)], 12)
    program.unlink()
    maker.stamp_times(root)
    output("xorriso", "-as", "mkisofs", "-quiet", "-R", "-V", "ALMHOF", "--modification-date=2023111422132000", "-b", "isolinux/isolinux.bin", "-c", "isolinux/boot.cat", "-no-emul-boot", "-boot-load-size", 4,
           "-boot-info-table", "-eltorito-alt-boot", "-e", "boot/esp.img", "-no-emul-boot", "-isohybrid-mbr", maker.tree / "usr/lib/ISOLINUX/isohdpfx.bin", "-isohybrid-gpt-basdat", "-o", disc, root)
    shutil.rmtree(root)


def root_parts(target=None, boot="root:/boot"):
    """The parts of a chain from the kernel on, where a menu of GRUB's leads to them in `boot`; and of the installed system."""
    out = {"init": "root:/bin/busybox", "inittab": "root:/etc/inittab", "script": "root:/etc/init.d/rcS", "mounts": "root:/etc/fstab"}
    if boot:
        out |= {"kernel": boot + "/vmlinuz", "ramdisk": boot + "/initrd.img", "menu": boot + "/grub/grub.cfg"}
    if target:
        out |= {"normal": f"{boot}/grub/{target}/normal.mod", "linux-module": f"{boot}/grub/{target}/linux.mod", "commands": f"{boot}/grub/{target}/command.lst"}
    return out


def superblock(volumes, name="root"):
    return {f"{name}-superblock": (volumes[name][1] * 512 + 1024, 1024)}


MBR = {"code": (0, 440), "table": (446, 64), "mark": (510, 2)}
GPT = MBR | {"header": (512, 92), "array": (1024, 512)}
ESP = {"boot-sector": (2048 * 512, 512), "first-fat": ((2048 + 32) * 512, 512), "program": "esp:/EFI/BOOT/BOOTX64.EFI"}
SHIM = {"second-program": "esp:/EFI/BOOT/grubx64.efi", "stub-menu": "esp:/EFI/debian/grub.cfg"}


def volumes(esp_mib=34):
    return {"esp": ("fat", 2048), "root": ("ext", 2048 + esp_mib * 2048)}


PLAIN, SEPARATE, LOGICAL = {"root": ("ext", 2048)}, {"boot": ("ext", 4096), "root": ("ext", 69632)}, {"root": ("ext", 10240)}
LOGICAL_VOLUME = {"root": ("ext", 4096)}
MIRROR = {"root": ("ext", MEMBERS[0] + ARRAY_DATA)}
MIRROR_PARTS = {"first": ((MEMBERS[0] + 8) * 512, 512), "second": ((MEMBERS[1] + 8) * 512, 512)}
# The label in the second sector of the partition; behind the sector of the metadata's area, the text that it names.
LVM_PARTS = {"label": (2049 * 512, 512), "area": (2056 * 512, 512), "group": (2057 * 512, 1536)}
FAT_FIRST = {"fat": ("fat", 2048), "root": ("ext", 71680)}

# The boot record tells where the catalogue is (El Torito 1.0, figure 7).
CATALOGUE = Found(2048, lambda disk: struct.unpack("<I", disk.bytes(17 * 2048 + 71, 4))[0] * 2048)
WHOLE, ISO = {"root": ("iso", 0)}, {"descriptor": (16 * 2048, 2048), "boot-record": (17 * 2048, 2048), "catalogue": CATALOGUE}
ISOLINUX = {"program": "root:/isolinux/isolinux.bin", "library": "root:/isolinux/ldlinux.c32", "menu": "root:/isolinux/isolinux.cfg", "kernel": "root:/vmlinuz", "ramdisk": "root:/initrd.img"}

# `parts` of a chain, by the names that faults and chance use: a file ("volume:/path"), a place of the disk (first byte, length), or one
# that is found.
BASES = [
    Base("bios-grub", "bios", "d1p1", bios_grub, ENTRIES, PLAIN, MBR | {"core": (512, 40 * 512)} | superblock(PLAIN) | root_parts("i386-pc")),
    Base("bios-grub-gpt", "bios", "d1p3", bios_grub_gpt, ENTRIES, SEPARATE, GPT | {"core": (2048 * 512, 40 * 512)} | superblock(SEPARATE, "boot") | superblock(SEPARATE) | root_parts("i386-pc", "boot:")),
    Base("bios-grub-logical", "bios", "d1p6", bios_grub_logical, ENTRIES, LOGICAL, MBR | {"core": (512, 40 * 512), "chain": (4096 * 512 + 446, 66)} | superblock(LOGICAL) | root_parts("i386-pc")),
    Base("bios-grub-lvm", "bios", "lvm/inn/root", bios_grub_lvm, ENTRIES, LOGICAL_VOLUME, MBR | LVM_PARTS | {"core": (512, 60 * 512)} | superblock(LOGICAL_VOLUME) | root_parts("i386-pc")),
    Base("bios-grub-mirror", "bios", "md/inn:rooms", bios_grub_mirror, ENTRIES, MIRROR, MBR | MIRROR_PARTS | {"core": (512, 60 * 512)} | superblock(MIRROR) | root_parts("i386-pc"), mirror),
    Base("bios-syslinux", "bios", "d1p2", bios_syslinux, {"almhof": "first", "repairs": "second"}, FAT_FIRST,
         MBR | {"boot-sector": (2048 * 512, 512), "first-fat": ((2048 + 32) * 512, 512), "second-stage": "fat:/ldlinux.sys", "library": "fat:/ldlinux.c32", "kernel": "fat:/vmlinuz", "ramdisk": "fat:/initrd.img",
                "menu": "fat:/syslinux.cfg"} | superblock(FAT_FIRST) | root_parts(boot=None)),
    Base("bios-extlinux", "bios", "d1p1", bios_extlinux, {"almhof": "first", "repairs": "second"}, PLAIN,
         MBR | {"boot-sector": (2048 * 512, 512), "second-stage": "root:/boot/extlinux/ldlinux.sys", "library": "root:/boot/extlinux/ldlinux.c32", "kernel": "root:/boot/vmlinuz", "ramdisk": "root:/boot/initrd.img",
                "menu": "root:/boot/extlinux/extlinux.conf"} | superblock(PLAIN) | root_parts(boot=None)),
    Base("bios-grub-legacy", "bios", "d1p1", bios_grub_legacy, ENTRIES, PLAIN,
         MBR | {"middle": (512, 20 * 512), "second-stage": "root:/boot/grub/stage2", "kernel": "root:/boot/vmlinuz", "ramdisk": "root:/boot/initrd.img", "menu": "root:/boot/grub/menu.lst"} | superblock(PLAIN) | root_parts(boot=None)),
    Base("uefi-grub", "uefi", "d1p2", uefi_grub, ENTRIES, volumes(), GPT | ESP | superblock(volumes()) | root_parts("x86_64-efi")),
    Base("uefi-shim", "uefi", "d1p2", uefi_shim, ENTRIES, volumes(), GPT | ESP | SHIM | superblock(volumes()) | root_parts()),
    Base("secure-shim", "secure", "d1p2", uefi_shim, ENTRIES, volumes(), GPT | ESP | SHIM | superblock(volumes()) | root_parts()),
    Base("uefi-systemd-boot", "uefi", "d1p2", uefi_systemd_boot, ENTRIES | {"almhof.conf": "first"}, volumes(40), GPT | ESP | {"menu": "esp:/loader/loader.conf", "entry": "esp:/loader/entries/almhof.conf", "kernel": "esp:/almhof/vmlinuz",
         "ramdisk": "esp:/almhof/initrd.img"} | superblock(volumes(40)) | root_parts(boot=None)),
    Base("uefi-unified", "uefi", "d1p2", uefi_unified, {"Almhof 3": "first", "Talhof 3": "first"}, volumes(40), GPT | ESP | superblock(volumes(40)) | root_parts(boot=None)),
    Base("disc-isolinux", "bios-disc", "d1", medium, {"almhof": "first", "repairs": "second"}, WHOLE, ISO | ISOLINUX | root_parts(boot=None)),
    Base("disc-grub", "uefi-disc", "d1", medium, ENTRIES, WHOLE, ISO | {"program": "root:/boot/esp.img", "kernel": "root:/vmlinuz", "ramdisk": "root:/initrd.img", "menu": "root:/boot/grub/grub.cfg",
         "normal": "root:/boot/grub/x86_64-efi/normal.mod", "linux-module": "root:/boot/grub/x86_64-efi/linux.mod"} | root_parts(boot=None)),
    Base("stick-isolinux", "bios", "d1", medium, {"almhof": "first", "repairs": "second"}, WHOLE, MBR | ISO | ISOLINUX | root_parts(boot=None)),
]
