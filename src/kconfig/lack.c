#include "kconfig/lack.h"

#include <string.h>

enum { MOST = 12, MOST_ROUNDS = 24, MOST_STEPS = 20000 };

struct search {
    struct mos_arena *arena;
    const struct mos_kc_tree *tree;
    const struct mos_kc_config *base; /* with all requests */
    const struct mos_setting *wanted;
    struct mos_setting *added[MOST];
    size_t count;
    const struct mos_kc_symbol *stuck; /* nothing switches it on */
    unsigned steps;                    /* so far, of one round */
};

/* All requests and those that were added, but for one (SIZE_MAX: for none); worked out as far as it
 * is looked at. */
static struct mos_kc_config *started(struct search *s, size_t but) {
    struct mos_kc_config *c = mos_kc_config_again(s->arena, s->base);
    for (size_t i = 0; i < s->count; i++) {
        const struct mos_setting *one = s->added[i];
        if (i != but)
            mos_kc_ask(c, &one, 1);
    }
    mos_kc_start(c);
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

/* Is it kept with all that was added, but for one? */
static bool is_kept_without(struct search *s, size_t but) {
    struct mos_arena *saved = s->arena;
    s->arena = mos_arena_child(saved);
    bool kept = mos_kc_answer(started(s, but), s->wanted).reason == MOS_KC_KEPT;
    mos_arena_free(s->arena);
    s->arena = saved;
    return kept;
}

/* Adds what is unmet, until it is kept. */
static bool find_way(struct search *s) {
    struct mos_kc_config *c = started(s, SIZE_MAX);
    struct mos_kc_answer a = mos_kc_answer(c, s->wanted);
    enum mos_tri value = *s->wanted->value == 'y' ? MOS_TRI_Y : MOS_TRI_M;
    for (unsigned round = 0; round < MOST_ROUNDS && a.reason == MOS_KC_HIDDEN; round++) {
        size_t before = s->count;
        bool way = false;
        s->steps = 0;
        if (value == MOS_TRI_M && !c->modules && s->tree->modules &&
            !raise_symbol(s, c, s->tree->modules, MOS_TRI_Y, 0))
            break; /* without modules it would be y */
        for (const struct mos_kc_property *p = a.symbol->first[MOS_KC_PROMPT]; p && !way;
             p = p->next) {
            enum mos_tri least = a.symbol->type == MOS_KC_TRISTATE ? value : MOS_TRI_M;
            way = bring(s, c, p->condition, least, true, 0);
            if (!way)
                s->count = before;
        }
        if (!way || s->count == before)
            break;
        c = started(s, SIZE_MAX);
        a = mos_kc_answer(c, s->wanted);
    }
    return s->count && a.reason == MOS_KC_KEPT;
}

/* ---- fewer settings ---- */

enum { MOST_CANDIDATES = 96, MOST_TRIES = 200 };

/* Settings of the cone of conditions that a request hangs on. */
struct cone {
    struct search *s;
    struct mos_kc_config *c;
    struct mos_setting *settings[MOST_CANDIDATES];
    size_t count;
    uint8_t *seen; /* by symbol */
    bool whole;    /* all of it is in `settings` */
    bool shallow;  /* what a condition itself names, and no more */
};

static void add_symbol(struct cone *k, const struct mos_kc_symbol *s);

static void add_expr(struct cone *k, const struct mos_kc_expr *e) {
    if (!e)
        return;
    switch (e->op) {
    case MOS_KC_AND:
    case MOS_KC_OR:
        add_expr(k, e->right);
        add_expr(k, e->left);
        break;
    case MOS_KC_NOT:
        add_expr(k, e->left);
        break;
    case MOS_KC_SYMBOL:
        add_symbol(k, e->symbol);
        break;
    default:
        add_symbol(k, e->symbol);
        add_symbol(k, e->other);
    }
}

static void add_candidate(struct cone *k, const struct mos_kc_symbol *s, enum mos_tri value) {
    static const char *const words[] = {"n", "m", "y"};
    if (k->count == MOST_CANDIDATES) {
        k->whole = false;
        return;
    }
    struct mos_setting *one = mos_alloc(k->s->arena, sizeof *one);
    *one = (struct mos_setting){.symbol = mos_printf(k->s->arena, "CONFIG_%s", s->name),
                                .value = words[value]};
    k->settings[k->count++] = one;
}

/* What it could be set to, and all that it hangs on itself. */
static void add_symbol(struct cone *k, const struct mos_kc_symbol *s) {
    if (s->constant || !s->entry || k->seen[s->index] || !k->whole)
        return;
    k->seen[s->index] = 1;
    bool three = s->type == MOS_KC_BOOL || s->type == MOS_KC_TRISTATE;
    enum mos_tri now = three ? mos_kc_tri(k->c, s) : MOS_TRI_N;
    if (!three && s->first[MOS_KC_PROMPT])
        k->whole = false; /* numbers and texts are too many */
    for (int v = MOS_TRI_N;
         three && !s->is_choice && s->name && s->first[MOS_KC_PROMPT] && v <= MOS_TRI_Y; v++)
        if (v != (int)now && (v != MOS_TRI_M || s->type == MOS_KC_TRISTATE))
            add_candidate(k, s, (enum mos_tri)v);
    if (k->shallow)
        return;
    static const enum mos_kc_kind kinds[] = {MOS_KC_PROMPT, MOS_KC_DEFAULT};
    for (size_t i = 0; i < 2; i++)
        for (const struct mos_kc_property *p = s->first[kinds[i]]; p; p = p->next) {
            add_expr(k, p->condition);
            add_expr(k, p->value);
        }
    for (const struct mos_kc_property *p = s->selected_by; p; p = p->other) {
        add_expr(k, p->condition);
        add_symbol(k, p->entry->symbol);
    }
    for (const struct mos_kc_property *p = s->implied_by; p; p = p->other) {
        add_expr(k, p->condition);
        add_symbol(k, p->entry->symbol);
    }
    if (s->choice)
        add_symbol(k, s->choice);
}

/* The cone of what is wanted, without what was added: that says what is a change. */
static struct cone open_cone(struct search *s, const struct mos_kc_symbol *wanted, bool shallow) {
    struct cone k = {.s = s, .whole = true, .shallow = shallow};
    k.seen = mos_alloc(s->arena, s->tree->all.count);
    k.seen[wanted->index] = 1;
    s->count = 0;
    k.c = started(s, SIZE_MAX);
    for (const struct mos_kc_property *p = wanted->first[MOS_KC_PROMPT]; p; p = p->next)
        add_expr(&k, p->condition);
    return k;
}

/* Of all single settings out of its own condition that would do, the one that changes least;
 * nothing is switched off for it. */
static void try_cheaper(struct search *s, struct mos_kc_config *before) {
    enum { MOST_WAYS = 6 };
    const struct mos_kc_symbol *w = mos_kc_find(s->tree, s->wanted->symbol + 7);
    if (s->count != 1 || !w)
        return;
    struct mos_setting *best = s->added[0];
    struct cone k = open_cone(s, w, true);
    size_t least = SIZE_MAX, ways = 0;
    s->count = 1;
    for (size_t i = 0; i <= k.count && i < MOST_TRIES && ways < MOST_WAYS; i++) {
        struct mos_setting *one = i ? k.settings[i - 1] : best; /* what was found comes first */
        if (i && (*one->value == 'n' || strcmp(one->symbol, best->symbol) == 0))
            continue;
        s->added[0] = one;
        if (!is_kept_without(s, SIZE_MAX))
            continue;
        struct mos_kc_config *whole = started(s, SIZE_MAX);
        mos_kc_settle(whole);
        size_t changes = mos_kc_changes(before, whole).count;
        ways++;
        if (changes < least) {
            least = changes;
            best = one;
        }
    }
    s->added[0] = best;
}

/* Tries all sets of one setting, of two, of three, as long as they are fewer than what was found;
 * *smallest: all of them were tried. */
static void try_fewer(struct search *s, bool *smallest) {
    size_t found = s->count, tries = 0;
    const struct mos_kc_symbol *w = mos_kc_find(s->tree, s->wanted->symbol + 7);
    *smallest = found == 1;
    if (found == 1 || !w)
        return;
    struct cone k = open_cone(s, w, false);
    struct mos_setting *kept[MOST];
    memcpy(kept, s->added, found * sizeof *kept);
    bool all = k.whole, done = false;
    for (size_t size = 1; size < found && size <= 3 && all && !done; size++) {
        size_t at[3] = {0, 1, 2};
        while (all && !done && at[size - 1] < k.count) {
            for (size_t i = 0; i < size; i++)
                s->added[i] = k.settings[at[i]];
            s->count = size;
            all = tries++ < MOST_TRIES;
            done = all && is_kept_without(s, SIZE_MAX);
            size_t i = size; /* the next set */
            while (i-- > 0)
                if (++at[i] + (size - 1 - i) < k.count || i == 0)
                    break;
            for (size_t n = i + 1; n < size; n++)
                at[n] = at[n - 1] + 1;
        }
    }
    *smallest = all && (done || found <= 4);
    if (!done) {
        memcpy(s->added, kept, found * sizeof *kept);
        s->count = found;
    }
}

/* ---- all of it ---- */

static void take(struct search *s, struct mos_arena *arena, struct mos_kc_way *out) {
    const struct mos_setting **set = mos_alloc_array(arena, s->count, sizeof *set);
    for (size_t i = 0; i < s->count; i++) {
        struct mos_setting *own = mos_alloc(arena, sizeof *own);
        *own = *s->added[i];
        own->symbol = mos_strdup(arena, own->symbol);
        set[i] = own;
    }
    out->set = set;
    out->count = s->count;
}

struct mos_kc_way mos_kc_lack(struct mos_arena *arena, struct mos_kc_config *c,
                              const struct mos_setting *wanted) {
    struct mos_kc_way out = {0};
    struct search s = {
        .arena = mos_arena_child(arena), .tree = c->tree, .base = c, .wanted = wanted};
    if (find_way(&s)) {
        for (size_t i = 0; i < s.count && s.count > 1;)
            if (is_kept_without(&s, i))
                memmove(&s.added[i], &s.added[i + 1], (--s.count - i) * sizeof *s.added);
            else
                i++;
        try_fewer(&s, &out.smallest);
        try_cheaper(&s, c);
        struct mos_kc_config *whole = started(&s, SIZE_MAX);
        mos_kc_settle(whole); /* once more, with everything */
        if (mos_kc_answer(whole, wanted).reason == MOS_KC_KEPT) {
            out.changes = mos_kc_changes(c, whole);
            take(&s, arena, &out);
        }
    }
    if (!out.set)
        out.stuck = s.stuck;
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

struct mos_kc_way mos_kc_wish(struct mos_arena *arena, struct mos_kc_config *c, const char *symbol,
                              const char *value) {
    struct mos_setting *wanted = mos_alloc(arena, sizeof *wanted);
    *wanted = (struct mos_setting){.symbol = mos_strdup(arena, symbol),
                                   .value = mos_strdup(arena, value)};
    const struct mos_setting *one = wanted;
    struct mos_arena *aside = mos_arena_child(arena);
    struct mos_kc_config *with = mos_kc_config_again(aside, c);
    struct mos_kc_way out = {0}, more = {0};
    mos_kc_ask(with, &one, 1);
    mos_kc_settle(with);
    bool kept = mos_kc_answer(with, wanted).reason == MOS_KC_KEPT;
    if (kept)
        out.changes = mos_kc_changes(c, with);
    else
        more = mos_kc_lack(arena, with, wanted);
    mos_arena_free(aside);
    if (!kept && !more.set) {
        out.stuck = more.stuck;
        return out;
    }
    const struct mos_setting **set = mos_alloc_array(arena, more.count + 1, sizeof *set);
    set[0] = wanted;
    if (more.count)
        memcpy(set + 1, more.set, more.count * sizeof *set);
    out.set = set;
    out.count = more.count + 1;
    out.smallest = kept || more.smallest;
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
