#include "kconfig/parse.h"

#include "base/hash.h"

#include <errno.h>
#include <string.h>

/* Reads all files once: NULL with ctx->error. */
static struct mos_kc_tree *read_once(struct mos_ctx *ctx, const struct mos_kc_reading *reading,
                                     struct mos_arena *arena, struct mos_map *sources) {
    struct mos_kc_tree *t = mos_alloc(arena, sizeof *t);
    *t = (struct mos_kc_tree){.manner = reading->manner,
                              .arena = arena,
                              .symbols = mos_map_make(arena),
                              .quoted = mos_map_make(arena),
                              .all = mos_vec_make(arena, sizeof(void *)),
                              .used = mos_map_make(arena),
                              .answers = mos_vec_make(arena, sizeof(char *)),
                              .said = mos_vec_make(arena, sizeof(char *))};
    struct kc_parser p = {
        .ctx = ctx, .arena = ctx->arena, .reading = reading, .tree = t, .sources = *sources};
    p.macros = (struct mos_kc_macros){.ctx = ctx,
                                      .arena = arena,
                                      .vars = &reading->vars,
                                      .own = mos_map_make(arena),
                                      .probes = reading->probes,
                                      .used = &t->used,
                                      .answers = &t->answers,
                                      .said = &t->said};
    bool good = kc_parse(&p);
    *sources = p.sources;
    return good ? t : NULL;
}

static void hash_text(struct mos_sha256 *h, const char *text) {
    mos_sha256_update(h, text, strlen(text) + 1);
}

/* All that the tree is made of, wherever it lies: files, variables that they name, its resolver's
 * manner, and what probes printed (the commands follow from the rest, and name the folder). */
static bool hash_all(struct mos_ctx *ctx, struct mos_kc_tree *t, const struct mos_map *sources) {
    static const char *const places[] = {"PATH", "srctree", "abs_srctree"};
    const struct mos_kc_manner *m = &t->manner;
    const bool manner[] = {m->whole, m->ends, m->raw, m->zeros, m->clamps, m->capped, m->ranked};
    struct mos_sha256 *h = mos_sha256_new();
    if (!h)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, ENOMEM, "Cannot hash the Kconfig files");
    for (size_t i = 0; i < sources->count; i++) {
        const struct mos_source *s = sources->items[i].value;
        hash_text(h, sources->items[i].key);
        mos_sha256_update(h, s->text, s->length);
    }
    for (size_t i = 0; i < t->used.count; i++) {
        bool place = false;
        for (size_t k = 0; k < sizeof places / sizeof *places; k++)
            place |= strcmp(places[k], t->used.items[i].key) == 0;
        hash_text(h, t->used.items[i].key);
        hash_text(h, place ? "" : t->used.items[i].value);
    }
    mos_sha256_update(h, manner, sizeof manner);
    for (size_t i = 0; i < t->answers.count; i++)
        hash_text(h, mos_vec_pointer(&t->answers, i));
    mos_sha256_final(h, t->sha256);
    mos_sha256_free(h);
    return true;
}

/* Probes that do not hang on each other's results run together: the files are gone through until
 * nothing waits; what waits stands for itself meanwhile. */
struct mos_kc_tree *mos_kc_read(struct mos_ctx *ctx, const struct mos_kc_reading *reading) {
    enum { MOST_ROUNDS = 8 };
    struct mos_map sources = mos_map_make(ctx->arena);
    for (size_t i = 0; i < reading->files.count; i++)
        mos_map_set(&sources, reading->files.items[i].key, reading->files.items[i].value);
    struct mos_kc_probes *probes = reading->probes;
    struct mos_kc_tree *t = NULL;
    bool all_known = probes->results.count && !probes->runs; /* as far as we know: from last time */
    for (unsigned round = 0; round < MOST_ROUNDS && !ctx->error->kind; round++) {
        probes->guess = round + 1 < MOST_ROUNDS;
        bool last = all_known || !probes->guess; /* the tree of this one may stay */
        struct mos_arena *arena = last ? ctx->arena : mos_arena_child(ctx->arena);
        t = read_once(ctx, reading, arena, &sources);
        if (!last)
            mos_arena_free(arena);
        if (!probes->waiting.count && (last || !t))
            break;
        all_known = !probes->waiting.count;
        t = NULL;
        if (!all_known && !mos_kc_probe_waiting(probes))
            return NULL;
    }
    if (!t || ctx->error->kind || !kc_link(ctx, t))
        return NULL;
    return hash_all(ctx, t, &sources) ? t : NULL;
}
