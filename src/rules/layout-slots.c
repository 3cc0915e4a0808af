/* Slots, layouts that are frozen, and what may grow. */
#include "rules/layout-view.h"

#include "base/text.h"
#include "ledger/ledger.h"

#include <string.h>

static const struct mos_region_plan *named(const struct layout_view *v, const char *name) {
    for (size_t i = 0; i < v->m->regions.count; i++)
        if (strcmp(region(v, i)->name, name) == 0)
            return region(v, i);
    return NULL;
}

static struct mos_place size_place(const struct mos_region_plan *r) {
    return r->def->size ? r->def->size->place : r->def->r.key_place;
}

/* ---- slots: NAME-a and NAME-b ---- */

static bool is_slot(const struct mos_region_plan *r, char slot) {
    size_t n = strlen(r->name);
    return n > 2 && r->name[n - 2] == '-' && r->name[n - 1] == slot && !r->copy;
}

static const struct mos_region_plan *other_slot(const struct layout_view *v,
                                                const struct mos_region_plan *r) {
    size_t n = strlen(r->name);
    char *name = mos_strdup(v->arena, r->name);
    name[n - 1] = name[n - 1] == 'a' ? 'b' : 'a';
    return named(v, name);
}

static void differs(const struct layout_view *v, const struct mos_region_plan *a,
                    const struct mos_region_plan *b, const char *what, const char *x, const char *y,
                    struct mos_place p, struct mos_place q) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_LAYOUT_SLOTS_DIFFER,
                 "Slots %s and %s differ in their %s: %s and %s.", a->name, b->name, what, x, y);
    mos_finding_at(v->list, f, p);
    mos_finding_at(v->list, f, q);
    mos_finding_why(v->list, f,
                    "What fits into one slot may not fit into the other, and that is seen "
                    "only when an update fails in the field.");
    mos_finding_try(v->list, f, "Write one region with slots: [a, b]: that gives equal ones.");
}

static void check_pair(const struct layout_view *v, const struct mos_region_plan *a,
                       const struct mos_region_plan *b) {
    if (a->placed && b->placed && a->length != b->length)
        differs(v, a, b, "size", mos_size_text(v->arena, a->length),
                mos_size_text(v->arena, b->length), size_place(a), size_place(b));
    const struct mos_volume *x = a->def->volume, *y = b->def->volume;
    if (x && y && mos_has(x->kind) && mos_has(y->kind) && strcmp(x->kind->text, y->kind->text) != 0)
        differs(v, a, b, "file system", x->kind->text, y->kind->text, x->kind->place,
                y->kind->place);
}

static void check_slots(const struct layout_view *v) {
    const struct mos_region_plan *pair = NULL;
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *a = region(v, i);
        const struct mos_region_plan *b = is_slot(a, 'a') ? other_slot(v, a) : NULL;
        if (!b)
            continue;
        pair = a;
        check_pair(v, a, b);
    }
    for (size_t i = 0; pair && i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i);
        if ((!is_slot(r, 'a') && !is_slot(r, 'b')) || other_slot(v, r))
            continue;
        char other = r->name[strlen(r->name) - 1] == 'a' ? 'b' : 'a';
        struct mos_finding *f = mos_find(v->list, MOS_RULE_LAYOUT_SLOT_INCOMPLETE,
                                         "Region %s of %s has no counterpart %.*s%c.", r->name,
                                         v->m->name, (int)strlen(r->name) - 1, r->name, other);
        mos_finding_at(v->list, f, r->def->r.key_place);
        mos_finding_at(v->list, f, pair->def->r.key_place);
        mos_finding_why(v->list, f,
                        "A slot is only a fallback when everything that it needs is there "
                        "twice, as %s is.",
                        pair->name);
        mos_finding_try(
            v->list, f,
            "Set slots: [a, b] for it, or choose a name without -%c if both slots share it.",
            r->name[strlen(r->name) - 1]);
    }
}

/* ---- a released layout ---- */

static void moved(const struct layout_view *v, const struct mos_region_plan *r, const char *what,
                  const char *was, const char *is, struct mos_place place) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_LAYOUT_MOVED,
                                     "Region %s of %s has %s %s; the released layout has %s.",
                                     r->name, v->m->name, what, is, was);
    mos_finding_at(v->list, f, place);
    mos_finding_at(v->list, f, v->m->def->frozen->place);
    mos_finding_why(v->list, f,
                    "Boards in the field keep their layout: an update made for this one "
                    "would be written over something else.");
    mos_finding_try(
        v->list, f,
        "Put it back, or remove frozen: when no board of that release will ever be updated.");
}

static void check_frozen(const struct layout_view *v) {
    for (size_t i = 0; v->m->has_frozen && i < v->m->frozen.count; i++) {
        const struct mos_ledger_region_last *old = v->m->frozen.items[i].value;
        const struct mos_region_plan *r = named(v, old->name);
        if (!r) {
            struct mos_finding *f = mos_find(v->list, MOS_RULE_LAYOUT_MOVED,
                                             "Region %s of the released layout is gone from %s.",
                                             old->name, v->m->name);
            mos_finding_at(v->list, f, v->m->def->frozen->place);
            mos_finding_at(v->list, f, v->m->def->r.key_place);
            mos_finding_try(v->list, f, "Keep it, empty if it must be.");
            continue;
        }
        struct mos_place at = r->def->at ? r->def->at->place : r->def->r.key_place;
        if (!r->placed)
            continue;
        if (r->number != old->number)
            moved(v, r, "number", mos_printf(v->arena, "%u", old->number),
                  mos_printf(v->arena, "%u", r->number),
                  r->def->number ? r->def->number->place : r->def->r.key_place);
        else if (r->start != old->offset)
            moved(v, r, "its start at", mos_size_text(v->arena, old->offset),
                  mos_size_text(v->arena, r->start), at);
        else if (r->length != old->length)
            moved(v, r, "a size of", mos_size_text(v->arena, old->length),
                  mos_size_text(v->arena, r->length), size_place(r));
    }
}

/* ---- growth ---- */

static void check_growth(const struct layout_view *v) {
    for (size_t i = 0; i < v->m->regions.count; i++) {
        const struct mos_region_plan *r = region(v, i), *behind = NULL;
        if (!mos_true(r->def->grows) || !r->placed)
            continue;
        for (size_t k = 0; k < v->m->regions.count; k++)
            if (region(v, k)->placed && region(v, k)->start > r->start)
                behind = region(v, k);
        if (!behind && r->number)
            continue;
        struct mos_finding *f = behind
                                    ? mos_find(v->list, MOS_RULE_LAYOUT_GROWS,
                                               "Region %s of %s may grow, but %s lies behind it.",
                                               r->name, v->m->name, behind->name)
                                    : mos_find(v->list, MOS_RULE_LAYOUT_GROWS,
                                               "Region %s of %s may grow, but it is no partition.",
                                               r->name, v->m->name);
        mos_finding_at(v->list, f, r->def->grows->place);
        if (behind)
            mos_finding_at(v->list, f, behind->def->r.key_place);
        mos_finding_why(v->list, f, "A larger medium has its additional room at its end.");
        mos_finding_try(v->list, f, behind ? "Put %s last." : "Set number: for %s, at the end.",
                        r->name);
    }
}

void mos_rule_layout_slots(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->media.count; i++) {
        struct layout_view v = view_of(plan, i);
        check_slots(&v);
        check_frozen(&v);
        check_growth(&v);
    }
}
