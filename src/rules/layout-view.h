/* What the rules about layouts share: one medium, looked at. */
#ifndef MOS_RULES_LAYOUT_VIEW_H
#define MOS_RULES_LAYOUT_VIEW_H

#include "rules/rules.h"

struct layout_view {
    const struct mos_plan *plan;
    const struct mos_medium_plan *m;
    struct mos_findings *list;
    struct mos_arena *arena;
};

/* The medium at an index of plan->media. */
static inline struct layout_view view_of(const struct mos_plan *plan, size_t medium) {
    return (struct layout_view){plan, mos_vec_pointer(&plan->media, medium), &plan->ctx->findings,
                                plan->ctx->arena};
}

/* Its region at an index, copies included. */
static inline const struct mos_region_plan *region(const struct layout_view *v, size_t i) {
    return mos_vec_pointer(&v->m->regions, i);
}

/* A place that was not written down is explained by the region's name. */
static inline struct mos_place stated_place(const struct mos_region_plan *r) {
    return r->place.source ? r->place : r->def->r.key_place;
}

#endif
