#include "kconfig/why.h"

#include <string.h>

static const char *const signs[] = {"", "!", " && ", " || ", "=", "!=", "<", ">", "<=", ">="};

static void add_symbol(struct mos_kc_config *c, const struct mos_kc_symbol *s,
                       struct mos_buf *out) {
    if (s->constant || s->type == MOS_KC_UNKNOWN)
        mos_buf_printf(out, "%s", s->name ? s->name : "?");
    else
        mos_buf_printf(out, "%s (%s)", s->name ? s->name : "this choice", mos_kc_text(c, s));
}

static void add_expr(struct mos_kc_config *c, const struct mos_kc_expr *e, enum mos_kc_op above,
                     struct mos_buf *out) {
    if (!e)
        return;
    if (e->op == MOS_KC_SYMBOL) {
        add_symbol(c, e->symbol, out);
        const char *name = e->symbol->name;
        bool number =
            name && (strspn(name, "-0123456789") == strlen(name) || strncmp(name, "0x", 2) == 0);
        if (!e->symbol->constant && e->symbol->type == MOS_KC_UNKNOWN && !number)
            mos_buf_text(out, " (not declared)");
    } else if (e->op == MOS_KC_NOT) {
        mos_buf_char(out, '!');
        add_expr(c, e->left, MOS_KC_NOT, out);
    } else if (e->op == MOS_KC_AND || e->op == MOS_KC_OR) {
        bool inner = above != e->op && above != MOS_KC_SYMBOL && e->op == MOS_KC_OR;
        inner |= above == MOS_KC_NOT;
        mos_buf_text(out, inner ? "(" : "");
        add_expr(c, e->left, e->op, out);
        mos_buf_text(out, signs[e->op]);
        add_expr(c, e->right, e->op, out);
        mos_buf_text(out, inner ? ")" : "");
    } else {
        mos_buf_text(out, above == MOS_KC_NOT ? "(" : "");
        add_symbol(c, e->symbol, out);
        mos_buf_printf(out, " %s ", signs[e->op]);
        add_symbol(c, e->other, out);
        mos_buf_text(out, above == MOS_KC_NOT ? ")" : "");
    }
}

const char *mos_kc_expr_text(struct mos_kc_config *c, const struct mos_kc_expr *e) {
    struct mos_buf out = {.arena = c->arena};
    add_expr(c, e, MOS_KC_SYMBOL, &out);
    return mos_buf_string(&out);
}

/* The unmet parts of a row of `&&`; whatever else is unmet as a whole. */
static void add_unmet(struct mos_kc_config *c, const struct mos_kc_expr *e, enum mos_tri wanted,
                      struct mos_vec *said, struct mos_buf *out) {
    if (!e || mos_kc_expr_value(c, e) >= wanted)
        return;
    if (e->op == MOS_KC_AND) {
        add_unmet(c, e->left, wanted, said, out);
        add_unmet(c, e->right, wanted, said, out);
        return;
    }
    struct mos_buf part = {.arena = c->arena};
    add_expr(c, e, MOS_KC_AND, &part);
    const char *text = mos_buf_string(&part);
    for (size_t i = 0; i < said->count; i++)
        if (strcmp(mos_vec_pointer(said, i), text) == 0)
            return; /* conditions of several places say the same */
    mos_vec_push_pointer(said, text);
    mos_buf_printf(out, "%s%s", out->length ? " && " : "", text);
}

const char *mos_kc_unmet(struct mos_kc_config *c, const struct mos_kc_expr *e,
                         enum mos_tri wanted) {
    struct mos_buf out = {.arena = c->arena};
    struct mos_vec said = mos_vec_make(c->arena, sizeof(char *));
    add_unmet(c, e, wanted, &said, &out);
    return mos_buf_string(&out);
}

/* ---- requests ---- */

static const struct mos_kc_refused *refusal_of(const struct mos_kc_config *c,
                                               const struct mos_setting *setting) {
    for (size_t i = 0; i < c->refused.count; i++) {
        const struct mos_kc_refused *r = mos_vec_at(&c->refused, i);
        if (r->setting == setting)
            return r;
    }
    return NULL;
}

static const struct mos_kc_symbol *selecter(struct mos_kc_config *c, const struct mos_kc_symbol *s,
                                            enum mos_tri above) {
    for (const struct mos_kc_property *p = s->selected_by; p; p = p->other)
        if (mos_kc_tri(c, p->entry->symbol) > above && mos_kc_expr_value(c, p->condition) > above)
            return p->entry->symbol;
    return NULL;
}

/* What would have to hold for one of its prompts: that of the one which is nearest to it. */
static const char *hidden_by(struct mos_kc_config *c, const struct mos_kc_symbol *s,
                             enum mos_tri wanted) {
    const char *best = "";
    for (const struct mos_kc_property *p = s->first[MOS_KC_PROMPT]; p; p = p->next) {
        const char *unmet = mos_kc_unmet(c, p->condition, wanted);
        if (!*best || strlen(unmet) < strlen(best))
            best = unmet;
    }
    return best;
}

static void answer_three(struct mos_kc_config *c, enum mos_tri wanted, struct mos_kc_answer *a) {
    const struct mos_kc_symbol *s = a->symbol;
    const struct mos_kc_value *v = &c->values[s->index];
    if (v->tri == wanted)
        return;
    if (v->tri > wanted) {
        a->reason = MOS_KC_SELECTED;
        a->by = selecter(c, s, wanted);
        if (!a->by && wanted == MOS_TRI_M && c->modules == MOS_TRI_N && v->visible) {
            a->reason = MOS_KC_NO_MODULES;
            a->by = c->tree->modules;
        } else if (!a->by && s->choice && v->visible) {
            a->reason = MOS_KC_NOT_CHOSEN;
            a->by = s;
        } else if (!a->by) {
            a->reason = s->first[MOS_KC_PROMPT] ? MOS_KC_BY_DEFAULT : MOS_KC_NO_PROMPT;
            a->text = hidden_by(c, s, MOS_TRI_M);
        }
    } else if (!s->first[MOS_KC_PROMPT]) {
        a->reason = MOS_KC_NO_PROMPT;
    } else if (s->choice && v->visible == MOS_TRI_Y) {
        a->reason = MOS_KC_NOT_CHOSEN;
        a->by = c->values[s->choice->index].member;
    } else {
        a->reason = MOS_KC_HIDDEN;
        a->text = hidden_by(c, s, wanted);
    }
}

struct mos_kc_answer mos_kc_answer(struct mos_kc_config *c, const struct mos_setting *setting) {
    const char *name = setting->symbol + (strncmp(setting->symbol, "CONFIG_", 7) == 0 ? 7 : 0);
    struct mos_kc_answer a = {.symbol = mos_kc_find(c->tree, name), .text = "", .value = ""};
    const struct mos_kc_refused *r = refusal_of(c, setting);
    if (!a.symbol || !a.symbol->entry || a.symbol->is_choice) {
        a.reason = MOS_KC_NO_SYMBOL;
        a.symbol = NULL;
        return a;
    }
    a.value = mos_kc_text(c, a.symbol);
    const struct mos_kc_value *v = &c->values[a.symbol->index];
    if (r) {
        a.reason = MOS_KC_NO_VALUE;
        a.text = r->why;
        return a;
    }
    bool three = a.symbol->type == MOS_KC_BOOL || a.symbol->type == MOS_KC_TRISTATE;
    if (v->setting != setting && (three || strcmp(setting->value, "n") != 0)) {
        bool same = v->setting && strcmp(v->setting->value, setting->value) == 0;
        a.reason = same ? MOS_KC_KEPT : MOS_KC_OVERRULED;
        return a;
    }
    if (three) {
        answer_three(c,
                     *setting->value == 'y'   ? MOS_TRI_Y
                     : *setting->value == 'm' ? MOS_TRI_M
                                              : MOS_TRI_N,
                     &a);
    } else if (v->asked && v->visible == MOS_TRI_N && strcmp(a.value, v->asked_text) != 0) {
        a.reason = a.symbol->first[MOS_KC_PROMPT] ? MOS_KC_HIDDEN : MOS_KC_NO_PROMPT;
        a.text = hidden_by(c, a.symbol, MOS_TRI_M);
    }
    return a;
}
