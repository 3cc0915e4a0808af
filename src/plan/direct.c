/* A stage that starts the kernel by itself: nobody else tells the kernel anything, so that its tree
 * has the arguments. */
#include "plan/steps.h"

#include "tree/tree.h"

#include <string.h>

/* The blob is written again, as its tree is now. */
static void write_again(struct mos_plan *plan, struct mos_blob_plan *b) {
    b->blob.length = 0;
    mos_dt_write_blob(plan->ctx, b->tree, plan->board->tree->overlays.count != 0, &b->blob);
}

void mos_plan_direct(struct mos_plan *plan, struct mos_entry_plan *e, struct mos_blob_plan *b) {
    enum { HEADER = 64 }; /* it is read in front of where the rest belongs */
    if (e->kernel_known && e->header.wrapped && e->header.load > HEADER) {
        e->step.kernel.given = true;
        e->step.kernel.ranges[MOS_RANGE_LOADED].start = e->header.load - HEADER;
    }
    if (!b || !b->tree || !*e->step.arguments)
        return;
    struct mos_dt_node *chosen = mos_dt_child(b->tree->root, "chosen");
    const char *own = chosen ? mos_dt_string(chosen, "bootargs") : NULL;
    if (own && *own && strcmp(own, e->step.arguments) != 0)
        b->own_arguments = mos_strdup(plan->ctx->arena, own);
    if (!chosen)
        chosen = mos_dt_add_node(b->tree, b->tree->root, "chosen");
    mos_dt_set_text(b->tree, chosen, "bootargs", e->step.arguments);
    write_again(plan, b);
}
