/* What a ramdisk takes as it is: the content of a folder, and of an archive. */
#include "plan/ramdisk_internal.h"

#include "base/bytes.h"
#include "plan/fills.h"
#include "plan/steps.h"

#include <assert.h>
#include <string.h>

enum { MOST_FILE = 256 << 20 };

struct taker {
    struct ramdisk *m;
    struct mos_map paths; /* of the rows that are there -> their number + 1 */
    struct ramdisk_item *item;
    uint8_t *bytes;
};

static void note(struct taker *t, const char *path, size_t index) {
    mos_map_set(&t->paths, path, (void *)(uintptr_t)(index + 1));
}

/* The row of an earlier path; NULL: it did not pass. */
static const struct ramdisk_item *row_of(struct taker *t, const char *path) {
    size_t index = (size_t)(uintptr_t)mos_map_get(&t->paths, path);
    return index ? mos_vec_at(&t->m->items, index - 1) : NULL;
}

static bool take_entry(void *self, const struct mos_entry *e) {
    struct taker *t = self;
    struct mos_arena *arena = t->m->plan->ctx->arena;
    const struct ramdisk_item *first =
        e->type == MOS_ENTRY_HARD_LINK && e->target ? row_of(t, e->target) : NULL;
    t->item = NULL;
    if (!*e->path || row_of(t, e->path))
        return true;
    if (e->type == MOS_ENTRY_SOCKET || (e->type == MOS_ENTRY_HARD_LINK && !first) ||
        e->size > MOST_FILE || e->uid > UINT32_MAX || e->gid > UINT32_MAX) {
        ramdisk_complain(t->m, MOS_RULE_VOLUME_CANNOT_HOLD, t->m->piece->def->r.key_place,
                         mos_printf(arena,
                                    "%s cannot go in: it is a socket, larger than 256 MiB, "
                                    "or a link to what is left out.",
                                    e->path));
        return true;
    }
    const char *path = mos_strdup(arena, e->path);
    struct ramdisk_item *x =
        ramdisk_add(t->m, path, first ? MOS_ENTRY_FILE : e->type, first ? first->mode : e->mode);
    x->uid = (uint32_t)e->uid;
    x->gid = (uint32_t)e->gid;
    x->major = e->major;
    x->minor = e->minor;
    x->target = e->type == MOS_ENTRY_LINK ? mos_strdup(arena, e->target) : NULL;
    x->length = first ? first->length : e->type == MOS_ENTRY_FILE ? (size_t)e->size : 0;
    x->bytes = first ? first->bytes : NULL;
    if (e->type == MOS_ENTRY_FILE) {
        x->bytes = t->bytes = mos_alloc(arena, x->length + 1); /* holes are zero */
        t->item = x;
    }
    note(t, path, t->m->items.count - 1);
    return true;
}

static bool take_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct taker *t = self;
    assert(!t->item || t->bytes);
    if (t->item && bytes && offset < t->item->length)
        memcpy(t->bytes + offset, bytes, (size_t)mos_min(length, t->item->length - offset));
    return true;
}

static struct taker taker_of(struct ramdisk *m) {
    struct taker t = {.m = m, .paths = mos_map_make(m->plan->ctx->arena)};
    for (size_t i = 0; i < m->items.count; i++) {
        const struct ramdisk_item *x = mos_vec_at(&m->items, i);
        if (x->type != MOS_ENTRY_FOLDER)
            note(&t, x->to, i);
    }
    return t;
}

/* What was taken comes first: then folders have the mode and owner that they have there. */
static void put_first(struct ramdisk *m, size_t before) {
    assert(before <= m->items.count);
    struct mos_vec items = mos_vec_make(m->plan->ctx->arena, sizeof(struct ramdisk_item));
    for (size_t i = 0; i < m->items.count; i++)
        *(struct ramdisk_item *)mos_vec_push(&items) =
            *(const struct ramdisk_item *)mos_vec_at(&m->items, (before + i) % m->items.count);
    m->items = items;
}

static struct mos_sink filtered(struct ramdisk *m, const struct mos_sink *to,
                                struct mos_filter *filter) {
    struct mos_arena *arena = m->plan->ctx->arena;
    *filter = (struct mos_filter){.to = to,
                                  .prefix = "",
                                  .only = fills_texts(m->plan, &m->def->only),
                                  .except = fills_texts(m->plan, &m->def->except),
                                  .path = {.arena = arena},
                                  .target = {.arena = arena}};
    return mos_filter_sink(filter);
}

bool ramdisk_take_folder(struct ramdisk *m) {
    struct taker t = taker_of(m);
    struct mos_sink sink = {&t, take_entry, take_data, mos_ignore_end};
    struct mos_filter filter;
    struct mos_sink through = filtered(m, &sink, &filter);
    const char *what = mos_printf(m->plan->ctx->arena, "Ramdisk %s", m->piece->def->r.name), *full;
    struct mos_file_info info;
    size_t before = m->items.count;
    m->wrong |= !mos_plan_reach(m->plan, m->def->folder->text, MOS_FILE_FOLDER, what,
                                m->def->folder->place, &full, &info);
    if (!m->wrong && !mos_folder_stream(m->plan->ctx, full, m->plan->board->date, &through))
        return false;
    put_first(m, before);
    return true;
}

bool ramdisk_take_archive(struct ramdisk *m, struct mos_piece_plan *archive) {
    struct taker t = taker_of(m);
    struct mos_sink sink = {&t, take_entry, take_data, mos_ignore_end};
    struct mos_filter filter;
    struct mos_sink through = filtered(m, &sink, &filter);
    size_t before = m->items.count;
    m->wrong |= !mos_plan_read_archive(m->plan, archive, &through);
    put_first(m, before);
    return m->plan->ctx->error->kind == MOS_ERROR_NONE;
}
