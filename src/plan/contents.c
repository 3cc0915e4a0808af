/* What media and volumes will hold, by place and by path, before anything is written. */
#include "plan/plan.h"

#include "base/bytes.h"

#include <string.h>

enum { MOST = 256 << 20 };

/* ---- files of a volume ---- */

/* Picks one file out of what a fill brings. */
struct picker {
    const struct mos_inventory *inv;
    struct mos_arena *arena;
    const char *path; /* as the inventory has it */
    uint32_t index;
    uint8_t *bytes;
    uint64_t size;
    bool by_links; /* a fill's own path may lead there through links of the volume */
    bool passing, found;
};

static bool is_it(const struct picker *p, const char *path) {
    uint32_t index;
    return strcmp(path, p->path) == 0 ||
           (p->by_links && mos_inv_follow(p->inv, p->arena, path, &index) && index == p->index);
}

static bool pick_entry(void *self, const struct mos_entry *entry) {
    struct picker *p = self;
    p->passing = entry->type == MOS_ENTRY_FILE && is_it(p, entry->path);
    return true;
}

static bool pick_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct picker *p = self;
    if (p->passing && bytes && offset < p->size)
        memcpy(p->bytes + offset, bytes, (size_t)mos_min(length, p->size - offset));
    return true;
}

static bool pick_end(void *self, uint64_t sum) {
    struct picker *p = self;
    (void)sum;
    p->found |= p->passing;
    return !p->found; /* no more is needed */
}

static bool pick(struct mos_plan *plan, const struct mos_region_plan *region,
                 const struct mos_fill *fill, struct picker *p) {
    struct mos_sink sink = {p, pick_entry, pick_data, pick_end};
    struct mos_error ignored = {0}, *saved = plan->ctx->error;
    plan->ctx->error = &ignored; /* what cannot be read is not known */
    p->bytes = mos_alloc(plan->ctx->arena, (size_t)p->size + 1);
    for (int links = 0; links < 2 && !p->found; links++) {
        p->by_links = links;
        mos_plan_stream_fill(plan, region, fill, false, &sink);
    }
    plan->ctx->error = saved;
    return p->found;
}

/* The file that an entry's names lead to: a hard link's is its owner's. */
static const struct mos_inv_node *owner_of(const struct mos_inventory *inv, uint32_t *index) {
    const struct mos_inv_node *node = mos_inv_node(inv, *index);
    if (node->link_to)
        *index = node->link_to;
    return mos_inv_node(inv, *index);
}

static bool boot_file(struct mos_plan *plan, const char *path, const uint8_t **bytes) {
    struct mos_vec files = mos_plan_boot_files(plan);
    for (size_t i = 0; i < files.count; i++) {
        const struct mos_boot_file *f = mos_vec_at(&files, i);
        if (strcmp(f->path, path) == 0) {
            *bytes = f->piece ? mos_plan_piece_bytes(plan, f->piece) : f->bytes;
            return *bytes != NULL;
        }
    }
    return false;
}

bool mos_plan_file_bytes(struct mos_plan *plan, const struct mos_region_plan *region,
                         uint32_t index, const uint8_t **bytes, size_t *length) {
    const struct mos_inventory *inv = region->volume->inventory;
    const struct mos_inv_node *node = owner_of(inv, &index);
    const char *path = mos_inv_path(plan->ctx->arena, inv, index) + 1;
    const struct mos_fill *fill = mos_plan_fill_at(region, node->fill);
    const struct mos_text_file *text = mos_plan_text(region, path);
    if (node->type != MOS_ENTRY_FILE || node->size > MOST)
        return false;
    *length = (size_t)node->size;
    if (text && text->text && text->length == node->size) {
        *bytes = (const uint8_t *)text->text;
        return true;
    }
    if (mos_has(fill->made) && strcmp(fill->made->text, "boot") == 0 &&
        boot_file(plan, path, bytes))
        return true;
    const struct mos_piece_plan *piece =
        mos_has(fill->piece) ? mos_plan_piece(plan, fill->piece->target) : NULL;
    if (mos_plan_is_there(piece) && piece->size == node->size) {
        *bytes = mos_plan_piece_bytes(plan, piece);
        return *bytes != NULL;
    }
    if (mos_has(fill->made)) /* made from what the fills before have left: not to be had again */
        return false;
    struct picker p = {
        .inv = inv, .arena = plan->ctx->arena, .path = path, .index = index, .size = node->size};
    *bytes = NULL;
    if (!pick(plan, region, fill, &p))
        return false;
    *bytes = p.bytes;
    return true;
}

/* ---- regions without a volume ---- */

bool mos_plan_region_bytes(struct mos_plan *plan, const struct mos_region_plan *region,
                           const uint8_t **bytes, size_t *length) {
    *bytes = NULL;
    *length = 0;
    if (region->fs || region->strange_fs)
        return false;
    if (region->environment) {
        struct mos_buf block = {.arena = plan->ctx->arena};
        const struct mos_environment_plan *e = region->environment;
        if (e->needed > e->size)
            return false;
        mos_environment_write(&block, &e->variables, e->size, e->flag_byte);
        *bytes = (const uint8_t *)block.data;
        *length = block.length;
        return true;
    }
    if (!region->piece)
        return true; /* nobody writes there */
    if (!mos_plan_is_there(region->piece))
        return false;
    *bytes = mos_plan_piece_bytes(plan, region->piece);
    *length = (size_t)region->piece->size;
    return *bytes != NULL;
}

/* ---- the table ---- */

struct mos_table_data mos_plan_table(const struct mos_plan *plan,
                                     const struct mos_medium_plan *medium) {
    struct mos_table_data t = {
        .sector = medium->sector,
        .medium_size = medium->size,
        .entries = medium->entries,
        .entries_at = medium->entries_at,
        .first_usable = mos_div_up(medium->usable_start, medium->sector),
        .last_usable = medium->usable_end / medium->sector - 1,
        .partitions = mos_vec_make(plan->ctx->arena, sizeof(struct mos_partition)),
    };
    memcpy(t.id, medium->id, 16);
    for (size_t i = 0; i < medium->regions.count; i++) {
        const struct mos_region_plan *r = mos_vec_pointer(&medium->regions, i);
        if (!r->number || !r->placed)
            continue;
        struct mos_partition *x = mos_vec_push(&t.partitions);
        *x = (struct mos_partition){.number = r->number,
                                    .first_lba = r->start / medium->sector,
                                    .last_lba = (r->start + r->length) / medium->sector - 1,
                                    .name = r->label,
                                    .attributes = r->attributes,
                                    .table_lba = r->table_at / medium->sector,
                                    .bootable = r->bootable};
        memcpy(x->type, r->type, 16);
        memcpy(x->id, r->id, 16);
    }
    return t;
}
