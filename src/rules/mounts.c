/* The mount table against the layout and what the root volume holds. */
#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

struct view {
    const struct mos_plan *plan;
    const struct mos_mount *m;
    struct mos_findings *list;
};

static struct mos_finding *wrong(const struct view *v, struct mos_place place, const char *text,
                                 const char *remedy) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_VOLUME_MOUNTS, "Mount %s: %s.", v->m->r.name, text);
    mos_finding_at(v->list, f, place);
    mos_finding_try(v->list, f, "%s", remedy);
    return f;
}

static void check_source(const struct view *v) {
    const struct mos_region_plan *r = mos_plan_region(v->plan, v->m->r.name);
    struct mos_arena *arena = v->plan->ctx->arena;
    if (mos_has(v->m->what)) {
        if (strncmp(v->m->what->text, "/dev/sd", 7) == 0 ||
            strncmp(v->m->what->text, "/dev/hd", 7) == 0) {
            struct mos_finding *f = wrong(
                v, v->m->what->place,
                mos_printf(arena, "%s may be another device at the next start", v->m->what->text),
                "Name the mount after a region, or state PARTUUID=… or LABEL=….");
            f->severity = MOS_SEVERITY_WARNING;
        }
        return;
    }
    if (!r && !v->m->kind)
        wrong(v, v->m->r.key_place, "there is no region of that name",
              "The name of a region; or what: and kind: for another file system.");
    else if (r && !r->number && !r->def->r.broken)
        mos_finding_at(v->list,
                       wrong(v, v->m->r.key_place, "its region is no partition",
                             "Give the region a number in the partition table."),
                       r->def->r.key_place);
    else if (r && !r->fs && !r->strange_fs && !r->def->r.broken)
        mos_finding_at(v->list,
                       wrong(v, v->m->r.key_place, "its region holds no file system",
                             "volume: {kind: ext4} for that region."),
                       r->def->r.key_place);
}

static void check_point(const struct view *v, const struct mos_region_plan *root) {
    struct mos_buf buffer = {.arena = v->plan->ctx->arena};
    const char *path = mos_entry_path(&buffer, v->m->at->text);
    uint32_t index;
    if (v->m->at->text[0] != '/' || !path) {
        wrong(v, v->m->at->place, "a mount point is an absolute path", "at: /data");
        return;
    }
    if (!root || !root->volume || !*path || mos_inv_find(root->volume->inventory, path, &index))
        return;
    /* a link on the way leads somewhere else: not for this rule to follow */
    char *part = mos_strdup(v->plan->ctx->arena, path);
    for (char *slash; (slash = strrchr(part, '/'));) {
        *slash = 0;
        if (mos_inv_find(root->volume->inventory, part, &index))
            if (mos_inv_node(root->volume->inventory, index)->type == MOS_ENTRY_LINK)
                return;
    }
    struct mos_finding *f =
        wrong(v, v->m->at->place,
              mos_printf(v->plan->ctx->arena, "%s has no folder %s", root->name, v->m->at->text),
              "Bring the folder with a fill, or mount it where there is one.");
    mos_finding_at(v->list, f, root->def->r.key_place);
    mos_finding_why(v->list, f, "A read-only root cannot make it either.");
}

void mos_rule_mounts(const struct mos_plan *plan) {
    const struct mos_system *s = plan->board->system;
    const struct mos_region_plan *root = mos_plan_root(plan);
    for (size_t i = 0; s && i < s->mounts.count && !mos_findings_full(&plan->ctx->findings); i++) {
        struct view v = {plan, s->mounts.items[i], &plan->ctx->findings};
        if (v.m->r.broken || !mos_has(v.m->at))
            continue;
        check_source(&v);
        check_point(&v, root);
        for (size_t k = 0; k < i && !mos_findings_full(v.list); k++) {
            const struct mos_mount *o = s->mounts.items[k];
            if (mos_has(o->at) && strcmp(o->at->text, v.m->at->text) == 0) {
                struct mos_finding *f = wrong(&v, v.m->at->place, "its mount point is used twice",
                                              "Another mount point for one of them.");
                mos_finding_at(v.list, f, o->at->place);
            }
        }
    }
}
