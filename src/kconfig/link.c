#include "kconfig/parse.h"

#include <string.h>

/* More than this many symbols that hang on one another in a row are refused: working out a value
 * goes from one to the next. */
enum { LONGEST = 2000 };

/* `m` in a condition holds only while modules are switched on. */
static const struct mos_kc_expr *with_modules(struct mos_kc_tree *t, const struct mos_kc_expr *e) {
    if (!e)
        return NULL;
    if (e->op == MOS_KC_SYMBOL)
        return e->symbol == t->m ? kc_and(t, e, kc_expr_symbol(t, t->modules ? t->modules : t->n))
                                 : e;
    if (e->op > MOS_KC_OR)
        return e;
    const struct mos_kc_expr *a = with_modules(t, e->left),
                             *b = e->op == MOS_KC_NOT ? NULL : with_modules(t, e->right);
    return a == e->left && (e->op == MOS_KC_NOT || b == e->right) ? e : kc_expr(t, e->op, a, b);
}

/* ---- choices ---- */

/* Does a condition hold only where `s` is set? */
static bool needs(const struct mos_kc_expr *e, const struct mos_kc_symbol *s) {
    if (!e)
        return false;
    if (e->op == MOS_KC_SYMBOL)
        return e->symbol == s;
    return e->op == MOS_KC_AND && (needs(e->left, s) || needs(e->right, s));
}

static void add_member(struct mos_kc_symbol *choice, struct mos_kc_symbol *s) {
    if (s->choice)
        return;
    s->choice = choice;
    *(choice->last_member ? &choice->last_member->next_member : &choice->first_member) = s;
    choice->last_member = s;
}

/* Members are what stands in a choice, also within `if`; but for what hangs on the member before
 * it, which lies below that one. */
static void find_members(struct mos_kc_symbol *choice, const struct mos_kc_entry *within,
                         const struct mos_kc_symbol **before) {
    for (const struct mos_kc_entry *e = within->first; e; e = e->next) {
        if (e->kind == MOS_KC_ENTRY_IF) {
            find_members(choice, e, before);
        } else if (e->kind == MOS_KC_ENTRY_CONFIG) {
            if (*before && needs(e->stated, *before))
                continue;
            add_member(choice, e->symbol);
            *before = e->symbol;
        }
    }
}

static void settle_type(struct mos_kc_symbol *choice) {
    struct mos_kc_symbol *m = choice->first_member;
    while (m && !m->type)
        m = m->next_member;
    if (!choice->type)
        choice->type = m ? m->type : MOS_KC_BOOL;
    for (m = choice->first_member; m; m = m->next_member)
        m->type = m->type ? m->type : choice->type;
}

/* ---- conditions ---- */

static void link_properties(struct mos_kc_tree *t, const struct mos_kc_entry *e) {
    for (int kind = 0; kind < MOS_KC_KINDS; kind++)
        for (struct mos_kc_property *p = e->symbol->first[kind]; p; p = p->next) {
            if (p->entry != e)
                continue;
            p->condition = kc_and(t, with_modules(t, p->stated), e->depends);
            if (kind == MOS_KC_PROMPT)
                p->condition = kc_and(t, p->condition, e->visible);
            if (kind == MOS_KC_SELECT || kind == MOS_KC_IMPLY) {
                const struct mos_kc_property **list =
                    kind == MOS_KC_SELECT ? &p->symbol->selected_by : &p->symbol->implied_by;
                p->other = *list;
                *list = p;
            }
        }
}

static void link_entry(struct mos_kc_tree *t, struct mos_kc_entry *e) {
    struct mos_kc_entry *parent = e->parent;
    const struct mos_kc_expr *around = parent->depends;
    if (parent->kind == MOS_KC_ENTRY_CHOICE)
        around = kc_expr_symbol(t, parent->symbol);
    e->visible = kc_and(t, parent->visible, parent->visible_if);
    e->depends = kc_and(t, with_modules(t, e->stated), around);
    struct mos_kc_symbol *s = e->symbol;
    if (!s)
        return;
    /* in a choice of `tristate`, one that is only on or off is there where just one may be on */
    if (s->choice && s->choice->type == MOS_KC_TRISTATE && s->type != MOS_KC_TRISTATE &&
        e->kind == MOS_KC_ENTRY_CONFIG) {
        struct mos_kc_expr *one = mos_alloc(t->arena, sizeof *one);
        *one = (struct mos_kc_expr){.op = MOS_KC_EQUAL, .index = t->expr_count++};
        one->symbol = s->choice;
        one->other = t->y;
        e->depends = kc_and(t, one, e->depends);
    }
    link_properties(t, e);
}

static void walk(struct mos_kc_tree *t, struct mos_kc_entry *within,
                 void (*each)(struct mos_kc_tree *t, struct mos_kc_entry *e)) {
    for (struct mos_kc_entry *e = within->first; e; e = e->next) {
        each(t, e);
        walk(t, e, each);
    }
}

static void choose(struct mos_kc_tree *t, struct mos_kc_entry *e) {
    (void)t;
    const struct mos_kc_symbol *before = NULL;
    if (e->kind == MOS_KC_ENTRY_CHOICE)
        find_members(e->symbol, e, &before);
}

static void type_choice(struct mos_kc_tree *t, struct mos_kc_entry *e) {
    (void)t;
    if (e->kind == MOS_KC_ENTRY_CHOICE)
        settle_type(e->symbol);
}

/* On any of its entries; one that hangs on nothing is enough. */
static void link_symbol(struct mos_kc_tree *t, struct mos_kc_symbol *s) {
    struct mos_vec row = mos_vec_make(t->arena, sizeof(void *));
    for (const struct mos_kc_entry *e = s->entry; e; e = e->again) {
        if (!e->depends)
            return;
        mos_vec_push_pointer(&row, e->depends);
    }
    if (row.count)
        s->depends = kc_row(t, MOS_KC_OR, &row, 0, row.count);
}

/* ---- what hangs on itself ---- */

struct visit {
    struct mos_kc_symbol *symbol;
    struct mos_vec next; /* of struct mos_kc_symbol * */
    size_t at;
};

struct search {
    struct mos_kc_tree *tree;
    struct mos_arena *arena;
    uint8_t *state;     /* by symbol: 0 not seen, 1 on the way, 2 done */
    struct mos_vec way; /* of struct visit */
    struct mos_vec *next;
};

static void add_symbol(struct search *s, struct mos_kc_symbol *symbol) {
    if (!symbol->constant && s->state[symbol->index] != 2)
        mos_vec_push_pointer(s->next, symbol);
}

static void add_expr(struct search *s, const struct mos_kc_expr *e) {
    if (!e)
        return;
    if (e->op == MOS_KC_SYMBOL || e->op > MOS_KC_OR) {
        add_symbol(s, e->symbol);
        if (e->op != MOS_KC_SYMBOL)
            add_symbol(s, e->other);
        return;
    }
    add_expr(s, e->left);
    if (e->op != MOS_KC_NOT)
        add_expr(s, e->right);
}

/* All that the value of a symbol hangs on.  A choice does not hang on its members. */
static void add_needs(struct search *s, const struct mos_kc_symbol *symbol) {
    for (int kind = 0; kind <= MOS_KC_RANGE; kind++)
        for (const struct mos_kc_property *p = symbol->first[kind]; p; p = p->next) {
            add_expr(s, p->condition);
            if (kind == MOS_KC_DEFAULT && !symbol->is_choice)
                add_expr(s, p->value);
            if (kind == MOS_KC_RANGE) {
                add_symbol(s, p->symbol);
                add_symbol(s, p->upper);
            }
        }
    add_expr(s, symbol->depends);
    if (symbol->choice)
        return;
    for (const struct mos_kc_property *p = symbol->selected_by; p; p = p->other) {
        add_symbol(s, p->entry->symbol);
        add_expr(s, p->condition);
    }
    for (const struct mos_kc_property *p = symbol->implied_by; p; p = p->other) {
        add_symbol(s, p->entry->symbol);
        add_expr(s, p->condition);
    }
}

static const char *name_of(const struct mos_kc_symbol *s) {
    return s->name ? s->name : "a choice";
}

static bool enter(struct search *s, struct mos_kc_symbol *symbol) {
    struct visit *v = mos_vec_push(&s->way);
    *v = (struct visit){symbol, mos_vec_make(s->arena, sizeof(void *)), 0};
    s->state[symbol->index] = 1;
    s->next = &v->next;
    add_needs(s, symbol);
    return true;
}

static bool tell_circle(struct mos_ctx *ctx, const struct search *s,
                        const struct mos_kc_symbol *again) {
    struct mos_buf text = {.arena = ctx->arena};
    size_t i = 0;
    while (((struct visit *)mos_vec_at(&s->way, i))->symbol != again)
        i++;
    const struct mos_kc_entry *e = again->entry;
    for (size_t k = i, told = 0; k < s->way.count && told < 8; k++, told++)
        mos_buf_printf(&text, "%s hangs on ",
                       name_of(((struct visit *)mos_vec_at(&s->way, k))->symbol));
    if (s->way.count - i > 8)
        mos_buf_text(&text, "… hangs on ");
    mos_buf_text(&text, name_of(again));
    return mos_kc_wrong(ctx, e ? e->place : s->tree->root->place, "%s", mos_buf_string(&text));
}

static bool search_from(struct mos_ctx *ctx, struct search *s, struct mos_kc_symbol *start) {
    enter(s, start);
    while (s->way.count) {
        struct visit *v = mos_vec_at(&s->way, s->way.count - 1);
        if (v->at == v->next.count) {
            s->state[v->symbol->index] = 2;
            s->way.count--;
            continue;
        }
        struct mos_kc_symbol *next = mos_vec_pointer(&v->next, v->at++);
        if (s->state[next->index] == 2)
            continue;
        if (s->state[next->index] == 1)
            return tell_circle(ctx, s, next);
        if (s->way.count > LONGEST)
            return mos_kc_wrong(ctx, next->entry ? next->entry->place : start->entry->place,
                                "More than %d symbols hang on one another in a row", LONGEST);
        enter(s, next);
    }
    return true;
}

static bool check_circles(struct mos_ctx *ctx, struct mos_kc_tree *t) {
    struct mos_arena *arena = mos_arena_child(ctx->arena);
    struct search s = {.tree = t,
                       .arena = arena,
                       .state = mos_alloc(arena, t->all.count),
                       .way = mos_vec_make(arena, sizeof(struct visit))};
    bool good = true;
    for (size_t i = 0; i < t->all.count && good; i++) {
        struct mos_kc_symbol *symbol = mos_vec_pointer(&t->all, i);
        if (symbol->entry && !s.state[i])
            good = search_from(ctx, &s, symbol);
    }
    mos_arena_free(arena);
    return good;
}

bool kc_link(struct mos_ctx *ctx, struct mos_kc_tree *t) {
    walk(t, t->root, choose);
    walk(t, t->root, type_choice);
    walk(t, t->root, link_entry);
    for (size_t i = 0; i < t->all.count; i++)
        link_symbol(t, mos_vec_pointer(&t->all, i));
    return check_circles(ctx, t);
}
