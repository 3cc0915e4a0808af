#include "model/merge.h"

#include "base/text.h"

#include <assert.h>
#include <ctype.h>
#include <string.h>

struct merger {
    struct mos_ctx *ctx;
    const struct mos_origin *origin;
    bool keep_removals;
};

static struct mos_node *merge_record(struct merger *m, const struct mos_keys *keys,
                                     const struct mos_node *lower, const struct mos_node *upper);
static struct mos_node *merge_value(struct merger *m, const struct mos_key *key,
                                    const struct mos_node *lower, const struct mos_node *upper);

/* ---- nodes of our own ---- */

static struct mos_node *copy_of(struct merger *m, const struct mos_node *from) {
    assert(from);
    struct mos_node *n = mos_alloc(m->ctx->arena, sizeof *n);
    *n = *from;
    if (!n->origin)
        n->origin = m->origin;
    n->removed = mos_vec_make(m->ctx->arena, sizeof(struct mos_removal));
    for (size_t i = 0; i < from->removed.count; i++)
        *(struct mos_removal *)mos_vec_push(&n->removed) =
            *(struct mos_removal *)mos_vec_at(&from->removed, i);
    return n;
}

/* An empty map that stands where `like` stands; `room` items may be put into it. */
static struct mos_node *empty_map(struct merger *m, const struct mos_node *like, size_t room) {
    struct mos_node *n = copy_of(m, like);
    n->kind = MOS_NODE_MAP;
    n->text = "";
    n->items = mos_alloc_array(m->ctx->arena, room, sizeof *n->items);
    n->count = 0;
    return n;
}

static bool is_nothing(const struct mos_node *n) {
    return n->kind == MOS_NODE_SCALAR && !*n->text && n->plain;
}

/* The map that a node stands for: itself, or what its short form means; NULL: none. */
static const struct mos_node *as_record(struct merger *m, const struct mos_keys *keys,
                                        const struct mos_node *n) {
    if (n->kind == MOS_NODE_MAP)
        return n;
    bool text = keys->brief && mos_schema_key(keys, keys->brief)->type == MOS_TYPE_TEXT;
    if (is_nothing(n) && !text)
        return empty_map(m, n, 0);
    if (!keys->brief)
        return NULL;
    struct mos_node *map = empty_map(m, n, 1), *value = copy_of(m, n);
    value->key = keys->brief;
    map->items[map->count++] = value;
    assert(map->count == 1);
    return map;
}

static const struct mos_node *as_named(struct merger *m, const struct mos_key *key,
                                       const struct mos_node *n) {
    if (n->kind == MOS_NODE_MAP)
        return n;
    if (is_nothing(n))
        return empty_map(m, n, 0);
    if (n->kind != MOS_NODE_LIST || !key->listed)
        return NULL;
    struct mos_node *map = empty_map(m, n, n->count);
    for (size_t i = 0; i < n->count; i++) {
        if (n->items[i]->kind != MOS_NODE_SCALAR || !*n->items[i]->text)
            continue;
        struct mos_node *item = empty_map(m, n->items[i], 0);
        item->key = n->items[i]->text;
        item->key_place = n->items[i]->place;
        map->items[map->count++] = item;
    }
    return map;
}

static size_t index_of(const struct mos_node *map, const char *key) {
    assert(key);
    size_t i = 0;
    while (i < map->count && strcmp(map->items[i]->key, key) != 0)
        i++;
    return i;
}

/* ---- removing ---- */

static void nothing_to_remove(struct merger *m, const struct mos_node *map,
                              const struct mos_node *item) {
    struct mos_findings *list = &m->ctx->findings;
    struct mos_finding *f =
        mos_find(list, MOS_RULE_BOARD_REFERENCE, "There is no %s to remove here.", item->key + 1);
    mos_finding_at(list, f, item->key_place);
    const char **names = mos_alloc_array(m->ctx->arena, map->count, sizeof *names);
    for (size_t i = 0; i < map->count; i++)
        names[i] = map->items[i]->key;
    const char *near = mos_near(item->key + 1, names, map->count);
    mos_finding_why(list, f, "~name takes out what a trait, a feature or the board has put in.");
    if (near)
        mos_finding_try(list, f, "Write ~%s.", near);
    else
        mos_finding_try(list, f, "Remove %s.", item->key);
}

static void take_out(struct mos_node *map, size_t at) {
    assert(at < map->count);
    memmove(map->items + at, map->items + at + 1, (map->count - at - 1) * sizeof *map->items);
    map->count--;
}

static void remove_item(struct merger *m, struct mos_node *map, const struct mos_node *item) {
    size_t at = index_of(map, item->key + 1);
    if (at < map->count) {
        *(struct mos_removal *)mos_vec_push(&map->removed) =
            (struct mos_removal){map->items[at], item};
        take_out(map, at);
    } else if (!m->keep_removals) {
        nothing_to_remove(m, map, item);
    }
    if (m->keep_removals && index_of(map, item->key) == map->count)
        map->items[map->count++] = copy_of(m, item);
}

static bool is_removal(const struct mos_node *item) {
    return item->key[0] == '~' && item->key[1];
}

/* What of `lower` stays, in a map with room for all of `upper`. */
static struct mos_node *start_map(struct merger *m, const struct mos_keys *keys,
                                  const struct mos_node *lower, const struct mos_node *upper) {
    struct mos_node *out =
        empty_map(m, lower ? lower : upper, (lower ? lower->count : 0) + upper->count);
    for (size_t i = 0; lower && i < lower->count; i++)
        out->items[out->count++] = lower->items[i];
    for (size_t i = 0; i < upper->count; i++)
        if (is_removal(upper->items[i]) && /* unknown keys are told already */
            (!keys || mos_schema_key(keys, upper->items[i]->key + 1)))
            remove_item(m, out, upper->items[i]);
    return out;
}

/* ---- merging ---- */

/* A map that is put together: where each key of a large one is. */
struct builder {
    struct mos_node *map;
    struct mos_map places; /* key -> item; empty: the map is small, and looked through */
};

enum { SMALL = 16 };

static struct builder build_on(struct merger *m, struct mos_node *map, size_t more) {
    struct builder b = {map, mos_map_make(m->ctx->arena)};
    for (size_t i = 0; i < map->count && map->count + more > SMALL; i++)
        if (!mos_map_get(&b.places, map->items[i]->key)) /* the first of a name counts */
            mos_map_set(&b.places, map->items[i]->key, &map->items[i]);
    return b;
}

/* Where an item of that name is; NULL: there is none. */
static struct mos_node **item_of(const struct builder *b, const char *key) {
    if (b->places.count)
        return mos_map_get(&b->places, key);
    size_t at = index_of(b->map, key);
    return at < b->map->count ? &b->map->items[at] : NULL;
}

static void put(struct builder *b, struct mos_node *item) {
    struct mos_node **at = item_of(b, item->key);
    if (at) {
        *at = item;
        return;
    }
    at = &b->map->items[b->map->count++];
    *at = item;
    if (b->places.count || b->map->count > SMALL) {
        for (size_t i = 0; !b->places.count && i + 1 < b->map->count; i++)
            mos_map_set(&b->places, b->map->items[i]->key, &b->map->items[i]);
        mos_map_set(&b->places, item->key, at);
    }
}

/* What only features have mentioned so far leaves its place when the board comes: it stands where
 * the board puts it, or (some maps) behind all that the board has.  Returns it by its names. */
static struct mos_map give_way(struct merger *m, const struct mos_key *key, struct mos_node *map,
                               const struct mos_node *upper) {
    struct mos_map out = mos_map_make(m->ctx->arena);
    assert(upper && upper->kind == MOS_NODE_MAP);
    size_t kept = 0;
    for (size_t i = 0; i < map->count; i++) {
        struct mos_node *item = map->items[i];
        if (m->origin && m->origin->orders && item->origin && item->origin->adds &&
            !is_removal(item) && (key->behind || index_of(upper, item->key) < upper->count))
            mos_map_set(&out, item->key, item);
        else
            map->items[kept++] = item;
    }
    map->count = kept;
    return out;
}

static struct mos_node *merge_named(struct merger *m, const struct mos_key *key,
                                    const struct mos_node *lower, const struct mos_node *upper) {
    lower = lower ? as_named(m, key, lower) : NULL;
    const struct mos_node *map = as_named(m, key, upper);
    if (!map)
        return copy_of(m, upper);
    struct mos_node *start = start_map(m, NULL, lower, map);
    struct mos_map moved = give_way(m, key, start, map);
    struct builder b = build_on(m, start, map->count);
    for (size_t i = 0; i < map->count; i++) {
        const struct mos_node *item = map->items[i];
        if (is_removal(item))
            continue;
        struct mos_node **at = item_of(&b, item->key);
        put(&b, merge_record(m, key->record, at ? *at : mos_map_get(&moved, item->key), item));
    }
    for (size_t i = 0; i < moved.count; i++)
        if (!item_of(&b, moved.items[i].key))
            put(&b, (struct mos_node *)moved.items[i].value);
    return b.map;
}

static struct mos_node *replace(struct merger *m, const struct mos_node *lower,
                                const struct mos_node *upper) {
    struct mos_node *n = copy_of(m, upper);
    if (lower) {
        n->replaced = lower;
        n->place.replaced = &lower->place;
    }
    return n;
}

static struct mos_node *merge_value(struct merger *m, const struct mos_key *key,
                                    const struct mos_node *lower, const struct mos_node *upper) {
    if (key && key->type == MOS_TYPE_RECORD)
        return merge_record(m, key->record, lower, upper);
    if (key && key->type == MOS_TYPE_NAMED)
        return merge_named(m, key, lower, upper);
    return replace(m, lower, upper);
}

static struct mos_node *merge_record(struct merger *m, const struct mos_keys *keys,
                                     const struct mos_node *lower, const struct mos_node *upper) {
    lower = lower ? as_record(m, keys, lower) : NULL;
    const struct mos_node *map = as_record(m, keys, upper);
    if (!map)
        return copy_of(m, upper);
    struct builder b = build_on(m, start_map(m, keys, lower, map), map->count);
    for (size_t i = 0; i < map->count; i++) {
        const struct mos_node *item = map->items[i];
        if (is_removal(item))
            continue;
        struct mos_node **at = item_of(&b, item->key);
        put(&b, merge_value(m, mos_schema_key(keys, item->key), at ? *at : NULL, item));
    }
    return b.map;
}

struct mos_node *mos_merge(struct mos_ctx *ctx, const struct mos_keys *keys,
                           const struct mos_node *lower, const struct mos_node *upper,
                           const struct mos_origin *origin, bool keep_removals) {
    struct merger m = {ctx, origin, keep_removals};
    return merge_record(&m, keys, lower, upper);
}

struct mos_node *mos_merge_named(struct mos_ctx *ctx, const struct mos_key *key,
                                 const struct mos_node *lower, const struct mos_node *upper,
                                 const struct mos_origin *origin, bool keep_removals) {
    struct merger m = {ctx, origin, keep_removals};
    return merge_named(&m, key, lower, upper);
}

/* ---- order ---- */

struct sorter {
    struct mos_ctx *ctx;
    const struct mos_node *map;
    const char **anchors; /* of each item: the name it goes to, or NULL */
    bool *before, *done;
    struct mos_node **out;
    size_t count;
};

/* Puts an item out with everything that hangs on it, in the order of the map. */
static void put_out(struct sorter *s, size_t at) {
    if (s->done[at])
        return;
    s->done[at] = true;
    for (int pass = 0; pass < 2; pass++) {
        for (size_t i = 0; i < s->map->count; i++)
            if (s->anchors[i] && !s->done[i] && s->before[i] == (pass == 0) &&
                strcmp(s->anchors[i], s->map->items[at]->key) == 0)
                put_out(s, i);
        if (pass == 0)
            s->out[s->count++] = s->map->items[at];
    }
}

static const struct mos_node *move_of(const struct mos_node *item) {
    const struct mos_node *after = mos_node_get(item, "after");
    return after ? after : mos_node_get(item, "before");
}

static void bad_move(struct mos_ctx *ctx, const struct mos_node *map, const struct mos_node *item,
                     bool circle) {
    const struct mos_node *move = move_of(item);
    struct mos_findings *list = &ctx->findings;
    struct mos_finding *f = circle
                                ? mos_find(list, MOS_RULE_BOARD_REFERENCE,
                                           "%s: %s goes round in a circle.", move->key, move->text)
                                : mos_find(list, MOS_RULE_BOARD_REFERENCE,
                                           "There is no %s beside %s here.", move->text, item->key);
    mos_finding_at(&ctx->findings, f, move->place);
    const char **names = mos_alloc_array(ctx->arena, map->count, sizeof *names);
    for (size_t i = 0; i < map->count; i++)
        names[i] = map->items[i]->key;
    const char *near = circle ? NULL : mos_near(move->text, names, map->count);
    mos_finding_try(&ctx->findings, f, "Write %s: %s.", move->key,
                    near ? near : "and the name of another thing of the same map");
}

static void order_map(struct mos_ctx *ctx, struct mos_node *map) {
    bool moves = false;
    for (size_t i = 0; i < map->count; i++)
        moves |= move_of(map->items[i]) != NULL;
    if (!moves)
        return;
    struct sorter s = {.ctx = ctx, .map = map};
    s.anchors = mos_alloc_array(ctx->arena, map->count, sizeof *s.anchors);
    s.before = mos_alloc_array(ctx->arena, map->count, sizeof *s.before);
    s.done = mos_alloc_array(ctx->arena, map->count, sizeof *s.done);
    s.out = mos_alloc_array(ctx->arena, map->count, sizeof *s.out);
    for (size_t i = 0; i < map->count; i++) {
        const struct mos_node *move = move_of(map->items[i]);
        if (!move)
            continue;
        if (index_of(map, move->text) < map->count) {
            s.anchors[i] = move->text;
            s.before[i] = strcmp(move->key, "before") == 0;
        } else {
            bad_move(ctx, map, map->items[i], false);
        }
    }
    for (size_t i = 0; i < map->count; i++)
        if (!s.anchors[i])
            put_out(&s, i);
    for (size_t i = 0; i < map->count; i++)
        if (!s.done[i]) {
            bad_move(ctx, map, map->items[i], true);
            put_out(&s, i);
        }
    map->items = s.out;
}

/* after: and before: are instructions, no values: they go when they are carried out. */
static void forget_move(struct mos_node *item) {
    for (size_t i = item->kind == MOS_NODE_MAP ? item->count : 0; i; i--)
        if (strcmp(item->items[i - 1]->key, "after") == 0 ||
            strcmp(item->items[i - 1]->key, "before") == 0)
            take_out(item, i - 1);
}

void mos_merge_order(struct mos_ctx *ctx, const struct mos_keys *keys, struct mos_node *node) {
    for (size_t i = 0; node->kind == MOS_NODE_MAP && i < node->count; i++) {
        const struct mos_key *key = mos_schema_key(keys, node->items[i]->key);
        struct mos_node *inner = node->items[i];
        if (!key || inner->kind != MOS_NODE_MAP)
            continue;
        if (key->type == MOS_TYPE_RECORD)
            mos_merge_order(ctx, key->record, inner);
        if (key->type != MOS_TYPE_NAMED)
            continue;
        order_map(ctx, inner);
        for (size_t k = 0; k < inner->count; k++) {
            forget_move(inner->items[k]);
            mos_merge_order(ctx, key->record, inner->items[k]);
        }
    }
}

/* ---- clashes ---- */

static bool may_override(const struct mos_origin *a, const struct mos_origin *b) {
    for (size_t i = 0; i < a->below.count; i++)
        if (mos_vec_pointer(&a->below, i) == b)
            return true;
    return a == b;
}

static bool same_text(const struct mos_node *a, const struct mos_node *b) {
    if (a->kind != b->kind || a->count != b->count || strcmp(a->text, b->text) != 0)
        return false;
    for (size_t i = 0; i < a->count; i++)
        if (!same_text(a->items[i], b->items[i]))
            return false;
    return true;
}

static const char *shown(struct mos_arena *arena, const struct mos_node *n) {
    const char *text = mos_node_text(arena, n);
    return *text ? text : "nothing";
}

static void look_for_clash(struct mos_ctx *ctx, const char *path, const struct mos_node *n) {
    for (const struct mos_node *old = n->replaced; old; old = old->replaced) {
        if (!n->origin || !old->origin)
            continue;
        bool settled = same_text(n, old);
        for (const struct mos_node *o = n; o != old && !settled; o = o->replaced)
            settled = may_override(o->origin, old->origin); /* it counts no more */
        if (settled)
            continue;
        struct mos_finding *f =
            mos_find(&ctx->findings, MOS_RULE_BOARD_TRAIT_CLASH,
                     "%c%s and %s set %s differently: %s and %s.",
                     toupper((unsigned char)old->origin->title[0]), old->origin->title + 1,
                     n->origin->title, path, shown(ctx->arena, old), shown(ctx->arena, n));
        struct mos_place here = n->place;
        here.replaced = NULL; /* the other place is shown by itself */
        mos_finding_at(&ctx->findings, f, old->place);
        mos_finding_at(&ctx->findings, f, here);
        mos_finding_why(&ctx->findings, f, "Neither uses the other, so neither may override it.");
        mos_finding_try(&ctx->findings, f,
                        "State the value in the board itself, or let one of them use the other.");
        return;
    }
}

static void walk_clashes(struct mos_ctx *ctx, const char *path, const struct mos_node *n) {
    if (n->kind != MOS_NODE_MAP) {
        look_for_clash(ctx, path, n);
        return;
    }
    for (size_t i = 0; i < n->count; i++) {
        const struct mos_node *item = n->items[i];
        if (item->kind == MOS_NODE_MAP || item->replaced)
            walk_clashes(ctx, *path ? mos_printf(ctx->arena, "%s.%s", path, item->key) : item->key,
                         item);
    }
}

void mos_merge_clashes(struct mos_ctx *ctx, const struct mos_node *node) {
    walk_clashes(ctx, "", node);
}
