#include "build/set.h"

#include <errno.h>
#include <string.h>

static bool fail(struct mos_set *set, int e, const char *what, const char *path) {
    return mos_fail(set->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot %s %s", what, path);
}

bool mos_set_begin(struct mos_set *set, struct mos_ctx *ctx, const char *parent, const char *name) {
    const struct mos_host *h = ctx->host;
    *set = (struct mos_set){.ctx = ctx, .parent = parent};
    set->final = mos_path_join(ctx->arena, parent, name);
    set->part = mos_printf(ctx->arena, "%s.part", set->final);
    const char *lock = mos_path_join(ctx->arena, parent, ".lock");
    int e = h->make_folder(h, parent);
    if (e)
        return fail(set, e, "make folder", parent);
    e = h->lock(h, lock, &set->lock);
    if (e == EWOULDBLOCK)
        return mos_fail(ctx->error, MOS_ERROR_SAFETY, 0, "Another build is writing to %s", parent);
    if (e)
        return fail(set, e, "lock", lock);
    set->locked = true;
    e = h->remove_tree(h, set->part);
    if (e)
        return fail(set, e, "remove", set->part);
    e = h->make_folder(h, set->part);
    return e ? fail(set, e, "make folder", set->part) : true;
}

bool mos_set_file(struct mos_set *set, const char *name, const void *bytes, size_t length) {
    const struct mos_host *h = set->ctx->host;
    const char *path = mos_path_join(set->ctx->arena, set->part, name);
    int file;
    int e = h->open(h, path, MOS_OPEN_NEW, &file);
    if (e)
        return fail(set, e, "create", path);
    if (length)
        e = h->pwrite(h, file, bytes, length, 0);
    if (!e)
        e = h->sync(h, file);
    h->close(h, file);
    return e ? fail(set, e, "write", path) : true;
}

static void unlock(struct mos_set *set) {
    if (set->locked)
        set->ctx->host->close(set->ctx->host, set->lock);
    set->locked = false;
}

/* Where folders cannot be swapped in one step there is a moment without any output; a killed run
 * then leaves both under other names and nothing half-made. */
static int swap(struct mos_set *set) {
    const struct mos_host *h = set->ctx->host;
    const char *old = mos_printf(set->ctx->arena, "%s.old.part", set->final);
    int e = h->exchange(h, set->part, set->final);
    if (e != ENOTSUP)
        return e;
    e = h->rename(h, set->final, old);
    if (!e)
        e = h->rename(h, set->part, set->final);
    if (!e)
        h->remove_tree(h, old);
    return e;
}

bool mos_set_commit(struct mos_set *set) {
    const struct mos_host *h = set->ctx->host;
    struct mos_file_info info;
    int e = h->sync_folder(h, set->part);
    if (!e) {
        bool there = h->info(h, set->final, false, &info) == 0;
        e = there ? swap(set) : h->rename(h, set->part, set->final);
    }
    if (e) {
        fail(set, e, "put in place", set->final);
        mos_set_abandon(set);
        return false;
    }
    h->sync_folder(h, set->parent);
    h->remove_tree(h, set->part); /* the earlier output, after a swap */
    unlock(set);
    return true;
}

void mos_set_abandon(struct mos_set *set) {
    if (set->locked && set->part)
        set->ctx->host->remove_tree(set->ctx->host, set->part);
    unlock(set);
}
