/* Configurations made by chance over a real kernel's sources: what `config resolve` writes is what
 * the sources' own resolver writes, line for line; and what is said of dropped requests is so. */
#include "peers.h"

#include "kconfig/lack.h"
#include "plan/kconfig.h"

#include <stdlib.h>
#include <string.h>
#include <unistd.h>

enum { SAMPLE = 2, MOST_SETS = 40 };

/* A tree, and how its own resolver is asked: `prepare` makes o/.config as the start. */
struct kind {
    const char *name, *folder; /* below the cache folder */
    const char *arch;          /* NULL: it knows none */
    const char *prepare, *settle;
    size_t all, sample; /* fragments */
    bool saves;         /* … and it writes the fewest settings, too */
    bool copied;        /* what is made stands beside the sources: w/tree has both */
};

struct world {
    char w[4200], source[4200];
    const struct kind *k;
    struct core core;
    struct mos_kc_tree *tree;
    unsigned seed;
    size_t same, settings, dropped, unexplained, sets, kept, least, smallest;
};

static unsigned chance(struct world *x, size_t n) {
    x->seed = x->seed * 1664525u + 1013904223u;
    return (unsigned)((x->seed >> 8) % n);
}

/* ---- fragments ---- */

static void add_setting(struct world *x, FILE *f) {
    const struct mos_kc_symbol *s;
    do
        s = mos_vec_pointer(&x->tree->all, chance(x, x->tree->all.count));
    while (!s->entry || !s->name || s->is_choice || s->type == MOS_KC_UNKNOWN);
    static const char *const three[] = {"y", "y", "m", "n"};
    static const int numbers[] = {0, 1, 2, 7, 16, 100, 4096, -1, 99999999};
    static const char *const texts[] = {"", "tide", "two words", "q\\\"uote"};
    const char *value;
    switch (s->type) {
    case MOS_KC_BOOL:
    case MOS_KC_TRISTATE:
        value = three[chance(x, 4)];
        fprintf(f, *value == 'n' ? "# CONFIG_%s is not set\n" : "CONFIG_%s=%s\n", s->name, value);
        break;
    case MOS_KC_INT:
        fprintf(f, "CONFIG_%s=%d\n", s->name, numbers[chance(x, 9)]);
        break;
    case MOS_KC_HEX:
        fprintf(f, "CONFIG_%s=0x%x\n", s->name, (unsigned)numbers[chance(x, 7)]);
        break;
    default:
        fprintf(f, "CONFIG_%s=\"%s\"\n", s->name, texts[chance(x, 4)]);
    }
}

static void make_fragment(struct world *x) {
    static const size_t sizes[] = {5, 20, 50, 100, 200, 400};
    FILE *f = fopen(path_in(x->w, "fragment"), "w");
    CU_ASSERT_PTR_NOT_NULL_FATAL(f);
    for (size_t i = 0, count = sizes[chance(x, 6)]; i < count; i++)
        add_setting(x, f);
    fclose(f);
}

/* ---- both ---- */

/* Behind the comment at the top. */
static const char *body(const char *text) {
    while (*text == '#')
        text += strcspn(text, "\n") + 1;
    return text;
}

static const char *arch_option(const struct world *x) {
    static char text[60];
    if (!x->k->arch)
        return "";
    snprintf(text, sizeof text, "--arch %s", x->k->arch);
    return text;
}

static bool is_same(struct world *x, const char *ours) {
    char *judge = read_whole(path_in(x->w, "o/.config"), NULL),
         *own = read_whole(path_in(x->w, "%s", ours), NULL);
    bool same = judge && own && strcmp(body(judge), body(own)) == 0;
    if (!same) {
        struct outcome o = run_shell("cd '%s' && diff o/.config %s | head -30", x->w, ours);
        fprintf(stderr, "%s: %s", x->k->name, o.out);
        outcome_free(&o);
    }
    free(judge);
    free(own);
    return same;
}

/* Requests that are dropped are told, so status 1 is no failure.  The first one also without
 * answers that were kept. */
static void compare(struct world *x, bool cold) {
    /* one that reads a symbol twice in its own way is given each but once */
    CU_ASSERT_TRUE(
        runs(0,
             x->k->copied
                 ? "cd '%s' && rm -f o/.config && '%s' -q config merge --start start "
                   "--fragment fragment -o o/.config && cp o/.config merged && %s >/dev/null 2>&1"
                 : "cd '%s' && : '%s' && cat start fragment > o/.config && %s "
                   ">/dev/null 2>&1",
             x->w, MOSAICUM_PROGRAM, x->k->settle));
    for (int round = cold ? 0 : 1; round < 2; round++) {
        struct outcome o =
            run_shell("cd '%s' && rm -f ours && '%s' %s config resolve --source "
                      "'%s' %s %s -o ours",
                      x->w, MOSAICUM_PROGRAM, round ? "" : "--no-cache", x->source, arch_option(x),
                      x->k->copied ? "--start merged" : "--start start --fragment fragment");
        bool same = o.status <= 1 && is_same(x, "ours");
        CU_ASSERT_TRUE(same);
        x->same += same && round;
        outcome_free(&o);
    }
}

/* The fewest settings: those that its own resolver saves, or some of them; and they give the same.
 */
static void minimize(struct world *x) {
    if (!x->k->saves)
        return;
    bool same = runs(0,
                     "cd '%s' && rm -f least && '%s' -q config minimal --source '%s' %s --start "
                     "ours -o least && make -s -C '%s' O='%s/o' ARCH=%s savedefconfig >/dev/null "
                     "2>&1 && sort o/defconfig > a && sort least > b && test -z \"$(comm -13 a "
                     "b)\" && { cmp -s a b || { echo fewer >> fewer; cp least o/.config && make -s "
                     "-C \"$S\" O=\"$PWD/o\" ARCH=$A olddefconfig >/dev/null 2>&1 && sed "
                     "'1,5{/^#/d}' o/.config > c && sed '1,5{/^#/d}' ours | cmp - c; }; }",
                     x->w, MOSAICUM_PROGRAM, x->source, arch_option(x), x->source, x->w,
                     x->k->arch ? x->k->arch : "");
    CU_ASSERT_TRUE(same);
    x->least += same;
}

/* ---- dropped requests ---- */

static struct mos_config_part *part_of(struct world *x, const char *path) {
    struct mos_source *s = mos_source_load(&x->core.ctx, path, path, 64 << 20);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s);
    return mos_config_read(&x->core.ctx, path, s);
}

static bool is_said(const struct mos_kc_answer *a) {
    return a->reason == MOS_KC_NO_PROMPT || a->by || *a->text || a->reason == MOS_KC_OVERRULED ||
           a->reason == MOS_KC_NO_MODULES;
}

static bool helps(struct world *x, const struct mos_kc_requests *all,
                  const struct mos_setting *wanted, const struct mos_setting *const *set,
                  size_t count) {
    struct mos_kc_config *c = mos_kc_config_new(x->core.ctx.arena, x->tree);
    mos_kc_ask(c, all->settings, all->count);
    mos_kc_ask(c, set, count);
    mos_kc_settle(c);
    return mos_kc_answer(c, wanted).reason == MOS_KC_KEPT;
}

static void explain(struct world *x) {
    struct mos_config_part *parts[2];
    parts[0] = part_of(x, path_in(x->w, "start"));
    parts[1] = part_of(x, path_in(x->w, "fragment"));
    struct mos_vec both = mos_vec_make(x->core.ctx.arena, sizeof(void *));
    for (size_t i = 0; i < 2; i++)
        for (size_t k = 0; k < parts[i]->settings.count; k++)
            mos_vec_push_pointer(&both, mos_vec_pointer(&parts[i]->settings, k));
    const struct mos_kc_requests all = {both.items, both.count};
    struct mos_kc_config *c = mos_kc_config_new(x->core.ctx.arena, x->tree);
    mos_kc_ask(c, all.settings, all.count);
    mos_kc_settle(c);
    size_t tried = 0;
    for (size_t i = 0; i < parts[1]->settings.count; i++) {
        const struct mos_setting *s = mos_vec_pointer(&parts[1]->settings, i);
        struct mos_kc_answer a = mos_kc_answer(c, s);
        x->settings++;
        if (a.reason == MOS_KC_KEPT)
            continue;
        x->dropped++;
        x->unexplained += !is_said(&a);
        if (!is_said(&a))
            fprintf(stderr, "unexplained (%d): %s=%s, which is %s\n", (int)a.reason, s->symbol,
                    s->value, a.value);
        if (a.reason != MOS_KC_HIDDEN || tried++ >= MOST_SETS)
            continue;
        const struct mos_kc_way way = mos_kc_lack(x->core.ctx.arena, c, s);
        x->sets += way.set != NULL;
        x->smallest += way.set && way.smallest;
        x->kept += way.set && helps(x, &all, s, way.set, way.count);
    }
}

static void one_tree(const struct kind *k) {
    struct world x = {.k = k, .seed = 7};
    size_t count = peers_all() ? k->all : k->sample;
    if (!count || proved_before(k->name))
        return;
    snprintf(x.source, sizeof x.source, "%s/%s", peers_cache(), k->folder);
    if (access(x.source, R_OK)) { /* the archive did not have it; all of them want it */
        CU_ASSERT_FALSE(peers_all());
        proved(k->name, "NOT COMPARED: its sources could not be fetched");
        return;
    }
    snprintf(x.w, sizeof x.w, "%s", test_folder("kconfig"));
    setenv("S", x.source, 1);
    setenv("A", k->arch ? k->arch : "", 1);
    CU_ASSERT_TRUE_FATAL(
        runs(0, "mkdir '%s/o' && cd '%s' && %s >/dev/null 2>&1", x.w, x.w, k->prepare));
    if (k->copied)
        snprintf(x.source, sizeof x.source, "%s", path_in(x.w, "tree"));
    core_start(&x.core);
    const struct mos_kc_world world = {x.source, x.source, k->arch, NULL, NULL};
    x.tree = mos_kc_open(&x.core.ctx, &world);
    if (!x.tree)
        fprintf(stderr, "%s: %s\n", k->name, x.core.error.message);
    CU_ASSERT_PTR_NOT_NULL_FATAL(x.tree);
    for (size_t i = 0; i < count; i++) {
        make_fragment(&x);
        compare(&x, i == 0);
        minimize(&x);
        explain(&x);
    }
    CU_ASSERT_EQUAL(x.same, count);
    CU_ASSERT_EQUAL(x.unexplained, 0);
    CU_ASSERT_EQUAL(x.kept, x.sets);
    proved(k->name,
           "%zu of %zu as its own resolver; %zu of %zu requests dropped, %zu unexplained; %zu "
           "sets proposed, %zu keep the request, %zu proved smallest%s",
           x.same, count, x.dropped, x.settings, x.unexplained, x.sets, x.kept, x.smallest,
           k->saves ? "; the fewest settings are its own" : "");
    core_end(&x.core);
}

#define MAKE "make -s -C \"$S\" O=\"$PWD/o\" "
#define KERNEL(name, folder, arch, start, all, sample)                                             \
    {                                                                                              \
        name, folder, arch, MAKE "ARCH=$A " start " && cp o/.config start",                        \
            MAKE "ARCH=$A olddefconfig", all, sample, true                                         \
    }
#define LOADER(board)                                                                              \
    {                                                                                              \
        "loader: " board, "other-trees/u-boot", NULL,                                              \
            MAKE board "_defconfig && cp o/.config start", MAKE "olddefconfig", 20, 0, true        \
    }

static void trees_are_settled_as_by_themselves(void) {
    static const struct kind kinds[] = {
        KERNEL("arm64", "sources-of-trees", "arm64", "defconfig", 50, SAMPLE),
        KERNEL("x86", "sources-of-trees", "x86", "x86_64_defconfig", 50, SAMPLE),
        KERNEL("riscv", "sources-of-trees", "riscv", "defconfig", 50, 0),
        KERNEL("arm", "sources-of-trees", "arm", "multi_v7_defconfig", 50, 0),
        KERNEL("arm64, a newer one", "other-trees/linux-source-6.12", "arm64", "defconfig", 20,
               SAMPLE),
        KERNEL("riscv, a newer one", "other-trees/linux-source-6.12", "riscv", "defconfig", 20, 0),
        {"loader: qemu_arm64", "other-trees/u-boot", NULL,
         MAKE "qemu_arm64_defconfig && cp o/.config start", MAKE "olddefconfig", 20, SAMPLE, true},
        LOADER("qemu_arm"),
        LOADER("qemu-riscv64_smode"),
        LOADER("orangepi_pc"),
        LOADER("vexpress_ca9x4"),
        LOADER("am64x_evm_a53"),
        LOADER("imx8mm_evk"),
        LOADER("rock64-rk3328"),
        LOADER("stm32mp15_trusted"),
        LOADER("sandbox"),
        {"busybox", "other-trees/busybox", NULL,
         "cp -r \"$S\" tree && make -s -C tree defconfig && cp tree/.config start",
         "cp o/.config tree/ && yes '' 2>/dev/null | make -s -C tree oldconfig && cp tree/.config "
         "o/",
         20, SAMPLE, false, true}};
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++)

        one_tree(&kinds[i]);
}

SUITE(kconfig_suite, {"trees are settled as by themselves", trees_are_settled_as_by_themselves});
