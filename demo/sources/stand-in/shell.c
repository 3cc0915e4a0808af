/* A stand-in for a shell: says so and waits.  It makes the demo's root one that could start. */
typedef unsigned long word;

static long call(long number, long a, long b, long c) {
#if defined __aarch64__
    register long x8 __asm__("x8") = number, x0 __asm__("x0") = a, x1 __asm__("x1") = b,
                  x2 __asm__("x2") = c;
    __asm__ volatile("svc 0" : "+r"(x0) : "r"(x8), "r"(x1), "r"(x2) : "memory");
    return x0;
#elif defined __riscv
    register long a7 __asm__("a7") = number, a0 __asm__("a0") = a, a1 __asm__("a1") = b,
                  a2 __asm__("a2") = c;
    __asm__ volatile("ecall" : "+r"(a0) : "r"(a7), "r"(a1), "r"(a2) : "memory");
    return a0;
#else
    register long r7 __asm__("r7") = number, r0 __asm__("r0") = a, r1 __asm__("r1") = b,
                  r2 __asm__("r2") = c;
    __asm__ volatile("svc 0" : "+r"(r0) : "r"(r7), "r"(r1), "r"(r2) : "memory");
    return r0;
#endif
}

void _start(void) {
    static const char text[] = "stand-in shell: started\n";
#if defined __aarch64__ || defined __riscv
    enum { WRITE = 64, PAUSE = 73 };
#else
    enum { WRITE = 4, PAUSE = 168 };
#endif
    call(WRITE, 1, (long)text, sizeof text - 1);
    for (;;)
        call(PAUSE, 0, 0, -1);
}
