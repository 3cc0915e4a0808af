/* The last 4 KiB of a flash for tests: finds the part "hail" in the table of contents at the start of
   the last 64 KiB, and sends it to the first serial port.  Made with:
   as --32 block.s -o block.o && objcopy -O binary block.o pieces/block.bin */
.code16
.globl _start
_start:
    cli
    cld
    movw $0x20, %si          /* first row of the table, behind its header */
    movw %cs:0x18, %cx       /* number of rows */
next:
    cmpl $0x6c696168, %cs:(%si)  /* "hail" */
    je found
    addw $104, %si
    loop next
    jmp stop
found:
    movw %cs:64(%si), %cx    /* bytes stored */
    movw %cs:56(%si), %si    /* offset */
    movw $0x3f8, %dx
print:
    movb %cs:(%si), %al
    outb %al, %dx
    incw %si
    loop print
stop:
    hlt
    jmp stop
.org 0xff0
    jmp _start
.org 0x1000
