/* The kernel's configuration: fragments, merged. */
#include "plan/steps.h"

#include <string.h>

static struct mos_config_part *read_part(struct mos_plan *plan, const struct mos_value *path,
                                         const char *name) {
    const struct mos_source *s = mos_has(path) ? mos_plan_source(plan, path, name) : NULL;
    return s ? mos_config_read(plan->ctx, name, s) : NULL;
}

/* Where its sources are; what is wrong with that is told here. */
static void find_source(struct mos_plan *plan, const struct mos_kernel *k) {
    struct mos_file_info info;
    const char *full;
    if (mos_has(k->source) && mos_plan_reach(plan, k->source->text, MOS_FILE_FOLDER,
                                             "kernel sources", k->source->place, &full, &info))
        plan->kernel_source = full;
}

bool mos_plan_config(struct mos_plan *plan) {
    const struct mos_kernel *k = plan->board->kernel;
    if (k)
        find_source(plan, k);
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
    if (count)
        mos_plan_kconfig(plan, parts, count);
    return plan->ctx->error->kind == MOS_ERROR_NONE;
}
