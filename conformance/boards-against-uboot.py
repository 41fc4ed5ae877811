#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""What U-Boot starts from a disk, by a real U-Boot in an emulated arm64 board, against the verdict.

usage: boards-against-uboot.py [--tool PATH] [--uboot PATH] [CASE ...]

Each case is a disk with a kernel of a few instructions that says KERNEL-UP. The real U-Boot comes to that, or to its prompt,
or resets; ours says that the walk comes to the kernel and behind it, or where it stops. Needs qemu-system-aarch64,
u-boot-qemu, u-boot-tools, device-tree-compiler, dosfstools, mtools, e2fsprogs, fdisk. Prints a line per case that differs,
then the count; exit status 0: none does.
"""
import argparse, gzip, importlib.util, json, lzma, os, pathlib, select, subprocess, sys, tempfile, time

ROOT = pathlib.Path(__file__).resolve().parent.parent
SPEC = importlib.util.spec_from_file_location("commands", ROOT / "conformance/uboot-commands.py")
COMMANDS = importlib.util.module_from_spec(SPEC)
SPEC.loader.exec_module(COMMANDS)
run, image = COMMANDS.run, COMMANDS.image


def words(*values):
    return b"".join(value.to_bytes(4, "little") for value in values)


def kernel(size=64 << 10):
    """An arm64 Image that writes KERNEL-UP to the board's serial line."""
    code = words(0xD2A12001, 0x100000C2, 0x38401443, 0x34000063, 0x39000023, 0x17FFFFFD, 0x14000000) + b"KERNEL-UP\r\n\0"
    head = words(0x14000010, 0) + (0).to_bytes(8, "little") + size.to_bytes(8, "little") + (10).to_bytes(8, "little")
    head += bytes(24) + b"ARMd" + bytes(4)
    return (head + code).ljust(size, b"\x1f")


RAMDISK = gzip.compress(b"070701" + b"0" * 88 + b"0000000B00000000TRAILER!!!\0\0\0\0", mtime=0)
KERNEL = kernel()
EXT = "default a\nlabel a\n\tkernel /Image\n\tappend root=/dev/vda2\n"


def legacy(content, *options):
    with tempfile.TemporaryDirectory() as folder:
        source, target = os.path.join(folder, "source"), os.path.join(folder, "target")
        pathlib.Path(source).write_bytes(content)
        run("mkimage", *options, "-d", source, target)
        return pathlib.Path(target).read_bytes()


def tree(compatible="linux,dummy-virt"):
    with tempfile.TemporaryDirectory() as folder:
        source, target = os.path.join(folder, "source"), os.path.join(folder, "target")
        pathlib.Path(source).write_text(f'/dts-v1/; / {{ compatible = "{compatible}"; #address-cells = <2>; #size-cells = <2>; '
                                        "chosen { }; memory@40000000 { device_type = \"memory\"; reg = <0 0x40000000 0 0x20000000>; }; };")
        run("dtc", "-O", "dtb", "-o", target, source)
        return pathlib.Path(target).read_bytes()


def overlay():
    with tempfile.TemporaryDirectory() as folder:
        source, target = os.path.join(folder, "source"), os.path.join(folder, "target")
        pathlib.Path(source).write_text('/dts-v1/; /plugin/; &{/chosen} { almhof = "laid over"; };')
        run("dtc", "-@", "-q", "-O", "dtb", "-o", target, source)
        return pathlib.Path(target).read_bytes()


def fit(kernel_data=KERNEL, properties='compression = "none"; load = <0x48000000>; entry = <0x48000000>;', hashes="hash-1 { algo = \"sha256\"; };",
        configurations='default = "a"; a { kernel = "k"; };', more="", arguments=(), name="k", kind="kernel"):
    with tempfile.TemporaryDirectory() as folder:
        at = pathlib.Path(folder)
        (at / "k").write_bytes(kernel_data)
        (at / "r").write_bytes(RAMDISK)
        (at / "t").write_bytes(tree())
        (at / "u").write_bytes(tree("almhof,other"))
        (at / "o").write_bytes(overlay())
        (at / "its").write_text(
            '/dts-v1/; / { description = "x"; #address-cells = <1>; images { ' + name + ' { description = "k"; data = /incbin/("k"); '
            f'type = "{kind}"; arch = "arm64"; os = "linux"; {properties} {hashes} }}; {more} }}; configurations {{ {configurations} }}; }};')
        run("mkimage", *arguments, "-f", "its", "target", cwd=folder)
        return (at / "target").read_bytes()


def changed(content, at, value):
    out = bytearray(content)
    out[at] ^= value
    return bytes(out)


LOAD = "load virtio 0:1 0x44000000 /Image\n"
BEST = "load virtio 0:1 0x50000000 /x.itb\nbootm 0x50000000"
FIT = BEST + "#a"
TREE_PART = 't { description = "t"; data = /incbin/("t"); type = "flat_dt"; arch = "arm64"; compression = "none"; }; u { description = "u"; data = /incbin/("u"); type = "flat_dt"; arch = "arm64"; compression = "none"; };'
OVERLAY_PART = 'o { description = "o"; data = /incbin/("o"); type = "flat_dt"; arch = "arm64"; compression = "none"; };'
RAM_PART = 'r { description = "r"; data = /incbin/("r"); type = "ramdisk"; arch = "arm64"; os = "linux"; compression = "none"; };'


def ext(configuration, **more):
    return {"extlinux/extlinux.conf": configuration.encode(), "Image": KERNEL, **more}


def script(text, **more):
    return {"boot.scr": image(text), "Image": KERNEL, **more}


def packed():
    """A kernel in each packing that an image can name, and damaged in each."""
    out = {}
    for kind, command in {"gzip": ["gzip", "-n"], "bzip2": ["bzip2"], "lzma": ["xz", "--format=lzma"], "lzo": ["lzop"], "lz4": ["lz4"],
                          "zstd": ["zstd"]}.items():
        whole = subprocess.run([*command, "-c"], input=KERNEL, capture_output=True, check=True).stdout
        place = f'compression = "{kind}"; load = <0x48000000>; entry = <0x48000000>;'
        options = ("-A", "arm64", "-O", "linux", "-T", "kernel", "-C", kind, "-a", "0x48000000", "-e", "0x48000000")
        load_u = "load virtio 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdt_addr}"
        room = "setenv kernel_comp_addr_r 0x58000000\nsetenv kernel_comp_size 0x100000\n"
        for name, content in {"": whole, "-cut": whole[:-40], "-flipped": changed(whole, len(whole) // 2, 0x55)}.items():
            out[f"packed-fit-{kind}{name}"] = then(FIT + " - ${fdt_addr}", **{"x.itb": fit(content, place)})
            out[f"packed-leg-{kind}{name}"] = then(load_u, u=legacy(content, *options))
            out[f"packed-booti-{kind}{name}"] = then(room + LOAD + "booti 0x44000000 - ${fdt_addr}", **{"Image": content})
    return out


def then(text, **more):
    """A start that fails, and a sound one behind it: does the first come back to the commands?"""
    return script(text + "\nload virtio 0:1 0x42000000 /Good\nbooti 0x42000000 - ${fdt_addr}\n", **{"Good": KERNEL, **more})


def ended():
    """What becomes of the commands behind a start that fails."""
    at_48 = ("-C", "none", "-a", "0x48000000", "-e", "0x48000000")
    load_u, load_t = "load virtio 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdt_addr}", "load virtio 0:1 0x46000000 /t.dtb\n"
    parts, words_ = TREE_PART + RAM_PART, 'default = "a"; a { kernel = "k"; fdt = "t"; };'
    behind = "label b\n\tkernel /Image\n"
    linux = lambda *more, content=KERNEL: legacy(content, "-A", "arm64", "-O", "linux", "-T", *more)
    out = {
        "then-alone": then("booti"),
        "then-alone-bootz": then("bootz"),
        "then-missing": then("load virtio 0:1 0x44000000 /none\nbooti 0x44000000 - ${fdt_addr}"),
        "then-magic": then(LOAD + "mw.b 0x44000038 0 4\nbooti 0x44000000 - ${fdt_addr}"),
        "then-no-tree": then(LOAD + "booti 0x44000000"),
        "then-tree-missing": then(LOAD + "booti 0x44000000 - 0x46000000"),
        "then-tree-magic": then(LOAD + load_t + "booti 0x44000000 - 0x46000000", **{"t.dtb": changed(tree(), 0, 1)}),
        "then-tree-cut": then(LOAD + load_t + "booti 0x44000000 - 0x46000000", **{"t.dtb": tree()[:100]}),
        "then-tree-overwritten": then(LOAD + load_t + "load virtio 0:1 0x46000000 /r.gz\nbooti 0x44000000 - 0x46000000", **{"t.dtb": tree(), "r.gz": RAMDISK}),
        "then-tree-overwritten-behind": then(LOAD + load_t + "load virtio 0:1 0x46000040 /r.gz\nbooti 0x44000000 - 0x46000000", **{"t.dtb": tree(), "r.gz": RAMDISK}),
        "then-overwritten": then(LOAD + "load virtio 0:1 0x44000020 /r.gz\nbooti 0x44000000 - ${fdt_addr}", **{"r.gz": RAMDISK}),
        "then-overwritten-behind": then(LOAD + "load virtio 0:1 0x44000040 /r.gz\nbooti 0x44000000 - ${fdt_addr}", **{"r.gz": RAMDISK}),
        "then-ramdisk-size": then(LOAD + "load virtio 0:1 0x46000000 /r.gz\nbooti 0x44000000 0x46000000 ${fdt_addr}", **{"r.gz": RAMDISK}),
        "then-leg-gzip-not": then(load_u, u=linux("kernel", "-C", "gzip", "-a", "0x48000000", "-e", "0x48000000")),
        "then-leg-gzip-cut": then(load_u, u=linux("kernel", "-C", "gzip", "-a", "0x48000000", "-e", "0x48000000", content=gzip.compress(KERNEL)[:-30])),
        "then-leg-data": then(load_u, u=changed(linux("kernel", *at_48), 900, 1)),
        "then-leg-data-unverified": then("setenv verify n\n" + load_u, u=changed(linux("kernel", *at_48), 900, 1)),
        "then-leg-overwritten": then("load virtio 0:1 0x50000000 /u\nload virtio 0:1 0x50000900 /r.gz\nbootm 0x50000000 - ${fdt_addr}", u=linux("kernel", *at_48), **{"r.gz": RAMDISK}),
        "then-leg-arch": then(load_u, u=legacy(KERNEL, "-A", "x86", "-O", "linux", "-T", "kernel", *at_48)),
        "then-leg-type": then(load_u, u=linux("firmware", *at_48)),
        "then-leg-entry": then(load_u, u=linux("kernel", "-C", "none", "-a", "0x48000000", "-e", "0x4f000000")),
        "then-leg-load": then(load_u, u=linux("kernel", "-C", "none", "-a", "0x1000", "-e", "0x1000")),
        "then-leg-noload": then(load_u, u=linux("kernel_noload", "-C", "none", "-a", "0", "-e", "0")),
        "then-fit-hash": then(FIT + " - ${fdt_addr}", **{"x.itb": changed(fit(), 3000, 1)}),
        "then-fit-gzip-cut": then(FIT + " - ${fdt_addr}", **{"x.itb": fit(gzip.compress(KERNEL)[:-30], 'compression = "gzip"; load = <0x48000000>; entry = <0x48000000>;')}),
        "then-fit-lz4-word": then(FIT + " - ${fdt_addr}", **{"x.itb": fit(KERNEL, 'compression = "lz4"; load = <0x48000000>; entry = <0x48000000>;')}),
        "then-fit-entry": then(FIT + " - ${fdt_addr}", **{"x.itb": fit(properties='compression = "none"; load = <0x48000000>; entry = <0x4f000000>;')}),
        "then-fit-load": then(FIT + " - ${fdt_addr}", **{"x.itb": fit(properties='compression = "none"; load = <0>; entry = <0>;')}),
        "then-fit-tree-missing": then(FIT, **{"x.itb": fit(configurations=words_.replace('"t"', '"z"'), more=TREE_PART)}),
        "then-fit-tree-arch": then(FIT, **{"x.itb": fit(configurations=words_, more=TREE_PART.replace('"arm64"', '"x86"', 1))}),
        "then-fit-ramdisk-os": then(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; ramdisk = "r"; };', more=parts.replace('"linux"', '"netbsd"'))}),
        "then-fit-no-tree": then(FIT, **{"x.itb": fit()}),
        "then-ext-refused": ext("label a\n\tkernel /u\n" + behind, u=changed(KERNEL, 56, 1)),
        "then-ext-tree-cut": ext("label a\n\tkernel /Image\n\tfdt /t.dtb\n" + behind, **{"t.dtb": tree()[:100]}),
        "then-ext-tree-magic": ext("label a\n\tkernel /Image\n\tfdt /t.dtb\n" + behind, **{"t.dtb": changed(tree(), 0, 1)}),
        "then-ext-leg-load": ext("label a\n\tkernel /u\n" + behind, u=linux("kernel", "-C", "none", "-a", "0x1000", "-e", "0x1000")),
        "then-ext-third": ext("label a\n\tkernel /none\nlabel b\n\tkernel /u\nlabel c\n\tkernel /Image\n", u=linux("kernel", "-C", "none", "-a", "0x1000", "-e", "0x1000")),
    }
    for system in ("netbsd", "vxworks", "u-boot", "rtems", "plan9", "efi", "qnx", "ose", "freebsd", "openbsd", "solaris", "tee", "integrity", "openrtos", "arm-trusted-firmware", "dell"):
        out[f"then-leg-os-{system}"] = then(load_u, u=legacy(words(0x14000000) * 1024, "-A", "arm64", "-O", system, "-T", "kernel", *at_48))
    return out


def cases():
    """name -> files, or files and how the disk is made."""
    out = ended() | packed() | {
        "ext-plain": ext(EXT),
        "ext-no-default": ext(EXT.replace("default a\n", "")),
        "ext-default-unknown": ext(EXT.replace("default a", "default z")),
        "ext-second-label": ext(EXT.replace("/Image", "/none") + "label b\n\tkernel /Image\n"),
        "ext-default-second": ext("default b\nlabel a\n\tkernel /none\nlabel b\n\tkernel /Image\n"),
        "ext-menu-default": ext("label a\n\tkernel /none\nlabel b\n\tmenu default\n\tkernel /Image\n"),
        "ext-crlf": ext(EXT.replace("\n", "\r\n")),
        "ext-trailing-blank": ext(EXT.replace("/Image", "/Image ")),
        "ext-trailing-tab": ext(EXT.replace("/Image", "/Image\t")),
        "ext-upper": ext(EXT.upper().replace("/IMAGE", "/Image").replace("DEFAULT A", "DEFAULT A")),
        "ext-relative": ext(EXT.replace("/Image", "../Image")),
        "ext-relative-missing": ext(EXT.replace("/Image", "Image")),
        "ext-include": {"extlinux/extlinux.conf": b"include /more.conf\n", "more.conf": EXT.encode(), "Image": KERNEL},
        "ext-include-relative": {"extlinux/extlinux.conf": b"include more.conf\n", "extlinux/more.conf": EXT.encode(), "Image": KERNEL},
        "ext-include-missing": ext("include /none.conf\n" + EXT),
        "ext-include-missing-after": ext(EXT + "include /none.conf\n"),
        "ext-empty": ext(""),
        "ext-no-kernel": ext("label a\n\tappend x\n"),
        "ext-localboot": ext("label a\n\tlocalboot 1\n"),
        "ext-initrd": ext(EXT + "\tinitrd /r.gz\n", **{"r.gz": RAMDISK}),
        "ext-initrd-missing": ext(EXT + "\tinitrd /none.gz\n"),
        "ext-fdt-missing": ext(EXT + "\tfdt /none.dtb\n"),
        "ext-fdtdir-missing": ext(EXT + "\tfdtdir /none/\n"),
        "ext-unknown-word": ext("ui vesamenu.c32\nnonsense here\n" + EXT + "\tstrange word\n"),
        "ext-prompt": ext("prompt 1\ntimeout 20\n" + EXT),
        "ext-timeout": ext("timeout 30\n" + EXT),
        "ext-text-help": ext("label a\n\ttext help\n\tsome words\n\tendtext\n\tkernel /Image\n"),
        "ext-kernel-magic": ext(EXT, Image=changed(KERNEL, 56, 1)),
        "ext-kernel-empty": ext(EXT, Image=b""),
        "ext-kernel-short": ext(EXT, Image=KERNEL[:60]),
        "ext-kernel-gzip": ext(EXT, Image=gzip.compress(KERNEL)),
        "ext-kernel-legacy": ext(EXT, Image=legacy(KERNEL, "-A", "arm64", "-O", "linux", "-T", "kernel", "-C", "none", "-a", "0x48000000", "-e", "0x48000000")),
        "ext-kernel-fit": ext(EXT, Image=fit()),
        "ext-fit-config": ext(EXT.replace("/Image", "/Image#b"), Image=fit(configurations='default = "a"; a { kernel = "z"; }; b { kernel = "k"; };')),
        "ext-append-variable": ext(EXT.replace("root=/dev/vda2", "root=${bootdelay}")),
        "ext-boot-prefix": {"boot/extlinux/extlinux.conf": EXT.encode(), "Image": KERNEL},
        "ext-both-prefixes": {"extlinux/extlinux.conf": EXT.replace("/Image", "/none").encode(), "boot/extlinux/extlinux.conf": EXT.encode(), "Image": KERNEL},
        "ext-then-script": {"extlinux/extlinux.conf": EXT.replace("/Image", "/none").encode(), "boot.scr": image(LOAD + "booti 0x44000000 - ${fdt_addr}"), "Image": KERNEL},
        "scr-plain": script(LOAD + "booti 0x44000000 - ${fdt_addr}"),
        "scr-fdtcontroladdr": script(LOAD + "booti 0x44000000 - ${fdtcontroladdr}"),
        "scr-no-tree": script(LOAD + "booti 0x44000000"),
        "scr-missing": script("load virtio 0:1 0x44000000 /none\nbooti 0x44000000 - ${fdt_addr}"),
        "scr-ramdisk": script(LOAD + "load virtio 0:1 0x46000000 /r.gz\nbooti 0x44000000 0x46000000:${filesize} ${fdt_addr}", **{"r.gz": RAMDISK}),
        "scr-ramdisk-no-size": script(LOAD + "load virtio 0:1 0x46000000 /r.gz\nbooti 0x44000000 0x46000000 ${fdt_addr}", **{"r.gz": RAMDISK}),
        "scr-ramdisk-missing": script(LOAD + "load virtio 0:1 0x46000000 /none\nbooti 0x44000000 0x46000000:${filesize} ${fdt_addr}"),
        "scr-tree-missing": script(LOAD + "load virtio 0:1 0x46000000 /none.dtb\nbooti 0x44000000 - 0x46000000"),
        "scr-tree": script(LOAD + "load virtio 0:1 0x46000000 /t.dtb\nbooti 0x44000000 - 0x46000000", **{"t.dtb": tree()}),
        "scr-tree-magic": script(LOAD + "load virtio 0:1 0x46000000 /t.dtb\nbooti 0x44000000 - 0x46000000", **{"t.dtb": changed(tree(), 0, 1)}),
        "scr-tree-cut": script(LOAD + "load virtio 0:1 0x46000000 /t.dtb\nbooti 0x44000000 - 0x46000000", **{"t.dtb": tree()[:100]}),
        "scr-overlap": script(LOAD + "load virtio 0:1 0x44000020 /r.gz\nbooti 0x44000000 - ${fdt_addr}", **{"r.gz": RAMDISK}),
        "scr-crc": {"boot.scr": changed(image(LOAD + "booti 0x44000000 - ${fdt_addr}"), 80, 1), "Image": KERNEL},
        "scr-header": {"boot.scr": changed(image(LOAD + "booti 0x44000000 - ${fdt_addr}"), 10, 1), "Image": KERNEL},
        "scr-text": {"boot.scr": (LOAD + "booti 0x44000000 - ${fdt_addr}").encode(), "Image": KERNEL},
        "scr-type": {"boot.scr": legacy(b"x", "-A", "arm64", "-T", "firmware"), "Image": KERNEL},
        "scr-other-arch": {"boot.scr": legacy((LOAD + "booti 0x44000000 - ${fdt_addr}").encode(), "-A", "x86", "-T", "script", "-C", "none"), "Image": KERNEL},
        "scr-nothing": script("echo nothing"),
        "scr-run-missing": script("run none"),
        "scr-uimg-first": {"boot.scr.uimg": image(LOAD + "booti 0x44000000 - ${fdt_addr}"), "boot.scr": image("reset"), "Image": KERNEL},
        "scr-falls-to-next": {"boot.scr.uimg": image("echo no"), "boot.scr": image(LOAD + "booti 0x44000000 - ${fdt_addr}"), "Image": KERNEL},
        "scr-variables": script("load ${devtype} ${devnum}:${distro_bootpart} ${kernel_addr_r} ${prefix}Image\nbooti ${kernel_addr_r} - ${fdt_addr}"),
        "scr-gzip": script("load virtio 0:1 0x44000000 /Image.gz\nbooti 0x44000000 - ${fdt_addr}", **{"Image.gz": gzip.compress(KERNEL)}),
        "scr-gzip-room": script("setenv kernel_comp_addr_r 0x58000000\nsetenv kernel_comp_size 0x100000\nload virtio 0:1 0x44000000 /Image.gz\nbooti 0x44000000 - ${fdt_addr}", **{"Image.gz": gzip.compress(KERNEL)}),
        "scr-verify-no": {"boot.scr": image("setenv verify n\n" + FIT), "x.itb": changed(fit(), 2000, 1)},
        "scr-syntax": script("if true; then\n" + LOAD),
        "scr-unknown-command": script("frobnicate\n" + LOAD + "booti 0x44000000 - ${fdt_addr}"),
        "scr-boot-partition": script("load virtio 0 0x44000000 /Image\nbooti 0x44000000 - ${fdt_addr}"),
        "leg-plain": script("load virtio 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdt_addr}", u=legacy(KERNEL, "-A", "arm64", "-O", "linux", "-T", "kernel", "-C", "none", "-a", "0x48000000", "-e", "0x48000000")),
        "leg-gzip": script("load virtio 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdt_addr}", u=legacy(gzip.compress(KERNEL), "-A", "arm64", "-O", "linux", "-T", "kernel", "-C", "gzip", "-a", "0x48000000", "-e", "0x48000000")),
        "leg-gzip-not": script("load virtio 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdt_addr}", u=legacy(KERNEL, "-A", "arm64", "-O", "linux", "-T", "kernel", "-C", "gzip", "-a", "0x48000000", "-e", "0x48000000")),
        "leg-arch": script("load virtio 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdt_addr}", u=legacy(KERNEL, "-A", "x86", "-O", "linux", "-T", "kernel", "-C", "none", "-a", "0x48000000", "-e", "0x48000000")),
        "leg-data": script("load virtio 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdt_addr}", u=changed(legacy(KERNEL, "-A", "arm64", "-O", "linux", "-T", "kernel", "-C", "none", "-a", "0x48000000", "-e", "0x48000000"), 900, 1)),
        "leg-entry-outside": script("load virtio 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdt_addr}", u=legacy(KERNEL, "-A", "arm64", "-O", "linux", "-T", "kernel", "-C", "none", "-a", "0x48000000", "-e", "0x4f000000")),
        "leg-load-outside": script("load virtio 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdt_addr}", u=legacy(KERNEL, "-A", "arm64", "-O", "linux", "-T", "kernel", "-C", "none", "-a", "0x1000", "-e", "0x1000")),
        "leg-noload": script("load virtio 0:1 0x50000000 /u\nbootm 0x50000000 - ${fdt_addr}", u=legacy(KERNEL, "-A", "arm64", "-O", "linux", "-T", "kernel_noload", "-C", "none", "-a", "0", "-e", "0")),
        "leg-ramdisk": script("load virtio 0:1 0x50000000 /u\nload virtio 0:1 0x46000000 /r\nbootm 0x50000000 0x46000000 ${fdt_addr}", r=legacy(RAMDISK, "-A", "arm64", "-O", "linux", "-T", "ramdisk", "-C", "none"), u=legacy(KERNEL, "-A", "arm64", "-O", "linux", "-T", "kernel", "-C", "none", "-a", "0x48000000", "-e", "0x48000000")),
        "leg-ramdisk-data": script("load virtio 0:1 0x50000000 /u\nload virtio 0:1 0x46000000 /r\nbootm 0x50000000 0x46000000 ${fdt_addr}", r=changed(legacy(RAMDISK, "-A", "arm64", "-O", "linux", "-T", "ramdisk", "-C", "none"), 70, 1), u=legacy(KERNEL, "-A", "arm64", "-O", "linux", "-T", "kernel", "-C", "none", "-a", "0x48000000", "-e", "0x48000000")),
        "fit-plain": script(FIT + " - ${fdt_addr}", **{"x.itb": fit()}),
        "fit-no-tree-given": script(FIT, **{"x.itb": fit()}),
        "fit-own-tree": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; };', more=TREE_PART)}),
        "fit-external": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(arguments=("-E",))}),
        "fit-external-place": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(arguments=("-E", "-p", "0x8000"))}),
        "fit-gzip": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(gzip.compress(KERNEL), 'compression = "gzip"; load = <0x48000000>; entry = <0x48000000>;')}),
        "fit-gzip-damaged": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(gzip.compress(KERNEL)[:-30], 'compression = "gzip"; load = <0x48000000>; entry = <0x48000000>;')}),
        "fit-lz4-word": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(KERNEL, 'compression = "lz4"; load = <0x48000000>; entry = <0x48000000>;')}),
        "fit-no-load": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(properties='compression = "none";')}),
        "fit-no-compression": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(properties='load = <0x48000000>; entry = <0x48000000>;')}),
        "fit-hash": script(FIT + " - ${fdt_addr}", **{"x.itb": changed(fit(), 3000, 1)}),
        "fit-no-hash": script(FIT + " - ${fdt_addr}", **{"x.itb": changed(fit(hashes=""), 60000, 1)}),
        "fit-crc32": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(hashes='hash-1 { algo = "crc32"; }; hash-2 { algo = "md5"; }; hash-3 { algo = "sha1"; };')}),
        "fit-config-name": script(BEST + "#b - ${fdt_addr}", **{"x.itb": fit(configurations='default = "a"; a { kernel = "z"; }; b { kernel = "k"; };')}),
        "fit-config-missing": script(BEST + "#c - ${fdt_addr}", **{"x.itb": fit()}),
        "fit-default-missing": script(BEST + " - ${fdt_addr}", **{"x.itb": fit(configurations='default = "z"; a { kernel = "k"; };')}),
        "fit-no-default": script(BEST + " - ${fdt_addr}", **{"x.itb": fit(configurations='a { kernel = "k"; };')}),
        "fit-best-match": script(BEST, **{"x.itb": fit(configurations='default = "a"; a { kernel = "z"; fdt = "u"; }; b { kernel = "k"; fdt = "t"; };', more=TREE_PART)}),
        "fit-compatible": script(BEST + " - ${fdt_addr}", **{"x.itb": fit(configurations='default = "a"; a { kernel = "z"; }; b { kernel = "k"; compatible = "linux,dummy-virt"; };')}),
        "fit-default": script(BEST + " - ${fdt_addr}", **{"x.itb": fit()}),
        "fit-ramdisk": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; ramdisk = "r"; };', more=RAM_PART)}),
        "fit-ramdisk-missing": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; ramdisk = "z"; };')}),
        "fit-tree-missing": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "z"; };')}),
        "fit-type": script(FIT + " - ${fdt_addr}", **{"x.itb": fit().replace(b"kernel\0\0", b"kernal\0\0", 1)}),
        "fit-kernel-arch": script(FIT + " - ${fdt_addr}", **{"x.itb": fit().replace(b"arm64\0", b"armxx\0", 1)}),
        "fit-kernel-os": script(FIT + " - ${fdt_addr}", **{"x.itb": fit().replace(b"linux\0", b"netbs\0", 1)}),
        "fit-kernel-no-type": script(FIT + " - ${fdt_addr}", **{"x.itb": fit().replace(b"type\0", b"typo\0", 1)}),
        "fit-no-description": script(FIT + " - ${fdt_addr}", **{"x.itb": fit().replace(b"description\0", b"descriptoon\0", 1)}),
        "fit-no-timestamp": script(FIT + " - ${fdt_addr}", **{"x.itb": fit().replace(b"timestamp\0", b"timestomp\0", 1)}),
        "fit-ramdisk-type": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; ramdisk = "r"; };', more=TREE_PART + RAM_PART.replace('"ramdisk"; arch', '"standalone"; arch'))}),
        "fit-ramdisk-os": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; ramdisk = "r"; };', more=TREE_PART + RAM_PART.replace('"linux"', '"netbsd"'))}),
        "fit-ramdisk-no-os": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; ramdisk = "r"; };', more=TREE_PART + RAM_PART.replace(' os = "linux";', ''))}),
        "fit-ramdisk-arch": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; ramdisk = "r"; };', more=TREE_PART + RAM_PART.replace('"arm64"', '"x86"'))}),
        "fit-ramdisk-whole": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; ramdisk = "r"; };', more=TREE_PART + RAM_PART)}),
        "fit-ramdisk-gone": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; ramdisk = "z"; };', more=TREE_PART)}),
        "fit-ramdisk-packed": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; ramdisk = "r"; };', more=TREE_PART + RAM_PART.replace('"none"', '"gzip"'))}),
        "fit-ramdisk-load": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; ramdisk = "r"; };', more=TREE_PART + RAM_PART.replace('compression', 'load = <0x1000>; compression'))}),
        "fit-tree-type": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; };', more=TREE_PART.replace('"flat_dt"', '"script"', 1))}),
        "fit-tree-arch": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; };', more=TREE_PART.replace('"arm64"', '"x86"', 1))}),
        "fit-hash-unknown": script(FIT + " - ${fdt_addr}", **{"x.itb": fit().replace(b"sha256\0", b"sha257\0", 1)}),
        "fit-hash-no-value": script(FIT + " - ${fdt_addr}", **{"x.itb": fit().replace(b"value\0", b"valoe\0", 1)}),
        "fit-hash-no-algo": script(FIT + " - ${fdt_addr}", **{"x.itb": fit().replace(b"algo\0", b"olgo\0", 1)}),
        "fit-no-kernel-property": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(configurations='default = "a"; a { fdt = "t"; };', more=TREE_PART)}),
        "fit-two-trees": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t", "u"; };', more=TREE_PART)}),
        "fit-loadables": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t"; loadables = "z"; };', more=TREE_PART)}),
        "raw-kernel": script("virtio read 0x44000000 0x7800 0x80\nbooti 0x44000000 - ${fdt_addr}", **{"@30720": KERNEL}),
        "raw-kernel-device": script("virtio dev 0\nvirtio read 0x44000000 0x7800 0x80\nbooti 0x44000000 - ${fdt_addr}", **{"@30720": KERNEL}),
        "raw-kernel-read": script("read virtio 0 0x44000000 0x7800 0x80\nbooti 0x44000000 - ${fdt_addr}", **{"@30720": KERNEL}),
        "raw-kernel-part": script("read virtio 0:1 0x44000000 0x7000 0x80\nbooti 0x44000000 - ${fdt_addr}", **{"@30720": KERNEL}),
        "raw-other-sectors": script("virtio read 0x44000000 0x7900 0x80\nbooti 0x44000000 - ${fdt_addr}", **{"@30720": KERNEL}),
        "raw-behind": script("virtio read 0x44000000 0xbfff 0x80\nbooti 0x44000000 - ${fdt_addr}"),
        "mem-copied": script("load virtio 0:1 0x50000000 /Image\ncp.b 0x50000000 0x44000000 ${filesize}\nbooti 0x44000000 - ${fdt_addr}"),
        "mem-copied-in-part": script("load virtio 0:1 0x50000000 /Image\ncp.b 0x50000000 0x44000000 0x30\nbooti 0x44000000 - ${fdt_addr}"),
        "mem-changed": script(LOAD + "mw.b 0x44000030 0 4\nbooti 0x44000000 - ${fdt_addr}"),
        "mem-mark-changed": script(LOAD + "mw.b 0x44000038 0 4\nbooti 0x44000000 - ${fdt_addr}"),
        "mem-unzipped": script("load virtio 0:1 0x50000000 /Image.gz\nunzip 0x50000000 0x44000000\nbooti 0x44000000 - ${fdt_addr}", **{"Image.gz": gzip.compress(KERNEL)}),
        "mem-unzipped-damaged": script("load virtio 0:1 0x50000000 /Image.gz\nunzip 0x50000000 0x44000000 && booti 0x44000000 - ${fdt_addr}", **{"Image.gz": gzip.compress(KERNEL)[:-30]}),
        "mem-lzma": script("load virtio 0:1 0x50000000 /Image.lzma\nlzmadec 0x50000000 0x44000000\nbooti 0x44000000 - ${fdt_addr}", **{"Image.lzma": lzma.compress(KERNEL, lzma.FORMAT_ALONE)}),
        "mem-extracted": script("load virtio 0:1 0x50000000 /m\nimxtract 0x50000000 0 0x44000000\nbooti 0x44000000 - ${fdt_addr}", m=legacy(KERNEL, "-A", "arm64", "-O", "linux", "-T", "multi", "-C", "none")),
        "mem-extracted-tree": script("load virtio 0:1 0x50000000 /x.itb\nimxtract 0x50000000 k 0x44000000\nbooti 0x44000000 - ${fdt_addr}", **{"x.itb": fit()}),
        "mem-extracted-hash": script("load virtio 0:1 0x50000000 /x.itb\nimxtract 0x50000000 k 0x44000000 && booti 0x44000000 - ${fdt_addr}", **{"x.itb": changed(fit(), 3000, 1)}),
        "mem-over-it-later": script(LOAD + "load virtio 0:1 0x44000000 /t.dtb\nload virtio 0:1 0x44000000 /Image\nbooti 0x44000000 - ${fdt_addr}", **{"t.dtb": tree()}),
        "mem-image-info": script(LOAD.replace("/Image", "/x.itb") + "iminfo 0x44000000 && bootm 0x44000000#a - ${fdt_addr}", **{"x.itb": fit()}),
        "fit-name-at": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(configurations='default = "a"; a { kernel = "k@1"; };', name="k@1")}),
        "fit-tree-name-at": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t@1"; };', more=TREE_PART.replace("t {", "t@1 {", 1))}),
        "fit-config-name-at": script(BEST + "#a@1 - ${fdt_addr}", **{"x.itb": fit(configurations='default = "a@1"; a@1 { kernel = "k"; };')}),
        "fit-overlay": script(FIT, **{"x.itb": fit(configurations='default = "a"; a { kernel = "k"; fdt = "t", "o"; };', more=TREE_PART + OVERLAY_PART)}),
        "fit-noload": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(properties='compression = "none"; load = <0>; entry = <0>;').replace(b"kernel\0\0", b"kernel\0\0")}),
        "fit-kernel-noload": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(kind="kernel_noload", properties='compression = "none"; load = <0>; entry = <0>;')}),
        "fit-kernel-noload-gzip": script(FIT + " - ${fdt_addr}", **{"x.itb": fit(gzip.compress(KERNEL), kind="kernel_noload", properties='compression = "gzip"; load = <0>; entry = <0>;')}),
        "fdt-apply": script(LOAD + "load virtio 0:1 0x46000000 /t.dtb\nfdt addr 0x46000000\nfdt resize 0x1000\nload virtio 0:1 0x47000000 /o.dtbo\nfdt apply 0x47000000\nbooti 0x44000000 - 0x46000000", **{"t.dtb": tree(), "o.dtbo": overlay()}),
        "fdt-resize": script(LOAD + "load virtio 0:1 0x46000000 /t.dtb\nfdt addr 0x46000000\nfdt resize 0x1000\nbooti 0x44000000 - 0x46000000", **{"t.dtb": tree()}),
        "fdt-get": script(LOAD + "load virtio 0:1 0x46000000 /t.dtb\nfdt addr 0x46000000\nfdt get value c / compatible\nif test \"$c\" = linux,dummy-virt; then booti 0x44000000 - 0x46000000; fi", **{"t.dtb": tree()}),
        "fdt-get-cell": script(LOAD + "load virtio 0:1 0x46000000 /t.dtb\nfdt addr 0x46000000\nfdt get value c / '#address-cells'\nif test \"$c\" = 0x00000002; then booti 0x44000000 - 0x46000000; fi", **{"t.dtb": tree()}),
        "fit-cut": script(FIT + " - ${fdt_addr}", **{"x.itb": fit()[:2000]}),
        "gpt-esp": (ext(EXT), "gpt", "type=uefi"),
        "gpt-linux": (ext(EXT), "gpt", "type=linux"),
        "gpt-attribute": (ext(EXT), "gpt", "type=linux, attrs=LegacyBIOSBootable"),
        "gpt-second": (ext(EXT), "gpt-second", "type=linux"),
        "gpt-second-attribute": (ext(EXT), "gpt-second", "type=linux, attrs=LegacyBIOSBootable"),
        "gpt-second-esp": (ext(EXT), "gpt-second", "type=uefi"),
        "mbr-inactive": (ext(EXT), "mbr", "type=c"),
        "mbr-second": (ext(EXT), "mbr-second", "type=c"),
        "mbr-second-active": (ext(EXT), "mbr-second", "type=c, bootable"),
        "no-table-fat": (ext(EXT), "none", ""),
        "ext4-volume": (ext(EXT), "ext4", "type=83, bootable"),
    }
    return {name: one if isinstance(one, tuple) else (one, "mbr", "type=c, bootable") for name, one in out.items()}


def make_disk(path, files, how, words_):
    with tempfile.TemporaryDirectory() as folder:
        content = os.path.join(folder, "content")
        top = pathlib.Path(folder) / "top"
        top.mkdir()
        for name, one in files.items():
            if name.startswith("@"):
                continue
            at = top / name
            at.parent.mkdir(parents=True, exist_ok=True)
            at.write_bytes(one)
        if how == "ext4":
            run("mke2fs", "-q", "-t", "ext4", "-d", top, content, "14M")
        else:
            run("mkfs.fat", "-C", "-F", "16", content, 14 * 1024)
            for name in sorted(os.listdir(top)):
                run("mcopy", "-s", "-i", content, top / name, f"::{name}")
        data = pathlib.Path(content).read_bytes()
        with open(path, "wb") as disk:
            disk.truncate(24 << 20)
        start = 2048
        if how == "none":
            start = 0
        else:
            lines = [f"label: {'gpt' if how.startswith('gpt') else 'dos'}"]
            if how.endswith("second"):
                start = 8192
                lines.append("start=2048, size=4096, type=" + ("linux" if how.startswith("gpt") else "83"))
            lines.append(f"start={start}, size=28672, {words_}")
            run("sfdisk", path, input="\n".join(lines).encode() + b"\n")
        with open(path, "r+b") as disk:
            disk.seek(start * 512)
            disk.write(data)
            # "@30720": not in a file, but from this sector on.
            for name, one in files.items():
                if name.startswith("@"):
                    disk.seek(int(name[1:]) * 512)
                    disk.write(one)


def really(uboot, disk):
    process = subprocess.Popen(
        ["qemu-system-aarch64", "-machine", "virt", "-cpu", "cortex-a57", "-m", "512", "-nographic", "-nic", "none", "-no-reboot",
         "-bios", uboot, "-drive", f"file={disk},format=raw,if=none,id=d", "-device", "virtio-blk-device,drive=d"],
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    seen, end = "", time.time() + 40
    try:
        while time.time() < end:
            ready, _, _ = select.select([process.stdout], [], [], max(0.0, end - time.time()))
            part = os.read(process.stdout.fileno(), 65536).decode(errors="replace") if ready else ""
            if not part:
                break
            seen += part
            if "KERNEL-UP" in seen:
                return True, seen
            if "\n=> " in seen:
                return False, seen
    finally:
        process.kill()
        process.wait()
    return False, seen


def ours(tool, disk):
    done = subprocess.run([tool, "check", "--format", "json", "--firmware", "board:uboot-qemu-arm64", disk], capture_output=True, text=True)
    system = json.loads(done.stdout)["systems"][0]
    stages = {one["stage"]: one for one in system["stages"]}
    started = stages["kernel"]["state"] in ("holds", "doubtful", "unknown")
    stop = system["stops_at"]
    return started, f"{stop}: {stages[stop]['text']}" if stop else "no stop"


def main():
    options = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    options.add_argument("cases", nargs="*", metavar="CASE", help="beginnings of names; none: all")
    options.add_argument("--tool", default=str(ROOT / "build/release/tool/herberge"))
    options.add_argument("--uboot", default="/usr/lib/u-boot/qemu_arm64/u-boot.bin")
    given = options.parse_args()
    agree = every = 0
    with tempfile.TemporaryDirectory() as folder:
        for name, (files, how, text) in cases().items():
            if given.cases and not any(name.startswith(one) for one in given.cases):
                continue
            disk = os.path.join(folder, "disk.img")
            make_disk(disk, files, how, text)
            real, screen = really(given.uboot, disk)
            mine, why = ours(given.tool, disk)
            every += 1
            agree += real == mine
            if real != mine:
                tail = " | ".join(line.strip() for line in screen.replace("\r", "").splitlines() if line.strip())[-300:]
                print(f"{name}: really {'starts' if real else 'does not start'}, ours {why}\n    {tail}", flush=True)
    print(f"{agree} of {every} disks agree")
    return 0 if agree == every else 1


if __name__ == "__main__":
    sys.exit(main())
