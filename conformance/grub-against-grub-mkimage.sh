#!/usr/bin/env bash
# SPDX-License-Identifier: MIT
# Puts real GRUB core images on a disk and compares what is read out of them with what they were made from.
set -euo pipefail
tool=${1:-build/release/tool/herberge}
modules=/usr/lib/grub/i386-pc
[ -r $modules/boot.img ] || { echo "grub-pc-bin is not installed"; exit 2; }
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
passed=0 failed=0

disk() { # core image -> disk image with one empty ext2 partition
    rm -f "$work/disk.img"
    truncate -s 8M "$work/disk.img"
    dd if=$modules/boot.img of="$work/disk.img" bs=440 count=1 conv=notrunc status=none
    # One partition of type 83 from sector 2048 on, and the signature.
    printf '\x80\x20\x21\x00\x83\x00\x00\x00\x00\x08\x00\x00\x00\x38\x00\x00' | dd of="$work/disk.img" bs=1 seek=446 conv=notrunc status=none
    printf '\x55\xaa' | dd of="$work/disk.img" bs=1 seek=510 conv=notrunc status=none
    dd if="$1" of="$work/disk.img" bs=512 seek=1 conv=notrunc status=none
    # mkimage leaves the list of runs to the installer: one run from sector 2 on.
    local sectors=$((($(stat -c %s "$1") + 511) / 512 - 1))
    printf "\\x02\\0\\0\\0\\0\\0\\0\\0\\x$(printf %02x $((sectors & 255)))\\x$(printf %02x $((sectors >> 8)))\\x20\\x08" |
        dd of="$work/disk.img" bs=1 seek=$((1024 - 12)) conv=notrunc status=none
    mke2fs -q -F -t ext2 -E offset=1048576 -d "$2" "$work/disk.img" 7168k
}
expect() { # name, text expected in the answer
    local name=$1
    shift
    if "$tool" check "$work/disk.img" --evidence >"$work/answer" || true; grep -qF -- "$1" "$work/answer"; then
        passed=$((passed + 1))
    else
        failed=$((failed + 1))
        echo "$name: no “$1” in"
        sed 's/^/    /' "$work/answer"
    fi
}

mkdir -p "$work/root/boot/grub/i386-pc"
grub-mkimage -O i386-pc -o "$work/core.img" -p '(,msdos1)/boot/grub' biosdisk part_msdos ext2
disk "$work/core.img" "$work/root"
expect "no normal.mod" "normal.mod' not found"
cp $modules/*.mod $modules/*.lst "$work/root/boot/grub/i386-pc/"
disk "$work/core.img" "$work/root"
expect "no configuration" "stops at configuration"
printf 'search --file --set=root /boot/grub/grub.cfg\nmenuentry one { linux /none }\n' >"$work/root/boot/grub/grub.cfg"
disk "$work/core.img" "$work/root"
expect "all real modules load" "stops at entry"
rm "$work/root/boot/grub/i386-pc/boot.mod"
disk "$work/core.img" "$work/root"
expect "a dependency is gone" "boot.mod' not found"
cp $modules/boot.mod "$work/root/boot/grub/i386-pc/"
echo 'search.file /boot/grub/grub.cfg root
set prefix=($root)/boot/grub' >"$work/early.cfg"
grub-mkimage -O i386-pc -o "$work/core.img" -p /nowhere -c "$work/early.cfg" biosdisk part_msdos ext2 search_fs_file
disk "$work/core.img" "$work/root"
expect "embedded configuration" "stops at entry"
grub-mkimage -O i386-pc -o "$work/core.img" -p '(,msdos1)/boot/grub' biosdisk part_msdos fat
disk "$work/core.img" "$work/root"
expect "no driver for the volume" "unknown filesystem."
echo "$passed passed, $failed failed"
[ $failed -eq 0 ]
