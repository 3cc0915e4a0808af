/* The first instructions and the header of a 32-bit Arm kernel image: magic at 36, start and end
 * behind it (the kernel's Documentation/arm/booting.rst, section 5). */
    .section .head, "ax"
    .globl _start
    .arm
_start:
    .rept   8
    mov     r0, r0
    .endr
    b       begin
    .word   0x016f2818
    .word   0
    .word   file_end
    .word   0x04030201

begin:
    adr     r3, 2f
    ldr     r4, [r3]
    add     sp, r3, r4
    mov     r0, r2          /* r2: the device tree, from the loader */
    bl      stand_in
    ldr     r0, =0x84000008 /* PSCI SYSTEM_OFF */
    .word   0xe1400070      /* hvc #0 */
1:  wfi
    b       1b
2:  .word   stack_end - 2b
    .ltorg

    .section .bss
    .align  4
    .skip   4096
stack_end:
