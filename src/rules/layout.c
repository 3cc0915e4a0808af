#include "rules/layout-view.h"

#include "base/bytes.h"
#include "base/text.h"

#include <stdlib.h>
#include <string.h>

static uint64_t end_of(const struct mos_region_plan *r) {
    return r->start + r->length;
}

static const char *size_text(const struct layout_view *v, uint64_t bytes) {
    return mos_size_text(v->arena, bytes);
}

static void add_region(const struct layout_view *v, struct mos_finding *f,
                       const struct mos_region_plan *r) {
    mos_finding_at(v->list, f, stated_place(r));
}

/* ---- overlap ---- */

static const char *why_it_hurts(const struct layout_view *v, const struct mos_region_plan *a,
                                const struct mos_region_plan *b, uint64_t bytes) {
    const struct mos_region_plan *env = a->environment ? a : b->environment ? b : NULL;
    const struct mos_region_plan *other = env == a ? b : a;
    if (env)
        return mos_printf(v->arena,
                          "The loader saves its variables in %s and would overwrite %s of %s.",
                          env->name, size_text(v, bytes), other->name);
    return mos_printf(v->arena, "Whichever is written last destroys %s of the other.",
                      size_text(v, bytes));
}

static void overlap(const struct layout_view *v, const struct mos_region_plan *a,
                    const struct mos_region_plan *b) {
    uint64_t from = mos_max(a->start, b->start), to = mos_min(end_of(a), end_of(b));
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_LAYOUT_OVERLAP, "Regions %s and %s both use %s of %s.", a->name,
                 b->name, mos_span_text(v->arena, from, to), v->m->name);
    add_region(v, f, a);
    add_region(v, f, b);
    mos_finding_why(v->list, f, "%s", why_it_hurts(v, a, b, to - from));
    const struct mos_region_plan *first = a->start <= b->start ? a : b,
                                 *second = first == a ? b : a;
    uint64_t unit = mos_max(second->number ? v->m->align : v->m->sector, 4096);
    if (second->start > first->start)
        mos_finding_try(v->list, f, "Set size: %s for %s, or at: %s for %s.",
                        mos_size_exact(v->arena, second->start - first->start), first->name,
                        mos_size_exact(v->arena, mos_round_up(end_of(first), unit)), second->name);
    else
        mos_finding_try(v->list, f, "Set at: %s for %s.",
                        mos_size_exact(v->arena, mos_round_up(end_of(first), unit)), second->name);
}

/* A region with its number in the definition. */
struct laid {
    const struct mos_region_plan *r;
    size_t index;
};

static int by_start(const void *a, const void *b) {
    const struct laid *x = a, *y = b;
    if (x->r->start != y->r->start)
        return x->r->start < y->r->start ? -1 : 1;
    return (x->index > y->index) - (x->index < y->index);
}

/* In order of their places: only what begins before one ends can meet it. */
static void check_overlaps(const struct layout_view *v) {
    size_t count = 0;
    struct laid *all = mos_alloc_array(v->arena, v->m->regions.count, sizeof *all);
    for (size_t i = 0; i < v->m->regions.count; i++)
        if (region(v, i)->placed)
            all[count++] = (struct laid){region(v, i), i};
    if (count)
        qsort(all, count, sizeof *all, by_start);
    for (size_t i = 0; i < count; i++)
        for (size_t k = i + 1; k < count && all[k].r->start < end_of(all[i].r); k++) {
            bool first = all[i].index < all[k].index;
            if (mos_findings_full(v->list))
                return;
            overlap(v, all[first ? i : k].r, all[first ? k : i].r);
        }
}

/* ---- the medium's end, and its table ---- */

static void sum_too_big(const struct layout_view *v) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_LAYOUT_SUM_TOO_BIG,
                 "The regions of %s need %s, but it is only sure to have %s.", v->m->name,
                 size_text(v, v->m->needed), size_text(v, v->m->size));
    mos_finding_at(v->list, f, v->m->medium->size->at_least->place);
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        if (r->def->size && !r->copy)
            mos_finding_at(v->list, f, r->def->size->place);
    }
    mos_finding_why(v->list, f, "Alignment to %s and the partition table count too.",
                    size_text(v, v->m->align));
    mos_finding_try(v->list, f, "Take %s from the regions, or state a larger medium.",
                    size_text(v, v->m->needed - v->m->size));
}

/* The part of the table that a region lies over; NULL: none. */
static const struct mos_table_span *covered_span(const struct layout_view *v,
                                                 const struct mos_region_plan *r) {
    for (size_t i = 0; i < v->m->span_count; i++)
        if (r->start < v->m->spans[i].end && v->m->spans[i].start < end_of(r))
            return &v->m->spans[i];
    return NULL;
}

/* What a region could grow to, in whole MiB. */
static void try_to_end_before(const struct layout_view *v, struct mos_finding *f,
                              const struct mos_region_plan *r) {
    uint64_t room = r->start < v->m->usable_end ? v->m->usable_end - r->start : 0;
    if (room >= 1 << 20)
        mos_finding_try(v->list, f, "Set size: rest, or at most %s.",
                        mos_size_exact(v->arena, mos_round_down(room, 1 << 20)));
    else
        mos_finding_try(v->list, f, "Move it forward, or state a larger medium.");
}

static void beyond_medium(const struct layout_view *v, const struct mos_region_plan *r) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_LAYOUT_BEYOND_MEDIUM,
                                     "Region %s ends at %s, past the end of %s.", r->name,
                                     size_text(v, end_of(r)), v->m->name);
    add_region(v, f, r);
    mos_finding_at(v->list, f, v->m->medium->size->at_least->place);
    mos_finding_why(v->list, f, "%s is only sure to have %s%s.", v->m->name,
                    size_text(v, v->m->size),
                    v->m->table ? ", and the end belongs to the table's backup" : "");
    try_to_end_before(v, f, r);
}

static void covers_table(const struct layout_view *v, const struct mos_region_plan *r,
                         const struct mos_table_span *hit) {
    uint64_t first_free = v->m->usable_start;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_LAYOUT_COVERS_TABLE, "Region %s (%s of %s) lies over %s (%s).",
                 r->name, mos_span_text(v->arena, r->start, end_of(r)), v->m->name, hit->name,
                 mos_span_text(v->arena, hit->start, hit->end));
    add_region(v, f, r);
    mos_finding_at(v->list, f, v->m->def->table->kind->place);
    uint32_t entries = v->m->table->entries_below(v->m->sector, r->start);
    if (hit->start >= v->m->usable_end) {
        mos_finding_why(v->list, f, "A table's backup lies at the very end of its medium.");
        try_to_end_before(v, f, r);
    } else if (entries && entries < v->m->entries) {
        mos_finding_why(
            v->list, f,
            "A %s of %u entries needs the medium up to %s; %u entries would end below %s.",
            v->m->table->title, v->m->entries, size_text(v, first_free), entries,
            size_text(v, r->start));
        mos_finding_try(v->list, f, "Set table: {kind: %s, partition-entries: %u}%s.",
                        v->m->table->name, entries,
                        r->from_rom ? ""
                                    : mos_printf(v->arena, ", or at: %s for %s",
                                                 size_text(v, first_free), r->name));
    } else {
        mos_finding_why(v->list, f, "The loader and the kernel find partitions only through it.");
        mos_finding_try(v->list, f, "Set at: %s, which is the first free place.",
                        mos_size_exact(v->arena, first_free));
    }
}

static void check_ends(const struct layout_view *v, bool rest_is_wrong) {
    if (v->m->overflows && !rest_is_wrong)
        sum_too_big(v);
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        if (!r->placed || (r->chosen && v->m->overflows))
            continue;
        if (end_of(r) > v->m->size || r->start >= v->m->usable_end)
            beyond_medium(v, r);
        else if (covered_span(v, r))
            covers_table(v, r, covered_span(v, r));
    }
}

/* ---- names, numbers, rest ---- */

static void repeated(const struct layout_view *v, const char *what, const char *value,
                     struct mos_place a, struct mos_place b) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_LAYOUT_NAME_REPEATED,
                                     "Two regions of %s have the %s %s.", v->m->name, what, value);
    mos_finding_at(v->list, f, a);
    mos_finding_at(v->list, f, b);
    mos_finding_why(v->list, f, "Kernel, loader and mount table find a partition by its %s.", what);
    mos_finding_try(v->list, f, "Change one of them.");
}

static const struct mos_value *volume_label(const struct mos_region_plan *r) {
    return r->def->volume && mos_has(r->def->volume->label) && *r->def->volume->label->text
               ? r->def->volume->label
               : NULL;
}

/* The first region that has something, or NULL; from now on it is this one where there was none. */
static const struct mos_region_plan *had_by(struct mos_map *all, const char *what,
                                            const struct mos_region_plan *r) {
    const struct mos_region_plan *first = mos_map_get(all, what);
    if (!first)
        mos_map_set_const(all, what, r);
    return first;
}

static struct mos_place label_place(const struct mos_region_plan *r) {
    return r->def->label ? r->def->label->place : r->def->r.key_place;
}

static void check_names(const struct layout_view *v) {
    struct mos_map numbers = mos_map_make(v->arena), labels = mos_map_make(v->arena),
                   ids = mos_map_make(v->arena), volumes = mos_map_make(v->arena);
    const struct mos_region_plan *a;
    char id[37];
    for (size_t i = 0; i < v->m->regions.count && !mos_findings_full(v->list); i++) {
        const struct mos_region_plan *r = region(v, i);
        const struct mos_value *volume = volume_label(r);
        if (r->copy)
            continue;
        if (r->number && (a = had_by(&numbers, mos_printf(v->arena, "%u", r->number), r)))
            repeated(v, "number", a->def->number->text, a->def->number->place,
                     r->def->number->place);
        if (r->number && (a = had_by(&labels, r->label, r)))
            repeated(v, "partition name", a->label, label_place(a), label_place(r));
        mos_uuid_text(r->id, id);
        if (mos_has(r->def->id) && (a = had_by(&ids, mos_strdup(v->arena, id), r)))
            repeated(v, "identifier", a->def->id->text, a->def->id->place, r->def->id->place);
        if (volume && (a = had_by(&volumes, volume->text, r)))
            repeated(v, "volume label", volume->text, volume_label(a)->place, volume->place);
    }
}

static bool is_rest(const struct mos_region_plan *r) {
    return mos_has(r->def->size) && r->def->size->rest && !r->copy;
}

/* Returns true when something about it is wrong. */
static bool check_rest(const struct layout_view *v) {
    const struct mos_region_plan *rest = NULL;
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        if (r->copy)
            continue;
        if (rest) {
            bool two = is_rest(r);
            if (!two && (r->placed && !r->chosen))
                continue; /* its place is stated: it is not behind the rest */
            struct mos_finding *f =
                mos_find(v->list, MOS_RULE_LAYOUT_REST,
                         two ? "Regions %s and %s both ask for the rest of %s."
                             : "Region %s takes the rest, so %s behind it gets nothing of %s.",
                         rest->name, r->name, v->m->name);
            mos_finding_at(v->list, f, rest->def->size->place);
            mos_finding_at(v->list, f, two ? r->def->size->place : r->def->r.key_place);
            mos_finding_try(v->list, f,
                            two ? "Give one of them a size."
                                : "Move the region with the rest to the end.");
            return true;
        }
        if (!is_rest(r))
            continue;
        rest = r;
        if (r->length == 0 && !v->m->overflows) {
            struct mos_finding *f =
                mos_find(v->list, MOS_RULE_LAYOUT_REST, "Nothing of %s is left for region %s.",
                         v->m->name, r->name);
            mos_finding_at(v->list, f, r->def->size->place);
            mos_finding_at(v->list, f, v->m->medium->size->at_least->place);
            mos_finding_try(v->list, f, "Make other regions smaller, or state a larger medium.");
            return true;
        }
    }
    return false;
}

/* ---- alignment ---- */

static void check_alignment(const struct layout_view *v) {
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        bool partial = r->start % v->m->sector || (r->length % v->m->sector && r->def->size);
        if (!r->placed || r->chosen || r->from_rom || (!r->number && !partial))
            continue;
        uint64_t unit = r->number ? v->m->align : v->m->sector;
        if (r->start % unit == 0 && !partial)
            continue;
        struct mos_finding *f =
            mos_find(v->list, MOS_RULE_LAYOUT_MISALIGNED,
                     partial ? "Region %s does not begin and end at sectors of %s."
                             : "Partition %s starts at %s, which is no multiple of %s.",
                     r->name, partial ? v->m->name : size_text(v, r->start), size_text(v, unit));
        if (partial)
            f->severity = MOS_SEVERITY_ERROR;
        add_region(v, f, r);
        if (v->m->align == unit && v->m->medium->erase && unit > 1 << 20)
            mos_finding_at(v->list, f, v->m->medium->erase->place);
        mos_finding_why(v->list, f,
                        partial ? "A medium is written in whole sectors of %s."
                                : "Each write would touch two erase units of %s: slower, "
                                  "and it wears out sooner.",
                        size_text(v, unit));
        mos_finding_try(v->list, f, "Set at: %s.",
                        mos_size_exact(v->arena, mos_round_up(r->start, unit)));
    }
}

void mos_rule_layout(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->media.count; i++) {
        struct layout_view v = view_of(plan, i);
        check_overlaps(&v);
        if (!v.m->area) /* has a rule of its own */
            check_ends(&v, check_rest(&v));
        check_names(&v);
        check_alignment(&v);
    }
}
