#include "plan/plan.h"

struct mos_plan *mos_plan_make(struct mos_ctx *ctx, const struct mos_board *board) {
    struct mos_plan *plan = mos_alloc(ctx->arena, sizeof *plan);
    plan->ctx = ctx;
    plan->board = board;
    struct mos_vec *lists[] = {&plan->pieces, &plan->media,   &plan->environments,
                               &plan->blobs,  &plan->entries, &plan->budgets};
    for (size_t i = 0; i < sizeof lists / sizeof *lists; i++)
        *lists[i] = mos_vec_make(ctx->arena, sizeof(void *));
    plan->script_text.arena = plan->script_file.arena = ctx->arena;
    plan->menu_text.arena = plan->parcel.arena = ctx->arena;
    plan->boot_overlays = mos_vec_make(ctx->arena, sizeof(void *));
    plan->tree_choices = mos_vec_make(ctx->arena, sizeof(void *));
    plan->replacements = mos_vec_make(ctx->arena, sizeof(struct mos_replacement));
    plan->loader_config = mos_map_make(ctx->arena);
    plan->config = mos_map_make(ctx->arena);
    plan->boot_prefix = "";
    if (!mos_plan_pieces(plan) || !mos_plan_lock(plan) || !mos_plan_packs(plan) ||
        !mos_plan_environments(plan))
        return NULL;
    mos_plan_layout(plan);
    if (!mos_plan_config(plan) || !mos_plan_trees(plan))
        return NULL;
    if (!mos_plan_ramdisks(plan))
        return NULL;
    mos_plan_boot(plan);
    return plan;
}
