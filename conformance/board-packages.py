#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""The first programs that the distribution ships for boards, against what `check` says of them.

usage: board-packages.py [--tool PATH] [--packages DIR]

Every first program in Debian's u-boot-rockchip, -sunxi, -imx, -omap and -stm32 is put on a card where its board looks for it,
with the U-Boot that comes with it. It must be found sound for its own board, with U-Boot behind it, and for no board of
another family. The packages are fetched into --packages (the architectures arm64 and armhf must be known to dpkg), or lie
there unpacked. Further needed: fdisk, dosfstools, mtools. Prints a line per program that differs; exit status: 0 none does, 1
some do, 77 something is missing.
"""
import argparse, json, pathlib, subprocess, sys, tempfile

ROOT = pathlib.Path(__file__).resolve().parent.parent
PACKAGES = ("u-boot-rockchip:arm64", "u-boot-rockchip:armhf", "u-boot-sunxi:arm64", "u-boot-sunxi:armhf", "u-boot-imx:armhf",
            "u-boot-omap:armhf", "u-boot-stm32:armhf")
# What a folder of a package's name says of its chip.
CHIPS = (("rk3288", "rk3288-brom"), ("rk3328", "rk3328-brom"), ("rk3399", "rk3399-brom"), ("am335x", "am335x-brom"),
         ("omap4", "omap4-brom"), ("omap3", "omap3-brom"), ("igep00x0", "omap3-brom"), ("dra7xx", "am57xx-brom"), ("am57xx", "am57xx-brom"),
         ("Cubieboard4", "sunxi-a80-brom"), ("mx53", "imx53-brom"), ("usbarmory", "imx53-brom"))
FAMILIES = ("rk", "sunxi", "imx", "omap", "am", "stm32")


def run(*words, **more):
    return subprocess.run(words, check=True, capture_output=True, **more)


def fetch(folder):
    folder.mkdir(parents=True, exist_ok=True)
    for name in PACKAGES:
        target = folder / name.replace(":", "-")
        if target.exists():
            continue
        got = subprocess.run(["apt-get", "download", name], cwd=folder, capture_output=True)
        for package in folder.glob(f"{name.split(':')[0]}_*_{name.split(':')[1]}.deb"):
            run("dpkg-deb", "-x", str(package), str(target))
        if got.returncode:
            return False
    return True


def programs(folder):
    """(what it is, board, places: byte -> file, files of the FAT partition, names of partitions)"""
    for path in sorted(folder.glob("u-boot-*/usr/lib/u-boot/*/*")):
        board, name = path.parent.name, path.name
        own = next((b for mark, b in CHIPS if mark in board), None)
        label = f"{path.relative_to(folder).parts[0]}/{board}/{name}"
        if name == "idbloader.img":
            itb, img = path.parent / "u-boot.itb", path.parent / "u-boot.img"
            yield label, own, {32768: path, 8 << 20: itb if itb.exists() else img}, {}, {}
        elif name == "u-boot-sunxi-with-spl.bin":
            yield label, own or "sunxi", {8192: path}, {}, {}
        elif name == "SPL":
            uboot = path.parent / "u-boot.img"
            yield label, own or "imx6-brom", {1024: path, **({69 << 10: uboot} if uboot.exists() else {})}, {}, {}
        elif name.endswith(".imx"):
            yield label, own or "imx6-brom", {1024: path}, {}, {}
        elif name == "MLO":
            yield label, own, {}, {"MLO": path, "u-boot.img": path.parent / "u-boot.img"}, {}
        elif name == "u-boot-spl.stm32":
            yield label, "stm32mp1-brom", {}, {}, {"fsbl1": path, "fsbl2": path, "ssbl": path.parent / "u-boot.img"}


def card(places, files, names, work):
    disk = work / "card.img"
    with open(disk, "wb") as f:
        f.truncate(40 << 20)
    script = "label: gpt\n" if names else "label: dos\n"
    if names:
        at = 2048
        for name in names:
            script += f"start={at}, size=8192, name={name}\n"
            at += 8192
    script += "start=49152, size=16384, type=" + ("linux\n" if names else "c, bootable\n")
    run("sfdisk", str(disk), input=script.encode())
    fat = work / "fat.img"
    with open(fat, "wb") as f:
        f.truncate(8 << 20)
    run("mkfs.fat", str(fat))
    for name, path in files.items():
        run("mcopy", "-i", str(fat), str(path), "::/" + name)
    with open(disk, "r+b") as f:
        for at, path in places.items():
            f.seek(at)
            f.write(path.read_bytes())
        for number, path in enumerate(names.values()):
            f.seek((2048 + number * 8192) * 512)
            f.write(path.read_bytes())
        f.seek(49152 * 512)
        f.write(fat.read_bytes())
    return disk


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--tool", default=str(ROOT / "build/release/tool/herberge"))
    parser.add_argument("--packages", default=str(pathlib.Path.home() / ".cache/herberge-conformance/boards"))
    opt = parser.parse_args()
    folder = pathlib.Path(opt.packages)
    if not fetch(folder):
        print("the packages for arm64 and armhf cannot be fetched: nothing was compared")
        return 77
    good = every = 0
    with tempfile.TemporaryDirectory() as scratch:
        work = pathlib.Path(scratch)
        for label, own, places, files, names in programs(folder):
            disk = card(places, files, names, work)
            fitting = json.loads(subprocess.run([opt.tool, "boards", str(disk), "--format", "json"], capture_output=True, text=True).stdout)
            found = [b["name"] for b in fitting["boards"]]
            family = next((f for f in FAMILIES if (own or "").startswith(f)), "?")
            mine = [n for n in found if n == own or (own == "sunxi" and n.startswith("sunxi"))]
            foreign = [n for n in found if not n.startswith(family) and not (family in ("omap", "am") and n[:2] in ("om", "am"))]
            board = own if own != "sunxi" else (mine[-1] if mine else "sunxi-h3-brom")
            verdict = json.loads(subprocess.run([opt.tool, "check", str(disk), "--firmware", f"board:{board}", "--format", "json"],
                                                capture_output=True, text=True).stdout)
            stages = {s["stage"]: s for s in verdict["systems"][0]["stages"]} if verdict["systems"] else {}
            text = stages.get("loader", {}).get("text", "no ladder")
            held = stages.get("loader", {}).get("state") == "holds" if stages else None
            fine = bool(mine) and not foreign and held is not False
            every += 1
            good += fine
            print(f"{label}: {'agrees' if fine else 'DIFFERS'}: fits {', '.join(found) or 'none'}; {text[:150]}", flush=True)
    print(f"{good} of {every} agree")
    return 0 if good == every else 1


if __name__ == "__main__":
    sys.exit(main())
