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

/* ---- an index of our own ---- */

static const char root_definition[] =
    "mosaicum: 1\nboard: curlew\nhardware: {cpu: arm64, media: {card: {kind: sd, size: 16 MiB}}}\n"
    "pieces: {linux: {file: linux.tar, license: GPL-2.0-only}, more: {file: more.tar, license: "
    "MIT}}\n%s"
    "layout: {card: {table: {kind: gpt}, regions: {root: {number: 1, size: rest, volume: {kind: "
    "ext4, label: root, fills: {%s}}}}}}\n";

/* Checks and builds what `fills` makes of the archives; then the index lies in w/ours. */
static int make_root(const char *w, const char *more_keys, const char *fills, char **said) {
    char text[2000];
    snprintf(text, sizeof text, root_definition, more_keys, fills);
    write_text(path_in(w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(w, "boards/curlew.yaml"), text);
    struct outcome o = run_shell(
        "cd '%s' && mkdir -p root more && tar -C root -cf linux.tar . && tar -C more -cf more.tar "
        ". "
        "&& M='%s' && $M --no-cache check; $M --no-cache -q build >/dev/null && rm -rf ours "
        "all.tar && "
        "mkdir ours && $M -q take out/curlew/card.img root:/ -o all.tar 2>/dev/null && tar -C ours "
        "-xf all.tar",
        w, MOSAICUM_PROGRAM);
    *said = keep(o.out);
    int status = o.status;
    outcome_free(&o);
    return status;
}

/* Modules of a random graph: the line of each has all that it needs, the last first. */
static void an_index_knows_what_is_needed(void) {
    static const char *const packs[] = {"", "gzip -n", "xz", "zstd -q --rm"};
    uint64_t seed = 67;
    for (size_t graph = 0; graph < sizeof packs / sizeof *packs; graph++) {
        struct module all[MODULES] = {0};
        struct core c;
        char *said, *text;
        core_start(&c);
        const char *w = keep(test_folder("index"));
        for (int i = 0; i < MODULES; i++) {
            for (int k = 0; k < i; k++)
                all[i].needs[k] = random_below(&seed, 4) == 0;
            put_module(&c, w, all, i);
        }
        write_text(path_in(w, "root" FOLDER "modules.builtin"), "kernel/b00.ko\nkernel/b03.ko\n");
        CU_ASSERT_TRUE_FATAL(!graph || runs(0, "%s '%s/root" FOLDER "kernel'/*", packs[graph], w));
        CU_ASSERT_EQUAL_FATAL(
            make_root(w, "", "linux: {archive: linux}, index: {made: module-index}", &said), 0);
        CU_ASSERT_PTR_NULL(strstr(said, "kernel.modules-index"));
        size_t length;
        char *file = read_whole(path_in(w, "ours" FOLDER "modules.dep"), &length);
        CU_ASSERT_PTR_NOT_NULL_FATAL(file);
        text = calloc(1, length + 2);
        sprintf(text, "\n%s", file);
        free(file);
        for (int i = 0; i < MODULES; i++) {
            char *line = strstr(text, path_in("", "\nkernel/m%02d.ko", i) + 1);
            CU_ASSERT_PTR_NOT_NULL_FATAL(line);
            char *own = strndup(strchr(line, ':'), strcspn(strchr(line, ':'), "\n"));
            for (int k = 0; k < MODULES; k++)
                all[k].taken = false;
            take(all, i);
            for (int k = 0; k < MODULES; k++) {
                const char *at = strstr(own, path_in("", " kernel/m%02d.ko", k) + 1);
                CU_ASSERT_EQUAL(at != NULL, all[k].taken && k != i);
                for (int n = 0; at && n < MODULES; n++)
                    if (all[k].needs[n])
                        CU_ASSERT(strstr(own, path_in("", "kernel/m%02d.ko", n) + 1) > at);
            }
            free(own);
        }
        free(text);
        core_end(&c);
        remove_folder(w);
    }
}

/* What is wrong with an index, ours or one that came with the modules. */
static void what_an_index_lacks_is_said(void) {
    static const struct {
        const char *edit, *fills, *said; /* NULL: nothing about an index */
    } rows[] = {
        {"true", "linux: {archive: linux}, index: {made: module-index}", NULL},
        {"true", "linux: {archive: linux}", "have no index: modules.dep is not there."},
        {"true", "index: {made: module-index}, linux: {archive: linux}",
         "and no fill before it brings any."},
        {"true", "linux: {archive: linux}, index: {made: module-index}, more: {archive: more}",
         NULL},
        {"rm root" FOLDER "kernel/m00.ko", "linux: {archive: linux}, index: {made: module-index}",
         "needs m00, which is not in /lib/modules/6.1.0-curlew"},
        {"cp root" FOLDER "kernel/m00.ko more" FOLDER "m99.ko",
         "linux: {archive: linux}, index: {made: module-index}, more: {archive: more}",
         "modules.dep of 6.1.0-curlew does not know m99.ko."},
        {"cp -r ours/lib root/ && truncate -s -1 root" FOLDER "modules.dep", /* no last line end */
         "linux: {archive: linux}", NULL},
        {"cp -r ours/lib root/", "linux: {archive: linux}", NULL},
        {"cp -r ours/lib root/ && rm root" FOLDER "modules.dep.bin", "linux: {archive: linux}",
         NULL},
        {"cp -r ours/lib root/ && mkdir root/bin && cp m root/bin/kmod && rm root" FOLDER
         "modules.dep.bin",
         "linux: {archive: linux}", "have no index: modules.dep.bin is not there."},
        {"cp -r ours/lib root/ && printf x | dd of=root" FOLDER
         "modules.dep.bin conv=notrunc bs=1 seek=2 status=none",
         "linux: {archive: linux}", "modules.dep.bin of 6.1.0-curlew is damaged."},
        {"cp -r ours/lib root/ && cp root" FOLDER "kernel/m00.ko root" FOLDER
         "kernel/m77.ko && echo kernel/m77.ko: >> root" FOLDER "modules.dep",
         "linux: {archive: linux}", "modules.dep.bin of 6.1.0-curlew does not know kernel/m77.ko."},
        {"cp -r ours/lib root/ && rm root" FOLDER "kernel/m01.ko", "linux: {archive: linux}",
         "modules.dep of 6.1.0-curlew names kernel/m01.ko, which is not there."},
        {"cp -r ours/lib root/ && cp root" FOLDER "kernel/m00.ko root" FOLDER "kernel/m77.ko",
         "linux: {archive: linux}, index: {made: module-index}", NULL},
    };
    struct core c;
    struct module all[MODULES] = {0};
    core_start(&c);
    const char *base = keep(test_folder("lacking"));
    char *said;
    all[1].needs[0] = all[2].needs[0] = true;
    for (int i = 0; i < 3; i++)
        put_module(&c, base, all, i);
    write_text(path_in(base, "root" FOLDER "modules.builtin"), "kernel/b00.ko\n");
    CU_ASSERT_TRUE_FATAL(runs(0, "mkdir -p '%s/more" FOLDER "'; cp /bin/true '%s/m'", base, base));
    CU_ASSERT_EQUAL_FATAL(
        make_root(base, "", "linux: {archive: linux}, index: {made: module-index}", &said), 0);
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        const char *w = keep(test_folder("lack"));
        copy_folder(base, w);
        CU_ASSERT_TRUE_FATAL(runs(0, "cd '%s' && %s", w, rows[i].edit));
        int status = make_root(w, "", rows[i].fills, &said);
        bool told = strstr(said, "kernel.modules-index") != NULL;
        bool good = rows[i].said ? told && strstr(said, rows[i].said) && status : !told && !status;
        if (!good)
            fprintf(stderr, "\n%s with %s: status %d\n%s\n", rows[i].edit, rows[i].fills, status,
                    said);
        CU_ASSERT_TRUE(good);
        remove_folder(w);
    }
    core_end(&c);
    remove_folder(base);
}

static void put_facts(struct core *c, const char *path, const char *facts, size_t length) {
    struct mos_buf out = {.arena = c->ctx.arena};
    make_module(&out, true, facts, length);
    write_file(path, out.data, out.length);
}

/* A module that a later fill brings once more is the one that is indexed. */
static void the_later_module_counts(void) {
    struct core c;
    char *said;
    core_start(&c);
    const char *w = keep(test_folder("later"));
    put_facts(&c, path_in(w, "root" FOLDER "kernel/m.ko"), "alias=bus:old", 14);
    put_facts(&c, path_in(w, "more" FOLDER "kernel/m.ko"), "alias=bus:new", 14);
    put_facts(&c, path_in(w, "root" FOLDER "kernel/n.ko"), "alias=n", 8); /* both are read */
    put_facts(&c, path_in(w, "more" FOLDER "kernel/o.ko"), "alias=o", 8);
    for (int turned = 0; turned < 2; turned++) {
        CU_ASSERT_EQUAL_FATAL(
            make_root(w, "",
                      turned ? "more: {archive: more}, linux: {archive: linux, replaces: yes}, "
                               "index: {made: module-index}"
                             : "linux: {archive: linux}, more: {archive: more, replaces: yes}, "
                               "index: {made: module-index}",
                      &said),
            0);
        CU_ASSERT_TRUE(runs(0,
                            "cd '%s' && grep -q 'alias bus:%s m' ours" FOLDER "modules.alias && "
                            "! grep -q bus:%s ours" FOLDER "modules.alias",
                            w, turned ? "old" : "new", turned ? "new" : "old"));
    }
    core_end(&c);
    remove_folder(w);
}

/* A soft need that is built in by its name is met by whoever answers to that name, too. */
static void a_name_that_is_built_in_may_have_others(void) {
    struct core c;
    core_start(&c);
    const char *w = keep(test_folder("both"));
    put_facts(&c, path_in(w, "root" FOLDER "kernel/m00.ko"), "alias=b03", 10);
    put_facts(&c, path_in(w, "root" FOLDER "kernel/m01.ko"), "softdep=pre: b03", 17);
    write_text(path_in(w, "root" FOLDER "modules.builtin"), "kernel/b03.ko\n");
    const char *order = order_of(w, "m01");
    CU_ASSERT(place(order, 0) && place(order, 0) < place(order, 1));
    core_end(&c);
    remove_folder(w);
}

/* Packed modules say who they are for, too. */
static void packed_modules_are_looked_into(void) {
    static const struct {
        const char *pack, *facts, *said;
        bool wide;
    } rows[] = {
        {"true", "vermagic=6.1.0-curlew SMP", NULL, true},
        {"xz", "vermagic=6.1.0-curlew SMP", NULL, true},
        {"xz", "vermagic=6.1.0-plover SMP", "made for release 6.1.0-plover", true},
        {"zstd -q --rm", "vermagic=6.1.0-plover SMP", "made for release 6.1.0-plover", true},
        {"gzip -n", "vermagic=6.1.0-curlew SMP", "is made for arm, the board is arm64", false},
        {"truncate -s 40", "", "is damaged", true}};
    for (size_t i = 0; i < sizeof rows / sizeof *rows; i++) {
        struct core c;
        core_start(&c);
        const char *w = keep(test_folder("packed"));
        struct mos_buf out = {.arena = c.ctx.arena};
        char *said;
        make_module(&out, rows[i].wide, rows[i].facts, strlen(rows[i].facts) + 1);
        write_file(path_in(w, "root" FOLDER "kernel/m.ko"), out.data, out.length);
        CU_ASSERT_TRUE_FATAL(runs(0, "%s '%s/root" FOLDER "kernel/m.ko'", rows[i].pack, w));
        make_root(
            w,
            "kernel: {release: 6.1.0-curlew}\nboot: {via: script, entries: {main: {arguments: "
            "{root: <root>}}}}\n",
            "linux: {archive: linux}, index: {made: module-index}", &said);
        bool told = strstr(said, "kernel.modules-other") != NULL;
        if (told != (rows[i].said != NULL) || (told && !strstr(said, rows[i].said)))
            fprintf(stderr, "\n%s %s\n%s\n", rows[i].pack, rows[i].facts, said);
        CU_ASSERT(rows[i].said ? told && strstr(said, rows[i].said) : !told);
        core_end(&c);
        remove_folder(w);
    }
}

SUITE(modules_suite, {"an index knows what is needed", an_index_knows_what_is_needed},
      {"what an index lacks is said", what_an_index_lacks_is_said},
      {"the later module counts", the_later_module_counts},
      {"a name that is built in may have others", a_name_that_is_built_in_may_have_others},
      {"packed modules are looked into", packed_modules_are_looked_into},
      {"what is needed is taken", what_is_needed_is_taken},
      {"chains are followed to their end", chains_are_followed_to_their_end});
