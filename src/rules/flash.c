/* Flash without a partition table against its erase blocks, and against what the tree says. */
#include "rules/layout-view.h"

#include "base/bytes.h"
#include "base/text.h"

#include <string.h>

/* ---- erase blocks ---- */

static void check_blocks(const struct layout_view *v) {
    const struct mos_value *erase = v->m->medium->erase;
    struct mos_vec regions = mos_plan_by_place(v->plan, v->m);
    for (size_t i = 0; mos_has(erase) && erase->number && i < regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&regions, i);
        if (r->start % erase->number == 0 || r->from_rom || r->copy)
            continue;
        struct mos_finding *f = mos_find(v->list, MOS_RULE_LAYOUT_MISALIGNED,
                                         "Region %s starts at %s, inside an erase block of %s.",
                                         r->name, mos_size_text(v->arena, r->start), v->m->name);
        f->severity = MOS_SEVERITY_ERROR;
        mos_finding_at(v->list, f, stated_place(r));
        mos_finding_at(v->list, f, erase->place);
        mos_finding_why(
            v->list, f,
            "Flash is erased in blocks of %s: writing %s would take what is in front of "
            "it along.",
            mos_size_text(v->arena, erase->number), r->name);
        mos_finding_try(v->list, f, "Set at: %s.",
                        mos_size_exact(v->arena, mos_round_up(r->start, erase->number)));
    }
}

/* ---- the tree ---- */

/* Where a partition's node says that it is: numbers of one or two cells each, as its parent states
 * (where it does not, as their length tells).  false: it does not say so. */
static bool stated_span(const struct mos_dt_node *n, uint64_t *start, uint64_t *length) {
    const struct mos_dt_property *reg = mos_dt_property(n, "reg");
    uint32_t a, s, usual = reg && reg->length == 16 ? 2 : 1;
    if (!mos_dt_cell(n->parent, "#address-cells", &a))
        a = usual;
    if (!mos_dt_cell(n->parent, "#size-cells", &s))
        s = usual;
    if (!reg || a < 1 || a > 2 || s < 1 || s > 2 || reg->length != 4 * (size_t)(a + s))
        return false;
    *start = a == 2 ? mos_be64(reg->data) : mos_be32(reg->data);
    *length = s == 2 ? mos_be64(reg->data + 4 * (size_t)a) : mos_be32(reg->data + 4 * (size_t)a);
    return true;
}

static bool same_place(const struct mos_dt_node *n, const struct mos_region_plan *r) {
    uint64_t start, length;
    return stated_span(n, &start, &length) && start == r->start && length == r->length;
}

static const char *label_of(const struct mos_dt_node *n) {
    const char *label = mos_dt_string(n, "label");
    return label ? label : n->name;
}

static void differs(const struct layout_view *v, const struct mos_dt_node *n,
                    const struct mos_region_plan *r) {
    const struct mos_dt_property *reg = mos_dt_property(n, "reg");
    uint64_t at = 0, length = 0;
    stated_span(n, &at, &length);
    struct mos_finding *f = mos_find(v->list, MOS_RULE_TREE_FLASH_DIFFERS,
                                     "The tree has %s of %s at %s, the layout at %s.", label_of(n),
                                     v->m->name, mos_span_text(v->arena, at, at + length),
                                     mos_span_text(v->arena, r->start, r->start + r->length));
    mos_finding_at(v->list, f, stated_place(r));
    mos_finding_at(v->list, f, reg ? reg->place : n->place);
    mos_finding_why(v->list, f, "The kernel believes the tree, the build the layout.");
    mos_finding_try(v->list, f,
                    "Remove the partitions from the tree: then they are made from the layout.");
}

static void only_there(const struct layout_view *v, const struct mos_dt_node *n) {
    struct mos_finding *f = mos_find(v->list, MOS_RULE_TREE_FLASH_DIFFERS,
                                     "The tree has a partition %s of %s that the "
                                     "layout does not know.",
                                     label_of(n), v->m->name);
    mos_finding_at(v->list, f, n->place);
    mos_finding_at(v->list, f, v->m->def->r.key_place);
    mos_finding_try(v->list, f, "Add a region %s, or remove the partitions from the tree.",
                    label_of(n));
}

static void only_here(const struct layout_view *v, const struct mos_dt_node *list,
                      const struct mos_region_plan *r) {
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_TREE_FLASH_DIFFERS,
                 "The tree lists partitions of %s, but not %s.", v->m->name, r->name);
    mos_finding_at(v->list, f, stated_place(r));
    mos_finding_at(v->list, f, list->place);
    mos_finding_try(
        v->list, f,
        "Add it, or remove the partitions from the tree: then they are made from the layout.");
}

static void check_tree(const struct layout_view *v, const struct mos_dt *dt) {
    const struct mos_dt_node *list = mos_plan_flash_node(dt, v->m);
    struct mos_vec regions = mos_plan_by_place(v->plan, v->m);
    if (!list || !list->place.source) /* made by us */
        return;
    for (const struct mos_dt_node *n = list->first_child; n; n = n->next) {
        const struct mos_region_plan *found = NULL;
        for (size_t i = 0; i < regions.count; i++) {
            const struct mos_region_plan *r = mos_vec_pointer(&regions, i);
            if (strcmp(r->label, label_of(n)) == 0)
                found = r;
        }
        if (!found)
            only_there(v, n);
        else if (!same_place(n, found))
            differs(v, n, found);
    }
    for (size_t i = 0; i < regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&regions, i);
        bool there = false;
        for (const struct mos_dt_node *n = list->first_child; n; n = n->next)
            there |= strcmp(r->label, label_of(n)) == 0;
        if (!there)
            only_here(v, list, r);
    }
}

void mos_rule_flash(const struct mos_plan *plan) {
    for (size_t i = 0; i < plan->media.count; i++) {
        struct layout_view v = view_of(plan, i);
        if (!mos_plan_is_flash(v.m))
            continue;
        check_blocks(&v);
        for (size_t k = 0; k < plan->blobs.count; k++) {
            const struct mos_blob_plan *b = mos_vec_pointer(&plan->blobs, k);
            if (b->tree)
                check_tree(&v, b->tree);
        }
    }
}
