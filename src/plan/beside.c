/* Files that are named for what is done with a board beside it: are they there? */
#include "plan/steps.h"

#include "base/text.h"

void mos_plan_beside(struct mos_plan *plan) {
    const struct mos_named *serve = &plan->board->serve;
    const struct mos_acceptance *a = plan->board->acceptance;
    struct mos_file_info info;
    const char *full;
    for (size_t i = 0; i < serve->count; i++) {
        const struct mos_serve_def *d = serve->items[i];
        if (mos_has(d->file))
            mos_plan_reach(plan, d->file->text, MOS_FILE_REGULAR,
                           mos_printf(plan->ctx->arena, "served file %s", d->r.name),
                           d->file->place, &full, &info);
    }
    if (a && mos_has(a->password_file))
        mos_plan_reach(plan, a->password_file->text, MOS_FILE_REGULAR,
                       "password for the acceptance", a->password_file->place, &full, &info);
}
