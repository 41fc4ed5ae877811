#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""GRUB's configuration language, by a real GRUB in a virtual PC, against ours.

usage: grub-scripts.py [--tool PATH] [--write]

Each script of grub.scripts leaves a text in the variable r. The real one runs them all in one start and prints r behind each;
ours makes a title of it, which `entries --format json` shows. Needs qemu-system-x86, grub-pc-bin, grub-common, e2fsprogs,
fdisk. --write puts the real answers into the table. Prints one line per script that differs, then the count; exit status 0:
none does.
"""
import argparse, json, os, pathlib, re, shutil, subprocess, sys, tempfile, time
from really import answers

ROOT = pathlib.Path(__file__).resolve().parent.parent
TABLE = pathlib.Path(__file__).resolve().parent / "grub.scripts"
MODULES = pathlib.Path("/usr/lib/grub/i386-pc")
UUID = "11111111-2222-3333-4444-555555555555"
RESET = "".join(f"unset {name}; " for name in ("r", "x", "y", "i", "j", "saved", "next", "a.b")) + "set root=hd0,msdos1\n"
FILES = {"a": b"aaa\n", "b": b"bb\n", "empty": b"", "a.txt": b"t\n", "set.cfg": b"set r=a\n", "bad.cfg": b"set r=b\nif\n",
         "env": b"# GRUB Environment Block\nsaved=one\nnext=two\n".ljust(1024, b"#"), "entries.cfg": b"menuentry q { true }\n"}
LINKS = {"link": "a", "dlink": ".", "bad": "none"}


def run(*command, **more):
    return subprocess.run(list(map(str, command)), check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)


def make_disk(path, configuration, scripts):
    with tempfile.TemporaryDirectory() as folder:
        tree = pathlib.Path(folder) / "tree"
        for name in ("boot/grub/i386-pc", "f", "s"):
            (tree / name).mkdir(parents=True)
        for name in os.listdir(MODULES):
            if name.endswith((".mod", ".lst")):
                shutil.copy(MODULES / name, tree / "boot/grub/i386-pc")
        (tree / "boot/grub/grub.cfg").write_text(configuration)
        for name, content in FILES.items():
            (tree / "f" / name).write_bytes(content)
        for name, target in LINKS.items():
            os.symlink(target, tree / "f" / name)
        for number, script in enumerate(scripts):
            (tree / "s" / f"{number}.cfg").write_bytes(script.encode() + b"\n")
        for one in tree.rglob("*"):
            os.utime(one, (1700000000, 1700000000), follow_symlinks=False)
        os.utime(tree / "f/a", (1700000010, 1700000010))
        volume, core = os.path.join(folder, "volume"), os.path.join(folder, "core")
        run("truncate", "-s", "30M", volume)
        run("mkfs.ext4", "-q", "-O", "^has_journal", "-L", "INNFS", "-U", UUID, "-d", tree, volume)
        run("grub-mkimage", "-O", "i386-pc", "-o", core, "-p", "(hd0,msdos1)/boot/grub", "biosdisk", "part_msdos", "ext2")
        code = (MODULES / "boot.img").read_bytes()[:440]
        image = bytearray(pathlib.Path(core).read_bytes())
        image += bytes(-len(image) % 512)
        # The first sector's list: the rest lies in sectors from 2 on.
        image[500:508] = (2).to_bytes(8, "little")
        image[508:510] = (len(image) // 512 - 1).to_bytes(2, "little")
        with open(path, "wb") as disk:
            disk.truncate(33 << 20)
        run("sfdisk", path, input=b"label: dos\nlabel-id: 0xa1b0c0de\nstart=2048, size=61440, type=83, bootable\n")
        with open(path, "r+b") as disk:
            disk.write(code)
            disk.seek(512)
            disk.write(image)
            disk.seek(1 << 20)
            disk.write(pathlib.Path(volume).read_bytes())


def real(scripts, folder):
    lines = [f'{RESET}source /s/{number}.cfg\necho "<<{number}|$r|>>"\n' for number in range(len(scripts))]
    disk, console = os.path.join(folder, "real.img"), pathlib.Path(folder) / "console"
    make_disk(disk, "serial --unit=0 --speed=115200\nterminal_output serial\n" + "".join(lines) + "echo ALL-DONE\nhalt\n", scripts)
    console.touch()
    machine = subprocess.Popen(["qemu-system-x86_64", "-m", "256", "-display", "none", "-nic", "none", "-no-reboot", "-drive",
                                f"file={disk},format=raw", "-serial", f"file:{console}", "-monitor", "none"],
                               stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    size, since = -1, time.time()
    while machine.poll() is None and time.time() - since < 60:
        now = console.stat().st_size
        if now != size:
            size, since = now, time.time()
        if b"ALL-DONE" in console.read_bytes()[-200:]:
            break
        time.sleep(0.3)
    machine.kill()
    machine.wait()
    text = console.read_bytes().decode(errors="replace").replace("\r", "")
    return {int(number): answer for number, answer in re.findall(r"<<(\d+)\|(.*?)\|>>", text, re.S)}


def ours(scripts, folder, tool):
    """A menu of ours has at most 500 entries: some hundreds at a time."""
    found, some = {}, 400
    disk = os.path.join(folder, "ours.img")
    for first in range(0, len(scripts), some):
        lines = [f'{RESET}source /s/{number}.cfg\nmenuentry "<<{number}|$r|>>" {{ true; }}\n'
                 for number in range(first, min(first + some, len(scripts)))]
        make_disk(disk, "".join(lines), scripts)
        done = subprocess.run([tool, "entries", "--format", "json", disk], capture_output=True, text=True)
        for entry in (entry for menu in json.loads(done.stdout)["menus"] for entry in menu["entries"]):
            if one := re.fullmatch(r"<<(\d+)\|(.*)\|>>", entry["title"], re.S):
                found[int(one[1])] = one[2].replace("\\x0d", "")
    return found


def main():
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("--tool", default=str(ROOT / "build/release/tool/herberge"))
    options.add_argument("--write", action="store_true")
    given = options.parse_args()
    table = answers.read(TABLE)
    with tempfile.TemporaryDirectory() as folder:
        scripts = [script for script, _ in table]
        told, own = real(scripts, folder), ours(scripts, folder, given.tool)
    told, own = ([all.get(number, "(no answer)") for number in range(len(table))] for all in (told, own))
    if given.write:
        answers.write(TABLE, zip(scripts, told))
    return answers.differ(table, told, own, given.write)


if __name__ == "__main__":
    sys.exit(main())
