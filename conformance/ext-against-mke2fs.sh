#!/usr/bin/env bash
# SPDX-License-Identifier: MIT
# Makes ext volumes with the real tools in many shapes and compares every file read by `herberge copy` with the source.
set -euo pipefail
tool=${1:-build/release/tool/herberge}
command -v mke2fs >/dev/null || { echo "e2fsprogs is not installed"; exit 2; }
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT

mkdir -p "$work/tree/etc" "$work/tree/many" "$work/tree/deep/er/still"
echo "short" >"$work/tree/etc/short"
head -c 150 /dev/urandom >"$work/tree/etc/inline"
head -c 3000000 /dev/urandom >"$work/tree/large"
truncate -s 9000000 "$work/tree/holes"
echo tail >>"$work/tree/holes"
for i in $(seq 1 1500); do echo "$i" >"$work/tree/many/a-long-name-so-that-the-directory-needs-many-blocks-$i"; done
ln -s ../etc/short "$work/tree/many/link"
ln -s "$(printf 'deep/%.0s' {1..20})../etc/short" "$work/tree/longlink"

passed=0 failed=0
check() { # name, mke2fs options
    local name=$1 image=$work/volume.img
    shift
    rm -f "$image"
    if ! mke2fs -q -F -F -d "$work/tree" "$@" "$image" 64m >"$work/log" 2>&1; then
        echo "$name: mke2fs refused: $(head -n 1 "$work/log")"
        return
    fi
    e2fsck -fyD "$image" >/dev/null 2>&1 || true # builds hashed directories
    local bad=0 path
    while IFS= read -r path; do
        "$tool" copy "$image" --from "d1:/$path" --to "$work/copy" 2>/dev/null && cmp -s "$work/copy" "$work/tree/$path" || { bad=1; echo "$name: $path differs"; break; }
    done < <(cd "$work/tree" && find . -type f -printf '%P\n' | grep -v '^many/' && find many -type f | awk 'NR % 97 == 0')
    local listed
    listed=$("$tool" files "$image" --in d1:/many 2>/dev/null | tail -n +3 | wc -l) || true
    [ "$listed" -eq 1501 ] || { bad=1; echo "$name: /many lists $listed names instead of 1501"; }
    if [ $bad -eq 0 ]; then passed=$((passed + 1)); else failed=$((failed + 1)); fi
}
check ext2 -t ext2
check ext3 -t ext3
check ext4 -t ext4
for size in 1024 2048 4096; do check "ext4-$size" -t ext4 -b $size; done
check ext4-64k -t ext4 -b 65536
check ext2-128 -t ext2 -I 128 -b 1024
check no-extents -t ext4 -O ^extents,^64bit
check inline -t ext4 -O inline_data
check meta-bg -t ext4 -O meta_bg,^resize_inode -b 1024
check no-checksums -t ext4 -O ^metadata_csum
check uninit-bg -t ext4 -O ^metadata_csum,uninit_bg
check 32bit -t ext4 -O ^64bit
check sparse2 -t ext4 -O sparse_super2
check bigalloc -t ext4 -O bigalloc -C 16384
check no-flex -t ext4 -O ^flex_bg
check csum-seed -t ext4 -O metadata_csum_seed
check casefold -t ext4 -O casefold
check old-revision -t ext2 -r 0 -b 1024
echo "$passed passed, $failed failed"
[ $failed -eq 0 ]
