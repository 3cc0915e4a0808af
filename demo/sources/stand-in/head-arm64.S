/* The first instructions and the header of an arm64 kernel image (the kernel's
 * Documentation/arm64/booting.rst, section 4). */
    .section .head, "ax"
    .globl _start
_start:
    b       begin
    .long   0
    .quad   0               /* text_offset */
    .quad   image_size      /* with the zero-initialised tail */
    .quad   0xa             /* little-endian, 4 KiB pages, anywhere in RAM */
    .quad   0, 0, 0
    .ascii  "ARM\x64"
    .long   0

begin:
    adr     x1, stack_end
    mov     sp, x1
    bl      stand_in        /* x0: the device tree, from the loader */
    movz    w0, #0x8400, lsl #16
    movk    w0, #0x0008     /* PSCI SYSTEM_OFF */
    hvc     #0
1:  wfi
    b       1b

    .section .bss
    .align  4
    .skip   4096
stack_end:
