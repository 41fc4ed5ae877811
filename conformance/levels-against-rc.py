#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Run levels of System V's init: what `startup --level` lists, against what the root's own rc script runs.

levels-against-rc.py [--tool BINARY] [--root FOLDER] [CASE ...]
  --root  a bootstrapped root with sysvinit-core (by default debootstrap makes one, and needs root rights and the network)

In the root every script of /etc/init.d is replaced by one that writes down that it was called; then /etc/init.d/rc (or rcS) is
run for each level, once in the order of the numbers and once with startpar. Ours reads the same folder as an ext4 image. In
the order of the numbers both lists must be the same; with startpar, which starts several at once, the same scripts must run. Each case changes a few files of
the root first. Prints a line per case and level that differs, then the count; exit status 0: none does.
"""
import argparse, json, os, pathlib, shutil, subprocess, sys, tempfile

here = os.path.dirname(os.path.abspath(__file__))
parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
parser.add_argument("--tool", default=os.path.join(here, "../build/release/tool/herberge"))
parser.add_argument("--root")
parser.add_argument("case", nargs="*", metavar="CASE")
args = parser.parse_args()
work = tempfile.mkdtemp(prefix="levels-")
LEVELS = "S12345"
OWN = """#!/bin/sh
### BEGIN INIT INFO
# Provides: {name}
# Required-Start: {needs}
# Required-Stop:
# Default-Start: {levels}
# Default-Stop:
### END INIT INFO
"""
LOG = 'echo "$(basename "$0") $1" >> /var/log/called\n'


def own(root, name, needs="", levels="2 3 4 5", enable=True):
    path = root / "etc/init.d" / name
    path.write_text(OWN.format(name=name, needs=needs, levels=levels) + LOG)
    path.chmod(0o755)
    if enable:
        subprocess.run(["chroot", root, "update-rc.d", name, "defaults"], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)


def link(root, level, name, target):
    path = root / f"etc/rc{level}.d" / name
    path.unlink(missing_ok=True)
    path.symlink_to(target)


def remove(root, *names):
    for name in names:
        for path in root.glob(name):
            path.unlink()


CASES = {
    "as-it-came": lambda r: None,
    "disabled": lambda r: subprocess.run(["chroot", r, "update-rc.d", "cron", "disable"], check=True, stderr=subprocess.DEVNULL),
    "own-script": lambda r: own(r, "bell", "$remote_fs"),
    "own-after-another": lambda r: (own(r, "bell"), own(r, "stove", "bell")),
    "own-on-level-3": lambda r: own(r, "bell", levels="3"),
    "own-at-begin": lambda r: own(r, "bell", "mountall", "S"),
    "not-linked": lambda r: own(r, "bell", enable=False),
    "dangling": lambda r: link(r, 2, "S03gone", "../init.d/gone"),
    "linked-by-hand": lambda r: (own(r, "bell", enable=False), link(r, 2, "S99bell", "../init.d/bell")),
    "low-number": lambda r: (own(r, "bell", enable=False), link(r, 2, "S00bell", "../init.d/bell")),
    "one-digit": lambda r: (own(r, "bell", enable=False), link(r, 2, "S5bell", "../init.d/bell")),
    "no-number": lambda r: (own(r, "bell", enable=False), link(r, 2, "Sbell", "../init.d/bell")),
    "stop-link": lambda r: (own(r, "bell", enable=False), link(r, 3, "K01bell", "../init.d/bell")),
    "file-in-level": lambda r: ((r / "etc/rc2.d/S04here").write_text("#!/bin/sh\n" + LOG), (r / "etc/rc2.d/S04here").chmod(0o755)),
    "folder-in-level": lambda r: (r / "etc/rc2.d/S04folder").mkdir(),
    "level-empty": lambda r: remove(r, "etc/rc3.d/S*"),
    "backup-name": lambda r: (own(r, "bell", enable=False), link(r, 2, "S04bell.dpkg-old", "../init.d/bell")),
}


def called(root, level, legacy):
    """The scripts that rc starts, in order."""
    log = root / "var/log/called"
    log.unlink(missing_ok=True)
    mark = root / "etc/init.d/.legacy-bootordering"
    if legacy:
        mark.touch()
    else:
        mark.unlink(missing_ok=True)
    subprocess.run(["chroot", root, "/etc/init.d/rc", level], env={"PATH": "/usr/sbin:/usr/bin:/sbin:/bin", "RUNLEVEL": level, "PREVLEVEL": "N"},
                   stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, stdin=subprocess.DEVNULL, timeout=60)
    mark.unlink(missing_ok=True)
    lines = log.read_text().splitlines() if log.exists() else []
    return [line.split()[0] for line in lines if line.endswith(" start")]


def listed(image, level):
    done = subprocess.run([args.tool, "startup", "--format", "json", "--level", level, image], capture_output=True, text=True)
    if not done.stdout:
        return ["? " + done.stderr.strip()]
    steps = json.loads(done.stdout)["steps"]
    own = "at the begin" if level == "S" else f"run level {level}"
    return [s["name"] for s in steps if s["group"] == own and s["state"] != "skipped" and s["name"][0] == "S" and s["command"].startswith(("/etc/rc", "/etc/init.d/")) and s["command"].endswith(" start")]


def stem(name):
    return name.lstrip("S").lstrip("0123456789") or name


def main():
    root = pathlib.Path(args.root or work + "/root")
    if not args.root:
        subprocess.run(["debootstrap", "--variant=minbase", "--include=sysvinit-core,sysv-rc,initscripts,insserv,cron,ssh,udev,kmod,ifupdown", "bookworm", root],
                       check=True, stdout=subprocess.DEVNULL)
    differ = count = 0
    for name, change in CASES.items():
        if args.case and name not in args.case:
            continue
        case = pathlib.Path(work) / "case"
        subprocess.run(["rm", "-rf", case], check=True)
        subprocess.run(["cp", "-a", root, case], check=True)
        os.makedirs(case / "proc", exist_ok=True)
        # startpar and rc ask for these.
        subprocess.run(["mount", "-t", "proc", "none", case / "proc"], check=True)
        try:
            for script in (case / "etc/init.d").iterdir():
                if script.is_symlink() or script.name in ("rc", "rcS", "README", "skeleton") or script.name.startswith("."):
                    continue
                head = [line for line in script.read_text(errors="replace").splitlines() if line.startswith("#")]
                script.write_text("\n".join(head) + "\n" + LOG)
                script.chmod(0o755)
            change(case)
            real = {level: (called(case, level, True), called(case, level, False)) for level in LEVELS}
        finally:
            subprocess.run(["umount", case / "proc"], check=True)
        remove(case, "var/log/called")
        image = os.path.join(work, "root.img")
        for legacy in (True, False):
            if legacy:
                (case / "etc/init.d/.legacy-bootordering").touch()
            else:
                remove(case, "etc/init.d/.legacy-bootordering")
            subprocess.run(["mke2fs", "-q", "-F", "-t", "ext4", "-d", case, image, "900M"], check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            for level in LEVELS:
                count += 1
                ours = [stem(one) for one in listed(image, level)]
                # A script is called by the name of its link in the order of the numbers, by its own with startpar.
                theirs = [stem(one) for one in real[level][0 if legacy else 1]]
                if ours != theirs and (legacy or sorted(ours) != sorted(theirs)):
                    differ += 1
                    print(f"{name}, level {level}: {'rc' if legacy else 'startpar'} runs {theirs}, ours {ours}")
    print(f"{count - differ} of {count} agree")
    shutil.rmtree(work, ignore_errors=True)
    return 1 if differ else 0


sys.exit(main())
