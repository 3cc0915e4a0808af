/* What fragments ask for, and what the kernel's sources make of it. */
#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

struct requests_view {
    const struct mos_kc_requests *all;
    struct mos_kc_config *c;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static const char *name_of(const struct mos_kc_symbol *s) {
    return s->name ? s->name : "a choice";
}

static struct mos_finding *tell(struct requests_view *v, enum mos_rule_id rule,
                                const struct mos_setting *s, const struct mos_kc_symbol *symbol,
                                const char *text) {
    struct mos_finding *f = mos_find(v->list, rule, "%s", text);
    mos_finding_at(v->list, f, s->place);
    if (symbol && symbol->entry)
        mos_finding_at(v->list, f, symbol->entry->place);
    return f;
}

enum { MOST_NAMES = 3 };

/* How many words a name has more than those of `word`, which it has all, in their order; SIZE_MAX:
 * it has not. */
static size_t extra_words(const char *name, const char *word) {
    size_t extra = 0;
    while (*name) {
        size_t n = strcspn(name, "_"), w = strcspn(word, "_");
        bool same = *word && n == w && strncmp(name, word, n) == 0;
        if (same)
            word += w + (word[w] != 0);
        extra += !same;
        name += n + (name[n] != 0);
    }
    return *word ? SIZE_MAX : extra;
}

/* Up to MOST_NAMES names that may be meant: those that have all its words, the fewest more first;
 * else one that is written much like it. */
static size_t meant(struct requests_view *v, const char *word, const char *out[MOST_NAMES]) {
    const struct mos_kc_tree *t = v->c->tree;
    const char **names = mos_alloc_array(v->arena, t->all.count, sizeof *names);
    size_t count = 0, found = 0, extra[MOST_NAMES];
    for (size_t i = 0; i < t->all.count; i++) {
        const struct mos_kc_symbol *k = mos_vec_pointer(&t->all, i);
        if (!k->entry || !k->name || k->is_choice)
            continue;
        names[count++] = k->name;
        size_t n = extra_words(k->name, word), at = found;
        while (at && n < extra[at - 1])
            at--;
        if (n > 2 || at == MOST_NAMES)
            continue;
        size_t moved = (found < MOST_NAMES ? found : MOST_NAMES - 1) - at;
        memmove(&out[at + 1], &out[at], moved * sizeof *out);
        memmove(&extra[at + 1], &extra[at], moved * sizeof *extra);
        out[at] = k->name;
        extra[at] = n;
        found += found < MOST_NAMES;
    }
    while (found > 1 && extra[found - 1] > extra[0])
        found--;
    if (!found && (out[0] = mos_near(word, names, count)))
        found = 1;
    return found;
}

static void tell_unknown(struct requests_view *v, const struct mos_setting *s) {
    struct mos_finding *f = tell(v, MOS_RULE_KERNEL_UNKNOWN_SYMBOL, s, NULL,
                                 mos_printf(v->arena, "These sources have no %s.", s->symbol));
    const char *names[MOST_NAMES];
    size_t count = meant(v, s->symbol + 7, names);
    struct mos_buf text = {.arena = v->arena};
    for (size_t i = 0; i < count; i++)
        mos_buf_printf(&text, "%sCONFIG_%s", !i ? "" : i + 1 == count ? " or " : ", ", names[i]);
    mos_finding_why(v->list, f, "The request has no effect, and no build tells of it.");
    if (count)
        mos_finding_try(v->list, f, "Write %s, if %s is meant; else remove the line.",
                        mos_buf_string(&text), count == 1 ? "that" : "one of them");
    else
        mos_finding_try(v->list, f, "Remove the line, or correct the name.");
}

/* "CONFIG_A=y and CONFIG_B=y" */
static const char *listed(struct requests_view *v, const struct mos_setting *const *set,
                          size_t count) {
    struct mos_buf out = {.arena = v->arena};
    for (size_t i = 0; i < count; i++)
        mos_buf_printf(&out, "%s%s=%s",
                       !i               ? ""
                       : i + 1 == count ? " and "
                                        : ", ",
                       set[i]->symbol, set[i]->value);
    return mos_buf_string(&out);
}

/* Working it out again and again takes a while: for the first ones only. */
enum { MOST_SETS = 20 };

static void try_set(struct requests_view *v, struct mos_finding *f, const struct mos_setting *s,
                    size_t told) {
    struct mos_kc_way way = {0};
    if (told < MOST_SETS)
        way = mos_kc_lack(v->arena, v->c, s);
    if (!way.set && way.stuck)
        mos_finding_try(v->list, f, "Remove the line: nothing in these sources switches %s on.",
                        name_of(way.stuck));
    else if (!way.set)
        mos_finding_try(v->list, f, "Add what is unmet, or drop this request.");
    else
        mos_finding_try(v->list, f, "Add %s: with %s (%s).", listed(v, way.set, way.count),
                        way.count == 1 ? "it the request is kept"
                        : way.smallest ? "them it is kept, and fewer would not do"
                                       : "them it is kept, and none is too many",
                        mos_kc_changes_text(v->arena, &way.changes));
}

static void tell_dropped(struct requests_view *v, const struct mos_setting *s,
                         const struct mos_kc_answer *a, size_t told) {
    struct mos_finding *f = tell(v, MOS_RULE_KERNEL_DROPPED, s, a->symbol,
                                 mos_printf(v->arena, "%s=%s is asked for, and comes to %s.",
                                            s->symbol, s->value, a->value));
    switch (a->reason) {
    case MOS_KC_NO_PROMPT: {
        struct mos_buf by = {.arena = v->arena};
        size_t count = 0;
        for (const struct mos_kc_property *p = a->symbol->selected_by; p && count < 4;
             p = p->other, count++)
            mos_buf_printf(&by, "%s%s", count ? ", " : "", name_of(p->entry->symbol));
        mos_finding_why(v->list, f, "It has no prompt: nobody can ask for it.");
        if (count)
            mos_finding_try(v->list, f, "Add one that selects it: %s.", mos_buf_string(&by));
        else
            mos_finding_try(v->list, f, "Remove the line: its default alone counts.");
        break;
    }
    case MOS_KC_NOT_CHOSEN:
        if (a->by == a->symbol) {
            mos_finding_why(v->list, f, "One of its choice is on, and no other one was asked for.");
            mos_finding_try(v->list, f, "Write =y for another one of the choice.");
            break;
        }
        mos_finding_why(v->list, f, "Of its choice another one is on: %s.",
                        a->by ? name_of(a->by) : "none");
        mos_finding_try(v->list, f, "Write it last, and no other one of the choice.");
        break;
    default:
        mos_finding_why(v->list, f, "Unmet: %s.", *a->text ? a->text : "what it depends on");
        try_set(v, f, s, told);
    }
}

static void tell_forced(struct requests_view *v, const struct mos_setting *s,
                        const struct mos_kc_answer *a) {
    struct mos_finding *f = tell(v, MOS_RULE_KERNEL_FORCED, s, a->by ? a->by : a->symbol,
                                 mos_printf(v->arena, "%s=%s is asked for, and comes to %s.",
                                            s->symbol, s->value, a->value));
    if (a->reason == MOS_KC_NO_MODULES) {
        mos_finding_why(v->list, f, "There are no modules%s%s, so it is built in.",
                        a->by ? ", without CONFIG_" : " in these sources",
                        a->by ? name_of(a->by) : "");
        mos_finding_try(v->list, f, a->by ? "Write y, or add CONFIG_%s=y." : "Write y%s.",
                        a->by ? name_of(a->by) : "");
    } else if (a->by) {
        mos_finding_why(v->list, f, "%s selects it, whatever is asked for.", name_of(a->by));
        if (a->by->first[MOS_KC_PROMPT])
            mos_finding_try(v->list, f, "Remove the line, or switch off CONFIG_%s.",
                            name_of(a->by));
        else
            mos_finding_try(v->list, f, "Remove the line.");
    } else {
        mos_finding_why(v->list, f, "Its prompt is hidden (unmet: %s), so its default counts.",
                        a->text);
        mos_finding_try(v->list, f, "Remove the line.");
    }
}

/* What a symbol can be. */
static const char *possible(struct requests_view *v, const struct mos_kc_symbol *s) {
    switch (s->type) {
    case MOS_KC_BOOL:
        return "y, or a comment that it is not set";
    case MOS_KC_TRISTATE:
        return "y, m, or a comment that it is not set";
    case MOS_KC_STRING:
        return "a text in quotation marks";
    default:
        for (const struct mos_kc_property *p = s->first[MOS_KC_RANGE]; p; p = p->next)
            if (mos_kc_expr_value(v->c, p->condition) != MOS_TRI_N)
                return mos_printf(v->arena, "a number from %s to %s", mos_kc_text(v->c, p->symbol),
                                  mos_kc_text(v->c, p->upper));
        return s->type == MOS_KC_HEX ? "a number as in 0x1f" : "a number as in 31";
    }
}

static void tell_value(struct requests_view *v, const struct mos_setting *s,
                       const struct mos_kc_answer *a) {
    struct mos_finding *f =
        tell(v, MOS_RULE_KERNEL_BAD_VALUE, s, a->symbol,
             mos_printf(v->arena, "%s cannot be %s: %s.", s->symbol, s->value, a->text));
    mos_finding_why(v->list, f, "The request has no effect: it comes to %s.",
                    *a->value ? a->value : "an empty text");
    mos_finding_try(v->list, f, "Write %s.", possible(v, a->symbol));
}

void mos_tell_requests(struct mos_ctx *ctx, struct mos_kc_config *c,
                       const struct mos_kc_requests *all) {
    struct requests_view v = {all, c, &ctx->findings, ctx->arena};
    size_t told = 0;
    for (size_t i = 0; i < all->count; i++) {
        const struct mos_setting *s = all->settings[i];
        if (!s->part || s->part->start)
            continue;
        struct mos_kc_answer a = mos_kc_answer(c, s);
        if (a.reason == MOS_KC_NO_SYMBOL)
            tell_unknown(&v, s);
        else if (a.reason == MOS_KC_NO_VALUE)
            tell_value(&v, s, &a);
        else if (a.reason == MOS_KC_SELECTED || a.reason == MOS_KC_BY_DEFAULT ||
                 a.reason == MOS_KC_NO_MODULES)
            tell_forced(&v, s, &a);
        else if (a.reason != MOS_KC_KEPT && a.reason != MOS_KC_OVERRULED)
            tell_dropped(&v, s, &a, told++);
    }
}

/* ---- counted: one finding for many lines ---- */

struct counted {
    const struct mos_setting *first, *before; /* before: what said the same; or NULL */
    const struct mos_config_part *part;
    struct mos_buf names;
    size_t count;
};

static void count_one(struct counted *c, const struct mos_setting *s,
                      const struct mos_setting *before) {
    enum { MOST_NAMED = 5 };
    if (!c->count) {
        c->first = s;
        c->before = before;
    }
    if (c->count < MOST_NAMED)
        mos_buf_printf(&c->names, "%s%s", c->count ? ", " : "", s->symbol);
    else if (c->count == MOST_NAMED)
        mos_buf_text(&c->names, " …");
    c->count++;
}

static struct mos_finding *tell_counted(struct mos_ctx *ctx, enum mos_rule_id rule,
                                        struct counted *c, const char *one, const char *many) {
    struct mos_finding *f = mos_find(&ctx->findings, rule, "%zu setting%s of %s %s: %s.", c->count,
                                     c->count == 1 ? "" : "s", c->part->source->shown_path,
                                     c->count == 1 ? one : many, mos_buf_string(&c->names));
    mos_finding_at(&ctx->findings, f, c->first->place);
    if (c->before)
        mos_finding_at(&ctx->findings, f, c->before->place);
    return f;
}

/* A start that was made for other sources: what it asks for and they do not know. */
static void tell_start(struct mos_ctx *ctx, const struct mos_kc_config *c,
                       const struct mos_kc_requests *all) {
    struct counted lost = {.names = {.arena = ctx->arena}};
    for (size_t i = 0; i < all->count; i++) {
        const struct mos_setting *s = all->settings[i];
        const struct mos_kc_symbol *k = mos_kc_find(c->tree, s->symbol + 7);
        if (!s->part || !s->part->start || strcmp(s->value, "n") == 0 || (k && k->entry))
            continue;
        lost.part = s->part;
        count_one(&lost, s, NULL);
    }
    if (!lost.count)
        return;
    struct mos_finding *f = tell_counted(ctx, MOS_RULE_KERNEL_START_UNKNOWN, &lost,
                                         "is of a symbol that these sources do not have",
                                         "are of symbols that these sources do not have");
    mos_finding_why(&ctx->findings, f,
                    "It was made for other sources; what these brought is not there.");
    mos_finding_try(&ctx->findings, f,
                    "Look whether something of it is needed, and goes by another name here.");
}

/* Lines that ask for what an earlier line asked for, with nothing else in between. */
static void tell_repeats(struct mos_ctx *ctx, const struct mos_kc_requests *all) {
    struct mos_map last = mos_map_make(ctx->arena);
    struct counted c = {.names = {.arena = ctx->arena}};
    for (size_t i = 0; i <= all->count; i++) {
        const struct mos_setting *s = i < all->count ? all->settings[i] : NULL;
        if (c.count && (!s || s->part != c.part)) {
            struct mos_finding *f =
                tell_counted(ctx, MOS_RULE_KERNEL_REPEATS, &c, "says what was said before",
                             "say what was said before");
            mos_finding_why(&ctx->findings, f, "Without it the configuration is the same.");
            mos_finding_try(&ctx->findings, f, "Remove it, or keep it to be sure.");
            c = (struct counted){.names = {.arena = ctx->arena}};
        }
        if (!s || !s->part)
            continue;
        const struct mos_setting *before = mos_map_get(&last, s->symbol);
        c.part = s->part;
        if (before && !s->part->start && strcmp(before->value, s->value) == 0)
            count_one(&c, s, before);
        mos_map_set_const(&last, s->symbol, s);
    }
}

static void tell_of(struct mos_ctx *ctx, const char *who, struct mos_kc_config *c,
                    const struct mos_kc_requests *all) {
    if (!c)
        return;
    mos_tell_requests(ctx, c, all);
    tell_start(ctx, c, all);
    tell_repeats(ctx, all);
    for (size_t i = 0; i < c->tree->said.count; i++)
        mos_vec_push_pointer(&ctx->not_proved,
                             mos_printf(ctx->arena, "the %s's sources say: %s", who,
                                        (const char *)mos_vec_pointer(&c->tree->said, i)));
}

void mos_rule_kernel_requests(const struct mos_plan *plan) {
    tell_of(plan->ctx, "kernel", plan->kernel_settled.config, &plan->kernel_settled.requests);
    tell_of(plan->ctx, "loader", plan->loader_settled.config, &plan->loader_settled.requests);
}
