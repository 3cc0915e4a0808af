/* What a volume will hold, from the inventory that its fills were counted into. */
#include "trial/trial.h"

#include "plan/bytes.h"

#include <string.h>

struct planned_volume {
    struct mos_plan *plan;
    const struct mos_region_plan *region;
    struct mos_map bytes; /* path -> struct fetched *: what was asked for */
};

struct fetched {
    bool known;
    const uint8_t *bytes;
    size_t length;
};

/* Without modes on the volume, its reader makes them up. */
static uint16_t mode_of(const struct mos_fs_driver *fs, const struct mos_inv_node *node) {
    if (!fs->no_owners)
        return node->mode;
    return node->type == MOS_ENTRY_FOLDER ? 0755 : 0644;
}

static void describe(const struct planned_volume *v, uint32_t index, struct mos_entry *out) {
    const struct mos_inventory *inv = v->region->volume->inventory;
    struct mos_arena *arena = v->plan->ctx->arena;
    const struct mos_inv_node *node = mos_inv_node(inv, index);
    *out = (struct mos_entry){.path = mos_inv_path(arena, inv, index) + 1,
                              .type = (enum mos_entry_type)node->type};
    if (node->link_to) {
        out->target = mos_inv_path(arena, inv, node->link_to) + 1;
        node = mos_inv_node(inv, node->link_to);
        out->type = (enum mos_entry_type)node->type;
    } else if (node->type == MOS_ENTRY_LINK) {
        out->target = node->more.text;
    }
    out->size = node->size;
    out->mode = mode_of(v->region->fs, node);
}

static bool find(void *self, const char *path, struct mos_entry *out) {
    const struct planned_volume *v = self;
    uint32_t index;
    if (!mos_inv_find(v->region->volume->inventory, path, &index))
        return false;
    describe(v, index, out);
    return true;
}

static bool list(void *self, const struct mos_sink *sink) {
    const struct planned_volume *v = self;
    const struct mos_inventory *inv = v->region->volume->inventory;
    for (uint32_t i = 0; i < inv->count; i++) {
        struct mos_entry entry;
        describe(v, i, &entry);
        if (!sink->entry(sink->self, &entry))
            return false;
    }
    return true;
}

static bool bytes(void *self, const char *path, const uint8_t **out, size_t *length) {
    struct planned_volume *v = self;
    struct fetched *f = mos_map_get(&v->bytes, path);
    uint32_t index;
    if (!f) {
        f = mos_alloc(v->plan->ctx->arena, sizeof *f);
        f->known = mos_inv_find(v->region->volume->inventory, path, &index) &&
                   mos_plan_file_bytes(v->plan, v->region, index, &f->bytes, &f->length);
        mos_map_set(&v->bytes, mos_strdup(v->plan->ctx->arena, path), f);
    }
    *out = f->bytes;
    *length = f->length;
    return f->known;
}

struct mos_rig_volume mos_trial_volume(struct mos_plan *plan, const struct mos_rig_medium *medium,
                                       const struct mos_region_plan *region) {
    struct mos_arena *arena = plan->ctx->arena;
    struct planned_volume *v = mos_alloc(arena, sizeof *v);
    *v = (struct planned_volume){plan, region, mos_map_make(arena)};
    struct mos_rig_volume x = {.medium = medium,
                               .at = region->start,
                               .info = {.driver = region->fs,
                                        .kind = region->fs->name,
                                        .label = "",
                                        .id = "",
                                        .size = region->length,
                                        .files = region->volume->inventory->count,
                                        .names = mos_vec_make(arena, sizeof(char *))},
                               .empty = !region->def->volume->fills.count,
                               .no_system = !region->fs->no_owners &&
                                            !mos_inv_is_system(region->volume->inventory, arena),
                               .self = v,
                               .find = find,
                               .list = list,
                               .bytes = bytes};
    if (region->fs->foresee)
        region->fs->foresee(arena, &region->wish, &x.info);
    return x;
}
