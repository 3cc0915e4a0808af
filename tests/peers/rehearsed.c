/* The rehearsal is right: damaged images are booted by the real loader and rehearsed, and both must
 * end in the same way. */
#define _GNU_SOURCE
#include "peers.h"

#include "base/bytes.h"
#include "base/hash.h"
#include "loaders/u-boot/legacy.h"

#include <stdlib.h>
#include <string.h>

enum { SAMPLE = 24, ALL = 1000, SECONDS = 12 };

/* How a boot ends, as far as both can tell. */
enum end_class { STARTED, PROMPT, SILENT, RESETS };
static const char *const class_names[] = {"started", "prompt", "silent", "resets"};

struct ending {
    enum end_class end;
    char arguments[600]; /* STARTED: what the kernel is given */
    char last[200];      /* the last words before it */
    bool unproved;       /* it says that nothing checks the kernel's bytes */
    bool damaged;        /* it says that the tree is: what a kernel makes of that is its affair */
};

/* ---- the boards ---- */

/* What a base is started on: the emulated machine and how its loader is made to look at the disk,
 * and the same told to the rehearsal. */
static const struct {
    const char *cpu, *device, *typed, *tree, *loader, *facts;
} machines[] = {
    {"arm64", "virtio-blk-pci", "run bootcmd_virtio0\r", "qemu-system-aarch64",
     "/usr/lib/u-boot/qemu_arm64/u-boot.bin",
     "--as 'virtio 0' --cpu arm64 --ram-start 0x40000000 --ram '512 MiB'"},
    {"arm", "virtio-blk-device", "run bootcmd_virtio0\r", "qemu-system-arm -cpu cortex-a15 -m 128",
     "/usr/lib/u-boot/qemu_arm/u-boot.bin",
     "--as 'virtio 0' --cpu arm --ram-start 0x40000000 --ram '128 MiB'"},
    {"riscv64", "virtio-blk-device", "virtio scan; run bootcmd_virtio0\r",
     "qemu-system-riscv64 -m 1024", "/usr/lib/u-boot/qemu-riscv64_smode/u-boot.bin",
     "--as 'virtio 0' --cpu riscv64 --ram-start 0x80000000 --ram '1024 MiB'"},
};
enum { ARM64, ARM, RISCV };

/* The demo's board, told to the loader in four ways: its name is the value of `via`.  Variables
 * lie in a flash; the second entry of the others differs in its arguments.  Then the demo's two
 * boards of other processors, as they are. */
static const struct {
    const char *via;
    const char *files[3]; /* of its boot volume */
    int machine;
    const char *board, *image;
} bases[] = {
    {"script", {"boot.scr", "kernel", "main.dtb"}, ARM64, "curlew", "card.img"},
    {"menu", {"extlinux/extlinux.conf", "kernel", "main.dtb"}, ARM64, "curlew", "card.img"},
    {"parcel", {"boot.scr", "boot.parcel", "boot.parcel"}, ARM64, "curlew", "card.img"},
    {"environment", {"kernel", "kernel", "main.dtb"}, ARM64, "curlew", "card.img"},
    {"arm", {"boot.scr", "kernel", "main.dtb"}, ARM, "dunlin", "card.img"},
    {"riscv64", {"boot.scr", "boot.parcel", "boot.parcel"}, RISCV, "avocet", "emmc.img"},
};
enum { BASES = sizeof bases / sizeof *bases, IN_FLASH = 3, OTHERS = 4, BLOCK = 0x40000 };

static void make_base(size_t b, const char *w) {
    static const char counts[] = "system: {confirm: inittab}\\nboot:\\n  tries: 3";
    static const char chooses[] = /* a menu cannot count */
        "waivers: {menu: {rule: boot.fallback-unreachable, place: boot.entries.main, reason: "
        "tested}}\\nboot:";
    if (b == IN_FLASH) {
        make_flash_workspace(w);
        return;
    }
    if (b >= OTHERS) { /* with the machine's own tree, which its loader has; that loader keeps its
                          variables in a flash, so those on the medium are not its own */
        CU_ASSERT_TRUE_FATAL(
            runs(0,
                 "cd '%s' && '%s' --no-cache -q -w '%s/demo/saltmarsh' build %s --out '%s/out' && "
                 "%s -M virt,dumpdtb=machine.dtb -nic none -display none 2>/dev/null && for at in "
                 "3072 4096; do [ %s != avocet ] || dd if=/dev/zero of=out/avocet/emmc.img bs=1K "
                 "seek=$at count=32 conv=notrunc status=none; done",
                 w, MOSAICUM_PROGRAM, MOSAICUM_SOURCE, bases[b].board, w,
                 machines[bases[b].machine].tree, bases[b].board));
        return;
    }
    copy_demo(w);
    CU_ASSERT_TRUE_FATAL(runs(
        0,
        "cd '%s' && sed -i -e 's/^  via: script$/  via: %s/' -e '/^      env: /d; /^  "
        "environments:/d; /^    main: {base: defaults/d' -e "
        "'s/^layout:$/    spare: {kernel: kernel, tree: main, arguments: {root: <root>, panic: "
        "5, init: \\/bin\\/sh}}\\n\\nlayout:/' -e 's/^boot:$/%s/' "
        "-e 's/flags: [[]rootwait, ro]/flags: [rootwait, ro, panic=5]/' boards/curlew.yaml && "
        "'%s' --no-cache -q -w . build",
        w, bases[b].via, strcmp(bases[b].via, "menu") == 0 ? chooses : counts, MOSAICUM_PROGRAM));
}

/* ---- damage ---- */

struct damage {
    uint64_t seed;
    const char *image, *folder; /* of this case */
    int machine;
    const char *flash; /* NULL: its loader has no variables of ours */
    char what[200];
};

static char *take(struct damage *d, const char *file, size_t *length) {
    const char *to = keep(path_in(d->folder, "taken"));
    CU_ASSERT_TRUE(runs(0, "rm -f '%s' && '%s' -q take '%s' '1:%s' -o '%s'", to, MOSAICUM_PROGRAM,
                        d->image, file, to));
    return read_whole(to, length);
}

static void put(struct damage *d, const char *file, const void *bytes, size_t length) {
    const char *from = keep(path_in(d->folder, "put")), *to = keep(path_in(d->folder, "new.img"));
    write_file(from, bytes, length);
    CU_ASSERT_TRUE(runs(0, "rm -f '%s' && '%s' -q amend '%s' '1:%s=%s' -o '%s' && mv '%s' '%s'", to,
                        MOSAICUM_PROGRAM, d->image, file, from, to, to, d->image));
}

static void lose(struct damage *d, const char *file) {
    const char *to = keep(path_in(d->folder, "new.img"));
    CU_ASSERT_TRUE(runs(0, "rm -f '%s' && '%s' -q amend '%s' '1:~%s' -o '%s' && mv '%s' '%s'", to,
                        MOSAICUM_PROGRAM, d->image, file, to, to, d->image));
    snprintf(d->what, sizeof d->what, "%s missing", file);
}

static void cut(struct damage *d, const char *file) {
    size_t n;
    char *bytes = take(d, file, &n);
    size_t at = (size_t)random_below(&d->seed, n);
    put(d, file, bytes, at);
    snprintf(d->what, sizeof d->what, "%s cut to %zu of %zu bytes", file, at, n);
    free(bytes);
}

static void flip(struct damage *d, const char *file, size_t limit) {
    size_t n;
    char *bytes = take(d, file, &n);
    size_t at = (size_t)random_below(&d->seed, limit && limit < n ? limit : n);
    unsigned bit = (unsigned)random_below(&d->seed, 8);
    bytes[at] = (char)(bytes[at] ^ 1 << bit);
    put(d, file, bytes, n);
    snprintf(d->what, sizeof d->what, "%s: bit %u of byte %zu flipped", file, bit, at);
    free(bytes);
}

/* One text for another, once. */
static const struct {
    const char *from, *to;
} edits[] = {
    {"distro_bootpart}", "distro_bootpart}1"},
    {"0x40200000", "0x40280000"},
    {"0x40200000", "0x30000000"},
    {"0x40200000", "0x5f000000"},
    {"0x40400000 main.dtb", "0x40200200 main.dtb"},
    {"0x40400000 main.dtb", "0x40400000 main.dtc"},
    {"booti", "bootz"},
    {"booti", "bootm"},
    {"bootm", "booti"},
    {" - ", " "},
    {"kernel; then", "kernal; then"},
    {"; then", " then"},
    {"setenv bootargs", "setenv bootarg"},
    {"root=", "rot="},
    {"fi\n", "\n"},
    {"done\n", "\n"},
    {"if load", "load"},
    {"#main", "#mian"},
    {"= main", "== main"},
    {"= main", "!= main"},
    {"-lt 3", "-lt 0"},
    {"KERNEL /kernel", "KERNEL /kernal"},
    {"KERNEL", "KERNL"},
    {"LABEL main", "LABEL other"},
    {"FDT /main.dtb", "FDT /mine.dtb"},
    {"APPEND root", "APPEND rooot"},
    {"echo", "ecko"},
    {"\"", ""},
    {"'", ""},
    {"${devtype}", "$devtype"},
    {"${devnum}", "${devnumber}"},
    {"setexpr boot_tries", "setexpr.b boot_tries"},
    {"0x40400000\n", "0x40300000\n"},
};
enum { EDITS = sizeof edits / sizeof *edits };

static bool edit_text(struct damage *d, const char *file) {
    size_t n, length;
    char *bytes = take(d, file, &n);
    bool script = strstr(file, ".scr") != NULL;
    char *text = script ? bytes + MOS_LEGACY_HEADER + 8 : bytes;
    length = script ? n - MOS_LEGACY_HEADER - 8 : n;
    text = strndup(text, length);
    size_t first = (size_t)random_below(&d->seed, EDITS), e = first;
    char *at = NULL;
    for (size_t i = 0; i < EDITS && !at; i++) {
        e = (first + i) % EDITS;
        at = strstr(text, edits[e].from);
    }
    if (at && random_below(&d->seed, 2) && strstr(at + 1, edits[e].from))
        at = strstr(at + 1, edits[e].from); /* the second one */
    if (at) {
        struct core c;
        core_start(&c);
        struct mos_buf out = {.arena = c.ctx.arena}, file_out = {.arena = c.ctx.arena};
        mos_buf_add(&out, text, (size_t)(at - text));
        mos_buf_text(&out, edits[e].to);
        mos_buf_text(&out, at + strlen(edits[e].from));
        if (script)
            mos_legacy_script(&file_out, "edited", 0, out.data, out.length);
        put(d, file, script ? file_out.data : out.data, script ? file_out.length : out.length);
        core_end(&c);
        snprintf(d->what, sizeof d->what, "%s: \"%.20s\" for \"%.20s\"", file, edits[e].to,
                 edits[e].from);
        for (char *p = d->what; *p; p++)
            *p = *p == '\n' ? ' ' : *p;
    }
    free(text);
    free(bytes);
    return at != NULL;
}

/* ---- damage to a stored environment ---- */

/* A sum that fits again, over the text behind it. */
static void seal(uint8_t *block) {
    mos_put_le32(block, mos_crc32(0, block + 4, BLOCK - 4));
}

/* One text for another in the variables, all of them still in their form. */
static bool edit_variables(struct damage *d, uint8_t *block) {
    size_t first = (size_t)random_below(&d->seed, EDITS);
    for (size_t i = 0; i < EDITS; i++) {
        size_t e = (first + i) % EDITS, from = strlen(edits[e].from), to = strlen(edits[e].to);
        uint8_t *at =
            strchr(edits[e].from, '\n') ? NULL : memmem(block + 4, BLOCK / 2, edits[e].from, from);
        if (!at)
            continue;
        memmove(at + to, at + from, BLOCK - 100 - (size_t)(at - block));
        memcpy(at, edits[e].to, to);
        seal(block);
        snprintf(d->what, sizeof d->what, "variables: \"%.20s\" for \"%.20s\"", edits[e].to,
                 edits[e].from);
        return true;
    }
    return false;
}

static void damage_flash(struct damage *d) {
    size_t n, used = 4;
    uint8_t *all = (uint8_t *)read_whole(d->flash, &n);
    while (all[used] || all[used + 1])
        used++;
    uint64_t kind = random_below(&d->seed, 8);
    size_t at = (size_t)random_below(&d->seed, kind == 0 ? 4 : used);
    if (kind < 2) {
        all[at] ^= (uint8_t)(1 << random_below(&d->seed, 8));
        snprintf(d->what, sizeof d->what, "variables: a bit of byte %zu of %zu flipped", at, used);
    } else if (kind == 2) {
        memset(all, 0xff, BLOCK);
        snprintf(d->what, sizeof d->what, "variables: erased");
    } else if (kind == 3) {
        memset(all + at, 0xff, BLOCK - at);
        snprintf(d->what, sizeof d->what, "variables: torn behind byte %zu of %zu", at, used);
    } else if (kind == 4) { /* cut off by somebody who made the sum again */
        memset(all + 4 + at, 0, BLOCK - 4 - at);
        seal(all);
        snprintf(d->what, sizeof d->what, "variables: cut to %zu of %zu bytes", at, used);
    } else {
        edit_variables(d, all);
    }
    write_file(d->flash, all, n);
    free(all);
}

static void damage(struct damage *d, size_t b) {
    if (b == IN_FLASH && random_below(&d->seed, 4)) {
        damage_flash(d);
        return;
    }
    const char *file = bases[b].files[random_below(&d->seed, 3)];
    switch (random_below(&d->seed, 7)) {
    case 0:
        lose(d, file);
        break;
    case 1:
        cut(d, file);
        break;
    case 2:
        flip(d, file, 0);
        break;
    case 3: /* where formats have their headers */
        flip(d, file, 300);
        break;
    default:
        if (b == IN_FLASH)
            lose(d, file);
        else
            edit_text(d, bases[b].files[0]);
    }
}

/* ---- how it ends ---- */

static void copy_line(char *to, size_t size, const char *from) {
    size_t n = strcspn(from, "\r\n");
    snprintf(to, size, "%.*s", (int)n, from);
}

/* Types what a search would do; variables from a flash start by themselves. */
static bool begin_real(struct machine *m, const struct damage *d) {
    if (d->flash)
        return machine_expect(m, "DRAM:", 40);
    if (!machine_expect(m, "autoboot", 40))
        return false;
    machine_type(m, "\003\003");
    machine_type(m, "\recho sy''nc\r");
    machine_expect(m, "\nsync", 20);
    machine_expect(m, "\n=> ", 20);
    machine_type(m, machines[d->machine].typed);
    return true;
}

static void boot_real(const struct damage *d, struct ending *out) {
    machine_with(NULL, d->flash);
    const char *cpu = machines[d->machine].cpu;
    struct machine *m = machine_start(cpu, d->image, machines[d->machine].device);
    *out = (struct ending){.end = SILENT};
    machine_quiet(m, true);
    if (begin_real(m, d)) {
        char *text = machine_until_one(
            m,
            (const char *const[]){"powering off", "\n=> ", "\nresetting", "no device tree", NULL},
            d->flash ? 3 * SECONDS : SECONDS);
        const char *arguments = strstr(text, "\narguments: ");
        if (strstr(text, "stand-in kernel: started")) {
            out->end = STARTED;
            copy_line(out->arguments, sizeof out->arguments,
                      arguments ? arguments + strlen("\narguments: ") : "");
        } else if (strstr(text, "\nresetting")) {
            out->end = RESETS;
        } else if (strstr(text, "\n=> ")) {
            out->end = PROMPT;
        }
        char *end = strstr(text, "\n=> ");
        if (end)
            *end = 0;
        char *line = strrchr(text, '\n');
        copy_line(out->last, sizeof out->last, line ? line + 1 : "");
        free(text);
    }
    machine_stop(m);
}

static void boot_rehearsed(const struct damage *c, const char *w, struct ending *out) {
    const char *loader = machines[c->machine].loader;
    const char *tree =
        keep(c->machine == ARM64 ? path_in(MOSAICUM_SOURCE, "tests/data/machine-arm64.dtb")
                                 : path_in(w, "machine.dtb"));
    int status;
    json_t *d =
        c->flash ? run_json(&status, "-w '%s' --out '%s' rehearse curlew --tree '%s' --loader %s",
                            w, c->folder, tree, loader)
                 : run_json(&status, "rehearse '%s' %s --tree '%s' --loader %s", c->image,
                            machines[c->machine].facts, tree, loader);
    *out = (struct ending){.end = PROMPT};
    json_t *report = json_object_get(d, "report"), *table, *row;
    size_t i, k, handed = 0;
    bool first_resets = false;
    json_array_foreach(report, i, table) {
        json_array_foreach(json_object_get(table, "rows"), k, row) {
            const char *kind = json_string_value(json_object_get(row, "kind"));
            const char *what = json_string_value(json_object_get(row, "what"));
            const char *end = json_string_value(json_object_get(row, "end"));
            if (end && strcmp(end, "starts again and again") == 0)
                out->end = RESETS;
            if (end && (strcmp(end, "silent") == 0 || strcmp(end, "hangs") == 0))
                out->end = SILENT;
            const char *reason = json_string_value(json_object_get(row, "reason"));
            first_resets |= reason && strstr(reason, "resets the board"); /* the emulator ends */
            const char *fact = json_string_value(json_object_get(row, "fact"));
            out->unproved |= fact && strstr(fact, "bytes are whole");
            out->damaged |= what && strcmp(what, "The device tree is damaged.") == 0;
            if (kind && what && strcmp(kind, "TROUBLE") == 0)
                copy_line(out->last, sizeof out->last, what);
            handed += kind && strcmp(kind, "hand over") == 0;
            const char *part = json_string_value(json_object_get(row, "part"));
            if (kind && part && what && handed == 1 && strcmp(part, "kernel") == 0) {
                bool word = strncmp(what, "argument ", 9) == 0;
                if (word || strcmp(what, "no arguments") == 0)
                    out->end = STARTED;
                size_t n = strlen(out->arguments);
                if (word) /* without what it means */
                    snprintf(out->arguments + n, sizeof out->arguments - n, "%s%.*s", n ? " " : "",
                             (int)strcspn(what + 9, " "), what + 9);
            }
        }
    }
    if (first_resets) {
        out->end = RESETS;
        *out->arguments = 0;
    }
    json_decref(d);
}

/* What is no text is told as one sign a byte by both. */
static void plain(char *text) {
    char *to = text;
    for (const char *p = text; *p; p++) {
        if (strncmp(p, "\xef\xbf\xbd", 3) == 0)
            p += 2;
        *to++ = *p & 0x80 ? '?' : *p;
    }
    *to = 0;
}

static void ends_agree(void) {
    size_t cases = peers_all() ? ALL : SAMPLE, right = 0, undefined = 0, classes[4] = {0};
    const char *w[BASES];
    for (size_t b = 0; b < BASES; b++) {
        w[b] = keep(test_folder(bases[b].via));
        make_base(b, w[b]);
    }
    struct damage d = {.seed = 2026, .folder = keep(test_folder("damaged"))};
    const char *flash = keep(path_in(d.folder, "curlew/flash.img"));
    for (size_t n = 0; n < cases; n++) {
        size_t b = n % BASES;
        CU_ASSERT_TRUE_FATAL(runs(0,
                                  "rm -rf '%s/curlew' && mkdir '%s/curlew' && cp --sparse=always "
                                  "'%s'/out/%s/*.img '%s/curlew/'",
                                  d.folder, d.folder, w[b], bases[b].board, d.folder));
        d.image = keep(path_in(d.folder, "curlew/%s", bases[b].image));
        d.machine = bases[b].machine;
        d.flash = b == IN_FLASH ? flash : NULL;
        struct ending real, ours;
        snprintf(d.what, sizeof d.what, "as it was built");
        if (n >= BASES) /* the first of each kind boots */
            damage(&d, b);
        boot_real(&d, &real);
        boot_rehearsed(&d, w[b], &ours);
        plain(real.arguments);
        plain(ours.arguments);
        bool same = real.end == ours.end && strcmp(real.arguments, ours.arguments) == 0;
        /* a damaged kernel that nothing checks: reality is undefined, and that was said */
        bool told = !same && ((strncmp(d.what, "kernel", 6) == 0 && ours.unproved) ||
                              (real.end == STARTED && ours.end == STARTED && ours.damaged));
        undefined += told;
        same |= told;
        right += same;
        classes[real.end]++;
        CU_ASSERT_TRUE(same);
        if (!same || peers_all())
            printf("%s %3zu %-6s %-60s real: %-8s %.60s | rehearsed: %-8s %.60s\n",
                   same ? " " : "!", n, bases[b].via, d.what, class_names[real.end],
                   real.end == STARTED ? real.arguments : real.last, class_names[ours.end],
                   ours.end == STARTED ? ours.arguments : ours.last);
        fflush(stdout);
    }
    proved("damaged images, booted and rehearsed",
           "%zu of %zu alike (%zu start, %zu prompt, %zu silent, %zu reset; %zu undefined and said "
           "so)",
           right, cases, classes[STARTED], classes[PROMPT], classes[SILENT], classes[RESETS],
           undefined);
}

/* ---- what a real kernel makes of its root ---- */

static const struct {
    const char *from, *to;   /* in the script; NULL: none */
    const char *lost;        /* a file of the root */
    const char *real, *ours; /* real NULL: it waits, as rootwait has it; that goes in all others */
} roots[] = {
    {NULL, NULL, NULL, "marker-root", "boots"},
    {"root=PARTUUID=", "root=PARTUUID=0", NULL, NULL, "hangs"},
    {"root=PARTUUID=", "root=PARTUUID=0", NULL, "Kernel panic", "kernel without a root"},
    {"rootwait ro", "ro init=/sbin/none", NULL, "Kernel panic", "kernel without a root"},
    {NULL, NULL, "sbin/init", "can't access tty", "a bare shell"},
    {"root=PARTUUID=", "root=LABEL=root old=", NULL, "Kernel panic", "kernel without a root"},
    {"root=PARTUUID=", "root=/dev/nvme0n1p7 old=", NULL, "Kernel panic", "kernel without a root"},
    {"root=PARTUUID=", "root=/dev/nvme0n1p2 old=", NULL, "marker-root", "boots"},
    {"root=PARTUUID=", "root=/dev/nvme0n1p1 old=", NULL, "Kernel panic", "kernel without a root"},
    {"rootwait ro", "ro rootfstype=xfs", NULL, "Kernel panic", "kernel without a root"},
    {"rootwait ro", "ro init=/bin/sh", NULL, "can't access tty", "boots"},
};
enum { ROOTS = sizeof roots / sizeof *roots, ROOT_SAMPLE = 4 };

static void change_root(struct damage *d, size_t i) {
    size_t n;
    if (roots[i].lost) {
        const char *to = keep(path_in(d->folder, "new.img"));
        CU_ASSERT_TRUE(runs(0, "rm -f '%s'; '%s' -q amend '%s' 'root:~%s' -o '%s' && mv '%s' '%s'",
                            to, MOSAICUM_PROGRAM, d->image, roots[i].lost, to, to, d->image));
    }
    if (!roots[i].from)
        return;
    char *bytes = take(d, "boot.scr", &n);
    struct core c;
    core_start(&c);
    const char *text =
        mos_strndup(c.ctx.arena, bytes + MOS_LEGACY_HEADER + 8, n - MOS_LEGACY_HEADER - 8);
    const char *at = strstr(text, roots[i].from);
    CU_ASSERT_PTR_NOT_NULL_FATAL(at);
    struct mos_buf out = {.arena = c.ctx.arena};
    text = mos_printf(c.ctx.arena, "%.*s%s%s", (int)(at - text), text, roots[i].to,
                      at + strlen(roots[i].from));
    const char *wait = roots[i].real ? strstr(text, "rootwait ") : NULL;
    if (wait)
        text = mos_printf(c.ctx.arena, "%.*s%s", (int)(wait - text), text, wait + 9);
    mos_legacy_script(&out, "edited", 0, text, strlen(text));
    put(d, "boot.scr", out.data, out.length);
    core_end(&c);
    free(bytes);
}

static bool real_ends(const char *image, const char *expected) {
    struct machine *m = machine_start("arm64", image, "nvme,serial=x");
    bool ok = machine_expect(m, "stop autoboot", 40);
    machine_type(m, "\003\003\003");
    ok = ok && machine_expect(m, "=> ", 20);
    machine_type(m, "nvme scan; load nvme 0:1 ${scriptaddr} boot.scr; source ${scriptaddr}\r");
    ok = ok && machine_expect(m, "Starting kernel", 30);
    if (expected) {
        ok = ok && machine_expect(m, expected, 40);
    } else {
        char *text =
            machine_until_one(m, (const char *const[]){"Kernel panic", "marker-root", NULL}, 12);
        ok = ok && !strstr(text, "Kernel panic") && !strstr(text, "marker-root");
        free(text);
    }
    machine_stop(m);
    return ok;
}

static void roots_are_found_alike(void) {
    const char *w = keep(test_folder("roots"));
    struct damage d = {.folder = keep(test_folder("roots-changed"))};
    size_t count = peers_all() ? ROOTS : ROOT_SAMPLE, right = 0;
    d.image = keep(path_in(d.folder, "card.img"));
    make_real_workspace(w);
    /* the loader of this machine keeps its variables elsewhere */
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "cd '%s' && sed -i '/^      env: /d; /^  environments:/d; /^    main: {base: "
             "defaults/d' boards/curlew.yaml && '%s' --no-cache -q build",
             w, MOSAICUM_PROGRAM));
    for (size_t i = 0; i < count; i++) {
        int status;
        CU_ASSERT_TRUE_FATAL(
            runs(0, "cp --sparse=always '%s/out/curlew/card.img' '%s'", w, d.image));
        change_root(&d, i);
        json_t *doc = run_json(&status,
                               "rehearse '%s' --as 'nvme 0' --cpu arm64 --ram-start 0x40000000 "
                               "--ram '512 MiB' --loader /usr/lib/u-boot/qemu_arm64/u-boot.bin",
                               d.image);
        json_t *verdict = json_array_get(
            json_object_get(json_array_get(json_object_get(doc, "report"), 0), "rows"), 0);
        const char *end = json_string_value(json_object_get(verdict, "end"));
        bool same = end && strcmp(end, roots[i].ours) == 0 && real_ends(d.image, roots[i].real);
        if (!same)
            printf("\n%zu: %s for %s, rehearsed: %s (%s)\n", i, roots[i].to ? roots[i].to : "-",
                   roots[i].from ? roots[i].from : "-", end ? end : "?",
                   json_string_value(json_object_get(verdict, "reason")));
        right += same;
        CU_ASSERT_TRUE(same);
        json_decref(doc);
    }
    proved("roots that a real kernel finds or not",
           "%zu of %zu end as rehearsed: log-in, bare shell, "
           "or panic",
           right, count);
}

SUITE(rehearsed_suite, {"roots are found alike", roots_are_found_alike},
      {"boots end as they were rehearsed", ends_agree});
