/* Configurations made by chance over a real kernel's sources: what `config resolve` writes is what
 * the sources' own resolver writes, line for line; and what is said of dropped requests is so. */
#include "peers.h"

#include "kconfig/lack.h"
#include "plan/kconfig.h"

#include <stdlib.h>
#include <string.h>

enum { SAMPLE = 2, ALL = 50, MOST_SETS = 40 };

struct world {
    char w[4200], source[4200];
    const char *arch, *start;
    struct core core;
    struct mos_kc_tree *tree;
    unsigned seed;
    size_t same, settings, dropped, unexplained, sets, kept;
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

/* Requests that are dropped are told, so status 1 is no failure. */
static void compare(struct world *x) {
    CU_ASSERT_TRUE(runs(0,
                        "cd '%s' && cat '%s/arch/%s/configs/%s' fragment > o/.config && make -s -C "
                        "'%s' O='%s/o' ARCH=%s olddefconfig 2>/dev/null",
                        x->w, x->source, x->arch, x->start, x->source, x->w, x->arch));
    struct outcome o =
        run_shell("cd '%s' && rm -f ours && '%s' config resolve --source '%s' --arch %s --start %s "
                  "--fragment fragment -o ours",
                  x->w, MOSAICUM_PROGRAM, x->source, x->arch, x->start);
    char *judge = read_whole(path_in(x->w, "o/.config"), NULL),
         *ours = read_whole(path_in(x->w, "ours"), NULL);
    bool same = o.status <= 1 && judge && ours && strcmp(body(judge), body(ours)) == 0;
    if (!same) {
        fprintf(stderr, "%s %s%s\n", x->arch, o.out, o.err);
        runs(1, "cd '%s' && diff o/.config ours | head -30 >&2; exit 1", x->w);
    }
    CU_ASSERT_TRUE(same);
    x->same += same;
    free(judge);
    free(ours);
    outcome_free(&o);
}

/* ---- dropped requests ---- */

static struct mos_config_part *part_of(struct world *x, const char *path) {
    struct mos_source *s = mos_source_load(&x->core.ctx, path, path, 64 << 20);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s);
    return mos_config_read(&x->core.ctx, path, s);
}

static bool is_said(const struct mos_kc_answer *a) {
    return a->reason == MOS_KC_NO_PROMPT || a->by || *a->text || a->reason == MOS_KC_OVERRULED;
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
    char path[8400];
    snprintf(path, sizeof path, "%s/arch/%s/configs/%s", x->source, x->arch, x->start);
    struct mos_config_part *parts[] = {part_of(x, path), part_of(x, path_in(x->w, "fragment"))};
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
        size_t count;
        const struct mos_kc_symbol *stuck;
        if (a.reason != MOS_KC_HIDDEN || tried++ >= MOST_SETS)
            continue;
        const struct mos_setting *const *set =
            mos_kc_lack(x->core.ctx.arena, x->tree, &all, s, &count, &stuck);
        x->sets += set != NULL;
        x->kept += set && helps(x, &all, s, set, count);
    }
}

static void one_architecture(const char *arch, const char *folder, const char *start,
                             size_t *compared) {
    struct world x = {.arch = folder, .start = start, .seed = 7};
    snprintf(x.source, sizeof x.source, "%s/sources-of-trees", peers_cache());
    snprintf(x.w, sizeof x.w, "%s", test_folder("kconfig"));
    CU_ASSERT_TRUE_FATAL(runs(0, "mkdir '%s/o' && make -s -C '%s' O='%s/o' ARCH=%s %s >&2", x.w,
                              x.source, x.w, arch, start));
    core_start(&x.core);
    const struct mos_kc_world world = {x.source, x.source, arch, NULL, NULL};
    x.tree = mos_kc_open(&x.core.ctx, &world);
    CU_ASSERT_PTR_NOT_NULL_FATAL(x.tree);
    size_t count = peers_all() ? ALL : SAMPLE;
    for (size_t i = 0; i < count; i++) {
        make_fragment(&x);
        compare(&x);
        explain(&x);
    }
    *compared += x.same;
    CU_ASSERT_EQUAL(x.unexplained, 0);
    CU_ASSERT_EQUAL(x.kept, x.sets);
    proved(arch,
           "%zu of %zu as its own resolver; %zu of %zu requests dropped, %zu unexplained; %zu "
           "sets proposed, %zu keep the request",
           x.same, count, x.dropped, x.settings, x.unexplained, x.sets, x.kept);
    core_end(&x.core);
}

static void a_kernel_is_settled_as_by_itself(void) {
    size_t compared = 0;
    one_architecture("arm64", "arm64", "defconfig", &compared);
    one_architecture("x86", "x86", "x86_64_defconfig", &compared);
    if (peers_all()) {
        one_architecture("riscv", "riscv", "defconfig", &compared);
        one_architecture("arm", "arm", "multi_v7_defconfig", &compared);
    }
    CU_ASSERT_TRUE(compared >= (peers_all() ? 4 * ALL : 2 * SAMPLE));
}

SUITE(kconfig_suite, {"a kernel is settled as by itself", a_kernel_is_settled_as_by_itself});
