#!/usr/bin/env bash
# SPDX-License-Identifier: MIT
# Rehearses the boot sectors that the real FAT and NTFS makers write: each says that it is not bootable and waits.
set -euo pipefail
tool=${1:-build/release/tool/herberge}
PATH=$PATH:/sbin:/usr/sbin
command -v mkfs.fat >/dev/null && command -v mkntfs >/dev/null || { echo "dosfstools or ntfs-3g is not installed"; exit 2; }
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
passed=0 failed=0
expect() { # name, text on the screen, how it ends
    "$tool" rehearse "$work/disk.img" --format json >"$work/answer" || true
    if grep -qF -- "$2" "$work/answer" && grep -qF "\"end\": \"$3\"" "$work/answer"; then
        passed=$((passed + 1))
    else
        failed=$((failed + 1))
        echo "$1: no “$2” with the end $3"
        head -c 600 "$work/answer"
    fi
}
fresh() { rm -f "$work/disk.img" && truncate -s "$1" "$work/disk.img"; }
fresh 4M && mkfs.fat -F 12 "$work/disk.img" >/dev/null
expect fat12 "This is not a bootable disk." waits-for-key
fresh 32M && mkfs.fat -F 16 "$work/disk.img" >/dev/null
expect fat16 "This is not a bootable disk." waits-for-key
fresh 64M && mkfs.fat -F 32 "$work/disk.img" >/dev/null
expect fat32 "This is not a bootable disk." waits-for-key
fresh 32M && mkfs.fat -F 16 -m <(printf 'The hut is closed in winter.\r\n') "$work/disk.img" >/dev/null
expect "a message of its own" "The hut is closed in winter." waits-for-key
fresh 32M && mkntfs -F -q -p 0 -s 512 -H 255 -S 63 "$work/disk.img" >/dev/null 2>&1
expect ntfs "This is not a bootable disk." waits-for-key
echo "$passed passed, $failed failed"
[ $failed -eq 0 ]
