#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Flash as a real kernel leaves it: the tool must see what the kernel sees.

A small Linux in a virtual PC attaches a flash (block2mtd), mounts its file system, and works on it: files are written, rewritten,
cut, renamed, linked and removed. It is unmounted, or cut off in the midst of its work. A second start of the same kernel on a
copy mounts it again and prints the SHA-256 of each file; `herberge copy` of what the first left must give the same sums, and
`herberge files` the same names.
NAND flash with bad blocks (nandsim) is written by nandwrite and dumped with its spare areas by nanddump: without them it must be
what was written, also when a bit is turned in each of many places that a code covers.

usage: flash-against-kernel.py [--tool PATH] [--kernel FOLDER] [CASE ...]
  --kernel  an unpacked linux-image-*-amd64 (by default the package is downloaded)
Needs qemu-system-x86, busybox, cpio, mtd-utils. Exit status: 0 all agree, 1 some differ, 77 something is missing."""
import argparse, hashlib, json, os, pathlib, re, select, shutil, subprocess, sys, tempfile, time

here = os.path.dirname(os.path.abspath(__file__))
parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
parser.add_argument("--tool", default=os.path.join(here, "..", "build", "release", "tool", "herberge"))
parser.add_argument("--kernel")
parser.add_argument("cases", nargs="*", metavar="CASE", help="beginnings of names; none: all")
args = parser.parse_args()
args.tool = os.path.abspath(args.tool)
os.environ["PATH"] += ":/usr/sbin:/sbin"
missing = [p for p in ("qemu-system-x86_64", "busybox", "cpio", "nandwrite", "nanddump", "flash_erase", "mkfs.ubifs", "ubinize", "mkfs.jffs2", "depmod") if not shutil.which(p)]
if missing:
    print("missing:", " ".join(missing))
    sys.exit(77)
work = tempfile.mkdtemp()
block, flash_size = 128 << 10, 24 << 20

BASE = """
mkdir -p a/b old; i=0
while [ $i -lt 60 ]; do echo "guest $i" > a/b/guest$i; i=$((i+1)); done
dd if=/dev/urandom of=noise bs=4k count=100 2>/dev/null; cp noise kept; ln -s ../noise a/link; echo first > old/one
ln kept a/second; sync
"""
WORK = {
    "made": BASE,
    "rewritten": BASE + "dd if=/dev/urandom of=noise bs=4k count=30 seek=40 conv=notrunc 2>/dev/null; echo again > old/one; sync\n",
    "appended": BASE + "i=0; while [ $i -lt 30 ]; do echo $i >> old/one; i=$((i+1)); done; sync\n",
    "cut": BASE + "truncate -s 100000 noise; truncate -s 5 a/b/guest3; truncate -s 40960 kept; sync; truncate -s 300000 noise; sync\n",
    "cut-and-written": BASE + "truncate -s 8192 noise; sync; dd if=/dev/urandom of=noise bs=4k count=3 seek=20 conv=notrunc 2>/dev/null; sync\n",
    "removed": BASE + "rm a/b/guest1 a/b/guest2 noise; rm -r old; sync\n",
    "removed-and-made": BASE + "rm -r a old; mkdir old; echo new > old/one; sync; rm noise; cp kept noise; sync\n",
    "renamed": BASE + "mv a/b/guest5 a/b/guest6; mv a/b moved; mv noise moved/; mv old/one old/uno; sync\n",
    "linked": BASE + "rm kept; ln a/second third; ln -s nowhere dangling; rm a/link; sync\n",
    "many": BASE + "j=0; while [ $j -lt 4 ]; do i=0; while [ $i -lt 200 ]; do echo $j-$i > a/f$i; i=$((i+1)); done; sync; rm -f a/f1*; j=$((j+1)); done; sync\n",
    "large": BASE + "j=0; while [ $j -lt 6 ]; do dd if=/dev/urandom of=large bs=64k count=30 2>/dev/null; sync; j=$((j+1)); done\n",
    "holes": BASE + "dd if=/dev/urandom of=holes bs=4k count=1 seek=200 2>/dev/null; sync; dd if=/dev/urandom of=holes bs=4k count=1 seek=5 conv=notrunc 2>/dev/null; sync\n",
    "unsynced": BASE + "dd if=/dev/urandom of=late bs=4k count=200 2>/dev/null; echo more >> old/one; mv a/b/guest7 late7; rm kept\n",
    "unsynced-long": BASE + "i=0; while [ $i -lt 400 ]; do dd if=/dev/urandom of=late$((i%7)) bs=1k count=$((i%40+1)) 2>/dev/null; mv late$((i%7)) old/x$((i%11)); i=$((i+1)); done\n",
}
CASES = {f"{fs}-{name}-{end}": (fs, text, end) for fs in ("ubifs", "jffs2") for name, text in WORK.items()
         for end in (("unmounted", "cut-off") if not name.startswith("unsynced") else ("cut-off",))}


def run(*command, **more):
    return subprocess.run(list(map(str, command)), check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, cwd=work, **more)


def package_kernel():
    if args.kernel:
        return args.kernel
    name = subprocess.run("apt-cache depends linux-image-amd64 | grep -o 'linux-image-[0-9][^ ]*amd64$' | tail -n 1", shell=True, capture_output=True,
                          text=True).stdout.strip()
    run("apt-get", "download", name)
    run("dpkg-deb", "-x", next(f for f in os.listdir(work) if f.endswith(".deb")), "kernel")
    return os.path.join(work, "kernel")


def small_linux(kernel, name, script):
    """The archive of a Linux that runs a script."""
    release = os.listdir(kernel + "/lib/modules")[0]
    root = os.path.join(work, "root-" + name)
    shutil.rmtree(root, ignore_errors=True)
    for d in ("bin", "dev", "proc", "sys", "tmp", "mnt"):
        os.makedirs(os.path.join(root, d))
    shutil.copy(shutil.which("busybox"), root + "/bin/busybox")
    for program in ("busybox", "nandwrite", "nanddump", "flash_erase"):
        found = shutil.which(program)
        shutil.copy(found, root + "/bin/")
        for line in subprocess.run(["ldd", found], capture_output=True, text=True).stdout.splitlines():
            library = next((w for w in line.split() if w.startswith("/")), None)
            if library:
                os.makedirs(os.path.dirname(root + library), exist_ok=True)
                shutil.copy(library, root + library)
    for part in ("drivers/mtd", "drivers/virtio", "drivers/block", "fs/ubifs", "fs/jffs2", "crypto", "lib", "fs/crypto"):
        source = f"{kernel}/lib/modules/{release}/kernel/{part}"
        if os.path.isdir(source):
            shutil.copytree(source, f"{root}/lib/modules/{release}/kernel/{part}")
    for f in ("modules.builtin", "modules.order"):
        shutil.copy(f"{kernel}/lib/modules/{release}/{f}", f"{root}/lib/modules/{release}/")
    run("depmod", "-b", root, release)
    with open(root + "/init", "w") as init:
        init.write("#!/bin/busybox sh\n/bin/busybox --install -s /bin\nexport PATH=/bin:/sbin\nmount -t proc proc /proc\nmount -t sysfs sys /sys\n"
                   "mount -t devtmpfs dev /dev\nfor m in virtio_pci virtio_blk mtd mtdblock lzo zstd deflate; do modprobe $m; done\nexec >/dev/ttyS0 2>&1\n" + script)
    os.chmod(root + "/init", 0o755)
    archive = os.path.join(work, name + ".cpio")
    subprocess.run("find . | cpio -o -H newc | gzip -1 >" + archive, shell=True, check=True, cwd=root, stderr=subprocess.DEVNULL)
    return archive


def attach(fs):
    # UBI would format a flash that is not its own.
    mount = "modprobe ubi mtd=0; modprobe ubifs; mount -t ubifs ubi0:inn /mnt" if fs == "ubifs" else "modprobe jffs2; mount -t jffs2 mtd0 /mnt"
    return f"modprobe block2mtd block2mtd=/dev/vda,{block}; {mount} && echo MOUNTED; cd /mnt\n"


LISTING = "echo LIST; find . -type f -exec sha256sum {} \\; ; find . -type l -exec sh -c 'echo LINK $1 $(readlink $1)' x {} \\; ; find . -type d -exec echo DIR {} \\;\necho DONE\nsleep 100\n"


def empty_flash(fs):
    folder = tempfile.mkdtemp(dir=work)
    os.makedirs(folder + "/top")
    if fs == "ubifs":
        run("mkfs.ubifs", "-m", 1, "-e", block - 128, "-c", 150, "-x", "lzo", "-r", folder + "/top", folder + "/fs")
        pathlib.Path(folder + "/list").write_text(f"[fs]\nmode=ubi\nimage={folder}/fs\nvol_id=0\nvol_type=dynamic\nvol_name=inn\nvol_size={(block - 128) * 150}\n")
        run("ubinize", "-m", 1, "-p", block, "-o", folder + "/flash", folder + "/list")
    else:
        run("mkfs.jffs2", "-e", block, "-l", "-n", "-r", folder + "/top", "-o", folder + "/flash")
    content = pathlib.Path(folder + "/flash").read_bytes()
    return content + b"\xff" * (flash_size - len(content))


def start(kernel, archive, image, until):
    vmlinuz = next(os.path.join(kernel, "boot", f) for f in os.listdir(kernel + "/boot") if f.startswith("vmlinuz"))
    process = subprocess.Popen(["qemu-system-x86_64", "-accel", "tcg", "-m", "512", "-kernel", vmlinuz, "-initrd", archive, "-append", "console=ttyS0 quiet panic=-1", "-display",
                                "none", "-serial", "stdio", "-net", "none", "-no-reboot", "-drive", f"file={image},format=raw,if=virtio,cache=writethrough"],
                               stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    seen, end = "", time.time() + 120
    try:
        while until not in seen and time.time() < end:
            ready, _, _ = select.select([process.stdout], [], [], max(0.0, end - time.time()))
            part = os.read(process.stdout.fileno(), 65536).decode("latin-1") if ready else ""
            if not part:
                break
            seen += part
    finally:
        process.kill()
        process.wait()
    return seen.replace("\r", "")


def ours(image):
    place = "ubi0/inn"
    kind = ["--flash-layout", f"d1={flash_size}(flash)"]
    out = {}

    def tool(*command):
        return subprocess.run([args.tool, *command], capture_output=True, cwd=work)

    if tool("files", image, *kind, "--in", "ubi0/inn:/").returncode != 0:
        place = "d1p1"

    def walk(folder):
        done = tool("files", image, *kind, "--in", f"{place}:{folder or '/'}", "--format", "json")
        if done.returncode != 0:
            out["." + folder] = done.stderr.decode().strip()
            return
        out["." + folder] = "DIR"
        for entry in json.loads(done.stdout)["files"]:
            path = f"{folder}/{entry['name']}"
            if entry["type"] == "directory":
                walk(path)
            elif entry["type"] in ("link", "symlink"):
                out["." + path] = "LINK " + entry.get("target", "")
            else:
                copied = tool("copy", image, *kind, "--from", f"{place}:{path}", "--to", "-")
                out["." + path] = hashlib.sha256(copied.stdout).hexdigest() if copied.returncode == 0 else copied.stderr.decode().strip()
    walk("")
    return out


def really(listing):
    out = {}
    for line in listing.split("\n"):
        if match := re.fullmatch(r"([0-9a-f]{64})  (\S+)", line):
            out[match[2]] = match[1]
        elif match := re.fullmatch(r"LINK (\S+) (\S+)", line):
            out[match[1]] = "LINK " + match[2]
        elif match := re.fullmatch(r"DIR (\S+)", line):
            out[match[1]] = "DIR"
    return out


# Name: what nandsim is told, page, spare area, pages of a block.
NANDS = {
    "nand-512": ("first_id_byte=0x20 second_id_byte=0x33", 512, 16, 32),
    "nand-2048": ("first_id_byte=0x20 second_id_byte=0xaa third_id_byte=0x00 fourth_id_byte=0x15", 2048, 64, 64),
}


def nand(kernel, name):
    """What differs; empty: nothing does."""
    how, page, spare, pages = NANDS[name]
    size = 4 << 20
    block_ = page * pages
    bad = [3, 7]
    content = os.urandom(size)
    image = os.path.join(work, "nand.img")
    dump_size = size // page * (page + spare)
    pathlib.Path(image).write_bytes(content + bytes(dump_size))
    script = (f"modprobe nandsim {how} badblocks={','.join(map(str, bad))}\ndd if=/dev/vda of=/tmp/in bs=1M count={size >> 20}\n"
              f"dd if=/tmp/in of=/tmp/part bs={block_} count={size // block_ - len(bad)}\n"
              f"flash_erase -q /dev/mtd0 0 {size // block_}\nnandwrite -q /dev/mtd0 /tmp/part && nanddump -q -n -o --bb=dumpbad -l {size} -f /tmp/out /dev/mtd0\n"
              f"dd if=/tmp/out of=/dev/vda bs=1M seek={size >> 20} conv=notrunc\nsync; wc -c /tmp/out; echo DONE\nsleep 100\n")
    seen = start(kernel, small_linux(kernel, "nand", script), image, "\nDONE")
    dump = bytearray(pathlib.Path(image).read_bytes()[size:])
    if f"{dump_size} /tmp/out" not in seen:
        return "was not dumped: " + seen[-800:]
    wanted, at = b"", 0
    for number in range(size // block_):
        wanted += b"\xff" * block_ if number in bad else content[at:at + block_]
        at += 0 if number in bad else block_

    def read(more=0):
        file = os.path.join(work, "dump.img")
        pathlib.Path(file).write_bytes(dump)
        done = subprocess.run([args.tool, "copy", file, "--nand", f"d1={page}+{spare}x{pages}", "--from", f"d1@0+{size + more}", "--to", "-"], capture_output=True)
        return done.stdout if done.returncode == 0 else done.stderr

    if read() != wanted:
        return "differs: " + repr(read()[:100])
    # One bit in each 256 bytes of every seventh page of good blocks.
    for number in range(0, size // page, 7):
        if number // pages not in bad:
            for begin in range(0, page, 256):
                dump[number * (page + spare) + begin + number % 256] ^= 1 << number % 8
    if read() != wanted:
        return "worn bits are not put right: " + repr(read()[:100])
    # Two bits under one code, in a page that was whole.
    dump[page + spare] ^= 1
    dump[page + spare + 1] ^= 2
    return "" if b"fails its Hamming code" in read() else "a page that is lost is read"


def main():
    kernel = package_kernel()
    agree = every = 0
    for name in NANDS:
        if args.cases and not any(name.startswith(one) for one in args.cases):
            continue
        wrong = nand(kernel, name)
        every += 1
        agree += not wrong
        print(f"{name}: {wrong or 'agrees'}", flush=True)
    for name, (fs, text, end) in CASES.items():
        if args.cases and not any(name.startswith(one) for one in args.cases):
            continue
        image = os.path.join(work, "flash.img")
        pathlib.Path(image).write_bytes(empty_flash(fs))
        tail = "cd /; umount /mnt; sync; echo DONE\nsleep 100\n" if end == "unmounted" else "echo DONE\nsleep 100\n"
        first = start(kernel, small_linux(kernel, "first", attach(fs) + text + tail), image, "\nDONE")
        if "MOUNTED" not in first:
            raise RuntimeError(f"{name}: {first[-1500:]}")
        copy = os.path.join(work, "copy.img")
        shutil.copy(image, copy)
        second = start(kernel, small_linux(kernel, "second", attach(fs) + LISTING), copy, "\nDONE")
        real = really(second[second.find("LIST"):])
        mine = ours(image)
        every += 1
        if "MOUNTED" not in second:
            real = {}
        differ = sorted(k for k in real.keys() | mine.keys() if real.get(k) != mine.get(k))
        agree += not differ
        if differ:
            print(f"{name}: {len(differ)} of {len(real)} differ: " + "; ".join(f"{k}: really {str(real.get(k))[:20]}, ours {str(mine.get(k))[:60]}" for k in differ[:4]), flush=True)
            if os.environ.get("KEEP"):
                shutil.copy(image, os.path.join(os.environ["KEEP"], name + ".img"))
        else:
            print(f"{name}: {len(real)} names agree", flush=True)
    print(f"{agree} of {every} flashes agree")
    return 0 if agree == every else 1


try:
    status = main()
finally:
    shutil.rmtree(work, ignore_errors=True)
sys.exit(status)
