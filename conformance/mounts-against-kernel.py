#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Would the kernel mount it? File systems made by their own tools, one bit changed in what a mount reads, mounted read-only by
the running kernel: what it does must be what `check` says of such a root. Needs the right to mount.

usage: mounts-against-kernel.py [--count N] [--seed N] [xfs|btrfs|ext4 ...]
Exit status: 0 all agree, 1 some differ, 77 something is missing."""
import argparse, os, random, shutil, subprocess, sys, tempfile

here = os.path.dirname(os.path.abspath(__file__))
build = os.path.join(here, "..", "build", "release")
parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
parser.add_argument("--count", type=int, default=100)
parser.add_argument("--seed", type=int, default=1)
parser.add_argument("kinds", nargs="*", default=["xfs", "btrfs", "ext4"])
args = parser.parse_args()
os.environ["PATH"] += ":/usr/sbin:/sbin"
missing = [p for p in ("mkfs.xfs", "mkfs.btrfs", "mkfs.ext4", "losetup", "cmake") if not shutil.which(p)]
if missing or os.geteuid() != 0:
    print("missing:", " ".join(missing) or "the right to mount")
    sys.exit(77)
subprocess.run(["cmake", "--build", build, "--target", "herberge_mount_cases"], check=True, stdout=subprocess.DEVNULL)
work = tempfile.mkdtemp()
point = os.path.join(work, "point")
os.mkdir(point)
chance = random.Random(args.seed)
megabyte = 1 << 20
makers = {"xfs": "mkfs.xfs -q -f", "btrfs": "mkfs.btrfs -q -f", "ext4": "mkfs.ext4 -q -F"}


def sh(command):
    return subprocess.run(command, shell=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL).returncode


def place(kind):
    """A byte of what a mount reads, or near it."""
    if kind == "xfs":
        return chance.choice([chance.randrange(264), chance.randrange(512), chance.randrange(512, 2048), chance.randrange(128 << 10),
                              80 * megabyte * chance.randrange(4) + chance.randrange(2048)])
    if kind == "btrfs":
        return chance.choice([65536 + chance.randrange(900), 65536 + chance.randrange(4096), chance.randrange(5 * megabyte, 8 * megabyte)])
    return chance.choice([1024 + chance.randrange(1024), 4096 + chance.randrange(4096), chance.randrange(64 << 10)])


def compare(kind):
    image = os.path.join(work, kind)
    if sh(f"truncate -s 320M {image} && {makers[kind]} {image} && mount -o loop {image} {point} && mkdir {point}/etc && echo inn >{point}/etc/hostname") or sh(f"umount {point}"):
        print(kind, "cannot be made and mounted here")
        sys.exit(77)
    cases = [(place(kind), 1 << chance.randrange(8)) for _ in range(args.count)]
    said = subprocess.run([os.path.join(build, "herberge_mount_cases"), image], input="".join(f"{o} {m}\n" for o, m in cases), capture_output=True,
                          text=True, check=True).stdout.splitlines()
    differ = unknown = refused = 0
    with open(image, "r+b") as file:
        for (offset, mask), verdict in zip(cases, said):
            file.seek(offset)
            byte = file.read(1)[0]
            for value, check in ((byte ^ mask, True), (byte, False)):
                file.seek(offset)
                file.write(bytes([value]))
                file.flush()
                os.fsync(file.fileno())
                if not check:
                    continue
                options = "loop,ro" + (",norecovery" if kind == "xfs" else ",noload" if kind == "ext4" else "")
                mounted = sh(f"mount -t {kind} -o {options} {image} {point} && ls {point}") == 0
                sh(f"umount {point}")
            word = verdict.split()[0]
            unknown += word == "unknown"
            refused += not mounted
            if word != "unknown" and (word == "mount") != mounted:
                differ += 1
                print(f"  {kind} byte {offset} bit mask {mask}: the kernel {'mounts' if mounted else 'refuses'}, said: {verdict[:160]}")
    print(f"{kind}: {args.count} changes, {refused} refused by the kernel, {unknown} unknown, {differ} differ")
    return differ


try:
    total = sum(compare(kind) for kind in args.kinds)
finally:
    sh(f"umount {point}")
    shutil.rmtree(work, ignore_errors=True)
sys.exit(1 if total else 0)
