#include "model/schema.h"

#include "base/text.h"

#include <string.h>

/* All things of each kind that can be referred to. */
struct index {
    struct mos_vec things[MOS_REFERS_COUNT]; /* of struct mos_record * */
};

static const char *const kind_names[] = {[MOS_REFERS_NOTHING] = "thing",
                                         [MOS_REFERS_PIECE] = "piece",
                                         [MOS_REFERS_REGION] = "region",
                                         [MOS_REFERS_MEDIUM] = "medium",
                                         [MOS_REFERS_STAGE] = "stage",
                                         [MOS_REFERS_BLOB] = "tree blob",
                                         [MOS_REFERS_ENVIRONMENT] = "environment",
                                         [MOS_REFERS_FRAGMENT] = "fragment",
                                         [MOS_REFERS_AREA] = "area",
                                         [MOS_REFERS_CONTENT] = "piece or region"};

static void collect(struct index *x, enum mos_refers kind, const struct mos_named *named) {
    for (size_t i = 0; i < named->count; i++)
        mos_vec_push_pointer(&x->things[kind], named->items[i]);
}

static void collect_all(struct mos_ctx *ctx, struct index *x, struct mos_board *b) {
    for (int k = 0; k < MOS_REFERS_COUNT; k++)
        x->things[k] = mos_vec_make(ctx->arena, sizeof(void *));
    collect(x, MOS_REFERS_PIECE, &b->pieces);
    collect(x, MOS_REFERS_STAGE, &b->stages);
    collect(x, MOS_REFERS_CONTENT, &b->pieces);
    if (b->hardware)
        collect(x, MOS_REFERS_MEDIUM, &b->hardware->media);
    for (size_t i = 0; b->hardware && i < b->hardware->media.count; i++)
        collect(x, MOS_REFERS_AREA, &((struct mos_medium *)b->hardware->media.items[i])->areas);
    if (b->tree)
        collect(x, MOS_REFERS_BLOB, &b->tree->blobs);
    if (b->loader)
        collect(x, MOS_REFERS_ENVIRONMENT, &b->loader->environments);
    if (b->kernel && b->kernel->config)
        collect(x, MOS_REFERS_FRAGMENT, &b->kernel->config->fragments);
    if (b->loader && b->loader->config)
        collect(x, MOS_REFERS_FRAGMENT, &b->loader->config->fragments);
    for (size_t i = 0; i < b->layout.count; i++) {
        collect(x, MOS_REFERS_REGION, &((struct mos_layout *)b->layout.items[i])->regions);
        collect(x, MOS_REFERS_CONTENT, &((struct mos_layout *)b->layout.items[i])->regions);
    }
}

/* How many things have that name; *found is the last. */
static size_t look_up(const struct index *x, enum mos_refers kind, const char *name,
                      const struct mos_record **found) {
    size_t n = 0;
    for (size_t i = 0; i < x->things[kind].count; i++) {
        const struct mos_record *r = mos_vec_pointer(&x->things[kind], i);
        if (strcmp(r->name, name) == 0) {
            *found = r;
            n++;
        }
    }
    return n;
}

static void suggest(struct mos_ctx *ctx, const struct index *x, enum mos_refers kind,
                    const char *name, struct mos_finding *f) {
    const struct mos_vec *things = &x->things[kind];
    const char **names = mos_alloc_array(ctx->arena, things->count + 1, sizeof *names);
    struct mos_buf all = {.arena = ctx->arena};
    for (size_t i = 0; i < things->count; i++) {
        names[i] = ((struct mos_record *)mos_vec_pointer(things, i))->name;
        if (i < 12)
            mos_buf_printf(&all, "%s%s", i ? ", " : "", names[i]);
    }
    const char *near = mos_near(name, names, things->count);
    const struct mos_record *other = NULL;
    for (int k = 1; k < MOS_REFERS_CONTENT && !near; k++)
        if (k != (int)kind && look_up(x, (enum mos_refers)k, name, &other))
            mos_finding_why(&ctx->findings, f, "%s is a %s; a %s is needed here.", name,
                            kind_names[k], kind_names[kind]);
    if (near)
        mos_finding_try(&ctx->findings, f, "Write %s.", near);
    else if (things->count)
        mos_finding_try(&ctx->findings, f, "Choose one of the known %ss: %s.", kind_names[kind],
                        mos_buf_string(&all));
    else
        mos_finding_try(&ctx->findings, f, "Add one: this board has no %s yet.", kind_names[kind]);
}

static const struct mos_record *refer(struct mos_ctx *ctx, const struct index *x,
                                      enum mos_refers kind, const char *name,
                                      struct mos_place place) {
    const struct mos_record *found = NULL;
    size_t n = look_up(x, kind, name, &found);
    if (n == 1)
        return found;
    struct mos_finding *f = mos_find(&ctx->findings, MOS_RULE_BOARD_REFERENCE,
                                     n ? "There is more than one %s %s." : "There is no %s %s.",
                                     kind_names[kind], name);
    mos_finding_at(&ctx->findings, f, place);
    if (n == 0) {
        suggest(ctx, x, kind, name, f);
        return NULL;
    }
    for (size_t i = 0; i < x->things[kind].count; i++) {
        const struct mos_record *r = mos_vec_pointer(&x->things[kind], i);
        if (strcmp(r->name, name) == 0)
            mos_finding_at(&ctx->findings, f, r->key_place);
    }
    mos_finding_why(&ctx->findings, f, "Nobody can tell which of them is meant.");
    mos_finding_try(&ctx->findings, f, "Give one of them another name.");
    return NULL;
}

static void refer_value(struct mos_ctx *ctx, const struct index *x, const struct mos_key *key,
                        struct mos_value *v) {
    if (!mos_has(v) || (key->refers == MOS_REFERS_STAGE && strcmp(v->text, "rom") == 0))
        return;
    v->target = refer(ctx, x, key->refers, v->text, v->place);
    v->broken = v->target == NULL;
}

static void refer_record(struct mos_ctx *ctx, const struct index *x, const struct mos_keys *keys,
                         void *record);

static void refer_named(struct mos_ctx *ctx, const struct index *x, const struct mos_key *key,
                        struct mos_named *named) {
    for (size_t i = 0; i < named->count; i++) {
        struct mos_record *r = named->items[i];
        if (key->refers && !refer(ctx, x, key->refers, r->name, r->key_place))
            r->broken = true;
        refer_record(ctx, x, key->record, r);
    }
}

static void refer_record(struct mos_ctx *ctx, const struct index *x, const struct mos_keys *keys,
                         void *record) {
    for (size_t i = 0; i < keys->count; i++) {
        const struct mos_key *key = &keys->keys[i];
        void *at = (char *)record + key->offset;
        if (key->type == MOS_TYPE_NAMED) {
            refer_named(ctx, x, key, at);
        } else if (key->type == MOS_TYPE_RECORD) {
            void *inner;
            memcpy(&inner, at, sizeof inner);
            if (inner)
                refer_record(ctx, x, key->record, inner);
        } else if (key->type == MOS_TYPE_REFERENCE) {
            struct mos_value *v;
            memcpy(&v, at, sizeof v);
            refer_value(ctx, x, key, v);
        } else if (key->type == MOS_TYPE_LIST && key->of == MOS_TYPE_REFERENCE) {
            struct mos_list *list = at;
            for (size_t k = 0; k < list->count; k++)
                refer_value(ctx, x, key, list->items[k]);
        }
    }
}

void mos_schema_refer(struct mos_ctx *ctx, struct mos_board *board) {
    struct index *x = mos_alloc(ctx->arena, sizeof *x);
    collect_all(ctx, x, board);
    refer_record(ctx, x, &mos_board_keys, board);
}

void *mos_named_get(const struct mos_named *named, const char *name) {
    for (size_t i = 0; i < named->count; i++)
        if (strcmp(((struct mos_record *)named->items[i])->name, name) == 0)
            return named->items[i];
    return NULL;
}
