# Boot code for a master boot record, by Gate Check: runs the boot sector of the one active partition.
# Assembled with GNU as (`as --32`), linked as plain binary; the bytes stand in boot_code.py. 440 bytes at most.
# The firmware enters at 0:7C00h with the drive in DL; the partition's code is entered the same way, DS:SI at its record.
        .code16
        .globl  start
start:  cli
        xorw    %ax, %ax
        movw    %ax, %ss
        movw    $0x7C00, %sp
        movw    %ax, %ds
        movw    %ax, %es
        sti
        cld
        movw    %sp, %si                # make room: the partition's own code wants 7C00h
        movw    $0x0600, %di
        movw    $0x0100, %cx
        rep movsw
        ljmp    $0, $0x0600 + (moved - start)
moved:  pushw   %dx
        movw    $0x07BE, %si            # the table, where it stands now
        movb    $4, %cl
        xorw    %bp, %bp
look:   testb   $0x80, (%si)
        jz      other
        testw   %bp, %bp
        jnz     many
        movw    %si, %bp
other:  addw    $16, %si
        loop    look
        testw   %bp, %bp
        jz      none
        movw    $4, %di                 # tries
again:  popw    %dx
        pushw   %dx
        movb    $0x41, %ah              # can it be asked by LBA
        movw    $0x55AA, %bx
        int     $0x13
        jc      old
        cmpw    $0xAA55, %bx
        jne     old
        testb   $1, %cl
        jz      old
        popw    %dx
        pushw   %dx
        pushl   $0                      # the packet: LBA, high and low half, place, count, size
        pushl   8(%bp)
        pushl   $0x00007C00
        pushw   $1
        pushw   $16
        movw    %sp, %si
        movb    $0x42, %ah
        int     $0x13
        movw    %sp, %si
        leaw    16(%si), %sp            # leaves the carry as it is
        jnc     check
old:    popw    %dx                     # by cylinder, head and sector, as the record tells them
        pushw   %dx
        movb    1(%bp), %dh
        movw    2(%bp), %cx
        movw    $0x7C00, %bx
        movw    $0x0201, %ax
        int     $0x13
        jnc     check
        popw    %dx
        pushw   %dx
        xorw    %ax, %ax                # reset and try again
        int     $0x13
        decw    %di
        jnz     again
        movw    $0x0600 + (unread - start), %si
        jmp     say
check:  cmpw    $0xAA55, 0x7DFE
        movw    $0x0600 + (nosig - start), %si
        jne     say
        popw    %dx
        movw    %bp, %si
        ljmp    $0, $0x7C00
none:   movw    $0x0600 + (noact - start), %si
        jmp     say
many:   movw    $0x0600 + (twoact - start), %si
say:    lodsb
        testb   %al, %al
        jz      ended
        movb    $0x0E, %ah
        movw    $7, %bx
        int     $0x10
        jmp     say
ended:  int     $0x18                   # back to the firmware: the next device
halt:   hlt
        jmp     halt
noact:  .asciz  "\r\nNo partition is marked as the one to start."
twoact: .asciz  "\r\nMore than one partition is marked as the one to start."
unread: .asciz  "\r\nThe marked partition cannot be read."
nosig:  .asciz  "\r\nThe marked partition holds nothing to start."
