/* Conflicts of meaning planted into shipped trees of many chip families, each by an overlay of
 * ours, with correct overlays beside them: what is wrong is told by its rule at our own line, and
 * what is right is not. */
#include "conflicts.h"

#include <glob.h>
#include <stdlib.h>
#include <string.h>

enum { MOST = 64 }; /* kinds */

static bool told_right(struct site *s, size_t kind, const char *w, const char *blob) {
    char text[3200];
    snprintf(text, sizeof text, "/dts-v1/;\n/plugin/;\n%s\n", s->text);
    write_text(path_in(w, "our.dtso"), text);
    struct outcome o = run_shell("cp '%s' '%s/pieces/base.dtb' && '%s' --no-cache -w '%s' check",
                                 blob, w, MOSAICUM_PROGRAM, w);
    const char *rule = conflicts[kind].rule;
    bool good = rule ? strstr(o.out, rule) && strstr(o.out, "our.dtso:") &&
                           (!s->other || strstr(o.out, strrchr(s->other, '/') + 1))
                     : !strstr(o.out, "tree.");
    if (!good)
        fprintf(stderr, "%s %s: %s\n%s%s\n", blob, rule ? rule : "correct", s->text, o.out, o.err);
    outcome_free(&o);
    return good;
}

struct tally {
    size_t planted[MOST], found[MOST];
};

static void plant_all(const char *blob, const char *w, unsigned seed, struct tally *t) {
    struct site s = {.seed = seed * 2654435761u + 1};
    core_start(&s.core);
    size_t length;
    char *bytes = read_whole(blob, &length);
    s.dt = mos_dt_read_blob(&s.core.ctx, "base.dtb", bytes, length);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s.dt);
    s.all = mos_dt_phandles_of(s.core.ctx.arena, s.dt);
    s.claims = mos_dt_claims(s.core.ctx.arena, s.dt, &s.all);
    for (size_t i = 0; conflicts[i].make; i++) {
        s.other = NULL;
        if (!conflicts[i].make(&s))
            continue;
        t->planted[i]++;
        t->found[i] += told_right(&s, i, w, blob);
    }
    free(bytes);
    core_end(&s.core);
}

struct walk {
    const char *w;
    struct tally tally;
    size_t trees, families;
};

/* Some trees of each folder (a family), each `step`-th one. */
static void plant_in(struct walk *k, const char *names, size_t step, size_t most) {
    char pattern[4200], family[4200] = "";
    size_t in_family = 0;
    glob_t g;
    snprintf(pattern, sizeof pattern, "%s/%s", peers_cache(), names);
    CU_ASSERT_EQUAL_FATAL(glob(pattern, 0, NULL, &g), 0);
    for (size_t i = 0; i < g.gl_pathc; i++) {
        size_t n = (size_t)(strrchr(g.gl_pathv[i], '/') - g.gl_pathv[i]);
        bool same = strncmp(family, g.gl_pathv[i], n + 1) == 0 && family[n] == '/';
        k->families += !same;
        in_family = same ? in_family + 1 : 0;
        snprintf(family, sizeof family, "%s", g.gl_pathv[i]);
        if (in_family % step || in_family / step >= most)
            continue;
        plant_all(g.gl_pathv[i], k->w, (unsigned)i, &k->tally);
        k->trees++;
    }
    globfree(&g);
}

static void planted_conflicts_are_found(void) {
    struct walk k = {.w = test_folder("conflicts")};
    write_text(path_in(k.w, "mosaicum.yaml"), "mosaicum: 1\nworkspace: saltmarsh-survey\n");
    write_text(path_in(k.w, "boards/curlew.yaml"),
               "mosaicum: 1\nboard: curlew\npieces: {vendor: {file: pieces/base.dtb}}\ntree: "
               "{blobs: {main: {piece: vendor}}, overlays: {ours: our.dtso}}\n");
    CU_ASSERT_TRUE(runs(0, "mkdir '%s/pieces'", k.w));
    plant_in(&k, "full/usr/lib/linux-image-*/*/*.dtb", 5, peers_all() ? 4 : 2);
    /* those of 32-bit Arm are all in one folder */
    plant_in(&k, "arm/usr/lib/linux-image-*/*.dtb", peers_all() ? 15 : 90, 60);
    const struct tally t = k.tally;
    size_t planted = 0, found = 0, right = 0, quiet = 0;
    for (size_t i = 0; conflicts[i].make; i++) {
        CU_ASSERT_TRUE(t.planted[i] >= (peers_all() ? 3 : 1));
        if (!t.planted[i] || t.found[i] != t.planted[i])
            fprintf(stderr, "kind %zu (%s): %zu of %zu\n", i,
                    conflicts[i].rule ? conflicts[i].rule : "correct", t.found[i], t.planted[i]);
        *(conflicts[i].rule ? &planted : &right) += t.planted[i];
        *(conflicts[i].rule ? &found : &quiet) += t.found[i];
    }
    CU_ASSERT_TRUE(planted >= 120);
    CU_ASSERT_EQUAL(found, planted);
    CU_ASSERT_EQUAL(quiet, right);
    proved("conflicts planted into shipped trees",
           "%zu trees of %zu folders: %zu of %zu found; %zu of %zu correct ones let pass", k.trees,
           k.families, found, planted, quiet, right);
}

SUITE(conflicts_suite, {"planted conflicts are found", planted_conflicts_are_found});
