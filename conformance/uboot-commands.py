#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""U-Boot's command language, by a real U-Boot in an emulated arm64 board, against ours.

usage: uboot-commands.py [--tool PATH] [--uboot PATH]

Each row is a script that leaves a text in the variable r. The real one is asked for it at its console; ours hands it to a
kernel as its command line, which `entries --format json` shows. Needs qemu-system-aarch64, u-boot-qemu, u-boot-tools,
dosfstools, mtools, fdisk. Prints one line per script that differs, then the count; exit status 0: none does.
"""
import argparse, json, os, pathlib, re, select, subprocess, sys, tempfile, time

ROOT = pathlib.Path(__file__).resolve().parent.parent
SCRIPTS = [
    "setenv r plain",
    "setenv r 'one  two'",
    "setenv x a; setenv r ${x}b$x",
    "setenv x a b; for i in ${x} c; do setenv r ${r}-$i; done",
    "setenv x 'a b'; for i in \"${x}\" c; do setenv r \"${r}-$i\"; done",
    "for i in x 'z w'; do setenv r ${r}-$i; done",
    "false && setenv r a || setenv r b; setenv r ${r}c",
    "true || setenv r a && setenv r b; setenv r ${r}c",
    "false || false && setenv r b || setenv r c; setenv r ${r}d",
    "true && true && setenv r all",
    "if false && true || true; then setenv r in; else setenv r out; fi",
    "if true; then setenv r yes; else setenv r no; fi",
    "if false; then setenv r 1; elif true; then setenv r 2; else setenv r 3; fi",
    "false; setenv r $?",
    "true; setenv r $?",
    "false || setenv r or; true && setenv r ${r}and",
    "true || setenv r never; false && setenv r never; setenv r ${r}end",
    "test -n ${gone} && setenv r there || setenv r absent",
    "test -z \"${gone}\" && setenv r empty",
    "if test 5 -lt 10; then setenv r less; fi",
    "if test a = a -a b = c; then setenv r both; else setenv r notboth; fi",
    "if test a = b -o b = b; then setenv r either; fi",
    "if test ! a = b; then setenv r not; fi",
    "if itest 0x10 == 16; then setenv r dec; else setenv r hex; fi",
    "setexpr r 10 + f",
    "setexpr r 0x20 * 2",
    "setexpr r 100 - 1",
    "a=5; setenv r ${a}",
    "a=5; env exists a && setenv r env || setenv r local",
    "setenv x 'setenv r ran'; run x",
    "run gone || setenv r failed",
    "setenv n 3; while test $n != 0; do setenv r ${r}$n; setexpr n $n - 1; done",
    "until true; do setenv r never; done; setenv r ${r}done",
    "for i in 1 2; do for j in a b; do setenv r ${r}$i$j; done; done",
    "test -e virtio 0:1 /files.txt && setenv r there",
    "test -e virtio 0:1 /none.txt || setenv r gone",
    "test -e usb 0:1 /files.txt || setenv r nodevice",
    "load virtio 0:1 0x41000000 /files.txt; setenv r $filesize",
    "load virtio 0:1 0x41000000 /files.txt; load virtio 0:1 0x42000000 /none.txt; setenv r $filesize",
    "load virtio 0:1 0x41000000 /none.txt || setenv r failed",
    "load virtio 0:1 0x41000000 /files.txt; env import -t 0x41000000 $filesize; setenv r $one$two",
    "part list virtio 0 -bootable x; setenv r $x",
    "part list virtio 0 x; setenv r $x",
    "part start virtio 0 1 r",
    "part uuid virtio 0:1 r",
    "fstype virtio 0:1 r",
    "fstype virtio 0:2 && setenv r yes || setenv r no",
    "setenv r a\\ b",
    "setenv r \"quote\\\"d\"",
    "setenv r '$x'",
    "setenv x v; setenv r \"$x $x\"",
    "setenv r a # a remark",
    "setenv r a#b",
    "# nothing\nsetenv r after",
    "if true\nthen\nsetenv r lines\nfi",
    "setenv r 1; exit; setenv r 2",
    "exit 3; setenv r no",
    "setenv devplist; env exists devplist || setenv r unset",
    "frobnicate || setenv r unknown",
    "virtio dev 0 && setenv r dev",
    "virtio dev 7 || setenv r nodev",
    "setenv r $loadaddr_that_is_not; env exists r && setenv r set || setenv r none",
    "mw.l 0x41000000 0x12345678; setexpr.l r *0x41000000",
    "mw.l 0x41000000 0x12345678; setexpr.b r *0x41000001",
    "mw.w 0x41000000 0xabcd 2; setexpr.l r *0x41000000",
    "mw.l 0x41000000 0x11223344 4; cp.b 0x41000001 0x42000000 4; setexpr.l r *0x42000000",
    "mw.l 0x41000000 0 4; mw.b 0x41000004 ff; setexpr.l r *0x41000004",
    "mw 0x41000000 77; setexpr r *0x41000000 + *0x41000000",
    "setexpr r zz + 5",
    "setexpr r 5x + 1",
    "setexpr r 12 << 2 || setenv r bad",
    "setexpr.b r 100 + ff",
    "setexpr r abc",
    "setexpr.s r abc",
    "setexpr.s r abc + def",
    "setexpr.s r abc - def || setenv r bad",
    "setexpr r gsub b x abcabc",
    "setexpr r sub b x abcabc",
    "setexpr r gsub q x abc || setenv r none",
    "setenv x a b c; setexpr x gsub ' ' _; setenv r $x",
    "setexpr gone gsub a b || setenv r none",
    "mw.b 0x41000000 41 4; crc32 0x41000000 4 0x42000000; setexpr.l r *0x42000000",
    "virtio read 0x41000000 0 1; setexpr.w r *0x410001fe",
    "virtio dev 0; virtio read 0x41000000 0 1 && setenv r read",
    "virtio read 0x41000000 ffffff 1 || setenv r far",
    "virtio read 0x41000000 0 0 && setenv r zero || setenv r none",
    "load virtio 0:1 0x41000000 /files.txt; mw.b 0x41000004 39; env import -t 0x41000000 $filesize; setenv r $one",
    "load virtio 0:1 0x41000000 /files.txt; load virtio 0:1 0x41000004 /files.txt; setexpr.l r *0x41000000",
    "load virtio 0:1 0x41000000 /files.txt; unzip 0x41000000 0x42000000 && setenv r unpacked || setenv r plain",
    "load virtio 0:1 0x41000000 /files.txt; iminfo 0x41000000 && setenv r image || setenv r none",
    "load virtio 0:1 0x41000000 /s0.scr; iminfo 0x41000000 && setenv r image || setenv r none",
    "load virtio 0:1 0x41000000 /s0.scr; imxtract 0x41000000 0 0x42000000; setenv r $filesize",
    "load virtio 0:1 0x41000000 /s0.scr; imxtract 0x41000000 0; setenv r $filesize",
    "load virtio 0:1 0x41000000 /s0.scr; imxtract 0x41000000 1 0x42000000 || setenv r none",
    "fdt addr ${fdtcontroladdr} && setenv r tree",
    "fdt addr 0x48000000 && setenv r tree || setenv r none",
]


def run(*command, **more):
    return subprocess.run(list(map(str, command)), check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)


def make_disk(path, files):
    with tempfile.TemporaryDirectory() as folder:
        fat = os.path.join(folder, "fat")
        run("mkfs.fat", "-C", "-F", "16", fat, 14 * 1024)
        for name, content in files.items():
            file = os.path.join(folder, name)
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
        end = time.time() + seconds
        while words not in self.seen:
            ready, _, _ = select.select([self.process.stdout], [], [], max(0.0, end - time.time()))
            if not ready:
                raise TimeoutError(f"no “{words}” in: {self.seen[-400:]}")
            self.seen += os.read(self.process.stdout.fileno(), 65536).decode(errors="replace")
        at = self.seen.index(words) + len(words)
        before, self.seen = self.seen[:at], self.seen[at:]
        return before

    def type(self, line):
        self.process.stdin.write((line + "\n").encode())
        self.process.stdin.flush()

    def ask(self, number):
        self.type(f"setenv r; setenv x; setenv n; load virtio 0:1 0x40200000 /s{number}.scr; source 0x40200000")
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
    if not direct:
        return "(nothing was started)"
    return direct[0]["arguments"].removeprefix("<<").removesuffix(">>")


def main():
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("--tool", default=str(ROOT / "build/release/tool/herberge"))
    options.add_argument("--uboot", default="/usr/lib/u-boot/qemu_arm64/u-boot.bin")
    given = options.parse_args()
    differ = 0
    with tempfile.TemporaryDirectory() as folder:
        disk = os.path.join(folder, "real.img")
        text = b"one=1\n# a remark\ntwo=zwei\n"
        make_disk(disk, {"files.txt": text, **{f"s{i}.scr": image(s) for i, s in enumerate(SCRIPTS)}})
        console = Console(given.uboot, disk)
        for number, script in enumerate(SCRIPTS):
            real = console.ask(number)
            mine_disk = os.path.join(folder, "mine.img")
            start = 'setenv bootargs "<<${r}>>"\nload virtio 0:1 0x44000000 /kernel\nbooti 0x44000000\n'
            outer = f"load virtio 0:1 0x40300000 /inner.scr; source 0x40300000\n{start}"
            make_disk(mine_disk, {"files.txt": text, "s0.scr": image(SCRIPTS[0]), "kernel": kernel(), "inner.scr": image(script), "boot.scr": image(outer)})
            mine = ours(given.tool, mine_disk)
            if mine != real:
                differ += 1
                print(f"{script!r}: really {real!r}, ours {mine!r}")
        console.close()
    print(f"{len(SCRIPTS) - differ} of {len(SCRIPTS)} scripts agree")
    return 1 if differ else 0


if __name__ == "__main__":
    sys.exit(main())
