/* The kernel's configuration: fragments, merged. */
#include "plan/steps.h"

#include <string.h>

static struct mos_config_part *read_part(struct mos_plan *plan, const struct mos_value *path,
                                         const char *name) {
    const struct mos_source *s = mos_has(path) ? mos_plan_source(plan, path, name) : NULL;
    return s ? mos_config_read(plan->ctx, name, s) : NULL;
}

bool mos_plan_config(struct mos_plan *plan) {
    const struct mos_kernel *k = plan->board->kernel;
    if (!k || !k->config)
        return true;
    const struct mos_named *fragments = &k->config->fragments;
    struct mos_config_part **parts =
        mos_alloc_array(plan->ctx->arena, fragments->count + 1, sizeof(void *));
    size_t count = 0;
    struct mos_config_part *start =
        k->config->start ? read_part(plan, k->config->start, "start") : NULL;
    if (start) {
        start->start = true;
        parts[count++] = start;
    }
    for (size_t i = 0; i < fragments->count; i++) {
        const struct mos_fragment *f = fragments->items[i];
        struct mos_config_part *part = read_part(plan, f->file, f->r.name);
        if (!part)
            continue;
        for (size_t e = 0; e < count && mos_has(f->contradicts); e++)
            if (strcmp(parts[e]->name, f->contradicts->text) == 0)
                part->contradicts = parts[e];
        parts[count++] = part;
    }
    plan->config = mos_config_merge(plan->ctx, parts, count);
    plan->has_config = count != 0;
    return plan->ctx->error->kind == MOS_ERROR_NONE;
}
