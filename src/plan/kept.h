/* Between kept.c and contents.c: picking files out of what a fill brings. */
#ifndef MOS_PLAN_KEPT_H
#define MOS_PLAN_KEPT_H

#include "plan/plan.h"
#include "plan/shared.h"

/* Picks files out of what a fill brings. */
struct kept_picker {
    const struct mos_inventory *inv;
    struct mos_arena *arena;
    const char *path; /* as the inventory has it */
    uint32_t index;
    uint64_t size;
    bool by_links;        /* a fill's own path may lead there through links of the volume */
    struct mos_map *kept; /* path in the fill -> struct mos_kept_bytes * */
    const struct mos_sink *through; /* who wants all of it besides; NULL: nobody */
    struct mos_kept_bytes *current, *found;
};

/* Feed it with what the fill brings; picker->found is set once the file was met. */
struct mos_sink kept_sink(struct kept_picker *picker);
/* What is kept of an archive goes by its content and the place that it is filled into; NULL: its
 * hash is not known. */
const char *kept_key(const struct mos_plan *plan, const struct mos_piece_plan *archive,
                     const struct mos_fill *fill, const char *path);
/* NULL: it is not kept. */
struct mos_kept_bytes *kept_find(struct mos_plan *plan, const char *key, const char *path,
                                 uint64_t size);
/* Keeps all that was picked. */
void kept_keep(struct mos_plan *plan, const struct mos_piece_plan *archive,
               const struct mos_fill *fill, const struct kept_picker *picker);

#endif
