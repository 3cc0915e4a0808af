/* A stand-in for a kernel: prints what it was given and powers off.  Written for the demo, so that
 * its images can be started without anything from outside. */
typedef unsigned int u32;
typedef unsigned char u8;

#ifdef __riscv /* 16550 of the emulated machine */
static volatile u8 *const uart = (volatile u8 *)0x10000000;

static void put(char c) {
    while (!(uart[5] & 1u << 5)) /* transmit register not empty */
        ;
    uart[0] = (u8)c;
}
#else /* PL011 of the emulated machine */
static volatile u32 *const uart = (volatile u32 *)0x09000000;

static void put(char c) {
    while (uart[6] & 1u << 5) /* transmit buffer full */
        ;
    uart[0] = (u8)c;
}
#endif

static void print(const char *text) {
    for (; *text; text++) {
        if (*text == '\n')
            put('\r');
        put(*text);
    }
}

static u32 be32(const u8 *p) {
    return (u32)p[0] << 24 | (u32)p[1] << 16 | (u32)p[2] << 8 | p[3];
}

static int same(const char *a, const char *b) {
    while (*a && *a == *b)
        a++, b++;
    return *a == *b;
}

/* Prints one text property wherever it stands in the tree. */
static void show(const u8 *tree, const char *name, const char *title) {
    const u8 *p = tree + be32(tree + 8);
    const char *strings = (const char *)tree + be32(tree + 12);
    for (;;) {
        u32 token = be32(p);
        p += 4;
        if (token == 1) {
            while (*p++)
                ;
            p = (const u8 *)(((unsigned long)p + 3) & ~3ul);
        } else if (token == 3) {
            u32 length = be32(p);
            if (same(strings + be32(p + 4), name)) {
                print(title);
                print((const char *)p + 8);
                print("\n");
                return;
            }
            p += 8 + ((length + 3) & ~3u);
        } else if (token == 9) {
            return;
        }
    }
}

void stand_in(const u8 *tree) {
    print("\nstand-in kernel: started\n");
    if (be32(tree) != 0xd00dfeed) {
        print("stand-in kernel: no device tree\n");
        return;
    }
    show(tree, "model", "model: ");
    show(tree, "bootargs", "arguments: ");
    show(tree, "saltmarsh,gauge", "gauge: ");
    show(tree, "saltmarsh,depth", "depth: ");
    show(tree, "saltmarsh,radio", "radio: ");
    show(tree, "saltmarsh,counter", "counter: ");
    print("stand-in kernel: powering off\n");
}
