/* Content from single files, from memory and from folders of the host; filters. */
#include "content/content.h"

#include "base/bytes.h"
#include "base/text.h"
#include "content/tap.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

enum { PIECE = 1 << 18 };

bool mos_bytes_stream(const struct mos_entry *as, const void *bytes, size_t length,
                      const struct mos_sink *sink) {
    struct mos_entry entry = *as;
    struct mos_runs runs = {.sink = sink};
    uint64_t sum;
    entry.size = length;
    return sink->entry(sink->self, &entry) && mos_runs_add(&runs, bytes, length) &&
           mos_runs_end(&runs, &sum) && sink->end(sink->self, sum);
}

static bool stream_open_file(struct mos_ctx *ctx, int file, const char *path,
                             const struct mos_entry *as, uint8_t *piece,
                             const struct mos_sink *sink, struct mos_tap *tap) {
    const struct mos_host *h = ctx->host;
    struct mos_file_info info;
    struct mos_entry entry = *as;
    struct mos_runs runs = {.sink = sink};
    int e = h->file_info(h, file, &info);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path);
    entry.size = info.size;
    if (!sink->entry(sink->self, &entry))
        return false;
    for (uint64_t offset = 0, got = 0; offset < info.size; offset += got) {
        size_t n = 0;
        e = h->pread(h, file, piece, (size_t)mos_min(PIECE, info.size - offset), offset, &n);
        if (e || n == 0)
            return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e ? e : EIO, "Cannot read %s", path);
        if (tap)
            mos_tap_feed(tap, piece, n);
        if (!mos_runs_add(&runs, piece, n))
            return false;
        got = n;
    }
    uint64_t sum;
    return mos_runs_end(&runs, &sum) && sink->end(sink->self, sum) &&
           mos_file_unchanged(ctx, file, &info, path);
}

/* piece: PIECE bytes to work with. */
static bool stream_file(struct mos_ctx *ctx, const char *path, const struct mos_entry *as,
                        const struct mos_sink *sink, uint8_t *piece, uint8_t *sha256) {
    int file;
    int e = ctx->host->open(ctx->host, path, MOS_OPEN_READ, &file);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot open %s", path);
    struct mos_tap *tap = sha256 ? mos_tap_new(ctx) : NULL;
    bool ok = stream_open_file(ctx, file, path, as, piece, sink, tap);
    if (tap && !mos_tap_end(tap, sha256) && ok)
        ok = mos_fail(ctx->error, MOS_ERROR_SYSTEM, ENOMEM, "Cannot hash %s", path);
    ctx->host->close(ctx->host, file);
    return ok;
}

bool mos_file_stream(struct mos_ctx *ctx, const char *path, const struct mos_entry *as,
                     const struct mos_sink *sink, uint8_t *sha256) {
    return stream_file(ctx, path, as, sink, mos_alloc(ctx->arena, PIECE), sha256);
}

/* ---- folders ---- */

struct walk {
    struct mos_ctx *ctx;
    int64_t date;
    const struct mos_sink *sink;
    uint8_t *piece;
    unsigned depth;
};

struct names {
    struct mos_arena *arena;
    struct mos_vec *list;
};

static bool add_name(void *self, const char *name) {
    struct names *n = self;
    mos_vec_push_pointer(n->list, mos_strdup(n->arena, name));
    return true;
}

static int by_text(const void *a, const void *b) {
    return strcmp(*(const char *const *)a, *(const char *const *)b);
}

int mos_folder_names(struct mos_ctx *ctx, const char *path, struct mos_vec *out) {
    *out = mos_vec_make(ctx->arena, sizeof(char *));
    struct names names = {ctx->arena, out};
    int e = ctx->host->list(ctx->host, path, add_name, &names);
    if (out->count)
        qsort(out->items, out->count, sizeof(char *), by_text);
    return e;
}

static bool walk_folder(struct walk *w, const char *path, const char *inside);

/* What a folder holds is part of what a board is made of. */
static void stamp_item(struct walk *w, const char *path, const struct mos_entry *e,
                       const uint8_t sha256[MOS_SHA256_SIZE]) {
    uint8_t all[MOS_SHA256_SIZE + 4] = {(uint8_t)e->type};
    mos_put_le16(all + 2, e->mode);
    memcpy(all + 4, sha256, MOS_SHA256_SIZE);
    mos_stamp_add(w->ctx->stamp, mos_stamp_name(w->ctx, path), all, sizeof all);
}

static bool walk_file(struct walk *w, const char *path, const struct mos_entry *entry) {
    uint8_t hash[MOS_SHA256_SIZE];
    bool stamped = w->ctx->stamp != NULL;
    if (!stream_file(w->ctx, path, entry, w->sink, w->piece, stamped ? hash : NULL))
        return false;
    if (stamped)
        stamp_item(w, path, entry, hash);
    return true;
}

static bool walk_item(struct walk *w, const char *path, const char *inside) {
    const struct mos_host *h = w->ctx->host;
    struct mos_file_info info;
    char target[4096];
    int e = h->info(h, path, false, &info);
    if (!e && info.kind == MOS_FILE_LINK)
        e = h->read_link(h, path, target, sizeof target);
    if (e)
        return mos_fail(w->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path);
    struct mos_entry entry = {
        .path = inside,
        .mode = info.mode & 0111 ? 0755 : 0644, /* whatever the umask was */
        .mtime = w->date,
        .target = info.kind == MOS_FILE_LINK ? target : NULL,
    };
    switch (info.kind) {
    case MOS_FILE_REGULAR:
        return walk_file(w, path, &entry);
    case MOS_FILE_FOLDER:
        entry.type = MOS_ENTRY_FOLDER;
        entry.mode = 0755;
        mos_stamp_add(w->ctx->stamp, mos_stamp_name(w->ctx, path), "folder", 6);
        return w->sink->entry(w->sink->self, &entry) && w->sink->end(w->sink->self, 0) &&
               walk_folder(w, path, inside);
    case MOS_FILE_LINK:
        entry.type = MOS_ENTRY_LINK;
        entry.mode = 0777;
        mos_stamp_add(w->ctx->stamp, mos_stamp_name(w->ctx, path), target, strlen(target) + 1);
        return w->sink->entry(w->sink->self, &entry) && w->sink->end(w->sink->self, 0);
    default:
        return mos_fail(w->ctx->error, MOS_ERROR_USAGE, 0,
                        "%s is neither a file, a folder nor a link", path);
    }
}

static bool walk_folder(struct walk *w, const char *path, const char *inside) {
    struct mos_vec names;
    int e = mos_folder_names(w->ctx, path, &names);
    if (!e && ++w->depth > 128)
        e = ELOOP;
    if (e)
        return mos_fail(w->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read folder %s", path);
    for (size_t i = 0; i < names.count; i++) {
        const char *name = mos_vec_pointer(&names, i);
        if (!walk_item(w, mos_path_join(w->ctx->arena, path, name),
                       mos_path_join(w->ctx->arena, inside, name)))
            return false;
    }
    w->depth--;
    return true;
}

bool mos_folder_stream(struct mos_ctx *ctx, const char *path, int64_t date,
                       const struct mos_sink *sink) {
    struct walk w = {ctx, date, sink, mos_alloc(ctx->arena, PIECE), 0};
    return walk_folder(&w, path, "");
}

/* ---- filters ---- */

bool mos_pattern_fits(const char *pattern, const char *path) {
    pattern += *pattern == '/';
    for (size_t n = 0;; n++)
        if ((path[n] == '/' || !path[n]) && mos_glob(pattern, path, n, '/'))
            return true;
        else if (!path[n])
            return false;
}

static bool listed(const struct mos_texts *list, const char *path) {
    for (size_t i = 0; i < list->count; i++)
        if (mos_pattern_fits(list->items[i], path))
            return true;
    return false;
}

static const char *move(const struct mos_filter *f, struct mos_buf *buffer, const char *path) {
    if (!*f->prefix)
        return path;
    buffer->length = 0;
    mos_buf_text(buffer, f->prefix);
    if (*path)
        mos_buf_char(buffer, '/');
    mos_buf_text(buffer, path);
    return mos_buf_string(buffer);
}

static bool filter_entry(void *self, const struct mos_entry *entry) {
    struct mos_filter *f = self;
    f->passing =
        (!f->only.count || listed(&f->only, entry->path)) && !listed(&f->except, entry->path);
    if (!f->passing)
        return true;
    struct mos_entry moved = *entry;
    moved.path = move(f, &f->path, entry->path);
    if (entry->type == MOS_ENTRY_HARD_LINK)
        moved.target = move(f, &f->target, entry->target);
    return f->to->entry(f->to->self, &moved);
}

static bool filter_data(void *self, uint64_t offset, const void *bytes, size_t length) {
    struct mos_filter *f = self;
    return !f->passing || f->to->data(f->to->self, offset, bytes, length);
}

static bool filter_end(void *self, uint64_t sum) {
    struct mos_filter *f = self;
    return !f->passing || f->to->end(f->to->self, sum);
}

struct mos_sink mos_filter_sink(struct mos_filter *filter) {
    return (struct mos_sink){filter, filter_entry, filter_data, filter_end};
}
