#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Do the firmware's services of a rehearsal answer as SeaBIOS does?

services-of-the-bios.py [--tests PATH]

The tests of the services write their disks, each of which asks one service and prints its registers; here they are started in a
virtual PC, a tenth of a second each. What differs for a known reason is told: the PC here has no screen adapter, and gives a small
disk 16 heads. Exit status: 0 all agree, 1 some differ, 77 there is no qemu-system-x86_64 or no test program."""
import argparse, concurrent.futures, os, pathlib, re, select, shutil, subprocess, sys, tempfile, time

here = pathlib.Path(__file__).resolve().parent
KNOWN = {"Alternate": "no screen adapter", "Combination": "no screen adapter", "Mode": "no screen adapter", "Equipment": "no screen adapter", "Cursor": "the firmware has printed lines before",
         "DiskParameters": "16 heads", "DiskType": "16 heads, and a cylinder less"}
ANSWER = re.compile(rb"(?:[0-9A-F]{4} ){5}")


def real(image):
    command = ["qemu-system-x86_64", "-accel", "tcg", "-m", "64", "-display", "none", "-vga", "none", "-monitor", "none", "-serial", "stdio", "-net", "none", "-no-reboot", "-machine", "pc,graphics=off",
               "-drive", f"file={image},format=raw,if=virtio,snapshot=on"]
    process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL)
    seen, begin, found = b"", time.time(), None
    try:
        while found is None and time.time() - begin < 60:
            if select.select([process.stdout], [], [], 0.5)[0]:
                piece = os.read(process.stdout.fileno(), 65536)
                if not piece:
                    break
                seen += piece
            found = ANSWER.search(re.sub(rb"\x1b\[[0-9;]*[A-Za-z]", b"", seen))
    finally:
        process.kill()
        process.wait()
    return found.group(0).decode() if found else "nothing"


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--tests", default=str(here / "../build/release/tests/herberge_tests"))
    args = parser.parse_args()
    if not shutil.which("qemu-system-x86_64") or not os.access(args.tests, os.X_OK):
        print("no qemu-system-x86_64 or no test program", file=sys.stderr)
        return 77
    with tempfile.TemporaryDirectory() as folder:
        subprocess.run([args.tests, "--gtest_filter=*BiosService*"], env=dict(os.environ, HERBERGE_KEEP_PIECES=folder), stdout=subprocess.DEVNULL)
        images = sorted(pathlib.Path(folder).glob("*.img"))
        agree = known = 0
        with concurrent.futures.ThreadPoolExecutor(os.cpu_count()) as pool:
            for image, answer in zip(images, pool.map(real, images)):
                said = image.with_suffix(".prints").read_text()
                if answer == said:
                    agree += 1
                elif image.stem in KNOWN:
                    known += 1
                    print(f"{image.stem}: {said}; SeaBIOS: {answer} [{KNOWN[image.stem]}]")
                else:
                    print(f"{image.stem}: {said}; SeaBIOS: {answer}")
    print(f"{agree} of {len(images)} agree, {known} differ for a known reason, {len(images) - agree - known} differ")
    return 0 if images and agree + known == len(images) else 1


if __name__ == "__main__":
    sys.exit(main())
