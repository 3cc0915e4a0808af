#include "base/ctx.h"

#include "base/out.h"
#include "base/text.h"

#include <errno.h>
#include <stdlib.h>
#include <string.h>

static bool read_all(struct mos_ctx *ctx, int file, const char *path, size_t limit, char **data,
                     size_t *length) {
    const struct mos_host *h = ctx->host;
    struct mos_file_info info;
    int e = h->file_info(h, file, &info);
    if (!e && info.kind != MOS_FILE_REGULAR)
        e = info.kind == MOS_FILE_FOLDER ? EISDIR : EINVAL;
    if (!e && info.size > limit)
        e = EFBIG;
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path);
    char *bytes = mos_alloc(ctx->arena, (size_t)info.size + 1);
    size_t got = 0;
    e = h->pread(h, file, bytes, (size_t)info.size, 0, &got);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path);
    bytes[got] = 0;
    *data = bytes;
    *length = got;
    return true;
}

struct mos_ctx mos_ctx_quiet(const struct mos_ctx *ctx, struct mos_error *ignored) {
    struct mos_ctx quiet = *ctx;
    *ignored = (struct mos_error){0};
    quiet.error = ignored;
    quiet.findings = mos_findings_make(ctx->arena);
    return quiet;
}

bool mos_read_aside(struct mos_ctx *ctx, const char *path, size_t limit, char **data,
                    size_t *length) {
    int file;
    int e = ctx->host->open(ctx->host, path, MOS_OPEN_READ, &file);
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot open %s", path);
    bool ok = read_all(ctx, file, path, limit, data, length);
    ctx->host->close(ctx->host, file);
    return ok;
}

const char *mos_stamp_name(const struct mos_ctx *ctx, const char *path) {
    size_t n = ctx->workspace ? strlen(ctx->workspace) : 0;
    return n && strncmp(path, ctx->workspace, n) == 0 && path[n] == '/' ? path + n + 1 : path;
}

bool mos_read_file(struct mos_ctx *ctx, const char *path, size_t limit, char **data,
                   size_t *length) {
    if (!mos_read_aside(ctx, path, limit, data, length))
        return false;
    mos_stamp_add(ctx->stamp, mos_stamp_name(ctx, path), *data, *length);
    return true;
}

bool mos_write_file(struct mos_ctx *ctx, const char *path, const void *bytes, size_t length) {
    const struct mos_host *h = ctx->host;
    struct mos_out o;
    int e = h->make_folder(h, mos_path_folder(ctx->arena, path));
    if (e)
        return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", path);
    if (!mos_out_open(&o, ctx, path, false))
        return false;
    e = length ? mos_out_write(&o, bytes, length, 0) : 0;
    if (!e)
        return mos_out_commit(&o, length, false);
    mos_out_abandon(&o);
    return mos_fail(ctx->error, MOS_ERROR_SYSTEM, e, "Cannot write %s", path);
}

/* Is a path one of the workspace's `outside:` files, or below such a folder? */
static bool is_outside(const struct mos_ctx *ctx, const char *path) {
    if (*path == '<') /* below one of the roots */
        return true;
    for (const char *const *o = ctx->outside; o && *o; o++) {
        size_t n = strlen(*o);
        while (n && (*o)[n - 1] == '/')
            n--;
        if (n && strncmp(path, *o, n) == 0 && (path[n] == '/' || path[n] == 0))
            return true;
    }
    return false;
}

struct mos_source *mos_source_load(struct mos_ctx *ctx, const char *path, const char *shown_path,
                                   size_t limit) {
    char *data;
    size_t length;
    if (!mos_read_file(ctx, path, limit, &data, &length))
        return NULL;
    struct mos_source *s = mos_source_make(ctx->arena, mos_strdup(ctx->arena, shown_path), data,
                                           length, ctx->source_count++);
    s->outside = is_outside(ctx, shown_path);
    return s;
}

int64_t mos_date(const struct mos_ctx *ctx) {
    enum { FIXED = 1767225600 }; /* 2026-01-01 */
    uint64_t seconds;
    const char *epoch = ctx->host->environment(ctx->host, "SOURCE_DATE_EPOCH");
    if (epoch && mos_integer_parse(epoch, &seconds) == MOS_NUMBER_OK && seconds <= UINT32_MAX)
        return (int64_t)seconds;
    return FIXED;
}

static int hash_open_file(const struct mos_host *h, int file, struct mos_sha256 *hash) {
    enum { PIECE = 1 << 18 };
    uint8_t *piece = malloc(PIECE);
    if (!piece)
        return ENOMEM;
    uint64_t offset = 0;
    int e;
    size_t got;
    while ((e = h->pread(h, file, piece, PIECE, offset, &got)) == 0 && got) {
        mos_sha256_update(hash, piece, got);
        offset += got;
    }
    free(piece);
    return e;
}

bool mos_hash_file(const struct mos_host *host, const char *path, uint8_t out[MOS_SHA256_SIZE],
                   struct mos_error *error) {
    int file;
    int e = host->open(host, path, MOS_OPEN_READ, &file);
    if (e)
        return mos_fail(error, MOS_ERROR_SYSTEM, e, "Cannot open %s", path);
    struct mos_sha256 *hash = mos_sha256_new();
    e = hash ? hash_open_file(host, file, hash) : ENOMEM;
    if (!e)
        mos_sha256_final(hash, out);
    mos_sha256_free(hash);
    host->close(host, file);
    return e ? mos_fail(error, MOS_ERROR_SYSTEM, e, "Cannot read %s", path) : true;
}
