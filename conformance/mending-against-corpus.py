#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""For how many really broken disks does `mend` find a change that is proven?

usage: mending-against-corpus.py [--tool PATH] [--corpus DIR] [--table FILE] [--write DIR] [SELECT ...]

For every case of a corpus of really booted disks in which a system stops: asks `mend` for that system. --write keeps the
patch of the first proposal of each case in DIR, named after the case. Exit status: 0, or 77 where there is no corpus.
"""
import argparse, collections, json, os, pathlib, shutil, subprocess, sys, tempfile, zlib

ROOT = pathlib.Path(__file__).resolve().parent.parent
AREAS = ("bios", "uefi", "windows", "embedded")


def unpack(packed, target):
    subprocess.run(["zstd", "-dqf", "--long=27", "--sparse", str(packed), "-o", str(target)], check=True)


def make_disk(area, case, base, disk):
    subprocess.run(["cp", "--sparse=always", str(base), str(disk)], check=True)
    patches = case["patches"]
    if isinstance(patches, str):
        patches = json.loads(zlib.decompress((area / patches).read_bytes()))
    with open(disk, "r+b") as f:
        for p in patches:
            f.seek(p["offset"])
            f.write(bytes.fromhex(p["hex"]) if "hex" in p else bytes(p["zero"]))


def arguments(opt, area, case, disk, work):
    extra = case["extra"]
    out = [opt.tool, "mend", str(disk)]
    for name in extra.get("disks", []):
        other = work / f"{name}.img"
        if not other.exists():
            unpack(area / "bases" / f"{name}.img.zst", other)
        out.append(str(other))
    kind = case["firmware"]
    out += ["--format", "json", "--firmware", "bios" if kind == "bios" else "uefi" if kind.startswith("uefi") else "board:" + kind]
    if extra.get("variables"):
        source, variables = area / extra["variables"], work / "variables.fd"
        unpack(source, variables) if source.suffix == ".zst" else shutil.copy(source, variables)
        out += ["--variables", str(variables)]
    if extra.get("unreadable"):
        lost = work / "unreadable.txt"
        lost.write_text("".join(f"{first} {count}\n" for first, count in extra["unreadable"]))
        out += ["--unreadable", str(lost)]
    return out


def judge(opt, area, case, work):
    """Mended: every system that stops in this case has a proposal. Also the first proposal, or what must be brought."""
    base = work / f"{area.name}-{case['base']}.img"
    if not base.exists():
        unpack(area / "bases" / f"{case['base']}.img.zst", base)
    disk = work / "case.img"
    make_disk(area, case, base, disk)
    ran = subprocess.run(arguments(opt, area, case, disk, work), capture_output=True, text=True)
    if ran.returncode not in (0, 1):
        return None, ran.stderr.strip()
    systems = json.loads(ran.stdout)["systems"]
    stops = [e for e in case["expected"] if e.get("stops_at")]
    said = None
    for one in stops:
        found = [s for s in systems if s["place"] == one.get("place")] or [s for s in systems if s["place"] is None] or systems
        if not found:
            return False, "not listed"
        if not found[0]["proposals"]:
            return False, found[0]["bring"]
        said = said or found[0]["proposals"][0]
    if opt.write:
        pathlib.Path(opt.write, case["id"] + ".json").write_text(json.dumps(said["patch"]))
    return True, said["title"]


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--tool", default=str(ROOT / "build/release/tool/herberge"))
    parser.add_argument("--corpus", default=os.environ.get("HERBERGE_CORPUS", str(ROOT.parent / "shared/corpus")))
    parser.add_argument("--table")
    parser.add_argument("--write")
    parser.add_argument("select", nargs="*")
    opt = parser.parse_args()
    corpus = pathlib.Path(opt.corpus)
    if not (corpus / "run").exists():
        print(f"no corpus at {corpus}")
        return 77
    counts = collections.defaultdict(lambda: [0, 0])
    rows = []
    with tempfile.TemporaryDirectory() as folder:
        for name in AREAS:
            area = corpus / name
            for case in json.loads((area / "cases.json").read_text()):
                if not any(e.get("stops_at") for e in case["expected"]):
                    continue
                if opt.select and not any(case["id"].startswith(s) for s in opt.select):
                    continue
                mended, text = judge(opt, area, case, pathlib.Path(folder))
                counts[name][0] += bool(mended)
                counts[name][1] += 1
                rows.append((case["id"], case["why"], mended, text))
                print(f"{case['id']}: {'mended' if mended else 'not mended'}: {text}", flush=True)
    for name, (good, every) in counts.items():
        print(f"{name}: {good} of {every}")
    print(f"all: {sum(g for g, _ in counts.values())} of {sum(e for _, e in counts.values())}")
    if opt.table:
        cell = lambda text: str(text).replace("|", "\\|").replace("\n", " ")
        with open(opt.table, "w") as out:
            out.write("| area | mended | of |\n|---|---|---|\n")
            for name, (good, every) in counts.items():
                out.write(f"| {name} | {good} | {every} |\n")
            out.write("\n| case | what is broken | mended by, or what must be brought |\n|---|---|---|\n")
            for row in rows:
                out.write(f"| {row[0]} | {cell(row[1])} | {'**' + cell(row[3]) + '**' if row[2] else cell(row[3])} |\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
