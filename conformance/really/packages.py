# SPDX-License-Identifier: MIT
"""The Debian packages that the disks are made of, unpacked into a folder, and the programs that make and start them."""
import os, pathlib, shutil, subprocess

# Unpacked, not installed: loaders, kernels and firmware are files here.
UNPACKED = ("grub-pc-bin", "grub-efi-amd64-bin", "grub-efi-amd64-signed", "shim-signed", "systemd-boot-efi", "syslinux", "syslinux-common", "extlinux",
            "isolinux", "grub-legacy", "libc6-i386", "busybox-static", "ovmf")
KERNEL = "linux-image-cloud-amd64"
# Programs, and the packages that bring them.
PROGRAMS = {"qemu-system-x86_64": "qemu-system-x86", "mke2fs": "e2fsprogs", "debugfs": "e2fsprogs", "sfdisk": "fdisk", "mkfs.vfat": "dosfstools", "mcopy": "mtools", "xorriso": "xorriso",
            "mkswap": "util-linux", "grub-mkimage": "grub-common", "depmod": "kmod", "cpio": "cpio", "objcopy": "binutils", "lvm": "lvm2", "mdadm": "mdadm", "apt-get": "apt", "dpkg-deb": "dpkg"}


class Missing(Exception):
    """Something that is needed is not there; its text says what."""


def output(*command, text="", **more):
    """What a command prints, which is given `text` to read; RuntimeError with its own words if it fails."""
    done = subprocess.run([str(c) for c in command], stdout=subprocess.PIPE, stderr=subprocess.STDOUT, input=text.encode(), **more)
    if done.returncode != 0:
        raise RuntimeError(" ".join(str(c) for c in command)[:300] + ": " + done.stdout.decode("utf-8", "replace")[-2000:])
    return done.stdout.decode("utf-8", "replace")


def download(folder):
    """Fetches the packages into a folder; gives the name of the kernel's."""
    depends = output("apt-cache", "depends", "--important", KERNEL)
    kernel = next((line.split()[-1] for line in depends.splitlines() if "Depends: linux-image-" in line), None)
    if kernel is None:
        raise RuntimeError(f"{KERNEL} names no kernel")
    output("apt-get", "download", kernel, *UNPACKED, cwd=folder)
    return kernel


def gather(cache):
    """Downloads and unpacks what is not in `cache` yet; gives the folder with the unpacked files, and the kernel's release."""
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    lost = sorted({package for program, package in PROGRAMS.items() if not shutil.which(program)})
    if lost:
        raise Missing("packages that are missing: " + " ".join(lost))
    tree, packages = pathlib.Path(cache, "files"), pathlib.Path(cache, "packages")
    packages.mkdir(parents=True, exist_ok=True)
    done, wanted = pathlib.Path(cache, "gathered"), pathlib.Path(cache, "gathered-for")
    names = " ".join(UNPACKED)
    if not done.exists() or not wanted.exists() or wanted.read_text() != names:
        shutil.rmtree(tree, ignore_errors=True)
        try:
            kernel = download(packages)
        except RuntimeError:
            # The lists of what there is may be old, or not there.
            subprocess.run(["apt-get", "update", "-qq"], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            try:
                kernel = download(packages)
            except RuntimeError as error:
                raise Missing(f"packages that could not be fetched (apt-get download): {error}")
        for file in sorted(packages.glob("*.deb")):
            output("dpkg-deb", "-x", file, tree)
        release = kernel[len("linux-image-"):]
        output("depmod", "-b", tree, release)
        done.write_text(release)
        wanted.write_text(names)
    return tree, done.read_text()
