/* Makes the parcel: the kernels, trees and ramdisks of all entries, each once, and a choice for
 * each entry. */
#include "plan/made/made.h"

#include "base/bytes.h"

#include <string.h>

enum { BLOCK = 2 << 20 };

/* ---- parts ---- */

struct maker {
    struct mos_plan *plan;
    struct mos_vec items; /* of struct mos_parcel_item */
    const char *hash;
};

static bool has_item(const struct maker *m, const char *name) {
    for (size_t i = 0; i < m->items.count; i++)
        if (strcmp(((struct mos_parcel_item *)mos_vec_at(&m->items, i))->name, name) == 0)
            return true;
    return false;
}

static void add(struct maker *m, struct mos_parcel_item item) {
    item.hash = m->hash;
    item.compression = item.compression ? item.compression : "none";
    item.cpu = mos_parcel_cpu(mos_text_or(m->plan->board->hardware->cpu, "arm64"));
    *(struct mos_parcel_item *)mos_vec_push(&m->items) = item;
}

static bool add_piece(struct maker *m, struct mos_piece_plan *p, const char *name, const char *type,
                      const struct mos_placement *place, const char *compression) {
    if (!p || has_item(m, name))
        return true;
    const uint8_t *bytes = mos_plan_piece_bytes(m->plan, p);
    if (!bytes)
        return false;
    add(m, (struct mos_parcel_item){.name = name,
                                    .about = p->def->r.name,
                                    .type = type,
                                    .os = "linux",
                                    .compression = compression,
                                    .data = bytes,
                                    .length = (size_t)p->size,
                                    .has_load = place != NULL,
                                    .has_entry = place != NULL,
                                    .load = place ? place->ranges[MOS_RANGE_LOADED].start : 0,
                                    .entry = place ? place->ranges[MOS_RANGE_LOADED].start : 0});
    return true;
}

/* One that overlays are put over has a place of its own: it grows there. */
static void add_tree(struct maker *m, const struct mos_blob_plan *b, const char *name,
                     const struct mos_placement *place) {
    uint64_t at = place->ranges[MOS_RANGE_LOADED].start;
    if (b && !has_item(m, name))
        add(m, (struct mos_parcel_item){.name = name,
                                        .about = b->def->r.name,
                                        .type = "flat_dt",
                                        .has_load = at != 0,
                                        .load = at,
                                        .data = b->blob.data,
                                        .length = b->blob.length});
}

static const char *named(struct mos_plan *plan, const char *kind, const char *name) {
    return mos_printf(plan->ctx->arena, "%s-%s", kind, name);
}

static bool add_entry(struct maker *m, const struct mos_entry_plan *e,
                      struct mos_parcel_choice *c) {
    struct mos_plan *plan = m->plan;
    *c = (struct mos_parcel_choice){.name = e->def->r.name,
                                    .about =
                                        mos_printf(plan->ctx->arena, "entry %s", e->def->r.name),
                                    .trees = mos_vec_make(plan->ctx->arena, sizeof(char *)),
                                    .loadables = mos_vec_make(plan->ctx->arena, sizeof(char *)),
                                    .kernel = named(plan, "kernel", e->kernel->def->r.name)};
    if (e->tree) {
        const char *tree = named(plan, "tree", e->tree->def->r.name);
        add_tree(m, e->tree, tree, &e->step.tree);
        mos_vec_push_pointer(&c->trees, tree);
    }
    for (size_t i = 0; i < plan->boot_overlays.count && e->tree; i++) {
        const struct mos_overlay_plan *o = mos_vec_pointer(&plan->boot_overlays, i);
        const char *name = named(plan, "overlay", o->def->r.name);
        if (!has_item(m, name))
            add(m, (struct mos_parcel_item){.name = name,
                                            .about = o->def->r.name,
                                            .type = "flat_dt",
                                            .data = o->blob.data,
                                            .length = o->blob.length});
        mos_vec_push_pointer(&c->trees, name);
    }
    if (e->ramdisk)
        c->ramdisk = named(plan, "ramdisk", e->ramdisk->def->r.name);
    return add_piece(m, e->kernel, c->kernel, "kernel", &e->step.kernel, e->header.compression) &&
           (!e->ramdisk || add_piece(m, e->ramdisk, c->ramdisk, "ramdisk", NULL, NULL));
}

/* Behind everything that the entries need in RAM. */
static uint64_t choose_place(const struct mos_plan *plan) {
    uint64_t end = plan->ram.start;
    for (size_t i = 0; i < plan->entries.count; i++) {
        const struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        const struct mos_ram_span spans[] = {e->step.kernel.ranges[MOS_RANGE_LOADED],
                                             e->step.kernel.ranges[MOS_RANGE_FINAL],
                                             e->step.tree.ranges[MOS_RANGE_LOADED]};
        for (size_t k = 0; k < sizeof spans / sizeof *spans; k++)
            end = mos_max(end, spans[k].start + spans[k].length);
    }
    return mos_round_up(end + BLOCK, BLOCK);
}

bool mos_plan_parcel(struct mos_plan *plan) {
    const struct mos_parcel_def *def = plan->board->boot->parcel;
    struct mos_signer *signer = NULL;
    struct maker m = {plan, mos_vec_make(plan->ctx->arena, sizeof(struct mos_parcel_item)),
                      def ? mos_text_or(def->hash, "sha256") : "sha256"};
    struct mos_parcel_wish wish = {
        .about = mos_printf(plan->ctx->arena, "boot files of %s", plan->board->r.name),
        .date = plan->board->date,
        .choices = mos_vec_make(plan->ctx->arena, sizeof(struct mos_parcel_choice))};
    for (size_t i = 0; i < plan->entries.count; i++)
        if (!add_entry(&m, mos_vec_pointer(&plan->entries, i), mos_vec_push(&wish.choices)))
            return false;
    if (!mos_plan_signer(plan, def, &signer))
        return false;
    wish.items = m.items.items;
    wish.item_count = m.items.count;
    wish.signer = signer;
    bool ok = mos_parcel_write(plan->ctx, &wish, &plan->parcel);
    mos_signer_free(signer);
    plan->parcel_file = plan->script.parcel_file = "boot.parcel";
    plan->script.parcel_at = def && mos_has(def->at) ? def->at->number : choose_place(plan);
    for (size_t i = 0; i < plan->entries.count; i++) {
        struct mos_entry_plan *e = mos_vec_pointer(&plan->entries, i);
        e->step.container = (struct mos_placement){
            .what = "parcel",
            .ranges[MOS_RANGE_LOADED] = {plan->script.parcel_at, plan->parcel.length},
            .given = def && mos_has(def->at),
            .place = def && mos_has(def->at) ? def->at->place : e->def->r.key_place};
    }
    return ok;
}
