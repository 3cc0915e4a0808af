/* Budgets: what they count, and how much it was in the last build. */
#include "plan/plan.h"

#include "base/bytes.h"

#include "ledger/ledger.h"

#include <stdlib.h>
#include <string.h>

static const struct mos_region_plan *region_of(const struct mos_plan *plan,
                                               const struct mos_region *def) {
    for (size_t m = 0; m < plan->media.count; m++) {
        const struct mos_medium_plan *medium = mos_vec_pointer(&plan->media, m);
        for (size_t i = 0; i < medium->regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
            if (r->def == def && !r->copy)
                return r;
        }
    }
    return NULL;
}

static bool add_part(const struct mos_plan *plan, struct mos_budget_plan *b,
                     const struct mos_value *v, uint64_t *regions) {
    const struct mos_piece_plan *p = mos_plan_piece(plan, v->target);
    const struct mos_region_plan *r = p ? NULL : region_of(plan, v->target);
    if (p ? !mos_plan_is_there(p) : !r || !r->placed || (r->fs && !r->counted))
        return false;
    struct mos_budget_part *part = mos_vec_push(&b->parts);
    *part = (struct mos_budget_part){.name = v->text, .piece = p, .region = r};
    if (p) {
        part->bytes = p->size;
        part->place = p->def->r.key_place;
    } else {
        part->bytes = r->fs ? r->result.content + r->result.structure : r->content;
        part->place = r->def->r.key_place;
        *regions += r->length;
    }
    b->used += part->bytes;
    return true;
}

static int larger_first(const void *a, const void *b) {
    const struct mos_budget_part *x = a, *y = b;
    return (x->bytes < y->bytes) - (x->bytes > y->bytes);
}

static void settle(const struct mos_plan *plan, struct mos_budget_plan *b) {
    uint64_t regions = 0;
    const struct mos_value *limit = b->def->limit;
    b->known = mos_has(limit) && b->def->of.count && !b->def->r.broken;
    for (size_t i = 0; i < b->def->of.count; i++)
        if (!mos_has(b->def->of.items[i]) || !b->def->of.items[i]->target ||
            !add_part(plan, b, b->def->of.items[i], &regions))
            b->known = false;
    if (b->known && limit->percent) {
        b->limit = regions / 100 * limit->number;
        b->known = regions != 0;
    } else if (b->known) {
        b->limit = limit->number;
    }
    if (b->parts.count)
        qsort(b->parts.items, b->parts.count, sizeof(struct mos_budget_part), larger_first);
}

/* ---- the last build ---- */

static void compare_ledger(const struct mos_plan *plan) {
    struct mos_ctx *ctx = plan->ctx;
    struct mos_ledger_last last;
    const char *folder =
        ctx->out_folder ? ctx->out_folder : mos_path_join(ctx->arena, plan->board->root, "out");
    if (!mos_ledger_last(ctx, mos_path_join(ctx->arena, folder, plan->board->selector), &last))
        return;
    for (size_t k = 0; k < plan->budgets.count; k++) {
        struct mos_budget_plan *b = mos_vec_pointer(&plan->budgets, k);
        const uint64_t *used = mos_map_get(&last.budgets, b->def->r.name);
        b->before = used ? *used : 0;
    }
}

void mos_plan_budgets(struct mos_plan *plan) {
    if (plan->budgets.count)
        return;
    for (size_t i = 0; i < plan->board->budgets.count; i++) {
        struct mos_budget_plan *b = mos_alloc(plan->ctx->arena, sizeof *b);
        b->def = plan->board->budgets.items[i];
        b->parts = mos_vec_make(plan->ctx->arena, sizeof(struct mos_budget_part));
        settle(plan, b);
        mos_vec_push_pointer(&plan->budgets, b);
    }
    if (plan->budgets.count)
        compare_ledger(plan);
}
