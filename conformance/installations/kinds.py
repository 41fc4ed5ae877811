# SPDX-License-Identifier: MIT
"""The installations that are made, and the faults that each of them gets.

An installation is made by shell commands in a virtual PC: `disks` has a partition table for each of them (as sfdisk takes
it), `make` ends with the root file system in /mnt and what belongs below it; D1, D2 … are the disks there. `fstab` and
`crypttab` are lines of those files, `finish` runs in the new system (RAM disk, loader). A fault's commands run with the
installation in /mnt again, or, with `raw`, before it is mounted. `stage` is where the machine then stops (None: it starts),
`screen` what its screen must show at that end, so that the expectation itself is held to the real machine."""

PASSPHRASE = "enzian"

# Identifiers are given, not drawn: the RAM disks are packed before the volumes are made.
ROOT, BOOT, VAULT, ARRAY = ("a1b0f00d-0000-4000-8000-00000000c101", "a1b0f00d-0000-4000-8000-00000000c102", "a1b0f00d-0000-4000-8000-00000000c103",
                            "a1b0f00d:00004000:80000000:0000c104")
LOST = "0bad1d00-0000-4000-8000-00000bad1d01"

BIOS_GPT = "label: gpt\nsize=1MiB, type=21686148-6449-6E6F-744E-656564454649\ntype=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n"
BIOS_GPT_BOOT = ("label: gpt\nsize=1MiB, type=21686148-6449-6E6F-744E-656564454649\nsize=200MiB, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n"
                 "type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n")
BIOS_GPT_USR = ("label: gpt\nsize=1MiB, type=21686148-6449-6E6F-744E-656564454649\nsize=500MiB, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n"
                "type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n")
MBR = "label: dos\nstart=2048, type=83, bootable\n"
EFI_GPT = "label: gpt\nsize=120MiB, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B\ntype=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n"
EFI_GPT_BOOT = ("label: gpt\nsize=120MiB, type=C12A7328-F81F-11D2-BA4B-00A0C93EC93B\nsize=200MiB, type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n"
                "type=0FC63DAF-8483-4772-8E79-3D69D8477DE4\n")

GRUB_BIOS = "for d in $DISKS; do grub-install --target=i386-pc $d; done; update-grub"
GRUB_EFI = "grub-install --target=x86_64-efi --efi-directory=/boot/efi --uefi-secure-boot --no-nvram --removable; update-grub"

# Faults that most installations get.
PROMPT, RESCUE = r"grub>", r"grub rescue>"
ALERT = r"ALERT!.*does not exist"
kernel_gone = dict(name="kernel gone", do="rm /mnt/boot/vmlinuz-*", stage="entry", screen=r"error: file `[^']*vmlinuz[^']*' not found")
menu_gone = dict(name="menu gone", do="rm /mnt/boot/grub/grub.cfg", stage="configuration", screen=PROMPT)
ramdisk_gone = dict(name="RAM disk gone", do="rm /mnt/boot/initrd.img-*", stage="ramdisk", screen=r"Unable to mount root fs")
ramdisk_cut = dict(name="RAM disk cut in half", do="f=$(ls /mnt/boot/initrd.img-*); truncate -s $(($(stat -c %s $f) / 2)) $f", stage="ramdisk",
                   screen=r"Unable to mount root fs|junk within compressed|Initramfs unpacking failed|ALERT!|not syncing")
init_gone = dict(name="init gone", do="rm /mnt/usr/sbin/init /mnt/usr/lib/systemd/systemd; rm -f /mnt/etc/init /mnt/usr/bin/sh /mnt/usr/bin/dash",
                 stage="init", screen=r"No init found|No working init|Target filesystem doesn't have|Failed to execute fallback shell")
fstab_device = dict(name="fstab names a lost disk", do="echo 'UUID=0bad1d00-0000-4000-8000-00000bad1d01 /srv ext4 defaults 0 2' >>/mnt/etc/fstab",
                    stage="services", screen=r"emergency mode|emergency.target|root account is locked")
fstab_nofail = dict(name="the same with nofail", do="echo 'UUID=0bad1d00-0000-4000-8000-00000bad1d01 /srv ext4 nofail,x-systemd.device-timeout=3 0 2' >>/mnt/etc/fstab",
                    stage=None, screen=None)
root_uuid = dict(name="another root in the menu", do="sed -i 's/root=UUID=[0-9a-f-]*/root=UUID=0bad1d00-0000-4000-8000-00000bad1d01/' /mnt/boot/grub/grub.cfg",
                 stage="root", screen=ALERT)
root_name = dict(name="another root in the menu", do="sed -i 's,root=/dev/mapper/inn-root,root=/dev/mapper/inn-rot,' /mnt/boot/grub/grub.cfg",
                 stage="root", screen=ALERT)
group_renamed = dict(name="group renamed", raw="vgchange -an inn; vgrename inn gasthof", stage="root", screen=ALERT)
core_gone = dict(name="core image wiped", raw="dd if=/dev/zero of=${D1}1 bs=64k count=1 conv=notrunc", stage="loader", screen=r"GRUB")
code_gone = dict(name="boot code wiped", raw="dd if=/dev/zero of=$D1 bs=440 count=1 conv=notrunc", stage="boot-code", screen=None)


def packed_again(name, *commands, **more):
    """A fault: the RAM disk with something changed in it, packed by what prepares the base system."""
    return dict(name=name, ramdisk=" && ".join(commands), do=f"cp '/ramdisks/KIND.{name}' /mnt/boot/initrd.img-*", **more)


def without(*files):
    return "find . -type f '(' " + " -o ".join(f"-name '{f}'" for f in files) + " ')' -delete"


def lvm_says(settings):
    """LVM's settings of this host in the RAM disk."""
    return f"echo '{settings}' >etc/lvm/lvmlocal.conf"


INSTALLATIONS = [
    dict(name="bios-ext4", disks=[BIOS_GPT],
         make="mkfs.ext4 -q -U {ROOT} ${D1}2; mount ${D1}2 /mnt", fstab="UUID={ROOT} / ext4 errors=remount-ro 0 1", finish=GRUB_BIOS,
         faults=[kernel_gone, menu_gone, ramdisk_gone, ramdisk_cut, init_gone, fstab_device, fstab_nofail, root_uuid, core_gone, code_gone]),
    dict(name="bios-mbr-xfs", disks=[MBR],
         make="mkfs.xfs -q -m uuid={ROOT} ${D1}1; mount ${D1}1 /mnt", fstab="UUID={ROOT} / xfs defaults 0 0", finish=GRUB_BIOS,
         faults=[kernel_gone, menu_gone, ramdisk_cut, init_gone, root_uuid,
                 packed_again("RAM disk without xfs", without("xfs.ko"), stage="root", screen=r"ALERT!|unknown filesystem type|mounting .* failed|Failed to mount"),
                 dict(name="superblock scratched", raw="dd if=/dev/zero of=${D1}1 bs=512 count=1 conv=notrunc", stage="loader", screen=RESCUE)]),
    dict(name="bios-btrfs-subvolume", disks=[BIOS_GPT],
         make="mkfs.btrfs -q -U {ROOT} ${D1}2; mount ${D1}2 /mnt; btrfs subvolume create /mnt/@rootfs; umount /mnt; mount -o subvol=@rootfs ${D1}2 /mnt",
         fstab="UUID={ROOT} / btrfs defaults,subvol=@rootfs 0 0", finish=GRUB_BIOS,
         faults=[kernel_gone, menu_gone, init_gone, root_uuid,
                 dict(name="subvolume renamed", raw="mkdir -p /top; mount -o subvolid=5 ${D1}2 /top; mv /top/@rootfs /top/@old; umount /top", stage="loader", screen=RESCUE),
                 dict(name="another subvolume on the command line", do="sed -i 's/subvol=@rootfs/subvol=@roots/' /mnt/boot/grub/grub.cfg", stage="root",
                      screen=r"mounting .* failed|Failed to mount|ALERT!|No such file or directory"),
                 packed_again("RAM disk without btrfs", without("btrfs.ko"), stage="root", screen=r"ALERT!|mounting .* failed|Failed to mount|unknown filesystem")]),
    dict(name="bios-usr-apart", disks=[BIOS_GPT_USR],
         make="mkfs.ext4 -q -U {ROOT} ${D1}2; mkfs.ext4 -q -U {BOOT} ${D1}3; mount ${D1}2 /mnt; mkdir /mnt/usr; mount ${D1}3 /mnt/usr",
         fstab="UUID={ROOT} / ext4 errors=remount-ro 0 1\nUUID={BOOT} /usr ext4 defaults 0 2", finish=GRUB_BIOS, open="mount ${D1}2 /mnt; mount ${D1}3 /mnt/usr",
         faults=[kernel_gone, menu_gone, root_uuid,
                 dict(name="the table names another volume of programs", do="sed -i 's/UUID=[0-9a-f-]* .usr/UUID=0bad1d00-0000-4000-8000-00000bad1d01 \\/usr/' /mnt/etc/fstab", stage="root", screen=ALERT),
                 dict(name="the table has no volume of programs", do="sed -i '/.usr/d' /mnt/etc/fstab", stage="init", screen=r"No init found"),
                 dict(name="the programs as another type", do="sed -i 's,/usr ext4,/usr xfs,' /mnt/etc/fstab", stage="root", screen=r"Failed to mount"),
                 dict(name="the volume does not hold systemd", do="rm /mnt/usr/lib/systemd/systemd /mnt/usr/bin/sh /mnt/usr/bin/dash", stage="init", screen=r"No init found|Target filesystem doesn't have"),
                 dict(name="the programs may be lost", do="sed -i 's,/usr ext4 defaults,/usr ext4 nofail,' /mnt/etc/fstab", stage=None, screen=None)]),
    dict(name="bios-lvm", disks=[BIOS_GPT],
         make="pvcreate -y ${D1}2; vgcreate inn ${D1}2; lvcreate -y -n root -l 90%FREE inn; lvcreate -y -n swap -L 32M inn; mkfs.ext4 -q -U {ROOT} /dev/inn/root; "
              "mkswap /dev/inn/swap; mount /dev/inn/root /mnt",
         fstab="/dev/mapper/inn-root / ext4 errors=remount-ro 0 1\n/dev/mapper/inn-swap none swap sw 0 0", finish=GRUB_BIOS, close="vgchange -an",
         open="vgchange -ay inn; udevadm settle; mount /dev/inn/root /mnt",
         faults=[kernel_gone, menu_gone, init_gone, root_name, group_renamed, core_gone,
                 packed_again("RAM disk without lvm", without("lvm"), stage="root", screen=ALERT),
                 packed_again("RAM disk without the rule that calls lvm", without("69-lvm.rules"), stage="root", screen=ALERT),
                 packed_again("no disk is for lvm", lvm_says('devices { filter=[ "r|.*|" ] }'), stage="root", screen=ALERT),
                 packed_again("the CD drive is not for lvm", lvm_says('devices { global_filter=[ "r|/dev/sr.*|" ] }'), stage=None, screen=None),
                 packed_again("other groups are opened by themselves", lvm_says('activation { auto_activation_volume_list=[ "gasthof" ] }'), stage="root", screen=ALERT),
                 packed_again("the root is opened by itself", lvm_says('activation { auto_activation_volume_list=[ "inn/root" ] }'), stage=None, screen=None),
                 packed_again("other volumes may be opened", lvm_says('activation { volume_list=[ "inn/swap" ] }'), stage="root", screen=ALERT),
                 packed_again("another disk in the list of devices", lvm_says("devices { use_devicesfile=1 }"),
                              "mkdir -p etc/lvm/devices; echo IDTYPE=devname IDNAME=/dev/vdq2 DEVNAME=/dev/vdq2 PVID=hutHUThutHUThutHUThutHUThutHUThu >etc/lvm/devices/system.devices",
                              stage="root", screen=ALERT),
                 dict(name="group not opened by itself", raw="vgchange --setautoactivation n inn", stage="root", screen=ALERT),
                 dict(name="root not opened by itself", raw="lvchange --setautoactivation n inn/root", stage="root", screen=ALERT),
                 dict(name="root skipped", raw="lvchange --setactivationskip y inn/root", stage="root", screen=ALERT),
                 dict(name="swap skipped", raw="lvchange --setactivationskip y inn/swap", stage=None, screen=None)]),
    dict(name="bios-luks", disks=[BIOS_GPT_BOOT],
         make="cryptsetup luksFormat -q --uuid {VAULT} --pbkdf-memory 32768 --pbkdf-force-iterations 4 --pbkdf-parallel 1 ${D1}3 /tmp/key; cryptsetup open --key-file /tmp/key ${D1}3 cellar; "
              "mkfs.ext4 -q -U {ROOT} /dev/mapper/cellar; mount /dev/mapper/cellar /mnt; mkdir /mnt/boot; mkfs.ext4 -q -U {BOOT} ${D1}2; mount ${D1}2 /mnt/boot",
         fstab="/dev/mapper/cellar / ext4 errors=remount-ro 0 1\nUUID={BOOT} /boot ext4 defaults 0 2",
         crypttab="cellar UUID={VAULT} none luks,discard", finish=GRUB_BIOS, close="cryptsetup close cellar",
         open="cryptsetup open --key-file /tmp/key ${D1}3 cellar; udevadm settle; mount /dev/mapper/cellar /mnt; mount ${D1}2 /mnt/boot",
         unlock="d1p3",
         faults=[kernel_gone, menu_gone, init_gone,
                 packed_again("crypttab names another volume", f"sed -i s/{VAULT}/{LOST}/ cryptroot/crypttab", stage="root", screen=ALERT),
                 packed_again("RAM disk without dm-crypt", without("dm-crypt.ko"), stage="root", screen=r"ALERT!|dm-crypt|cryptsetup failed|Nothing to read|bad password"),
                 dict(name="key slot scratched", raw="dd if=/dev/urandom of=${D1}3 bs=4k seek=8 count=64 conv=notrunc", stage="root", unlocked=False,
                      screen=r"No key available|bad password|cryptsetup failed")]),
    dict(name="secure-lvm-on-luks", firmware="secure", disks=[EFI_GPT_BOOT],
         make="cryptsetup luksFormat -q --uuid {VAULT} --pbkdf-memory 32768 --pbkdf-force-iterations 4 --pbkdf-parallel 1 ${D1}3 /tmp/key; cryptsetup open --key-file /tmp/key ${D1}3 vda3_crypt; "
              "pvcreate -y /dev/mapper/vda3_crypt; vgcreate inn /dev/mapper/vda3_crypt; lvcreate -y -n swap -L 32M inn; lvcreate -y -n root -l 90%FREE inn; "
              "mkfs.ext4 -q -U {ROOT} /dev/inn/root; mkswap /dev/inn/swap; mount /dev/inn/root /mnt; mkdir /mnt/boot; mkfs.ext4 -q -U {BOOT} ${D1}2; mount ${D1}2 /mnt/boot; "
              "mkdir /mnt/boot/efi; mkfs.vfat -F 32 -n EFI ${D1}1; mount ${D1}1 /mnt/boot/efi",
         fstab="/dev/mapper/inn-root / ext4 errors=remount-ro 0 1\nUUID={BOOT} /boot ext4 defaults 0 2\nLABEL=EFI /boot/efi vfat umask=0077 0 1\n/dev/mapper/inn-swap none swap sw 0 0",
         crypttab="vda3_crypt UUID={VAULT} none luks,discard", finish=GRUB_EFI, close="vgchange -an; cryptsetup close vda3_crypt",
         open="cryptsetup open --key-file /tmp/key ${D1}3 vda3_crypt; vgchange -ay inn; udevadm settle; mount /dev/inn/root /mnt; mount ${D1}2 /mnt/boot; mount ${D1}1 /mnt/boot/efi",
         unlock="d1p3",
         faults=[kernel_gone, menu_gone, init_gone, root_name,
                 dict(name="second stage gone", do="rm /mnt/boot/efi/EFI/BOOT/grubx64.efi", stage="loader", screen=r"Failed to open|No bootable option"),
                 dict(name="shim damaged", do="f=/mnt/boot/efi/EFI/BOOT/BOOTX64.EFI; dd if=/dev/urandom of=$f bs=1 seek=200000 count=16 conv=notrunc", stage="boot-code",
                      screen=r"Access Denied|No bootable option|Security Violation")]),
    dict(name="secure-ext4", firmware="secure", disks=[EFI_GPT],
         make="mkfs.ext4 -q -U {ROOT} ${D1}2; mount ${D1}2 /mnt; mkdir -p /mnt/boot/efi; mkfs.vfat -F 32 -n EFI ${D1}1; mount ${D1}1 /mnt/boot/efi",
         fstab="UUID={ROOT} / ext4 errors=remount-ro 0 1\nLABEL=EFI /boot/efi vfat umask=0077 0 1", finish=GRUB_EFI, open="mount ${D1}2 /mnt; mount ${D1}1 /mnt/boot/efi",
         faults=[kernel_gone, menu_gone, init_gone, root_uuid,
                 dict(name="kernel of another's making", do="f=$(ls /mnt/boot/vmlinuz-*); printf x | dd of=$f bs=1 seek=300000 conv=notrunc", stage="kernel", screen=r"bad shim signature")]),
    dict(name="bios-mirror", disks=[BIOS_GPT, BIOS_GPT],
         make="mdadm --create /dev/md0 --run --uuid={ARRAY} --homehost=inn --name=root --metadata=1.2 --level=1 --bitmap=none --assume-clean --raid-devices=2 ${D1}2 ${D2}2; "
              "mkfs.ext4 -q -U {ROOT} /dev/md0; mount /dev/md0 /mnt",
         fstab="UUID={ROOT} / ext4 errors=remount-ro 0 1", mdadm=True, finish=GRUB_BIOS, close="mdadm --stop --scan",
         open="mdadm --assemble --run /dev/md0 $(members 2); udevadm settle; mount /dev/md0 /mnt",
         faults=[kernel_gone, menu_gone, init_gone, root_uuid,
                 dict(name="one disk out", drop=2, stage=None, screen=None),
                 dict(name="the first disk out", drop=1, stage=None, screen=None),
                 packed_again("RAM disk without raid1", without("raid1.ko"), stage="root", screen=ALERT)]),
    dict(name="bios-lvm-on-mirror", disks=[BIOS_GPT, BIOS_GPT],
         make="mdadm --create /dev/md0 --run --uuid={ARRAY} --homehost=inn --name=group --metadata=1.2 --level=1 --bitmap=none --assume-clean --raid-devices=2 ${D1}2 ${D2}2; "
              "pvcreate -y /dev/md0; vgcreate inn /dev/md0; lvcreate -y -n root -l 90%FREE inn; mkfs.ext4 -q -U {ROOT} /dev/inn/root; mount /dev/inn/root /mnt",
         fstab="/dev/mapper/inn-root / ext4 errors=remount-ro 0 1", mdadm=True, finish=GRUB_BIOS, close="vgchange -an; mdadm --stop --scan",
         open="mdadm --assemble --run /dev/md0 $(members 2); vgchange -ay inn; udevadm settle; mount /dev/inn/root /mnt",
         faults=[kernel_gone, menu_gone, init_gone, root_name, dict(group_renamed, raw="mdadm --assemble --run /dev/md0 $(members 2); vgchange -an inn; vgrename inn gasthof; mdadm --stop --scan"),
                 dict(name="one disk out", drop=2, stage=None, screen=None),
                 packed_again("RAM disk without raid1", without("raid1.ko"), stage="root", screen=ALERT)]),
    dict(name="efi-systemd-boot", firmware="uefi", disks=[EFI_GPT],
         make="mkfs.ext4 -q -U {ROOT} ${D1}2; mount ${D1}2 /mnt; mkdir /mnt/efi; mkfs.vfat -F 32 -n EFI ${D1}1; mount ${D1}1 /mnt/efi",
         fstab="UUID={ROOT} / ext4 errors=remount-ro 0 1\nLABEL=EFI /efi vfat umask=0077 0 1", cmdline="root=UUID={ROOT} ro console=ttyS0",
         finish="bootctl install --no-variables --esp-path=/efi; k=$(ls /lib/modules); kernel-install add $k /boot/vmlinuz-$k /boot/initrd.img-$k",
         open="mount ${D1}2 /mnt; mount ${D1}1 /mnt/efi",
         faults=[dict(name="kernel gone", do="rm /mnt/efi/*/*/linux", stage="configuration", screen=r"Reboot Into Firmware"),
                 dict(name="entries gone", do="rm /mnt/efi/loader/entries/*", stage="configuration", screen=r"Reboot Into Firmware"),
                 dict(name="RAM disk gone", do="rm /mnt/efi/*/*/initrd*", stage="ramdisk", screen=r"Error|Not Found|not found|panic"),
                 dict(name="another root", do="sed -i 's/root=UUID=[0-9a-f-]*/root=UUID=0bad1d00-0000-4000-8000-00000bad1d01/' /mnt/efi/loader/entries/*", stage="root", screen=ALERT),
                 init_gone, fstab_device]),
    dict(name="dracut-xfs-on-lvm", packages="dracut", disks=[BIOS_GPT_BOOT],
         make="pvcreate -y ${D1}3; vgcreate inn ${D1}3; lvcreate -y -n root -l 90%FREE inn; mkfs.xfs -q /dev/inn/root; mount /dev/inn/root /mnt; mkdir /mnt/boot; "
              "mkfs.ext4 -q -U {BOOT} ${D1}2; mount ${D1}2 /mnt/boot",
         fstab="/dev/mapper/inn-root / xfs defaults 0 0\nUUID={BOOT} /boot ext4 defaults 0 2", cmdline="rd.lvm.lv=inn/root",
         finish=GRUB_BIOS, close="vgchange -an",
         open="vgchange -ay inn; udevadm settle; mount /dev/inn/root /mnt; mount ${D1}2 /mnt/boot",
         faults=[kernel_gone, menu_gone, init_gone,
                 dict(name="another volume in the menu", do="sed -i 's,rd.lvm.lv=inn/root,rd.lvm.lv=inn/rot,' /mnt/boot/grub/grub.cfg", stage="root",
                      screen=r"does not exist|dracut-initqueue.*timeout|emergency|Failed to find logical volume"),
                 dict(name="group renamed", raw="vgchange -an inn; vgrename inn gasthof", stage="root", screen=r"does not exist|timeout|emergency")]),
    dict(name="sysv-ext4", packages="sysvinit-core", disks=[BIOS_GPT], sysv=True,
         make="mkfs.ext4 -q -U {ROOT} ${D1}2; mount ${D1}2 /mnt", fstab="UUID={ROOT} / ext4 errors=remount-ro 0 1", finish=GRUB_BIOS,
         faults=[kernel_gone, menu_gone, root_uuid, ramdisk_cut,
                 dict(name="init gone", do="rm /mnt/usr/sbin/init; rm -f /mnt/usr/bin/sh /mnt/usr/bin/dash", stage="init", screen=r"No init found|No working init|Target filesystem"),
                 dict(name="start-up script gone", do="rm /mnt/etc/init.d/rc*", stage="services", screen=r"rcS|respawning too fast|No such file|not found")]),
    dict(name="grub-opens-luks1", disks=[BIOS_GPT],
         make="cryptsetup luksFormat -q --uuid {VAULT} --type luks1 --pbkdf-force-iterations 1000 ${D1}2 /tmp/key; cryptsetup open --key-file /tmp/key ${D1}2 cellar; "
              "mkfs.ext4 -q -U {ROOT} /dev/mapper/cellar; mount /dev/mapper/cellar /mnt",
         fstab="/dev/mapper/cellar / ext4 errors=remount-ro 0 1", crypttab="cellar UUID={VAULT} none luks,discard",
         finish="echo GRUB_ENABLE_CRYPTODISK=y >>/etc/default/grub; " + GRUB_BIOS, close="cryptsetup close cellar",
         open="cryptsetup open --key-file /tmp/key ${D1}2 cellar; udevadm settle; mount /dev/mapper/cellar /mnt", unlock="d1p2",
         faults=[kernel_gone, menu_gone, init_gone,
                 dict(name="header's UUID changed", raw="cryptsetup luksUUID -q --uuid 0bad1d00-0000-4000-8000-00000bad1d04 ${D1}2", stage="loader", screen=RESCUE),
                 dict(name="key slot scratched", raw="dd if=/dev/urandom of=${D1}2 bs=4k seek=1 count=64 conv=notrunc", stage="loader", unlocked=False, screen=RESCUE)]),
]

for kind in INSTALLATIONS:
    for field in ("make", "fstab", "crypttab", "cmdline"):
        if field in kind:
            for name, value in dict(ROOT=ROOT, BOOT=BOOT, VAULT=VAULT, ARRAY=ARRAY).items():
                kind[field] = kind[field].replace("{" + name + "}", value)
