/* Stacks of overlays made by chance, on trees made by chance: what a real loader's `fdt apply`
 * makes of them is what `tree apply` does, node by node and in the same order. */
#include "peers.h"

#include <stdlib.h>
#include <string.h>

enum { SAMPLE = 40, ALL = 300, MOST = 5, SECTOR = 512, FIRST = 65536 /* sectors: 32 MiB */ };

/* ---- sources ---- */

struct source {
    char text[32 * 1024];
    size_t length;
    unsigned seed;
    unsigned labels;  /* n0 … are in the tree, or in an overlay before this one */
    unsigned serial;  /* names that nobody has yet */
    bool wrong;       /* it names a label that is not there */
    bool taken[4096]; /* labels whose node an overlay has set p100000 of */
};

static unsigned chance(struct source *s, unsigned n) {
    s->seed = s->seed * 1664525u + 1013904223u;
    return (s->seed >> 8) % n;
}

__attribute__((format(printf, 2, 3))) static void put(struct source *s, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    s->length +=
        (size_t)vsnprintf(s->text + s->length, sizeof s->text - s->length, format, arguments);
    va_end(arguments);
    CU_ASSERT_TRUE_FATAL(s->length < sizeof s->text);
}

static void put_value(struct source *s) {
    switch (chance(s, 6)) {
    case 0:
        put(s, ";\n");
        break;
    case 1:
        put(s, " = \"word%u\", \"more\";\n", chance(s, 90));
        break;
    case 2:
        /* behind a line's end at the end, this loader's print reads on */
        put(s, " = [%02x %02x 01];\n", chance(s, 256), chance(s, 256));
        break;
    case 3:
        if (s->labels) {
            put(s, " = <%u &n%u %u &n%u>;\n", chance(s, 9), chance(s, s->labels), chance(s, 9),
                chance(s, s->labels));
            break;
        }
        /* fall through */
    default:
        put(s, " = <%u 0x%x>;\n", chance(s, 1000), chance(s, 1u << 20));
    }
}

/* Properties and nodes; what is made is new, so that no source says anything twice. */
static void put_body(struct source *s, bool overlay, unsigned depth) {
    unsigned properties = 1 + chance(s, 4), nodes = depth < 4 ? chance(s, overlay ? 3 : 5) : 0;
    for (unsigned i = 0; i < properties; i++) {
        put(s, "p%u", s->serial++);
        put_value(s);
    }
    if (!overlay)
        put(s, "p100000;\n");                          /* an overlay may set it anew */
    if (chance(s, 3) == 0 && !(overlay && depth == 2)) /* of a node that is new */
        put(s, "status = \"%s\";\n", chance(s, 2) ? "okay" : "disabled");
    for (unsigned i = 0; i < nodes; i++) {
        bool labelled = chance(s, 4) != 0;
        if (labelled)
            put(s, "n%u: ", s->labels);
        put(s, "node@%x {\n", ++s->serial);
        s->labels += labelled;
        put_body(s, overlay, depth + 1);
        put(s, "};\n");
    }
}

static void make_base(struct source *s) {
    put(s, "/dts-v1/;\n%s/ {\n", chance(s, 3) ? "" : "/memreserve/ 0x1000 0x2000;\n");
    for (unsigned i = 0; i < 6; i++) {
        put(s, "n%u: top%u {\n", s->labels, i);
        s->labels++;
        put_body(s, false, 1);
        put(s, "};\n");
    }
    put(s, "};\n");
}

static void make_overlay(struct source *s) {
    unsigned fragments = 1 + chance(s, 3), before = s->labels;
    s->length = 0;
    put(s, "/dts-v1/;\n/plugin/;\n");
    for (unsigned i = 0; i < fragments; i++) {
        unsigned target = chance(s, before);
        put(s, "&n%u {\n", s->wrong && i == 0 ? 9999 : target);
        if (!s->taken[target]) /* two that set it are refused */
            put(s, "p100000 = <%u>;\n", chance(s, 100));
        s->taken[target] = true;
        put_body(s, true, 2);
        put(s, "};\n");
    }
}

/* ---- one stack ---- */

struct stack {
    unsigned overlays;
    bool good;               /* ours takes it */
    size_t at[MOST + 2];     /* sectors of base, overlays and ours */
    size_t length[MOST + 2]; /* bytes; 0: there is none */
};

/* Makes its sources and blobs, and puts the blobs on the card from a sector on. */
static void make_stack(struct stack *k, unsigned seed, const char *w, FILE *card, size_t *sector) {
    static struct source s;
    s = (struct source){.seed = seed * 2654435761u + 1};
    make_base(&s);
    write_text(path_in(w, "base.dts"), s.text);
    k->overlays = 1 + chance(&s, MOST - 1);
    unsigned wrong = chance(&s, 12) == 0 ? chance(&s, k->overlays) : MOST;
    for (unsigned i = 0; i < k->overlays; i++) {
        s.wrong = i == wrong;
        make_overlay(&s);
        write_text(path_in(w, "over%u.dts", i), s.text);
    }
    struct outcome o = run_shell(
        "cd '%s' && rm -rf o ours.dtb && '%s' tree compile base.dts $(seq -f over%%g.dts 0 %u) "
        "--keep-labels -q -o o && '%s' tree apply o/base.dtb $(seq -f o/over%%g.dtbo 0 %u) -q -o "
        "ours.dtb",
        w, MOSAICUM_PROGRAM, k->overlays - 1, MOSAICUM_PROGRAM, k->overlays - 1);
    k->good = o.status == 0;
    CU_ASSERT_EQUAL(k->good, wrong == MOST);
    if (k->good != (wrong == MOST))
        fprintf(stderr, "seed %u: %s%s\n", seed, o.out, o.err);
    outcome_free(&o);
    for (unsigned i = 0; i < k->overlays + 2; i++) {
        char name[40];
        snprintf(name, sizeof name,
                 i == 0             ? "o/base.dtb"
                 : i <= k->overlays ? "o/over%u.dtbo"
                                    : "ours.dtb",
                 i - 1);
        if (i > k->overlays && !k->good)
            break;
        char *bytes = read_whole(path_in(w, "%s", name), &k->length[i]);
        k->at[i] = *sector;
        fseek(card, (long)(*sector * SECTOR), SEEK_SET);
        fwrite(bytes, 1, k->length[i], card);
        *sector += (k->length[i] + SECTOR - 1) / SECTOR;
        free(bytes);
    }
}

/* Types a line and returns what is printed up to a mark; the line itself has it in pieces. */
static char *typed(struct machine *m, const char *format, ...) {
    char line[400], whole[460];
    static unsigned number;
    va_list arguments;
    va_start(arguments, format);
    vsnprintf(line, sizeof line, format, arguments);
    va_end(arguments);
    snprintf(whole, sizeof whole, "%s; echo ${mark}%u.\n", line, ++number);
    machine_type(m, whole);
    snprintf(whole, sizeof whole, "MARK%u.", number);
    char *text = machine_until(m, whole, 60);
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    char *body = strstr(text, "${mark}"); /* behind the line that was typed */
    body = body ? strchr(body, '\n') : NULL;
    char *copy = strdup(body ? body + 1 : "");
    free(text);
    return copy;
}

static void read_blob(struct machine *m, const struct stack *k, unsigned i, const char *to) {
    char *said =
        typed(m, "mmc read %s %zx %zx", to, k->at[i], (k->length[i] + SECTOR - 1) / SECTOR);
    CU_ASSERT_PTR_NOT_NULL(strstr(said, "OK"));
    free(said);
}

/* The loader makes of a stack what ours did. */
static bool agrees(struct machine *m, const struct stack *k) {
    read_blob(m, k, 0, "42000000");
    free(typed(m, "fdt addr 42000000; fdt resize 8000"));
    bool failed = false;
    for (unsigned i = 1; i <= k->overlays && !failed; i++) {
        read_blob(m, k, i, "43000000");
        char *said = typed(m, "fdt apply 43000000 && echo applied");
        failed = !strstr(said, "\napplied") && strncmp(said, "applied", 7) != 0;
        free(said);
    }
    if (failed || !k->good)
        return failed && !k->good;
    char *theirs = typed(m, "fdt print /");
    read_blob(m, k, k->overlays + 1, "44000000");
    free(typed(m, "fdt addr 44000000"));
    char *ours = typed(m, "fdt print /");
    bool same = strcmp(theirs, ours) == 0 && strlen(ours) > 500;
    if (!same)
        fprintf(stderr, "theirs:\n%s\nours:\n%s\n", theirs, ours);
    free(theirs);
    free(ours);
    return same;
}

static void stacks_are_as_in_a_loader(void) {
    const char *w = test_folder("stacks");
    char *card = strdup(path_in(w, "card.img"));
    size_t count = peers_all() ? ALL : SAMPLE, sector = FIRST, wrong = 0, refused = 0, overlays = 0;
    CU_ASSERT_TRUE_FATAL(
        runs(0,
             "truncate -s 256M '%s' && dd if='%s/sunxi/usr/lib/u-boot/orangepi_plus/"
             "u-boot-sunxi-with-spl.bin' of='%s' bs=8K seek=1 conv=notrunc status=none",
             card, peers_cache(), card));
    struct stack *stacks = calloc(count, sizeof *stacks);
    FILE *f = fopen(card, "r+");
    for (size_t i = 0; i < count; i++) {
        make_stack(&stacks[i], (unsigned)i, w, f, &sector);
        refused += !stacks[i].good;
        overlays += stacks[i].overlays;
    }
    fclose(f);
    struct machine *m = machine_start("card board", card, NULL);
    CU_ASSERT_TRUE_FATAL(machine_expect(m, "Hit any key", 60));
    machine_type(m, "\n");
    CU_ASSERT_TRUE_FATAL(machine_expect(m, "=> ", 30));
    machine_type(m, "setenv mark MARK; mmc dev 0\n");
    CU_ASSERT_TRUE_FATAL(machine_expect(m, "=> ", 30));
    for (size_t i = 0; i < count; i++) {
        bool same = agrees(m, &stacks[i]);
        if (!same)
            fprintf(stderr, "stack %zu differs\n", i);
        wrong += !same;
    }
    machine_stop(m);
    CU_ASSERT_EQUAL(wrong, 0);
    proved("stacks of overlays, in a real loader",
           "%zu stacks of %zu overlays, %zu refused by both: %zu differ", count, overlays, refused,
           wrong);
    free(stacks);
    free(card);
}

SUITE(stacks_suite, {"stacks are as in a loader", stacks_are_as_in_a_loader});
