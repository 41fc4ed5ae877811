#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Media and layered disks that real tools made and that a real machine starts: none may be called broken.

Media: GRUB's rescue images (as disk, disc and floppy; modules plain, gzip, xz), discs with the packaged installer's kernel
and RAM disk under GRUB and ISOLINUX, the memory test and the network boot program. Each is started in a virtual PC; what its
screen or serial line shows proves that it starts. Layers: LUKS made on plain files; `check` of a disk whose
root lies there must say "unknown", name the layer, and never a break.

usage: media-and-layers.py [--tool PATH] [--no-boot] [name ...]
Exit status: 0 all agree, 1 some differ, 77 something is missing."""
import argparse, json, os, shutil, struct, subprocess, sys, tempfile, time

here = os.path.dirname(os.path.abspath(__file__))
parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
parser.add_argument("--tool", default=os.path.join(here, "..", "build", "release", "tool", "herberge"))
parser.add_argument("--no-boot", action="store_true", help="only what check says; nothing is started")
parser.add_argument("names", nargs="*")
args = parser.parse_args()

programs = ["qemu-system-x86_64", "grub-mkrescue", "xorriso", "cryptsetup", "mke2fs"]
files = ["/usr/lib/ISOLINUX/isolinux.bin", "/usr/lib/syslinux/modules/bios/ldlinux.c32", "/boot/memtest86+x64.bin", "/usr/lib/memtest86+/memtest86+x64.iso",
         "/boot/ipxe.lkrn", "/usr/lib/ipxe/ipxe.iso", "/usr/lib/grub-rescue/grub-rescue-cdrom.iso", "/usr/lib/grub-rescue/grub-rescue-floppy.img"]
path = os.environ["PATH"] + ":/usr/sbin:/sbin"
missing = [p for p in programs if not shutil.which(p, path=path)] + [f for f in files if not os.path.exists(f)]
if missing:
    print("missing:", " ".join(missing))
    sys.exit(77)
os.environ["PATH"] = path

work = tempfile.mkdtemp()
failures = 0


def run(*command, **more):
    return subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=work, **more)


def wanted(name):
    return not args.names or any(name.startswith(n) for n in args.names)


def package(name):
    """A package's files, fetched and unpacked."""
    run("apt-get", "download", name)
    deb = next(f for f in os.listdir(work) if f.startswith(name + "_") and f.endswith(".deb"))
    run("dpkg-deb", "-x", deb, name)
    return os.path.join(work, name)


def judge(images, *options):
    done = subprocess.run([args.tool, "check", "--format", "json", *options, *images], capture_output=True, cwd=work)
    return json.loads(done.stdout), done.returncode


def screen_of(drive, serial, expected, seconds=180):
    """Starts a machine until one of the texts stands on its screen or serial line."""
    memory, line = os.path.join(work, "screen.raw"), os.path.join(work, "serial.txt")
    for f in (memory, line):
        if os.path.exists(f):
            os.remove(f)
    machine = subprocess.Popen(["qemu-system-x86_64", "-accel", "tcg", "-m", "768", *drive, "-display", "none", "-monitor", "stdio", "-serial", "file:" + line,
                                "-net", "none", "-no-reboot"], stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, text=True, cwd=work)
    shown = ""
    end = time.time() + seconds
    try:
        while time.time() < end and machine.poll() is None:
            time.sleep(1)
            machine.stdin.write(f"pmemsave 0xb8000 4000 \"{memory}\"\n")
            machine.stdin.flush()
            time.sleep(0.3)
            raw = open(memory, "rb").read() if os.path.exists(memory) else b""
            shown = "".join(chr(c) if 32 <= c < 127 else " " for c in raw[::2])
            if os.path.exists(line):
                shown += open(line, "rb").read().decode("latin-1")
            if any(e in shown for e in expected):
                return True, shown
    finally:
        machine.kill()
        machine.wait()
    return False, shown


def tell(name, problem=None):
    global failures
    print(f"{name:34} {'agrees' if not problem else 'DIFFERS: ' + problem}", flush=True)
    failures += bool(problem)


# --- media --------------------------------------------------------------------------------------------------------------

def medium(name, image, expected, modes, may_be=("yes", "unknown")):
    """modes: "disk", "disc", "floppy"."""
    for mode in modes:
        full = f"{name} as {mode}"
        if not wanted(full):
            continue
        verdict, status = judge([image], *(["--optical"] if mode == "disc" else []))
        said = [(s["name"], s["starts"], s["stops_at"], (s["stages"] and [x["text"] for x in s["stages"] if x["state"] == "breaks"])) for s in verdict["systems"]]
        problem = None
        if any(s[1] not in may_be for s in said):
            problem = f"said {said}"
        if not args.no_boot:
            drive = {"disk": ["-drive", f"file={image},format=raw,if=ide,snapshot=on"], "disc": ["-cdrom", image, "-boot", "d"],
                     "floppy": ["-drive", f"file={image},format=raw,if=floppy,snapshot=on", "-boot", "a"]}[mode]
            started, shown = screen_of(drive, True, expected)
            if not started:
                problem = (problem or "") + " the real machine did not show " + " or ".join(expected) + ": " + " ".join(shown.split())[-200:]
        tell(full, problem)


def media():
    for file in ("grub-rescue-cdrom.iso", "grub-rescue-floppy.img"):
        shutil.copy("/usr/lib/grub-rescue/" + file, work)
    medium("grub-rescue-cdrom", "grub-rescue-cdrom.iso", ["GNU GRUB", "GNU/Linux"], ["disk", "disc"])
    medium("grub-rescue-floppy", "grub-rescue-floppy.img", ["GNU GRUB", "GNU/Linux"], ["disk", "floppy"])
    for name, source, text in (("memory-test", "/usr/lib/memtest86+/memtest86+x64.iso", "Memtest86+"), ("network-boot", "/usr/lib/ipxe/ipxe.iso", "iPXE")):
        shutil.copy(source, os.path.join(work, name + ".iso"))
        medium(name, name + ".iso", [text], ["disc"] + (["disk"] if name == "network-boot" else []))
    if not any(wanted(n) for n in ("installer", "rescue")):
        return
    tree = package("debian-installer-12-netboot-amd64") + "/usr/lib/debian-installer/images/12/amd64/text/debian-installer/amd64"
    boot = os.path.join(work, "tree", "boot", "grub")
    os.makedirs(boot)
    for source, target in ((tree + "/linux", "linux"), (tree + "/initrd.gz", "initrd.gz"), ("/boot/memtest86+x64.bin", "memtest"), ("/boot/ipxe.lkrn", "ipxe.lkrn")):
        shutil.copy(source, os.path.join(work, "tree", "boot", target))
    entries = {"installer": "linux /boot/linux console=ttyS0\n initrd /boot/initrd.gz", "memory-test": "linux /boot/memtest", "network-boot": "linux16 /boot/ipxe.lkrn"}
    text = {"installer": "Linux version", "memory-test": "Memtest86+", "network-boot": "iPXE"}
    for compress in ("no", "gz", "xz"):
        for first, body in entries.items():
            if compress != "no" and first != "installer":
                continue
            with open(os.path.join(boot, "grub.cfg"), "w") as config:
                config.write("set timeout=1\n" + f"menuentry '{first}' {{\n {body}\n}}\n")
            name = f"rescue-{compress}-{first}"
            run("grub-mkrescue", "--compress=" + compress, "-o", name + ".iso", "tree")
            medium(name, name + ".iso", [text[first]], ["disk", "disc"])
    shutil.copytree(os.path.join(work, "tree", "boot"), os.path.join(work, "tree2", "isolinux"))
    for source in ("/usr/lib/ISOLINUX/isolinux.bin", "/usr/lib/syslinux/modules/bios/ldlinux.c32"):
        shutil.copy(source, os.path.join(work, "tree2", "isolinux"))
    lines = {"installer": " KERNEL linux\n APPEND initrd=initrd.gz console=ttyS0", "memory-test": " KERNEL memtest", "network-boot": " KERNEL ipxe.lkrn"}
    for first, body in lines.items():
        with open(os.path.join(work, "tree2", "isolinux", "isolinux.cfg"), "w") as config:
            config.write(f"DEFAULT a\nTIMEOUT 10\nLABEL a\n{body}\n")
        name = f"isolinux-{first}"
        run("xorriso", "-as", "mkisofs", "-o", name + ".iso", "-b", "isolinux/isolinux.bin", "-c", "isolinux/boot.cat", "-no-emul-boot", "-boot-load-size", "4",
            "-boot-info-table", "-isohybrid-mbr", "/usr/lib/ISOLINUX/isohdpfx.bin", "-J", "tree2")
        medium(name, name + ".iso", [text[first]], ["disk", "disc"])


# --- layers -------------------------------------------------------------------------------------------------------------

def disk_with(volume, name):
    """The front desk's disk, its root on a second partition that holds `volume`."""
    run(args.tool, "demo", "demo") if not os.path.isdir(os.path.join(work, "demo")) else None
    image = bytearray(open(os.path.join(work, "demo", "healthy.img"), "rb").read())
    content = open(os.path.join(work, volume), "rb").read()
    start = (len(image) + 0xFFFFF) // 0x100000 * 2048
    image.extend(bytes(start * 512 - len(image)))
    image.extend(content)
    image[446 + 32:446 + 48] = struct.pack("<B3sB3sII", 0, b"\xfe\xff\xff", 0x83, b"\xfe\xff\xff", start, len(content) // 512)
    open(os.path.join(work, name), "wb").write(image)
    return name


def layer(name, volume, kind, identifiers):
    if not wanted("layer " + name):
        return
    image = disk_with(volume, name + ".img")
    layout = json.loads(subprocess.run([args.tool, "layout", "--format", "json", image], capture_output=True, cwd=work, check=True).stdout)
    found = next(p for p in layout["disks"][0]["partitions"] if p["place"] == "d1p3")
    problem = None if found["file_system"] == kind else f"recognised as {found['file_system']}"
    # Where the menu's root= and fstab lead into it.
    for root in identifiers:
        changed = bytearray(open(os.path.join(work, image), "rb").read())
        old = b"root=UUID=a1b0f000-0001-4a01-8a01-00000a1b0f01"
        new = ("root=" + root).encode().ljust(len(old))
        assert len(new) == len(old) and old in changed
        open(os.path.join(work, "changed.img"), "wb").write(changed.replace(old, new))
        verdict, status = judge(["changed.img"])
        # The system that stays on the first partition is one that no entry starts any more; that is so.
        broken = [(s["name"], s["stops_at"]) for s in verdict["systems"] if s["starts"] == "no" and s["stops_at"] != "entry"]
        breaks = [f["code"] for f in verdict["findings"] if f["severity"] == "breaks" and f["code"] != "entry-none-for-system"]
        text = " ".join(x["text"] for s in verdict["systems"] for x in s["stages"])
        if broken or breaks or "d1p3" not in text:
            problem = (problem or "") + f" root={root}: said {broken} {breaks}, {text[-160:]}"
    tell("layer " + name, problem)


def layers():
    if not wanted("layer luks"):
        return
    with open(os.path.join(work, "luks"), "wb") as volume:
        volume.truncate(32 << 20)
    run("cryptsetup", "luksFormat", "--batch-mode", "--type", "luks2", "--pbkdf", "pbkdf2", "--iter-time", "50", "luks", "-", input=b"enzian")
    layer("luks2", "luks", "luks2", ["/dev/mapper/inn", "UUID=a1b0f000-0009-4a01-8a01-00000a1b0f09"])
    run("cryptsetup", "luksFormat", "--batch-mode", "--type", "luks1", "--iter-time", "50", "luks", "-", input=b"enzian")
    layer("luks1", "luks", "luks1", ["/dev/mapper/inn", "UUID=a1b0f000-0009-4a01-8a01-00000a1b0f09"])


try:
    media()
    layers()
finally:
    shutil.rmtree(work, ignore_errors=True)
print("all agree" if failures == 0 else f"{failures} differ")
sys.exit(1 if failures else 0)
