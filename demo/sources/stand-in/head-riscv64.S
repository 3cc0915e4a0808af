/* The first instructions and the header of a RISC-V kernel image (the kernel's
 * Documentation/riscv/boot-image-header.rst). */
    .section .head, "ax"
    .globl _start
    .option norvc
_start:
    j       begin
    .word   0
    .quad   0x200000        /* text_offset: 2 MiB from the start of RAM */
    .quad   image_size      /* with the zero-initialised tail */
    .quad   0               /* little-endian */
    .word   2               /* version 0.2 */
    .word   0
    .quad   0
    .ascii  "RISCV\0\0\0"
    .ascii  "RSC\x05"
    .word   0

begin:
    la      sp, stack_end
    mv      a0, a1          /* a1: the device tree, from the loader */
    call    stand_in
    li      a7, 0x53525354  /* SBI system reset: shut down */
    li      a6, 0
    li      a0, 0
    li      a1, 0
    ecall
1:  wfi
    j       1b

    .section .bss
    .align  4
    .skip   4096
stack_end:
