#include "kconfig/lack.h"

#include <string.h>

enum { MOST = 12, MOST_ROUNDS = 24, MOST_STEPS = 20000 };

struct search {
    struct mos_arena *arena;
    const struct mos_kc_tree *tree;
    const struct mos_kc_requests *all;
    const struct mos_setting *wanted;
    struct mos_setting *added[MOST];
    size_t count;
    const struct mos_kc_symbol *stuck; /* nothing switches it on */
    unsigned steps;                    /* so far, of one round */
};

/* All requests and those that were added, but for one (SIZE_MAX: for none). */
static struct mos_kc_config *settled(struct search *s, size_t but) {
    struct mos_kc_config *c = mos_kc_config_new(s->arena, s->tree);
    mos_kc_ask(c, s->all->settings, s->all->count);
    for (size_t i = 0; i < s->count; i++) {
        const struct mos_setting *one = s->added[i];
        if (i != but)
            mos_kc_ask(c, &one, 1);
    }
    mos_kc_settle(c);
    return c;
}

static bool add(struct search *s, const struct mos_kc_symbol *symbol, enum mos_tri value) {
    static const char *const words[] = {"n", "m", "y"};
    const char *name = mos_printf(s->arena, "CONFIG_%s", symbol->name);
    for (size_t i = 0; i < s->count; i++)
        if (strcmp(s->added[i]->symbol, name) == 0)
            return strcmp(s->added[i]->value, words[value]) == 0;
    if (s->count == MOST || strcmp(name, s->wanted->symbol) == 0)
        return false;
    struct mos_setting *one = mos_alloc(s->arena, sizeof *one);
    *one = (struct mos_setting){.symbol = name, .value = words[value]};
    s->added[s->count++] = one;
    return true;
}

static bool raise_symbol(struct search *s, struct mos_kc_config *c,
                         const struct mos_kc_symbol *symbol, enum mos_tri value, unsigned depth);

enum { DEEPEST = 24 };

/* Adds what brings an expression up to a value, or down to n; false: nothing that is known would.
 */
static bool bring(struct search *s, struct mos_kc_config *c, const struct mos_kc_expr *e,
                  enum mos_tri value, bool up, unsigned depth) {
    enum mos_tri now = mos_kc_expr_value(c, e);
    if (!e || (up ? now >= value : now == MOS_TRI_N))
        return true;
    if (depth > DEEPEST)
        return false;
    switch (e->op) {
    case MOS_KC_SYMBOL:
        return up ? raise_symbol(s, c, e->symbol, value, depth)
                  : !e->symbol->constant && e->symbol->first[MOS_KC_PROMPT] &&
                        add(s, e->symbol, MOS_TRI_N);
    case MOS_KC_NOT:
        return bring(s, c, e->left, value, !up, depth);
    case MOS_KC_AND:
    case MOS_KC_OR: {
        size_t before = s->count;
        bool both = (e->op == MOS_KC_AND) == up;
        bool first = bring(s, c, e->left, value, up, depth);
        if (both)
            return first && bring(s, c, e->right, value, up, depth);
        size_t left = s->count - before;
        struct mos_setting *kept[MOST];
        memcpy(kept, s->added + before, left * sizeof *kept);
        s->count = before;
        bool second = bring(s, c, e->right, value, up, depth);
        if (second && (!first || s->count - before <= left))
            return true;
        s->count = before + (first ? left : 0);
        memcpy(s->added + before, kept, (first ? left : 0) * sizeof *kept);
        return first;
    }
    case MOS_KC_EQUAL:
    case MOS_KC_UNEQUAL: {
        bool equal = (e->op == MOS_KC_EQUAL) == up;
        const struct mos_kc_symbol *a = e->symbol, *b = e->other;
        bool three = a->type == MOS_KC_BOOL || a->type == MOS_KC_TRISTATE;
        if (!three || a->constant || (b != s->tree->y && b != s->tree->n && b != s->tree->m))
            return false;
        enum mos_tri other = b == s->tree->y ? MOS_TRI_Y : b == s->tree->m ? MOS_TRI_M : MOS_TRI_N;
        if (!equal)
            other = other == MOS_TRI_N ? MOS_TRI_Y : MOS_TRI_N;
        return other == MOS_TRI_N ? add(s, a, MOS_TRI_N) : raise_symbol(s, c, a, other, depth);
    }
    default:
        return false;
    }
}

struct ways {
    struct mos_setting *best[MOST];
    size_t before, count;
    bool any;
};

/* Keeps what was added since `before` if it is a way, and shorter than the shortest so far. */
static void weigh(struct search *s, struct ways *w, bool is_way) {
    size_t count = s->count - w->before;
    if (is_way && (!w->any || count < w->count)) {
        memcpy(w->best, s->added + w->before, count * sizeof *w->best);
        w->count = count;
        w->any = true;
    }
    s->count = w->before;
}

/* By its own prompt with what that needs, by a default, or by one that selects it: the shortest. */
static bool raise_symbol(struct search *s, struct mos_kc_config *c,
                         const struct mos_kc_symbol *symbol, enum mos_tri value, unsigned depth) {
    enum { MOST_SELECTERS = 16 };
    if (symbol->constant || !symbol->entry || depth > DEEPEST || s->steps++ > MOST_STEPS)
        return false;
    if (symbol->type == MOS_KC_BOOL)
        value = MOS_TRI_Y;
    if (symbol->is_choice) /* it is there where its prompt is */
        return symbol->first[MOS_KC_PROMPT] &&
               bring(s, c, symbol->first[MOS_KC_PROMPT]->condition, MOS_TRI_M, true, depth + 1);
    struct ways w = {.before = s->count};
    for (const struct mos_kc_property *p = symbol->first[MOS_KC_PROMPT]; p; p = p->next)
        weigh(s, &w,
              bring(s, c, p->condition, symbol->type == MOS_KC_TRISTATE ? value : MOS_TRI_M, true,
                    depth + 1) &&
                  add(s, symbol, value));
    for (const struct mos_kc_property *p = symbol->first[MOS_KC_DEFAULT]; p; p = p->next)
        weigh(s, &w,
              bring(s, c, p->condition, value, true, depth + 1) &&
                  bring(s, c, p->value, value, true, depth + 1) && s->count > w.before);
    unsigned tried = 0;
    for (const struct mos_kc_property *p = w.any ? NULL : symbol->selected_by;
         p && tried < MOST_SELECTERS; p = p->other, tried++)
        weigh(s, &w,
              p->entry->symbol->first[MOS_KC_PROMPT] &&
                  bring(s, c, p->condition, value, true, depth + 1) &&
                  raise_symbol(s, c, p->entry->symbol, value, depth + 1));
    if (w.any) {
        memcpy(s->added + w.before, w.best, w.count * sizeof *w.best);
        s->count = w.before + w.count;
    } else if (!symbol->first[MOS_KC_PROMPT] && !symbol->first[MOS_KC_DEFAULT] &&
               !symbol->selected_by) {
        s->stuck = symbol;
    }
    return w.any;
}

static bool is_kept(struct search *s, struct mos_kc_config *c) {
    return mos_kc_answer(c, s->wanted).reason == MOS_KC_KEPT;
}

const struct mos_setting *const *mos_kc_lack(struct mos_arena *arena,
                                             const struct mos_kc_tree *tree,
                                             const struct mos_kc_requests *all,
                                             const struct mos_setting *wanted, size_t *count,
                                             const struct mos_kc_symbol **stuck) {
    struct search s = {.arena = mos_arena_child(arena), .tree = tree, .all = all, .wanted = wanted};
    struct mos_kc_config *c = settled(&s, SIZE_MAX);
    struct mos_kc_answer a = mos_kc_answer(c, wanted);
    bool found = false;
    enum mos_tri value = *wanted->value == 'y' ? MOS_TRI_Y : MOS_TRI_M;
    for (unsigned round = 0; round < MOST_ROUNDS && a.reason == MOS_KC_HIDDEN && !found; round++) {
        size_t before = s.count;
        bool way = false;
        s.steps = 0;
        if (value == MOS_TRI_M && !c->modules && tree->modules &&
            !raise_symbol(&s, c, tree->modules, MOS_TRI_Y, 0))
            break; /* without modules it would be y */
        for (const struct mos_kc_property *p = a.symbol->first[MOS_KC_PROMPT]; p && !way;
             p = p->next) {
            enum mos_tri least = a.symbol->type == MOS_KC_TRISTATE ? value : MOS_TRI_M;
            way = bring(&s, c, p->condition, least, true, 0);
            if (!way)
                s.count = before;
        }
        if (!way || s.count == before)
            break;
        c = settled(&s, SIZE_MAX);
        found = is_kept(&s, c);
        a = mos_kc_answer(c, wanted);
    }
    for (size_t i = 0; found && i < s.count && s.count > 1;) {
        if (!is_kept(&s, settled(&s, i))) {
            i++;
            continue;
        }
        memmove(&s.added[i], &s.added[i + 1], (--s.count - i) * sizeof *s.added);
    }
    const struct mos_setting **out = NULL;
    *stuck = found ? NULL : s.stuck;
    if (found) {
        out = mos_alloc_array(arena, s.count, sizeof *out);
        *count = s.count;
        for (size_t i = 0; i < s.count; i++) {
            struct mos_setting *own = mos_alloc(arena, sizeof *own);
            *own = *s.added[i];
            own->symbol = mos_strndup(arena, own->symbol, strlen(own->symbol));
            out[i] = own;
        }
    }
    mos_arena_free(s.arena);
    return out;
}

/* ---- what is wished for ---- */

struct mos_kc_config *mos_kc_with(struct mos_arena *arena, const struct mos_kc_tree *tree,
                                  const struct mos_kc_requests *all,
                                  const struct mos_setting *const *more, size_t count) {
    struct mos_kc_config *c = mos_kc_config_new(arena, tree);
    mos_kc_ask(c, all->settings, all->count);
    mos_kc_ask(c, more, count);
    mos_kc_settle(c);
    return c;
}

const struct mos_setting *const *mos_kc_wish(struct mos_arena *arena,
                                             const struct mos_kc_tree *tree,
                                             const struct mos_kc_requests *all, const char *symbol,
                                             const char *value, size_t *count,
                                             const struct mos_kc_symbol **stuck) {
    struct mos_setting *wanted = mos_alloc(arena, sizeof *wanted);
    *wanted = (struct mos_setting){.symbol = mos_strdup(arena, symbol),
                                   .value = mos_strdup(arena, value)};
    const struct mos_setting **both = mos_alloc_array(arena, all->count + 1, sizeof *both);
    memcpy(both, all->settings, all->count * sizeof *both);
    both[all->count] = wanted;
    const struct mos_kc_requests with = {both, all->count + 1};
    struct mos_arena *aside = mos_arena_child(arena);
    bool kept =
        mos_kc_answer(mos_kc_with(aside, tree, &with, NULL, 0), wanted).reason == MOS_KC_KEPT;
    mos_arena_free(aside);
    size_t more = 0;
    *stuck = NULL;
    const struct mos_setting *const *set =
        kept ? NULL : mos_kc_lack(arena, tree, &with, wanted, &more, stuck);
    if (!kept && !set)
        return NULL;
    const struct mos_setting **out = mos_alloc_array(arena, more + 1, sizeof *out);
    out[0] = wanted;
    if (more)
        memcpy(out + 1, set, more * sizeof *out);
    *count = more + 1;
    return out;
}

bool mos_kc_differs(struct mos_kc_config *before, struct mos_kc_config *after,
                    const struct mos_kc_symbol *s) {
    if (!s->entry || s->is_choice || s->type == MOS_KC_UNKNOWN || s->from_environment)
        return false;
    if (s->type == MOS_KC_BOOL || s->type == MOS_KC_TRISTATE)
        return mos_kc_tri(before, s) != mos_kc_tri(after, s);
    bool here = before->values[s->index].written, there = after->values[s->index].written;
    return here != there || (here && strcmp(mos_kc_text(before, s), mos_kc_text(after, s)) != 0);
}

struct mos_kc_changes mos_kc_changes(struct mos_kc_config *before, struct mos_kc_config *after) {
    struct mos_kc_changes out = {0};
    for (size_t i = 0; i < before->tree->all.count; i++) {
        const struct mos_kc_symbol *s = mos_vec_pointer(&before->tree->all, i);
        if (!mos_kc_differs(before, after, s))
            continue;
        enum mos_tri value =
            s->type == MOS_KC_BOOL || s->type == MOS_KC_TRISTATE ? mos_kc_tri(after, s) : MOS_TRI_N;
        out.count++;
        out.built_in += value == MOS_TRI_Y;
        out.modules += value == MOS_TRI_M;
    }
    return out;
}

const char *mos_kc_changes_text(struct mos_arena *arena, const struct mos_kc_changes *c) {
    struct mos_buf b = {.arena = arena};
    mos_buf_printf(&b, "%zu symbol%s change%s", c->count, c->count == 1 ? "" : "s",
                   c->count == 1 ? "s" : "");
    if (c->built_in)
        mos_buf_printf(&b, ", %zu become%s built in", c->built_in, c->built_in == 1 ? "s" : "");
    if (c->modules)
        mos_buf_printf(&b, ", %zu become%s %s", c->modules, c->modules == 1 ? "s" : "",
                       c->modules == 1 ? "a module" : "modules");
    return mos_buf_string(&b);
}
