#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Units of systemd: what ours makes of a root, against what that root's own systemd says.

units-against-systemd.py [--cases BINARY] [--root FOLDER] [--random N] [--seed N] [CASE ...]
  --root    a bootstrapped root with systemd (by default debootstrap makes one, and needs root rights and the network)
  --random  further cases by chance

In the root, `systemd --test` loads all units of a target, with all generators, and prints them with their ties and the jobs of
the transaction; nothing is started. Ours reads the same folder as an ext4 image. Compared are each unit's state, its ties and
the jobs. Each case changes a few files of the root first. Needs debootstrap, e2fsprogs, and the right to mount and chroot.
Prints a line per case that differs, then the count; exit status 0: none does.
"""
import argparse, os, pathlib, random, re, shutil, subprocess, sys, tempfile

here = os.path.dirname(os.path.abspath(__file__))
parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
parser.add_argument("--cases", default=os.path.join(here, "../build/release/herberge_unit_cases"))
parser.add_argument("--root")
parser.add_argument("--random", type=int, default=0)
parser.add_argument("--seed", type=int, default=1)
parser.add_argument("--show", type=int, default=6, help="differences shown of a case")
parser.add_argument("case", nargs="*", metavar="CASE")
args = parser.parse_args()
work = tempfile.mkdtemp(prefix="units-")

KINDS = ("Requires", "Requisite", "BindsTo", "Wants", "Upholds", "PartOf", "Conflicts", "Before", "After", "OnFailure", "OnSuccess", "Triggers")
# What of a root can change what systemd loads.
FOLDERS = ("etc/systemd", "etc/init.d", "lib/systemd/system", "usr/lib/systemd/system", "usr/local/lib/systemd", "etc/fstab", "etc/crypttab", "etc/rc.local",
           "etc/machine-id", "etc/hostname", "etc/os-release", "usr/lib/os-release", "opt", "system-update") + tuple(f"etc/rc{n}.d" for n in "0123456S")


def sh(*command, **more):
    return subprocess.run(list(map(str, command)), check=True, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, **more)


class Root:
    def __init__(self, folder):
        self.folder = folder
        self.mounted = []
        for name, kind in (("proc", "proc"), ("sys", "tmpfs"), ("run", "tmpfs"), ("dev", "tmpfs")):
            self.mount(kind, name)
        os.makedirs(folder + "/sys/fs/cgroup")
        self.mount("cgroup2", "sys/fs/cgroup")
        os.chmod(folder + "/run", 0o777)
        # With no console and no kernel's log its messages come to standard error.
        os.mknod(folder + "/dev/null", 0o20666, os.makedev(1, 3))
        os.chmod(folder + "/dev/null", 0o666)
        machine = pathlib.Path(folder + "/etc/machine-id")
        machine.write_text("0" * 31 + "1\n")

    def mount(self, kind, name):
        path = os.path.join(self.folder, name)
        os.makedirs(path, exist_ok=True)
        sh("mount", "-t", kind, "none", path)
        self.mounted.append(path)

    def leave(self):
        for path in reversed(self.mounted):
            subprocess.run(["umount", path])

    def says(self, target, line):
        shutil.rmtree(self.folder + "/run/systemd", ignore_errors=True)
        done = subprocess.run(["chroot", "--userspec=65534:65534", self.folder, "/usr/bin/env", "-i", "PATH=/usr/sbin:/usr/bin:/sbin:/bin",
                               "SYSTEMD_IN_INITRD=0", f"SYSTEMD_PROC_CMDLINE={line}", "/lib/systemd/systemd", "--test", "--system", "--no-pager", "--log-level=info",
                               f"--unit={target}"], capture_output=True, text=True, errors="replace")
        return done.stdout + done.stderr


def parse(text):
    units, ties, jobs, alias = {}, set(), set(), {}
    name = None
    for line in text.split("\n"):
        if match := re.match(r"\t*-> Unit (.*):$", line):
            name = match[1]
        elif match := re.match(r"\t*-> Job \d+:$", line):
            name = None
        elif match := re.match(r"\t+Action: (\S+) -> start$", line):
            jobs.add(match[1])
        elif name and (match := re.match(r"\t+Unit Load State: (\S+)$", line)):
            units[name] = match[1]
        elif name and (match := re.match(r"\t+Alias: (.*)$", line)):
            alias[match[1]] = name
        elif name and (match := re.match(r"\t+(\w+): (\S+) \((.*)\)$", line)) and match[1] in KINDS:
            if "origin" in match[3] or "destination" in match[3]:
                ties.add((name, match[1], match[2]))
    return units, ties, jobs


def ours(folder, target, line):
    image = os.path.join(work, "root.img")
    part = os.path.join(work, "part")
    shutil.rmtree(part, ignore_errors=True)
    for name in FOLDERS + ("usr/sbin", "sbin"):
        source = os.path.join(folder, name)
        if not os.path.lexists(source):
            continue
        os.makedirs(os.path.dirname(os.path.join(part, name)), exist_ok=True)
        if name.endswith("sbin"):
            os.makedirs(os.path.join(part, name), exist_ok=True)
            for one in os.listdir(source):
                if one.startswith("fsck."):
                    pathlib.Path(part, name, one).write_text("x")
        elif os.path.islink(source):
            os.symlink(os.readlink(source), os.path.join(part, name))
        elif os.path.isdir(source):
            shutil.copytree(source, os.path.join(part, name), symlinks=True, dirs_exist_ok=True)
        else:
            shutil.copy(source, os.path.join(part, name))
    if os.path.islink(os.path.join(folder, "lib")):
        shutil.rmtree(os.path.join(part, "lib"), ignore_errors=True)
        os.symlink("usr/lib", os.path.join(part, "lib"))
        shutil.rmtree(os.path.join(part, "sbin"), ignore_errors=True)
        os.symlink("usr/sbin", os.path.join(part, "sbin"))
    subprocess.run(["rm", "-f", image])
    sh("mke2fs", "-q", "-t", "ext4", "-d", part, image, "24M")
    done = subprocess.run([args.cases, image, target, line], capture_output=True, text=True)
    units, ties, jobs, rest = {}, set(), set(), []
    for row in done.stdout.split("\n"):
        words = row.split(" ")
        if words[0] == "unit":
            units[words[1]] = words[2]
        elif words[0] == "tie" and words[2] in KINDS:
            ties.add((words[1], words[2], words[3]))
        elif words[0] == "job":
            jobs.add(words[1])
        elif words[0]:
            rest.append(row)
    return units, ties, jobs, rest


def changed(folder, files):
    """Puts the files of a case into the root; gives back what undoes that."""
    undo = []
    for name, content in files.items():
        path = os.path.join(folder, name)
        made = []
        parent = os.path.dirname(path)
        while not os.path.isdir(parent):
            made.append(parent)
            parent = os.path.dirname(parent)
        os.makedirs(os.path.dirname(path), exist_ok=True)
        old = None
        if os.path.lexists(path):
            old = tempfile.mktemp(dir=work)
            os.rename(path, old)
        undo.append((path, old, made))
        if content is None:
            continue
        if content.startswith("->"):
            os.symlink(content[2:], path)
        else:
            pathlib.Path(path).write_text(content)
            os.chmod(path, 0o755 if name.startswith("etc/init.d") or name == "etc/rc.local" else 0o644)

    def back():
        for path, old, made in reversed(undo):
            if os.path.lexists(path):
                os.remove(path)
            if old:
                os.rename(old, path)
            for one in made:
                shutil.rmtree(one, ignore_errors=True)
    return back


E = "etc/systemd/system/"
SERVICE = "[Service]\nExecStart=/bin/true\n"
CASES = {
    # name: (files, target, kernel's arguments)
    "multi-user": ({}, "multi-user.target", ""),
    "graphical": ({}, "graphical.target", ""),
    "rescue": ({}, "rescue.target", ""),
    "emergency": ({}, "emergency.target", ""),
    "mask-word": ({}, "multi-user.target", "systemd.mask=cron.service systemd.mask=ssh"),
    "wants-word": ({}, "multi-user.target", "systemd.wants=debug-shell.service"),
    "debug-shell": ({}, "multi-user.target", "systemd.debug-shell"),
    "wanted": ({E + "inn.service": SERVICE, E + "multi-user.target.wants/inn.service": "->../inn.service"}, "multi-user.target", ""),
    "required": ({E + "inn.service": SERVICE, E + "multi-user.target.requires/inn.service": "->../inn.service"}, "multi-user.target", ""),
    "wanted-missing": ({E + "multi-user.target.wants/inn.service": "->../inn.service"}, "multi-user.target", ""),
    "required-missing": ({E + "multi-user.target.requires/inn.service": "->../inn.service"}, "multi-user.target", ""),
    "wanted-needs-missing": ({E + "inn.service": "[Unit]\nRequires=none.service\n" + SERVICE, E + "multi-user.target.wants/inn.service": "->../inn.service"}, "multi-user.target", ""),
    "wanted-needs-masked": ({E + "inn.service": "[Unit]\nRequires=other.service\n" + SERVICE, E + "other.service": "->/dev/null", E + "multi-user.target.wants/inn.service": "->../inn.service"}, "multi-user.target", ""),
    "masked": ({E + "cron.service": "->/dev/null"}, "multi-user.target", ""),
    "masked-empty": ({E + "cron.service": ""}, "multi-user.target", ""),
    "masked-basic": ({E + "basic.target": "->/dev/null"}, "multi-user.target", ""),
    "masked-link": ({E + "multi-user.target.wants/cron.service": "->/dev/null"}, "multi-user.target", ""),
    "file-in-wants": ({E + "inn.service": SERVICE, E + "multi-user.target.wants/inn.service": SERVICE}, "multi-user.target", ""),
    "alias": ({E + "inn.service": SERVICE, E + "lodge.service": "->inn.service", E + "multi-user.target.wants/lodge.service": "->../lodge.service"}, "multi-user.target", ""),
    "alias-two": ({E + "inn.service": SERVICE, E + "lodge.service": "->inn.service", E + "hut.service": "->lodge.service", E + "multi-user.target.wants/hut.service": "->../hut.service",
                   E + "cron.service.d/x.conf": "[Unit]\nAfter=lodge.service\n"}, "multi-user.target", ""),
    "alias-dangling": ({E + "lodge.service": "->inn.service", E + "multi-user.target.wants/lodge.service": "->../lodge.service"}, "multi-user.target", ""),
    "alias-other-kind": ({E + "inn.service": SERVICE, E + "lodge.target": "->inn.service", E + "multi-user.target.wants/lodge.target": "->../lodge.target"}, "multi-user.target", ""),
    "linked-outside": ({"opt/inn.service": SERVICE, E + "inn.service": "->/opt/inn.service", E + "multi-user.target.wants/inn.service": "->/opt/inn.service"}, "multi-user.target", ""),
    "linked-outside-gone": ({E + "inn.service": "->/opt/gone.service", E + "multi-user.target.wants/inn.service": "->/opt/inn.service"}, "multi-user.target", ""),
    "default-link": ({E + "default.target": "->/lib/systemd/system/multi-user.target"}, "default.target", ""),
    "default-gone": ({E + "default.target": "->/lib/systemd/system/none.target"}, "default.target", ""),
    "default-masked": ({E + "default.target": "->/dev/null"}, "default.target", ""),
    "override": ({E + "cron.service": "[Unit]\nAfter=inn.service\n" + SERVICE}, "multi-user.target", ""),
    "drop-in": ({E + "cron.service.d/a.conf": "[Unit]\nRequires=none.service\n", E + "cron.service.d/b.conf": "[Unit]\nAfter=sshd.service\n"}, "multi-user.target", ""),
    "drop-in-masked": ({"usr/lib/systemd/system/cron.service.d/a.conf": "[Unit]\nAfter=x.service\n", E + "cron.service.d/a.conf": "->/dev/null"}, "multi-user.target", ""),
    "drop-in-hidden": ({"usr/lib/systemd/system/cron.service.d/a.conf": "[Unit]\nAfter=x.service\n", E + "cron.service.d/a.conf": "[Unit]\nAfter=y.service\n"}, "multi-user.target", ""),
    "drop-in-type": ({E + "service.d/a.conf": "[Unit]\nAfter=every.service\n"}, "multi-user.target", ""),
    "drop-in-prefix": ({E + "inn-room-one.service": SERVICE, E + "inn-.service.d/a.conf": "[Unit]\nAfter=a.service\n", E + "inn-room-.service.d/b.conf": "[Unit]\nAfter=b.service\n",
                        E + "multi-user.target.wants/inn-room-one.service": "->../inn-room-one.service"}, "multi-user.target", ""),
    "drop-in-alone": ({E + "inn.service.d/a.conf": SERVICE, E + "multi-user.target.wants/inn.service": "->../inn.service"}, "multi-user.target", ""),
    "template": ({E + "room@.service": "[Unit]\nAfter=key-%i.service\nWants=%p-%I.service\n" + SERVICE, E + "multi-user.target.wants/room@one.service": "->../room@.service",
                  E + "multi-user.target.wants/room@a-b.service": "->../room@.service"}, "multi-user.target", ""),
    "template-drop-in": ({E + "room@.service": SERVICE, E + "room@.service.d/x.conf": "[Unit]\nAfter=x%i.service\n", E + "room@one.service.d/y.conf": "[Unit]\nAfter=y%i.service\n",
                          E + "multi-user.target.wants/room@one.service": "->../room@.service"}, "multi-user.target", ""),
    "template-wants": ({E + "room@.service": SERVICE, E + "key@.service": SERVICE, E + "room@.service.wants/key@.service": "->../key@.service",
                        E + "multi-user.target.wants/room@one.service": "->../room@.service"}, "multi-user.target", ""),
    "template-alias": ({E + "room@.service": SERVICE, E + "chamber@.service": "->room@.service", E + "multi-user.target.wants/chamber@one.service": "->../chamber@.service"}, "multi-user.target", ""),
    "template-instance-alias": ({E + "room@.service": SERVICE, E + "suite.service": "->room@best.service", E + "multi-user.target.wants/suite.service": "->../suite.service"}, "multi-user.target", ""),
    "template-alone": ({E + "room@.service": SERVICE, E + "multi-user.target.wants/room@.service": "->../room@.service"}, "multi-user.target", ""),
    "conflict": ({E + "inn.service": "[Unit]\nConflicts=cron.service\n" + SERVICE, E + "multi-user.target.wants/inn.service": "->../inn.service"}, "multi-user.target", ""),
    "conflict-required": ({E + "inn.service": "[Unit]\nConflicts=cron.service\n" + SERVICE, E + "multi-user.target.requires/inn.service": "->../inn.service"}, "multi-user.target", ""),
    "conflict-both-required": ({E + "inn.service": "[Unit]\nConflicts=hut.service\n" + SERVICE, E + "hut.service": SERVICE, E + "multi-user.target.requires/inn.service": "->../inn.service",
                                E + "multi-user.target.requires/hut.service": "->../hut.service"}, "multi-user.target", ""),
    "cycle": ({E + "a.service": "[Unit]\nAfter=b.service\n" + SERVICE, E + "b.service": "[Unit]\nAfter=a.service\n" + SERVICE, E + "multi-user.target.requires/a.service": "->../a.service",
               E + "multi-user.target.wants/b.service": "->../b.service"}, "multi-user.target", ""),
    "cycle-required": ({E + "a.service": "[Unit]\nAfter=b.service\n" + SERVICE, E + "b.service": "[Unit]\nAfter=a.service\n" + SERVICE, E + "multi-user.target.requires/a.service": "->../a.service",
                        E + "multi-user.target.requires/b.service": "->../b.service"}, "multi-user.target", ""),
    "cycle-target": ({E + "a.service": "[Unit]\nAfter=multi-user.target\n" + SERVICE, E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "requisite": ({E + "a.service": "[Unit]\nRequisite=b.service\n" + SERVICE, E + "b.service": SERVICE, E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "requisite-missing": ({E + "a.service": "[Unit]\nRequisite=b.service\n" + SERVICE, E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "upholds": ({E + "a.service": "[Unit]\nUpholds=b.service\n" + SERVICE, E + "b.service": SERVICE, E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "binds": ({E + "a.service": "[Unit]\nBindsTo=b.service\nPartOf=c.service\nOnFailure=d.service\n" + SERVICE, E + "b.service": SERVICE, E + "c.service": SERVICE, E + "d.service": SERVICE,
               E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "no-defaults": ({E + "a.service": "[Unit]\nDefaultDependencies=no\n" + SERVICE, E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "refuse-manual": ({E + "inn.target": "[Unit]\nRefuseManualStart=yes\n"}, "inn.target", ""),
    "not-isolated": ({E + "inn.target": "[Unit]\nRequires=basic.target\n"}, "inn.target", ""),
    "text": ({E + "a.service": "# remark\n[Unit]\nnonsense\n; other\nAfter = b.service \\\n  c.service \\\n# inside\n  d.service\nWants=\"e.service\" 'f.service'\n[Unknown]\nX=y\n[X-Own]\nAfter=g.service\n[Unit]\nAfter=h.service\n" + SERVICE,
              E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "text-before-section": ({E + "a.service": "After=b.service\n" + SERVICE, E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "text-open-section": ({E + "a.service": "[Unit\nAfter=b.service\n" + SERVICE, E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "text-open-section-required": ({E + "a.service": "[Unit\nAfter=b.service\n" + SERVICE, E + "multi-user.target.requires/a.service": "->../a.service"}, "multi-user.target", ""),
    "text-open-drop-in": ({E + "cron.service.d/a.conf": "[Unit\nAfter=b.service\n"}, "multi-user.target", ""),
    "no-exec": ({E + "a.service": "[Service]\nType=simple\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "oneshot-no-exec": ({E + "a.service": "[Service]\nType=oneshot\nRemainAfterExit=yes\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "only-stop": ({E + "a.service": "[Service]\nType=oneshot\nExecStop=/bin/true\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "two-exec": ({E + "a.service": SERVICE + "ExecStart=/bin/false\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "two-exec-reset": ({E + "a.service": SERVICE + "ExecStart=\nExecStart=/bin/false\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "relative-exec": ({E + "a.service": "[Service]\nExecStart=true x\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "bad-exec": ({E + "a.service": "[Service]\nExecStart=bin/true x\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "bad-exec-ignored": ({E + "a.service": "[Service]\nExecStart=-bin/true x\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "bad-type": ({E + "a.service": "[Service]\nType=odd\nExecStart=/bin/true x\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "dbus-no-name": ({E + "a.service": "[Service]\nType=dbus\nExecStart=/bin/true x\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "dbus": ({E + "a.service": "[Service]\nBusName=almhof.inn\nExecStart=/bin/true x\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "oneshot-restart": ({E + "a.service": "[Service]\nType=oneshot\nRestart=always\nExecStart=/bin/true x\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "contexts": ({E + "a.service": SERVICE + "PrivateTmp=yes\nStateDirectory=inn/a\nWorkingDirectory=/srv/inn\nStandardOutput=null\n", E + "b.service": SERVICE + "Slice=inn-rooms.slice\nStandardOutput=tty\nStandardError=null\n",
                  E + "multi-user.target.wants/a.service": "->../a.service", E + "multi-user.target.wants/b.service": "->../b.service"}, "multi-user.target", ""),
    "mounts-for": ({E + "a.service": "[Unit]\nRequiresMountsFor=/srv/inn/x /opt\n" + SERVICE, E + "srv.mount": "[Mount]\nWhat=/dev/sdx1\nWhere=/srv\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "socket": ({E + "a.socket": "[Socket]\nListenStream=/run/inn/a\n", E + "a.service": SERVICE, E + "sockets.target.wants/a.socket": "->../a.socket"}, "multi-user.target", ""),
    "socket-accept": ({E + "a.socket": "[Socket]\nListenStream=99\nAccept=yes\n", E + "a@.service": SERVICE, E + "sockets.target.wants/a.socket": "->../a.socket"}, "multi-user.target", ""),
    "socket-no-service": ({E + "a.socket": "[Socket]\nListenStream=99\n", E + "sockets.target.wants/a.socket": "->../a.socket"}, "multi-user.target", ""),
    "socket-empty": ({E + "a.socket": "[Socket]\nAccept=yes\n", E + "sockets.target.wants/a.socket": "->../a.socket"}, "multi-user.target", ""),
    "service-sockets": ({E + "a.socket": "[Socket]\nListenStream=99\nService=b.service\n", E + "b.service": SERVICE + "Sockets=a.socket\n", E + "multi-user.target.wants/b.service": "->../b.service"}, "multi-user.target", ""),
    "timer": ({E + "a.timer": "[Timer]\nOnCalendar=daily\nPersistent=yes\n", E + "a.service": SERVICE, E + "timers.target.wants/a.timer": "->../a.timer"}, "multi-user.target", ""),
    "timer-boot": ({E + "a.timer": "[Timer]\nOnBootSec=5\nUnit=b.service\n", E + "b.service": SERVICE, E + "timers.target.wants/a.timer": "->../a.timer"}, "multi-user.target", ""),
    "timer-empty": ({E + "a.timer": "[Timer]\nUnit=b.service\n", E + "timers.target.wants/a.timer": "->../a.timer"}, "multi-user.target", ""),
    "path": ({E + "a.path": "[Path]\nPathExists=/srv/inn/bell\n", E + "a.service": SERVICE, E + "multi-user.target.wants/a.path": "->../a.path"}, "multi-user.target", ""),
    "mount-unit": ({E + "srv-inn.mount": "[Mount]\nWhat=/dev/sdx1\nWhere=/srv/inn\nType=ext4\n", E + "local-fs.target.wants/srv-inn.mount": "->../srv-inn.mount"}, "multi-user.target", ""),
    "mount-wrong-name": ({E + "srv-inn.mount": "[Mount]\nWhat=/dev/sdx1\nWhere=/srv/other\n", E + "local-fs.target.wants/srv-inn.mount": "->../srv-inn.mount"}, "multi-user.target", ""),
    "mount-no-what": ({E + "srv-inn.mount": "[Mount]\nWhere=/srv/inn\n", E + "local-fs.target.wants/srv-inn.mount": "->../srv-inn.mount"}, "multi-user.target", ""),
    "automount-unit": ({E + "srv.mount": "[Mount]\nWhat=/dev/sdx1\nWhere=/srv\n", E + "srv.automount": "[Automount]\nWhere=/srv\n", E + "local-fs.target.wants/srv.automount": "->../srv.automount"}, "multi-user.target", ""),
    "swap-unit": ({E + "dev-sdx2.swap": "[Swap]\nWhat=/dev/sdx2\n", E + "swap.target.wants/dev-sdx2.swap": "->../dev-sdx2.swap"}, "multi-user.target", ""),
    "swap-file": ({E + "srv-pages.swap": "[Swap]\nWhat=/srv/pages\n", E + "swap.target.wants/srv-pages.swap": "->../srv-pages.swap"}, "multi-user.target", ""),
    "slice": ({E + "inn.slice": "[Unit]\nAfter=x.service\n[Slice]\n", E + "a.service": SERVICE + "Slice=inn.slice\n", E + "multi-user.target.wants/a.service": "->../a.service"}, "multi-user.target", ""),
    "fstab": ({"etc/fstab": "UUID=57a71000-0001-4a01-8a01-00000057a701 / ext4 errors=remount-ro 0 1\nUUID=57a71000-0001-4a01-8a01-00000057a702 /srv/a-b ext4 defaults 0 2\n/dev/sda3 none swap sw 0 0\n"}, "multi-user.target", ""),
    "fstab-options": ({"etc/fstab": "/dev/sda4 /opt ext4 nofail,x-systemd.device-timeout=5 0 0\n/dev/sda5 /data xfs noauto 0 0\n/dev/sda6 /auto ext4 x-systemd.automount,noauto 0 2\n"
                                    "//inn/share /net cifs _netdev,x-systemd.requires=foo.service,x-systemd.after=bar.service,x-systemd.wanted-by=multi-user.target 0 0\n"
                                    "tmpfs /tmp tmpfs size=10m 0 0\n/srv/a-b /bindme none bind 0 0\nLABEL=x\\040y /mnt/a\\040b vfat ro,x-systemd.requires-mounts-for=/opt,x-systemd.growfs,x-systemd.makefs 0 0\n"
                                    "inn:/export /nfs nfs defaults 0 0\n/dev/sda7 none swap nofail,pri=5,discard 0 0\n"}, "multi-user.target", ""),
    "fstab-more": ({"etc/fstab": "/dev/sda4 /opt ext4 noauto,nofail 0 0\n/dev/sda5 /data xfs x-systemd.automount,nofail 0 0\n/dev/sda6 /x ext4 x-systemd.required-by=multi-user.target,x-systemd.before=cron.service 0 0\n"
                                 "/dev/sda8 /y ext4 noauto,auto,x-systemd.device-bound 0 2\nPARTLABEL=inn /z auto defaults 0 2\nproc /proc proc defaults 0 0\n/dev/sda9 none swap noauto 0 0\n/srv/pages none swap sw 0 0\n"}, "multi-user.target", ""),
    "fstab-off": ({"etc/fstab": "/dev/sda4 /opt ext4 defaults 0 0\n/dev/sda3 none swap sw 0 0\n"}, "multi-user.target", "fstab=no"),
    "fstab-nested": ({"etc/fstab": "/dev/sda4 /srv/inn/rooms ext4 defaults 0 0\n/dev/sda5 /srv ext4 defaults 0 0\n/dev/sda6 /usr ext4 ro 0 2\n/dev/sda7 /var ext4 defaults 0 2\n/dev/sda8 /home ext4 defaults 0 2\n"}, "multi-user.target", ""),
    "crypttab": ({"etc/crypttab": "vault UUID=57a71000-0001-4a01-8a01-00000057a703 none luks\nkeyed /dev/sda9 /etc/keys/k luks,noauto\nswap0 /dev/sda8 /dev/urandom swap,nofail\n"}, "multi-user.target", ""),
    "rc-local": ({"etc/rc.local": "#!/bin/sh\nexit 0\n"}, "multi-user.target", ""),
    "script": ({"etc/init.d/inn": "#!/bin/sh\n### BEGIN INIT INFO\n# Provides: inn guests\n# Required-Start: $local_fs $network $remote_fs cron\n# Should-Start: $time\n# X-Start-Before: ssh\n# Default-Start: 2 3 4 5\n### END INIT INFO\n",
                "etc/rc2.d/S01inn": "->../init.d/inn", "etc/rc3.d/S01inn": "->../init.d/inn", "etc/rc5.d/S02inn": "->../init.d/inn"}, "multi-user.target", ""),
    "script-plain": ({"etc/init.d/inn": "#!/bin/sh\n", "etc/init.d/hut": "#!/bin/sh\n", "etc/rc2.d/S10inn": "->../init.d/inn", "etc/rc2.d/S20hut": "->../init.d/hut"}, "multi-user.target", ""),
    "script-hidden": ({"etc/init.d/cron": "#!/bin/sh\n", "etc/rc2.d/S10cron": "->../init.d/cron"}, "multi-user.target", ""),
    "system-update": ({"system-update": "->/var/updates"}, "default.target", ""),
}


def by_chance(dice):
    names = [f"{stem}.{kind}" for stem in "abcdefgh" for kind in ("service", "service", "target", "socket")] + ["cron.service", "basic.target", "sysinit.target", "network.target",
                                                                                                             "none.service", "local-fs.target", "dbus.service", "room@1.service", "lodge.service"]
    names = sorted(set(names))
    files = {}
    for name in dice.sample(names, dice.randint(4, 12)):
        if name.split(".")[0] not in list("abcdefgh"):
            continue
        text = "[Unit]\n"
        for _ in range(dice.randint(0, 4)):
            text += f"{dice.choice(KINDS[:11])}={' '.join(dice.sample(names, dice.randint(1, 2)))}\n"
        if dice.random() < 0.2:
            text += "DefaultDependencies=no\n"
        if name.endswith("service"):
            text += SERVICE if dice.random() < 0.95 else "[Service]\n"
        elif name.endswith("socket"):
            text += "[Socket]\nListenStream=/run/x\n"
        where = dice.choice([E, E, "usr/lib/systemd/system/", "usr/local/lib/systemd/system/"])
        files[where + name] = text if dice.random() < 0.93 else "->/dev/null"
        if dice.random() < 0.7:
            files[f"{E}{dice.choice(['multi-user.target', 'multi-user.target', 'basic.target', 'sysinit.target', 'a.service'])}.{dice.choice(['wants', 'wants', 'wants', 'requires'])}/{name}"] = f"->../{name}"
        if dice.random() < 0.2:
            files[f"{E}{name}.d/x.conf"] = f"[Unit]\n{dice.choice(KINDS[:11])}={dice.choice(names)}\n"
    if dice.random() < 0.3:
        files[E + "room@.service"] = f"[Unit]\nAfter=%i.service\n{SERVICE}"
    if dice.random() < 0.3:
        files[E + "lodge.service"] = f"->{dice.choice('abcdefgh')}.service"
    return files, "multi-user.target", ""


def differences(root, files, target, line):
    back = changed(root.folder, files)
    try:
        said = root.says(target, line)
        mine = ours(root.folder, target, line)
    finally:
        back()
    units, ties, jobs = parse(said)
    out = []
    if "Failed to" in said and not jobs:
        words = [l for l in said.split("\n") if "Failed to" in l or "masked" in l or "cyclic" in l or "conflicting" in l]
        if not any(r.startswith("refused") for r in mine[3]) and mine[2]:
            out.append(f"really nothing starts ({words[-1].strip() if words else said[-200:]}), ours {len(mine[2])} jobs")
        return out, said
    if any(r.startswith("refused") for r in mine[3]):
        return [f"really {len(jobs)} jobs, ours {[r for r in mine[3] if r.startswith('refused')]}"], said
    perpetual = {"-.mount", "-.slice", "system.slice", "init.scope"}
    cyclic = "ordering cycle" in said
    if cyclic != any(r.startswith("cycle") for r in mine[3]):
        out.append(f"cycle: really {cyclic}, ours {[r for r in mine[3] if r.startswith('cycle')]}")
    # Which job is given up depends on chance there.
    if not cyclic:
        for name in sorted((jobs ^ mine[2]) - perpetual):
            out.append(f"job {name}: {'only really' if name in jobs else 'only ours'}")
    for name in sorted(units.keys() & mine[0].keys()):
        if units[name] != mine[0][name]:
            out.append(f"unit {name}: really {units[name]}, ours {mine[0][name]}")
    # Devices and mounts that the machine at hand has are not the image's.
    there = lambda n: not n.startswith(("sys-", "dev-tty", "proc-")) or n in mine[0]
    for name in sorted(units.keys() - mine[0].keys()):
        if units[name] != "not-found" and there(name) and name in {t[2] for t in ties} | jobs:
            out.append(f"unit {name}: really {units[name]}, ours not loaded")
    both = units.keys() & mine[0].keys()
    for tie in sorted(ties ^ mine[1]):
        if tie[0] in both and tie[2] in both:
            out.append(f"tie {' '.join(tie)}: {'only really' if tie in ties else 'only ours'}")
    return out, said


def main():
    folder = args.root
    if not folder:
        folder = os.path.join(work, "root")
        sh("debootstrap", "--variant=minbase", "--include=systemd-sysv,udev,dbus,cron,openssh-server,e2fsprogs,dosfstools,cryptsetup-bin,lvm2", "bookworm", folder, "http://deb.debian.org/debian")
    root = Root(folder)
    try:
        dice = random.Random(args.seed)
        cases = {k: v for k, v in CASES.items() if not args.case or any(k.startswith(c) for c in args.case)}
        for number in range(args.random):
            cases[f"random-{args.seed}-{number}"] = by_chance(dice)
        agree = 0
        for name, (files, target, line) in cases.items():
            wrong, said = differences(root, files, target, line)
            agree += not wrong
            if wrong:
                if os.environ.get("KEEP"):
                    pathlib.Path(os.environ["KEEP"], name + ".files").write_text("".join(f"=== {k}\n{v}\n" for k, v in files.items()))
                print(f"{name}: {len(wrong)} differ: " + "; ".join(wrong[:args.show]), flush=True)
                if os.environ.get("KEEP"):
                    pathlib.Path(os.environ["KEEP"], name + ".txt").write_text(said)
        print(f"{agree} of {len(cases)} agree")
        return 0 if agree == len(cases) else 1
    finally:
        root.leave()


try:
    status = main()
finally:
    shutil.rmtree(work, ignore_errors=True)
sys.exit(status)
