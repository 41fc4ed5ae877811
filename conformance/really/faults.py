# SPDX-License-Identifier: MIT
"""Faults in a small text form, and how they come into a disk.

A file of faults says on which machine they are, then names each and gives its steps, one to a line:

    machine bios-grub
    fault the kernel's file is gone
        delete kernel
    harmless a line of comment in the menu
        append menu "# swept on Friday\\n"

`harmless` is a change that the machine must not mind. FILE is a part of the machine's chain (bases.py) or VOLUME:/PATH; PLACE is
either, or `disk` for all bytes; RELEASE in it stands for the version of an installation's kernel. Numbers may be hexadecimal, an offset below zero counts from the end; a length of a file may be given in percent.

    delete FILE            rename FILE PATH        truncate FILE LENGTH      write FILE TEXT       append FILE TEXT
    replace FILE OLD NEW   copy FILE FILE          swap FILE FILE            link FILE TARGET      mode FILE OCTAL
    folder FILE (there may be one already)
    flip PLACE OFFSET MASK zero PLACE [OFFSET LENGTH]   hex PLACE OFFSET BYTES   fill PLACE OFFSET LENGTH BYTE
    edit PLACE OLD NEW (of the same length)
    move PLACE BYTES       sfdisk ARGUMENT...      sum PLACE (makes the sums right again: of a GPT header, LVM's label or area, an array's superblock)
    apart (what follows changes one member of a mirror; before it, and without it, both)
    lose PLACE [OFFSET LENGTH]                     lose-record FILE

`lose` makes the disk refuse each reading of the sectors that hold these bytes, as a worn one does; `lose-record` the sector that
tells where the file lies (its inode on ext; on FAT its folder's entry)."""
import os, pathlib, re, shlex, struct, subprocess, tempfile, zlib
from .bases import Found, array_summed
from .packages import output


class Fault:
    def __init__(self, machine, name, harmless, steps):
        self.machine, self.name, self.harmless, self.steps = machine, name, harmless, steps


def read(path):
    """The faults of a file; ValueError with the line where it cannot be understood."""
    out, machines = [], []
    for number, line in enumerate(pathlib.Path(path).read_text().splitlines(), 1):
        word, _, rest = line.strip().partition(" ")
        if not word or word.startswith("#"):
            continue
        if word in ("machine", "machines"):
            machines = rest.split()
        elif word in ("fault", "harmless"):
            out += [Fault(m, rest, word == "harmless", []) for m in machines]
        elif not out:
            raise ValueError(f"{path}:{number}: a step before the first fault")
        else:
            for fault in out[-len(machines):]:
                fault.steps.append(shlex.split(line))
    return out


def number(text):
    return int(text, 0)


def unescaped(text):
    r"""The bytes of a text in which \n, \t and \x00 are written so."""
    return text.encode("latin-1").decode("unicode_escape").encode("latin-1")


def lvm_sum(data):
    """A CRC-32 that begins elsewhere, and is not turned at its end."""
    return ~zlib.crc32(data, ~0xF597A6CF & 0xFFFFFFFF) & 0xFFFFFFFF


class Disk:
    """A copy of a base that steps change."""

    def __init__(self, path, base):
        self.path, self.base = str(path), base
        self.lost = set()  # numbers of sectors that the disk refuses

    # --- files ---
    def locate(self, name):
        """(kind, first sector, path) of a file, or (offset, length) of a place of the disk."""
        if name == "disk":
            return (0, os.path.getsize(self.path))
        part = self.base.parts.get(name, name.replace("RELEASE", self.base.release))
        if isinstance(part, Found):
            return (part.find(self), part.length)
        if isinstance(part, str):
            volume, found, path = part.partition(":")
            if not found or volume not in self.base.volumes:
                raise ValueError(f"{self.base.name} has no {name}")
            return (*self.base.volumes[volume], path)
        return part

    def debugfs(self, sector, *orders, write=False):
        done = subprocess.run(["debugfs", *(["-w"] if write else []), "-f", "-", f"{self.path}?offset={sector * 512}"], input="\n".join(orders) + "\n", capture_output=True, text=True)
        text = "\n".join(l for l in (done.stdout + "\n" + done.stderr).splitlines() if not l.startswith(("debugfs", "Allocated inode")) and l.strip())
        if write and text:
            raise RuntimeError(f"debugfs {orders}: {text}")
        return text

    def content(self, name):
        kind, sector, path = self.locate(name)
        with tempfile.TemporaryDirectory() as folder:
            to = os.path.join(folder, "file")
            if kind == "ext":
                self.debugfs(sector, f'dump "{path}" {to}')
            elif kind == "iso":
                return b"".join(self.bytes(o, l) for o, l in self.extents(name))
            else:
                output("mcopy", "-i", f"{self.path}@@{sector * 512}", "::" + path, to)
            return pathlib.Path(to).read_bytes()

    def put(self, name, data):
        kind, sector, path = self.locate(name)
        with tempfile.TemporaryDirectory() as folder:
            source = os.path.join(folder, "file")
            pathlib.Path(source).write_bytes(data)
            os.utime(source, (1700000000, 1700000000))
            if kind == "iso":
                self.master("-overwrite", "on", "-map", source, path)
            elif kind == "ext":
                old = self.debugfs(sector, f'stat "{path}"')
                mode = re.search(r"Mode:\s+(\d+)", old)
                removed = [f'rm "{path}"'] if mode else []
                self.debugfs(sector, *removed, f'write {source} "{path}"', f'sif "{path}" mode 010{mode.group(1) if mode else "0644"}', f'sif "{path}" uid 0', f'sif "{path}" gid 0',
                             *(f'sif "{path}" {t} @1700000000' for t in ("atime", "ctime", "mtime", "crtime")), write=True)
            else:
                output("mcopy", "-o", "-m", "-i", f"{self.path}@@{sector * 512}", source, "::" + path)

    def master(self, *orders):
        """The disc made anew with changed content: what starts from it is put in its place again."""
        fresh = self.path + ".fresh"
        pathlib.Path(fresh).unlink(missing_ok=True)
        output("xorriso", "-return_with", "SORRY", 32, "-indev", self.path, "-outdev", "stdio:" + fresh, "-boot_image", "any", "replay", "-volume_date", "uuid", "2023111422132000", *orders)
        os.rename(fresh, self.path)

    def delete(self, name):
        kind, sector, path = self.locate(name)
        if kind == "iso":
            self.master("-rm", path, "--")
        elif kind == "ext":
            self.debugfs(sector, f'rm "{path}"', write=True)
        else:
            output("mdel", "-i", f"{self.path}@@{sector * 512}", "::" + path)

    def extents(self, name):
        """Where bytes lie: (offset on the disk, length) in order."""
        place = self.locate(name)
        if len(place) == 2:
            return [place]
        kind, sector, path = place
        if kind == "ext":
            said = self.debugfs(sector, "stats", f'stat "{path}"')
            block = int(re.search(r"Block size:\s+(\d+)", said).group(1))
            size, out = int(re.search(r"\bSize:\s+(\d+)", said).group(1)), []
            # The blocks of the file's own lists are called (IND), (DIND) and (ETB0).
            for first, last, where in re.findall(r"\((\d+)(?:-(\d+))?\):(\d+)", said):
                for i in range(int(first), int(last or first) + 1):
                    if i * block < size:
                        out.append((sector * 512 + (int(where) + i - int(first)) * block, min(block, size - i * block)))
            return out
        if kind == "iso":
            # "File data lba:  0 , startlba , blocks , filesize , path"
            said = output("xorriso", "-indev", self.path, "-find", path, "-exec", "report_lba", "--")
            return [(int(at) * 2048, int(size)) for at, size in re.findall(r"File data lba: *\d+ , *(\d+) , *\d+ , *(\d+) ,", said)]
        said = output("mshowfat", "-i", f"{self.path}@@{sector * 512}", "::" + path)
        head = self.bytes(sector * 512, 64)
        cluster, reserved, fats = head[13] * 512, struct.unpack_from("<H", head, 14)[0], head[16]
        size_16, entries, size_32 = struct.unpack_from("<H", head, 22)[0], struct.unpack_from("<H", head, 17)[0], struct.unpack_from("<I", head, 36)[0]
        first = (sector + reserved + fats * (size_16 or size_32)) * 512 + entries * 32
        left, out = len(self.content(name)), []
        for a, b in re.findall(r"<(\d+)(?:-(\d+))?>", said):
            for c in range(int(a), int(b or a) + 1):
                out.append((first + (c - 2) * cluster, min(cluster, left)))
                left -= out[-1][1]
        return out

    # --- bytes ---
    def bytes(self, offset, length):
        with open(self.path, "rb") as file:
            file.seek(offset)
            return file.read(length)

    def write(self, offset, data):
        with open(self.path, "r+b") as file:
            file.seek(offset)
            file.write(data)

    def change(self, name, offset, data):
        """Puts bytes into a part where it lies, from `offset` of it on: a byte, or a function of the old one, for each."""
        if offset < 0:
            offset += sum(l for _, l in self.extents(name))
        for start, length in self.extents(name):
            if offset < length and data:
                piece = data[:length - offset]
                old = self.bytes(start + offset, len(piece))
                self.write(start + offset, bytes(p(o) if callable(p) else p for p, o in zip(piece, old)))
                data, offset = data[len(piece):], 0
            else:
                offset -= length
        if data:
            raise ValueError(f"{name} ends before that")

    def apply(self, steps):
        mirrored = getattr(self.base, "mirrored", None)
        for step in [*steps, *([["apart"]] if mirrored and ["apart"] not in steps else [])]:
            try:
                getattr(self, "step_" + step[0].replace("-", "_"))(*step[1:])
            except (AttributeError, TypeError, IndexError) as error:
                raise ValueError(f"{' '.join(step)}: {error}")

    def step_apart(self):
        if not self.base.mirrored:
            raise ValueError(f"{self.base.name} has no second member")
        self.base.mirrored(self.path)

    def step_delete(self, name):
        self.delete(name)

    def step_rename(self, name, path):
        kind, sector, old = self.locate(name)
        if kind == "iso":
            self.master("-mv", old, path, "--")
        elif kind == "ext":
            self.debugfs(sector, f'ln "{old}" "{path}"', f'unlink "{old}"', write=True)
        else:
            output("mren", "-i", f"{self.path}@@{sector * 512}", "::" + old, "::" + path)

    def step_truncate(self, name, length):
        data = self.content(name)
        self.put(name, data[:len(data) * int(length[:-1]) // 100 if length.endswith("%") else number(length)])

    def step_write(self, name, text):
        self.put(name, unescaped(text))

    def step_append(self, name, text):
        self.put(name, self.content(name) + unescaped(text))

    def step_replace(self, name, old, new):
        data = self.content(name)
        if unescaped(old) not in data:
            raise ValueError(f"{name} does not have {old}")
        self.put(name, data.replace(unescaped(old), unescaped(new)))

    def step_edit(self, name, old, new):
        (at, length), old, new = self.locate(name), unescaped(old), unescaped(new)
        data = self.bytes(at, length)
        if old not in data or len(old) != len(new):
            raise ValueError(f"{name} does not have {old}, or {new} is of another length")
        self.write(at, data.replace(old, new))

    def step_copy(self, name, to):
        self.put(to, self.content(name))

    def step_swap(self, a, b):
        first, second = self.content(a), self.content(b)
        self.put(a, second)
        self.put(b, first)

    def step_link(self, name, target):
        kind, sector, path = self.locate(name)
        if kind == "iso":
            try:
                self.delete(name)
            except RuntimeError:
                pass  # there is none yet
            return self.master("-lns", target, path)
        there = "Inode:" in self.debugfs(sector, f'stat "{path}"')
        self.debugfs(sector, *([f'rm "{path}"'] if there else []), f'symlink "{path}" "{target}"', write=True)

    def step_folder(self, name):
        kind, sector, path = self.locate(name)
        if kind == "iso":
            self.master("-mkdir", path, "--")
        elif kind != "ext":
            output("mmd", "-i", f"{self.path}@@{sector * 512}", "::" + path)
        elif "Inode:" not in self.debugfs(sector, f'stat "{path}"'):
            self.debugfs(sector, f'mkdir "{path}"', write=True)

    def step_mode(self, name, mode):
        kind, sector, path = self.locate(name)
        if kind == "iso":
            return self.master("-chmod", mode.zfill(4), path, "--")
        self.debugfs(sector, f'sif "{path}" mode 010{int(mode, 8):04o}', write=True)

    def step_flip(self, name, offset, mask):
        self.change(name, number(offset), [lambda old: old ^ number(mask)])

    def step_zero(self, name, offset=None, length=None):
        if offset is None:
            offset, length = 0, sum(l for _, l in self.extents(name))
        self.change(name, number(str(offset)), [0] * number(str(length)))

    def step_fill(self, name, offset, length, byte):
        self.change(name, number(offset), [number(byte)] * number(length))

    def step_hex(self, name, offset, data):
        self.change(name, number(offset), list(bytes.fromhex(data)))

    def step_move(self, name, by):
        data = b"".join(self.bytes(o, l) for o, l in self.extents(name))
        start = self.extents(name)[0][0]
        self.step_zero(name)
        self.write(start + number(by), data)

    def lose(self, offset, length):
        self.lost.update(range(offset // 512, (offset + length + 511) // 512))

    def step_lose(self, name, offset="0", length=None):
        extents, at, left = self.extents(name), number(offset), number(length) if length else None
        at += sum(size for _, size in extents) if at < 0 else 0
        for start, size in extents:
            take = max(0, size - at) if left is None else min(max(0, size - at), left)
            if take:
                self.lose(start + at, take)
            at, left = max(0, at - size), None if left is None else left - take
        if left or not self.lost:
            raise ValueError(f"{name} ends before that")

    def step_lose_record(self, name):
        kind, sector, path = self.locate(name)
        if kind == "ext":
            block, offset = re.search(r"located at block (\d+), offset (0x[0-9a-fA-F]+)", self.debugfs(sector, f'imap "{path}"')).groups()
            size = int(re.search(r"Block size:\s+(\d+)", self.debugfs(sector, "stats")).group(1))
            self.lose(sector * 512 + int(block) * size + int(offset, 16), 1)
            return
        base, _, suffix = path.rpartition("/")[2].upper().partition(".")
        if len(base) > 8 or len(suffix) > 3:
            base, suffix = base[:6] + "~1", suffix[:3]
        short, volume, at = f"{base:8}{suffix:3}".encode(), self.bytes(sector * 512, 1 << 26), -32
        while (at := volume.find(short, at + 32)) >= 0 and (at % 32 or volume[at + 11] & 0x18):
            at += -(at % 32)
        if at < 0:
            raise ValueError(f"no entry {short} for {name}")
        self.lose(sector * 512 + at, 32)

    def step_sfdisk(self, *arguments):
        output("sfdisk", "-q", "--no-reread", "--no-tell-kernel", "--force", *[a.replace("DISK", self.path) for a in arguments])

    def step_sum(self, name):
        """The CRCs of the GPT header that is there, over what it says now (UEFI specification 5.3.2); or LVM's, of a label over the rest
        of its sector, of an area over its sector and the text that it names (lib/format_text/layout.h of LVM2)."""
        start = self.extents(name)[0][0]
        sector = bytearray(self.bytes(start, 512))
        if sector[:8] == b"LABELONE":
            return self.write(start + 16, struct.pack("<I", lvm_sum(sector[20:])))
        if sector[:4] == b"\xfc\x4e\x2b\xa9":
            return self.write(start, array_summed(sector))
        if sector[4:9] == b" LVM2":
            offset, size = struct.unpack_from("<QQ", sector, 40)
            struct.pack_into("<I", sector, 56, lvm_sum(self.bytes(start + offset, size)))
            struct.pack_into("<I", sector, 0, lvm_sum(sector[4:]))
            return self.write(start, bytes(sector))
        head = bytearray(self.bytes(start, 92))
        array, count, size = struct.unpack_from("<QII", head, 72)
        struct.pack_into("<I", head, 88, zlib.crc32(self.bytes(array * 512, count * size)))
        struct.pack_into("<I", head, 16, 0)
        struct.pack_into("<I", head, 16, zlib.crc32(bytes(head)))
        self.write(start, bytes(head))
