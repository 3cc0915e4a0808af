/* Files out of archives and folders that are kept, so that each is read once. */
#include "plan/kept.h"

#include "base/bytes.h"
#include "plan/steps.h"
#include "store/store.h"

#include <string.h>

enum { MOST_LIKELY = 4 << 20 };

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

static bool is_it(const struct kept_picker *p, const char *path) {
    uint32_t index;
    return strcmp(path, p->path) == 0 ||
           (p->by_links && mos_inv_follow(p->inv, p->arena, path, &index) && index == p->index);
}

static bool kept_entry(void *self, const struct mos_entry *entry) {
    struct kept_picker *p = self;
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

static bool kept_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct kept_picker *p = self;
    struct mos_kept_bytes *x = p->current;
    if (x && bytes && offset < x->length)
        memcpy(x->bytes + offset, bytes, (size_t)mos_min(length, x->length - offset));
    return !p->through || p->through->data(p->through->self, offset, bytes, length);
}

static bool kept_end(void *self, uint64_t sum) {
    struct kept_picker *p = self;
    return !p->through || p->through->end(p->through->self, sum);
}

static struct mos_map *known_of(struct mos_plan *plan) {
    return plan->ctx->shared ? &plan->ctx->shared->files : &plan->files;
}

/* What is kept of an archive goes by its content and the place that it is filled into. */
const char *kept_key(const struct mos_plan *plan, const struct mos_piece_plan *archive,
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

struct mos_kept_bytes *kept_find(struct mos_plan *plan, const char *key, const char *path,
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

void kept_keep(struct mos_plan *plan, const struct mos_piece_plan *archive,
               const struct mos_fill *fill, const struct kept_picker *p) {
    for (size_t i = 0; i < p->kept->count; i++) {
        const char *path = p->kept->items[i].key, *key = kept_key(plan, archive, fill, path);
        struct mos_kept_bytes *x = p->kept->items[i].value;
        if (!key)
            continue;
        mos_map_set(known_of(plan), mos_strdup(p->arena, key), x);
        if (may_store(path, x->length))
            mos_store_put(plan->ctx, key, x->bytes, x->length);
    }
}

struct mos_sink kept_sink(struct kept_picker *picker) {
    return (struct mos_sink){picker, kept_entry, kept_data, kept_end};
}

struct mos_collector {
    struct kept_picker picker;
    struct mos_map kept;
    struct mos_sink through;
};

struct mos_collector *mos_plan_collect(struct mos_plan *plan, const struct mos_sink *through,
                                       struct mos_sink *sink) {
    struct mos_arena *arena = plan->ctx->shared ? plan->ctx->shared->arena : plan->ctx->arena;
    struct mos_collector *c = mos_alloc(arena, sizeof *c);
    *c = (struct mos_collector){.kept = mos_map_make(arena), .through = *through};
    c->picker = (struct kept_picker){.arena = arena, .kept = &c->kept, .through = &c->through};
    *sink = kept_sink(&c->picker);
    return c;
}

void mos_plan_collected(struct mos_plan *plan, const struct mos_collector *c,
                        const struct mos_piece_plan *archive, const struct mos_fill *fill) {
    kept_keep(plan, archive, fill, &c->picker);
}
