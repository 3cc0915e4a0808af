/* Logical partitions: room for the chain of their tables, and their order. */
#include "rules/layout-view.h"

#include "base/bytes.h"
#include "base/text.h"

static const struct mos_region_plan *numbered(const struct layout_view *v, unsigned number) {
    for (size_t i = 0; i < v->m->regions.count; i++)
        if (region(v, i)->number == number && !region(v, i)->copy)
            return region(v, i);
    return NULL;
}

/* The chain hangs on a primary of its own. */
static void check_primaries(const struct layout_view *v) {
    const struct mos_region_plan *first = NULL, *taken[4];
    for (unsigned n = 1; n <= v->m->entries && n <= 4; n++)
        if (!(taken[n - 1] = numbered(v, n)))
            return;
    for (size_t i = 0; i < v->m->regions.count && !first; i++)
        if (region(v, i)->logical)
            first = region(v, i);
    if (!first)
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_LAYOUT_TOO_MANY_PRIMARIES,
                 "Region %s would be partition %u of %s; its %s has %u, and all are taken.",
                 first->name, first->number, v->m->name, v->m->table->title, v->m->entries);
    mos_finding_at(v->list, f, first->def->number->place);
    mos_finding_at(v->list, f, taken[3]->def->number->place);
    mos_finding_at(v->list, f, v->m->def->table->kind->place);
    mos_finding_why(v->list, f,
                    "Logical partitions lie inside a primary one that is made for them.");
    mos_finding_try(v->list, f, "Set number: %u for %s, or table: {kind: %s}.", first->number + 1,
                    taken[3]->name, mos_table_at(0)->name);
}

static void check_order(const struct layout_view *v, const struct mos_region_plan *r) {
    const struct mos_region_plan *before =
        r->number == v->m->entries + 1 ? NULL : numbered(v, r->number - 1);
    if (r->number == v->m->entries + 1)
        return;
    if (before && (!before->placed || !r->placed || before->start < r->start))
        return;
    struct mos_finding *f =
        before ? mos_find(v->list, MOS_RULE_LAYOUT_LOGICAL,
                          "Partition %u (%s) of %s lies in front of partition %u (%s).", r->number,
                          r->name, v->m->name, before->number, before->name)
               : mos_find(v->list, MOS_RULE_LAYOUT_LOGICAL,
                          "There is a partition %u (%s) on %s, but no %u.", r->number, r->name,
                          v->m->name, r->number - 1);
    mos_finding_at(v->list, f, r->def->number->place);
    if (before)
        mos_finding_at(v->list, f, before->def->number->place);
    mos_finding_why(v->list, f,
                    "Logical partitions have no number on the disk: they are counted from 5 on, in "
                    "the order of their chain.");
    mos_finding_try(v->list, f, "Number them from %u on, in the order of their places.",
                    v->m->entries + 1);
}

/* Something lies where the table of a logical partition must be, or among the logical ones. */
static void check_room(const struct layout_view *v, const struct mos_region_plan *r) {
    const struct mos_region_plan *hit = NULL;
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *o = region(v, i);
        if (o != r && o->placed && o->start < r->table_at + v->m->sector &&
            r->table_at < o->start + o->length)
            hit = o;
    }
    if (r->table_at && !hit)
        return;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_LAYOUT_LOGICAL,
                 "There is no room for the table in front of logical partition %u (%s).", r->number,
                 r->name);
    mos_finding_at(v->list, f, stated_place(r));
    if (hit)
        mos_finding_at(v->list, f, stated_place(hit));
    mos_finding_why(v->list, f,
                    "Each logical partition begins behind a sector with a table of its own.");
    mos_finding_try(v->list, f, "Set at: %s for %s.",
                    mos_size_exact(v->arena, mos_round_up(r->start + v->m->sector, v->m->align)),
                    r->name);
}

static void check_between(const struct layout_view *v) {
    const struct mos_region_plan *first = NULL, *last = NULL;
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        if (!r->logical || !r->placed)
            continue;
        first = !first || r->start < first->start ? r : first;
        last = !last || r->start > last->start ? r : last;
    }
    for (size_t i = 0; first && i < v->m->regions.count; i++) {
        const struct mos_region_plan *o = region(v, i);
        if (o->logical || !o->number || !o->placed || o->start < first->start ||
            o->start > last->start)
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_LAYOUT_LOGICAL,
                     "Primary partition %u (%s) lies between the logical ones %s and %s.",
                     o->number, o->name, first->name, last->name);
        mos_finding_at(v->list, f, stated_place(o));
        mos_finding_at(v->list, f, stated_place(first));
        mos_finding_at(v->list, f, stated_place(last));
        mos_finding_why(v->list, f, "All logical partitions lie inside one extended partition.");
        mos_finding_try(v->list, f, "Move %s in front of them, or behind.", o->name);
    }
}

void mos_rule_layout_logical(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->media.count; i++) {
        struct layout_view v = view_of(plan, i);
        if (!v.m->table || !v.m->table->most_logical)
            continue;
        check_primaries(&v);
        check_between(&v);
        for (size_t k = 0; k < v.m->regions.count; k++) {
            const struct mos_region_plan *r = region(&v, k);
            if (!r->logical)
                continue;
            check_order(&v, r);
            if (r->placed)
                check_room(&v, r);
        }
    }
}
