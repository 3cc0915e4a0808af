#include "plan/made/made.h"

#include <string.h>

/* A key of the merged definition, as in "hardware.console". */
static bool is_stated(const struct mos_node *node, const char *path) {
    while (node && *path) {
        size_t n = strcspn(path, ".");
        const struct mos_node *next = NULL;
        for (size_t i = 0; node->kind == MOS_NODE_MAP && i < node->count && !next; i++)
            if (strlen(node->items[i]->key) == n && memcmp(node->items[i]->key, path, n) == 0)
                next = node->items[i];
        node = next;
        path += n;
        path += *path == '.';
    }
    return node != NULL;
}

/* Questions that a draft left open count until the key that answers them is there. */
static void open_questions(struct mos_plan *plan) {
    const struct mos_named *all = &plan->board->questions;
    for (size_t i = 0; i < all->count; i++) {
        const struct mos_question *q = all->items[i];
        if (!mos_has(q->ask) ||
            (mos_has(q->answer) && is_stated(plan->board->r.node, q->answer->text)))
            continue;
        struct mos_position p = mos_source_position(q->ask->place.source, q->ask->place.offset);
        mos_vec_push_pointer(&plan->ctx->not_proved,
                             mos_printf(plan->ctx->arena, "%s:%u asks: %s",
                                        q->ask->place.source->shown_path, p.line, q->ask->text));
    }
}

struct mos_plan *mos_plan_make(struct mos_ctx *ctx, const struct mos_board *board) {
    struct mos_plan *plan = mos_alloc(ctx->arena, sizeof *plan);
    plan->self = plan;
    plan->ctx = ctx;
    plan->board = board;
    struct mos_vec *lists[] = {&plan->pieces,  &plan->media,   &plan->environments,
                               &plan->blobs,   &plan->entries, &plan->budgets,
                               &plan->indexes, &plan->settings};
    for (size_t i = 0; i < sizeof lists / sizeof *lists; i++)
        *lists[i] = mos_vec_make(ctx->arena, sizeof(void *));
    plan->script_text.arena = plan->script_file.arena = ctx->arena;
    plan->menu_text.arena = plan->parcel.arena = ctx->arena;
    plan->boot_overlays = mos_vec_make(ctx->arena, sizeof(void *));
    plan->tree_choices = mos_vec_make(ctx->arena, sizeof(void *));
    plan->replacements = mos_vec_make(ctx->arena, sizeof(struct mos_replacement));
    plan->loader_config = mos_map_make(ctx->arena);
    plan->config = mos_map_make(ctx->arena);
    plan->files = mos_map_make(ctx->arena);
    plan->boot_prefix = "";
    open_questions(plan);
    mos_plan_loader(plan);
    if (!mos_plan_pieces(plan) || !mos_plan_lock(plan) || !mos_plan_packs(plan) ||
        !mos_plan_environments(plan))
        return NULL;
    mos_plan_layout(plan);
    if (!mos_plan_config(plan) || !mos_plan_trees(plan))
        return NULL;
    if (!mos_plan_ramdisks(plan))
        return NULL;
    mos_plan_tree_regions(plan);
    mos_plan_boot(plan);
    mos_plan_settings(plan);
    mos_plan_beside(plan);
    return plan;
}
