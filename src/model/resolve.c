/* Resolving: a board, its traits and features and the chosen variants become one definition. */
#include "model/workspace_internal.h"

#include "base/text.h"
#include "model/slots.h"

#include <assert.h>
#include <stdlib.h>
#include <string.h>

/* Nothing states a date: a fixed one, so that outputs stay the same. */

struct resolver {
    struct mos_ctx *ctx;
    const struct mos_workspace *w;
    struct mos_vec origins; /* of struct mos_origin *, in order of merging */
    struct mos_map visited; /* trait -> its origin, or the mark of one that is being visited */
    struct mos_vec path;    /* of const struct mos_node *: the `traits:` items on the way */
};

static const char visiting;

/* ---- origins ---- */

static struct mos_origin *new_origin(struct resolver *r, const char *title,
                                     const struct mos_node *node) {
    struct mos_origin *l = mos_alloc(r->ctx->arena, sizeof *l);
    l->title = title;
    l->node = node;
    l->below = mos_vec_make(r->ctx->arena, sizeof(void *));
    return l;
}

static void put_above(struct mos_origin *above, const struct mos_origin *below) {
    mos_vec_push_pointer(&above->below, below);
    for (size_t i = 0; i < below->below.count; i++)
        mos_vec_push_pointer(&above->below, mos_vec_pointer(&below->below, i));
}

static void missing_part(struct resolver *r, const char *kind, const char *folder, const char *name,
                         struct mos_place place, enum mos_rule_id rule) {
    const struct mos_vec *known = *kind == 't' ? &r->w->trait_names : &r->w->feature_names;
    struct mos_findings *list = &r->ctx->findings;
    struct mos_finding *f = mos_find(list, rule, "There is no %s %s.", kind, name);
    mos_finding_at(list, f, place);
    const char *near = mos_near(name, known->items, known->count);
    mos_finding_why(list, f, "It would be the file %s/%s.yaml.", folder, name);
    if (near)
        mos_finding_try(list, f, "Write %s.", near);
    else
        mos_finding_try(list, f, "Correct the name, or write that file.");
}

static void tell_cycle(struct resolver *r, const char *name) {
    struct mos_findings *list = &r->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOARD_TRAIT_CYCLE, "Trait %s uses itself.", name);
    size_t from = r->path.count - 1; /* the last item names it again */
    while (from &&
           strcmp(((struct mos_node *)mos_vec_pointer(&r->path, from - 1))->text, name) != 0)
        from--;
    for (size_t i = from; i < r->path.count; i++)
        mos_finding_at(list, f, ((struct mos_node *)mos_vec_pointer(&r->path, i))->place);
    mos_finding_why(list, f, "Each of these uses the next.");
    mos_finding_try(list, f, "Remove one of them from its list of traits.");
}

static void visit_traits(struct resolver *r, const struct mos_node *node, struct mos_origin *taker);

static void visit_trait(struct resolver *r, const struct mos_node *item, struct mos_origin *taker) {
    if (item->kind != MOS_NODE_SCALAR || !*item->text || strstr(item->text, ".."))
        return; /* there is a finding already */
    struct mos_origin *l = mos_map_get(&r->visited, item->text);
    mos_vec_push_pointer(&r->path, item);
    if (l == (const void *)&visiting) {
        tell_cycle(r, item->text);
    } else if (l) {
        put_above(taker, l);
    } else {
        const struct mos_part *part = mos_map_get(&r->w->traits, item->text);
        if (!part)
            missing_part(r, "trait", "traits", item->text, item->place,
                         MOS_RULE_BOARD_TRAIT_MISSING);
        if (part && part->node) {
            mos_map_set_const(&r->visited, item->text, &visiting);
            l = new_origin(r, mos_printf(r->ctx->arena, "trait %s", item->text), part->node);
            visit_traits(r, part->node, l);
            mos_vec_push_pointer(&r->origins, l);
            mos_map_set(&r->visited, item->text, l);
            put_above(taker, l);
        }
    }
    r->path.count--;
}

static void visit_traits(struct resolver *r, const struct mos_node *node,
                         struct mos_origin *taker) {
    const struct mos_node *traits = mos_node_get(node, "traits");
    if (traits && traits->kind == MOS_NODE_SCALAR)
        visit_trait(r, traits, taker);
    for (size_t i = 0; traits && traits->kind == MOS_NODE_LIST && i < traits->count; i++)
        visit_trait(r, traits->items[i], taker);
}

static struct resolver start(struct mos_ctx *ctx, const struct mos_workspace *w) {
    return (struct resolver){.ctx = ctx,
                             .w = w,
                             .origins = mos_vec_make(ctx->arena, sizeof(void *)),
                             .visited = mos_map_make(ctx->arena),
                             .path = mos_vec_make(ctx->arena, sizeof(void *))};
}

/* One key of every origin so far, merged; NULL: nobody states it. */
static struct mos_node *merge_key(struct resolver *r, const char *name, bool keep_removals,
                                  bool ranked) {
    const struct mos_key *key = mos_schema_key(&mos_board_keys, name);
    struct mos_node *out = NULL;
    for (size_t i = 0; i < r->origins.count; i++) {
        const struct mos_origin *l = mos_vec_pointer(&r->origins, i);
        const struct mos_node *n = mos_node_get(l->node, name);
        if (n && n->kind != MOS_NODE_SCALAR)
            out = mos_merge_named(r->ctx, key, out, n, ranked ? l : NULL, keep_removals);
    }
    return out;
}

const struct mos_node *mos_collect_variants(struct mos_ctx *ctx, const struct mos_workspace *w,
                                            const struct mos_part *board) {
    struct mos_findings said = ctx->findings; /* what is wrong with traits is said by resolving */
    ctx->findings = mos_findings_make(ctx->arena);
    struct resolver r = start(ctx, w);
    struct mos_origin *l = new_origin(&r, "board", board->node);
    visit_traits(&r, board->node, l);
    mos_vec_push_pointer(&r.origins, l);
    struct mos_node *variants = merge_key(&r, "variants", true, false);
    ctx->findings = said;
    if (!variants || variants->kind != MOS_NODE_MAP)
        return NULL;
    size_t count = 0;
    for (size_t i = 0; i < variants->count; i++)
        if (variants->items[i]->key[0] != '~' && variants->items[i]->kind == MOS_NODE_MAP)
            variants->items[count++] = variants->items[i];
    variants->count = count;
    return count ? variants : NULL;
}

/* ---- features ---- */

/* What stands at a path of keys ("hardware.console.port"), with nothing beside it; NULL: nothing
 * does. */
static struct mos_node *only(struct resolver *r, const struct mos_node *node, const char *path) {
    size_t n = strcspn(path, ".");
    for (size_t i = 0; node->kind == MOS_NODE_MAP && i < node->count; i++) {
        const struct mos_node *item = node->items[i];
        if (strlen(item->key) != n || strncmp(item->key, path, n) != 0)
            continue;
        struct mos_node *out = mos_alloc(r->ctx->arena, sizeof *out),
                        *inside = mos_alloc(r->ctx->arena, sizeof *inside);
        *inside = *item;
        if (path[n] && !(inside = only(r, item, path + n + 1)))
            return NULL;
        inside->key = item->key;
        inside->key_place = item->key_place;
        *out = *node;
        out->items = mos_alloc_array(r->ctx->arena, 1, sizeof *out->items);
        out->items[0] = inside;
        out->count = 1;
        return out;
    }
    return NULL;
}

/* What a feature says that it replaces becomes an origin above the board. */
static void add_replaced(struct resolver *r, const char *name, const struct mos_node *feature,
                         const struct mos_origin *board) {
    const struct mos_node *list = mos_node_get(feature, "replaces");
    size_t count = list && list->kind == MOS_NODE_LIST ? list->count : list != NULL;
    for (size_t i = 0; i < count; i++) {
        const struct mos_node *path = list->kind == MOS_NODE_LIST ? list->items[i] : list;
        if (path->kind != MOS_NODE_SCALAR || !*path->text)
            continue;
        struct mos_node *node = only(r, feature, path->text);
        if (node) {
            struct mos_origin *l =
                new_origin(r, mos_printf(r->ctx->arena, "feature %s", name), node);
            put_above(l, board);
            mos_vec_push_pointer(&r->origins, l);
            continue;
        }
        struct mos_finding *f =
            mos_find(&r->ctx->findings, MOS_RULE_BOARD_REFERENCE,
                     "Feature %s replaces %s, and does not state it.", name, path->text);
        mos_finding_at(&r->ctx->findings, f, path->place);
        mos_finding_try(&r->ctx->findings, f, "Add %s to the feature, or remove it here.",
                        path->text);
    }
}

/* The features in use become origins between traits and board. */
static void add_features(struct resolver *r, struct mos_vec *parts, struct mos_origin *board) {
    struct mos_node *use = merge_key(r, "features", false, true);
    for (size_t i = 0; use && use->kind == MOS_NODE_MAP && i < use->count; i++) {
        const char *name = use->items[i]->key;
        const struct mos_part *part = mos_map_get(&r->w->features, name);
        if (strpbrk(name, " /\t\n\"'=:,")) /* no name: that is told already */
            continue;
        if (!part) {
            missing_part(r, "feature", "features", name, use->items[i]->key_place,
                         MOS_RULE_BOARD_REFERENCE);
            continue;
        }
        if (!part->node)
            continue;
        struct mos_origin *l =
            new_origin(r, mos_printf(r->ctx->arena, "feature %s", name), part->node);
        l->adds = true;
        put_above(board, l);
        mos_vec_push_pointer(&r->origins, l); /* moved in front of the board below */
        mos_vec_push_pointer(parts, part);
    }
}

/* Features were added last, since variants may name them: the origins from `first` on belong in
 * front of the one at `to`. */
static void move_origins(struct resolver *r, size_t to, size_t first) {
    assert(to <= first && first <= r->origins.count);
    void **items = r->origins.items;
    size_t count = r->origins.count - first;
    void **moved = mos_alloc_array(r->ctx->arena, count, sizeof *moved);
    memcpy(moved, items + first, count * sizeof *moved);
    memmove(items + to + count, items + to, (first - to) * sizeof *items);
    memcpy(items + to, moved, count * sizeof *moved);
}

/* ---- the merged definition ---- */

/* A origin's own keys, which say nothing about the board. */
static bool is_head(const char *key) {
    static const char *const heads[] = {"mosaicum", "board",    "trait",  "feature",
                                        "traits",   "about",    "axis",   "outside",
                                        "needs",    "variants", "status", "replaces"};
    for (size_t i = 0; i < sizeof heads / sizeof *heads; i++)
        if (strcmp(key, heads[i]) == 0)
            return true;
    return false;
}

static const struct mos_node *without_head(struct mos_ctx *ctx, const struct mos_node *node,
                                           bool board) {
    struct mos_node *n = mos_alloc(ctx->arena, sizeof *n);
    *n = *node;
    n->key = NULL;
    n->items = mos_alloc_array(ctx->arena, node->count, sizeof *n->items);
    n->count = 0;
    for (size_t i = 0; node->kind == MOS_NODE_MAP && i < node->count; i++) {
        const char *key = node->items[i]->key;
        bool kept = board && (strcmp(key, "mosaicum") == 0 || strcmp(key, "board") == 0 ||
                              strcmp(key, "about") == 0);
        if (kept || !is_head(key))
            n->items[n->count++] = node->items[i];
    }
    return n;
}

static struct mos_node *merge_layers(struct resolver *r, const struct mos_origin *board) {
    struct mos_node *out = NULL;
    for (size_t i = 0; i < r->origins.count; i++) {
        const struct mos_origin *l = mos_vec_pointer(&r->origins, i);
        if (l->node->kind != MOS_NODE_MAP)
            continue;
        out = mos_merge(r->ctx, &mos_board_keys, out, without_head(r->ctx, l->node, l == board), l,
                        false);
    }
    return out;
}

static void tell_retired(struct mos_ctx *ctx, const struct mos_node *variant) {
    const struct mos_node *status = mos_node_get(variant, "status");
    if (!status || status->kind != MOS_NODE_SCALAR)
        return;
    struct mos_finding *f =
        mos_find(&ctx->findings, MOS_RULE_BOARD_RETIRED, "Variant %s is retired.", variant->key);
    mos_finding_at(&ctx->findings, f, status->place);
    mos_finding_try(&ctx->findings, f, "Choose another variant, or remove status.");
}

static void add_variants(struct resolver *r, const struct mos_selection *s,
                         const struct mos_origin *board) {
    for (size_t i = 0; i < s->variants.count; i++) {
        const struct mos_node *v = mos_vec_pointer(&s->variants, i);
        tell_retired(r->ctx, v);
        struct mos_origin *l = new_origin(r, mos_printf(r->ctx->arena, "variant %s", v->key), v);
        size_t before = r->origins.count;
        visit_traits(r, v, l);
        for (size_t k = before; k < r->origins.count; k++)
            put_above(mos_vec_pointer(&r->origins, k), board);
        put_above(l, board);
        mos_vec_push_pointer(&r->origins, l);
    }
}

static int64_t choose_date(struct mos_ctx *ctx, const struct mos_workspace *w) {
    return mos_has(w->date) ? (int64_t)w->date->number : mos_date(ctx);
}

static struct mos_board *read_board(struct mos_ctx *ctx, const struct mos_workspace *w,
                                    const struct mos_selection *s, struct mos_node *node) {
    struct mos_board *board = mos_alloc(ctx->arena, sizeof *board);
    if (node) {
        mos_merge_order(ctx, &mos_board_keys, node);
        mos_merge_clashes(ctx, node);
        mos_schema_read(ctx, &mos_board_keys, node, MOS_READ_MERGED, board);
    }
    board->r.name = s->board->name;
    board->selector = s->text;
    board->workspace_name = mos_text_or(w->name, "unnamed");
    board->root = w->root;
    board->pins = w->pins;
    board->field = mos_purpose_of(board->purpose) == MOS_PURPOSE_FIELD;
    board->date = choose_date(ctx, w);
    return board;
}

struct mos_board *mos_board_resolve(struct mos_ctx *ctx, const struct mos_workspace *w,
                                    const struct mos_selection *s) {
    struct resolver r = start(ctx, w);
    struct mos_vec features = mos_vec_make(ctx->arena, sizeof(void *));
    ctx->findings.selector = s->text;
    struct mos_origin *board = new_origin(&r, "the board", s->board->node);
    visit_traits(&r, s->board->node, board);
    size_t at = r.origins.count;
    board->orders = true;
    mos_vec_push_pointer(&r.origins, board);
    if (s->board->waivers) {
        struct mos_origin *l = new_origin(&r, "the file of waivers", s->board->waivers);
        put_above(l, board);
        mos_vec_push_pointer(&r.origins, l);
    }
    add_variants(&r, s, board);
    size_t first_feature = r.origins.count;
    add_features(&r, &features, board);
    size_t end = r.origins.count;
    for (size_t i = 0; i < features.count; i++) {
        const struct mos_part *part = mos_vec_pointer(&features, i);
        add_replaced(&r, part->name, part->node, board);
    }
    move_origins(&r, at + 1, end);
    move_origins(&r, at, first_feature + (r.origins.count - end));
    struct mos_board *out = read_board(ctx, w, s, mos_slots_apart(ctx, merge_layers(&r, board)));
    out->feature_parts = features;
    ctx->findings.field = out->field;
    mos_schema_refer(ctx, out);
    return out;
}
