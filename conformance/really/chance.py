# SPDX-License-Identifier: MIT
"""Faults by chance, the same for the same seed: a way to change a part of the chain that the machine's start reads.

Half of them go into bytes that a healthy start of that machine was seen to read (each reading of one thing counts once, whatever
its size, so the kernel's megabytes do not drown the rest); the other half into named parts, by ways that
a person or a failing medium has. A third changes nothing that the start reads."""
import collections, os, random, re, tempfile
from . import bases

WAYS = ("flip", "flip", "zero", "delete", "rename", "truncate", "swap", "move", "grow", "garble")


def requests(machine, image, firmware):
    """(offset, length) of what a start of the image reads from the disk, in order."""
    with tempfile.TemporaryDirectory() as folder:
        log = os.path.join(folder, "reads")
        machine.start(image, firmware, ["-trace", "enable=blk_co_preadv", "-D", log])
        with open(log, errors="replace") as file:
            found = re.findall(r"blk_co_preadv blk (\S+) bs \S+ offset (\d+) bytes (\d+)", file.read())
    # The flash with the firmware is a device, too, which is read at once.
    most = collections.Counter(device for device, _, _ in found).most_common(1)
    out = []
    for device, offset, length in found:
        if device != most[0][0]:
            continue
        # What goes on where the one before ended is one reading of one thing.
        if out and out[-1][0] + out[-1][1] == int(offset):
            out[-1] = (out[-1][0], out[-1][1] + int(length))
        else:
            out.append((int(offset), int(length)))
    return out


class Chance:
    def __init__(self, seed, base, reads, size):
        self.random, self.base, self.reads, self.size = random.Random(f"{base.name} {seed}"), base, reads, size

    def steps(self):
        """(name, harmless, steps) of one fault."""
        r = self.random
        if r.random() < 1 / 3:
            return self.harmless()
        if r.random() < 0.5 and self.reads:
            offset, length = r.choice(self.reads)
            at = offset + r.randrange(length)
            if r.random() < 0.6:
                return f"bit of byte {at}", False, [["flip", "disk", str(at), str(1 << r.randrange(8))]]
            sector = at // 512 * 512
            return f"sector {sector // 512} zeroed", False, [["zero", "disk", str(sector), "512"]]
        return self.part()

    def worn(self):
        """The same of a disk that refuses sectors: one that a healthy start reads, perhaps with those behind it; or one that none reads."""
        self.random = random.Random(f"{self.base.name} worn {self.random.random()}")
        r = self.random
        offset, length = r.choice(self.reads)
        sector, count = (offset + r.randrange(length)) // 512, r.choice((1, 1, 1, 8, 64))
        count = min(count, self.size // 512 - sector)
        if r.random() < 0.8:
            return f"sector {sector} lost" if count == 1 else f"{count} sectors from {sector} on lost", False, [["lose", "disk", str(sector * 512), str(count * 512)]]
        sector = self.unread()
        return (f"sector {sector}, which no start reads, lost", True, [["lose", "disk", str(sector * 512), "512"]]) if sector is not None else self.worn()

    def unread(self):
        """A sector that a healthy start does not read; none was found."""
        read = sorted((o, o + n) for o, n in self.reads)
        for _ in range(200):
            at = self.random.randrange(self.size // 512) * 512
            if not any(a < at + 512 and at < b for a, b in read):
                return at // 512
        return None

    def part(self):
        r, files = self.random, [n for n, p in self.base.parts.items() if isinstance(p, str)]
        name = r.choice(sorted(self.base.parts))
        part, way = self.base.parts[name], r.choice(WAYS)
        if not isinstance(part, str):
            length = part.length if isinstance(part, bases.Found) else part[1]
            where = r.randrange(length)
            if way in ("zero", "delete", "truncate"):
                return f"{name} zeroed from byte {where}", False, [["zero", name, str(where), str(length - where)]]
            if way in ("move", "swap", "rename"):
                return f"{name} moved by a sector", False, [["move", name, "512"]]
            return f"{name}: bit of byte {where}", False, [["flip", name, str(where), str(1 << r.randrange(8))]]
        if way == "flip":
            where = r.randrange(64) if r.random() < 0.5 else r.randrange(4096)
            return f"{name}: bit of byte {where}", False, [["flip", name, str(where), str(1 << r.randrange(8))]]
        if way in ("zero", "garble"):
            return f"{name} garbled at its begin", False, [["fill", name, "0", str(r.choice((1, 4, 16, 40))), str(r.randrange(256))]]
        if way == "delete":
            return f"{name} deleted", False, [["delete", name]]
        if way == "rename":
            return f"{name} renamed", False, [["rename", name, part.partition(":")[2] + ".old"]]
        if way == "truncate":
            return f"{name} cut to a part", False, [["truncate", name, f"{r.randrange(100)}%"]]
        if way == "swap":
            other = r.choice([f for f in files if f != name])
            return f"{name} and {other} swapped", False, [["swap", name, other]]
        if way == "move":
            return f"{name} moved by sectors", False, [["move", name, str(512 * r.randrange(1, 9))]]
        return f"{name} with bytes behind it", False, [["append", name, "x" * r.randrange(1, 64)]]

    def harmless(self):
        r = self.random
        root = next(v for v in self.base.volumes if v == "root")
        ways = [("a file of no use on the root", [["write", f"{root}:/srv/note", "swept on Friday\n"]]),
                ("another name of the machine", [["write", f"{root}:/etc/hostname", f"hut{r.randrange(100)}\n"]]),
                ("a line of comment in the script", [["append", "script", f"# room {r.randrange(100)}\n"]]),
                ("a comment in the list of mounts", [["append", "mounts", f"# hut {r.randrange(100)}\n"]]),
                ("a missing disk that may be missing", [["append", "mounts", "LABEL=cellar /srv ext4 noauto 0 0\n"]])]
        read = sorted((o, o + n) for o, n in self.reads)
        at, tries = r.randrange(self.size // 512) * 512, 0
        while any(a < at + 512 and at < b for a, b in read) and tries < 200:
            at, tries = r.randrange(self.size // 512) * 512, tries + 1
        if read and tries < 200 and r.random() < 0.4:
            return f"sector {at // 512}, which no start reads, filled", True, [["fill", "disk", str(at), "512", str(r.randrange(256))]]
        name, steps = r.choice(ways)
        return name, True, steps
