#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Start-up faults of systemd, really started in an emulated PC, against the verdict on the stage of services.

services-against-machine.py [--cases BINARY] [--root FOLDER] [--kernel FOLDER] [CASE ...]
  --root    a bootstrapped root with systemd (by default debootstrap makes one)
  --kernel  an unpacked linux-image-*-amd64 (by default the package is downloaded)

Each case changes a few files of the root, which is then mounted by a real kernel and started. What the console says first decides:
the target is reached, emergency or rescue mode, the target's dependency failed, or systemd froze. Ours reads the same image. A
second disk holds an ext4 that some cases mount. Where the target is reached, the order in which the console tells of units is
compared as well: none may begin before one that ours puts before it is done, and none may start that ours does not name. Needs debootstrap, e2fsprogs, busybox, cpio, kmod, qemu-system-x86.
Prints a line per case, then the count; exit status 0: all agree, 1: some differ, 77: something is missing.
"""
import argparse, glob, os, pathlib, re, select, shutil, subprocess, sys, tempfile, time

here = os.path.dirname(os.path.abspath(__file__))
parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
parser.add_argument("--cases", default=os.path.join(here, "../build/release/herberge_unit_cases"))
parser.add_argument("--root")
parser.add_argument("--kernel")
parser.add_argument("case", nargs="*", metavar="CASE")
args = parser.parse_args()
for program in ("qemu-system-x86_64", "sfdisk", "mkswap", "mke2fs", "debugfs", "busybox", "cpio", "depmod"):
    if not shutil.which(program):
        print(f"{program} is missing")
        sys.exit(77)
work = tempfile.mkdtemp(prefix="services-")

TYPES = {"home": "933AC7E1-2EB4-4F13-B844-0E14E2AEF915", "var": "4D21B016-B534-45C2-A9FB-5C16E091FD2D", "swap": "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"}
E = "/etc/systemd/system/"
TRUE = "[Service]\nExecStart=/bin/true\n"
NONE = "[Service]\nType=oneshot\nExecStart=/usr/bin/none\n"
FSTAB = "/etc/fstab"
GONE = "UUID=57a71000-0001-4a01-8a01-0000000000ff"
HERE = "UUID=57a71000-0001-4a01-8a01-0000000000d2"
M = E + "multi-user.target."
UDEVADM, UDEV = "/usr/bin/udevadm", "/etc/udev/rules.d/"
CASES = {
    # name: (files, more of the kernel's arguments)
    "healthy": ({}, ""),
    "default-gone": ({E + "default.target": "->/lib/systemd/system/none.target"}, ""),
    "default-masked": ({E + "default.target": "->/dev/null"}, ""),
    "default-empty": ({E + "default.target": ""}, ""),
    "word-emergency": ({}, "emergency"),
    "word-single": ({}, "single"),
    "word-3": ({}, "3"),
    "word-unit": ({}, "systemd.unit=none.target"),
    "wanted-missing": ({M + "wants/inn.service": "->../inn.service"}, ""),
    "required-missing": ({M + "requires/inn.service": "->../inn.service"}, ""),
    "required-masked": ({M + "requires/inn.service": "->/lib/systemd/system/inn.service", E + "inn.service": "->/dev/null"}, ""),
    "basic-masked": ({E + "basic.target": "->/dev/null"}, ""),
    "dbus-masked": ({E + "dbus.service": "->/dev/null", E + "dbus.socket": "->/dev/null"}, ""),
    "local-fs-masked": ({E + "local-fs.target": "->/dev/null"}, ""),
    "required-broken-text": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Unit\n" + TRUE}, ""),
    "wanted-broken-text": ({M + "wants/inn.service": "->../inn.service", E + "inn.service": "[Unit\n" + TRUE}, ""),
    "target-broken-drop-in": ({E + "multi-user.target.d/a.conf": "[Unit\n"}, ""),
    "required-fails": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": NONE}, ""),
    "required-fails-dash": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": NONE.replace("=/usr", "=-/usr")}, ""),
    "required-fails-condition": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Unit]\nConditionPathExists=/etc/none\n" + NONE}, ""),
    "required-assert": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Unit]\nAssertPathExists=/etc/none\n" + TRUE}, ""),
    "required-simple-fails": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": NONE.replace("oneshot", "simple")}, ""),
    "required-environment": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Service]\nEnvironmentFile=/etc/none\nExecStart=/bin/true\n"}, ""),
    "required-other-processor": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": NONE.replace("none", "foreign"), "/usr/bin/foreign": "ELF:arm64"}, ""),
    "required-no-interpreter": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": NONE.replace("none", "script"), "/usr/bin/script": "#!/usr/bin/nothing\n"}, ""),
    "required-account-gone": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Service]\nType=oneshot\nUser=reto\nExecStart=/bin/true\n"}, ""),
    "required-account-gone-dash": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Service]\nType=oneshot\nUser=reto\nExecStart=-/bin/true\n"}, ""),
    "required-account-gone-plus": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Service]\nType=oneshot\nUser=reto\nExecStart=+/bin/true\n"}, ""),
    "required-account-dynamic": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Service]\nType=oneshot\nUser=reto\nDynamicUser=yes\nExecStart=/bin/true\n"}, ""),
    "required-group-gone": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Service]\nType=oneshot\nSupplementaryGroups=root guides\nExecStart=/bin/true\n"}, ""),
    "required-folder-gone": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Service]\nType=oneshot\nWorkingDirectory=/srv/huts\nExecStart=/bin/true\n"}, ""),
    "required-folder-gone-dash": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Service]\nType=oneshot\nWorkingDirectory=-/srv/huts\nExecStart=/bin/true\n"}, ""),
    "required-exec-condition": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Service]\nType=oneshot\nExecCondition=/usr/bin/none\nExecStart=/bin/true\n"}, ""),
    "required-first-start": ({M + "requires/inn.service": "->../inn.service", E + "inn.service": "[Unit]\nConditionFirstBoot=no\n" + NONE, "/etc/machine-id": "uninitialized\n"}, ""),
    "wanted-fails": ({M + "wants/inn.service": "->../inn.service", E + "inn.service": NONE}, ""),
    "sysinit-wants-failing": ({E + "sysinit.target.wants/inn.service": "->../inn.service", E + "inn.service": "[Unit]\nDefaultDependencies=no\n" + NONE}, ""),
    "sysinit-requires-failing": ({E + "sysinit.target.requires/inn.service": "->../inn.service", E + "inn.service": "[Unit]\nDefaultDependencies=no\nBefore=sysinit.target\n" + NONE}, ""),
    "cycle": ({E + "a.service": "[Unit]\nAfter=b.service\n" + TRUE, E + "b.service": "[Unit]\nAfter=a.service\n" + TRUE, M + "requires/a.service": "->../a.service", M + "wants/b.service": "->../b.service"}, ""),
    "cycle-required": ({E + "a.service": "[Unit]\nAfter=b.service\n" + TRUE, E + "b.service": "[Unit]\nAfter=a.service\n" + TRUE, M + "requires/a.service": "->../a.service",
                        M + "requires/b.service": "->../b.service"}, ""),
    "conflict-required": ({E + "a.service": "[Unit]\nConflicts=b.service\n" + TRUE, E + "b.service": TRUE, M + "requires/a.service": "->../a.service", M + "requires/b.service": "->../b.service"}, ""),
    # Who announces devices: without, no unit of one ever appears.
    "udev-no-program": ({UDEVADM: "no program\n"}, ""),
    "udev-no-program-mount": ({UDEVADM: "no program\n", FSTAB: f"{HERE} /srv ext4 defaults 0 2\n"}, ""),
    "udev-no-program-mount-node": ({UDEVADM: "no program\n", FSTAB: "/dev/vdb /srv ext4 defaults 0 2\n"}, ""),
    "udev-no-program-nofail": ({UDEVADM: "no program\n", FSTAB: f"{HERE} /srv ext4 nofail 0 2\n"}, ""),
    "udev-no-program-tmpfs": ({UDEVADM: "no program\n", FSTAB: "tmpfs /srv tmpfs defaults 0 0\n"}, ""),
    "udev-no-program-swap": ({UDEVADM: "no program\n", FSTAB: f"{HERE} none swap sw 0 0\n"}, ""),
    "udev-masked-mount": ({E + "systemd-udevd.service": "->/dev/null", FSTAB: f"{HERE} /srv ext4 defaults 0 2\n"}, ""),
    "udev-trigger-masked-mount": ({E + "systemd-udev-trigger.service": "->/dev/null", FSTAB: f"{HERE} /srv ext4 defaults 0 2\n"}, ""),
    "udev-rules-of-systemd-mount": ({UDEV + "99-systemd.rules": "->/dev/null", FSTAB: f"{HERE} /srv ext4 defaults 0 2\n"}, ""),
    "udev-rules-of-storage-mount": ({UDEV + "60-persistent-storage.rules": "->/dev/null", FSTAB: f"{HERE} /srv ext4 defaults 0 2\n"}, ""),
    "udev-rules-of-storage-mount-node": ({UDEV + "60-persistent-storage.rules": "->/dev/null", FSTAB: "/dev/vdb /srv ext4 defaults 0 2\n"}, ""),
    "fstab-there": ({FSTAB: f"{HERE} /srv ext4 defaults 0 2\n"}, ""),
    "fstab-gone": ({FSTAB: f"{GONE} /srv ext4 defaults 0 2\n"}, ""),
    "fstab-gone-nofail": ({FSTAB: f"{GONE} /srv ext4 nofail 0 2\n"}, ""),
    "fstab-gone-noauto": ({FSTAB: f"{GONE} /srv ext4 noauto 0 2\n"}, ""),
    "fstab-gone-automount": ({FSTAB: f"{GONE} /srv ext4 x-systemd.automount 0 2\n"}, ""),
    "fstab-gone-wanted-by": ({FSTAB: f"{GONE} /srv ext4 x-systemd.wanted-by=multi-user.target 0 2\n"}, ""),
    "fstab-gone-netdev": ({FSTAB: f"{GONE} /srv ext4 _netdev 0 2\n"}, ""),
    "fstab-wrong-type": ({FSTAB: f"{HERE} /srv vfat defaults 0 0\n"}, ""),
    "fstab-swap-gone": ({FSTAB: f"{GONE} none swap sw 0 0\n"}, ""),
    "fstab-off": ({FSTAB: f"{GONE} /srv ext4 defaults 0 2\n"}, "fstab=no"),
    "fstab-bad-option": ({FSTAB: f"{HERE} /srv ext4 no-such-option 0 0\n"}, ""),
    "fstab-needs-gone-unit": ({FSTAB: f"{HERE} /srv ext4 x-systemd.requires=none.service 0 0\n"}, ""),
    "mount-unit-gone": ({E + "srv.mount": "[Mount]\nWhat=/dev/disk/by-uuid/57a71000-0001-4a01-8a01-0000000000ff\nWhere=/srv\n", E + "local-fs.target.requires/srv.mount": "->../srv.mount"}, ""),
    "mount-unit-wanted-gone": ({E + "srv.mount": "[Mount]\nWhat=/dev/disk/by-uuid/57a71000-0001-4a01-8a01-0000000000ff\nWhere=/srv\n", E + "local-fs.target.wants/srv.mount": "->../srv.mount"}, ""),
    "crypttab-gone": ({"/etc/crypttab": f"vault {GONE} none luks\n"}, ""),
    "crypttab-gone-nofail": ({"/etc/crypttab": f"vault {GONE} none luks,nofail\n"}, ""),
    # On a disk with partitions, whose types say what they are for: what lies in the second one, and attributes of it.
    "types-home": ({}, "", ("home", "ext4", "")),
    "types-home-damaged": ({}, "", ("home", "noise", "")),
    "types-home-not-by-itself": ({}, "", ("home", "noise", "63")),
    "types-home-full-folder": ({"/home/reto": "a file\n"}, "", ("home", "noise", "")),
    "types-home-off": ({}, "systemd.gpt_auto=0", ("home", "noise", "")),
    "types-var-of-another": ({}, "", ("var", "noise", "")),
    "types-swap": ({}, "", ("swap", "swap", "")),
    "types-swap-damaged": ({}, "", ("swap", "noise", "")),
    "crypttab-gone-needed": ({"/etc/crypttab": f"vault {GONE} none luks\n", FSTAB: "/dev/mapper/vault /srv ext4 defaults 0 0\n"}, ""),
}


def run(*command, **more):
    return subprocess.run(list(map(str, command)), check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)


def the_kernel():
    if args.kernel:
        return args.kernel
    name = subprocess.run("apt-cache depends linux-image-amd64 | grep -o 'linux-image-[0-9][^ ]*amd64$' | tail -n 1", shell=True, capture_output=True, text=True).stdout.strip()
    run("apt-get", "download", name, cwd=work)
    run("dpkg-deb", "-x", next(f for f in os.listdir(work) if f.endswith(".deb")), "kernel", cwd=work)
    return os.path.join(work, "kernel")


def ramdisk(kernel):
    release = os.listdir(kernel + "/lib/modules")[0]
    root = os.path.join(work, "ramdisk")
    for d in ("bin", "dev", "proc", "sys", "root"):
        os.makedirs(os.path.join(root, d))
    shutil.copy(shutil.which("busybox"), root + "/bin/busybox")
    for line in subprocess.run(["ldd", root + "/bin/busybox"], capture_output=True, text=True).stdout.splitlines():
        library = next((w for w in line.split() if w.startswith("/")), None)
        if library:
            os.makedirs(os.path.dirname(root + library), exist_ok=True)
            shutil.copy(library, root + library)
    for part in ("drivers/virtio", "drivers/block", "fs/ext4", "fs/jbd2", "fs/mbcache.ko", "crypto", "lib", "arch/x86/crypto"):
        source = f"{kernel}/lib/modules/{release}/kernel/{part}"
        to = f"{root}/lib/modules/{release}/kernel/{part}"
        if os.path.isdir(source):
            shutil.copytree(source, to)
        elif os.path.exists(source):
            os.makedirs(os.path.dirname(to), exist_ok=True)
            shutil.copy(source, to)
    for f in ("modules.builtin", "modules.order"):
        shutil.copy(f"{kernel}/lib/modules/{release}/{f}", f"{root}/lib/modules/{release}/")
    run("depmod", "-b", root, release)
    with open(root + "/init", "w") as init:
        init.write("#!/bin/busybox sh\n/bin/busybox --install -s /bin\nmount -t proc proc /proc\nmount -t sysfs sys /sys\nmount -t devtmpfs dev /dev\n"
                   "for m in virtio_pci virtio_blk crc32c_generic ext4; do modprobe $m; done\nr=$(sed 's/.*root=//;s/ .*//' /proc/cmdline)\nmount -t ext4 $r /root || exec sh\n"
                   "for d in proc sys dev; do mount --move /$d /root/$d; done\nexec switch_root /root /sbin/init\n")
    os.chmod(root + "/init", 0o755)
    archive = os.path.join(work, "ramdisk.cpio")
    subprocess.run("find . | cpio -o -H newc | gzip -1 >" + archive, shell=True, check=True, cwd=root, stderr=subprocess.DEVNULL)
    return archive


def base_image(kernel):
    folder = os.path.join(work, "root")
    if args.root:
        run("cp", "-a", "--reflink=auto", args.root, folder)
    else:
        run("debootstrap", "--variant=minbase", "--include=systemd-sysv,udev,dbus,cron,e2fsprogs,cryptsetup-bin,passwd,login", "bookworm", folder, "http://deb.debian.org/debian")
    for waste in ("usr/share/doc", "usr/share/man", "usr/share/locale", "var/cache/apt", "var/lib/apt/lists", "usr/share/perl", "usr/share/i18n", "debootstrap"):
        shutil.rmtree(os.path.join(folder, waste), ignore_errors=True)
    subprocess.run(["chroot", folder, "chpasswd"], input="root:almhof\n", text=True, check=True)
    pathlib.Path(folder, "etc/machine-id").write_text("0" * 31 + "1\n")
    pathlib.Path(folder, "etc/hostname").write_text("inn\n")
    pathlib.Path(folder, "etc/fstab").write_text("")
    for slow in ("systemd-firstboot.service", "apt-daily.timer", "NetworkManager-wait-online.service", "systemd-networkd-wait-online.service"):
        path = os.path.join(folder, "etc/systemd/system", slow)
        if not os.path.lexists(path):
            os.symlink("/dev/null", path)
    path = os.path.join(folder, "etc/systemd/system/default.target")
    if not os.path.lexists(path):
        os.symlink("/lib/systemd/system/multi-user.target", path)
    image = os.path.join(work, "base.img")
    run("mke2fs", "-q", "-t", "ext4", "-O", "^metadata_csum_seed", "-U", "57a71000-0001-4a01-8a01-0000000000d1", "-d", folder, image, "1400M")
    shutil.rmtree(folder)
    second = os.path.join(work, "second.img")
    run("mke2fs", "-q", "-t", "ext4", "-U", HERE[5:], second, "32M")
    return image, second


def changed(base, files):
    image = os.path.join(work, "case.img")
    run("cp", "--sparse=always", base, image)
    words = ""
    for name, content in files.items():
        parts = name.split("/")[1:-1]
        for i in range(len(parts)):
            words += f"mkdir /{'/'.join(parts[:i + 1])}\n"
        words += f"rm {name}\n"
        if content.startswith("->"):
            words += f"symlink {name} {content[2:]}\n"
            continue
        source = tempfile.mktemp(dir=work)
        if content == "ELF:arm64":
            head = bytearray(64)
            head[:7], head[16:20] = b"\x7fELF\x02\x01\x01", b"\x02\x00\xb7\x00"
            pathlib.Path(source).write_bytes(bytes(head) + bytes(64))
        else:
            pathlib.Path(source).write_text(content)
        words += f"write {source} {name}\nsif {name} mode 0100{'755' if name.startswith('/usr/bin') else '644'}\nsif {name} uid 0\nsif {name} gid 0\n"
    done = subprocess.run(["debugfs", "-w", "-f", "-", image], input=words, capture_output=True, text=True)
    if done.returncode != 0:
        raise RuntimeError(done.stderr)
    return image


def partitioned(image, second, use, content, attribute):
    """A GPT disk with the root in its first partition, and `content` in its second."""
    disk = os.path.join(work, "disk.img")
    root = os.path.getsize(image) // 512
    with open(disk, "wb") as out:
        out.truncate((root + 2048 + 65536 + 4096) * 512)
    script = (f"label: gpt\nstart=2048, size={root}, type=4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709\n"
              f"start={root + 2048}, size=65536, type={TYPES[use]}" + (f', attrs="GUID:{attribute}"' if attribute else "") + "\n")
    subprocess.run(["sfdisk", "-q", disk], input=script, text=True, check=True)
    run("dd", "if=" + image, "of=" + disk, "bs=1M", "seek=1", "conv=notrunc,sparse")
    piece = os.path.join(work, "piece.img")
    if content == "ext4":
        shutil.copy(second, piece)
    else:
        pathlib.Path(piece).write_bytes((b"almhof " * 5000 if content == "noise" else b"").ljust(32 << 20, b"\0"))
    if content == "swap":
        run("mkswap", piece)
    run("dd", "if=" + piece, "of=" + disk, "bs=512", f"seek={root + 2048}", "conv=notrunc,sparse")
    return disk


ENDS = (("emergency", r"You are in emergency mode|Reached target.*emergency\.target"), ("rescue", r"You are in rescue mode|Reached target.*rescue\.target"),
        ("freeze", r"Freezing execution|Failed to (start|isolate) default target"), ("target fails", r"Dependency failed for.*(multi-user\.target|Multi-User)"),
        ("up", r"Reached target.*(multi-user\.target|Multi-User)"))


def really(kernel, archive, image, second, more, root):
    line = f"console=ttyS0 root={root} rw systemd.show_status=1 systemd.status_unit_format=name systemd.log_target=console systemd.default_device_timeout_sec=6 panic=-1 {more}"
    vmlinuz = next(os.path.join(kernel, "boot", f) for f in os.listdir(kernel + "/boot") if f.startswith("vmlinuz"))
    process = subprocess.Popen(["qemu-system-x86_64", "-accel", "tcg", "-m", "768", "-kernel", vmlinuz, "-initrd", archive, "-append", line, "-display", "none", "-serial", "stdio", "-net", "none",
                                "-no-reboot", "-drive", f"file={image},format=raw,if=virtio,snapshot=on", "-drive", f"file={second},format=raw,if=virtio,snapshot=on"],
                               stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    seen, end, answer = "", time.time() + 240, "nothing"
    try:
        while time.time() < end and answer == "nothing":
            ready, _, _ = select.select([process.stdout], [], [], max(0.0, end - time.time()))
            part = os.read(process.stdout.fileno(), 65536).decode("latin-1") if ready else ""
            if not part:
                break
            seen += part
            text = re.sub(r"\x1b\[[0-9;?]*[a-zA-Z]", "", seen)
            for name, pattern in ENDS:
                if re.search(pattern, text):
                    answer = name
                    break
    finally:
        process.kill()
        process.wait()
    return answer, seen, line


# What the console says when a unit begins, and when it is done.
BEGINS = re.compile(r"^\s*Starting ([^ ]+)")
DONE = re.compile(r"^\[\s*OK\s*\] (?:Started|Finished|Reached target|Mounted|Listening on|Created slice|Activated swap|Set up automount) ([^ ]+)")


def out_of_order(seen, said):
    """Pairs that came the other way round, and units that ours does not start."""
    begins, done = {}, {}
    for number, line in enumerate(re.sub(r"\x1b\[[0-9;?]*[a-zA-Z]", "", seen).replace("\r", "").split("\n")):
        for found, places in ((BEGINS.match(line), begins), (DONE.match(line), done)):
            if found:
                places.setdefault(found.group(1).rstrip(".…"), number)
    # One line for both, of units that begin and are done at once.
    for name, number in done.items():
        begins.setdefault(name, number)
    rows = [r.split(" ") for r in said.split("\n")]
    jobs = {r[1] for r in rows if r[0] == "job"}
    # What is made of partitions that are found by their type is named by the kernel's name for them there, by their id in ours.
    out = [f"{name} started, ours does not name it" for name in done if name not in jobs and not name.startswith(("systemd-fsck", "dev-"))]
    for row in rows:
        if row[0] == "tie" and row[2] == "After" and row[1] in begins and row[3] in done and {row[1], row[3]} <= jobs and begins[row[1]] < done[row[3]]:
            out.append(f"{row[1]} began before {row[3]} was done")
    return out, len(done)


def main():
    kernel = the_kernel()
    archive = ramdisk(kernel)
    base, second = base_image(kernel)
    agree = every = 0
    for name, (files, more, *layout) in CASES.items():
        if args.case and not any(name.startswith(c) for c in args.case):
            continue
        image = changed(base, files)
        if layout:
            image = partitioned(image, second, *layout[0])
        answer, seen, line = really(kernel, archive, image, second, more, "/dev/vda1" if layout else "/dev/vda")
        config = glob.glob(kernel + "/boot/config-*")
        said = subprocess.run([args.cases, image, "default.target", line, second], capture_output=True, text=True,
                              env=dict(os.environ, **({"HERBERGE_KERNEL_CONFIG": config[0]} if config else {}))).stdout
        row = next((r for r in said.split("\n") if r.startswith("services ")), "services nothing")
        state, text = row.split(" ")[1], " ".join(row.split(" ")[2:])
        asked = any(w in ("emergency", "single") for w in more.split())
        fits = state == "breaks" if answer not in ("up",) and not asked else state != "breaks"
        every += 1
        agree += fits
        # At the first start of a root presets enable further units, which ours only notes.
        order, told = out_of_order(seen, said) if answer == "up" and "/etc/machine-id" not in files else ([], 0)
        every += bool(told)
        agree += bool(told) and not order
        print(f"{name}: really {answer}, ours {state}{'' if fits else '   DIFFERS: ' + text}{f'; {told} units in order' if told and not order else ''}", flush=True)
        for line in order:
            print("    DIFFERS: " + line)
        if os.environ.get("KEEP") and not fits:
            pathlib.Path(os.environ["KEEP"], name + ".console").write_text(seen)
    print(f"{agree} of {every} agree")
    return 0 if agree == every else 1


try:
    status = main()
finally:
    shutil.rmtree(work, ignore_errors=True)
sys.exit(status)
