/* Where a rule begins: for every rule with a limit, the last value that is good and the first that
 * is not, side by side.  A row changes one text of the rule's fixture that passes. */
#include "support.h"

#include <stdlib.h>
#include <string.h>

struct border {
    const char *fixture, *rule;   /* rule NULL: that of the fixture */
    const char *file, *old, *new; /* file NULL: the board; in `new`, % stands for the value */
    const char *good, *bad;
};

#define TREE "tree: 0x44000000"

static const struct border borders[] = {
    /* A tree of 0x110 bytes; a kernel of 64 KiB that runs in 256 KiB; RAM to 0x60000000. */
    {"ram.overlap", NULL, NULL, TREE, "tree: %", "0x40240000", "0x4023fff8"},
    {"ram.overlap", NULL, NULL, TREE, "tree: %", "0x401ffef0", "0x401ffef8"},
    {"ram.held", NULL, NULL, TREE, "tree: %", "0x5d7ffef0", "0x5d7ffef8"},
    {"ram.held", NULL, NULL, "{top: 40 MiB}", "{start: 0x43000000, size: %}", "16 MiB",
     "16385 KiB"},
    {"ram.held", NULL, NULL, "{top: 40 MiB}", "{start: %, size: 1 MiB}", "0x4400010c",
     "0x4400010b"},
    {"ram.outside", NULL, NULL, TREE, "tree: %", "0x5ffffef0", "0x5ffffef8"},
    {"ram.outside", NULL, NULL, TREE, "tree: %", "0x40000000", "0x3ffffff8"},
    {"ram.outside", NULL, NULL, "sizes: [512 MiB]", "sizes: [%, 512 MiB]", "65 MiB", "64 MiB"},
    {"ram.misaligned", NULL, NULL, "kernel: 0x40200000", "kernel: %", "0x40400000", "0x40400800"},
    {"ram.misaligned", NULL, NULL, TREE, "tree: %", "0x44000008", "0x44000004"},
    {"ram.beyond-lowmem", NULL, NULL, "0x60000000", "%", "0x70000000", "0x70001000"},
    {"ram.beyond-lowmem", NULL, NULL, "fdt_high: \"0x60000000\"", "bootm_size: \"%\"", "0x30000000",
     "0x30001000"},
    {"ram.beyond-lowmem", NULL, NULL, "fdt_high: \"0x60000000\"", "bootm_mapsize: \"%\"",
     "30000000", "30001000"},
    {"ram.by-loader", NULL, NULL, "0x48000000", "%", "0x40440000", "0x4043f000"},

    {"layout.overlap", NULL, NULL, "1536 KiB", "%", "1536 KiB", "1537 KiB"},
    {"layout.overlap", NULL, NULL, "env: {at: 2 MiB", "env: {at: %", "384 KiB", "385 KiB"},
    {"layout.beyond-medium", NULL, NULL, "size: 60 MiB", "size: %", "64 MiB", "65537 KiB"},
    /* 33 sectors at the end, 2 + 12 at the start */
    {"layout.beyond-medium", "layout.covers-table", NULL, "size: 60 MiB", "size: %", "65519 KiB",
     "65520 KiB"},
    {"layout.covers-table", NULL, NULL, "at: 8 KiB", "at: %", "7 KiB", "6 KiB"},
    {"layout.covers-table", NULL, NULL, "entries: 48", "entries: %", "56", "57"},
    {"layout.name-too-long", NULL, NULL, "tide-gauge}", "%}", "sixteen-letters-",
     "seventeen-letters"},
    {"layout.name-too-long", NULL, NULL, "data:", "%:", "a-name-of-just-thirty-six-letters-ab",
     "a-name-of-even-thirty-seven-letters-a"},
    {"layout.sum-too-big", NULL, NULL, "size: 40 MiB", "size: %", "56 MiB", "57 MiB"},
    {"layout.gap", NULL, NULL, "size: rest", "at: 4 MiB, size: %", "192496 KiB", "192495 KiB"},
    {"layout.gap", NULL, NULL, "size: rest", "at: %, size: rest", "65553 KiB", "65554 KiB"},
    {"layout.area-too-small", NULL, NULL, "size: 4 MiB", "size: %", "4 MiB", "4097 KiB"},
    {"layout.copies-together", NULL, NULL, "env2: {at: 8 MiB", "env2: {at: %", "8 MiB", "8128 KiB"},
    {"layout.rom-place", NULL, NULL, "limit: 192 KiB", "limit: %", "1408 B", "1407 B"},
    {"layout.misaligned", NULL, NULL, "at: 8 MiB", "at: %", "12 MiB", "12292 KiB"},

    {"budget.exceeded", NULL, NULL, "2 KiB", "%", "1408 B", "1407 B"},
    {"budget.nearly", NULL, NULL, "2 KiB", "%", "1483 B", "1482 B"},
    {"budget.nearly", NULL, NULL, "2 KiB}", "2000 B, warn: %}", "71%", "70%"},
    {"budget.nearly", NULL, NULL, "2 KiB}", "2099 B, warn: %}", "68%", "67%"},
    {"budget.grew", NULL, "out/curlew/ledger.json", "1400", "%", "1280", "1279"},

    {"boot.stages", NULL, NULL, "accepts: legacy", "accepts: legacy, limit: %", "840 B", "839 B"},
    {"boot.network", NULL, NULL, "address: 192.0.2.20", "address: %", "192.0.2.254", "192.0.2.255"},
    {"boot.network", NULL, NULL, "address: 192.0.2.20", "address: %", "192.0.2.2", "192.0.2.0"},
    {"access.host-name", NULL, NULL, "jetty-1", "%",
     "a123456789b123456789c123456789d123456789e123456789f123456789abc",
     "a123456789b123456789c123456789d123456789e123456789f123456789abcd"},
    {"access.host-name", NULL, NULL, "jetty-1", "%", "j", "j-"},
    /* "root=PARTUUID=" with 36 characters, " ro " and as many more */
    {"boot.arguments", NULL, NULL, "[ro, rootwait]", "[ro, rootwait, %]", "@1984", "@1985"},
    /* a sum, "bootdelay=2", "x=" and that, three zeros */
    {"loader.env-place", "loader.env-too-big", NULL, "bootdelay: 2", "bootdelay: 2, x: %", "@65516",
     "@65517"},
    {"layout.logical", NULL, NULL, "e: {number: 6, at: 40 MiB", "e: {number: 6, at: %", "37 MiB",
     "36 MiB"},
    {"boot.fallback-unreachable", "board.schema", NULL, "tries: 3", "tries: %", "1", "0"},
    {"boot.fallback-unreachable", "board.schema", NULL, "tries: 3", "tries: %", "9", "10"},
};

/* Puts `new` with its value in the place of `old`; every row finds its text.  "@9" are nine
 * letters. */
static void change(const char *path, const struct border *b, const char *value) {
    static char letters[70000];
    if (*value == '@') {
        size_t n = strtoul(value + 1, NULL, 10);
        memset(letters, 'x', n);
        letters[n] = 0;
        value = letters;
    }
    char *text = read_whole(path, NULL), *at = text ? strstr(text, b->old) : NULL;
    CU_ASSERT_PTR_NOT_NULL_FATAL(at);
    const char *hole = strchr(b->new, '%');
    size_t room = strlen(text) + strlen(b->new) + strlen(value) + 1;
    char *next = malloc(room);
    snprintf(next, room, "%.*s%.*s%s%s%s", (int)(at - text), text, (int)(hole - b->new), b->new,
             value, hole + 1, at + strlen(b->old));
    write_text(path, next);
    free(next);
    free(text);
}

static bool found(const struct border *b, const char *value) {
    const char *rule = b->rule ? b->rule : b->fixture, *w = keep(test_folder("border"));
    int status;
    bool hit = false;
    copy_folder(path_in(MOSAICUM_SOURCE, "tests/rules/%s/passes", b->fixture), w);
    change(path_in(w, "%s", b->file ? b->file : "boards/curlew.yaml"), b, value);
    json_t *d = run_json(&status, "-w '%s' check", w), *finding;
    size_t i;
    CU_ASSERT_PTR_NOT_NULL(d);
    json_array_foreach(json_object_get(d, "findings"), i, finding) hit |=
        strcmp(json_string_value(json_object_get(finding, "rule")), rule) == 0;
    json_decref(d);
    return hit;
}

static void limits_are_exact(void) {
    for (size_t i = 0; i < sizeof borders / sizeof *borders; i++) {
        const struct border *b = &borders[i];
        bool early = found(b, b->good), late = !found(b, b->bad);
        if (early || late)
            fprintf(stderr, "\n%s: %s %s\n", b->rule ? b->rule : b->fixture,
                    early ? "complains about" : "is silent about", early ? b->good : b->bad);
        CU_ASSERT(!early && !late);
    }
}

SUITE(borders_suite, {"limits are exact", limits_are_exact});
