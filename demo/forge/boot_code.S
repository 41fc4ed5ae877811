/* SPDX-License-Identifier: MIT
 * The generator's own boot code. It has the fields and marks that a GRUB 2 first sector, core image and a Linux
 * kernel have, and enough code to be started: each part loads the next one, and the last one says that it is a
 * stand-in. Addresses are written as constants so that the pieces can be copied anywhere. */

        .section .rodata
        .code16

/* ---- first sector, runs at 0000:7C00 ------------------------------------------------------------------------ */
        .globl  forge_boot_sector
forge_boot_sector:
        jmp     1f
        nop
        .org    forge_boot_sector + 0x5A
        .word   0x8000                          /* where the core image's first sector goes */
        .quad   1                               /* its sector on the disk */
        .byte   0xFF                            /* drive: the one in DL */
1:      cli
        nop
        nop
        xorw    %ax, %ax
        movw    %ax, %ds
        movw    %ax, %es
        movw    %ax, %ss
        movw    $0x2000, %sp
        sti
        pushw   %dx
        movw    $(0x7C00 + .Lmark - forge_boot_sector), %si
        call    .Lboot_print
        popw    %dx
        pushw   %dx
        movw    $0x0600, %si                    /* disk address packet at 0000:0600 */
        movw    $0x0010, (%si)
        movw    $0x0001, 2(%si)
        movw    0x7C5A, %ax
        movw    %ax, 4(%si)
        movw    $0, 6(%si)
        movl    0x7C5C, %eax
        movl    %eax, 8(%si)
        movl    0x7C60, %eax
        movl    %eax, 12(%si)
        movb    $0x42, %ah
        int     $0x13
        jc      2f
        popw    %dx
        jmp     *0x7C5A
2:      movw    $(0x7C00 + .Lread - forge_boot_sector), %si
        call    .Lboot_print
        int     $0x18
3:      hlt
        jmp     3b
.Lboot_print:
        lodsb
        testb   %al, %al
        jz      4f
        movw    $0x0001, %bx
        movb    $0x0E, %ah
        int     $0x10
        jmp     .Lboot_print
4:      ret
.Lmark: .asciz  "GRUB "
        .asciz  "Geom"
.Lread: .asciz  "Read Error\r\n"
        .org    forge_boot_sector + 0x1B8
        .globl  forge_boot_sector_end
forge_boot_sector_end:

/* ---- first sector of the core image, runs at 0000:8000 ------------------------------------------------------- */
        .globl  forge_disk_boot
forge_disk_boot:
        xorw    %ax, %ax
        movw    %ax, %ds
        pushw   %dx
        movw    $(0x8000 + .Lloading - forge_disk_boot), %si
        call    .Ldisk_print
        movw    $0x81F4, %di                    /* the list of runs grows downwards from here */
5:      cmpw    $0, 8(%di)
        je      6f
        movw    $0x0600, %si
        movw    $0x0010, (%si)
        movw    8(%di), %ax
        movw    %ax, 2(%si)
        movw    $0, 4(%si)
        movw    10(%di), %ax
        movw    %ax, 6(%si)
        movl    (%di), %eax
        movl    %eax, 8(%si)
        movl    4(%di), %eax
        movl    %eax, 12(%si)
        popw    %dx
        pushw   %dx
        movb    $0x42, %ah
        int     $0x13
        jc      7f
        movw    $(0x8000 + .Ldot - forge_disk_boot), %si
        call    .Ldisk_print
        subw    $12, %di
        jmp     5b
6:      popw    %dx
        .byte   0xEA                            /* ljmp 0000:8200 */
        .word   0x8200, 0
7:      movw    $(0x8000 + .Ldisk_error - forge_disk_boot), %si
        call    .Ldisk_print
8:      hlt
        jmp     8b
.Ldisk_print:
        lodsb
        testb   %al, %al
        jz      9f
        movw    $0x0001, %bx
        movb    $0x0E, %ah
        int     $0x10
        jmp     .Ldisk_print
9:      ret
.Lloading: .asciz "loading"
.Ldot:  .asciz  "."
        .asciz  "Geom"
.Ldisk_error: .asciz " Read Error\r\n"
        .globl  forge_disk_boot_end
forge_disk_boot_end:

/* ---- a first sector of the plain kind: starts the one active partition; moves itself to 0000:0600 first ---------- */
        .globl  forge_plain_boot
forge_plain_boot:
        cli
        xorw    %ax, %ax
        movw    %ax, %ds
        movw    %ax, %es
        movw    %ax, %ss
        movw    $0x7C00, %sp
        sti
        cld
        movw    $0x7C00, %si
        movw    $0x0600, %di
        movw    $256, %cx
        rep movsw
        .byte   0xEA                            /* ljmp 0000:0600 + here */
        .word   0x0600 + .Lplain_moved - forge_plain_boot, 0
.Lplain_moved:
        movw    $0x07BE, %si
        movw    $4, %cx
        xorw    %bp, %bp
20:     movb    (%si), %al
        cmpb    $0x80, %al
        jne     21f
        testw   %bp, %bp
        jnz     .Lplain_several
        movw    %si, %bp
        jmp     22f
21:     testb   %al, %al
        jnz     .Lplain_status
22:     addw    $16, %si
        loop    20b
        testw   %bp, %bp
        jz      .Lplain_none
        movw    $0x0500, %si                    /* packet: one sector to 0000:7C00 */
        movl    $0x00010010, (%si)
        movl    $0x00007C00, 4(%si)
        movl    8(%bp), %eax
        movl    %eax, 8(%si)
        movl    $0, 12(%si)
        movb    $0x42, %ah
        int     $0x13
        jc      .Lplain_read
        cmpw    $0xAA55, 0x7DFE
        jne     .Lplain_mark
        movw    %bp, %si
        .byte   0xEA
        .word   0x7C00, 0
.Lplain_several: movw $(0x0600 + .Ltext_several - forge_plain_boot), %si
        jmp     23f
.Lplain_status: movw $(0x0600 + .Ltext_status - forge_plain_boot), %si
        jmp     23f
.Lplain_none: movw  $(0x0600 + .Ltext_none - forge_plain_boot), %si
        jmp     23f
.Lplain_read: movw  $(0x0600 + .Ltext_read - forge_plain_boot), %si
        jmp     23f
.Lplain_mark: movw  $(0x0600 + .Ltext_mark - forge_plain_boot), %si
23:     lodsb
        testb   %al, %al
        jz      24f
        movw    $0x0001, %bx
        movb    $0x0E, %ah
        int     $0x10
        jmp     23b
24:     int     $0x18
.Ltext_several: .asciz "Two doors stand open\r\n"
.Ltext_status: .asciz "A door is marked oddly\r\n"
.Ltext_none: .asciz "No door stands open\r\n"
.Ltext_read: .asciz "The door cannot be read\r\n"
.Ltext_mark: .asciz "Nothing behind the door\r\n"
        .globl  forge_plain_boot_end
forge_plain_boot_end:

/* ---- a volume's boot sector without a system: says so, waits for a key, starts over ------------------------------- */
        .globl  forge_volume_boot
forge_volume_boot:
        xorw    %ax, %ax
        movw    %ax, %ds
        movw    $(0x7C00 + .Lvolume_text - forge_volume_boot), %si
25:     lodsb
        testb   %al, %al
        jz      26f
        movw    $0x0007, %bx
        movb    $0x0E, %ah
        int     $0x10
        jmp     25b
26:     xorw    %ax, %ax
        int     $0x16
        int     $0x19
.Lvolume_text: .asciz "No system in this room, press a key\r\n"
        .globl  forge_volume_boot_end
forge_volume_boot_end:

/* ---- start of the core image proper, runs at 0000:8200 -------------------------------------------------------- */
        .globl  forge_core_start
forge_core_start:
        .byte   0xEA                            /* ljmp 0000:821C */
        .word   0x821C, 0
        .org    forge_core_start + 0x1C         /* the fields between are filled by the generator */
        xorw    %ax, %ax
        movw    %ax, %ds
        movw    $(0x8200 + .Lcore_text - forge_core_start), %si
10:     lodsb
        testb   %al, %al
        jz      11f
        movw    $0x0001, %bx
        movb    $0x0E, %ah
        int     $0x10
        jmp     10b
11:     cli                                     /* as the real one does next: protected mode */
        movl    %cr0, %eax
        orb     $1, %al
        movl    %eax, %cr0
        hlt
        jmp     11b
.Lcore_text: .asciz "\r\nThis is a stand-in for a loader: it ends here.\r\n"
        .globl  forge_core_start_end
forge_core_start_end:

/* ---- a kernel's real-mode entry, at offset 0x268 of its set-up part; CS is 20h paragraphs above that part --------- */
        .globl  forge_kernel_setup
forge_kernel_setup:
        movw    %cs, %ax
        movw    %ax, %ds
        movw    $(0x68 + .Lsetup_text - forge_kernel_setup), %si
12:     lodsb
        testb   %al, %al
        jz      13f
        movw    $0x0001, %bx
        movb    $0x0E, %ah
        int     $0x10
        jmp     12b
13:     hlt
        jmp     13b
.Lsetup_text: .asciz "This is a stand-in for a kernel: it ends here.\r\n"
        .globl  forge_kernel_setup_end
forge_kernel_setup_end:

/* ---- a kernel's 32-bit entry --------------------------------------------------------------------------------- */
        .code32
        .globl  forge_kernel_entry
forge_kernel_entry:
        movl    $0xB8000, %edi
        movl    $0x1F4B1F53, (%edi)
14:     hlt
        jmp     14b
        .globl  forge_kernel_entry_end
forge_kernel_entry_end:


        .code16
/* ---- GRUB Legacy stage 1, runs at 0000:7C00 ------------------------------------------------------------------- */
        .globl  forge_legacy_stage1
forge_legacy_stage1:
        .byte   0xEB, 0x48, 0x90
        .org    forge_legacy_stage1 + 0x3E
        .byte   3, 2                            /* version of the structures */
        .byte   0xFF                            /* drive: the one in DL */
        .byte   0
        .word   0x2000                          /* where the next stage goes */
        .long   1                               /* its sector */
        .word   0x0200
        cli
        xorw    %ax, %ax
        movw    %ax, %ds
        movw    %ax, %es
        movw    %ax, %ss
        movw    $0x7C00, %sp
        sti
        pushw   %dx
        movw    $0x0600, %si
        movw    $0x0010, (%si)
        movw    $0x0001, 2(%si)
        movw    $0x2000, 4(%si)
        movw    $0, 6(%si)
        movl    0x7C44, %eax
        movl    %eax, 8(%si)
        movl    $0, 12(%si)
        movb    $0x42, %ah
        int     $0x13
        popw    %dx
        jc      1f
        .byte   0xEA
        .word   0x2000, 0
1:      movw    $(0x7C00 + .Llegacy_error - forge_legacy_stage1), %si
2:      lodsb
        testb   %al, %al
        jz      3f
        movb    $0x0E, %ah
        int     $0x10
        jmp     2b
3:      hlt
        jmp     3b
.Llegacy_error: .asciz "GRUB Read Error"
        .asciz  "Geom"
        .globl  forge_legacy_stage1_end
forge_legacy_stage1_end:

/* ---- the sector before stage 1.5, runs at 0000:2000; its list has one run ---------------------------------------- */
        .globl  forge_legacy_start
forge_legacy_start:
        pushw   %dx
        movw    $0x0600, %si
        movw    $0x0010, (%si)
        movw    0x21FC, %ax
        movw    %ax, 2(%si)
        movw    $0, 4(%si)
        movw    0x21FE, %ax
        movw    %ax, 6(%si)
        movl    0x21F8, %eax
        movl    %eax, 8(%si)
        movl    $0, 12(%si)
        movb    $0x42, %ah
        int     $0x13
        popw    %dx
        .byte   0xEA
        .word   0x2200, 0
        .asciz  "Loading stage1.5"
        .asciz  "Geom"
        .globl  forge_legacy_start_end
forge_legacy_start_end:

/* ---- stage 1.5, runs at 0000:2200: says that it is a stand-in ----------------------------------------------------- */
        .globl  forge_legacy_stage15
forge_legacy_stage15:
        .byte   0xE9                            /* over the fields and names */
        .word   0x200 - 3
        .byte   0, 0, 0
        .byte   3, 2
        .org    forge_legacy_stage15 + 0x200
        movw    $(0x2200 + .Llegacy_words - forge_legacy_stage15), %si
4:      lodsb
        testb   %al, %al
        jz      5f
        movb    $0x0E, %ah
        int     $0x10
        jmp     4b
5:      xorw    %ax, %ax
        int     $0x16
        jmp     5b
.Llegacy_words: .asciz "GRUB loading, please wait...\r\n(a stand-in: stage 2 goes no further)\r\n"
        .globl  forge_legacy_stage15_end
forge_legacy_stage15_end:

/* ---- SYSLINUX boot sector, code from byte 5Ah on; the sector number is patched behind 66 B8 ------------------------ */
        .globl  forge_syslinux_boot
forge_syslinux_boot:
        .org    forge_syslinux_boot + 0x5A
        cli
        cld
        xorw    %cx, %cx
        movw    %cx, %ss
        movw    $0x7B00, %sp
        movl    8(%si), %ebp                    /* where the partition begins: the entry that SI names */
        movw    %cx, %ds
        movw    %cx, %es
        sti
        pushw   %dx
        movl    %ebp, 0x7B10
        .byte   0x66, 0xB8, 0, 0, 0, 0          /* movl $sector, %eax */
        .byte   0x66, 0xBA, 0, 0, 0, 0          /* movl $0, %edx */
        .byte   0xBB, 0x00, 0x80                /* movw $0x8000, %bx */
        addl    0x7B10, %eax
        movw    $0x0600, %si
        movw    $0x0010, (%si)
        movw    $0x0001, 2(%si)
        movw    %bx, 4(%si)
        movw    $0, 6(%si)
        movl    %eax, 8(%si)
        movl    $0, 12(%si)
        popw    %dx
        pushw   %dx
        movb    $0x42, %ah
        int     $0x13
        popw    %dx
        jc      6f
        .byte   0x66, 0x81, 0x3E, 0x1C, 0x80    /* cmpl $instance, 0x801C */
        .long   0x0A1B0F00
        jne     6f
        .byte   0xEA
        .word   0x8030, 0
6:      movw    $(0x7C00 + .Lsyslinux_error - forge_syslinux_boot), %si
7:      lodsb
        testb   %al, %al
        jz      8f
        movb    $0x0E, %ah
        int     $0x10
        jmp     7b
8:      xorw    %ax, %ax
        int     $0x16
        int     $0x19
.Lsyslinux_error: .asciz "Boot error\r\n"
        .org    forge_syslinux_boot + 0x1FE
        .globl  forge_syslinux_boot_end
forge_syslinux_boot_end:

/* ---- ldlinux.sys, runs at 0000:8000: reads the sector that is patched at +2Ch (its configuration), then waits ------- */
        .globl  forge_syslinux_stage2
forge_syslinux_stage2:
        .ascii  "\r\nSYSLINUX stand-in \0\0\0"
        .org    forge_syslinux_stage2 + 0x18
        .long   0x3EB202FE                      /* magic number and build */
        .long   0x0A1B0F00
        .word   0, 0
        .long   0, 0
        .word   0x7F
        .word   0x180                           /* where the further fields lie */
        .org    forge_syslinux_stage2 + 0x30
        .byte   0x66, 0x8D, 0x36                /* leal (list of extents), %esi */
        .word   0x81A0
        pushw   %dx
        movw    $(0x8000 + .Lsyslinux_words - forge_syslinux_stage2), %si
9:      lodsb
        testb   %al, %al
        jz      10f
        movb    $0x0E, %ah
        int     $0x10
        jmp     9b
10:     popw    %dx
        movw    $0x0600, %si
        movw    $0x0010, (%si)
        movw    $0x0001, 2(%si)
        movw    $0x9000, 4(%si)
        movw    $0, 6(%si)
        movl    0x8190, %eax
        addl    0x7B10, %eax
        movl    %eax, 8(%si)
        movl    $0, 12(%si)
        movb    $0x42, %ah
        int     $0x13
11:     xorw    %ax, %ax
        int     $0x16
        jmp     11b
.Lsyslinux_words: .asciz "SYSLINUX (a stand-in)\r\n"
        .org    forge_syslinux_stage2 + 0x400
        .globl  forge_syslinux_stage2_end
forge_syslinux_stage2_end:

/* ---- LILO's first part: the name behind a jump; reads a list (its sector is patched at 20h): pairs of sector and count ---- */
        .globl  forge_lilo_boot
forge_lilo_boot:
        cli
        jmp     .Llilo_start
        .org    forge_lilo_boot + 6
        .ascii  "LILO"
        .org    forge_lilo_boot + 0x20
.Llilo_list: .long 0
.Llilo_start:
        xorw    %ax, %ax
        movw    %ax, %ds
        movw    %ax, %es
        movw    %ax, %ss
        movw    $0x7C00, %sp
        sti
        movw    $(0x7C00 + .Llilo_words - forge_lilo_boot), %si
1:      lodsb
        testb   %al, %al
        jz      2f
        movb    $0x0E, %ah
        int     $0x10
        jmp     1b
2:      movl    0x7C20, %eax
        movw    $1, %cx
        movw    $0x0840, %bx                    /* the list goes to 0000:8400 */
        call    .Llilo_read
        movw    $0x8400, %di
        movw    $0x9000, %bx                    /* what it names to 9000:0000 */
3:      movl    (%di), %eax
        movw    4(%di), %cx
        testw   %cx, %cx
        jz      4f
        pushw   %cx
        call    .Llilo_read
        popw    %cx
        shlw    $5, %cx
        addw    %cx, %bx
        addw    $8, %di
        jmp     3b
4:      .byte   0xEA
        .word   0, 0x9020
.Llilo_read:                                    /* sector EAX, CX of them, to segment BX */
        movw    $0x0600, %si
        movw    $0x0010, (%si)
        movw    %cx, 2(%si)
        movw    $0, 4(%si)
        movw    %bx, 6(%si)
        movl    %eax, 8(%si)
        movl    $0, 12(%si)
        movb    $0x42, %ah
        movb    $0x80, %dl
        int     $0x13
        jc      5f
        ret
5:      hlt
        jmp     5b
.Llilo_words: .asciz "LILO stand-in "
        .globl  forge_lilo_boot_end
forge_lilo_boot_end:

/* ---- the boot image of a disc, loaded to 0000:7C00; the block of its configuration is patched at 60h ------------------ */
        .code16
        .globl  forge_disc_boot
forge_disc_boot:
        cli
        .byte   0xEA                            /* ljmp */
        .word   0x7C00 + .Ldisc_start - forge_disc_boot, 0
        .org    forge_disc_boot + 0x40
        .long   0x7078C0FB                      /* the entry for disks follows: the first sector's code ends up here, too */
        jmp     .Ldisc_disk
        .org    forge_disc_boot + 0x60
.Ldisc_block: .long 0
.Ldisc_disk:
        movl    $2, %ecx                        /* four sectors make a block */
        movl    $4, %ebx
        jmp     .Ldisc_go
.Ldisc_start:
        movl    $0, %ecx
        movl    $1, %ebx
.Ldisc_go:
        xorw    %ax, %ax
        movw    %ax, %ds
        movw    %ax, %es
        movw    %ax, %ss
        movw    $0x7C00, %sp
        sti
        pushw   %dx
        movw    $(0x7C00 + .Ldisc_words - forge_disc_boot), %si
1:      lodsb
        testb   %al, %al
        jz      2f
        pushw   %bx
        movb    $0x0E, %ah
        int     $0x10
        popw    %bx
        jmp     1b
2:      popw    %dx
        movw    $0x0600, %si
        movw    $0x0010, (%si)
        movw    %bx, 2(%si)
        movw    $0x9000, 4(%si)
        movw    $0, 6(%si)
        movl    0x7C60, %eax
        shll    %cl, %eax
        movl    %eax, 8(%si)
        movl    $0, 12(%si)
        movb    $0x42, %ah
        int     $0x13
3:      xorw    %ax, %ax
        int     $0x16
        jmp     3b
.Ldisc_words: .asciz "ISOLINUX stand-in\r\n"
        .globl  forge_disc_boot_end
forge_disc_boot_end:

/* ---- the first sector of a medium that starts as a disk, too: loads the image's first block and enters it -------------- */
        .globl  forge_hybrid_boot
forge_hybrid_boot:
        cli
        xorw    %ax, %ax
        movw    %ax, %ds
        movw    %ax, %es
        movw    %ax, %ss
        movw    $0x7C00, %sp
        movw    $0x7C00, %si
        movw    $0x0800, %di
        movw    $0x100, %cx
        rep movsw
        .byte   0xEA
        .word   0x0800 + 1f - forge_hybrid_boot, 0
1:      sti
        movw    $0x0600, %si
        movw    $0x0010, (%si)
        movw    $0x0004, 2(%si)
        movw    $0x7C00, 4(%si)
        movw    $0, 6(%si)
        movl    0x0800 + 0x1B0, %eax
        movl    %eax, 8(%si)
        movl    $0, 12(%si)
        movb    $0x42, %ah
        int     $0x13
        jc      2f
        cmpl    $0x7078C0FB, 0x7C40
        jne     2f
        .byte   0xEA
        .word   0x7C44, 0
2:      movw    $(0x0800 + .Lhybrid_words - forge_hybrid_boot), %si
3:      lodsb
        testb   %al, %al
        jz      4f
        movb    $0x0E, %ah
        int     $0x10
        jmp     3b
4:      hlt
        jmp     4b
.Lhybrid_words: .asciz "isolinux.bin missing or corrupt.\r\n"
        .globl  forge_hybrid_boot_end
forge_hybrid_boot_end:

/* ---- NT volume boot code from byte 54h on: loads the first sector of a file (its number is patched) and starts it ------ */
        .code16
        .globl  forge_nt_boot
forge_nt_boot:
        .org    forge_nt_boot + 0x54
        cli
        xorw    %ax, %ax
        movw    %ax, %ds
        movw    %ax, %es
        movw    %ax, %ss
        movw    $0x7C00, %sp
        sti
        pushw   %dx
        movw    $0x0600, %si
        movw    $0x0010, (%si)
        movw    $0x0001, 2(%si)
        movw    $0x9000, 4(%si)
        movw    $0, 6(%si)
        movl    0x7DF0, %eax                    /* the file's sector, from the volume's start */
        addl    0x7C1C, %eax                    /* hidden sectors */
        movl    %eax, 8(%si)
        movl    $0, 12(%si)
        movb    $0x42, %ah
        int     $0x13
        popw    %dx
        jc      1f
        .byte   0xEA
        .word   0x9000, 0
1:      movw    $(0x7C00 + .Lnt_error - forge_nt_boot), %si
2:      lodsb
        testb   %al, %al
        jz      3f
        movb    $0x0E, %ah
        int     $0x10
        jmp     2b
3:      hlt
        jmp     3b
.Lnt_error: .asciz "A disk read error occurred\r\n"
        .globl  forge_nt_boot_end
forge_nt_boot_end:

/* ---- the 16-bit head of a boot manager, runs at 0000:9000 ------------------------------------------------------------- */
        .globl  forge_nt_head
forge_nt_head:
        movw    $(0x9000 + .Lnt_words - forge_nt_head), %si
4:      lodsb
        testb   %al, %al
        jz      5f
        movb    $0x0E, %ah
        int     $0x10
        jmp     4b
5:      xorw    %ax, %ax
        int     $0x16
        jmp     5b
.Lnt_words: .asciz "(a stand-in for a boot manager)\r\n"
        .globl  forge_nt_head_end
forge_nt_head_end:

        .section .note.GNU-stack,"",@progbits
