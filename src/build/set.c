#include "build/set.h"

#include "base/out.h"
#include "ledger/ledger.h"

#include <assert.h>
#include <errno.h>
#include <stdlib.h>
#include <string.h>

static const char marker[] = ".mosaicum-part"; /* in a folder that is being made */
static const char ledger_name[] = "ledger.json";

static bool fail(struct mos_set *set, int e, const char *what, const char *path) {
    return mos_fail(set->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot %s %s", what, path);
}

/* ---- what may be replaced ---- */

struct content {
    struct mos_set *set;
    const char *folder;
    const struct mos_map *listed; /* NULL: nothing may be there */
    const char *strange;          /* a name that is not listed, or not what it should be */
};

static bool look_at(void *self, const char *name) {
    struct content *c = self;
    struct mos_ctx *ctx = c->set->ctx;
    struct mos_file_info info;
    const char *path = mos_path_join(ctx->arena, c->folder, name);
    bool ours = c->listed && (strcmp(name, ledger_name) == 0 || mos_map_get(c->listed, name)) &&
                ctx->host->info(ctx->host, path, false, &info) == 0 &&
                (info.kind == MOS_FILE_REGULAR || info.kind == MOS_FILE_LINK);
    if (!ours)
        c->strange = mos_strdup(ctx->arena, name);
    return ours;
}

/* An earlier output of the same selector, and nothing else? */
static bool is_output(struct mos_set *set, const char *folder, const char **strange) {
    const struct mos_host *h = set->ctx->host;
    struct mos_map listed;
    const char *board;
    bool known = mos_ledger_files(set->ctx, mos_path_join(set->ctx->arena, folder, ledger_name),
                                  &board, &listed) &&
                 strcmp(board, set->selector) == 0;
    struct content c = {.set = set, .folder = folder, .listed = known ? &listed : NULL};
    int e = h->list(h, folder, look_at, &c);
    *strange = c.strange;
    return !e && !c.strange; /* an empty folder holds nothing to lose */
}

static bool refuse(struct mos_set *set, const char *path, const char *strange) {
    return mos_fail(set->ctx->error, MOS_ERROR_SAFETY, 0,
                    strange ? "%s is not replaced: no ledger in it says that %s is an output of "
                              "%s.  Move it away, or build into another place with --out"
                            : "%s is not replaced: it is no folder%s%s.  Move it away, or build "
                              "into another place with --out",
                    path, strange ? strange : "", strange ? set->selector : "");
}

/* May what stands at `path` be removed?  Nothing there: yes. */
static bool is_ours(struct mos_set *set, const char *path, bool marked) {
    const struct mos_host *h = set->ctx->host;
    struct mos_file_info info;
    const char *strange = NULL;
    int e = h->info(h, path, false, &info);
    if (e)
        return e == ENOENT ? true : fail(set, e, "look at", path);
    if (info.kind != MOS_FILE_FOLDER)
        return refuse(set, path, NULL);
    if (marked && h->info(h, mos_path_join(set->ctx->arena, path, marker), false, &info) == 0 &&
        info.kind == MOS_FILE_REGULAR)
        return true;
    return is_output(set, path, &strange) ? true : refuse(set, path, strange ? strange : ".");
}

/* Does a path lie in a folder, or is it that folder?  Links are followed. */
static bool lies_in(const struct mos_host *h, const char *path, const char *folder) {
    char *inner = NULL, *outer = NULL;
    bool inside = false;
    if (h->real_path(h, path, &inner) == 0 && h->real_path(h, folder, &outer) == 0) {
        size_t n = strlen(outer);
        inside = strncmp(inner, outer, n) == 0 && (!inner[n] || inner[n] == '/' || n == 1);
    }
    free(inner);
    free(outer);
    return inside;
}

static bool spares(struct mos_set *set, const char *const *precious, size_t count) {
    for (size_t i = 0; i < count; i++)
        if (lies_in(set->ctx->host, precious[i], set->final))
            return mos_fail(set->ctx->error, MOS_ERROR_SAFETY, 0,
                            "%s is not replaced: %s lies in it, and this build reads that.  Build "
                            "into another place with --out",
                            set->final, precious[i]);
    return true;
}

/* ---- making one ---- */

static bool begin(struct mos_set *set, const char *const *precious, size_t count) {
    const struct mos_host *h = set->ctx->host;
    const char *lock = mos_path_join(set->ctx->arena, set->parent, ".lock");
    int e = h->make_folder(h, set->parent);
    if (e)
        return fail(set, e, "make folder", set->parent);
    e = h->lock(h, lock, set->selector, false, &set->lock);
    if (e == EWOULDBLOCK)
        return mos_fail(set->ctx->error, MOS_ERROR_SAFETY, 0, "Another build is writing to %s",
                        set->final);
    if (e)
        return fail(set, e, "lock", lock);
    set->locked = true;
    if (!spares(set, precious, count) || !is_ours(set, set->final, false) ||
        !is_ours(set, set->part, true))
        return false;
    e = h->remove_tree(h, set->part);
    if (e)
        return fail(set, e, "remove", set->part);
    e = h->make_folder(h, set->part);
    if (e)
        return fail(set, e, "make folder", set->part);
    set->begun = true;
    return mos_set_file(set, marker, set->selector, strlen(set->selector));
}

bool mos_set_begin(struct mos_set *set, struct mos_ctx *ctx, const char *parent, const char *name,
                   const char *const *precious, size_t count) {
    *set = (struct mos_set){.ctx = ctx, .parent = parent, .selector = name};
    if (strcmp(mos_file_name(ctx->arena, name), name) != 0)
        return mos_fail(ctx->error, MOS_ERROR_SAFETY, 0, "%s cannot be the name of a folder", name);
    set->final = mos_path_join(ctx->arena, parent, name);
    set->part = mos_printf(ctx->arena, "%s.part", set->final);
    if (begin(set, precious, count))
        return true;
    mos_set_abandon(set);
    return false;
}

const char *mos_set_path(struct mos_set *set, const char *name) {
    bool good =
        strcmp(name, marker) == 0 || strcmp(mos_file_name(set->ctx->arena, name), name) == 0;
    if (!good)
        mos_fail(set->ctx->error, MOS_ERROR_SAFETY, 0, "%s cannot be the name of an output", name);
    return good ? mos_path_join(set->ctx->arena, set->part, name) : NULL;
}

bool mos_set_file(struct mos_set *set, const char *name, const void *bytes, size_t length) {
    assert(bytes || !length);
    const struct mos_host *h = set->ctx->host;
    const char *path = mos_set_path(set, name);
    int file;
    int e = path ? h->open(h, path, MOS_OPEN_NEW, &file) : 0;
    if (!path || e)
        return path ? fail(set, e, "create", path) : false;
    if (length)
        e = h->pwrite(h, file, bytes, length, 0);
    if (!e)
        e = h->sync(h, file);
    h->close(h, file);
    return e ? fail(set, e, "write", path) : true;
}

bool mos_set_link(struct mos_set *set, const char *name, const char *to) {
    const struct mos_host *h = set->ctx->host;
    const char *path = mos_set_path(set, name);
    int e = path ? h->make_link(h, to, path) : 0;
    return e ? fail(set, e, "name", path) : path != NULL;
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
    if (!is_ours(set, old, true))
        return EEXIST;
    h->remove_tree(h, old);
    e = h->rename(h, set->final, old);
    if (e)
        return e;
    e = h->rename(h, set->part, set->final);
    if (e) /* back to what there was */
        h->rename(h, old, set->final);
    else
        h->remove_tree(h, old);
    return e;
}

bool mos_set_commit(struct mos_set *set) {
    const struct mos_host *h = set->ctx->host;
    struct mos_file_info info;
    assert(set->begun);
    /* whatever came there since we began is not ours */
    int e = is_ours(set, set->final, false) ? 0 : EEXIST;
    e = e ? e : h->remove_tree(h, mos_path_join(set->ctx->arena, set->part, marker));
    e = e ? e : h->sync_folder(h, set->part);
    if (!e) {
        bool there = h->info(h, set->final, false, &info) == 0;
        e = there ? swap(set) : h->rename_new(h, set->part, set->final);
    }
    if (e) {
        fail(set, e, "put in place", set->final);
        mos_set_abandon(set);
        return false;
    }
    h->sync_folder(h, set->parent);
    h->remove_tree(h, set->part); /* the earlier output, after a swap */
    set->begun = false;
    unlock(set);
    return true;
}

void mos_set_abandon(struct mos_set *set) {
    if (set->begun)
        set->ctx->host->remove_tree(set->ctx->host, set->part);
    set->begun = false;
    unlock(set);
}
