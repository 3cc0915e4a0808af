/* The rehearsal is right: damaged images are booted by the real loader and rehearsed, and both must
 * end in the same way. */
#define _GNU_SOURCE
#include "damage.h"

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
    machine_type(m, damaged_machines[d->machine].typed);
    return true;
}

static void boot_real(const struct damage *d, struct ending *out) {
    machine_with(NULL, d->flash);
    const char *cpu = damaged_machines[d->machine].cpu;
    struct machine *m = machine_start(cpu, d->image, damaged_machines[d->machine].device);
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
    const char *loader = damaged_machines[c->machine].loader;
    const char *tree =
        keep(c->machine == DAMAGED_ARM64 ? path_in(MOSAICUM_SOURCE, "tests/data/machine-arm64.dtb")
                                         : path_in(w, "machine.dtb"));
    int status;
    json_t *d =
        c->flash ? run_json(&status, "-w '%s' --out '%s' rehearse curlew --tree '%s' --loader %s",
                            w, c->folder, tree, loader)
                 : run_json(&status, "rehearse '%s' %s --tree '%s' --loader %s", c->image,
                            damaged_machines[c->machine].facts, tree, loader);
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
    const char *w[DAMAGED_BOARDS];
    for (size_t b = 0; b < DAMAGED_BOARDS; b++) {
        w[b] = keep(test_folder(damaged_boards[b].via));
        damaged_board_make(b, w[b]);
    }
    struct damage d = {.seed = 2026, .folder = keep(test_folder("damaged"))};
    for (size_t n = 0; n < cases; n++) {
        size_t b = n % DAMAGED_BOARDS;
        damage_begin(&d, b, w[b]);
        struct ending real, ours;
        if (n >= DAMAGED_BOARDS) /* the first of each kind boots */
            damage_something(&d, b);
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
                   same ? " " : "!", n, damaged_boards[b].via, d.what, class_names[real.end],
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
    if (roots[i].lost) {
        const char *to = keep(path_in(d->folder, "new.img"));
        CU_ASSERT_TRUE(runs(0, "rm -f '%s'; '%s' -q amend '%s' 'root:~%s' -o '%s' && mv '%s' '%s'",
                            to, MOSAICUM_PROGRAM, d->image, roots[i].lost, to, to, d->image));
    }
    if (roots[i].from)
        damage_script(d, roots[i].from, roots[i].to, !roots[i].real);
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
