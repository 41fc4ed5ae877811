#!/usr/bin/env bash
# SPDX-License-Identifier: MIT
# Optical media made with the packaged ISOLINUX and GRUB, whole and damaged, are started in a virtual PC with the packaged
# firmware; what `check` says would stand on the screen must stand there. Exit status: 0 agrees, 1 differs, 77 something is missing.
# usage: discs-against-firmware.sh [TOOL]
set -euo pipefail
tool=${1:-$(cd "$(dirname "$0")/.." && pwd)/build/release/tool/herberge}
for needed in xorriso qemu-system-x86_64 python3; do
    command -v "$needed" >/dev/null || { echo "no $needed: nothing was compared"; exit 77; }
done
[ -e /usr/lib/ISOLINUX/isolinux.bin ] || { echo "no isolinux package: nothing was compared"; exit 77; }
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"

tree=$work/tree
mkdir -p "$tree/boot/isolinux" "$tree/live" "$tree/A directory with a long name"
cp /usr/lib/ISOLINUX/isolinux.bin /usr/lib/syslinux/modules/bios/ldlinux.c32 "$tree/boot/isolinux/"
printf 'DEFAULT guest\nPROMPT 0\nLABEL guest\n  LINUX /live/vmlinuz\n  APPEND boot=live%s\n' '' >"$tree/boot/isolinux/isolinux.cfg"
head -c 300000 /dev/urandom >"$tree/live/vmlinuz"
echo text >"$tree/A directory with a long name/a file.with.dots.txt"
ln -s live/vmlinuz "$tree/vmlinuz"

make() { # target tree [options]
    local target=$1 from=$2
    shift 2
    xorriso -as mkisofs -quiet -R -J -V ALMHOF -b boot/isolinux/isolinux.bin -c boot/isolinux/boot.cat -no-emul-boot -boot-load-size 4 "$@" -o "$target" "$from" 2>/dev/null
}
make whole.iso tree -boot-info-table
make no-table.iso tree
make hybrid.iso tree -boot-info-table -isohybrid-mbr /usr/lib/ISOLINUX/isohdpfx.bin
for change in core-module configuration kernel quiet; do cp -a tree "tree-$change"; done
rm tree-core-module/boot/isolinux/ldlinux.c32 tree-configuration/boot/isolinux/isolinux.cfg tree-kernel/live/vmlinuz tree-quiet/live/vmlinuz
sed -i 's/boot=live/boot=live quiet/' tree-quiet/boot/isolinux/isolinux.cfg
for change in core-module configuration kernel quiet; do make "no-$change.iso" "tree-$change" -boot-info-table; done
python3 - <<'P'
import struct
whole = open("whole.iso", "rb").read()
catalogue = struct.unpack_from("<I", whole, 17 * 2048 + 0x47)[0] * 2048
image = struct.unpack_from("<I", whole, catalogue + 40)[0] * 2048
def damaged(name, at, value):
    copy = bytearray(whole)
    copy[at:at + len(value)] = value
    open(name, "wb").write(copy)
damaged("not-bootable.iso", catalogue + 32, b"\0")
damaged("no-validation.iso", catalogue, b"\x09")
damaged("wrong-platform.iso", catalogue + 1, b"\xef")
damaged("no-key.iso", catalogue + 30, b"\0\0")
damaged("empty-image.iso", image, bytes(2048))
P

status=0
compare() { # medium optical|disk
    local medium=$1 how=$2 screen=screen.raw
    local drive=(-drive "file=$medium,format=raw,snapshot=on,if=ide") options=()
    [ "$how" = optical ] && drive=(-cdrom "$medium" -boot d) && options=(--optical)
    rm -f "$screen"
    (sleep 12; echo "pmemsave 0xb8000 4000 $screen"; sleep 1; echo quit) |
        timeout 90 qemu-system-x86_64 -accel tcg -m 256 "${drive[@]}" -display none -monitor stdio -serial none -net none >/dev/null 2>&1 || true
    "$tool" check "${options[@]}" --format json "$medium" >verdict.json || true
    python3 - "$medium" "$how" "$screen" <<'P' || status=1
import json, sys
raw = open(sys.argv[3], "rb").read()
rows = ["".join(chr(c) if 32 <= c < 127 else " " for c in raw[r * 160:r * 160 + 160:2]).rstrip() for r in range(25)]
shown = "\n".join(rows)
system = json.load(open("verdict.json"))["systems"][0]
symptom = system.get("symptom") or ""
lines = [l.strip() for l in symptom.splitlines() if l.strip() and not l.startswith("(")]
missing = [l for l in lines if l not in shown]
silent = symptom.startswith("(nothing") and any(l for l in rows if l and not l.startswith(("SeaBIOS", "Booting from", "iPXE", "Press F12")))
print(f"{sys.argv[1]} ({sys.argv[2]}): {'agrees' if not missing and not silent else 'differs'}, stops at {system['stops_at']}")
if missing or silent:
    print("  said:  ", symptom.replace("\n", " | "))
    print("  screen:", " | ".join(l for l in rows if l))
    sys.exit(1)
P
}
for medium in whole no-table no-core-module no-configuration no-kernel no-quiet not-bootable no-validation wrong-platform no-key empty-image; do
    compare "$medium.iso" optical
done
compare hybrid.iso disk

# The files: names, sizes and content as the packaged maker of discs reads them back.
"$tool" files --in "d1:/" whole.iso >/dev/null
while read -r path; do
    "$tool" copy --from "d1:$path" --to out.bin whole.iso >/dev/null && cmp -s out.bin "$tree$path" || { echo "differs: $path"; status=1; }
done < <(cd tree && find . -type f ! -name isolinux.bin | sed 's/^\.//')
exit $status
