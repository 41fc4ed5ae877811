#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Arrays, logical volumes and encrypted volumes that a real kernel made and filled: the tool must give the same bytes.

A small Linux in a virtual PC makes Linux RAID of every level and layout, with each version of its metadata, and LVM groups
with linear, striped and mirrored volumes, on partitions of five disks, and LUKS volumes of many ciphers on a sixth; it fills them with noise and prints their SHA-256.
`herberge copy` of the same place must give the same sum: from all disks, and from all but one where the level allows it.

usage: layers-against-kernel.py [--tool PATH] [--only arrays,volumes,encrypted]
Exit status: 0 all agree, 1 some differ, 77 something is missing."""
import argparse, hashlib, json, os, re, shutil, subprocess, sys, tempfile

here = os.path.dirname(os.path.abspath(__file__))
parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
parser.add_argument("--tool", default=os.path.join(here, "..", "build", "release", "tool", "herberge"))
parser.add_argument("--only", default="arrays,volumes,encrypted", help="what of the three is made")
args = parser.parse_args()
parts_wanted = args.only.split(",")
args.tool = os.path.abspath(args.tool)
os.environ["PATH"] += ":/usr/sbin:/sbin"

programs = ["qemu-system-x86_64", "lvm", "mdadm", "busybox", "cpio", "dpkg-deb", "sfdisk", "depmod", "apt-get", "cryptsetup"]
missing = [p for p in programs if not shutil.which(p)]
if missing:
    print("missing:", " ".join(missing))
    sys.exit(77)

work = tempfile.mkdtemp()
# Name, and what cryptsetup is told.
quick1, quick2 = "--type luks1 --pbkdf-force-iterations 1000", "--type luks2 --pbkdf pbkdf2 --pbkdf-force-iterations 1000"
encrypted = [
    ("argon2id", "--type luks2 --pbkdf-memory 65536 --pbkdf-force-iterations 4"),
    ("argon2i", "--type luks2 --pbkdf argon2i --pbkdf-memory 32768 --pbkdf-force-iterations 4 --pbkdf-parallel 2"),
    ("pages", f"{quick2} --sector-size 4096"),
    ("small", f"{quick2} --sector-size 512"),
    ("older", f"{quick1}"),
    ("short", f"{quick1} --key-size 256"),
    ("essiv", f"{quick1} --cipher aes-cbc-essiv:sha256 --key-size 256"),
    ("plain", f"{quick1} --cipher aes-cbc-plain --key-size 128 --hash ripemd160"),
    ("plain64", f"{quick1} --cipher aes-cbc-plain64 --key-size 192 --hash sha512"),
    ("big", f"{quick1} --cipher aes-cbc-plain64be --key-size 256"),
    ("serpent", f"{quick1} --cipher serpent-xts-plain64 --hash sha512"),
    ("serpentessiv", f"{quick1} --cipher serpent-cbc-essiv:sha256 --key-size 256"),
    ("twofish", f"{quick2} --cipher twofish-xts-plain64"),
    ("camellia", f"{quick2} --cipher camellia-xts-plain64"),
]
locked_mib = 20
# What is left out keeps its partition, so that the numbers stay.
disks = 5
part_mib = 12
# Name, level and layout as mdadm takes them, members, metadata, and whether one may be missing.
arrays = [
    ("linear", "linear", "", 2, "1.2", False),
    ("striped", "0", "", 3, "1.2", False),
    ("mirror", "1", "", 2, "1.0", True),
    ("mirror11", "1", "", 3, "1.1", True),
    ("old", "1", "", 2, "0.90", True),
    ("four", "4", "", 4, "1.2", True),
    ("five", "5", "left-symmetric", 4, "1.2", True),
    ("fivela", "5", "left-asymmetric", 5, "1.2", True),
    ("fivera", "5", "right-asymmetric", 4, "1.0", True),
    ("fivers", "5", "right-symmetric", 3, "1.2", True),
    ("fiveold", "5", "left-symmetric", 3, "0.90", True),
    ("six", "6", "left-symmetric", 5, "1.2", True),
    ("sixla", "6", "left-asymmetric", 4, "1.2", True),
    ("sixra", "6", "right-asymmetric", 5, "1.2", True),
    ("ten", "10", "n2", 4, "1.2", True),
    ("tenodd", "10", "n2", 3, "1.2", True),
    ("tenfar", "10", "f2", 3, "1.2", True),
    ("tenoff", "10", "o2", 4, "1.2", True),
]
lvm_part = len(arrays) + 1
volumes = [
    ("linear", "-L 20M"),
    ("stripes", "-i 3 -I 16k -L 12M"),
    ("raidone", "--type raid1 -m 1 -L 8M"),
    ("raidfive", "--type raid5 -i 3 -I 16k -L 12M"),
    ("raidsix", "--type raid6 -i 3 -I 16k -L 12M"),
    ("raidten", "--type raid10 -i 2 -m 1 -I 16k -L 8M"),
]


def run(*command, **more):
    return subprocess.run(command, check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=work, **more)


def package_kernel():
    name = subprocess.run("apt-cache depends linux-image-cloud-amd64 | grep -o 'linux-image-[^ ]*-cloud-amd64$' | tail -n 1", shell=True,
                          capture_output=True, text=True).stdout.strip()
    run("apt-get", "download", name)
    deb = next(f for f in os.listdir(work) if f.startswith(name + "_") and f.endswith(".deb"))
    run("dpkg-deb", "-x", deb, "kernel")
    return os.path.join(work, "kernel")


def small_linux(script):
    """The archive of a Linux that runs a script and stops."""
    kernel = package_kernel()
    release = os.listdir(kernel + "/lib/modules")[0]
    root = os.path.join(work, "small")
    for d in ("bin", "dev", "proc", "sys", "tmp", "run/lock", "run/cryptsetup", "etc/lvm", "sbin"):
        os.makedirs(os.path.join(root, d))
    shutil.copy(shutil.which("busybox"), root + "/bin/busybox")
    for program in ("lvm", "mdadm", "dmsetup", "cryptsetup"):
        found = shutil.which(program)
        shutil.copy(found, root + "/bin/")
        for line in subprocess.run(["ldd", found], capture_output=True, text=True).stdout.splitlines():
            library = next((w for w in line.split() if w.startswith("/")), None)
            if library:
                os.makedirs(os.path.dirname(root + library), exist_ok=True)
                shutil.copy(library, root + library)
    for part in ("drivers/md", "drivers/virtio", "drivers/block", "crypto", "lib", "arch/x86/crypto"):
        source = f"{kernel}/lib/modules/{release}/kernel/{part}"
        if os.path.isdir(source):
            shutil.copytree(source, f"{root}/lib/modules/{release}/kernel/{part}")
    for f in ("modules.builtin", "modules.order"):
        shutil.copy(f"{kernel}/lib/modules/{release}/{f}", f"{root}/lib/modules/{release}/")
    run("depmod", "-b", root, release)
    modules = "virtio_pci virtio_blk md-mod linear raid0 raid1 raid456 raid10 dm-mod dm-raid dm-mirror dm-crypt xts cbc ecb essiv aes_generic sha256_generic sha512_generic serpent_generic twofish_generic camellia_generic wp512 rmd160 af_alg algif_skcipher algif_hash"
    with open(root + "/init", "w") as init:
        init.write("#!/bin/busybox sh\n/bin/busybox --install -s /bin\nexport PATH=/bin:/sbin\nmount -t proc proc /proc\nmount -t sysfs sys /sys\n"
                   "mount -t devtmpfs dev /dev\n" + "".join(f"modprobe {m}\n" for m in modules.split()) + "exec >/dev/ttyS0 2>&1\n" + script +
                   "\nsync\necho ALL-DONE\npoweroff -f\n")
    os.chmod(root + "/init", 0o755)
    archive = os.path.join(work, "small.cpio")
    subprocess.run("find . | cpio -o -H newc >" + archive, shell=True, check=True, cwd=root, stderr=subprocess.DEVNULL)
    return next(os.path.join(kernel, "boot", f) for f in os.listdir(kernel + "/boot") if f.startswith("vmlinuz")), archive


def make_disks():
    table = "label: gpt\n" + "".join(f"size={part_mib}MiB, type=A19D880F-05FC-4D3B-A006-743F0F84911E\n" for _ in arrays) + "size=64MiB, type=E6D6D379-F507-44C2-A23C-238F2A3DF928\n"
    for d in range(disks):
        with open(os.path.join(work, f"disk{d}"), "wb") as image:
            image.truncate((part_mib * len(arrays) + 72) << 20)
        run("sfdisk", f"disk{d}", input=table.encode())
    with open(os.path.join(work, "locked"), "wb") as image:
        image.truncate((locked_mib * len(encrypted) + 8) << 20)
    run("sfdisk", "locked", input=("label: gpt\n" + f"size={locked_mib}MiB, type=CA7D7CCB-63ED-4C53-861C-1742536059CC\n" * len(encrypted)).encode())
    with open(os.path.join(work, "key"), "w") as key:
        key.write("enzian")


def script():
    out = ""
    for i, (name, level, layout, count, metadata, _) in enumerate(arrays):
        if "arrays" not in parts_wanted:
            break
        parts = " ".join(f"/dev/vd{'abcde'[d]}{i + 1}" for d in range(count))
        shape = f"--layout={layout} " if layout else ""
        chunk = "" if level in ("1", "linear") else "--chunk=16 "
        bitmap = "" if level in ("0", "linear") else "--bitmap=none "
        clean = "" if level in ("0", "linear") else "--assume-clean "
        known = f"--name={name} " if metadata != "0.90" else ""
        out += (f"mdadm --create /dev/md{i} --run {clean}--homehost=inn {known}--metadata={metadata} --level={level} {shape}{chunk}{bitmap}"
                f"--raid-devices={count} {parts}\ndd if=/dev/urandom of=/dev/md{i} bs=64k\nsync\necho SUM {name} $(cat /dev/md{i} | sha256sum) $(cat /sys/block/md{i}/size)\n"
                f"mdadm --stop /dev/md{i}\n")
    options = "--config 'activation{udev_sync=0 udev_rules=0 monitoring=0} devices{scan=\"/dev\"}'"
    parts = " ".join(f"/dev/vd{'abcde'[d]}{lvm_part}" for d in range(disks))
    if "volumes" in parts_wanted:
        out += f"lvm pvcreate {options} {parts}\nlvm vgcreate {options} -s 1M inn {parts}\n"
    for name, how in volumes if "volumes" in parts_wanted else []:
        out += (f"lvm lvcreate {options} -y -Zn -Wn --nosync -n {name} {how} inn\nlvm vgmknodes {options} inn\ndd if=/dev/urandom of=/dev/mapper/inn-{name} bs=64k\nsync\n"
                f"echo SUM lv-{name} $(cat /dev/mapper/inn-{name} | sha256sum) $(blockdev --getsz /dev/mapper/inn-{name})\n").replace(
                    "--nosync ", "--nosync " if "raid1" in how or "raid5" in how else "")
    out += f"lvm vgchange {options} -an inn\nexport DM_DISABLE_UDEV=1\nprintf enzian >/tmp/key\n"
    for i, (name, how) in enumerate(encrypted if "encrypted" in parts_wanted else []):
        out += (f"cryptsetup luksFormat -q {how} /dev/vdf{i + 1} /tmp/key\ncryptsetup open --key-file /tmp/key /dev/vdf{i + 1} c{i}\n"
                f"dd if=/dev/urandom of=/dev/mapper/c{i} bs=64k\nsync\n"
                f"echo SUM crypt-{name} $(cat /dev/mapper/c{i} | sha256sum) $(blockdev --getsz /dev/mapper/c{i})\ncryptsetup close c{i}\n")
    return out


def sum_of(place, sectors, images, *more):
    done = subprocess.run([args.tool, "copy", *images, *more, "--from", f"{place}@0+{sectors * 512}", "--to", "-"], capture_output=True, cwd=work)
    return hashlib.sha256(done.stdout).hexdigest() if done.returncode == 0 else done.stderr.decode("utf-8", "replace").strip()


def main():
    make_disks()
    kernel, archive = small_linux(script())
    drives = []
    for image in [f"disk{d}" for d in range(disks)] + ["locked"]:
        drives += ["-drive", f"file={image},format=raw,if=virtio"]
    done = subprocess.run(["qemu-system-x86_64", "-accel", "tcg", "-m", "768", "-kernel", kernel, "-initrd", archive, "-append", "console=ttyS0 quiet", "-display", "none",
                           "-serial", "stdio", "-net", "none", "-no-reboot", *drives], capture_output=True, timeout=1500, cwd=work)
    console = done.stdout.decode("latin-1")
    if "ALL-DONE" not in console:
        raise RuntimeError(console[-3000:])
    sums = {m[1]: (m[2], int(m[3])) for m in re.finditer(r"SUM (\S+) ([0-9a-f]{64}) +-? *(\d+)", console)}
    images = [f"disk{d}" for d in range(disks)]
    differ = 0

    def tell(name, expected, got):
        nonlocal differ
        agrees = expected == got
        differ += not agrees
        print(f"{name:32} {'agrees' if agrees else 'DIFFERS: ' + got[:200]}")

    for i, (name, level, layout, count, metadata, spare) in enumerate(arrays if "arrays" in parts_wanted else []):
        if name not in sums:
            print(f"{name:32} was not made")
            differ += 1
            continue
        expected, sectors = sums[name]
        place = "md/" + (name if metadata != "0.90" else str(i))
        tell(name, expected, sum_of(place, sectors, images))
        if spare:
            for lost in range(count):
                tell(f"  without member {lost}", expected, sum_of(place, sectors, [m for d, m in enumerate(images) if d != lost]))
    for name, how in volumes if "volumes" in parts_wanted else []:
        if "lv-" + name not in sums:
            print(f"lvm {name:28} was not made")
            differ += 1
            continue
        expected, sectors = sums["lv-" + name]
        tell("lvm " + name, expected, sum_of("lvm/inn/" + name, sectors, images))
    for i, (name, how) in enumerate(encrypted if "encrypted" in parts_wanted else []):
        if "crypt-" + name not in sums:
            print(f"luks {name:27} was not made")
            differ += 1
            continue
        expected, sectors = sums["crypt-" + name]
        tell("luks " + name, expected, sum_of(f"open/d1p{i + 1}", sectors, ["locked"], "--unlock", f"d1p{i + 1}=key"))
    if differ:
        print(f"{differ} differ")
        with open("/tmp/layers-console.txt", "w") as log:
            log.write(console)
    return 1 if differ else 0


try:
    status = main()
finally:
    shutil.rmtree(work, ignore_errors=True)
sys.exit(status)
