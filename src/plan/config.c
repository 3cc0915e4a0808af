/* Configurations of kernel and loader: fragments, merged, and settled over their sources. */
#include "plan/steps.h"

#include <string.h>

static struct mos_config_part *read_part(struct mos_plan *plan, const struct mos_value *path,
                                         const char *name) {
    const struct mos_source *s = mos_has(path) ? mos_plan_source(plan, path, name) : NULL;
    return s ? mos_config_read(plan->ctx, name, s) : NULL;
}

/* Where sources are; what is wrong with that is told here. */
static const char *find_source(struct mos_plan *plan, const struct mos_value *source,
                               const char *what) {
    struct mos_file_info info;
    const char *full;
    return mos_has(source) && mos_plan_reach(plan, source->text, MOS_FILE_FOLDER, what,
                                             source->place, &full, &info)
               ? full
               : NULL;
}

/* The start and the fragments; *count of them. */
static struct mos_config_part **read_parts(struct mos_plan *plan,
                                           const struct mos_kernel_config *config, size_t *count) {
    const struct mos_named *fragments = &config->fragments;
    struct mos_config_part **parts =
        mos_alloc_array(plan->ctx->arena, fragments->count + 1, sizeof(void *));
    struct mos_config_part *start = config->start ? read_part(plan, config->start, "start") : NULL;
    *count = 0;
    if (start) {
        start->start = true;
        parts[(*count)++] = start;
    }
    for (size_t i = 0; i < fragments->count; i++) {
        const struct mos_fragment *f = fragments->items[i];
        struct mos_config_part *part = read_part(plan, f->file, f->r.name);
        if (!part)
            continue;
        for (size_t e = 0; e < *count && mos_has(f->contradicts); e++)
            if (strcmp(parts[e]->name, f->contradicts->text) == 0)
                part->contradicts = parts[e];
        parts[(*count)++] = part;
    }
    return parts;
}

/* Reads and merges; how many files there are. */
static size_t merge(struct mos_plan *plan, const struct mos_kernel_config *config,
                    struct mos_map *merged, struct mos_settled *settled,
                    struct mos_config_part ***parts) {
    size_t count, before = mos_findings_count(&plan->ctx->findings, MOS_SEVERITY_ERROR);
    settled->from = plan->ctx->findings.items.count;
    *parts = read_parts(plan, config, &count);
    *merged = mos_config_merge(plan->ctx, *parts, count);
    settled->to = plan->ctx->findings.items.count;
    settled->whole = mos_findings_count(&plan->ctx->findings, MOS_SEVERITY_ERROR) == before;
    return count;
}

bool mos_plan_config(struct mos_plan *plan) {
    const struct mos_kernel *k = plan->board->kernel;
    struct mos_settled *s = &plan->kernel_settled;
    struct mos_config_part **parts;
    if (k)
        s->source = find_source(plan, k->source, "kernel sources");
    if (!k || !k->config)
        return true;
    size_t count = merge(plan, k->config, &plan->config, s, &parts);
    plan->has_config = count != 0;
    if (count)
        mos_plan_kconfig(plan, parts, count);
    return plan->ctx->error->kind == MOS_ERROR_NONE;
}

void mos_plan_loader_config(struct mos_plan *plan) {
    const struct mos_loader *l = plan->board->loader;
    struct mos_settled *s = &plan->loader_settled;
    struct mos_config_part **parts;
    s->source = find_source(plan, l->source, "loader sources");
    if (s->source && !l->config)
        mos_vec_push_pointer(&plan->ctx->not_proved,
                             "what the loader's sources make: config: says from what");
    if (!l->config)
        return;
    size_t count = merge(plan, l->config, &plan->loader_config, s, &parts);
    if (count && s->source)
        mos_plan_loader_kconfig(plan, parts, count);
}
