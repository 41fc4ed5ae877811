#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Do disks really start once they are mended?

usage: mended-disks-boot.py [--tool PATH] [--corpus DIR] [--jobs N] [--limit SECONDS] [--table FILE] [--area AREA] [SELECT ...]

For every Linux case of a corpus of really booted disks (boards: those with U-Boot in the flash of an emulated arm64 one)
for which `mend` has a proposal: applies the first one to a copy of the disk with `apply` (or sets what it says of the
firmware), and starts the copy in an emulated machine (Debian's qemu-system-x86, seabios, ovmf; qemu-system-arm,
u-boot-qemu; no network). It starts if its console shows that the system's own start-up is through. Exit status: 0 all start, 1 some do not, 77
where there is no corpus or no emulator.
"""
import argparse, concurrent.futures, importlib.machinery, importlib.util, json, os, pathlib, re, shutil, subprocess, sys, tempfile, threading, time

HERE = pathlib.Path(__file__).resolve().parent
loader = importlib.machinery.SourceFileLoader("mending", str(HERE / "mending-against-corpus.py"))
mending = importlib.util.module_from_spec(importlib.util.spec_from_loader("mending", loader))
loader.exec_module(mending)

# What its start-up script says, or (where the entry names no serial console) its init behind that.
UP = (b"USERSPACE-UP", b"Please press Enter to activate this console")
OVMF = pathlib.Path("/usr/share/OVMF")


def machine(case, disk, variables, work):
    if case["firmware"] == "uboot-qemu-arm64":
        return ["qemu-system-aarch64", "-M", "virt", "-cpu", "cortex-a57", "-m", "512", "-nographic", "-no-reboot", "-nic", "none",
                "-bios", "/usr/lib/u-boot/qemu_arm64/u-boot.bin", "-drive", f"file={disk},format=raw,if=virtio"]
    out = ["qemu-system-x86_64", "-m", "512", "-nographic", "-no-reboot", "-nic", "none",
           "-drive", f"file={disk},format=raw,if=virtio"]
    if case["firmware"] == "bios":
        return out
    secure = case["firmware"] == "uefi-secure"
    code = OVMF / ("OVMF_CODE_4M.secboot.fd" if secure else "OVMF_CODE_4M.fd")
    store = work / "vars.fd"
    if variables:
        mending.unpack(variables, store) if variables.suffix == ".zst" else shutil.copy(variables, store)
        size = store.stat().st_size
        if size < 528 * 1024:
            code = OVMF / ("OVMF_CODE.secboot.fd" if secure else "OVMF_CODE.fd")
    else:
        shutil.copy(OVMF / "OVMF_VARS_4M.fd", store)
    return out + ["-machine", "q35,smm=on" if secure else "q35",
                  "-global", "ICH9-LPC.disable_s3=1",
                  "-drive", f"if=pflash,format=raw,unit=0,readonly=on,file={code}",
                  "-drive", f"if=pflash,format=raw,unit=1,file={store}"]


def start(command, limit):
    """The console until the system is up, or the time is over."""
    run = subprocess.Popen(command, stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
    console = bytearray()

    def read():
        for piece in iter(lambda: run.stdout.read1(4096), b""):
            console.extend(piece)

    reader = threading.Thread(target=read, daemon=True)
    reader.start()
    end = time.time() + limit
    while time.time() < end and run.poll() is None and not any(text in console for text in UP):
        time.sleep(0.5)
    run.kill()
    run.wait()
    reader.join(5)
    return bytes(console)


def boot(opt, area, case):
    with tempfile.TemporaryDirectory() as folder:
        work = pathlib.Path(folder)
        base = pathlib.Path(opt.bases) / f"{area.name}-{case['base']}.img"
        if not base.exists():
            return case, None, "no base"
        disk = work / "case.img"
        mending.make_disk(area, case, base, disk)
        asked = mending.arguments(opt, area, case, disk, work)
        ran = subprocess.run(asked, capture_output=True, text=True)
        proposals = [p for s in json.loads(ran.stdout)["systems"] for p in s["proposals"]] if ran.returncode in (0, 1) else []
        if not proposals:
            return case, None, "no proposal"
        title = proposals[0]["title"]
        mended = disk
        if proposals[0]["patch"]["changes"]:
            patch = work / "patch.json"
            patch.write_text(json.dumps(proposals[0]["patch"]))
            mended = work / "mended.img"
            done = subprocess.run([opt.tool, "apply", str(disk), "--patch", str(patch), "--to", str(mended)], capture_output=True, text=True)
            if done.returncode != 0:
                return case, False, "apply: " + done.stderr
        extra = case["extra"].get("variables")
        variables = area / extra if extra else None
        if proposals[0]["variables"]:
            variables = work / "changed.fd"
            done = subprocess.run(asked + ["--variables-to", str(variables)], capture_output=True, text=True)
            if not variables.exists():
                return case, False, "variables: " + done.stderr
        if "switch Secure Boot off" in title:
            case, variables = dict(case, firmware="uefi"), None
        console = start(machine(case, mended, variables, work), opt.limit)
        if any(text in console for text in UP):
            return case, True, title
        shown = re.sub(r"\x1b\[[0-9;]*[A-Za-z]|[^ -~\n]", "", console.decode(errors="replace"))
        return case, False, title + " || " + " / ".join(shown.split("\n")[-4:])[-300:]


def main():
    parser = argparse.ArgumentParser()
    parser.add_argument("--tool", default=str(mending.ROOT / "build/release/tool/herberge"))
    parser.add_argument("--corpus", default=os.environ.get("HERBERGE_CORPUS", str(mending.ROOT.parent / "shared/corpus")))
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--limit", type=int, default=240)
    parser.add_argument("--table")
    parser.add_argument("--area", action="append")
    parser.add_argument("select", nargs="*")
    opt = parser.parse_args()
    corpus = pathlib.Path(opt.corpus)
    if not (corpus / "run").exists() or not shutil.which("qemu-system-x86_64"):
        print("no corpus, or no emulator")
        return 77
    rows = []
    with tempfile.TemporaryDirectory() as bases, concurrent.futures.ThreadPoolExecutor(opt.jobs) as pool:
        opt.bases = bases
        work = []
        for name in opt.area or ("bios", "uefi", "embedded"):
            area = corpus / name
            for case in json.loads((area / "cases.json").read_text()):
                stops = [e for e in case["expected"] if e.get("stops_at")]
                if name == "embedded" and case["firmware"] != "uboot-qemu-arm64":
                    continue
                if not stops or (opt.select and not any(case["id"].startswith(s) for s in opt.select)):
                    continue
                base = pathlib.Path(bases) / f"{name}-{case['base']}.img"
                if not base.exists():
                    mending.unpack(area / "bases" / f"{case['base']}.img.zst", base)
                work.append(pool.submit(boot, opt, area, case))
        for one in concurrent.futures.as_completed(work):
            case, up, text = one.result()
            if up is None:
                continue
            rows.append((case["id"], up, text))
            print(f"{case['id']}: {'starts' if up else 'DOES NOT START'}: {text}", flush=True)
    good = sum(1 for r in rows if r[1])
    print(f"{good} of {len(rows)} mended disks start")
    if opt.table:
        with open(opt.table, "w") as out:
            out.write("| case | mended by | in the emulated PC |\n|---|---|---|\n")
            for case, up, text in sorted(rows):
                cell = text.replace("|", "\\|").replace("\n", " ")
                out.write(f"| {case} | {cell} | {'starts' if up else 'does not start'} |\n")
    return 0 if rows and good == len(rows) else 1


if __name__ == "__main__":
    sys.exit(main())
