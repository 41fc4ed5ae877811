#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""What UEFI firmware of an arm64 machine starts from a disk, against the verdict.

usage: arm64-uefi.py [--tool PATH] [--packages DIR] [--uboot] [CASE ...]

Disks with Debian's GRUB, systemd-boot, shim, kernel and BusyBox for arm64, sound and broken, are started in an emulated arm64
machine (qemu-system-aarch64, qemu-efi-aarch64; no network) and read by `check --firmware board:uefi-arm64`. With --uboot it
is a board with U-Boot (u-boot-qemu), which starts the same applications: board:uboot-qemu-arm64. The packages come
from --packages (unpacked there, or to be downloaded there: the architecture must be known to dpkg). Further needed: dosfstools,
mtools, e2fsprogs, fdisk, cpio. Prints a line per case that differs, then the count; exit status: 0 none does, 1 some do, 77
something is missing.
"""
import argparse, gzip, json, os, pathlib, shutil, subprocess, sys, tempfile, threading, time

ROOT = pathlib.Path(__file__).resolve().parent.parent
PACKAGES = ("grub-efi-arm64-signed", "grub-efi-arm64-bin", "shim-signed", "systemd-boot-efi", "busybox-static", "linux-image-cloud-arm64")
ROOT_UUID = "5a1b0c00-1111-4222-8333-00000000aa64"
UP = "USERSPACE-UP"
UBOOT = "/usr/lib/u-boot/qemu_arm64/u-boot.bin"
KERNEL_RUNS = "Booting Linux on physical CPU"


def run(*words, **more):
    return subprocess.run(words, check=True, capture_output=True, **more)


def fetch(folder):
    folder.mkdir(parents=True, exist_ok=True)
    for name in PACKAGES:
        if any(folder.glob(f"*{name.replace('linux-image-cloud-arm64', 'linux-image-6')}*")):
            continue
        if name == "linux-image-cloud-arm64":
            shown = subprocess.run(["apt-cache", "depends", name + ":arm64"], capture_output=True, text=True).stdout
            name = next((w.split(":")[0] for w in shown.split() if w.startswith("linux-image-6")), name)
        got = subprocess.run(["apt-get", "download", name + ":arm64"], cwd=folder, capture_output=True)
        for package in folder.glob(f"{name}_*.deb"):
            run("dpkg-deb", "-x", str(package), str(folder / name))
        if got.returncode:
            sys.exit(print(f"{name} for arm64 cannot be fetched: nothing was compared") or 77)


class Parts:
    def __init__(self, folder):
        def find(pattern):
            return next(iter(sorted(folder.glob("**/" + pattern)))).read_bytes()
        self.grub = find("grubaa64.efi.signed")
        self.shim = find("shimaa64.efi.signed")
        self.systemd_boot = find("systemd-bootaa64.efi")
        self.kernel = find("vmlinuz-6*")
        self.busybox = find("bin/busybox")
        modules = ("virtio", "virtio_ring", "virtio_pci_legacy_dev", "virtio_pci_modern_dev", "virtio_pci", "virtio_blk")
        self.modules = {name: find(name + ".ko") for name in modules}
        self.release = next(iter(sorted(folder.glob("**/lib/modules/6*")))).name


def ramdisk(parts):
    with tempfile.TemporaryDirectory() as folder:
        top = pathlib.Path(folder)
        for name in ("bin", "dev", "proc", "sys", "root", f"lib/modules/{parts.release}/kernel/drivers"):
            (top / name).mkdir(parents=True)
        (top / "bin/busybox").write_bytes(parts.busybox)
        (top / "bin/busybox").chmod(0o755)
        os.symlink("busybox", top / "bin/sh")
        script = "#!/bin/busybox sh\nB=/bin/busybox\n$B mount -t proc proc /proc\n$B mount -t sysfs sys /sys\n$B mount -t devtmpfs dev /dev\n"
        for name, content in parts.modules.items():
            (top / f"lib/modules/{parts.release}/kernel/drivers/{name}.ko").write_bytes(content)
            script += f"$B insmod /lib/modules/{parts.release}/kernel/drivers/{name}.ko\n"
        script += ("for word in $($B cat /proc/cmdline); do case $word in root=*) root=${word#root=};; esac; done\n"
                   "n=0\nwhile [ $n -lt 8 ] && ! $B findfs $root >/dev/null 2>&1; do $B sleep 1; n=$((n+1)); done\n"
                   "$B mount -o ro $($B findfs $root) /root || $B echo 'no root was found'\nexec $B switch_root /root /sbin/init\n")
        (top / "init").write_text(script)
        (top / "init").chmod(0o755)
        names = "\n".join(str(p.relative_to(top)) for p in sorted(top.rglob("*"))).encode()
        return gzip.compress(run("cpio", "-o", "-H", "newc", "-R", "0:0", input=names, cwd=folder).stdout, mtime=0)


ENTRY = f"linux /boot/vmlinuz root=UUID={ROOT_UUID} ro console=ttyAMA0\n  initrd /boot/initrd.img\n"
GRUB_CFG = f"search --no-floppy --fs-uuid --set=root {ROOT_UUID}\nset timeout=0\nmenuentry 'Almhof' {{\n  {ENTRY}}}\n"
STUB = f"linux /vmlinuz\ninitrd /initrd.img\noptions root=UUID={ROOT_UUID} ro console=ttyAMA0\n"


def changed(content, at, new):
    return content[:at] + new + content[at + len(new):]


def cases(p):
    """name -> files of the system partition, and what differs on the root."""
    pe = int.from_bytes(p.kernel[0x3C:0x40], "little")
    grub = {"EFI/BOOT/BOOTAA64.EFI": p.grub, "EFI/debian/grub.cfg": GRUB_CFG.encode()}
    def sd(entry=STUB, **more):
        files = {"EFI/BOOT/BOOTAA64.EFI": p.systemd_boot, "loader/entries/inn.conf": ("title Almhof\n" + entry).encode(),
                 "loader/loader.conf": b"timeout 0\n", "vmlinuz": p.kernel, "initrd.img": p.initrd}
        files.update(more)
        return files
    def grub_with(text, **more):
        return {**grub, "EFI/debian/grub.cfg": text.encode(), **more}
    return {
        "grub": (grub, {}),
        "grub-through-shim": ({"EFI/BOOT/BOOTAA64.EFI": p.shim, "EFI/BOOT/grubaa64.efi": p.grub, "EFI/debian/grub.cfg": GRUB_CFG.encode()}, {}),
        "shim-alone": ({"EFI/BOOT/BOOTAA64.EFI": p.shim}, {}),
        "grub-no-configuration": ({"EFI/BOOT/BOOTAA64.EFI": p.grub}, {}),
        "grub-kernel-missing": (grub, {"boot/vmlinuz": None}),
        "grub-kernel-no-mz": (grub, {"boot/vmlinuz": changed(p.kernel, 0, b"XX")}),
        "grub-kernel-no-arm-mark": (grub, {"boot/vmlinuz": changed(p.kernel, 0x38, b"XXXX")}),
        "grub-kernel-no-pe": (grub, {"boot/vmlinuz": changed(p.kernel, pe, b"XX")}),
        "grub-kernel-machine": (grub, {"boot/vmlinuz": changed(p.kernel, pe + 4, b"\x64\x86")}),
        "grub-kernel-cut": (grub, {"boot/vmlinuz": p.kernel[:len(p.kernel) // 2]}),
        "grub-kernel-packed": (grub, {"boot/vmlinuz": gzip.compress(p.kernel, 1, mtime=0)}),
        "grub-initrd-missing": (grub, {"boot/initrd.img": None}),
        "grub-no-initrd-line": (grub_with(GRUB_CFG.replace("  initrd /boot/initrd.img\n", "")), {}),
        "grub-wrong-root": (grub_with(GRUB_CFG.replace(f"root=UUID={ROOT_UUID}", "root=UUID=00000000-0000-4000-8000-000000000000")), {}),
        "grub-wrong-search": (grub_with(GRUB_CFG.replace(f"--set=root {ROOT_UUID}", "--set=root 00000000-0000-4000-8000-000000000000")), {}),
        "grub-pc-image": ({"EFI/BOOT/BOOTAA64.EFI": changed(p.grub, int.from_bytes(p.grub[0x3C:0x40], "little") + 4, b"\x64\x86"),
                           "EFI/debian/grub.cfg": GRUB_CFG.encode()}, {}),
        "grub-named-for-a-pc": ({"EFI/BOOT/BOOTX64.EFI": p.grub, "EFI/debian/grub.cfg": GRUB_CFG.encode()}, {}),
        "grub-init-missing": (grub, {"sbin/init": None}),
        "grub-init-for-a-pc": (grub, {"bin/busybox": changed(p.busybox, 18, b"\x3e\x00")}),
        "grub-chains-systemd-boot": (grub_with("set timeout=0\nmenuentry 'next' {\n  search --file --set=root /EFI/next.efi\n  chainloader /EFI/next.efi\n}\n"),
                                     {}, {"EFI/next.efi": p.systemd_boot, "loader/entries/inn.conf": ("title Almhof\n" + STUB).encode(), "vmlinuz": p.kernel, "initrd.img": p.initrd}),
        "systemd-boot": (sd(), {}),
        "systemd-boot-other-architecture": (sd("architecture x64\n" + STUB), {}),
        "systemd-boot-own-architecture": (sd("architecture aa64\n" + STUB), {}),
        "systemd-boot-kernel-for-a-pc": (sd(vmlinuz=changed(p.kernel, pe + 4, b"\x64\x86")), {}),
        "systemd-boot-initrd-missing": (sd(**{"initrd.img": None}), {}),
        "kernel-alone": ({"EFI/BOOT/BOOTAA64.EFI": p.kernel}, {}),
        "nothing": ({"EFI/readme.txt": b"nothing"}, {}),
    }


def make_disk(parts, efi, root_changes, work):
    size = 160
    disk = work / "disk.img"
    with open(disk, "wb") as f:
        f.truncate(size << 20)
    run("sfdisk", str(disk), input=b"label: gpt\nstart=2048, size=131072, type=uefi\nstart=133120, size=131072, type=linux\n")
    fat = work / "fat.img"
    with open(fat, "wb") as f:
        f.truncate(64 << 20)
    run("mkfs.fat", "-F", "32", "-n", "ESP", str(fat))
    made = set()
    for name, content in efi.items():
        if content is None:
            continue
        folder = ""
        for step in name.split("/")[:-1]:
            folder += "/" + step
            if folder not in made:
                run("mmd", "-i", str(fat), "::" + folder)
                made.add(folder)
        (work / "file").write_bytes(content)
        run("mcopy", "-i", str(fat), str(work / "file"), "::/" + name)
    top = work / "root"
    shutil.rmtree(top, ignore_errors=True)
    for name in ("boot", "bin", "sbin", "dev", "proc", "sys", "etc/init.d", "tmp"):
        (top / name).mkdir(parents=True)
    files = {"boot/vmlinuz": parts.kernel, "boot/initrd.img": parts.initrd, "bin/busybox": parts.busybox,
             "etc/os-release": b'PRETTY_NAME="Almhof arm64"\nID=almhof\n',
             "etc/inittab": b"::sysinit:/etc/init.d/rcS\n", "etc/init.d/rcS": f"#!/bin/sh\necho {UP}\n".encode(),
             "etc/fstab": f"UUID={ROOT_UUID} / ext4 ro 0 1\n".encode()}
    links = {"bin/sh": "busybox", "sbin/init": "../bin/busybox"}
    for name, content in root_changes.items():
        links.pop(name, None)
        files[name] = content
    for name, content in files.items():
        if content is not None:
            (top / name).write_bytes(content)
            (top / name).chmod(0o755)
    for name, target in links.items():
        os.symlink(target, top / name)
    ext = work / "ext.img"
    with open(ext, "wb") as f:
        f.truncate(64 << 20)
    run("mkfs.ext4", "-q", "-U", ROOT_UUID, "-E", "root_owner=0:0", "-d", str(top), str(ext))
    with open(disk, "r+b") as f:
        for at, part in ((2048, fat), (133120, ext)):
            f.seek(at * 512)
            f.write(part.read_bytes())
    return disk


def start(disk, work, limit, uboot):
    """The console until the system is up, something waits for a person, or the time is over."""
    code, store = work / "code.fd", work / "vars.fd"
    shutil.copy("/usr/share/AAVMF/AAVMF_CODE.fd", code)
    shutil.copy("/usr/share/AAVMF/AAVMF_VARS.fd", store)
    firmware = ["-bios", UBOOT] if uboot else ["-drive", f"if=pflash,format=raw,unit=0,readonly=on,file={code}",
                                              "-drive", f"if=pflash,format=raw,unit=1,file={store}"]
    machine = subprocess.Popen(
        ["qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a57", "-m", "512", "-nographic", "-no-reboot", "-nic", "none",
         *firmware, "-drive", f"file={disk},format=raw,if=virtio"], stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
    console = bytearray()

    def read():
        for piece in iter(lambda: machine.stdout.read1(4096), b""):
            console.extend(piece)

    threading.Thread(target=read, daemon=True).start()
    end = time.time() + limit
    last, since = 0, time.time()
    while time.time() < end and machine.poll() is None:
        time.sleep(0.5)
        text = bytes(console)
        if UP.encode() in text or b"Kernel panic" in text or b"Shell>" in text or text.endswith(b"=> "):
            break
        if len(text) != last:
            last, since = len(text), time.time()
        # A prompt, or a program that waits: nothing comes any more.
        if time.time() - since > 25 and len(text) > 200:
            break
    machine.kill()
    machine.wait()
    return console.decode(errors="replace")


def real_of(console):
    if UP in console:
        return "up"
    return "kernel" if KERNEL_RUNS in console else "before the kernel"


def said_of(document):
    for system in document["systems"]:
        if system["name"].startswith("Almhof") or len(document["systems"]) == 1:
            if system["starts"] == "yes":
                return "up", system
            if system["starts"] == "unknown":
                return "unknown", system
            # The boot manager itself gives up without the RAM disk.
            behind = system["stops_at"] in ("ramdisk", "root", "init", "services") and "Error preparing" not in system["symptom"]
            return "kernel" if behind else "before the kernel", system
    return "before the kernel", {"stops_at": None, "symptom": ""}


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--tool", default=str(ROOT / "build/release/tool/herberge"))
    parser.add_argument("--packages", default=str(pathlib.Path.home() / ".cache/herberge-conformance"))
    parser.add_argument("--limit", type=int, default=180)
    parser.add_argument("--show", action="store_true")
    parser.add_argument("--uboot", action="store_true")
    parser.add_argument("cases", nargs="*")
    opt = parser.parse_args()
    if not shutil.which("qemu-system-aarch64") or not os.path.exists("/usr/share/AAVMF/AAVMF_CODE.fd"):
        print("no qemu-system-aarch64 or qemu-efi-aarch64: nothing was compared")
        return 77
    folder = pathlib.Path(opt.packages)
    fetch(folder)
    parts = Parts(folder)
    parts.initrd = ramdisk(parts)
    good = every = 0
    with tempfile.TemporaryDirectory() as scratch:
        work = pathlib.Path(scratch)
        for name, parts_of_case in cases(parts).items():
            if opt.cases and name not in opt.cases:
                continue
            efi = {**parts_of_case[0], **(parts_of_case[2] if len(parts_of_case) > 2 else {})}
            disk = make_disk(parts, efi, parts_of_case[1], work)
            asked = subprocess.run([opt.tool, "check", str(disk), "--firmware", "board:uboot-qemu-arm64" if opt.uboot else "board:uefi-arm64", "--format", "json"], capture_output=True, text=True)
            said, system = said_of(json.loads(asked.stdout))
            console = start(disk, work, opt.limit, opt.uboot)
            real = real_of(console)
            every += 1
            good += said == real
            if said != real or opt.show:
                print(f"{name}: the machine: {real}; said: {said}, stops at {system['stops_at']}: {system['symptom']!r}")
                print("    " + "\n    ".join(line.strip() for line in console.split("\n")[-8:]))
            else:
                print(f"{name}: {real}", flush=True)
    print(f"{good} of {every} agree")
    return 0 if good == every else 1


if __name__ == "__main__":
    sys.exit(main())
