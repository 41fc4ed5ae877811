/* SPDX-License-Identifier: MIT
 * Code for the first sector of a disk: it starts the boot sector of the active partition, by linear block addresses
 * where the BIOS has them. What follows it in the sector (disk signature, table, mark) is not its business. It hands on
 * the drive in DL and the table entry at DS:SI, as boot sectors of every system expect them. */

        .section .rodata
        .code16
        .globl  herberge_first_sector
        .hidden herberge_first_sector
        .globl  herberge_first_sector_end
        .hidden herberge_first_sector_end
        .set    here, 0x0600                    /* where it moves to, out of the boot sector's way */
        .set    target, 0x7C00
herberge_first_sector:
        cli
        xorw    %ax, %ax
        movw    %ax, %ss
        movw    $target, %sp
        movw    %ax, %ds
        movw    %ax, %es
        sti
        cld
        movw    $target, %si
        movw    $here, %di
        movw    $256, %cx
        rep     movsw
        ljmp    $0, $(here + .Lmoved - herberge_first_sector)

.Lmoved:
        movw    $(here + 446), %bp              /* the four entries of the table */
        movw    $4, %cx
.Lnext:
        testb   $0x80, (%bp)
        jnz     .Lactive
        addw    $16, %bp
        loop    .Lnext
        movw    $(here + .Lnone - herberge_first_sector), %si
        jmp     .Lsay

.Lactive:
        pushw   %dx
        movw    $0x55AA, %bx
        movb    $0x41, %ah                      /* are linear addresses there? */
        int     $0x13
        popw    %dx
        jc      .Lgeometry
        cmpw    $0xAA55, %bx
        jne     .Lgeometry
        testb   $1, %cl
        jz      .Lgeometry
        pushl   $0                              /* the packet, from its end */
        pushl   8(%bp)
        pushl   $target
        pushw   $1
        pushw   $16
        movw    %sp, %si
        movb    $0x42, %ah
        int     $0x13
        jc      .Lunread
        addw    $16, %sp
        jmp     .Lread

.Lgeometry:
        movb    1(%bp), %dh
        movw    2(%bp), %cx
        movw    $target, %bx
        movw    $0x0201, %ax
        int     $0x13
        jc      .Lunread

.Lread:
        cmpw    $0xAA55, target + 510
        jne     .Lempty
        movw    %bp, %si
        ljmp    $0, $target

.Lunread:
        movw    $(here + .Lbad - herberge_first_sector), %si
        jmp     .Lsay
.Lempty:
        movw    $(here + .Lblank - herberge_first_sector), %si
.Lsay:
        lodsb
        testb   %al, %al
        jz      .Lgone
        movw    $0x0007, %bx
        movb    $0x0E, %ah
        int     $0x10
        jmp     .Lsay
.Lgone:
        int     $0x18                           /* the BIOS goes on with its next device */
.Lhalt:
        hlt
        jmp     .Lhalt

.Lnone: .asciz  "No partition of this disk is the active one.\r\n"
.Lbad:  .asciz  "The active partition's first sector cannot be read.\r\n"
.Lblank: .asciz "The active partition's first sector starts nothing.\r\n"
        .org    herberge_first_sector + 440     /* does not assemble where it is longer */
herberge_first_sector_end:
        .section .note.GNU-stack, "", %progbits
