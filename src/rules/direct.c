/* A stage that starts the kernel by itself: what a loader would choose, fill in or refuse, nobody
 * does. */
#include "rules/rules.h"

#include "base/text.h"

#include <string.h>

struct direct_view {
    const struct mos_plan *plan;
    const struct mos_entry_plan *e;
    const char *stage; /* "stage first", for people */
    struct mos_findings *list;
    struct mos_arena *arena;
};

static struct mos_finding *wrong(const struct direct_view *v, struct mos_place place,
                                 const char *text) {
    const struct mos_value *via = v->plan->board->boot->via;
    struct mos_finding *f =
        mos_find(v->list, MOS_RULE_BOOT_STAGES, "Entry %s: %s.", v->e->def->r.name, text);
    mos_finding_at(v->list, f, place);
    mos_finding_at(v->list, f, via->place);
    return f;
}

/* Kernel and tree lie where a stage can read them, and nothing else is asked of it. */
static void check_parts(const struct direct_view *v) {
    const struct mos_boot_entry *def = v->e->def;
    const struct mos_entry_addresses *a = def->addresses;
    struct mos_finding *f;
    if (mos_has(def->ramdisk)) {
        f = wrong(v, def->ramdisk->place, "it has a ramdisk, which a stage does not bring");
        mos_finding_why(v->list, f, "The kernel would wait for a root that nobody has mounted.");
        mos_finding_try(v->list, f,
                        "Build it into the kernel, or boot by a loader: via: environment.");
    }
    if (!v->e->tree) {
        f = wrong(v, def->tree ? def->tree->place : def->r.key_place, "it names no tree");
        mos_finding_why(v->list, f, "The tree alone tells the kernel its arguments and its RAM.");
        mos_finding_try(v->list, f, "Add tree: to the entry, and a region that holds it.");
    } else if (v->e->kernel && !v->plan->boots_raw) {
        f = wrong(v, def->r.key_place, "its kernel and its tree lie in no regions of one medium");
        mos_finding_why(v->list, f, "A stage reads from fixed places, and knows no files.");
        mos_finding_try(v->list, f, "Add regions {piece: %s} and {tree: %s} to one medium.",
                        v->e->kernel->def->r.name, v->e->tree->def->r.name);
    }
    if (v->e->kernel_known && !v->e->header.wrapped && !(a && a->kernel)) {
        f = wrong(v, def->r.key_place,
                  mos_printf(v->arena, "nobody says where %s puts the kernel", v->stage));
        mos_finding_why(v->list, f, "It was built with that address; there is nobody to choose.");
        mos_finding_try(v->list, f,
                        "Add addresses: {kernel: 0x…} as it was built, or a legacy header.");
    }
    if (v->e->tree && !(a && a->tree)) {
        f = wrong(v, def->r.key_place,
                  mos_printf(v->arena, "nobody says where %s puts the tree", v->stage));
        mos_finding_why(v->list, f, "It was built with that address; there is nobody to choose.");
        mos_finding_try(v->list, f, "Add addresses: {tree: 0x…} as it was built.");
    }
}

/* Is there a range in it that has a size (Devicetree Specification, section 2.3.6)? */
static bool has_size(const struct mos_dt *dt, const struct mos_dt_property *reg) {
    uint32_t address = 2, size = 1;
    mos_dt_cell(dt->root, "#address-cells", &address);
    mos_dt_cell(dt->root, "#size-cells", &size);
    uint64_t row = 4 * ((uint64_t)address + size);
    for (uint64_t at = 4 * (uint64_t)address; row && at < reg->length; at += row)
        for (uint64_t i = at; i < at + 4 * (uint64_t)size && i < reg->length; i++)
            if (((const uint8_t *)reg->data)[i])
                return true;
    return false;
}

/* A loader fills in how much RAM there is. */
static void check_memory(const struct direct_view *v) {
    const struct mos_dt *dt = v->e->tree ? v->e->tree->tree : NULL;
    if (!dt)
        return;
    for (const struct mos_dt_node *n = dt->root->first_child; n; n = n->next) {
        const struct mos_dt_property *reg = mos_dt_property(n, "reg");
        bool memory = strncmp(n->name, "memory", 6) == 0 && (!n->name[6] || n->name[6] == '@');
        if (memory && reg && has_size(dt, reg))
            return;
    }
    struct mos_finding *f =
        wrong(v, v->e->def->tree->place,
              mos_printf(v->arena, "tree %s has no RAM in it, and nobody fills it in",
                         v->e->tree->def->r.name));
    mos_finding_why(v->list, f, "The kernel finds no RAM, and stops without a word.");
    mos_finding_try(v->list, f,
                    "Add a node memory@START to the tree, with device_type = \"memory\" and "
                    "reg = <START SIZE>.");
}

static void check_form(const struct direct_view *v, const struct mos_stage *last) {
    const struct mos_piece_plan *p = v->e->kernel;
    if (!last || !last->accepts.count || !mos_plan_is_there(p))
        return;
    const char *form = mos_piece_form(p);
    for (size_t i = 0; i < last->accepts.count; i++)
        if (!mos_has(last->accepts.items[i]) || strcmp(last->accepts.items[i]->text, form) == 0)
            return;
    struct mos_finding *f = wrong(v, p->def->r.key_place,
                                  mos_printf(v->arena, "kernel %s is %s, which %s cannot start",
                                             p->def->r.name, form, v->stage));
    mos_finding_at(v->list, f, last->accepts.items[0]->place);
    mos_finding_why(v->list, f, "It would find no header that it knows, and stop without a word.");
    mos_finding_try(v->list, f, "Use the %s form of the kernel.", last->accepts.items[0]->text);
}

static void check_count(const struct direct_view *v) {
    const struct mos_named *entries = &v->plan->board->boot->entries;
    if (entries->count < 2)
        return;
    const struct mos_boot_entry *second = entries->items[1];
    struct mos_finding *f = wrong(
        v, second->r.key_place, mos_printf(v->arena, "entry %s is never started", second->r.name));
    mos_finding_why(v->list, f, "A stage has no choice: it starts the one kernel that it reads.");
    mos_finding_try(v->list, f, "Remove the other entries, or boot by a loader.");
}

void mos_rule_direct(const struct mos_plan *plan) {
    if (!mos_board_is_direct(plan->board) || !plan->entries.count)
        return;
    const struct mos_stage *last = mos_board_last_stage(plan->board);
    struct direct_view v = {plan, mos_vec_pointer(&plan->entries, 0), NULL, &plan->ctx->findings,
                            plan->ctx->arena};
    v.stage = last ? mos_printf(v.arena, "stage %s", last->r.name) : "the stage";
    if (v.e->def->r.broken)
        return;
    check_count(&v);
    check_parts(&v);
    check_memory(&v);
    check_form(&v, last);
}
