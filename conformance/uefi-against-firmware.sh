#!/usr/bin/env bash
# SPDX-License-Identifier: MIT
# Disks with applications, signatures, boot options and the packaged shim are started in a virtual machine with the packaged
# UEFI firmware: the application that ran, or that none did, must be what `check` says. Exit status: 0 agrees, 1 differs,
# 77 something is missing.
# usage: uefi-against-firmware.sh [TOOL [NAME-PATTERN]]
set -euo pipefail
here=$(cd "$(dirname "$0")/.." && pwd)
tool=${1:-$here/build/release/tool/herberge}
pattern=${2:-.}
firmware=/usr/share/OVMF
for needed in qemu-system-x86_64 python3 cmake; do
    command -v "$needed" >/dev/null || { echo "no $needed: nothing was compared"; exit 77; }
done
[ -e $firmware/OVMF_CODE_4M.secboot.fd ] || { echo "no ovmf package: nothing was compared"; exit 77; }
cmake --build "$here/build/release" --target herberge_uefi_cases >/dev/null
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
"$here/build/release/herberge_uefi_cases" $firmware/OVMF_VARS_4M.fd "$work" | grep -E "$pattern" >"$work/names"

started() { # name: the number of the application that ended the machine; 0: none did
    cp "$work/$1.fd" "$work/used.fd"
    rm -f "$work/serial"
    qemu-system-x86_64 -accel tcg -machine q35,smm=on -m 256 -display none -net none -nodefaults -no-reboot \
        -global driver=cfi.pflash01,property=secure,value=on \
        -drive if=pflash,format=raw,unit=0,readonly=on,file=$firmware/OVMF_CODE_4M.secboot.fd \
        -drive if=pflash,format=raw,unit=1,file="$work/used.fd" \
        -drive file="$work/$1.img",format=raw,snapshot=on,if=virtio -device isa-debug-exit,iobase=0xf4,iosize=1 \
        -serial "file:$work/serial" >/dev/null 2>&1 &
    local machine=$! status=0
    for _ in $(seq 200); do
        kill -0 $machine 2>/dev/null || break
        grep -aqE "No bootable option|Shell>" "$work/serial" 2>/dev/null && { sleep 1; kill $machine 2>/dev/null; break; }
        sleep 0.3
    done
    kill $machine 2>/dev/null || true
    wait $machine || status=$?
    # The device ends the machine with twice the number, plus one; signals and the firmware's own end are even or large.
    if [ $((status % 2)) = 1 ] && [ $status -ge 3 ] && [ $status -lt 100 ]; then echo $((status / 2)); else echo 0; fi
}

status=0
while read -r name; do
    real=$(started "$name")
    "$tool" check --firmware uefi --variables "$work/$name.fd" --format json "$work/$name.img" >"$work/verdict.json" || true
    python3 - "$name" "$real" "$work/verdict.json" "$work/serial" <<'P' || status=1
import json, re, sys
name, real = sys.argv[1], int(sys.argv[2])
numbers = {"/EFI/almhof/checkin.efi": 1, "/EFI/BOOT/BOOTX64.EFI": 2, "/EFI/almhof/grubx64.efi": 1, "/EFI/BOOT/grubx64.efi": 2, "/EFI/almhof/lamp.efi": 3, "/EFI/lamp.efi": 4}
system = json.load(open(sys.argv[3]))["systems"][0]
said = 0
if system["starts"] != "no":
    for hop in system["route"]:
        path = hop.split(" ")[0].split(":", 1)[-1]
        said = next((n for p, n in numbers.items() if p.lower() == path.lower()), said)
lines = [re.sub(r"\x1b\[[0-9;=]*[A-Za-z]", "", l).strip() for l in open(sys.argv[4], errors="replace")]
shown = [l for l in lines if l.startswith("BdsDxe: failed") or "Denied" in l]
symptom = [l for l in (system["symptom"] or "").splitlines() if l.startswith("BdsDxe: failed") and "Boot0001" not in l]
wrong = said != real
# What is said to stand on the screen must stand there, apart from how the firmware names its own devices.
word = symptom[0].rsplit(":", 1)[-1].strip() if symptom else None
unlike = word is not None and real == 0 and not any(l.endswith(word) for l in shown)
print(f"{name}: {'differs' if wrong else 'other words' if unlike else 'agrees'}, {'application %d runs' % real if real else 'nothing runs'}"
      + (f"; said {said}, stops at {system['stops_at']}" if wrong else ""))
if wrong or unlike:
    print("  said:  ", system["symptom"], "|", " | ".join(system["route"]))
    print("  serial:", " | ".join(shown[:4]))
    sys.exit(1)
P
done <"$work/names"
exit $status
