#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Does the text a rehearsal shows agree with what really booted machines printed?

usage: rehearsal-against-corpus.py [--tool PATH] [--corpus DIR] [--millions N] [--table FILE] [SELECT ...]

For every BIOS case of a corpus of really booted disks: rehearses the disk and compares its text with the screen of
the real machine, as far as both reach. Exit status: 0 all agree, 1 some disagree, 77 there is no corpus.
"""
import argparse, concurrent.futures, json, os, pathlib, re, subprocess, sys, tempfile, zlib

ROOT = pathlib.Path(__file__).resolve().parent.parent


def lines(text):
    found = []
    for line in text.splitlines():
        line = " ".join("".join(c if 32 <= ord(c) < 127 else " " for c in line).split())
        if line:
            found.append(line)
    return found


# What the firmware prints before and after the boot code, and the kernel's set-up code behind the rehearsal's end.
FIRMWARE = re.compile(r"^(Booting from|Boot failed|No bootable device|SeaBIOS|iPXE|Press F12|Machine UUID)")
KERNEL = re.compile(r"^(Probing EDD|Decompressing|early console|\[ *\d+\.\d+\])")


def make_disk(area, case, target):
    subprocess.run(["zstd", "-dqf", "--long=27", "--sparse", str(area / "bases" / (case["base"] + ".img.zst")), "-o", target], check=True)
    patches = case["patches"]
    if isinstance(patches, str):
        patches = json.loads(zlib.decompress((area / patches).read_bytes()))
    with open(target, "r+b") as f:
        for p in patches:
            f.seek(p["offset"])
            f.write(bytes.fromhex(p["hex"]) if "hex" in p else bytes(p["zero"]))


def compare(opt, area, case):
    with tempfile.TemporaryDirectory() as work:
        disk = os.path.join(work, "disk.img")
        make_disk(area, case, disk)
        done = subprocess.run([opt.tool, "rehearse", disk, "--format", "json", "--millions", str(opt.millions)], capture_output=True)
        if done.returncode not in (0, 1):
            return case["id"], "error", done.stderr.decode()[:200]
        ran = json.loads(done.stdout)
    real_screen = case["console_tail"].split("[serial]")[0].replace("[screen]", "")
    real = [l for l in lines(real_screen) if not FIRMWARE.match(l)]
    shown = lines(ran["text"]) + lines("\n".join(ran["screen"]))
    everything = " ".join(shown)
    reached_kernel = ran["end"] in ("kernel-read", "kernel-entered")
    missing = [l for l in real if l not in everything and not KERNEL.match(l)]
    if reached_kernel and missing:
        # Where the rehearsal ends within a line, the real machine went on alone from that line on; else behind the last
        # line that both have.
        cut = shown[-1] if shown else ""
        last = next((i for i, l in enumerate(real) if cut and l != cut and l.startswith(cut)), None)
        if last is None:
            last = max((i for i, l in enumerate(real) if l in everything), default=0)
        missing = [l for l in real[:last] if l not in everything and not KERNEL.match(l)]
    # What the rehearsal shows last must have been on the real screen or its serial line, if that had text at all.
    all_real = " ".join(lines(case["console_tail"]))
    tail = lines("\n".join(ran["screen"]))[-1:] if not reached_kernel else []
    # Where everything the real machine showed was seen, a later line only means that it was not watched as long.
    extra = [l for l in tail if l not in all_real and real and (missing or real[-1] not in everything)]
    verdict = "agrees" if not missing and not extra else "differs"
    note = "; ".join([f"real machine also shows: {l}" for l in missing[:3]] + [f"only rehearsed: {l}" for l in extra])
    return case["id"], verdict, f"{ran['end']}, {ran['instructions'] / 1e6:.1f} M instructions" + (f"; {note}" if note else "")


def main():
    ap = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    ap.add_argument("--tool", default=str(ROOT / "build/release/tool/herberge"))
    ap.add_argument("--corpus", default=os.environ.get("HERBERGE_CORPUS", str(ROOT.parent / "shared" / "corpus")))
    ap.add_argument("--millions", type=float, default=400)
    ap.add_argument("--table")
    ap.add_argument("select", nargs="*")
    opt = ap.parse_args()
    area = pathlib.Path(opt.corpus) / "bios"
    if not (area / "cases.json").exists():
        print("no corpus: nothing was compared")
        return 77
    cases = [c for c in json.loads((area / "cases.json").read_text()) if not opt.select or any(c["id"].startswith(s) or c["base"].startswith(s) for s in opt.select)]
    known = json.loads((ROOT / "conformance" / "rehearsal-known.json").read_text())
    with concurrent.futures.ThreadPoolExecutor(max_workers=os.cpu_count()) as pool:
        results = list(pool.map(lambda c: compare(opt, area, c), cases))
    bad = 0
    for name, verdict, note in results:
        if verdict != "agrees":
            explained = known.get(name)
            bad += explained is None
            print(f"{name}: {verdict}: {note}" + (f"  [explained: {explained}]" if explained else ""))
    agreeing = sum(v == "agrees" for _, v, _ in results)
    if opt.table:
        with open(opt.table, "w") as f:
            for name, verdict, note in results:
                f.write(f"| `{name}` | {verdict} | {note} |\n")
    print(f"{agreeing} of {len(results)} agree, {len(results) - agreeing - bad} differ for a known reason, {bad} differ")
    return 1 if bad else 0


if __name__ == "__main__":
    sys.exit(main())
