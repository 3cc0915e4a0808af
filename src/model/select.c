/* Selectors: curlew, curlew+ram-1g+field, *+field. */
#include "model/workspace_internal.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

enum { MOST_COMBINATIONS = 10000, MOST_PARTS = 32 };

static bool fits(const char *pattern, const char *text) {
    return mos_glob(pattern, text, strlen(text), 0);
}

static const char *axis_of(const struct mos_node *variant) {
    const struct mos_node *axis = mos_node_get(variant, "axis");
    return axis && axis->kind == MOS_NODE_SCALAR && *axis->text ? axis->text : variant->key;
}

/* Only where it is named: its boards are in the field, and no new ones are made. */
static const struct mos_node *retirement_of(const struct mos_node *variant) {
    const struct mos_node *status = mos_node_get(variant, "status");
    return status && status->kind == MOS_NODE_SCALAR ? status : NULL;
}

/* ---- combinations ---- */

struct combiner {
    struct mos_ctx *ctx;
    const struct mos_part *board;
    struct mos_vec *into;
    const struct mos_node *chosen[MOST_PARTS];
    size_t count;
    const char *const *patterns; /* of the variants, or NULL: all */
    size_t pattern_count, made;
    uint64_t limit;
};

static void add_selection(struct combiner *c) {
    struct mos_selection *s = mos_vec_push(c->into);
    struct mos_buf text = {.arena = c->ctx->arena};
    s->board = c->board;
    s->variants = mos_vec_make(c->ctx->arena, sizeof(void *));
    mos_buf_text(&text, c->board->name);
    for (size_t i = 0; i < c->count; i++) {
        mos_vec_push_pointer(&s->variants, c->chosen[i]);
        mos_buf_printf(&text, "+%s", c->chosen[i]->key);
    }
    s->text = mos_buf_string(&text);
    c->made++;
}

/* Can every pattern be given a variant of its own? */
static bool matched(const struct combiner *c, size_t pattern, unsigned used) {
    if (pattern == c->pattern_count)
        return true;
    for (size_t i = 0; i < c->count; i++)
        if (!(used >> i & 1) && fits(c->patterns[pattern], c->chosen[i]->key) &&
            matched(c, pattern + 1, used | 1u << i))
            return true;
    return false;
}

static void combine(struct combiner *c, size_t from) {
    const struct mos_node *all = c->board->variants;
    if (c->made >= c->limit)
        return;
    if (!c->patterns || (c->count == c->pattern_count && matched(c, 0, 0)))
        add_selection(c);
    if (c->patterns && c->count == c->pattern_count)
        return;
    for (size_t i = from; all && i < all->count && c->count < MOST_PARTS; i++) {
        bool taken = false;
        for (size_t k = 0; k < c->count; k++)
            taken |= strcmp(axis_of(c->chosen[k]), axis_of(all->items[i])) == 0;
        if (taken || (!c->patterns && retirement_of(all->items[i])))
            continue;
        c->chosen[c->count++] = all->items[i];
        combine(c, i + 1);
        c->count--;
    }
}

/* How many there are: one of each axis, or none.  UINT64_MAX: more than can be counted. */
static uint64_t count_combinations(const struct mos_part *board) {
    const struct mos_node *all = board->variants;
    uint64_t product = 1;
    for (size_t i = 0; all && i < all->count; i++) {
        uint64_t here = 1;
        bool first = !retirement_of(all->items[i]);
        for (size_t k = 0; k < all->count && first; k++) {
            if (retirement_of(all->items[k]))
                continue;
            bool same = strcmp(axis_of(all->items[k]), axis_of(all->items[i])) == 0;
            first = !same || k >= i;
            here += same;
        }
        if (first && !mos_mul(product, here, &product))
            return UINT64_MAX;
    }
    return product;
}

static void too_many(struct mos_ctx *ctx, const struct mos_workspace *w, uint64_t all,
                     uint64_t checked, const struct mos_part *cut) {
    struct mos_findings *list = &ctx->findings;
    struct mos_finding *f = mos_find(
        list, MOS_RULE_BOARD_COMBINATIONS,
        "There are %s%llu combinations of boards and variants; %llu of them are looked at.",
        all == UINT64_MAX ? "more than " : "",
        (unsigned long long)(all == UINT64_MAX ? all - 1 : all), (unsigned long long)checked);
    if (mos_has(w->combinations))
        mos_finding_at(list, f, w->combinations->place);
    mos_finding_at(list, f, cut->place);
    mos_finding_why(list, f,
                    "What is wrong with the others is found by nobody: the first that is "
                    "left out is one of %s.",
                    cut->name);
    mos_finding_try(list, f,
                    "List those that are built under usual: in mosaicum.yaml, or allow more there: "
                    "combinations: %llu.",
                    (unsigned long long)(all == UINT64_MAX ? all - 1 : all));
}

bool mos_workspace_select_all(struct mos_ctx *ctx, struct mos_workspace *w, bool variants,
                              struct mos_vec *into) {
    uint64_t most = mos_has(w->combinations) ? w->combinations->number : MOST_COMBINATIONS;
    uint64_t all = 0, checked = 0;
    const struct mos_part *cut = NULL;
    for (size_t i = 0; i < w->board_names.count; i++) {
        const struct mos_part *board =
            mos_workspace_board(ctx, w, mos_vec_pointer(&w->board_names, i));
        if (!board)
            return false;
        if (!board->node)
            continue;
        uint64_t here = variants ? count_combinations(board) : 1;
        if (!mos_add(all, here, &all))
            all = UINT64_MAX;
        struct combiner c = {
            .ctx = ctx, .board = board, .into = into, .limit = variants ? most - checked : 1};
        combine(&c, 0);
        checked += c.made;
        if (c.made < here && !cut)
            cut = board;
    }
    if (cut)
        too_many(ctx, w, all, checked, cut);
    return true;
}

/* ---- one selector ---- */

struct selector {
    struct mos_ctx *ctx;
    const struct mos_place *place; /* NULL: from the command line */
    const char *text;
    const char *parts[MOST_PARTS]; /* the board, then variants */
    size_t count;
};

static bool wrong(struct selector *s, const char *message, const char *remedy) {
    if (!s->place)
        return mos_fail(s->ctx->error, MOS_ERROR_USAGE, 0, "%s%s%s", message,
                        remedy ? "; try " : "", remedy ? remedy : "");
    struct mos_finding *f = mos_find(&s->ctx->findings, MOS_RULE_BOARD_VARIANT, "%s.", message);
    mos_finding_at(&s->ctx->findings, f, *s->place);
    mos_finding_try(&s->ctx->findings, f, remedy ? "Choose %s." : "%s",
                    remedy ? remedy : "Correct the selector.");
    return true;
}

static bool split(struct selector *s) {
    const char *p = s->text;
    while (s->count < MOST_PARTS) {
        size_t n = strcspn(p, "+");
        if (!n)
            return false;
        s->parts[s->count++] = mos_strndup(s->ctx->arena, p, n);
        p += n;
        if (!*p)
            return true;
        p++;
    }
    return false;
}

static bool has_wildcard(const char *text) {
    return strpbrk(text, "*?") != NULL;
}

static const struct mos_node *named_variant(const struct mos_part *board, const char *name) {
    return board->variants ? mos_node_get(board->variants, name) : NULL;
}

static const char *variant_names(struct mos_ctx *ctx, const struct mos_part *board,
                                 const char *wanted) {
    const struct mos_node *v = board->variants;
    if (!v)
        return mos_printf(ctx->arena, "%s: this board has no variants", board->name);
    struct mos_buf all = {.arena = ctx->arena};
    const char **names = mos_alloc_array(ctx->arena, v->count, sizeof *names);
    for (size_t i = 0; i < v->count; i++) {
        names[i] = v->items[i]->key;
        mos_buf_printf(&all, "%s%s", i ? ", " : "", names[i]);
    }
    const char *near = mos_near(wanted, names, v->count);
    return near ? near : mos_buf_string(&all);
}

/* Names without wildcards must fit: what is wrong with them is told. */
static bool check_names(struct selector *s, const struct mos_part *board, bool *good) {
    struct mos_arena *arena = s->ctx->arena;
    *good = false;
    for (size_t i = 1; i < s->count; i++) {
        const struct mos_node *v = named_variant(board, s->parts[i]);
        if (!v && !has_wildcard(s->parts[i]))
            return wrong(s,
                         mos_printf(arena, "%s: board %s has no variant %s", s->text, board->name,
                                    s->parts[i]),
                         variant_names(s->ctx, board, s->parts[i]));
        for (size_t k = 1; v && k < i; k++) {
            const struct mos_node *o = named_variant(board, s->parts[k]);
            if (o && strcmp(axis_of(o), axis_of(v)) == 0)
                return wrong(
                    s,
                    mos_printf(arena, "%s: %s and %s are on one axis, %s", s->text, o->key, v->key,
                               axis_of(v)),
                    mos_printf(arena, "%s+%s or %s+%s", board->name, o->key, board->name, v->key));
        }
    }
    *good = true;
    return true;
}

static bool known(const struct mos_vec *into, const char *text) {
    for (size_t i = 0; i < into->count; i++)
        if (strcmp(((struct mos_selection *)mos_vec_at(into, i))->text, text) == 0)
            return true;
    return false;
}

static bool select_board(struct selector *s, struct mos_workspace *w, const char *name,
                         struct mos_vec *into, size_t *found) {
    const struct mos_part *board = mos_workspace_board(s->ctx, w, name);
    bool good = true;
    if (!board)
        return false;
    if (!board->node) {
        ++*found; /* it cannot be read: that is told already */
        return true;
    }
    if (!has_wildcard(s->parts[0]) && (!check_names(s, board, &good) || !good)) {
        ++*found;
        return good || s->place;
    }
    struct mos_vec fitting = mos_vec_make(s->ctx->arena, sizeof(struct mos_selection));
    struct combiner c = {.ctx = s->ctx,
                         .board = board,
                         .into = &fitting,
                         .patterns = s->parts + 1,
                         .pattern_count = s->count - 1,
                         .limit = UINT64_MAX};
    combine(&c, 0);
    for (size_t i = 0; i < fitting.count; i++) {
        const struct mos_selection *x = mos_vec_at(&fitting, i);
        ++*found;
        if (!known(into, x->text))
            *(struct mos_selection *)mos_vec_push(into) = *x;
    }
    return true;
}

bool mos_workspace_select(struct mos_ctx *ctx, struct mos_workspace *w, const char *selector,
                          const struct mos_place *place, struct mos_vec *into) {
    struct selector s = {.ctx = ctx, .place = place, .text = selector};
    if (!split(&s))
        return wrong(&s, mos_printf(ctx->arena, "%s is no selector", selector),
                     "BOARD or BOARD+VARIANT");
    size_t found = 0, boards = 0;
    for (size_t i = 0; i < w->board_names.count; i++) {
        const char *name = mos_vec_pointer(&w->board_names, i);
        if (!fits(s.parts[0], name))
            continue;
        boards++;
        if (!select_board(&s, w, name, into, &found))
            return false;
    }
    if (!boards && !has_wildcard(s.parts[0])) {
        const char *near = mos_near(s.parts[0], w->board_names.items, w->board_names.count);
        if (!place && near)
            return mos_fail(ctx->error, MOS_ERROR_USAGE, 0,
                            "There is no board %s; did you mean %s?", s.parts[0], near);
        return wrong(&s, mos_printf(ctx->arena, "There is no board %s", s.parts[0]), near);
    }
    return found ? true : wrong(&s, mos_printf(ctx->arena, "No board fits %s", selector), NULL);
}
