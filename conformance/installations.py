#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""Whole installations, made by the distribution's own tools, really started: does `check` say how each start ends?

A base system is put together by debootstrap (needs root), copied inside a virtual PC onto every kind of storage in
installations/kinds.py, made startable by its own programs (RAM disk, loader), started healthy and with each fault, and
its console read. `herberge check` of the same disks must name the stage at which it stopped, and call the healthy one
sound. A passphrase is typed at the console, and given to `check` with --unlock; without it, the answer must not be a
failure.

usage: installations.py [--tool PATH] [--work FOLDER] [--only PATTERN] [--jobs N] [--table FILE] [--reuse]
With --work what was made stays there; with --reuse what is there is started again only where its console is missing.
Exit status: 0 all agree, 1 some differ, 77 something is missing."""
import argparse, concurrent.futures, json, os, re, shutil, subprocess, sys, tempfile, time

here = os.path.dirname(os.path.abspath(__file__))
sys.path.insert(0, os.path.join(here, "installations"))
import kinds

UP = "THE-INN-IS-OPEN"
PACKAGES = ("linux-image-cloud-amd64,initramfs-tools,zstd,systemd-sysv,udev,kmod,grub-pc-bin,grub-efi-amd64-bin,grub-efi-amd64-signed,shim-signed,"
            "grub2-common,lvm2,mdadm,cryptsetup-initramfs,cryptsetup-bin,btrfs-progs,xfsprogs,e2fsprogs,dosfstools,fdisk,systemd-boot,busybox,cpio")
FIRMWARE = "/usr/share/OVMF"
DISK_MIB = 1600


def run(*command, **more):
    done = subprocess.run(command, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, **more)
    if done.returncode != 0:
        raise RuntimeError(" ".join(command)[:300] + ": " + done.stdout.decode("utf-8", "replace")[-2000:])
    return done.stdout


class Base:
    """The system that all are copied from, with every RAM disk that is needed; it also is the one that makes them."""

    def __init__(self, work, more, wanted):
        self.folder, self.image = os.path.join(work, "base" + more), os.path.join(work, f"base{more}.img")
        self.plain, self.more = os.path.join(work, "base"), more
        if not os.path.exists(self.image):
            self.gather()
            self.prepare()
            for kind in wanted:
                if not os.path.exists(f"{self.folder}/ramdisks/{kind['name']}"):
                    self.pack(kind)
            run("mke2fs", "-q", "-t", "ext4", "-d", self.folder, self.image, "2400M")
        boot = os.path.join(self.folder, "boot")
        self.kernel = os.path.join(boot, next(f for f in sorted(os.listdir(boot)) if f.startswith("vmlinuz")))
        self.ramdisk = os.path.join(self.folder, "workshop-initrd")

    def inside(self, command):
        return run("chroot", self.folder, "bash", "-ec", "export PATH=/usr/sbin:/usr/bin:/sbin:/bin LC_ALL=C DEBIAN_FRONTEND=noninteractive; " + command)

    def gather(self):
        if self.more and not os.path.exists(self.folder):
            run("cp", "-a", self.plain, self.folder)
            self.inside(f"apt-get -y --no-install-recommends --allow-remove-essential install {self.more}")
        elif not self.more and not os.path.exists(self.folder + "/gathered"):
            run("debootstrap", "--variant=minbase", "--include=" + PACKAGES, "bookworm", self.folder, "http://deb.debian.org/debian")
            shutil.copy("/etc/resolv.conf", self.folder + "/etc/resolv.conf")
            self.inside("apt-get update")
            open(self.folder + "/gathered", "w").close()

    def prepare(self):
        with open(self.folder + "/etc/systemd/system/inn.service", "w") as unit:
            unit.write(f"[Unit]\nDescription=The inn\nAfter=basic.target local-fs.target\n[Service]\nType=oneshot\n"
                       f"ExecStart=/bin/sh -c 'echo {UP} >/dev/console; sync; systemctl poweroff --force --force'\n[Install]\nWantedBy=multi-user.target\n")
        self.inside("mkdir -p /etc/systemd/system/multi-user.target.wants; ln -sf ../inn.service /etc/systemd/system/multi-user.target.wants/inn.service; "
                    # Emulated slowly, the device of the console comes late; nobody logs in here.
                    "ln -sf /dev/null /etc/systemd/system/serial-getty@.service; : >/etc/fstab; "
                    "rm -rf /usr/share/doc/* /usr/share/man/* /usr/share/locale/* /usr/share/info/* /var/cache/apt/*.bin; mkdir -p /ramdisks")
        with open(self.folder + "/etc/default/grub", "w") as grub:
            grub.write('GRUB_DEFAULT=0\nGRUB_DISTRIBUTOR="Debian"\nGRUB_TIMEOUT=1\nGRUB_CMDLINE_LINUX="console=ttyS0 panic=2"\nGRUB_CMDLINE_LINUX_DEFAULT=""\n'
                       'GRUB_TERMINAL=console\nGRUB_DISABLE_OS_PROBER=true\n')
        with open(self.folder + "/workshop", "w") as init:
            init.write("#!/bin/bash\nmount -t proc proc /proc; mount -t sysfs sys /sys; mount -t devtmpfs dev /dev 2>/dev/null; mkdir -p /dev/pts; mount -t devpts pts /dev/pts\n"
                       "mount -t tmpfs run /run 2>/dev/null; mount -t tmpfs tmp /tmp\nexport PATH=/usr/sbin:/usr/bin:/sbin:/bin LC_ALL=C\nexec >/dev/ttyS0 2>&1\n"
                       "for m in dm-mod dm-crypt raid1 xfs btrfs vfat; do modprobe $m; done\n"
                       # Several copies of one array are there: nothing may put them together by itself.
                       "mkdir -p /run/udev/rules.d; ln -s /dev/null /run/udev/rules.d/64-md-raid-assembly.rules\n/lib/systemd/systemd-udevd --daemon; udevadm trigger; udevadm settle\n"
                       "tr -d '\\0' </dev/vdb >/tmp/script\nbash -x /tmp/script\necho WORKSHOP-ENDS $?\nsync\necho o >/proc/sysrq-trigger\nsleep 100\n")
        os.chmod(self.folder + "/workshop", 0o755)
        if self.more == "dracut":
            self.inside("k=$(ls /lib/modules); dracut --quiet --force --no-hostonly --omit 'crypt mdraid lvm' --add-drivers virtio_blk /workshop-initrd $k")
        else:
            hook = "/usr/share/initramfs-tools/hooks/mdadm"
            self.inside(f"chmod -x {hook}; mkinitramfs -o /workshop-initrd $(ls /lib/modules); chmod +x {hook}")

    def pack(self, kind):
        """The RAM disk of an installation, and those of its faults, as its own program makes them."""
        name, path = kind["name"], f"{self.folder}/ramdisks/{kind['name']}"
        loop = None
        try:
            if "crypttab" in kind:
                # The program asks for the encrypted volume: one with its UUID.
                vault = self.folder + "/vault.img"
                with open(vault, "wb") as file:
                    file.truncate(32 << 20)
                form = "luks1" if "luks1" in kind["make"] else "luks2"
                run("cryptsetup", "luksFormat", "-q", "--type", form, "--uuid", kinds.VAULT, "--pbkdf", "pbkdf2", "--pbkdf-force-iterations", "1000", vault, "-", input=b"enzian")
                loop = run("losetup", "-f", "--show", vault).decode().strip()
                os.makedirs(self.folder + "/dev/disk/by-uuid", exist_ok=True)
                run("cp", "-a", loop, self.folder + loop)
                os.symlink(loop, self.folder + "/dev/disk/by-uuid/" + kinds.VAULT)
                with open(self.folder + "/etc/crypttab", "w") as file:
                    file.write(kind["crypttab"] + ",initramfs\n")
            if kind.get("mdadm"):
                shutil.copy(self.folder + "/etc/mdadm/mdadm.conf", self.folder + "/mdadm.conf")
                with open(self.folder + "/etc/mdadm/mdadm.conf", "a") as file:
                    file.write(f"ARRAY /dev/md/0 metadata=1.2 UUID={kinds.ARRAY} name=inn:{'root' if 'name=root' in kind['make'] else 'group'}\n")
                shutil.copy(self.folder + "/etc/mdadm/mdadm.conf", path + ".mdadm.conf")
            with open(self.folder + "/etc/fstab", "w") as file:
                file.write(kind["fstab"].replace("\\n", "\n") + "\n")
            if self.more == "dracut":
                self.inside(f"k=$(ls /lib/modules); dracut --quiet --force --no-hostonly --add lvm /ramdisks/{name} $k")
            else:
                self.inside(f"mkinitramfs -o /ramdisks/{name} $(ls /lib/modules) 2>&1")
            for fault in kind["faults"]:
                if "ramdisk" in fault:
                    self.inside(f"rm -rf /unpacked; mkdir /unpacked; unmkinitramfs /ramdisks/{name} /unpacked; cd /unpacked; [ -d main ] && cd main; {fault['ramdisk']}; "
                                f"find . | cpio --quiet -o -H newc | gzip -1 >'/ramdisks/{name}.{fault['name']}'; rm -rf /unpacked")
        finally:
            if loop:
                run("losetup", "-d", loop)
                self.inside(f"rm -rf /etc/crypttab /dev/disk /vault.img {loop}")
            if kind.get("mdadm"):
                shutil.move(self.folder + "/mdadm.conf", self.folder + "/etc/mdadm/mdadm.conf")
            self.inside(": >/etc/fstab")


class Machine:
    """A virtual PC with disks, until its console shows an end."""

    def __init__(self, name, disks, firmware="bios", kernel=None, ramdisk=None, append="", seconds=1200, silence=200):
        self.silence = silence
        self.name, self.disks, self.firmware, self.kernel, self.ramdisk, self.append, self.seconds = name, disks, firmware, kernel, ramdisk, append, seconds

    def command(self, folder):
        out = ["qemu-system-x86_64", "-accel", "tcg", "-m", "768", "-display", "none", "-monitor", "none", "-serial", "stdio", "-net", "none", "-no-reboot"]
        if self.kernel:
            out += ["-kernel", self.kernel, "-initrd", self.ramdisk, "-append", self.append]
        if self.firmware == "bios":
            out += ["-machine", "pc,graphics=off"]
        else:
            secure = self.firmware == "secure"
            variables = os.path.join(folder, "variables.fd")
            shutil.copy(f"{FIRMWARE}/OVMF_VARS_4M{'.ms' if secure else ''}.fd", variables)
            out += ["-machine", "q35,smm=on" if secure else "q35", "-drive", f"if=pflash,format=raw,unit=0,readonly=on,file={FIRMWARE}/OVMF_CODE_4M{'.ms' if secure else ''}.fd",
                    "-drive", f"if=pflash,format=raw,unit=1,file={variables}"]
        for path, keep in self.disks:
            out += ["-drive", f"file={path},format=raw,if=virtio,cache=unsafe" + ("" if keep else ",snapshot=on")]
        return out

    def console(self, ends, answers=(), log=None):
        """What it prints until one of `ends`, its own end, or the time is over; `answers`: what is typed where; `log`
        gets it as it comes."""
        with tempfile.TemporaryDirectory() as folder:
            process = subprocess.Popen(self.command(folder), stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.STDOUT)
            os.set_blocking(process.stdout.fileno(), False)
            text, begin, typed, last = "", time.time(), {}, time.time()
            while time.time() - begin < self.seconds and time.time() - last < self.silence:
                piece = process.stdout.read()
                if piece is None:
                    time.sleep(0.2)
                    continue
                last = time.time()
                if piece == b"":
                    break
                if log:
                    with open(log, "ab") as file:
                        file.write(piece)
                text += re.sub(r"\x1b\[[0-9;=?]*[A-Za-z]|\x1b[()][A-Z0-9]", "", piece.decode("utf-8", "replace"))
                for question, answer in answers:
                    if len(re.findall(question, text)) > typed.get(question, 0) and typed.get(question, 0) < 4:
                        typed[question] = typed.get(question, 0) + 1
                        time.sleep(1)
                        process.stdin.write(answer.encode())
                        process.stdin.flush()
                if any(re.search(e, text) for e in ends):
                    time.sleep(1.5)
                    text += (process.stdout.read() or b"").decode("utf-8", "replace")
                    break
            process.kill()
            process.wait()
            return text, time.time() - begin


FUNCTIONS = """mkdir -p /run/udev/rules.d; ln -sf /dev/null /run/udev/rules.d/69-lvm.rules; udevadm control --reload
# What the RAM disk put together by itself is some copy.
vgchange -an; mdadm --stop --scan; udevadm settle
set -e
printf enzian >/tmp/key
D1=/dev/vdc; D2=/dev/vdd
members() { for d in $D1 $D2; do [ -b $d$1 ] && echo $d$1; done; }
inside() { for d in dev proc sys run; do mkdir -p /mnt/$d; mountpoint -q /mnt/$d || mount --rbind /$d /mnt/$d; done; chroot /mnt bash -exc "$1"; }
leave() { sync; for d in run sys proc dev; do ! mountpoint -q /mnt/$d || umount -l /mnt/$d; done; umount -R /mnt; udevadm settle; }
"""


def making(kind):
    """The script that makes an installation on empty disks."""
    disks = " ".join(f"$D{i + 1}" for i in range(len(kind["disks"])))
    out = FUNCTIONS
    for i, table in enumerate(kind["disks"]):
        out += f"printf '{table}' | sfdisk -q $D{i + 1}; udevadm settle\n"
    out += kind["make"] + "\nudevadm settle\ncp -ax /bin /boot /etc /home /lib* /media /opt /root /sbin /srv /usr /var /mnt/\n"
    out += "mkdir -p /mnt/dev /mnt/proc /mnt/sys /mnt/run /mnt/tmp /mnt/mnt\nrm -f /mnt/boot/initrd*\n"
    out += f"printf '%b\\n' \"{kind['fstab']}\" >/mnt/etc/fstab\necho inn >/mnt/etc/hostname\n"
    if "crypttab" in kind:
        out += f"echo \"{kind['crypttab']}\" >/mnt/etc/crypttab\n"
    if kind.get("mdadm"):
        out += f"cp /ramdisks/{kind['name']}.mdadm.conf /mnt/etc/mdadm/mdadm.conf\n"
    if "cmdline" in kind:
        out += f"mkdir -p /mnt/etc/kernel; echo \"{kind['cmdline']}\" >/mnt/etc/kernel/cmdline\n"
        out += f"sed -i 's,console=ttyS0 panic=2,console=ttyS0 panic=2 {kind['cmdline'] if 'root=' not in kind['cmdline'] else ''},' /mnt/etc/default/grub\n"
    # Emulated, devices may take longer to be told than systemd waits for them.
    out += "mkdir -p /mnt/etc/systemd/system.conf.d; printf '[Manager]\\nDefaultTimeoutStartSec=300s\\n' >/mnt/etc/systemd/system.conf.d/slow.conf\n"
    if kind.get("sysv"):
        # Scripts of the runlevels are started by a list that insserv makes; init's own table is read as it is.
        out += f"echo 'in:2345:once:/bin/sh -c \"echo {UP} >/dev/console\"' >>/mnt/etc/inittab\n"
    out += f"cp /ramdisks/{kind['name']} /mnt/boot/initrd.img-$(ls /lib/modules)\n"
    out += f"export DISKS=\"{disks}\"\ninside '{kind['finish']}'\n"
    return out + f"leave\n{kind.get('close', 'true')}\nset +e\necho MADE-IT\n"


def spoiling(kind, faults):
    """The script that gives each fault to one copy of the installation: they come two (or as many as it has) at a time."""
    count, out = len(kind["disks"]), FUNCTIONS
    open_it = kind.get("open") or kind["make"].rsplit(";", 1)[1].strip()
    for number, fault in enumerate(faults):
        names = [f"/dev/vd{chr(ord('c') + number * count + d)}" for d in range(count)]
        out += f"D1={names[0]}; D2={names[1] if count > 1 else '/dev/none'}\n"
        # The copies carry the same identifiers: only one of them is there at a time.
        seen = ", ".join(f'"a|{place}|"' for place in names + ["/dev/md", "/dev/mapper"])
        out += f"printf '%s\\n' 'devices {{ global_filter=[ {seen}, \"r|.*|\" ] }}' >/etc/lvm/lvmlocal.conf\n"
        steps = fault.get("raw", "") and fault["raw"] + "\n"
        if "do" in fault:
            steps += f"{open_it}\n{fault['do'].replace('KIND', kind['name'])}\nleave\n{kind.get('close', 'true')}\n"
        out += f"( set -e; true\n{steps}) && echo SPOILT-{number}\nrm -rf /tmp/r\nblockdev --flushbufs {names[0]}\n"
        if "btrfs" in kind["name"]:
            out += "btrfs device scan --forget || true\n"
    return out + "set +e\necho MADE-IT\n"


class Installation:
    def __init__(self, kind, base, work, args):
        self.kind, self.base, self.args = kind, base, args
        self.folder = os.path.join(work, kind["name"])
        os.makedirs(self.folder, exist_ok=True)

    def disks(self, case="healthy"):
        return [os.path.join(self.folder, f"{case.replace(' ', '-')}.{d + 1}.img") for d in range(len(self.kind["disks"]))]

    def workshop(self, script, disks, label):
        path = os.path.join(self.folder, label + ".sh")
        with open(path, "w") as out:
            out.write(script)
        with open(path + ".img", "wb") as out:
            out.write(script.encode())
            out.truncate((len(script.encode()) + 511) // 512 * 512)
        machine = Machine(label, [(self.base.image, False), (path + ".img", False)] + [(d, True) for d in disks], kernel=self.base.kernel, ramdisk=self.base.ramdisk,
                          append="root=/dev/vda rw console=ttyS0 init=/workshop quiet", seconds=3000, silence=1500)
        log = os.path.join(self.folder, label + ".log")
        if os.path.exists(log):
            os.remove(log)
        text, _ = machine.console([r"WORKSHOP-ENDS \d"], log=log)
        return text

    def make(self):
        if self.args.reuse and os.path.exists(self.disks()[0]):
            return
        parts = [d + ".part" for d in self.disks()]
        for path in parts:
            with open(path, "wb") as image:
                image.truncate(DISK_MIB << 20)
        text = self.workshop(making(self.kind), parts, "making")
        if "MADE-IT\r" not in text:
            raise RuntimeError(f"{self.kind['name']} was not made: see {self.folder}/making.log\n" + text[-1500:])
        for part, path in zip(parts, self.disks()):
            os.rename(part, path)

    def spoil(self):
        faults = [f for f in self.kind["faults"] if "drop" not in f and not (self.args.reuse and os.path.exists(self.disks(f["name"])[0]))]
        if not faults:
            return
        copies = []
        for fault in faults:
            for source, path in zip(self.disks(), self.disks(fault["name"])):
                run("cp", "--sparse=always", source, path)
                copies.append(path)
        text = self.workshop(spoiling(self.kind, faults), copies, "spoiling")
        for number, fault in enumerate(faults):
            if f"SPOILT-{number}\r" not in text:
                for path in self.disks(fault["name"]):
                    os.remove(path)

    def really(self, case, disks):
        """The console of a real start."""
        log = os.path.join(self.folder, case.replace(" ", "-") + ".console")
        if self.args.reuse and os.path.exists(log):
            return open(log).read()
        answers = [(r"Please unlock disk [^:]*: ", kinds.PASSPHRASE + "\n"), (r"Enter passphrase for [^:]*: ?", kinds.PASSPHRASE + "\r"),
                   (r"Please enter passphrase for disk [^\n]*", kinds.PASSPHRASE + "\n")]
        machine = Machine(case, [(d, False) for d in disks], firmware=self.kind.get("firmware", "bios"))
        text, seconds = machine.console([UP, r"grub rescue> ", r"\n *grub> ", r"\(initramfs\) ", r"end Kernel panic", r"Kernel panic - not syncing[^\n]*\n", r"Give root password",
                                         r"root account is locked", r"No bootable (device|option)", r"you need to load the kernel first", r"dracut:/#", r"Press Enter for maintenance",
                                         r"respawning too fast"], answers)
        with open(log, "w") as out:
            out.write(text)
        return text

    def said(self, disks, unlock):
        command = [self.args.tool, "check", "--format", "json", *disks]
        if self.kind.get("firmware", "bios") != "bios":
            variables = f"{FIRMWARE}/OVMF_VARS_4M{'.ms' if self.kind['firmware'] == 'secure' else ''}.fd"
            command += ["--firmware", "uefi", "--variables", variables]
        if unlock:
            key = os.path.join(self.folder, "key")
            with open(key, "w") as out:
                out.write(kinds.PASSPHRASE)
            command += ["--unlock", f"{unlock}={key}"]
        begin = time.time()
        done = subprocess.run(command, capture_output=True)
        return json.loads(done.stdout or b"{}"), time.time() - begin

    def compare(self, case, fault, disks):
        """A row: what was expected, what the machine did, what `check` says with and without the passphrase."""
        row = dict(installation=self.kind["name"], case=case, expected=fault["stage"], real="", said="", agrees=False, seconds=0.0)
        if not all(os.path.exists(d) for d in disks):
            return dict(row, real="the fault could not be made")
        console = self.really(case, disks)
        up = UP in console.replace(f"echo {UP}", "")
        if (fault["stage"] is None) != up or (fault["screen"] and not re.search(fault["screen"], console)):
            row["real"] = ("starts" if up else "stops: " + " ".join(console.split()[-14:])) + " (not what was expected of it)"
            return row
        row["real"] = "starts" if up else "stops at " + fault["stage"]
        answers = []
        for unlock in [self.kind["unlock"], None] if "unlock" in self.kind else [None]:
            report, seconds = self.said(disks, unlock)
            row["seconds"] = max(row["seconds"], seconds)
            systems = report.get("systems", [])
            system = systems[0] if systems else {}
            stage = system.get("stops_at")
            answers.append(f"{system.get('starts')}" + (f" at {stage}" if stage else ""))
            if unlock or "unlock" not in self.kind:
                right = system.get("starts") in ("yes",) if fault["stage"] is None else stage == fault["stage"] and system.get("starts") == "no"
                if not fault.get("unlocked", True):
                    right = right or system.get("starts") == "unknown"
                row["agrees"] = right
            elif system.get("starts") == "no" and stage != fault["stage"] or (fault["stage"] is None and system.get("starts") == "no"):
                row["agrees"] = False
        row["said"] = ", without the passphrase ".join(answers)
        return row

    def rows(self):
        try:
            self.make()
            self.spoil()
        except RuntimeError as error:
            return [dict(installation=self.kind["name"], case="healthy", expected=None, real=str(error)[-300:], said="", agrees=False, seconds=0.0)]
        out = [self.compare("healthy", dict(stage=None, screen=None), self.disks())]
        for fault in self.kind["faults"]:
            disks = [d for i, d in enumerate(self.disks()) if i + 1 != fault["drop"]] if "drop" in fault else self.disks(fault["name"])
            out.append(self.compare(fault["name"], fault, disks))
        return out


def main():
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--tool", default=os.path.join(here, "..", "build", "release", "tool", "herberge"))
    parser.add_argument("--work", help="where everything is made, and stays")
    parser.add_argument("--only", default=".", help="the installations whose names match")
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--table", help="where the table is written to, as Markdown")
    parser.add_argument("--reuse", action="store_true", help="what is in the folder already is not made again")
    args = parser.parse_args()
    args.tool = os.path.abspath(args.tool)
    os.environ["PATH"] += ":/usr/sbin:/sbin"
    missing = [p for p in ("qemu-system-x86_64", "debootstrap", "mke2fs", "chroot") if not shutil.which(p)]
    if missing or os.geteuid() != 0 or not os.path.exists(f"{FIRMWARE}/OVMF_VARS_4M.ms.fd"):
        print("missing:", " ".join(missing) or "root's rights, or the package ovmf")
        return 77
    work = args.work or tempfile.mkdtemp()
    os.makedirs(work, exist_ok=True)
    try:
        bases = {}
        for more in sorted({k.get("packages", "") for k in kinds.INSTALLATIONS}):
            bases[more] = Base(work, more, [k for k in kinds.INSTALLATIONS if k.get("packages", "") == more])
        wanted = [Installation(k, bases[k.get("packages", "")], work, args) for k in kinds.INSTALLATIONS if re.search(args.only, k["name"])]
        rows = []
        with concurrent.futures.ThreadPoolExecutor(args.jobs) as pool:
            for found in pool.map(Installation.rows, wanted):
                rows += found
                for row in found:
                    print(f"{row['installation']:22} {row['case']:32} {'agrees' if row['agrees'] else 'DIFFERS':8} real: {row['real'][:200]}; check: {row['said']}", flush=True)
    finally:
        if not args.work:
            shutil.rmtree(work, ignore_errors=True)
    right = sum(r["agrees"] for r in rows)
    print(f"{right} of {len(rows)} agree; slowest check {max(r['seconds'] for r in rows):.2f} s")
    if args.table:
        with open(args.table, "w") as out:
            out.write("| installation | case | the real machine | `check` | |\n|---|---|---|---|---|\n")
            for r in rows:
                out.write(f"| {r['installation']} | {r['case']} | {r['real']} | {r['said']} | {'agrees' if r['agrees'] else '**differs**'} |\n")
    return 0 if right == len(rows) else 1


sys.exit(main())
