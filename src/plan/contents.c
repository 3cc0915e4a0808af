/* What media and volumes will hold, by place and by path, before anything is written. */
#include "plan/plan.h"
#include "plan/shared.h"

#include "base/bytes.h"
#include "store/store.h"

#include <string.h>

enum { MOST = 256 << 20, MOST_LIKELY = 4 << 20 };

/* ---- files out of an archive or a folder ---- */

/* What a boot is likely to ask for next: kept from the same pass, so that an archive is read once.
 */
static bool is_likely(const char *path) {
    static const char *const names[] = {"init",
                                        "sh",
                                        "bash",
                                        "dash",
                                        "busybox",
                                        "ash",
                                        "systemd",
                                        "fstab",
                                        "inittab",
                                        "modules.builtin",
                                        "modules.dep",
                                        "modules.order",
                                        "modules.builtin.modinfo"};
    const char *slash = strrchr(path, '/'), *name = slash ? slash + 1 : path;
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        if (strcmp(name, names[i]) == 0)
            return true;
    return strncmp(name, "ld-", 3) == 0 || strncmp(name, "ld.", 3) == 0 ||
           strncmp(path, "boot/config-", 12) == 0;
}

/* Picks files out of what a fill brings. */
struct picker {
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

static bool is_it(const struct picker *p, const char *path) {
    uint32_t index;
    return strcmp(path, p->path) == 0 ||
           (p->by_links && mos_inv_follow(p->inv, p->arena, path, &index) && index == p->index);
}

static bool pick_entry(void *self, const struct mos_entry *entry) {
    struct picker *p = self;
    bool file = entry->type == MOS_ENTRY_FILE;
    bool wanted = file && p->path && entry->size == p->size && is_it(p, entry->path);
    p->current = NULL;
    if (wanted || (file && entry->size <= MOST_LIKELY && is_likely(entry->path))) {
        p->current = mos_alloc(p->arena, sizeof *p->current);
        *p->current = (struct mos_kept_bytes){.bytes = mos_alloc(p->arena, (size_t)entry->size + 1),
                                              .length = (size_t)entry->size};
        mos_map_set(p->kept, mos_strdup(p->arena, entry->path), p->current);
    }
    if (wanted)
        p->found = p->current;
    return !p->through || p->through->entry(p->through->self, entry);
}

static bool pick_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct picker *p = self;
    struct mos_kept_bytes *x = p->current;
    if (x && bytes && offset < x->length)
        memcpy(x->bytes + offset, bytes, (size_t)mos_min(length, x->length - offset));
    return !p->through || p->through->data(p->through->self, offset, bytes, length);
}

static bool pick_end(void *self, uint64_t sum) {
    struct picker *p = self;
    return !p->through || p->through->end(p->through->self, sum);
}

static struct mos_map *known_of(struct mos_plan *plan) {
    return plan->ctx->shared ? &plan->ctx->shared->files : &plan->files;
}

/* What is kept of an archive goes by its content and the place that it is filled into. */
static const char *key_of(const struct mos_plan *plan, const struct mos_piece_plan *archive,
                          const struct mos_fill *fill, const char *path) {
    uint8_t hash[MOS_SHA256_SIZE];
    char hex[65];
    struct mos_buf b = {.arena = plan->ctx->arena};
    if (!archive || !archive->hashed)
        return NULL;
    mos_buf_add(&b, archive->sha256, MOS_SHA256_SIZE);
    mos_buf_printf(&b, "%s\n%s", mos_text_or(fill->to, ""), path);
    if (!mos_sha256(b.data, b.length, hash))
        return NULL;
    mos_sha256_hex(hash, hex);
    return mos_printf(plan->ctx->arena, "bytes-%s", hex);
}

/* Nothing below etc/ is kept between runs: it may be secret. */
static bool may_store(const char *path, uint64_t length) {
    return length <= MOST_LIKELY && strncmp(path, "etc/", 4) != 0;
}

static struct mos_kept_bytes *look_up(struct mos_plan *plan, const char *key, const char *path,
                                      uint64_t size) {
    struct mos_kept_bytes *x = mos_map_get(known_of(plan), key);
    char *data;
    size_t length;
    if (x || !may_store(path, size) || !mos_store_get(plan->ctx, key, &data, &length) ||
        length != size)
        return x;
    x = mos_alloc(plan->ctx->arena, sizeof *x);
    *x = (struct mos_kept_bytes){(uint8_t *)data, length};
    return x;
}

static void keep_all(struct mos_plan *plan, const struct mos_piece_plan *archive,
                     const struct mos_fill *fill, const struct picker *p) {
    for (size_t i = 0; i < p->kept->count; i++) {
        const char *path = p->kept->items[i].key, *key = key_of(plan, archive, fill, path);
        struct mos_kept_bytes *x = p->kept->items[i].value;
        if (!key)
            continue;
        mos_map_set(known_of(plan), mos_strdup(p->arena, key), x);
        if (may_store(path, x->length))
            mos_store_put(plan->ctx, key, x->bytes, x->length);
    }
}

/* A file as a fill of an archive or a folder brings it; false: it cannot be had. */
static bool pick(struct mos_plan *plan, const struct mos_region_plan *region,
                 const struct mos_fill *fill, struct picker *p) {
    const struct mos_piece_plan *archive =
        mos_has(fill->archive) ? mos_plan_piece(plan, fill->archive->target) : NULL;
    const char *key = key_of(plan, archive, fill, p->path);
    p->found = key ? look_up(plan, key, p->path, p->size) : NULL;
    if (p->found)
        return true;
    p->arena = key && plan->ctx->shared ? plan->ctx->shared->arena : plan->ctx->arena;
    struct mos_map kept = mos_map_make(p->arena);
    struct mos_sink sink = {p, pick_entry, pick_data, pick_end};
    struct mos_error ignored = {0}, *saved = plan->ctx->error;
    plan->ctx->error = &ignored; /* what cannot be read is not known */
    p->kept = &kept;
    for (int links = 0; links < 2 && !p->found; links++) {
        p->by_links = links;
        if (!mos_plan_stream_fill(plan, region, fill, false, &sink))
            p->found = NULL;
    }
    plan->ctx->error = saved;
    if (p->found && key)
        keep_all(plan, archive, fill, p);
    return p->found != NULL;
}

struct mos_collector {
    struct picker picker;
    struct mos_map kept;
    struct mos_sink through;
};

struct mos_collector *mos_plan_collect(struct mos_plan *plan, const struct mos_sink *through,
                                       struct mos_sink *sink) {
    struct mos_arena *arena = plan->ctx->shared ? plan->ctx->shared->arena : plan->ctx->arena;
    struct mos_collector *c = mos_alloc(arena, sizeof *c);
    *c = (struct mos_collector){.kept = mos_map_make(arena), .through = *through};
    c->picker = (struct picker){.arena = arena, .kept = &c->kept, .through = &c->through};
    *sink = (struct mos_sink){&c->picker, pick_entry, pick_data, pick_end};
    return c;
}

void mos_plan_collected(struct mos_plan *plan, const struct mos_collector *c,
                        const struct mos_piece_plan *archive, const struct mos_fill *fill) {
    keep_all(plan, archive, fill, &c->picker);
}

/* ---- files of a volume ---- */

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

bool mos_plan_file_bytes(struct mos_plan *plan, const struct mos_region_plan *region, uint32_t at,
                         const uint8_t **bytes, size_t *length) {
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
    if (mos_fill_makes(fill, "boot") && boot_file(plan, path, bytes))
        return true;
    const struct mos_buf *index = mos_fill_makes(fill, "module-index")
                                      ? mos_plan_module_index_file(plan, region, path)
                                      : NULL;
    if (index && index->length == node->size) {
        *bytes = (const uint8_t *)index->data;
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
    struct picker p = {
        .inv = inv, .arena = plan->ctx->arena, .path = path, .index = at, .size = node->size};
    *bytes = NULL;
    if (!pick(plan, region, fill, &p))
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
