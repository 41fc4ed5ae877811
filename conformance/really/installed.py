# SPDX-License-Identifier: MIT
"""Whole installations as machines that faults are made in: those of one disk with ext and FAT volumes that installations.py has put
together and left in a folder (its --work)."""
import json, pathlib, re, struct, subprocess, sys
from . import bases, faults
from .packages import Missing, output

MEMORY = 768  # MiB
# A distribution's system is silent for longer than a shell is, most of all while its RAM disk waits for a device.
SLOWNESS = 4
LIBRARIES = "root:/usr/lib/x86_64-linux-gnu"
# What a start runs and reads besides the loader's parts, by the names that chance uses.
SYSTEM = {"init": "root:/usr/lib/systemd/systemd", "mounts": "root:/etc/fstab", "script": "root:/etc/systemd/system/inn.service", "linker": LIBRARIES + "/ld-linux-x86-64.so.2", "c-library": LIBRARIES + "/libc.so.6",
          "shell": "root:/usr/bin/dash", "mount": "root:/usr/bin/mount", "device-manager": "root:/usr/bin/udevadm", "journal": "root:/usr/lib/systemd/systemd-journald", "accounts": "root:/etc/passwd",
          "target": "root:/usr/lib/systemd/system/multi-user.target", "mounts-target": "root:/usr/lib/systemd/system/local-fs.target", "root-check": "root:/usr/lib/systemd/system/systemd-remount-fs.service",
          "manager": "root:/etc/systemd/system.conf.d/slow.conf", "release": "root:/etc/os-release"}


def volumes_of(image):
    """{number: (kind, first sector)} of the partitions with ext and FAT, and the type of each partition."""
    table = json.loads(output("sfdisk", "--json", image))["partitiontable"]
    found, types = {}, {}
    for partition in table["partitions"]:
        number, start = int(re.search(r"(\d+)$", partition["node"]).group(1)), partition["start"]
        types[number] = partition["type"]
        with open(image, "rb") as file:
            file.seek(start * 512)
            head = file.read(2048)
        if head[1080:1082] == b"\x53\xef":
            found[number] = ("ext", start)
        elif head[82:87] == b"FAT32" or head[54:57] == b"FAT":
            found[number] = ("fat", start)
    return found, types


class Installed(bases.Base):
    def __init__(self, name, firmware, image):
        found, types = volumes_of(image)
        linux = [n for n, (kind, _) in found.items() if kind == "ext"]
        if not linux:
            raise Missing(f"{image} has no ext volume")
        root = linux[-1]
        volumes = {"root": found[root]} | {"esp": v for v in found.values() if v[0] == "fat"}
        super().__init__(name, firmware, f"d1p{root}", None, {}, volumes, {})
        self.ready = image
        disk = faults.Disk(image, self)
        listed = disk.debugfs(volumes["root"][1], "ls -p /boot", "ls -p /boot/grub")
        kernel = re.search(r"/(vmlinuz-[^/]+)/", listed)
        self.parts = bases.MBR | bases.superblock(volumes) | SYSTEM
        if kernel:
            self.release = kernel.group(1).partition("-")[2]
            self.parts |= {"kernel": "root:/boot/vmlinuz-" + self.release, "ramdisk": "root:/boot/initrd.img-" + self.release}
        if "/grub.cfg/" in listed:
            self.parts["menu"] = "root:/boot/grub/grub.cfg"
        if firmware == "bios":
            self.parts |= {"normal": "root:/boot/grub/i386-pc/normal.mod", "linux-module": "root:/boot/grub/i386-pc/linux.mod", "commands": "root:/boot/grub/i386-pc/command.lst"}
        table = bases.GPT if any("-" in t for t in types.values()) else {}
        self.parts |= {n: p for n, p in table.items() if n not in self.parts}
        for number, kind in types.items():
            if kind == bases.TYPES["bios"]:
                start = next(p["start"] for p in json.loads(output("sfdisk", "--json", image))["partitiontable"]["partitions"] if p["node"].endswith(str(number)))
                self.parts["core"] = (start * 512, 60 * 512)
        if "esp" in volumes:
            self.esp(disk, volumes["esp"][1])

    def esp(self, disk, sector):
        """The programs and texts of the system partition."""
        said = subprocess.run(["mdir", "-/", "-b", "-i", f"{disk.path}@@{sector * 512}", "::"], capture_output=True, text=True).stdout
        for path in (line.removeprefix("::") for line in said.splitlines() if not line.endswith("/")):
            name = path.rpartition("/")[2].lower()
            part = {"bootx64.efi": "program", "grubx64.efi": "second-program", "grub.cfg": "stub-menu", "loader.conf": "menu", "linux": "kernel", "systemd-bootx64.efi": None}.get(name, None)
            if part is None and name.startswith("initrd"):
                part = "ramdisk"
            if part is None and "/loader/entries/" in path.lower():
                part = "entry"
            if part:
                self.parts[part] = "esp:" + path
        first = struct.unpack_from("<H", disk.bytes(sector * 512, 64), 14)[0]
        self.parts |= {"boot-sector": (sector * 512, 512), "first-fat": ((sector + first) * 512, 512)}


def bases_in(folder):
    """The installations of a folder that can be machines here."""
    sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent.parent / "installations"))
    import kinds
    firmware = {k["name"]: k.get("firmware", "bios") for k in kinds.INSTALLATIONS}
    out = []
    for image in sorted(pathlib.Path(folder).glob("*/healthy.1.img")):
        name = image.parent.name
        if name in firmware and not (image.parent / "healthy.2.img").exists() and any(kind == "ext" for kind, _ in volumes_of(image)[0].values()):
            out.append(Installed(name, firmware[name], image))
    if not out:
        raise Missing(f"no installation of one disk with an ext volume is in {folder}; conformance/installations.py --work {folder} makes them")
    return out
