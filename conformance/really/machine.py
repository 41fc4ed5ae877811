# SPDX-License-Identifier: MIT
"""Real starts in a virtual PC with real firmware: no network, no window, and only until the console decides how it ended."""
import hashlib, json, os, re, select, shutil, struct, subprocess, tempfile, time
from . import ends

SECONDS = 300
# After so much of the processor's time without a word, nothing more comes: the longest silence of a start that goes on is the
# unpacking of the kernel, with some two seconds. A machine that is halted uses none: there the clock counts.
SILENT_WORK, SILENT_CLOCK = 12.0, 30.0
# What lingers has gone silent for good after that.
WAITING = 6.0
# A start that did not end as it was said to may have run on a host that was slow: it is made again, with so many times the bounds.
PATIENT = 5
# What the image is put into, besides a disk: a drive of discs; and which firmware is a BIOS.
DISCS, BIOS = ("bios-disc", "uefi-disc"), ("bios", "bios-disc")


class Machine:
    def __init__(self, tree, memory=512, slowness=1):
        """`memory` in MiB; `slowness`: how many times the bounds of silence its systems need."""
        self.tree, self.memory, self.slowness = tree, memory, slowness
        version = subprocess.run(["qemu-system-x86_64", "--version"], capture_output=True, text=True).stdout.split("\n")[0]
        self.identity = hashlib.sha256()
        for word in (version, str(memory)):
            self.identity.update(word.encode())
        for name in ("OVMF_CODE_4M.fd", "OVMF_VARS_4M.fd", "OVMF_CODE_4M.ms.fd", "OVMF_VARS_4M.ms.fd"):
            with open(os.path.join(tree, "usr/share/OVMF", name), "rb") as file:
                self.identity.update(file.read())

    def variables(self, firmware):
        return os.path.join(self.tree, "usr/share/OVMF", f"OVMF_VARS_4M{'.ms' if firmware == 'secure' else ''}.fd")

    def key(self, image, firmware, lost=()):
        """What an outcome is kept under: everything that the machine sees."""
        digest = self.identity.copy()
        digest.update(firmware.encode())
        if lost:
            digest.update(b"lost until they are written" + json.dumps(sorted(lost)).encode())
        with open(image, "rb") as file:
            while piece := file.read(1 << 22):
                digest.update(piece)
        return digest.hexdigest()[:32]

    def command(self, image, firmware, folder, more, lost=()):
        out = ["qemu-system-x86_64", "-accel", "tcg", "-m", str(self.memory), "-display", "none", "-vga", "none", "-monitor", "none", "-serial", "stdio", "-net", "none", "-no-reboot", *more]
        if firmware in BIOS:
            out += ["-machine", "pc,graphics=off"]
        else:
            variables = os.path.join(folder, "variables.fd")
            shutil.copy(self.variables(firmware), variables)
            code = os.path.join(self.tree, "usr/share/OVMF", f"OVMF_CODE_4M{'.ms' if firmware == 'secure' else ''}.fd")
            # The kernel package knows the drive of discs of the older board only.
            out += ["-machine", {"secure": "q35,smm=on", "uefi-disc": "pc"}.get(firmware, "q35"), *([] if firmware in DISCS else ["-global", "ICH9-LPC.disable_s3=1"]), "-drive", f"if=pflash,format=raw,unit=0,readonly=on,file={code}",
                    "-drive", f"if=pflash,format=raw,unit=1,file={variables}"]
        if firmware in DISCS:
            return out + ["-cdrom", str(image), "-boot", "d"]
        if not lost:
            return out + ["-drive", f"file={image},format=raw,if=virtio,snapshot=on"]
        rules = [{"event": "read_aio", "sector": sector, "errno": 5} for sector in sorted(lost)]
        worn = {"driver": "raw", "file": {"driver": "blkdebug", "image": {"driver": "file", "filename": str(image), "locking": "off"}, "inject-error": rules}}
        written = os.path.join(folder, "written")
        with open(written, "wb") as file:
            file.write(nothing_written(os.path.getsize(image)))
        disk = {"driver": "qcow2", "file": {"driver": "file", "filename": written}, "backing": worn}
        # The emulator joins readings of neighbours into one, which would fail as a whole.
        return out + ["-global", "virtio-blk-pci.request-merging=off", "-drive", "if=virtio,file=json:" + json.dumps(disk).replace(",", ",,")]

    def start(self, image, firmware, more=(), patience=1, lost=()):
        """The console's text until its end is decided, and the seconds that it took. `patience`: how many times the bounds of silence;
        `lost`: sectors that the disk refuses to give."""
        patience *= self.slowness
        with tempfile.TemporaryDirectory() as folder:
            process = subprocess.Popen(self.command(image, firmware, folder, more, lost), stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
            begin, seen, last, worked, pressed = time.time(), b"", time.time(), 0.0, 0
            try:
                while time.time() - begin < SECONDS * patience:
                    ready, _, _ = select.select([process.stdout], [], [], 0.5)
                    if ready:
                        piece = os.read(process.stdout.fileno(), 65536)
                        if not piece:
                            seen += b"\n[the machine was reset or switched off]\n"
                            break
                        seen, last, worked = seen + piece, time.time(), work(process.pid)
                        text = plain(seen)
                        if ends.decided(text):
                            break
                        # A loader that waits for a key after a message goes on by itself after ten seconds.
                        if len(re.findall("Press any key to continue", text)) > pressed:
                            pressed += 1
                            process.stdin.write(b"\r")
                            process.stdin.flush()
                    elif ends.lingers(plain(seen)) and time.time() - last > WAITING * patience:
                        break
                    elif work(process.pid) - worked > SILENT_WORK * patience or time.time() - last > SILENT_CLOCK * patience:
                        break
            finally:
                process.kill()
                process.wait()
            return plain(seen), time.time() - begin


def nothing_written(size):
    """An empty layer of writings over a disk of `size` bytes, a sector each, since a worn disk gives what was written anew (the
    emulator's format qcow2, version 3: docs/interop/qcow2.txt)."""
    sector, spans = 512, -(-size // (512 * 64))  # one table for each 64 sectors
    first = -(-spans * 8 // sector)  # sectors of the table of tables
    head = struct.pack(">4sIQIIQIIQQIIQQQQII", b"QFI\xfb", 3, 0, 0, 9, size, 0, spans, 3 * sector, sector, 1, 0, 0, 0, 0, 0, 4, 104)
    counts = struct.pack(">H", 1) * (3 + first)
    return head.ljust(sector, b"\0") + struct.pack(">Q", 2 * sector).ljust(sector, b"\0") + counts.ljust(sector, b"\0") + bytes(first * sector)


def work(pid):
    """Seconds of processor time that a process used."""
    with open(f"/proc/{pid}/stat") as file:
        fields = file.read().rsplit(")", 1)[1].split()
    return (int(fields[11]) + int(fields[12])) / os.sysconf("SC_CLK_TCK")


# What a console sends: an order that places the cursor, another one to the terminal, an end of a line, characters.
SENT = re.compile(r"\x1b\[(\d+);(\d+)H|(\x1bc|\x1b\[H)|\x1b\[[0-9;=?]*[A-Za-z]|\x1b[()][A-Z0-9]|\x1b[a-zA-Z]|([\r\n\b])|([^\x1b\r\n\b]+)|\x1b")
ROWS = 25


def plain(seen):
    """The console's bytes as lines of text, without the orders to a terminal; characters that go on where the last ones ended belong
    to their line, wherever the cursor was between: on a slow host the firmware takes it to the line's begin and back amid a word."""
    out, at, end = [], (1, 1), (1, 1)
    for sent in SENT.finditer(seen.decode("utf-8", "replace").replace("\0", "")):
        row, column, home, control, text = sent.groups()
        if row:
            at = int(row), int(column)
        elif home:
            at = 1, 1
        elif text:
            if at != end:
                out.append("\n")
            out.append(text)
            at = end = at[0], at[1] + len(text)
        elif control == "\n":
            out.append("\n")
            at = end = min(at[0] + 1, ROWS), at[1]
        elif control == "\r":
            at = at[0], 1
        elif control == "\b":
            out.append(control)
            at = end = at[0], max(1, at[1] - 1)
    if at != end:
        out.append("\n")
    return re.sub(r"\n\s*\n+", "\n", "".join(out))
