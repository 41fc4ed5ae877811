#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""U-Boot's extlinux.conf, by a real U-Boot in an emulated arm64 board.

usage: uboot-menus.py [--uboot PATH] [--write]

Each text of uboot.menus is a configuration whose kernels are not there or no kernels, so that U-Boot tries one label after the
other and comes back to its console; the table has what it tried. This asks a real one; the tests ask ours (UbootMenus). Needs
qemu-system-aarch64, u-boot-qemu, u-boot-tools, device-tree-compiler, dosfstools, mtools, fdisk. --write puts the real answers into
the table. Prints one line per text that differs, then the count; exit status 0: none does.
"""
import argparse, importlib.util, os, pathlib, re, sys, tempfile
from really import answers

ROOT = pathlib.Path(__file__).resolve().parent.parent
TABLE = pathlib.Path(__file__).resolve().parent / "uboot.menus"
SPEC = importlib.util.spec_from_file_location("boards", ROOT / "conformance/boards-against-uboot.py")
BOARDS = importlib.util.module_from_spec(SPEC)
SPEC.loader.exec_module(BOARDS)
Console = BOARDS.COMMANDS.Console

FILES = {**{name: b"no kernel\n" for name in ("k1", "k2", "k3", "c/k", "d/k", "k 4")}, "r1": BOARDS.RAMDISK, "c/r": BOARDS.RAMDISK,
         "more.conf": b"label more\n\tkernel /k3\n\tappend of=more\n", "c/more.conf": b"label near\n\tkernel /k3\n\tappend of=near\n",
         "words.conf": b"\tappend of=words\n", "loop.conf": b"include /loop.conf\n", "deep.conf": b"include /more.conf\nlabel deep\n\tkernel /k2\n"}


# What a label says for the kernel stays there for the next one that says nothing.
def tried(screen):
    """What it tried: "x:LABEL:WHAT" a file that is not there, "n:LABEL" no kernel, "b:FILES [ARGUMENTS]" a start, "gone" that the board
    hangs or starts anew, "asks" that it waits for somebody to choose."""
    out, files, arguments = [], [], ""
    for line in screen.replace("\r", "").split("\n"):
        if found := re.match(r"Retrieving file: (.*)(?<!\.conf)$", line):
            files.append(found[1])
        elif "Unable to read file" in line and files:
            files.pop()
        elif found := re.match(r"append: ?(.*)", line):
            arguments = found[1]
        elif found := re.match(r"Skipping (.*) for failure retrieving (\w+)", line):
            out.append(f"x:{found[1]}:{found[2]}")
            files = []
        elif found := re.match(r"No kernel given, skipping (.*)", line):
            out.append(f"n:{found[1]}")
        elif "Bad Linux ARM64 Image magic!" in line:
            out.append(f"b:{','.join(files)} [{arguments}]")
            files = []
        elif "Error reading config file" in line or "Config file not found" in line:
            out.append("given up")
    return " ".join(out)


def ask(console, number):
    console.type(f"setenv bootargs; setenv x drei; setenv fdtfile b.dtb; setenv fdt_addr_r 0x46000000; sysboot virtio 0:1 any 0x40300000 /c/{number}.conf; echo \"<\"\">\"")
    try:
        screen = console.until_any(["<>", "Enter choice: ", "U-Boot 20"], 25)
    except TimeoutError:
        return "gone"
    if not screen.endswith("<>"):
        return "gone" if screen.endswith("U-Boot 20") else "asks"
    console.until("\n=> ", 30)
    return tried(screen)


def main():
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("--uboot", default="/usr/lib/u-boot/qemu_arm64/u-boot.bin")
    options.add_argument("--write", action="store_true")
    given = options.parse_args()
    table, told = answers.read(TABLE), []
    with tempfile.TemporaryDirectory() as folder:
        disk = os.path.join(folder, "disk.img")
        trees = {"t1.dtb": BOARDS.tree(), "d/b.dtb": BOARDS.tree(), "c/t.dtb": BOARDS.tree()}
        texts = {f"c/{i}.conf": text.encode() for i, (text, _) in enumerate(table)}
        BOARDS.make_disk(disk, {**FILES, **trees, **texts}, "mbr", "type=c, bootable")
        console = None
        for number in range(len(table)):
            console = console or Console(given.uboot, disk)
            told.append(ask(console, number))
            if told[-1] in ("gone", "asks"):
                console.close()
                console = None
        if console:
            console.close()
    if given.write:
        answers.write(TABLE, zip((text for text, _ in table), told))
    return answers.differ(table, told, told, given.write)


if __name__ == "__main__":
    sys.exit(main())
