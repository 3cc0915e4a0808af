#include "base/out.h"

#include "base/bytes.h"

#include <assert.h>
#include <errno.h>
#include <string.h>

enum { MOST_NAMES = 1000, LONGEST_NAME = 200 };

static bool is_there(struct mos_out *o) {
    return mos_fail(o->ctx->error, MOS_ERROR_SAFETY, 0,
                    "%s is there already; name another file with -o", o->path);
}

bool mos_out_open(struct mos_out *o, struct mos_ctx *ctx, const char *path, bool fresh) {
    const struct mos_host *h = ctx->host;
    struct mos_file_info info;
    *o = (struct mos_out){.ctx = ctx, .path = path, .file = -1};
    if (strcmp(path, "-") == 0) {
        o->stream = true;
        return ctx->stream ? true
                           : mos_fail(ctx->error, MOS_ERROR_USAGE, 0,
                                      "There is no standard output to write to");
    }
    int e = h->info(h, path, false, &info);
    if (!e && fresh)
        return is_there(o);
    for (unsigned i = 0; i < MOST_NAMES; i++) {
        const char *part = i ? mos_printf(ctx->arena, "%s.%u.part", path, i)
                             : mos_printf(ctx->arena, "%s.part", path);
        e = h->open(h, part, MOS_OPEN_NEW, &o->file);
        if (!e)
            o->part = part;
        if (e != EEXIST)
            break;
    }
    return e ? mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", path) : true;
}

static int stream(struct mos_out *o, const void *bytes, size_t length) {
    if (!o->ctx->stream(o->ctx->stream_self, bytes, length))
        return EPIPE;
    o->at += length;
    return 0;
}

static int stream_zeros(struct mos_out *o, uint64_t to) {
    static const char zeros[65536];
    int e = 0;
    while (!e && o->at < to)
        e = stream(o, zeros, (size_t)mos_min(sizeof zeros, to - o->at));
    return e;
}

int mos_out_write(struct mos_out *o, const void *bytes, size_t length, uint64_t offset) {
    assert(o->ctx && (bytes || !length));
    if (o->stream) {
        int e = offset < o->at ? ESPIPE : stream_zeros(o, offset);
        return e ? e : stream(o, bytes, length);
    }
    assert(o->part);
    return o->ctx->host->pwrite(o->ctx->host, o->file, bytes, length, offset);
}

bool mos_out_commit(struct mos_out *o, uint64_t size, bool fresh) {
    assert(o->ctx);
    const struct mos_host *h = o->ctx->host;
    if (o->stream) {
        int e = stream_zeros(o, size);
        return e ? mos_fail(o->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write to standard output")
                 : true;
    }
    assert(o->part);
    int e = h->resize(h, o->file, size);
    e = e || o->derived ? e : h->sync(h, o->file);
    h->close(h, o->file);
    o->file = -1;
    e = e ? e : fresh ? h->rename_new(h, o->part, o->path) : h->rename(h, o->part, o->path);
    if (!e) {
        o->part = NULL;
        if (!o->derived)
            h->sync_folder(h, mos_path_folder(o->ctx->arena, o->path));
        return true;
    }
    if (e == EEXIST)
        is_there(o);
    mos_fail(o->ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", o->path);
    mos_out_abandon(o);
    return false;
}

void mos_out_abandon(struct mos_out *o) {
    const struct mos_host *h = o->ctx ? o->ctx->host : NULL;
    if (!h || !o->part)
        return;
    if (o->file >= 0)
        h->close(h, o->file);
    h->remove_tree(h, o->part); /* ours: it was made with MOS_OPEN_NEW */
    o->file = -1;
    o->part = NULL;
}

const char *mos_file_name(struct mos_arena *arena, const char *text) {
    char *out = mos_strndup(arena, text, strlen(text) < LONGEST_NAME ? strlen(text) : LONGEST_NAME);
    for (unsigned char *p = (unsigned char *)out; *p; p++)
        if (*p < 0x20 || *p == 0x7f || *p == '/' || *p == '\\')
            *p = '-';
    if (*out == '.' || *out == '-')
        *out = '_';
    return *out ? out : "_";
}
