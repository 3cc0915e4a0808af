#include "rules/rules.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

struct budget_view {
    const struct mos_plan *plan;
    const struct mos_budget_plan *b;
    struct mos_findings *list;
    struct mos_arena *arena;
};

static const char *about(const struct budget_view *v, uint64_t bytes) {
    return mos_size_about(v->arena, bytes);
}

static const char *contributors(const struct budget_view *v) {
    struct mos_buf b = {.arena = v->arena};
    for (size_t i = 0; i < v->b->parts.count && i < 4; i++) {
        const struct mos_budget_part *p = mos_vec_at(&v->b->parts, i);
        mos_buf_printf(&b, "%s%s %s", i ? ", " : "", p->name, about(v, p->bytes));
    }
    return mos_buf_string(&b);
}

static void add_places(const struct budget_view *v, struct mos_finding *f) {
    mos_finding_at(v->list, f, v->b->def->limit->place);
    for (size_t i = 0; i < v->b->parts.count && i < 3; i++)
        mos_finding_at(v->list, f, ((struct mos_budget_part *)mos_vec_at(&v->b->parts, i))->place);
}

static void exceeded(const struct budget_view *v) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_BUDGET_EXCEEDED, "Budget %s is exceeded by %s: %s of %s.",
                 v->b->def->r.name, about(v, v->b->used - v->b->limit), about(v, v->b->used),
                 about(v, v->b->limit));
    const struct mos_budget_part *largest = mos_vec_at(&v->b->parts, 0);
    add_places(v, f);
    mos_finding_why(v->list, f,
                    largest->piece ? "Largest: %s.  What compressing would buy tells "
                                     "mosaicum show SELECTOR budgets."
                                   : "Largest: %s.",
                    contributors(v));
    uint64_t unit = v->b->used >= 4 << 20 ? 1 << 20 : 1024;
    mos_finding_try(v->list, f, "Make one of them smaller, or set limit: %s on purpose.",
                    mos_size_exact(v->arena, mos_round_up(v->b->used, unit)));
}

static uint64_t share(const struct mos_value *v, uint64_t of, uint64_t percent) {
    if (mos_has(v) && !v->percent)
        return v->number;
    percent = mos_has(v) ? v->number : percent;
    return of / 100 * percent + of % 100 * percent / 100;
}

static void check(const struct budget_view *v) {
    if (v->b->used > v->b->limit) {
        exceeded(v);
    } else if (v->b->used > share(v->b->def->warn, v->b->limit, 95)) {
        struct mos_finding *f = mos_find(v->list, MOS_RULE_BUDGET_NEARLY,
                                         "Budget %s is nearly used up: %s of %s, %s left.",
                                         v->b->def->r.name, about(v, v->b->used),
                                         about(v, v->b->limit), about(v, v->b->limit - v->b->used));
        add_places(v, f);
        mos_finding_why(v->list, f, "Largest: %s.", contributors(v));
        mos_finding_try(v->list, f,
                        "Plan for more room, or set warn: to where the warning should begin.");
    }
    uint64_t before = v->b->before;
    if (!before || v->b->used <= before + share(v->b->def->grow_note, before, 10))
        return;
    struct mos_finding *f = mos_find(v->list, MOS_RULE_BUDGET_GREW,
                                     "Budget %s grew from %s to %s since the last build.",
                                     v->b->def->r.name, about(v, before), about(v, v->b->used));
    add_places(v, f);
    mos_finding_why(v->list, f, "Largest: %s.", contributors(v));
    mos_finding_try(v->list, f, "Look at what is new; the next build takes this size as usual.");
}

void mos_rule_budget(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->budgets.count; i++) {
        struct budget_view v = {plan, mos_vec_pointer(&plan->budgets, i), &plan->ctx->findings,
                                plan->ctx->arena};
        const struct mos_value *limit = v.b->def->limit;
        bool regions = false;
        for (size_t k = 0; k < v.b->parts.count; k++)
            regions |= ((struct mos_budget_part *)mos_vec_at(&v.b->parts, k))->region != NULL;
        if (mos_has(limit) && limit->percent && v.b->parts.count && !regions) {
            struct mos_finding *f = mos_find(
                v.list, MOS_RULE_BOARD_SCHEMA,
                "Budget %s has a share as its limit, but counts no region.", v.b->def->r.name);
            mos_finding_at(v.list, f, limit->place);
            mos_finding_try(v.list, f, "Set limit: to a size, such as 24 MiB.");
        }
        if (v.b->known)
            check(&v);
    }
}
