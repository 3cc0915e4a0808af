#include "fs/walk.h"

#include <assert.h>
#include <string.h>

enum { DEEPEST = 256 };

struct mos_walk mos_walk_make(struct mos_ctx *ctx, const struct mos_read_request *request,
                              uint64_t names) {
    return (struct mos_walk){.ctx = ctx,
                             .request = request,
                             .path = {.arena = ctx->arena},
                             .linked = mos_map_make(ctx->arena),
                             .entered = mos_map_make(ctx->arena),
                             .names = names};
}

const char *mos_walk_path(struct mos_walk *w) {
    return mos_buf_string(&w->path);
}

static bool is_name(const char *name, size_t length) {
    return length && !memchr(name, '/', length) && !memchr(name, 0, length) &&
           !(length == 1 && name[0] == '.') && !(length == 2 && memcmp(name, "..", 2) == 0);
}

bool mos_walk_child(struct mos_walk *w, struct mos_vec *children, const char *name, size_t length,
                    uint64_t reference) {
    if (!is_name(name, length) || !w->names)
        return false;
    w->names--;
    const char *kept = mos_strndup(children->arena, name, length);
    *(struct mos_walk_child *)mos_vec_push(children) = (struct mos_walk_child){kept, reference};
    return true;
}

static const char *number_text(struct mos_walk *w, uint64_t number) {
    return mos_printf(w->ctx->arena, "%llx", (unsigned long long)number);
}

bool mos_walk_enter(struct mos_walk *w, uint64_t folder) {
    const char *key = number_text(w, folder);
    if (mos_map_get(&w->entered, key) || w->depth >= DEEPEST) {
        mos_volume_lost(w->request, mos_walk_path(w), "Folder /%s lies inside itself, or too deep.",
                        mos_walk_path(w));
        return false;
    }
    mos_map_set(&w->entered, key, w);
    w->depth++;
    return true;
}

void mos_walk_leave(struct mos_walk *w) {
    assert(w->depth);
    w->depth--;
}

void mos_walk_name(struct mos_walk *w, size_t length, const char *name) {
    assert(length <= w->path.length);
    w->path.length = length;
    if (length)
        mos_buf_char(&w->path, '/');
    mos_buf_text(&w->path, name);
}

bool mos_walk_folder(struct mos_walk *w, uint64_t folder,
                     void (*list)(void *self, struct mos_vec *children),
                     bool (*each)(void *self, uint64_t reference), void *self) {
    if (!mos_walk_enter(w, folder))
        return true;
    struct mos_arena *names = mos_arena_child(w->ctx->arena); /* the run's need not keep them */
    struct mos_vec children = mos_vec_make(names, sizeof(struct mos_walk_child));
    size_t length = w->path.length;
    bool good = true;
    list(self, &children);
    for (size_t k = 0; k < children.count && good; k++) {
        const struct mos_walk_child *c = mos_vec_at(&children, k);
        mos_walk_name(w, length, c->name);
        good = each(self, c->reference);
    }
    w->path.length = length;
    mos_arena_free(names);
    mos_walk_leave(w);
    return good;
}

void mos_walk_link(struct mos_walk *w, uint64_t content, struct mos_entry *e) {
    assert(e->type != MOS_ENTRY_FOLDER);
    if (w->request->whole_links)
        return;
    const char *key = number_text(w, content), *first = mos_map_get(&w->linked, key);
    if (first) {
        e->type = MOS_ENTRY_HARD_LINK;
        e->target = first;
        e->size = 0;
    } else {
        mos_map_set(&w->linked, key, mos_strdup(w->ctx->arena, mos_walk_path(w)));
    }
}
