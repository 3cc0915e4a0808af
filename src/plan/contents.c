/* What media and volumes will hold, by place and by path, before anything is written. */
#include "plan/fills.h"

#include "plan/shared.h"
#include "plan/steps.h"

#include "base/bytes.h"
#include "store/store.h"

#include <assert.h>
#include <string.h>

enum { MOST = 256 << 20 };

/* ---- files of a volume ---- */

/* A file as a fill of an archive or a folder brings it; false: it cannot be had. */
static bool pick(struct mos_plan *plan, const struct mos_fill *fill, struct kept_picker *p) {
    const struct mos_piece_plan *archive =
        mos_has(fill->archive) ? mos_plan_piece(plan, fill->archive->target) : NULL;
    const char *key = kept_key(plan, archive, fill, p->path);
    p->found = key ? kept_find(plan, key, p->path, p->size) : NULL;
    if (p->found)
        return true;
    p->arena = key && plan->ctx->shared ? plan->ctx->shared->arena : plan->ctx->arena;
    struct mos_map kept = mos_map_make(p->arena);
    struct mos_sink sink = kept_sink(p);
    struct mos_error ignored = {0}, *saved = plan->ctx->error;
    plan->ctx->error = &ignored; /* what cannot be read is not known */
    p->kept = &kept;
    for (int links = 0; links < 2 && !p->found; links++) {
        p->by_links = links;
        if (!mos_plan_stream_brought(plan, fill, false, &sink))
            p->found = NULL;
    }
    plan->ctx->error = saved;
    if (p->found && key)
        kept_keep(plan, archive, fill, p);
    return p->found != NULL;
}

/* The file that an entry's names lead to: a hard link's is its owner's. */
static const struct mos_inv_node *owner_of(const struct mos_inventory *inv, uint32_t *index) {
    assert(*index < inv->count);
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

const struct mos_buf *mos_plan_module_index_file(const struct mos_plan *plan,
                                                 const struct mos_region_plan *region,
                                                 const char *path) {
    for (size_t i = 0; i < plan->indexes.count; i++) {
        const struct mos_module_folder *x = mos_vec_pointer(&plan->indexes, i);
        size_t n = strlen(x->path);
        for (size_t k = 0; x->region == region && k < x->files.count; k++) {
            struct mos_index_file *f = mos_vec_at(&x->files, k);
            if (strncmp(path, x->path, n) == 0 && path[n] == '/' &&
                strcmp(path + n + 1, f->name) == 0)
                return &f->bytes;
        }
    }
    return NULL;
}

bool mos_plan_file_bytes(struct mos_plan *plan, const struct mos_region_plan *region, uint32_t at,
                         const uint8_t **bytes, size_t *length) {
    assert(region->volume && at < region->volume->inventory->count);
    const struct mos_inventory *inv = region->volume->inventory;
    const struct mos_inv_node *node = owner_of(inv, &at);
    const char *path = mos_inv_path(plan->ctx->arena, inv, at) + 1;
    const struct mos_fill *fill = mos_plan_fill_at(region, node->fill);
    const struct mos_text_file *text = mos_plan_text(region, path);
    if (node->type != MOS_ENTRY_FILE || node->size > MOST)
        return false;
    *length = (size_t)node->size;
    if (text && text->text && text->length == node->size) {
        *bytes = (const uint8_t *)text->text;
        return true;
    }
    if (mos_fill_makes(fill, MOS_MADE_BOOT) && boot_file(plan, path, bytes))
        return true;
    const struct mos_buf *index = mos_fill_makes(fill, MOS_MADE_MODULE_INDEX)
                                      ? mos_plan_module_index_file(plan, region, path)
                                      : NULL;
    if (index && index->length == node->size) {
        *bytes = (const uint8_t *)index->data;
        return true;
    }
    const struct mos_settings_plan *settings = mos_plan_settings_of(plan, fill);
    if (settings && settings->text.length == node->size) {
        *bytes = (const uint8_t *)settings->text.data;
        return true;
    }
    const struct mos_piece_plan *piece =
        mos_has(fill->piece) ? mos_plan_piece(plan, fill->piece->target) : NULL;
    if (mos_plan_is_there(piece) && piece->size == node->size) {
        *bytes = mos_plan_piece_bytes(plan, piece);
        return *bytes != NULL;
    }
    if (mos_has(fill->made)) /* made from what the fills before have left: not to be had again */
        return false;
    struct kept_picker p = {
        .inv = inv, .arena = plan->ctx->arena, .path = path, .index = at, .size = node->size};
    *bytes = NULL;
    if (!pick(plan, fill, &p))
        return false;
    *bytes = p.found->bytes;
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
        plan->dialect->stored->write(&block, &e->variables, e->size, e->flag_byte);
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
