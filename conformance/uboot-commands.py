#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""U-Boot's command language, by a real U-Boot in an emulated arm64 board, against ours.

usage: uboot-commands.py [--tool PATH] [--uboot PATH] [--write]

Each script of uboot.scripts leaves a text in the variable r. The real one is asked for it at its console, and must answer what
the table says; ours hands it to a kernel as its command line, which `entries --format json` shows. Needs
qemu-system-aarch64, u-boot-qemu, u-boot-tools, dosfstools, mtools, fdisk. --write puts the real answers into the table.
Prints one line per script that differs, then the count; exit status 0: none does.
"""
import argparse, json, os, pathlib, re, select, subprocess, sys, tempfile, time
from really import answers

ROOT = pathlib.Path(__file__).resolve().parent.parent
TABLE = pathlib.Path(__file__).resolve().parent / "uboot.scripts"
# What the shell keeps for itself from one script to the next.
LEAVES_TRACES = re.compile(r"(^|[;\s])[A-Za-z]\w*=|for \w+ in|:=")


def run(*command, **more):
    return subprocess.run(list(map(str, command)), check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)


def make_disk(path, files):
    with tempfile.TemporaryDirectory() as folder:
        fat = os.path.join(folder, "fat")
        run("mkfs.fat", "-C", "-F", "16", fat, 14 * 1024)
        for directory in sorted({os.path.dirname(name) for name in files} - {""}):
            run("mmd", "-i", fat, f"::{directory}")
        for name, content in files.items():
            file = os.path.join(folder, pathlib.Path(name).name)
            pathlib.Path(file).write_bytes(content)
            run("mcopy", "-i", fat, file, f"::{name}")
        with open(path, "wb") as disk:
            disk.truncate(20 << 20)
        run("sfdisk", path, input=b"label: dos\nlabel-id: 0xa1b0c0de\nstart=2048, size=28672, type=c, bootable\n")
        with open(path, "r+b") as disk:
            disk.seek(2048 * 512)
            disk.write(pathlib.Path(fat).read_bytes())


def image(text):
    with tempfile.TemporaryDirectory() as folder:
        source, target = os.path.join(folder, "text"), os.path.join(folder, "image")
        pathlib.Path(source).write_text(text)
        run("mkimage", "-A", "arm64", "-T", "script", "-d", source, target)
        return pathlib.Path(target).read_bytes()


def kernel():
    head = bytearray(64 << 10)
    head[0:4] = (0x14000000).to_bytes(4, "little")
    head[16:24] = (64 << 10).to_bytes(8, "little")
    head[56:60] = b"ARMd"
    return bytes(head)


class Console:
    def __init__(self, uboot, disk):
        self.process = subprocess.Popen(
            ["qemu-system-aarch64", "-machine", "virt", "-cpu", "cortex-a57", "-m", "512", "-nographic", "-nic", "none", "-bios",
             uboot, "-drive", f"file={disk},format=raw,if=none,id=d", "-device", "virtio-blk-device,drive=d"],
            stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
        self.seen = ""
        self.until("Hit any key", 120)
        self.type("")
        self.until("\n=> ", 30)

    def until(self, words, seconds):
        return self.until_any([words], seconds)

    def until_any(self, several, seconds):
        """What it says up to the first of these, and with it."""
        end = time.time() + seconds
        while not any(words in self.seen for words in several):
            ready, _, _ = select.select([self.process.stdout], [], [], max(0.0, end - time.time()))
            if not ready or time.time() > end:
                raise TimeoutError(f"none of {several} in: {self.seen[-400:]}")
            self.seen += os.read(self.process.stdout.fileno(), 65536).decode(errors="replace")
        at = min(self.seen.index(words) + len(words) for words in several if words in self.seen)
        before, self.seen = self.seen[:at], self.seen[at:]
        return before

    def type(self, line):
        self.process.stdin.write((line + "\n").encode())
        self.process.stdin.flush()

    def ask(self, number):
        self.type(f"setenv r; setenv x; setenv n; setenv one; setenv two; load virtio 0:1 0x40200000 /all/s{number}.scr; "
                  "setenv filesize; setenv fileaddr; source 0x40200000")
        self.until("\n=> ", 30)
        self.type('echo "<<${r}>>"')
        text = self.until("\n=> ", 30)
        found = re.findall(r"(?m)^<<(.*)>>\s*$", text.replace("\r", ""))
        return found[-1] if found else "(no answer: " + text[-200:] + ")"

    def close(self):
        self.process.kill()
        self.process.wait()


def ours(tool, disk):
    done = subprocess.run([tool, "entries", "--format", "json", "--firmware", "board:uboot-qemu-arm64", disk],
                          capture_output=True, text=True)
    menus = json.loads(done.stdout)["menus"]
    direct = [entry for menu in menus for entry in menu["direct"]]
    # What a script asks for in vain is listed besides.
    started = [entry["arguments"] for entry in direct if entry["arguments"].startswith("<<")]
    if not started:
        return "(nothing was started)"
    return started[0].removeprefix("<<").removesuffix(">>").replace("\\x0d", "")


def main():
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("--tool", default=str(ROOT / "build/release/tool/herberge"))
    options.add_argument("--uboot", default="/usr/lib/u-boot/qemu_arm64/u-boot.bin")
    options.add_argument("--write", action="store_true")
    given = options.parse_args()
    table, told, own = answers.read(TABLE), [], []
    with tempfile.TemporaryDirectory() as folder:
        disk = os.path.join(folder, "real.img")
        text = b"one=1\n# a remark\ntwo=zwei\n"
        make_disk(disk, {"files.txt": text, "s0.scr": image(table[0][0]), **{f"all/s{i}.scr": image(s) for i, (s, _) in enumerate(table)}})
        console = None
        for number, (script, _) in enumerate(table):
            console = console or Console(given.uboot, disk)
            real = console.ask(number)
            if LEAVES_TRACES.search(script):
                console.close()
                console = None
            mine_disk = os.path.join(folder, "mine.img")
            start = 'setenv bootargs "<<${r}>>"\nload virtio 0:1 0x44000000 /kernel\nbooti 0x44000000 - ${fdt_addr}\n'
            outer = f"load virtio 0:1 0x40300000 /inner.scr; setenv filesize; setenv fileaddr; source 0x40300000\n{start}"
            make_disk(mine_disk, {"files.txt": text, "s0.scr": image(table[0][0]), "kernel": kernel(),
                                  "inner.scr": image(script), "boot.scr": image(outer)})
            mine = ours(given.tool, mine_disk)
            told.append(real)
            own.append(mine)
        if console:
            console.close()
    if given.write:
        answers.write(TABLE, zip((script for script, _ in table), told))
    return answers.differ(table, told, own, given.write)


if __name__ == "__main__":
    sys.exit(main())
