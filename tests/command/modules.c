/* What of an archive's modules a ramdisk takes, and in which order: against a model that knows the
 * whole graph. */
#include "binaries.h"
#include "support.h"

#include <stdlib.h>
#include <string.h>

#define FOLDER "/lib/modules/6.1.0-curlew/"

enum { MODULES = 14, GRAPHS = 12, LONGEST = 32 /* steps of an archive's modules */ };

/* mNN needs some of those before it: by name, or, where that is enough, by one of their aliases. */
struct module {
    bool needs[MODULES], wants[MODULES], later[MODULES], by_alias[MODULES];
    bool taken;
};

static void put_names(struct mos_buf *b, const struct module *x, const bool *which, bool soft) {
    bool first = true;
    for (int k = 0; k < MODULES; k++)
        if (which[k]) {
            mos_buf_printf(b, soft && x->by_alias[k] ? "%sbus:m%02d-x" : "%sm%02d",
                           first  ? ""
                           : soft ? " "
                                  : ",",
                           k);
            first = false;
        }
}

static void put_module(struct core *c, const char *w, const struct module *all, int i) {
    const struct module *x = &all[i];
    struct mos_buf facts = {.arena = c->ctx.arena}, out = facts;
    mos_buf_printf(&facts, "license=GPL%calias=bus:m%02d-*%cdepends=", 0, i, 0);
    put_names(&facts, x, x->needs, false);
    mos_buf_printf(&facts, "%csoftdep=pre: b00 b03 ", 0);
    put_names(&facts, x, x->wants, true);
    mos_buf_text(&facts, " post: b01 ");
    put_names(&facts, x, x->later, true);
    mos_buf_char(&facts, 0);
    make_module(&out, true, facts.data, facts.length);
    write_file(path_in(w, "root" FOLDER "kernel/m%02d.ko", i), out.data, out.length);
}

static void take(struct module *all, int i) {
    if (all[i].taken)
        return;
    all[i].taken = true;
    for (int k = 0; k < MODULES; k++)
        if (all[i].needs[k] || all[i].wants[k] || all[i].later[k])
            take(all, k);
}

/* Where a module stands in the order of loading; 0: nowhere. */
static size_t place(const char *order, int i) {
    const char *at = strstr(order, path_in("", "m%02d.ko\n", i) + 1);
    return at ? (size_t)(at - order) + 1 : 0;
}

static const char definition[] =
    "mosaicum: 1\nboard: curlew\nhardware: {cpu: arm64, media: {card: {kind: sd, size: 8 MiB}}}\n"
    "pieces:\n  linux: {file: linux.tar}\n  early: {ramdisk: {modules: {in: linux, names: [%s]}}}\n"
    "layout: {card: {table: {kind: gpt}, regions: {early: {number: 1, at: 1 MiB, size: 1 MiB, "
    "piece: early}}}}\n";

/* Packs the modules, builds, and returns the order of loading (or why there is none). */
static const char *order_of(const char *w, const char *names) {
    char text[2000];
    snprintf(text, sizeof text, definition, names);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), text);
    struct outcome o = run_shell("cd '%s' && tar -C root -cf linux.tar lib && M='%s' && $M "
                                 "--no-cache -q build && $M -q take out/curlew/card.img 1 -o "
                                 "early && $M -q take early cpio:load-order -o -",
                                 w, MOSAICUM_PROGRAM);
    bool too_long = o.status && strstr(o.out, "need one another over more than 32 steps");
    if (o.status && !too_long)
        fprintf(stderr, "\n%s%s\n", o.out, o.err);
    CU_ASSERT(!o.status || too_long);
    const char *order = keep(o.out);
    outcome_free(&o);
    return order;
}

static void check_graph(const char *w, struct module *all, const char *order) {
    size_t lines = 0, taken = 0;
    for (const char *p = order; (p = strchr(p, '\n')); p++)
        lines++;
    for (int i = 0; i < MODULES; i++) {
        size_t at = place(order, i);
        CU_ASSERT_EQUAL(at != 0, all[i].taken);
        taken += all[i].taken;
        for (int k = 0; k < MODULES && at; k++)
            if (all[i].needs[k] || all[i].wants[k])
                CU_ASSERT(place(order, k) && place(order, k) < at);
        CU_ASSERT(
            runs(!all[i].taken,
                 "cd '%s' && P=lib/modules/6.1.0-curlew/kernel/m%02d.ko && { '%s' -q take early "
                 "cpio:$P -o - 2>/dev/null | cmp -s - root/$P || exit 1; }",
                 w, i, MOSAICUM_PROGRAM));
    }
    CU_ASSERT_EQUAL(lines, taken);
}

static void what_is_needed_is_taken(void) {
    uint64_t seed = 61;
    for (int graph = 0; graph < GRAPHS; graph++) {
        struct module all[MODULES] = {0};
        struct core c;
        core_start(&c);
        const char *w = keep(test_folder("modules"));
        for (int i = 0; i < MODULES; i++) {
            for (int k = 0; k < i; k++) {
                unsigned kind = (unsigned)random_below(&seed, 14);
                all[i].needs[k] = kind == 0;
                all[i].wants[k] = kind == 1;
                all[i].later[k] = kind == 2;
                all[i].by_alias[k] = random_below(&seed, 2);
            }
            put_module(&c, w, all, i);
        }
        write_text(path_in(w, "root" FOLDER "modules.builtin"),
                   "kernel/b00.ko\nkernel/b01.ko\nkernel/b03.ko");
        int first = MODULES - 1, second = (int)random_below(&seed, MODULES);
        take(all, first);
        take(all, second);
        check_graph(w, all, order_of(w, path_in("", "m%02d, m%02d, b03", first, second) + 1));
        core_end(&c);
        remove_folder(w);
    }
}

/* A long chain is followed, one that is too long is said. */
static void chains_are_followed_to_their_end(void) {
    static const int lengths[] = {LONGEST, LONGEST + 1};
    for (size_t i = 0; i < 2; i++) {
        struct core c;
        core_start(&c);
        const char *w = keep(test_folder("chain"));
        for (int k = 0; k < lengths[i]; k++) {
            struct mos_buf facts = {.arena = c.ctx.arena}, out = facts;
            mos_buf_printf(&facts, "depends=m%02d", k - 1);
            facts.length = k ? facts.length : 8;
            mos_buf_char(&facts, 0);
            make_module(&out, true, facts.data, facts.length);
            write_file(path_in(w, "root" FOLDER "m%02d.ko", k), out.data, out.length);
        }
        const char *order = order_of(w, path_in("", "m%02d", lengths[i] - 1) + 1);
        CU_ASSERT_EQUAL(place(order, lengths[i] - 1) != 0, lengths[i] <= LONGEST);
        CU_ASSERT(lengths[i] > LONGEST || place(order, 0) == sizeof FOLDER);
        core_end(&c);
        remove_folder(w);
    }
}

SUITE(modules_suite, {"what is needed is taken", what_is_needed_is_taken},
      {"chains are followed to their end", chains_are_followed_to_their_end});
