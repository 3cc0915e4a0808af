/* What the loader finds when it looks for something to start: the first that it meets wins. */
#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

struct search_view {
    const struct mos_plan *plan;
    const struct mos_loader_search *search;
    struct mos_findings *list;
    struct mos_arena *arena;
};

/* The first file of those that the loader looks for; NULL: the volume has none of them. */
static const char *first_file(const struct search_view *v, const struct mos_region_plan *r,
                              size_t *rank) {
    static const char *const folders[] = {"", "boot/"};
    uint32_t index;
    size_t n = 0;
    for (size_t k = 0; k < 2 && r->volume; k++)
        for (const char *const *name = v->search->files; *name; name++, n++) {
            const char *path = mos_printf(v->arena, "%s%s", folders[k], *name);
            if (mos_inv_find(r->volume->inventory, path, &index) && index) {
                *rank = n;
                return path;
            }
        }
    return NULL;
}

static const char *own_file(const struct mos_plan *plan) {
    return plan->menu_text.length ? plan->dialect->menu_file : plan->dialect->script_file;
}

static void shadowed(const struct search_view *v, const struct mos_region_plan *r, const char *path,
                     const char *why) {
    const struct mos_plan *plan = v->plan;
    uint32_t index;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_BOOT_SHADOWED, "The loader starts %s of %s, not our %s.", path,
                 r->name, own_file(plan));
    const struct mos_fill *fill =
        mos_inv_find(r->volume->inventory, path, &index)
            ? mos_plan_fill_at(r, mos_inv_node(r->volume->inventory, index)->fill)
            : NULL;
    mos_finding_at(v->list, f, fill ? fill->r.key_place : r->def->r.key_place);
    mos_finding_at(v->list, f, plan->boot_region->def->r.key_place);
    mos_finding_why(v->list, f, "%s", why);
    mos_finding_try(v->list, f, "Add except: [%s] to that fill.", path);
}

static void check_own_volume(const struct search_view *v) {
    const struct mos_region_plan *r = v->plan->boot_region;
    const char *own = mos_path_join(v->arena, v->plan->boot_prefix ? v->plan->boot_prefix : "",
                                    own_file(v->plan));
    size_t rank;
    const char *path = first_file(v, r, &rank);
    if (path && strcmp(path, own) != 0)
        shadowed(v, r, path, "It looks for that one first on the same volume.");
}

/* "mmc 0" is mmc0 in the list of media that are tried. */
static size_t place_in_list(const struct search_view *v, const char *device, const char *list) {
    size_t n = strcspn(device, " "), k = 0;
    const char *number = device[n] ? device + n + 1 : "0";
    const char *name = mos_printf(v->arena, "%.*s%s", (int)n, device, number);
    for (const char *p = list; *(p += strspn(p, " ")); k++) {
        size_t length = strcspn(p, " ");
        if (length == strlen(name) && strncmp(p, name, length) == 0)
            return k;
        p += length;
    }
    return SIZE_MAX;
}

static bool is_searched(const struct mos_medium_plan *m, const struct mos_region_plan *r) {
    bool marked = false;
    for (size_t i = 0; i < m->regions.count; i++)
        marked |= ((struct mos_region_plan *)mos_vec_pointer(&m->regions, i))->bootable;
    return r->number && r->volume && (marked ? r->bootable : r->number == 1);
}

/* On media that are tried before ours, and on partitions before ours. */
static void check_others(const struct search_view *v) {
    const struct mos_plan *plan = v->plan;
    const struct mos_loader_variable *targets = mos_plan_loader_variable(plan, v->search->media);
    const struct mos_value *own = plan->boot_medium->medium->loader;
    size_t ours = targets && mos_has(own) ? place_in_list(v, own->text, targets->value) : SIZE_MAX;
    for (size_t i = 0; i < plan->media.count; i++) {
        const struct mos_medium_plan *m = mos_vec_pointer(&plan->media, i);
        const struct mos_value *name = m->medium->loader;
        size_t place =
            targets && mos_has(name) ? place_in_list(v, name->text, targets->value) : SIZE_MAX;
        bool same = m == plan->boot_medium;
        for (size_t k = 0; k < m->regions.count; k++) {
            const struct mos_region_plan *r = mos_vec_pointer(&m->regions, k);
            size_t rank;
            bool earlier = same ? r->number < plan->boot_region->number
                                : ours != SIZE_MAX && place != SIZE_MAX && place < ours;
            const char *path = r != plan->boot_region && earlier && is_searched(m, r)
                                   ? first_file(v, r, &rank)
                                   : NULL;
            if (path) {
                shadowed(v, r, path,
                         same ? "It looks at that partition first."
                              : mos_printf(v->arena, "It tries %s before %s.", m->name,
                                           plan->boot_medium->name));
                return;
            }
        }
    }
}

void mos_rule_search(const struct mos_plan *plan) {
    if (!plan->dialect || !plan->boot_region || !plan->boot_region->volume || !plan->boot_medium ||
        (!plan->menu_text.length && !plan->script_file.length))
        return;
    struct search_view v = {plan, &plan->dialect->search, &plan->ctx->findings, plan->ctx->arena};
    if (!mos_plan_loader_variable(plan, v.search->mark)) /* it does not search, or nobody knows */
        return;
    check_own_volume(&v);
    check_others(&v);
}
