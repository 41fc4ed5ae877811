#!/usr/bin/env python3
# SPDX-License-Identifier: MIT
"""The parts of conformance/run that need no machine: faults as text, ends of consoles, comparison, chance."""
import argparse, importlib.machinery, importlib.util, pathlib, sys, tempfile, unittest
from unittest import mock

sys.path.insert(0, str(pathlib.Path(__file__).resolve().parent))
from really import bases, chance, compare, ends, faults, installed, machine
from really.packages import output

here = pathlib.Path(__file__).resolve().parent
BY_NAME = {b.name: b for b in bases.BASES}


class Faults(unittest.TestCase):
    def test_each_is_on_a_machine_that_there_is_and_has_steps_that_are_known(self):
        seen, harmless = set(), 0
        for file in sorted((here / "faults").glob("*.faults")):
            for fault in faults.read(file):
                self.assertIn(fault.machine, BY_NAME, fault.name)
                self.assertFalse((fault.machine, fault.name) in seen, f"{fault.machine}: {fault.name} twice")
                seen.add((fault.machine, fault.name))
                harmless += fault.harmless
                self.assertTrue(fault.steps, fault.name)
                disk = faults.Disk("/dev/null", BY_NAME[fault.machine])
                for step in fault.steps:
                    self.assertTrue(hasattr(disk, "step_" + step[0].replace("-", "_")), step)
                    if step[0] not in ("sfdisk", "apart") and not isinstance(disk.base.parts.get(step[1]), bases.Found):
                        disk.locate(step[1])
        self.assertGreaterEqual(len(seen), 200)
        self.assertGreaterEqual(harmless * 4, len(seen))

    def read(self, text):
        with tempfile.NamedTemporaryFile("w", suffix=".faults") as file:
            file.write(text)
            file.flush()
            return faults.read(file.name)

    def test_several_machines_share_the_steps(self):
        both = self.read('machines a b\n# nothing\nfault one\n  write root:/x "a \\n b"\n  delete kernel\nharmless two\n  mode init 644\n')
        self.assertEqual([(f.machine, f.name, f.harmless, len(f.steps)) for f in both], [("a", "one", False, 2), ("b", "one", False, 2), ("a", "two", True, 1), ("b", "two", True, 1)])
        self.assertEqual(faults.unescaped(both[0].steps[0][2]), b"a \n b")

    def test_a_step_before_the_first_fault_is_an_error_with_its_line(self):
        with self.assertRaisesRegex(ValueError, ":2: "):
            self.read("machine a\ndelete kernel\n")

    def test_a_disc_is_made_anew_and_still_starts(self):
        base = bases.Base("x", "bios-disc", "d1", None, {}, bases.WHOLE, bases.ISO | {"menu": "root:/menu"})
        with tempfile.TemporaryDirectory() as folder:
            tree, image = pathlib.Path(folder, "tree"), pathlib.Path(folder, "disc.img")
            (tree / "boot").mkdir(parents=True)
            (tree / "boot/code").write_bytes(bytes(range(256)) * 16)
            (tree / "menu").write_text("the first room\n")
            output("xorriso", "-as", "mkisofs", "-quiet", "-R", "-b", "boot/code", "-c", "boot/list", "-no-emul-boot", "-boot-load-size", 4, "-o", image, tree)
            disk = faults.Disk(image, base)
            self.assertEqual(disk.content("menu"), b"the first room\n")
            at = disk.locate("catalogue")[0]
            self.assertEqual(disk.bytes(at, 2) + disk.bytes(at + 30, 3), b"\1\0\x55\xaa\x88")
            disk.apply([["replace", "menu", "first", "second"], ["copy", "menu", "root:/boot/menu"], ["rename", "root:/boot/menu", "/menu2"], ["folder", "root:/rooms"], ["write", "root:/rooms/one", "x"], ["mode", "root:/rooms/one", "700"],
                        ["link", "root:/rooms/two", "one"], ["delete", "menu"], ["flip", "root:/menu2", "0", "0x20"], ["hex", "catalogue", "32", "00"]])
            said = output("xorriso", "-indev", image, "-find", "/rooms", "-exec", "lsdl", "--")
            self.assertEqual(disk.content("root:/menu2"), b"The second room\n")
            self.assertRegex(said, r"-rwx------ .* 1 Nov 14  2023 '/rooms/one'")
            self.assertRegex(said, r"'/rooms/two' -> 'one'")
            # What is on the disc starts from where it lies now.
            at = disk.locate("catalogue")[0]
            code = int.from_bytes(disk.bytes(at + 40, 4), "little") * 2048
            self.assertEqual((disk.bytes(at, 1), disk.bytes(at + 32, 1), disk.bytes(code, 256)), (b"\1", b"\0", bytes(range(256))))
            with self.assertRaises(RuntimeError):
                disk.apply([["delete", "root:/rooms/three"]])

    def test_sums_of_layers_are_made_right_again(self):
        def by_bits(data, crc=0xF597A6CF):
            for byte in data:
                crc ^= byte
                for _ in range(8):
                    crc = crc >> 1 ^ (0xEDB88320 if crc & 1 else 0)
            return crc
        self.assertEqual(faults.lvm_sum(b""), 0xF597A6CF)
        self.assertEqual(faults.lvm_sum(b"enzian"), by_bits(b"enzian"))
        # Words 1 and 0xffffffff give a carry, which is added again; the sum's own place counts as nothing.
        head = bytearray(512)
        head[0:4], head[4:8], head[216:220] = b"\x01\0\0\0", b"\xff\xff\xff\xff", b"rest"
        self.assertEqual(bases.array_summed(head)[216:220], b"\x01\0\0\0")

    def test_both_members_of_a_mirror_change_but_for_what_comes_apart(self):
        with tempfile.NamedTemporaryFile() as file:
            def run(*steps):
                pathlib.Path(file.name).write_bytes(bytes(64))
                base = bases.Base("x", "bios", "d1", None, {}, {}, {}, lambda disk: bases.put(disk, 32, bases.get(disk, 0, 32)))
                faults.Disk(file.name, base).apply([s.split() for s in steps])
                return pathlib.Path(file.name).read_bytes()
            self.assertEqual(run("hex disk 3 aa"), bytes(3) + b"\xaa" + bytes(31) + b"\xaa" + bytes(28))
            self.assertEqual(run("hex disk 3 aa", "apart", "hex disk 4 bb"), bytes(3) + b"\xaa\xbb" + bytes(30) + b"\xaa" + bytes(28))
            self.assertEqual(run("hex disk 3 656e7a", "edit disk enz zne")[3:6], b"zne")
            with self.assertRaisesRegex(ValueError, "another length"):
                run("edit disk \\x00 ab")
            with self.assertRaisesRegex(ValueError, "does not have"):
                run("edit disk nothing anything")

    def test_places_of_a_disk_are_changed_where_they_are(self):
        base = bases.Base("x", "bios", "d1p1", None, {}, {}, {"mark": (510, 2)})
        with tempfile.NamedTemporaryFile() as file:
            file.write(bytes(510) + b"\x55\xaa" + bytes(512))
            file.flush()
            disk = faults.Disk(file.name, base)
            disk.apply([["flip", "mark", "1", "0x80"], ["fill", "disk", "-4", "2", "7"], ["hex", "disk", "0", "eb3c"], ["move", "mark", "16"]])
            data = pathlib.Path(file.name).read_bytes()
            for wrong in (["flip", "mark", "2", "1"], ["hammer", "mark"], ["zero", "mark", "0", "3"], ["delete", "cellar:/x"]):
                with self.assertRaises(ValueError, msg=wrong):
                    disk.apply([wrong])
        self.assertEqual((data[:2], data[510:512], data[526:528], data[-5:]), (b"\xeb\x3c", b"\0\0", b"\x55\x2a", b"\0\7\7\0\0"))


    def test_lost_sectors_are_those_that_hold_the_bytes(self):
        base = bases.Base("x", "bios", "d1p1", None, {}, {"esp": ("fat", 4)}, {"core": (512, 4096), "kernel": "esp:/EFI/linux.x"})
        with tempfile.NamedTemporaryFile() as file:
            data = bytearray(65536)
            data[4 * 512 + 5 * 512 + 5:][:11] = b"LINUX   X  "  # not where an entry can be
            data[10000:10000 + 12] = b"\0" * 12
            at = 4 * 512 + 8192 + 96
            data[at:at + 12] = b"LINUX   X  \x20"
            file.write(data)
            file.flush()
            rows = (([["lose", "core"]], set(range(1, 9))), ([["lose", "core", "511", "2"]], {1, 2}), ([["lose", "core", "-1", "1"]], {8}),
                    ([["lose", "core", "512", "512"], ["lose", "disk", "-512", "512"]], {2, 127}), ([["lose-record", "kernel"]], {at // 512}))
            for steps, wanted in rows:
                disk = faults.Disk(file.name, base)
                disk.apply(steps)
                self.assertEqual(disk.lost, wanted, steps)
            for wrong in (["lose", "core", "4096", "1"], ["lose", "core", "4000", "200"]):
                with self.assertRaises(ValueError, msg=wrong):
                    faults.Disk(file.name, base).apply([wrong])

    def test_what_is_lost_is_a_part_of_what_the_machine_sees(self):
        one = machine.Machine.__new__(machine.Machine)
        one.identity, one.memory = machine.hashlib.sha256(), 512
        with tempfile.NamedTemporaryFile() as file:
            keys = [one.key(file.name, "bios", lost) for lost in ((), {1}, {2}, {1, 2})]
            self.assertEqual(len(set(keys)), 4)
            self.assertEqual(one.key(file.name, "bios"), keys[0])
        with tempfile.TemporaryDirectory() as folder:
            image = pathlib.Path(folder, "a,b.img")
            image.write_bytes(bytes(8 << 20))
            drive = one.command(image, "bios", folder, (), {7, 3})[-1]
            written = pathlib.Path(folder, "written").read_bytes()
        self.assertTrue(drive.startswith("if=virtio,file=json:"), drive)
        asked = machine.json.loads(drive.partition("json:")[2].replace(",,", ","))["backing"]["file"]
        self.assertEqual([(r["sector"], r["event"]) for r in asked["inject-error"]], [(3, "read_aio"), (7, "read_aio")])
        self.assertEqual(asked["image"]["filename"], str(image))
        # 8 MiB are 256 tables of 64 sectors, whose own table takes four.
        self.assertEqual((written[:8], len(written), written[1024:1040]), (b"QFI\xfb\0\0\0\3", 7 * 512, b"\0\1" * 7 + b"\0\0"))


class Ends(unittest.TestCase):
    def test_a_console_tells_what_can_be_meant(self):
        rows = (
            ("ENTRY root=UUID=1 inn=second\nUSERSPACE-UP\n", True, (), "second"),
            ("ROOT-MOUNTED /dev/vda1\nEMERGENCY-MODE x\nHALT-MARK\n", False, ("services",), None),
            ("RAMDISK-RUNS\nROOT-NOT-FOUND x\nHALT-MARK\n", False, ("root",), None),
            ("Linux version 6.1\nVFS: Unable to mount root fs on unknown-block(0,0)\n", False, ("ramdisk", "root"), None),
            ("Welcome to GRUB!\nerror: can't find command `linux'.\n\ngrub> ", False, ("configuration", "entry"), None),
            ("SYSLINUX 6.04\nLoading /vmlinuz... fa\niled: I/O error\nboot:", False, ("entry", "kernel"), None),
            ("Booting from Hard Disk...\nBoot failed: not a bootable disk\nBoot failed: Could not read from CDROM\nNo bootable device.", False, ("firmware", "partition-table", "boot-sector"), None),
            ("", False, ("firmware", "boot-code", "loader"), None),
        )
        for console, starts, stages, entry in rows:
            end = ends.of(console)
            self.assertEqual((end.starts, end.stages, end.entry), (starts, stages, entry), console)

    def test_the_errors_of_grub_legacy_are_told_by_the_command_before_them(self):
        begin = "GRUB Loading stage1.5.\nGRUB loading, please wait...\n"
        entry = begin + "  Booting 'Almhof'\nroot (hd0,0)\n Filesystem type is ext2fs, partition type 0x83\n"
        for console, stages in (
            (begin + "Error 17\n", ("loader", "partition-table")),
            (entry + "kernel /boot/vmlinuz\nError 15: File not found\nPress any key to continue...\n", ("entry", "kernel")),
            (entry + "kernel /boot/vmlinuz\nError 13: Invalid or \nunsupported executable format\n", ("kernel",)),
            (entry + "kernel /boot/vmlinuz\n   [Linux-bzImage, setup=0x4e00, size=0x6bf3e0]\ninitrd /boot/initrd.img\nError 15: File not found\n", ("ramdisk", "entry")),
            (entry + "initrd /boot/initrd.img\nError 19: Linux kernel must be loaded before initrd\n", ("entry", "kernel")),
            (begin, ("loader", "boot-code")),
        ):
            self.assertEqual(ends.of(console).stages, stages, console)
        self.assertTrue(ends.decided(begin + "Error 17\n"))
        stopped = entry + "kernel /boot/vmlinuz\nError 15: File not found\nPress any key to continue...\n"
        self.assertFalse(ends.decided(stopped), "a key goes on")
        self.assertTrue(ends.decided(stopped + "    commands before booting, or 'c' for a command-line.\n"))

    def test_dots_that_a_cursor_divides_are_one_word(self):
        self.assertEqual(ends.of("SYSLINUX 6.04 EDD\nLoading /boot/vmlinuz.\n.. failed: I/O error\nboot:").stages, ("entry", "kernel"))

    def test_what_decides_is_not_the_echo_of_a_command(self):
        self.assertFalse(ends.decided("sh -c 'echo USERSPACE-UP'\n"))
        self.assertTrue(ends.decided("x\nUSERSPACE-UP\n"))
        self.assertFalse(ends.decided("Press any key to continue...\n"))

    def test_orders_to_a_terminal_are_no_text(self):
        self.assertEqual(machine.plain(b"\x1b[2J\x1b[1;1Hone\x1b[0;37mtwo\r\n\r\n\x1b[7;3Hthree"), "onetwo\nthree")

    def test_a_cursor_that_is_placed_where_it_is_begins_no_line(self):
        loading = b"\x1bc\x1b[2J\r\nLoading /"
        for placed, text in ((b"\x1b[02;9H\x1b[02;10H", "\nLoading /vmlinuz... ok\nx"), (b"\x1b[02;9H", "\nLoading /\nvmlinuz... ok\nx"), (b"\x1b[03;10H", "\nLoading /\nvmlinuz... ok\nx"), (b"\r\x1b[02;10H", "\nLoading /vmlinuz... ok\nx"), (b"\r", "\nLoading /\nvmlinuz... ok\nx"),
                             (b"\b\x1b[2;9H", "\nLoading /\bvmlinuz... ok\nx")):
            self.assertEqual(machine.plain(loading + placed + b"vmlinuz... ok\r\nx"), text, placed)
        # The lowest line stays the lowest.
        self.assertEqual(machine.plain(b"\n" * 30 + b"\rab\x1b[25;3Hc"), "\nabc")


class Comparison(unittest.TestCase):
    def judge(self, starts, stage, end, screen=None, console="", entry=None):
        answer = {"systems": [{"place": "d1p1", "starts": starts, "stops_at": stage, "symptom": screen, "entry": entry}]}
        return compare.judge(compare.Said(answer, "d1p1"), end, console, {"Almhof": "first"})[0]

    def test_each_way_to_differ(self):
        up, root = ends.End(True, entry="first"), ends.End(False, ("root", "init"))
        self.assertEqual(self.judge("yes", None, up, entry="Almhof"), compare.AGREES)
        self.assertEqual(self.judge("yes", None, up, entry="Hut"), compare.WRONG_ENTRY)
        self.assertEqual(self.judge("no", "root", up), compare.FALSE_ALARM)
        self.assertEqual(self.judge("unknown", None, up), compare.UNKNOWN)
        self.assertEqual(self.judge("yes", None, root), compare.MISS)
        self.assertEqual(self.judge("no", "kernel", root), compare.WRONG_STAGE)
        self.assertEqual(self.judge("no", "init", root), compare.AGREES)
        self.assertEqual(self.judge("no", "root", root, "no such disk", "ALERT! no such\n disk"), compare.AGREES)
        self.assertEqual(self.judge("no", "root", root, "no such disk", "ALERT!"), compare.WRONG_SCREEN)

    def test_screens_may_leave_open_what_differs(self):
        self.assertTrue(compare.on_screen("EXT4-fs (…): bad geometry", "[ 1.5] EXT4-fs (vda1): bad geometry: 7"))
        self.assertTrue(compare.on_screen("(nothing more is shown)", ""))
        self.assertTrue(compare.on_screen("---[ end Kernel panic - not syncing: x ]---", "Kernel panic - not syncing: x"))
        self.assertFalse(compare.on_screen("first\nsecond", "first"))


class SecondOpinion(unittest.TestCase):
    """A start that did not end as it was said to is made again, with more patience: the host may have been slow."""

    def run_one(self, consoles, starts, stage):
        loader = importlib.machinery.SourceFileLoader("run", str(here / "run"))
        run = importlib.util.module_from_spec(importlib.util.spec_from_loader("run", loader))
        loader.exec_module(run)
        base = bases.Base("x", "bios", "d1p1", None, {}, {}, {})
        with tempfile.TemporaryDirectory() as folder:
            cache = pathlib.Path(folder)
            (cache / "outcomes").mkdir()
            (cache / "image").write_bytes(bytes(512))
            program = run.Program.__new__(run.Program)
            program.args, program.cache, program.begin = argparse.Namespace(kept=False, seconds=0, tool="x", keep=None), cache, 0
            program.maker = mock.Mock(image=lambda base: cache / "image")
            program.machine = mock.Mock(key=lambda image, firmware, lost: "key", variables=lambda firmware: "")
            program.machine.start = mock.Mock(side_effect=[(text, 1.0) for text in consoles])
            said = compare.Said({"systems": [{"place": "d1p1", "starts": starts, "stops_at": stage}]}, "d1p1")
            with mock.patch.object(run.compare, "check", return_value=(said, None)):
                first = program.compare(run.Case(base, "y", False, []))
                self.assertEqual(program.compare(run.Case(base, "y", False, [])).kind, first.kind)
            return first.kind, [call.kwargs["patience"] for call in program.machine.start.call_args_list]

    def test_what_differs_is_started_twice(self):
        silent, end = "Booting `Almhof'\n", "Booting `Almhof'\nROOT-NOT-FOUND x\nHALT-MARK\n"
        self.assertEqual(self.run_one([silent, end], "no", "root"), (compare.AGREES, [1, machine.PATIENT]))
        self.assertEqual(self.run_one([silent, silent], "no", "root"), (compare.WRONG_STAGE, [1, machine.PATIENT]))
        self.assertEqual(self.run_one([silent], "no", "kernel"), (compare.AGREES, [1]))
        self.assertEqual(self.run_one([end, end], "no", "kernel"), (compare.WRONG_STAGE, [1, machine.PATIENT]))
        self.assertEqual(self.run_one([end], "no", "root"), (compare.AGREES, [1]))


class Installations(unittest.TestCase):
    def test_the_parts_of_one_are_found_on_its_disk(self):
        with tempfile.TemporaryDirectory() as folder:
            image, root = pathlib.Path(folder, "healthy.1.img"), pathlib.Path(folder, "root")
            (root / "boot/grub").mkdir(parents=True)
            for name in ("vmlinuz-6.1.0-9-almhof", "initrd.img-6.1.0-9-almhof", "grub/grub.cfg"):
                (root / "boot" / name).write_text(name)
            with open(image, "wb") as file:
                file.truncate(16 << 20)
            output("sfdisk", "-q", image, text=f"label: gpt\nstart=2048, size=2048, type={bases.TYPES['bios']}\nstart=4096, size=24576, type={bases.TYPES['linux']}\n")
            output("mke2fs", "-q", "-F", "-t", "ext4", "-d", root, "-E", f"offset={4096 * 512}", image, "12m")
            self.assertEqual(installed.volumes_of(image)[0], {2: ("ext", 4096)})
            one = installed.Installed("bios-ext4", "bios", image)
            self.assertEqual(one.place, "d1p2")
            self.assertEqual({n: one.parts[n] for n in ("kernel", "ramdisk", "menu", "core", "root-superblock", "init", "header")},
                             {"kernel": "root:/boot/vmlinuz-6.1.0-9-almhof", "ramdisk": "root:/boot/initrd.img-6.1.0-9-almhof", "menu": "root:/boot/grub/grub.cfg", "core": (2048 * 512, 60 * 512),
                              "root-superblock": (4096 * 512 + 1024, 1024), "init": "root:/usr/lib/systemd/systemd", "header": (512, 92)})
            disk = faults.Disk(image, one)
            self.assertEqual(disk.content("menu"), b"grub/grub.cfg")
            # Folders may be there already; its kernel's version stands for RELEASE.
            disk.apply([["folder", "root:/srv"], ["folder", "root:/srv"], ["write", "root:/srv/RELEASE", "beds\\n"], ["link", "root:/srv/way", "/boot"], ["mode", "root:/srv/RELEASE", "755"]])
            self.assertEqual(disk.content("root:/srv/6.1.0-9-almhof"), b"beds\n")
            self.assertRegex(disk.debugfs(4096, "stat /srv/6.1.0-9-almhof"), r"Mode:\s+0755")

    def test_their_faults_can_be_read_and_name_machines_that_are_made(self):
        sys.path.insert(0, str(here / "installations"))
        import kinds
        names, seen = {k["name"] for k in kinds.INSTALLATIONS}, set()
        for file in sorted((here / "faults/installed").glob("*.faults")):
            for fault in faults.read(file):
                self.assertIn(fault.machine, names, file)
                self.assertTrue(fault.steps, fault.name)
                self.assertTrue(all(hasattr(faults.Disk, "step_" + step[0].replace("-", "_")) for step in fault.steps), fault.name)
                self.assertNotIn((fault.machine, fault.name), seen)
                seen.add((fault.machine, fault.name))
        self.assertGreater(len(seen), 140)

    def test_what_is_no_installation_of_one_disk_is_not_taken(self):
        with tempfile.TemporaryDirectory() as folder, self.assertRaises(installed.Missing):
            pathlib.Path(folder, "bios-ext4").mkdir()
            installed.bases_in(folder)

    def test_their_consoles(self):
        for text, starts, stages in (("[  OK  ] Started inn\nTHE-INN-IS-OPEN\n", True, ()), ("[  OK  ] Reached target multi-user.target - Multi-User System.\nlocalhost login: ", True, ()),
                                     ("[  OK  ] Reached target getty.target - Login Prompts.\n", False, ("services", "init")), ("Welcome to Debian GNU/Linux 12!\nYou are in emergency mode. After", False, ("services",)),
                                     ("Begin: Waiting for root\nALERT! UUID=1 does not exist.  Dropping to a shell!\n(initramfs) ", False, ("root",)),
                                     ("Target filesystem doesn't have requested /sbin/init.\nNo init found. Try passing init= bootarg.\n(initramfs) ", False, ("init",)),
                                     ("Welcome to GRUB!\nerror: no such partition.\nEntering rescue mode...\ngrub rescue> ", False, ("loader", "partition-table"))):
            end = ends.of(text)
            self.assertEqual((end.starts, end.stages), (starts, stages), text)


class Waiting(unittest.TestCase):
    def test_a_person_is_waited_for_at_menus_and_prompts(self):
        for text in ("SYSLINUX 6.04\nboot: ", "Welcome to GRUB!\nUse the up and down keys to select which entry is highlighted.", "Booting `Almhof'\nEnter username: ", "GNU GRUB\n  Booting 'Almhof'\nPassword: ",
                     "Welcome to Debian\nYou are in rescue mode. After logging in, type", "Spawning shell within the initramfs\n\n\n(initramfs) "):
            self.assertTrue(ends.of(text).waits, text)
        for text in ("Loading hut... failed: No such file or directory\n", "  Booting `Almhof'\nerror: file not found.\nUse the up and down keys to select which entry is highlighted."):
            self.assertFalse(ends.of(text).waits, text)

    def test_it_must_be_said(self):
        console = "SYSLINUX 6.04\nboot: "
        answer = {"place": "d1p1", "starts": "yes", "stops_at": None, "symptom": None, "entry": "almhof", "entry_is_default": False, "stages": []}
        for waits_for, kind in (("a choice", compare.AGREES), (None, compare.UNKNOWN)):
            said = compare.Said({"systems": [answer | {"waits_for": waits_for}]}, "d1p1")
            self.assertEqual(compare.judge(said, ends.of(console), console, {})[0], kind)
        said = compare.Said({"systems": [answer | {"waits_for": None, "entry_is_default": True}]}, "d1p1")
        self.assertEqual(compare.judge(said, ends.of(console), console, {})[0], compare.MISS)


class Chance(unittest.TestCase):
    def test_lost_sectors_by_chance_are_among_those_that_are_read_or_told_to_be_harmless(self):
        base, size = BY_NAME["bios-grub"], 44 << 20
        make = lambda seed: chance.Chance(seed, base, [(0, 512), (1 << 20, 4096)], size).worn()
        all_of = [make(s) for s in range(300)]
        self.assertEqual(all_of[:20], [make(s) for s in range(20)])
        self.assertTrue(0.1 < sum(harmless for _, harmless, _ in all_of) / len(all_of) < 0.3)
        for name, harmless, [(word, place, at, length)] in all_of:
            read = int(at) == 0 or 1 << 20 <= int(at) < (1 << 20) + 4096
            self.assertEqual((word, place, read), ("lose", "disk", not harmless), name)
            self.assertLessEqual(int(at) + int(length), size)

    def test_the_same_seed_gives_the_same_fault_and_a_third_are_harmless(self):
        base = BY_NAME["bios-grub"]
        make = lambda seed: chance.Chance(seed, base, [(0, 512), (1 << 20, 4096)], 44 << 20).steps()
        all_of = [make(s) for s in range(600)]
        self.assertEqual(all_of, [make(s) for s in range(600)])
        self.assertGreater(len({str(f) for f in all_of}), 300)
        harmless = sum(f[1] for f in all_of)
        self.assertTrue(150 < harmless < 250, harmless)
        # What is filled without harm is never what a start reads.
        for name, _, steps in all_of:
            if "which no start reads" in name:
                self.assertFalse(0 <= int(steps[0][2]) < 512 or (1 << 20) <= int(steps[0][2]) < (1 << 20) + 4096)


if __name__ == "__main__":
    unittest.main()
